"""How an output follows what is wanted of it: programs step by step, and what its load needs on the way.

A running program's setting is worked out one step ahead, so that the next step of a slope costs a few comparisons; what the
output's timer would not tell apart is no step at all.
"""

from __future__ import annotations

from cairnwind.core.facts.claims import Claim
from cairnwind.core.facts.outputs import Output
from cairnwind.core.physics.programs import STEP, Coming, Program
from cairnwind.core.physics.shaping import Way
from cairnwind.core.values.settings import Setting

STANDING = Way()


class Motion:
    """How one output moves. Times in monotonic nanoseconds."""

    __slots__ = (
        "coming", "counts", "following", "moving", "next_at", "output", "shown_at", "step_at", "unsaid", "wanted", "way",
    )  # fmt: skip

    def __init__(self, output: Output) -> None:
        self.output = output
        self.wanted: Setting = output.rest
        self.counts: tuple[int, ...] = ()
        """What a running program's setting is in the counts of the output's timers."""
        self.moving = False
        """A program runs, or the output is being brought to its setting step by step."""
        self.following: int | None = None
        """The place of the claim whose program runs, and when that changes next."""
        self.next_at = 0
        self.coming: Coming | None = None
        """What it is then, where that is known already."""
        self.step_at: int | None = None
        """When it moves next; a timer waits for that."""
        self.shown_at = 0
        """When its picture was last asked to be shown anew, while it moves."""
        self.unsaid = False
        """What is confirmed has not been journalled: the steps of a fade are not."""
        self.way = STANDING
        """How far it is on the way that its load needs."""

    def follow(self, program: Program, claim: Claim, now: int, *, stepped: bool) -> None:
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

    def glide(self, leader: Claim, now: int) -> Setting | None:
        """Take the next step of a slope, where nothing else has to be asked; None where `follow` has to be."""
        coming = self.coming
        if coming is None or self.following != leader.place or now >= self.next_at + STEP:
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
