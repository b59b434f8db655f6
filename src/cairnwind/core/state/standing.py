"""How one output stands: what the engine knows about it beyond the facts of its wiring. Changed by the engine only."""

from __future__ import annotations

from typing import TYPE_CHECKING

from cairnwind.core.facts.claims import Claim, leading
from cairnwind.core.facts.interlocks import Refusal
from cairnwind.core.facts.model import Output
from cairnwind.core.physics.programs import STEP, Coming, Program
from cairnwind.core.physics.shaping import Way
from cairnwind.core.values.settings import Setting

if TYPE_CHECKING:
    from cairnwind.core.rules.safety import Ruled

STANDING = Way()


class Standing:
    """See the module's page."""

    __slots__ = (
        "aim",
        "allowed",
        "asker",
        "attempts",
        "attested",
        "claims",
        "coming",
        "confirmed",
        "corrected",
        "counts",
        "failed",
        "fault",
        "following",
        "gated",
        "generation",
        "going",
        "granted",
        "homing",
        "how",
        "keeping",
        "leader",
        "lost_at",
        "moving",
        "next_at",
        "off_at",
        "output",
        "pending",
        "refusal",
        "retry_at",
        "ruled",
        "sent",
        "since",
        "step_at",
        "strayed",
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
        self.aim: Setting = output.rest
        """What is aimed at: what is wanted, unless an interlock bends that."""
        self.allowed: Setting = output.safe
        self.ruled: Ruled | None = None
        """What interlocks know of it; None if none concerns it."""
        self.granted = False
        """Of an output that interlocks concern: it was let go on, and is to be on."""
        self.going: Setting | None = None
        """Where it is bound while something that needs it as it is has to go first."""
        self.keeping: Refusal | None = None
        """Why it is kept as it is, although something else is wanted."""
        self.gated = ("", "")
        """The gate and rule that held it back when that was journalled last."""
        self.off_at = 0
        """Monotonic nanoseconds since which it is confirmed off."""
        self.lost_at = 0
        """When its board was lost; 0: never."""
        self.attested = False
        """Somebody has seen that it is off, while nobody can ask it."""
        self.homing = True
        """Not yet confirmed safe since the link came up: safe comes first."""
        self.generation = 0
        self.pending: Setting | None = None
        self.strayed = False
        """Since it was last confirmed it was told to go to the other side of on and off: it may have been there."""
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

    @property
    def unsure(self) -> bool:
        """It is on its way from off to on or back, or may have been there and back since it was confirmed."""
        return self.pending is not None and self.confirmed is not None and self.strayed

    # --- programs -----------------------------------------------------------------------------------------

    def value(self, now: int) -> Setting:
        """What it is wanted at ``now`` (monotonic nanoseconds), where a program that begins takes it up."""
        claim = leading(self.claims)
        if claim is None:
            return self.output.rest
        wish = claim.setting
        return wish.at(now - claim.made.mono) if isinstance(wish, Program) else wish

    @property
    def tunes(self) -> tuple[Claim, ...]:
        """The claims of tunes, which end as soon as they are not heard."""
        return tuple(
            claim for claim in self.claims if isinstance(claim.setting, Program) and claim.setting.heard
        )

    def follow(self, program: Program, claim: Claim, now: int, *, stepped: bool = True) -> None:
        """Bring ``wanted`` to where a running program is; what the timer would not tell apart stays as it was."""
        if self.following == claim.place and now < self.next_at:
            self.moving = True  # nothing changes before then, whoever asks meanwhile
            return
        began = claim.made.mono
        t = now - began
        if self.following == claim.place and self.coming is not None and now < self.next_at + STEP:
            t = self.next_at - began  # as was worked out when the step before it was taken
            setting, counts = self.coming.setting, self.coming.key
        else:
            setting = program.at(t)
            counts = self.output.counts(setting)
        if counts != self.counts or self.following != claim.place or program.over(t):
            self.wanted, self.counts = setting, counts  # else the timer would not tell it from what it is at
        if stepped:
            due, self.coming = program.ahead(t, self.output.counts, began, counts)
        else:
            due, self.coming = program.next_part(t), None
        self.moving = due is not None
        self.following = claim.place if due is not None else None
        self.next_at = began + due if due is not None else now

    def glide(self, now: int) -> Setting | None:
        """Take the next step of a slope that nothing here stands in the way of; None where `follow` has to be asked."""
        coming, leader = self.coming, self.leader
        if (
            coming is None or leader is None or self.following != leader.place or now >= self.next_at + STEP
            or self.pending is not None or self.refusal is not None or self.homing
            or self.failed is not None or self.stuck is not None or self.output.shape is not None
        ):  # fmt: skip
            return None
        self.counts = coming.key
        due = self.next_at + STEP
        self.coming = None
        if due < coming.end:
            setting = coming.segment.at((due - coming.origin) / coming.segment.length)
            key = self.output.counts(setting)
            if key != coming.key:
                self.coming = Coming(setting, key, coming.segment, coming.origin, coming.end)
        if self.coming is None:
            program, began = leader.setting, leader.made.mono
            assert isinstance(program, Program)
            after, self.coming = program.ahead(self.next_at - began, self.output.counts, began, coming.key)
            due = began + after if after is not None else now
        self.next_at = due
        return coming.setting
