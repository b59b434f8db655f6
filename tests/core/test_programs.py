"""Programs: no change is skipped, nothing wakes for nothing, and what was meant is what is done."""

from __future__ import annotations

from fractions import Fraction

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cairnwind.core.facts.hardware import Pin
from cairnwind.core.facts.outputs import Output
from cairnwind.core.physics import programs
from cairnwind.core.physics.light import LIGHTNESS
from cairnwind.core.physics.programs import STEP, Program, Segment
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import NS
from cairnwind.core.values.settings import FULL, OFF, ON, Colour, Level, Setting, Tone

LAMP = Output("lamp", "lamp", Pin("b", 0), frequency=Fraction(1000), steps=200, light=LIGHTNESS)
LEVEL = st.integers(0, FULL).map(Level)
TIME = st.integers(1, 400).map(lambda ms: ms * NS // 1000 + 137)
SEGMENTS = st.lists(
    st.one_of(
        st.builds(lambda length, level: Segment(length, level, level), TIME, LEVEL),
        st.builds(Segment, TIME, LEVEL, LEVEL, st.sampled_from(["line", "wave"])),
    ),
    min_size=1,
    max_size=5,
)
PROGRAMS = st.builds(
    lambda segments, times, then, offset: Program(
        "sequence", "made", tuple(segments), times, then, offset % sum(each.length for each in segments)
    ),
    SEGMENTS,
    st.integers(0, 3),
    st.sampled_from(["stay", "release"]),
    st.integers(0, NS),
)


@settings(max_examples=200, deadline=None)
@given(PROGRAMS, st.integers(0, 10 * NS))
def test_next_change_never_skips_a_change(program: Program, phase: int) -> None:
    """Against sampling at every step of the clock, at every edge of a segment, and a moment after it."""
    until = min(program.length or 2 * program.round, 2 * NS)
    t: int | None = 0
    due = []
    while t is not None and t <= until:
        later = program.next_change(t, LAMP.counts, phase)
        assert later is None or later > t
        due.append(t)
        t = later
    ends = {0, program.length}
    total = -program.offset
    while total <= until:
        for segment in program.segments:
            total += segment.length
            ends.add(total)
    steps = {step * STEP - phase for step in range(phase // STEP + 1, (phase + until) // STEP + 1)}
    moments = sorted(m for m in ends | steps if m is not None and 0 <= m <= until)
    known = LAMP.counts(program.at(0))
    for moment in moments:
        if moment in due:
            known = LAMP.counts(program.at(moment))
        held = LAMP.counts(program.at(moment))
        if held != known:
            pytest.fail(f"changed unseen at {moment}: {known} to {held}, woke at {due}")
    on_slopes = [moment for moment in due if moment not in ends]
    assert all((moment + phase) % STEP == 0 for moment in on_slopes), "slopes move together"


@given(PROGRAMS)
def test_what_is_stored_is_what_was_meant(program: Program) -> None:
    back = programs.decode_wanted(programs.encode_wanted(program))
    assert back == program
    assert isinstance(back, Program)
    assert [back.at(t) for t in range(0, NS, NS // 7)] == [program.at(t) for t in range(0, NS, NS // 7)]


@given(LEVEL, LEVEL, st.integers(2, 3000))
def test_the_energy_under_a_ramp_is_the_integral(start: Level, end: Level, ms: int) -> None:
    over = ms * NS // 1000
    ramp = programs.ramp(start, end, over)

    def share(setting: Setting) -> Fraction:
        assert isinstance(setting, Level)
        return Fraction(setting.parts, FULL)

    seconds = Fraction(over, NS)
    assert programs.energy(ramp, share, over) == (share(start) + share(end)) / 2 * seconds
    assert (
        programs.energy(ramp, share, 2 * over)
        == (share(start) + share(end)) / 2 * seconds + share(end) * seconds
    )
    sampled = sum(share(ramp.at(over * (2 * k + 1) // 200)) for k in range(100)) / 100 * seconds
    assert float(programs.energy(ramp, share, over)) == pytest.approx(
        float(sampled), abs=2e-3 * float(seconds) + 1e-9
    )


def made(**form: object) -> Program:
    return programs.make(form, "level", LAMP.read)


def at(program: Program, seconds: float) -> float:
    setting = program.at(round(seconds * NS))
    assert isinstance(setting, Level)
    return setting.percent


def test_each_kind_does_what_its_name_says() -> None:
    blink = made(kind="blink", lit="200 ms", dark="300 ms", times=3, off="10 %")
    assert [at(blink, t) for t in (0, 0.19, 0.2, 0.49, 0.5, 1.45)] == [100, 100, 10, 10, 100, 10]
    assert (blink.length, blink.then, blink.on) == (3 * NS // 2, "release", True)
    assert blink.next_change(0, LAMP.counts) == NS // 5, "nothing wakes between two edges"
    faded = made(kind="blink", lit="1 s", dark="1 s", edge="500 ms")
    assert [at(faded, t) for t in (0, 0.25, 0.5, 0.99, 1.25, 1.6)] == [0, 50, 100, 100, 50, 0]
    breathe = made(kind="breathe", low="20 %", high="80 %", **{"in": "2 s"}, out="4 s")
    assert [at(breathe, t) for t in (0, 1, 2, 4, 6)] == [20, 50, 80, 50, 20]
    back = made(kind="ramp", **{"from": "0 %"}, to="100 %", over="1 s", repeat="jump-back")
    assert [at(back, t) for t in (0.25, 0.999, 1.25)] == [25, 99.9, 25]
    both = made(kind="ramp", **{"from": "0 %"}, to="100 %", over="1 s", repeat="there-and-back")
    assert [at(both, t) for t in (0.25, 1.25, 2.25)] == [25, 75, 25]
    steps = [{"to": "50 %", "over": "1 s", "wait": "1 s"}, {"to": "off", "wait": "1 s"}]
    sequence = made(kind="sequence", steps=steps, end="30 %").starting(ON)
    assert [at(sequence, t) for t in (0, 0.5, 1.5, 2.5, 9)] == [100, 75, 50, 0, 30]
    fade = made(kind="ramp", to="40 %", over="2 s")
    assert fade.starting(Level(800_000)).at(NS) == Level(600_000), "from what it was at"
    assert fade.starting(OFF).last == Level(400_000)
    assert fade.then == "stay"
    candle = made(kind="candle")
    values = [at(candle, t / 10) for t in range(200)]
    assert 30 < min(values) < 60
    assert 80 < max(values) <= 100
    assert values == [at(candle, t / 10) for t in range(200)], "the same each time"


@given(st.integers(2, 6), st.integers(1, 5), st.integers(0, 4))
def test_in_a_chase_one_follows_the_other(of: int, tenths: int, overlap: int) -> None:
    step = tenths * NS // 10
    over = min(overlap * NS // 10, (of - 1) * step)
    runners = [programs.chase(ON, OFF, step, place, of, over) for place in range(of)]
    for moment in range(0, 2 * of * step, NS // 20):
        lit = {place for place, runner in enumerate(runners) if runner.at(moment).on}
        expected = set()
        for place in range(of):
            since = (moment - place * step) % (of * step)
            if since < step + over:
                expected.add(place)
        assert lit == expected


def test_a_sweep_moves_in_pitch_and_a_colour_in_its_channels() -> None:
    low, high = Tone(500_000), Tone(2_000_000)
    assert programs.between(low, high, 0.5) == Tone(1_000_000)
    middle = programs.between(Colour(0, 0, FULL), Colour(FULL, 0, 0), 0.25)
    assert middle == Colour(FULL // 4, 0, FULL * 3 // 4)


BAD = {
    "no kind": ({}, "no kind of program"),
    "an unknown kind": ({"kind": "wobble"}, "'wobble'"),
    "a stranger": ({"kind": "blink", "speed": 3}, "no 'speed'"),
    "too bright": ({"kind": "breathe", "high": "101 %"}, "0 to 100 %"),
    "no time": ({"kind": "ramp", "to": "10 %"}, "'over'"),
    "a time that is none": ({"kind": "ramp", "to": "10 %", "over": "-2 s"}, "range"),
    "long edges": ({"kind": "blink", "lit": "1 s", "edge": "2 s"}, "do not fit"),
    "times that are none": ({"kind": "blink", "times": -1}, "no number of times"),
    "too fast": ({"kind": "blink", "lit": "1 us", "dark": "1 us"}, "too fast"),
    "steps that are none": ({"kind": "sequence", "steps": [{"over": "1 s"}]}, "Step 1"),
    "a million steps": ({"kind": "sequence", "steps": [{"to": "1 %", "wait": "1 s"}] * 5000}, "steps"),
    "no steps": ({"kind": "sequence", "steps": []}, "steps"),
    "no beginning": ({"kind": "ramp", "to": "1 %", "over": "1 s", "repeat": "jump-back"}, "'from'"),
    "a way to repeat": ({"kind": "ramp", "to": "1 %", "over": "1 s", "repeat": "sideways"}, "sideways"),
    "years": ({"kind": "ramp", "to": "1 %", "over": "900 d"}, "range"),
}


@pytest.mark.parametrize(("form", "says"), BAD.values(), ids=BAD)
def test_what_makes_no_program_is_refused_in_words(form: dict[str, object], says: str) -> None:
    with pytest.raises(CallerError, match=says) as refused:
        programs.make(form, "level", LAMP.read)
    assert refused.value.remedy


def test_a_sounder_does_not_blink() -> None:
    with pytest.raises(CallerError, match="does not blink"):
        programs.make({"kind": "blink"}, "tone", LAMP.read)
