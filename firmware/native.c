/* Hardware part: no hardware. The board as a program, for demos and tests, and as a model for a board with a radio; what it is
   spoken to by is a file of its own (line_pty.c, line_broker.c).
   Prints how it is reached, then 'pin N VALUE' (0 to 65535) whenever an output moves, 'tone N HERTZ' when one begins or ends.
   Takes on standard input: 'level N 0|1', 'analogue N COUNTS', 'mute 0|1' (which it says back), 'reset'; ends with it. */
#include "board.h"
#include "line.h"
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <time.h>
#include <unistd.h>

static uint8_t modes[PINS], driven[PINS];
/* what is outside the chip, or kept without power: it outlives a reset, which is this program begun anew */
static struct { uint8_t outside[PINS], kept[440], muted, cause; uint16_t counts[ANALOGUE]; } *world;
static int memory;
static char **own;

const char hw_name[] = "native";
uint8_t hw_chip(void) { return 2; }
uint8_t hw_reset_cause(void) { return world->cause; } /* as the chip's: 1 power, 4 brown-out, 8 watchdog */
uint8_t hw_timer(uint8_t pin) { return pin == 28 || pin == 29 ? 0 : pin == 14 || pin == 15 ? 1 : NO_TIMER; }
uint8_t hw_can(uint8_t pin) {
    if (pin == 8 || pin == 24 || pin == 25 || pin == 27) return 0;
    return CAN_OUTPUT | CAN_PULL_UP | (pin < ANALOGUE ? CAN_ANALOGUE : 0) | (hw_timer(pin) != NO_TIMER ? CAN_PWM : 0) |
           (pin == 31 ? CAN_TONE : 0);
}

static void tell(uint8_t pin, const char *what, uint32_t value) {
    static uint32_t last[PINS];
    static uint8_t told[PINS];
    if (told[pin] && last[pin] == value) return;
    told[pin] = 1, last[pin] = value;
    printf("%s %d %lu\n", what, pin, (unsigned long)value);
    fflush(stdout);
}

void hw_mode(uint8_t pin, uint8_t mode) { modes[pin] = mode; }
void hw_level(uint8_t pin, uint8_t high) { driven[pin] = high, tell(pin, "pin", high ? 65535 : 0); }
void hw_duty(uint8_t pin, uint16_t duty) { driven[pin] = duty != 0, tell(pin, "pin", duty); }
uint32_t hw_frequency(uint8_t timer, uint32_t hundredths) { return timer < TIMERS ? hundredths : 0; }
void hw_tone(uint8_t pin, uint16_t hertz) { tell(pin, "tone", hertz); }
uint16_t hw_analogue(uint8_t channel) { return world->counts[channel]; }
uint8_t hw_keep(uint16_t at) { return world->kept[at]; }
void hw_store(uint16_t at, uint8_t byte) { world->kept[at] = byte; }
uint8_t hw_may_store(void) { return 1; }
uint8_t hw_speed(uint16_t hundreds) { return hundreds >= 12 && hundreds <= 1152; }
uint16_t hw_supply(void) { return 5000; }
void hw_hold(uint8_t held) { (void)held; }
static uint8_t restart;
void hw_restart(void) { restart = 1; }
void hw_life(uint8_t lit) { (void)lit; }

uint32_t hw_levels(void) {
    uint32_t all = 0;
    for (uint8_t i = 0; i < PINS; i++) {
        uint8_t out = modes[i] == MODE_OUTPUT || modes[i] == MODE_PWM;
        uint8_t pulled = modes[i] == MODE_PULL_UP && world->outside[i] == 2;
        all |= (uint32_t)(out ? driven[i] : world->outside[i] == 1 || pulled) << i;
    }
    return all;
}

/* A chip never stands still, and a program does, on a busy machine: time in which it was not run does not count. */
#define LONGEST_TURN_US 20000
uint32_t hw_millis(void) {
    static uint64_t last, lived;
    struct timespec now;
    clock_gettime(CLOCK_MONOTONIC, &now);
    uint64_t us = (uint64_t)now.tv_sec * 1000000 + (uint64_t)now.tv_nsec / 1000;
    if (last) lived += us - last > LONGEST_TURN_US ? LONGEST_TURN_US : us - last;
    last = us;
    return (uint32_t)(lived / 1000);
}

static void reset(uint8_t why) {
    char fds[2][12];
    line_reset(fds[0], sizeof fds[0]);
    world->cause = why;
    for (uint8_t i = 0; i < PINS; i++)
        if (modes[i]) hw_mode(i, MODE_OFF), hw_level(i, 0);
    snprintf(fds[1], sizeof fds[1], "%d", memory);
    setenv("BOARD_LINE", fds[0], 1), setenv("BOARD_MEMORY", fds[1], 1);
    execv("/proc/self/exe", own);
    perror("reset"), exit(1);
}

static void order(const char *text) {
    int pin, value;
    if (sscanf(text, "level %d %d", &pin, &value) == 2 && pin >= 0 && pin < PINS) world->outside[pin] = value != 0;
    else if (sscanf(text, "analogue %d %d", &pin, &value) == 2 && pin >= 0 && pin < ANALOGUE) world->counts[pin] = (uint16_t)value;
    else if (sscanf(text, "mute %d", &value) == 1) world->muted = (uint8_t)value, printf("mute %d\n", value), fflush(stdout);
    else if (!strncmp(text, "reset", 5)) reset(4);
}

int main(int argc, char **argv) {
    const char *kept = getenv("BOARD_MEMORY");
    own = argv;
    memory = kept ? atoi(kept) : memfd_create("world", 0);
    if (memory < 0 || ftruncate(memory, sizeof *world)) return perror("board"), 1;
    world = mmap(0, sizeof *world, PROT_READ | PROT_WRITE, MAP_SHARED, memory, 0);
    if (world == MAP_FAILED) return perror("board"), 1;
    if (!kept) {
        memset(world->kept, 0xFF, sizeof world->kept);
        memset(world->outside, 2, sizeof world->outside);
        world->cause = 1;
    }
    pins_begin(); /* before anybody can be heard */
    if (!line_begin(argc, argv, getenv("BOARD_LINE"))) return 1;
    uint8_t frame[256], answer[256];
    char text[64];
    size_t typed = 0;
    for (;;) {
        struct pollfd files[] = {{line_file(), POLLIN, 0}, {0, POLLIN, 0}};
        struct timespec pause = {0, 1000000};
        ppoll(files, 2, &pause, 0);
        if (files[1].revents) {
            char byte;
            if (read(0, &byte, 1) <= 0) return 0;
            if (byte == '\n') text[typed] = 0, order(text), typed = 0;
            else if (typed < sizeof text - 1) text[typed++] = byte;
        }
        int length = line_take(frame, files[0].revents);
        if (length > 0) {
            uint8_t out = frame_take(frame, (uint8_t)length, answer);
            if (out && !world->muted) line_send(answer, out);
            if (restart) reset(8);
        }
        pins_tick();
        pins_turn();
    }
}
