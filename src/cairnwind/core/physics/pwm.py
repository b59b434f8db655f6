"""Timer arithmetic: from a wanted frequency and duty to prescaler, period and compare values, and back.

    frequency = clock / (prescaler * ticks)
    duty      = compare / (counts * finer)

``counts`` is how many values the counter goes through: the period register and one. On a single slope a period
is ``ticks = counts``; on a dual slope, where the counter goes up and down again, ``counts`` is the period
register itself and ``ticks = 2 * counts``. Some timers have a duty register that counts more finely than the
period's: ``finer`` counts for one of the period's. All in exact integers and fractions.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from fractions import Fraction
from typing import NamedTuple

from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.fact import fact, field

ERROR, RESOLUTION = "error", "resolution"
MOST_HERTZ = Fraction(10**9)


@fact
class Timer:
    """What a timer of a chip can do."""

    name: str
    title: str
    clock: int
    """Hertz before the prescaler."""
    prescalers: tuple[int, ...]
    width: int
    """Bits of its counter."""
    fixed: int = 0
    """Counts of a period that cannot be chosen; 0: there is a period register."""
    dual: bool = False
    """Counts up and down again."""
    finer: int = 1
    """Duty counts for each count of the period."""
    duty_width: int = 0
    """Bits of the duty register; 0: as many as are needed."""
    channels: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    """By channel, the pins that it can come out on. They share the frequency."""

    @property
    def low(self) -> int:
        """The fewest counts of a period."""
        return self.fixed or 2

    @property
    def high(self) -> int:
        """The most."""
        return self.fixed or (2**self.width - 1 if self.dual else 2**self.width)

    def hertz(self, prescaler: int, counts: int) -> Fraction:
        """The frequency of a setting."""
        return Fraction(self.clock, prescaler * counts * (2 if self.dual else 1))

    def register(self, counts: int) -> int:
        """What stands in the period register for so many counts."""
        return counts if self.dual else counts - 1

    def counts(self, register: int) -> int:
        """The inverse of `register`."""
        return register if self.dual else register + 1

    def steps(self, counts: int) -> int:
        """How many duties above none there are: the largest compare value."""
        whole = counts * self.finer
        return min(whole, 2**self.duty_width - 1) if self.duty_width else whole

    @property
    def reach(self) -> tuple[Fraction, Fraction]:
        """The lowest and the highest frequency."""
        return self.hertz(max(self.prescalers), self.high), self.hertz(min(self.prescalers), self.low)


class Fit(NamedTuple):
    """One way to set a timer, and how near it comes."""

    prescaler: int
    period: int
    """The period register's value, or the fixed period's."""
    compare: int
    counts: int
    steps: int
    """Distinguishable duties above none."""
    hertz: Fraction
    duty: Fraction
    """What is reached, 0 to 1."""
    error: Fraction
    """Of the frequency, in percent of what was wanted, with sign."""
    duty_error: Fraction
    """Of the duty, in percent of what was wanted, with sign."""
    in_reach: bool
    """Whether this prescaler reaches what was wanted from both sides."""

    @property
    def period_ns(self) -> Fraction:
        """Nanoseconds."""
        return 10**9 / self.hertz


def candidates(timer: Timer, hertz: Fraction, duty: Fraction = Fraction(1, 2)) -> list[Fit]:
    """For each prescaler the nearest setting on either side of ``hertz``, in the order of the prescalers.

    Raises `CallerError` (``bad-value``) for what is no frequency or no duty.
    """
    if not 0 < hertz <= MOST_HERTZ:
        raise CallerError(
            "bad-value",
            f"{float(hertz):.10g} Hz is no frequency for a timer.",
            "Give one above 0 Hz, up to 1 GHz.",
        )
    if not 0 <= duty <= 1:
        raise CallerError(
            "bad-value", f"A duty of {float(duty * 100):.10g} % is outside 0 to 100 %.", "Give 0 % to 100 %."
        )
    found = []
    for prescaler in timer.prescalers:
        ideal = timer.hertz(prescaler, 1) / hertz
        below = ideal.numerator // ideal.denominator
        inside = timer.low <= ideal <= timer.high
        for counts in dict.fromkeys(max(timer.low, min(timer.high, each)) for each in (below, below + 1)):
            found.append(_fit(timer, prescaler, counts, hertz, duty, inside))
    return found


def _fit(timer: Timer, prescaler: int, counts: int, hertz: Fraction, duty: Fraction, inside: bool) -> Fit:
    whole = counts * timer.finer
    steps = timer.steps(counts)
    compare = min(steps, (2 * duty * whole + 1) // 2)
    reached, given = timer.hertz(prescaler, counts), Fraction(compare, whole)
    return Fit(
        prescaler, timer.register(counts), compare, counts, steps, reached, given, (reached - hertz) / hertz * 100,
        (given - duty) / duty * 100 if duty else Fraction(0), inside,
    )  # fmt: skip


def best(timer: Timer, hertz: Fraction, duty: Fraction = Fraction(1, 2), first: str = ERROR) -> Fit:
    """The best of the candidates: by the frequency's error, then resolution, then the smaller prescaler.

    ``first`` 'resolution' turns the first two round, among the prescalers that reach the frequency from both
    sides. What is out of reach is answered with the nearest that is not.
    """
    found = candidates(timer, hertz, duty)
    if first == RESOLUTION:
        nearest: dict[int, Fit] = {}
        for fit in found:
            known = nearest.get(fit.prescaler)
            if known is None or _by_error(fit) < _by_error(known):
                nearest[fit.prescaler] = fit
        among = [fit for fit in nearest.values() if fit.in_reach]
        if among:
            return min(among, key=lambda fit: (-fit.steps, abs(fit.error), fit.prescaler))
    return min(found, key=_by_error)


def _by_error(fit: Fit) -> tuple[Fraction, int, int]:
    return abs(fit.error), -fit.steps, fit.prescaler


def beyond(timer: Timer, hertz: Fraction) -> str:
    """What to say of a frequency that is out of reach, with the nearest on its side; empty where it is within."""
    low, high = timer.reach
    if low <= hertz <= high:
        return ""
    side, nearest = ("below", low) if hertz < low else ("above", high)
    return f"{show_hertz(hertz)} is {side} what the timer reaches: the nearest is {show_hertz(nearest)}"


def inverse(timer: Timer, prescaler: int, period: int, compare: int) -> Fit:
    """What registers mean. Raises `CallerError` (``bad-value``) for values that do not fit into them."""
    if prescaler not in timer.prescalers:
        raise CallerError(
            "bad-value",
            f"{timer.name} has no prescaler {prescaler}.",
            f"It has {', '.join(map(str, timer.prescalers))}.",
        )
    counts = timer.counts(period)
    if not timer.low <= counts <= timer.high:
        raise CallerError(
            "bad-value", f"A period register of {period} does not suit {timer.name}.",
            f"It takes {timer.register(timer.low)} to {timer.register(timer.high)}.",
        )  # fmt: skip
    if not 0 <= compare <= timer.steps(counts):
        raise CallerError(
            "bad-value",
            f"A compare value of {compare} does not suit this period.",
            f"It takes 0 to {timer.steps(counts)}.",
        )
    hertz, duty = timer.hertz(prescaler, counts), Fraction(compare, counts * timer.finer)
    return Fit(
        prescaler, period, compare, counts, timer.steps(counts), hertz, duty, Fraction(0), Fraction(0), True
    )


def edges(timer: Timer, fit: Fit, periods: int = 2) -> Iterator[tuple[Fraction, bool]]:
    """Seconds and level of each edge of the waveform over so many periods: high first; dual slopes centre it."""
    period = 1 / fit.hertz
    high = period * fit.duty
    start = (period - high) / 2 if timer.dual else Fraction(0)
    if fit.duty in (0, 1):
        yield Fraction(0), fit.duty == 1
        return
    if start:
        yield Fraction(0), False
    for number in range(periods):
        yield number * period + start, True
        yield number * period + start + high, False


def show_hertz(hertz: Fraction) -> str:
    """'440 Hz', '25.6 kHz', '0.238 Hz': six digits."""
    value = float(hertz)
    for size, unit in ((1e6, "MHz"), (1e3, "kHz")):
        if value >= size * (1 if unit == "MHz" else 10):
            return f"{value / size:.6g} {unit}"
    return f"{value:.6g} Hz"
