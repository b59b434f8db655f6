"""The invariants without Hypothesis, for as long as one likes: ``python -m tests.invariants --events 10000000``.

Each seed is a site of its own. Ends with how many events the engines took, and what was found; a seed that finds
something is printed, and ``--seed N`` runs it alone.
"""

from __future__ import annotations

import argparse
import os
import random
import sys
import time
import traceback
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from typing import TypeVar

from tests.invariants.sites import act, plant

T = TypeVar("T")
ACTS, WIRING = 600, 120
"""That happen to each site: with its wiring as it is, then while that changes too."""


class Chance:
    """Seeded."""

    def __init__(self, seed: int) -> None:
        self._random = random.Random(seed)

    def number(self, low: int, high: int) -> int:
        return self._random.randint(low, high)

    def one(self, among: Sequence[T]) -> T:
        return among[int(self._random.random() * len(among))]


def one(seed: int) -> tuple[int, int, str]:
    """One site: the seed, events, and what was found."""
    chance = Chance(seed)
    running = None
    try:
        running = plant(chance)
        for turn in range(ACTS + WIRING):
            act(running, chance, wiring=turn >= ACTS)
    except Exception as error:
        last = traceback.extract_tb(error.__traceback__)[-1]
        return (
            seed,
            running.events if running else 0,
            f"{type(error).__name__}: {error} ({last.name}:{last.lineno})",
        )
    return seed, running.events, ""


def main() -> int:
    """Run; 1 if anything was found."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--events", type=int, default=1_000_000)
    parser.add_argument("--seed", type=int)
    parser.add_argument("--first", type=int, default=0)
    parser.add_argument("--jobs", type=int, default=os.cpu_count() or 1)
    asked = parser.parse_args()
    if asked.seed is not None:
        _, events, found = one(asked.seed)
        print(f"seed {asked.seed}: {events} events; {found or 'nothing found'}")
        return bool(found)
    began, events, sites, faults = time.monotonic(), 0, 0, 0
    with ProcessPoolExecutor(asked.jobs) as pool:
        first = asked.first
        while events < asked.events:
            for seed, more, found in pool.map(one, range(first, first + 200), chunksize=5):
                events, sites = events + more, sites + 1
                if found:
                    faults += 1
                    print(f"\nseed {seed}: {found}", flush=True)
                    if faults >= 20:
                        pool.shutdown(cancel_futures=True)
                        return 1
            first += 200
            print(
                f"\r{events:,} events on {sites:,} sites, {time.monotonic() - began:.0f} s",
                end="",
                flush=True,
            )
    print(
        f"\n{events:,} events on {sites:,} random sites in {time.monotonic() - began:.0f} s: {faults} faults found"
    )
    return bool(faults)


if __name__ == "__main__":
    sys.exit(main())
