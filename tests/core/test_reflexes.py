"""Reflexes, regulators and alarms on an engine of their own."""

from __future__ import annotations

import math
from typing import Any

import pytest

from cairnwind.core.engine.loop import Engine
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import RELEASED, Instant, Rank, Source
from cairnwind.core.language import forms as rules
from cairnwind.core.values.quantities import NS
from cairnwind.core.values.settings import FULL, OFF, ON
from tests.core.saltmarsh import PLAN, SITE, at, schedule

WORDS = rules.language(SITE)
ANNA = Source("test", "anna", "keep")


class Run:
    """The demo's site under a few rules, with boards that answer at once and a store that is read at a restart."""

    def __init__(self, *made: Any) -> None:
        self.made = made
        self.now = Instant(NS, at("2026-11-23 12:00"))
        self.records: list[ev.Record] = []
        self.alarms: dict[str, Any] = {}
        self.claims: dict[tuple[str, str], Any] = {}
        self.begin()

    def begin(self) -> None:
        self.engine = Engine(SITE)
        for name in SITE.boards:
            self.take(
                ev.LinkUp(
                    self.now,
                    name,
                    tuple((each.name, each.safe) for each in SITE.outputs.values() if each.pin.board == name),
                )
            )
        for input in SITE.inputs.values():
            if not input.valued:
                self.take(ev.InputSeen(self.now, input.name, False, settled=True))
        self.take(
            ev.Start(
                self.now,
                claims=tuple(self.claims.values()),
                reflexes=self.made,
                alarms=tuple(self.alarms.values()),
            )
        )

    def take(self, event: ev.Event) -> None:
        waiting = [event]
        while waiting:
            for effect in self.engine.handle(waiting.pop(0)):
                match effect:
                    case ev.Drive(output, generation, setting):
                        waiting.append(ev.Confirmed(self.now, output, generation, setting))
                    case ev.Record():
                        self.records.append(effect)
                    case ev.KeepAlarm(alarm):
                        self.alarms[alarm.name] = alarm
                    case ev.DropAlarm(name):
                        self.alarms.pop(name, None)
                    case ev.KeepClaim(claim):
                        self.claims[claim.output, claim.slot] = claim
                    case ev.DropClaim(output, slot):
                        self.claims.pop((output, slot), None)

    def later(self, seconds: float) -> None:
        end = self.now.mono + round(seconds * NS)
        while (due := self.engine.next_deadline(self.now)) is not None and due <= end:
            self.now = Instant(max(due, self.now.mono), self.now.wall + max(0, due - self.now.mono))
            self.take(ev.Tick(self.now))
        self.now = Instant(end, self.now.wall + end - self.now.mono)

    def contact(self, name: str, active: bool | None) -> None:
        self.take(ev.InputSeen(self.now, name, active, settled=True))

    def measure(self, name: str, value: float) -> None:
        volts = SITE.inputs[name].volts(value)
        self.take(ev.Measured(self.now, name, round(volts * 1000), 4095, volts))

    def level(self, name: str) -> float:
        confirmed = self.engine.output_now(name).confirmed
        return confirmed.parts / FULL if confirmed else math.nan


def reflex(**form: Any) -> Any:
    return rules.reflex(
        {"name": "it", **{key.rstrip("_"): value for key, value in form.items()}}, WORDS, PLAN.course
    )


def test_when_fires_at_the_moment_and_not_on_the_way_from_unknown() -> None:
    run = Run(reflex(when="yard-gate becomes open", do="turn yard on for 10 s"))
    run.contact("yard-gate", None)
    run.contact("yard-gate", True)
    assert run.level("yard") == 0
    run.contact("yard-gate", False)
    run.contact("yard-gate", True)
    assert run.level("yard") == 1
    run.later(11)
    assert run.level("yard") == 0
    fired = [record for record in run.records if record.kind == "reflex"]
    assert len(fired) == 1
    assert fired[0].data["chain"] == []


def test_a_reflex_is_not_faster_than_its_pause() -> None:
    run = Run(reflex(when="yard-gate becomes open", do="toggle yard", as_="person", pause="2 s"))
    for _ in range(4):
        run.contact("yard-gate", False)
        run.contact("yard-gate", True)
        run.later(0.5)
    assert len([record for record in run.records if record.kind == "reflex"]) == 1
    run.later(2)
    run.contact("yard-gate", False)
    run.contact("yard-gate", True)
    assert run.level("yard") == 0


def test_long_and_double_presses() -> None:
    run = Run(
        reflex(when="bench-switch is pressed for 1 s", do="turn yard on for 1 h"),
        rules.reflex(
            {"name": "twice", "when": "bench-switch becomes pressed twice", "do": "turn window on for 1 h"},
            WORDS,
            PLAN.course,
        ),
    )
    for length, gap in ((0.1, 2.0), (0.1, 0.2), (0.1, 3.0)):
        run.contact("bench-switch", True)
        run.later(length)
        run.contact("bench-switch", False)
        run.later(gap)
    assert (run.level("window"), run.level("yard")) == (1, 0)
    run.contact("bench-switch", True)
    run.later(1.1)
    assert run.level("yard") == 1


def test_while_holds_lets_go_at_unknown_and_is_there_again_after_a_restart() -> None:
    run = Run(reflex(while_="yard-gate is open", do="turn yard on"))
    run.contact("yard-gate", True)
    assert run.level("yard") == 1
    run.begin()
    assert run.level("yard") == 0
    run.contact("yard-gate", True)
    assert run.level("yard") == 1
    run.contact("yard-gate", None)
    assert run.level("yard") == 0
    assert not run.claims


def test_a_reload_that_leaves_fewer_rules_forgets_what_the_old_ones_were_waiting_for() -> None:
    run = Run(reflex(when="yard-gate is open for 5 s", do="turn yard on for 1 h"), regulator())
    guard = rules.guard("glaze-store", {"opens": "5 s"}, SITE)
    run.take(ev.Reload(run.now, "c", ANNA, SITE, reflexes=run.made, guards=(guard,)))
    run.contact("yard-gate", True)
    run.measure("cupboard-temperature", 20)
    run.take(ev.Open(run.now, "c", ANNA, "glaze-store", "anna"))
    assert run.level("glaze-store") == 1
    run.take(ev.Reload(run.now, "c", ANNA, SITE))
    run.later(20)
    assert (run.level("yard"), run.level("glaze-store"), run.level("cupboard-heater")) == (0, 0, 0)
    run.take(ev.Wish(run.now, "c", ANNA, "glaze-store", ON, Rank.PERSON, "person", RELEASED))
    assert run.level("glaze-store") == 1, "nothing guards it any more"


def regulator(**more: Any) -> Any:
    form = {
        "name": "cupboard",
        "keep": "cupboard-temperature between 38 C and 42 C",
        "by": "cupboard-heater",
        "pause": "10 s",
        **more,
    }
    return rules.regulator(form, WORDS)


def cupboard(run: Run, output: str, seconds: int, value: float = 20.0, gain: float = 60.0) -> list[float]:
    """A cupboard that loses a hundredth of its excess a second."""
    values = []
    for _ in range(seconds):
        run.later(1)
        value += (gain * run.level(output) - (value - 20)) / 100
        run.measure("cupboard-temperature", value)
        values.append(value)
    return values


def test_a_two_point_regulator_keeps_its_input_between_its_two_values() -> None:
    run = Run(regulator())
    values = cupboard(run, "cupboard-heater", 1500)
    assert all(34 < value < 47 for value in values[400:])
    switched = [
        record for record in run.records if record.kind == "change" and record.subject == "cupboard-heater"
    ]
    assert 4 < len(switched) < 120
    run.later(11)  # its sensor is silent, which is more than it may be
    assert run.level("cupboard-heater") == 0
    assert run.engine.input_now("cupboard-temperature").value is None
    run.measure("cupboard-temperature", 20)
    run.later(11)
    assert run.level("cupboard-heater") in (0, 1)


def test_a_fan_lowers_and_a_person_leads() -> None:
    run = Run(regulator(by="cupboard-fan", lowers=True))
    for _ in range(12):
        run.measure("cupboard-temperature", 45)
        run.later(1)
    assert run.level("cupboard-fan") > 0
    run.take(ev.Wish(run.now, "c", ANNA, "cupboard-fan", OFF, Rank.PERSON, "person", RELEASED))
    run.later(2)
    assert run.level("cupboard-fan") == 0


def test_a_level_settles_in_the_middle_without_a_rest_of_difference() -> None:
    run = Run(regulator(by="gallery", gain=8, integral="60 s", pause="2 s"))
    values = cupboard(run, "gallery", 2400)
    assert all(abs(value - 40) < 1.5 for value in values[-300:])
    assert 0.2 < run.level("gallery") < 0.5
    assert run.level("gallery") == pytest.approx(round(run.level("gallery"), 2), abs=1e-6), "whole percents"
    run.contact("yard-gate", True)
    run.take(ev.LinkLost(run.now, "shelf", "pulled"))
    run.take(
        ev.LinkUp(
            run.now,
            "shelf",
            tuple((each.name, each.safe) for each in SITE.outputs.values() if each.pin.board == "shelf"),
        )
    )
    run.later(5)
    assert run.level("gallery") == 0, "nothing is known of the cupboard yet"


def test_an_alarm_that_comes_back_and_one_that_is_heard_while_it_lasts() -> None:
    alarm = rules.alarm(
        {"name": "gate", "when": "yard-gate is open", "repeat": "1 min", "do": "turn window on for 2 s"},
        WORDS,
        PLAN.course,
    )
    run = Run(alarm)
    run.contact("yard-gate", True)
    assert run.level("window") == 1
    run.later(3)
    assert run.level("window") == 0
    run.later(60)
    assert run.alarms["gate"].times == 2
    run.contact("yard-gate", False)
    assert not run.alarms["gate"].so, "it stays, though it is no longer so"
    run.take(ev.Acknowledge(run.now, "c", ANNA, "gate", ""))
    assert "gate" in run.alarms, "nobody was named"
    run.take(ev.Acknowledge(run.now, "c", ANNA, "gate", "Anna"))
    assert not run.alarms
    run.contact("yard-gate", True)
    run.take(ev.Acknowledge(run.now, "c", ANNA, "gate", "Anna"))
    assert run.alarms["gate"].by == "Anna"
    run.later(200)
    assert run.alarms["gate"].times == 1, "what was heard is not repeated"
    run.contact("yard-gate", False)
    assert not run.alarms


def test_a_chain_carries_its_causes_and_stops_where_it_comes_back() -> None:
    one = rules.reflex(
        {"name": "one", "when": "yard becomes on", "do": "turn yard off for 1 s"}, WORDS, PLAN.course
    )
    two = rules.reflex(
        {"name": "two", "when": "yard becomes off", "do": "turn yard on for 1 s"}, WORDS, PLAN.course
    )
    run = Run(one, two)
    run.take(ev.Wish(run.now, "c", ANNA, "yard", ON, Rank.PLAN, "plan:it", RELEASED))
    run.later(30)
    suspended = dict(run.engine.site_now().suspended)
    assert suspended
    assert all("comes back to it" in why for why in suspended.values())
    assert (
        len([record for record in run.records if record.kind == "change" and record.subject == "yard"]) < 10
    )


def test_what_began_while_nothing_could_be_recorded_is_made_up_for() -> None:
    """A span of the plan, what is held while something is so, a regulator: none may come on, and each does afterwards."""
    span = schedule(name="noon", do="turn window on", from_="12:01", for_="1 h")
    run = Run(reflex(while_="yard-gate is open", do="turn yard on"), regulator())
    run.take(ev.Plan(run.now, "p", ANNA, "put", "noon", span))
    run.measure("cupboard-temperature", 40.0)
    run.take(ev.Recording(run.now, False, "disk full"))
    run.contact("yard-gate", True)
    run.later(120)
    run.measure("cupboard-temperature", 30.0)
    names = ("window", "yard", "cupboard-heater")
    assert [run.level(name) for name in names] == [0, 0, 0], "nothing comes on that nobody could look up"
    run.take(ev.Recording(run.now, True))
    assert [run.level(name) for name in names] == [1, 1, 1]
    made = run.claims["window", span.slot]
    run.take(ev.Recording(run.now, False, "disk full"))
    run.take(ev.Withdraw(run.now, "w", ANNA, ((made, None),)))
    assert run.level("window") == 0, "its commit failed: it is taken back"
    run.take(ev.Recording(run.now, True))
    assert run.level("window") == 1, "and is due all the same"
    run.later(3600)
    assert run.level("window") == 0
