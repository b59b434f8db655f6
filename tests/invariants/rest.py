"""What must hold of an engine after every event, whatever that was: it has come to rest, and nothing sleeps for ever.

Nothing is dirty: asked once more about everything at the same moment, it decides the same and drives nothing. So
whatever is held, delayed or waiting was looked at when what it waits for changed, and whoever waits for time alone
is looked at when that has passed, for this is asked after every event.
"""

from __future__ import annotations

from typing import Any

from cairnwind.core.engine.loop import Engine
from cairnwind.core.facts import events as ev


class Unsettled(AssertionError):
    """Something was forgotten."""


def _picture(engine: Engine) -> dict[str, tuple[Any, ...]]:
    """What is decided of each output; the words for it may be older than the decision."""
    return {
        name: (s.wanted, s.allowed, s.pending, s.generation, s.confirmed, s.granted, s.claims)
        for name, s in engine._standings.items()
    }


def _reasons(engine: Engine) -> list[str]:
    return [s.refusal.reason for s in engine._standings.values() if s.refusal is not None]


def check(engine: Engine) -> list[Any]:
    """Raise `Unsettled` where asking again changes anything, or a refusal does not mean safe.

    Returns what the engine did on being asked, where rules contradict themselves and never come to rest.
    """
    if engine.keeper.starting:
        return []
    before = _picture(engine)
    for name, s in engine._standings.items():
        if s.refusal is not None and s.allowed != s.output.safe:
            raise Unsettled(f"{name} is refused ({s.refusal.reason}) and allowed {s.allowed}")
    engine._drives, engine._effects, engine._asked, engine._glided = [], [], [], False
    engine._touched = dict.fromkeys(engine._standings)
    watches = engine.safety.watches
    watches.mark_all(watches.all.values())
    engine._decide()
    after = _picture(engine)
    if any(reason.endswith("between two starts") for reason in _reasons(engine)):
        return [
            *engine._drives,
            *engine._effects,
        ]  # another has started since they were asked; they are asked again when their own time has come
    for name, was in before.items():
        if engine._round:
            return [*engine._drives, *engine._effects]
        if was != after[name]:
            differs = [
                f"{one} → {other}" for one, other in zip(was, after[name], strict=True) if one != other
            ]
            raise Unsettled(f"{name} was not at rest: {'; '.join(differs)}")
    moved = [
        effect
        for effect in (*engine._drives, *engine._effects)
        if not isinstance(effect, ev.Changed | ev.KeepPace) and getattr(effect, "kind", "") != "gate"
    ]
    if moved:
        raise Unsettled(f"asked again, the engine did more: {moved[0]}")
    return []
