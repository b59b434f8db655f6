"""From the volts on a pin to the value they stand for, and back: two points, a table, or a thermistor."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

from cairnwind.core.values.entries import choice
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import parse

KELVIN = 273.15
POINTS = Sequence[tuple[float, float]]


class Thermistor(NamedTuple):
    """A resistor that goes with temperature, in a divider with a fixed one. Ohms, volts, degrees Celsius.

    By Steinhart and Hart (1968): 1/T = a + b ln R + c (ln R)^3, T in kelvin. With a Beta only, as makers state
    it: 1/T = 1/T0 + ln(R/R0)/Beta with T0 = 25 °C, which is the same with c = 0.
    """

    a: float
    b: float
    c: float
    series: float
    """The fixed resistor."""
    volts: float
    """Over both."""
    below: bool = True
    """The thermistor is between the pin and ground."""

    def value(self, volts: float) -> float | None:
        """Degrees at so many volts on the pin; None where the wire is broken or shorted."""
        share = volts / self.volts
        if not 0.002 < share < 0.998:
            return None
        ohms = self.series * (share / (1 - share) if self.below else (1 - share) / share)
        log = math.log(ohms)
        inverse = self.a + self.b * log + self.c * log**3
        return 1 / inverse - KELVIN if inverse > 0 else None


LEAST_LOOP, MOST_LOOP = 0.0036, 0.021
"""Amperes outside which a loop of 4 to 20 mA is broken or shorted (NAMUR NE 43)."""


class Loop(NamedTuple):
    """A loop of 4 to 20 mA, through a resistor across which it is measured. Ohms; points of (amperes, value)."""

    ohms: float
    points: tuple[tuple[float, float], ...]

    def value(self, volts: float) -> float | None:
        """What its sensor says at so many volts on the resistor; None where the loop is broken or shorted."""
        amperes = volts / self.ohms
        if not LEAST_LOOP <= amperes <= MOST_LOOP:
            return None
        return along(self.points, amperes)

    def at(self, value: float) -> float:
        """The volts that stand for a value."""
        return back(self.points, value) * self.ohms


def by_beta(beta: float, ohms: float, series: float, volts: float, below: bool = True) -> Thermistor:
    """A thermistor by its Beta and its ohms at 25 °C."""
    b = 1 / beta
    return Thermistor(1 / (25 + KELVIN) - b * math.log(ohms), b, 0.0, series, volts, below)


def along(points: POINTS, at: float) -> float:
    """The value at ``at`` on the straight lines through points that rise in their first part, and beyond their ends."""
    low, high = points[0], points[1]
    for left, right in itertools.pairwise(points):
        low, high = left, right
        if at <= right[0]:
            break
    (v0, x0), (v1, x1) = low, high
    return x0 + (at - v0) * (x1 - x0) / (v1 - v0)


def back(points: POINTS, value: float) -> float:
    """The volts that stand for a value, on the same lines."""
    turned = sorted((x, v) for v, x in points)
    return along(turned, value)


# --- as it is written in the site file ---------------------------------------------------------------------


def read(value: Any) -> tuple[tuple[float, float], ...] | Thermistor | Loop:
    """Two points of volts and value, or a table of more, [["0.5 V", -40], ["2.5 V", 85]]; or a thermistor, or a current loop."""
    if isinstance(value, dict):
        return _loop(value) if "loop" in value else _thermistor(value)
    return _points(
        value,
        _point,
        'Write points of volts and value, two or more, with rising volts and values that go one way: scale = [["0.5 V", -40], ["2.5 V", 85]].',
    )


def _points(
    value: Any, point: Callable[[Any], tuple[float, float]], remedy: str
) -> tuple[tuple[float, float], ...]:
    try:
        points = tuple(point(each) for each in value)
    except (TypeError, ValueError):
        points = ()
    volts, values = [each[0] for each in points], [each[1] for each in points]
    rising = all(a < b for a, b in itertools.pairwise(volts)) or (len(volts) == 2 and volts[0] != volts[1])
    steady = all((a < b) == (values[0] < values[1]) and a != b for a, b in itertools.pairwise(values))
    if len(points) < 2 or not rising or not steady:
        raise CallerError(
            "bad-value",
            "this is not a scale.",
            remedy,
        )
    return tuple(sorted(points))


def _loop(value: dict[str, Any]) -> Loop:
    """{ loop = "250 ohm", points = [["4 mA", 0], ["20 mA", 10]] }."""
    example = 'Write scale = { loop = "250 ohm", points = [["4 mA", 0], ["20 mA", 10]] }.'
    if set(value) != {"loop", "points"}:
        raise CallerError("bad-value", "this is not a current loop.", example)
    ohms = float(parse(value["loop"], "a resistance"))
    if ohms <= 0:
        raise CallerError("bad-value", "a current loop is measured across a resistor.", example)
    return Loop(
        ohms,
        _points(
            value["points"],
            lambda pair: (float(parse(pair[0], "a current", bare="a")), float(pair[1])),
            example,
        ),
    )


def _thermistor(value: dict[str, Any]) -> Thermistor:
    """{ thermistor = "10 kohm", beta = 3950, series = "10 kohm", volts = "3.3 V" }, or 'steinhart' with three numbers."""
    try:
        own = dict(value)
        series, volts = (
            parse(own.pop("series"), "a resistance"),
            parse(own.pop("volts"), "a voltage", bare="v"),
        )
        below = choice(own.pop("side", "below"), ("below", "above")) == "below"
        if "steinhart" in own:
            a, b, c = map(float, own.pop("steinhart"))
            made = Thermistor(a, b, c, float(series), float(volts), below)
        else:
            ohms = parse(own.pop("thermistor"), "a resistance")
            made = by_beta(float(own.pop("beta")), float(ohms), float(series), float(volts), below)
        if own or series <= 0 or volts <= 0:
            raise ValueError
        middle = made.value(float(volts) / 2)
        if middle is None or not -100 < middle < 400:
            raise ValueError
    except (KeyError, TypeError, ValueError, ZeroDivisionError, OverflowError):
        raise CallerError(
            "bad-value",
            "this is not a thermistor.",
            'Write scale = { thermistor = "10 kohm", beta = 3950, series = "10 kohm", volts = "3.3 V", side = "below" }, '
            "or steinhart = [a, b, c] in place of the first two.",
        ) from None
    return made


def _point(pair: Any) -> tuple[float, float]:
    volts, value = pair
    return float(parse(volts, "a voltage", bare="v")), float(value)
