/* ATmega1284P. Pins 0 to 7 are port A, 8 to 15 B, 16 to 23 C, 24 to 31 D. */
#define CHIP_NAME "atmega1284p"
#define CHIP_NUMBER 1
#define PINS 32
#define ANALOGUE 8
#define TIMERS 2
#define PORTS &PORTA, &PORTB, &PORTC, &PORTD
#define DIRECTIONS &DDRA, &DDRB, &DDRC, &DDRD
#define INPUTS &PINA, &PINB, &PINC, &PIND
#define OWN(pin) ((pin) == 8 || (pin) == 24 || (pin) == 25 || (pin) == 27) /* light, line, driver */
#define LIGHT 8
#define DRIVER 27
#define TONE_PIN 31
#define PWM_PINS {29, 7, 0, &OCR1A}, {28, 5, 0, &OCR1B}, {14, 7, 1, &OCR3A}, {15, 5, 1, &OCR3B}
#define PWM_TIMERS {&TCCR1A, &TCCR1B, &ICR1, &TCNT1}, {&TCCR3A, &TCCR3B, &ICR3, &TCNT3}
#define BAND_GAP 0x1E
