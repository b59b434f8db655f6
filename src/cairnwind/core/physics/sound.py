"""Tones, sweeps and tunes for sounders, and what they would sound like.

A tune is a text of our own: words with spaces between them, each a pitch or a frequency with its length in
beats after a colon, one beat where there is none:

    tempo 96  E4:1/2 G4 440Hz:1.5 rest:1/2  loud 60  C5:2

``rest`` is silence, ``tempo`` is beats a minute (120 at first), ``loud`` is the loudness in percent from there
on, and a bar line ``|`` means nothing. It can also be a list of pairs of hertz (0 is silence) and seconds.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from fractions import Fraction

from cairnwind.core.physics.programs import MOST_SEGMENTS, Program, Segment, bounded
from cairnwind.core.values import pitch
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import NS, about, duration, show_duration
from cairnwind.core.values.settings import FULL, SILENCE, Setting, Tone, frequency, read, tone

MOST_TEXT = 100_000
"""Characters of a tune."""
BREATH = NS // 40
"""The silence between two notes that would else run into each other."""
TEMPOS = (10, 1000)
_LENGTH = re.compile(r"\d{1,4}(?:/\d{1,4}|\.\d{1,4})?")


def tune(text: object) -> Program:
    """The program of a tune's text, or of a list of pairs. Raises `CallerError` (``bad-value``) that says which word."""
    if isinstance(text, str):
        notes = _words(text)
    elif isinstance(text, list):
        notes = _pairs(text)
    else:
        raise CallerError(
            "bad-value", "This is no tune.", 'Send a text like "C4 E4 G4:2", or pairs of hertz and seconds.'
        )
    return of_notes(notes)


def of_notes(notes: Sequence[tuple[Tone, int]]) -> Program:
    """The program of tones and their lengths in nanoseconds."""
    if not any(tone.on for tone, _ in notes):
        raise CallerError("bad-value", "The tune has no note.", "Give it one, like A4.")
    parts: list[Segment] = []
    for number, (sound, length) in enumerate(notes):
        breath = 0
        if sound.on and number + 1 < len(notes) and notes[number + 1][0].on:
            breath = min(BREATH, length // 4)
        if length > breath:
            parts.append(Segment(length - breath, sound, sound))
        if breath:
            parts.append(Segment(breath, SILENCE, SILENCE))
    whole = sum(length for _, length in notes)
    count = sum(1 for sound, _ in notes if sound.on)
    return bounded(
        Program(
            "tune",
            f"a tune of {count} {'note' if count == 1 else 'notes'}, {about(whole)}",
            tuple(parts),
            1,
            "release",
        )
    )


def sweep(start: object, end: object, over: int, loudness: int = FULL) -> Program:
    """From one pitch to another, at the same pace in half-tones: to hear where a sounder is loudest."""
    low, high = tone(start)._replace(loudness=loudness), tone(end)._replace(loudness=loudness)
    text = (
        f"a sweep from {frequency(low.millihertz)} to {frequency(high.millihertz)} over {show_duration(over)}"
    )
    return bounded(Program("sweep", text, (Segment(over, low, high, "line"),), 1, "release"))


def _words(text: str) -> list[tuple[Tone, int]]:
    if len(text) > MOST_TEXT:
        raise CallerError("bad-value", f"The tune has {len(text)} characters.", f"At most {MOST_TEXT}.")
    notes: list[tuple[Tone, int]] = []
    tempo, loud = Fraction(120), FULL
    words = iter(enumerate(text.split(), 1))
    for number, word in words:
        if word == "|":
            continue
        if word in ("tempo", "loud"):
            _, value = next(words, (0, ""))
            if word == "tempo":
                tempo = _number(value, number, *TEMPOS, "beats a minute")
            else:
                loud = round(_number(value, number, 0, 100, "percent of loudness") * 10_000)
            continue
        name, _, length = word.partition(":")
        beats = _beats(length, word, number) if ":" in word else Fraction(1)
        if len(notes) >= MOST_SEGMENTS // 2:
            raise CallerError(
                "bad-value", f"The tune has more than {MOST_SEGMENTS // 2} notes.", "Make it shorter."
            )
        try:
            sound = SILENCE if name == "rest" else tone(name)._replace(loudness=loud)
        except CallerError as bad:
            raise CallerError(
                "bad-value", f"Word {number} of the tune, '{word}': {bad.sentence}", bad.remedy
            ) from None
        notes.append((sound, round(beats * 60 * NS / tempo)))
    return notes


def _beats(length: str, word: str, number: int) -> Fraction:
    if not _LENGTH.fullmatch(length) or not (beats := _fraction(length)) or beats > 1000:
        raise CallerError(
            "bad-value",
            f"Word {number} of the tune, '{word}', has no length after its colon.",
            "Write beats: A4:2, A4:1/2 or A4:1.5.",
        )
    return beats


def _fraction(text: str) -> Fraction:
    try:
        return Fraction(text)
    except ZeroDivisionError:
        return Fraction(0)


def _number(text: str, number: int, low: int, high: int, of: str) -> Fraction:
    found = _fraction(text) if _LENGTH.fullmatch(text) else Fraction(-1)
    if not low <= found <= high:
        raise CallerError(
            "bad-value", f"Word {number} of the tune is followed by '{text}'.", f"Write {low} to {high} {of}."
        )
    return found


def _pairs(pairs: list[object]) -> list[tuple[Tone, int]]:
    if len(pairs) > MOST_SEGMENTS // 2:
        raise CallerError("bad-value", f"The tune has {len(pairs)} notes.", f"At most {MOST_SEGMENTS // 2}.")
    notes: list[tuple[Tone, int]] = []
    for number, pair in enumerate(pairs, 1):
        hertz: float = -1
        seconds: float = 0
        if (
            isinstance(pair, list | tuple)
            and len(pair) == 2
            and all(type(each) in (int, float) for each in pair)
        ):
            hertz, seconds = pair
        if not 0.001 <= seconds <= 3600 or not hertz >= 0:
            raise CallerError(
                "bad-value",
                f"Note {number} of the tune is {pair!r}.",
                "Send pairs of hertz and seconds: [440, 0.5].",
            )
        notes.append((tone(hertz) if hertz else SILENCE, round(seconds * NS)))
    return notes


def write(notes: Iterable[tuple[int, int]], tempo: int = 120) -> str:
    """The text of a tune: from note numbers (0 is a rest) and lengths in nanoseconds; the inverse of `tune`."""
    words = [f"tempo {tempo}"]
    for note, length in notes:
        beats = Fraction(length * tempo, 60 * NS).limit_denominator(960)
        if beats > 0:
            words.append(f"{_name(note) if note else 'rest'}{'' if beats == 1 else f':{beats}'}")
    return " ".join(words)


def _name(note: int) -> str:
    return pitch.show(pitch.of_number(note)).partition(" ")[0]


def samples(program: Program, rate: int = 44_100, seconds: float = 600.0) -> Iterator[bytes]:
    """What a sounder on a pin would play: a square wave whose duty is half its loudness, as 16-bit mono samples.

    The phase goes on through changes of pitch, as a timer's counter does.
    """
    length = program.length
    count = round(min(seconds, (length or int(seconds * NS)) / NS) * rate)
    phase = 0.0
    chunk = bytearray()
    due: int | None = 0
    step = duty = 0.0
    high = 0
    for number in range(count):
        t = number * NS // rate
        if due is not None and t >= due:
            now = program.at(t)
            step, duty, high = _voice(now, rate)
            due = program.next_change(t, _itself)
        phase += step
        if phase >= 1:
            phase -= int(phase)
        value = (high if phase < duty else -high) if step else 0
        chunk += value.to_bytes(2, "little", signed=True)
        if len(chunk) >= 1 << 16:
            yield bytes(chunk)
            chunk.clear()
    yield bytes(chunk)


def _voice(setting: Setting, rate: int) -> tuple[float, float, int]:
    if not isinstance(setting, Tone) or not setting.on:
        return 0.0, 0.0, 0
    return setting.millihertz / 1000 / rate, setting.loudness / FULL / 2, 9000


def _itself(setting: Setting) -> Setting:
    return setting


def make(form: dict[str, object]) -> Program:
    """The program of ``{"kind": "tune", "notes": …}`` or ``{"kind": "sweep", "from": …, "to": …, "over": …}``."""
    if form.get("kind") == "sweep":
        known = {"kind", "from", "to", "over", "loudness"}
        if set(form) <= known and {"from", "to", "over"} <= set(form):
            loud = read(form.get("loudness", 100), "level")
            return sweep(form["from"], form["to"], duration(form["over"], longest=600), loud[0])
        raise CallerError(
            "bad-value",
            "A sweep has 'from', 'to' and 'over'.",
            'Send {"from": "500 Hz", "to": "4 kHz", "over": "10 s"}.',
        )
    if set(form) != {"kind", "notes"}:
        raise CallerError(
            "bad-value", "A tune has 'notes' and no more.", 'Send {"kind": "tune", "notes": "C4 E4 G4:2"}.'
        )
    return tune(form["notes"])
