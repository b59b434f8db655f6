"""The gates: what is allowed, whatever is wanted. No rank outranks a gate.

An output's own gates are asked in a fixed order, and the first that refuses sends it to safe:

    starting, closing   the service itself is not ready, or about to end
    all-stop            and trips, which join it here
    lockout             named tags
    quiet               hours in which sounders are silent
    guard, needs, pace  join below, in this order

After them come the gates that several outputs share (excludes, then limits), which will look only at those
that passed their own.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import NamedTuple

from cairnwind.core.claims import Source
from cairnwind.core.model import Output, Pin


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


class Refusal(NamedTuple):
    """Why an output may not have what is wanted, and what would have to change."""

    gate: str
    reason: str
    remedy: str
    only_time: bool = False
    """Nothing but time stands in the way: the wish may wait."""


@dataclass(slots=True)
class Gatekeeper:
    """What the gates know. Changed by the engine only."""

    starting: bool = True
    closing: bool = False
    stop: Stop | None = None
    tags: dict[str, dict[str, Tag]] = field(default_factory=dict)
    """By output, then by name; an output without tags has no entry."""
    quiet: str = ""
    """Until when sounders are silent, in words; empty outside the quiet hours."""
    loud: frozenset[str] = frozenset()
    """Sounders that quiet hours do not concern."""

    @property
    def open(self) -> bool:
        """Whether no gate can refuse anything at this moment."""
        return not (self.starting or self.closing or self.stop or self.tags or self.quiet)

    def refusal(self, output: Output) -> Refusal | None:
        """The first of the output's own gates that does not let it leave safe, in their order."""
        if self.open:
            return None
        for gate in OWN_GATES:
            found = gate(self, output)
            if found is not None:
                return found
        return None

    def site_refusal(self) -> Refusal | None:
        """The first gate that concerns the site as a whole: it holds for bare pins too."""
        return _starting(self, _NOBODY) or _closing(self, _NOBODY) or _all_stop(self, _NOBODY)


_NOBODY = Output("", "relay", Pin("", 0))


def _starting(keeper: Gatekeeper, output: Output) -> Refusal | None:
    if not keeper.starting:
        return None
    return Refusal(
        "starting", "the service is starting", "It reads what was left first; wait a moment.", True
    )


def _closing(keeper: Gatekeeper, output: Output) -> Refusal | None:
    if not keeper.closing or output.on_stop == "keep":
        return None
    return Refusal("closing", "the service is stopping", "Start it again.")


def _all_stop(keeper: Gatekeeper, output: Output) -> Refusal | None:
    stop = keeper.stop
    if stop is None:
        return None
    because = f": {stop.reason}" if stop.reason else ""
    return Refusal(
        "all-stop",
        f"all-stop by the {stop.source.text}{because}",
        "A keeper resets it: cairnwind stop --reset.",
    )


def _lockout(keeper: Gatekeeper, output: Output) -> Refusal | None:
    tags = keeper.tags.get(output.name)
    if not tags:
        return None
    tag = next(iter(tags.values()))
    more = f" and {len(tags) - 1} more" if len(tags) > 1 else ""
    because = f": {tag.reason}" if tag.reason else ""
    return Refusal(
        "lockout",
        f"locked out by tag '{tag.name}'{more}{because}",
        f"Whoever hung it takes it off, or a keeper: cairnwind lockout {output.name} {tag.name} --remove.",
    )


def _quiet(keeper: Gatekeeper, output: Output) -> Refusal | None:
    if not keeper.quiet or output.takes != "tone" or output.name in keeper.loud:
        return None
    return Refusal(
        "quiet",
        f"quiet hours last until {keeper.quiet}",
        "Sound it then, or except it in the site file: [quiet] except = [...].",
    )


OWN_GATES: tuple[Callable[[Gatekeeper, Output], Refusal | None], ...] = (
    _starting,
    _closing,
    _all_stop,
    _lockout,
    _quiet,
)
