"""From what a load does to what its pin does, and back: the one place where sense and contact count.

A pin level is the share of time that the pin is high, in parts per million, as a setting's level is of the
load. The way: a normally-closed contact turns the load's level round once (its coil is dead while the load is
on), an active-low sense turns the pin's level round once more.
"""

from __future__ import annotations

from cairnwind.core.model import Input, Output
from cairnwind.core.settings import FULL, Level, Setting


def to_pin(output: Output, setting: Setting) -> int:
    """How high the pin has to be, 0 to `FULL`, for the load to be at ``setting``."""
    return FULL - setting.parts if output.active_low != output.normally_closed else setting.parts


def from_pin(output: Output, high: int) -> Setting:
    """What the load is at while the pin is high for ``high`` parts per million."""
    return Level(FULL - high if output.active_low != output.normally_closed else high)


def active(input: Input, high: bool) -> bool:
    """Whether an input is active while its line is high."""
    return high != input.active_low
