"""What interlocks are, and what they say: rules over outputs, refusals, and what stands in force until somebody ends it.

Each kind of interlock is a fact of its own, in the file of its gate (`cairnwind.core.rules`). No rank outranks a gate.
"""

from __future__ import annotations

from typing import NamedTuple

from cairnwind.core.facts.claims import Source
from cairnwind.core.values.fact import fact


@fact
class Interlock:
    """A rule over outputs, known by its name. Times in nanoseconds, in all of them."""

    name: str
    outputs: tuple[str, ...]


# --- what stands in force -------------------------------------------------------------------------------------


class Stop(NamedTuple):
    """An all-stop in force: since when (wall nanoseconds), by whom, why."""

    since: int
    source: Source
    reason: str = ""


class Tag(NamedTuple):
    """A lockout tag on an output: its name, who hung it, when (wall nanoseconds) and why."""

    output: str
    name: str
    source: Source
    since: int
    reason: str = ""
    until: int = 0
    """When whoever hung it means to take it off (wall nanoseconds); it stays until somebody does. 0: not said."""


class Refusal(NamedTuple):
    """Why an output may not have what is wanted, and what would have to change."""

    gate: str
    reason: str
    remedy: str
    only_time: bool = False
    """Nothing but time stands in the way: the wish may wait."""
    expected: int | None = None
    """Wall nanoseconds at which it is expected to be out of the way, where that is known."""
    rule: str = ""
    """The name of the interlock."""
    coming: bool = False
    """It is so only because something else is about to change."""


class Latched(NamedTuple):
    """A trip in force: its name, since when (wall nanoseconds), and what was so."""

    name: str
    since: int
    cause: str
    outputs: tuple[str, ...] = ()


class Raised(NamedTuple):
    """An alarm that somebody has to see: since when (wall nanoseconds), how grave, and what was so."""

    name: str
    since: int
    severity: str
    cause: str
    so: bool
    """Its cause is still there."""
    by: str = ""
    """Who has acknowledged it."""
    times: int = 0
    last: int = 0
    """When it was raised last (wall nanoseconds)."""
