"""The heart of it: whatever happens to a random site, the oracle sees nothing forbidden on its pins."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, TypeVar

from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, rule

from tests.invariants import sites
from tests.invariants.__main__ import one
from tests.invariants.plant import Plant

T = TypeVar("T")
ONCE = (1659, 42107, 206367)
"""Seeds that found something once, in the engine or with a fault seeded, which no small test of its own shows."""


class Drawn:
    """Chance that Hypothesis can shrink."""

    def __init__(self, data: Any) -> None:
        self._data = data

    def number(self, low: int, high: int) -> int:
        return self._data.draw(st.integers(low, high))

    def one(self, among: Sequence[T]) -> T:
        return self._data.draw(st.sampled_from(among))


class Anything(RuleBasedStateMachine):
    """A random site, and things that happen to it."""

    plant: Plant

    @initialize(data=st.data())
    def build(self, data: Any) -> None:
        self.plant = sites.plant(Drawn(data))

    @rule(data=st.data())
    def somebody_wishes(self, data: Any) -> None:
        sites.wish(self.plant, Drawn(data))

    @rule(data=st.data())
    def a_contact_moves(self, data: Any) -> None:
        sites.turn_input(self.plant, Drawn(data))

    @rule(data=st.data())
    def time_passes(self, data: Any) -> None:
        sites.wait(self.plant, Drawn(data))

    @rule(data=st.data())
    def anything_else(self, data: Any) -> None:
        sites.act(self.plant, Drawn(data))


Anything.TestCase.settings = settings(
    max_examples=60, stateful_step_count=40, deadline=None, suppress_health_check=list(HealthCheck)
)
TestAnything = Anything.TestCase


def test_the_seeded_driver_finds_nothing_either() -> None:
    found = [one(seed) for seed in (*range(100), *ONCE)]
    assert [each for each in found if each[2]] == []
    assert sum(events for _, events, _ in found) > 40_000
