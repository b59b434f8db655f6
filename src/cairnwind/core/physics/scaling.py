"""From the volts on a pin to the value they stand for, and back: two points, a table, or a thermistor."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from typing import NamedTuple

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
