"""Backups: made while everything goes on, looked at whole, put back elsewhere; and which of them stay."""

from __future__ import annotations

import io
import json
import random
import shutil
import threading
import time
import zipfile
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from cairnwind.client import CallerError, Site
from cairnwind.core.values.quantities import NS
from cairnwind.service.backing import Backups
from cairnwind.site import read_text
from cairnwind.store import backups
from tests.conftest import ROOT, Process, Running, cairnwind

SITE = """
site = "Shed"
timezone = "Europe/London"
[service]
backup_at = "03:30"
backup_keeps = "3 days, 2 weeks, 2 months"
[board.near]
link = "simulated"
map = "own"
[board.far]
link = "modbus"
port = "/dev/ttyUSB77"
[output.vent]
kind = "relay"
pin = "near:J2-9"
[output.lamp]
kind = "lamp"
pin = "near:J2-11"
"""


@pytest.fixture
def running(tmp_path: Path) -> Iterator[Running]:
    (tmp_path / "maps").mkdir()
    shipped = (ROOT / "src/cairnwind/boards/maps/header-34.toml").read_text()
    (tmp_path / "maps" / "own.toml").write_text(shipped.replace("header-34", "own"))
    found = Running(tmp_path, SITE)
    yield found
    found.end()


def test_what_was_backed_up_while_it_ran_is_served_elsewhere(running: Running, tmp_path: Path) -> None:
    site, over = running.site, threading.Event()
    text = site.new_key("tablet", "operate")
    site.lock("vent", "ladder", reason="somebody is on it")

    def busy() -> None:
        mine = Site(state=running.folder / "state")
        while not over.is_set():
            mine.turn("lamp", "on")
            mine.turn("lamp", "off")

    thread = threading.Thread(target=busy)
    thread.start()
    time.sleep(0.3)
    made = running.cli("backup", "--to", str(tmp_path / "it.zip"), "--json")
    over.set()
    thread.join()
    site.turn("lamp", "on")
    assert made.returncode == 0, made.stderr
    name = json.loads(made.stdout)["name"]
    assert (tmp_path / "it.zip").read_bytes() == (running.folder / "state" / "backups" / name).read_bytes()
    assert [each["name"] for each in site.backups()] == [name]
    packed = zipfile.ZipFile(tmp_path / "it.zip")
    assert set(packed.namelist()) == {"about.json", "cairnwind.db", "site/site.toml", "site/maps/own.toml"}
    assert not any(
        secret.encode() in packed.read(each) for each in packed.namelist() for secret in (text, running.key)
    )
    rows = list(site.journal_of())

    there = tmp_path / "there"
    done = cairnwind(
        "restore", str(tmp_path / "it.zip"), "--state", str(there / "state"), "--site", str(there)
    )
    assert done.returncode == 0, done.stderr
    assert "There is no serial port /dev/ttyUSB77" in done.stderr
    assert "the text of the first key" in done.stderr
    half = tmp_path / "half"
    half.mkdir()
    (half / "maps").write_text("a file where a folder should be")
    failed = cairnwind(
        "restore", str(tmp_path / "it.zip"), "--state", str(half / "state"), "--site", str(half)
    )
    assert (failed.returncode, "could not be put back" in failed.stderr) == (9, True)
    assert {each.name for each in half.rglob("*")} <= {"maps", "state", "lock"}, "all of it, or nothing"
    again = cairnwind(
        "restore", str(tmp_path / "it.zip"), "--state", str(there / "state"), "--site", str(there)
    )
    assert (again.returncode, "There is a site already" in again.stderr) == (5, True)
    other = Process(there / "site.toml", there / "state")
    its = Site(state=there / "state")
    restored = [row for row in its.journal_of() if row["kind"] == "restore"]
    kept = [row for row in its.journal_of() if row["sequence"] < restored[0]["sequence"]]
    assert kept == rows[: len(kept)], "every row up to the moment of the backup, as it was"
    assert len(kept) > 5
    assert f"restored from {'it.zip'}" in restored[0]["text"]
    now = {each["name"]: each for each in its.outputs()}
    assert not now["lamp"]["claims"], "nobody's wish from then switches anything"
    assert [tag["name"] for tag in its.facts()["lockouts"]] == ["ladder"]
    assert Site(its.address, text).who()["key"] == "tablet"
    assert its.editions()[0]["author"] == site.editions()[0]["author"]
    held = cairnwind(
        "restore",
        str(tmp_path / "it.zip"),
        "--state",
        str(there / "state"),
        "--site",
        str(there),
        "--replace",
    )
    assert (held.returncode, "is held by process" in held.stderr) == (9, True)
    other.stop()
    (there / "site.toml").write_text(SITE.replace("Shed", "Barn"))
    done = cairnwind(
        "restore",
        str(tmp_path / "it.zip"),
        "--state",
        str(there / "state"),
        "--site",
        str(there),
        "--replace",
    )
    assert done.returncode == 0, done.stderr
    assert (there / "site.toml").read_text() == SITE
    assert any("Barn" in each.read_text() for each in there.glob("site.toml.before-*"))
    assert list((there / "state").glob("cairnwind.db.before-*"))


def test_a_backup_that_is_not_whole_is_refused_and_nothing_is_done(running: Running, tmp_path: Path) -> None:
    running.site.back_up()
    (good,) = (running.folder / "state" / "backups").iterdir()
    said, chance = backups.look(good), random.Random(3)
    whole = good.read_bytes()
    tried = tmp_path / "tried.zip"
    refused = 0
    for number in range(60):
        data = bytearray(whole)
        if number % 3:
            data[chance.randrange(len(data))] ^= 1 << chance.randrange(8)
        else:
            del data[chance.randrange(len(data)) :]
        tried.write_bytes(data)
        try:
            assert backups.look(tried) == said, "what is taken for whole is what it was"
        except CallerError as error:
            refused += 1
            assert error.code == "backup"
    assert refused > 40
    for name in ("site/../../escape.toml", "site//etc/escape.toml", "other.txt"):
        shutil.copy(good, tried)
        with zipfile.ZipFile(tried, "a") as archive:
            archive.writestr(name, "x = 1")
        forged = io.BytesIO()
        with zipfile.ZipFile(tried) as old, zipfile.ZipFile(forged, "w") as new:
            about = json.loads(old.read("about.json"))
            about["files"][name] = "2d711642b726b04401627ca9fbac32f5c8530fb1903cc4db02258717921a4881"
            for each in old.namelist():
                new.writestr(each, json.dumps(about) if each == "about.json" else old.read(each))
        tried.write_bytes(forged.getvalue())
        with pytest.raises(CallerError, match="no backup that is whole"):
            backups.look(tried)
    done = cairnwind("restore", str(tried), "--state", str(tmp_path / "new"), "--site", str(tmp_path / "new"))
    assert done.returncode == 9
    assert not (tmp_path / "new").exists()


def test_who_may_and_what_cannot_be_made(running: Running) -> None:
    key = running.site.new_key("tablet", "operate")
    for method, path in (
        ("POST", "/api/v1/backups"),
        ("GET", "/api/v1/backups"),
        ("GET", "/api/v1/backups/x"),
    ):
        assert running.http(method, path, key=key).status_code == 403
    assert running.http("GET", "/api/v1/backups/..%2Fcairnwind.db").status_code == 404
    with pytest.raises(CallerError, match="no backup called 'x"):
        running.site.fetch_backup("x.zip", running.folder / "x.zip")
    assert not list(running.folder.glob("x.zip*"))
    (running.folder / "state" / "backups").write_text("a file where a folder should be")
    failed = running.cli("backup")
    assert (failed.returncode, "No backup could be made in" in " ".join(failed.stderr.split())) == (9, True)
    assert any(
        "backup" in each["what"]
        for each in running.http("GET", "/api/v1/doctor").json()
        if each["good"] is False
    )


@given(
    st.lists(
        st.datetimes(datetime(2026, 1, 1), datetime(2027, 12, 1), timezones=st.just(UTC)),
        max_size=60,
        unique=True,
    ),
    *(st.integers(0, 9) for _ in range(3)),
)
def test_the_newest_of_days_weeks_and_months_stay(
    made: list[datetime], days: int, weeks: int, months: int
) -> None:
    stays = backups.kept(made, days, weeks, months)
    assert stays <= set(made)
    lately = {at for at in made if max(made) - at < timedelta(days=1)}
    assert lately <= stays
    periods = (lambda at: at.date(), lambda at: at.isocalendar()[:2], lambda at: (at.year, at.month))
    for many, period in zip((days, weeks, months), periods, strict=True):
        newest = sorted(
            {max(at for at in made if period(at) == its) for its in map(period, made)}, reverse=True
        )
        assert set(newest[:many]) <= stays
    assert len(stays - lately) <= days + weeks + months
    # once they are gone, the same rule takes no more of those that stay
    assert backups.kept(stays, days, weeks, months) == stays


def test_each_day_has_one_whenever_the_service_was_there(running: Running, tmp_path: Path) -> None:
    site = read_text(SITE.replace('map = "own"', 'map = "header-34"'), "site.toml")
    its = Backups(running.service.runtime.backups._database, lambda: site)
    its.folder.mkdir()
    zone, chance = ZoneInfo("Europe/London"), random.Random(5)
    at, seen = datetime(2026, 10, 20, 12, tzinfo=zone).timestamp(), set()
    for _ in range(120):  # over the end of summer time
        at += chance.choice((600, 3600, 5 * 3600, 30 * 3600))
        its.turn(int(at) * NS)
        seen |= {each.made for each in its.all()}
        now = datetime.fromtimestamp(at, zone)
        due = now.replace(hour=3, minute=30, second=0)
        last = due if due <= now else due - timedelta(days=1)
        assert its.all()[0].made.timestamp() >= last.timestamp(), "that of the last time is there"
    days = [(each.astimezone(zone) - timedelta(hours=3, minutes=30)).date() for each in seen]
    assert len(days) == len(set(days)), "and none was made twice"
    assert len(its.all()) <= 3 + 2 + 2 + 2
