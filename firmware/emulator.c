/* Runs the firmware's real image on an emulated chip, in real time, its line on a pseudo-terminal and its pins watched.
   A test program of its own, kept apart from the product: libsimavr is under the GPL, and so is this file.

   emulator IMAGE.elf [CHIP]   prints 'port PATH'; then, on standard input:
     level N 0|1        put a level on a pin            analogue N MILLIVOLTS
     pins               'pins 0101...', pin 0 first     reset, freeze 0|1
     measure N MS       'measure N HERTZ SHARE': frequency and high share of a pin over the next MS milliseconds
     moves N            'moves N COUNT LAST': changes of a pin so far, and when the last was (ms)
     pair A B           from now on: how long both were high at once, the shortest time between one and the other, the longest that
                        either was; 'pair MS MS MS'
     train N COUNT US   so many pulses on a pin, high and low for so many microseconds each; 'train N' when they are over
     turn A B N US      N changes of the two lines of an encoder (fewer than 0: the other way round), one each so many microseconds, the first time from
                        both low; 'turn A' when they are over
     stack              'stack BYTES': the most of it that was in use so far
     lag                'lag MS MS': by how much it has fallen behind the clock since, and the most of it at once
     first N            'first N MS': when one of the pair moved first since then */
#include <simavr/avr_adc.h>
#include <simavr/avr_extint.h>
#include <simavr/avr_ioport.h>
#include <simavr/avr_uart.h>
#include <simavr/sim_avr.h>
#include <simavr/sim_elf.h>
#include <simavr/sim_io.h>
#include <fcntl.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <termios.h>
#include <time.h>
#include <unistd.h>

#define PINS 32
static avr_t *avr;
static const char *ports = "ABCD"; /* pins 0 to 7 are the first of them, and so on */
static int line;
static uint64_t character;
static struct { uint8_t byte; uint64_t due; } out[4096];
static unsigned head, tail;
static uint64_t out_free, in_free;
static uint8_t in[4096];
static unsigned in_head, in_tail;

static struct { uint64_t first, last, high, until_last, rose, moved, moves; unsigned rises; uint8_t level; } seen[PINS];
static struct { int pin; uint64_t due; } asked = {-1, 0};
static avr_irq_t *pin_irq[PINS], *uart_in;
static struct { int a, b, last; uint64_t first, both, both_since, fell, gap, rose[2], longest; } pair = {.a = -1};

static void paired(int i, int level) {
    int other = i == pair.a ? pair.b : pair.a, which = i != pair.a;
    if (i != pair.a && i != pair.b) return;
    if (!pair.first) pair.first = avr->cycle;
    if (level) {
        pair.rose[which] = avr->cycle;
        if (seen[other].level) pair.both_since = avr->cycle;
        else if (pair.last == other && avr->cycle - pair.fell < pair.gap) pair.gap = avr->cycle - pair.fell;
        return;
    }
    if (seen[other].level && pair.both_since) pair.both += avr->cycle - pair.both_since;
    if (avr->cycle - pair.rose[which] > pair.longest) pair.longest = avr->cycle - pair.rose[which];
    pair.last = i, pair.fell = avr->cycle, pair.both_since = 0;
}

#define MCUCR 0x55 /* its bit 7: the debug port is off */
static void moved(avr_irq_t *irq, uint32_t value, void *param) {
    long i = (long)param;
    uint8_t level = value & 1;
    (void)irq;
    if (i >= 18 && i <= 21 && !(avr->data[MCUCR] & 0x80)) return; /* the debug port has them */
    if (level == seen[i].level) return;
    seen[i].level = level;
    paired((int)i, level);
    seen[i].moves++;
    seen[i].moved = avr->cycle;
    if (level) {
        if (!seen[i].rises++) seen[i].first = avr->cycle, seen[i].high = 0;
        seen[i].last = seen[i].rose = avr->cycle;
        seen[i].until_last = seen[i].high;
    } else if (seen[i].rises) seen[i].high += avr->cycle - seen[i].rose;
}

static void sent(avr_irq_t *irq, uint32_t value, void *param) {
    (void)irq, (void)param;
    uint64_t start = avr->cycle > out_free ? avr->cycle : out_free;
    out_free = start + character;
    out[head % 4096].byte = (uint8_t)value;
    out[head++ % 4096].due = out_free;
}

static void no_sleep(avr_t *chip, avr_cycle_count_t cycles) { (void)chip, (void)cycles; }

/* The emulated timers take a new compare value or period only when their clock is set: set it again. */
static void refresh(void) {
    static const uint16_t control[] = {0x81, 0x91};
    static uint8_t last[2][6];
    static uint64_t since[2];
    for (int t = 0; t < 2; t++) {
        if (memcmp(last[t], avr->data + control[t] + 5, 6)) {
            memcpy(last[t], avr->data + control[t] + 5, 6);
            since[t] = avr->cycle;
        } else if (since[t] && avr->cycle - since[t] > 200) {
            uint16_t at = control[t];
            uint8_t was = avr->data[at];
            avr_io_addr_t io = AVR_DATA_TO_IO(at);
            if (avr->io[io].w.c) avr->io[io].w.c(avr, at, 0, avr->io[io].w.param);
            if (avr->io[io].w.c) avr->io[io].w.c(avr, at, was, avr->io[io].w.param);
            since[t] = 0;
        }
    }
}

static uint8_t mask[4], value[4]; /* what is put on pins from outside */
static void put_level(int pin, int level) {
    avr_ioport_external_t outside = {.name = (uint8_t)ports[pin / 8], .mask = 0, .value = 0};
    mask[pin / 8] |= 1 << pin % 8;
    if (level) value[pin / 8] |= 1 << pin % 8;
    else value[pin / 8] &= ~(1 << pin % 8);
    outside.mask = mask[pin / 8], outside.value = value[pin / 8];
    avr_ioctl(avr, AVR_IOCTL_IOPORT_SET_EXTERNAL(outside.name), &outside);
    avr_raise_irq(pin_irq[pin], level);
}

#define UCSR0B 0xC1
#define UBRR0 0xC4
#define MCUSR 0x54 /* which the emulator leaves at 0: 4 is a brown-out */
/* what a reset brings back: interrupts for as long as a pin is low cost most of a core, and the line its own printing */
static void ease(void) {
    uint32_t flags = 0;
    for (int i = 0; i < 3; i++) avr_extint_set_strict_lvl_trig(avr, i, 0);
    avr_ioctl(avr, AVR_IOCTL_UART_SET_FLAGS('0'), &flags);
    for (int i = 0; i < PINS; i++)
        if (mask[i / 8] >> i % 8 & 1) { /* the same level again would not be noticed */
            int level = value[i / 8] >> i % 8 & 1;
            put_level(i, !level), put_level(i, level);
        }
}

static int eased;
static void (*chip_reset)(avr_t *);
static void came_up(avr_t *chip) { /* also by its own watchdog */
    if (chip_reset) chip_reset(chip);
    eased = 0;
}

static struct { int pin, level; unsigned left; uint64_t every, due; } train = {.pin = -1};
static struct { int pin[2], of, left; unsigned place; uint64_t every, due; } turn;
static uint16_t deepest = 0xFFFF; /* that the stack pointer was at */
static uint64_t lagged, worst; /* ns by which it fell behind the clock, which is not made up for */
static int frozen;
static void order(char *text) {
    int pin, value;
    if (sscanf(text, "level %d %d", &pin, &value) == 2) put_level(pin & 31, value != 0);
    else if (sscanf(text, "analogue %d %d", &pin, &value) == 2)
        avr_raise_irq(avr_io_getirq(avr, AVR_IOCTL_ADC_GETIRQ, ADC_IRQ_ADC0 + (pin & 7)), value);
    else if (sscanf(text, "freeze %d", &frozen) == 1) return;
    else if (!strncmp(text, "reset", 5)) avr_reset(avr), avr->data[MCUSR] = 4;
    else if (sscanf(text, "moves %d", &pin) == 1)
        printf("moves %d %llu %.3f\n", pin, (unsigned long long)seen[pin & 31].moves, seen[pin & 31].moved / (avr->frequency / 1e3));
    else if (sscanf(text, "train %d %u %d", &pin, &train.left, &value) == 3)
        train.pin = pin & 31, train.left *= 2, train.every = (uint64_t)value * (avr->frequency / 1000000), train.due = avr->cycle, train.level = 0;
    else if (sscanf(text, "turn %d %d %d %d", &turn.pin[0], &turn.pin[1], &turn.left, &value) == 4)
        turn.place = turn.of == turn.pin[0] ? turn.place : 0, turn.of = turn.pin[0], turn.every = (uint64_t)value * (avr->frequency / 1000000), turn.due = avr->cycle;
    else if (!strncmp(text, "stack", 5)) printf("stack %d\n", avr->ramend - deepest);
    else if (!strncmp(text, "lag", 3)) printf("lag %.3f %.3f\n", lagged / 1e6, worst / 1e6), lagged = worst = 0;
    else if (sscanf(text, "first %d", &pin) == 1)
        printf("first %d %.3f\n", pin, pair.first / (avr->frequency / 1e3));
    else if (sscanf(text, "pair %d %d", &pin, &value) == 2) {
        uint64_t ms = avr->frequency / 1000;
        if (pin == pair.a && value == pair.b)
            printf("pair %.3f %.3f %.3f\n", (double)pair.both / ms, (double)pair.gap / ms, (double)pair.longest / ms);
        else memset(&pair, 0, sizeof pair), pair.a = pin, pair.b = value, pair.last = -1, pair.gap = ~0ull, pair.rose[0] = pair.rose[1] = avr->cycle, printf("pair 0 0 0\n");
    } else if (sscanf(text, "measure %d %d", &pin, &value) == 2) {
        seen[pin & 31].rises = 0;
        asked.pin = pin & 31, asked.due = avr->cycle + (uint64_t)value * (avr->frequency / 1000);
    } else if (!strncmp(text, "pins", 4)) {
        printf("pins ");
        for (int i = 0; i < PINS; i++) putchar('0' + seen[i].level);
        putchar('\n');
    }
    fflush(stdout);
}

static void answer(void) {
    int i = asked.pin;
    asked.pin = -1;
    if (seen[i].rises < 2) printf("measure %d 0 %d\n", i, seen[i].level);
    else {
        double span = (double)(seen[i].last - seen[i].first);
        printf("measure %d %.3f %.6f\n", i, (double)avr->frequency * (seen[i].rises - 1) / span, (double)seen[i].until_last / span);
    }
    fflush(stdout);
}

static uint64_t now_ns(void) {
    struct timespec now;
    clock_gettime(CLOCK_MONOTONIC, &now);
    return (uint64_t)now.tv_sec * 1000000000u + (uint64_t)now.tv_nsec;
}

int main(int argc, char **argv) {
    elf_firmware_t image = {0};
    struct termios raw;
    if (argc < 2 || elf_read_firmware(argv[1], &image)) return fprintf(stderr, "no image\n"), 1;
    avr = avr_make_mcu_by_name(argc > 2 ? argv[2] : "atmega1284p");
    if (argc > 2 && !strcmp(argv[2], "atmega324p")) ports = "ADCB";
    avr_init(avr);
    chip_reset = avr->reset, avr->reset = came_up;
    avr_load_firmware(avr, &image);
    avr->frequency = 16000000;
    avr->vcc = avr->avcc = avr->aref = 5000;
    avr->log = LOG_NONE;
    avr->sleep = no_sleep;
    character = avr->frequency * 10 / 115200;
    line = posix_openpt(O_RDWR | O_NOCTTY | O_NONBLOCK);
    if (line < 0 || grantpt(line) || unlockpt(line)) return 1;
    int far = open(ptsname(line), O_RDWR | O_NOCTTY);
    tcgetattr(far, &raw);
    cfmakeraw(&raw);
    tcsetattr(far, TCSANOW, &raw);
    avr_irq_register_notify(avr_io_getirq(avr, AVR_IOCTL_UART_GETIRQ('0'), UART_IRQ_OUTPUT), sent, 0);
    uart_in = avr_io_getirq(avr, AVR_IOCTL_UART_GETIRQ('0'), UART_IRQ_INPUT);
    for (long i = 0; i < PINS; i++) {
        pin_irq[i] = avr_io_getirq(avr, AVR_IOCTL_IOPORT_GETIRQ(ports[i / 8]), i % 8);
        avr_irq_register_notify(pin_irq[i], moved, (void *)i);
    }
    fcntl(0, F_SETFL, O_NONBLOCK);
    printf("port %s\n", ptsname(line));
    fflush(stdout);
    char text[128];
    size_t typed = 0;
    uint64_t began = now_ns(), start = avr->cycle;
    for (;;) {
        uint64_t until = avr->cycle + 1600;
        while (!frozen && avr->cycle < until) {
            int state = avr_run(avr);
            uint16_t stack = avr->data[0x5D] | avr->data[0x5E] << 8;
            if (stack > 256 && stack < deepest) deepest = stack;
            if (state == cpu_Done || state == cpu_Crashed) return fprintf(stderr, "the chip stopped: %d\n", state), 2;
        }
        if (frozen) avr->cycle += 1600;
        if (!eased) eased = 1, ease();
        refresh();
        if (avr->data[UCSR0B] & 8) character = 80 * (avr->data[UBRR0] + 256 * avr->data[UBRR0 + 1] + 1); /* at double speed */
        while (tail != head && out[tail % 4096].due <= avr->cycle)
            if (write(line, &out[tail++ % 4096].byte, 1) < 0) break;
        if (in_head == in_tail) {
            int got = read(line, in, sizeof in);
            in_tail = 0, in_head = got > 0 ? (unsigned)got : 0;
        }
        if (in_tail != in_head && in_free <= avr->cycle) {
            avr_raise_irq(uart_in, in[in_tail++]);
            in_free = (avr->cycle - in_free > character ? avr->cycle : in_free) + character;
        }
        while (train.left && train.due <= avr->cycle) {
            put_level(train.pin, train.level = !train.level), train.due += train.every;
            if (!--train.left) printf("train %d\n", train.pin), fflush(stdout);
        }
        while (turn.left && turn.due <= avr->cycle) {
            turn.place += turn.left > 0 ? 1 : 3, turn.left += turn.left > 0 ? -1 : 1, turn.due += turn.every;
            put_level(turn.pin[0], turn.place % 4 == 1 || turn.place % 4 == 2), put_level(turn.pin[1], turn.place % 4 >= 2);
            if (!turn.left) printf("turn %d\n", turn.pin[0]), fflush(stdout);
        }
        if (asked.pin >= 0 && asked.due <= avr->cycle) answer();
        static unsigned slices;
        for (char byte; slices++ % 8 == 0 || typed;) {
            int got = read(0, &byte, 1);
            if (got == 0) return 0;
            if (got < 0) break;
            if (byte == '\n') text[typed] = 0, order(text), typed = 0;
            else if (typed < sizeof text - 1) text[typed++] = byte;
        }
        uint64_t simulated = (avr->cycle - start) * 1000 / (avr->frequency / 1000000), real = now_ns() - began;
        /* a chip never stands still, and a program does, on a busy machine: what was missed is not made up for */
        if (real > simulated + 20000000) {
            uint64_t missed = real - simulated;
            began += missed, lagged += missed;
            if (missed > worst) worst = missed;
        }
        if (simulated > real + 300000) {
            struct timespec pause = {0, (long)(simulated - real)};
            struct pollfd files[] = {{line, POLLIN, 0}, {0, POLLIN, 0}};
            if (in_tail == in_head) ppoll(files, 2, &pause, 0);
            else nanosleep(&pause, 0);
        }
    }
}
