/* The pins behind the registers: modes, values, safe values, what ends by itself, and the fall to safe.
   docs/firmware.md has the map. Knows no hardware but through board.h. */
#include "board.h"

enum { R_WATCHDOG = 0, R_REST = 1, R_OWNER = 2, R_FEED = 3, R_UNIT = 4, R_SPEED = 5, R_RESTART = 6, R_RESET = 7, R_SUM = 8,
       R_GENERATION = 9, R_MODE = 32, R_VALUE = 64, R_SAFE = 96, R_PULSE = 128, R_ON = 160, R_OFF = 192, R_FREQUENCY = 224,
       R_TONE_MS = 240, R_RULES = 256, R_LASTS = 384, R_COIL = 416 };
enum { KEPT_MAGIC = 0xC5, KEPT_LIVES = 3, KEPT_PIN = 4, KEPT_UNIT = KEPT_PIN + 3 * 32, KEPT_SPEED, KEPT_LATCHED = KEPT_SPEED + 2,
       KEPT_RULES = KEPT_LATCHED + 2, KEPT_GENERATION = KEPT_RULES + 2 * RULES * RULE_WORDS, KEPT_SUM = KEPT_GENERATION + 2,
       KEPT_COIL = KEPT_SUM + 2, KEPT_END = KEPT_COIL + 2 * PINS };
#define RESTART 0x5E57
#define LONGEST_COIL 1000
#define RULE_END (R_RULES + RULES * RULE_WORDS)

struct pin {
    uint8_t mode, lit, held; /* held: the rule that last kept it from being on, + 1 */
    uint16_t value, safe, on_ms, off_ms, edges;
    uint16_t lasts; /* milliseconds: the value that is written next */
    uint16_t coil; /* milliseconds for which it is on at each fall to safe: it puts a latching relay there */
    uint32_t until; /* its end, or that of the present half of a blink */
};
static struct pin pins[PINS];
static uint16_t watchdog, tone_ms = 1000, owner, sum, saved;
static uint32_t fed, frequency[TIMERS], levels, timed;
static uint8_t resting = 1, lit, lives; /* lives: starts, counted without power too */
static uint16_t rests; /* falls to safe since the reset */
static uint16_t half; /* the high word of a frequency, until the low one comes */
static uint32_t planned; /* what the frame that is being checked puts on, and the sum that it tells */
static uint16_t planned_sum;
static uint16_t turns[PINS / 2]; /* of two pins beside each other: how often they have changed one way, less the other */
uint16_t line_speed;
uint32_t pins_on;

#define BIT(i) ((uint32_t)1 << (i))
static uint8_t drives(const struct pin *p) { return p->mode == MODE_OUTPUT || p->mode == MODE_PWM || p->mode == MODE_TONE; }
static uint16_t word(uint16_t at) { return (uint16_t)(hw_keep(at) << 8 | hw_keep(at + 1)); }

uint8_t pins_mode(uint8_t i) { return pins[i].mode; }

static void show(uint8_t i, uint16_t value) {
    if (pins[i].mode == MODE_OUTPUT) hw_level(i, value != 0);
    else if (pins[i].mode == MODE_PWM) hw_duty(i, value);
    else if (pins[i].mode == MODE_TONE) hw_tone(i, value);
}

/* whether it is on now, and rules are told when that changes */
static void note(uint8_t i) {
    uint8_t on = drives(pins + i) && pins[i].value != pins[i].safe;
    if (on == (pins_on >> i & 1)) return;
    pins_on ^= BIT(i);
    rules_moved(i, on);
}

static void ends(uint8_t i, uint16_t in) {
    pins[i].until = hw_millis() + in;
    if (in) timed |= BIT(i);
    else timed &= ~BIT(i);
}

static void set(uint8_t i, uint16_t value) {
    struct pin *p = pins + i;
    uint16_t lasts = p->lasts;
    if (value != p->safe && !(pins_on & BIT(i)) && (p->held = rules_hold(i, pins_on))) value = p->safe;
    p->value = value;
    p->lasts = 0;
    if (p->mode == MODE_TONE && value && (!lasts || lasts > tone_ms)) lasts = tone_ms; /* every tone has an end */
    ends(i, value == p->safe ? 0 : lasts);
    p->on_ms = p->off_ms = 0;
    show(i, value);
    note(i);
}

void pins_to_safe(uint8_t i, uint8_t rule) {
    set(i, pins[i].safe);
    pins[i].held = rule + 1;
}

/* a value that is not the safe one: its own, if that is so */
static uint16_t some(const struct pin *p) { return p->value != p->safe ? p->value : p->safe ? 0 : p->mode == MODE_OUTPUT ? 1 : 0xFFFF; }

static void pulse(uint8_t i, uint16_t ms) {
    pins[i].lasts = ms;
    set(i, ms ? some(pins + i) : pins[i].safe);
}

static void rest(void) {
    for (uint8_t i = 0; i < PINS; i++)
        if (drives(pins + i)) set(i, pins[i].safe);
    for (uint8_t i = 0; i < PINS; i++)
        if (drives(pins + i) && pins[i].coil) pulse(i, pins[i].coil);
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
    else ends(i, 0);
    note(i);
}

void pins_begin(void) {
    for (uint8_t t = 0; t < TIMERS; t++) frequency[t] = hw_frequency(t, 100000);
    if (hw_keep(0) == KEPT_MAGIC) {
        watchdog = word(1);
        for (uint8_t i = 0; i < PINS; i++) {
            uint16_t at = KEPT_PIN + 3 * i;
            uint8_t kept = hw_keep(at + 2);
            if (kept >= MODES || pins_may_write(R_MODE + i, kept)) continue;
            pins[i].safe = word(at);
            mode(i, kept);
            pins[i].coil = word(KEPT_COIL + 2 * i);
            if (pins[i].coil > LONGEST_COIL) pins[i].coil = 0;
        }
        if (hw_keep(KEPT_UNIT) - 1 < 247) unit = hw_keep(KEPT_UNIT);
        if (hw_speed(word(KEPT_SPEED))) line_speed = word(KEPT_SPEED);
        for (uint16_t i = 0; i < RULES * RULE_WORDS; i++) rules_table[i / RULE_WORDS][i % RULE_WORDS] = word(KEPT_RULES + 2 * i);
        sum = word(KEPT_SUM);
        rules_begin(word(KEPT_GENERATION), sum, word(KEPT_LATCHED));
    }
    lives = (uint8_t)(hw_keep(KEPT_LIVES) + 1);
    hw_store(KEPT_LIVES, lives);
    levels = hw_levels();
    fed = hw_millis();
    for (uint8_t i = 0; i < PINS; i++)
        if (drives(pins + i) && pins[i].coil) pulse(i, pins[i].coil);
}

static void feed(void) {
    fed = hw_millis();
    resting = 0;
}

void pins_frame(void) {
    if (!owner) feed();
}

/* keep one byte of what differs from what is kept: one a turn, for it takes time */
static void save(void) {
    if (!hw_may_store()) return;
    uint16_t at = saved, whole;
    uint8_t byte = KEPT_MAGIC, low = 0;
    if (at >= KEPT_PIN && at < KEPT_UNIT) {
        struct pin *p = pins + (at - KEPT_PIN) / 3;
        uint8_t part = (at - KEPT_PIN) % 3;
        if ((at - KEPT_PIN) / 3 >= PINS) part = 3;
        byte = part == 3 ? 0xFF : part == 0 ? p->safe >> 8 : part == 1 ? (uint8_t)p->safe : p->mode; /* the mode last: it makes the rest count */
    } else if (at == KEPT_UNIT) byte = unit;
    else if (at) {
        if (at < KEPT_PIN) whole = watchdog, low = at == 2;
        else if (at < KEPT_LATCHED) whole = line_speed, low = at != KEPT_SPEED;
        else if (at < KEPT_RULES) whole = rules_latched, low = at != KEPT_LATCHED;
        else if (at < KEPT_GENERATION) whole = rules_table[0][(at - KEPT_RULES) / 2], low = (at - KEPT_RULES) & 1;
        else if (at < KEPT_SUM) whole = rules_generation, low = at != KEPT_GENERATION;
        else if (at < KEPT_COIL) whole = sum, low = at != KEPT_SUM;
        else whole = pins[(at - KEPT_COIL) / 2].coil, low = (at - KEPT_COIL) & 1;
        byte = low ? (uint8_t)whole : whole >> 8;
    }
    if (at != KEPT_LIVES && hw_keep(at) != byte) hw_store(at, byte);
    saved = saved + 1 < KEPT_END ? saved + 1 : 0;
}

/* two lines of an encoder go round 0, 1, 3, 2 one way: a change of both at once has no way */
static void follow(uint8_t pair, uint8_t was, uint8_t is) {
    static const uint8_t place[] = {0, 1, 3, 2};
    uint8_t by = (place[is] - place[was]) & 3;
    if (by == 1) turns[pair]++;
    else if (by == 3) turns[pair]--;
}

void pins_tick(void) {
    uint32_t now = hw_millis(), seen = hw_levels(), moved = seen ^ levels, before = levels, is = seen, due = timed;
    for (uint8_t i = 0; moved; i += 2, moved >>= 2, before >>= 2, is >>= 2) {
        if (!(moved & 3)) continue;
        if (moved & 1) pins[i].edges++;
        if (moved & 2) pins[i + 1].edges++;
        follow(i / 2, before & 3, is & 3);
    }
    levels = seen;
    if (!resting && watchdog && now - fed >= watchdog) rest();
    for (uint8_t i = 0; due; i++, due >>= 1) {
        struct pin *p = pins + i;
        if (!(due & 1) || (int32_t)(now - p->until) < 0) continue;
        if (p->on_ms && p->off_ms) {
            p->lit = !p->lit;
            p->until += p->lit ? p->on_ms : p->off_ms;
            show(i, p->lit ? p->value : p->safe);
        } else set(i, p->safe);
    }
    rules_tick(now, seen);
}

void pins_turn(void) {
    uint32_t now = hw_millis();
    uint8_t light = resting ? now % 1000 < 80 : now % 250 < 125;
    if (light != lit) hw_life(lit = light);
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
    case 9: *value = hw_supply(); return 0;
    case 10: *value = RULES; return 0;
    case 12: *value = lives; return 0;
    case 13: *value = rests; return 0;
    case 14: *value = (uint16_t)(hw_millis() / 1000 >> 16); return 0;
    case 15: *value = (uint16_t)(hw_millis() / 1000); return 0;
    case 16: *value = (uint16_t)hw_levels(); return 0;
    case 17: *value = hw_levels() >> 16; return 0;
    case 26: *value = rules_generation; return 0;
    case 27: *value = rules_latched; return 0;
    case 28: *value = rules_unmet(); return 0;
    }
    if (at >= 18 && at < 18 + MOST_ANALOGUE) {
        *value = at < 18 + ANALOGUE && pins[at - 18].mode == MODE_ANALOGUE ? hw_analogue((uint8_t)(at - 18)) : 0xFFFF;
        return 0;
    }
    if (at >= 128 && at < 128 + PINS / 2) {
        *value = turns[at - 128];
        return 0;
    }
    if (at < 32 || at >= 128 || at % 32 >= PINS) return 2;
    uint8_t i = at % 32;
    *value = at < 64 ? (uint16_t)(hw_timer(i) << 8 | hw_can(i)) : at < 96 ? pins[i].edges : pins[i].held;
    return 0;
}

/* of what has a register for each pin: the first one, or 0 */
static uint16_t block(uint16_t at) {
    uint16_t first = at & ~31;
    return ((first >= R_MODE && first < R_FREQUENCY) || first == R_LASTS || first == R_COIL) && at % 32 < PINS ? first : 0;
}

uint8_t pins_holding(uint16_t at, uint16_t *value) {
    uint16_t facts[] = {watchdog, resting, owner, 0, unit, line_speed, 0, 0, sum, rules_generation};
    struct pin *p = pins + at % 32;
    uint32_t left;
    *value = 0;
    if (at < sizeof facts / 2) *value = facts[at];
    else if (at == R_TONE_MS) *value = tone_ms;
    else if (at >= R_FREQUENCY && at < R_FREQUENCY + 2 * TIMERS) {
        uint32_t f = frequency[(at - R_FREQUENCY) / 2];
        *value = (at - R_FREQUENCY) % 2 ? (uint16_t)f : f >> 16;
    } else if (at >= R_RULES && at < RULE_END) *value = rules_table[0][at - R_RULES];
    else switch (block(at)) {
    case R_MODE: *value = p->mode; break;
    case R_VALUE: *value = p->value; break;
    case R_SAFE: *value = p->safe; break;
    case R_PULSE:
        left = timed >> at % 32 & 1 ? p->until - hw_millis() : 0;
        *value = left > 0xFFFF ? 0xFFFF : (uint16_t)left;
        break;
    case R_ON: *value = p->on_ms; break;
    case R_OFF: *value = p->off_ms; break;
    case R_LASTS: *value = p->lasts; break;
    case R_COIL: *value = p->coil; break;
    default: return 2;
    }
    return 0;
}

void pins_plan(void) {
    planned = pins_on;
    planned_sum = sum;
}

/* going on is asked of the rules, beside whatever else goes on in the same frame */
static uint8_t may_go_on(uint8_t i) {
    uint8_t held = pins_on & BIT(i) ? 0 : rules_hold(i, planned);
    planned |= BIT(i);
    if (held) pins[i].held = held, pins[i].lasts = 0; /* it was for this value, which does not come */
    return held ? HELD : 0;
}

static uint8_t may_write_fact(uint16_t at, uint16_t value) {
    switch (at) {
    case R_WATCHDOG:
    case R_REST: return 0;
    case R_OWNER: return pins_on && owner && value != owner ? HELD : 0;
    case R_FEED: return owner && value == owner ? 0 : ILLEGAL_VALUE;
    case R_UNIT: return value - 1u < 247 ? pins_on ? HELD : 0 : ILLEGAL_VALUE;
    case R_SPEED: return !value || hw_speed(value) ? pins_on ? HELD : 0 : ILLEGAL_VALUE;
    case R_RESTART: return value != RESTART ? ILLEGAL_VALUE : pins_on ? HELD : 0;
    case R_RESET: return rules_may_reset(value);
    case R_SUM: planned_sum = value; return rules_generation ? HELD : 0;
    case R_GENERATION: return rules_may_set(value, planned_sum);
    default: return ILLEGAL_ADDRESS;
    }
}

uint8_t pins_may_write(uint16_t at, uint16_t value) {
    if (at <= R_GENERATION) return may_write_fact(at, value);
    if (at == R_TONE_MS) return value ? 0 : ILLEGAL_VALUE;
    if (at >= R_FREQUENCY && at < R_FREQUENCY + 2 * TIMERS) return 0;
    if (at >= R_RULES && at < RULE_END) return rules_generation ? HELD : 0;
    uint16_t what = block(at);
    uint8_t i = at % 32, can = what ? hw_can(i) : 0;
    struct pin *p = pins + i;
    static const uint8_t needs[] = {0xFF, CAN_OUTPUT, CAN_PULL_UP, CAN_PWM, CAN_ANALOGUE, CAN_TONE};
    if (!can) return ILLEGAL_ADDRESS;
    if (what == R_MODE) return value >= MODES || !(needs[value] & can) ? ILLEGAL_VALUE : value != p->mode && rules_name(i) ? HELD : 0;
    if (what == R_SAFE) return value != p->safe && rules_name(i) ? HELD : 0;
    if (what == R_COIL) return value > LONGEST_COIL ? ILLEGAL_VALUE : value && rules_name(i) ? HELD : 0;
    if (!drives(p)) return ILLEGAL_VALUE; /* nothing to be set on an input */
    if (what == R_VALUE) {
        if (p->mode == MODE_OUTPUT && value > 1) return ILLEGAL_VALUE;
        return value == p->safe ? 0 : may_go_on(i);
    }
    if (what == R_OFF && value && rules_name(i)) return HELD; /* each of its starts would have to be asked for */
    return value && (what == R_PULSE || what == R_OFF) ? may_go_on(i) : 0;
}

void pins_write(uint16_t at, uint16_t value) {
    struct pin *p = pins + at % 32;
    uint8_t i = at % 32;
    if (at >= R_RULES && at < RULE_END) rules_table[0][at - R_RULES] = value;
    else if (at == R_TONE_MS) tone_ms = value;
    else if (at >= R_FREQUENCY && at < R_FREQUENCY + 2 * TIMERS) {
        uint8_t t = (uint8_t)((at - R_FREQUENCY) / 2);
        if ((at - R_FREQUENCY) % 2 == 0) half = value;
        else {
            uint32_t real = hw_frequency(t, (uint32_t)half << 16 | value);
            if (real) frequency[t] = real;
            for (uint8_t j = 0; j < PINS; j++)
                if (pins[j].mode == MODE_PWM && hw_timer(j) == t) show(j, pins[j].value);
        }
    } else switch (at <= R_GENERATION ? at : block(at)) {
    case R_WATCHDOG: watchdog = value; break;
    case R_REST: rest(); break;
    case R_OWNER: owner = value; feed(); break;
    case R_FEED: feed(); break;
    case R_UNIT: unit = (uint8_t)value; break;
    case R_SPEED: line_speed = value; break;
    case R_RESTART: hw_restart(); break;
    case R_RESET: rules_reset(value); break;
    case R_SUM: sum = value; break;
    case R_GENERATION: rules_set(value); break;
    case R_MODE: mode(i, (uint8_t)value); break;
    case R_VALUE: set(i, value); break;
    case R_SAFE: p->safe = value, note(i); break;
    case R_PULSE: pulse(i, value); break;
    case R_ON: p->on_ms = value; break;
    case R_LASTS: p->lasts = value; break;
    case R_COIL: p->coil = value; break;
    default: { /* the off time starts the blink, or ends it */
        uint16_t on_ms = p->on_ms;
        if (on_ms && value) {
            set(i, some(p));
            if (!(pins_on & BIT(i))) break;
            p->on_ms = on_ms, p->off_ms = value, p->lit = 1;
            ends(i, on_ms);
        } else set(i, p->value);
    }
    }
}

uint8_t pins_coil(uint16_t at, uint8_t *value) {
    if (at >= PINS) return 2;
    *value = drives(pins + at) && pins[at].value != 0;
    return 0;
}

static uint16_t whole(uint16_t at, uint8_t on) { return pins[at].mode == MODE_OUTPUT ? on : on ? 0xFFFF : 0; }

uint8_t pins_may_switch(uint16_t at, uint8_t on) {
    if (at >= PINS || !drives(pins + at) || pins[at].mode == MODE_TONE) return ILLEGAL_ADDRESS;
    return whole(at, on) == pins[at].safe ? 0 : may_go_on((uint8_t)at);
}

void pins_switch(uint16_t at, uint8_t on) { set((uint8_t)at, whole(at, on)); }
