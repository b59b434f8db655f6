"""A busy year of the journal: how large, how long a start takes, how long somebody waits who searches it."""

from __future__ import annotations

import json
import random
import sqlite3
import statistics
import tempfile
import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from bench.table import Row, amount, measures
from cairnwind.client import Site
from cairnwind.core.facts.claims import PERSON, TAKEOVER, Claim, Instant, Rank, Source
from cairnwind.core.facts.history import claim_form
from cairnwind.core.values.settings import ON
from cairnwind.folder import Folder
from cairnwind.service.serve import Service
from cairnwind.service.upkeep import Upkeep
from cairnwind.site import read_text
from cairnwind.store.database import prepare
from cairnwind.store.reader import Reader
from cairnwind.store.writer import Writer

YEAR = 365 * 86_400 * 10**9
COUNT = amount(10_000_000, 20_000)
"""Rows; ten million is one every three seconds, by day and by night."""
OUTPUTS = 200
PEOPLE = (
    "command line (anna)",
    "console (first key)",
    "client (hall tablet)",
    "broker (broker)",
    "schedule 'yard before dawn'",
)


def site_text() -> str:
    """Two hundred lamps on ten boards."""
    boards = "".join(
        f'[board.b{number}]\nlink = "simulated"\nlines = 20\n' for number in range(OUTPUTS // 20)
    )
    outputs = "".join(
        f'[output.lamp-{number}]\nkind = "lamp"\npin = "b{number // 20}:line-{number % 20}"\n'
        for number in range(OUTPUTS)
    )
    return (
        f'site = "A year"\ntimezone = "Europe/London"\n[service]\njournal_size = "100 GB"\n{boards}{outputs}'
    )


def rows(now: int) -> Any:
    """What it might have been: commands of people and schedules, and what came of each."""
    chance = random.Random(1)
    step = YEAR // COUNT
    for number in range(1, COUNT + 1):
        lamp, wall = f"lamp-{chance.randrange(OUTPUTS)}", now - YEAR + number * step
        if number % 200_000 == 0:
            yield (
                number,
                wall,
                "link",
                f"b{number % 10}",
                f"b{number % 10} answers",
                "",
                "",
                '{"up": true, "reason": ""}',
            )
        elif number % 3:
            level = chance.randrange(101)
            yield (
                number,
                wall,
                "change",
                lamp,
                f"{lamp} is at {level} % (read back)",
                f"c{number:x}",
                "",
                f'{{"setting": {{"level": {level}.0}}}}',
            )
        else:
            who = chance.choice(PEOPLE)
            source = Source("client", who)
            claim = claim_form(
                Claim(number, lamp, PERSON, Rank.PERSON, ON, number, source, TAKEOVER, Instant(0, wall))
            )
            yield (
                number,
                wall,
                "command",
                lamp,
                f"{lamp} to 40 % (driving)",
                f"c{number:x}",
                who,
                json.dumps({"verb": "claim", "claim": claim, "outcome": "driving"}),
            )


def asked(ask: Callable[[], Any], times: int = 20) -> float:
    """Milliseconds, the middle of so many."""
    taken = []
    for _ in range(times):
        began = time.perf_counter()
        ask()
        taken.append((time.perf_counter() - began) * 1000)
    return statistics.median(taken)


@measures("year")
def year() -> list[Row]:
    """Made once, in some minutes; then a service on it."""
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place) / "state"
        folder.mkdir()
        database = folder / "cairnwind.db"
        prepare(database)
        now = time.time_ns()
        connection = sqlite3.connect(database)
        connection.execute("PRAGMA synchronous = OFF")
        connection.executemany("INSERT INTO journal VALUES (?, ?, ?, ?, ?, ?, ?, ?)", rows(now))
        connection.commit()
        connection.close()
        bare = database.stat().st_size
        site = read_text(site_text(), "year.toml")
        writer, reader = Writer(database, "process", lambda _: None), Reader(database)
        upkeep = Upkeep(reader, writer, lambda: site)
        upkeep._over.wait = lambda seconds=0: False  # type: ignore[method-assign]  # as fast as it can
        began = time.perf_counter()
        upkeep.index()
        indexed = time.perf_counter() - began
        began = time.perf_counter()
        upkeep.checkpoint(now - 86_400 * 10**9)
        upkeep.checkpoint(now)
        kept = time.perf_counter() - began
        reader.close()
        writer.close()
        size = database.stat().st_size
        began = time.perf_counter()
        service = Service(site, Folder(folder), 0)
        service.start()
        started = time.perf_counter() - began
        try:
            searches, told = _searches(Site(service.url, Folder(folder).key()), now)
        finally:
            service.stop()
    return [
        Row(f"year, rows: {COUNT / 1e6:g} million", size / 1e9, "GB", bare / 1e9, size / bare),
        Row("year, its words put into the index", indexed, "s"),
        Row("year, two checkpoints of 200 outputs", kept, "s"),
        Row("year, start", started, "s", bar="< 2", holds=started < 2),
        *(
            Row(f"year, search {name}", taken, "ms", bar="< 200", holds=taken < 200)
            for name, taken in searches.items()
        ),
        *(
            Row(f"year, why {name}", taken, "ms", bar="< 200", holds=taken < 200)
            for name, taken in told.items()
        ),
    ]


def _searches(site: Site, now: int) -> tuple[dict[str, float], dict[str, float]]:
    chance = random.Random(2)
    moment = lambda days: datetime.fromtimestamp((now / 1e9) - days * 86_400 - 1, UTC).isoformat()  # noqa: E731
    lamp = lambda: f"lamp-{chance.randrange(OUTPUTS)}"  # noqa: E731
    begin = lambda: chance.randrange(2, 360)  # noqa: E731

    def day(**more: Any) -> Any:
        days = begin()
        return site.journal(begin=moment(days), end=moment(days - 1), **more)

    searches = {
        "by time": day,
        "by name": lambda: site.journal(lamp()),
        "by name and time": lambda: day(subject=lamp()),
        "by kind": lambda: site.journal(kind=chance.choice(("command", "change", "link"))),
        "by source": lambda: site.journal(source=chance.choice(("anna", "hall tablet", "dawn"))),
        "by a source that there is not": lambda: site.journal(source="nobody"),
        "by words": lambda: site.journal(words=f"{lamp()} {chance.randrange(101)} %"),
        "by words that there are not": lambda: site.journal(words="ceiling"),
        "by name and kind": lambda: site.journal(lamp(), kind="command"),
    }
    return {name: asked(ask) for name, ask in searches.items()}, {
        "it was so, an hour ago": asked(lambda: site.why(lamp(), at=moment(1 / 24))),
        "it was so, in the year": asked(lambda: site.why(lamp(), at=moment(begin()))),
    }
