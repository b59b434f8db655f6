/* Hardware part: ATmega1284P at 16 MHz. Pins 0-7 are port A, 8-15 B, 16-23 C, 24-31 D.
   Timer 0 keeps the time, timer 2 makes tones (PD7), timers 1 and 3 make PWM: OC1B PD4, OC1A PD5, OC3A PB6, OC3B PB7.
   PB0 is the light that shows life; PD0 and PD1 are the line, PD3 enables a driver of a two-wire line. */
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
/* the end of a frame: 3.5 characters of 11 bits, and 1.75 ms from 19200 baud on (the serial line standard) */
#define SILENCE_US (BAUD > 19200 ? 1750UL : 38500000UL / BAUD)

static volatile uint8_t *const port[] = {&PORTA, &PORTB, &PORTC, &PORTD};
static volatile uint8_t *const direction[] = {&DDRA, &DDRB, &DDRC, &DDRD};
static volatile uint8_t *const input[] = {&PINA, &PINB, &PINC, &PIND};
#define BIT(pin) ((uint8_t)(1 << ((pin) & 7)))

#define TEXT(x) #x
#define NUMBER(x) TEXT(x)
/* what 'cairnwind firmware' looks for in an image before it loads it */
static const char mark[] PROGMEM = "cairnwind-firmware chip=atmega1284p version=1.1 baud=" NUMBER(BAUD);

static uint8_t cause __attribute__((section(".noinit"))); /* written before all else is set to 0 */
static volatile uint32_t millis;
static volatile uint8_t frame[256], length, busy, spoilt;
static volatile uint16_t heard; /* microseconds / 4 */
static uint16_t top[TIMERS] = {0xFFFF, 0xFFFF};
static uint16_t analogue[ANALOGUE];

/* the watchdog stays on over a reset: it has to be tamed before anything else */
void tame(void) __attribute__((naked, used, section(".init3")));
void tame(void) {
    cause = MCUSR;
    MCUSR = 0;
    wdt_disable();
}

uint8_t hw_chip(void) { return pgm_read_byte(mark) ? 1 : 0; }
uint8_t hw_reset_cause(void) { return cause; }

uint8_t hw_timer(uint8_t pin) {
    switch (pin) {
    case 28: case 29: return 0;
    case 14: case 15: return 1;
    default: return NO_TIMER;
    }
}

uint8_t hw_can(uint8_t pin) {
    if (pin == 8 || pin == 24 || pin == 25 || pin == 27) return 0;
    uint8_t can = CAN_OUTPUT | CAN_PULL_UP;
    if (pin < ANALOGUE) can |= CAN_ANALOGUE;
    if (hw_timer(pin) != NO_TIMER) can |= CAN_PWM;
    if (pin == 31) can |= CAN_TONE;
    return can;
}

void hw_level(uint8_t pin, uint8_t high) {
    ATOMIC_BLOCK(ATOMIC_RESTORESTATE) {
        if (high) *port[pin / 8] |= BIT(pin);
        else *port[pin / 8] &= (uint8_t)~BIT(pin);
    }
}

void hw_mode(uint8_t pin, uint8_t mode) {
    uint8_t out = mode == MODE_OUTPUT || mode == MODE_PWM || mode == MODE_TONE;
    if (mode == MODE_OFF) hw_duty(pin, 0), hw_tone(pin, 0);
    if (out) *direction[pin / 8] |= BIT(pin);
    else {
        *direction[pin / 8] &= (uint8_t)~BIT(pin);
        hw_level(pin, mode == MODE_PULL_UP);
    }
    if (pin < ANALOGUE) {
        if (mode == MODE_ANALOGUE) DIDR0 |= BIT(pin);
        else DIDR0 &= (uint8_t)~BIT(pin);
    }
}

/* The output compare is let go at 0 and at full: the timer cannot do either without a spike. */
void hw_duty(uint8_t pin, uint16_t duty) {
    uint8_t t = hw_timer(pin);
    if (t == NO_TIMER) {
        if (hw_can(pin) & CAN_PWM) hw_level(pin, duty != 0);
        return;
    }
    uint32_t counts = ((uint32_t)duty * ((uint32_t)top[t] + 1) + 32767) / 65535;
    uint8_t on = pin == 29 || pin == 14 ? _BV(COM1A1) : _BV(COM1B1);
    volatile uint8_t *control = t ? &TCCR3A : &TCCR1A;
    if (counts == 0 || counts > top[t]) {
        hw_level(pin, counts != 0);
        *control &= (uint8_t)~on;
        return;
    }
    ATOMIC_BLOCK(ATOMIC_RESTORESTATE) {
        if (pin == 29) OCR1A = (uint16_t)(counts - 1);
        else if (pin == 28) OCR1B = (uint16_t)(counts - 1);
        else if (pin == 14) OCR3A = (uint16_t)(counts - 1);
        else OCR3B = (uint16_t)(counts - 1);
    }
    hw_level(pin, 0);
    *control |= on;
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
        top[t] = (uint16_t)(ticks - 1);
        uint8_t control = _BV(WGM13) | _BV(WGM12) | (i + 1); /* fast PWM, period in ICR */
        if (t) {
            TCCR3A = (TCCR3A & 0xF0) | _BV(WGM31), ICR3 = top[t], TCCR3B = control;
            if (TCNT3 > top[t]) TCNT3 = 0;
        } else {
            TCCR1A = (TCCR1A & 0xF0) | _BV(WGM11), ICR1 = top[t], TCCR1B = control;
            if (TCNT1 > top[t]) TCNT1 = 0;
        }
        return clock / ticks;
    }
    return 0;
}

void hw_tone(uint8_t pin, uint16_t hertz) {
    static const uint8_t shift[] = {0, 3, 5, 6, 7, 8, 10};
    if (pin != 31) return;
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
    for (uint8_t i = 4; i--;) all = all << 8 | *input[i];
    return all;
}

uint16_t hw_analogue(uint8_t channel) { return analogue[channel]; }

static void convert(void) {
    static uint8_t channel;
    if (ADCSRA & _BV(ADSC)) return;
    analogue[channel] = ADC;
    for (uint8_t i = 0; i < ANALOGUE; i++) {
        channel = (channel + 1) % ANALOGUE;
        if (DIDR0 & BIT(channel)) break;
    }
    if (!DIDR0) return;
    ADMUX = _BV(REFS0) | channel;
    ADCSRA |= _BV(ADSC);
}

ISR(TIMER0_COMPA_vect) { millis++; }

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

void hw_send(const uint8_t *answer, uint8_t count) {
    PORTD |= _BV(PD3);
    UCSR0A |= _BV(TXC0);
    while (count--) {
        while (!(UCSR0A & _BV(UDRE0))) {}
        UDR0 = *answer++;
    }
    while (!(UCSR0A & _BV(TXC0))) {}
    PORTD &= (uint8_t)~_BV(PD3);
}

uint8_t hw_keep(uint16_t at) { return eeprom_read_byte((const uint8_t *)at); }
void hw_store(uint16_t at, uint8_t byte) { eeprom_write_byte((uint8_t *)at, byte); }
uint8_t hw_may_store(void) { return eeprom_is_ready(); }
void hw_life(uint8_t lit) { hw_level(8, lit); }

int main(void) {
    static uint8_t answer[256];
    TCCR0A = _BV(WGM01), OCR0A = 249, TCCR0B = _BV(CS01) | _BV(CS00), TIMSK0 = _BV(OCIE0A);
    ADCSRA = _BV(ADEN) | _BV(ADPS2) | _BV(ADPS1) | _BV(ADPS0);
    DDRB |= _BV(PB0);
    DDRD |= _BV(PD3);
    unit = UNIT;
    pins_begin();
    UCSR0A = _BV(U2X0);
    UBRR0 = (uint16_t)((F_CPU / 4 / BAUD - 1) / 2);
    UCSR0C = PARITY << 4 | (STOP_BITS - 1) << USBS0 | _BV(UCSZ01) | _BV(UCSZ00);
    UCSR0B = _BV(RXEN0) | _BV(TXEN0) | _BV(RXCIE0);
    sei();
    wdt_enable(WDTO_1S);
    for (;;) {
        wdt_reset();
        pins_turn();
        convert();
        uint16_t since;
        ATOMIC_BLOCK(ATOMIC_RESTORESTATE) { since = heard; }
        if (!length && !spoilt) {
            sleep_mode(); /* the next byte wakes it, or the next millisecond */
            continue;
        }
        if ((uint16_t)(quarter_micros() - since) < SILENCE_US / 4) continue;
        busy = 1;
        uint8_t out = 0;
        if (spoilt) frames_bad++;
        else out = frame_take((uint8_t *)frame, length, answer);
        if (out) hw_send(answer, out);
        length = spoilt = 0;
        busy = 0;
    }
}
