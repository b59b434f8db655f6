"""The site changed while it works: at once, by drafts of several people, and back; what is known by name goes along."""

from __future__ import annotations

import json
import threading
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from cairnwind.client import CallerError, Site
from cairnwind.core.facts.difference import Difference, difference
from cairnwind.core.values.fact import alike
from cairnwind.core.values.settings import FULL
from cairnwind.site import read_text
from cairnwind.site.saving import Saving
from tests.conftest import SITE, Running, cairnwind, eventually, half_a_day_away
from tests.service.test_safe import on

WRITTEN = """
[[interlock]]
name = "draught"  # nothing burns without it
needs = "vent is on"
outputs = ["kiln"]

[[schedule]]
name = "evening"
from = "FROM"
to = "TO"
do = "turn gallery to 60 %"
"""


def hours(begin: int, end: int) -> str:
    """The rules with their evening so many hours from now: what they come to does not depend on when tests are run."""
    rules, now = WRITTEN, datetime.now(ZoneInfo("Europe/London"))
    for word, ahead in (("FROM", begin), ("TO", end)):
        rules = rules.replace(word, f"{(now.hour + ahead) % 24:02}:{now.minute:02}")
    return rules


RULES = hours(6, 8)
PORCH = {"kind": "lamp", "pin": "near:J2-16", "label": "Porch"}


def keeper(running: Running, name: str, **limits: Any) -> Site:
    """Somebody else who keeps the site."""
    return Site(running.url, running.site.new_key(name, "keep", **limits))


@pytest.fixture
def running(running: Running) -> Running:
    running.site_file.write_text(SITE + RULES, "utf-8")
    running.site.reload()
    return running


def test_a_lamp_is_added_changed_called_otherwise_and_taken_away_while_the_rest_works(
    running: Running,
) -> None:
    site, near = running.site, running.link()
    site.turn("vent", "on", lasting="until released")
    near.seen.clear()
    said = site.add("output", "porch", **PORCH, reason="for the winter").reason
    assert "edition 3 is applied (for the winter)" in said
    assert "output porch is new, on near:J2-16 (line 5)" in said
    site.turn("porch", "on", lasting="until released")
    assert on(running, "porch")
    site.change("output", "porch", label=None, load="9 W")
    assert (site.output("porch")["label"], on(running, "porch")) == ("porch", True), (
        "a word more is no reason to go off"
    )
    site.add("interlock", "one lamp", excludes=["porch", "gallery"])
    with pytest.raises(CallerError, match="lets only one of porch and gallery be on"):
        site.turn("gallery", "20 %")
    site.remove("interlock", "one lamp")
    site.remove("output", "porch")
    assert [each for each in site.outputs() if each["name"] == "porch"] == []
    assert {line for _, line, _ in near.seen} == {5}, "no other pin has moved"
    text = running.site_file.read_text("utf-8")
    assert text == SITE + RULES, "what was added is gone, and nothing else is otherwise"
    (whole, *_) = rows = site.editions()
    assert [each["how"] for each in rows] == ["edit"] * 5 + ["reload", "start"]
    assert (whole["number"], whole["served"], whole["author"]) == (7, True, "first key")
    assert '+label = "Porch"' in site.edition(3)["difference"]
    with pytest.raises(CallerError, match="There is no edition 8"):
        site.edition(8)


def test_what_a_schedule_has_on_goes_on_under_its_new_name(running: Running) -> None:
    """The engine went down with it: an evening that was on had an output of a name that was no more."""
    site = running.site
    running.site_file.write_text(SITE + hours(-1, 2), "utf-8")
    site.reload()

    def level(name: str, share: float) -> None:
        eventually(lambda: running.link().level(name) == share * FULL)

    level("gallery", 0.6)
    rename = {"do": "rename", "what": "output", "name": "gallery", "to": "long-room"}
    site.edit(rename, {"do": "rename", "what": "output", "name": "vent", "to": "gallery"})
    level("long-room", 0.6)
    (claim,) = site.output("long-room")["claims"]
    assert claim["rank"] == "plan"
    plan = [row["text"] for row in site.journal("evening", limit=100)]
    assert not [text for text in plan if "'evening' ends" in text][1:], "it goes on"
    back = {"do": "rename", "what": "output", "name": "long-room", "to": "hall"}
    site.edit(
        back, {"do": "change", "what": "schedule", "name": "evening", "keys": {"do": "turn hall to 30 %"}}
    )
    level("hall", 0.3)
    assert len(site.output("hall")["claims"]) == 1, "what it had on before has ended"
    site.edit(
        {"do": "remove", "what": "schedule", "name": "evening"},
        {"do": "remove", "what": "output", "name": "hall"},
    )
    assert site.turn("yard", "on").outcome in ("driving", "confirmed")
    site.command("go_back", edition=2)
    level("gallery", 0)
    running.site_file.write_text(
        SITE + hours(-1, 2).replace("gallery", "yard").replace("60 %", "on"), "utf-8"
    )
    site.reload()
    eventually(lambda: site.output("yard")["confirmed"]["on"])
    assert site.output("gallery")["claims"] == []


def test_what_is_called_otherwise_keeps_what_is_known_by_its_name(running: Running) -> None:
    site = running.site
    anna, phone = keeper(running, "Anna"), site.new_key("phone", "operate", only=["gallery", "vent"])
    site.turn("gallery", "40 %", lasting="until released")
    anna.turn("gallery", "70 %", lasting="1 h")
    site.lock("vent", "ladder")
    site.add_schedule(name="late", do="turn gallery to 10 % for 1 h", from_=half_a_day_away())
    said = site.edit({"do": "rename", "what": "output", "name": "gallery", "to": "long-room"},
                     {"do": "rename", "what": "output", "name": "vent", "to": "flue"})  # fmt: skip
    assert "output gallery is called long-room from now on, at safe meanwhile" in said.reason
    eventually(lambda: running.link().level("long-room") == 0.7 * FULL)
    now = site.output("long-room")
    assert [claim["setting"]["level"] for claim in now["claims"]] == [70], "a person's wish, and it goes on"
    assert now["claims"][0]["ends"] is not None
    assert [(tag["output"], tag["name"]) for tag in site.facts()["lockouts"]] == [("flue", "ladder")]
    assert 'needs = "flue is on"' in running.site_file.read_text("utf-8")
    schedules = {each["name"]: each["do"] for each in site.plan()["schedules"]}
    assert schedules == {"evening": "turn long-room to 60 %", "late": "turn long-room to 10 % for 1 h"}
    assert Site(running.url, phone).turn("long-room", "30 %").outcome == "driving", "a key goes along"
    texts = [row["text"] for row in site.journal("long-room", limit=100)]
    assert {"gallery to 40 % (driving)", "gallery is called long-room from now on"} <= {*texts}
    assert any("30 %" in text for text in texts)
    running.again()
    assert running.site.output("long-room")["confirmed"]["level"] == 30
    assert [
        row["text"]
        for row in running.site.journal("long-room", limit=100)
        if "gallery to 40 %" in row["text"]
    ]
    running.site.command("go_back", edition=2, reason="no")
    assert running.site_file.read_text("utf-8") == SITE + RULES
    eventually(lambda: running.site.output("gallery")["confirmed"]["level"] == 30)
    assert {"gallery to 40 % (driving)", "gallery is called long-room from now on"} <= {
        row["text"] for row in running.site.journal("gallery", limit=100)
    }


def test_two_outputs_exchange_their_names_and_all_that_goes_with_them(running: Running) -> None:
    site = running.site
    key = site.new_key("phone", "operate", only=["gallery"])
    site.turn("gallery", "40 %", lasting="until released")
    site.turn("yard", "on", lasting="until released")
    site.lock("vent", "ladder")

    def only() -> list[str]:
        keys = site.keys()
        return next(each["only"] for each in keys if each["name"] == "phone")

    def called(*names: tuple[str, str]) -> list[dict[str, Any]]:
        return [{"do": "rename", "what": "output", "name": one, "to": other} for one, other in names]

    site.edit(*called(("gallery", "between"), ("yard", "gallery"), ("between", "yard")))
    eventually(lambda: running.link().level("yard") == 0.4 * FULL and on(running, "gallery"))
    assert (site.output("yard")["pin"], site.output("gallery")["pin"]) == ("near:J2-14", "far:line-3")
    assert only() == ["yard"], "the lamp that it may switch"
    assert Site(running.url, key).turn("yard", "50 %").outcome == "driving"
    site.edit(*called(("yard", "long-room"), ("vent", "yard")))
    assert [(tag["output"], tag["name"]) for tag in site.facts()["lockouts"]] == [("yard", "ladder")]
    site.command("go_back", edition=2)
    assert running.site_file.read_text("utf-8") == SITE + RULES
    eventually(lambda: running.link().level("gallery") == 0.5 * FULL and on(running, "yard"))
    assert only() == ["gallery"]
    assert [(tag["output"], tag["name"]) for tag in site.facts()["lockouts"]] == [("vent", "ladder")]


def test_two_peoples_drafts_do_not_overwrite_each_other(running: Running) -> None:
    site, anna = running.site, keeper(running, "Anna")
    change = {
        "do": "change",
        "what": "output",
        "name": "gallery",
        "keys": {"pin": "near:J2-15", "frequency": "900 Hz"},
    }
    site.into_draft(change)
    site.into_draft({"do": "add", "what": "output", "name": "porch", "keys": PORCH})
    anna.into_draft({"do": "rename", "what": "output", "name": "gallery", "to": "long-room"})
    draft = site.draft()
    assert (draft["others"], draft["since"], len(draft["changes"])) == (["Anna"], "", 2)
    assert draft["preview"] is not None
    assert (
        "output gallery moves from near:J2-14 (line 7) to near:J2-15 (line 6), at safe meanwhile"
        in draft["preview"]["words"]
    )
    assert site.output("gallery")["pin"] == "near:J2-14", "nothing is applied yet"
    running.again()
    site = running.site
    assert len(site.draft()["changes"]) == 2, "a draft outlives a restart"
    anna.command("apply_draft")
    draft = site.draft()
    assert "-[output.gallery]\n+[output.long-room]" in draft["since"]
    assert "no output called 'gallery'" in draft["trouble"]
    with pytest.raises(
        CallerError, match="has changed since edition 2: it is edition 3 now, by Anna"
    ) as error:
        site.command("apply_draft")
    assert error.value.code == "edition"
    site.command("take_from_draft", number=1)
    assert site.command("apply_draft", edition=3).outcome == "driving"
    assert {each["name"] for each in site.outputs()} >= {"long-room", "porch"}
    assert site.draft()["changes"] == []
    with pytest.raises(CallerError, match="draft is empty"):
        site.command("apply_draft")


def test_a_file_changed_by_hand_meanwhile_is_not_overwritten(running: Running) -> None:
    by_hand = (SITE + RULES).replace('label = "Vent"', 'label = "Flue"  # by hand')
    running.site_file.write_text(by_hand, "utf-8")
    answer = running.http(
        "POST",
        "/api/v1/site-file/edits",
        json={"changes": [{"do": "add", "what": "output", "name": "porch", "keys": PORCH}]},
    )
    assert (answer.status_code, answer.json()["code"]) == (409, "edition")
    assert '-label = "Vent"\n+label = "Flue"  # by hand' in answer.json()["difference"]
    assert running.site_file.read_text("utf-8") == by_hand
    running.site.reload()
    assert running.site.editions()[0]["reason"] == "as it was edited by hand"
    running.site.add("output", "porch", **PORCH)
    assert "# by hand" in running.site_file.read_text("utf-8")


@pytest.mark.parametrize(
    "fails", ["the file", "the folder", "the pin", "the board", "the rename", "the engine"]
)
def test_whatever_fails_the_old_site_stays_whole(
    running: Running, fails: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    site = running.site
    site.turn("gallery", "40 %", lasting="until released")
    before, number = running.site_file.read_text("utf-8"), site.editions()[0]["number"]
    keys: dict[str, Any] = {"pin": "near:J2-15"}
    if fails == "the file":
        monkeypatch.setattr(
            Saving, "_written", lambda *_: (_ for _ in ()).throw(OSError(28, "No space left on device"))
        )
    elif fails == "the folder":
        monkeypatch.setattr(
            "tempfile.mkstemp", lambda **_: (_ for _ in ()).throw(PermissionError(13, "Permission denied"))
        )
    elif fails == "the pin":
        keys = {"pin": "near:J2-9"}
    elif fails == "the board":
        running.link().unplug()
    elif fails == "the rename":
        monkeypatch.setattr(
            Path, "replace", lambda *_: (_ for _ in ()).throw(OSError(5, "Input/output error"))
        )
    elif fails == "the engine":
        monkeypatch.setattr(
            running.service.runtime,
            "submit",
            lambda *_: (_ for _ in ()).throw(CallerError("busy", "No.", "")),
        )
    with pytest.raises((CallerError, Exception)) as error:
        site.change("output", "gallery", **keys)
    monkeypatch.undo()
    assert running.site_file.read_text("utf-8") == before, error.value
    assert sorted(each.name for each in running.folder.iterdir()) == ["site.toml", "state"], (
        "nothing is left beside it"
    )
    running.link().plug()
    assert site.editions()[0]["number"] == number
    eventually(
        lambda: (
            site.output("gallery")["pin"] == "near:J2-14" and running.link().level("gallery") == 0.4 * FULL
        )
    )


def test_who_may(running: Running) -> None:
    limited = keeper(running, "limited", only=["gallery"])
    operator = Site(running.url, running.site.new_key("operator", "operate"))
    for other in (limited, operator):
        with pytest.raises(CallerError) as error:
            other.change("output", "gallery", label="mine")
        assert error.value.code == "role"
        with pytest.raises(CallerError):
            other.reload()
        with pytest.raises(CallerError):
            other.command("drop_draft")
    assert running.site.output("gallery")["label"] == "gallery"
    assert any(
        "may not command anything but its outputs" in row["text"] for row in running.site.journal(limit=20)
    )


CHANGES = st.sampled_from([
    {"do": "add", "what": "output", "name": "porch", "keys": PORCH},
    {"do": "remove", "what": "output", "name": "porch"},
    {"do": "change", "what": "output", "name": "gallery", "keys": {"pin": "near:J2-15"}},
    {"do": "change", "what": "output", "name": "gallery", "keys": {"pin": "near:J2-14", "label": "Long room"}},
    {"do": "rename", "what": "output", "name": "gallery", "to": "long-room"},
    {"do": "rename", "what": "output", "name": "long-room", "to": "gallery"},
    {"do": "add", "what": "interlock", "name": "one", "keys": {"excludes": ["vent", "yard"], "gap": "50 ms"}},
    {"do": "remove", "what": "interlock", "name": "one"},
    {"do": "add", "what": "board", "name": "third", "keys": {"link": "simulated", "lines": 4}},
    {"do": "add", "what": "output", "name": "sign", "keys": {"kind": "relay", "pin": "third:line-1"}},
    {"do": "remove", "what": "board", "name": "third"},
    {"do": "change", "what": "schedule", "name": "evening", "keys": {"to": "23:00"}},
    {"do": "add", "what": "scene", "name": "dusk", "keys": {"do": ["turn yard on"]}},
])  # fmt: skip


@settings(max_examples=12, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(CHANGES, min_size=1, max_size=8))
def test_after_any_changes_it_is_as_after_a_fresh_start_and_back_is_exact(
    running: Running, changes: list[dict[str, Any]]
) -> None:
    site, states = running.site, []
    begun = site.editions()[0]["number"]
    for change in changes:
        try:
            site.edit(change)
        except CallerError:
            continue
        states.append((site.editions()[0]["number"], running.site_file.read_text("utf-8")))
        served, fresh = running.service.site, read_text(states[-1][1], str(running.site_file))
        assert difference(served, fresh) == Difference()
        engine = running.service.runtime.engine.state
        assert list(engine.outputs) == list(fresh.outputs)
        assert all(alike(engine.outputs[name].output, output) for name, output in fresh.outputs.items())
        assert list(engine.boards) == list(running.service.machine.links) == list(fresh.boards)
    for number, text in [*reversed(states[:-1]), (begun, SITE + RULES)] if states else []:
        if running.site_file.read_text("utf-8") == text:
            continue
        site.command("go_back", edition=number)
        assert running.site_file.read_text("utf-8") == text


def test_eight_who_command_while_it_changes_lose_nothing_and_no_other_pin_moves(running: Running) -> None:
    """Twenty changes a second or so, for a while; boards that are lost and come back in between."""
    site, near, far = running.site, running.link(), running.link("far")
    site.turn("vent", "on", lasting="until released")
    eventually(lambda: on(running, "vent"))
    vent = near._outputs["vent"].pin.line
    near.seen.clear()
    over, taken, wrong = threading.Event(), [], []

    def command(number: int) -> None:
        mine = Site(running.url, running.key)
        while not over.is_set():
            try:
                outcome = mine.turn("yard" if number % 2 else "gallery", "on" if number % 3 else "off")
                taken.append(outcome.form["sequence"])
            except CallerError as error:
                if error.code not in ("unknown-name", "refused", "busy", "rate"):
                    wrong.append(error)
            except Exception as error:
                if getattr(error, "code", "") not in ("unreachable", "unknown-name"):
                    wrong.append(error)
            time.sleep(0.05)  # people, not a load: they share this process with the service

    workers = [threading.Thread(target=command, args=(number,)) for number in range(8)]
    for worker in workers:
        worker.start()
    applied, end = 0, time.monotonic() + 4
    while time.monotonic() < end:
        try:
            far.unplug() if applied % 5 == 3 else None
            site.change("output", "gallery", pin=f"near:J2-{14 + applied % 2}")
            far.plug()
            site.rename("output", "yard", "court")
            site.rename("output", "court", "yard")
        except CallerError as error:
            if error.code not in ("reload", "unknown-name", "bad-value"):
                wrong.append(error)
        applied += 1
    print(3 * applied, "changes in 4 s")
    over.set()
    for worker in workers:
        worker.join()
    far.plug()
    assert not wrong
    assert vent not in {line for _, line, _ in near.seen}, "no output that is not concerned ever moves"
    eventually(lambda: near.pins.get(vent) is not None and on(running, "vent"))
    rows = {row["sequence"] for row in site.journal_of(kind="command")}
    assert {each for each in taken if each} <= rows, "nothing that was acknowledged is lost"


def test_a_draft_is_gone_through_with_what_the_past_has_brought(running: Running) -> None:
    site = running.site
    site.pretend("door", "open")
    eventually(lambda: site.input("door")["state"] == "open")
    site.turn("vent", "on", lasting="until released")
    site.turn("gallery", "40 %", lasting="until released")
    time.sleep(1.2)
    site.release("vent")
    site.into_draft(
        {
            "do": "add",
            "what": "interlock",
            "name": "door",
            "keys": {"needs": "door is closed", "outputs": ["vent"]},
        }
    )
    found = site.rehearse_draft("1 min ago", "now")["differences"]
    assert [(each["was"] or {}).get("output") for each in found if (each["was"] or {}).get("on")] == ["vent"]
    assert all((each["was"] or each["would_be"] or {}).get("output") == "vent" for each in found), (
        "the gallery would have been as it was"
    )
    week = site.rehearse_draft("2026-12-01", "2026-12-08")["differences"]
    assert week == [], "the plan asks nothing of the vent"
    with pytest.raises(CallerError, match="'to' is not after 'from'"):
        site.rehearse_draft("1 min ago", "2 min ago")


def test_what_was_renamed_since_is_found_by_its_old_name_and_its_new_one(running: Running) -> None:
    """Two exchange their names; a draft gives one a third. What was on then is what is called otherwise now."""
    site = running.site
    site.turn("vent", "on", lasting="until released", wait="5 s")
    then = datetime.now(UTC).isoformat()
    time.sleep(0.6)
    site.edit({"do": "rename", "what": "output", "name": "vent", "to": "aside"},
              {"do": "rename", "what": "output", "name": "yard", "to": "vent"},
              {"do": "rename", "what": "output", "name": "aside", "to": "yard"})  # fmt: skip
    assert site.editions()[0]["renamed"] == [
        {"before": "vent", "after": "yard"},
        {"before": "yard", "after": "vent"},
    ]
    site.turn("yard", "off", lasting="until released", wait="5 s")
    assert site.why("yard", at=then)["sentence"].startswith("on: a person")
    assert not site.why("vent", at=then)["sentence"].startswith("on"), "the yard, as it was called then"
    site.rename("output", "yard", "flue")
    assert site.why("flue", at=then)["sentence"].startswith("on: a person")
    assert site.why("yard", at=then) == site.why("vent", at=then), (
        "nothing is called so now; then it was what is the vent now"
    )
    with pytest.raises(CallerError, match="no output called 'cellar'"):
        site.why("cellar", at=then)
    site.into_draft({"do": "rename", "what": "output", "name": "flue", "to": "chimney"})
    assert site.rehearse_draft("1 min ago", "now")["differences"] == [], "only called otherwise"
    site.into_draft({"do": "change", "what": "output", "name": "chimney", "keys": {"auto_off": "0.2 s"}})
    (one,) = [each["was"] for each in site.rehearse_draft("1 min ago", "now")["differences"] if each["was"]]
    assert (one["output"], one["on"]) == ("chimney", True)
    begin = (datetime.now(UTC) - timedelta(minutes=1)).isoformat()
    told = cairnwind("--address", running.url, "rehearse", "--from", begin, "--to", "now", "--inputs", "journal", "--json",
                     env={"CAIRNWIND_KEY": running.key})  # fmt: skip
    on = [each["output"] for each in json.loads(told.stdout)["changes"] if each["on"]]
    assert on == ["flue"], told.stderr
