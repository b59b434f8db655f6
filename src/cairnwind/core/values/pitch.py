"""Pitches: scientific pitch notation to frequency and back, by twelve-tone equal temperament.

f = A4 * 2^((n - 69) / 12), where n is the note's number in the MIDI standard (A4 is 69). Frequencies are
millihertz throughout.
"""

from __future__ import annotations

import math
import re

from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import parse

A4 = 440_000
_STEPS = {"c": 0, "d": 2, "e": 4, "f": 5, "g": 7, "a": 9, "b": 11}
_FORM = re.compile(r"([a-gA-G])(#|♯|b|♭)?(-?\d)")
_NAMES = ("C", "C#", "D", "D#", "E", "F", "F#", "G", "G#", "A", "A#", "B")


def number(name: str) -> int | None:
    """The number of a note's name, 'A4' or 'Bb3'; None if it is none."""
    match = _FORM.fullmatch(name.strip())
    if match is None:
        return None
    letter, accidental, octave = match.groups()
    bend = {"#": 1, "♯": 1, "b": -1, "♭": -1}.get(accidental or "", 0)
    return _STEPS[letter.lower()] + bend + 12 * (int(octave) + 1)


def of_number(note: float, a4: int = A4) -> int:
    """The frequency of a note's number."""
    return round(a4 * 2 ** ((note - 69) / 12))


def millihertz(value: object, a4: int = A4) -> int:
    """The frequency of 'A4', '440 Hz' or 440. Raises `CallerError` (``bad-value``)."""
    if isinstance(value, str):
        note = number(value)
        if note is not None:
            return of_number(note, a4)
    try:
        return round(parse(value, "a frequency", bare="hz") * 1000)
    except CallerError:
        raise CallerError(
            "bad-value", f"{value!r} is neither a pitch nor a frequency.", "Write it like A4, Bb3 or 440 Hz."
        ) from None


def nearest(tone: int) -> int:
    """The number of the note nearest to a frequency."""
    return round(69 + 12 * math.log2(tone / A4))


def show(tone: int) -> str:
    """As people say it: 'A4 (440 Hz)' where it is a note, to the nearest hundredth of a half-tone; else '443 Hz'."""
    hertz = f"{tone / 1_000_000:.10g} kHz" if tone >= 10_000_000 else f"{round(tone / 1000, 2):.10g} Hz"
    note = nearest(tone)
    if abs(12 * math.log2(tone / of_number(note))) > 0.01 or not 12 <= note <= 131:
        return hertz
    return f"{_NAMES[note % 12]}{note // 12 - 1} ({hertz})"
