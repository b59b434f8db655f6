"""What a load needs on its way from one setting to another: a fan's kick, a motor's pause before it turns round.

Between what is allowed and what is driven. A move to off is never shaped: off is off, at once.
"""

from __future__ import annotations

from typing import NamedTuple

from cairnwind.core.physics.programs import STEP
from cairnwind.core.values.settings import FULL, Drive, Level, Setting


class Shape(NamedTuple):
    """How an output has to be brought from one setting to another. Times in nanoseconds."""

    kick: int = 0
    """Of a fan: full for so long when it starts, since it would not start at its lowest."""
    pause: int = 0
    """Of a motor: how long it stands, counted from the confirmed stop, before it turns the other way."""
    ramp: int = 0
    """Of a motor: the time from nothing to full; 0 is at once."""


class Way(NamedTuple):
    """How far an output is on such a way."""

    kicked: int = 0
    """When it was started (monotonic nanoseconds); 0 while it stands."""
    sign: int = 0
    """Which way it turned last."""
    stood: int = 0
    """Since when it is confirmed to stand; 0 while it does not."""
    level: int = 0
    """How far the ramp had come, in parts per million with sign,"""
    at: int = 0
    """and when."""


def next_step(
    shape: Shape, way: Way, target: Setting, confirmed: Setting | None, now: int
) -> tuple[Setting, Way, int | None]:
    """What to drive now, how far that is, and when to look again (None: nothing is left to do)."""
    if not target.on:
        stands = confirmed is not None and not confirmed.on
        return target, Way(0, way.sign, (way.stood or now) if stands else 0), None
    if isinstance(target, Drive):
        return _drive(shape, way, target, confirmed, now)
    kicked = way.kicked or now
    if shape.kick and now < kicked + shape.kick:
        return Level(FULL), way._replace(kicked=kicked), kicked + shape.kick
    return target, way._replace(kicked=kicked), None


def _drive(
    shape: Shape, way: Way, target: Drive, confirmed: Setting | None, now: int
) -> tuple[Setting, Way, int | None]:
    sign = 1 if target.parts > 0 else -1
    if way.sign and way.sign != sign:
        if confirmed is None or confirmed.on:
            return Drive(0), Way(0, way.sign), None  # its confirmation brings us back here
        stood = way.stood or now
        if now < stood + shape.pause:
            return Drive(0), Way(0, way.sign, stood), stood + shape.pause
        way = Way(0, sign)
    if not shape.ramp:
        return target, Way(0, sign, 0, target.parts, now), None
    reached = way.level if way.at else 0
    if abs(target.parts) <= abs(reached):
        return target, Way(0, sign, 0, target.parts, now), None
    since = now - way.at if way.at else STEP
    reached += sign * round(FULL * min(since, shape.ramp) / shape.ramp)
    if abs(reached) >= abs(target.parts):
        return target, Way(0, sign, 0, target.parts, now), None
    return Drive(reached), Way(0, sign, 0, reached, now), now + STEP
