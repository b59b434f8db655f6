"""Perceived brightness: from the level that people mean to the duty that a lamp needs, and back.

The curve *lightness* is CIE 1931 lightness (CIE 15, Colorimetry: L* = 116 (Y/Yn)^(1/3) - 16, and L* = 903.3 Y/Yn
where Y/Yn is up to 0.008856), turned round:

    Y/Yn = L* / 903.3              for L* up to 8
    Y/Yn = ((L* + 16) / 116)^3     above

*power* is Y = level^exponent, *straight* is Y = level, and *by-eye* is a table of levels and duties that somebody
looked at, with straight lines between its points. Whatever the curve: 0 is off, the smallest level above it is
the floor (below which the lamp does not light), and 100 % is the ceiling.
"""

from __future__ import annotations

from bisect import bisect_left
from functools import lru_cache

from cairnwind.core.values.fact import fact

WHOLE = 1_000_000
CURVES = ("lightness", "power", "straight", "by-eye")
KAPPA = 903.3
EXPONENT = 2.2


@fact
class Light:
    """How a lamp answers its duty. All shares are parts per million."""

    curve: str = "straight"
    exponent: float = EXPONENT
    """Of the curve *power*."""
    floor: int = 0
    """The least duty at which it lights."""
    ceiling: int = WHOLE
    """The duty at 100 %."""
    trim: tuple[int, ...] = (WHOLE,)
    """What its ceiling is multiplied by, so that it matches its neighbours; of a colour lamp, one for each channel."""
    table: tuple[tuple[int, int], ...] = ()
    """Of the curve *by-eye*: levels and duties, rising, from (0, 0) to (`WHOLE`, `WHOLE`)."""

    def duty(self, level: int, channel: int = 0) -> int:
        """The duty for a level; rising, 0 at 0 only if that is off, and the ceiling at `WHOLE`."""
        return _duty(self, level, channel)

    def of_light(self, light: int, channel: int = 0) -> int:
        """The duty for a share of the lamp's light: floor + (ceiling - floor) * light, trimmed."""
        trim = self.trim
        top = self.ceiling * (trim[channel] if channel < len(trim) else trim[-1]) // WHOLE
        duty = self.floor + round((top - self.floor) * light / WHOLE)
        return 1 if duty < 1 else duty if duty < top else top

    def level(self, duty: int, channel: int = 0) -> int:
        """The smallest level with at least this duty: the inverse of `duty`."""
        if duty <= 0:
            return 0
        low, high = 1, WHOLE
        while low < high:
            middle = (low + high) // 2
            if self.duty(middle, channel) >= duty:
                high = middle
            else:
                low = middle + 1
        return low


@lru_cache(16384)
def _duty(light: Light, level: int, channel: int) -> int:
    """Kept, since lamps that fade together ask for the same ones, and each is asked for on its whole way to the pin."""
    if level <= 0:
        return 0
    if light.curve == "lightness":
        star = level / 10_000
        share = round((star / KAPPA if star <= 8 else ((star + 16) / 116) ** 3) * WHOLE)
    else:
        share = _light(light.curve, light.exponent, light.table, level)
    return light.of_light(share, channel)


STRAIGHT = Light()
LIGHTNESS = Light("lightness")


def _light(curve: str, exponent: float, table: tuple[tuple[int, int], ...], level: int) -> int:
    share = level / WHOLE
    match curve:
        case "power":
            return round(float(share**exponent) * WHOLE)
        case "by-eye":
            at = bisect_left(table, (level, 0))
            (l0, d0), (l1, d1) = table[at - 1], table[at]
            return d0 + round((d1 - d0) * (level - l0) / (l1 - l0))
        case _:
            return level
