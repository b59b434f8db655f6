"""A service that is kept for years: what is found, and why something was so, whatever has gone meanwhile."""

from __future__ import annotations

import random
import re
import sqlite3
import time
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import pytest

from cairnwind.client import Trouble
from cairnwind.service.upkeep import DAY, Upkeep
from cairnwind.store.database import connect, prepare
from cairnwind.store.reader import Reader
from cairnwind.store.writer import Writer
from tests.conftest import Running, eventually

SITE = """
site = "Shed"
timezone = "Europe/London"
[service]
journal_age = "10 d"
journal_size = "10 MB"
[board.near]
link = "simulated"
lines = 8
[output.vent]
kind = "relay"
pin = "near:line-0"
[output.lamp]
kind = "lamp"
pin = "near:line-1"
frequency = "800 Hz"
[output.fan]
kind = "fan"
pin = "near:line-2"
"""


@pytest.fixture
def running(tmp_path: Path) -> Iterator[Running]:
    found = Running(tmp_path, SITE)
    yield found
    found.end()


def busy(running: Running, chance: random.Random, times: int) -> list[str]:
    """Whatever people do; a moment after each."""
    moments = []
    for _ in range(times):
        name = chance.choice(("vent", "lamp", "fan"))
        try:
            chance.choice((
                lambda name=name: running.site.turn(name, chance.choice(("on", "off"))),
                lambda: running.site.turn("lamp", f"{chance.randrange(1, 100)} %"),
                lambda name=name: running.site.release(name),
                lambda name=name: running.site.lock(name, "ladder", reason="somebody is on it"),
                lambda name=name: running.site.unlock(name, "ladder"),
                lambda: running.site.stop(),
                lambda: running.site.reset_stop(),
                lambda: running.link().unplug(),
                lambda: running.link().plug(),
            ))()  # fmt: skip
        except Trouble:
            pass  # refused is a thing that happens, too
        time.sleep(0.03)
        moments.append(datetime.now(UTC).isoformat())
    return moments


def test_why_it_was_so_is_the_same_from_a_checkpoint_and_when_older_rows_have_gone(running: Running) -> None:
    upkeep: Upkeep = running.service.runtime.upkeep
    chance = random.Random(7)
    busy(running, chance, 25)
    running.again()  # a start brings claims back, and lets others go
    upkeep = running.service.runtime.upkeep
    early = busy(running, chance, 15)[0]
    upkeep.checkpoint(time.time_ns())
    moments = busy(running, chance, 25)
    asked = [(name, moment) for name in ("vent", "lamp", "fan") for moment in moments]
    tell = lambda: [running.site.why(name, at=moment) for name, moment in asked]  # noqa: E731
    kept = tell()
    database = sqlite3.connect(running.folder / "state" / "cairnwind.db", isolation_level=None)
    rows = database.execute("SELECT * FROM checkpoint").fetchall()
    database.execute("DELETE FROM checkpoint")
    assert tell() == kept, "from a checkpoint it is what all rows say"
    database.executemany("INSERT INTO checkpoint VALUES (?, ?, ?, ?)", rows)
    before = len(list(running.site.journal_of()))
    upkeep.checkpoint(time.time_ns())
    later = [(name, moment) for name in ("vent", "lamp", "fan") for moment in busy(running, chance, 15)]
    then = [running.site.why(name, at=moment) for name, moment in later]
    (first, made), (second, _) = upkeep._whole()
    upkeep._forget(first, made)
    left = list(running.site.journal_of())
    assert len(left) < before
    assert tell() == kept, "between two checkpoints, from the first"
    assert [running.site.why(name, at=moment) for name, moment in later] == then
    # of what was before the checkpoint only notes, starts and ends are there
    assert {row["kind"] for row in left if row["sequence"] <= first} <= {"note", "start", "shutdown"}
    assert first < second
    with pytest.raises(Trouble, match="The journal reaches back to "):
        running.site.why("lamp", at=early)
    running.again()
    assert tell() == kept
    upkeep = running.service.runtime.upkeep
    upkeep.forget(time.time_ns() + 11 * DAY)
    assert [running.site.why(name, at=moment) for name, moment in later] == then
    with pytest.raises(Trouble, match="The journal reaches back to "):
        tell()
    database.close()


WORDS = (
    "kiln",
    "Kilnhouse",
    "on",
    "off",
    "anna",
    "anna's",
    "phone",
    "é",
    "12.5",
    "(refused:",
    "ÄPFEL",
    "x-y",
    "vent",
)


def test_words_are_found_wherever_they_are_kept(tmp_path: Path) -> None:
    path = tmp_path / "cairnwind.db"
    prepare(path)
    chance = random.Random(11)
    writer, reader = Writer(path, "process", lambda _: None), Reader(path)
    made: list[tuple[int, str, str, str]] = []

    def more(count: int) -> None:
        for number in range(len(made) + 1, len(made) + count + 1):
            row = (
                number,
                chance.choice(("change", "command", "note")),
                " ".join(chance.choices(WORDS, k=3)),
                chance.choice(WORDS),
            )
            made.append(row)
        writer.put_and_wait(
            [
                ("journal", (seq, seq * 10**9, kind, "lamp", text, "", source, "{}"))
                for seq, kind, text, source in made[-count:]
            ]
        )

    from cairnwind.site import read_text

    upkeep = Upkeep(reader, writer, lambda: read_text(SITE, "x"))
    tokens = lambda text: re.findall(r"[^\W_]+", text.lower().replace("é", "e").replace("ä", "a"))  # noqa: E731

    def has(text: str, sought: str) -> bool:
        return all(
            any(each == word or (len(word) > 4 and each.startswith(word)) for each in tokens(text))
            for word in tokens(sought)
        )

    gone = 0

    def check() -> None:
        for _ in range(12):
            words = " ".join(
                chance.choice(WORDS)[: chance.randrange(1, 6)] for _ in range(chance.randrange(3))
            )
            source = chance.choice(("", "", chance.choice(WORDS)[:3]))
            limit, rising = chance.choice((1, 7, 10_000)), chance.random() < 0.5
            wanted = [
                seq
                for seq, kind, text, who in made
                if (seq >= gone or kind == "note") and has(f"{text} {who}", words) and has(who, source)
            ]
            if any(sought and not tokens(sought) for sought in (words, source)) and not tokens(
                words + source
            ):
                wanted = []
            found = reader.journal(
                words=words or None, source=source or None, limit=limit, **({"after": 0} if rising else {})
            )
            assert [row.seq for row in found] == (wanted if rising else wanted[::-1])[:limit], (
                words,
                source,
                rising,
            )

    more(300)
    check()  # none is in the index
    upkeep.index()
    check()  # all are
    more(120)
    check()  # the newest are not
    upkeep._take(1, 150)
    gone = 150
    check()
    upkeep.index()
    upkeep._take(150, 333)
    gone = 333
    check()
    writer.put_and_wait([("fact", ("words", '{"from": 400, "to": 420}'))])
    writer.close()
    database = sqlite3.connect(path)
    database.execute("INSERT INTO journal_words (journal_words) VALUES ('integrity-check')")
    database.close()
    reader.close()


def test_what_is_kept_has_a_size_and_an_age_and_space_is_given_back(running: Running) -> None:
    answered = running.http(
        "POST",
        "/api/v1/claims",
        headers={"Idempotency-Key": "first"},
        json={"output": "lamp", "setting": "on"},
    )
    assert answered.status_code < 500
    file, wall = running.folder / "state" / "cairnwind.db", time.time_ns()
    text = "a row of the journal " * 8
    for portion in range(6):
        running.end()
        database = sqlite3.connect(file)
        ((number,),) = database.execute("SELECT max(seq) FROM journal")
        rows = (
            (
                number + each,
                wall,
                "change",
                "lamp",
                f"{text} no-{portion}-{each}",
                "",
                "",
                '{"setting": {"level": 100}}',
            )
            for each in range(1, 10_001)
        )
        database.executemany("INSERT INTO journal VALUES (?, ?, ?, ?, ?, ?, ?, ?)", rows)
        database.commit()
        assert database.execute("SELECT count(*) FROM answer").fetchone() == (1,)
        database.close()
        running.begin()
        running.service.runtime.upkeep.checkpoint(time.time_ns())
    runtime = running.service.runtime
    assert runtime.reader.size()[1] > 12_000_000
    assert running.site.journal(words="9999")
    runtime.upkeep.turn(wall)
    runtime.upkeep.turn(wall + 2 * DAY)
    assert 6_000_000 < runtime.reader.size()[1] < 10_000_000
    assert running.site.journal(words="no 5 9999"), "the newest are there"
    assert not running.site.journal(words="no 0 9999")
    assert connect(file).execute("SELECT count(*) FROM answer").fetchone() == (0,), "answers go while it runs"
    running.site.turn("lamp", "on")
    running.again()
    assert file.stat().st_size < 12_000_000
    assert running.site.output("lamp")["wanted"]["on"]
    assert running.site.journal(limit=1)[0]["sequence"] > number + 10_000


def test_a_thread_of_its_own_does_it(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    running.end()
    monkeypatch.setattr("cairnwind.service.upkeep.TURN", 0.05)
    running.begin()
    running.site.turn("lamp", "on")
    reader = running.service.runtime.reader
    eventually(lambda: reader.worded()[1] >= running.site.journal(limit=1)[0]["sequence"] - 2 > 0)
    eventually(lambda: reader.fact("checkpoint"))
    assert running.site.journal(words="lamp read")
