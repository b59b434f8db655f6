"""Traces of the engine, as hashes: what a change that is meant to change no behaviour is held against.

    python -m tests.invariants.golden --sites 400 --write before        each site of the soak, by its seed
    python -m pytest tests/core -p tests.invariants.golden --traces before-tests
    ... the change ...
    python -m tests.invariants.golden --sites 400 --against before
    python -m pytest tests/core -p tests.invariants.golden --traces after-tests      (and compare the two files)

A trace is every event that an engine was told and every effect that it answered with, byte for byte.
"""

from __future__ import annotations

import argparse
import hashlib
import re
import sys
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import pytest

from cairnwind.core.engine.loop import Engine
from tests.invariants.__main__ import one

ADDRESS = re.compile(rb" at 0x[0-9a-f]+")


class Trace:
    """What the engines of this process are told and answer, while it is open."""

    def __init__(self) -> None:
        self.hash = hashlib.sha256()
        self.events = 0

    def __enter__(self) -> Trace:
        self._handle = handle = Engine.handle

        def recorded(engine: Engine, event: Any) -> Any:
            effects = handle(engine, event)
            self.events += 1
            self.hash.update(ADDRESS.sub(b"", f"{type(event).__name__} {event.at!r} {effects!r}".encode()))
            return effects

        Engine.handle = recorded  # type: ignore[method-assign]
        return self

    def __exit__(self, *_: object) -> None:
        Engine.handle = self._handle  # type: ignore[method-assign]

    @property
    def text(self) -> str:
        """How many events, and the hash."""
        return f"{self.events} {self.hash.hexdigest()[:24]}"


def of_site(seed: int) -> str:
    """The trace of one site of the soak."""
    with Trace() as trace:
        _, _, found = one(seed)
    return f"{seed} {trace.text} {found}".strip()


@pytest.hookimpl
def pytest_addoption(parser: Any) -> None:
    """The option of this file as a plugin."""
    parser.addoption("--traces", help="write the trace of each test to this file")


@pytest.fixture(autouse=True)
def _traced(request: Any) -> Iterator[None]:
    with Trace() as trace:
        yield
    if trace.events:
        with Path(request.config.getoption("--traces")).open("a") as file:
            file.write(f"{request.node.nodeid} {trace.text}\n")


def main() -> int:
    """Write traces, or hold them against those that were written; 1 where any differs."""
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--sites", type=int, default=200)
    parser.add_argument("--first", type=int, default=0)
    parser.add_argument("--write", type=Path)
    parser.add_argument("--against", type=Path)
    asked = parser.parse_args()
    with ProcessPoolExecutor() as pool:
        found = list(pool.map(of_site, range(asked.first, asked.first + asked.sites), chunksize=5))
    if asked.write:
        asked.write.write_text("\n".join(found) + "\n")
    before = asked.against.read_text().splitlines() if asked.against else found
    differs = [line for line in found if line not in set(before)]
    events = sum(int(line.split()[1]) for line in found)
    print(f"{events:,} events on {len(found)} sites; {len(differs)} of them differ")
    for line in differs[:20]:
        print(" ", line)
    return bool(differs)


if __name__ == "__main__":
    sys.exit(main())
