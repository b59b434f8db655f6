"""Nothing is left on, or off, for ever: graces end, what waits is looked at, and a reload of the same rules changes nothing."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cairnwind.core.explain.why import why
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Rank
from cairnwind.core.language.forms import language
from cairnwind.core.rules.kinds import make
from cairnwind.core.state.timers import Timers
from cairnwind.core.values.fact import replace
from cairnwind.core.values.quantities import NS
from cairnwind.core.values.settings import OFF
from tests.core.test_interlocks import MS, NEEDS, on, plant, when
from tests.invariants.plant import KEEPER, Plant

GRACE = {"name": "draught", "needs": "vent is on and door is shut", "outputs": ["kiln"], "grace": "10 s"}
TRIP = {"name": "door watch", "trip": "door is open", "outputs": ["kiln"], "grace": "10 s"}


def reason(run: Plant, output: str) -> str:
    """What 'why' says."""
    return why(run.engine.output_now(output), lambda wall: f"{(wall - run.wall) / NS:+.0f} s").sentence


def fired(run: Plant) -> None:
    run.wish("vent", True, Rank.PLAN)
    run.pass_time(NS)
    run.wish("kiln", True, Rank.PLAN)
    run.pass_time(NS)
    assert on(run) == {"vent", "kiln"}


# --- graces ---------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    "then", ["false", "unknown", "flapping", "false, then unknown", "unknown, then false"]
)
def test_a_grace_runs_on_whatever_the_condition_becomes_and_ends(then: str) -> None:
    run = plant(GRACE, boards=("a",))
    fired(run)
    began = run.mono

    def see(active: bool | None) -> None:
        run.tell(ev.InputSeen(run.now, "door", active))

    for each in then.split(", then "):
        see({"false": True, "unknown": None}.get(each, True))
        run.pass_time(4 * NS)
        assert "kiln" in on(run)
        assert "it goes to off at +" in reason(run, "kiln"), "why says that, and when"
    for number in range(6 if then == "flapping" else 0):
        see(None if number % 2 else True)
        run.pass_time(900 * MS)
    run.pass_time(began + 11 * NS - run.mono)
    assert on(run) == {"vent"}
    assert when(run, "kiln", False) + 1000 == pytest.approx(began / NS + 10, abs=0.1)


def test_a_grace_ends_when_the_condition_is_met_again() -> None:
    run = plant(GRACE)
    fired(run)
    run.set_input("door", True)
    run.pass_time(9 * NS)
    run.set_input("door", False)
    run.pass_time(60 * NS)
    assert on(run) == {"vent", "kiln"}
    assert "it goes to off" not in reason(run, "kiln")
    run.set_input("door", True)
    run.pass_time(9 * NS)
    assert "kiln" in on(run), "it begins anew"
    run.wish("kiln", False)
    run.pass_time(100 * MS)
    assert "it goes to off" not in reason(run, "kiln"), "it is off already"
    run.pass_time(2 * NS)
    assert "kiln" not in on(run)


def test_a_trip_whose_input_was_never_known_trips_and_so_it_does_when_a_restart_comes_in_between() -> None:
    run = plant(TRIP)
    run.contacts.clear()  # nobody says what the door is
    run.start()
    run.wish("kiln", True)
    run.pass_time(6 * NS)
    assert on(run) == {"kiln"}
    assert "whether door is open is not known, and 'door watch' trips" in reason(run, "kiln")
    run.start()
    run.wish("kiln", True)
    run.pass_time(3 * NS)
    assert not run.trips
    run.pass_time(2 * NS)
    assert "door watch" in run.trips, "10 s after it was first asked, a restart in between"
    assert not on(run)


def test_a_trip_that_is_known_not_to_be_so_in_time_does_not_trip() -> None:
    run = plant(TRIP)
    for _ in range(5):
        run.tell(ev.InputSeen(run.now, "door", None))
        run.pass_time(9 * NS)
        run.tell(ev.InputSeen(run.now, "door", False))
        run.pass_time(NS)
    assert not run.trips


# --- waits ----------------------------------------------------------------------------------------------------


def test_an_off_that_waits_for_a_lost_board_is_over_when_that_reads_back_off() -> None:
    run = plant({"name": "draught", "needs": "up is on", "outputs": ["kiln"]}, boards=("a", "b"))
    run.wish("up", True)
    run.pass_time(NS)
    run.wish("kiln", True, Rank.PLAN)
    run.pass_time(NS)
    run.lose("a")  # the kiln's
    run.wish("up", False)
    run.pass_time(NS)
    assert "kiln has to be confirmed off first" in reason(run, "up")
    run.release("kiln", "plan:kiln")
    run.back("a")
    run.pass_time(NS)
    assert on(run) == set()
    assert reason(run, "up").startswith("off")


def test_a_welded_contact_does_not_make_those_that_need_it_chatter() -> None:
    run = plant({"name": "draught", "needs": "vent is on", "outputs": ["kiln"]})
    run.wish("vent", True)
    run.pass_time(NS)
    run.weld("vent")
    run.wish("kiln", True, Rank.PLAN)
    run.pass_time(NS)
    run.wish("vent", False)
    run.pass_time(120 * NS)
    assert len([each for each in run.onlooker.moves if each[1] == "kiln"]) == 2, "on, and off once for good"


def test_who_cannot_start_keeps_nobody_out() -> None:
    alone = plant(
        {"name": "fuse", "limit": "50 W", "outputs": ["kiln", "lamp"]}, watts={"kiln": 80, "lamp": 40}
    )
    alone.wish("kiln", True, Rank.PLAN)
    assert "kiln alone needs 80 W" in reason(alone, "kiln")
    alone.wish("lamp", True)
    alone.pass_time(5 * NS)
    assert on(alone) == {"lamp"}
    room = plant(
        {"name": "fuse", "limit": "100 W", "outputs": ["kiln", "lamp", "mill"]},
        watts={"kiln": 80, "lamp": 40, "mill": 50},
    )
    room.wish("lamp", True)
    room.pass_time(NS)
    room.wish("kiln", True, Rank.PLAN)
    room.wish("mill", True, Rank.PLAN)
    room.pass_time(5 * NS)
    assert on(room) == {"lamp", "mill"}, "who fits is let in, though the kiln does not"
    away = plant(
        {"name": "one", "excludes": ["kiln", "up"]},
        {"name": "two", "excludes": ["kiln", "lamp"]},
        boards=("a", "b"),
    )
    away.wish("up", True)
    away.pass_time(NS)
    away.lose("b")
    away.wish("kiln", True, Rank.PLAN, patient=True)
    away.wish("lamp", True, Rank.PLAN)
    away.pass_time(5 * NS)
    assert "lamp" in on(away)


def test_what_excludes_an_output_is_said_as_it_is() -> None:
    run = plant({"name": "one way", "excludes": ["up", "down"], "gap": "5 s"})
    run.wish("up", True)
    run.pass_time(NS)
    run.wish("up", False)
    run.pass_time(100 * MS)
    run.wish("down", True)
    run.pass_time(NS)
    refused = run.wish("up", True)
    assert "down is next, for a person at the test (keeper)" in refused.reason
    assert "switch down off" not in refused.remedy.lower()


def test_a_start_that_failed_does_not_count_as_time_on() -> None:
    run = plant({"name": "mild", "pace": {"least_on": "60 s"}, "outputs": ["mill"]})
    run.fails["a"] = "before"
    run.wish("mill", True)
    run.pass_time(20 * MS)
    run.wish("mill", False)
    run.pass_time(NS)
    assert run.engine.output_now("mill").keeping is None
    run.wish("mill", True)
    run.pass_time(NS)
    run.wish("mill", False)
    run.pass_time(55 * NS)
    assert on(run) == {"mill"}, "from the confirmed on"


def test_words_of_what_is_on_its_way() -> None:
    run = plant(NEEDS)
    run.wish("vent", True)
    run.pass_time(2 * NS)
    run.wish("kiln", True, Rank.PLAN)
    assert "vent is on, but not yet for 5 s" in reason(run, "kiln")
    slow = plant({"name": "n", "needs": "not (vent is on for 30 s)", "outputs": ["kiln"]})
    slow.wish("vent", True)
    slow.pass_time(2 * NS)
    slow.wish("kiln", True, Rank.PLAN)
    slow.pass_time(NS)
    assert on(slow) == {"vent", "kiln"}, "2 s after it came on it has certainly not been on for 30 s"
    slow.pass_time(40 * NS)
    assert on(slow) == {"vent"}


# --- reload ---------------------------------------------------------------------------------------------------

ALL = (
    GRACE,
    TRIP,
    {"name": "one way", "excludes": ["up", "down"], "gap": "2 s"},
    {"name": "fuse", "limit": 2, "outputs": ["lamp", "mill", "pump"], "settle": "3 s"},
    {
        "name": "mild",
        "pace": {"least_on": "3 s", "least_off": "2 s", "longest_on": "20 s", "rest": "4 s"},
        "outputs": ["mill"],
    },
)


@settings(max_examples=60)
@given(
    st.lists(
        st.tuples(st.sampled_from(["wish", "door", "unknown", "wait", "board"]), st.integers(0, 5)),
        max_size=12,
    ),
    st.data(),
)
def test_a_reload_of_the_same_rules_changes_nothing(acts: list[tuple[str, int]], data: Any) -> None:
    """Two sites that live through the same, one of them with reloads in between, do the same at the same time."""
    once, often = plant(*ALL), plant(*ALL)
    names = list(once.pins)

    def act(run: Plant, what: str, number: int) -> None:
        match what:
            case "wish":
                run.wish(names[number], bool(number % 3), (Rank.PLAN, Rank.PERSON, Rank.HAND)[number % 3])
            case "door":
                run.set_input("door", not run.contacts["door"])
            case "unknown":
                run.tell(ev.InputSeen(run.now, "door", None))
            case "board":
                run.lose("a") if run.up["a"] else run.back("a")
            case "wait":
                run.pass_time((1, 3 * MS, 500 * MS, NS, 4 * NS, 11 * NS)[number])

    for what, number in acts:
        for run in (once, often):
            act(run, what, number)
        words = language(often.site, [form["name"] for form in ALL if "trip" in form])
        before = len(often.records)
        often.rules = tuple(make(form, words) for form in ALL)
        often.tell(ev.Reload(often.now, "r", KEEPER, replace(often.site), often.rules))
        assert [record.kind for record in often.records[before:]] == ["command"], (
            "nothing is journalled but the reload"
        )
    for run in (once, often):
        run.pass_time(60 * NS)
    assert once.onlooker.moves == often.onlooker.moves
    assert [reason(once, name) for name in names] == [reason(often, name) for name in names]


def test_what_was_told_to_go_there_and_back_may_be_there() -> None:
    """Its board carries the on out and never says so; told off again before anybody knows, it is not off yet."""
    run = plant({"name": "quiet", "needs": "mill is off", "outputs": ["kiln"]})
    run.fails[run.site.outputs["mill"].pin.board] = "silent"
    run.wish("mill", True)
    run.pass_time(NS)
    assert on(run) == {"mill"}
    assert run.engine.output_now("mill").confirmed == OFF, "as far as anybody knows"
    run.release("mill")
    run.wish("kiln", True, Rank.PLAN)
    assert "mill is about to change" in reason(run, "kiln")
    run.pass_time(NS)
    assert on(run) == {"kiln"}
    assert when(run, "kiln", True) > when(run, "mill", False)


def test_what_is_on_its_way_matters_as_soon_as_something_else_changes() -> None:
    """Either would do; the one is told off by a gate, and has not answered yet when the other ends."""
    run = plant({"name": "draught", "needs": "mill is on or door is open", "outputs": ["kiln"]})
    run.wish("mill", True)
    run.set_input("door", True)
    run.pass_time(NS)
    run.wish("kiln", True)
    run.pass_time(NS)
    assert on(run) == {"mill", "kiln"}
    run.fails[run.site.outputs["mill"].pin.board] = "silent"
    run.tell(ev.Lock(run.now, "lock", KEEPER, "mill", "ben"))  # goes off at once, and waits for nobody
    run.pass_time(NS)
    assert on(run) == {"kiln"}, "nobody knows that the mill is off"
    run.set_input("door", False)
    run.pass_time(NS)
    assert on(run) == set()


# --- timers ---------------------------------------------------------------------------------------------------


SETS = st.lists(st.tuples(st.sampled_from("abcdefgh"), st.integers(-1, 9)), max_size=60)
"""When something is to be woken for, among few moments; -1: not at all."""


@given(SETS, SETS, st.integers(0, 9))
def test_timers_wake_each_thing_once_at_its_last_time(
    before: list[tuple[str, int]], meanwhile: list[tuple[str, int]], until: int
) -> None:
    timers, known = Timers(), {}

    def put(name: str, due: int) -> None:
        if due < 0:
            timers.drop("claim", name)
            known.pop(name, None)
        else:
            timers.set(due, "claim", name)
            known[name] = due

    for name, due in before:
        put(name, due)
    assert len(timers) == len(known)
    assert timers.next == min(known.values(), default=None)
    told, left = [], list(meanwhile)
    for _, name, _ in timers.take(until):
        told.append(known.pop(name))  # it is there once, and under its last time
        if left:
            put(
                *left.pop()
            )  # whoever is woken sets and drops others, of this moment too, and of those that are over
    assert all(due > until for due in known.values()), "nothing that was due is left"
    assert max(told, default=0) <= until
    assert dict(timers.all()) == {("claim", name, ""): due for name, due in known.items()}
    assert timers.next == min(known.values(), default=None)
    assert meanwhile or told == sorted(told)


def test_twenty_thousand_claims_in_one_slot_leave_one_entry() -> None:
    run = plant()
    from cairnwind.core.facts.claims import lasting

    for number in range(20_000):
        run.engine.handle(
            ev.Wish(
                run.now,
                f"c{number}",
                KEEPER,
                "lamp",
                run.site.outputs["lamp"].full,
                Rank.PERSON,
                "person",
                lasting(86_400 * NS + number),
            )
        )
    assert run.engine.state.clocks.mono.kept < 200


def test_nothing_is_told_without_end() -> None:
    """The plant itself sees to that: an output that is told things again and again, while nobody does anything, ends the test."""
    run = plant(
        {"name": "one", "needs": "up is off", "outputs": ["vent", "kiln"]},
        {"name": "two", "excludes": ["kiln", "up"], "gap": "2 s"},
    )
    run.wish("kiln", True)
    run.pass_time(NS)
    run.wish("up", True, patient=True)
    run.wish("vent", True, patient=True)
    run.wish("kiln", False)
    run.pass_time(60 * NS)
    assert on(run) == {"up"}, "who comes on goes before what would have to go for it"
    run = plant({"name": "one", "needs": "up is off", "outputs": ["vent"]})
    run.weld("up")  # it does not come on
    run.wish("up", True, Rank.PLAN, "plan:1")
    run.pass_time(10 * NS)
    run.wish("vent", True, Rank.PLAN, "plan:2")
    run.pass_time(60 * NS)
    assert on(run) == {"vent"}, "nobody has to go for what does not happen all the same"
    run = plant({"name": "one", "excludes": ["up", "down"]})
    run.wish("up", True, Rank.PLAN, "plan:1", patient=True)
    run.pass_time(NS)
    run.weld("up")
    run.wish("down", True, Rank.PERSON, "", patient=True)
    run.pass_time(60 * NS)
    assert on(run) == {"up"}, "what does not go off keeps the others off"
    run = plant(
        {"name": "one", "needs": "kiln is on", "outputs": ["vent"]},
        {"name": "two", "limit": 1, "outputs": ["kiln", "vent"]},
    )
    run.wish("kiln", True, Rank.PLAN, "plan:1")
    run.pass_time(NS)
    run.wish("vent", True, patient=True)
    run.pass_time(60 * NS)
    assert on(run) == {"kiln"}
