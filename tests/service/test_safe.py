"""What keeps a site safe, over HTTP and on the pins: interlocks, trips, guards, alarms, reflexes, reload, many clients at once."""

from __future__ import annotations

import random
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path
from typing import Any

import pytest

from cairnwind.client import CallerError, Site
from cairnwind.core.values.errors import BoardError
from cairnwind.service import codes
from tests.conftest import SITE, Running, eventually, standing

RULES = """
[output.store]
kind = "lock"
pin = "near:J2-12"
words = ["locked", "open"]

[output.left]
kind = "motor"
pin = "far:line-4"

[output.right]
kind = "motor"
pin = "near:J2-7"

[input.button]
kind = "contact"
pin = "near:J3-5"
words = ["out", "pressed"]

[input.heat]
kind = "analogue"
pin = "near:J3-10"
unit = "°C"
scale = [["0 V", 0], ["3.3 V", 100]]
stale = "1 s"
hysteresis = 2

[[interlock]]
name = "draught"
needs = "vent is on for 300 ms and door is closed"
outputs = ["kiln"]

[[interlock]]
name = "one way"
excludes = ["left", "right"]
gap = "30 ms"

[[interlock]]
name = "red button"
trip = "button is pressed"
outputs = "all"
reset = "keep"

[[interlock]]
name = "vent hours"
outputs = ["vent"]
budget = "10 h in any 24 h"

[[reflex]]
name = "light at the store"
while = "store is open"
do = "turn yard on"

[[reflex]]
name = "round one"
when = "gallery becomes on"
do = "turn gallery off for 1 s"

[[reflex]]
name = "round two"
when = "gallery becomes off"
do = "turn gallery on for 1 s"

[[alarm]]
name = "hot"
when = "heat is above 60 C"
severity = "urgent"
repeat = "300 ms"

[guard.store]
opens = "2 s"
"""
RULED = SITE + RULES


@pytest.fixture
def ruled(tmp_path: Path) -> Iterator[Running]:
    found = Running(tmp_path, RULED)
    found.link().set_input("door", False)
    eventually(lambda: found.site.input("door")["active"] is False)
    yield found
    if found.service.runtime.alive:
        found.end()


def on(running: Running, name: str) -> bool:
    confirmed = running.site.output(name)["confirmed"]
    return bool(confirmed and confirmed["on"])


def test_a_rule_is_shown_as_it_stands_part_by_part(ruled: Running) -> None:
    def rule(name: str) -> Any:
        return next(each for each in ruled.site.rules() if each["name"] == name)

    def parts(name: str) -> list[Any]:
        return [(part["depth"], part["text"], part["so"]) for part in rule(name)["parts"]]

    assert parts("draught") == [(0, "vent is on for 300 ms", False), (0, "door is closed", True)]
    assert rule("draught")["parts"][0]["instead"] == "vent is off"
    ruled.site.turn("vent", "on")
    counting: list[Any] = []

    def lasts() -> bool:
        found = rule("draught")["parts"][0]
        counting.extend([found] if "not yet" in found["instead"] else [])
        return bool(found["so"])

    eventually(lasts)
    for each in counting:
        assert each["expected"], "only time is missing: it is said when"
    ruled.link().set_input("door", True)
    eventually(lambda: parts("draught")[1] == (0, "door is closed", False))
    ruled.site.turn("yard", "on", lasting="until released")
    eventually(lambda: on(ruled, "yard"))
    assert rule("red button")["holds_back"] == []
    ruled.link().set_input("button", True)
    eventually(lambda: rule("red button")["state"] == "tripped")
    assert parts("red button") == [(0, "button is pressed", True)]
    assert sorted(rule("red button")["holds_back"]) == ["vent", "yard"], "nobody wants the others"


def test_a_refusal_says_what_is_missing_and_why_says_when_it_is_expected(ruled: Running) -> None:
    refused = ruled.http("POST", "/api/v1/claims", json={"output": "kiln", "setting": "on"})
    assert refused.status_code == 409
    assert "'draught' needs vent is on for 300 ms and door is closed; vent is off" in refused.json()["detail"]
    ruled.site.turn("vent", "on")
    waiting = ruled.site.turn("kiln", "on")
    assert waiting.outcome == "waiting"
    told = ruled.site.why("kiln")["sentence"]
    # which may be over on a busy machine before anybody has asked
    assert "; expected at " in told or ruled.site.output("kiln")["confirmed"]["on"]
    eventually(lambda: on(ruled, "kiln"))
    before = time.strftime("%Y-%m-%dT%H:%M:%S+00:00", time.gmtime(time.time() + 1))
    time.sleep(1.1)
    assert ruled.site.turn("vent", "off").outcome == "waiting", "the kiln goes off first"
    eventually(lambda: not on(ruled, "vent"))
    assert not on(ruled, "kiln")
    moves = [(line, level) for _, line, level in ruled.link().seen]
    vent, kiln = (ruled.service.site.outputs[name].pin.line for name in ("vent", "kiln"))
    assert moves.index((kiln, 0), 3) < len(moves) - 1 - moves[::-1].index((vent, 1_000_000)), (
        "on the pins, too"
    )
    assert ruled.site.why("kiln")["steps"][-1]["stage"] == "wanted on"
    then = ruled.site.why("kiln", before)
    assert then["sentence"].startswith("on: a person at the client")
    assert {step["stage"] for step in then["steps"]} >= {
        "wanted",
        "allowed",
        "driven",
        "confirmed",
        "command",
    }


def test_questions(ruled: Running) -> None:
    assert ruled.site.ask("vent is off and door is closed")["so"] is True
    no = ruled.site.ask("vent is on")
    assert (no["so"], no["instead"]) == (False, ["vent is off"])
    ruled.link("far").unplug()
    eventually(lambda: ruled.site.ask("yard is on")["so"] is None)
    with pytest.raises(CallerError, match="Did you mean 'vent'"):
        ruled.site.ask("vemt is on")
    with pytest.raises(CallerError, match="about a moment"):
        ruled.site.ask("vent becomes on")


def test_a_trip_holds_everything_over_a_restart_until_a_keeper_with_a_name_resets_it(ruled: Running) -> None:
    ruled.site.turn("yard", "on", lasting="until released")
    with ruled.site.hold("vent"):
        eventually(lambda: on(ruled, "vent"))
        ruled.link().set_input("button", True)
        eventually(lambda: not on(ruled, "vent") and not on(ruled, "yard"))
        assert ruled.site.output("vent")["gate"] == "trip"
    with pytest.raises(CallerError, match="still there: button is pressed"):
        ruled.site.reset("red button", "Anna")
    ruled.again()
    assert [trip["name"] for trip in ruled.site.trips()] == ["red button"]
    assert not on(ruled, "yard")
    operator = Site(ruled.url, ruled.service.keys.renew("bench", "operate"))
    for site, by, match in ((operator, "Ben", "only a keeper"), (ruled.site, " ", "Nobody is named")):
        with pytest.raises(CallerError, match=match):
            site.reset("red button", by)
    assert ruled.site.reset("red button", "Anna").outcome == "driving"
    eventually(lambda: on(ruled, "yard"))
    assert any("reset by Anna" in row["text"] for row in ruled.site.journal(limit=50))
    with pytest.raises(CallerError, match="no trip called"):
        ruled.site.reset("blue button", "Anna")


def test_a_reset_that_cannot_be_recorded_is_none(ruled: Running) -> None:
    ruled.site.turn("yard", "on", lasting="until released")
    ruled.link().set_input("button", True)
    eventually(ruled.site.trips)
    ruled.link().set_input("button", False)
    eventually(lambda: not on(ruled, "yard"))
    ruled.service.runtime.writer.limit(1)
    for _ in range(60):
        answer = ruled.http("POST", "/api/v1/trips/red%20button/reset", json={"by": "A" * 60})
        if answer.status_code == 507:
            break
    assert answer.status_code == 507, "the disk is full somewhere on the way"
    eventually(lambda: not on(ruled, "yard"))
    assert ruled.site.facts()["trips"] or ruled.site.facts()["all_stop"]["stopped"]


# --- guards ---------------------------------------------------------------------------------------------------


def test_a_passcode_opens_for_its_time_and_no_rank_gets_past_it(ruled: Running) -> None:
    ruled.site.give_code("store", "anna", "4711x")
    for how in ({}, {"rank": "hand", "lease": "1 s"}):
        refused = ruled.http("POST", "/api/v1/claims", json={"output": "store", "setting": "on", **how})
        assert "guarded by a passcode" in refused.json()["detail"]
    assert ruled.site.open("store", "4711x").outcome == "driving"
    eventually(lambda: on(ruled, "store") and on(ruled, "yard"))
    eventually(lambda: not on(ruled, "store") and not on(ruled, "yard"))
    refused = ruled.http("POST", "/api/v1/claims", json={"output": "store", "setting": "on"})
    assert "guarded by a passcode" in refused.json()["detail"], "again"
    ruled.site.open("store", "4711x")
    eventually(lambda: on(ruled, "store"))
    ruled.again()
    assert not on(ruled, "store"), "also when the service dies in between"
    stored = b"".join(path.read_bytes() for path in (ruled.folder / "state").iterdir() if path.is_file())
    assert b"4711x" not in stored
    assert b"argon2id" in stored


def test_wrong_codes_are_counted_make_one_wait_and_tell_nothing(
    ruled: Running, monkeypatch: pytest.MonkeyPatch
) -> None:
    for owner, code in (("anna", "4711x"), ("ben", "8080y")):
        ruled.site.give_code("store", owner, code)
    now = standing(monkeypatch, codes)
    tried: list[str] = []
    original = codes.Codes._fits
    monkeypatch.setattr(
        codes.Codes, "_fits", lambda self, hash, code: tried.append(code) or original(self, hash, code)
    )
    details = set()
    for wrong in ("4711y", "0000"):
        details.add(ruled.http("POST", "/api/v1/outputs/store/open", json={"code": wrong}).json()["detail"])
    assert len(details) == 1
    assert tried == ["4711y"] * 2 + ["0000"] * 2, "every code is tried, whichever it is"
    assert ruled.http("POST", "/api/v1/outputs/store/open", json={"code": "8080y"}).status_code == 200
    assert tried[4:] == ["8080y"] * 2, "also after the right one was found"
    answers = [
        ruled.http("POST", "/api/v1/outputs/store/open", json={"code": f"{n}000"}).status_code
        for n in range(5)
    ]
    assert answers == [409, 409, 409, 429, 429]
    again = ruled.http("POST", "/api/v1/outputs/store/open", json={"code": "4711x"})
    assert again.status_code == 429, "the right one waits too"
    assert "Wait" in again.json()["remedy"]
    operator = Site(ruled.url, ruled.service.keys.renew("bench", "operate"))
    assert operator.open("store", "4711x").outcome == "driving", "nobody else is kept out"
    now[0] += 1.1
    assert ruled.site.open("store", "4711x").outcome == "driving", "and the wait ends"
    assert not any(
        code in str(row) for row in ruled.site.journal(limit=100) for code in ("4711x", "4711y", "8080y")
    )


def test_many_guesses_at_once_are_as_many_as_one_after_the_other(
    ruled: Running, monkeypatch: pytest.MonkeyPatch
) -> None:
    standing(monkeypatch, codes)
    ruled.site.give_code("store", "anna", "4711x")

    def guess(number: int) -> int:
        return ruled.http("POST", "/api/v1/outputs/store/open", json={"code": f"{number:04d}z"}).status_code

    with ThreadPoolExecutor(12) as pool:
        answers = list(pool.map(guess, range(12)))
    assert (answers.count(409), answers.count(429)) == (codes.FREE["source"], 12 - codes.FREE["source"])


def test_codes_have_owners_hours_and_an_end(ruled: Running) -> None:
    ruled.site.give_code("store", "once", "1234a", once=True)
    assert ruled.site.open("store", "1234a").outcome == "driving"
    with pytest.raises(CallerError, match="does not open it"):
        ruled.site.open("store", "1234a")
    hour = (time.localtime().tm_hour + 3) % 24
    ruled.site.give_code("store", "later", "1234b", from_=f"{hour:02d}:00", to=f"{(hour + 1) % 24:02d}:00")
    ruled.site.give_code("store", "gone", "1234c", until="2020-01-01")
    with pytest.raises(CallerError, match="does not open it"):
        ruled.site.open("store", "1234b")
    assert [code["owner"] for code in ruled.site.codes("store")] == ["gone", "later"], "used up, never shown"
    for body, match in (({"code": "12"}, "4 to 64"), ({"code": "7777"}, "over and over"), ({"code": "1234b"}, "cannot be used"),
                        ({"code": "99887", "days": ["xx"]}, "no days"), ({"code": "99887", "from": "7"}, "no time of day"), ({"code": "99887", "until": "soon"}, "is not a time")):  # fmt: skip
        bad = ruled.http("PUT", "/api/v1/outputs/store/codes/eve", json=body)
        assert bad.status_code == 400
        assert match in bad.json()["detail"]
    ruled.site.drop_code("store", "later")
    operator = Site(ruled.url, ruled.service.keys.renew("bench", "operate"))
    with pytest.raises(CallerError, match="may only operate"):
        operator.codes("store")
    with pytest.raises(CallerError, match="no guard"):
        ruled.site.open("vent", "1234")


# --- what follows ---------------------------------------------------------------------------------------------


def test_an_alarm_repeats_until_somebody_hears_it_and_a_silent_sensor_is_unknown(ruled: Running) -> None:
    ruled.link().put_volts(44, 2.5)
    eventually(lambda: ruled.site.alarms() and ruled.site.alarms()[0]["times"] >= 3)
    assert ruled.site.facts()["alarms"][0]["severity"] == "urgent"
    ruled.again()
    assert ruled.site.alarms()[0]["name"] == "hot", "over a restart"
    some = ruled.site.new_key("some", "operate", only=["gallery"])
    heard = ruled.http("POST", "/api/v1/alarms/hot/acknowledgement", key=some, json={"by": "Bo"})
    assert heard.status_code == 403, "it is about more than its outputs"
    ruled.site.acknowledge("hot", "Anna")
    ruled.link().put_volts(44, 0.5)
    eventually(lambda: ruled.site.input("heat")["value"] is not None)
    eventually(lambda: ruled.site.alarms() == [])
    eventually(lambda: ruled.site.input("heat")["state"] == "unknown")
    eventually(
        lambda: any("not heard from for 1 s" in row["text"] for row in ruled.site.journal(subject="heat"))
    )


def test_reflexes_that_chase_each_other_are_suspended_and_say_so(ruled: Running) -> None:
    ruled.site.turn("gallery", "50 %", lasting="until released")
    ruled.site.release("gallery")
    eventually(lambda: ruled.site.facts()["suspended"])
    (each,) = ruled.site.facts()["suspended"]
    assert "comes back to it: 'round" in each["why"]
    count = ruled.link().writes
    time.sleep(1.5)
    assert ruled.link().writes - count <= 2, "it is quiet then"
    assert any(rule["state"].startswith("suspended") for rule in ruled.site.rules())
    assert ruled.site.resume(each["reflex"]).reason == f"'{each['reflex']}' works again"


# --- reload, and many at once ---------------------------------------------------------------------------------


def test_a_reload_takes_new_rules_and_leaves_everything_where_the_file_is_wrong(ruled: Running) -> None:
    ruled.site.turn("yard", "on", lasting="until released")
    ruled.site.turn("gallery", "70 %", lasting="until released")
    text = RULED + '\n[[interlock]]\nname = "not both"\nexcludes = ["yard", "gallery"]\n'
    ruled.site_file.write_text(text.replace("vent is on for 300 ms", "vemt is on"))
    with pytest.raises(CallerError, match=r"site.toml:\d+:\d+: There is nothing called 'vemt'"):
        ruled.site.reload()
    ruled.site_file.write_text(text + '[service]\ntls = "self-made"\n')
    with pytest.raises(CallerError, match=r"otherwise of its \[service\] tls"):
        ruled.site.reload()
    assert on(ruled, "yard")
    assert on(ruled, "gallery"), "nothing was changed"
    ruled.site_file.write_text(text)
    assert ruled.site.reload().outcome == "driving"
    eventually(lambda: on(ruled, "yard") != on(ruled, "gallery"))
    assert "not both" in {rule["name"] for rule in ruled.site.rules()}
    operator = Site(ruled.url, ruled.service.keys.renew("bench", "operate"))
    with pytest.raises(CallerError, match="may only operate"):
        operator.reload()


def test_two_ways_are_never_on_at_once_whoever_asks_and_whatever_the_boards_do(ruled: Running) -> None:
    """Clients in threads, a slow board, lost answers, pulled cables and reloads; the pins are watched as they move."""
    lines = {("far", 4): "left", ("near", ruled.service.site.outputs["right"].pin.line): "right"}
    pins: dict[str, bool] = {"left": False, "right": False}
    off_at = dict.fromkeys(pins, 0.0)
    wrong: list[str] = []
    lock = threading.Lock()

    def watch(board: str) -> Any:
        def moved(line: int, level: int) -> None:
            name = lines.get((board, line))
            if name is None:
                return
            with lock:
                other = "right" if name == "left" else "left"
                pins[name] = level > 0
                if level and pins[other]:
                    wrong.append(f"{name} on while {other} is")
                if level and time.monotonic() - off_at[other] < 0.03:
                    wrong.append(f"{name} on {time.monotonic() - off_at[other]:.4f} s after {other}")
                if not level:
                    off_at[name] = time.monotonic()

        return moved

    for board in ("near", "far"):
        ruled.link(board).watchers.append(watch(board))
    over = time.monotonic() + 4

    def client(seed: int) -> int:
        chance, site, done = random.Random(seed), Site(ruled.url, ruled.key), 0
        while time.monotonic() < over:
            with suppress(CallerError, BoardError):
                name = chance.choice(("left", "right"))
                if chance.random() < 0.2:
                    with site.hold(name, lease="200 ms"):
                        time.sleep(0.05)
                else:
                    site.turn(name, chance.choice(("on", "off", "off")))
                done += 1
        return done

    def trouble() -> None:
        chance = random.Random(1)
        far = ruled.link("far")
        while time.monotonic() < over:
            time.sleep(0.15)
            match chance.randrange(5):
                case 0:
                    far.unplug()
                    time.sleep(0.1)
                    far.plug()
                case 1:
                    far.trouble.failures = 2
                case 2:
                    far.trouble.silent = True
                    time.sleep(0.1)
                    far.trouble.silent = False
                case 3:
                    ruled.site.reload()
                case _:
                    far.answers_after = chance.choice((1, 20, 60)) * 1_000_000

    with ThreadPoolExecutor(6) as pool:
        troubled = pool.submit(trouble)
        done = sum(pool.map(client, range(5)))
        troubled.result()
    assert wrong == []
    assert done > 50


PROOF = """
[input.kiln-aux]
kind = "contact"
pin = "near:J3-8"
words = ["open", "closed"]
"""


def test_a_contactor_shows_by_itself_that_it_is_on(tmp_path: Path) -> None:
    text = SITE + PROOF
    running = Running(tmp_path, text)
    site, link = running.site, running.link()
    assert site.turn("kiln", "on", wait="5 s").ending == "confirmed"
    proved = text.replace(
        "[output.kiln]", '[output.kiln]\nproof = "kiln-aux is closed"\nproof_within = "200 ms"'
    )
    running.site_file.write_text(proved.replace("kiln-aux is closed", "kiln-aux is shut"))
    with pytest.raises(CallerError, match="'shut'"):
        site.reload()
    running.site_file.write_text(proved)
    assert "output kiln is said otherwise: its proof and proof_within" in site.reload().reason
    eventually(lambda: site.output("kiln")["confirmed"] is None)
    assert "on is not proved: it is not so that kiln-aux is closed" in site.why("kiln")["sentence"]
    link.set_input("kiln-aux", True)
    eventually(lambda: site.output("kiln")["state"] == "confirmed", within=10)
    assert site.output("kiln")["known"] == "proved"
    site.turn("kiln", "off")
    eventually(
        lambda: "its proof ('kiln-aux is closed') shows on instead of off" in site.why("kiln")["sentence"]
    )
    assert "is on when kiln-aux is closed, within 200 ms" in running.cli("rules").stdout
    link.set_input("kiln-aux", False)
    eventually(lambda: not site.output("kiln")["confirmed"]["on"])
    running.end()
