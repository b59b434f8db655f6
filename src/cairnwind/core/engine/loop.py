"""The engine: events in, effects out.

The theory, in full in the design's rules of the engine:

* Claims say what is *wanted*, gates what is *allowed*; links are told what to *drive* and boards *confirm*.
* An event touches a few outputs. For each of those, and for no other, the way from wish to pin is walked once. So an
  event costs what it affects, however many outputs there are.
* Everything that the engine knows is in its `State`; what one event is about is in its `Turn`, which goes with it.

The phases of one event: the clock is looked at; what is due by now is done; the event itself is applied; all that
is touched is decided about, until nothing is (`cairnwind.core.engine.deciding`); claims that turned out not to be permitted are
taken back; commands are answered; what has changed is shown. It never reads a clock: each event brings the time, and
`next_deadline` says when the engine wants to be told that time has passed.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from cairnwind.core.engine import trying
from cairnwind.core.engine.answering import answer, gather
from cairnwind.core.engine.commands import rewiring
from cairnwind.core.engine.commands.disowned import Disowning
from cairnwind.core.engine.commands.lifecycle import Lifecycle
from cairnwind.core.engine.commands.links import Links
from cairnwind.core.engine.commands.stops import Stops
from cairnwind.core.engine.courses import Courses
from cairnwind.core.engine.deciding import SHOWN_EVERY, Deciding, withdraw
from cairnwind.core.engine.driving import Driving
from cairnwind.core.engine.planning import Planning
from cairnwind.core.engine.reflexes import Reflexes
from cairnwind.core.engine.requests import Requests
from cairnwind.core.engine.sticks import Sticks
from cairnwind.core.engine.tracing import Tracing
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Instant
from cairnwind.core.facts.now import BoardNow, InputNow, OutputNow, SiteNow
from cairnwind.core.facts.site import Site
from cairnwind.core.facts.trials import Trial
from cairnwind.core.rules.budget import Left
from cairnwind.core.rules.gates import Armed, Gates
from cairnwind.core.rules.rounds import Rounds
from cairnwind.core.state.sight import Sight
from cairnwind.core.state.standing import Standing
from cairnwind.core.state.state import State
from cairnwind.core.state.turn import Turn

Handler = Callable[[Turn, Any], None]
Due = Callable[[Turn, str, str], None]


class Engine:
    """The state machine of one site: `handle` takes an event and returns what follows from it."""

    def __init__(self, site: Site, *, stepped: bool = True) -> None:
        """``stepped``: slopes are followed step by step; else, in a rehearsal, from one end to the other."""
        self.state = State(site, stepped=stepped)
        self._armed = Armed(Gates(self.state, Rounds()))
        self._driving = Driving(self._armed)
        self._deciding = Deciding(self._armed, self._driving)
        requests = Requests(self._armed)
        self.courses = Courses(requests)
        self.planning = Planning(self._armed, self.courses)
        self._lifecycle = Lifecycle(
            self._armed, requests, self.courses, self.planning, Sticks(site, requests)
        )
        self._tracing: Tracing | None = None
        """There only while somebody looks at how it is decided."""
        self._handlers, self._deadlines = self._wire(requests)

    def _wire(self, requests: Requests) -> tuple[dict[type, Handler], dict[str, Due]]:
        """Who takes which event, and who is told when what is due."""
        life, planning, courses, driving = self._lifecycle, self.planning, self.courses, self._driving
        stops = Stops(self._armed, requests)
        contacts = life.contacts
        links = Links(self._armed, driving, contacts)
        armed = self._armed
        handlers: dict[type, Handler] = {
            ev.Wish: requests.wish, ev.Renew: requests.renew, ev.Release: requests.release, ev.Extend: requests.extend,
            ev.Overtaken: requests.overtaken, ev.AllStop: requests.all_stop, ev.ResetStop: stops.reset_stop,
            ev.ResetTrip: stops.reset_trip, ev.Attest: stops.attest, ev.Probe: stops.probe, ev.Lock: stops.lock,
            ev.Unlock: stops.unlock, ev.Open: stops.open, ev.WrongCode: stops.wrong_code, ev.Denied: stops.denied,
            ev.Do: courses.do, ev.ChangeTimer: courses.change_timer, ev.Plan: planning.change,
            ev.AcceptClock: planning.accept_clock, ev.Resume: life.reflexes.resume, ev.Acknowledge: life.alarms.acknowledge,
            ev.TryPin: trying.attempt, ev.EndTry: trying.end, ev.TrialFailed: trying.failed,
            ev.Confirmed: links.confirmed, ev.Answers: links.answers, ev.Failed: links.failed, ev.LinkUp: links.up,
            ev.LinkLost: links.lost, ev.InputSeen: contacts.seen, ev.Measured: contacts.measured,
            ev.Start: life.start, ev.Reload: life.reload, ev.Shutdown: life.shutdown, ev.Recording: life.recording,
            ev.Withdraw: life.withdraw, ev.Rewire: rewiring.rewire, ev.Tick: _nothing, ev.Trace: self._trace,
            ev.Disowned: Disowning(courses, planning).disown,
            ev.BoardTripped: lambda turn, event: armed.gates.trips.seen_by_board(turn, event),
        }  # fmt: skip
        deadlines: dict[str, Due] = {
            "claim": requests.claim_due, "over": requests.over_due, "retry": driving.retry_due, "answer": driving.answer_due,
            "step": self._deciding.step_due, "input": contacts.due, "stale": contacts.stale_due, "total": contacts.total_due, "trial": trying.due,
            "proof": links.proofs.due, "timer": courses.due, "plan": planning.due, "quiet": life.quiet_due, "reflex": life.reflexes.due,
            "regulator": life.regulators.due, "alarm": life.alarms.due, "trace": self._trace_due,
            "ruled": lambda turn, name, slot: armed.gates.due(turn, name, slot),
            "watch": lambda turn, name, slot: armed.gates.watch_due(turn, name, slot),
            "grace": lambda turn, name, slot: armed.gates.grace_due(turn, name, slot),
            "guard": lambda turn, name, slot: armed.gates.guards.due(turn, name, slot),
        }  # fmt: skip
        return handlers, deadlines

    # --- the way in ---------------------------------------------------------------------------------------

    def handle(self, event: ev.Event) -> list[ev.Effect]:
        """Take one event; return its effects, drives first and among those moves to off first."""
        turn = Turn(self.state, event.at)
        tracing = self._tracing
        if tracing is not None:
            tracing.begins(turn)
        deciding = tracing or self._deciding
        clocks, at = self.state.clocks, event.at
        if at.wall - at.mono != clocks.lead:
            self._lifecycle.see_clock(turn)
        if clocks.mono.is_due(at.mono) or clocks.wall.is_due(at.wall):
            self._meet_deadlines(turn)
        handler = self._handlers.get(type(event))
        if handler is not None:
            handler(turn, event)
        else:
            event.carry_out(turn)  # type: ignore[union-attr]
        rounds = deciding.decide(turn)
        if turn.asked and self._armed.gates.some and withdraw(turn):
            rounds += 1 + deciding.decide(turn)
        for asked in turn.asked:
            answer(turn, asked)
        if turn.phrase is not None:
            gather(turn)
        self._show(turn)
        if tracing is not None:
            tracing.ends(turn, event)
        return self._effects(turn, again=rounds > 1)

    def _meet_deadlines(self, turn: Turn) -> None:
        for timers, time in ((turn.mono, turn.now.mono), (turn.wall, turn.now.wall)):
            for key in timers.take(time):
                kind, name, slot = key
                if self._tracing is not None:
                    self._tracing.due(key)
                self._deadlines[kind](turn, name, slot)

    def _trace(self, turn: Turn, event: ev.Trace) -> None:
        """Somebody looks at how it is decided about an output: from the next event on, which comes at once."""
        if self._tracing is None:
            self._tracing = Tracing(self._armed, self._driving)
        self._tracing.until[event.output] = turn.now.mono + event.span
        turn.mono.set(turn.now.mono + event.span, "trace", event.output)
        if event.now:
            turn.touch(event.output)
        turn.effect(ev.Outcome(event.command, turn.sequence, "driving", event.output))

    def _trace_due(self, turn: Turn, name: str, slot: str) -> None:
        """Nobody looks any more."""
        if self._tracing is not None:
            self._tracing.until.pop(name, None)
            if not self._tracing.until:
                self._tracing = None

    def _show(self, turn: Turn) -> None:
        """Have what was decided about shown anew, unless it moves on before anybody could have read it."""
        now, outputs = turn.now.mono, self.state.outputs
        for name in turn.touched:
            motion = outputs[name].motion
            if motion.moving and motion.step_at is not None:
                if max(motion.step_at, now) < motion.shown_at + SHOWN_EVERY:
                    continue
            motion.shown_at = now
            turn.effects.append(ev.Changed("output", name))

    def _effects(self, turn: Turn, *, again: bool) -> list[ev.Effect]:
        """What follows from the event. Of an output that was told more than one thing only the last counts."""
        drives, outputs = turn.drives, self.state.outputs
        if not drives:
            return turn.effects
        if again or (turn.glided and turn.touched):
            drives = [
                drive
                for drive in drives
                if drive.output not in turn.touched
                or drive.generation == outputs[drive.output].drive.generation
            ]
        if len(drives) > 1:
            drives.sort(key=lambda drive: drive.setting.on)
        return [*drives, *turn.effects]

    def next_deadline(self, now: Instant) -> int | None:
        """Monotonic nanoseconds at which a `Tick` is due, seen from ``now``; None if nothing is pending."""
        clocks = self.state.clocks
        due, wall = clocks.mono.next, clocks.wall.next
        if wall is None:
            return due
        wall = now.mono + wall - now.wall
        return wall if due is None or wall < due else due

    # --- pictures for readers -----------------------------------------------------------------------------

    @property
    def sight(self) -> Sight:
        """What conditions see."""
        return self._armed.gates.sight

    @property
    def reflexes(self) -> Reflexes:
        """The reflexes that hold now."""
        return self._lifecycle.reflexes

    @property
    def gates(self) -> Gates:
        """The gates that hold now."""
        return self._armed.gates

    def standing(self, name: str) -> Standing:
        """How an output stands."""
        return self.state.outputs[name]

    def output_now(self, name: str) -> OutputNow:
        """The output as it stands."""
        s = self.state.outputs[name]
        board, gating, motion, drive = self.state.boards[s.output.pin.board], s.gating, s.motion, s.drive
        return OutputNow(
            s.output, motion.wanted, s.claims.leader, s.claims.all, gating.refusal, gating.allowed, drive.pending, drive.confirmed,
            s.known.how, s.known.since, board.up, board.reason, drive.fault, drive.attempts, motion.moving, gating.keeping,
            self._armed.gates.grace(s), drive.why, drive.theirs,
        )  # fmt: skip

    def left(self, name: str, now: Instant) -> list[Left]:
        """What is left of each budget of an output; may be asked from any thread."""
        return self._armed.gates.left(name, now)

    def input_now(self, name: str) -> InputNow:
        """The input as it stands."""
        gauge = self.state.inputs.gauges.get(name)
        if gauge is not None:
            return InputNow(
                name, None, gauge.since, gauge.raw, full=gauge.full, volts=gauge.volts, value=gauge.value
            )
        it = self.state.inputs.contacts[name]
        total = it.total * it.input.pulse if it.input.counts else None
        return InputNow(name, it.active, it.since, it.seen, it.edges, it.edge, value=it.value, total=total)

    def trials_now(self, board: str) -> list[Trial]:
        """What is being tried on a board."""
        return [trial for (name, _), trial in list(self.state.trials.standing.items()) if name == board]

    def trial_failure(self, board: str, line: int) -> str:
        """Why the last trial of a pin came to nothing; empty while it stands."""
        return self.state.trials.failures.get((board, line), "")

    def board_now(self, name: str) -> BoardNow:
        """The board as it stands."""
        return self.state.boards[name]

    def site_now(self) -> SiteNow:
        """All-stop, lockout tags, and whether the journal can be written."""
        force, journal, life = self.state.in_force, self.state.journal, self._lifecycle
        tags = tuple(
            tag for name, tags in force.tags.items() if name in self.state.outputs for tag in tags.values()
        )
        suspended = tuple(
            (name, each.suspended) for name, each in life.reflexes.all.items() if each.suspended
        )
        clocks = self.state.clocks
        behind = max(1, clocks.behind - clocks.now.wall) if clocks.behind else 0
        return SiteNow(
            force.stop, tags, journal.ok, journal.trouble, tuple(force.trips.values()), tuple(life.alarms.raised.values()),
            suspended, behind,
        )  # fmt: skip

    def in_flight(self, drive: ev.Drive) -> bool:
        """Whether this drive is still the one that counts for its output."""
        known = self.state.outputs[drive.output].drive
        return known.pending is not None and known.generation == drive.generation

    def unsafe(self, *, reachable: bool = False) -> list[str]:
        """Outputs not confirmed at what is allowed now (at shutdown: at safe); ``reachable``: of boards that answer."""
        return [
            name
            for name, s in self.state.outputs.items()
            if (
                s.drive.pending is not None
                or s.drive.confirmed is None
                or s.drive.confirmed != s.gating.allowed
            )
            and (self.state.boards[s.output.pin.board].up or not reachable)
        ]


def _nothing(turn: Turn, event: ev.Tick) -> None:
    """Time has passed, and what was due has been done."""
