"""A disk that fails, hangs or comes back, and a clock that was wrong for a second: what is carried out, and what is said."""

from __future__ import annotations

import collections
import contextlib
import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import pytest

from cairnwind.client import Trouble
from cairnwind.core.values.settings import FULL
from cairnwind.service import diskwatch
from cairnwind.service import runtime as runtime_module
from cairnwind.store import writer as writer_module
from tests.conftest import Running, eventually

CLAIMS = "/api/v1/claims"


def failing(
    running: Running, how: Callable[[Any], str | None] = lambda group: "disk I/O error"
) -> Callable[[], None]:
    """From now on nothing can be committed; returns what mends that."""
    writer = running.service.runtime.writer
    original = writer._commit
    writer._commit = how  # type: ignore[method-assign]

    def mend() -> None:
        writer._commit = original  # type: ignore[method-assign]

    return mend


def hanging(running: Running) -> Callable[[], None]:
    """From now on no commit comes to its end; returns what mends that."""
    over = threading.Event()
    original = running.service.runtime.writer._commit

    def hang(group: Any) -> Any:
        over.wait(20)
        return original(group)

    works = failing(running, hang)

    def mend() -> None:
        works()
        over.set()

    return mend


def test_the_first_on_that_meets_a_failing_disk_is_taken_back_before_it_is_answered(running: Running) -> None:
    running.site.turn("gallery", "40 %")
    mend = failing(running)
    once = {"Idempotency-Key": "k1"}
    answer = running.http("POST", CLAIMS, json={"output": "vent", "setting": "on"})
    assert (answer.status_code, answer.json()["outcome"]) == (507, "not recorded")
    assert not running.site.output("vent")["by"]
    eventually(lambda: running.link().level("vent") == FULL)
    mend()
    eventually(lambda: running.site.facts()["recording"])
    mend = failing(running)
    dimmed = running.http("POST", CLAIMS, json={"output": "gallery", "setting": "70 %"}, headers=once)
    assert dimmed.json()["outcome"] == "not recorded"
    refused = running.http(
        "POST", CLAIMS, json={"output": "vent", "setting": "on"}, headers={"Idempotency-Key": "k2"}
    )
    assert "the journal cannot be written" in refused.json()["reason"]
    (
        eventually(lambda: running.site.output("gallery")["confirmed"]["words"] == "40 %"),
        "what it replaced stands again",
    )
    mend()
    eventually(lambda: running.site.facts()["recording"])
    running.site.stop()
    running.site.reset_stop()
    eventually(lambda: running.site.output("gallery")["confirmed"]["words"] == "40 %")
    assert running.link().level("vent") == FULL, "it does not come on again"
    for key, output, setting in (("k1", "gallery", "70 %"), ("k2", "vent", "on")):
        again = running.http(
            "POST", CLAIMS, json={"output": output, "setting": setting}, headers={"Idempotency-Key": key}
        )
        assert again.json()["outcome"] == "driving", "the same key sent again is a new command"


def test_timers_and_phrases_that_were_not_recorded_come_to_nothing(running: Running) -> None:
    mend = failing(running)
    said = running.http("POST", "/api/v1/phrases", json={"phrase": "turn vent and gallery on"})
    assert said.json()["outcome"] == "not recorded"
    eventually(lambda: running.link().level("vent") == FULL and running.link().level("gallery") == 0)
    mend()
    eventually(lambda: running.site.facts()["recording"])
    mend = failing(running)
    assert (
        running.http("POST", "/api/v1/phrases", json={"phrase": "in 1 s turn vent on"}).json()["outcome"]
        == "not recorded"
    )
    assert running.site.plan()["timers"] == []
    mend()


def test_a_disk_that_hangs_is_noticed_and_holds_up_no_stop(
    running: Running, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(writer_module, "LATE", 0.3)
    running.site.turn("vent", "on")
    mend = hanging(running)
    with ThreadPoolExecutor() as pool:
        first = pool.submit(running.http, "POST", CLAIMS, json={"output": "gallery", "setting": "on"})
        assert first.result(10).json()["outcome"] == "not recorded", "it is answered though the disk is not"
        assert "has not come to its end" in running.site.facts()["trouble"]
        eventually(lambda: running.link().level("gallery") == 0)
        began = time.monotonic()
        stop = running.http("PUT", "/api/v1/all-stop")
        assert stop.json()["outcome"] == "not recorded"
        assert time.monotonic() - began < 5
        assert running.link().level("vent") == FULL
    mend()
    eventually(lambda: running.site.facts()["recording"])
    assert running.site.facts()["all_stop"]["stopped"]
    (
        eventually(lambda: any(row["text"].startswith("all-stop") for row in running.site.journal())),
        "all of it was kept",
    )


def test_a_slow_disk_holds_up_answers_and_no_pin(running: Running) -> None:
    """Whoever is answered was recorded; the load (of an active-low pin) does not wait for that; and many wait together, not one after the other."""
    writer, link, site = running.service.runtime.writer, running.link(), running.site
    writer.slow = 0.3
    for setting in ("on", "off"):
        link.seen.clear()
        outcome = site.turn("vent", setting)
        answered = time.monotonic_ns()
        assert outcome.outcome == "driving"
        assert [(at < answered - 100_000_000, level) for at, _, level in link.seen] == [
            (True, FULL if setting == "off" else 0)
        ]
    before = writer.commits
    with ThreadPoolExecutor(16) as pool:
        said = list(pool.map(lambda n: site.turn("gallery", f"{n} %").sequence, range(1, 49)))
    assert writer.commits - before < 20
    writer.slow = 0.0
    assert set(said) <= {row["sequence"] for row in site.journal(limit=1000)}
    assert site.facts()["recording"]


def test_what_falls_due_while_the_disk_hangs_is_taken_back_and_the_rest_goes_on(
    running: Running, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(writer_module, "LATE", 0.5)
    running.http("POST", "/api/v1/phrases", json={"phrase": "in 1 s turn vent on"})
    running.http("POST", "/api/v1/phrases", json={"phrase": "in 1 s turn gallery on"})
    mend = hanging(running)
    eventually(lambda: not running.site.facts()["recording"])
    assert running.service.runtime.failure == ""
    eventually(lambda: running.link().level("vent") == FULL)
    assert not running.site.output("vent")["by"], "nobody could have seen in the journal why it was on"
    mend()
    eventually(lambda: running.site.facts()["recording"])
    assert running.site.turn("vent", "on").outcome == "driving"
    eventually(lambda: running.link().level("gallery") == FULL)


def one_wrong_second(running: Running) -> None:
    """A row of the year 2029, as a clock that was wrong for a moment leaves it."""
    wall = time.time_ns() + 3 * 365 * 86_400 * 10**9
    number = running.service.runtime.engine.state.journal.sequence
    running.service.runtime.engine.state.journal.sequence += 1
    running.service.runtime.writer.put_and_wait(
        [("journal", (number + 1, wall, "change", "vent", "vent is off", "", "", "{}"))]
    )
    running.again()


def test_one_wrong_second_is_said_everywhere_and_ended_by_a_keeper(running: Running) -> None:
    running.site.add_schedule(name="late", do="turn yard on", from_="00:00", for_="24 h", repeat="FREQ=DAILY")
    eventually(lambda: running.site.output("yard")["confirmed"]["on"])
    one_wrong_second(running)
    text = running.site.facts()["clock"]
    assert "behind the journal" in text
    look, plan, clock = running.cli("look").stdout, running.cli("plan").stdout, running.cli("clock").stdout
    for said in (look, plan, clock):
        assert "cairnwind clock --accept --by NAME" in said.replace("\n", " ")
    assert "behind the journal" in str(running.site.why("yard"))
    assert running.http("GET", "/healthz").json()["clock"] == text
    operator = running.site.new_key("operator", "operate")
    assert (
        running.http("POST", "/api/v1/clock/acceptance", json={"by": "Ben"}, key=operator).status_code == 403
    )
    nobody = running.http("POST", "/api/v1/clock/acceptance", json={"by": " "})
    assert nobody.json()["detail"] == "Nobody is named."
    assert "accepted by Anna" in running.cli("clock", "--accept", "--by", "Anna").stdout
    assert eventually(lambda: running.site.output("yard")["confirmed"]["on"]), (
        "the plan is where it should be"
    )
    assert running.cli("clock").stdout.startswith("The clock is believed")
    running.again()
    assert running.site.facts()["clock"] == "", "also after the next start"
    eventually(lambda: running.site.output("yard")["confirmed"]["on"])


def test_a_clock_that_the_kernel_has_synchronised_is_believed(
    running: Running, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(runtime_module, "synchronised", lambda: True)
    one_wrong_second(running)
    eventually(lambda: running.site.facts()["clock"] == "")
    assert "the kernel, which has it synchronised" in str(running.site.journal(kind="clock"))


def test_what_is_to_be_feared_of_the_disk_is_said_before_it_hurts(
    running: Running, monkeypatch: pytest.MonkeyPatch
) -> None:
    runtime, site = running.service.runtime, running.site
    usage = collections.namedtuple("usage", "total used free")
    said = lambda: [row["text"] for row in site.journal(kind="journal")]  # noqa: E731
    for free, feared in (
        (600, ""),
        (400, "its disk has less than 500 MB left"),
        (300, "its disk has less than 500 MB left"),
        (90, "its disk has less than 100 MB left"),
        (700, ""),
    ):
        monkeypatch.setattr(
            diskwatch.shutil, "disk_usage", lambda folder, free=free: usage(10**9, 0, free * 10**6)
        )
        runtime._also(time.time_ns())
        eventually(lambda feared=feared: site.facts()["trouble"] == feared)
        assert site.facts()["recording"], "it is carried out all the same"
        assert (feared in running.cli("look", "--problems").stdout) == bool(feared) or not feared
    assert len(said()) == 3, "each once, and that it is well again"
    assert said()[0] == "the disk of the journal is well again"
    runtime.writer.slow = diskwatch.SLOW + 0.05
    for _ in range(30):
        site.turn("gallery", "10 %")
        site.turn("gallery", "20 %")
        if len(runtime.writer.times()) == 24 and sorted(runtime.writer.times())[12] > diskwatch.SLOW:
            break
    runtime.writer.slow = 0.0
    runtime._also(time.time_ns())
    eventually(lambda: "more than 0.25 s for a commit" in site.facts()["trouble"])
    mend = failing(running)
    with contextlib.suppress(Trouble):
        site.turn("gallery", "30 %")
    eventually(lambda: not site.facts()["recording"])
    runtime._also(time.time_ns())
    assert "disk I/O error" in site.facts()["trouble"], "what is worse is not hidden by it"
    mend()
    eventually(lambda: site.facts()["recording"])
