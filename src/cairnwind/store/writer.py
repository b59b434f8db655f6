"""The one writer: a thread that commits what it is given in groups, and says when it is committed.

While one group is being synced to disk the next one gathers, so the slower the disk the larger the groups.
What cannot be written (a full disk) is kept in order and tried again; nothing is acknowledged meanwhile.
"""

from __future__ import annotations

import queue
import re
import sqlite3
import threading
import time
from collections import deque
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

from cairnwind.core.facts import events as ev
from cairnwind.core.facts.history import alarm_form, claim_form, stop_form, tag_form, trip_form
from cairnwind.core.values import jsontext
from cairnwind.core.values.errors import CallerError
from cairnwind.store.database import FOR_GOOD, SYNCHRONOUS, connect, occupy, vacate

STATEMENTS = {
    "journal": "INSERT INTO journal (seq, wall, kind, subject, text, command, source, data) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
    "claim": "INSERT INTO claim (output, slot, form) VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET form = excluded.form",
    "no claim": "DELETE FROM claim WHERE output = ? AND slot = ?",
    "fact": "INSERT INTO fact (name, form) VALUES (?, ?) ON CONFLICT DO UPDATE SET form = excluded.form",
    "lockout": "INSERT INTO lockout (output, name, form) VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET form = excluded.form",
    "no lockout": "DELETE FROM lockout WHERE output = ? AND name = ?",
    "trip": "INSERT INTO trip (name, form) VALUES (?, ?) ON CONFLICT DO UPDATE SET form = excluded.form",
    "no trip": "DELETE FROM trip WHERE name = ?",
    "alarm": "INSERT INTO alarm (name, form) VALUES (?, ?) ON CONFLICT DO UPDATE SET form = excluded.form",
    "no alarm": "DELETE FROM alarm WHERE name = ?",
    "no answer": "DELETE FROM answer WHERE scope = ? AND token = ?",
    "kept": "INSERT INTO kept (gate, key, data) VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET data = excluded.data",
    "no kept": "DELETE FROM kept WHERE gate = ? AND key = ?",
    "code": "INSERT INTO code (output, owner, hash, form, made) VALUES (?, ?, ?, ?, ?)"
    " ON CONFLICT (output, owner) DO UPDATE SET hash = excluded.hash, form = excluded.form, made = excluded.made",
    "no code": "DELETE FROM code WHERE id = ?",
    "timer": "INSERT INTO timer (id, form) VALUES (?, ?) ON CONFLICT DO UPDATE SET form = excluded.form",
    "no timer": "DELETE FROM timer WHERE id = ?",
    "schedule": "INSERT INTO schedule (name, form, state) VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET form = excluded.form, state = excluded.state",
    "no schedule": "DELETE FROM schedule WHERE name = ?",
    "reading": "INSERT OR REPLACE INTO reading (subject, step, wall, low, mean, high, count) VALUES (?, ?, ?, ?, ?, ?, ?)",
    "usage": "INSERT INTO usage (output, day, on_ns, switchings, joules) VALUES (?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET"
    " on_ns = on_ns + excluded.on_ns, switchings = switchings + excluded.switchings, joules = joules + excluded.joules",
    "rollup": "INSERT OR REPLACE INTO reading (subject, step, wall, low, mean, high, count) SELECT subject, ?, ?, min(low),"
    " sum(mean * count) / max(1, sum(count)), max(high), sum(count) FROM reading WHERE step = ? AND wall >= ? AND wall < ? GROUP BY subject",
    "old readings": "DELETE FROM reading WHERE step = ? AND wall < ?",
    "words": "INSERT INTO journal_words (rowid, text, source) SELECT seq, text, source FROM journal WHERE seq >= ? AND seq <= ?",
    "no words": "INSERT INTO journal_words (journal_words, rowid, text, source) SELECT 'delete', seq, text, source FROM journal"
    f" WHERE seq >= ? AND seq < ? AND kind NOT IN ({FOR_GOOD})",
    "old journal": f"DELETE FROM journal WHERE seq >= ? AND seq < ? AND kind NOT IN ({FOR_GOOD})",
    "old aside": "DELETE FROM aside WHERE seq < ?",
    "checkpoint": "INSERT OR REPLACE INTO checkpoint (output, seq, wall, form) VALUES (?, ?, ?, ?)",
    "old checkpoints": "DELETE FROM checkpoint WHERE seq < (SELECT max(seq) FROM checkpoint AS later"
    " WHERE later.output = checkpoint.output AND later.seq < ?)",
    "give back": "PRAGMA incremental_vacuum(2000)",
    "answer": "INSERT OR REPLACE INTO answer (scope, token, body, form, made) VALUES (?, ?, ?, ?, ?)",
    "old answers": "DELETE FROM answer WHERE made < ?",
    "key": "INSERT INTO key (name, role, hash, limits, made) VALUES (?, ?, ?, ?, ?) ON CONFLICT (name) DO UPDATE SET"
    " role = excluded.role, hash = excluded.hash, limits = excluded.limits, made = excluded.made",
    "key used": "UPDATE key SET used = ?, used_from = ? WHERE id = ?",
    "no key": "DELETE FROM key WHERE id = ?",
    "session": "INSERT INTO session (hash, key, made, ends, device, used) VALUES (?, ?, ?, ?, ?, ?)",
    "session used": "UPDATE session SET used = ? WHERE hash = ?",
    "no session": "DELETE FROM session WHERE hash = ?",
    "place": "INSERT INTO place (remote, name, number) VALUES (?, ?, ?)",
    "told": "INSERT INTO told (way, seq) VALUES (?, ?) ON CONFLICT DO UPDATE SET seq = excluded.seq",
    "aside": "INSERT INTO aside (way, seq) VALUES (?, ?) ON CONFLICT DO NOTHING",
    "not aside": "DELETE FROM aside WHERE way = ? AND seq = ?",
    "edition": "INSERT INTO edition (number, wall, author, how, reason, text) VALUES (?, ?, ?, ?, ?, ?)",
    "draft": "INSERT INTO draft (owner, base, form, wall) VALUES (?, ?, ?, ?) ON CONFLICT DO UPDATE SET base = excluded.base,"
    " form = excluded.form, wall = excluded.wall",
    "no draft": "DELETE FROM draft WHERE owner = ?",
    "renamed": "INSERT OR REPLACE INTO renamed (edition, old, new) VALUES (?, ?, ?)",
    "code renamed": "UPDATE OR IGNORE code SET output = ? WHERE output = ?",
    "usage renamed": "UPDATE OR IGNORE usage SET output = ? WHERE output = ?",
    "reading renamed": "UPDATE OR IGNORE reading SET subject = ? WHERE subject = ?",
    "place renamed": "UPDATE OR IGNORE place SET name = ? WHERE name = ?",
    "key renamed": "UPDATE key SET limits = json_set(limits, '$.only', (SELECT json_group_array(iif(value = ?2, ?1, value))"
    " FROM json_each(limits, '$.only'))) WHERE EXISTS (SELECT 1 FROM json_each(limits, '$.only') WHERE value = ?2)",
    "old sessions": "DELETE FROM session WHERE ends < ?",
}
AT_ONCE = 32
"""Rows in one INSERT at most. One statement for many rows is one step without the interpreter's lock, where
``executemany`` takes and releases it for every row while other threads wait for it."""
Row = tuple[str, tuple[Any, ...]]
"""A statement's name and its parameters."""
MOST = 4096
"""Batches in one group at most, so that the first does not wait for ever."""
LATE = 2.0
"""Seconds after which a commit counts as failing until it is done: a disk that hangs must not hold up answers."""
AGAIN = 1.0
"""Seconds between attempts while the disk does not take it."""


@dataclass(slots=True)
class Batch:
    """Rows that belong together, and what to call when they are committed (None) or failed (the reason)."""

    rows: list[Row]
    done: Callable[[str | None], None] | None = None


class Writer:
    """Owns the only writing connection."""

    def __init__(
        self, path: Path, durability: str, trouble: Callable[[str | None], None], frozen: str = ""
    ) -> None:
        """``trouble`` is told why nothing can be written, and None when it can be again; ``frozen``: why nothing ever can be."""
        self._frozen = frozen
        self._clean = True
        self._connection = connect(path, durability, write=True)
        self._durability = self.durability = durability
        """What the connection is set to, and what it is to be from the next commit on."""
        if not frozen:
            try:
                occupy(self._connection, path)
            except (sqlite3.Error, OSError):
                pass  # a disk that takes nothing is told of at the first commit
        self._trouble = trouble
        self._queue: queue.SimpleQueue[Batch | None] = queue.SimpleQueue()
        self._closing = threading.Event()
        self._lock = threading.Lock()
        self._untold: dict[int, Batch] = {}
        """Batches whose `Batch.done` has not been called yet, by identity."""
        self._failing = ""
        """Why nothing is committed at this moment; whoever puts rows then is told at once, and they are kept."""
        self._began = 0.0
        """Monotonic seconds at which the present commit began; 0 while there is none."""
        self.slow = 0.0
        """Seconds that every commit takes longer: a slow disk, for measuring."""
        self.commits = 0
        self.written = 0
        self._times: deque[float] = deque(maxlen=24)
        """Seconds that the last commits took."""
        self._thread = threading.Thread(target=self._work, name="store-writer", daemon=True)
        self._thread.start()

    def put(self, rows: list[Row], done: Callable[[str | None], None] | None = None) -> None:
        """Commit these rows in order; ``done`` is called in the writer's thread."""
        batch = Batch(rows, done)
        with self._lock:
            failing = self._failing
            if failing:
                batch.done = None
            elif done is not None:
                self._untold[id(batch)] = batch
            self._queue.put(batch)
        if failing and done is not None:
            done(failing)

    def times(self) -> list[float]:
        """Seconds that the last commits took."""
        return list(self._times)

    def watch(self) -> None:
        """See whether a commit takes too long. Called often, by a thread that does not wait for the disk."""
        began = self._began
        if began and not self._failing and time.monotonic() - began > LATE:
            self._fail(f"a commit has not come to its end for {LATE:g} s")

    def _fail(self, reason: str) -> None:
        """Nothing is committed: say so, to all who wait as well."""
        with self._lock:
            if self._failing:
                return
            self._failing = reason
            untold, self._untold = list(self._untold.values()), {}
        self._trouble(reason)
        self._tell(untold, reason)

    def _recover(self) -> None:
        with self._lock:
            if not self._failing:
                return
            self._failing = ""
        self._trouble(None)

    def _tell(self, group: Iterable[Batch], reason: str | None) -> None:
        """Call what waits for these batches, each once."""
        for batch in group:
            with self._lock:
                done, batch.done = batch.done, None
                self._untold.pop(id(batch), None)
            if done is not None:
                done(reason)

    def put_and_wait(self, rows: list[Row]) -> None:
        """Commit these rows before returning. Raises `CallerError` (``not-recorded``) if that fails; they are written once it can be."""
        finished = threading.Event()
        failed: list[str] = []

        def done(reason: str | None) -> None:
            if reason:
                failed.append(reason)
            finished.set()

        self.put(rows, done)
        finished.wait()
        if failed:
            raise CallerError(
                "not-recorded", f"It was not recorded: {failed[0]}.", "It is written once the disk takes it: cairnwind doctor."
            )  # fmt: skip

    def close(self) -> bool:
        """Commit what is left, then let go. False if something could not be written."""
        self._closing.set()
        self._queue.put(None)
        self._thread.join()
        if self._clean and not self._frozen:
            try:
                vacate(self._connection)
            except sqlite3.ProgrammingError:
                pass  # it was closed before
            except sqlite3.Error:
                self._clean = False
        self._connection.close()
        return self._clean

    def limit(self, pages: int) -> None:
        """Let the file grow to so many pages at most: a full disk, for tests."""
        self._connection.execute(f"PRAGMA max_page_count = {int(pages)}")

    def _work(self) -> None:
        self._clean = True
        while True:
            batch = self._queue.get()
            if batch is None:
                return
            group, last = [batch], False
            while len(group) < MOST:
                try:
                    batch = self._queue.get_nowait()
                except queue.Empty:
                    break
                if batch is None:
                    last = True
                    break
                group.append(batch)
            self._write(group)
            if last or (self._closing.is_set() and self._queue.empty()):
                return

    def _write(self, group: list[Batch]) -> None:
        """Commit a group; while that fails, tell those who wait, and keep the rows for the next attempt."""
        reason = self._timed(group)
        if reason is None:
            self._tell(group, None)
            self._recover()
            return
        self._fail(reason)
        self._tell(group, reason)
        waiting = [Batch(batch.rows) for batch in group]
        while reason is not None:
            if self._closing.wait(AGAIN) or self._closing.is_set():
                self._clean = self._commit(waiting) is None
                return
            while True:
                try:
                    more = self._queue.get_nowait()
                except queue.Empty:
                    break
                if more is None:
                    self._closing.set()
                    break
                self._tell([more], reason)
                waiting.append(Batch(more.rows))
            reason = self._timed(waiting)
        self._recover()

    def _timed(self, group: Iterable[Batch]) -> str | None:
        """Commit a group, in sight of `watch`."""
        self._began = time.monotonic()
        try:
            return self._commit(group)
        finally:
            self._times.append(time.monotonic() - self._began)
            self._began = 0.0

    def _commit(self, group: Iterable[Batch]) -> str | None:
        if self._frozen:
            return self._frozen
        connection = self._connection
        count = 0
        try:
            if self._durability != self.durability:
                self._durability = self.durability
                connection.execute(f"PRAGMA synchronous = {SYNCHRONOUS[self._durability]}")
            connection.execute("BEGIN IMMEDIATE")
            for name, rows in _runs(group):
                if " VALUES " in STATEMENTS[name]:
                    for at in range(0, len(rows), AT_ONCE):
                        part = rows[at : at + AT_ONCE]
                        connection.execute(_insert(name, len(part)), [value for row in part for value in row])
                elif STATEMENTS[name].startswith("PRAGMA"):
                    connection.execute(STATEMENTS[name]).fetchall()
                else:
                    connection.executemany(STATEMENTS[name], rows)
                count += len(rows)
            if self.slow:
                time.sleep(self.slow)
            connection.execute("COMMIT")
        except sqlite3.Error as error:
            try:
                connection.execute("ROLLBACK")
            except sqlite3.Error:
                pass  # SQLite has rolled back by itself
            return str(error)
        self.commits += 1
        self.written += count
        return None


def rows(effects: Iterable[ev.Effect]) -> list[Row]:
    """The rows of those effects that are to be stored, in their order."""
    return [STORED[type(effect)](effect) for effect in effects if type(effect) in STORED]


STORED: dict[type, Callable[[Any], Row]] = {
    ev.Record: lambda it: (
        "journal",
        (it.sequence, it.at.wall, it.kind, it.subject, it.text, it.command, it.source, form(it.data)),
    ),
    ev.KeepClaim: lambda it: ("claim", (it.claim.output, it.claim.slot, form(claim_form(it.claim)))),
    ev.DropClaim: lambda it: ("no claim", (it.output, it.slot)),
    ev.KeepStop: lambda it: ("fact", ("all-stop", form(stop_form(it.stop)))),
    ev.KeepTag: lambda it: ("lockout", (it.tag.output, it.tag.name, form(tag_form(it.tag)))),
    ev.DropTag: lambda it: ("no lockout", (it.output, it.name)),
    ev.KeepTrip: lambda it: ("trip", (it.trip.name, form(trip_form(it.trip)))),
    ev.DropTrip: lambda it: ("no trip", (it.name,)),
    ev.KeepAlarm: lambda it: ("alarm", (it.alarm.name, form(alarm_form(it.alarm)))),
    ev.DropAlarm: lambda it: ("no alarm", (it.name,)),
    ev.Keep: lambda it: (
        ("no kept", (it.gate, it.key)) if it.data is None else ("kept", (it.gate, it.key, form(it.data)))
    ),
    ev.KeepClock: lambda it: ("fact", ("clock", form({"sequence": it.sequence}))),
    ev.DropCode: lambda it: ("no code", (it.id,)),
    ev.KeepTimer: lambda it: ("timer", (it.timer.id, form(_schedules().timer_form(it.timer)))),
    ev.DropTimer: lambda it: ("no timer", (it.id,)),
    ev.KeepSchedule: lambda it: ("schedule", _schedule(it)),
    ev.DropSchedule: lambda it: ("no schedule", (it.name,)),
}
"""How each effect that is to be stored becomes a row."""


def _schedules() -> Any:
    from cairnwind.core.language import schedules  # the calendar is not needed by those who have no plan

    return schedules


def _schedule(it: ev.KeepSchedule) -> tuple[str, str, str]:
    own = it.schedule.origin == "database"
    said = form(_schedules().form_of(it.schedule)) if own else ""
    return it.schedule.name, said, form(_schedules().state_of(it.schedule, it.now))


def form(data: Any) -> str:
    """JSON as it is stored."""
    return jsontext.write(data).decode()


@cache
def _insert(name: str, count: int) -> str:
    """The INSERT of this name for so many rows."""
    head, values, tail = re.fullmatch(r"(.* VALUES )(\([?, ]+\))(.*)", STATEMENTS[name]).groups()  # type: ignore[union-attr]
    return f"{head}{', '.join([values] * count)}{tail}"


def _runs(group: Iterable[Batch]) -> list[tuple[str, list[tuple[Any, ...]]]]:
    """The rows of a group, gathered for ``executemany``: journal rows together, the rest in its order.

    Journal rows have numbers of their own and nothing refers to them, so they may go first; rows of other
    tables may replace each other and keep their order.
    """
    journal: list[tuple[Any, ...]] = []
    others: list[tuple[str, list[tuple[Any, ...]]]] = []
    for batch in group:
        for name, row in batch.rows:
            if name == "journal":
                journal.append(row)
            elif others and others[-1][0] == name:
                others[-1][1].append(row)
            else:
                others.append((name, [row]))
    return [("journal", journal), *others] if journal else others
