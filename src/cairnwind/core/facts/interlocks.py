"""The interlocks as facts, and the gates that concern one output alone. No rank outranks a gate.

An output's own gates are asked in a fixed order, and the first that refuses sends it to safe:

    starting, closing   the service itself is not ready, or about to end
    all-stop            everything safe
    trip                latched until a person resets it
    lockout             named tags
    quiet               hours in which sounders are silent
    guard               a passcode that has not been given
    needs               a condition that has to hold
    pace                it has started too often, or rested too little

After them come the gates that several outputs share (`cairnwind.core.rules.places`): excludes, then limits. They look
only at those outputs that passed their own.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from fractions import Fraction
from typing import TYPE_CHECKING, NamedTuple

from cairnwind.core.facts.claims import Source
from cairnwind.core.facts.model import Output, Pin
from cairnwind.core.values.fact import fact

if TYPE_CHECKING:
    from cairnwind.core.facts.conditions import Condition


# --- what the site file says ----------------------------------------------------------------------------------


@fact
class Needs:
    """Its outputs may be on only while a condition holds. Times in nanoseconds, as everywhere here."""

    name: str
    outputs: tuple[str, ...]
    condition: Condition
    grace: int = 0
    """How long an output that is on may stay on without it."""


@fact
class Excludes:
    """At most one of its outputs is on."""

    name: str
    outputs: tuple[str, ...]
    gap: int = 0
    """From the confirmed off of one to the on of another."""
    settle: int = 0
    """What an output that cannot be confirmed is given to go off."""


@fact
class Limit:
    """What its outputs need together stays within a bound: a number of them, amperes of a supply, or watts."""

    name: str
    outputs: tuple[str, ...]
    most: Fraction
    unit: str
    """'' counts them, 'A' and 'W' add up what they draw or switch."""
    weights: Mapping[str, Fraction]
    """By output: what it counts for when it is on at all."""
    order: tuple[str, ...] = ()
    """Who keeps a place longest comes first."""
    settle: int = 2_000_000_000
    """How long after room was made somebody who had none comes in again."""


@fact
class Trip:
    """A condition that latches its outputs at safe until its cause is gone and a person resets it."""

    name: str
    outputs: tuple[str, ...]
    condition: Condition
    grace: int | None = None
    """Not known for so long counts as so; None: it never does."""
    role: str = "operate"
    """Who may reset it: 'operate' or 'keep'."""


@fact
class Pace:
    """How long and how often each of its outputs may be on; 0 where nothing is said."""

    name: str
    outputs: tuple[str, ...]
    least_on: int = 0
    """Delays an off that somebody wants, never one that a gate or a stop asks for."""
    least_off: int = 0
    longest_on: int = 0
    rest: int = 0
    """After the longest time on."""
    starts: int = 0
    """In any hour."""
    stagger: int = 0
    """From a start of one of them to the next start of any."""


Interlock = Needs | Excludes | Limit | Trip | Pace


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


@fact
class Guard:
    """A passcode on an output: right, it opens for a time and closes by itself."""

    output: str
    opens: int
    """Nanoseconds."""
    fails: str = "secure"
    """What its lock does without power: 'secure' stays shut, 'safe' opens. A fact of its wiring."""


@dataclass(slots=True)
class Gatekeeper:
    """What the gates know. Changed by the engine only."""

    starting: bool = True
    closing: bool = False
    stop: Stop | None = None
    trips: dict[str, Latched] = field(default_factory=dict)
    """By name, the earliest first."""
    tripped: dict[str, dict[str, Latched]] = field(default_factory=dict)
    """The same by output, then by name; an output that none holds has no entry."""
    tags: dict[str, dict[str, Tag]] = field(default_factory=dict)
    """By output, then by name; an output without tags has no entry."""
    shut: set[str] = field(default_factory=set)
    """Guarded outputs that no code has opened."""
    quiet: str = ""
    """Until when sounders are silent, in words; empty outside the quiet hours."""
    loud: frozenset[str] = frozenset()
    """Sounders that quiet hours do not concern."""

    @property
    def open(self) -> bool:
        """Whether no gate can refuse anything at this moment."""
        return not (
            self.starting or self.closing or self.stop or self.tripped or self.tags or self.quiet or self.shut
        )

    def refusal(self, output: Output) -> Refusal | None:
        """The first of the output's own gates that does not let it leave safe, in their order."""
        if self.open:
            return None
        for gate in OWN_GATES:
            found = gate(self, output)
            if found is not None:
                return found
        return None

    def latch(self, trip: Latched) -> None:
        """A trip is in force."""
        self.trips[trip.name] = trip
        for name in trip.outputs:
            self.tripped.setdefault(name, {})[trip.name] = trip

    def unlatch(self, name: str) -> Latched | None:
        """It is no more."""
        trip = self.trips.pop(name, None)
        for output in trip.outputs if trip else ():
            self.tripped[output].pop(name, None)
            if not self.tripped[output]:
                del self.tripped[output]
        return trip

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


def _trip(keeper: Gatekeeper, output: Output) -> Refusal | None:
    latched = keeper.tripped.get(output.name)
    if not latched:
        return None
    trip = next(iter(latched.values()))
    more = f" and {len(latched) - 1} more" if len(latched) > 1 else ""
    return Refusal(
        "trip",
        f"'{trip.name}'{more} has tripped: {trip.cause}",
        f"When its cause is gone somebody resets it by name: cairnwind reset '{trip.name}' --by NAME.",
        rule=trip.name,
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
        expected=tag.until or None,
    )


def _quiet(keeper: Gatekeeper, output: Output) -> Refusal | None:
    if not keeper.quiet or output.takes != "tone" or output.name in keeper.loud:
        return None
    return Refusal(
        "quiet",
        f"quiet hours last until {keeper.quiet}",
        "Sound it then, or except it in the site file: [quiet] except = [...].",
    )


def _guard(keeper: Gatekeeper, output: Output) -> Refusal | None:
    if output.name not in keeper.shut:
        return None
    return Refusal(
        "guard", f"{output.name} is guarded by a passcode", f"Give it: cairnwind open {output.name}."
    )


OWN_GATES: tuple[Callable[[Gatekeeper, Output], Refusal | None], ...] = (
    _starting,
    _closing,
    _all_stop,
    _trip,
    _lockout,
    _quiet,
    _guard,
)
