"""What an output can be set to.

A setting is a level, a colour, a tone or a drive. So far there is the level; the others join the union
`Setting`, and each kind of output says in `KINDS` which of them it takes. *Off* is the kind's zero;
everything else is *on*, and on always means that the load is on.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from functools import lru_cache
from typing import Any, NamedTuple

from cairnwind.core.errors import CallerError
from cairnwind.core.quantities import parse

FULL = 1_000_000


class Level(NamedTuple):
    """A level in parts per million of full, so that equality is exact: 40 % is ``Level(400_000)``.

    A named tuple, since settings are compared at every step of the way from wish to pin.
    """

    parts: int
    millihertz: int = 0
    """The PWM frequency, where one is tried out that is not the output's own; else 0."""

    @property
    def percent(self) -> float:
        """0 to 100."""
        return self.parts / 10_000

    @property
    def on(self) -> bool:
        """Whether the load is on at all."""
        return self.parts > 0


Setting = Level  # | Colour | Tone | Drive
OFF = Level(0)
ON = Level(FULL)


def level(percent: float | Fraction) -> Level:
    """The level of so many percent, 0 to 100; the caller has checked the range."""
    return Level(round(Fraction(percent) * 10_000))


def parse_level(text: object, words: tuple[str, str] = ("off", "on")) -> Level:
    """Read 'on', 'off', the output's own two words (off first), '40 %', '40%' or the number 40.

    Raises `CallerError` (``bad-value``) for anything else, and for less than 0 or more than 100 %.
    """
    if isinstance(text, bool):
        return ON if text else OFF
    if isinstance(text, str):
        word = text.strip().lower()
        if word in ("on", words[1]):
            return ON
        if word in ("off", words[0]):
            return OFF
        if word == "half":
            return Level(FULL // 2)
    own = "" if words == ("off", "on") else f", {words[1]}, {words[0]}"
    try:
        share = parse(text, "a share", bare="%")
    except CallerError as bad:
        raise CallerError(
            "bad-value",
            f"{bad.sentence[:-1]} or a word for one.",
            f"Write on, off{own} or a level like 40 %.",
        ) from None
    if not 0 <= share <= 100:
        raise CallerError("bad-value", f"'{text}' is outside 0 to 100 %.", "Give a level from 0 % to 100 %.")
    return level(share)


@lru_cache(4096)
def show(setting: Setting, words: tuple[str, str] = ("off", "on"), *, dimmable: bool = True) -> str:
    """The setting as people say it: 'off', 'on', '40 %', or the output's own words."""
    if not setting.on:
        return words[0]
    if setting.parts == FULL and not dimmable:
        return words[1]
    at = f" at {frequency(setting.millihertz)}" if setting.millihertz else ""
    return f"{setting.percent:.10g} %{at}"


def frequency(millihertz: int) -> str:
    """A frequency as people say it: '800 Hz', '25 kHz'."""
    hertz = millihertz / 1000
    return f"{hertz / 1000:.10g} kHz" if hertz >= 10_000 else f"{hertz:.10g} Hz"


def encode(setting: Setting) -> dict[str, Any]:
    """The setting as a JSON object: ``{"level": 40.0}``."""
    form = {"level": setting.percent}
    return {**form, "hertz": setting.millihertz / 1000} if setting.millihertz else form


def decode(form: dict[str, Any]) -> Setting:
    """The inverse of `encode`."""
    return Level(level(Fraction(str(form["level"]))).parts, round(form.get("hertz", 0) * 1000))


@dataclass(frozen=True, slots=True)
class Kind:
    """What a kind of load is, as far as deciding about it goes."""

    name: str
    dims: bool
    """May be dimmed, where its pin has PWM and the site file gives a frequency."""
    rearm: str
    """What claims for 'on' do after a stop: 'auto' (they count again) or 'command' (a new one is needed)."""


KINDS = {
    kind.name: kind
    for kind in (
        Kind("relay", False, "auto"),
        Kind("lamp", True, "auto"),
        Kind("fan", True, "auto"),
        Kind("heater", False, "command"),
        Kind("motor", True, "command"),
        Kind("lock", False, "command"),
    )
}
