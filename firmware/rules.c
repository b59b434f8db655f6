/* Interlocks that the board keeps by itself, whoever speaks to it: 16 rules of 8 words, asked at every write and each
   millisecond. 'On' is any value but the safe one; going to the safe value is never held. docs/firmware.md has their form.

     word 0      kind << 8 | pin; bit 7 of the pin: it is high, or above the bound
     word 1      bound, in counts of the converter
     words 2, 3  its outputs, a bit each
     words 4, 5  milliseconds: grace, gap, longest time on, or for how long a cause has to be there
     words 6, 7  milliseconds: for how long what is needed has to last; rest; of analogue ones counts of slack */
#include "board.h"

enum { NEEDS = 1, EXCLUDES, LONGEST, TRIP, NEEDS_ANALOGUE, TRIP_ANALOGUE, KINDS };
enum { SO = 1, MET = 2, TIRED = 4 };
#define NOBODY 0xFF
#define LONG 0x40000000UL /* milliseconds: 12 days; no time of a rule is longer */

uint16_t rules_table[RULES][RULE_WORDS], rules_generation, rules_latched;
static struct state {
    uint32_t since; /* the pin is as it is; somebody went off; it went on, or off after its longest time */
    uint32_t ceased; /* what is needed */
    uint8_t flags, last;
} states[RULES];

#define KIND(rule) (rules_table[rule][0] >> 8)
#define PIN(rule) (rules_table[rule][0] & 31)
#define HIGH(rule) (rules_table[rule][0] >> 7 & 1)
static uint32_t two(uint8_t rule, uint8_t at) { return (uint32_t)rules_table[rule][at] << 16 | rules_table[rule][at + 1]; }
#define MASK(rule) two(rule, 2)
#define A(rule) two(rule, 4)
#define B(rule) two(rule, 6)

uint16_t rules_sum(void) {
    uint16_t sum = 0xFFFF;
    for (uint8_t i = 0; i < RULES; i++)
        for (uint8_t j = 0; j < RULE_WORDS; j++) {
            sum = frame_sum(sum, rules_table[i][j] >> 8);
            sum = frame_sum(sum, (uint8_t)rules_table[i][j]);
        }
    return sum;
}

static uint8_t fits(uint8_t i) {
    uint8_t kind = KIND(i), pin = PIN(i);
    if (!kind) return 1;
    if (kind >= KINDS || !MASK(i) || A(i) > LONG || (kind != NEEDS_ANALOGUE && kind != TRIP_ANALOGUE && B(i) > LONG)) return 0;
    for (uint8_t each = 0; each < 32; each++)
        if (MASK(i) >> each & 1 && (each >= PINS || (pins_mode(each) != MODE_OUTPUT && pins_mode(each) != MODE_PWM))) return 0;
    if (kind == LONGEST && (!A(i) || MASK(i) & (MASK(i) - 1))) return 0; /* one output a rule: each has its own time */
    if (kind == EXCLUDES || kind == LONGEST) return 1;
    if (pin >= PINS || MASK(i) >> pin & 1) return 0;
    if (kind == NEEDS_ANALOGUE || kind == TRIP_ANALOGUE) return pin < ANALOGUE && pins_mode(pin) == MODE_ANALOGUE;
    return pins_mode(pin) == MODE_OFF || pins_mode(pin) == MODE_PULL_UP || pins_mode(pin) == MODE_OUTPUT;
}

static uint8_t whole(uint16_t sum) {
    if (rules_sum() != sum) return 0;
    for (uint8_t i = 0; i < RULES; i++)
        if (!fits(i)) return 0;
    return 1;
}

uint8_t rules_may_set(uint16_t generation, uint16_t sum) {
    if (pins_on) return HELD;
    return !generation || whole(sum) ? 0 : ILLEGAL_VALUE;
}

void rules_set(uint16_t generation) {
    /* all times begin now, and in full: a gap and a rest too, for nobody knows what was before */
    for (uint8_t i = 0; i < RULES; i++) {
        states[i].since = states[i].ceased = hw_millis();
        states[i].flags = TIRED;
        states[i].last = NOBODY;
        if (!generation)
            for (uint8_t j = 0; j < RULE_WORDS; j++) rules_table[i][j] = 0;
    }
    rules_latched = 0;
    rules_generation = generation;
}

void rules_begin(uint16_t generation, uint16_t sum, uint16_t latched) {
    rules_set(generation && generation != 0xFFFF && whole(sum) ? generation : 0);
    rules_latched = rules_generation ? latched : 0;
}

uint8_t rules_name(uint8_t pin) {
    for (uint8_t i = 0; rules_generation && i < RULES; i++)
        if (KIND(i) && (MASK(i) >> pin & 1 || (KIND(i) != EXCLUDES && KIND(i) != LONGEST && PIN(i) == pin))) return 1;
    return 0;
}

/* its cause is there, or what it needs */
static uint8_t so(uint8_t i, uint32_t levels) {
    if (KIND(i) < NEEDS_ANALOGUE) return (levels >> PIN(i) & 1) == HIGH(i);
    uint16_t bound = rules_table[i][1], slack = states[i].flags & SO ? rules_table[i][7] : 0, value = hw_analogue(PIN(i));
    return HIGH(i) ? value + slack > bound : value < bound + slack;
}

static uint8_t holds(uint8_t i, uint8_t pin, uint32_t others, uint32_t now) {
    struct state *s = states + i;
    switch (KIND(i)) {
    case NEEDS:
    case NEEDS_ANALOGUE: return !(s->flags & MET);
    case EXCLUDES: return (MASK(i) & others & ~((uint32_t)1 << pin)) != 0 || (s->last != pin && now - s->since < A(i));
    case LONGEST: return s->flags & TIRED && now - s->since < B(i);
    default: return rules_latched >> i & 1;
    }
}

uint8_t rules_hold(uint8_t pin, uint32_t others) {
    uint32_t now = hw_millis();
    for (uint8_t i = 0; rules_generation && i < RULES; i++)
        if (KIND(i) && MASK(i) >> pin & 1 && holds(i, pin, others, now)) return i + 1;
    return 0;
}

void rules_moved(uint8_t pin, uint8_t on) {
    for (uint8_t i = 0; i < RULES; i++) {
        struct state *s = states + i;
        if (!(MASK(i) >> pin & 1)) continue;
        if (KIND(i) == EXCLUDES) {
            s->last = pin;
            if (!on) s->since = hw_millis();
        } else if (KIND(i) == LONGEST) {
            uint32_t now = hw_millis();
            if (on) s->flags &= (uint8_t)~TIRED;
            else if (now - s->since >= A(i)) s->flags |= TIRED;
            s->since = now;
        }
    }
}

static void drop(uint8_t i, uint32_t which) {
    for (uint8_t pin = 0; which && pin < PINS; pin++, which >>= 1)
        if (which & 1) pins_to_safe(pin, i);
}

void rules_tick(uint32_t now, uint32_t levels) {
    for (uint8_t i = 0; rules_generation && i < RULES; i++) {
        uint8_t kind = KIND(i);
        struct state *s = states + i;
        if (!kind) continue;
        if (now - s->since > 2 * LONG) s->since = now - LONG; /* or it would seem to be new when the clock wraps */
        if (now - s->ceased > 2 * LONG) s->ceased = now - LONG;
        uint32_t on = MASK(i) & pins_on;
        if (kind == EXCLUDES) {
            if (on & (on - 1)) drop(i, on); /* which no write can bring about */
            continue;
        }
        if (kind == LONGEST) {
            if (!on || now - s->since < A(i)) continue;
            s->flags |= TIRED;
            drop(i, on);
            continue;
        }
        uint8_t is = so(i, levels);
        if (is != (s->flags & SO)) s->flags ^= SO, s->since = now;
        if (kind == TRIP || kind == TRIP_ANALOGUE) {
            if (is && now - s->since >= A(i)) rules_latched |= 1 << i;
            if (rules_latched >> i & 1) drop(i, on);
            continue;
        }
        uint8_t met = is && (kind == NEEDS_ANALOGUE || now - s->since >= B(i));
        if (s->flags & MET && !met) s->ceased = now;
        s->flags = (uint8_t)((s->flags & ~MET) | (met ? MET : 0));
        if (!met && on && now - s->ceased >= A(i)) drop(i, on);
    }
}

uint16_t rules_unmet(void) {
    uint16_t found = 0;
    uint32_t now = hw_millis();
    for (uint8_t i = 0; rules_generation && i < RULES; i++)
        if (KIND(i) && KIND(i) != EXCLUDES && holds(i, 0, 0, now)) found |= 1 << i;
    return found;
}

uint8_t rules_may_reset(uint16_t rule) {
    if (rule >= RULES || (KIND(rule) != TRIP && KIND(rule) != TRIP_ANALOGUE)) return ILLEGAL_VALUE;
    return states[rule].flags & SO ? HELD : 0; /* its cause is still there */
}

void rules_reset(uint16_t rule) { rules_latched &= (uint16_t)~(1 << rule); }
