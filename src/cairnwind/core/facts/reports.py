"""What links, inputs and the service itself report to the engine: answers, failures, boards that come and go, time."""

from __future__ import annotations

from typing import TYPE_CHECKING

from cairnwind.core.facts.claims import Claim, Instant
from cairnwind.core.facts.course import Timer
from cairnwind.core.facts.guards import Guard
from cairnwind.core.facts.interlocks import Interlock, Latched, Raised, Stop, Tag
from cairnwind.core.values.fact import fact
from cairnwind.core.values.settings import Setting

if TYPE_CHECKING:
    from cairnwind.core.facts.plan import Schedule, Span
    from cairnwind.core.facts.reflexes import Rule

from cairnwind.core.facts.effects import Keep


@fact
class Confirmed:
    """A link's answer to a drive, or a later observation under the same generation.

    ``how`` is what the link can know: 'read back', 'accepted' or 'sent' (it can know nothing).
    """

    at: Instant
    output: str
    generation: int
    setting: Setting
    how: str = "read back"
    why: str = ""
    """Why it is not what was ordered, where whoever is at the other side has a reason for that: then it is no fault."""
    refused: bool = False
    """That reason is a rule, which only somebody there can change."""
    over: bool = False
    """What was wanted has ended there, and needs a new command."""


@fact
class Answers:
    """What a link answers to several drives at once."""

    at: Instant
    all: tuple[Confirmed, ...]


@fact
class Failed:
    """A drive did not get through, or nobody can tell whether it did; or what was confirmed under this generation is no longer known."""

    at: Instant
    output: str
    generation: int
    reason: str
    refused: bool = False
    over: bool = False
    """Both as of `Confirmed`."""


@fact
class LinkUp:
    """A board answers. ``readings`` is what its outputs were found at, as far as it can tell."""

    at: Instant
    board: str
    readings: tuple[tuple[str, Setting], ...] = ()
    timers: tuple[tuple[int, str], ...] = ()
    """Lines and the timers behind them, where the board itself tells."""


@fact
class LinkLost:
    """A board no longer answers."""

    at: Instant
    board: str
    reason: str
    cut: bool = False
    """Its enable line was seen to be off since it was lost: whatever it drove, it drives no more."""


@fact
class BoardTripped:
    """A board that keeps a trip by itself has latched it."""

    at: Instant
    board: str
    trip: str


@fact
class InputSeen:
    """The raw state of an input, sense applied; None where it cannot be known."""

    at: Instant
    input: str
    active: bool | None
    edge: int = 0
    """Wall nanoseconds of the change, where the board knows them better than ``at`` does."""
    settled: bool = False
    """The board has debounced it already."""
    way: int = 0
    """Of an encoder: active stands for one step, 1 up or -1 down; then it is at rest again."""
    causes: tuple[str, ...] = ()
    """Reflexes of another site that led to it, the first one first."""


@fact
class Measured:
    """A reading of an analogue input: ``raw`` counts of ``full``, and the volts that they mean."""

    at: Instant
    input: str
    raw: int | None
    full: int = 0
    volts: float | None = None


@fact
class TrialFailed:
    """A link cannot do what was to be tried."""

    at: Instant
    board: str
    line: int
    reason: str


@fact
class Recording:
    """Whether the journal can be written, and why not. ``ok`` None: as before; ``reason`` is what is to be feared of its disk, empty nothing."""

    at: Instant
    ok: bool | None
    reason: str = ""


@fact
class Tick:
    """Nothing but time has passed."""

    at: Instant


@fact
class Start:
    """The store has been read: this is what was left. Until then everything is held safe."""

    at: Instant
    sequence: int = 0
    """The last number that the journal used."""
    claims: tuple[Claim, ...] = ()
    stop: Stop | None = None
    tags: tuple[Tag, ...] = ()
    timers: tuple[Timer, ...] = ()
    schedules: tuple[tuple[Schedule, Span | None], ...] = ()
    """Each with the span that it was last seen in."""
    interlocks: tuple[Interlock, ...] = ()
    reflexes: tuple[Rule, ...] = ()
    guards: tuple[Guard, ...] = ()
    trips: tuple[Latched, ...] = ()
    """Those that were in force."""
    alarms: tuple[Raised, ...] = ()
    kept: tuple[Keep, ...] = ()
    """What gates had stored."""
    last: int = 0
    """The journal's latest wall time: a clock before that is not to be believed."""
    orderly: bool | None = None
    """Whether the run before ended in good order; None: there was none."""


@fact
class Shutdown:
    """The service is about to end: every output to safe."""

    at: Instant


@fact
class Rewire:
    """Outputs are about to be wired otherwise, or to go: they are kept at safe until the site is read anew. Empty: they are not, all the same."""

    at: Instant
    outputs: tuple[str, ...] = ()


@fact
class Disowned:
    """A key was revoked: what still acts in its name ends."""

    at: Instant
    who: str
    """The name of the key."""
