"""Power cuts at any moment, over first starts, upgrades and what comes after: nothing acknowledged is lost, no start is refused."""

from __future__ import annotations

import random
from pathlib import Path

import pytest

from tests.power.cuts import replay


@pytest.mark.parametrize("version", [0, random.SystemRandom().randint(1, 6)], ids=["first", "upgrade"])
def test_a_power_cut_loses_nothing_acknowledged_and_every_start_after_it_is_made(
    tmp_path: Path, version: int
) -> None:
    seed = random.SystemRandom().randrange(1 << 32)
    assert list(replay(tmp_path, version, 12, seed)) == []
