/* A pseudo-terminal in place of a serial line. Prints 'port PATH'. Arguments: [UNIT]. */
#include "board.h"
#include "line.h"
#include <fcntl.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <termios.h>
#include <time.h>
#include <unistd.h>

#define SILENCE_US 1750
static int line = -1, length;
static uint8_t came[256];
static uint64_t heard;

static uint64_t micros(void) {
    struct timespec now;
    clock_gettime(CLOCK_MONOTONIC, &now);
    return (uint64_t)now.tv_sec * 1000000 + (uint64_t)now.tv_nsec / 1000;
}

uint8_t line_begin(int argc, char **argv, const char *inherited) {
    struct termios raw;
    if (argc > 1 && !inherited) unit = (uint8_t)atoi(argv[1]);
    line = inherited ? atoi(inherited) : posix_openpt(O_RDWR | O_NOCTTY);
    if (inherited) return 1;
    if (line < 0 || grantpt(line) || unlockpt(line)) return perror("pseudo-terminal"), 0;
    int far = open(ptsname(line), O_RDWR | O_NOCTTY); /* kept open: no hang-up when a host comes and goes */
    tcgetattr(far, &raw);
    cfmakeraw(&raw);
    tcsetattr(far, TCSANOW, &raw);
    printf("port %s\n", ptsname(line));
    fflush(stdout);
    return 1;
}

int line_file(void) { return line; }

int line_take(uint8_t *frame, int ready) {
    if (ready & POLLIN) {
        int got = read(line, came + length, sizeof came - 1 - length);
        if (got > 0) length += got, heard = micros();
        if (length >= 255) length = 0, frames_bad++;
    }
    if (!length || micros() - heard < SILENCE_US) return 0; /* the frame may go on: only silence ends it */
    int whole = length;
    for (int i = 0; i < whole; i++) frame[i] = came[i];
    length = 0;
    return whole;
}

void line_send(const uint8_t *frame, uint8_t size) {
    if (write(line, frame, size) < 0) perror("line");
}

void line_reset(char *text, size_t size) { snprintf(text, size, "%d", line); }
