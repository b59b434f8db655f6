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
    before, timers = _picture(engine), dict(state.clocks.mono.all())
    for name, s in state.outputs.items():
        if s.gating.refusal is not None and s.gating.allowed != s.output.safe:
            raise Unsettled(f"{name} is refused ({s.gating.refusal.reason}) and allowed {s.gating.allowed}")
    for name, (_, members) in engine.gates.rounds.held.items():
        if not any(each in engine.gates.needs.of for each in members):
            raise Unsettled(
                f"{name} is held as if interlocks went round, and none of {', '.join(members)} needs anything"
            )
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
        if engine.gates.rounds.held:
            return did
        if was != after[name]:
            differs = [
                f"{one} → {other}" for one, other in zip(was, after[name], strict=True) if one != other
            ]
            raise Unsettled(f"{name} was not at rest: {'; '.join(differs)}")
    away = {name for name, s in state.outputs.items() if not state.boards[s.output.pin.board].up}
    waits = _unwoken(timers, {key: due for key, due in state.clocks.mono.all() if key[1] not in away})
    if waits is not None:
        raise Unsettled(f"asked again, it waits for something that nobody would have told it: {waits}")
    moved = [
        effect
        for effect in did
        if not isinstance(effect, ev.Changed | ev.Keep) and getattr(effect, "kind", "") != "gate"
    ]
    if moved:
        raise Unsettled(f"asked again, the engine did more: {moved[0]}")
    return []


def _unwoken(before: dict[Any, int], after: dict[Any, int]) -> Any:
    """What would not have been woken had nobody asked again (whoever is away is asked when it is back); a circle's places are given at one time, whoever's name that has."""
    places = {due for (_, _, slot), due in before.items() if slot == "place"}
    return next(
        (
            key
            for key, due in after.items()
            if before.get(key) != due and not (key[2] == "place" and due in places)
        ),
        None,
    )


ASKED = (
    ev.Wish, ev.Renew, ev.Release, ev.AllStop, ev.ResetStop, ev.ResetTrip, ev.Attest, ev.Reload, ev.Lock, ev.Unlock,
)  # fmt: skip
OWNERS = {
    "claim", "over", "retry", "proof", "total", "answer", "step", "input", "stale", "trial", "timer", "plan", "quiet", "reflex", "regulator", "alarm",
    "ruled", "watch", "grace", "guard", "trace",
}  # fmt: skip


def answered(event: Any, effects: list[Any]) -> None:
    """Raise `Unsettled` unless a command has exactly one outcome."""
    if isinstance(event, ASKED):
        mine = [each for each in effects if isinstance(each, ev.Outcome) and each.command == event.command]
        if len(mine) != 1:
            raise Unsettled(f"{type(event).__name__} has {len(mine)} outcomes")


def recorded(engine: Engine, event: Any, effects: list[Any]) -> None:
    """Raise `Unsettled` where a command made an on stand while nothing can be recorded."""
    made = [
        each for each in effects if isinstance(each, ev.KeepClaim) and getattr(each.claim.setting, "on", True)
    ]
    if made and isinstance(event, ev.Wish | ev.Renew) and not engine.state.journal.ok:
        raise Unsettled(f"{made[0].claim.output} is wanted on though nothing can be recorded")


def kept(engine: Engine, claims: Any, trips: Any, tags: Any, stop: Any, orders: Any) -> None:
    """Raise `Unsettled` unless the state is what the effects said, and every timer belongs to somebody."""
    state = engine.state
    if state.in_force.starting:
        return
    stands = {
        (claim.output, claim.slot): claim.place for s in state.outputs.values() for claim in s.claims.all
    }
    if stands != {at: claim.place for at, claim in claims.items()}:
        raise Unsettled("claims that stand are not those that are stored")
    force = state.in_force
    if force.trips.keys() != trips.keys() or (force.stop is None) != (stop is None):
        raise Unsettled("what is in force is not what is stored")
    if {(tag.output, tag.name) for each in force.tags.values() for tag in each.values()} != set(tags):
        raise Unsettled("tags that hang are not those that are stored")
    for name, s in state.outputs.items():
        drive = s.drive
        if drive.pending is not None and (
            name not in orders or orders[name][1].generation != drive.generation
        ):
            raise Unsettled(f"{name} waits for an order that was not the last")
    for timers in (state.clocks.mono, state.clocks.wall):
        for (kind, name, _), _due in timers.all():
            if kind not in OWNERS or (
                kind in ("retry", "proof", "answer", "step", "ruled") and name not in state.outputs
            ):
                raise Unsettled(f"nobody owns the timer {kind} {name}")
