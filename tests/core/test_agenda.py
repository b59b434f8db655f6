"""Timers and the plan in the engine: what begins, ends, is put off, skipped, and what a clock that is set does to it."""

from __future__ import annotations

import pytest

from cairnwind.core.engine.loop import Engine
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Instant
from cairnwind.core.facts.course import Timer
from cairnwind.core.facts.plan import changed
from cairnwind.core.language import schedules
from cairnwind.core.values.fact import replace
from cairnwind.core.values.quantities import NS
from tests.core.saltmarsh import (
    DAY,
    HOUR,
    MINUTE,
    PERSON,
    PLAN,
    SITE,
    at,
    changes,
    clock,
    rehearse,
    say,
    schedule,
)

KEEPER = PERSON._replace(role="keep")


def plan(verb: str, name: str, found: object = None) -> object:
    return lambda at: ev.Plan(at, "p", KEEPER, verb, name, found)  # type: ignore[arg-type]


def test_timers_of_every_sort() -> None:
    found = rehearse([], "2026-11-23 10:00", "2026-11-23 12:00", [
        ("2026-11-23 10:00:01", say("turn bench-lamp on for 10 min")),
        ("2026-11-23 10:05:01", say("after 10 min turn bench-lamp on")),
        ("2026-11-23 10:00:01", say("every 1 min 3 times toggle yard")),
        ("2026-11-23 10:30:00", say("turn clay-store on; wait 90 s; turn clay-store off; wait 1 min; turn wedging-room on")),
        ("2026-11-23 10:30:00", say("at 11:00 turn gallery to 40 %")),
        ("2026-11-23 10:30:00", say("every 10 min for 25 min pulse extractor for 2 s")),
    ])  # fmt: skip
    assert changes(found, "bench-lamp") == [("10:00:01", "on"), ("10:10:01", "off"), ("10:15:01", "on")]
    assert changes(found, "yard") == [("10:00:01", "on"), ("10:01:01", "off"), ("10:02:01", "on")]
    assert changes(found, "clay-store") == [("10:30:00", "on"), ("10:31:30", "off")]
    assert changes(found, "wedging-room") == [("10:32:30", "on")]
    assert changes(found, "gallery") == [("11:00:00", "40 %")]
    assert [time for time, words in changes(found, "extractor") if words == "on"] == [
        "10:30:00",
        "10:40:00",
        "10:50:00",
    ]
    assert [time for time, words in changes(found, "extractor") if words == "off"] == [
        "10:30:02",
        "10:40:02",
        "10:50:02",
    ]


def test_what_a_person_leaves_on_goes_off_by_itself() -> None:
    found = rehearse(
        [],
        "2026-11-23 10:00",
        "2026-11-24 10:00",
        [("2026-11-23 10:00", say("turn bench-lamp on")), ("2026-11-23 10:00", say("turn yard on"))],
    )
    assert changes(found, "bench-lamp") == [("10:00:00", "on"), ("14:00:00", "off")], (
        "auto_off in the site file"
    )
    assert changes(found, "yard") == [("10:00:00", "on")]


def test_a_takeover_lasts_until_the_plan_next_changes_that_output() -> None:
    evening = schedule(name="evening", from_="18:00", to="22:00", do="turn gallery to 60 %")
    found = rehearse([evening], "2026-11-23 12:00", "2026-11-24 12:00", [
        ("2026-11-23 12:00", say("turn gallery to 10 %")), ("2026-11-23 19:00", say("turn gallery off")), ("2026-11-23 19:00", say("turn yard on")),
    ])  # fmt: skip
    assert changes(found, "gallery") == [("12:00:00", "10 %"), ("18:00:00", "60 %"), ("19:00:00", "off")]
    assert changes(found, "yard") == [("19:00:00", "on")], "no schedule touches it"
    longer = rehearse(
        [evening],
        "2026-11-23 12:00",
        "2026-11-24 12:00",
        [("2026-11-23 12:00", say("turn gallery to 10 % until released"))],
    )
    assert changes(longer, "gallery") == [("12:00:00", "10 %")], "unless said otherwise"


def test_what_begins_later_leads_and_what_was_before_comes_back() -> None:
    early = schedule(name="early", from_="17:00", to="23:00", do="turn gallery to 30 %")
    late = schedule(name="late", from_="20:00", to="21:00", do="turn gallery to 80 %")
    for order in ([early, late], [late, early]):
        found = rehearse(order, "2026-11-23 12:00", "2026-11-24 12:00")
        assert changes(found, "gallery") == [
            ("17:00:00", "30 %"),
            ("20:00:00", "80 %"),
            ("21:00:00", "30 %"),
            ("23:00:00", "off"),
        ]
        assert [note.text for note in found.collisions] == [
            "'late' begins while 'early' (plan) also has it; what began later leads"
        ]
        begun = rehearse(order, "2026-11-23 20:30", "2026-11-23 20:40")
        assert changes(begun, "gallery")[-1] == ("20:30:00", "80 %"), "also for one who comes in the middle"


def test_enabling_skipping_running_now_and_changing() -> None:
    daily = schedule(name="daily", from_="08:00", for_="1 h", do="turn yard on")
    found = rehearse([daily], "2026-11-23 00:00", "2026-11-27 00:00", [
        ("2026-11-23 07:00", plan("skip", "daily")), ("2026-11-24 08:30", plan("disable", "daily")), ("2026-11-25 12:00", plan("enable", "daily")),
        ("2026-11-25 13:00", plan("run", "daily")), ("2026-11-26 08:20", plan("put", "daily", schedule(name="daily", from_="08:00", for_="30 min", do="turn yard on"))),
        ("2026-11-26 10:00", plan("drop", "nothing")),
    ])  # fmt: skip
    assert [(clock(each.wall)[8:16], each.words) for each in found.changes if each.output == "yard"] == [
        ("24 08:00", "on"), ("24 08:30", "off"), ("25 13:00", "on"), ("25 14:00", "off"), ("26 08:00", "on"), ("26 08:30", "off"),
    ]  # fmt: skip
    assert any("no schedule called 'nothing'" in record.text for record in found.records)
    own = changed(daily, origin="site file")
    kept = rehearse(
        [own], "2026-11-23 00:00", "2026-11-24 00:00", [("2026-11-23 01:00", plan("drop", "daily"))]
    )
    assert changes(kept, "yard") == [("08:00:00", "on"), ("09:00:00", "off")]
    assert any("is in the site file" in record.text for record in kept.records)


def test_a_sequence_on_the_plan_ends_with_its_span() -> None:
    firing = schedule(
        name="firing",
        from_="18:00",
        for_="1 h",
        do="turn kiln-vent on; wait 30 s; turn kiln on; wait 2 h; turn yard on",
    )
    found = rehearse([firing], "2026-11-23 12:00", "2026-11-24 12:00")
    assert changes(found, "kiln-vent") == [("18:00:00", "on"), ("19:00:00", "off")]
    assert changes(found, "kiln") == [("18:00:30", "on"), ("19:00:00", "off")]
    assert changes(found, "yard") == [], "its wait was not over"


class Bench:
    """An engine on clocks of its own, with boards that answer at once, and a store that is read at a restart."""

    def __init__(self, wall: int, schedules: tuple[object, ...] = ()) -> None:
        self.mono, self.wall = 100 * NS, wall
        self.own = schedules
        self.claims: dict[tuple[str, str], object] = {}
        self.timers: dict[int, Timer] = {}
        self.states: dict[str, object] = {}
        self.journal: list[str] = []
        self.last = 0
        self.begin()

    def begin(self) -> None:
        self.engine = Engine(SITE)
        for name in SITE.boards:
            self.feed(
                ev.LinkUp(
                    self.now,
                    name,
                    tuple((o.name, o.safe) for o in SITE.outputs.values() if o.pin.board == name),
                )
            )
        timers = tuple(schedules.timer_read(schedules.timer_form(timer)) for timer in self.timers.values())
        known = tuple((each, self.states.get(each.name)) for each in self.own)  # type: ignore[attr-defined]
        self.feed(
            ev.Start(
                self.now,
                self.engine.state.journal.sequence,
                tuple(self.claims.values()),
                timers=timers,
                schedules=known,
                last=self.last,
            )
        )  # type: ignore[arg-type]

    @property
    def now(self) -> Instant:
        return Instant(self.mono, self.wall)

    def feed(self, event: ev.Event) -> None:
        for effect in self.engine.handle(event):
            match effect:
                case ev.Drive(output, generation, setting):
                    self.feed(ev.Confirmed(self.now, output, generation, setting))
                case ev.Record():
                    self.journal.append(effect.text)
                    self.last = max(self.last, self.wall)
                case ev.KeepClaim(claim):
                    self.claims[claim.output, claim.slot] = claim
                case ev.DropClaim(output, slot):
                    self.claims.pop((output, slot), None)
                case ev.KeepTimer(timer):
                    self.timers[timer.id] = timer
                case ev.DropTimer(id):
                    self.timers.pop(id, None)
                case ev.KeepSchedule(found, now):
                    self.states[found.name] = now

    def pass_by(self, span: int) -> None:
        end = self.mono + span
        while True:
            due = self.engine.next_deadline(self.now)
            if due is None or due > end:
                break
            step = max(0, due - self.mono)
            self.mono, self.wall = self.mono + step, self.wall + step
            self.feed(ev.Tick(self.now))
        self.mono, self.wall = end, self.wall + end - self.mono
        self.feed(ev.Tick(self.now))

    def down_for(self, span: int) -> None:
        """The machine is off, and boots: the monotonic clock begins anew."""
        self.wall += span
        self.mono = 7 * NS
        self.begin()

    def say(self, phrase: str) -> None:
        self.feed(ev.Do(self.now, f"c{self.mono}", PERSON, PLAN.course(phrase)))

    def shows(self, name: str) -> str:
        confirmed = self.engine.output_now(name).confirmed
        return SITE.outputs[name].say(confirmed) if confirmed is not None else "unknown"


def test_timers_survive_a_restart_with_their_end_time() -> None:
    bench = Bench(at("2026-11-23 10:00"))
    for phrase in ("turn yard on for 10 min", "after 10 min turn clay-store on", "after 2 min turn wedging-room on", "at 10:30 turn gallery to 40 %",
                   "every 4 min blink window 2 times", "after 3 min turn pug-mill on"):  # fmt: skip
        bench.say(phrase)
    bench.down_for(5 * MINUTE)
    assert bench.shows("yard") == "on"
    assert bench.shows("clay-store") == "off"
    assert bench.shows("wedging-room") == "on", "due while the service was down: at the start"
    assert bench.shows("pug-mill") == "off", "a motor that should have gone on then needs a new command"
    assert any("it needs a new command" in text for text in bench.journal)
    bench.pass_by(5 * MINUTE + NS)
    assert (bench.shows("yard"), bench.shows("clay-store")) == ("off", "on")
    bench.down_for(40 * MINUTE)
    assert bench.shows("gallery") == "40 %"
    assert not [timer for timer in bench.timers.values() if not timer.every]
    (series,) = bench.timers.values()
    assert bench.wall < series.due_wall <= bench.wall + 4 * MINUTE, "missed rounds are not made up for"
    bench.feed(ev.ChangeTimer(bench.now, "x", PERSON, series.id))
    assert not bench.timers


def test_a_timer_that_falls_due_while_nothing_can_be_recorded_is_owed() -> None:
    firing = schedule(
        name="firing", from_="10:00", for_="2 h", do="turn kiln-vent on; wait 20 min; turn path-1 on"
    )
    bench = Bench(at("2026-11-23 10:00"), (firing,))
    bench.say("turn wedging-room and bench-lamp on")
    for phrase in ("after 10 min turn gallery on for 5 min", "after 10 min turn bench-lamp off", "after 10 min toggle wedging-room", "after 10 min turn yard on",
                   "after 10 min turn window on", "after 10 min turn clay-store on; wait 2 min; turn clay-store off", "after 10 min turn pug-mill on",
                   "every 7 min turn cupboard-fan on for 1 s"):  # fmt: skip
        bench.say(phrase)
    cancelled = max(timer.id for timer in bench.timers.values() if "yard" in timer.text)
    bench.pass_by(8 * MINUTE)
    bench.feed(ev.Recording(bench.now, False, "disk full"))
    bench.pass_by(20 * MINUTE)
    shown = {
        name: bench.shows(name)
        for name in ("gallery", "bench-lamp", "wedging-room", "yard", "clay-store", "path-1")
    }
    assert set(shown.values()) == {"off"}, "what goes off goes off, and nothing comes on"
    assert any("what comes on waits until the journal can be written" in text for text in bench.journal)
    bench.feed(ev.ChangeTimer(bench.now, "x", PERSON, cancelled))
    bench.say("turn window off")
    rung = sum(text.startswith("cupboard-fan to 100 % (driving)") for text in bench.journal)
    bench.feed(ev.Recording(bench.now, True))
    shown = {name: bench.shows(name) for name in ("gallery", "clay-store", "path-1")}
    assert shown == {"gallery": "100 %", "clay-store": "on", "path-1": "white"}, "late, the plan's included"
    assert (bench.shows("bench-lamp"), bench.shows("wedging-room"), bench.shows("yard")) == (
        "off",
        "off",
        "off",
    ), "a toggle is carried out once, what is cancelled is not"
    assert bench.shows("window") == "off", "somebody has decided otherwise since"
    assert any("is overtaken by a person" in text for text in bench.journal)
    assert bench.shows("pug-mill") == "off", "a motor needs a new command"
    assert sum(text.startswith("cupboard-fan to 100 % (driving)") for text in bench.journal) == rung + 1, (
        "of a series once"
    )
    bench.pass_by(6 * MINUTE)
    assert (bench.shows("gallery"), bench.shows("clay-store")) == ("off", "off"), (
        "from then on as if it began then"
    )
    assert [timer.every for timer in bench.timers.values()] == [7 * MINUTE]


def test_what_goes_off_in_what_is_owed_waits_for_nothing() -> None:
    bench = Bench(at("2026-11-23 10:00"))
    for phrase in ("turn yard and bench-lamp on", "after 1 min turn gallery on; wait 1 min; turn yard off", "after 1 min turn window on; wait 2 min; turn gallery off; wait 2 min; turn bench-lamp off"):  # fmt: skip
        bench.say(phrase)
    bench.feed(ev.Recording(bench.now, False, "disk full"))
    bench.pass_by(2 * MINUTE + NS)
    assert (bench.shows("gallery"), bench.shows("yard"), bench.shows("bench-lamp")) == ("off", "off", "on")
    bench.feed(ev.Recording(bench.now, True))
    assert (bench.shows("gallery"), bench.shows("window")) == ("100 %", "100 %")
    assert len(bench.timers) == 2, "what was still to follow is not done twice"
    bench.pass_by(5 * MINUTE)
    assert {bench.shows(name) for name in ("gallery", "yard", "bench-lamp")} == {"off"}
    assert not bench.timers


def test_what_a_timer_did_and_the_disk_did_not_take_is_owed() -> None:
    bench = Bench(at("2026-11-23 10:00"))
    bench.say("after 10 min turn gallery on; wait 2 min; turn gallery off")
    bench.pass_by(10 * MINUTE)
    assert bench.shows("gallery") == "100 %"
    (made,), (rest,) = bench.claims.values(), bench.timers
    bench.feed(ev.Recording(bench.now, False, "a commit has not come to its end"))
    taken_back = ev.Withdraw(bench.now, "w", PERSON, ((made, None),))  # type: ignore[arg-type]
    bench.feed(taken_back)
    assert bench.shows("gallery") == "off"
    assert rest in bench.timers, "what goes off after it goes off at its time"
    bench.pass_by(5 * MINUTE)
    assert bench.shows("gallery") == "off"
    bench.feed(ev.Recording(bench.now, True))
    assert bench.shows("gallery") == "100 %"
    (made,) = bench.claims.values()
    bench.feed(replace(taken_back, made=((made, None),)))
    assert bench.shows("gallery") == "100 %", (
        "the disk was back before it was known that one commit had failed"
    )
    bench.pass_by(2 * MINUTE)
    assert bench.shows("gallery") == "off"
    assert not bench.timers


def test_a_wait_of_the_plan_that_was_over_while_the_service_was_down() -> None:
    firing = schedule(
        name="firing",
        from_="18:00",
        for_="2 h",
        do="turn kiln-vent on; wait 10 min; turn kiln on; wait 5 min; turn yard on",
    )
    bench = Bench(at("2026-11-23 17:59"), (firing,))
    bench.pass_by(2 * MINUTE)
    assert (bench.shows("kiln-vent"), bench.shows("kiln")) == ("on", "off")
    bench.down_for(30 * MINUTE)
    bench.pass_by(NS)
    assert [bench.shows(name) for name in ("kiln-vent", "kiln", "yard")] == ["on", "on", "on"], (
        "what should be on now is on"
    )
    bench.down_for(2 * HOUR)
    assert not bench.timers
    late = Bench(at("2026-11-23 18:30"), (firing,))
    late.pass_by(NS)
    assert [late.shows(name) for name in ("kiln-vent", "kiln", "yard")] == ["on", "on", "on"], (
        "also for one who starts in the middle"
    )


def test_a_restart_in_the_middle_of_a_span_and_of_its_fade() -> None:
    slow = schedule(name="slow", from_="18:00", to="20:00", do="turn gallery to 60 % over 40 min")
    momentary = schedule(name="bell", from_="18:00", to="20:00", do="toggle yard")
    bench = Bench(at("2026-11-23 17:59"), (slow, momentary))
    bench.pass_by(21 * MINUTE)
    half = bench.shows("gallery")
    assert (half, bench.shows("yard")) == ("30 %", "on")
    bench.down_for(10 * MINUTE)
    assert bench.shows("gallery") == "45 %", "the fade is where it would be by now"
    assert bench.shows("yard") == "on", "what was toggled is not toggled again"
    assert sum("'slow' begins" in text for text in bench.journal) == 1
    bench.pass_by(20 * MINUTE)
    assert bench.shows("gallery") == "60 %"
    bench.down_for(2 * HOUR)
    assert (bench.shows("gallery"), bench.shows("yard")) == ("off", "off"), "the span ended meanwhile"
    bench.down_for(22 * HOUR - 30 * MINUTE)
    assert bench.shows("gallery") == "30 %", "what should be on now is on, as far as it would be at 18:20"
    bench.own = (momentary,)
    bench.down_for(NS)
    assert bench.shows("gallery") == "off", "the schedule has left the site file"


@pytest.mark.parametrize("jump", [HOUR, -HOUR, 8 * HOUR])
def test_a_clock_that_is_set_moves_the_plan_and_nothing_else(jump: int) -> None:
    evening = schedule(name="evening", from_="18:00", to="20:00", do="turn yard on")
    bench = Bench(at("2026-11-23 18:30"), (evening,))
    bench.say("turn clay-store on for 10 min")
    bench.say("fade gallery to 50 % over 10 min")
    bench.pass_by(5 * MINUTE)
    assert bench.shows("yard") == "on"
    bench.wall += jump
    bench.feed(ev.Tick(bench.now))
    hour = clock(bench.wall)[11:13]
    assert bench.shows("yard") == ("on" if hour in ("18", "19") else "off")
    assert (bench.shows("clay-store"), bench.shows("gallery")) == ("on", "25 %"), (
        "durations are not the wall clock's"
    )
    bench.pass_by(5 * MINUTE + NS)
    assert (bench.shows("clay-store"), bench.shows("gallery")) == ("off", "50 %")
    assert any(text.startswith("the clock was set") for text in bench.journal)


def test_a_clock_that_is_behind_the_journal_is_not_believed() -> None:
    evening = schedule(name="evening", from_="18:00", to="20:00", do="turn yard on")
    bench = Bench(at("2026-11-23 17:00"), (evening,))
    bench.down_for(-300 * DAY)  # a board without a battery
    bench.wall = at("2026-01-05 18:30")
    bench.begin()
    assert bench.shows("yard") == "off"
    assert any("schedules wait until it is synchronised" in text for text in bench.journal)
    bench.say("turn clay-store on for 5 s")
    bench.pass_by(10 * NS)
    assert bench.shows("clay-store") == "off", "what lasts a time does not wait"
    bench.wall = at("2026-11-23 18:30")
    bench.feed(ev.Tick(bench.now))
    assert bench.shows("yard") == "on"
