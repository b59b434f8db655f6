"""Rows of the journal."""

from __future__ import annotations

import tempfile
import threading
import time
from pathlib import Path

from bench.table import Row, amount, in_turns, measures
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Instant
from cairnwind.store.database import connect, prepare
from cairnwind.store.writer import STATEMENTS, Writer, rows

COUNT, GROUP = amount(40_000, 1000), 500
_next = [1]


@measures("journal")
def journal() -> list[Row]:
    """Prepared rows through the writer against a bare executemany; and from effects to committed rows."""
    with tempfile.TemporaryDirectory() as folder:
        ours, theirs, effects = in_turns(
            5, lambda: _writer(Path(folder)), lambda: _bare(Path(folder)), lambda: _effects(Path(folder))
        )
    return [
        Row("journal, prepared rows", ours, "rows/s", theirs, ours / theirs, ">= 0.7", ours / theirs >= 0.7),
        Row("journal, end to end", effects, "rows/s", bar=">= 20,000", holds=effects >= 20_000),
    ]


def _prepared() -> list[list[tuple[str, tuple[object, ...]]]]:
    groups = []
    for _ in range(COUNT // GROUP):
        first = _next[0]
        _next[0] += GROUP
        groups.append(
            [
                (
                    "journal",
                    (
                        first + each,
                        time.time_ns(),
                        "change",
                        "relay-1",
                        "relay-1 is on (read back)",
                        "",
                        "",
                        '{"setting":{"level":100.0}}',
                    ),
                )
                for each in range(GROUP)
            ]
        )
    return groups


def _writer(folder: Path) -> float:
    path = folder / f"writer-{_next[0]}.db"
    prepare(path)
    groups = _prepared()
    writer = Writer(path, "power", lambda reason: None)
    done = threading.Event()
    begin = time.perf_counter()
    for group in groups[:-1]:
        writer.put(group)
    writer.put(groups[-1], lambda reason: done.set())
    done.wait()
    taken = time.perf_counter() - begin
    writer.close()
    return COUNT / taken


def _bare(folder: Path) -> float:
    """As many rows in as many commits as the writer makes of them: one, since all wait at once."""
    path = folder / f"bare-{_next[0]}.db"
    prepare(path)
    groups = _prepared()
    connection = connect(path, "power", write=True)
    begin = time.perf_counter()
    connection.execute("BEGIN IMMEDIATE")
    for group in groups:
        connection.executemany(STATEMENTS["journal"], [row for _, row in group])
    connection.execute("COMMIT")
    taken = time.perf_counter() - begin
    connection.close()
    return COUNT / taken


def _effects(folder: Path) -> float:
    path = folder / f"effects-{_next[0]}.db"
    prepare(path)
    _next[0] += COUNT
    effects = [
        ev.Record(
            number,
            Instant(number, number),
            "change",
            "relay-1",
            "relay-1 is on (read back)",
            data={"setting": {"level": 100.0}},
        )
        for number in range(1, COUNT + 1)
    ]
    writer = Writer(path, "power", lambda reason: None)
    done = threading.Event()
    begin = time.perf_counter()
    for at in range(0, COUNT, 2):
        writer.put(rows(effects[at : at + 2]), (lambda reason: done.set()) if at + 2 >= COUNT else None)
    done.wait()
    taken = time.perf_counter() - begin
    writer.close()
    return COUNT / taken
