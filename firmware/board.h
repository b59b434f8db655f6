/* What the portable part (frame.c, pins.c) and a hardware part (avr.c, native.c) ask of each other.
   docs/firmware.md has the register map, and how to add another chip. */
#ifndef BOARD_H
#define BOARD_H
#include <stdint.h>

#define IDENTITY 0x4357
#define VERSION 0x0101 /* high byte: raised when the map changes in a way that an older host would not bear */
#define PINS 32
#define ANALOGUE 8 /* analogue channels are pins 0 to 7 */
#define TIMERS 2
#define NO_TIMER 0xFF

enum { CAN_OUTPUT = 1, CAN_PULL_UP = 2, CAN_PWM = 4, CAN_ANALOGUE = 8, CAN_TONE = 16 };
enum { MODE_OFF, MODE_OUTPUT, MODE_PULL_UP, MODE_PWM, MODE_ANALOGUE, MODE_TONE, MODES };

/* --- the hardware part ---------------------------------------------------------------------------------- */
uint8_t hw_chip(void);                               /* which hardware part this is */
uint8_t hw_can(uint8_t pin);                         /* CAN_ bits; 0 for a pin that is the board's own */
uint8_t hw_timer(uint8_t pin);                       /* its timer, or NO_TIMER */
void hw_mode(uint8_t pin, uint8_t mode);             /* from MODE_OFF or to it, its level low */
void hw_level(uint8_t pin, uint8_t high);            /* of an output */
void hw_duty(uint8_t pin, uint16_t duty);            /* of a PWM pin: 0 to 65535 */
uint32_t hw_frequency(uint8_t timer, uint32_t hundredths); /* of a hertz; returns what it really is, 0: not possible */
void hw_tone(uint8_t pin, uint16_t hertz);           /* 0: silence */
uint32_t hw_levels(void);                            /* all pins, a bit each, as they really are */
uint16_t hw_analogue(uint8_t channel);               /* the last conversion, 0 to 1023 */
uint32_t hw_millis(void);
void hw_send(const uint8_t *frame, uint8_t length);
uint8_t hw_keep(uint16_t at);                        /* one byte of what is kept without power */
void hw_store(uint16_t at, uint8_t byte);            /* may take its time; called one by one */
uint8_t hw_may_store(void);
void hw_life(uint8_t lit);                           /* the light that shows that the board lives */
uint8_t hw_reset_cause(void);

/* --- the portable part ----------------------------------------------------------------------------------- */
void pins_begin(void);                               /* before anything else: every pin as it is kept, at its safe value */
void pins_turn(void);                                /* as often as possible */
void pins_fed(void);                                 /* a valid frame has come */
uint8_t frame_take(uint8_t *frame, uint8_t length, uint8_t *answer); /* length of the answer, 0: none */
extern uint8_t unit;
extern uint16_t frames_good, frames_bad;

/* registers and coils: 0 or the exception code */
uint8_t pins_input(uint16_t at, uint16_t *value);
uint8_t pins_holding(uint16_t at, uint16_t *value);
uint8_t pins_may_write(uint16_t at, uint16_t value);
void pins_write(uint16_t at, uint16_t value);
uint8_t pins_coil(uint16_t at, uint8_t *value);
uint8_t pins_may_switch(uint16_t at);
void pins_switch(uint16_t at, uint8_t on);
#endif
