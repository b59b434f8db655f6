"""What follows from an event: orders to boards, what is stored, what is answered and shown."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from cairnwind.core.facts.claims import Claim, Instant
from cairnwind.core.facts.course import Timer
from cairnwind.core.facts.interlocks import Latched, Raised, Stop, Tag
from cairnwind.core.facts.traces import Traced
from cairnwind.core.facts.trials import Trial
from cairnwind.core.physics.programs import Program
from cairnwind.core.values.fact import fact, field
from cairnwind.core.values.settings import Setting

if TYPE_CHECKING:
    from cairnwind.core.facts.plan import Schedule, Span


@fact
class Drive:
    """Tell the link to bring an output to a setting. An answer carries the same generation."""

    output: str
    generation: int
    setting: Setting
    lasts: int = 0
    """Nanoseconds after which it is to go to safe; boards that can end it by themselves do, to the millisecond. 0: until it is told otherwise."""
    ended: bool = False
    """What ``lasts`` said has come: a board that ends it by itself is let do so."""
    causes: tuple[str, ...] = ()
    """For a board that decides: the reflexes that led to it, the first one first."""
    someone: bool = False
    """For a board that decides: a person or a hand wants it, and no rule."""
    now: bool = False
    """They ask for it now, and it is not to begin by itself later."""


@fact
class Work:
    """Tell the link to try something on a bare pin, or (None) to let the pin go."""

    board: str
    line: int
    trial: Trial | None


@fact
class Record:
    """One row of the journal. ``data`` holds all that a replay needs (see `cairnwind.core.facts.history`)."""

    sequence: int
    at: Instant
    kind: str
    subject: str
    text: str
    command: str = ""
    source: str = ""
    data: Mapping[str, Any] = field(default_factory=dict)


@fact
class KeepClaim:
    """Store this claim in its slot."""

    claim: Claim


@fact
class DropClaim:
    """The slot is empty now."""

    output: str
    slot: str


@fact
class KeepStop:
    """Store the all-stop, or that there is none."""

    stop: Stop | None


@fact
class KeepTag:
    """Store a lockout tag."""

    tag: Tag


@fact
class DropTag:
    """The tag is off."""

    output: str
    name: str


@fact
class KeepTrip:
    """Store a trip in force."""

    trip: Latched


@fact
class DropTrip:
    """The trip is reset."""

    name: str


@fact
class KeepAlarm:
    """Store an alarm that was raised."""

    alarm: Raised


@fact
class DropAlarm:
    """The alarm is over."""

    name: str


@fact
class DropCode:
    """A code is used up."""

    id: int


@fact
class Keep:
    """Store what a gate must remember when the service is started anew, under a name; None: nothing any more.

    ``data`` holds only what JSON has.
    """

    gate: str
    key: str
    data: Mapping[str, Any] | None


@fact
class KeepClock:
    """Store that the clock was right at this number of the journal: what was written before says nothing of it."""

    sequence: int


@fact
class KeepTimer:
    """Store a timer."""

    timer: Timer


@fact
class DropTimer:
    """The timer is over."""

    id: int


@fact
class KeepSchedule:
    """Store a schedule, or the state of one of the site file's, with the span that it is in."""

    schedule: Schedule
    now: Span | None


@fact
class DropSchedule:
    """The schedule is gone."""

    name: str


@fact
class Tell:
    """How the engine came to what it decided about an output that somebody looks at."""

    trace: Traced


@fact
class Outcome:
    """The answer to a command: *driving*, *waiting*, *blocked*, *refused*, *unreachable*, *not recorded*."""

    command: str
    sequence: int
    outcome: str
    output: str
    reason: str = ""
    remedy: str = ""
    setting: Setting | Program | None = None
    claim: Claim | None = None
    parts: tuple[Outcome, ...] = ()
    """Of a command to several outputs: theirs, one by one."""
    replaced: Claim | None = None
    """What stood in the claim's slot before."""


@fact
class Ended:
    """What became of an acknowledged command: *confirmed*, *failed* or *superseded*."""

    command: str
    output: str
    ending: str
    text: str


@fact
class Changed:
    """Something to be shown anew: ('output' | 'input' | 'board' | 'site', name)."""

    kind: str
    name: str


Effect = (
    Drive
    | Work
    | Record
    | KeepClaim
    | DropClaim
    | KeepStop
    | KeepTag
    | DropTag
    | KeepTrip
    | DropTrip
    | KeepAlarm
    | DropAlarm
    | DropCode
    | Keep
    | KeepClock
    | KeepTimer
    | DropTimer
    | KeepSchedule
    | DropSchedule
    | Tell
    | Outcome
    | Ended
    | Changed
)
