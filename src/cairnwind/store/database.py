"""Opens the database: checks it before touching it, brings its schema up to date, sets its durability.

The schema is a row of numbered ``.sql`` files. Each is applied in one transaction together with its number in
``user_version``, before the database is put into WAL mode: so the number always stands in the file's header,
where it can be read without opening the database at all.
"""

from __future__ import annotations

import os
import re
import shutil
import sqlite3
import tempfile
from importlib.resources import files
from pathlib import Path

from cairnwind.core.values.errors import CallerError

APPLICATION_ID = 0x43_57_4E_44  # 'CWND'
CHECK_UP_TO = 64 << 20
"""Databases up to this many bytes are read through at every start."""
RESERVED = 1_000_000
"""Numbers of the journal that one run may use before its log has ever been taken into the database's own file."""
FOR_GOOD = "'note', 'start', 'shutdown'"
"""Kinds of rows of the journal that are few, and never go."""
SYNCHRONOUS = {"power": "FULL", "process": "NORMAL"}


def schema() -> list[tuple[int, str]]:
    """The numbered steps, in order: (number, SQL)."""
    steps = []
    for entry in files(__package__).joinpath("schema").iterdir():
        match = re.fullmatch(r"(\d{4})_\w+\.sql", entry.name)
        if match:
            steps.append((int(match.group(1)), entry.read_text("utf-8")))
    return sorted(steps)


def prepare(path: Path) -> int:
    """Make or update the database at ``path``; returns a number that the journal's have to be beyond, 0 where its last one says that.

    Raises `CallerError` (``store``) for a file that is damaged, is no database of ours, or comes from a newer
    version; such a file is left as it was.
    """
    steps = schema()
    _roll_back(path)
    log = path.with_name(f"{path.name}-wal")
    left = log.stat().st_size if log.exists() else None  # a look at the database makes one
    version = _inspect(path, steps[-1][0])
    if version == steps[-1][0]:
        return _beyond(path, log, left)
    if not version and path.with_name("key").exists():
        what = "is empty" if path.exists() else "is not there"
        raise CallerError(
            "store",
            f"The database {path} {what}, though the key beside it says that there was one.",
            f"Put a backup in its place; or, to begin anew with a new key, type: rm {path.with_name('key')}",
        )
    try:
        _bring_up(path, version, steps)
    except (sqlite3.Error, OSError) as error:
        raise CallerError(
            "store",
            f"The database {path} cannot be {'brought up to date' if version else 'made'}: {error}.",
            f"Nothing was changed. Make room on its disk (df {path.parent}), and start again.",
        ) from None
    return 0


def _beyond(path: Path, log: Path, left: int | None) -> int:
    """What an end that was not in good order asks for: a log that is not there had what happened last, and its numbers are used."""
    reserved = _reserved(path)
    if not reserved or left:
        return 0
    if left is None:
        log.unlink(missing_ok=True)
        raise CallerError(
            "store",
            f"The database {path} was in use when it ended, and its write-ahead log {log.name} is not there: what happened last is not in it.",
            f"It was left untouched. Put the log back beside it; or, to go on with what is there, type: touch {log}",
        )
    return reserved


def _reserved(path: Path) -> int:
    """The number up to which the journal's may have been used by whoever has the database open, or had when it ended; 0: nobody."""
    connection = connect(path)
    try:
        row = connection.execute(
            "SELECT json_extract(form, '$.numbers') FROM fact WHERE name = 'open'"
        ).fetchone()
        return int(row[0]) if row is not None and row[0] else 0
    except (sqlite3.DatabaseError, ValueError, TypeError):
        return 0
    finally:
        connection.close()


def occupy(connection: sqlite3.Connection, path: Path) -> None:
    """Note in the database's own file that it is in use, and which numbers of the journal may be used; see that its log is there for good."""
    connection.execute(
        "INSERT INTO fact (name, form) SELECT 'open', json_object('numbers', coalesce(max(seq), 0) + ?) FROM journal WHERE true"
        " ON CONFLICT DO UPDATE SET form = excluded.form",
        (RESERVED,),
    )
    connection.execute("PRAGMA wal_checkpoint(PASSIVE)").fetchone()
    folder = os.open(path.parent, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(folder)
    finally:
        os.close(folder)


def vacate(connection: sqlite3.Connection) -> None:
    """It is no longer in use: what is left is one whole file."""
    connection.execute("DELETE FROM fact WHERE name = 'open'")


def _roll_back(path: Path) -> None:
    """Let SQLite undo what a power cut has left half done (a first start, a step of the schema): nothing is lost by that."""
    journal = path.with_name(f"{path.name}-journal")
    if not journal.exists() or not journal.stat().st_size:
        return
    connection = sqlite3.connect(path)
    try:
        connection.execute("SELECT count(*) FROM sqlite_master").fetchone()
    except sqlite3.DatabaseError:
        pass  # whatever it is, it is looked at as it stands
    finally:
        connection.close()


def volatile(path: Path) -> Path:
    """A copy of a database, in memory where there is such a place: what is on a disk that cannot be written cannot be opened there."""
    for place in (Path("/dev/shm"), Path(tempfile.gettempdir())):
        try:
            folder = Path(tempfile.mkdtemp(prefix="cairnwind-", dir=place))
            for each in (path, path.with_name(f"{path.name}-wal")):
                if each.exists():
                    shutil.copy(each, folder / each.name)
            return folder / path.name
        except OSError:
            continue
    raise CallerError(
        "store",
        f"The database {path} is on a disk that cannot be written.",
        f"Type: mount -o remount,rw {path.parent}",
    )


def before(path: Path, version: int) -> Path:
    """Where the database is kept as it was before it was brought up from a version of the schema."""
    return path.with_name(f"{path.name}.schema-{version}")


def copy(connection: sqlite3.Connection, to: Path) -> None:
    """A whole copy of what a connection sees, whoever writes meanwhile, which is only there once it is whole. Raises `sqlite3.Error`, `OSError`."""
    part = to.with_name(f"{to.name}.part")
    part.unlink(missing_ok=True)
    try:
        target = sqlite3.connect(part, isolation_level=None)
        try:
            connection.backup(target)  # in one step: it holds up nobody who writes, and begins anew for none
        finally:
            target.close()
        with part.open("rb") as file:
            os.fsync(file.fileno())
        part.replace(to)
    finally:
        part.unlink(missing_ok=True)


def _bring_up(path: Path, version: int, steps: list[tuple[int, str]]) -> None:
    """Apply the steps that are missing; what was there before is kept beside it, as whole as it was."""
    connection = sqlite3.connect(path, isolation_level=None)
    try:
        connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        connection.execute("PRAGMA journal_mode = DELETE")
        if version:
            copy(connection, before(path, version))
        for number, sql in steps:
            if number > version:
                # the first thing in the first step, or a power cut would leave a database that is nobody's
                first = "" if version or number > steps[0][0] else "PRAGMA auto_vacuum = INCREMENTAL;"
                connection.executescript(
                    f"BEGIN; {first} {sql}; PRAGMA application_id = {APPLICATION_ID}; PRAGMA user_version = {number}; COMMIT;"
                )
        if (
            version and path.stat().st_size <= CHECK_UP_TO
        ):  # so that it can give space back; a large one would take too long, and uses its own again
            connection.execute("PRAGMA auto_vacuum = INCREMENTAL")
            connection.execute("VACUUM")
        connection.execute("PRAGMA journal_mode = WAL")
    finally:
        connection.close()


def connect(path: Path, durability: str = "power", *, write: bool = False) -> sqlite3.Connection:
    """A connection in autocommit mode; read-only unless ``write``."""
    if not write:
        connection = sqlite3.connect(
            f"{path.resolve().as_uri()}?mode=ro", uri=True, isolation_level=None, check_same_thread=False
        )
        connection.execute("PRAGMA query_only = ON")
        return connection
    connection = sqlite3.connect(path, isolation_level=None, check_same_thread=False)
    connection.execute(f"PRAGMA synchronous = {SYNCHRONOUS[durability]}")
    connection.execute("PRAGMA foreign_keys = ON")
    return connection


def _inspect(path: Path, newest: int) -> int:
    """The schema version of the file (0 if there is none), after a look that changes nothing."""
    if not path.exists() or path.stat().st_size == 0:
        return 0
    with path.open("rb") as file:
        header = file.read(100)
    if not header.startswith(b"SQLite format 3\0") or len(header) < 100:
        raise _refused(
            path, "is damaged or no database", "Put a backup in its place, or move it away to begin anew."
        )
    version, owner = int.from_bytes(header[60:64], "big"), int.from_bytes(header[68:72], "big")
    if owner != APPLICATION_ID:
        raise _refused(path, "is a database, but not one of Cairnwind", "Give another state folder.")
    if version > newest:
        raise _refused(
            path,
            f"was written by a newer version (schema {version}, this one knows {newest})",
            "Use that version, or another state folder.",
        )
    try:
        connection = sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True)
        try:
            if path.stat().st_size <= CHECK_UP_TO:
                found = connection.execute("PRAGMA quick_check(1)").fetchone()[0]
            else:
                connection.execute("SELECT count(*) FROM claim").fetchone()
                connection.execute("SELECT max(seq) FROM journal").fetchone()
                found = "ok"
        finally:
            connection.close()
    except sqlite3.DatabaseError as error:
        found = str(error)
    if found != "ok":
        raise _refused(
            path,
            f"is damaged: {found.splitlines()[0]}",
            "Put a backup in its place, or move it away to begin anew.",
        )
    return version


def _refused(path: Path, what: str, remedy: str) -> CallerError:
    return CallerError("store", f"The database {path} {what}.", f"It was left untouched. {remedy}")
