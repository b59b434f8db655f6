"""A trace tells how it was decided, and changes nothing of it."""

from __future__ import annotations

from typing import Any

import pytest

from cairnwind.core.engine.loop import Engine
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Rank
from cairnwind.core.facts.traces import PHASES, Traced
from cairnwind.core.values.quantities import NS
from tests.core.test_interlocks import LIMIT, NEEDS, plant
from tests.invariants.__main__ import one
from tests.invariants.plant import KEEPER, Plant


def looked_at(run: Plant, output: str, span: int = 60 * NS) -> list[Traced]:
    """What is told of an output from now on."""
    found: list[Traced] = []
    handle = run.engine.handle

    def handled(event: ev.Event) -> Any:
        effects = handle(event)
        found.extend(
            each.trace for each in effects if isinstance(each, ev.Tell) and each.trace.output == output
        )
        return effects

    run.engine.handle = handled  # type: ignore[method-assign]
    run.tell(ev.Trace(run.now, "look", KEEPER, output, span))
    return found


def said(trace: Traced, phase: str) -> list[str]:
    return [
        f"{step.what}: {step.text}" if step.what else step.text for step in trace.steps if step.phase == phase
    ]


def test_it_says_which_gates_were_asked_in_which_order_and_what_each_said() -> None:
    run = plant(NEEDS, LIMIT)
    found = looked_at(run, "kiln")
    run.wish("kiln", True)
    (refused,) = found
    assert refused.event == "wish kiln on, by the test (keeper)"
    gates = said(refused, "own gates")
    assert [each.partition(":")[0] for each in gates] == [
        "starting", "closing", "rewiring", "all-stop", "trip", "lockout", "quiet", "guard", "needs"
    ]  # fmt: skip
    assert [each.endswith("nothing against it") for each in gates] == [True] * 8 + [False]
    assert "vent is off" in gates[-1]
    assert said(refused, "answer") == [f"refused: {gates[-1].partition(': ')[2]}"]
    run.wish("vent", True, Rank.PLAN, "plan:vent")
    run.wish("kiln", True, patient=True)
    assert "a person at the test (keeper) wants it on" in said(found[-1], "want")[0]
    assert said(found[-1], "timers") == [], "nothing of its own waits; the condition's clock does"
    del found[:]
    run.pass_time(6 * NS)
    (let_go,) = [each for each in found if any("is told on" in text for text in said(each, "drive"))]
    assert said(let_go, "conditions") == ["needs draught: not so → so"]
    assert any("watch needs draught" in text for text in said(let_go, "due"))
    assert "'fuse': has a place for it" in said(let_go, "shared gates")
    assert "an answer that does not come of kiln: in 5 s" in said(let_go, "timers")
    assert all(step.phase in PHASES for each in found for step in each.steps)


def test_it_ends_by_itself_and_says_nothing_of_others() -> None:
    run = plant(NEEDS)
    found = looked_at(run, "lamp", 10 * NS)
    run.wish("mill", True)
    assert found == []
    run.wish("lamp", True)
    assert len(found) == 1
    run.pass_time(11 * NS)
    seen = len(found)
    run.wish("lamp", False)
    run.pass_time(NS)
    assert len(found) == seen
    assert run.engine._tracing is None, "and the engine pays nothing"


@pytest.mark.parametrize("seed", range(12))
def test_whoever_looks_on_changes_nothing(seed: int, monkeypatch: pytest.MonkeyPatch) -> None:
    traces: list[list[str]] = []
    handle = Engine.handle
    for looks in (False, True):
        seen: list[str] = []

        def handled(engine: Engine, event: ev.Event, looks: bool = looks, seen: list[str] = seen) -> Any:
            if looks and engine._tracing is None:
                for name in engine.state.outputs:
                    handle(engine, ev.Trace(event.at, "look", KEEPER, name, 10**18))
            effects = [each for each in handle(engine, event) if not isinstance(each, ev.Tell)]
            seen.append(repr(effects))
            return effects

        monkeypatch.setattr(Engine, "handle", handled)
        assert one(seed)[2] == ""
        traces.append(seen)
    assert traces[0] == traces[1]
    assert len(traces[0]) > 100
