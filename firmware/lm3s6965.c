/* Hardware part: LM3S6965, a 32-bit Cortex-M3 at 50 MHz, bare. Registers and numbers are those of its data sheet. Pins 0 to 7 are port E, 8 to
   15 F, 16 to 23 D, 24 to 31 B. It switches and reads pins; PWM, tones and its converter are not driven. What is kept stands in RAM that a reset
   leaves alone, not in its flash: it is gone with its supply. The line is UART 0, the clock SysTick. */
#include "board.h"
#include <string.h>

#ifndef BAUD
#define BAUD 115200UL
#endif
#ifndef UNIT
#define UNIT 1
#endif
#define CLOCK 50000000UL
#define REG(at) (*(volatile uint32_t *)(at))
#define LIGHT 8 /* PF0 */
#define SILENCE_US 1750
#define KEPT 440

enum { RESC = 0x400FE05C, RCC = 0x400FE060, RIS = 0x400FE050, RCGC0 = 0x400FE100, RCGC1 = 0x400FE104, RCGC2 = 0x400FE108 };
enum { UART = 0x4000C000, DR = 0, FR = 0x18, IBRD = 0x24, FBRD = 0x28, LCRH = 0x2C, CTL = 0x30, RX_EMPTY = 1 << 4, TX_FULL = 1 << 5 };
enum { DATA = 0x3FC, DIR = 0x400, AFSEL = 0x420, PULL = 0x510, DIGITAL = 0x51C };
enum { WATCHDOG = 0x40000000, WDT_CTL = 8, WDT_CLEAR = 12 };
enum { TICK_CTL = 0xE000E010, TICK_LOAD = 0xE000E014, TICK_NOW = 0xE000E018, RESTART = 0xE000ED0C };
static const uint32_t port[] = {0x40024000, 0x40025000, 0x40007000, 0x40005000}; /* E, F, D, B */
#define PORT_A 0x40004000
#define MASK(pin) (1u << ((pin) & 7))

#define TEXT(x) #x
#define NUMBER(x) TEXT(x)
const char hw_name[] = "lm3s6965";
/* what 'cairnwind firmware' looks for in an image */
__attribute__((used)) static const char mark[] = "cairnwind-firmware chip=lm3s6965 version=" VERSION_TEXT " baud=" NUMBER(BAUD);
static struct { uint32_t mark; uint8_t bytes[KEPT]; } kept __attribute__((section(".kept")));
static volatile uint32_t millis;
static volatile uint8_t held, missed;
static uint8_t cause, restart;

void *memcpy(void *to, const void *from, size_t count) {
    for (size_t i = 0; i < count; i++) ((volatile uint8_t *)to)[i] = ((const uint8_t *)from)[i];
    return to;
}
void *memset(void *at, int byte, size_t count) {
    for (size_t i = 0; i < count; i++) ((volatile uint8_t *)at)[i] = (uint8_t)byte;
    return at;
}
size_t strlen(const char *text) {
    size_t size = 0;
    while (text[size]) size++;
    return size;
}

uint8_t hw_chip(void) { return 4; }
uint8_t hw_reset_cause(void) { return cause; }
uint8_t hw_timer(uint8_t pin) { return (void)pin, NO_TIMER; }
uint8_t hw_can(uint8_t pin) { return pin == LIGHT ? 0 : CAN_OUTPUT | CAN_PULL_UP; }
void hw_duty(uint8_t pin, uint16_t duty) { (void)pin, (void)duty; }
uint32_t hw_frequency(uint8_t timer, uint32_t hundredths) { return (void)timer, (void)hundredths, 0; }
void hw_tone(uint8_t pin, uint16_t hertz) { (void)pin, (void)hertz; }
uint16_t hw_analogue(uint8_t channel) { return (void)channel, 0; }
uint16_t hw_supply(void) { return 0; }
uint8_t hw_speed(uint16_t hundreds) { return hundreds >= 12 && hundreds <= 1152; }
uint8_t hw_keep(uint16_t at) { return kept.bytes[at]; }
void hw_store(uint16_t at, uint8_t byte) { kept.bytes[at] = byte; }
uint8_t hw_may_store(void) { return 1; }
void hw_restart(void) { restart = 1; }
uint32_t hw_millis(void) { return millis; }

/* the address says which bits of a port are meant: no other is read or written, so that an interrupt cannot come between */
void hw_level(uint8_t pin, uint8_t high) { REG(port[pin / 8] + 4 * MASK(pin)) = high ? 0xFF : 0; }
void hw_life(uint8_t lit) { hw_level(LIGHT, lit); }

static void change(uint32_t at, uint8_t pin, uint8_t to) {
    hw_hold(1);
    REG(at) = to ? REG(at) | MASK(pin) : REG(at) & ~MASK(pin);
    hw_hold(0);
}

void hw_mode(uint8_t pin, uint8_t mode) {
    uint32_t at = port[pin / 8];
    if (mode != MODE_OUTPUT) {
        change(at + DIR, pin, 0); /* let go first, whatever its level was */
        hw_level(pin, 0);
    }
    change(at + PULL, pin, mode == MODE_PULL_UP);
    if (mode == MODE_OUTPUT) change(at + DIR, pin, 1);
}

uint32_t hw_levels(void) {
    uint32_t all = 0;
    for (uint8_t i = sizeof port / sizeof *port; i--;) all = all << 8 | (REG(port[i] + DATA) & 0xFF);
    return all;
}

static void tick(void) {
    held++;
    pins_tick();
    held--;
}

static void on_tick(void) {
    millis++;
    if (held) missed = 1;
    else tick();
}

void hw_hold(uint8_t on) {
    if (on) {
        held++;
        return;
    }
    __asm volatile("cpsid i" ::: "memory");
    if (!--held && missed) missed = 0, tick();
    __asm volatile("cpsie i" ::: "memory");
}

static uint32_t micros(void) {
    uint32_t before, now;
    do before = millis, now = REG(TICK_NOW);
    while (before != millis);
    return before * 1000 + (CLOCK / 1000 - 1 - now) / (CLOCK / 1000000);
}

static void clocks(void) {
    uint32_t why = REG(RESC);
    REG(RESC) = 0;
    cause = (uint8_t)((why & 2 ? 1 : 0) | (why & 1 ? 2 : 0) | (why & 4 ? 4 : 0) | (why & 8 ? 8 : 0)); /* as MCUSR of the others has it */
    REG(RCC) = 0x07800B80;                       /* the crystal of 8 MHz, past the PLL */
    REG(RCC) = 0x01C00B80 & ~(1u << 13);         /* the PLL runs, and is divided by four */
    for (uint32_t wait = 0; !(REG(RIS) & 1 << 6) && wait < 100000; wait++) {}
    REG(RCC) = 0x01C00380;
    REG(RCGC0) |= 1 << 3, REG(RCGC1) |= 1, REG(RCGC2) |= 0x3F;
    while (!(REG(RCGC2) & 0x20)) {}
}

static void line_begin(void) {
    uint32_t baud = line_speed ? line_speed * 100UL : BAUD, parts = CLOCK * 4 / baud; /* 64ths of CLOCK / (16 * baud) */
    REG(PORT_A + AFSEL) = 3, REG(PORT_A + DIGITAL) = 3;
    REG(UART + CTL) = 0;
    REG(UART + IBRD) = parts >> 6, REG(UART + FBRD) = parts & 63;
    REG(UART + LCRH) = 0x70; /* 8 bits, and its queues */
    REG(UART + CTL) = 0x301;
}

static void run(void) {
    static uint8_t frame[256], answer[256];
    uint32_t heard = 0;
    uint16_t length = 0;
    uint8_t sent = 0, out = 0;
    for (;;) {
        REG(WATCHDOG + WDT_CLEAR) = 0;
        pins_turn();
        while (!(REG(UART + FR) & RX_EMPTY)) {
            uint32_t byte = REG(UART + DR);
            heard = micros();
            if (sent < out) continue; /* a host that talks over the answer is not heard */
            if (length < sizeof frame) frame[length++] = byte & 0xF00 ? (uint8_t)~byte : (uint8_t)byte; /* a broken byte breaks the sum */
        }
        while (sent < out && !(REG(UART + FR) & TX_FULL)) REG(UART + DR) = answer[sent++];
        if (sent < out) continue;
        if (restart && !(REG(UART + FR) & 1 << 3)) REG(RESTART) = 0x05FA0004;
        if (!length || micros() - heard < SILENCE_US) continue;
        sent = 0;
        out = frame_take(frame, length > 255 ? 255 : (uint8_t)length, answer);
        length = 0;
    }
}

extern uint32_t stack_top, data_begin, data_end, data_kept, bss_begin, bss_end;

static void begin(void) {
    uint32_t *from = &data_kept;
    for (uint32_t *at = &data_begin; at < &data_end;) *at++ = *from++;
    for (uint32_t *at = &bss_begin; at < &bss_end;) *at++ = 0;
    clocks();
    if (kept.mark != 0xC0DEC0DE) memset(kept.bytes, 0xFF, KEPT), kept.mark = 0xC0DEC0DE;
    for (uint8_t i = 0; i < 4; i++) REG(port[i] + DIGITAL) = 0xFF;
    change(port[LIGHT / 8] + DIR, LIGHT, 1);
    REG(TICK_LOAD) = CLOCK / 1000 - 1, REG(TICK_NOW) = 0;
    unit = UNIT;
    hw_hold(1);
    pins_begin();
    hw_hold(0);
    line_begin();
    REG(TICK_CTL) = 7;
    REG(WATCHDOG) = CLOCK / 2, REG(WATCHDOG + WDT_CTL) = 3; /* half a second, and once more */
    run();
}

static void lost(void) { REG(RESTART) = 0x05FA0004; for (;;) {} }

__attribute__((section(".vectors"), used)) static const void *const vectors[16] = {
    &stack_top, begin, lost, lost, lost, lost, lost, 0, 0, 0, 0, lost, lost, 0, lost, on_tick};
