/* Modbus RTU: from a frame to an answer. The standards: MODBUS Application Protocol 1.1b3, and over Serial Line 1.02.
   Knows no pins and no hardware. A request is checked whole before anything of it is done. */
#include "board.h"
#include <string.h>

uint8_t unit = 1;
uint16_t frames_good, frames_bad;

static uint16_t word(const uint8_t *at) { return (uint16_t)(at[0] << 8 | at[1]); }

uint16_t frame_sum(uint16_t sum, uint8_t byte) {
    sum ^= byte;
    for (uint8_t bit = 0; bit < 8; bit++) sum = sum & 1 ? sum >> 1 ^ 0xA001 : sum >> 1;
    return sum;
}

static uint16_t crc(const uint8_t *frame, uint8_t length) {
    uint16_t sum = 0xFFFF;
    while (length--) sum = frame_sum(sum, *frame++);
    return sum;
}

/* functions 1 and 2: bits */
static uint8_t read_bits(const uint8_t *frame, uint8_t *answer, uint8_t *length) {
    uint16_t first = word(frame + 2), count = word(frame + 4);
    if (!count || count > 2000) return ILLEGAL_VALUE;
    if (first >= PINS || count > PINS - first) return ILLEGAL_ADDRESS;
    uint32_t levels = hw_levels();
    answer[2] = (uint8_t)((count + 7) / 8);
    memset(answer + 3, 0, answer[2]);
    for (uint8_t i = 0; i < count; i++) {
        uint8_t on = levels >> (first + i) & 1;
        if (frame[1] == 1) pins_coil(first + i, &on);
        if (on) answer[3 + i / 8] |= 1 << i % 8;
    }
    *length = 3 + answer[2];
    return 0;
}

/* functions 3 and 4: registers */
static uint8_t read_words(const uint8_t *frame, uint8_t *answer, uint8_t *length) {
    uint16_t first = word(frame + 2), count = word(frame + 4), value;
    if (!count || count > 125) return ILLEGAL_VALUE;
    for (uint8_t i = 0; i < count; i++) {
        uint8_t wrong = frame[1] == 4 ? pins_input(first + i, &value) : pins_holding(first + i, &value);
        if (wrong || first + i < first) return ILLEGAL_ADDRESS;
        answer[3 + 2 * i] = value >> 8;
        answer[4 + 2 * i] = (uint8_t)value;
    }
    answer[2] = (uint8_t)(2 * count);
    *length = 3 + answer[2];
    return 0;
}

static uint8_t write_coil(const uint8_t *frame, uint8_t *answer, uint8_t *length) {
    uint16_t value = word(frame + 4);
    if (value && value != 0xFF00) return ILLEGAL_VALUE;
    uint8_t wrong = pins_may_switch(word(frame + 2), value != 0);
    if (wrong) return wrong;
    pins_switch(word(frame + 2), value != 0);
    memcpy(answer + 2, frame + 2, 4);
    *length = 6;
    return 0;
}

static uint8_t write_word(const uint8_t *frame, uint8_t *answer, uint8_t *length) {
    uint8_t wrong = pins_may_write(word(frame + 2), word(frame + 4));
    if (wrong) return wrong;
    pins_write(word(frame + 2), word(frame + 4));
    memcpy(answer + 2, frame + 2, 4);
    *length = 6;
    return 0;
}

/* functions 15 and 16: several; nothing is done unless all can be */
static uint8_t write_many(const uint8_t *frame, uint8_t size, uint8_t *answer, uint8_t *length) {
    uint16_t first = word(frame + 2), count = word(frame + 4);
    uint8_t bits = frame[1] == 15, bytes = frame[6];
    if (!count || count > (bits ? 1968 : 123) || bytes != (bits ? (count + 7) / 8 : 2 * count)) return ILLEGAL_VALUE;
    if (size != 7 + bytes) return ILLEGAL_VALUE;
    for (uint8_t done = 0; done < 2; done++)
        for (uint16_t i = 0; i < count; i++) {
            uint16_t value = bits ? frame[7 + i / 8] >> i % 8 & 1 : word(frame + 7 + 2 * i);
            if (first + i < first) return ILLEGAL_ADDRESS;
            if (!done) {
                uint8_t wrong = bits ? pins_may_switch(first + i, (uint8_t)value) : pins_may_write(first + i, value);
                if (wrong) return wrong;
            } else if (bits) pins_switch(first + i, (uint8_t)value);
            else pins_write(first + i, value);
        }
    memcpy(answer + 2, frame + 2, 4);
    *length = 6;
    return 0;
}

/* function 43/14: who are you */
static uint8_t identify(const uint8_t *frame, uint8_t *answer, uint8_t *length) {
    static const char *const texts[] = {"Cairnwind", "board", VERSION_TEXT, hw_name};
    static const uint8_t ids[] = {0, 1, 2, 5};
    uint8_t one = frame[3] == 4, first = 0, end = frame[3] == 1 ? 3 : 4, at = 8;
    if (frame[2] != 14) return ILLEGAL_FUNCTION;
    if (frame[3] < 1 || frame[3] > 4) return ILLEGAL_VALUE;
    if (one) {
        while (first < end && ids[first] != frame[4]) first++;
        if (first == end) return ILLEGAL_ADDRESS;
        end = first + 1;
    }
    answer[2] = 14, answer[3] = frame[3], answer[4] = 0x82, answer[5] = answer[6] = 0, answer[7] = end - first;
    for (uint8_t i = first; i < end; i++) {
        uint8_t size = (uint8_t)strlen(texts[i]);
        answer[at++] = ids[i], answer[at++] = size;
        memcpy(answer + at, texts[i], size);
        at += size;
    }
    *length = at;
    return 0;
}

/* what is asked, while no tick comes between: the answer without its sum, or the exception */
static uint8_t carry_out(const uint8_t *frame, uint8_t size, uint8_t *answer, uint8_t *out) {
    uint8_t function = frame[1];
    pins_plan();
    if (function == 43) return size == 5 ? identify(frame, answer, out) : ILLEGAL_VALUE;
    if (function == 15 || function == 16) return size >= 8 ? write_many(frame, size, answer, out) : ILLEGAL_VALUE;
    if (function < 1 || function > 6) return ILLEGAL_FUNCTION;
    if (size != 6) return ILLEGAL_VALUE;
    if (function <= 2) return read_bits(frame, answer, out);
    if (function <= 4) return read_words(frame, answer, out);
    return function == 5 ? write_coil(frame, answer, out) : write_word(frame, answer, out);
}

uint8_t frame_take(uint8_t *frame, uint8_t length, uint8_t *answer) {
    if (length < 4 || crc(frame, length - 2) != (uint16_t)(frame[length - 2] | frame[length - 1] << 8)) {
        frames_bad++;
        return 0;
    }
    if (frame[0] != unit && frame[0] != 0) return 0;
    uint8_t out = 0, from = frame[0];
    frames_good++;
    memcpy(answer, frame, 2);
    hw_hold(1);
    pins_frame();
    uint8_t wrong = carry_out(frame, length - 2, answer, &out);
    hw_hold(0);
    if (from == 0) return 0; /* a broadcast is not answered */
    if (wrong) answer[1] = frame[1] | 0x80, answer[2] = wrong, out = 3;
    uint16_t sum = crc(answer, out);
    answer[out++] = (uint8_t)sum, answer[out++] = sum >> 8;
    return out;
}
