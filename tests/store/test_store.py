"""The store: what is committed is there; what is damaged or newer is refused and left as it was."""

from __future__ import annotations

import contextlib
import sqlite3
import threading
import time
from pathlib import Path
from typing import Any

import pytest

from cairnwind.core.facts.claims import PERSON, TAKEOVER, Claim, Instant, Rank, Source
from cairnwind.core.facts.events import DropClaim, KeepClaim, KeepStop, KeepTag, Record
from cairnwind.core.facts.interlocks import Stop, Tag
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.settings import ON
from cairnwind.store.database import before, connect, prepare, schema
from cairnwind.store.reader import Reader
from cairnwind.store.writer import Writer, rows

AT = Instant(5, 1_700_000_000_000_000_000)
ADA = Source("client", "ada")


def record(number: int, subject: str = "vent") -> Record:
    return Record(
        number, AT, "change", subject, f"row {number} – ‘ü’", "c1", "test", {"setting": {"level": 12.5}}
    )


def claim(number: int, slot: str = PERSON) -> Claim:
    return Claim(number, "vent", slot, Rank.PERSON, ON, number, ADA, TAKEOVER, AT)


@pytest.fixture
def path(tmp_path: Path) -> Path:
    found = tmp_path / "cairnwind.db"
    prepare(found)
    return found


def test_what_is_written_is_read_back_in_its_order(path: Path) -> None:
    writer = Writer(path, "power", lambda reason: None)
    writer.put(
        rows(
            [
                record(1),
                KeepClaim(claim(1)),
                KeepClaim(claim(1, "hand:x")),
                KeepTag(Tag("vent", "red", ADA, 7, "belt")),
            ]
        )
    )
    writer.put(
        rows(
            [
                record(2, "lamp"),
                KeepClaim(claim(2)),
                DropClaim("vent", "hand:x"),
                KeepStop(Stop(9, ADA, "smoke")),
            ]
        )
    )
    writer.put_and_wait(rows([record(number) for number in range(3, 103)]))
    writer.close()
    reader = Reader(path)
    left = reader.start(AT)
    assert left.sequence == 102
    assert [(each.id, each.slot, each.setting, each.source) for each in left.claims] == [(2, PERSON, ON, ADA)]
    assert left.stop == Stop(9, ADA, "smoke")
    assert left.tags == (Tag("vent", "red", ADA, 7, "belt"),)
    assert [row.seq for row in reader.journal(limit=3)] == [102, 101, 100]
    assert [row.seq for row in reader.journal(after=1, limit=2)] == [2, 3]
    assert [row.seq for row in reader.journal(before=4, subject="vent")] == [3, 1]
    for beyond in (1 << 63, 10**30):
        assert reader.edition(beyond) is None
        assert reader.journal(after=beyond) == []
        assert [row.seq for row in reader.journal(before=beyond, limit=1)] == [102]
    assert reader.journal(after=0, limit=1)[0].text == "row 1 – ‘ü’"
    assert reader.journal(after=0, limit=1)[0].data == {"setting": {"level": 12.5}}
    reader.close()


def test_a_database_is_not_closed_under_the_hands_of_who_reads_it(path: Path) -> None:
    """SQLite of Python does not survive that: the whole process ended, with whatever it was about to say."""
    prepare(path)
    with contextlib.closing(sqlite3.connect(path)) as journal, journal:
        rows = ((n, n, "change", "lamp", "lamp is on", "", "somebody", "{}") for n in range(1, 100_000))
        journal.executemany("INSERT INTO journal VALUES (?, ?, ?, ?, ?, ?, ?, ?)", rows)
    for after in range(10):
        reader, told = Reader(path), []

        def read(reader: Reader = reader, told: list[str] = told) -> None:
            while not told:
                try:
                    assert not reader.journal(source="nobody")
                    assert reader.last() == 99_999
                except CallerError as error:
                    told.append(error.sentence)

        threads = [threading.Thread(target=read) for _ in range(3)]
        for each in threads:
            each.start()
        time.sleep(after / 100)
        reader.close()
        for each in threads:
            each.join()
        assert told
        assert set(told) == {"The service is stopping."}


def test_a_commit_is_told_after_it_and_slow_commits_make_large_groups(path: Path) -> None:
    writer = Writer(path, "power", lambda reason: None)
    writer.slow = 0.05
    told: list[tuple[int, int]] = []
    finished = threading.Event()
    seen = connect(path)

    def done(number: int) -> Any:
        def tell(reason: str | None) -> None:
            assert reason is None
            told.append(
                (number, seen.execute("SELECT count(*) FROM journal WHERE seq = ?", (number,)).fetchone()[0])
            )
            if number == 200:
                finished.set()

        return tell

    for number in range(1, 201):
        writer.put(rows([record(number)]), done(number))
    assert finished.wait(10)
    assert told == [(number, 1) for number in range(1, 201)], "in order, and each committed when it was told"
    assert writer.commits <= 5
    writer.close()
    assert connect(path, "power", write=True).execute("PRAGMA synchronous").fetchone()[0] == 2
    assert connect(path, "process", write=True).execute("PRAGMA synchronous").fetchone()[0] == 1


def test_a_full_disk_acknowledges_nothing_loses_nothing_and_recovers(
    path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("cairnwind.store.writer.AGAIN", 0.05)
    trouble: list[str | None] = []
    writer = Writer(path, "power", trouble.append)
    writer.put_and_wait(rows([record(1)]))
    writer.limit(1)  # no page more than there is
    answers: list[str | None] = []
    again = threading.Event()
    for number in range(2, 400):
        writer.put(rows([record(number)]), answers.append)
    with pytest.raises(CallerError, match="full"):
        for number in range(400, 500):
            writer.put_and_wait(rows([record(number)]))
    assert any(answers)
    assert trouble
    assert "full" in str(trouble[0])
    writer.limit(1 << 30)
    writer.put(rows([record(1000)]), lambda reason: again.set() if reason is None else None)
    writer.put(rows([record(1001)]))
    assert writer.close(), "what was kept is written in the end"
    assert trouble[-1] is None or trouble == [trouble[0]]
    stored = {row[0] for row in connect(path).execute("SELECT seq FROM journal")}
    assert set(range(1, 400)) <= stored


@pytest.mark.parametrize("how", ["damaged", "cut", "text", "foreign", "newer"])
def test_a_database_that_is_not_ours_to_open_is_left_untouched(how: str, tmp_path: Path) -> None:
    path = tmp_path / "cairnwind.db"
    prepare(path)
    writer = Writer(path, "power", lambda reason: None)
    writer.put_and_wait(rows([record(number) for number in range(1, 3000)]))
    writer.close()
    content = bytearray(path.read_bytes())
    if how == "damaged":
        content[8192:20000] = bytes(range(256)) * 46 + bytes(32)
    elif how == "cut":
        content = content[: len(content) // 2]
    elif how == "text":
        content = bytearray(b"my shopping list\n" * 20)
    elif how == "foreign":
        content[68:72] = b"\0\0\0\0"
    else:
        content[60:64] = (999).to_bytes(4, "big")
    path.write_bytes(content)
    with pytest.raises(CallerError) as caught:
        prepare(path)
    assert caught.value.code == "store"
    assert "left untouched" in caught.value.remedy
    assert str(path) in caught.value.sentence
    if how == "newer":
        assert "newer version (schema 999, this one knows" in caught.value.sentence
    assert path.read_bytes() == bytes(content)


def test_the_schema_is_a_row_of_numbered_steps_each_applied_once(path: Path) -> None:
    steps = schema()
    assert [number for number, _ in steps] == list(range(1, len(steps) + 1))
    before = path.read_bytes()
    prepare(path)
    assert path.read_bytes() == before
    connection = connect(path)
    assert connection.execute("PRAGMA user_version").fetchone()[0] == steps[-1][0]
    assert connection.execute("PRAGMA journal_mode").fetchone()[0] == "wal"
    with pytest.raises(sqlite3.OperationalError):
        connection.execute("DELETE FROM journal")


LIVED = [
    "INSERT INTO journal VALUES (7, 5, 'command', 'vent', 'vent to on', 'c', 'anna', '{}')",
    "INSERT INTO claim VALUES ('vent', 'person', '{}')",
    "INSERT INTO key (name, role, hash, made) VALUES ('first key', 'keep', 'h', 3)",
    "INSERT INTO schedule VALUES ('evenings', '', '{}')",
    "INSERT INTO pace VALUES ('vent', '[1, 2]', 1)",
    "INSERT INTO place VALUES ('modbus', 'vent', 4)",
]
"""What was there in an earlier version; each where its table was."""


@pytest.mark.parametrize("version", [number for number, _ in schema()][:-1])
def test_a_database_of_any_earlier_version_is_brought_up_and_kept_as_it_was(
    version: int, tmp_path: Path
) -> None:
    path, there = tmp_path / "cairnwind.db", 0
    old = sqlite3.connect(path, isolation_level=None)
    for _, sql in schema()[:version]:
        old.executescript(sql)
    for sql in LIVED:
        with contextlib.suppress(sqlite3.OperationalError):
            old.execute(sql)
            there += 1
    old.executescript(f"PRAGMA application_id = {0x43574E44}; PRAGMA user_version = {version};")
    said = list(old.iterdump())
    old.close()
    was = path.read_bytes()
    kept = before(path, version)
    kept.with_name(f"{kept.name}.part").mkdir()  # it cannot be kept: then nothing is done
    with pytest.raises(CallerError, match="Nothing was changed"):
        prepare(path)
    kept.with_name(f"{kept.name}.part").rmdir()
    assert (path.read_bytes() == was, kept.exists()) == (True, False)
    prepare(path)
    assert list(sqlite3.connect(kept).iterdump()) == said
    new = connect(path)
    assert new.execute("PRAGMA user_version").fetchone() == (schema()[-1][0],)
    assert new.execute("SELECT seq, text FROM journal").fetchall() == [(7, "vent to on")]
    assert new.execute("SELECT name, role FROM key").fetchall() == [("first key", "keep")]
    if version in (3, 4, 5):
        assert new.execute("SELECT gate, key FROM kept").fetchall() == [("pace", "vent")]
    assert Reader(path).start(AT).sequence == 7
    writer = Writer(path, "power", lambda reason: None)
    writer.put_and_wait(rows([record(8)]))
    assert writer.close()
    assert there >= 3
