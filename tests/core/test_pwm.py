"""Timer arithmetic, held against every value that the registers can have."""

from __future__ import annotations

from fractions import Fraction

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cairnwind.boards import timers
from cairnwind.core.physics import pwm
from cairnwind.core.physics.pwm import ERROR, RESOLUTION, Timer
from cairnwind.core.values.errors import CallerError

SHAPES = st.builds(
    lambda clock, prescalers, width, fixed, dual, finer, duty: Timer(
        "made", "made", clock, tuple(sorted(prescalers)), width,
        fixed=0 if not fixed else 2**width, dual=dual and not fixed, finer=finer, duty_width=duty,
    ),
    st.integers(1000, 10**8),
    st.sets(st.sampled_from([1, 2, 4, 8, 16, 64, 256, 1024]), min_size=1, max_size=4),
    st.integers(2, 7),
    st.booleans(),
    st.booleans(),
    st.sampled_from([1, 4]),
    st.sampled_from([0, 6, 10]),
)  # fmt: skip
WANTED = st.fractions(Fraction(1, 10), 10**8, max_denominator=10**4)
DUTY = st.fractions(0, 1, max_denominator=1000)


def every(timer: Timer) -> list[tuple[Fraction, int, int, int]]:
    """All that the registers can give: frequency, steps, prescaler, counts; written without the module's help."""
    found = []
    for prescaler in timer.prescalers:
        top = 2**timer.width
        if timer.fixed:
            counts_there = [timer.fixed]
        elif timer.dual:
            counts_there = list(range(2, top))
        else:
            counts_there = list(range(2, top + 1))
        for counts in counts_there:
            ticks = prescaler * counts * (2 if timer.dual else 1)
            steps = counts * timer.finer
            if timer.duty_width:
                steps = min(steps, 2**timer.duty_width - 1)
            found.append((Fraction(timer.clock, ticks), steps, prescaler, counts))
    return found


@settings(max_examples=150, deadline=None)
@given(SHAPES, WANTED, DUTY)
def test_the_best_is_the_best_of_all_register_values(timer: Timer, hertz: Fraction, duty: Fraction) -> None:
    reachable = every(timer)
    fit = pwm.best(timer, hertz, duty)
    key = min((abs(f - hertz) / hertz, -steps, prescaler) for f, steps, prescaler, _ in reachable)
    assert (abs(fit.error) / 100, -fit.steps, fit.prescaler) == key
    assert (fit.hertz, fit.steps, fit.prescaler, fit.counts) in reachable
    # the compare value is the nearest of all
    whole = fit.counts * timer.finer
    assert abs(fit.duty - duty) == min(abs(Fraction(c, whole) - duty) for c in range(fit.steps + 1))
    if duty:
        assert fit.duty_error == (fit.duty - duty) / duty * 100
    # by resolution: no prescaler that reaches the frequency from both sides has more steps at its own best
    other = pwm.best(timer, hertz, duty, RESOLUTION)
    inside = [
        p
        for p in timer.prescalers
        if min(f for f, _, q, _ in reachable if q == p)
        <= hertz
        <= max(f for f, _, q, _ in reachable if q == p)
    ]
    nearest = {p: min((abs(f - hertz), -steps) for f, steps, q, _ in reachable if q == p) for p in inside}
    if inside:
        assert other.prescaler in inside
        assert -other.steps == min(steps for _, steps in nearest.values())
    low, high = timer.reach
    assert (low, high) == (min(f for f, *_ in reachable), max(f for f, *_ in reachable))
    assert bool(pwm.beyond(timer, hertz)) == (not low <= hertz <= high)


@settings(max_examples=150, deadline=None)
@given(SHAPES, WANTED, DUTY, st.sampled_from([ERROR, RESOLUTION]))
def test_registers_mean_what_the_fit_said(timer: Timer, hertz: Fraction, duty: Fraction, first: str) -> None:
    fit = pwm.best(timer, hertz, duty, first)
    back = pwm.inverse(timer, fit.prescaler, fit.period, fit.compare)
    assert (back.hertz, back.duty, back.steps) == (fit.hertz, fit.duty, fit.steps)
    again = pwm.best(timer, fit.hertz, fit.duty)
    assert again.error == 0, "what is reached exactly is found exactly"
    edges = list(pwm.edges(timer, fit))
    high = sum(
        (
            (b - a)
            for (a, level), (b, _) in zip(edges, [*edges[1:], (2 / fit.hertz, False)], strict=True)
            if level
        ),
        Fraction(0),
    )
    assert high == 2 / fit.hertz * fit.duty, "the drawn wave has the duty that is said"


@pytest.mark.parametrize(
    ("name", "hertz", "prescaler", "period", "steps"),
    [
        ("small-board", 440, 1, 36363, 36364),
        ("small-board", Fraction(1, 2), 1024, 31249, 31250),
        ("made-fine-duty", 20_000, 4, 99, 400),
        ("made-dual-slope", 1000, 8, 1500, 1500),
        ("made-fixed-period", 500, 128, 255, 256),
    ],
)
def test_the_described_timers_by_hand(
    name: str, hertz: Fraction, prescaler: int, period: int, steps: int
) -> None:
    fit = pwm.best(timers.load(name), Fraction(hertz))
    assert (fit.prescaler, fit.period, fit.steps) == (prescaler, period, steps)


def test_what_is_no_frequency_duty_or_register_is_refused_in_words() -> None:
    timer = timers.load("small-board")
    for hertz, duty in ((0, 0), (-5, 0), (10**12, 0), (440, Fraction(101, 100)), (440, -1)):
        with pytest.raises(CallerError):
            pwm.best(timer, Fraction(hertz), Fraction(duty))
    for registers in ((3, 100, 0), (8, 0, 0), (8, 70_000, 0), (8, 100, 102), (8, 100, -1)):
        with pytest.raises(CallerError):
            pwm.inverse(timer, *registers)
    with pytest.raises(CallerError, match="no timer called 'heder'"):
        timers.load("heder")
