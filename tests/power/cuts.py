"""Power cuts, replayed: what was written to a state folder is written down by a small library, and played up to any moment.

Of what had not been synced by then any part may be there or not: writes are dropped, torn and so reordered; a new name, a renaming
or a removal is there only if those before it are. What is left is given to a service that starts. ``python -m tests.power.cuts 500``.
"""

from __future__ import annotations

import json
import os
import random
import shutil
import sqlite3
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import NamedTuple

from cairnwind.client import Site
from cairnwind.core.values.errors import Trouble
from cairnwind.folder import Folder
from cairnwind.service.serve import Service
from cairnwind.site import read_site
from cairnwind.store.database import APPLICATION_ID, schema

HERE = Path(__file__).parent
SECTOR = 512
TOLD = "told"
SITE = """
site = "Power"
[board.near]
link = "simulated"
lines = 8
[output.vent]
kind = "relay"
pin = "near:line-1"
[output.yard]
kind = "lamp"
pin = "near:line-2"
[output.gallery]
kind = "lamp"
pin = "near:line-3"
"""


class Done(NamedTuple):
    """One thing that was done to a file."""

    what: str
    inode: int
    at: int
    path: str
    data: bytes


class Fault(Exception):
    """Something acknowledged was lost, or a start was refused."""


@dataclass
class File:
    """What of a file is on the disk for good, and what is not yet."""

    durable: bytes = b""
    pending: list[Done] = field(default_factory=list)

    def sync(self) -> None:
        """All of it is there."""
        content = bytearray(self.durable)
        for each in self.pending:
            _put(content, each)
        self.durable, self.pending = bytes(content), []

    def after(self, chance: random.Random) -> bytes:
        """What may be left of it."""
        content = bytearray(self.durable)
        share = chance.choice((0.0, 0.5, 0.9, 1.0))
        for each in self.pending:
            if chance.random() < share:
                _put(content, each)
            elif each.what == "W" and chance.random() < 0.3:
                for begin in range(0, len(each.data), SECTOR):
                    if chance.random() < 0.5:
                        _put(
                            content, each._replace(at=each.at + begin, data=each.data[begin : begin + SECTOR])
                        )
        return bytes(content)


def _put(content: bytearray, done: Done) -> None:
    end = done.at + len(done.data)
    if done.what == "T":
        del content[done.at :]
    if len(content) < end:
        content += bytes(end - len(content))
    content[done.at : end] = done.data


class Disk:
    """A folder as it would be found after a power cut."""

    def __init__(self, before: Path) -> None:
        self.names = (
            {str(each): File(each.read_bytes()) for each in before.iterdir()} if before.exists() else {}
        )
        self._open: dict[int, File] = {}
        self._untold: list[tuple[Done, File | None]] = []
        """Names that were given or taken and are not there for good."""
        self.told: list[tuple[str, str, object]] = []
        self._now = dict(self.names)

    def do(self, done: Done) -> None:
        """One thing is done."""
        if done.path.endswith(f"/{TOLD}"):
            if done.what == "W":
                self.told += [tuple(json.loads(line)) for line in done.data.splitlines()]
        elif done.what in "CUR":
            made = File() if done.what == "C" else None
            if made is not None:
                self._open[done.inode] = made
            self._untold.append((done, made))
            _name(self._now, done, made)
        elif done.what == "S" and done.path not in self._now:
            for each, made in self._untold:
                _name(self.names, each, made)
            self._untold = []
        else:
            file = self._open.get(done.inode) or self._now[done.path]
            self._open[done.inode] = file
            if done.what == "S":
                file.sync()
            else:
                file.pending.append(done)

    def cut(self, folder: Path, chance: random.Random) -> None:
        """Write down what is left."""
        left = dict(self.names)
        for each, made in self._untold[: chance.randint(0, len(self._untold))]:
            _name(left, each, made)
        for path, file in left.items():
            (folder / Path(path).name).write_bytes(file.after(chance))


def _name(names: dict[str, File], done: Done, made: File | None) -> None:
    if made is not None:
        names[done.path] = made
    elif done.path in names:
        file = names.pop(done.path)
        if done.what == "R":
            names[done.data.decode()] = file


def read(log: Path) -> Iterator[Done]:
    """What was written down."""
    with log.open("rb") as file:
        while head := file.readline():
            what, inode, at, path, length = head.split()
            its = file.read(int(path)).decode()
            yield Done(what.decode(), int(inode), int(at), its, file.read(int(length)))
            assert file.read(1) == b"\n"


def record(folder: Path, version: int) -> tuple[list[Done], Path]:
    """Three lives of a service on a folder that is new, or was left by an older ``version``: all that they did, and what was there before."""
    library, log, state, before = folder / "recorder.so", folder / "log", folder / "state", folder / "before"
    (folder / "site.toml").write_text(SITE)
    subprocess.run(["cc", "-shared", "-fPIC", "-O1", "-o", library, HERE / "recorder.c"], check=True)
    if version:
        state.mkdir()
        connection = sqlite3.connect(state / "cairnwind.db")
        for number, sql in schema()[:version]:
            connection.executescript(
                f"BEGIN; {sql}; PRAGMA application_id = {APPLICATION_ID}; PRAGMA user_version = {number}; COMMIT;"
            )
        connection.execute("PRAGMA journal_mode = WAL")
        connection.close()
        shutil.copytree(state, before)
    environment = {
        **os.environ,
        "LD_PRELOAD": str(library),
        "POWER_FOLDER": str(state),
        "POWER_LOG": str(log),
    }
    for life, ending in enumerate(("", "crash", "", "crash")):
        subprocess.run(
            [sys.executable, "-m", "tests.power.workload", folder, str(life), *ending.split()],
            cwd=HERE.parents[1], env=environment, check=not ending, capture_output=True, timeout=60,
        )  # fmt: skip
    return [each._replace(path=each.path.replace(str(state), str(before))) for each in read(log)], before


def look(folder: Path, told: list[tuple[str, str, object]]) -> None:
    """A service starts on what is left: it does, and all that was acknowledged is there. Raises `Fault`."""
    service = Service(read_site(folder / "site.toml"), Folder(folder / "state"), 0)
    try:
        service.start()
    except Trouble as error:
        raise Fault(f"refused: {error}") from error
    try:
        found = _found(Site(state=folder / "state"), Folder(folder / "state").key())
        for about, (word, what) in {about: (word, what) for word, about, what in told}.items():
            if word == "asks":
                continue  # it may have been done, or not
            now = _opens(service.url, what) if about.startswith("phone") else found.get(about, False)
            if now != what:
                raise Fault(f"{about} was acknowledged as {what}, and is {now}")
    finally:
        service.stop()


def _found(there: Site, key: str | None) -> dict[str, object]:
    """All that may have been acknowledged, as it is."""
    return {
        "vent": there.output("vent")["wanted"]["on"], "key": key,
        **{f"lockout {each['name']}": True for each in there.facts()["lockouts"]},
        **{f"schedule {each['name']}": True for each in there.plan()["schedules"]},
        **{f"row {each['sequence']}": True for each in there.journal_of()},
    }  # fmt: skip


def _opens(url: str, key: object) -> object:
    """The key, if it lets in whoever has it."""
    try:
        return key if Site(url, key=str(key)).outputs() else ""
    except Trouble as error:
        return str(error)


def replay(folder: Path, version: int, cuts: int, seed: int) -> Iterator[str]:
    """So many power cuts; yields what is wrong after any of them. Half of them are before anything was acknowledged."""
    done, before = record(folder, version)
    chance = random.Random(seed)
    begun = next(number for number, each in enumerate(done) if each.path.endswith(TOLD))
    moments = sorted(chance.randrange(chance.choice((begun, len(done)))) for _ in range(cuts))
    disk, played = Disk(before), 0
    for number, moment in enumerate(moments):
        while played < moment:
            disk.do(done[played])
            played += 1
        with tempfile.TemporaryDirectory(dir=folder) as found:
            place = Path(found)
            shutil.copy(folder / "site.toml", place)
            (place / "state").mkdir()
            disk.cut(place / "state", chance)
            try:
                look(place, disk.told)
            except Fault as fault:
                yield f"version {version}, seed {seed}, cut {number} after {moment} of {len(done)}: {fault}"


def main() -> None:
    """So many power cuts, over first starts and every upgrade."""
    cuts, versions = int(sys.argv[1]), range(len(schema()))
    for version in versions:
        share = -(-cuts // len(versions))
        with tempfile.TemporaryDirectory() as folder:
            faults = list(replay(Path(folder), version, share, random.randrange(1 << 32)))
        print(
            *faults,
            f"{share} cuts over a {f'start on version {version}' if version else 'first start'}: {len(faults)} faults",
            sep="\n",
            flush=True,
        )


if __name__ == "__main__":
    main()
