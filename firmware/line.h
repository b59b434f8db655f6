/* By what the board as a program is spoken to: whole frames, as on a serial line. */
#ifndef LINE_H
#define LINE_H
#include <stddef.h>
#include <stdint.h>

uint8_t line_begin(int argc, char **argv, const char *inherited); /* inherited: what line_reset wrote, after a reset; 0: it cannot be */
int line_file(void);                                   /* to wait for; -1: none */
int line_take(uint8_t *frame, int ready);              /* the length of a frame that has come whole, into 256 bytes; 0: none */
void line_send(const uint8_t *frame, uint8_t length);
void line_reset(char *text, size_t size);              /* the board is reset: what its next life has to know */
#endif
