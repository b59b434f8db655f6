"""Whether the kernel says that the wall clock is synchronised: Linux's adjtimex(2), which is only asked here."""

from __future__ import annotations

import ctypes

UNSYNCHRONISED = 0x40
"""STA_UNSYNC of <sys/timex.h>."""
ERROR = 5
"""TIME_ERROR: what adjtimex returns while the clock is not synchronised."""


class Timex(ctypes.Structure):
    """The head of struct timex: as far as its status; the rest is room."""

    _fields_ = (
        ("modes", ctypes.c_uint),
        ("offset", ctypes.c_long),
        ("frequency", ctypes.c_long),
        ("most_error", ctypes.c_long),
        ("error", ctypes.c_long),
        ("status", ctypes.c_int),
        ("rest", ctypes.c_char * 256),
    )


def synchronised() -> bool:
    """What the kernel says; False where it cannot be asked."""
    try:
        found = Timex()  # modes 0: nothing is changed
        state = ctypes.CDLL(None).adjtimex(ctypes.byref(found))
    except (OSError, AttributeError):
        return False
    return 0 <= state < ERROR and not found.status & UNSYNCHRONISED
