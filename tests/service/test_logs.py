"""The log of a service that runs: one id from a request to its row, levels that change, and what is handed to who looks into it."""

from __future__ import annotations

import json
import zipfile
from collections.abc import Iterator
from pathlib import Path

import pytest

from cairnwind.client import CallerError
from cairnwind.service import logs
from tests.conftest import Running, eventually

SITE = """
site = "Shed"
timezone = "Europe/London"
[board.near]
link = "simulated"
lines = 8
[output.lamp]
kind = "lamp"
pin = "near:line-0"
[output.store]
kind = "lock"
pin = "near:line-1"
[guard.store]
opens = "1 s"
[remote.hook.far]
address = "http://127.0.0.1:9/told"
secret = "hook-word"
"""


@pytest.fixture
def running(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Running]:
    monkeypatch.setenv("CAIRNWIND_SECRET_HOOK_WORD", "swordfish")
    found = Running(tmp_path, SITE)
    logs.log_to(str(tmp_path / "log"))
    yield found
    found.end()
    for part in logs.parts():
        logs.logging.getLogger(part).setLevel(logs.logging.NOTSET)


def test_one_id_goes_from_the_request_to_the_row_and_the_log(running: Running) -> None:
    site = running.site
    last = max((each["number"] for each in site.log()["lines"]), default=0)
    quiet = running.http(
        "POST", "/api/v1/claims", json={"output": "lamp", "setting": "on"}, headers={"X-Request-Id": "before"}
    )
    assert quiet.headers["X-Request-Id"] == "before"
    assert not any(each["line"].get("request") == "before" for each in site.log(last)["lines"]), (
        "at info it says nothing of it"
    )
    assert site.set_log("debug", "cairnwind.http")["cairnwind.http"] == "debug"
    told = running.http(
        "POST",
        "/api/v1/claims",
        json={"output": "lamp", "setting": "off"},
        headers={"X-Request-Id": "job-7:a"},
    )
    row = next(each for each in site.journal(limit=10) if each["sequence"] == told.json()["sequence"])
    assert row["command"].startswith("job-7:a.")
    line = eventually(
        lambda: next(
            (each["line"] for each in site.log(last)["lines"] if each["line"].get("request") == "job-7:a"),
            None,
        )
    )
    assert (line["method"], line["path"], line["status"], line["key"]) == (
        "POST",
        "/api/v1/claims",
        told.status_code,
        "first key",
    )
    assert line["ms"] > 0
    written = [json.loads(each) for each in (running.folder / "log").read_text().splitlines()]
    assert line in written
    forged = running.http("GET", "/api/v1/site", headers={"X-Request-Id": 'a"} forged'})
    assert len(forged.headers["X-Request-Id"]) == 12, "what is no id gets one"
    site.set_log("error", "cairnwind")
    assert set(site.log()["levels"].values()) == {"error"}
    for level, part, said in (
        ("loud", "cairnwind", "is no level"),
        ("info", "cairnwind.nobody", "no part of the log"),
    ):
        with pytest.raises(CallerError, match=said):
            site.set_log(level, part)
    assert running.http("GET", "/api/v1/log", key=site.new_key("tablet", "operate")).status_code == 403


def test_the_command_line_shows_it_and_what_is_wrong_since_when(running: Running) -> None:
    assert running.cli("log", "--level", "debug", "--part", "cairnwind.http").stdout.count(": debug\n") == 1
    running.cli("turn", "lamp", "on")
    assert "method=POST path=/api/v1/claims" in running.cli("log", "-n", "500").stdout
    assert json.loads(running.cli("log", "-n", "1", "--json").stdout)["level"]
    running.link().unplug("the cable")
    eventually(lambda: not running.site.boards()[0]["up"])
    told = running.cli("doctor")
    assert told.returncode == 1
    assert "The service of Shed:" in told.stdout
    assert "board near  lost: the cable  since " in told.stdout
    assert "    cairnwind look near" in told.stdout
    assert any(each.get("since") for each in json.loads(running.cli("doctor", "--json").stdout))


def test_a_bundle_has_what_is_known_and_nothing_that_opens_anything(running: Running, tmp_path: Path) -> None:
    site = running.site
    key = site.new_key("tablet", "operate")
    site.give_code("store", "anna", code="730512")
    site.set_log("debug")
    with pytest.raises(CallerError):
        site.open("store", "999777")
    site.open("store", "730512")
    link = running.service.sign_in_link()
    to = tmp_path / "it.zip"
    done = running.cli("doctor", "--bundle", str(to))
    assert "nothing that opens anything" in done.stdout
    assert to.stat().st_mode & 0o077 == 0
    with zipfile.ZipFile(to) as archive:
        told = {name: archive.read(name).decode() for name in archive.namelist()}
    assert json.loads(told["left-out.json"]) == {}
    assert json.loads(told["outputs.json"])[0]["name"] == "lamp"
    assert told["site.toml"] == SITE
    assert "cairnwind_commands_total" in told["metrics.txt"]
    assert len(json.loads(told["journal.json"])) > 5
    for secret in (key, running.key, "730512", "999777", "swordfish", link.rpartition("=")[2]):
        assert not any(secret in text for text in told.values()), secret
    assert running.cli("doctor", str(running.site_file), "--bundle", str(tmp_path / "no.zip")).returncode == 2
