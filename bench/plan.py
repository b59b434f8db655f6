"""Rows of time: how late schedules are at the pin, alone, a thousand at once and under HTTP load; and rehearsals."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import threading
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

from bench.table import Row, amount, measures
from cairnwind.boards.links.simulated import SimulatedLink
from cairnwind.client import Site as Client
from cairnwind.core.explain.rehearsal import Rehearsal
from cairnwind.core.values.moments import wall
from cairnwind.core.values.quantities import NS
from cairnwind.demo import SITE_FILE
from cairnwind.folder import Folder
from cairnwind.service.serve import Service
from cairnwind.site import read_site
from cairnwind.site.plans import read_plan

EDGES = amount(20, 2)
"""Seconds in which a schedule begins each second and ends half a second later."""
AT_ONCE = amount(1000, 20)
BARE = """
import sys, time
late = []
for target in map(float, sys.argv[1:]):
    time.sleep(max(0, target - time.time()))
    late.append((time.time() - target) * 1000)
print(sorted(late)[int(len(late) * 0.99) - 1])
"""


def _soon(seconds: float) -> datetime:
    """A whole second to come."""
    return (datetime.now(UTC) + timedelta(seconds=seconds + 1)).replace(microsecond=0)


def _served(tables: str, outputs: int, run: float, load: bool = False) -> list[tuple[float, int, bool]]:
    """Serve a site of so many relays for a while; returns its moves as (wall seconds, line, on)."""
    text = 'site = "edges"\n[board.rack]\nlink = "simulated"\nlines = 1000\n'
    text += "".join(
        f'[output.r{number}]\nkind = "relay"\npin = "rack:line-{number}"\n' for number in range(outputs)
    )
    moves: list[tuple[float, int, bool]] = []
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "site.toml"
        path.write_text(text + tables)
        service = Service(read_site(path), Folder(Path(folder) / "state"), 0)
        service.start()
        link = service.machine.links["rack"]
        assert isinstance(link, SimulatedLink)
        link.watchers.append(lambda line, level: moves.append((time.time(), line, level > 0)))
        over = threading.Event()
        client = Client(state=Path(folder) / "state")

        def ask() -> None:
            while not over.is_set():
                client.turn(f"r{outputs - 1}", "toggle", wait="1 ms")

        worker = threading.Thread(target=ask)
        if load:
            worker.start()
        time.sleep(run)
        over.set()
        if load:
            worker.join()
        service.stop()
    return moves


def _single(load: bool) -> list[float]:
    """How late each edge of single schedules is at the pin, in milliseconds, rising."""
    begin = _soon(amount(5, 2))
    tables = "".join(
        f'[[schedule]]\nname = "s{number}"\nfrom = "{begin + timedelta(seconds=number):%H:%M:%S}"\nfor = "500 ms"\ndo = "turn r{number} on"\n'
        for number in range(EDGES)
    )
    run = begin.timestamp() + EDGES + 1 - time.time()
    moves = _served(tables, EDGES + 1, run, load)
    return sorted(
        (at - begin.timestamp() - line - (0 if on else 0.5)) * 1000
        for at, line, on in moves
        if line < EDGES and at > begin.timestamp() - 0.4
    )[: 2 * EDGES]


@measures("schedule edges")
def edges() -> list[Row]:
    """One schedule's edge; a thousand at one instant; and one under HTTP load."""
    late = _single(load=False)
    targets = [str(_soon(1).timestamp() + number / 2) for number in range(2 * EDGES)]
    bare = float(
        subprocess.run(
            [sys.executable, "-c", BARE, *targets], capture_output=True, text=True, check=True
        ).stdout
    )
    p99 = late[int(len(late) * 0.99) - 1]
    rows = [Row("schedule edge, late at the pin, p99", p99, "ms", bare, None, "within 10 ms", p99 <= 10)]
    loaded = _single(load=True)
    rows.append(
        Row("schedule edge, late at the pin, p99, under HTTP load", loaded[int(len(loaded) * 0.99) - 1], "ms")
    )
    begin = _soon(amount(14, 2))
    half = AT_ONCE // 2
    tables = "".join(
        f'[[schedule]]\nname = "s{number}"\nfrom = "{begin if number < half else begin - timedelta(hours=1):%H:%M:%S}"\nfor = "1 h"\ndo = "turn r{number} on"\n'
        for number in range(AT_ONCE)
    )
    moves = [
        move
        for move in _served(tables, AT_ONCE, begin.timestamp() + 2 - time.time())
        if move[0] >= begin.timestamp()
    ][:AT_ONCE]
    if not any(on for _, _, on in moves):
        raise RuntimeError("the site was not served in time for its edges; run the row again")
    last = (max(at for at, _, _ in moves) - begin.timestamp()) * 1000
    offs = max(number for number, move in enumerate(moves) if not move[2])
    firsts = offs < min(number for number, move in enumerate(moves) if move[2])
    rows.append(
        Row(
            f"{len(moves)} edges at one instant, the last is late by",
            last,
            "ms",
            None,
            None,
            "within 100 ms, offs first",
            last <= 100 and firsts,
        )
    )
    return rows


@measures("rehearsal")
def rehearsal() -> list[Row]:
    """A year of the demo's plan."""
    site = read_site(SITE_FILE)
    schedules = [(each, None) for each in read_plan(site).schedules]
    begin, year = wall(datetime(2026, 1, 1), site.timezone), 365 * 86400
    start = time.perf_counter()
    found = Rehearsal(site, schedules, begin).run_to(begin + year * NS)
    speed = year / (time.perf_counter() - start)
    return [
        Row(
            "rehearsal of a year, times real time",
            speed,
            "",
            None,
            None,
            "at least 30,000,000",
            speed >= 30_000_000,
        ),
        Row("rehearsal of a year, changes", len(found.changes), ""),
    ]
