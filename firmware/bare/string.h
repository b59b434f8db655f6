/* What the portable part uses of the C library, for a chip without one: see lm3s6965.c. */
#ifndef STRING_H
#define STRING_H
#include <stddef.h>
void *memcpy(void *to, const void *from, size_t count);
void *memset(void *at, int byte, size_t count);
size_t strlen(const char *text);
#endif
