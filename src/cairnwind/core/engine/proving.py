"""Outputs whose boards are not believed alone: their word counts once a proof agrees with it (`cairnwind.core.rules.proof`)."""

from __future__ import annotations

from collections.abc import Callable

from cairnwind.core.engine.driving import Driving
from cairnwind.core.facts import events as ev
from cairnwind.core.rules.gates import Armed
from cairnwind.core.rules.proof import HOW, Proof, ProofGate
from cairnwind.core.state.standing import Standing
from cairnwind.core.state.turn import Turn
from cairnwind.core.values.fact import replace
from cairnwind.core.values.quantities import show_duration

Believe = Callable[[Turn, Standing, ev.Confirmed], None]
"""What takes a confirmation for true."""


class Proofs:
    """``armed`` has the gates that hold now."""

    def __init__(self, armed: Armed, driving: Driving, believe: Believe) -> None:
        self._armed, self._driving, self._believe = armed, driving, believe

    @property
    def _gate(self) -> ProofGate:
        gate: ProofGate = self._armed.gates.proofs
        return gate

    def of(self, turn: Turn, name: str) -> bool:
        """Whether an output has a proof; in a rehearsal, and where nothing is read, boards are believed."""
        if name not in self._gate.of or not turn.state.stepped:
            return False
        return not turn.site.boards[turn.state.outputs[name].output.pin.board].muted

    def hear(self, turn: Turn, s: Standing, event: ev.Confirmed) -> None:
        """Its board says something."""
        gate, name = self._gate, s.output.name
        proving = gate.proving[name]
        before, proving.told = proving.told, event
        if gate.value(name) is event.setting.on:
            self._agree(turn, s)
        elif proving.due is None or before is None or before.setting.on != event.setting.on:
            self._wait(turn, s)
        elif (
            proving.due <= turn.now.mono
        ):  # in the midst of a slope: one step or the next makes no difference
            self._disagree(turn, s, gate.of[name][0], event)

    def due(self, turn: Turn, name: str, slot: str) -> None:
        """The proof has become something else, or should have by now."""
        s = turn.standing(name)
        if not self.of(turn, name):
            return
        gate = self._gate
        proving = gate.proving[name]
        told, drive = proving.told, s.drive
        if told is None or not turn.state.boards[s.output.pin.board].up:
            return
        if told.generation != drive.generation:
            return  # it was told something else since: the board's word on that comes first
        if gate.value(name) is told.setting.on:
            if drive.confirmed != told.setting or drive.pending is not None or s.known.how != HOW:
                self._agree(turn, s)
            proving.due = None
        elif proving.due is None:
            if drive.fault or (drive.confirmed is None and drive.pending is None):
                return  # that is known already; it is tried again
            self._wait(turn, s)
        elif proving.due <= turn.now.mono:
            self._disagree(turn, s, gate.of[name][0], told)
        else:
            turn.mono.set(proving.due, "proof", name)

    def _agree(self, turn: Turn, s: Standing) -> None:
        proving = self._gate.proving[s.output.name]
        assert proving.told is not None
        proving.due = None
        turn.mono.drop("proof", s.output.name)
        self._believe(turn, s, replace(proving.told, at=turn.now, how=HOW))

    def _wait(self, turn: Turn, s: Standing) -> None:
        name = s.output.name
        due = self._gate.proving[name].due = turn.now.mono + self._gate.of[name][0].within
        turn.mono.set(due, "proof", name)

    def _disagree(self, turn: Turn, s: Standing, rule: Proof, told: ev.Confirmed) -> None:
        gate, name = self._gate, s.output.name
        gate.proving[name].due = None
        said, within = s.output.say(told.setting), show_duration(rule.within)
        if gate.value(name):  # it is on all the same
            on = s.drive.confirmed if s.drive.is_on else s.output.full
            assert on is not None
            self._believe(turn, s, replace(told, at=turn.now, setting=on, how=HOW))
            return
        if s.drive.pending is None:
            s.drive.pending = s.drive.confirmed or told.setting
        shown = "nobody knows whether" if gate.value(name) is None else "it is not so that"
        gate.forget(turn, name)
        self._driving.fail(
            turn,
            s,
            f"{said} is not proved: {shown} {rule.condition.text}, {within} after board {s.output.pin.board} said so",
        )
