/* Random hosts against the portable part: wrong ones, broken ones, none at all, while time goes by, levels change and the
   power fails. Whatever they say, no rule that is in force is ever broken at a pin: what the pins may be is worked out here
   once more, from the rules and what the pins were, and shares no code with rules.c.

   hosts BOARD.so CYCLES [SEED]   prints what it did, or what went wrong and the seed with which it does so again */
#include "board.h"
#include <dlfcn.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { NEEDS = 1, EXCLUDES, LONGEST, TRIP, NEEDS_ANALOGUE, TRIP_ANALOGUE };
struct rule { uint8_t kind, pin, high; uint16_t bound, slack; uint32_t mask, a, b; };

/* --- the world: pins as they are driven, levels from outside, what is kept without power ----------------- */
static uint32_t now, started;
static uint16_t duty[PINS], counts[ANALOGUE], safe[PINS];
static uint8_t outside[PINS], kept[440], modes[PINS];

const char hw_name[] = "none";
uint8_t hw_chip(void) { return 2; }
uint8_t hw_can(uint8_t pin) { return pin == 8 ? 0 : CAN_OUTPUT | CAN_PULL_UP | CAN_PWM | (pin < ANALOGUE ? CAN_ANALOGUE : 0) | (pin == 31 ? CAN_TONE : 0); }
uint8_t hw_timer(uint8_t pin) { return pin % 2; }
void hw_mode(uint8_t pin, uint8_t mode) { modes[pin] = mode; }
void hw_level(uint8_t pin, uint8_t high) { duty[pin] = high ? 0xFFFF : 0; }
void hw_duty(uint8_t pin, uint16_t value) { duty[pin] = value; }
uint32_t hw_frequency(uint8_t timer, uint32_t hundredths) { return timer < TIMERS ? hundredths : 0; }
void hw_tone(uint8_t pin, uint16_t hertz) { duty[pin] = hertz; }
uint16_t hw_analogue(uint8_t channel) { return counts[channel]; }
uint16_t hw_supply(void) { return 5000; }
uint32_t hw_millis(void) { return now - started; }
uint8_t hw_keep(uint16_t at) { return kept[at]; }
void hw_store(uint16_t at, uint8_t byte) { kept[at] = byte; }
uint8_t hw_may_store(void) { return 1; }
void hw_life(uint8_t lit) { (void)lit; }
uint8_t hw_reset_cause(void) { return 1; }
uint8_t hw_speed(uint16_t hundreds) { return hundreds == 96; }
void hw_restart(void) {}
void hw_hold(uint8_t held) { (void)held; }
static uint8_t is_output(uint8_t i) { return modes[i] == MODE_OUTPUT || modes[i] == MODE_PWM || modes[i] == MODE_TONE; }
uint32_t hw_levels(void) {
    uint32_t all = 0;
    for (uint8_t i = 0; i < PINS; i++) all |= (uint32_t)(is_output(i) ? duty[i] != 0 : outside[i]) << i;
    return all;
}

/* --- the board: begun anew, it has forgotten everything but what is kept ---------------------------------- */
static void *board;
static const char *path;
static void (*begin)(void), (*tick)(void), (*turn)(void);
static uint8_t (*take)(uint8_t *, uint8_t, uint8_t *);
static uint16_t (*frame_sum_of)(uint16_t, uint8_t);
static uint16_t *in_force;
static uint8_t *its_unit;

static void power(void) {
    if (board) dlclose(board);
    board = dlopen(path, RTLD_NOW | RTLD_LOCAL);
    if (!board) fprintf(stderr, "%s\n", dlerror()), exit(2);
    *(void **)&begin = dlsym(board, "pins_begin"), *(void **)&tick = dlsym(board, "pins_tick");
    *(void **)&turn = dlsym(board, "pins_turn"), *(void **)&take = dlsym(board, "frame_take");
    *(void **)&frame_sum_of = dlsym(board, "frame_sum"), in_force = dlsym(board, "rules_generation");
    its_unit = dlsym(board, "unit");
    memset(duty, 0, sizeof duty), memset(modes, 0, sizeof modes);
    started = now;
    begin();
}

/* --- what hosts say ---------------------------------------------------------------------------------------- */
static uint64_t chance;
static uint32_t any(uint32_t below) {
    chance = chance * 6364136223846793005u + 1442695040888963407u;
    return (uint32_t)(chance >> 33) % below;
}
static uint32_t few(void) { return any(3) ? any(40) : any(400); }

static uint8_t say(uint8_t *frame, uint8_t length) {
    uint8_t answer[256];
    uint16_t sum = 0xFFFF;
    for (uint8_t i = 0; i < length; i++) sum = frame_sum_of(sum, frame[i]);
    frame[length] = (uint8_t)sum, frame[length + 1] = sum >> 8;
    uint8_t out = take(frame, length + 2, answer);
    return out && !(answer[1] & 0x80);
}

static uint8_t write_word(uint16_t at, uint16_t value) {
    uint8_t frame[8] = {*its_unit, 6, at >> 8, (uint8_t)at, value >> 8, (uint8_t)value};
    return say(frame, 6);
}

/* --- what may be -------------------------------------------------------------------------------------------- */
static struct rule rules[RULES];
static uint8_t loaded;
static struct { uint32_t so_since, not_since, off_at, on_at, full_at; uint8_t so, last, latched, was, full; } seen[RULES];
static uint32_t on_mask;
static uint64_t starts[7];

static void wrong(uint8_t i, const char *what) {
    printf("at %u ms: rule %d (kind %d): %s; on %08x\n", now, i, rules[i].kind, what, on_mask);
    exit(1);
}

static uint8_t so(const struct rule *r, uint16_t slack) {
    if (r->kind < NEEDS_ANALOGUE) return (hw_levels() >> r->pin & 1) == r->high;
    return r->high ? counts[r->pin] + slack > r->bound : counts[r->pin] < r->bound + slack;
}

static void forget(void) {
    memset(seen, 0, sizeof seen);
    for (uint8_t i = 0; i < RULES; i++) seen[i].last = 0xFF, seen[i].off_at = seen[i].so_since = seen[i].not_since = seen[i].full_at = now, seen[i].full = 1;
    on_mask = 0;
}

/* look at the pins: each millisecond after the board had its turn, and after each frame */
static void look(uint8_t ticked) {
    uint32_t before = on_mask;
    on_mask = 0;
    for (uint8_t i = 0; i < PINS; i++)
        if (is_output(i) && duty[i] != (modes[i] == MODE_OUTPUT && safe[i] ? 0xFFFF : safe[i])) on_mask |= (uint32_t)1 << i;
    if (!loaded) return;
    for (uint8_t i = 0; i < RULES; i++) {
        const struct rule *r = rules + i;
        uint32_t on = r->mask & on_mask, was = r->mask & before, came = on & ~was;
        if (came) starts[r->kind]++;
        if (r->kind == EXCLUDES) {
            if (on & (on - 1)) wrong(i, "two are on");
            if (came && seen[i].last != (uint8_t)__builtin_ctz(came) && now - seen[i].off_at < r->a) wrong(i, "the gap is too short");
            if (on) seen[i].last = (uint8_t)__builtin_ctz(on);
            if (was & ~on) seen[i].off_at = now;
        } else if (r->kind == LONGEST) {
            if (came && seen[i].full && now - seen[i].full_at < r->b) wrong(i, "it did not rest");
            if (came) seen[i].on_at = now, seen[i].full = 0;
            if (on && now - seen[i].on_at > r->a + 1) wrong(i, "it is on for longer");
            if (was && !on && now - seen[i].on_at >= r->a) seen[i].full = 1, seen[i].full_at = now;
        } else if (r->kind) {
            uint8_t is = so(r, 0), near = so(r, r->slack), trip = r->kind == TRIP || r->kind == TRIP_ANALOGUE;
            if (ticked && is && !seen[i].so) seen[i].so_since = now; /* it looks once a millisecond, and so is what lasts meant */
            if (near) seen[i].not_since = now; /* when it was last so, with all its slack */
            if (ticked) seen[i].so = is;
            if (!trip && on && now - seen[i].not_since > r->a + 1) wrong(i, "what it needs is not so");
            if (!trip && came && !near && now - seen[i].not_since > 1) wrong(i, "it began without what it needs");
            if (r->kind == NEEDS && came && r->b > 2 && is && now - seen[i].so_since + 1 < r->b) wrong(i, "what it needs had not lasted");
            if (trip && on && seen[i].latched) wrong(i, "it has tripped");
            if (trip && ticked && is && now - seen[i].so_since > r->a + 1) {
                if (on) wrong(i, "its cause is there");
                seen[i].latched = 1;
            }
        }
    }
}

static void pass(uint32_t ms) {
    while (ms--) {
        now++;
        tick();
        turn();
        look(1);
    }
}

static uint16_t half(uint32_t whole, uint8_t low) { return low ? (uint16_t)whole : whole >> 16; }

/* a host that knows what it does: pins 8 + n are outputs, 0 to 7 inputs, some of them analogue */
static void load(uint16_t generation) {
    loaded = 0;
    for (uint8_t i = 0; i < PINS; i++) write_word(416 + i, 0);
    if (!write_word(1, 1) || !write_word(9, 0)) wrong(0, "rules cannot be taken away while nothing is on");
    for (uint8_t i = 0; i < PINS; i++) {
        if (!hw_can(i)) continue;
        uint8_t mode = i < 4 ? MODE_ANALOGUE : i < 8 ? MODE_PULL_UP : any(4) ? MODE_OUTPUT : MODE_PWM;
        uint16_t value = i < 8 || any(4) ? 0 : mode == MODE_OUTPUT ? 1 : 0xFFFF;
        if (!write_word(32 + i, 0) || !write_word(96 + i, value) || !write_word(32 + i, mode)) wrong(0, "modes cannot be set");
        safe[i] = value;
    }
    memset(rules, 0, sizeof rules);
    uint16_t sum = 0xFFFF;
    for (uint8_t i = 0; i < RULES; i++) {
        struct rule *r = rules + i;
        r->kind = any(7);
        r->mask = (any(0x10000) & any(0x10000) & any(0x10000)) << 9 | (uint32_t)1 << (9 + any(16));
        if (r->kind == LONGEST) r->mask &= -r->mask;
        r->high = any(2), r->a = few() + (r->kind == LONGEST), r->b = few();
        r->pin = r->kind >= NEEDS_ANALOGUE ? any(4) : 4 + any(4);
        if (!any(4) && r->kind == NEEDS && modes[30] == MODE_OUTPUT) r->pin = 30; /* an output may be needed too */
        r->bound = any(1024), r->slack = any(3) ? 0 : any(30);
        if (r->kind >= NEEDS_ANALOGUE) r->b = r->slack;
        uint16_t words[] = {r->kind << 8 | r->high << 7 | r->pin, r->bound, half(r->mask, 0), half(r->mask, 1), half(r->a, 0), half(r->a, 1), half(r->b, 0), half(r->b, 1)};
        for (uint8_t j = 0; j < 8; j++) {
            if (!write_word(256 + 8 * i + j, words[j])) wrong(i, "it cannot be told");
            sum = frame_sum_of(frame_sum_of(sum, words[j] >> 8), (uint8_t)words[j]);
        }
    }
    /* what stands there from before is theirs by chance, once in 65536 times */
    if (!write_word(8, (uint16_t)~sum) || write_word(9, generation)) wrong(0, "rules without their sum are in force");
    if (!write_word(8, sum) || !write_word(9, generation)) wrong(0, "rules cannot be put in force");
    forget();
    loaded = 1;
}

static void garble(void) {
    static const uint16_t starts[] = {32, 64, 64, 64, 96, 128, 160, 192, 224, 256, 384, 416, 0, 240};
    uint8_t frame[256] = {any(20) ? *its_unit : any(3), 0}, length = 6;
    uint16_t at = any(50) ? starts[any(14)] + any(32) : any(0x10000), value = any(3) ? any(2) : any(2) ? 0xFFFF : any(0x10000);
    if (at == 9) return; /* whoever takes the rules away, or brings others, is no wrong host */
    switch (any(6)) {
    case 0: frame[1] = 5, at = any(PINS), value = any(2) ? 0xFF00 : 0; break;
    case 1: frame[1] = 15, at = any(PINS), value = 1 + any(16), frame[6] = (value + 7) / 8, frame[7] = any(256), frame[8] = any(256), length = 7 + frame[6]; break;
    case 2:
        frame[1] = 16, value = 1 + any(8), frame[6] = 2 * value, length = 7 + frame[6];
        if (at <= 9 && at + value > 9) return;
        for (uint8_t i = 0; i < frame[6]; i++) frame[7 + i] = any(2) ? any(2) : any(256);
        break;
    case 3: frame[1] = 1 + any(4); break;
    default: frame[1] = 6;
    }
    frame[2] = at >> 8, frame[3] = (uint8_t)at, frame[4] = value >> 8, frame[5] = (uint8_t)value;
    if (!any(30)) length = any(20), frame[any(20)] = any(256);
    if (length < 2 || (frame[1] == 6 && frame[2] == 0 && frame[3] == 9)) return;
    if (frame[1] == 16 && !frame[2] && frame[3] <= 9) return;
    if (frame[1] == 6 && frame[2] == 0 && frame[3] == 7) return; /* see reset() */
    say(frame, length);
}

static void reset(uint8_t which) {
    uint8_t there = so(rules + which, 0) && seen[which].so && now - seen[which].so_since > 1;
    if (!write_word(7, which)) return;
    if (there) wrong(which, "it is reset while its cause is there");
    seen[which].latched = 0;
}

int main(int argc, char **argv) {
    if (argc < 3) return 2;
    path = argv[1];
    uint64_t cycles = strtoull(argv[2], 0, 10), lives = 0;
    chance = argc > 3 ? strtoull(argv[3], 0, 10) : 1;
    memset(kept, 0xFF, sizeof kept);
    for (uint8_t i = 0; i < PINS; i++) outside[i] = 1;
    power();
    for (uint64_t i = 0; i < cycles; i++) {
        if (i % 5000 == 0) load((uint16_t)(1 + i / 5000 % 60000)), lives++;
        if (!any(3)) outside[4 + any(4)] = any(2);
        if (!any(3)) counts[any(4)] = any(1024);
        if (any(8)) garble();
        else if (any(2)) reset(any(RULES));
        else write_word(64 + 9 + any(16), any(2));
        look(0);
        pass(any(3) ? any(3) : few());
        if (!any(2000)) { /* the power fails: once all is kept, its rules are there before anybody speaks */
            for (uint16_t j = 0; j < 440; j++) turn();
            uint16_t generation = *in_force;
            uint8_t latched[RULES];
            for (uint8_t j = 0; j < RULES; j++) latched[j] = seen[j].latched;
            now += any(100);
            power();
            forget();
            for (uint8_t j = 0; j < RULES; j++) seen[j].latched = latched[j];
            if (*in_force != generation) wrong(0, "rules did not outlive the power");
        }
    }
    printf("%llu cycles, %llu sets of rules, %u ms of the board's time; no rule was broken. Starts under needs %llu, excludes %llu, longest %llu, trip %llu, analogue needs %llu, analogue trip %llu\n",
           (unsigned long long)cycles, (unsigned long long)lives, now, (unsigned long long)starts[1], (unsigned long long)starts[2], (unsigned long long)starts[3],
           (unsigned long long)starts[4], (unsigned long long)starts[5], (unsigned long long)starts[6]);
    return 0;
}
