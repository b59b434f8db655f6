"""Guards: a passcode on an output. Given right, it opens for a time and closes by itself; no rank goes round it."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable

from cairnwind.core.facts import events as ev
from cairnwind.core.facts.guards import Guard
from cairnwind.core.facts.interlocks import Refusal
from cairnwind.core.facts.outputs import Output
from cairnwind.core.state.inforce import InForce
from cairnwind.core.state.state import State
from cairnwind.core.state.turn import Turn
from cairnwind.core.state.watches import Watches
from cairnwind.core.values.quantities import show_duration


def refuse(force: InForce, output: Output) -> Refusal | None:
    """No code has opened it."""
    if output.name not in force.shut:
        return None
    return Refusal(
        "guard", f"{output.name} is guarded by a passcode", f"Give it: cairnwind open {output.name}."
    )


class GuardGate:
    """What opens and shuts them."""

    def __init__(self, state: State, watches: Watches) -> None:
        self._state, self._watches = state, watches
        self.guards: dict[str, Guard] = {}
        self._open_until: dict[str, int] = {}
        """By guarded output that is open: until when (monotonic nanoseconds)."""

    def arm(self, guards: Iterable[Guard]) -> None:
        """These outputs are guarded from now on, and shut."""
        self.guards = {guard.output: guard for guard in guards}
        self._state.in_force.shut = set(self.guards)

    def open(self, turn: Turn, event: ev.Open) -> None:
        """A right code was given."""
        guard = self.guards[event.output]
        ends = turn.now.mono + guard.opens
        self._open_until[event.output] = ends
        turn.state.in_force.shut.discard(event.output)
        turn.mono.set(ends, "guard", event.output)
        if event.code:
            turn.effect(ev.DropCode(event.code))
        text = f"{event.output}: opened with the code of {event.by}, for {show_duration(guard.opens)}"
        turn.note("guard", event.output, text, {"by": event.by})

    def wrong_code(self, turn: Turn, event: ev.WrongCode) -> None:
        """A wrong code was given: it is counted, and nothing else happens."""
        turn.state.in_force.wrong.setdefault(event.output, deque(maxlen=1000)).append(turn.now.mono)
        self._watches.mark("guard", event.output)
        refusal = Refusal("guard", "that code does not open it", "Give another, or ask its keeper.")
        turn.refuse(event, turn.number(), refusal)

    def due(self, turn: Turn, output: str, slot: str) -> None:
        """Its time is over, unless it was opened again meanwhile."""
        if output in self.guards and self._open_until.get(output, 0) <= turn.now.mono:
            self._open_until.pop(output, None)
            turn.state.in_force.shut.add(output)
            turn.disarm_all(turn.standing(output), "its guard has closed it")
            turn.touch(output)

    def succeed(self, old: GuardGate) -> None:
        """What is open stays open until its time is over."""
        self._open_until = {name: at for name, at in old._open_until.items() if name in self.guards}
        self._state.in_force.shut -= self._open_until.keys()
