"""The same commands through every way in: the same outcome, the same reason, the same row of the journal but for its source."""

from __future__ import annotations

import json
import re
import time
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from typing import Any
from urllib.parse import quote

import pytest

from cairnwind.commands import table as commands
from cairnwind.commands.declaring import Command
from cairnwind.commands.paths import filled
from cairnwind.commands.reading import holds, names
from cairnwind.core.values.errors import CallerError, Trouble
from tests.conftest import eventually
from tests.remotes.peers import Answer, Ways
from tests.service.test_surfaces import table

WAYS: dict[str, Callable[[Ways, str, str], Answer]] = {
    "HTTP": Ways.by_http,
    "client": Ways.by_client,
    "command line": Ways.by_cli,
    "phrase": Ways.by_phrase,
    "broker": Ways.by_broker,
    "serial line": Ways.by_line,
    "Modbus": Ways.by_modbus,
    "control surface": Ways.by_surface,
}
SOURCES = {name: name for name in WAYS} | {"phrase": "HTTP"}


@pytest.fixture(scope="module")
def ways(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Ways]:
    found = Ways(tmp_path_factory.mktemp("ways"))
    yield found
    found.end()


def free(ways: Ways) -> None:
    """Nobody claims anything, nothing is locked or stopped."""
    site = ways.running.site
    if site.facts()["all_stop"]["stopped"]:
        site.reset_stop()
    for tag in site.facts()["lockouts"]:
        site.unlock(tag["output"], tag["name"])
    eventually(lambda: all(claim["rank"] != "hand" for claim in site.call("GET", "/claims")))
    for claim in site.call("GET", "/claims"):
        site.release(claim["output"])


COMMANDS: dict[str, tuple[str, str, str, str]] = {
    # what it is: (output, setting, outcome, what the reason says)
    "accepted, on": ("gallery", "on", "driving", ""),
    "accepted, a level": ("gallery", "40 %", "driving", ""),
    "accepted, off": ("vent", "off", "driving", ""),
    "blocked by an interlock": ("kiln", "on", "refused", "'no fire without draught' needs"),
    "refused: not this key's output": ("yard", "on", "refused", "the key 'hands' may not command yard"),
    "refused: no such name": ("cellar", "on", "refused", ""),
    "refused: a value that it cannot take": ("vent", "40 %", "refused", ""),
    "the board is away": ("shed", "on", "unreachable", "board far does not answer"),
    "locked out": ("gallery", "on", "refused", "'ladder'"),
    "stopped": ("gallery", "on", "refused", "all-stop"),
    "off, while it is stopped": ("gallery", "off", "driving", ""),
}


def rows_of(ways: Ways, since: int, output: str) -> list[tuple[str, str, str]]:
    """What the journal has of commands about an output, but for their source."""
    rows = ways.running.site.journal(after=since, kind="command", subject=output)
    return [(row["text"], row["data"].get("outcome", ""), row["data"].get("reason", "")) for row in rows]


@pytest.mark.parametrize("what", COMMANDS)
def test_one_command_has_one_outcome_whichever_way_it_comes(what: str, ways: Ways) -> None:
    output, setting, outcome, reason = COMMANDS[what]
    site = ways.running.site
    told: dict[str, Answer] = {}
    written: dict[str, list[tuple[str, str, str]]] = {}
    for name, way in WAYS.items():
        free(ways)
        if what == "locked out":
            site.lock("gallery", "ladder", "new bulbs")
        if "stopped" in what:
            site.stop("a test")
        last = site.journal(limit=1)[0]["sequence"]
        if setting == "off" and name == "control surface":
            continue  # letting go of what it does not hold is nothing to be told of
        told[name] = way(ways, output, setting)
        written[name] = rows_of(ways, last, output)
        sources = {row["source"] for row in site.journal(after=last, kind="command", subject=output)}
        assert sources <= {f"{SOURCES[name]} (hands)"}
    assert {name: answer.outcome for name, answer in told.items()} == dict.fromkeys(told, outcome)
    assert all(reason.lower() in answer.reason.lower() for answer in told.values()), told
    assert len({json.dumps(rows) for rows in written.values()}) == 1, written
    recorded = what not in ("refused: no such name", "refused: a value that it cannot take")
    assert bool(written["HTTP"]) == recorded, (
        "what was not understood names nothing that it could stand under"
    )


def test_each_way_has_the_rank_the_lifetime_and_the_off_of_its_row(ways: Ways) -> None:
    """docs/rules.md, row by row; the rows of HTTP, client, console, command line, phrase and hold are tried elsewhere."""
    site = ways.running.site

    def by_watchdog(ways: Ways, output: str, setting: str) -> Answer:
        ways.plc.write_register(60_000, 20)
        return ways.by_modbus(output, setting)

    for name, way in (
        ("broker", WAYS["broker"]),
        ("serial line", WAYS["serial line"]),
        ("Modbus", WAYS["Modbus"]),
        ("control surface", WAYS["control surface"]),
        ("Modbus with watchdog", by_watchdog),
    ):
        rank, lifetime, off, away = table()[name]
        free(ways)
        way(ways, "gallery", "on")
        (claim,) = site.output("gallery")["claims"]
        assert (claim["rank"], claim["lifetime"]) == (rank, lifetime), name
        way(ways, "gallery", "off")
        claims = site.output("gallery")["claims"]
        assert [each["setting"]["words"] for each in claims] == (
            ["off"] if off.startswith("a claim of off") else []
        ), name
        way(ways, "gallery", "on")
        if "lease ends" in away:
            eventually(lambda: site.output("gallery")["claims"] == [], within=3)
    ways.plc.write_register(60_000, 0)
    rank, lifetime, _, _ = table()["pad"]
    ways.running.http("PUT", "/api/v1/pads/hoist", json={"x": 0, "y": 1})
    (claim,) = site.output("vent")["claims"]
    assert (claim["rank"], claim["lifetime"]) == (rank, lifetime)


VALUES: dict[str, Any] = {
    "output": "gallery", "board": "near", "pin": "line-12", "scene": "evening", "tag": "ladder", "by": "Anna", "code": "1234",
    "claim": 999_999, "timer": 999_999, "longer": "5 min", "trip": "none such", "alarm": "too warm", "reflex": "none such",
}  # fmt: skip
"""What the fields of commands hold here, where their examples name other things, or there are none."""


LATER = f"{datetime.now(UTC) + timedelta(hours=10):%H:%M}"
"""When a schedule begins that is not to switch anything while this runs, whatever the hour."""


def given(kind: type[Command]) -> dict[str, Any]:
    """Something that a command may carry."""
    found = {name: VALUES[name] for name, field in names(kind).items() if field.required and name in VALUES}
    return {**kind.example, **found, **({"from": LATER} if "from" in kind.example else {})}


def told(form: dict[str, Any]) -> tuple[str, str]:
    """An outcome and its reason, but for what is said of the address and numbers."""
    reason = str(form.get("reason") or form.get("detail") or "").rstrip(".")
    return form.get("outcome", "refused"), re.sub(r"\d+", "N", reason[:1].lower() + reason[1:])


def by_every_way(
    ways: Ways, kind: type[Command], body: dict[str, Any]
) -> Iterator[tuple[str, dict[str, Any]]]:
    rest = dict(body)
    path = filled(kind.path, lambda _, name: quote(str(rest.pop(name)), safe=""))
    more = {} if kind.method == "DELETE" else {"json": rest}
    yield "HTTP", ways.running.http(kind.method, f"/api/v1{path}", key=ways.key, **more).json()
    try:
        yield "client", ways.client.command(kind.word, **body).form
    except Trouble as error:
        yield "client", {"outcome": error.more.get("outcome", "refused"), "reason": error.sentence}
    form = ways.host.call(kind.word, **body)
    yield "serial line", form.get("result") or form["error"]["data"]
    mark = str(time.monotonic_ns())
    ways.broker.send(f"do/{kind.word}", json.dumps({**body, "id": mark}))
    yield (
        "broker",
        ways.broker.wait(
            f"do/{kind.word}/outcome", lambda form: form.get("id") == mark and "outcome" in form
        ),
    )
    if not kind.typed:
        words = [
            word
            for name, value in body.items()
            for word in ([str(value)] if names(kind)[name].required else [f"--{name}", str(value)])
        ]
        env = {"CAIRNWIND_KEY": ways.key}
        done = ways.running.cli(
            "--address", ways.running.url, kind.word.replace("_", "-"), *words, "--json", env=env
        )
        said = " ".join(done.stderr.removeprefix("error: ").split()) or done.stdout
        yield (
            "command line",
            json.loads(said) if said.startswith("{") else {"reason": said.partition(". ")[0]},
        )


@pytest.mark.parametrize("word", commands.COMMANDS)
def test_every_command_of_the_table_is_the_same_by_every_way(word: str, ways: Ways) -> None:
    kind, site = commands.COMMANDS[word], ways.running.site
    found: dict[str, tuple[str, str]] = {}
    every = by_every_way(ways, kind, given(kind))
    while True:
        free(ways)
        there = [each["name"] for each in site.plan()["schedules"]]
        if "late" in there:
            site.drop_schedule("late")
        if word != "add_schedule" and "schedule" in word:
            site.add_schedule(name="late", do="turn gallery off", from_=LATER, for_="8 h")
        last = site.journal(limit=1)[0]["sequence"]
        way, form = next(every, ("", {}))
        if not way:
            break
        found[way] = told(form)
        sources = {row["source"] for row in site.journal(after=last) if row["source"]}
        assert sources <= {f"{way} (hands)"}, "under its own name in the journal"
    assert len(found) == (4 if kind.typed else 5)
    assert len(set(found.values())) == 1, found
    if kind.role == "keep":
        assert found["HTTP"] == ("refused", "the key 'hands' may only operate")


def test_a_key_for_some_outputs_touches_nothing_of_others_by_any_command_and_any_way(ways: Ways) -> None:
    """Of `yard`, which is not among them, there is one of everything that a command may be about."""
    free(ways)
    site = ways.running.site
    claim = site.turn("yard", "on").claim
    site.do("turn yard off in 10 minutes")
    site.lock("yard", "ladder", "new bulbs")
    site.add_schedule(name="yardly", do="turn yard on", from_=LATER, for_="8 h")
    (timer,) = (each["id"] for each in site.plan()["timers"] if "yard" in each["text"])
    others = {
        "output": "yard", "about": "yard", "claim": claim, "timer": timer, "name": "yardly", "do": "turn yard on", "phrase": "turn yard on",
        "pin": "line-3",
    }  # fmt: skip
    before = site.output("yard")["claims"], site.plan(), site.facts()["lockouts"]
    tried = 0
    for word, kind in commands.COMMANDS.items():
        if kind.role != "operate" or word in ("stop", "open", "reset", "resume"):
            continue  # a stop is everybody's; of the others there is nothing here
        body = given(kind) | {name: value for name, value in others.items() if name in names(kind)}
        if word == "turn":
            body = {"output": "yard", "setting": "on"}
        if word == "add_schedule":
            body["name"] = "another"
        for way, form in by_every_way(ways, kind, body):
            outcome, reason = told(form)
            assert (outcome, "the key 'hands' may not command" in reason) == ("refused", True), (
                word,
                way,
                form,
            )
            tried += 1
    assert tried >= 80
    assert (site.output("yard")["claims"], site.plan(), site.facts()["lockouts"]) == before
    site.cancel(timer)
    site.drop_schedule("yardly")
    free(ways)


LONG, TURNING = "x" * 5000, "a\x1b[31mb\u202ec\x07"


def test_every_text_of_every_command_has_a_bound_and_none_reaches_a_terminal_as_it_came(ways: Ways) -> None:
    site, tried = ways.running.site, 0
    for kind in commands.COMMANDS.values():
        for name, field in names(kind).items():
            if holds(field) is not str:
                continue
            free(ways)
            for way, form in by_every_way(ways, kind, given(kind) | {name: LONG}):
                outcome, reason = told(form)
                assert (outcome, len(reason) < 1000) == ("refused", True), (kind.word, name, way)
                tried += 1
            assert all(form for _, form in by_every_way(ways, kind, given(kind) | {name: TURNING}))
            if any(each["name"] == TURNING for each in site.plan()["schedules"]):
                site.drop_schedule(TURNING)
    assert tried > 100
    for command in (
        ["look"],
        ["plan"],
        ["records"],
        ["records", "gallery"],
        ["why", "gallery"],
        ["look", "gallery"],
    ):
        said = ways.running.cli(*command)
        assert not any(each in said.stdout + said.stderr for each in "\x1b\u202e\x07"), command
    free(ways)


def test_a_note_is_shown_with_what_it_is_about(ways: Ways) -> None:
    site = ways.running.site
    site.note("contact cleaned", about="door")
    site.note("lamp changed", about="gallery")
    site.note("inspected", about="near")
    site.note("keys are with Anna")
    assert ("noted", "lamp changed (client (first key), ") in {
        (step["stage"], step["text"][: len("lamp changed (client (first key), ")])
        for step in site.why("gallery")["steps"]
    }
    for name, text in (("gallery", "lamp changed"), ("near", "inspected"), (None, "keys are with Anna")):
        assert text in ways.running.cli("look", *([name] if name else [])).stdout
    assert "contact cleaned" in ways.running.cli("records", "door").stdout
    (row,) = site.journal(kind="note", subject="near")
    assert (row["text"], row["data"]["note"]) == ("note on near: inspected", "inspected")
    assert ways.host.call("note", text="mine", about="door")["error"]["data"]["outcome"] == "refused"


def test_a_lease_that_has_ended_is_refused_and_one_that_is_held_ends_with_its_holder(ways: Ways) -> None:
    free(ways)
    site = ways.running.site
    claim = ways.running.http(
        "POST", "/api/v1/claims", key=ways.key, json={"output": "gallery", "setting": "on", "lease": "3 s"}
    ).json()["claim"]["id"]
    assert ways.host.call("hold", output="gallery", lease="3 s")["result"]["outcome"] == "driving"
    ways.plc.write_register(60_000, 20)  # from here on it is watched: 2 s
    assert not ways.plc.write_coil(ways.coil["vent"], True).isError()

    def leases() -> int:
        ways.surface.send("/out/gallery", 1.0)
        return len([each for each in site.call("GET", "/claims") if each["lifetime"] == "lease"])

    eventually(lambda: leases() == 4)
    begin = time.monotonic()
    while time.monotonic() < begin + 2.5:  # any write keeps what it holds
        time.sleep(0.3)
        assert not ways.plc.write_register(60_000, 20).isError()
        assert site.output("vent")["claims"][0]["lifetime"] == "lease"
    eventually(lambda: site.call("GET", "/claims") == [], within=3)
    ended = ways.running.http("PATCH", f"/api/v1/claims/{claim}", key=ways.key).json()
    assert (ended["code"], "ended" in ended["detail"]) == ("no-claim", True)
    renewed = ways.host.call("renew", output="gallery")["error"]["data"]
    assert (renewed["outcome"], renewed["reason"]) == ("refused", "this hold has ended")
    ways.plc.write_register(60_000, 0)
    with pytest.raises(CallerError, match="trolley: this hold has ended"):
        site.steer("trolley", 0.0, 0.5, again=True)
    assert site.steer("trolley", 0.0, 0.5)["outcomes"] == ["driving", "driving"]
    site.let_go("trolley")


def test_all_stop_and_its_reset_by_every_way(ways: Ways) -> None:
    """Any key that may operate anything stops everything; only a keeper starts again."""
    site = ways.running.site

    def stopped() -> bool:
        return bool(site.facts()["all_stop"]["stopped"])

    ways_to_stop: dict[str, Callable[[], object]] = {
        "HTTP": lambda: ways.running.http("PUT", "/api/v1/all-stop", key=ways.key),
        "phrase": lambda: ways.client.do("all-stop"),
        "broker": lambda: ways.broker.send("all-stop/want", "stop"),
        "serial line": lambda: ways.host.call("stop", reason="smoke"),
        "Modbus": lambda: ways.plc.write_coil(60_000, True),
        "control surface": lambda: ways.surface.send("/stop", 1),
    }
    for name, way in ways_to_stop.items():
        free(ways)
        way()
        eventually(stopped)
        assert (" (hands)") in site.facts()["all_stop"]["by"], name
    assert (
        ways.running.http("DELETE", "/api/v1/all-stop", key=ways.key).json()["reason"]
        == "the key 'hands' may only operate"
    )
    refused = ways.host.call("reset_stop")["error"]["data"]["reason"]
    assert refused == "the key 'hands' may only operate"
    ways.broker.send("all-stop/want", "reset")
    assert (
        ways.broker.wait("all-stop/outcome", lambda form: form.get("outcome") == "refused")["reason"]
        == refused
    )
    assert ways.plc.write_coil(60_000, False).exception_code == 1
    assert ways.plc.read_coils(60_000).bits[0]
    assert stopped()


def test_a_key_that_is_gone_ends_its_remotes_too(ways: Ways) -> None:
    """Last of its module: the key is revoked while everybody is connected."""
    free(ways)
    ways.running.site.revoke("hands")
    for name in ("broker", "serial line", "Modbus"):
        answer = WAYS[name](ways, "gallery", "on")
        assert (answer.outcome, "there is no key 'hands'" in answer.reason) == ("refused", True), name
    ways.surface.send("/out/gallery", 1.0)  # who may not look is soon told nothing: the wire says it
    eventually(
        lambda: any(
            frame["way"] == "lost" and "there is no key 'hands'" in frame["text"]
            for frame in ways.running.site.remote_traffic("surface")["frames"]
        )
    )
    # nor does anybody look who carried it
    assert ways.plc.read_coils(0).exception_code == 1
    assert "no key 'hands'" in ways.host.call("look", name="gallery")["error"]["message"]
    ways.surface.hear(0.1)
    ways.surface.said.clear()
    ways.running.site.turn("gallery", "on")
    ways.surface.send("/tell", 10)
    assert {address for address, _ in ways.surface.hear(0.4)} <= {"/refused"}
    assert (
        "key new --for 'hands'"
        in {each["name"]: each["trouble"] for each in ways.running.site.remotes()}["modbus"]
    )
    assert ways.running.http("GET", "/api/v1/site", key=ways.key).status_code == 401
    # and one that may only look does that, and commands nothing
    ways.running.site.new_key("hands", "watch")
    for name in ("broker", "serial line", "Modbus"):
        answer = WAYS[name](ways, "gallery", "off")
        assert (answer.outcome, "'hands' may only watch" in answer.reason) == ("refused", True), name
    assert not ways.plc.read_coils(0).isError()
    assert ways.host.call("look", name="gallery")["result"]["confirmed"]["on"]
    ways.surface.send("/tell", 10)
    ways.surface.send("/out/gallery", 0.5)
    eventually(
        lambda: any(
            address == "/refused" and "may only watch" in values[1]
            for address, values in ways.surface.hear(0.1)
        )
    )
    assert ways.running.site.output("gallery")["confirmed"]["level"] == 100
