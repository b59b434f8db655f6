"""How one output stands: what the engine knows about it beyond the facts of its wiring. Changed by the engine only."""

from __future__ import annotations

from cairnwind.core.claims import Claim
from cairnwind.core.interlocks import Refusal
from cairnwind.core.model import Output
from cairnwind.core.settings import Setting


class Standing:
    """See the module's page."""

    __slots__ = (
        "allowed", "asker", "attempts", "claims", "confirmed", "corrected", "failed", "fault", "generation",
        "homing", "how", "leader", "output", "pending", "refusal", "retry_at", "sent", "since", "stuck",
        "wanted", "watched",
    )  # fmt: skip

    def __init__(self, output: Output) -> None:
        self.output = output
        self.claims: tuple[Claim, ...] = ()
        self.leader: Claim | None = None
        self.wanted: Setting = output.rest
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
