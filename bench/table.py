"""Rows: what was measured, against what, and whether the bar holds."""

from __future__ import annotations

import json
import os
import statistics
from collections.abc import Callable
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import TypeVar

BRIEF = "BENCH_BRIEF" in os.environ
"""It is only to be seen that every row runs: once, and nothing is written."""
OUT = Path("build/bench.json")


@dataclass(frozen=True)
class Row:
    """One row of the table. ``bar`` is in words; ``holds`` is None where there is no bar."""

    row: str
    value: float
    unit: str
    reference: float | None = None
    ratio: float | None = None
    bar: str = ""
    holds: bool | None = None


Measure = Callable[[], list[Row]]
ROWS: dict[str, Measure] = {}


def measures(name: str) -> Callable[[Measure], Measure]:
    """Register a function that measures one or more rows whose names begin with ``name``."""

    def register(function: Measure) -> Measure:
        ROWS[name] = function
        return function

    return register


T = TypeVar("T", int, float)


def amount(whole: T, least: T) -> T:
    """How much of something is measured: ``whole``, or ``least`` where it is only to be seen that the row runs."""
    return least if BRIEF else whole


def in_turns(rounds: int, *ways: Callable[[], float]) -> list[float]:
    """Run the ways in turns, ``rounds`` times (once where it is only to be seen that they run); the median of each."""
    rounds = 1 if BRIEF else rounds
    seen: list[list[float]] = [[] for _ in ways]
    for _ in range(rounds):
        for way, kept in zip(ways, seen, strict=True):
            kept.append(way())
    return [statistics.median(kept) for kept in seen]


def write(rows: list[Row]) -> None:
    """Write ``build/bench.json``; rows of earlier runs that were not measured now are kept."""
    if BRIEF:
        return
    OUT.parent.mkdir(exist_ok=True)
    old = {row["row"]: row for row in json.loads(OUT.read_text())} if OUT.exists() else {}
    old.update({row.row: asdict(row) for row in rows})
    OUT.write_text(json.dumps(list(old.values()), indent=1, ensure_ascii=False) + "\n")
