"""Interlocks that go round in a circle: what an output needs goes off when it comes on.

Such rules contradict themselves, and nobody can say what they mean; what is done with them has to be safe and to end. Outputs
that are decided about again and again within one event are held at safe until another claim leads one of them, or for a
long time.
"""

from __future__ import annotations

from collections.abc import Iterable

from cairnwind.core.facts.claims import Claim
from cairnwind.core.facts.interlocks import Refusal
from cairnwind.core.state.standing import Standing
from cairnwind.core.state.turn import Turn
from cairnwind.core.values.quantities import NS

MOST_TURNS = 12
"""That one output takes within one event: more, and its interlocks go round in a circle."""
WITHIN = 20 * NS
"""Nanoseconds in which that many events have to make an output waver."""
Wish = tuple[str, int] | None
"""Slot and place of a claim; None: nobody's."""
REST = 300 * NS
"""Nanoseconds after which such a circle is tried again, though nobody has claimed anything else since."""


class Rounds:
    """Those that are held."""

    def __init__(self) -> None:
        self.held: dict[str, tuple[int, dict[str, Wish]]] = {}
        """By output: until when (monotonic), and which wishes led the outputs of its circle then."""
        self._wavered: dict[str, tuple[int, int]] = {}
        """By output: since when (monotonic), and how often, it was told two things within one event."""

    def wavers(self, turn: Turn, settled: Iterable[str]) -> bool:
        """Outputs that were told one thing and then another within one event: where that goes on and on, from answer to answer,
        their interlocks go round too, and who wants on and is not is held. True if that is so now."""
        told = [drive.output for drive in turn.drives]
        now = turn.now.mono
        for name in {name for name in told if told.count(name) > 1}:
            since, times = self._wavered.get(name, (now, 0))
            since, times = (now, 1) if now - since > WITHIN else (since, times + 1)
            self._wavered[name] = since, times
            if times >= MOST_TURNS:
                del self._wavered[name]
                return self._hold(turn, settled)
        return False

    def _hold(self, turn: Turn, names: Iterable[str], instead: Iterable[str] = ()) -> bool:
        """Hold those of a circle that want on and are not, or these ``instead``; True if any is held."""
        outputs = turn.state.outputs
        members = {each: _wish(outputs[each].claims.leader) for each in names}
        held = list(instead) or [each for each in members if _wants_on(outputs[each])]
        for each in held:
            self.held[each] = turn.now.mono + REST, members
            turn.mono.set(turn.now.mono + REST, "ruled", each, "round")
            turn.touch(each)
        return bool(held)

    def clear(self) -> None:
        """Other interlocks hold now."""
        self.held.clear()
        self._wavered.clear()

    def turned(self, turn: Turn, name: str, settled: dict[str, int]) -> None:
        """It has been decided about `MOST_TURNS` times, or that many more: who wants on and is not yet is held, or in the end whoever goes round."""
        members = [each for each, turns in settled.items() if turns > 2]
        if settled[name] != MOST_TURNS or not self._hold(turn, members):
            self._hold(turn, members, [name])

    def led(self, turn: Turn, name: str) -> None:
        """Another claim leads an output: circles that it is part of are tried again."""
        for held, (_, members) in self.held.items():
            if name in members:
                turn.touch(held)

    def refuse(self, turn: Turn, s: Standing) -> Refusal | None:
        """It is held."""
        held = self.held.get(s.output.name)
        if held is None:
            return None
        until, members = held
        outputs = turn.state.outputs
        if turn.now.mono < until and all(
            _wish(outputs[each].claims.leader) == was for each, was in members.items()
        ):
            return Refusal(
                "needs",
                "its interlocks go round in a circle: what it needs goes off when it comes on",
                "Change the interlocks: cairnwind check.",
            )
        del self.held[s.output.name]
        return None


def _wish(claim: Claim | None) -> Wish:
    """What tells one wish from another: a lease that is renewed is the same one."""
    return None if claim is None else (claim.slot, claim.place)


def _wants_on(s: Standing) -> bool:
    """Somebody wants it on, and it is not."""
    return s.motion.wanted.on and not s.drive.is_on
