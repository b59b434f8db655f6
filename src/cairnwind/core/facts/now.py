"""What is true now: immutable pictures of outputs, inputs, boards and the site, for whoever reads."""

from __future__ import annotations

from cairnwind.core.facts.claims import Claim
from cairnwind.core.facts.interlocks import Latched, Raised, Refusal, Stop, Tag
from cairnwind.core.facts.outputs import Output
from cairnwind.core.values.fact import fact
from cairnwind.core.values.quantities import NS, show_duration
from cairnwind.core.values.settings import Setting

STATES = (
    "confirmed",
    "driving",
    "running",
    "waiting",
    "blocked",
    "retrying",
    "fault",
    "unreachable",
)
"""Every word that `OutputNow.state` may be, for whoever shows it."""


@fact
class OutputNow:
    """An output from wish to pin: wanted, allowed, driven, confirmed."""

    output: Output
    wanted: Setting
    leader: Claim | None
    claims: tuple[Claim, ...]
    refusal: Refusal | None
    allowed: Setting
    pending: Setting | None
    """What is on its way to the board."""
    confirmed: Setting | None
    """What the board is known to do, or None."""
    how: str
    """How that is known: 'read back', 'proved', 'accepted', 'sent', or empty."""
    since: int
    """Wall nanoseconds since which it is so; 0 if never."""
    reachable: bool
    link: str
    """Why the board is not reachable, in words; empty while it is."""
    fault: str
    failures: int
    moving: bool = False
    """A program runs, or it is being brought to its setting step by step."""
    keeping: Refusal | None = None
    """Why it is kept as it is, although something else is wanted."""
    grace: Refusal | None = None
    """What it lacks, or what nobody knows, while that is borne with; it goes off when that ``expected`` comes."""
    failure: str = ""
    """Why setting it has failed, as its board says."""
    theirs: bool = False
    """What stands under ``fault`` is none: whoever is at the other side has a reason."""

    @property
    def driven(self) -> Setting | None:
        """What the board was told last, as far as that still counts."""
        return self.pending if self.pending is not None else self.confirmed

    @property
    def state(self) -> str:
        """One word for a listing, of `STATES`."""
        if not self.reachable:
            return "unreachable"
        if self.fault:
            return "blocked" if self.theirs else "fault"
        if self.failures:
            return "retrying"
        if self.moving and not self.refusal:
            return "running"
        if self.pending is not None or self.confirmed != self.allowed:
            return "driving"
        if self.keeping is not None:
            return "waiting"
        return "blocked" if self.refusal else "confirmed"


@fact
class InputNow:
    """An input: active, inactive or (None) unknown, and since when (wall nanoseconds)."""

    name: str
    active: bool | None
    since: int
    raw: bool | int | None = None
    """What the line shows at this moment, debounce or not; of an analogue input its counts."""
    edges: int = 0
    edge: int = 0
    """How often it has changed since the start, bounces included, and when last (wall nanoseconds)."""
    full: int = 0
    volts: float | None = None
    value: float | None = None
    """Of an analogue input: counts at full scale, volts on the pin, and the scaled value."""
    total: float | None = None
    """Of a counter: all that it has counted, also before the last start, in its unit."""


@fact
class BoardNow:
    """A board: whether it answers, why not, and since when (wall nanoseconds)."""

    name: str
    up: bool
    reason: str
    since: int
    cut: bool = False
    """It is disabled, so that it drives nothing."""


@fact
class SiteNow:
    """What concerns the site as a whole."""

    stop: Stop | None
    tags: tuple[Tag, ...]
    recording: bool
    trouble: str
    """Why the journal cannot be written; empty while it can."""
    trips: tuple[Latched, ...] = ()
    """Those that are latched."""
    alarms: tuple[Raised, ...] = ()
    suspended: tuple[tuple[str, str], ...] = ()
    """Reflexes that do nothing any more, and why."""
    behind: int = 0
    """The clock is this much behind the journal (nanoseconds), and is not believed; 0 while it is."""

    @property
    def clock(self) -> str:
        """Why the clock is not believed, in words; empty while it is."""
        if not self.behind:
            return ""
        return f"the clock is {show_duration(max(NS, self.behind // NS * NS))} behind the journal: schedules and hours wait until it is synchronised"
