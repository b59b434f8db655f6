"""Starts that find something wrong: safe first, recovered where nothing is lost, refused in words where something would be."""

from __future__ import annotations

import os
import re
import shutil
import sqlite3
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from cairnwind.client import Site
from cairnwind.core.values.errors import CallerError, Trouble
from cairnwind.folder import Folder
from cairnwind.service.serve import Service
from cairnwind.site import read_site
from cairnwind.store import database
from cairnwind.store.database import prepare
from tests.conftest import CAIRNWIND, SITE, Process, Running, eventually


class Disk:
    """A small disk of its own, which may be filled or locked; a loop in memory."""

    def __init__(self, at: Path) -> None:
        self.at = at
        at.mkdir()
        made = subprocess.run(
            ["mount", "-t", "tmpfs", "-o", "size=3m", "tmpfs", at], capture_output=True, check=False
        )
        if made.returncode:
            pytest.skip("not run: a disk of its own may not be mounted here")

    def fill(self) -> None:
        with (self.at / "fill").open("wb", buffering=0) as file:
            try:
                while file.write(bytes(4096)) == 4096:
                    pass
            except OSError:
                pass

    def lock(self, how: str) -> None:
        subprocess.run(["mount", "-o", f"remount,{how}", self.at], check=True)


@pytest.fixture
def disk(tmp_path: Path) -> Iterator[Disk]:
    made = Disk(tmp_path / "disk")
    yield made
    subprocess.run(["umount", "-l", made.at], check=True)


@pytest.fixture
def site_file(tmp_path: Path) -> Path:
    path = tmp_path / "site.toml"
    path.write_text(SITE)
    return path


def begun(site_file: Path, state: Path, *more: str) -> subprocess.CompletedProcess[str]:
    """A start that is expected to be refused."""
    return subprocess.run(
        [CAIRNWIND, "serve", site_file, "--state", state, "--port", "0", *more], capture_output=True, text=True, timeout=20
    )  # fmt: skip


@pytest.mark.parametrize("how", ["full", "read-only"])
def test_on_a_disk_that_takes_nothing_it_serves_offs_and_says_so(
    disk: Disk, site_file: Path, how: str
) -> None:
    state = disk.at / "state"
    first = Process(site_file, state)
    there = Site(state=state)
    there.turn("vent", "on")
    there.lock("gallery", "lamp changed")
    key, _ = Folder(state).key(), first.kill()
    disk.fill() if how == "full" else disk.lock("ro")
    begins = subprocess.Popen(
        [CAIRNWIND, "serve", site_file, "--state", state, "--port", "47123"], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )  # fmt: skip
    try:
        there = Site("http://127.0.0.1:47123", key)
        eventually(lambda: begins.poll() is not None or answers(there), within=15)
        assert begins.poll() is None, begins.communicate()
        facts = there.facts()
        assert not facts["recording"]
        assert ("full" if how == "full" else "cannot be written") in facts["trouble"]
        assert [tag["output"] for tag in facts["lockouts"]] == ["gallery"], (
            "what was left is there, the write-ahead log too"
        )
        with pytest.raises(Trouble, match="journal cannot be written"):
            there.turn("yard", "on")
        for act in (lambda: there.turn("vent", "off"), lambda: there.stop("a test")):
            with pytest.raises(Trouble, match="journal cannot be written"):
                act()  # it is done all the same
        assert not there.output("vent")["confirmed"]["on"]
        assert there.facts()["all_stop"]["stopped"]
        if how == "full":
            assert Site(state=state).facts()["name"], "it is found by its state folder"
    finally:
        begins.terminate()
        out, err = begins.communicate(timeout=20)
        if how != "full":
            disk.lock("rw")
    assert "Traceback" not in out + err


def answers(there: Site) -> bool:
    try:
        return bool(there.facts())
    except Exception:
        return False


def test_a_first_start_on_a_full_disk_is_refused_in_words(disk: Disk, site_file: Path) -> None:
    (disk.at / "state").mkdir()
    disk.fill()
    refused = begun(site_file, disk.at / "state")
    assert refused.returncode
    assert "Traceback" not in refused.stderr
    assert "Make room on its disk" in refused.stderr
    (disk.at / "fill").unlink()
    Process(site_file, disk.at / "state").kill()


@pytest.mark.parametrize("step", [0, 1, 3])
def test_what_a_power_cut_left_half_done_is_rolled_back(
    step: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The files as they lie on the disk in the midst of a first start, and of an upgrade."""
    path, cut = tmp_path / "cairnwind.db", tmp_path / "cut"
    cut.mkdir()
    steps = database.schema()
    if step:
        monkeypatch.setattr(database, "schema", lambda: steps[:step])
        prepare(path)
    monkeypatch.undo()
    connection = sqlite3.connect(path, isolation_level=None)
    connection.execute("PRAGMA journal_mode = DELETE")
    connection.execute("PRAGMA cache_size = 1")  # so that pages leave for the file before the commit
    connection.execute("BEGIN")
    for statement in re.sub(r"--.*", "", steps[step][1]).split(";")[:4]:
        connection.execute(statement)
    connection.execute("CREATE TABLE filler (x)")
    connection.executemany("INSERT INTO filler VALUES (?)", [(bytes(3000),)] * 200)
    for each in tmp_path.glob("cairnwind.db*"):
        shutil.copy(each, cut / each.name)
    connection.close()
    assert (cut / "cairnwind.db-journal").stat().st_size
    prepare(cut / "cairnwind.db")
    whole = sqlite3.connect(cut / "cairnwind.db")
    assert whole.execute("PRAGMA integrity_check").fetchone() == ("ok",)
    assert whole.execute("PRAGMA user_version").fetchone() == (steps[-1][0],)
    assert not whole.execute("SELECT 1 FROM sqlite_master WHERE name = 'filler'").fetchone()
    whole.close()


@pytest.mark.parametrize("how", ["empty", "gone"])
def test_a_database_that_is_gone_beside_its_key_is_not_begun_anew_without_a_word(
    running: Running, how: str
) -> None:
    running.service.stop()
    path = running.folder / "state" / "cairnwind.db"
    for each in path.parent.glob("cairnwind.db*"):
        each.unlink()
    if how == "empty":
        path.touch()
    refused = begun(running.site_file, path.parent)
    assert refused.returncode
    assert "though the key beside it says that there was one" in refused.stderr
    line = f"rm {path.with_name('key')}"
    assert line in refused.stderr.replace("\n       ", " ")
    os.unlink(path.with_name("key"))
    running.begin()
    running.key = Folder(path.parent).key() or ""
    assert Site(state=path.parent).facts()


def test_a_row_that_cannot_be_read_costs_no_other_and_a_latch_stops_everything(running: Running) -> None:
    running.site.turn("vent", "on")
    running.site.turn("gallery", "on")
    running.service.stop()
    path = running.folder / "state" / "cairnwind.db"
    assert not path.with_name("cairnwind.db-wal").exists(), "an end in good order leaves one whole file"
    for sql in (
        "UPDATE claim SET form = '{\"half' WHERE output = 'gallery'",
        "INSERT INTO alarm (name, form) VALUES ('hot', '[]')",
    ):
        spoil(path, sql)
    running.begin()
    eventually(lambda: running.site.output("vent")["confirmed"]["on"])
    assert not running.site.output("gallery")["claims"]
    told = [row["text"] for row in running.site.journal(kind="start")]
    assert any("claim 'gallery person' cannot be read" in text for text in told)
    assert any("alarm 'hot'" in text for text in told)
    running.service.stop()
    spoil(path, "INSERT INTO lockout (output, name, form) VALUES ('yard', 'ben', 'x')")
    running.begin()
    assert running.site.facts()["all_stop"]["stopped"], "nobody knows what it was about: everything is safe"
    assert "lockout 'yard ben' cannot be read" in running.site.facts()["all_stop"]["reason"]


def spoil(path: Path, sql: str) -> None:
    connection = sqlite3.connect(path)
    connection.execute(sql)
    connection.commit()
    connection.close()


def test_a_folder_that_cannot_be_used_is_said_after_everything_is_safe(
    tmp_path: Path, site_file: Path
) -> None:
    (tmp_path / "file").touch()
    service = Service(read_site(site_file), Folder(tmp_path / "file" / "state"), 0)
    safe: list[str] = []
    service.machine.make_safe = lambda: safe.append("safe")  # type: ignore[method-assign]
    with pytest.raises(CallerError, match="cannot be used"):
        service.start()
    assert safe


def test_a_write_ahead_log_that_is_gone_is_missed_and_no_number_is_used_again(
    tmp_path: Path, site_file: Path
) -> None:
    state = tmp_path / "state"
    first = Process(site_file, state)
    used = Site(state=state).turn("vent", "on").sequence
    first.kill()
    log = state / "cairnwind.db-wal"
    aside = log.read_bytes()
    log.unlink()
    (state / "cairnwind.db-shm").unlink(missing_ok=True)
    before = (state / "cairnwind.db").read_bytes()
    for _ in range(2):
        refused = begun(site_file, state)
        assert refused.returncode
        assert "its write-ahead log cairnwind.db-wal is not there" in " ".join(refused.stderr.split())
        assert f"touch {log}" in " ".join(refused.stderr.split())
        assert (state / "cairnwind.db").read_bytes() == before
    log.touch()
    second = Process(site_file, state)
    assert Site(state=state).turn("vent", "on").sequence > used + 1000
    second.kill()
    assert log.stat().st_size, "a crash as such is none"
    third = Process(site_file, state)
    assert Site(state=state).output("vent")["wanted"]["on"]
    third.stop()
    assert not log.exists()
    Process(site_file, state).kill()
    assert aside
