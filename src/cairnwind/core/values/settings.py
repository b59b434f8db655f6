"""What an output can be set to: a level, a colour, a tone or a drive.

Each kind of output says in `KINDS` which of them it takes. *Off* is the kind's zero; everything else is *on*,
and on always means that the load is on. A setting that changes with time is a `cairnwind.core.physics.programs.Program`.
"""

from __future__ import annotations

from fractions import Fraction
from functools import lru_cache
from typing import Any, NamedTuple

from cairnwind.core.values import colours, pitch
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import parse

FULL = 1_000_000
LOWEST_TONE, HIGHEST_TONE = 20_000, 20_000_000
"""Millihertz: what people hear."""


class Level(NamedTuple):
    """A level in parts per million of full, so that equality is exact: 40 % is ``Level(400_000)``.

    A named tuple, since settings are compared at every step of the way from wish to pin.
    """

    parts: int
    millihertz: int = 0
    """The PWM frequency, where one is tried out that is not the output's own; else 0."""
    raw: bool = False
    """The parts are of the pin's duty, whatever curve the output has."""

    @property
    def percent(self) -> float:
        """0 to 100."""
        return self.parts / 10_000

    @property
    def on(self) -> bool:
        """Whether the load is on at all."""
        return self.parts > 0


def stepped(before: object, by: int) -> Level:
    """A level so many parts up or down from what was, within what there is; what is no level begins at off."""
    return Level(min(FULL, max(0, (before.parts if isinstance(before, Level) else 0) + by)))


class Colour(NamedTuple):
    """A colour in sRGB as it is written, not linear: parts per million of each channel."""

    red: int
    green: int
    blue: int

    @property
    def on(self) -> bool:
        """Whether anything shines."""
        return self.red > 0 or self.green > 0 or self.blue > 0


class Tone(NamedTuple):
    """A tone in millihertz, 0 for silence, and how loud in parts per million."""

    millihertz: int
    loudness: int = FULL

    @property
    def on(self) -> bool:
        """Whether it is heard."""
        return self.millihertz > 0 and self.loudness > 0


class Drive(NamedTuple):
    """A motor's drive in parts per million, negative for the other way."""

    parts: int

    @property
    def on(self) -> bool:
        """Whether it moves."""
        return self.parts != 0


Setting = Level | Colour | Tone | Drive
OFF = Level(0)
ON = Level(FULL)
SILENCE = Tone(0)
ZERO: dict[str, Setting] = {"level": OFF, "colour": Colour(0, 0, 0), "tone": SILENCE, "drive": Drive(0)}
"""What off is, by what an output takes."""
MOST: dict[str, Setting] = {
    "level": ON,
    "colour": Colour(FULL, FULL, FULL),
    "tone": Tone(1_000_000),
    "drive": Drive(FULL),
}
"""What a plain 'on' is: white; a tone of 1 kHz; full forward."""


def level(percent: float | Fraction) -> Level:
    """The level of so many percent, 0 to 100; the caller has checked the range."""
    return Level(round(Fraction(percent) * 10_000))


def read(value: object, takes: str, words: tuple[str, str] = ("off", "on")) -> Setting:
    """Read what was written or sent as a setting of the sort that an output takes.

    Texts are 'on', 'off', the output's own two words (off first), and then by ``takes``: '40 %' or '20 % duty';
    a colour's name, '#e07b1c', 'hue 30' or, for white, '40 %'; 'A4' or '440 Hz'; '-40 %'. Objects are what `encode` makes. Raises
    `CallerError` (``bad-value``) for anything else and for what is out of range.
    """
    if isinstance(value, bool):
        return MOST[takes] if value else ZERO[takes]
    if isinstance(value, dict):
        return _object(value, takes)
    if isinstance(value, str):
        word = value.strip().lower()
        if word in ("on", words[1].lower()):
            return MOST[takes]
        if word in ("off", words[0].lower()):
            return ZERO[takes]
    match takes:
        case "colour":
            if isinstance(value, str) and (value.rstrip().endswith("%") or value.strip().lower() == "half"):
                return Colour(*[_level(value, words).parts] * 3)  # so white: all lamps can be told one level
            return Colour(*colours.read(value))
        case "tone":
            return tone(value)
        case "drive":
            return Drive(_share(value, -100, words))
    return _level(value, words)


def _level(text: object, words: tuple[str, str]) -> Level:
    if isinstance(text, str):
        word = text.strip().lower()
        if word == "half":
            return Level(FULL // 2)
        if word.endswith("duty"):
            return Level(_share(word[:-4], 0, words), raw=True)
    return Level(_share(text, 0, words))


def _share(text: object, low: int, words: tuple[str, str]) -> int:
    own = "" if words == ("off", "on") else f", {words[1]}, {words[0]}"
    try:
        share = parse(text, "a share", bare="%")
    except CallerError as bad:
        if " is not a share" not in bad.sentence:
            raise
        raise CallerError(
            "bad-value",
            f"{bad.sentence[:-1]} or a word for one.",
            f"Write on, off{own} or a level like 40 %.",
        ) from None
    if not low <= share <= 100:
        raise CallerError(
            "bad-value", f"'{text}' is outside {low} to 100 %.", f"Give a level from {low} % to 100 %."
        )
    return round(share * 10_000)


def tone(value: object, loudness: object = None) -> Tone:
    """A tone of a frequency or a pitch: '440 Hz', 'A4', 440. Raises `CallerError` (``bad-value``)."""
    millihertz = pitch.millihertz(value)
    if not LOWEST_TONE <= millihertz <= HIGHEST_TONE:
        raise CallerError(
            "bad-value",
            f"'{value}' is no tone that can be heard.",
            "Give 20 Hz to 20 kHz, or a pitch like A4.",
        )
    return Tone(millihertz, FULL if loudness is None else _share(loudness, 0, ("off", "on")))


_MEMBERS = {
    "level": {"level", "duty", "hertz"},
    "colour": {"colour"},
    "tone": {"tone", "hertz", "loudness"},
    "drive": {"drive"},
}


def _object(form: dict[str, Any], takes: str) -> Setting:
    known = _MEMBERS[takes]
    odd = set(form) - known
    if odd or not form:
        what = f"has '{sorted(map(str, odd))[0]}'" if odd else "is empty"
        raise CallerError(
            "bad-value",
            f"The setting {what}, which {takes}s do not have.",
            f"Known: {', '.join(sorted(known))}.",
        )
    match takes:
        case "colour":
            return Colour(*colours.read(form["colour"]))
        case "tone":
            return tone(form.get("tone", form.get("hertz")), form.get("loudness"))
        case "drive":
            return Drive(_share(form["drive"], -100, ("off", "on")))
    if ("level" in form) == ("duty" in form):
        raise CallerError(
            "bad-value",
            "The setting needs a level or a duty, one of them.",
            'Send {"level": 40} or {"duty": 20}.',
        )
    millihertz = 0
    if "hertz" in form:
        hertz = parse(form["hertz"], "a frequency", bare="hz")
        if not 0 < hertz <= 100_000_000:
            raise CallerError(
                "bad-value",
                f"'{form['hertz']}' is no frequency to dim by.",
                "Give one above 0 Hz, up to 100 MHz.",
            )
        millihertz = round(hertz * 1000)
    raw = "duty" in form
    return Level(_share(form["duty" if raw else "level"], 0, ("off", "on")), millihertz, raw)


@lru_cache(4096, typed=True)
def show(setting: Setting, words: tuple[str, str] = ("off", "on"), *, dimmable: bool = True) -> str:
    """The setting as people say it: 'off', 'on', '40 %', '#e07b1c', '440 Hz', '-40 %', or the output's own words."""
    if not setting.on:
        return words[0]
    match setting:
        case Level(parts, millihertz, raw):
            if parts == FULL and not dimmable:
                return words[1]
            at = f" at {frequency(millihertz)}" if millihertz else ""
            return f"{setting.percent:.10g} %{' duty' if raw else ''}{at}"
        case Colour(red, green, blue):
            return colours.show(red, green, blue)
        case Tone(millihertz, loudness):
            soft = "" if loudness == FULL else f" at {loudness / 10_000:.10g} %"
            return f"{pitch.show(millihertz)}{soft}"
        case Drive(parts):
            return f"{parts / 10_000:.10g} %"


def brief(setting: Setting) -> Setting:
    """A level or a drive in the midst of a fade, to a tenth of a percent: what people want to read."""
    match setting:
        case Level(parts) | Drive(parts) if parts % 1000 and abs(parts) > 1000:
            return setting._replace(parts=round(parts, -3))
    return setting


def frequency(millihertz: int) -> str:
    """A frequency as people say it: '800 Hz', '25 kHz'."""
    hertz = millihertz / 1000
    return f"{hertz / 1000:.10g} kHz" if hertz >= 10_000 else f"{hertz:.10g} Hz"


def encode(setting: Setting) -> dict[str, Any]:
    """The setting as a JSON object: ``{"level": 40.0}``."""
    match setting:
        case Colour(red, green, blue):
            return {"colour": [red, green, blue]}
        case Tone(millihertz, loudness):
            return {"hertz": millihertz / 1000, "loudness": loudness / 10_000}
        case Drive(parts):
            return {"drive": parts / 10_000}
    form = {"duty" if setting.raw else "level": setting.percent}
    return {**form, "hertz": setting.millihertz / 1000} if setting.millihertz else form


def decode(form: dict[str, Any]) -> Setting:
    """The inverse of `encode`."""
    if "colour" in form:
        return Colour(*form["colour"])
    if "drive" in form:
        return Drive(round(Fraction(str(form["drive"])) * 10_000))
    if "loudness" in form:
        return Tone(round(form["hertz"] * 1000), round(form["loudness"] * 10_000))
    raw = "duty" in form
    parts = level(Fraction(str(form["duty" if raw else "level"]))).parts
    return Level(parts, round(form.get("hertz", 0) * 1000), raw)


class Kind(NamedTuple):
    """What a kind of load is, as far as deciding about it goes."""

    name: str
    dims: bool
    """May be dimmed, where its pin has PWM and the site file gives a frequency."""
    rearm: str
    """What claims for 'on' do after a stop: 'auto' (they count again) or 'command' (a new one is needed)."""
    takes: str = "level"
    """What it is set to: 'level', 'colour' or 'tone'. A motor with a line to reverse it takes a 'drive'."""


KINDS = {
    kind.name: kind
    for kind in (
        Kind("relay", False, "auto"),
        Kind("lamp", True, "auto"),
        Kind("colour-lamp", True, "auto", "colour"),
        Kind("fan", True, "auto"),
        Kind("sounder", True, "auto", "tone"),
        Kind("heater", False, "command"),
        Kind("motor", True, "command"),
        Kind("lock", False, "command"),
        Kind("servo", True, "command"),
    )
}
