"""Power cuts, and a process that is killed, at any moment: nothing acknowledged is lost, no start is refused."""

from __future__ import annotations

import random
from pathlib import Path

import pytest

from tests.power.cuts import replay
from tests.power.kills import WAYS, House


@pytest.mark.parametrize("version", [0, random.SystemRandom().randint(1, 6)], ids=["first", "upgrade"])
def test_a_power_cut_loses_nothing_acknowledged_and_every_start_after_it_is_made(
    tmp_path: Path, version: int
) -> None:
    seed = random.SystemRandom().randrange(1 << 32)
    assert list(replay(tmp_path, version, 8, seed)) == []


def test_whoever_commands_a_service_that_is_killed_was_told_nothing_that_is_not_so(tmp_path: Path) -> None:
    house, chance = House(tmp_path), random.Random()
    try:
        while not all(house.told[way] for way in WAYS) or len(house.rows) < 10:
            house.once(chance)
    finally:
        house.end()
