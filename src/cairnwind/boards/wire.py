"""From what a load does to what its pins do, and back: the one place where sense and contact count.

A pin level is the share of time that the pin is high, in parts per million, as a duty is of the load. The way: a
normally-closed contact turns the load's level round once (its coil is dead while the load is on), an active-low
sense turns the pin's level round once more. An output on several pins has one sense for all of them: a colour
lamp with a common anode is active-low.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.physics.light import STRAIGHT
from cairnwind.core.values.settings import FULL, Level, Setting


class Put(NamedTuple):
    """What a line is to show: high for so many parts per million, at a frequency where it is PWM."""

    parts: int
    millihertz: int = 0


def to_pins(output: Output, setting: Setting) -> dict[int, Put]:
    """What each line of the output has to show for the load to be at ``setting``."""
    if type(setting) is Level and not output.others:
        return {output.pin.line: Put(*of_level(output, setting))}
    turned = output.active_low != output.normally_closed
    return {
        line: Put(FULL - duty if turned else duty, output.hertz(line, setting))
        for line, duty in zip(output.lines, output.duties(setting), strict=True)
    }


def released(output: Output) -> dict[int, Put]:
    """What the lines of a latching relay show while no coil has current."""
    return dict.fromkeys(output.lines, Put(FULL if output.active_low else 0))


def of_level(output: Output, level: Level) -> tuple[int, int]:
    """What the one line of the output has to show for a level, which is nearly always all there is: parts and millihertz."""
    parts, millihertz, raw = level
    light = output.light
    duty = parts if raw or light is STRAIGHT else light.duty(parts)
    if output.active_low != output.normally_closed:
        duty = FULL - duty
    return duty, millihertz or output.millihertz


def to_pin(output: Output, setting: Setting, line: int | None = None) -> int:
    """How high one line has to be, its first if none is given, 0 to `FULL`."""
    return to_pins(output, setting)[output.pin.line if line is None else line].parts


def from_pins(output: Output, high: Mapping[int, int]) -> Setting:
    """What the load is at while its lines are high for so many parts per million."""
    turned = output.active_low != output.normally_closed
    return output.shown(tuple(FULL - high[line] if turned else high[line] for line in output.lines))


def active(input: Input, high: bool) -> bool:
    """Whether an input is active while its line is high."""
    return high != input.active_low
