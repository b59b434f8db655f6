"""The phase in which orders go out: what the drive of an output says becomes effects, timers and words.

`Drive` (`cairnwind.core.state.drive`) decides; here its orders are sent, and those are told whom they concern.
"""

from __future__ import annotations

from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Rank
from cairnwind.core.rules.gates import Armed
from cairnwind.core.state.drive import ANSWER_WITHIN, CALM, HOME, ORDER
from cairnwind.core.state.standing import Standing
from cairnwind.core.state.turn import Turn
from cairnwind.core.values.fact import replace
from cairnwind.core.values.quantities import NS
from cairnwind.core.values.settings import Setting, encode


class Driving:
    """``armed`` has the gates that hold now."""

    def __init__(self, armed: Armed) -> None:
        self._armed = armed

    def bring(self, turn: Turn, s: Standing, target: Setting) -> None:
        """Bring an output to a setting, as far as its drive has anything to do for that."""
        up = turn.state.boards[s.output.pin.board].up
        drive, now, safe = s.drive, turn.now.mono, s.output.safe
        unsure, ended = drive.unsure, drive.ends is not None and drive.ends <= now and target == safe
        said = drive.step(target, safe, now, up)
        if said == ORDER:
            self._sent(turn, s, unsure, ended)
            return
        if drive.ends is not None and drive.ends != _ends(turn, s, target) and up:
            self.order(turn, s, target)  # it lasts for longer than its board was told, or for less
            return
        if said & CALM and s.gating.ruled:
            self._armed.gates.moved(turn, s)
        if said & HOME:
            if s.gating.ruled:
                turn.touch(s.output.name)
            elif s.gating.allowed != target:
                self.bring(turn, s, s.gating.allowed)

    def order(self, turn: Turn, s: Standing, target: Setting) -> None:
        """Tell an output a setting, whatever it was told before."""
        unsure = s.drive.unsure
        s.drive.order(target, turn.now.mono)
        self._sent(turn, s, unsure)

    def _sent(self, turn: Turn, s: Standing, was_unsure: bool, ended: bool = False) -> None:
        drive, name = s.drive, s.output.name
        assert drive.pending is not None
        if turn.state.stepped:  # in a rehearsal boards answer at once
            turn.mono.unless(drive.sent + ANSWER_WITHIN, "answer", name)
        turn.drives.append(self._told(turn, s, ended))
        gates = self._armed.gates
        if (drive.strayed is not None) != was_unsure:
            gates.watches.mark("output", name)  # a 'for' about it counts anew once it is confirmed
        if s.gating.ruled:
            gates.sent(turn, s)

    def _told(self, turn: Turn, s: Standing, ended: bool) -> ev.Drive:
        """The order itself: with the time it is for, where its board can end it."""
        drive = s.drive
        assert drive.pending is not None
        drive.ends = _ends(turn, s, drive.pending)
        lasts = 0 if drive.ends is None else drive.ends - turn.now.mono
        order = ev.Drive(s.output.name, drive.generation, drive.pending, lasts, ended)
        if not turn.state.site.boards[s.output.pin.board].decides:
            return order
        leader = s.claims.leader
        asked = s.claims.asker or any(claim.output == s.output.name for _, claim, _, _ in turn.asked)
        someone = leader is not None and leader.rank >= Rank.PERSON
        now = someone and bool(asked) and leader is not None and not leader.patient
        return replace(order, causes=turn.state.causes.of_output(s), someone=someone, now=now)

    def fail(self, turn: Turn, s: Standing, reason: str) -> None:
        """What was on its way did not get through, or what was confirmed is no longer known."""
        was = s.drive.confirmed
        tried = s.drive.unanswered() or was
        assert tried is not None
        s.known.how = ""
        self._armed.gates.noticed(turn, s)
        if s.drive.attempts == 0:
            text = f"{s.output.name}: could not be set to {s.output.say(tried)}: {reason}"
            turn.note("failed", s.output.name, text, {"reason": reason})
        turn.tell(s, "failed", reason)
        self.back_off(turn, s, tried)
        s.drive.why = reason

    def back_off(self, turn: Turn, s: Standing, tried: Setting) -> None:
        """Try it again after a while."""
        turn.mono.set(s.drive.back_off(tried, turn.now.mono), "retry", s.output.name)

    def retry_due(self, turn: Turn, name: str, slot: str) -> None:
        """It is time to try again."""
        s = turn.standing(name)
        if s.drive.retry_at is not None and s.drive.retry_at <= turn.now.mono:
            s.drive.retry_at = None
            self._armed.gates.noticed(turn, s)

    def answer_due(self, turn: Turn, name: str, slot: str) -> None:
        """A board should have answered by now, unless it was told something newer."""
        s = turn.standing(name)
        if s.drive.pending is None:
            return
        if self._armed.gates.proofs.waits(name):
            return
        if s.drive.sent + ANSWER_WITHIN <= turn.now.mono:
            board = s.output.pin.board
            self.fail(turn, s, f"board {board} did not answer within {ANSWER_WITHIN // NS} s")
        else:
            turn.mono.set(s.drive.sent + ANSWER_WITHIN, "answer", name)


ENDED_BY_BOARDS = 60 * NS
"""No longer time is left to a board to end: its clock is not the host's."""


def _ends(turn: Turn, s: Standing, target: Setting) -> int | None:
    """When its board is to end it by itself: where one claim alone has it on, for a time, and what comes after that is safe."""
    output, claims = s.output, s.claims.all
    if not target.on or len(claims) != 1 or not turn.state.site.boards[output.pin.board].times:
        return None
    (claim,) = claims
    plain = claim.setting == target and output.rest == output.safe and output.shape is None
    if not plain or claim.lifetime.kind != "for" or claim.ends_mono is None:
        return None
    return claim.ends_mono if 0 < claim.ends_mono - turn.now.mono <= ENDED_BY_BOARDS else None


def journal_change(turn: Turn, s: Standing) -> None:
    """Record what an output is confirmed at."""
    assert s.drive.confirmed is not None
    text = f"{s.output.name} is {s.output.say(s.drive.confirmed)} ({s.known.how})"
    turn.note("change", s.output.name, text, {"setting": encode(s.drive.confirmed)})


def count_stopped(turn: Turn, s: Standing | None = None) -> None:
    """An all-stop is confirmed when each output that had to move is safe, or out of reach."""
    if turn.state.stopping is None:
        return
    command, left = turn.state.stopping
    if s is not None and s.drive.pending is None:
        if s.drive.confirmed == s.output.safe or not turn.state.boards[s.output.pin.board].up:
            left.discard(s.output.name)
    if not left:
        turn.state.stopping = None
        turn.effect(ev.Ended(command, "", "confirmed", "every output that answers is safe"))
