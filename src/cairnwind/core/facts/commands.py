"""What people, surfaces and rules ask of the engine: each with an id, under which its outcome and what became of it are reported, and the source it came from."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from cairnwind.core.facts.claims import Claim, Instant, Lifetime, Rank, Source
from cairnwind.core.facts.course import Course
from cairnwind.core.facts.difference import Difference
from cairnwind.core.facts.guards import Guard
from cairnwind.core.facts.hardware import Pin
from cairnwind.core.facts.interlocks import Interlock
from cairnwind.core.facts.site import Site
from cairnwind.core.physics.programs import Program
from cairnwind.core.values.fact import fact
from cairnwind.core.values.settings import Setting

if TYPE_CHECKING:
    from cairnwind.core.facts.plan import Schedule
    from cairnwind.core.facts.reflexes import Rule


@fact
class Act:
    """A command that is declared whole in one place: what it carries, and what the engine does about it."""

    at: Instant
    command: str
    source: Source

    def carry_out(self, turn: Any) -> None:
        """Do it, in the `cairnwind.core.state.turn.Turn` of its event."""
        raise NotImplementedError


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
    causes: tuple[str, ...] = ()
    """Reflexes of another site that led to it, the first one first."""
    now: bool = False
    """Where it is not permitted now it leaves no claim, whatever its rank."""
    someone: bool = False
    """Another site wants it because somebody there does."""


@fact
class Renew:
    """Renew a lease, and change its setting if one is given. Without a setting it is not journalled."""

    at: Instant
    command: str
    source: Source
    output: str
    slot: str
    setting: Setting | Program | None = None
    causes: tuple[str, ...] = ()
    now: bool = False
    someone: bool = False
    """As of a `Wish`."""


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
    """The site anew: what it is wired of, its rules, and the site file's schedules."""

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
    wired: Difference = Difference()
    """What is wired otherwise; outputs that go, or are wired otherwise, are at safe by now (`Rewire`)."""
    said: str = "the site file is read anew"
    """What is done, as the journal says it."""


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
class Pretended(Act):
    """Somebody works an input of a simulated board, whose contact or voltage is ``what`` from then on."""

    input: str
    what: str

    def carry_out(self, turn: Any) -> None:
        """What follows is the input's own doing; this says whose it was."""
        text = f"{self.input} is pretended to be {self.what}"
        turn.keep(self, "command", self.input, text, {"verb": "pretend", "what": self.what})


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
    Act
    | Do
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
