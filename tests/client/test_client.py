"""The client library against a running service."""

from __future__ import annotations

import queue
import threading
import time
from pathlib import Path

import pytest

from cairnwind.client import BoardError, CallerError, Site
from cairnwind.core.values.settings import FULL
from tests.conftest import Running, eventually


def test_it_finds_the_service_sets_and_reads(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("CAIRNWIND_STATE", str(running.folder / "state"))
    site = Site()
    outcome = site.turn("gallery", "40 %")
    assert (outcome.outcome, outcome.ending, outcome.words, outcome.output) == (
        "driving",
        "confirmed",
        "40 %",
        "gallery",
    )
    assert site.output("gallery")["confirmed"]["level"] == 40
    assert site.turn("gallery", 55.5).words == "55.5 %"
    assert site.turn("vent", True).words == "on"
    assert "a person at the client (first key) wants it 55.5 %" in site.why("gallery")["sentence"]
    assert site.journal("gallery", limit=1)[0]["subject"] == "gallery"
    assert {each["name"] for each in site.boards()} == {"near", "far"}
    assert site.release("gallery").reason.startswith("released a person")
    elsewhere = Site(running.url, running.key)
    assert elsewhere.facts()["name"] == "Test bench"
    site.lock("vent", "red", "belt", until="2099-01-01T12:00")
    assert site.facts()["lockouts"][0]["until"].startswith("2099-01-01T12:00")
    with pytest.raises(CallerError) as caught:
        site.turn("vent", "on")
    assert (caught.value.code, "tag 'red': belt" in caught.value.sentence) == ("refused", True)
    site.unlock("vent", "red")
    running.link("far").unplug()
    with pytest.raises(BoardError) as lost:
        site.turn("yard", "on")
    assert lost.value.code == "unreachable"


def test_nobody_there_is_said_in_words(tmp_path: Path, running: Running) -> None:
    with pytest.raises(CallerError) as caught:
        Site(state=tmp_path / "empty")
    assert caught.value.code == "no-service"
    assert str(tmp_path / "empty") in caught.value.sentence
    with pytest.raises(CallerError) as wrong:
        Site(running.url, "guess").facts()
    assert wrong.value.code == "key"
    running.end()
    with pytest.raises(CallerError) as gone:
        running.site.facts()
    assert gone.value.code == "no-service"


def test_a_hold_lasts_as_long_as_its_block_and_no_longer(running: Running) -> None:
    with running.site.hold("gallery", "30 %") as held:
        assert running.link().level("gallery") == 300_000
        time.sleep(1.6)  # longer than the lease
        assert running.link().level("gallery") == 300_000
        assert held.change("60 %").ending == "confirmed"
        assert running.site.turn("gallery", "10 %").outcome == "waiting", "a person does not outrank a hand"
        assert running.link().level("gallery") == 600_000
    eventually(lambda: running.link().level("gallery") == 100_000)
    with pytest.raises(RuntimeError), running.site.hold("vent"):
        assert running.link().level("vent") == 0
        raise RuntimeError("the program failed")
    eventually(lambda: running.link().level("vent") == FULL)


def test_a_hold_whose_program_hangs_ends_with_its_lease_and_one_that_is_stopped_says_so(
    running: Running,
) -> None:
    hold = running.site.hold("vent", lease="200 ms")
    hold.__enter__()
    hold._over.set()  # as if the program were frozen: nobody renews any more
    eventually(lambda: running.link().level("vent") == FULL, within=2)
    with running.site.hold("kiln", lease="200 ms") as held:
        running.site.stop("smoke")
        assert running.link().level("kiln") == 0
        eventually(lambda: held.lost is not None)
        assert "no claim" in str(held.lost)


def test_changes_come_as_they_happen_and_go_on_after_a_restart(running: Running) -> None:
    seen: list[tuple[str, str, str]] = []

    def follow() -> None:
        for change in running.site.changes():
            level = (change.data.get("confirmed") or {}).get("words", "")
            seen.append((change.kind, change.name, level))
            if change.name == "gallery" and level == "99 %":
                return

    thread = threading.Thread(target=follow)
    thread.start()
    eventually(lambda: ("afresh", "", "") in seen)
    other = Site(state=running.folder / "state")
    other.turn("gallery", "40 %")
    eventually(lambda: ("output", "gallery", "40 %") in seen)
    running.end()
    running.begin()
    eventually(lambda: seen.count(("afresh", "", "")) == 2)
    Site(state=running.folder / "state").turn("gallery", "99 %")
    thread.join(5)
    assert not thread.is_alive()


def test_whoever_asks_is_told_when_something_becomes_so(running: Running) -> None:
    told: queue.SimpleQueue[str] = queue.SimpleQueue()
    site = running.site
    with pytest.raises(CallerError, match="nothing called 'galery'"):
        site.when("galery becomes on", told.put)
    watch = site.when("gallery becomes on", told.put)
    for _ in range(3):
        site.turn("gallery", "on")
        assert told.get(timeout=20) == "gallery becomes on"
        site.turn("gallery", "off")
        time.sleep(0.2)
    assert told.empty(), "once for each time"
    running.again()  # the service goes away and comes back
    site = running.site
    eventually(lambda: site.turn("gallery", "on").ending == "confirmed")
    assert told.get(timeout=20)
    site.turn("gallery", "off")
    watch.stop()
    assert not watch._thread.is_alive()
    site.turn("gallery", "on")
    time.sleep(0.3)
    assert told.empty(), "nothing is called after that"
    failing = site.when("gallery becomes off", lambda what: told.put(what) or 1 / 0)
    for _ in range(2):
        site.turn("gallery", "off")
        assert told.get(timeout=20) == "gallery becomes off", "what it raises does not end it"
        site.turn("gallery", "on")
        time.sleep(0.2)
    failing.stop()
