"""From a position in two axes to two motors: a pad on a screen, or a stick on two analogue inputs."""

from __future__ import annotations

from collections.abc import Mapping

from cairnwind.core.values.fact import fact, field
from cairnwind.core.values.settings import FULL, Drive

LEASE = 250_000_000
"""Nanoseconds that a position counts for: with the way to the pin, what it drives stands within 300 ms of the last one."""
ZONES = ("middle", "up", "down", "left", "right")


@fact
class Pad:
    """Two motors that are driven together, or five zones that each hold an output on."""

    name: str
    left: str = ""
    right: str = ""
    label: str = ""
    dead: int = 80_000
    """Parts per million around the middle, and around each axis, that count as nothing."""
    most: int = FULL
    """The most that a motor is given."""
    curve: float = 1.0
    """Exponent of the way from the middle to the edge: above 1 it is finer near the middle."""
    stick: tuple[str, str] | None = None
    """Two analogue inputs, across and along, whose scales run from -100 to 100."""
    zones: Mapping[str, str] = field(default_factory=dict)
    """Instead of motors: the output that is held on while the position is in a zone of `ZONES`."""
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
