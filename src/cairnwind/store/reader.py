"""What is read back: the state at start, pages of the journal, keys, sessions, answers."""

from __future__ import annotations

import re
import sqlite3
import threading
import time
import unicodedata
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import lru_cache
from itertools import groupby
from pathlib import Path
from typing import Any, NamedTuple, TypeVar

from cairnwind.core.explain.called import Called
from cairnwind.core.facts.claims import Claim, Instant
from cairnwind.core.facts.course import Timer
from cairnwind.core.facts.events import Keep, Start
from cairnwind.core.facts.history import alarm_read, claim_read, stop_read, tag_read, trip_read
from cairnwind.core.facts.interlocks import Stop, Tag
from cairnwind.core.language.rights import Key
from cairnwind.core.values import jsontext
from cairnwind.core.values.errors import CallerError
from cairnwind.store.database import FOR_GOOD, connect

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Row:
    """One row of the journal. ``wall`` in nanoseconds UTC."""

    seq: int
    wall: int
    kind: str
    subject: str
    text: str
    command: str
    source: str
    data: dict[str, Any]


def _row(found: tuple[Any, ...]) -> Row:
    seq, wall, kind, subject, text, command, source, data = found
    return Row(seq, wall, kind, subject, text, command, source, jsontext.read(data))


class Session(NamedTuple):
    """A browser that is signed in. ``id`` is enough of the hash to name it; times in wall nanoseconds."""

    id: str
    hash: str
    key: str
    made: int
    ends: int
    device: str
    used: int


@dataclass(frozen=True, slots=True)
class Code:
    """A passcode: whose it is, its hash, and when it is good (``form``). ``made`` in wall nanoseconds."""

    id: int
    output: str
    owner: str
    hash: str
    form: dict[str, Any]
    made: int


class Edition(NamedTuple):
    """A state of the site file that was applied. ``wall`` in nanoseconds UTC."""

    number: int
    wall: int
    author: str
    how: str
    reason: str
    text: str


class Renamed(NamedTuple):
    """What an edition called otherwise, by the old name the new one. ``wall`` in nanoseconds UTC."""

    wall: int
    names: dict[str, str]
    edition: int


class Draft(NamedTuple):
    """Changes of one person that are not applied yet, on top of an edition. ``wall`` in nanoseconds UTC."""

    base: int
    form: Any
    wall: int


ROW = "journal.seq, wall, kind, subject, journal.text, command, journal.source, data"
KEY = "id, name, role, limits, made, used, used_from"


def _key(row: tuple[Any, ...] | None) -> Key | None:
    if row is None:
        return None
    id, name, role, limits, made, used, used_from = row
    when = jsontext.read(limits)
    return Key(id, name, role, tuple(when.pop("only", ())), when, made, used, used_from)


EDITION = "number, wall, author, how, reason, text"
SEARCHES, WAIT_FOR_ONE, SEARCH_WITHIN = 4, 1.0, 2.0
"""How many search at once; seconds to wait until one may; and seconds that one may take."""
FREQUENT = ("change", "input", "command", "ended")
"""Kinds of which there are many rows, whatever they are about."""
BEGINS = 5
"""Letters from which on a word is found by how it begins: of shorter ones too many words begin so."""
NARROW = 8 * 86_400 * 10**9
"""Nanoseconds of a time that is narrow enough to look for its first and its last row."""
LOOK_EVERY = 20_000
"""Steps of the database's machine between two looks at the time."""


class _Way(NamedTuple):
    """One way to rows of the journal."""

    where: tuple[str, ...] = ()
    values: tuple[Any, ...] = ()
    table: str = "journal"
    seq: str = "seq"


def _words(text: str | None) -> list[str]:
    """The words of a text, as the index of words has them."""
    plain = "".join(
        each for each in unicodedata.normalize("NFD", text or "") if unicodedata.category(each) != "Mn"
    )
    return re.findall(r"[^\W_]+", plain.lower())


def _has_words(text: str, source: str, sought: str) -> bool:
    """Whether words are there, each a line: which column (empty: any), and the word."""
    both = f"{text} {source}".lower()
    asked = _asked(sought)
    if both.isascii() and not all(word in both for _, word in asked):
        return False  # most rows: without a closer look
    return all(
        any(
            each == word or (len(word) >= BEGINS and each.startswith(word))
            for each in _words(source if column else both)
        )
        for column, word in asked
    )


@lru_cache(maxsize=64)
def _asked(sought: str) -> tuple[tuple[str, str], ...]:
    return tuple((column, word) for column, _, word in (line.partition(" ") for line in sought.split("\n")))


def _closing() -> CallerError:
    return CallerError("busy", "The service is stopping.", "Ask again when it runs.")


def _fitting(value: Any) -> Any:
    """A number that somebody asked for, as near as the database's 64 bits have it: none of its rows is beyond them."""
    return max(-(1 << 63), min(value, (1 << 63) - 1)) if type(value) is int else value


class _Own:
    """The connection of one thread. Never closed under the hands of that thread: the interpreter does not survive that."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._connection = connection
        connection.create_function("has_words", 3, _has_words, deterministic=True)
        self._lock = threading.Lock()
        self._closed = False

    def ask(
        self, sql: str, values: tuple[Any, ...], within: float | None = None, most: int = -1
    ) -> list[tuple[Any, ...]]:
        """``most`` rows, or all. Raises `CallerError` where it takes more than ``within`` seconds, or is closed meanwhile."""
        with self._lock:
            if self._closed:
                raise _closing()
            end = None if within is None else time.monotonic() + within
            if end is not None:
                self._connection.set_progress_handler(
                    lambda: self._closed or time.monotonic() > end, LOOK_EVERY
                )
            cursor = self._connection.cursor()
            try:
                cursor.execute(sql, tuple(map(_fitting, values)))
                return cursor.fetchall() if most < 0 else cursor.fetchmany(most)
            except sqlite3.OperationalError as error:
                if "interrupted" not in str(error):
                    raise
                if self._closed:
                    raise _closing() from None
                raise CallerError(
                    "busy", f"This search took longer than {within:g} s and was given up.",
                    "Narrow it: name an output or an input, a kind, or a shorter time.",
                ) from None  # fmt: skip
            finally:
                cursor.close()
                if end is not None:
                    self._connection.set_progress_handler(None, 0)

    def close(self) -> None:
        """Close it as soon as its thread is done with what it asks."""
        self._closed = True
        with self._lock:
            self._connection.close()


class Reader:
    """Reads; one connection a thread, so that readers never wait for one another nor for the writer.

    What is searched for grows with the journal: so few search at once, and each for a bounded time.
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        self._local = threading.local()
        self._open: dict[threading.Thread, _Own] = {}
        self._lock = threading.Lock()
        self._closed = False
        self.unreadable: list[tuple[str, str]] = []
        """What could not be read at the start: its kind, and in words which."""
        self._searches = threading.BoundedSemaphore(SEARCHES)

    def start(self, at: Instant) -> Start:
        """All that the engine needs to take up where it was left."""
        ((sequence,),) = self._all("SELECT coalesce(max(seq), 0) FROM journal")
        accepted = self._one("SELECT form FROM fact WHERE name = 'clock'")
        ((last,),) = self._all(
            "SELECT coalesce((SELECT wall FROM journal WHERE seq > ? ORDER BY wall DESC LIMIT 1), 0)",
            (jsontext.read(accepted[0])["sequence"] if accepted else 0,),
        )
        claims: tuple[Claim, ...] = self._each(
            "claim", "SELECT output || ' ' || slot, form FROM claim ORDER BY output, slot", claim_read
        )
        stop: tuple[Stop | None, ...] = self._each(
            "all-stop", "SELECT name, form FROM fact WHERE name = 'all-stop'", stop_read
        )
        tags: tuple[Tag, ...] = self._each(
            "lockout", "SELECT output || ' ' || name, form FROM lockout ORDER BY output, name", tag_read
        )
        return Start(
            at,
            sequence,
            claims,
            stop[0] if stop else None,
            tags,
            self._timers(),
            trips=self._each("trip", "SELECT name, form FROM trip ORDER BY name", trip_read),
            alarms=self._each("alarm", "SELECT name, form FROM alarm ORDER BY name", alarm_read),
            kept=self._each(
                "kept",
                "SELECT gate || ' ' || key, json_array(gate, key, data) FROM kept ORDER BY gate, key",
                lambda form: Keep(form[0], form[1], jsontext.read(form[2])),
            ),
            last=last,
            orderly=self._orderly(),
        )

    def _orderly(self) -> bool | None:
        """Whether the last run ended in good order; None: there was none."""
        row = self._one(
            "SELECT kind FROM journal WHERE kind IN ('start', 'shutdown') ORDER BY seq DESC LIMIT 1"
        )
        return None if row is None else row[0] == "shutdown"

    def _each(self, kind: str, sql: str, read: Callable[[Any], T]) -> tuple[T, ...]:
        """What rows of (name, JSON) come to; one that cannot be read costs no other, and is noted."""
        found: list[T] = []
        for name, form in self._all(sql):
            try:
                found.append(read(jsontext.read(form)))
            except (ValueError, TypeError, KeyError, IndexError, AttributeError):
                self.unreadable.append(
                    (kind, f"{kind} '{name}' cannot be read in the database, and is left out")
                )
        return tuple(found)

    def codes(self, output: str | None = None) -> list[Code]:
        """The passcodes of an output, or all, by owner."""
        where, values = ("WHERE output = ?", (output,)) if output else ("", ())
        rows = self._all(
            f"SELECT id, output, owner, hash, form, made FROM code {where} ORDER BY output, owner", values
        )
        return [
            Code(id, name, owner, hash, jsontext.read(form), made)
            for id, name, owner, hash, form, made in rows
        ]

    def _timers(self) -> tuple[Timer, ...]:
        if not self._one("SELECT 1 FROM timer"):
            return ()
        from cairnwind.core.language.schedules import timer_read

        return self._each("timer", "SELECT id, form FROM timer ORDER BY id", timer_read)

    def schedules(self) -> list[tuple[str, dict[str, Any] | None, dict[str, Any]]]:
        """By name: what the schedule says, if it is not the site file's, and what has been done to it."""
        rows = self._all("SELECT name, form, state FROM schedule ORDER BY name")
        return [
            (name, jsontext.read(form) if form else None, jsontext.read(state)) for name, form, state in rows
        ]

    def journal(
        self,
        *,
        before: int | None = None,
        after: int | None = None,
        subject: str | None = None,
        kind: str | None = None,
        source: str | None = None,
        words: str | None = None,
        begin: int | None = None,
        end: int | None = None,
        limit: int = 100,
    ) -> list[Row]:
        """Rows in falling order before ``before`` (or the newest), or in rising order after ``after``.

        ``words`` are in what it says or in who commanded it, ``source`` is of who commanded it: whole words, of five letters and more also how one
        begins. ``begin`` and ``end`` are wall nanoseconds, the end exclusive.
        """
        where: list[str] = []
        values: list[Any] = []
        if subject is not None and len(names := self.once(subject)) > 1:
            where.append(f"subject IN ({', '.join('?' * len(names))})")
            values += names
            subject = None
        if subject is not None and begin is not None and end is not None and end - begin <= NARROW:
            first, last = self._all(
                "SELECT min(seq), max(seq) FROM journal WHERE wall >= ? AND wall < ?", (begin, end)
            )[0]
            where.append(
                "{seq} >= ? AND {seq} <= ?"
            )  # else its rows would be gone through from the newest back
            values += (first or 0, last or 0)
        # a plus keeps an index from being taken that would not help: of two the one with fewer rows, and of a time only both its ends
        by_kind = "" if kind not in FREQUENT else "+"
        of_both = "" if kind is None or by_kind else "+"
        time_of = "" if begin is not None and end is not None and subject is None else "+"
        for clause, value in (
            ("{seq} < ?", before), ("{seq} > ?", after), (f"{of_both}subject = ?", subject),
            (f"{by_kind if subject else ''}kind = ?", kind), (f"{time_of}wall >= ?", begin), (f"{time_of}wall < ?", end),
        ):  # fmt: skip
            if value is not None:
                where.append(clause)
                values.append(value)
        order = "ASC" if after is not None else "DESC"
        sought = [(found, "") for found in _words(words)] + [(found, "source") for found in _words(source)]
        if not sought and (words or source):
            return []  # nothing that could be a word
        found: list[Row] = []
        for way in self._ways(sought, rising=after is not None):
            if len(found) < limit:
                clauses = " AND ".join(["true", *way.where, *where]).format(seq=way.seq)
                sql = f"SELECT {ROW} FROM {way.table} WHERE {clauses} ORDER BY {way.seq} {order} LIMIT ?"
                found += map(_row, self._search(sql, (*way.values, *values, limit - len(found))))
        return found

    def _ways(self, sought: list[tuple[str, str]], *, rising: bool) -> list[_Way]:
        """How rows with these words are found, part by part: by their index, and one by one where they are not in it yet, or any more."""
        begin, end = self.worded()
        one_by_one, asked = (
            "has_words(text, source, ?)",
            "\n".join(f"{column} {word}" for word, column in sought),
        )
        if not sought or begin > end:
            return [_Way((one_by_one,), (asked,)) if sought else _Way()]
        match = " AND ".join(
            f'{f"{column} : " if column else ""}"{word}"{"*" if len(word) >= BEGINS else ""}'
            for word, column in sought
        )
        by_index = (
            "journal_words CROSS JOIN journal ON journal.seq = journal_words.rowid",
            "journal_words.rowid",
        )
        parts = [
            _Way(("{seq} > ?", one_by_one), (end, asked)),
            _Way(("journal_words MATCH ? AND {seq} >= ?",), (match, begin), *by_index),
            _Way(("{seq} < ?", one_by_one), (begin, asked)),
        ]
        return parts[::-1] if rising else parts

    def worded(self) -> tuple[int, int]:
        """From which row to which the words are in the index; the first is beyond the second where none is."""
        row = self._one("SELECT form FROM fact WHERE name = 'words'")
        form = jsontext.read(row[0]) if row else {"from": 1, "to": 0}
        return form["from"], form["to"]

    def kept(self, outputs: Iterable[str], wall: int) -> tuple[int, Any]:
        """The last checkpoint of an output, by all its names, up to a moment: the row that it reaches to, and what it says; (0, None)."""
        names = list(outputs)
        rows = self._all(
            f"SELECT seq, form FROM checkpoint WHERE output IN ({', '.join('?' * len(names))}) AND wall <= ? ORDER BY seq DESC LIMIT 1", (*names, wall)
        )  # fmt: skip
        return (rows[0][0], jsontext.read(rows[0][1])) if rows else (0, None)

    def since(self, seq: int, subjects: Iterable[str], wall: int) -> list[Row]:
        """Every row of these subjects after one, up to a moment, rising."""
        names = list(dict.fromkeys(subjects))
        sql = f"SELECT {ROW} FROM journal WHERE subject IN ({', '.join('?' * len(names))}) AND seq > ? AND +wall <= ? ORDER BY seq"
        return [_row(each) for each in self._search(sql, (*names, seq, wall))]

    def first(self) -> int:
        """The number of the journal's first row that is not kept for good; beyond the last where there is none."""
        row = self._one(f"SELECT seq FROM journal WHERE kind NOT IN ({FOR_GOOD}) ORDER BY seq LIMIT 1")
        return row[0] if row else self.last() + 1

    def before(self, wall: int) -> int:
        """The number of the journal's last row before a moment; 0: there is none."""
        row = self._one("SELECT seq FROM journal WHERE wall < ? ORDER BY wall DESC LIMIT 1", (wall,))
        return row[0] if row else 0

    def fact(self, name: str) -> Any:
        """What the site as a whole remembers under a name, or None."""
        row = self._one("SELECT form FROM fact WHERE name = ?", (name,))
        return jsontext.read(row[0]) if row else None

    def size(self) -> tuple[int, int]:
        """Bytes of the database's file, and how many of them are used."""
        size, pages, free = (
            self._all(f"PRAGMA {name}")[0][0] for name in ("page_size", "page_count", "freelist_count")
        )
        return size * pages, size * (pages - free)

    def after(self, number: int, limit: int) -> list[Row]:
        """The rows that follow one, for those who tell them on: they wait for no search."""
        sql = f"SELECT {ROW} FROM journal WHERE seq > ? ORDER BY seq LIMIT ?"
        return [_row(each) for each in self._all(sql, (number, limit))]

    def usage(self, begin: str, end: str, output: str | None = None) -> list[tuple[Any, ...]]:
        """What outputs did from one day to another, both included: (output, day, ns on, switchings, joules)."""
        where, values = ("AND output = ?", (begin, end, output)) if output else ("", (begin, end))
        return self._search(
            f"SELECT output, day, on_ns, switchings, joules FROM usage WHERE day >= ? AND day <= ? {where} ORDER BY day, output",
            values,
        )

    def readings(self, subject: str, step: int, begin: int, end: int, limit: int) -> list[tuple[Any, ...]]:
        """Readings of a subject between two walls, rising: (wall, low, mean, high)."""
        return self._search(
            "SELECT wall, low, mean, high FROM reading WHERE subject = ? AND step = ? AND wall >= ? AND wall < ? ORDER BY wall LIMIT ?",
            (subject, step, begin, end, limit),
        )

    def key(self, hash: str) -> Key | None:
        """The key with this hash."""
        return _key(self._one(f"SELECT {KEY} FROM key WHERE hash = ?", (hash,)))

    def key_named(self, name: str) -> Key | None:
        """The key of this name."""
        return _key(self._one(f"SELECT {KEY} FROM key WHERE name = ?", (name,)))

    def keys(self) -> list[Key]:
        """All of them, by age."""
        return [key for row in self._all(f"SELECT {KEY} FROM key ORDER BY id") if (key := _key(row))]

    def session(self, hash: str, wall: int, idle: int) -> Key | None:
        """The key behind the console session with this hash, if it has not ended, and was used since ``idle``."""
        columns = ", ".join(f"key.{column}" for column in KEY.split(", "))
        return _key(self._one(
            f"SELECT {columns} FROM session JOIN key ON key.id = session.key WHERE session.hash = ? AND session.ends > ? AND max(session.used, session.made) > ?",
            (hash, wall, idle),
        ))  # fmt: skip

    def sessions(self, wall: int, idle: int) -> list[Session]:
        """Sessions that have not ended, and were used since ``idle``, the latest first."""
        rows = self._all(
            "SELECT session.hash, key.name, session.made, session.ends, session.device, session.used"
            " FROM session JOIN key ON key.id = session.key WHERE session.ends > ? AND max(session.used, session.made) > ?"
            " ORDER BY session.made DESC",
            (wall, idle),
        )
        return [Session(hash[:12], hash, *rest) for hash, *rest in rows]

    def places(self, remote: str) -> dict[str, int]:
        """The numbers by which a remote knows things, by name."""
        return dict(self._all("SELECT name, number FROM place WHERE remote = ?", (remote,)))

    def told(self, way: str) -> int | None:
        """The last journal row that a way out is done with; None for a new way."""
        row = self._one("SELECT seq FROM told WHERE way = ?", (way,))
        return row[0] if row else None

    def put_aside(self, way: str) -> list[int]:
        """The journal rows that a way out was refused, in their order."""
        return [seq for (seq,) in self._all("SELECT seq FROM aside WHERE way = ? ORDER BY seq", (way,))]

    def last(self) -> int:
        """The number of the journal's last row."""
        ((number,),) = self._all("SELECT coalesce(max(seq), 0) FROM journal")
        return int(number)

    def editions(self) -> list[Edition]:
        """All of them, the newest first."""
        return [Edition(*row) for row in self._all(f"SELECT {EDITION} FROM edition ORDER BY number DESC")]

    def edition(self, number: int | None = None) -> Edition | None:
        """One of them, or the newest."""
        where, values = ("WHERE number = ?", (number,)) if number is not None else ("", ())
        row = self._one(f"SELECT {EDITION} FROM edition {where} ORDER BY number DESC", values)
        return Edition(*row) if row else None

    def draft(self, owner: str) -> Draft | None:
        """The draft of a person."""
        row = self._one("SELECT base, form, wall FROM draft WHERE owner = ?", (owner,))
        return Draft(row[0], jsontext.read(row[1]), row[2]) if row else None

    def drafts(self) -> list[tuple[str, Draft]]:
        """All of them, by whose they are."""
        rows = self._all("SELECT owner, base, form, wall FROM draft ORDER BY owner")
        return [(owner, Draft(base, jsontext.read(form), wall)) for owner, base, form, wall in rows]

    def once(self, name: str) -> list[str]:
        """All names of a thing, those that it had before included."""
        rows = self._all(
            "WITH RECURSIVE known (name) AS (VALUES (?) UNION SELECT old FROM renamed JOIN known ON new = known.name) SELECT name FROM known",
            (name,),
        )
        return [name for (name,) in rows]

    def renames(self) -> list[Renamed]:
        """What was renamed, edition by edition, rising."""
        rows = self._all(
            "SELECT wall, number, old, new FROM renamed JOIN edition ON edition = number ORDER BY number"
        )
        editions = groupby(rows, key=lambda row: row[:2])
        return [
            Renamed(wall, {old: new for *_, old, new in each}, number) for (wall, number), each in editions
        ]

    def called(self) -> Called:
        """Names of the past, as they are today."""
        return Called((each.wall, each.names) for each in self.renames())

    def answer(self, scope: str, token: str, since: int) -> tuple[str, dict[str, Any]] | None:
        """The stored answer to a command with this token: (hash of its body, outcome)."""
        row = self._one(
            "SELECT body, form FROM answer WHERE scope = ? AND token = ? AND made >= ?", (scope, token, since)
        )
        return (row[0], jsontext.read(row[1])) if row else None

    def close(self) -> None:
        """Close every thread's connection; a search that is under way is given up first."""
        with self._lock:
            self._closed = True
            for own in self._open.values():
                own.close()

    def _own(self) -> _Own:
        own: _Own | None = getattr(self._local, "own", None)
        if own is None:
            with self._lock:
                if self._closed:
                    raise _closing()
                own = self._local.own = _Own(connect(self._path))
                for thread in [each for each in self._open if not each.is_alive()]:
                    self._open.pop(thread).close()
                self._open[threading.current_thread()] = own
        return own

    def _search(self, sql: str, values: tuple[Any, ...]) -> list[tuple[Any, ...]]:
        """Rows of what may be long. Raises `CallerError` (``busy``) where too many search, or this takes too long."""
        if not self._searches.acquire(timeout=WAIT_FOR_ONE):
            raise CallerError(
                "busy", "Too many search the journal and the records at once.", "Try again in a moment."
            )
        try:
            return self._own().ask(sql, values, SEARCH_WITHIN)
        finally:
            self._searches.release()

    def _all(self, sql: str, values: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
        return self._own().ask(sql, values)

    def _one(self, sql: str, values: tuple[Any, ...] = ()) -> tuple[Any, ...] | None:
        found = self._own().ask(sql, values, most=1)
        return found[0] if found else None
