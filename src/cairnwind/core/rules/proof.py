"""Proof: a condition that shows by itself whether an output is on, as an auxiliary contact or a current sensor does.

    proof = "kiln-aux is closed"              at its output, with proof_within

A board that says that a coil has current says nothing of the contact behind it. Of an output with a proof nothing counts as confirmed
until the proof agrees with what its board says: on is on only when it is so, off is off only when it is not. What does not agree within
its time is a fault. One that was told off and proves on is welded: it is on, whatever it is told, and keeps its place. Of one that was
told on and does not prove so nobody knows anything: it may be on, and permits nothing.

A gate that refuses nothing by itself: here is what is remembered of each output; `cairnwind.core.engine.proving` decides.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from cairnwind.core.facts import events as ev
from cairnwind.core.facts.conditions import Condition, Value
from cairnwind.core.facts.interlocks import Interlock
from cairnwind.core.rules.form import Form
from cairnwind.core.rules.gate import Gate, Kind
from cairnwind.core.state.standing import Standing
from cairnwind.core.state.state import State
from cairnwind.core.state.turn import Turn
from cairnwind.core.state.watches import Watch, Watches
from cairnwind.core.values.errors import CallerError, at_fault
from cairnwind.core.values.fact import alike, fact
from cairnwind.core.values.quantities import show_duration

HOW = "proved"
"""How a confirmation is known that the proof agrees with."""


@fact
class Proof(Interlock):
    """What shows whether its one output is on, and within which time after the board's word."""

    condition: Condition
    within: int


def _read(name: str, form: Form) -> Proof:
    condition = form.condition("proof")
    if not any(kind == "input" for kind, _ in condition.about) or any(
        kind not in ("input", "board") for kind, _ in condition.about
    ):
        what = f"'{condition.text}' does not show by itself whether {form.outputs()[0]} is on."
        raise at_fault(
            "proof", CallerError("bad-value", what, 'Ask inputs alone: proof = "kiln-aux is closed".')
        )
    return Proof(name, form.outputs(), condition, form.take("proof_within", int))


def _said(rule: Proof) -> str:
    return f"{rule.outputs[0]} is on when {rule.condition.text}, within {show_duration(rule.within)}"


KIND = Kind(
    "proof",
    Proof,
    {"proof": "what shows whether it is on", "proof_within": "how long that may take"},
    _read,
    _said,
    holds_off=False,
)


class Proving:
    """What is remembered of one output."""

    __slots__ = ("due", "told")

    def __init__(self) -> None:
        self.told: ev.Confirmed | None = None
        """The last word of its board."""
        self.due: int | None = None
        """When the proof has to agree with it (monotonic nanoseconds); None: it does, or nobody waits."""


class ProofGate(Gate[Proof]):
    """The gate."""

    rule = Proof

    def __init__(self, state: State, watches: Watches) -> None:
        super().__init__(state, watches)
        self._watch: dict[str, Watch] = {}
        """By output."""
        self.proving: dict[str, Proving] = {}
        """By output."""

    def add(self, rule: Proof) -> None:
        """Keep an eye on its condition."""
        (name,) = rule.outputs
        self._watch[name] = self.watches.add(f"proof {name}", rule.condition, rule, self._told)
        proving = self.proving[name] = Proving()
        drive = self.state.outputs[name].drive
        if drive.confirmed is not None and drive.pending is None:
            proving.told = ev.Confirmed(self.state.clocks.now, name, drive.generation, drive.confirmed)

    def value(self, name: str) -> Value:
        """Whether it is shown to be on; None: nobody can tell."""
        return self._watch[name].value

    def waits(self, name: str) -> bool:
        """Whether its board has said what it was told, and only the proof is waited for."""
        proving = self.proving.get(name)
        if proving is None or proving.due is None or proving.told is None:
            return False
        return proving.told.generation == self.state.outputs[name].drive.generation

    def _told(self, turn: Turn, watch: Watch, before: Value) -> None:
        turn.mono.set(turn.now.mono, "proof", watch.rule.outputs[0])

    def lost(self, turn: Turn, s: Standing) -> None:
        """Its board's last word counts no more."""
        self.forget(turn, s.output.name)

    def forget(self, turn: Turn, name: str) -> None:
        """What its board said last counts no more."""
        proving = self.proving[name]
        proving.told = proving.due = None
        turn.mono.drop("proof", name)

    def recall(self, turn: Turn, kept: Iterable[ev.Keep]) -> None:
        """What boards said before anybody knew of proofs is not believed: they are told to be safe once more."""
        for name in self.of:
            s = self.state.outputs[name]
            if turn.state.stepped and turn.state.boards[s.output.pin.board].up:
                self.forget(turn, name)
                s.drive.linked(None, s.output.safe)

    def succeed(self, turn: Turn, old: Any) -> None:
        """Those that have the proof that they had go on; the others are looked at."""
        for name, rules in self.of.items():
            if name in old.of and alike(rules[0], old.of[name][0]) and old.proving[name].told is not None:
                self.proving[name] = old.proving[name]
            turn.mono.set(turn.now.mono, "proof", name)
        for name in old.of.keys() - self.of.keys():
            turn.mono.drop("proof", name)
