/* The pins behind the registers: modes, values, safe values, pulse, blink, and the fall to safe.
   docs/firmware.md has the map. Knows no hardware but through board.h. */
#include "board.h"

enum { R_WATCHDOG = 0, R_REST = 1, R_MODE = 32, R_VALUE = 64, R_SAFE = 96, R_PULSE = 128, R_ON = 160, R_OFF = 192,
       R_FREQUENCY = 224, R_TONE_MS = 240 };
enum { KEPT_MAGIC = 0xC5, KEPT_LIVES = 3, KEPT_PIN = 4 };

struct pin {
    uint8_t mode, lit;
    uint16_t value, safe, on_ms, off_ms, edges;
    uint32_t until; /* of a pulse, a tone or the present half of a blink */
};
static struct pin pins[PINS];
static uint16_t watchdog, tone_ms = 1000;
static uint32_t fed, frequency[TIMERS], levels;
static uint8_t resting = 1, saved, lives; /* lives: starts, counted without power too */
static uint16_t rests; /* falls to safe since the reset */
static uint16_t half; /* the high word of a frequency, until the low one comes */

static uint8_t drives(const struct pin *p) { return p->mode == MODE_OUTPUT || p->mode == MODE_PWM || p->mode == MODE_TONE; }

static void show(uint8_t i, uint16_t value) {
    if (pins[i].mode == MODE_OUTPUT) hw_level(i, value != 0);
    else if (pins[i].mode == MODE_PWM) hw_duty(i, value);
    else if (pins[i].mode == MODE_TONE) hw_tone(i, value);
}

static void set(uint8_t i, uint16_t value) {
    struct pin *p = pins + i;
    p->value = value;
    p->until = p->mode == MODE_TONE && value ? hw_millis() + tone_ms : 0; /* every tone has an end */
    p->on_ms = p->off_ms = 0;
    show(i, value);
}

static void rest(void) {
    for (uint8_t i = 0; i < PINS; i++)
        if (drives(pins + i)) set(i, pins[i].safe);
    resting = 1;
    rests++;
}

static void mode(uint8_t i, uint8_t to) {
    struct pin *p = pins + i;
    if (p->mode == to) return;
    if (drives(p)) set(i, 0);
    hw_mode(i, MODE_OFF);
    p->mode = to;
    if (to == MODE_OUTPUT || to == MODE_PWM) {
        /* its safe value is there before the pin drives anything */
        p->value = p->safe;
        show(i, p->safe);
    }
    hw_mode(i, to);
    if (drives(p)) set(i, p->safe);
}

void pins_begin(void) {
    for (uint8_t t = 0; t < TIMERS; t++) frequency[t] = hw_frequency(t, 100000);
    if (hw_keep(0) == KEPT_MAGIC) {
        watchdog = (uint16_t)(hw_keep(1) << 8 | hw_keep(2));
        for (uint8_t i = 0; i < PINS; i++) {
            uint16_t at = KEPT_PIN + 3 * i;
            uint8_t kept = hw_keep(at + 2);
            if (kept >= MODES || pins_may_write(R_MODE + i, kept)) continue;
            pins[i].safe = (uint16_t)(hw_keep(at) << 8 | hw_keep(at + 1));
            mode(i, kept);
        }
    }
    lives = (uint8_t)(hw_keep(KEPT_LIVES) + 1);
    hw_store(KEPT_LIVES, lives);
    levels = hw_levels();
    fed = hw_millis();
}

void pins_fed(void) {
    fed = hw_millis();
    resting = 0;
}

/* keep one byte of the modes and safe values that differ from what is kept: one a turn, for it takes time */
static void save(void) {
    if (!hw_may_store()) return;
    uint16_t at = saved;
    uint8_t byte = KEPT_MAGIC;
    if (at == 1) byte = watchdog >> 8;
    else if (at == 2) byte = (uint8_t)watchdog;
    else if (at >= KEPT_PIN) {
        struct pin *p = pins + (at - KEPT_PIN) / 3;
        uint8_t part = (at - KEPT_PIN) % 3;
        byte = part == 0 ? p->safe >> 8 : part == 1 ? (uint8_t)p->safe : p->mode; /* the mode last: it makes the rest count */
    }
    if (at != KEPT_LIVES && hw_keep(at) != byte) hw_store(at, byte);
    saved = saved + 1 < KEPT_PIN + 3 * PINS ? saved + 1 : 0;
}

void pins_turn(void) {
    uint32_t now = hw_millis(), seen = hw_levels(), moved = seen ^ levels;
    if (moved) {
        for (uint8_t i = 0; i < PINS; i++)
            if (moved >> i & 1) pins[i].edges++;
        levels = seen;
    }
    if (!resting && watchdog && now - fed >= watchdog) rest();
    for (uint8_t i = 0; i < PINS; i++) {
        struct pin *p = pins + i;
        if (!p->until || (int32_t)(now - p->until) < 0) continue;
        if (p->on_ms && p->off_ms) {
            p->lit = !p->lit;
            p->until += p->lit ? p->on_ms : p->off_ms;
            show(i, p->lit ? p->value : 0);
        } else {
            p->until = 0;
            set(i, 0);
        }
    }
    hw_life(resting ? now % 1000 < 80 : now % 250 < 125);
    save();
}

uint8_t pins_input(uint16_t at, uint16_t *value) {
    *value = 0;
    switch (at) {
    case 0: *value = IDENTITY; return 0;
    case 1: *value = VERSION; return 0;
    case 2: *value = hw_chip(); return 0;
    case 3: *value = PINS; return 0;
    case 4: *value = (uint16_t)(hw_millis() / 1000); return 0;
    case 5: *value = hw_reset_cause(); return 0;
    case 6: *value = frames_good; return 0;
    case 7: *value = frames_bad; return 0;
    case 8: *value = rests; return 0;
    case 12: *value = lives; return 0;
    case 13: *value = rests; return 0;
    case 14: *value = (uint16_t)(hw_millis() / 1000 >> 16); return 0;
    case 15: *value = (uint16_t)(hw_millis() / 1000); return 0;
    case 16: *value = (uint16_t)hw_levels(); return 0;
    case 17: *value = hw_levels() >> 16; return 0;
    }
    if (at >= 18 && at < 18 + ANALOGUE) {
        *value = pins[at - 18].mode == MODE_ANALOGUE ? hw_analogue(at - 18) : 0xFFFF;
        return 0;
    }
    if (at >= 32 && at < 32 + PINS) {
        *value = (uint16_t)(hw_timer(at - 32) << 8 | hw_can(at - 32));
        return 0;
    }
    if (at >= 64 && at < 64 + PINS) {
        *value = pins[at - 64].edges;
        return 0;
    }
    return 2;
}

uint8_t pins_holding(uint16_t at, uint16_t *value) {
    *value = 0;
    if (at == R_WATCHDOG) *value = watchdog;
    else if (at == R_REST) *value = resting;
    else if (at == R_TONE_MS) *value = tone_ms;
    else if (at >= R_FREQUENCY && at < R_FREQUENCY + 2 * TIMERS) {
        uint32_t f = frequency[(at - R_FREQUENCY) / 2];
        *value = (at - R_FREQUENCY) % 2 ? (uint16_t)f : f >> 16;
    } else if (at >= R_MODE && at < R_FREQUENCY) {
        struct pin *p = pins + at % 32;
        uint32_t left = p->until ? p->until - hw_millis() : 0;
        uint16_t facts[] = {p->mode, p->value, p->safe, (uint16_t)left, p->on_ms, p->off_ms};
        *value = facts[at / 32 - 1];
    } else return 2;
    return 0;
}

uint8_t pins_may_write(uint16_t at, uint16_t value) {
    if (at == R_WATCHDOG || at == R_REST) return 0;
    if (at == R_TONE_MS) return value ? 0 : 3;
    if (at >= R_FREQUENCY && at < R_FREQUENCY + 2 * TIMERS) return 0;
    if (at < R_MODE || at >= R_FREQUENCY) return 2;
    uint8_t i = at % 32, can = hw_can(i);
    static const uint8_t needs[] = {0xFF, CAN_OUTPUT, CAN_PULL_UP, CAN_PWM, CAN_ANALOGUE, CAN_TONE};
    if (!can) return 2;
    if (at / 32 == R_MODE / 32) return value < MODES && (needs[value] & can) ? 0 : 3;
    if (at / 32 != R_SAFE / 32 && !drives(pins + i)) return 3; /* nothing to be set on an input */
    return at / 32 == R_VALUE / 32 && pins[i].mode == MODE_OUTPUT && value > 1 ? 3 : 0;
}

void pins_write(uint16_t at, uint16_t value) {
    struct pin *p = pins + at % 32;
    uint8_t i = at % 32;
    if (at == R_WATCHDOG) watchdog = value;
    else if (at == R_REST) rest();
    else if (at == R_TONE_MS) tone_ms = value;
    else if (at >= R_FREQUENCY) {
        uint8_t t = (uint8_t)((at - R_FREQUENCY) / 2);
        if ((at - R_FREQUENCY) % 2 == 0) half = value;
        else {
            uint32_t real = hw_frequency(t, (uint32_t)half << 16 | value);
            if (real) frequency[t] = real;
            for (uint8_t j = 0; j < PINS; j++)
                if (pins[j].mode == MODE_PWM && hw_timer(j) == t) show(j, pins[j].value);
        }
    } else switch (at / 32) {
    case R_MODE / 32: mode(i, (uint8_t)value); break;
    case R_VALUE / 32: set(i, value); break;
    case R_SAFE / 32: p->safe = value; break;
    case R_PULSE / 32:
        set(i, p->mode == MODE_OUTPUT ? value != 0 : value ? 0xFFFF : 0);
        p->until = value ? hw_millis() + value : 0;
        break;
    case R_ON / 32: p->on_ms = value; break;
    default: /* the off time starts the blink, or ends it */
        p->off_ms = value;
        p->lit = 1;
        p->until = p->on_ms && value ? hw_millis() + p->on_ms : 0;
        if (!p->value && p->until) p->value = p->mode == MODE_OUTPUT ? 1 : 0xFFFF;
        show(i, p->value);
    }
}

uint8_t pins_coil(uint16_t at, uint8_t *value) {
    if (at >= PINS) return 2;
    *value = drives(pins + at) && pins[at].value != 0;
    return 0;
}

uint8_t pins_may_switch(uint16_t at) { return at < PINS && drives(pins + at) && pins[at].mode != MODE_TONE ? 0 : 2; }

void pins_switch(uint16_t at, uint8_t on) { set((uint8_t)at, pins[at].mode == MODE_OUTPUT ? on : on ? 0xFFFF : 0); }
