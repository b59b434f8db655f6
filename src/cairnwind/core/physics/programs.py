"""Programs: settings that change with time.

A program is a list of segments, each a setting held or a way from one to another, gone through once, so many
times, or until the claim ends. It is a pure function of the time since it began, which also tells when it next
changes, so that nothing wakes for nothing:

* A held segment changes at its end, and not before.
* On a slope the next change is the first step of the common `STEP` at which the output's own counts differ. All
  slopes step at the same moments of the clock, so that many lamps need one turn of the engine and not many.

Where a program ends, *stay* leaves its last setting in force, and *release* ends the claim: what follows is the
next claim, or rest.
"""

from __future__ import annotations

import math
from bisect import bisect_right
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from itertools import accumulate
from typing import Any, NamedTuple

from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import NS, about, duration, show_duration
from cairnwind.core.values.settings import (
    MOST,
    ZERO,
    Colour,
    Drive,
    Level,
    Setting,
    Tone,
    decode,
    encode,
    show,
)

STEP = NS // 50
"""Slopes move 50 times a second."""
MOST_SEGMENTS = 4000
LONGEST = 366 * 86400 * NS
Key = Callable[[Setting], Any]
"""What tells two settings apart at the pin: the counts of the output's timers."""


class Segment(NamedTuple):
    """A part of a program: ``length`` nanoseconds from one setting to another."""

    length: int
    start: Setting | None
    """None: what the output was at when the program began."""
    end: Setting
    shape: str = "hold"
    """'hold' (start is end), 'line', or 'wave' (half a cosine, slow at both ends)."""

    def at(self, share: float) -> Setting:
        """The setting at a share of its length, 0 to 1."""
        if self.shape == "hold" or self.start is None or share >= 1:
            return self.end
        if self.shape == "wave":
            share = (1 - math.cos(math.pi * share)) / 2
        return between(self.start, self.end, share)


class Coming(NamedTuple):
    """The next step of a slope: the setting, its key, and the slope itself, on the clock of ``phase``."""

    setting: Setting
    key: Any
    segment: Segment
    origin: int
    end: int


def between(start: Setting, end: Setting, share: float) -> Setting:
    """The setting so far on the way from one to another; a tone moves in pitch, everything else in its numbers."""
    if type(start) is Level and type(end) is Level:  # asked at every step of every fade
        return Level(start.parts + round((end.parts - start.parts) * share), end.millihertz, end.raw)
    match start, end:
        case Colour(), Colour():
            red, green, blue = (a + round((b - a) * share) for a, b in zip(start, end, strict=True))
            return Colour(red, green, blue)
        case Drive(a), Drive(b):
            return Drive(a + round((b - a) * share))
        case Tone(a, loud), Tone(b, softer) if a and b:
            return Tone(round(a * (b / a) ** share), loud + round((softer - loud) * share))
    return start if share < 1 else end


@dataclass(frozen=True)
class Program:
    """A setting for every moment, and the moments at which it changes. Times are nanoseconds since it began."""

    word: str
    """'blink', 'breathe', 'ramp', 'chase', 'sequence', 'candle', 'tune' or 'sweep'."""
    text: str
    """What it does, in words."""
    segments: tuple[Segment, ...]
    times: int = 1
    """How often; 0 is until the claim ends."""
    then: str = "stay"
    """What its end is: 'stay' at the last setting, or 'release' the claim."""
    offset: int = 0
    """How far into the first round it begins."""
    _ends: tuple[int, ...] = field(init=False, repr=False, compare=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "_ends", tuple(accumulate(segment.length for segment in self.segments)))

    @property
    def heard(self) -> bool:
        """A tune or a sweep: it never resumes in the middle."""
        return self.word in ("tune", "sweep")

    @property
    def round(self) -> int:
        """Nanoseconds of one round."""
        return self._ends[-1]

    @property
    def length(self) -> int | None:
        """Nanoseconds until it ends; None if only its claim ends it."""
        return self.round * self.times if self.times else None

    @property
    def on(self) -> bool:
        """Whether it is on at any time: a program counts with its peak."""
        return any(
            segment.end.on or (segment.start is not None and segment.start.on) for segment in self.segments
        )

    @property
    def last(self) -> Setting:
        """What it ends at."""
        return self.segments[-1].end

    def over(self, t: int) -> bool:
        """Whether it has ended."""
        return self.times > 0 and t >= self.round * self.times

    def starting(self, was: Setting) -> Program:
        """Itself, with what the output was at where it asks for that."""
        if all(segment.start is not None for segment in self.segments):
            return self
        filled = tuple(
            Segment(each.length, was if each.start is None else each.start, each.end, each.shape)
            for each in self.segments
        )
        return Program(self.word, self.text, filled, self.times, self.then, self.offset)

    def at(self, t: int) -> Setting:
        """The setting at a time since it began; before that as at 0, after its end its last."""
        if self.over(t):
            return self.last
        segment, since, _ = self._find(max(0, t))
        return segment.at(since / segment.length)

    def next_change(self, t: int, key: Key, phase: int = 0) -> int | None:
        """The first time after ``t`` at which `at` may give something with another key; None if there is none.

        ``phase`` is when it began, on the clock whose multiples of `STEP` slopes move at.
        """
        return self.ahead(t, key, phase)[0]

    def ahead(self, t: int, key: Key, phase: int = 0, now: Any = None) -> tuple[int | None, Coming | None]:
        """`next_change`, with what comes then, where finding it has told that. ``now`` is the key at ``t``."""
        if self.over(t):
            return None, None
        t = max(0, t)
        segment, since, left = self._find(t)
        end = t + left
        if segment.shape == "hold" or segment.start is None or segment.start == segment.end:
            return end, None
        if now is None:
            now = key(segment.at(since / segment.length))
        first = (t + phase) // STEP + 1
        last = (end + phase - 1) // STEP
        origin = phase + t - since
        if first > last:
            return end, None
        setting = segment.at((first * STEP - origin) / segment.length)
        if (found := key(setting)) != now:
            return first * STEP - phase, Coming(setting, found, segment, origin, end + phase)
        if key(segment.at((last * STEP - origin) / segment.length)) == now:
            return end, None
        while last - first > 1:  # a slope rises or falls all the way, so what has moved stays moved
            middle = (first + last) // 2
            if key(segment.at((middle * STEP - origin) / segment.length)) != now:
                last = middle
            else:
                first = middle
        return last * STEP - phase, None

    def next_part(self, t: int) -> int | None:
        """When the segment at ``t`` ends; None once it is over."""
        return None if self.over(t) else max(0, t) + self._find(max(0, t))[2]

    def _find(self, t: int) -> tuple[Segment, int, int]:
        """The segment at ``t``, how far into it that is, and how long it still lasts."""
        within = (t + self.offset) % self.round
        number = bisect_right(self._ends, within)
        segment = self.segments[number]
        left = self._ends[number] - within
        if self.times:
            left = min(left, self.round * self.times - t)
        return segment, segment.length - (self._ends[number] - within), left


def changes(program: Program, key: Key, until: int) -> Iterator[tuple[int, Setting]]:
    """Every change of a program up to a time: what a preview shows, and what a rehearsal will follow."""
    t: int | None = 0
    shown: Any = None
    while t is not None and t <= until:
        setting = program.at(t)
        if (now := key(setting)) != shown:
            shown = now
            yield t, setting
        t = program.next_change(t, key)


# --- as JSON ------------------------------------------------------------------------------------------------


def encode_wanted(wanted: Setting | Program) -> dict[str, Any]:
    """What a claim asks for, as a JSON object."""
    if not isinstance(wanted, Program):
        return encode(wanted)
    segments = [
        [each.length, None if each.start is None else encode(each.start), encode(each.end), each.shape]
        for each in wanted.segments
    ]
    return {"program": wanted.word, "text": wanted.text, "segments": segments, "times": wanted.times,
            "then": wanted.then, "offset": wanted.offset}  # fmt: skip


def decode_wanted(form: dict[str, Any]) -> Setting | Program:
    """The inverse of `encode_wanted`."""
    if "program" not in form:
        return decode(form)
    segments = tuple(
        Segment(length, None if start is None else decode(start), decode(end), shape)
        for length, start, end, shape in form["segments"]
    )
    return Program(form["program"], form["text"], segments, form["times"], form["then"], form["offset"])


# --- making them --------------------------------------------------------------------------------------------

Read = Callable[[object], Setting]
"""Reads a setting of the output that a program is made for."""


def blink(on: Setting, off: Setting, lit: int, dark: int, times: int = 0, edge: int = 0) -> Program:
    """On for ``lit``, off for ``dark``; with an ``edge`` the ways between them take that long, inside each."""
    if edge > min(lit, dark):
        raise CallerError(
            "bad-value",
            f"Edges of {show_duration(edge)} do not fit into the blink.",
            "Make them shorter than on and off.",
        )
    rise = [Segment(edge, off, on, "line")] if edge else []
    fall = [Segment(edge, on, off, "line")] if edge else []
    parts = [*rise, *_held(lit - edge, on), *fall, *_held(dark - edge, off)]
    soft = f", with edges of {show_duration(edge)}" if edge else ""
    text = f"blinking {show_duration(lit)} {_say(on)}, {show_duration(dark)} {_say(off)}{_often(times)}{soft}"
    return Program("blink", text, tuple(parts), times, "release")


def breathe(low: Setting, high: Setting, inhale: int, exhale: int, times: int = 0) -> Program:
    """Up for ``inhale``, down for ``exhale``."""
    parts = (Segment(inhale, low, high, "wave"), Segment(exhale, high, low, "wave"))
    text = f"breathing between {_say(low)} and {_say(high)}, {show_duration(inhale)} in, {show_duration(exhale)} out{_often(times)}"
    return Program("breathe", text, parts, times, "release")


def ramp(start: Setting | None, end: Setting, over: int, repeat: str = "once", times: int = 0) -> Program:
    """From ``start`` (None: what it is at) to ``end``; ``repeat`` is 'once', 'jump-back' or 'there-and-back'."""
    way = f"{'fading' if start is None else f'fading from {_say(start)}'} to {_say(end)} over {show_duration(over)}"
    if repeat == "once":
        return Program("ramp", way, (Segment(over, start, end, "line"),))
    if start is None:
        raise CallerError(
            "bad-value", "A ramp that repeats needs to know where it begins.", "Give its 'from'."
        )
    parts = [Segment(over, start, end, "line")]
    if repeat == "there-and-back":
        parts.append(Segment(over, end, start, "line"))
    return Program(
        "ramp",
        f"{way}, {'there and back' if len(parts) > 1 else 'again and again'}{_often(times)}",
        tuple(parts),
        times,
        "release",
    )


def chase(
    on: Setting, off: Setting, step: int, place: int, of: int, overlap: int = 0, times: int = 0
) -> Program:
    """One of ``of`` outputs that are on one after the other for ``step``, each ``overlap`` longer."""
    if overlap < 0 or step + overlap > of * step:
        raise CallerError(
            "bad-value",
            f"An overlap of {show_duration(overlap)} is longer than the others' turns.",
            "Make it shorter.",
        )
    whole = of * step
    parts = [Segment(step + overlap, on, on), *_held(whole - step - overlap, off)]
    text = f"chasing, number {place + 1} of {of}, {show_duration(step)} each{_often(times)}"
    return Program("chase", text, tuple(parts), times, "release", (whole - place * step) % whole)


def sequence(
    steps: Sequence[tuple[Setting, int, int]], times: int = 1, end: Setting | None = None
) -> Program:
    """Settings with waits: each is (setting, nanoseconds to fade there, nanoseconds to wait); it ends at ``end``, if said."""
    parts: list[Segment] = []
    before: Setting | None = None
    for setting, over, wait in steps:
        if over:
            parts.append(Segment(over, before, setting, "line"))
        parts += _held(wait, setting)
        before = setting
    if not parts:
        raise CallerError(
            "bad-value", "The sequence has no time in it.", "Give its steps a wait, or a time to fade."
        )
    if end is not None:
        parts.append(Segment(1, end, end))
    text = f"a sequence of {len(steps)} steps in {about(sum(each.length for each in parts))}{_often(times)}"
    return Program("sequence", text, tuple(parts), times, "release" if end is None else "stay")


CANDLE_ROUND = 160


class _Chance:
    """Numbers that look like chance and are the same for the same seed, everywhere: a linear congruential generator.

    Multiplier and increment are Knuth's (MMIX).
    """

    def __init__(self, seed: int) -> None:
        self._state = seed * 2_654_435_761 + 1

    def share(self) -> float:
        """From 0 to 1."""
        self._state = (self._state * 6_364_136_223_846_793_005 + 1_442_695_040_888_963_407) % 2**64
        return (self._state >> 33) / 2**31

    def between(self, low: int, high: int) -> int:
        """A whole number from ``low``, below ``high``."""
        return low + int(self.share() * (high - low))


def candle(bright: Setting, dim: Setting, seed: int = 0) -> Program:
    """The flicker of a candle: steady at first sight, with dips that come in bunches. Repeats after about 20 s."""
    chance = _Chance(seed)
    parts: list[Segment] = []
    now = start = between(dim, bright, 0.9)
    gust = 0.0
    for number in range(CANDLE_ROUND):
        gust = max(0.0, gust * 0.8 + (chance.share() * 0.9 if chance.share() < 0.06 else 0.0))
        share = max(0.0, min(1.0, 1 - gust - chance.share() * 0.25))
        then = start if number == CANDLE_ROUND - 1 else between(dim, bright, share)
        parts.append(Segment(chance.between(70, 180) * NS // 1000, now, then, "line"))
        now = then
    return Program(
        "candle",
        f"flickering like a candle between {_say(dim)} and {_say(bright)}",
        tuple(parts),
        0,
        "release",
    )


def _held(length: int, setting: Setting) -> list[Segment]:
    return [Segment(length, setting, setting)] if length > 0 else []


def _say(setting: Setting) -> str:
    return show(setting)


def _often(times: int) -> str:
    return "" if times == 1 else f", {times} times" if times else ", until its claim ends"


# --- reading what people send -------------------------------------------------------------------------------

KEYS: dict[str, tuple[str, ...]] = {
    "blink": ("on", "off", "lit", "dark", "times", "edge"),
    "breathe": ("low", "high", "in", "out", "times"),
    "ramp": ("from", "to", "over", "repeat", "times"),
    "chase": ("on", "off", "step", "overlap", "times"),
    "sequence": ("steps", "times", "end"),
    "candle": ("bright", "dim"),
}
"""What can be said of each; the program of a tune or a sweep comes from `cairnwind.core.physics.sound`."""


def _kind(form: dict[str, Any], takes: str) -> str:
    """The kind that a JSON object asks for, if it has no more than that kind has."""
    word = form.get("kind")
    if not isinstance(word, str) or word not in KEYS:
        raise CallerError("bad-value", f"'{word}' is no kind of program.", f"Send one of {', '.join(KEYS)}.")
    for key in form:
        if key != "kind" and key not in KEYS[word]:
            raise CallerError("bad-value", f"A {word} has no '{key}'.", f"It has {', '.join(KEYS[word])}.")
    if takes == "tone":
        raise CallerError("bad-value", f"A sounder does not {word}.", "Play a tone, a sweep or a tune on it.")
    return word


def make(form: dict[str, Any], takes: str, read: Read, place: int = 0, of: int = 1) -> Program:
    """The program that a JSON object asks for, for an output that ``takes`` and ``read``s its settings.

    ``place`` of ``of`` is where the output stands in a list that it is given to. Raises `CallerError`.
    """
    word = _kind(form, takes)
    full, none = MOST[takes], ZERO[takes]

    def setting(key: str, default: Setting) -> Setting:
        return read(form[key]) if key in form else default

    def time(key: str, default: str | None) -> int:
        if key not in form and default is None:
            raise CallerError("bad-value", f"A {word} needs '{key}'.", f"Send '{key}', like \"2 s\".")
        value = form.get(key, default)
        return 0 if value in ("0", "0 s", 0) else duration(value)

    times = form.get("times", 1 if word == "sequence" else 0)
    if isinstance(times, bool) or not isinstance(times, int) or not 0 <= times <= 1_000_000:
        raise CallerError(
            "bad-value", f"{times!r} is no number of times.", "Send a whole number; 0 is until released."
        )
    match word:
        case "blink":
            made = blink(
                setting("on", full),
                setting("off", none),
                time("lit", "500 ms"),
                time("dark", form.get("lit", "500 ms")),
                times,
                time("edge", "0 s"),
            )
        case "breathe":
            made = breathe(
                setting("low", none),
                setting("high", full),
                time("in", "2 s"),
                time("out", form.get("in", "2 s")),
                times,
            )
        case "ramp":
            if "to" not in form:
                raise CallerError("bad-value", "A ramp needs 'to'.", 'Send where it leads, like "40 %".')
            repeat = form.get("repeat", "once")
            if repeat not in ("once", "jump-back", "there-and-back"):
                raise CallerError(
                    "bad-value", f"'{repeat}' is no way to repeat.", "Send once, jump-back or there-and-back."
                )
            start = read(form["from"]) if "from" in form else None
            made = ramp(start, read(form["to"]), time("over", None), repeat, times)
        case "chase":
            made = chase(
                setting("on", full),
                setting("off", none),
                time("step", "300 ms"),
                place,
                of,
                time("overlap", "0 s"),
                times,
            )
        case "candle":
            dim = between(none, full, 0.35)
            made = candle(setting("bright", between(none, full, 0.9)), setting("dim", dim), place)
        case _:
            made = sequence(
                _steps(form.get("steps"), read), times, read(form["end"]) if "end" in form else None
            )
    return bounded(made)


def bounded(program: Program) -> Program:
    """The program, if it is not too long. Raises `CallerError`."""
    if len(program.segments) > MOST_SEGMENTS:
        raise CallerError(
            "bad-value",
            f"This {program.word} has {len(program.segments)} parts.",
            f"At most {MOST_SEGMENTS} are played at a time.",
        )
    if not program.segments or min(each.length for each in program.segments) <= 0:
        raise CallerError("bad-value", f"This {program.word} takes no time.", "Give its parts a length.")
    if program.round < NS // 100 and program.times != 1:
        raise CallerError(
            "bad-value",
            f"A {program.word} of {show_duration(program.round)} is too fast to be repeated.",
            "Rounds take 10 ms or more; for more, use the PWM's frequency.",
        )
    if (program.length or 0) > LONGEST:
        raise CallerError("bad-value", f"This {program.word} takes longer than a year.", "Make it shorter.")
    return program


def _steps(value: object, read: Read) -> list[tuple[Setting, int, int]]:
    if not isinstance(value, list) or not value or len(value) > MOST_SEGMENTS:
        raise CallerError(
            "bad-value",
            "A sequence needs 'steps'.",
            'Send [{"to": "40 %", "over": "1 s", "wait": "2 s"}, …].',
        )
    steps = []
    for number, step in enumerate(value, 1):
        if not isinstance(step, dict) or "to" not in step or set(step) - {"to", "over", "wait"}:
            raise CallerError(
                "bad-value",
                f"Step {number} of the sequence is none.",
                'Send {"to": "40 %", "over": "1 s", "wait": "2 s"}.',
            )
        over, wait = (
            0 if step.get(key) in (None, 0, "0 s") else duration(step[key]) for key in ("over", "wait")
        )
        steps.append((read(step["to"]), over, wait))
    return steps


def energy(program: Program, key: Callable[[Setting], Fraction], until: int) -> Fraction:
    """The integral of ``key`` (a share of full) over the first ``until`` nanoseconds, in seconds at full.

    Exact for holds, for lines of what is linear in its numbers, and for whole waves.
    """
    total = Fraction(0)
    t = 0
    while t < until and not program.over(t):
        segment, since, left = program._find(t)
        length = min(left, until - t)
        a, b = segment.at(since / segment.length), segment.at((since + length) / segment.length)
        total += (key(a) + key(b)) / 2 * Fraction(length, NS)
        t += length
    if t < until:
        total += key(program.last) * Fraction(until - t, NS)
    return total
