"""From a position in two axes to two motors: a pad on a screen, or a stick on two analogue inputs."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial

from cairnwind.core.values import entries
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.fact import fact
from cairnwind.core.values.keys import written
from cairnwind.core.values.settings import FULL, Drive

LEASE = 250_000_000
"""Nanoseconds that a position counts for: with the way to the pin, what it drives stands within 300 ms of the last one."""
ZONES = ("middle", "up", "down", "left", "right")


MOTORS, HOLDS = "motors", "zones"
"""The two kinds of pads."""


def _dead(value: object) -> int:
    share = entries.share(value)
    if share > FULL // 2:
        raise CallerError("", f"a dead zone of '{value}' leaves little to steer with", "Give 0 % to 50 %.")
    return share


def _exponent(value: object) -> float:
    if isinstance(value, bool) or not isinstance(value, int | float) or not 0.3 <= value <= 5:
        raise CallerError("", f"{value!r} is no exponent for a pad", "Write 0.3 to 5; 1 is straight.")
    return float(value)


@fact
class Pad:
    """Two motors that are driven together, or five zones that each hold an output on."""

    name: str
    left: str = written(
        "the motor on the left",
        default="",
        needed='Say which motor is on the left: left = "trolley-left".',
        kinds=(MOTORS,),
    )
    right: str = written(
        "the motor on the right",
        default="",
        needed='Say which motor is on the right: right = "trolley-right".',
        kinds=(MOTORS,),
    )
    label: str = written("for show", entries.text, default="")
    dead: int = written(
        "around the middle, and around each axis, what counts as nothing; 30 % of zones",
        _dead,
        default=80_000,
        unsaid='"8 %"',
    )
    """Parts per million."""
    most: int = written(
        "the most that a motor is given",
        partial(entries.share, low=1),
        default=FULL,
        unsaid='"100 %"',
        kinds=(MOTORS,),
    )
    curve: float = written(
        "exponent of the way from the middle to the edge: above 1 it is finer near the middle",
        _exponent, default=1.0, unsaid="1", kinds=(MOTORS,),
    )  # fmt: skip
    stick: tuple[str, str] | None = written(
        "two analogue inputs, across and along, whose scales run from -100 to 100",
        default=None,
        kinds=(MOTORS,),
    )
    zones: Mapping[str, str] = written(
        f"instead of motors: outputs that are held on, of {', '.join(f'`{zone}`' for zone in ZONES)}",
        default={},
        kinds=(HOLDS,),
    )
    """The output that is held on while the position is in a zone of `ZONES`."""
    lease: int = LEASE

    @property
    def outputs(self) -> tuple[str, ...]:
        """The outputs that it may drive."""
        return tuple(dict.fromkeys(self.zones.values())) if self.zones else (self.left, self.right)

    def zone(self, x: float, y: float) -> str:
        """The zone of a position: the middle within the dead zone, else the side of the longer axis."""
        if max(abs(x), abs(y)) <= self.dead / FULL:
            return "middle"
        if abs(y) >= abs(x):
            return "up" if y > 0 else "down"
        return "right" if x > 0 else "left"


def mix(pad: Pad, x: float, y: float) -> tuple[Drive, Drive]:
    """Left and right for a position from -1 to 1: along is both, across is the difference.

    left = y + x, right = y - x, divided by the larger where one is above 1, so that the direction stays.
    """
    across, along = _axis(pad, x), _axis(pad, y)
    left, right = along + across, along - across
    most = max(1.0, abs(left), abs(right))
    return Drive(round(left / most * pad.most)), Drive(round(right / most * pad.most))


def _axis(pad: Pad, value: float) -> float:
    """One axis without its dead zone, which is cut out and not jumped over."""
    dead = pad.dead / FULL
    size = min(1.0, abs(value))
    if size <= dead:
        return 0.0
    reached = float(((size - dead) / (1 - dead)) ** pad.curve)
    return reached if value > 0 else -reached
