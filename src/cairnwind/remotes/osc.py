"""What OSC 1.0 asks of a receiver beyond its messages: patterns in addresses, and arguments that are there in full.

See https://opensoundcontrol.stanford.edu/spec-1_0.html.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import lru_cache

MARKS = frozenset("*?[{")
MOST_STARS = 4
_SIZES = {
    "i": 4,
    "f": 4,
    "r": 4,
    "m": 4,
    "c": 4,
    "h": 8,
    "d": 8,
    "t": 8,
    "T": 0,
    "F": 0,
    "N": 0,
    "I": 0,
    "[": 0,
    "]": 0,
}


def matching(pattern: str, addresses: Iterable[str]) -> list[str]:
    """Those of the addresses that a message to ``pattern`` is for: itself, where it is none."""
    if not MARKS & set(pattern):
        return [pattern]
    form = _form(pattern)
    return [] if form is None else [each for each in addresses if form.fullmatch(each)]


@lru_cache(64)
def _form(pattern: str) -> re.Pattern[str] | None:
    """A pattern of the standard as an expression; None where it is none, or goes too far."""
    pattern = re.sub(r"\*+", "*", pattern)
    if pattern.count("*") > MOST_STARS or len(pattern) > 200:
        return None
    found, inside = "", False
    for part in re.split(r"(\[!?[^\]/]*\]|[*?{},])", pattern):
        if part == "*":
            found += "[^/]*"
        elif part == "?":
            found += "[^/]"
        elif part.startswith("[") and len(part) > 2:
            negated = part[1] == "!"
            found += f"[{'^' if negated else ''}{re.escape(part[2 if negated else 1 : -1]).replace(chr(92) + '-', '-')}]"
        elif part == "{":
            found, inside = found + "(?:", True
        elif part == "}" and inside:
            found, inside = found + ")", False
        elif part == "," and inside:
            found += "|"
        else:
            found += re.escape(part)
    try:
        return re.compile(found)
    except re.error:
        return None


def whole(message: bytes) -> bool:
    """Whether all arguments that a message announces are there, and are such as the standard has."""
    at = _text_end(message, 0)
    if at >= len(message):
        return True  # no type tags: no arguments
    if message[at : at + 1] != b",":
        return False
    tags = message[at + 1 : message.find(b"\0", at)].decode("ascii", "replace")
    at = _text_end(message, at)
    for tag in tags:
        if tag in "sS":
            if message.find(b"\0", at) < 0:
                return False
            at = _text_end(message, at)
        elif tag == "b":
            at += 4 + (int.from_bytes(message[at : at + 4], "big") + 3) // 4 * 4
        elif tag in _SIZES:
            at += _SIZES[tag]
        else:
            return False
        if at > len(message):
            return False
    return True


def _text_end(message: bytes, at: int) -> int:
    """Where what follows a text begins: it ends with a zero, and is filled up to a multiple of four."""
    end = message.find(b"\0", at)
    return len(message) if end < 0 else end + 4 - end % 4
