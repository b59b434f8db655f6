"""What the service itself says: start, stop, another site file, whether the journal can be written."""

from __future__ import annotations

from cairnwind.core.engine.alarms import Alarms
from cairnwind.core.engine.commands.inputs import Contacts
from cairnwind.core.engine.commands.rewiring import reshape
from cairnwind.core.engine.courses import Courses
from cairnwind.core.engine.deciding import replace_claim
from cairnwind.core.engine.planning import Planning
from cairnwind.core.engine.reflexes import Reflexes
from cairnwind.core.engine.regulators import Regulators
from cairnwind.core.engine.requests import Requests, watch_end
from cairnwind.core.engine.sticks import Sticks
from cairnwind.core.engine.trying import end_trials
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import held
from cairnwind.core.facts.difference import in_words
from cairnwind.core.facts.history import claim_form
from cairnwind.core.rules.gates import Armed, Gates
from cairnwind.core.state.turn import Turn
from cairnwind.core.values.fact import replace
from cairnwind.core.values.quantities import NS, about

JUMP = 2 * NS
"""A wall clock that moves this much more or less than the monotonic one has been set."""


class Lifecycle:
    """Holds all that follows rules, since another site file changes them together."""

    def __init__(
        self, armed: Armed, requests: Requests, courses: Courses, planning: Planning, sticks: Sticks
    ) -> None:
        self._armed, self._requests, self._courses, self.planning = armed, requests, courses, planning
        self.reflexes = Reflexes(armed, courses)
        self.regulators = Regulators(armed.gates.sight, requests)
        self._sticks = sticks
        self.contacts = Contacts(armed, self.regulators.input_changed, sticks.moved)
        self.alarms = Alarms(armed, courses)

    # --- start and stop -----------------------------------------------------------------------------------

    def start(self, turn: Turn, event: ev.Start) -> None:
        """The store has been read: this is what was left."""
        state, gates = turn.state, self._armed.gates
        state.journal.sequence = event.sequence
        state.in_force.starting, state.in_force.stop = False, event.stop
        gates.arm(event.interlocks, event.guards)
        for part in (self.reflexes, self.regulators, self.alarms):
            part.arm(event.reflexes)
        gates.recall(turn, event.kept)
        self.contacts.recall(turn, event.kept)
        if state.site.quiet is not None:
            self.quiet_due(turn, "", "")
        for tag in event.tags:
            if tag.output in state.outputs:
                state.in_force.tags.setdefault(tag.output, {})[tag.name] = tag
        turn.note("start", "", f"the service started{_away(event)}", {"orderly": event.orderly is not False})
        early, state.journal.early = state.journal.early, []
        turn.effect(*(replace(record, sequence=turn.number()) for record in early))
        gates.trips.take_up(turn, event.trips)
        for claim in event.claims:
            self._requests.take_back(turn, claim)
        self.planning.start(turn, event)
        self.reflexes.start(turn)
        self.alarms.start(turn, event.alarms)
        self.regulators.start(turn)
        turn.touch_all(state.outputs)
        turn.effect(ev.Changed("site", ""))

    def shutdown(self, turn: Turn, event: ev.Shutdown) -> None:
        """The service is about to end."""
        turn.state.in_force.closing = True
        turn.note("shutdown", "", "the service is stopping: every output to safe", {})
        turn.touch_all(turn.state.outputs)
        self.contacts.store(turn)
        end_trials(turn, "the service is stopping")

    # --- another site file --------------------------------------------------------------------------------

    def reload(self, turn: Turn, event: ev.Reload) -> None:
        """Other rules hold from now on; what the old ones remember by name is kept."""
        sequence, state, before = turn.number(), turn.state, turn.state.site
        self.contacts.unknown(turn, event.wired.inputs.gone)
        self._sticks.succeed(turn, event.site)
        carried = reshape(turn, event)
        self.contacts.store(turn)
        force = state.in_force
        if event.site.quiet is not None:
            self.quiet_due(turn, "", "")
        elif force.quiet:
            force.quiet, force.loud = "", frozenset()
            turn.wall.drop("quiet", "")
        old = self._armed.gates
        gates = self._armed.gates = Gates(state, old.rounds)
        gates.arm(event.interlocks, event.guards)
        gates.succeed(turn, old)
        for claim in carried:  # before any rule looks for what it holds
            turn.effect(ev.KeepClaim(claim))
            self._requests.take_back(turn, claim)
        for part in (self.reflexes, self.regulators, self.alarms):
            part.reload(turn, event.reflexes)
        self.planning.reload(turn, event.schedules, dict(event.wired.renamed))
        for name in event.changed:
            s = state.outputs[name]
            s.drive.homing, s.gating.granted = True, False
        turn.touch_all(state.outputs)
        turn.effect(ev.Changed("site", ""), ev.Changed("plan", ""))
        rules = f"{len(event.interlocks)} interlocks, {len(event.reflexes)} reflexes, {len(event.schedules)} schedules"
        text = f"{event.said}: {rules}"
        said = in_words(before, event.site, event.wired)
        if said:
            text += f"; {'; '.join(said)}"
        turn.record(sequence, "command", "", text, event, {"verb": "reload"})
        turn.done(event, sequence, text)

    # --- the journal --------------------------------------------------------------------------------------

    def recording(self, turn: Turn, event: ev.Recording) -> None:
        """Whether the journal can be written; or what is to be feared of its disk, while it can."""
        journal = turn.state.journal
        if event.ok is None:
            if journal.ok and journal.trouble != event.reason:
                journal.trouble = event.reason
                feared = f"the journal may soon not be written: {event.reason}"
                self._say_of_journal(
                    turn, feared if event.reason else "the disk of the journal is well again"
                )
            return
        if journal.ok == event.ok:
            return
        journal.ok, journal.trouble = event.ok, event.reason
        self._say_of_journal(
            turn,
            "the journal can be written again"
            if event.ok
            else f"the journal cannot be written: {event.reason}",
        )
        if event.ok:
            self._catch_up(turn)

    def _say_of_journal(self, turn: Turn, text: str) -> None:
        turn.effect(ev.Changed("site", ""))
        turn.note("journal", "", text, {"ok": turn.state.journal.ok})

    def _catch_up(self, turn: Turn) -> None:
        for part in (self.planning, self._courses, self.reflexes, self.regulators):
            part.catch_up(turn)

    def withdraw(self, turn: Turn, event: ev.Withdraw) -> None:
        """What could not be recorded was not decided: claims that still stand end, and what they replaced stands again."""
        why = "it could not be recorded, and is taken back"
        for claim, before in event.made:
            s = turn.state.outputs.get(claim.output)
            standing = held(s.claims.all, claim.slot) if s is not None else None
            if s is None or standing is None or standing.place != claim.place:
                continue
            self.planning.withdrawn(claim)
            self._courses.withdrawn(turn, claim)
            if before is None or (before.ends_mono is not None and before.ends_mono <= turn.now.mono):
                turn.end(s, standing, why)
                continue
            replace_claim(turn, s, claim, before)
            watch_end(turn, before)
            turn.journal_end(standing, why)
            text = f"{s.output.name} to {s.output.say(before.setting)} again: what came after {why}"
            data = {"verb": "claim", "claim": claim_form(before), "outcome": turn.word, "reason": why}
            turn.note("command", s.output.name, text, data)
        for timer in event.timers:
            self._courses.drop_unrecorded(turn, timer)
        if turn.recording:
            self._catch_up(turn)  # the disk was back before this was known
        turn.effect(ev.Outcome(event.command, turn.number(), turn.word, "", why))

    # --- the clock ----------------------------------------------------------------------------------------

    def see_clock(self, turn: Turn) -> None:
        """A wall clock that was set is journalled; calendar ends follow it, durations do not."""
        clocks, now = turn.state.clocks, turn.now
        lead = now.wall - now.mono
        if clocks.lead is not None and abs(lead - clocks.lead) > JUMP and not turn.state.in_force.starting:
            if turn.state.site.quiet is not None:
                self.quiet_due(turn, "", "")
            moved = (lead - clocks.lead) / NS
            text = f"the clock was set {'forward' if moved > 0 else 'back'} by {abs(moved):.0f} s"
            turn.note("clock", "", text, {"moved": moved})
            self.planning.jumped(turn)
            self._armed.gates.jumped(turn)
        clocks.lead = lead

    def quiet_due(self, turn: Turn, name: str, slot: str) -> None:
        """Quiet hours begin or end, or the clock was set."""
        from cairnwind.core.rules.quiet import told, words  # time zones are not needed on the way to safe

        quiet, force = turn.state.site.quiet, turn.state.in_force
        assert quiet is not None
        inside, due = told(quiet, turn.state.site.timezone, turn.now.wall)
        force.quiet = words(quiet.end) if inside else ""
        force.loud = quiet.excepted
        turn.wall.set(due, "quiet", "")
        for s in turn.state.outputs.values():
            if s.output.takes == "tone" and s.motion.wanted.on:
                turn.touch(s.output.name)


def _away(event: ev.Start) -> str:
    """How the run before ended, and for how long nobody was there."""
    if event.orderly is None or not 0 < event.last < event.at.wall:
        return "" if event.orderly is not False else "; the run before had not ended in good order"
    away = f"nobody was there for {about(event.at.wall - event.last)}"
    return f"; {away}" if event.orderly else f"; the run before had not ended in good order, and {away}"
