"""Time over HTTP: phrases, timers, the plan, calendars, rehearsals and records, with restarts and bad input."""

from __future__ import annotations

import math
import re
import time
from collections.abc import Iterator
from datetime import datetime, timedelta
from itertools import count, pairwise
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from icalendar import Calendar

from cairnwind.client import Site
from cairnwind.core.explain.rehearsal import Rehearsal
from cairnwind.core.facts import events as ev
from cairnwind.core.facts import plan as plans
from cairnwind.core.facts.claims import Instant
from cairnwind.core.language import schedules
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import NS
from cairnwind.folder import Folder
from cairnwind.service import lanes, runtime, startup
from cairnwind.service.records import Records
from cairnwind.service.serve import Service
from cairnwind.site import read_site
from cairnwind.site.calendar_feed import feed
from cairnwind.site.calendars import read
from cairnwind.site.plans import read_plan
from cairnwind.store.writer import Writer
from tests.conftest import SITE, Running, eventually
from tests.core.saltmarsh import DAY, PERSON, PLAN, at, schedule

MORE = """
latitude = 52.95
longitude = 0.85
"""
PLANNED = (
    SITE.replace('timezone = "Europe/London"', 'timezone = "Europe/London"' + MORE)
    + """
[scene.evening]
do = ["turn gallery to 40 %", "turn yard on; wait 300 ms; turn vent on"]

[[schedule]]
name = "always"
from = "00:00"
for = "24 h"
do = "turn yard on"

[[schedule]]
name = "by the sun"
from = "sunset - 20 min"
to = "22:30"
do = "turn gallery to 60 % over 30 s"
enabled = false
"""
)


@pytest.fixture
def planned(tmp_path: Path) -> Iterator[Running]:
    found = Running(tmp_path, PLANNED)
    yield found
    if found.service.runtime.alive:
        found.end()


def words(running: Running, name: str) -> str:
    return str((running.site.output(name)["confirmed"] or {}).get("words"))


def test_a_phrase_is_said_and_answered_in_parts(planned: Running) -> None:
    found = planned.site.do("please switch the gallery to half and turn kiln on")
    assert found["phrase"] == "turn gallery to 50 %; turn kiln on"
    assert found["ending"]["ending"] == "confirmed"
    assert [(part["output"], part["outcome"]) for part in found["parts"]] == [
        ("gallery", "driving"),
        ("kiln", "driving"),
    ]
    planned.site.lock("kiln", "relining")
    response = planned.http("POST", "/api/v1/phrases", json={"phrase": "turn gallery and kiln on"})
    assert (response.status_code, response.json()["outcome"]) == (409, "refused")
    assert [part["outcome"] for part in response.json()["parts"]] == ["driving", "refused"]
    dry = planned.site.rehearse_phrase(
        "turn gallery to 10 % over 2 s until 22:30, then wait 5 s, then run scene evening"
    )
    assert [step["after_seconds"] for step in dry["steps"]] == [0, 5, 5.3]
    assert re.fullmatch(r"until (tomorrow )?22:30", dry["steps"][0]["orders"][0]["lasting"])
    assert words(planned, "gallery") == "100 %", "nothing was done"
    asked = planned.http("POST", "/api/v1/phrases", json={"phrase": "turn yard on for 10"}).json()
    assert (asked["code"], asked["choices"], asked["at"]) == ("asks-back", ["10 s", "10 min"], 17)
    for body in (
        {},
        {"phrase": ""},
        {"phrase": 7},
        {"phrase": "turn yard on", "dry": "yes"},
        {"phrase": "x" * 3000},
        {"phrase": "turn yard on\x00"},
        {"say": "x"},
    ):
        assert planned.http("POST", "/api/v1/phrases", json=body).status_code == 400
    token = {"Idempotency-Key": "once"}
    twice = [
        planned.http("POST", "/api/v1/phrases", json={"phrase": "toggle vent"}, headers=token).json()[
            "sequence"
        ]
        for _ in range(2)
    ]
    assert twice[0] == twice[1]
    eventually(lambda: words(planned, "vent") == "on")
    stopped = planned.site.do("stop everything")
    assert (stopped["phrase"], stopped["outcome"]) == ("all-stop", "driving")
    assert planned.site.facts()["all_stop"]["stopped"]
    eventually(lambda: words(planned, "vent") == "off")


def test_scenes_begin_together_and_are_released_together(planned: Running) -> None:
    planned.site.do("run evening for 1 h")
    eventually(
        lambda: (
            (words(planned, "gallery"), words(planned, "yard"), words(planned, "vent"))
            == ("40 %", "on", "on")
        )
    )
    planned.site.do("turn gallery to 10 %")
    planned.again()
    planned.site.do("release scene evening")
    eventually(lambda: words(planned, "vent") == "off")
    assert words(planned, "gallery") == "10 %", (
        "somebody has changed that since: it does not belong to the scene"
    )
    with pytest.raises(CallerError, match="nothing called"):
        planned.site.do("run scene morning")


def test_timers_are_listed_put_off_and_cancelled_through_a_restart(planned: Running) -> None:
    site = planned.site
    site.do("turn vent on for 10 min")
    site.do("every 1 h blink gallery 2 times")
    late = site.do("after 700 ms turn kiln on")
    claim, timer, series = (
        next(each for each in site.timers() if word in each["text"])
        for word in ("vent", "kiln", "every" if False else "blink gallery")
    )
    assert (claim["kind"], timer["kind"], series["kind"]) == ("claim", "timer", "series")
    assert timer["id"] == late["sequence"]
    before = datetime.fromisoformat(claim["due"])
    site.extend(claim["id"], "5 min")
    assert datetime.fromisoformat(
        next(each for each in site.timers() if each["kind"] == "claim" and each["output"] == "vent")["due"]
    ) - before == timedelta(minutes=5)
    site.extend(timer["id"], "1 s")
    planned.again()
    site = planned.site
    assert {each["text"] for each in site.timers()} >= {"turn kiln on", "blink gallery 2 times", "vent on"}
    eventually(lambda: words(planned, "kiln") == "on")
    assert timer["id"] not in {each["id"] for each in site.timers()}
    site.cancel(next(each["id"] for each in site.timers() if each["kind"] == "series"))
    site.cancel(next(each["id"] for each in site.timers() if each["output"] == "vent"))
    eventually(lambda: words(planned, "vent") == "off")
    with pytest.raises(CallerError, match="no timer 4711"):
        site.cancel(4711)
    assert planned.http(
        "PATCH", f"/api/v1/plan/timers/{timer['id']}", json={"longer": "much"}
    ).status_code in (400, 404)


def test_the_plan_is_shown_with_its_origin_changed_and_kept(planned: Running) -> None:
    site = planned.site
    eventually(lambda: words(planned, "yard") == "on")
    assert "'always' (plan) wants it on" in site.why("yard")["sentence"]
    site.turn("yard", "off")
    assert words(planned, "yard") == "off"
    planned.again()
    site = planned.site
    assert words(planned, "yard") == "off", "a takeover, and the plan has changed nothing since"
    assert [(each["name"], each["origin"], each["enabled"]) for each in site.plan()["schedules"]] == [
        ("always", "site file", True),
        ("by the sun", "site file", False),
    ]
    site.add_schedule(name="mine", do="turn vent on", from_="00:00", for_="24 h")
    eventually(lambda: words(planned, "vent") == "on")
    site.enable("always", False)
    site.skip("mine")
    planned.again()
    site = planned.site
    found = {each["name"]: each for each in site.plan()["schedules"]}
    assert (found["always"]["enabled"], found["mine"]["origin"], len(found["mine"]["skipped"])) == (
        False,
        "database",
        1,
    )
    assert words(planned, "vent") == "on"
    site.change_schedule("mine", do="turn vent off", from_="00:00", for_="24 h")
    eventually(lambda: words(planned, "vent") == "off")
    site.run_now("by the sun")
    site.drop_schedule("mine")
    for call, match in ((lambda: site.drop_schedule("always"), "site file"), (lambda: site.drop_schedule("mine"), "no schedule"),
                        (lambda: site.add_schedule(name="always", do="turn vent on", from_="1:00", for_="1 h"), "already"),
                        (lambda: site.add_schedule(name="x", do="turn vint on", from_="1:00", for_="1 h"), "nothing called")):  # fmt: skip
        with pytest.raises(CallerError, match=match):
            call()
    spans = site.spans("2026-12-01", "2026-12-03")["spans"]
    assert not [each for each in spans if each["name"] != "by the sun"], "disabled ones are not on"


def test_a_rehearsal_and_the_difference_that_a_change_would_make(planned: Running) -> None:
    found = planned.site.rehearse(
        "2026-12-01",
        "2026-12-02",
        put={"name": "early", "do": "turn vent on", "from": "06:00", "to": "07:00"},
    )
    assert [bar["output"] for bar in found["plan"]["bars"]] == ["yard"]
    (new,) = found["differences"]
    assert (new["was"], new["would_be"]["output"], new["would_be"]["start"]) == (
        None,
        "vent",
        "2026-12-01T06:00:00.000Z",
    )
    gone = planned.site.rehearse("2026-12-01", "2026-12-02", drop="always")
    assert [(each["was"]["output"], each["would_be"]) for each in gone["differences"]] == [("yard", None)]
    assert words(planned, "vent") == "off", "nothing real is switched"
    for body in ({"from": "2026-12-02", "to": "2026-12-01"}, {"from": "2026-12-01", "to": "2027-12-01"}, {"from": "x", "to": "y"}, {"from": "2026-12-01"},
                 {"from": "2026-12-01", "to": "2026-12-02", "put": 5}, {"from": "2026-12-01", "to": "2026-12-02", "put": {"name": "x"}}):  # fmt: skip
        assert planned.http("POST", "/api/v1/plan/rehearsals", json=body).status_code == 400


# --- calendars ------------------------------------------------------------------------------------------------


def test_a_phone_subscribes_with_a_key_that_does_nothing_else(planned: Running) -> None:
    link = planned.site.calendar_link()
    address, _, key = link.partition("?key=")
    path = address.removeprefix(planned.url)
    answer = planned.http("GET", f"{path}?key={key}", key=None)
    assert answer.headers["Content-Type"].startswith("text/calendar")
    events = Calendar.from_ical(answer.content).walk("VEVENT")
    assert [str(event["summary"]) for event in events] == ["turn yard on"], "by the sun is disabled"
    for shown in (None, key):
        assert planned.http("GET", f"/api/v1/outputs?key={key}", key=shown).status_code == 401
    assert planned.http("GET", f"{path}?key={planned.key}", key=None).status_code == 401, (
        "a key that may more is not for addresses"
    )
    again = planned.site.calendar_link()
    assert planned.http("GET", f"{path}?key={key}", key=None).status_code == 401, "the one before has ended"
    assert planned.http("GET", again.removeprefix(planned.url), key=None).status_code == 200


NAMES = st.text(
    st.characters(categories=["L", "N"], include_characters=" -'\"\\,;"), min_size=1, max_size=20
).filter(str.strip)


@settings(max_examples=30, deadline=None)
@given(st.lists(st.builds(
    lambda name, start, length, rule, without: {"name": name.strip(), "from": f"{start:%H:%M}", "for": f"{length} min", "repeat": rule, "without": [each.isoformat() for each in without]},
    NAMES, st.times(), st.integers(1, 2000),
    st.sampled_from(["FREQ=DAILY", "FREQ=WEEKLY;BYDAY=MO,FR", "FREQ=MONTHLY;BYMONTHDAY=1", "FREQ=DAILY;INTERVAL=3", "FREQ=WEEKLY;UNTIL=20270401T000000Z"]),
    st.lists(st.dates(datetime(2026, 11, 1).date(), datetime(2027, 1, 1).date()), max_size=3, unique=True),
), max_size=4, unique_by=lambda form: form["name"]), st.booleans())  # fmt: skip
def test_our_own_export_is_read_back(forms: list[dict[str, Any]], sun: bool) -> None:
    made = [schedules.make({"do": "turn yard on", **form}, PLAN, "database") for form in forms]
    if sun:
        made += [schedule(name="sun zz", from_="sunset - 20 min", to="sunrise", do="turn gallery to 60 %")]
    now = at("2026-11-23 12:00")
    lines = read(feed("Test", made, now), PLAN, {}, now)
    taken = {
        line.form["name"]: schedules.make(line.form, PLAN, "database")
        for line in lines
        if line.form is not None
    }
    assert set(taken) == {each.name for each in made}
    for each in made:
        want, have = (list(plans.spans(one, now, now + 100 * DAY)) for one in (each, taken[each.name]))
        assert have == want, each.name


def test_events_are_taken_ignored_or_not_understood_and_it_is_said_why(planned: Running) -> None:
    numbers = count()

    def event(*lines: str) -> str:
        uid = "UID:same" if any("SEQUENCE" in line for line in lines) else f"UID:x{next(numbers)}"
        return "\r\n".join(["BEGIN:VEVENT", uid, "DTSTAMP:20261101T000000Z", *lines, "END:VEVENT", ""])

    calendar = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\n" + "".join((
        event("SUMMARY:turn vent on", "DTSTART;TZID=Europe/London:20270105T180000", "DTEND;TZID=Europe/London:20270105T200000", "RRULE:FREQ=WEEKLY;COUNT=5",
              "EXDATE;TZID=Europe/London:20270112T180000"),
        event("SUMMARY:Dentist", "DTSTART:20270105T180000Z", "DTEND:20270105T190000Z"),
        event("SUMMARY:turn vent on", "DTSTART;VALUE=DATE:20270105"),
        event("SUMMARY:turn vent on", "DTSTART:20200105T180000Z", "DTEND:20200105T190000Z"),
        event("SUMMARY:turn vent on", "STATUS:CANCELLED", "DTSTART:20270105T180000Z", "DTEND:20270105T190000Z"),
        event("DTSTART:20270105T180000Z", "DTEND:20270105T190000Z"),
        event("SUMMARY:turn vent on", "RECURRENCE-ID:20270105T180000Z", "DTSTART:20270105T180000Z", "DTEND:20270105T190000Z"),
        event("SUMMARY:turn vent on", "DTSTART:20270105T180000Z", "DTEND:20270105T170000Z"),
        event("SUMMARY:turn vent on", "DTSTART:20270105T180000Z", "DTEND:20270105T190000Z", "SEQUENCE:1", "RRULE:FREQ=DAILY"),
        event("SUMMARY:Dentist", "DTSTART:20270105T180000Z", "DTEND:20270105T190000Z", "SEQUENCE:2", "RRULE:FREQ=DAILY"),
        event("SUMMARY:turn vent on", "DTSTART:20270105T180000Z", "DTEND:20270105T190000Z", "RRULE:FREQ=DAILY", "EXDATE:20270106T180000Z,then"),
        event("SUMMARY:turn vent on", "DTSTART:20270105T180000Z", "DTEND:20270105T190000Z", "RRULE:FREQ=DAILY", "EXRULE:FREQ=WEEKLY"),
        event("SUMMARY:turn vent on", "DTSTART:20270105T180000Z", "DTEND:20270105T190000Z", "RRULE:FREQ=DAILY;BYDAY=XX"),
        event("SUMMARY:turn vent on", "DTSTART:20270105T180000Z", "DTEND:20270105T190000Z", "RDATE;VALUE=PERIOD:20270106T180000Z/PT3H"),
        event("SUMMARY:turn vent on", "DTSTART:20270105T180000Z", "DURATION:PT"),
        event("SUMMARY:turn vent on", "DTSTART:20270105T180000Z", "DTEND:20270105T190000Z", "RRULE:FREQ=SECONDLY"),
        event("SUMMARY:<script>alert(1)</script>\\n; DROP TABLE journal; --" + "A" * 3000, "DTSTART:20270105T180000Z", "DTEND:20270105T190000Z"),
    )) + "BEGIN:VTODO\r\nUID:y\r\nSUMMARY:turn vent on\r\nEND:VTODO\r\nEND:VCALENDAR\r\n"  # fmt: skip
    dry = planned.site.take_calendar(calendar.encode(), dry=True)
    outcomes = [line["outcome"] for line in dry["events"]]
    assert outcomes == [
        "taken",
        *["not understood"] * 2,
        *["ignored"] * 3,
        *["not understood"] * 2,
        "ignored",
        *["not understood"] * 8,
        "ignored",
    ]
    assert all(line["why"] for line in dry["events"])
    assert len(planned.site.plan()["schedules"]) == 2, "nothing was taken yet"
    assert planned.site.take_calendar(calendar.encode())["taken"] == 1
    (mine,) = [each for each in planned.site.plan()["schedules"] if each["origin"] == "database"]
    assert [start[:10] for start, _ in mine["next"]] == ["2027-01-05", "2027-01-19", "2027-01-26"], (
        "one is left out"
    )
    assert (
        planned.site.take_calendar(calendar.encode())["events"][0]["why"]
        == "'turn vent on' is on the plan already"
    )
    for content, status in (
        (b"no calendar", 400),
        (b"BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\n", 400),
        (b"x" * (50 << 20), 413),
        (b"\xff\xfe", 400),
    ):
        try:
            answer = planned.http(
                "POST", "/api/v1/plan/calendar", data=content, headers={"Content-Type": "text/calendar"}
            )
        except OSError:
            assert status == 413, "the connection may be cut in the midst of what is too much"
        else:
            assert answer.status_code in (status, 400)
    assert planned.site.facts(), "and the service goes on"


# --- records --------------------------------------------------------------------------------------------------


def test_days_and_readings_are_kept_rolled_up_and_forgotten(tmp_path: Path) -> None:
    from cairnwind.store.database import prepare
    from cairnwind.store.reader import Reader

    (tmp_path / "site.toml").write_text(
        SITE.replace("[output.vent]", '[output.vent]\nload = "100 W"'), "utf-8"
    )
    site = read_site(tmp_path / "site.toml")
    prepare(tmp_path / "db")
    writer = Writer(tmp_path / "db", "process", lambda _: None)
    records = Records(site, writer)
    engine = startup.Engine(site)
    begin = wall = at("2026-11-21 22:00")
    engine.handle(ev.Start(Instant(NS, wall)))

    def feed_(event: Any) -> None:
        for effect in engine.handle(event):
            if isinstance(effect, ev.Drive):
                feed_(ev.Confirmed(event.at, effect.output, effect.generation, effect.setting))

    for board in site.boards:
        feed_(
            ev.LinkUp(
                Instant(NS, wall),
                board,
                tuple((o.name, o.safe) for o in site.outputs.values() if o.pin.board == board),
            )
        )
    planned = read_plan(site)
    minute = 60 * NS
    for number in range(5 * 60 + 1):  # five hours: on for the first half of each
        wall = begin + number * minute
        now = Instant(NS + number * minute, wall)
        if number % 60 in (0, 30):
            word = "on" if number % 60 == 0 else "off"
            feed_(ev.Do(now, f"c{number}", PERSON, planned.course(f"turn vent {word}")))
            records.see_output(engine.output_now("vent"), wall)
        records.turn(wall)
    records.flush(wall)
    assert writer.close()
    reader = Reader(tmp_path / "db")
    days = {
        day: (on, switchings, joules)
        for _, day, on, switchings, joules in reader.usage("2026-11-01", "2026-12-01", "vent")
    }
    assert days["2026-11-21"] == (2 * 30 * minute, 2, pytest.approx(100 * 3600))
    assert days["2026-11-22"][:2] == (3 * 30 * minute, 4), "the sixth switching is that of the last minute"
    hours = reader.readings("vent", 3600, begin, begin + DAY, 100)
    assert [(low, round(mean, 2), high) for _, low, mean, high in hours][:4] == [(0, 0.5, 1)] * 4
    minutes = reader.readings("vent", 60, begin, begin + DAY, 1000)
    assert all(after[0] - before[0] == minute for before, after in pairwise(minutes))
    assert [row[2] for row in minutes[:60]] == [1] * 30 + [0] * 30
    reader.close()


def test_what_was_recorded_is_asked_for(planned: Running) -> None:
    planned.site.turn("gallery", 40)
    planned.site.turn("gallery", "off")
    planned.again()
    (day,) = [each for each in planned.site.usage() if each["output"] == "gallery"]
    assert day["switchings"] == 1
    assert day["day"] == f"{datetime.now(ZoneInfo('Europe/London')):%Y-%m-%d}"
    rows = planned.site.readings("gallery")["rows"]
    assert any(row[3] == 0.4 for row in rows)
    for path in ("records/readings/nothing", "records/usage?output=nothing", "records/usage?from=never", "records/readings/gallery?from=2026-12-01&to=2026-11-01",
                 "journal?from=x", "journal?before=1&after=2"):  # fmt: skip
        assert planned.http("GET", f"/api/v1/{path}").status_code in (400, 404), path
    by = planned.site.journal(kind="command", source="client", begin="2020-01-01", limit=50)
    assert by
    assert all(row["kind"] == "command" and "client" in row["source"] for row in by)
    assert planned.site.journal(end="2020-01-01") == []
    whole = list(planned.site.journal_of(subject="gallery"))
    assert [row["sequence"] for row in whole] == sorted(row["sequence"] for row in whole)


# --- rehearsed and real ---------------------------------------------------------------------------------------

FAST = 60
REAL = (
    PLANNED.split("[[schedule]]")[0]
    + """
[[schedule]]
name = "first"
from = "18:00"
to = "18:03"
do = "turn gallery to 60 % over 30 s"

[[schedule]]
name = "second"
from = "18:01"
for = "90 s"
do = "turn vent on; wait 20 s; turn kiln on; wait 20 s; turn gallery to 20 %"

[[schedule]]
name = "third"
from = "18:02"
for = "30 s"
repeat = "FREQ=MINUTELY;INTERVAL=1;UNTIL=20261123T180400"
starts = "2026-11-23"
do = "blink yard 3 times"
"""
)


def test_a_real_run_on_a_fast_clock_gives_the_rehearsed_journal(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "site.toml").write_text(REAL, "utf-8")
    site = read_site(tmp_path / "site.toml")
    begin, passed = at("2026-11-23 17:58:00"), 0

    def fast() -> Instant:
        return Instant(NS + passed, begin + passed)

    real_wait = lanes.Lanes.wait

    def wait(self: lanes.Lanes, seconds: float) -> None:
        """Time passes while the engine has nothing to do, sixty times as fast: a busy machine is late for nothing."""
        nonlocal passed
        since = time.monotonic()
        real_wait(self, seconds / FAST)
        passed += math.ceil(min(seconds, (time.monotonic() - since) * FAST) * NS)

    monkeypatch.setattr(lanes.Lanes, "wait", wait)
    service = Service(site, Folder(tmp_path / "state"), 0)
    for module in (startup, runtime):
        monkeypatch.setattr(module, "clock", fast)
    monkeypatch.setattr(runtime, "TURN", 15.0)
    monkeypatch.setattr(service.machine, "fresh", lambda: True)
    service.start()

    def second(row: Any) -> float:
        return datetime.fromisoformat(row["at"]).timestamp() - begin / NS

    try:
        client = Site(state=tmp_path / "state")
        eventually(lambda: fast().wall > begin + 400 * NS, within=40)

        def all_of_it() -> list[Any]:
            """The journal, once what happened after the time that is looked at is in it: rows are committed a little later."""
            found = list(client.journal_of())
            return found if any(second(row) > 380 for row in found) else []

        rows = eventually(all_of_it)
    finally:
        service.stop()
    kinds = ("plan", "timer", "change", "ended", "command")
    mine = [(row["kind"], row["text"]) for row in rows if row["kind"] in kinds and 60 < second(row) < 380]
    rehearsed = Rehearsal(site, [(each, None) for each in read_plan(site).schedules], begin).run_to(
        begin + 380 * NS
    )
    expected = [
        (row.kind, row.text)
        for row in rehearsed.records
        if row.kind in kinds and row.at.wall > begin + 60 * NS
    ]

    def unnumbered(rows: list[tuple[str, str]]) -> list[tuple[str, str]]:
        """The real journal numbers links and boards too, and events of one instant may come in any order."""
        return sorted((kind, re.sub(r"timer \d+", "timer", text)) for kind, text in rows)

    assert unnumbered(mine) == unnumbered(expected)
    assert len(expected) > 30
