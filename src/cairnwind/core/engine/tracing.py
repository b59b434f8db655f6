"""A trace for people: looks on while the engine decides about some outputs, and tells how it came to that.

While nobody looks there is no `Tracing`: the engine decides by `Deciding` alone and pays nothing. Somebody who looks has it put in
its place; it goes the same way, asks the same gates in the same order, and writes down what each said. It changes nothing.
"""

from __future__ import annotations

from typing import Any

from cairnwind.core.engine.deciding import Deciding
from cairnwind.core.engine.driving import Driving
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Rank, held
from cairnwind.core.facts.interlocks import Refusal
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.traces import Step, Traced
from cairnwind.core.physics.programs import Program
from cairnwind.core.rules.gates import OWN, Armed, Gates
from cairnwind.core.state.standing import Standing
from cairnwind.core.state.timers import Key
from cairnwind.core.state.turn import Turn
from cairnwind.core.values.quantities import about
from cairnwind.core.values.settings import Setting

YES = "nothing against it"
WAITS_FOR = {
    "claim": "the end of a claim", "over": "the end of a program", "retry": "another try", "answer": "an answer that does not come",
    "step": "the next step", "ruled": "an interlock",
}  # fmt: skip
"""By the kind of a timer of an output: what waits."""


class Tracing(Deciding):
    """``until`` holds the outputs that somebody looks at, and until when (monotonic nanoseconds)."""

    def __init__(self, armed: Armed, driving: Driving) -> None:
        super().__init__(armed, driving)
        self.until: dict[str, int] = {}
        self._steps: dict[str, list[Step]] = {}
        self._rounds: dict[str, int] = {}
        self._due: list[Key] = []
        self._before: dict[str, Any] = {}

    # --- one event ----------------------------------------------------------------------------------------

    def begins(self, turn: Turn) -> None:
        """An event comes in."""
        self._steps = {name: [] for name in self.until}
        self._rounds, self._due = {}, []
        self._before = {"timers": self._timers(turn), "conditions": self._conditions()}

    def due(self, key: Key) -> None:
        """Something was due by then."""
        self._due.append(key)

    def ends(self, turn: Turn, event: Any) -> None:
        """It has been decided about: tell of those outputs that it concerned."""
        conditions, timers = self._conditions(), self._timers(turn)
        for name, steps in self._steps.items():
            s = turn.state.outputs[name]
            output = s.output
            answers = [each for each in turn.effects if isinstance(each, ev.Outcome) and each.output == name]
            if not steps and answers and isinstance(event, ev.Wish | ev.Renew):
                self._refused(turn, s, event)
            if not steps:
                continue
            found = [Step("event", "", told(event, output))]
            found += [Step("due", _waits(key), "its time has come") for key in self._due]
            for key, value in conditions.items():
                was = self._before["conditions"].get(key)
                if value != was:
                    found.append(Step("conditions", key, f"{_so(was)} → {_so(value)}", no=value is not True))
            found += steps
            found += self._changed(turn, name, timers)
            for each in answers if not isinstance(event, ev.Trace) else ():
                text = f"{each.outcome}: {each.reason}" if each.reason else each.outcome
                found.append(Step("answer", "", text, no=each.outcome != "driving"))
            turn.effect(ev.Tell(Traced(name, turn.now.wall, told(event, output), tuple(found))))

    def _refused(self, turn: Turn, s: Standing, event: ev.Wish | ev.Renew) -> None:
        """A wish that was refused before it became a claim: the gates that it would have had to pass."""
        gates = self._armed.gates
        if isinstance(event, ev.Renew) and (event.setting is None or held(s.claims.all, event.slot) is None):
            return  # no gate was asked: a hold that has ended, or goes on as it is
        if not turn.recording or not self._in_force(turn, s) or not s.gating.ruled:
            return
        for word, said in self._asked(turn, s, gates):
            self._note(s, "own gates", word, said.reason if said else YES, no=said is not None)
            if said is not None:
                return
        rank = event.rank if isinstance(event, ev.Wish) else Rank.HAND
        said = gates.shared.room(turn, s, rank)
        for rule in gates.shared.rules_of(s.output.name):
            mine = said is not None and said.rule == rule
            self._note(
                s,
                "shared gates",
                f"'{rule}'",
                said.reason if said and mine else "has a place for it",
                no=mine,
            )
            if mine:
                return

    def _conditions(self) -> dict[str, Any]:
        return {key: watch.value for key, watch in self._armed.gates.watches.all.items()}

    def _timers(self, turn: Turn) -> dict[Key, int]:
        """When each is due, by the monotonic clock."""
        ahead = turn.now.mono - turn.now.wall
        found = dict(turn.mono.all())
        return found | {key: due + ahead for key, due in turn.wall.all()}

    def _changed(self, turn: Turn, name: str, timers: dict[Key, int]) -> list[Step]:
        """The timers of an output that were set or taken away."""
        before: dict[Key, int] = self._before["timers"]
        found = []
        for key in dict.fromkeys((*before, *timers)):
            if key[1] != name or key[0] not in WAITS_FOR or before.get(key) == timers.get(key):
                continue
            due = timers.get(key)
            text = "no longer" if due is None else f"in {about(max(0, due - turn.now.mono))}"
            found.append(Step("timers", _waits(key), text))
        return found

    def _note(self, s: Standing, phase: str, what: str, text: str, *, no: bool = False) -> None:
        name = s.output.name
        self._steps[name].append(Step(phase, what, text, self._rounds.get(name, 1), no))

    # --- the phases, looked at ----------------------------------------------------------------------------

    def _want(self, turn: Turn, s: Standing, gates: Gates) -> None:
        name = s.output.name
        if name not in self._steps:
            super()._want(turn, s, gates)
            return
        self._rounds[name] = self._rounds.get(name, 0) + 1
        place = len(self._steps[name])
        super()._want(turn, s, gates)
        leader = s.claims.leader
        if leader is None:
            text = f"nobody claims it: it rests at {s.output.say(s.output.rest)}"
        else:
            text = f"{leader.text} wants it {_say(s.output, leader.setting)}"
        if len(s.claims.all) > 1:
            text += f", and leads {len(s.claims.all) - 1} more"
        self._steps[name].insert(place, Step("want", "", text, self._rounds[name]))
        if s.gating.keeping is not None:
            self._note(s, "own gates", "", f"kept as it is: {s.gating.keeping.reason}", no=True)
        if not s.gating.ruled:
            self._in_force(turn, s)

    def _own(self, turn: Turn, s: Standing, wants: bool, gates: Gates) -> Refusal | None:
        found = super()._own(turn, s, wants, gates)
        if s.output.name not in self._steps:
            return found
        if not wants and s.gating.aim == s.output.safe and not s.motion.moving:
            self._note(s, "own gates", "", "none is asked: it goes to safe, which always may be")
            return found
        if self._in_force(turn, s) and wants:
            for word, said in self._asked(turn, s, gates):
                self._note(s, "own gates", word, said.reason if said else YES, no=said is not None)
        return found

    def _asked(self, turn: Turn, s: Standing, gates: Gates) -> list[tuple[str, Refusal | None]]:
        """What each of an output's own interlocks says; that they are asked once more leaves nothing behind."""
        effects, touched = len(turn.effects), dict(turn.touched)
        found = []
        for word, said in gates.asked(turn, s, starting=not s.gating.granted):
            found.append((word, said))
            if said is not None and not said.coming:
                break  # those after it are not asked
        del turn.effects[effects:]
        turn.touched = touched
        return found

    def _in_force(self, turn: Turn, s: Standing) -> bool:
        """Ask what is in force, gate by gate; whether none refuses."""
        for gate in OWN:
            said = gate(turn.state.in_force, s.output)
            word = {"refuse": gate.__module__.rpartition(".")[2]}.get(
                gate.__name__, gate.__name__.replace("_", "-")
            )
            self._note(s, "own gates", word, said.reason if said else YES, no=said is not None)
            if said is not None:
                return False
        return True

    def _allow(self, turn: Turn, s: Standing, gates: Gates) -> None:
        if s.output.name not in self._steps:
            super()._allow(turn, s, gates)
            return
        bid, shared, sent = s.gating.bid, s.gating.shared, len(turn.drives)
        super()._allow(turn, s, gates)
        for rule in gates.shared.rules_of(s.output.name) if bid is not None else ():
            said = shared if shared is not None and shared.rule == rule else None
            self._note(
                s,
                "shared gates",
                f"'{rule}'",
                said.reason if said else "has a place for it",
                no=said is not None,
            )
            if said is not None:
                break
        refused = s.gating.refusal
        text = s.output.say(s.gating.allowed)
        self._note(
            s,
            "allowed",
            "",
            f"{text}, for safe: {refused.reason}" if refused else text,
            no=refused is not None,
        )
        self._note(
            s, "drive", "", self._driven(turn, s, sent), no=bool(s.drive.fault or s.drive.failed is not None)
        )

    def _driven(self, turn: Turn, s: Standing, sent: int) -> str:
        drive, board = s.drive, s.output.pin.board
        mine = [each for each in turn.drives[sent:] if each.output == s.output.name]
        if mine:
            return f"board {board} is told {s.output.say(mine[-1].setting)} (order {mine[-1].generation})"
        if not turn.state.boards[board].up:
            return f"nothing: board {board} does not answer: {turn.state.boards[board].reason}"
        if drive.fault:
            return f"nothing: {drive.fault}"
        if drive.pending is not None:
            return f"nothing more: {s.output.say(drive.pending)} is on its way (order {drive.generation})"
        if drive.retry_at is not None:
            return f"nothing yet: it failed, and is tried again in {about(max(0, drive.retry_at - turn.now.mono))}"
        if drive.confirmed is None:
            return "nothing"
        return f"nothing: it is confirmed at {s.output.say(drive.confirmed)}"


def told(event: Any, output: Output) -> str:
    """An event in words: what it is, and what it says."""
    if isinstance(event, ev.Trace):
        return "a look at it"
    if isinstance(event, ev.Answers):
        mine = [each for each in event.all if each.output == output.name] or event.all[:1]
        more = f" and {len(event.all) - len(mine)} more" if len(event.all) > len(mine) else ""
        return f"{told(mine[0], output)}{more}"
    words = [_word(type(event).__name__)]
    for name in event.__struct_fields__:
        value = getattr(event, name)
        if name in ("at", "command", "source", "lifetime", "slot", "rank", "generation") or value in (
            None,
            "",
            (),
            0,
            False,
        ):
            continue
        if isinstance(value, Setting | Program):
            words.append(
                _say(output, value) if getattr(event, "output", "") == output.name else value_text(value)
            )
        elif isinstance(value, str | int):
            words.append(name.replace("_", " ") if value is True else str(value))
    source = getattr(event, "source", None)
    return f"{' '.join(words)}{f', by the {source.text}' if source is not None else ''}"


def value_text(value: Setting | Program) -> str:
    """A setting of some output."""
    return value.text if isinstance(value, Program) else "on" if value.on else "off"


def _word(name: str) -> str:
    return "".join(f" {letter.lower()}" if letter.isupper() else letter for letter in name).strip()


def _say(output: Output, value: Setting | Program) -> str:
    return value.text if isinstance(value, Program) else output.say(value)


def _so(value: bool | None) -> str:
    return "not known" if value is None else "so" if value else "not so"


def _waits(key: Key) -> str:
    kind, name, slot = key
    return f"{WAITS_FOR.get(kind, kind)}{f' ({slot})' if slot else ''}{f' of {name}' if name and kind in WAITS_FOR else f' {name}' if name else ''}"
