"""What goes wrong inside and around a service: crowds, crashes, lost keys, edited files, welded contacts."""

from __future__ import annotations

import threading
import time
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import pytest

from cairnwind.client import CallerError, Site
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import PERSON, TAKEOVER, Rank, Source
from cairnwind.core.values.settings import FULL, OFF, ON
from cairnwind.service import desk as desk_module
from cairnwind.service import lanes
from cairnwind.service.startup import clock
from tests.conftest import SITE, Running, eventually, standing


class Held:
    """Holds the engine's thread up, in the middle of a publication, for as long as the block lasts."""

    def __init__(self, running: Running) -> None:
        self.running = running
        self.gate, self.reached = threading.Event(), threading.Event()

    def __enter__(self) -> Held:
        publisher = self.running.service.runtime.publisher
        original = publisher.publish

        def slow(changed: Any) -> Any:
            publisher.publish = original  # type: ignore[method-assign]
            self.reached.set()
            self.gate.wait(10)
            return original(changed)

        publisher.publish = slow  # type: ignore[method-assign]
        threading.Thread(target=self.running.site.turn, args=("yard", "toggle")).start()
        assert self.reached.wait(5)
        return self

    def __exit__(self, *_: object) -> None:
        self.gate.set()


def test_in_a_crowd_ons_are_shed_in_words_and_offs_are_always_taken(
    running: Running, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(lanes, "MOST_WAITING", 3)
    running.site.turn("kiln", "on")
    with ThreadPoolExecutor(8) as pool, Held(running) as held:
        waiting = [
            pool.submit(running.http, "POST", "/api/v1/claims", json={"output": "vent", "setting": "on"})
            for _ in range(3)
        ]
        eventually(lambda: len(running.service.runtime.lanes._second) == 3)
        shed = running.http("POST", "/api/v1/claims", json={"output": "vent", "setting": "on"})
        assert (shed.status_code, shed.json()["code"]) == (503, "busy")
        assert "Offs and all-stop are always taken" in shed.json()["remedy"]
        stop = pool.submit(running.http, "PUT", "/api/v1/all-stop")
        first = running.service.runtime.lanes._first
        eventually(lambda: any(isinstance(item.event, ev.AllStop) for item in first))
        held.gate.set()
        assert stop.result().json()["outcome"] == "driving"
        assert [each.result().status_code for each in waiting] == [409, 409, 409], "the stop came first"
    assert running.link().level("kiln") == 0
    assert running.link().level("vent") == FULL


def test_releases_are_never_shed_and_changes_of_a_hold_are(
    running: Running, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What lets go comes first and is not counted; a hold that asks for another level is a wish like any other."""
    monkeypatch.setattr(lanes, "MOST_WAITING", 3)
    held_claim = running.http(
        "POST", "/api/v1/claims", json={"output": "gallery", "setting": "20 %", "lease": "60 s"}
    ).json()
    number = held_claim["claim"]["id"]
    running.site.turn("kiln", "on")
    with ThreadPoolExecutor(16) as pool, Held(running) as held:
        second = running.service.runtime.lanes._second
        early = pool.submit(
            running.http, "POST", "/api/v1/phrases", json={"phrase": "turn kiln on and vent on"}
        )
        eventually(lambda: len(second) == 1)
        waiting = [
            pool.submit(running.http, "POST", "/api/v1/claims", json={"output": "vent", "setting": "on"})
            for _ in range(2)
        ]
        eventually(lambda: len(second) == 3)
        changed = running.http("PATCH", f"/api/v1/claims/{number}", json={"setting": "90 %"})
        assert (changed.status_code, changed.json()["code"]) == (503, "busy")
        first = running.service.runtime.lanes._first
        kept = pool.submit(running.http, "PATCH", f"/api/v1/claims/{number}", json={"setting": "20 %"})
        let_go = pool.submit(running.http, "DELETE", "/api/v1/outputs/kiln/claim")
        said = pool.submit(running.http, "POST", "/api/v1/phrases", json={"phrase": "turn vent off"})
        eventually(lambda: len(first) == 3)
        held.gate.set()
        assert all(each.result().status_code < 300 for each in (kept, let_go, said, early, *waiting))
    assert running.link().level("kiln") == 0, "the release was the last word on it, and so is not undone"
    assert running.link().level("vent") == FULL, "and so was the off"


def test_a_key_is_counted_for_what_it_wants_and_not_for_what_it_lets_go(
    running: Running, monkeypatch: pytest.MonkeyPatch
) -> None:
    standing(monkeypatch, desk_module)
    operator = running.site.new_key("operator", "operate")
    codes = [
        running.http("DELETE", "/api/v1/outputs/vent/claim", key=operator).status_code for _ in range(150)
    ]
    assert 429 not in codes[:100]
    lets_go = Source("test", "operator")
    desk = running.service.desk
    for number in range(400):
        desk.permit(ev.Release(clock(), f"r{number}", lets_go, "vent", PERSON))
    with pytest.raises(CallerError, match="Too many commands"):
        for number in range(400):
            desk.permit(ev.Renew(clock(), f"c{number}", lets_go, "vent", "hand:x", ON))


def test_readers_are_served_while_the_engine_is_held_up(running: Running) -> None:
    with Held(running) as held, ThreadPoolExecutor(8) as pool:
        pages = [
            done.result() for done in [pool.submit(running.http, "GET", "/api/v1/outputs") for _ in range(40)]
        ]
        assert {page.status_code for page in pages} == {200}
        why = running.http("GET", "/api/v1/outputs/vent/why")
        assert why.status_code == 200
        assert why.elapsed.total_seconds() < 5, "what only the engine could add is left out"
        assert not held.gate.is_set()


def test_an_engine_that_dies_is_seen_from_outside(running: Running) -> None:
    runtime = running.service.runtime
    running.site.turn("vent", "on")

    def broken(event: Any) -> Any:
        raise RuntimeError("a bug")

    runtime.engine.handle = broken  # type: ignore[method-assign]
    running.service.machine.report(ev.Tick(clock()))
    eventually(lambda: not runtime.alive)
    health = running.http("GET", "/healthz")
    assert (health.status_code, "a bug" in health.json()["detail"]) == (500, True)
    assert running.http("GET", "/readyz").status_code == 503
    assert set(running.service.stop()) == {"vent", "kiln", "gallery", "yard"}, (
        "nobody can confirm it any more"
    )
    assert running.link().level("vent") == FULL, "safe all the same"


def test_a_lost_key_file_gets_a_new_key_and_the_old_one_is_void(running: Running) -> None:
    old = running.key
    running.end()
    (running.folder / "state" / "key").unlink()
    running.begin()
    assert running.key != old
    assert running.site.facts()["name"] == "Test bench"
    with pytest.raises(CallerError, match="No valid key"):
        Site(running.url, old).facts()


def test_a_claim_whose_output_left_the_site_file_is_ended_with_a_word(running: Running) -> None:
    running.site.turn("yard", "on")
    running.site.turn("gallery", "40 %")
    running.site.lock("yard", "red")
    running.end()
    without = SITE[: SITE.index("[output.yard]")] + SITE[SITE.index("[input.door]") :]
    running.site_file.write_text(without.replace('frequency = "800 Hz"\n', ""))
    running.begin()
    texts = [row["text"] for row in running.site.journal(limit=30)]
    assert any(
        text.startswith("yard: the claim of") and text.endswith("its output is no longer in the site file")
        for text in texts
    )
    assert any(
        text.startswith("gallery: the claim of") and text.endswith("its output no longer takes that")
        for text in texts
    )
    assert running.http("GET", "/api/v1/claims").json() == []
    running.again()
    assert [row["kind"] for row in running.site.journal(limit=30)].count("ended") == 2, "once"


def test_a_welded_contact_is_a_fault_everywhere(running: Running) -> None:
    running.link().trouble.stuck[41] = FULL  # the vent's relay does not move
    said = running.cli("turn", "vent", "on")
    assert said.returncode == 6
    assert "board near shows off instead of on, also after a correction" in said.stdout
    assert running.site.output("vent")["state"] == "fault"
    assert "off (fault)" in running.cli("look").stdout
    running.link().trouble.stuck.clear()
    assert running.site.turn("vent", "off").ending == "confirmed"
    assert running.site.turn("vent", "on").ending == "confirmed"


def test_a_failed_write_is_tried_again_and_all_stop_says_when_it_is_done(running: Running) -> None:
    running.site.turn("vent", "on")
    running.link().trouble.failures = 3
    begin = time.monotonic()
    outcome = running.site.stop("smoke")
    assert time.monotonic() - begin >= 0.1 + 0.2 + 0.4
    assert (outcome.ending, running.link().level("vent")) == ("confirmed", FULL)
    eventually(
        lambda: (
            [row["kind"] for row in running.site.journal("vent", limit=3)] == ["change", "failed", "change"]
        )
    )


def test_on_stop_keep_leaves_the_load_as_it_is(running: Running) -> None:
    running.end()
    running.site_file.write_text(
        SITE.replace('frequency = "800 Hz"', 'frequency = "800 Hz"\non_stop = "keep"')
    )
    running.begin()
    running.site.turn("gallery", "40 %")
    running.site.turn("vent", "on")
    running.end()
    assert (running.link().level("gallery"), running.link().level("vent")) == (400_000, FULL)


def test_a_slow_board_confirms_after_the_answer_and_a_newer_wish_supersedes(running: Running) -> None:
    """Two commands for one slow output: the first is superseded, its late confirmation changes nothing."""
    link = running.link("far")
    link.answers_after = 600_000_000
    with ThreadPoolExecutor(2) as pool:
        first = pool.submit(running.site.turn, "yard", "on", wait="5 s")
        eventually(lambda: running.site.output("yard")["state"] == "driving")
        second = running.site.turn("yard", "off", wait="5 s")
        assert first.result().ending == "superseded"
    assert second.ending == "confirmed"
    assert all(level == 0 for _, line, level in link.seen if line == 3), "the lamp never came on"


def test_the_same_commands_in_process_and_over_http_decide_alike(running: Running) -> None:
    """The surface adds nothing to a decision: outcome, reason and journal row are those of the engine."""
    runtime = running.service.runtime
    running.site.lock("vent", "red", "belt")
    over_http = running.http("POST", "/api/v1/claims", json={"output": "vent", "setting": "on"}).json()
    wish = ev.Wish(
        clock(),
        runtime.command_id(),
        Source("HTTP", "first key", "keep"),
        "vent",
        ON,
        Rank.PERSON,
        PERSON,
        TAKEOVER,
    )
    outcome, _ = runtime.submit(wish)
    assert (over_http["outcome"], over_http["reason"], over_http["remedy"]) == (
        outcome.outcome,
        outcome.reason,
        outcome.remedy,
    )
    mine, theirs = running.site.journal("vent", limit=2)
    assert (mine["text"], mine["source"], mine["data"]) == (theirs["text"], theirs["source"], theirs["data"])
    assert mine["sequence"] == outcome.sequence == theirs["sequence"] + 1
    assert outcome.setting != OFF


def test_what_boards_say_is_taken_in_the_order_in_which_they_said_it(running: Running) -> None:
    """Also what comes while a batch is under way: a contact that opened last is open, and no pulse is lost."""
    runtime, taken = running.service.runtime, list[bool]()
    gate = threading.Event()
    drain, one = runtime._drain, runtime._one

    def gated() -> None:
        gate.wait(1)
        drain()

    def watched(item: lanes.Item, *more: Any) -> None:
        if isinstance(item.event, ev.InputSeen):
            taken.append(item.event.active is True)
            if len(taken) == 1:
                running.link().set_input("door", False)
        one(item, *more)

    runtime._drain = gated  # type: ignore[method-assign]
    runtime._one = watched  # type: ignore[method-assign]
    time.sleep(0.3)  # the engine waits at the gate
    for active in (True, False, True):
        running.link().set_input("door", active)
    gate.set()
    eventually(lambda: len(taken) == 4)
    assert taken == [True, False, True, False]
    eventually(lambda: running.site.input("door")["active"] is False)
