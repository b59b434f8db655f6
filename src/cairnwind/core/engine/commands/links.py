"""What boards say: answers, failures, links that come and go."""

from __future__ import annotations

from cairnwind.core.engine.commands.inputs import Contacts
from cairnwind.core.engine.deciding import SHOWN_EVERY
from cairnwind.core.engine.driving import Driving, journal_change
from cairnwind.core.engine.proving import Proofs
from cairnwind.core.engine.trying import end_trials
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.now import BoardNow
from cairnwind.core.rules.gates import Armed
from cairnwind.core.rules.proof import HOW
from cairnwind.core.state.standing import Standing
from cairnwind.core.state.turn import Turn
from cairnwind.core.values.settings import Setting


class Links:
    """``armed`` has the gates that hold now."""

    def __init__(self, armed: Armed, driving: Driving, contacts: Contacts) -> None:
        self._armed, self._driving, self._contacts = armed, driving, contacts
        self.proofs = Proofs(armed, driving, self._confirmed)

    def answers(self, turn: Turn, event: ev.Answers) -> None:
        """Several answers at once."""
        for each in event.all:
            self.confirmed(turn, each)

    def confirmed(self, turn: Turn, event: ev.Confirmed) -> None:
        """An output is confirmed at something."""
        s = turn.state.outputs.get(event.output)  # it may have left the site since
        if s is not None and s.drive.means(event.generation):
            if not turn.state.boards[s.output.pin.board].up:
                return
            if self.proofs.of(turn, event.output):
                self.proofs.hear(turn, s, event)
            else:
                self._confirmed(turn, s, event)

    def _confirmed(self, turn: Turn, s: Standing, event: ev.Confirmed) -> None:
        drive = s.drive
        awaited, was, was_unsure, homing = drive.pending, drive.confirmed, drive.unsure, drive.homing
        first = awaited is None and was is None
        expected = drive.answered(event.setting, s.output.safe)
        s.known.how = event.how
        motion, gates = s.motion, self._armed.gates
        if s.gating.ruled:
            s.known.attested = False
        if was != event.setting:
            s.known.since = event.at.wall
            motion.unsaid = motion.moving  # the journal holds no steps
        self._went_off(turn, s, was, awaited)
        # in the midst of a slope the next step is near, and nothing is left to do until then
        near = motion.moving and motion.next_at < turn.now.mono + SHOWN_EVERY
        if (
            homing
            or expected is not None
            or event.setting != s.gating.allowed
            or self._asks_more(turn, s, near=near)
        ):
            if s.gating.ruled or was != event.setting or was_unsure:
                gates.noticed(turn, s)  # also where it did not get to the other side: that is known now
            turn.touched[event.output] = None
        else:  # it is where it should be: that concerns others alone
            gates.known(turn, s)
            if s.gating.ruled and not gates.shared.learns(turn, s):
                turn.known[event.output] = None
            if not near:
                turn.effects.append(ev.Changed("output", event.output))
        if was != event.setting and not motion.moving:
            journal_change(turn, s)
        if expected is not None:
            self._differs(turn, s, expected, event)
        elif (awaited is not None or first) and s.claims.asker:
            # a motor on its ramp has not done yet what was asked; a program has begun
            if event.setting == s.gating.allowed or s.motion.following is not None:
                by = f"board {s.output.pin.board}"
                if event.how == HOW:
                    by = f"'{self._armed.gates.proofs.of[s.output.name][0].condition.text}'"
                said = f"{s.output.say(event.setting)}, {event.how} by {by}"
                turn.tell(s, "confirmed", said)

    def _asks_more(self, turn: Turn, s: Standing, *, near: bool) -> bool:
        """Whether something is left to do for an output that is confirmed where it should be."""
        motion, gating = s.motion, s.gating
        if turn.state.stopping is not None:
            return True
        if gating.ruled and (
            motion.moving
            # it waits, and for how long counts from what is confirmed
            or ((gating.refusal is not None or gating.keeping is not None) and gating.mine.paced)
        ):
            return True
        return not near and (s.output.shape is not None or (motion.unsaid and not motion.moving))

    def _went_off(self, turn: Turn, s: Standing, was: Setting | None, awaited: Setting | None) -> None:
        confirmed = s.drive.confirmed
        assert confirmed is not None
        if not confirmed.on and (was is None or was.on or awaited is not None):
            s.known.off_at = turn.now.mono
            if s.gating.ruled:
                self._armed.gates.went_off(turn, s, was_on=was is not None and was.on)

    def _differs(self, turn: Turn, s: Standing, expected: Setting, event: ev.Confirmed) -> None:
        """A read-back that is not what was driven: corrected once, then a fault; where it has a reason there, neither."""
        if event.why:
            self._kept(turn, s, expected, event)
            return
        drive = s.drive
        assert drive.confirmed is not None
        shown, wanted = s.output.say(drive.confirmed), s.output.say(expected)
        by = f"board {s.output.pin.board}"
        if self.proofs.of(turn, s.output.name):
            by = f"its proof ('{self._armed.gates.proofs.of[s.output.name][0].condition.text}')"
        text = f"{by} shows {shown} instead of {wanted}, also after a correction"
        before = drive.fault
        if not drive.differs(expected, text):
            return
        if before != text:
            turn.note("fault", s.output.name, f"{s.output.name}: {text}", {"fault": text})
        turn.tell(s, "failed", text)
        self._driving.back_off(turn, s, expected)

    def _kept(self, turn: Turn, s: Standing, expected: Setting, event: ev.Confirmed) -> None:
        """Whoever is at the other side has a reason: a rule there counts for whoever has just asked as one of ours does."""
        drive, before = s.drive, s.drive.fault
        drive.kept(expected, event.why)
        if before != event.why:
            turn.note("fault", s.output.name, f"{s.output.name}: {event.why}", {"fault": event.why})
        self._refused(turn, s, event, event.why)
        turn.tell(s, "failed", event.why)
        self._driving.back_off(turn, s, expected)

    def _refused(self, turn: Turn, s: Standing, event: ev.Confirmed | ev.Failed, why: str) -> None:
        """What somebody has just asked for, and a rule forbids, leaves nothing that would begin by itself later; nor does what has ended there."""
        if event.over or (event.refused and (s.claims.asker or s.output.rearm == "command")):
            turn.disarm_all(s, why)

    def failed(self, turn: Turn, event: ev.Failed) -> None:
        """An order did not get through, or what it led to is no longer known."""
        s = turn.state.outputs.get(event.output)
        if s is None or not s.drive.means(event.generation):
            return
        if s.drive.pending is None and s.drive.confirmed is None:
            return
        self._refused(turn, s, event, event.reason)
        self._driving.fail(turn, s, event.reason)

    def up(self, turn: Turn, event: ev.LinkUp) -> None:
        """A board answers."""
        if event.board not in turn.state.boards:
            return  # it has left the site since
        self._set_board(turn, event.board, True, "")
        gates, readings = self._armed.gates, dict(event.readings)
        turn.state.trials.timers.update({(event.board, line): timer for line, timer in event.timers})
        for name in turn.state.on_board[event.board]:
            s = turn.state.outputs[name]
            # what has a proof is told again, so that the proof is asked
            s.drive.linked(None if self.proofs.of(turn, name) else readings.get(name), s.output.safe)
            known = s.drive.confirmed is not None
            s.known.how = "read back" if known else ""
            s.known.off_at, s.known.attested = turn.now.mono, False
            if s.gating.ruled:
                gates.back(turn, s)
            gates.noticed(turn, s)
            if known:
                s.known.since = event.at.wall
                journal_change(turn, s)

    def lost(self, turn: Turn, event: ev.LinkLost) -> None:
        """A board no longer answers."""
        state, board = turn.state, event.board
        if board not in state.boards:
            return
        self._set_board(turn, board, False, event.reason, event.cut)
        gates = self._armed.gates
        standings = [state.outputs[name] for name in state.on_board[board]]
        for s in standings:
            if s.gating.ruled:
                gates.lost(turn, s)
            s.drive.unlinked()
            s.gating.granted, s.gating.bound_for = False, None
            s.known.how, s.known.attested, s.known.lost_at = "", False, turn.now.mono
            gates.noticed(turn, s)
            turn.tell(s, "failed", f"the link to board {board} was lost: {event.reason}")
        turn.disarm(standings, f"ended when board {board} was lost")
        self._contacts.unknown(
            turn, (name for name, input in turn.site.inputs.items() if input.pin.board == board)
        )
        end_trials(turn, f"ended when board {board} was lost", board)

    def _set_board(self, turn: Turn, name: str, up: bool, reason: str, cut: bool = False) -> None:
        turn.state.boards[name] = BoardNow(name, up, reason, turn.now.wall, cut)
        turn.effect(ev.Changed("board", name))
        self._armed.gates.watches.mark("board", name)
        text = f"board {name} answers" if up else f"board {name} does not answer: {reason}"
        turn.note("link", name, text, {"up": up, "reason": reason} | ({"cut": True} if cut else {}))
