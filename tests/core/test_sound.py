"""Tones and tunes: the notation read and written, MIDI files of good and ill will, and what it sounds like."""

from __future__ import annotations

import itertools
import struct
from pathlib import Path

import mido
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cairnwind.client import midi
from cairnwind.core.physics import sound
from cairnwind.core.physics.programs import Program
from cairnwind.core.values import pitch
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import NS
from cairnwind.core.values.settings import Tone

NOTES = st.lists(
    st.tuples(
        st.one_of(st.just(0), st.integers(28, 110)),
        st.sampled_from([1, 2, 3, 4, 6, 8]).map(lambda n: n * NS // 8),
    ),
    min_size=1,
    max_size=40,
).filter(lambda notes: any(note for note, _ in notes))


def played(tune: Program) -> list[tuple[int, int]]:
    """Millihertz and length of what is heard and what is not, the breath between notes added to them."""
    found: list[list[int]] = []
    for segment in tune.segments:
        assert isinstance(segment.end, Tone)
        hertz = segment.end.millihertz if segment.end.on else 0
        if not hertz and segment.length <= sound.BREATH and found and found[-1][0]:
            found[-1][1] += segment.length
        else:
            found.append([hertz, segment.length])
    return [(hertz, length) for hertz, length in found]


@given(NOTES, st.sampled_from([60, 96, 120, 150]))
def test_a_tune_that_is_written_is_read_as_it_was_meant(notes: list[tuple[int, int]], tempo: int) -> None:
    tune = sound.tune(sound.write(notes, tempo))
    wanted = [(pitch.of_number(note) if note else 0, length) for note, length in notes]
    heard = played(tune)
    assert sum(length for _, length in heard) == pytest.approx(sum(length for _, length in wanted), rel=1e-6)
    assert [hertz for hertz, _ in heard if hertz] == [hertz for hertz, _ in wanted if hertz]
    assert tune.then == "release", "it ends by itself"
    pairs = [[hertz / 1000, length / NS] for hertz, length in wanted]
    assert [each for each in played(sound.tune(pairs)) if each[0]] == [each for each in heard if each[0]]


@given(st.integers(12, 127))
def test_pitches_are_those_of_equal_temperament(note: int) -> None:
    hertz = pitch.of_number(note)
    assert pitch.of_number(note + 12) == pytest.approx(2 * hertz, abs=2)
    name = pitch.show(hertz).partition(" ")[0]
    assert pitch.number(name) == note
    assert pitch.millihertz(name) == hertz
    assert (pitch.number("A4"), pitch.of_number(69), pitch.number("Bb3"), pitch.number("Cb4")) == (
        69,
        440_000,
        58,
        59,
    )


BAD = {
    "": "no note",
    "rest rest": "no note",
    "H4": "Word 1 of the tune, 'H4'",
    "A4 B4:": "Word 2 of the tune, 'B4:', has no length",
    "A4:0": "has no length",
    "A4:1/0": "has no length",
    "A4:-1": "has no length",
    "tempo fast A4": "followed by 'fast'",
    "tempo 0 A4": "followed by '0'",
    "A4 tempo": "followed by ''",
    "loud 101 A4": "followed by '101'",
    "5Hz": "no tone that can be heard",
    "30kHz": "no tone that can be heard",
    "A4:9999": "has no length",
}


@pytest.mark.parametrize("text", BAD)
def test_a_word_that_is_none_is_pointed_at(text: str) -> None:
    with pytest.raises(CallerError) as refused:
        sound.tune(text)
    assert BAD[text] in refused.value.sentence
    assert refused.value.remedy


@pytest.mark.parametrize(
    "tune",
    [
        "A4 " * 1_000_000, "A4 " * 3000, [[440, 1]] * 1_000_000, [[440]], [[440, -1]], [["A4", 1]], [[float("nan"), 1]], [[440, float("inf")]],
        [[440, True]], 7, None, {"A4": 1}, [440, 1],
    ],
    ids=str,
)  # fmt: skip
def test_tunes_without_bounds_or_sense_are_refused(tune: object) -> None:
    with pytest.raises(CallerError) as refused:
        sound.tune(tune)
    assert len(refused.value.sentence) < 300


def test_what_would_be_heard() -> None:
    tune = sound.tune([[441, 0.5], [0, 0.25], [882, 0.5]])
    raw = b"".join(sound.samples(tune))
    assert len(raw) == 2 * round(1.25 * 44_100)
    heard = struct.unpack(f"<{len(raw) // 2}h", raw)

    def rises(start: float, end: float) -> int:
        part = heard[round(start * 44_100) : round(end * 44_100)]
        return sum(1 for a, b in itertools.pairwise(part) if a <= 0 < b)

    assert rises(0.02, 0.48) == pytest.approx(441 * 0.46, abs=1)
    assert rises(0.52, 0.74) == 0
    assert rises(0.77, 1.23) == pytest.approx(882 * 0.46, abs=1)
    soft = struct.unpack("<882h", b"".join(sound.samples(sound.tune("loud 20 441Hz:1/25")))[:1764])
    share = sum(1 for value in soft if value > 0) / len(soft)
    assert share == pytest.approx(0.1, abs=0.02), "loudness is duty: half of it is as loud as it gets"


def write(path: Path, *tracks: list[tuple[str, int, int]], ticks: int = 480) -> Path:
    """A MIDI file: each track a list of ('on' or 'off' or 'tempo', note, ticks since the last)."""
    file = mido.MidiFile(ticks_per_beat=ticks)
    for events in tracks:
        track = mido.MidiTrack()
        file.tracks.append(track)
        for kind, value, wait in events:
            if kind == "tempo":
                track.append(mido.MetaMessage("set_tempo", tempo=value, time=wait))
            else:
                track.append(mido.Message(f"note_{kind}", note=value, velocity=64, time=wait))
    file.save(path)
    return path


@settings(max_examples=40, deadline=None)
@given(notes=NOTES)
def test_one_voice_goes_through_a_midi_file_and_back(
    notes: list[tuple[int, int]], tmp_path_factory: pytest.TempPathFactory
) -> None:
    events: list[tuple[str, int, int]] = []
    wait = 0
    for note, length in notes:
        ticks = round(length / NS / 0.5 * 480)
        if note:
            events += [("on", note, wait), ("off", note, ticks)]
            wait = 0
        else:
            wait += ticks
    path = write(tmp_path_factory.mktemp("midi") / "tune.mid", events)
    found = [(hertz, seconds) for hertz, seconds in midi.read(path) if hertz]
    wanted = [(pitch.of_number(note) / 1000, length / NS) for note, length in notes if note]
    assert [hertz for hertz, _ in found] == [hertz for hertz, _ in wanted]
    assert [seconds for _, seconds in found] == pytest.approx([seconds for _, seconds in wanted], abs=1e-5)
    assert sound.tune(midi.read(path)).word == "tune"


def test_voices_are_picked_by_rule_or_by_track(tmp_path: Path) -> None:
    # C4 for two beats; under and over it E4 and A3 for one, begun after half a beat
    first = [("tempo", 1_000_000, 0), ("on", 60, 0), ("off", 60, 960)]
    second = [("on", 64, 240), ("off", 64, 480)]
    third = [("on", 57, 240), ("off", 57, 480)]
    path = write(tmp_path / "chord.mid", first, second, third)
    names = {261.626: "C4", 329.628: "E4", 220.0: "A3", 0.0: "rest"}

    def voice(**how: object) -> list[tuple[str, float]]:
        return [(names[hertz], seconds) for hertz, seconds in midi.read(path, **how)]  # type: ignore[arg-type]

    assert voice() == [("C4", 0.5), ("E4", 1.0), ("C4", 0.5)], "cut off, and taken up again"
    assert voice(rule="latest") == [("C4", 0.5), ("E4", 1.0), ("C4", 0.5)]
    assert voice(track=3) == [("A3", 1.0)]
    with pytest.raises(CallerError, match="no track 4"):
        voice(track=4)
    with pytest.raises(CallerError, match="no rule"):
        voice(rule="loudest")


def test_hostile_and_broken_midi_files_are_refused_in_words(tmp_path: Path) -> None:
    good = write(tmp_path / "good.mid", [("on", 60, 0), ("off", 60, 480)]).read_bytes()
    many = [("on" if number % 2 == 0 else "off", 40 + number // 2 % 60, 10) for number in range(120_000)]
    files = {
        "empty": b"",
        "text": b"no music at all",
        "cut": good[:-7],
        "a header that lies": b"MThd\x00\x00\x00\x06\x00\x01\xff\xff\x01\xe0" + good[14:],
        "a track that lies": good[:18] + b"\x7f\xff\xff\xff" + good[22:],
        "no time": good[:12] + b"\x00\x00" + good[14:],
        "large": good + bytes(2 << 20),
        "no notes": write(tmp_path / "none.mid", [("tempo", 500_000, 0)]).read_bytes(),
        "too many events": write(tmp_path / "many.mid", many).read_bytes(),
        "too many notes": write(tmp_path / "notes.mid", many[:8000]).read_bytes(),
    }
    for name, data in files.items():
        path = tmp_path / f"{name}.mid"
        path.write_bytes(data)
        with pytest.raises(CallerError) as refused:
            midi.read(path)
        assert name in refused.value.sentence, "it says which file"
        assert refused.value.remedy
    with pytest.raises(CallerError, match="cannot be read"):
        midi.read(tmp_path / "absent.mid")


@settings(max_examples=60, deadline=None)
@given(data=st.binary(max_size=300))
def test_random_bytes_are_never_more_than_refused(
    data: bytes, tmp_path_factory: pytest.TempPathFactory
) -> None:
    path = tmp_path_factory.mktemp("noise") / "noise.mid"
    path.write_bytes(b"MThd\x00\x00\x00\x06\x00\x01\x00\x01\x01\xe0MTrk\x00\x00\x01\x00" + data)
    try:
        assert midi.read(path)
    except CallerError as refused:
        assert "noise.mid" in refused.sentence
