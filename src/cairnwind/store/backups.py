"""Backups: everything of a site in one file, made while it is served, checked, and put back on any machine.

A backup is a ZIP archive: ``about.json``, ``cairnwind.db`` (the database, copied by SQLite itself) and ``site/`` with the site file and
the user's own data beside it. Keys are in it as the database has them, as hashes; texts of keys, secrets and private keys are not.
"""

from __future__ import annotations

import hashlib
import json
import os
import re
import shutil
import sqlite3
import tempfile
import zipfile
import zlib
from collections.abc import Iterable, Mapping
from contextlib import closing, suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path, PurePosixPath
from typing import Any, NamedTuple

from cairnwind import __version__
from cairnwind.core.values.errors import CallerError
from cairnwind.store.database import connect, copy, schema

DATABASE, ABOUT, SITE = "cairnwind.db", "about.json", "site/"
ENDING = ".cairnwind.zip"
STAMP = "%Y%m%dT%H%M%SZ"
_NAMED = re.compile(r".*-(\d{8}T\d{6}Z)" + re.escape(ENDING))
PACKED = 3
"""How hard it is packed: text of a journal takes a fifth of its size by that, and little time."""
GONE = ("claim", "session", "answer")
"""What is not put back: nothing comes on by what somebody wanted then, and nobody is signed in."""


class About(NamedTuple):
    """What a backup says of itself."""

    site: str
    made: datetime
    version: str
    schema: int
    rows: int
    site_file: str
    """The name of the site file."""
    files: Mapping[str, str]
    """SHA-256 of every other member of the archive."""

    @property
    def form(self) -> dict[str, Any]:
        """As JSON."""
        return {**self._asdict(), "made": self.made.isoformat()}


class Backup(NamedTuple):
    """A backup file."""

    path: Path
    made: datetime
    bytes: int


def make(
    database: Path, site: str, files: Mapping[str, Path], site_file: str, folder: Path, now: datetime
) -> Backup:
    """Make one in a folder, and look whether it is whole. ``files`` are those of the site, by their names in it. Raises `CallerError` (``backup``)."""
    slug = re.sub(r"[^a-z0-9]+", "-", site.lower()).strip("-") or "site"
    path = folder / f"{slug}-{now.astimezone(UTC):{STAMP}}{ENDING}"
    part = path.with_name(f"{path.name}.part")
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(dir=folder, prefix=".making-") as place:
            its = Path(place) / DATABASE
            with closing(connect(database)) as connection:
                copy(connection, its)
            rows = _settled(its)
            members = {DATABASE: its, **{f"{SITE}{name}": found for name, found in files.items()}}
            sums = {name: _sum(found) for name, found in members.items()}
            about = About(site, now, __version__, schema()[-1][0], rows, site_file, sums)
            with zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED, compresslevel=PACKED) as archive:
                archive.writestr(ABOUT, json.dumps(about.form, indent=1))
                for name, found in members.items():
                    archive.write(found, name)
        look(part)
        os.chmod(part, 0o600)
        with part.open("rb") as written:
            os.fsync(written.fileno())
        part.replace(path)
    except (OSError, sqlite3.Error) as error:
        raise CallerError(
            "backup", f"No backup could be made in {folder}: {error}.", f"See to its disk: df {folder}"
        ) from None
    finally:
        with suppress(OSError):
            part.unlink(missing_ok=True)
    return Backup(path, now, path.stat().st_size)


def _settled(path: Path) -> int:
    """Have a copy be one whole file that nobody has open; how many rows its journal has. Raises `sqlite3.Error`."""
    with closing(sqlite3.connect(path, isolation_level=None)) as connection:
        connection.execute("PRAGMA journal_mode = DELETE")
        connection.execute("DELETE FROM fact WHERE name = 'open'")
        (found,) = connection.execute("PRAGMA quick_check(1)").fetchone()
        if found != "ok":
            raise sqlite3.DatabaseError(found)
        return int(connection.execute("SELECT count(*) FROM journal").fetchone()[0])


def _sum(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def look(path: Path) -> About:
    """What a backup says of itself, when every byte of it has been looked at. Raises `CallerError` (``backup``)."""
    try:
        with zipfile.ZipFile(path) as archive:
            said = json.loads(archive.read(ABOUT))
            about = About(**{**said, "made": datetime.fromisoformat(said["made"])})
            if (
                set(archive.namelist()) != {ABOUT, *about.files}
                or len(archive.namelist()) != len(about.files) + 1
            ):
                raise ValueError("something is in it that it does not speak of, or is not")
            for name, wanted in about.files.items():
                inside = PurePosixPath(name.removeprefix(SITE))
                if name != DATABASE and (
                    not name.startswith(SITE) or inside.is_absolute() or ".." in inside.parts
                ):
                    raise ValueError(f"'{name}' does not belong there")
                with archive.open(name) as member:
                    if hashlib.file_digest(member, "sha256").hexdigest() != wanted:  # type: ignore[arg-type]
                        raise ValueError(f"'{name}' is not as it was")
            return about
    except FileNotFoundError:
        raise CallerError(
            "backup", f"There is no backup {path}.", "cairnwind backup --list shows those that are here."
        ) from None
    except (
        OSError,
        ValueError,
        KeyError,
        TypeError,
        zipfile.BadZipFile,
        zlib.error,
        EOFError,
        NotImplementedError,
        RuntimeError,
    ) as error:
        raise CallerError(
            "backup", f"{path} is no backup that is whole: {error}.", "Take another one; nothing was done."
        ) from None


def restore(path: Path, about: About, database: Path, folder: Path, now: datetime) -> list[str]:
    """Put the database and the site's files where they belong; what was there stays beside it. Returns the names of the files. Raises `CallerError`.

    What people wanted then is not taken up, and nobody is signed in; lockouts, trips and the all-stop stand.
    """
    if about.schema > schema()[-1][0]:
        raise CallerError(
            "backup", f"{path} was made by a newer version ({about.version}); this one cannot read it.", f"Install Cairnwind {about.version} or a newer one."
        )  # fmt: skip
    names = [name.removeprefix(SITE) for name in about.files if name.startswith(SITE)]
    places = {database: DATABASE, **{folder / name: f"{SITE}{name}" for name in names}}
    aside = f".before-{now.astimezone(UTC):{STAMP}}"
    try:
        with zipfile.ZipFile(path) as archive:
            for there, name in places.items():  # all is there before anything takes its place
                there.parent.mkdir(parents=True, exist_ok=True)
                _unpacked(archive, name, _part(there))
        with closing(sqlite3.connect(_part(database), isolation_level=None)) as connection:
            _as_restored(connection, path.name, about, now)
        for end in ("wal", "shm", "journal"):
            beside = database.with_name(f"{database.name}-{end}")
            if beside.exists():
                beside.replace(beside.with_name(f"{beside.name}{aside}"))
        for there in places:
            if there.exists() and (there == database or there.read_bytes() != _part(there).read_bytes()):
                there.replace(there.with_name(f"{there.name}{aside}"))
            _part(there).replace(there)
    except (OSError, sqlite3.Error) as error:
        raise CallerError(
            "backup",
            f"It could not be put back: {error}.",
            f"What was there is beside it, with {aside} at its end.",
        ) from None
    finally:
        for there in places:
            with suppress(OSError):
                _part(there).unlink(missing_ok=True)
    return names


def _part(path: Path) -> Path:
    return path.with_name(f"{path.name}.part")


def _unpacked(archive: zipfile.ZipFile, name: str, to: Path) -> None:
    with archive.open(name) as member, to.open("wb") as file:
        os.fchmod(file.fileno(), 0o600 if name == DATABASE else 0o644)
        shutil.copyfileobj(member, file)
        file.flush()
        os.fsync(file.fileno())


def _as_restored(connection: sqlite3.Connection, name: str, about: About, now: datetime) -> None:
    for table in GONE:
        connection.execute(f"DELETE FROM {table}")
    text = f"restored from {name}, made on {about.made.astimezone(UTC):%Y-%m-%d %H:%M} UTC; nothing is on by what somebody wanted then"
    connection.execute(
        "INSERT INTO journal (seq, wall, kind, subject, text, command, source, data)"
        " SELECT coalesce(max(seq), 0) + 1, ?, 'restore', '', ?, '', '', '{}' FROM journal",
        (int(now.timestamp() * 10**9), text),
    )


def found(folder: Path) -> list[Backup]:
    """The backups in a folder, the newest first."""
    made = []
    with suppress(OSError):
        for path in folder.iterdir():
            if match := _NAMED.fullmatch(path.name):
                with suppress(ValueError, OSError):
                    made.append(
                        Backup(
                            path, datetime.strptime(match[1], STAMP).replace(tzinfo=UTC), path.stat().st_size
                        )
                    )
    return sorted(made, key=lambda each: each.made, reverse=True)


def kept(made: Iterable[datetime], days: int, weeks: int, months: int) -> set[datetime]:
    """Which backups are kept: those of the last day, and of each of the last so many days, weeks and months that have any, its newest."""
    newest_first = sorted(made, reverse=True)
    keep = {at for at in newest_first if newest_first[0] - at < timedelta(days=1)}
    for many, period in (
        (days, lambda at: at.date()), (weeks, lambda at: at.isocalendar()[:2]), (months, lambda at: (at.year, at.month)),
    ):  # fmt: skip
        newest: dict[Any, datetime] = {}
        for at in newest_first:
            newest.setdefault(period(at), at)
        keep |= set(list(newest.values())[:many])
    return keep


def prune(folder: Path, days: int, weeks: int, months: int) -> list[Path]:
    """Have the others go; returns them. Backups of other sites in the same folder are theirs. Raises `OSError`."""
    gone = []
    every = found(folder)
    sites = {each.path.name.rpartition("-")[0] for each in every}
    for site in sites:
        its = [each for each in every if each.path.name.rpartition("-")[0] == site]
        keep = kept((each.made for each in its), days, weeks, months)
        for each in its:
            if each.made not in keep:
                each.path.unlink()
                gone.append(each.path)
    return gone
