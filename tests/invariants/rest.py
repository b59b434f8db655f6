"""What must hold of an engine after every event, whatever that was: it has come to rest, and nothing sleeps for ever.

Nothing is dirty: asked once more about everything at the same moment, it decides the same and drives nothing. So
whatever is held, delayed or waiting was looked at when what it waits for changed, and whoever waits for time alone
is looked at when that has passed, for this is asked after every event.
"""

from __future__ import annotations

from typing import Any

from cairnwind.core.engine.loop import Engine
from cairnwind.core.facts import events as ev
from cairnwind.core.state.turn import Turn


class Unsettled(AssertionError):
    """Something was forgotten."""


def _picture(engine: Engine) -> dict[str, tuple[Any, ...]]:
    """What is decided of each output; the words for it may be older than the decision."""
    return {
        name: (
            s.motion.wanted, s.gating.allowed, s.drive.pending, s.drive.generation, s.drive.confirmed, s.gating.granted,
            s.claims.all,
        )
        for name, s in engine.state.outputs.items()
    }  # fmt: skip


def _reasons(engine: Engine) -> list[str]:
    return [s.gating.refusal.reason for s in engine.state.outputs.values() if s.gating.refusal is not None]


def check(engine: Engine) -> list[Any]:
    """Raise `Unsettled` where asking again changes anything, or a refusal does not mean safe.

    Returns what the engine did on being asked, where rules contradict themselves and never come to rest.
    """
    state = engine.state
    if state.in_force.starting:
        return []
    before = _picture(engine)
    for name, s in state.outputs.items():
        if s.gating.refusal is not None and s.gating.allowed != s.output.safe:
            raise Unsettled(f"{name} is refused ({s.gating.refusal.reason}) and allowed {s.gating.allowed}")
    turn = Turn(state, state.clocks.now)
    turn.touch_all(state.outputs)
    watches = engine.gates.watches
    watches.mark_all(watches.all.values())
    engine._deciding.decide(turn)
    after = _picture(engine)
    did = [*turn.drives, *turn.effects]
    if any(reason.endswith("between two starts") for reason in _reasons(engine)):
        return did  # another has started since they were asked; they are asked again when their own time has come
    for name, was in before.items():
        if engine.gates.rounds:
            return did
        if was != after[name]:
            differs = [
                f"{one} → {other}" for one, other in zip(was, after[name], strict=True) if one != other
            ]
            raise Unsettled(f"{name} was not at rest: {'; '.join(differs)}")
    moved = [
        effect
        for effect in did
        if not isinstance(effect, ev.Changed | ev.Keep) and getattr(effect, "kind", "") != "gate"
    ]
    if moved:
        raise Unsettled(f"asked again, the engine did more: {moved[0]}")
    return []
