"""Rehearsals: the same however they are cut, what they add up, what they compare, and what they are fed with."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cairnwind.core.explain import replay
from cairnwind.core.explain.meter import Meter
from cairnwind.core.explain.rehearsal import Put, Rehearsal, differences, wear
from cairnwind.core.facts import events as ev
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import NS
from cairnwind.core.values.settings import OFF, ON
from cairnwind.demo.world import rehearsed
from cairnwind.site.rules import read_rules
from tests.core.saltmarsh import DAY, HOUR, MINUTE, PLAN, SITE, at, changes, rehearse, say, schedule

BEGIN = at("2026-11-23 00:00")
SAID = st.lists(st.tuples(st.integers(0, 3 * 86400), st.sampled_from([
    "turn gallery to 30 % over 10 min", "turn gallery off", "blink window 20 times", "turn yard on for 2 h", "every 3 h pulse extractor for 1 min",
    "turn bench-lamp on", "after 90 min turn yard on", "play welcome on bell", "breathe gallery over 1 h", "release gallery", "run opening", "all-stop",
])), max_size=12)  # fmt: skip


@settings(max_examples=25, deadline=None)
@given(SAID, st.lists(st.integers(1, 3 * 86400 * 1000), max_size=12))
def test_cut_anywhere_it_is_the_same(said: list[tuple[int, str]], cuts: list[int]) -> None:
    def new() -> Rehearsal:
        happenings = [(BEGIN + second * NS, say(text)) for second, text in said]
        return Rehearsal(SITE, [(each, None) for each in PLAN.schedules], BEGIN, happenings=happenings)

    whole = new().run_to(BEGIN + 3 * DAY)
    parts = new()
    for cut in sorted(cuts):
        parts.run_to(BEGIN + cut * NS // 1000)
    found = parts.run_to(BEGIN + 3 * DAY)
    assert found.changes == whole.changes
    assert found.bars == whole.bars
    assert [record.text for record in found.records] == [record.text for record in whole.records]
    for name, done in whole.totals.items():
        # slopes are measured in 16 parts, and a cut makes other parts: at most one part of an hour's slope for each cut
        assert found.totals[name].on == pytest.approx(done.on, rel=0.001, abs=10 * MINUTE)
        assert found.totals[name].switchings == pytest.approx(done.switchings, abs=len(cuts))
        assert found.totals[name].joules == pytest.approx(done.joules, rel=0.01, abs=2000)


def test_hours_switchings_energy_and_wear() -> None:
    found = rehearse([schedule(name="y", from_="18:00", for_="90 min", do="turn yard on"), schedule(name="v", from_="06:00", for_="1 h", do="turn kiln-vent on")],
                     "2026-11-23 00:00", "2026-12-03 00:00")  # fmt: skip
    yard = found.totals["yard"]
    assert yard.on == 10 * 90 * MINUTE
    assert yard.switchings == 10
    assert yard.joules == pytest.approx(30 * 15 * 3600), "30 W for 15 h"
    assert wear(SITE, found.totals)["kiln-vent"] == (10 / 100_000, None)
    fade = rehearse(
        [],
        "2026-11-23 00:00",
        "2026-11-23 02:00",
        [("2026-11-23 00:00", say("fade gallery to 100 % over 2 h"))],
    )
    # the integral of CIE 1931 lightness over 0 to 100: ((L + 16) / 116)^3 above 8, L / 903.3 below; the lamp has a floor
    mean = (116 - 24**4 / 116**3) / 400 + 64 / 2 / 903.3 / 100
    assert fade.totals["gallery"].joules == pytest.approx(120 * 7200 * (0.004 + 0.996 * mean), rel=0.005)
    meter = Meter(SITE.outputs["yard"])
    meter.see(0, ON)
    meter.see(HOUR, ON)
    assert meter.take(2 * HOUR) == (2 * HOUR, 1, pytest.approx(30 * 7200))
    meter.see(3 * HOUR, None)
    assert meter.take(5 * HOUR) == (HOUR, 0, pytest.approx(30 * 3600)), "what nobody knows counts as off"
    meter.see(6 * HOUR, OFF)
    assert meter.take(7 * HOUR)[0] == 0


def test_programs_are_followed_by_their_segments() -> None:
    count = 0

    def tell(_: int) -> None:
        nonlocal count
        count += 1

    slow = [(schedule(name="s", from_="08:00", for_="10 h", do="turn gallery to 60 % over 9 h"), None)]
    found = Rehearsal(SITE, slow, BEGIN).run_to(BEGIN + DAY, tell=tell)
    assert count < 10, "and not sampled 1,620,000 times"
    assert changes(found, "gallery") == [("17:00:00", "60 %"), ("18:00:00", "off")]


def test_only_what_would_differ() -> None:
    one = [
        schedule(name="a", from_="18:00", to="20:00"),
        schedule(name="b", from_="06:00", to="07:00", do="turn gallery on"),
    ]
    other = [schedule(name="a", from_="18:00", to="21:00"), one[1]]
    first, second = (rehearse(plan, "2026-11-23 00:00", "2026-11-24 00:00") for plan in (one, other))
    pairs = [
        (was.output if was else None, would.output if would else None)
        for was, would in differences(first, second)
        if (was or would).on
    ]  # type: ignore[union-attr]
    assert pairs == [("yard", None), (None, "yard")]
    assert differences(first, first) == []


def test_a_past_period_is_replayed_from_its_journal() -> None:
    said = [("2026-11-23 09:00", say("turn yard on")), ("2026-11-23 10:00", say("turn gallery to 40 % over 5 min for 1 h")),
            ("2026-11-23 12:00", say("release yard")), ("2026-11-23 13:00", say("all-stop"))]  # fmt: skip
    real = rehearse(PLAN.schedules, "2026-11-23 00:00", "2026-11-24 00:00", said)
    rows = [(row.at.wall, row.kind, row.subject, row.data) for row in real.records]
    again = Rehearsal(
        SITE, [(each, None) for each in PLAN.schedules], BEGIN, happenings=replay.of_journal(rows, SITE)
    ).run_to(BEGIN + DAY)
    assert [change[:4] for change in again.changes] == [change[:4] for change in real.changes]
    fewer = Rehearsal(SITE, [], BEGIN, happenings=replay.of_journal(rows, SITE)).run_to(BEGIN + DAY)
    assert changes(fewer, "yard") == [("09:00:00", "on"), ("12:00:00", "off")], (
        "what persons did, without the plan"
    )
    assert not changes(fewer, "window")


def test_trips_guards_and_readings_are_replayed_too() -> None:
    """Reset trips come on again when they did, a lock opens when its code was given, a regulator sees what it saw."""
    rules = read_rules(SITE, PLAN)
    inputs = SITE.inputs

    def seen(name: str, active: bool) -> Put:
        return lambda now: ev.InputSeen(now, name, active, settled=True)

    def reads(name: str, value: float) -> Put:
        return lambda now: ev.Measured(now, name, 0, 1, inputs[name].volts(value))

    readings = [("11:00", 30.0), ("11:30", 39.0), ("12:00", 45.0), ("13:00", 35.0)]
    said: list[tuple[str, Put]] = [
        ("08:00", say("turn bench-lamp on until released", "a")), ("09:00", seen("emergency-button", True)),
        ("09:05", seen("emergency-button", False)),
        ("09:10", lambda now: ev.ResetTrip(now, "b", replay.KEEPER, "emergency button", "anna")),
        ("09:11", say("turn bench-lamp on until released", "c")),
        ("10:00", lambda now: ev.Open(now, "d", replay.KEEPER, "glaze-store", "anna")),
        *((time, reads("cupboard-temperature", value)) for time, value in readings),
    ]  # fmt: skip
    happenings = [(at(f"2026-11-23 {time}"), put) for time, put in said]
    real = Rehearsal(SITE, [], BEGIN, happenings=happenings, rules=rules).run_to(BEGIN + DAY)
    assert {"bench-lamp", "glaze-store", "cupboard-heater"} <= {change.output for change in real.changes}
    rows = [(row.at.wall, row.kind, row.subject, row.data) for row in real.records]
    kept = [(at(f"2026-11-23 {time}"), "cupboard-temperature", value) for time, value in readings]
    again = Rehearsal(SITE, [], BEGIN, happenings=replay.of_journal(rows, SITE, kept), rules=rules).run_to(
        BEGIN + DAY
    )
    assert [change[:4] for change in again.changes] == [change[:4] for change in real.changes]


def test_inputs_from_a_table_and_from_the_demos_world() -> None:
    def when(text: str) -> int:
        return at(text.replace("T", " "))

    table = "time,input,state\n2026-11-23T08:00,kiln-door,open\n2026-11-23T09:00,daylight,40\n\n2026-11-23T09:30,kiln-door,unknown\n"
    happenings = replay.of_table(table, SITE, when)
    found = Rehearsal(SITE, [], BEGIN, happenings=happenings).run_to(BEGIN + DAY)
    assert [record.text for record in found.records if record.kind == "input" and record.at.wall > BEGIN] == [
        "kiln-door is open",
        "kiln-door is unknown",
    ]
    for wrong, match in (("time,input\n", "columns"), ("time,input,state\n2026-11-23T08:00,door,open\n", "Line 2.*no input"),
                         ("time,input,state\n2026-11-23T08:00,kiln-door,ajar\n", "Line 2.*no state"), ("time,input,state\nx,daylight,much\n", "Line 2"),
                         ("time,input,state\n2026-11-23T08:00,daylight\n", "2 cells")):  # fmt: skip
        with pytest.raises((CallerError, ValueError), match=match if "x," not in wrong else None):
            replay.of_table(wrong, SITE, when)
    firing = [
        (
            schedule(name="f", from_="06:00", for_="2 h", do="turn kiln-vent on; wait 1 min; turn kiln on"),
            None,
        )
    ]
    world = Rehearsal(SITE, firing, BEGIN, world=rehearsed(SITE)).run_to(BEGIN + DAY)
    assert [record.text for record in world.records if record.kind == "input" and record.at.wall > BEGIN] == [
        "vent-flow is flowing",
        "vent-flow is still",
    ], "the draught follows the vent"
