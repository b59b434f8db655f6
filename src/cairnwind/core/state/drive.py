"""What an output is told and what it answers: a machine that can be read, and tried, by itself.

It owns what is on its way to a board, what was confirmed, and what became of what failed. It is told of a target by
whoever decides (`step`), of answers, failures and links; it says what is to be done, and never does it.

* One setting at a time is on its way, under a generation number: a newer one replaces it, and an answer to an older
  one is ignored.
* What is compared with the target is what is on its way or confirmed, never what was sent last.
* After a failure nothing is known. What should be safe is tried for ever, with growing pauses; what should be on is tried
  while it is still wanted.
* A read-back that differs is corrected once; a setting that the board does not take after that is not told again,
  unless it is the safe one.
* After its link was lost an output goes home, to safe, before it goes anywhere else.
"""

from __future__ import annotations

from cairnwind.core.values.quantities import NS
from cairnwind.core.values.settings import Setting

RETRY_FIRST = NS // 10
RETRY_LONGEST = 5 * NS
ANSWER_WITHIN = 5 * NS
"""A board that has not answered a drive by then has failed it."""

NOTHING, ORDER, CALM, HOME = 0, 1, 2, 4
"""What `step` says, added up: nothing to do; tell the board what is pending now; what was to be tried again no longer is; it
has come home to safe, so what is allowed counts from now on."""


class Drive:
    """The drive of one output. Times in monotonic nanoseconds."""

    __slots__ = (
        "attempts", "confirmed", "corrected", "ends", "failed", "fault", "found", "generation", "homing", "pending", "retry_at", "sent", "strayed",
        "stuck", "theirs", "welded", "why",
    )  # fmt: skip

    def __init__(self) -> None:
        self.homing = True
        """Not yet confirmed safe since the link came up: safe comes first."""
        self.generation = 0
        self.found = False
        """Nothing was ordered since its link came up: what is seen of it is seen under no order, which is generation 0."""
        self.pending: Setting | None = None
        self.strayed: Setting | None = None
        """Since it was last confirmed it was told to go to the other side of on and off, here: it may be there."""
        self.sent = 0
        self.ends: int | None = None
        """When its board was told to end it by itself; None: it was not."""
        self.confirmed: Setting | None = None
        self.attempts = 0
        self.failed: Setting | None = None
        """What the last order that failed was for."""
        self.why = ""
        """Why it failed, as its board says."""
        self.retry_at: int | None = None
        self.corrected = False
        """A differing read-back has been corrected once."""
        self.stuck: Setting | None = None
        """The setting that the board does not take, after that."""
        self.fault = ""
        self.theirs = False
        """What stands there is no fault: whoever is at the other side has that reason."""
        self.welded = False
        """It did not go off when it was told to, and has not been off since, whatever it was told to be after that."""

    @property
    def unsure(self) -> bool:
        """It is on its way from off to on or back, or may have been there and back since it was confirmed."""
        return self.strayed is not None and self.pending is not None and self.confirmed is not None

    @property
    def is_on(self) -> bool:
        """It is confirmed to be on."""
        return self.confirmed is not None and self.confirmed.on

    @property
    def bound(self) -> Setting | None:
        """What it is on its way to, or will be told again soon; None if it stays as it is."""
        if self.pending is not None:
            return self.pending
        return self.failed if self.retry_at is not None else None

    def step(self, target: Setting, safe: Setting, now: int, up: bool) -> int:
        """Somebody decides what it should be at; returns what is to be done, of the words above."""
        if not up:
            return NOTHING
        if (
            self.theirs and self.stuck != target
        ):  # what it was told stands at the other side, and may come true there
            self.well()
            self.order(target, now)
            return ORDER
        if (self.pending if self.pending is not None else self.confirmed) == target:
            if self.pending is not None:
                return NOTHING
            said = CALM if self.attempts else NOTHING
            self.well()
            if self.homing:
                self.homing = False
                said += HOME
            return said
        if self.failed is not None:
            if self.failed != target:
                self.attempts, self.failed, self.retry_at = 0, None, None
            elif self.retry_at is not None and now < self.retry_at:
                return NOTHING
        if self.stuck is not None:
            if self.stuck != target:
                self.stuck, self.corrected, self.fault, self.theirs = None, False, "", False
            elif target != safe:
                return NOTHING
        self.order(target, now)
        return ORDER

    def order(self, target: Setting, now: int) -> None:
        """It is told this, whatever it was told before."""
        was = self.confirmed
        if was is not None and was.on != target.on:
            self.strayed = target
        elif was is None or self.pending is None:
            self.strayed = None
        self.generation += 1
        self.found = False
        self.pending, self.sent, self.ends = target, now, None

    def means(self, generation: int) -> bool:
        """Whether what a link says under this generation is about what it was told last."""
        return generation == (0 if self.found else self.generation)

    def answered(self, setting: Setting, safe: Setting) -> Setting | None:
        """It is confirmed at ``setting``; returns what it should have been, where that differs."""
        awaited, self.pending = self.pending, None
        come = self.theirs and setting == self.stuck  # what it was waiting for at the other side
        expected = awaited if awaited is not None else None if come else self.confirmed
        self.confirmed = setting
        if not setting.on:
            self.welded = False
        if expected is not None and setting != expected:
            return expected
        if awaited is not None or expected is None:  # a late answer to what had been given up counts too
            self.well()
            if self.homing and setting == safe:
                self.homing = False
        return None

    def differs(self, expected: Setting, text: str) -> bool:
        """It is at something else than it was told, which is corrected once; True if it was, and this is a fault."""
        if not self.corrected:
            self.corrected = True
            return False
        self.stuck, self.fault, self.theirs = expected, text, False
        self.welded = self.is_on and not expected.on
        return True

    def kept(self, expected: Setting, reason: str) -> None:
        """It is not what it was told, for a reason that whoever is at the other side has: nothing is to be corrected."""
        self.corrected, self.stuck, self.fault, self.theirs = True, expected, reason, True

    def unanswered(self) -> Setting | None:
        """What was on its way did not get through, or nobody knows: returns what that was."""
        tried, self.pending, self.confirmed = self.pending, None, None
        return tried

    def back_off(self, tried: Setting, now: int) -> int:
        """It is tried again after a while, each time a longer one; returns when."""
        self.failed = tried
        self.retry_at = now + min(RETRY_FIRST << min(self.attempts, 10), RETRY_LONGEST)
        self.attempts += 1
        return self.retry_at

    def linked(self, reading: Setting | None, safe: Setting) -> None:
        """Its board answers again, and was found at this (None: it cannot tell)."""
        self._forget()
        self.confirmed, self.found = reading, reading is not None
        self.homing = reading != safe

    def unlinked(self) -> None:
        """Its board is away: nobody knows anything."""
        self._forget()
        self.confirmed, self.homing = None, True

    def well(self) -> None:
        """Nothing has failed and nothing differs, as far as is known."""
        self.attempts, self.failed, self.retry_at, self.why = 0, None, None, ""
        self.corrected, self.stuck, self.fault, self.theirs = False, None, "", False

    def rewired(self) -> None:
        """It is wired otherwise: nothing is known of it there, and answers from where it was are late ones."""
        self._forget()
        self.confirmed, self.homing, self.strayed = None, True, None

    def _forget(self) -> None:
        """What was on its way no longer counts; an answer to it would be a late one."""
        self.generation += 1
        self.found = False
        self.pending, self.welded = None, False
        self.well()
