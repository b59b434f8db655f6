"""Another site file with other wiring: outputs, inputs and boards that come, go or are wired otherwise, in one turn.

Outputs that go or are wired otherwise were taken to safe before, and are kept there (`rewire`) until this turn. What is wired
as it was remembers all that it did, by name.
"""

from __future__ import annotations

from cairnwind.core.engine.requests import suits
from cairnwind.core.engine.trying import end_trials
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Claim
from cairnwind.core.facts.site import Site
from cairnwind.core.facts.trials import owner
from cairnwind.core.state.turn import Turn
from cairnwind.core.values.fact import replace

OF_OUTPUTS = frozenset(("claim", "over", "retry", "proof", "answer", "step", "ruled"))
OF_INPUTS = frozenset(("input", "stale", "total"))
"""Kinds of timers that are named by an output, and by an input."""


def rewire(turn: Turn, event: ev.Rewire) -> None:
    """Outputs are kept at safe while they are wired otherwise, or no longer are."""
    force, now = turn.state.in_force, frozenset(event.outputs)
    turn.touch_all(name for name in force.rewiring ^ now if name in turn.state.outputs)
    force.rewiring = now


def reshape(turn: Turn, event: ev.Reload) -> list[Claim]:
    """What is wired from now on; claims of outputs that are called otherwise, to be taken up under the new names."""
    state, wired, site = turn.state, event.wired, event.site
    carried = _carried(
        turn, [each for each in wired.renamed if each[0] in state.outputs and each[1] in site.outputs]
    )
    for name in wired.outputs.removed:
        _remove(turn, name)
    for name in wired.outputs.gone:
        _forget_timers(turn, OF_OUTPUTS - ({"claim", "over"} if name in site.outputs else set()), name)
    for name in wired.inputs.gone:
        _forget_timers(turn, OF_INPUTS, name)
    for name in wired.boards.gone:
        end_trials(turn, f"ended when board {name} was let go", name)
    state.rewire(site, wired)
    state.in_force.rewiring = frozenset()
    turn.touched = {name: None for name in turn.touched if name in state.outputs}
    for name in wired.outputs.rewired:
        s = state.outputs[name]
        turn.disarm([s], "ended when its wiring was changed")
        for claim in s.claims.all:
            if not suits(s.output, claim.setting):
                turn.end(s, claim, "its output no longer takes that")
    _end_taken_trials(turn, site)
    for kind, things in (("output", wired.outputs), ("input", wired.inputs), ("board", wired.boards)):
        turn.effect(*(ev.Changed(kind, name) for names in things for name in names))
    return carried


def _carried(turn: Turn, names: list[tuple[str, str]]) -> list[Claim]:
    """What is held under an old name is held under the new one: tags, a guard's wrong codes, and the claims, which are returned."""
    force, found = turn.state.in_force, list[Claim]()
    tags = {other: force.tags.pop(one, {}) for one, other in names}
    wrong = {other: force.wrong.pop(one) for one, other in names if one in force.wrong}
    force.wrong |= wrong
    for one, other in names:
        s = turn.state.outputs[one]
        for tag in tags[other].values():
            moved = tag._replace(output=other)
            force.tags.setdefault(other, {})[tag.name] = moved
            turn.effect(ev.DropTag(one, tag.name), ev.KeepTag(moved))
        turn.effect(*(ev.DropClaim(one, claim.slot) for claim in s.claims.all))
        found += [replace(claim, output=other) for claim in s.claims.all]
        s.claims.all = ()
        turn.note("renamed", other, f"{one} is called {other} from now on", {"old": one})
    return found


def _remove(turn: Turn, name: str) -> None:
    """An output is there no longer: nobody claims it, and nothing waits for it."""
    s = turn.state.outputs[name]
    turn.tell(s, "superseded", "its output is no longer in the site file")
    for claim in s.claims.all:
        turn.end(s, claim, "its output is no longer in the site file")
    if turn.state.stopping is not None:
        turn.state.stopping[1].discard(name)


def _forget_timers(turn: Turn, kinds: frozenset[str] | set[str], name: str) -> None:
    for timers in (turn.mono, turn.wall):
        for key, _ in timers.all():
            if key[0] in kinds and key[1] == name:
                timers.drop(*key)


def _end_taken_trials(turn: Turn, site: Site) -> None:
    """A bare pin that is tried, and belongs to somebody now, is let go."""
    for board, line in list(turn.state.trials.standing):
        if board in site.boards and (taken := owner(site, site.boards[board].pin(line))):
            end_trials(turn, f"ended when its pin was given to {taken}", board, line)
