/* ATmega328P, as on many small boards. Pins 0 to 7 are port C, 8 to 15 B, 16 to 23 D; what a package does not bring out cannot be had. */
#define CHIP_NAME "atmega328p"
#define CHIP_NUMBER 3
#define PINS 24
#define ANALOGUE 6
#define TIMERS 1
#define PORTS &PORTC, &PORTB, &PORTD
#define DIRECTIONS &DDRC, &DDRB, &DDRD
#define INPUTS &PINC, &PINB, &PIND
#define OWN(pin) ((pin) == 6 || (pin) == 7 || (pin) == 13 || (pin) == 14 || (pin) == 15 || ((pin) >= 16 && (pin) <= 18)) /* reset, none, light, crystal, line, driver */
#define LIGHT 13
#define DRIVER 18
#define TONE_PIN 11
#define PWM_PINS {9, 7, 0, &OCR1A}, {10, 5, 0, &OCR1B}
#define PWM_TIMERS {&TCCR1A, &TCCR1B, &ICR1, &TCNT1}
#define BAND_GAP 0x0E
#define USART0_RX_vect USART_RX_vect
#define USART0_UDRE_vect USART_UDRE_vect
#define USART0_TX_vect USART_TX_vect
