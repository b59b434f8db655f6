"""Quiet hours: when sounders are silent, in the site's own time."""

from __future__ import annotations

from datetime import datetime, timedelta

from cairnwind.core.facts.interlocks import Refusal
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Quiet
from cairnwind.core.state.inforce import InForce
from cairnwind.core.values.moments import zone
from cairnwind.core.values.quantities import NS


def refuse(force: InForce, output: Output) -> Refusal | None:
    """It is a sounder, and it is quiet now."""
    if not force.quiet or output.takes != "tone" or output.name in force.loud:
        return None
    return Refusal(
        "quiet",
        f"quiet hours last until {force.quiet}",
        "Sound it then, or except it in the site file: [quiet] except = [...].",
    )


def told(quiet: Quiet, timezone: str, wall: int) -> tuple[bool, int]:
    """Whether it is quiet at ``wall`` (nanoseconds UTC), and when that next changes.

    A boundary in an hour that summer time skips or doubles is read as `cairnwind.core.values.moments` says.
    """
    here = datetime.fromtimestamp(wall // NS, zone(timezone))
    minute = here.hour * 60 + here.minute
    inside = (
        quiet.start <= minute < quiet.end
        if quiet.start < quiet.end
        else not quiet.end <= minute < quiet.start
    )
    edge = quiet.end if inside else quiet.start
    then = here.replace(hour=edge // 60, minute=edge % 60, second=0, microsecond=0, fold=0)
    if int(then.timestamp()) * NS <= wall:
        then = (then + timedelta(days=1)).replace(fold=0)
    return inside, max(int(then.timestamp()) * NS, wall + NS)


def words(minute: int) -> str:
    """A minute of the day: '22:30'."""
    return f"{minute // 60:02d}:{minute % 60:02d}"
