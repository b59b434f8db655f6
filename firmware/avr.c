/* Hardware part: an 8-bit AVR at 16 MHz. What differs between chips is in a header of its own (atmega1284p.h), which the
   Makefile puts before all files. The line is USART0, a driver of a two-wire line is enabled by a pin, timer 0 is the clock, timer 2 the tone. */
#include "board.h"
#include <avr/eeprom.h>
#include <avr/interrupt.h>
#include <avr/io.h>
#include <avr/pgmspace.h>
#include <avr/sleep.h>
#include <avr/wdt.h>
#include <util/atomic.h>

#ifndef BAUD
#define BAUD 115200UL
#endif
#ifndef PARITY /* 0 none, 2 even, 3 odd: the bits of UCSR0C */
#define PARITY 0
#endif
#ifndef STOP_BITS
#define STOP_BITS 1
#endif
#ifndef UNIT
#define UNIT 1
#endif

static volatile uint8_t *const port[] = {PORTS};
static volatile uint8_t *const direction[] = {DIRECTIONS};
static volatile uint8_t *const input[] = {INPUTS};
#define BIT(pin) ((uint8_t)(1 << ((pin) & 7)))

static const struct { uint8_t pin, bit, timer; volatile uint16_t *compare; } pwm[] = {PWM_PINS};
static const struct { volatile uint8_t *mode, *clock; volatile uint16_t *top, *count; } timer[] = {PWM_TIMERS};
#define PWMS (sizeof pwm / sizeof *pwm)

#define TEXT(x) #x
#define NUMBER(x) TEXT(x)
const char hw_name[] = CHIP_NAME;
/* what 'cairnwind firmware' looks for in an image before it loads it */
static const char mark[] PROGMEM = "cairnwind-firmware chip=" CHIP_NAME " version=" VERSION_TEXT " baud=" NUMBER(BAUD);

static uint8_t cause __attribute__((section(".noinit"))); /* written before all else is set to 0 */
static volatile uint32_t millis;
static volatile uint8_t held, missed; /* no tick may begin; one should have */
static volatile uint8_t frame[256], length, busy, spoilt;
static volatile uint8_t sent, to_send, restart;
static uint8_t answer[256];
static volatile uint16_t heard; /* microseconds / 4 */
static uint16_t top[TIMERS];
static volatile uint16_t analogue[ANALOGUE + 1]; /* the last: the band gap, against the supply */

/* the watchdog stays on over a reset: it has to be tamed before anything else */
void tame(void) __attribute__((naked, used, section(".init3")));
void tame(void) {
    cause = MCUSR;
    MCUSR = 0;
    wdt_disable();
}

uint8_t hw_chip(void) { return pgm_read_byte(mark) ? CHIP_NUMBER : 0; }
uint8_t hw_reset_cause(void) { return cause; }

static uint8_t modulator(uint8_t pin) {
    uint8_t i = 0;
    while (i < PWMS && pwm[i].pin != pin) i++;
    return i;
}

uint8_t hw_timer(uint8_t pin) {
    uint8_t i = modulator(pin);
    return i < PWMS ? pwm[i].timer : NO_TIMER;
}

uint8_t hw_can(uint8_t pin) {
    if (OWN(pin)) return 0;
    uint8_t can = CAN_OUTPUT | CAN_PULL_UP;
    if (pin < ANALOGUE) can |= CAN_ANALOGUE;
    if (hw_timer(pin) != NO_TIMER) can |= CAN_PWM;
    if (pin == TONE_PIN) can |= CAN_TONE;
    return can;
}

void hw_level(uint8_t pin, uint8_t high) {
    ATOMIC_BLOCK(ATOMIC_RESTORESTATE) {
        if (high) *port[pin / 8] |= BIT(pin);
        else *port[pin / 8] &= (uint8_t)~BIT(pin);
    }
}

static void drive(uint8_t pin, uint8_t out) {
    ATOMIC_BLOCK(ATOMIC_RESTORESTATE) {
        if (out) *direction[pin / 8] |= BIT(pin);
        else *direction[pin / 8] &= (uint8_t)~BIT(pin);
    }
}

void hw_mode(uint8_t pin, uint8_t mode) {
    uint8_t out = mode == MODE_OUTPUT || mode == MODE_PWM || mode == MODE_TONE;
    drive(pin, out); /* let go first, whatever its level was */
    if (mode == MODE_OFF) hw_duty(pin, 0), hw_tone(pin, 0);
    if (!out) hw_level(pin, mode == MODE_PULL_UP);
    if (pin < ANALOGUE) {
        if (mode == MODE_ANALOGUE) DIDR0 |= BIT(pin);
        else DIDR0 &= (uint8_t)~BIT(pin);
    }
}

/* The output compare is let go at 0 and at full: the timer cannot do either without a spike. */
void hw_duty(uint8_t pin, uint16_t duty) {
    uint8_t i = modulator(pin);
    if (i == PWMS) return;
    uint8_t t = pwm[i].timer, on = (uint8_t)(1 << pwm[i].bit);
    uint32_t counts = ((uint32_t)duty * ((uint32_t)top[t] + 1) + 32767) / 65535;
    if (counts == 0 || counts > top[t]) {
        hw_level(pin, counts != 0);
        *timer[t].mode &= (uint8_t)~on;
        return;
    }
    ATOMIC_BLOCK(ATOMIC_RESTORESTATE) { *pwm[i].compare = (uint16_t)(counts - 1); }
    hw_level(pin, 0);
    *timer[t].mode |= on;
}

uint32_t hw_frequency(uint8_t t, uint32_t hundredths) {
    static const uint16_t prescaler[] = {1, 8, 64, 256, 1024};
    if (!hundredths) return 0;
    uint32_t all = (uint32_t)F_CPU * 100;
    for (uint8_t i = 0; i < 5; i++) {
        uint32_t clock = all / prescaler[i];
        uint32_t ticks = (clock + hundredths / 2) / hundredths;
        if (ticks > 65536) continue;
        if (ticks < 2) return 0;
        ATOMIC_BLOCK(ATOMIC_RESTORESTATE) {
            top[t] = (uint16_t)(ticks - 1);
            *timer[t].mode = (*timer[t].mode & 0xF0) | _BV(WGM11);
            *timer[t].top = top[t];
            *timer[t].clock = _BV(WGM13) | _BV(WGM12) | (i + 1); /* fast PWM, period in ICR */
            if (*timer[t].count > top[t]) *timer[t].count = 0;
        }
        return clock / ticks;
    }
    return 0;
}

void hw_tone(uint8_t pin, uint16_t hertz) {
    static const uint8_t shift[] = {0, 3, 5, 6, 7, 8, 10};
    if (pin != TONE_PIN) return;
    TCCR2B = 0;
    TCCR2A = 0;
    hw_level(pin, 0);
    if (!hertz) return;
    for (uint8_t i = 0; i < 7; i++) {
        uint32_t ticks = (F_CPU >> shift[i]) / 2 / hertz;
        if (ticks > 256) continue;
        OCR2A = ticks ? (uint8_t)(ticks - 1) : 0;
        TCCR2A = _BV(COM2A0) | _BV(WGM21);
        TCCR2B = i + 1;
        return;
    }
}

uint32_t hw_levels(void) {
    uint32_t all = 0;
    for (uint8_t i = PINS / 8; i--;) all = all << 8 | *input[i];
    return all;
}

uint16_t hw_analogue(uint8_t channel) {
    uint16_t found;
    ATOMIC_BLOCK(ATOMIC_RESTORESTATE) { found = analogue[channel]; }
    return found;
}

/* the band gap is 1.1 V, give or take a tenth */
uint16_t hw_supply(void) {
    uint16_t gap = hw_analogue(ANALOGUE);
    return gap ? (uint16_t)(1100UL * 1023 / gap) : 0;
}

/* one channel after the other; each second the band gap, which takes a while to settle */
static void convert(void) {
    static uint8_t channel, again;
    static uint16_t second;
    if (ADCSRA & _BV(ADSC)) return;
    if (again) again--;
    else {
        uint16_t now = (uint16_t)(hw_millis() >> 10), found = ADC;
        ATOMIC_BLOCK(ATOMIC_RESTORESTATE) { analogue[channel] = found; }
        again = channel == ANALOGUE; /* the first after it is thrown away */
        for (uint8_t i = 0; i < ANALOGUE; i++) {
            channel = channel + 1 < ANALOGUE ? channel + 1 : 0;
            if (DIDR0 & BIT(channel)) break;
        }
        if (second != now) second = now, channel = ANALOGUE, again = 15;
        else if (!DIDR0) return;
    }
    ADMUX = _BV(REFS0) | (channel == ANALOGUE ? BAND_GAP : channel);
    ADCSRA |= _BV(ADSC);
}

static void tick(void) {
    held = 1;
    sei(); /* the line must not wait for it */
    pins_tick();
    cli();
    held = 0;
}

ISR(TIMER0_COMPA_vect) {
    millis++;
    if (held) missed = 1;
    else tick();
}

void hw_hold(uint8_t on) {
    cli();
    held = on;
    if (!on && missed) missed = 0, tick();
    sei();
}

uint32_t hw_millis(void) {
    uint32_t now;
    ATOMIC_BLOCK(ATOMIC_RESTORESTATE) { now = millis; }
    return now;
}

static uint16_t quarter_micros(void) { /* units of 4 us, wrapping after 262 ms */
    uint16_t now;
    ATOMIC_BLOCK(ATOMIC_RESTORESTATE) {
        uint8_t ticks = TCNT0;
        now = (uint16_t)(millis * 250);
        if (TIFR0 & _BV(OCF0A) && ticks < 125) now += 250;
        now += ticks;
    }
    return now;
}

ISR(USART0_RX_vect) {
    uint8_t wrong = UCSR0A & (_BV(FE0) | _BV(DOR0) | _BV(UPE0)), byte = UDR0;
    if (busy) return; /* a host that talks over the answer is not heard */
    if (wrong || length == 255) spoilt = 1;
    else frame[length++] = byte;
    uint8_t ticks = TCNT0;
    heard = (uint16_t)(millis * 250) + ticks + (TIFR0 & _BV(OCF0A) && ticks < 125 ? 250 : 0);
}

/* while it goes out everything else goes on */
static void hw_send(uint8_t count) {
    hw_level(DRIVER, 1);
    sent = 0, to_send = count;
    UCSR0A |= _BV(TXC0);
    UCSR0B |= _BV(UDRIE0) | _BV(TXCIE0);
}

ISR(USART0_UDRE_vect) {
    if (sent < to_send) UDR0 = answer[sent++];
    if (sent == to_send) UCSR0B &= (uint8_t)~_BV(UDRIE0);
}

ISR(USART0_TX_vect) {
    if (sent < to_send) return;
    hw_level(DRIVER, 0);
    UCSR0B &= (uint8_t)~_BV(TXCIE0);
    length = spoilt = 0;
    busy = 0;
}

static uint16_t divider(uint32_t baud) { return (uint16_t)((F_CPU / 4 / baud - 1) / 2); }

uint8_t hw_speed(uint16_t hundreds) {
    if (hundreds < 12 || hundreds > 1152) return 0;
    uint32_t baud = hundreds * 100UL, real = F_CPU / 8 / (divider(baud) + 1UL);
    uint32_t off = real > baud ? real - baud : baud - real;
    return off * 40 <= baud; /* 2.5 % is what a line bears */
}

void hw_restart(void) { restart = 1; }
uint8_t hw_keep(uint16_t at) { return eeprom_read_byte((const uint8_t *)at); }
void hw_store(uint16_t at, uint8_t byte) { eeprom_write_byte((uint8_t *)at, byte); }
uint8_t hw_may_store(void) { return eeprom_is_ready(); }
void hw_life(uint8_t lit) { hw_level(LIGHT, lit); }

int main(void) {
#ifdef JTD
    /* the debug port's four pins are ours; the chip wants to be told twice, at once */
    uint8_t control = MCUCR | _BV(JTD);
    MCUCR = control;
    MCUCR = control;
#endif
    TCCR0A = _BV(WGM01), OCR0A = 249, TCCR0B = _BV(CS01) | _BV(CS00), TIMSK0 = _BV(OCIE0A);
    ADCSRA = _BV(ADEN) | _BV(ADPS2) | _BV(ADPS1) | _BV(ADPS0);
    drive(LIGHT, 1);
    drive(DRIVER, 1);
    unit = UNIT;
    pins_begin();
    uint32_t baud = line_speed ? line_speed * 100UL : BAUD;
    /* the end of a frame: 3.5 characters of 11 bits, and 1.75 ms from 19200 baud on (the serial line standard) */
    uint16_t silence = baud > 19200 ? 1750 / 4 : (uint16_t)(38500000UL / baud / 4);
    UCSR0A = _BV(U2X0);
    UBRR0 = divider(baud);
    UCSR0C = PARITY << 4 | (STOP_BITS - 1) << USBS0 | _BV(UCSZ01) | _BV(UCSZ00);
    UCSR0B = _BV(RXEN0) | _BV(TXEN0) | _BV(RXCIE0);
    sei();
    wdt_enable(WDTO_1S);
    for (;;) {
        wdt_reset();
        if (restart && !busy) {
            wdt_enable(WDTO_15MS);
            for (;;) {}
        }
        pins_turn();
        convert();
        uint16_t since;
        ATOMIC_BLOCK(ATOMIC_RESTORESTATE) { since = heard; }
        if (busy || (!length && !spoilt)) {
            sleep_mode(); /* the next byte wakes it, or the next millisecond */
            continue;
        }
        if ((uint16_t)(quarter_micros() - since) < silence) continue;
        busy = 1;
        uint8_t out = 0;
        if (spoilt) frames_bad++;
        else out = frame_take((uint8_t *)frame, length, answer);
        if (out) hw_send(out);
        else length = spoilt = 0, busy = 0;
    }
}
