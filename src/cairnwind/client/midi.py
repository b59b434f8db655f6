"""Tunes from Standard MIDI Files: one voice of the file as pairs of hertz and seconds.

A sounder plays one note at a time. Of the track that is asked for, or else of all of them without channel 10
(percussion), one voice is picked by a rule: *highest*, the highest note of those that sound; or *latest*, the one
that was begun last. Where notes overlap, the picked one cuts the other off, and what still sounds when it ends is
taken up again.
"""

from __future__ import annotations

import io
import itertools
from pathlib import Path

from cairnwind.core.values import pitch
from cairnwind.core.values.errors import CallerError
from cairnwind.optional import needs

MOST_BYTES = 1 << 20
MOST_EVENTS = 100_000
MOST_NOTES = 1500
LONGEST = 3600.0
"""Seconds."""
RULES = ("highest", "latest")
PERCUSSION = 9


def read(path: str | Path, *, track: int | None = None, rule: str = "highest") -> list[list[float]]:
    """Pairs of hertz (0 is a rest) and seconds. ``track`` counts from 1. Raises `CallerError` in words."""
    if rule not in RULES:
        raise CallerError(
            "bad-value", f"'{rule}' is no rule for picking a voice.", f"Say {' or '.join(RULES)}."
        )
    path = Path(path)
    try:
        with path.open("rb") as file:
            data = file.read(MOST_BYTES + 1)
    except OSError as error:
        raise CallerError(
            "no-file", f"{path} cannot be read: {error.strerror}.", "Give the path of a MIDI file."
        ) from None
    if len(data) > MOST_BYTES:
        raise CallerError(
            "bad-value",
            f"{path} is larger than {MOST_BYTES >> 20} MB.",
            "A tune is smaller: give the file of one piece.",
        )
    notes = _notes(path, data, track)
    return _one_voice(path, notes, rule)


def _notes(path: Path, data: bytes, track: int | None) -> list[tuple[float, float, int]]:
    """Every note as (begin, end, number), seconds."""
    needs("midi", "A tune from a MIDI file")
    import mido

    try:
        file = mido.MidiFile(file=io.BytesIO(data))
    except Exception as error:  # whatever a broken file makes the parser stumble over
        raise CallerError(
            "bad-value",
            f"{path} is no MIDI file that can be read ({type(error).__name__}).",
            "Save it again as a Standard MIDI File.",
        ) from None
    if track is not None and not 1 <= track <= len(file.tracks):
        names = ", ".join(f"{number} {each.name}".strip() for number, each in enumerate(file.tracks[:20], 1))
        raise CallerError(
            "bad-value", f"{path} has no track {track}.", f"It has {len(file.tracks)}: {names}."
        )
    if sum(len(each) for each in file.tracks) > MOST_EVENTS:
        raise CallerError(
            "bad-value", f"{path} has more than {MOST_EVENTS} events.", "Give the file of one piece."
        )
    if file.type == 2 or not 0 < file.ticks_per_beat < 32768:
        raise CallerError(
            "bad-value",
            f"{path} counts its time in a way that is not known here.",
            "Save it as type 0 or 1, with ticks for each beat.",
        )
    timed: list[tuple[int, int, int, object]] = []
    for number, events in enumerate(file.tracks):
        ticks = 0
        for place, event in enumerate(events):
            ticks += event.time
            timed.append((ticks, number, place, event))
    timed.sort(key=lambda each: each[:3])
    found: list[tuple[float, float, int]] = []
    begun: dict[tuple[int, int], float] = {}
    seconds, last, tempo = 0.0, 0, 500_000
    for ticks, number, _, event in timed:
        seconds += (ticks - last) * tempo / 1e6 / file.ticks_per_beat
        last = ticks
        kind = event.type  # type: ignore[attr-defined]
        if kind == "set_tempo":
            tempo = event.tempo  # type: ignore[attr-defined]
        if kind not in ("note_on", "note_off") or (track is not None and number != track - 1):
            continue
        channel, note = event.channel, event.note  # type: ignore[attr-defined]
        if channel == PERCUSSION and track is None:
            continue
        start = begun.pop((channel, note), None)
        if start is not None and seconds > start:
            found.append((start, seconds, note))
        if kind == "note_on" and event.velocity:  # type: ignore[attr-defined]
            begun[channel, note] = seconds
    found += [(start, seconds, note) for (_, note), start in begun.items() if seconds > start]
    return found


def _one_voice(path: Path, notes: list[tuple[float, float, int]], rule: str) -> list[list[float]]:
    """The notes one after the other, rests between them."""
    if not notes:
        raise CallerError(
            "bad-value", f"{path} has no notes there.", "Pick another track; percussion has none."
        )
    moments = sorted({moment for start, end, _ in notes for moment in (start, end)})
    notes.sort()
    playing: list[tuple[float, float, int]] = []
    voice: list[tuple[tuple[float, float, int] | None, float, float]] = []
    at = 0
    for begin, end in itertools.pairwise(moments):
        while at < len(notes) and notes[at][0] <= begin:
            playing.append(notes[at])
            at += 1
        playing = [note for note in playing if note[1] > begin]
        picked = max(
            playing, key=lambda note: (note[2] if rule == "highest" else note[0], note[2]), default=None
        )
        if voice and voice[-1][0] == picked:
            voice[-1] = (picked, voice[-1][1], end)
        else:
            voice.append((picked, begin, end))
    if len(voice) > MOST_NOTES or moments[-1] - moments[0] > LONGEST:
        raise CallerError(
            "bad-value",
            f"{path} has {len(voice)} notes in {moments[-1] - moments[0]:.0f} s.",
            f"At most {MOST_NOTES} notes and an hour are played at a time: pick a track.",
        )
    return [
        [round(pitch.of_number(picked[2]) / 1000, 3) if picked else 0.0, round(end - begin, 6)]
        for picked, begin, end in voice
        if end - begin >= 0.001
    ]
