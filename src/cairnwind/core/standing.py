"""How one output stands: what the engine knows about it beyond the facts of its wiring. Changed by the engine only."""

from __future__ import annotations

from cairnwind.core.claims import Claim
from cairnwind.core.interlocks import Refusal
from cairnwind.core.model import Output
from cairnwind.core.programs import Coming
from cairnwind.core.settings import Setting
from cairnwind.core.shaping import Way

STANDING = Way()


class Standing:
    """See the module's page."""

    __slots__ = (
        "allowed",
        "asker",
        "attempts",
        "claims", "coming", "confirmed",
        "corrected",
        "counts",
        "failed",
        "fault", "following",
        "generation",
        "homing",
        "how",
        "leader",
        "moving", "next_at",
        "output",
        "pending",
        "refusal",
        "retry_at",
        "sent",
        "since",
        "step_at",
        "stuck",
        "told",
        "unsaid",
        "wanted",
        "watched",
        "way",
    )  # fmt: skip

    def __init__(self, output: Output) -> None:
        self.output = output
        self.claims: tuple[Claim, ...] = ()
        self.leader: Claim | None = None
        self.wanted: Setting = output.rest
        self.counts: tuple[int, ...] = ()
        """What a running program's setting is in the counts of the output's timers."""
        self.moving = False
        """A program runs, or the output is being brought to its setting step by step."""
        self.following: int | None = None
        """The place of the claim whose program runs, and when that changes next (monotonic nanoseconds)."""
        self.next_at = 0
        self.coming: Coming | None = None
        """What it is then, where that is known already."""
        self.step_at: int | None = None
        """When it moves next (monotonic nanoseconds); an entry for that is in the heap."""
        self.told = 0
        """When its picture was last asked to be shown anew, while it moves."""
        self.unsaid = False
        """What is confirmed has not been journalled: the steps of a fade are not."""
        self.way = STANDING
        self.refusal: Refusal | None = None
        self.allowed: Setting = output.safe
        self.homing = True
        """Not yet confirmed safe since the link came up: safe comes first."""
        self.generation = 0
        self.pending: Setting | None = None
        self.sent = 0
        self.watched = False
        """An answer deadline is in the heap."""
        self.confirmed: Setting | None = None
        self.how = ""
        self.since = 0
        self.attempts = 0
        self.failed: Setting | None = None
        """What the last drive that failed was for."""
        self.retry_at: int | None = None
        self.corrected = False
        """A differing read-back has been corrected once."""
        self.stuck: Setting | None = None
        """The setting that the board does not take, after that."""
        self.fault = ""
        self.asker = ""
        """The command that waits to hear what became of it."""

    def well(self) -> None:
        """Nothing has failed and nothing differs, as far as is known."""
        self.attempts, self.failed, self.retry_at = 0, None, None
        self.corrected, self.stuck, self.fault = False, None, ""
