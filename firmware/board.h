/* What the portable part (frame.c, pins.c, rules.c) and a hardware part (avr.c, native.c) ask of each other.
   docs/firmware.md has the register map, and how to add another chip. */
#ifndef BOARD_H
#define BOARD_H
#include <stdint.h>

#define IDENTITY 0x4357
#define VERSION 0x0103 /* high byte: raised when the map changes in a way that an older host would not bear */
#define VERSION_TEXT "1.3"
#ifndef PINS /* a chip with fewer says so, and how many analogue channels (from pin 0 on) and PWM timers it has */
#define PINS 32
#define ANALOGUE 8
#define TIMERS 2
#endif
#define NO_TIMER 0xFF
#define RULES 16
#define RULE_WORDS 8
#define MOST_ANALOGUE 8

enum { ILLEGAL_FUNCTION = 1, ILLEGAL_ADDRESS, ILLEGAL_VALUE, HELD = 6 }; /* exceptions; 6: a rule holds it, or it is no time for it */
enum { CAN_OUTPUT = 1, CAN_PULL_UP = 2, CAN_PWM = 4, CAN_ANALOGUE = 8, CAN_TONE = 16 };
enum { MODE_OFF, MODE_OUTPUT, MODE_PULL_UP, MODE_PWM, MODE_ANALOGUE, MODE_TONE, MODES };

/* --- the hardware part ---------------------------------------------------------------------------------- */
extern const char hw_name[];                         /* of the chip: 'atmega1284p' */
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
uint16_t hw_supply(void);                            /* millivolts, as it measures them itself; 0: it cannot */
uint32_t hw_millis(void);
uint8_t hw_keep(uint16_t at);                        /* one byte of what is kept without power, of 440 */
void hw_store(uint16_t at, uint8_t byte);            /* may take its time; called one by one */
uint8_t hw_may_store(void);
void hw_life(uint8_t lit);                           /* the light that shows that the board lives */
uint8_t hw_reset_cause(void);
uint8_t hw_speed(uint16_t hundreds);                 /* whether the line can have this speed, in hundreds of bits a second */
void hw_restart(void);                               /* as soon as the answer is out */
void hw_hold(uint8_t held);                          /* 1: no tick until it is 0 again; short */

/* --- pins.c ---------------------------------------------------------------------------------------------- */
void pins_begin(void);                               /* before anything else: every pin as it is kept, at its safe value */
void pins_tick(void);                                /* each millisecond, also from an interrupt, but never while held */
void pins_turn(void);                                /* as often as possible */
void pins_frame(void);                               /* a valid frame has come */
extern uint8_t unit;
extern uint16_t frames_good, frames_bad;
extern uint16_t line_speed;                          /* as kept, in hundreds; 0: as built */
extern uint32_t pins_on;                             /* a bit each: it drives, and not its safe value */

/* registers and coils: 0 or the exception code. What may be written is asked for a whole frame before any of it is. */
uint8_t pins_input(uint16_t at, uint16_t *value);
uint8_t pins_holding(uint16_t at, uint16_t *value);
uint8_t pins_may_write(uint16_t at, uint16_t value);
void pins_write(uint16_t at, uint16_t value);
uint8_t pins_coil(uint16_t at, uint8_t *value);
uint8_t pins_may_switch(uint16_t at, uint8_t on);
void pins_switch(uint16_t at, uint8_t on);
void pins_plan(void);                                /* a new frame: nothing of it is planned yet */
uint8_t pins_mode(uint8_t pin);
void pins_to_safe(uint8_t pin, uint8_t rule);        /* by a rule */

/* --- rules.c --------------------------------------------------------------------------------------------- */
extern uint16_t rules_table[RULES][RULE_WORDS], rules_generation, rules_latched;
void rules_begin(uint16_t generation, uint16_t sum, uint16_t latched); /* in force if they are whole, from the table as it is kept */
uint8_t rules_may_set(uint16_t generation, uint16_t sum); /* put the table in force, or (0) let it go */
void rules_set(uint16_t generation);
uint16_t rules_sum(void);
void rules_tick(uint32_t now, uint32_t levels);
uint8_t rules_hold(uint8_t pin, uint32_t others);    /* whether a rule keeps it from going on beside those; 0, or its number + 1 */
void rules_moved(uint8_t pin, uint8_t on);
uint8_t rules_name(uint8_t pin);                     /* whether any rule does: its mode and safe value stay as they are */
uint16_t rules_unmet(void);                          /* a bit each: it would keep its outputs from going on */
uint8_t rules_may_reset(uint16_t rule);
void rules_reset(uint16_t rule);

/* --- frame.c --------------------------------------------------------------------------------------------- */
uint8_t frame_take(uint8_t *frame, uint8_t length, uint8_t *answer); /* length of the answer, 0: none */
uint16_t frame_sum(uint16_t sum, uint8_t byte);      /* CRC-16 of the serial line standard, begun with 0xFFFF */
#endif
