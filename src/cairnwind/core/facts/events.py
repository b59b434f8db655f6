"""What the engine is told, and what it answers.

Events go in, effects come out; both are frozen. Every event carries both clocks. Commands also carry an id,
under which their outcome and what became of it are reported, and the source they came from.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from cairnwind.core.facts.claims import Claim, Instant, Lifetime, Rank, Source
from cairnwind.core.facts.course import Course, Timer
from cairnwind.core.facts.guards import Guard
from cairnwind.core.facts.interlocks import Interlock, Latched, Raised, Stop, Tag
from cairnwind.core.facts.model import Pin, Site
from cairnwind.core.facts.traces import Traced
from cairnwind.core.facts.trials import Trial
from cairnwind.core.physics.programs import Program
from cairnwind.core.values.fact import fact, field
from cairnwind.core.values.settings import Setting

if TYPE_CHECKING:
    from cairnwind.core.facts.plan import Schedule, Span
    from cairnwind.core.facts.reflexes import Rule

# --- commands ---------------------------------------------------------------------------------------------


@fact
class Wish:
    """Make a claim. ``setting`` None is a toggle, resolved once, on arrival, against the leading wish.

    With ``by`` it is no toggle but a step: the level goes up or down by so many parts from what it is wanted at.
    """

    at: Instant
    command: str
    source: Source
    output: str
    setting: Setting | Program | None
    rank: Rank
    slot: str
    lifetime: Lifetime
    when_possible: bool = False
    scene: str = ""
    by: int = 0


@fact
class Renew:
    """Renew a lease, and change its setting if one is given. Without a setting it is not journalled."""

    at: Instant
    command: str
    source: Source
    output: str
    slot: str
    setting: Setting | Program | None = None


@fact
class Release:
    """'I no longer care': end the claim in this slot."""

    at: Instant
    command: str
    source: Source
    output: str
    slot: str


@fact
class AllStop:
    """Everything safe, now."""

    at: Instant
    command: str
    source: Source
    reason: str = ""


@fact
class ResetStop:
    """End the all-stop. Only a keeper may."""

    at: Instant
    command: str
    source: Source


@fact
class ResetTrip:
    """Reset a trip whose cause is gone. ``by`` is who does it, by name."""

    at: Instant
    command: str
    source: Source
    trip: str
    by: str


@fact
class Attest:
    """Somebody has seen that an output which cannot be asked is off. Only a keeper may."""

    at: Instant
    command: str
    source: Source
    output: str
    by: str


@fact
class Probe:
    """Ask what would stand in the way if a person wanted an output on. Changes nothing and is not recorded."""

    at: Instant
    command: str
    source: Source
    output: str


@fact
class Trace:
    """Somebody looks at how it is decided about an output, for ``span`` nanoseconds. Changes nothing and is not recorded.

    With ``now`` it is decided about at once, so that there is something to see.
    """

    at: Instant
    command: str
    source: Source
    output: str
    span: int
    now: bool = False


@fact
class Reload:
    """Rules and the site file's schedules anew. What the site is wired of is the same."""

    at: Instant
    command: str
    source: Source
    site: Site
    interlocks: tuple[Interlock, ...] = ()
    reflexes: tuple[Rule, ...] = ()
    guards: tuple[Guard, ...] = ()
    schedules: tuple[Schedule, ...] = ()
    changed: tuple[str, ...] = ()
    """Outputs that other rules concern than before: they are safe before they are anything else."""


@fact
class Resume:
    """Let a suspended reflex work again."""

    at: Instant
    command: str
    source: Source
    reflex: str


@fact
class Acknowledge:
    """Somebody has heard an alarm, by name."""

    at: Instant
    command: str
    source: Source
    alarm: str
    by: str


@fact
class Open:
    """A right code was given: a guarded output opens for its time. ``code`` is used up if it is for one time."""

    at: Instant
    command: str
    source: Source
    output: str
    by: str
    code: int = 0


@fact
class WrongCode:
    """A wrong code was given."""

    at: Instant
    command: str
    source: Source
    output: str


@fact
class Denied:
    """A command by somebody who has no right to give it: recorded, and nothing else."""

    at: Instant
    command: str
    source: Source
    output: str
    reason: str
    remedy: str = ""


@fact
class Lock:
    """Hang a named tag on an output: it stays safe while the tag is there."""

    at: Instant
    command: str
    source: Source
    output: str
    tag: str
    reason: str = ""
    until: int = 0


@fact
class Unlock:
    """Take a tag off. Only its owner or a keeper may."""

    at: Instant
    command: str
    source: Source
    output: str
    tag: str


@fact
class TryPin:
    """Try a bare pin, or renew that: see `cairnwind.core.facts.trials`. ``span`` is the lease in nanoseconds."""

    at: Instant
    command: str
    source: Source
    pin: Pin
    mode: str
    span: int
    parts: int = 0
    millihertz: int = 0
    pull: str = "none"


@fact
class EndTry:
    """Let a tried pin go."""

    at: Instant
    command: str
    source: Source
    pin: Pin


@fact
class Withdraw:
    """What was decided could not be recorded: claims that it made are taken back, timers that it set are dropped."""

    at: Instant
    command: str
    source: Source
    made: tuple[tuple[Claim, Claim | None], ...]
    """Each with what stood in its slot before, which stands again if its time is not over."""
    timers: tuple[int, ...] = ()


@fact
class AcceptClock:
    """The wall clock is right, though it is behind the journal: somebody says so, or the kernel that it is synchronised."""

    at: Instant
    command: str
    source: Source
    by: str


@fact
class Overtaken:
    """A command that a later off for the same output has gone ahead of: it is superseded."""

    at: Instant
    command: str
    source: Source
    output: str


@fact
class Do:
    """Carry out a course: now, or when its lead says."""

    at: Instant
    command: str
    source: Source
    course: Course


@fact
class Extend:
    """Let a claim that ends by time last ``span`` nanoseconds longer."""

    at: Instant
    command: str
    source: Source
    output: str
    slot: str
    span: int


@fact
class ChangeTimer:
    """Put a timer off by ``span`` nanoseconds, or (0) cancel it."""

    at: Instant
    command: str
    source: Source
    timer: int
    span: int = 0


@fact
class Plan:
    """Change the plan: 'put' or 'drop' a schedule, 'enable', 'disable', 'skip' its next span, or 'run' it now."""

    at: Instant
    command: str
    source: Source
    verb: str
    name: str
    schedule: Schedule | None = None


Command = (
    Do
    | Extend
    | ChangeTimer
    | Plan
    | TryPin
    | EndTry
    | Overtaken
    | Withdraw
    | AcceptClock
    | Wish
    | Renew
    | Release
    | AllStop
    | ResetStop
    | ResetTrip
    | Attest
    | Probe
    | Trace
    | Reload
    | Resume
    | Acknowledge
    | Open
    | WrongCode
    | Denied
    | Lock
    | Unlock
)

# --- what links, inputs and the service report ------------------------------------------------------------


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


@fact
class Answers:
    """What a link answers to several drives at once."""

    at: Instant
    all: tuple[Confirmed, ...]


@fact
class Failed:
    """A drive did not get through, or nobody can tell whether it did."""

    at: Instant
    output: str
    generation: int
    reason: str


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
    """Whether the journal can be written."""

    at: Instant
    ok: bool
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


@fact
class Shutdown:
    """The service is about to end: every output to safe."""

    at: Instant


Event = (
    Command
    | Confirmed
    | Answers
    | Failed
    | LinkUp
    | LinkLost
    | InputSeen
    | Measured
    | TrialFailed
    | Recording
    | Tick
    | Start
    | Shutdown
)

# --- effects ----------------------------------------------------------------------------------------------


@fact
class Drive:
    """Tell the link to bring an output to a setting. An answer carries the same generation."""

    output: str
    generation: int
    setting: Setting


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
