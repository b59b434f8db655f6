/* ATmega324P: a quarter of the flash of the larger one and an eighth of its RAM, one timer for PWM, and pins of other numbers: 0 to 7 are
   port A, 8 to 15 D, 16 to 23 C, 24 to 31 B. */
#define CHIP_NAME "atmega324p"
#define CHIP_NUMBER 3
#define PINS 32
#define ANALOGUE 8
#define TIMERS 1
#define PORTS &PORTA, &PORTD, &PORTC, &PORTB
#define DIRECTIONS &DDRA, &DDRD, &DDRC, &DDRB
#define INPUTS &PINA, &PIND, &PINC, &PINB
#define OWN(pin) ((pin) == 24 || (pin) == 8 || (pin) == 9 || (pin) == 11) /* light, line, driver */
#define LIGHT 24
#define DRIVER 11
#define TONE_PIN 15
#define PWM_PINS {13, 7, 0, &OCR1A}, {12, 5, 0, &OCR1B}
#define PWM_TIMERS {&TCCR1A, &TCCR1B, &ICR1, &TCNT1}
#define BAND_GAP 0x1E
