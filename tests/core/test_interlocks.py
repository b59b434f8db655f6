"""The interlocks one by one, on the pins: what each does on the way in, when it ceases, and to whom."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

import pytest

from cairnwind.core.facts.claims import RELEASED, Rank, lasting, lease
from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.language import forms as rules
from cairnwind.core.rules import kinds
from cairnwind.core.values.quantities import NS
from tests.invariants.plant import MS, Plant

NAMES = ("vent", "kiln", "up", "down", "lamp", "mill", "pump")


class Nobody:
    """Looks on and says nothing; keeps what the pins did."""

    def __init__(self) -> None:
        self.moves: list[tuple[int, str, bool]] = []

    def pin(self, at: int, output: str, on: bool) -> None:
        self.moves.append((at, output, on))

    def __getattr__(self, name: str) -> Any:
        return lambda *_: None


def plant(
    *forms: dict[str, Any], boards: tuple[str, ...] = ("a",), rearm: str = "auto", delay: int = 10 * MS,
    watts: dict[str, int] | None = None,
) -> Plant:  # fmt: skip
    """A site of seven outputs with these rules; 'up' and 'down' are on the last board."""
    made = {name: Board(name, "simulated", line_count=20) for name in boards}
    outputs = {
        name: Output(
            name,
            "relay",
            Pin(boards[-1] if name in ("up", "down") else boards[0], number),
            rearm=rearm,
            load=Fraction((watts or {}).get(name, 10)),
        )
        for number, name in enumerate(NAMES)
    }
    inputs = {"door": Input("door", "contact", Pin(boards[0], 15), words=("shut", "open"))}
    site = Site("test", boards=made, outputs=outputs, inputs=inputs)
    words = rules.language(site, [form["name"] for form in forms if "trip" in form])
    return Plant(
        site,
        tuple(kinds.make(form, words) for form in forms),
        Nobody(),
        lambda most: delay,
        1_795_000_000 * NS,
    )


def on(running: Plant) -> set[str]:
    """What the pins do."""
    return {name for name, high in running.pins.items() if high}


def when(running: Plant, output: str, up: bool) -> float:
    """Seconds since the beginning at which a pin last went on or off."""
    return max(at for at, name, high in running.onlooker.moves if (name, high) == (output, up)) / NS - 1000


NEEDS = {"name": "draught", "needs": "vent is on for 5 s and door is shut", "outputs": ["kiln"]}
EXCLUDES = {"name": "one way", "excludes": ["up", "down"], "gap": "400 ms"}
LIMIT = {
    "name": "fuse",
    "limit": 2,
    "outputs": ["kiln", "mill", "pump", "lamp"],
    "order": ["kiln", "mill", "pump", "lamp"],
    "settle": "3 s",
}
TRIP = {"name": "button", "trip": "door is open", "outputs": ["kiln", "lamp"]}


# --- needs ----------------------------------------------------------------------------------------------------


def test_needs_refuses_waits_and_falls_to_safe() -> None:
    run = plant(NEEDS)
    refused = run.wish("kiln", True)
    assert (refused.outcome, "vent is off" in refused.reason) == ("refused", True)
    run.wish("vent", True)
    run.pass_time(NS)
    waiting = run.wish("kiln", True)
    assert waiting.outcome == "waiting", "only the running 'for' stands in the way"
    assert "vent is on, but not yet for 5 s" in waiting.reason
    expected = run.engine.output_now("kiln").refusal.expected
    assert (expected - run.wall) / NS == pytest.approx(4.02, abs=0.05), "and it is known when it will not"
    run.pass_time(5 * NS)
    assert on(run) == {"vent", "kiln"}
    run.set_input("door", True)
    run.pass_time(50 * MS)
    assert on(run) == {"vent"}, "its need is lost"
    run.set_input("door", False)
    run.pass_time(10 * NS)
    assert on(run) == {"vent", "kiln"}, "it comes back, for a load that is not 'rearm'"


def test_a_refused_wish_leaves_nothing_behind() -> None:
    run = plant(NEEDS)
    run.wish("kiln", True)
    run.wish("vent", True)
    run.pass_time(60 * NS)
    assert on(run) == {"vent"}, "nothing starts by itself because somebody once tried"
    plan = plant(NEEDS)
    plan.wish("kiln", True, Rank.PLAN, "plan:firing")
    plan.wish("vent", True)
    plan.pass_time(60 * NS)
    assert on(plan) == {"vent", "kiln"}, "a plan's claim stays and waits"


def test_a_wait_that_turns_into_a_no_is_over() -> None:
    run = plant(NEEDS)
    run.wish("vent", True)
    run.pass_time(NS)
    assert run.wish("kiln", True).outcome == "waiting"
    run.set_input("door", True)
    run.pass_time(NS)
    run.set_input("door", False)
    run.pass_time(60 * NS)
    assert on(run) == {"vent"}


@pytest.mark.parametrize(("rearm", "left"), [("auto", {"vent", "kiln"}), ("command", {"vent"})])
def test_a_lost_need_drops_the_claims_of_what_needs_a_new_command(rearm: str, left: set[str]) -> None:
    run = plant(NEEDS, rearm=rearm)
    run.wish("vent", True)
    run.pass_time(6 * NS)
    run.wish("kiln", True)
    run.pass_time(NS)
    run.set_input("door", True)
    run.pass_time(NS)
    run.set_input("door", False)
    run.pass_time(20 * NS)
    assert on(run) == left


def test_grace_lets_it_stay_for_a_while_but_not_begin() -> None:
    run = plant({**NEEDS, "needs": "door is shut", "grace": "2 s"})
    run.wish("kiln", True)
    run.pass_time(NS)
    run.set_input("door", True)
    run.pass_time(NS)
    assert on(run) == {"kiln"}
    run.pass_time(2 * NS)
    assert on(run) == set()
    run.set_input("door", False)
    run.pass_time(NS)
    run.wish("kiln", False)
    run.set_input("door", True)
    run.pass_time(NS)
    assert run.wish("kiln", True).outcome == "refused", "though its grace is not over"


def test_what_is_needed_goes_off_last_and_its_board_says_so_first() -> None:
    chain = {"name": "mill", "needs": "kiln is on", "outputs": ["mill"]}
    run = plant({**NEEDS, "needs": "vent is on"}, chain, delay=40 * MS)
    for name in ("vent", "kiln", "mill"):
        run.wish(name, True)
        run.pass_time(NS)
    assert on(run) == {"vent", "kiln", "mill"}
    off = run.wish("vent", False)
    assert off.outcome == "waiting"
    assert "kiln has to be confirmed off first" in off.reason
    assert run.wish("kiln", True).outcome == "refused", "it may not come back meanwhile"
    run.pass_time(NS)
    assert on(run) == set()
    times = [when(run, name, False) for name in ("mill", "kiln", "vent")]
    assert times[1] - times[0] >= 0.08, "after the mill was confirmed off"
    assert times[2] - times[1] >= 0.08


def test_an_off_that_a_gate_asks_for_waits_for_nothing() -> None:
    run = plant({**NEEDS, "needs": "vent is on"}, delay=40 * MS)
    run.wish("vent", True)
    run.pass_time(NS)
    run.wish("kiln", True)
    run.pass_time(NS)
    run.all_stop()
    run.pass_time(45 * MS)
    assert on(run) == set()


def test_a_circle_is_held_safe_and_does_not_chatter() -> None:
    run = plant(
        {"name": "one", "needs": "kiln is on", "outputs": ["vent"]},
        {"name": "two", "needs": "vent is off", "outputs": ["kiln"]},
    )
    run.wish("kiln", True, Rank.PLAN, "plan:a")
    run.wish("vent", True, Rank.PLAN, "plan:b")
    run.pass_time(60 * NS)
    assert len(run.onlooker.moves) <= 2
    assert on(run) == {"kiln"}


def test_who_has_room_by_its_rank_waits_for_no_room_that_nobody_made() -> None:
    run = plant({"name": "one", "limit": 1, "outputs": ["up", "down"], "settle": "1 s"})
    run.wish("up", True, Rank.PLAN, "plan:a")
    run.wish("down", True, Rank.PLAN, "plan:b")
    run.pass_time(5 * NS)
    assert on(run) == {"up"}, "the other waits"
    run.wish("down", True, Rank.HAND, "hand:c", lease(60 * NS))
    run.pass_time(5 * NS)
    assert on(run) == {"down"}


# --- excludes -------------------------------------------------------------------------------------------------


def test_the_holder_keeps_its_place_against_all_but_a_higher_rank() -> None:
    run = plant(EXCLUDES)
    run.wish("up", True)
    run.pass_time(NS)
    assert run.wish("down", True).outcome == "refused"
    run.wish("down", True, Rank.REFLEX, "reflex:x")
    run.pass_time(NS)
    assert on(run) == {"up"}
    assert run.wish("down", True, Rank.HAND, "hold", lease(10 * NS)).outcome == "waiting"
    run.pass_time(NS)
    assert on(run) == {"down"}
    assert when(run, "down", True) - when(run, "up", False) > 0.419, "the gap, from the confirmed off"


def test_two_at_once_and_two_in_one_phrase() -> None:
    run = plant(EXCLUDES)
    run.pass_time(NS)
    assert [run.wish("up", True).outcome, run.wish("down", True).outcome] == ["driving", "refused"]
    run.pass_time(NS)
    assert on(run) == {"up"}


def test_the_place_of_one_whose_board_is_away_is_kept() -> None:
    run = plant({"name": "x", "excludes": ["kiln", "up"]}, boards=("a", "b"))
    run.wish("up", True)
    run.pass_time(NS)
    run.lose("b")
    refused = run.wish("kiln", True)
    assert refused.outcome == "refused"
    assert "board b does not answer" in refused.reason
    run.release("up")
    run.pass_time(60 * NS)
    assert run.wish("kiln", True).outcome == "refused"
    run.engine_attests("up")
    assert run.wish("kiln", True).outcome == "driving", "somebody has seen that it is off"


def test_a_welded_contact_keeps_its_place() -> None:
    run = plant(EXCLUDES)
    run.wish("up", True)
    run.pass_time(NS)
    run.weld("up")
    run.wish("up", False)
    run.wish("down", True, Rank.HAND, "hold", RELEASED, True)
    run.pass_time(20 * NS)
    assert on(run) == {"up"}
    run.weld("up")
    run.pass_time(20 * NS)
    assert on(run) == {"down"}


def test_a_restart_counts_the_gap_anew() -> None:
    run = plant({**EXCLUDES, "gap": "5 s"})
    run.wish("up", True)
    run.pass_time(NS)
    run.start()
    began = run.mono / NS - 1000
    run.release("up")
    run.wish("down", True)
    run.pass_time(10 * NS)
    assert when(run, "down", True) - began >= 5


# --- limits ---------------------------------------------------------------------------------------------------


def test_who_yields_and_who_comes_back() -> None:
    run = plant(LIMIT)
    for number, name in enumerate(("lamp", "pump", "mill")):
        run.wish(name, True, Rank.PLAN, f"plan:{number}")
        run.pass_time(NS)
    assert on(run) == {"lamp", "pump"}, "who is there stays, whatever the order"
    run.wish("kiln", True)
    run.pass_time(NS)
    assert on(run) == {"kiln", "pump"}, "the last of the order yields to a higher rank"
    run.wish("kiln", False)
    run.pass_time(NS)
    assert on(run) == {"pump"}, "nobody comes in at once"
    run.pass_time(4 * NS)
    assert on(run) == {"pump", "mill"}, "the first of the order comes in, not who was there before"


def test_room_for_one_is_not_room_for_another() -> None:
    run = plant({**LIMIT, "limit": "300 W"}, watts={"lamp": 100, "mill": 100, "kiln": 250})
    run.wish("lamp", True, Rank.PLAN, "plan:1")
    run.wish("mill", False, Rank.HAND, "", lease(60 * NS))
    run.pass_time(NS)
    run.wish("mill", True)  # there is room for it, and a hold leads
    run.wish("kiln", True, Rank.PLAN, "plan:2")
    run.pass_time(NS)
    assert on(run) == {"lamp"}


def test_room_is_only_there_once_it_is_confirmed() -> None:
    run = plant({**LIMIT, "limit": 1}, delay=45 * MS)
    run.wish("lamp", True, Rank.PLAN, "plan:1")
    run.pass_time(NS)
    run.wish("kiln", True)
    run.pass_time(NS)
    assert on(run) == {"kiln"}
    assert when(run, "kiln", True) - when(run, "lamp", False) >= 0.045


def test_a_scene_of_too_many_gets_as_many_as_there_is_room_for() -> None:
    run = plant(LIMIT)
    outcomes = [run.wish(name, True).outcome for name in ("lamp", "pump", "mill", "kiln")]
    assert outcomes == ["driving", "driving", "refused", "refused"]


# --- trips ----------------------------------------------------------------------------------------------------


def test_a_trip_latches_and_is_reset_by_somebody_when_its_cause_is_gone() -> None:
    run = plant(TRIP)
    run.wish("kiln", True)
    run.wish("lamp", True, Rank.PLAN, "plan:evening")
    run.pass_time(NS)
    run.set_input("door", True)
    run.pass_time(100 * MS)
    assert on(run) == set()
    assert run.wish("kiln", True, Rank.HAND, "hold", lease(10 * NS)).outcome == "refused", (
        "no rank outranks it"
    )
    refused = run.reset_trip("button")
    assert (refused.outcome, "still there" in refused.reason) == ("refused", True)
    run.set_input("door", False)
    run.pass_time(10 * NS)
    assert on(run) == set(), "it stays when its cause is gone"
    run.start()
    run.pass_time(10 * NS)
    assert on(run) == set(), "and over a restart"
    assert run.reset_trip("button").outcome == "driving"
    run.pass_time(NS)
    assert "lamp" not in on(run), "a plan's claim does not survive a restart without its schedule"


def test_unknown_does_not_trip_unless_it_lasts() -> None:
    for grace, tripped in (({}, 0), ({"grace": "3 s"}, 1)):
        run = plant({**TRIP, **grace}, boards=("a", "b"))
        run.lose("a")
        run.pass_time(2 * NS)
        assert not run.trips
        run.pass_time(10 * NS)
        assert len(run.trips) == tripped


def test_a_trip_drops_what_persons_had_on_where_that_needs_a_new_command() -> None:
    run = plant(TRIP, rearm="command")
    run.wish("kiln", True)
    run.pass_time(NS)
    run.set_input("door", True)
    run.pass_time(NS)
    run.set_input("door", False)
    run.pass_time(NS)
    run.reset_trip("button")
    run.pass_time(10 * NS)
    assert on(run) == set()


# --- pace -----------------------------------------------------------------------------------------------------


def pace(**facts: object) -> dict[str, Any]:
    return {"name": "pace", "outputs": ["pump", "mill"], "pace": facts}


def test_the_least_time_on_delays_an_off_that_somebody_wants_and_no_other() -> None:
    run = plant(pace(least_on="10 s"), TRIP | {"outputs": ["pump"]})
    run.wish("pump", True)
    run.pass_time(NS)
    off = run.wish("pump", False)
    assert (off.outcome, "keeps it on for 10 s" in off.reason) == ("waiting", True)
    run.pass_time(5 * NS)
    assert on(run) == {"pump"}
    run.pass_time(6 * NS)
    assert on(run) == set()
    run.wish("pump", True)
    run.pass_time(NS)
    run.set_input("door", True)
    run.pass_time(100 * MS)
    assert on(run) == set(), "a trip does not wait"
    run.set_input("door", False)
    run.pass_time(NS)
    run.reset_trip("button")
    run.wish("pump", True)
    run.pass_time(NS)
    run.wish("pump", False)
    run.pass_time(NS)
    assert on(run) == {"pump"}
    run.set_input("door", True)
    run.pass_time(100 * MS)
    assert on(run) == set(), "nor where it is only kept on"


def test_the_least_time_off_counts_from_the_confirmed_off_and_anew_after_a_restart() -> None:
    run = plant(pace(least_off="10 s"))
    run.pass_time(20 * NS)
    run.wish("pump", True)
    run.pass_time(NS)
    run.wish("pump", False)
    run.pass_time(NS)
    assert run.wish("pump", True).outcome == "waiting"
    run.pass_time(30 * NS)
    assert when(run, "pump", True) - when(run, "pump", False) >= 10
    run.start()
    began = run.mono / NS - 1000
    run.pass_time(30 * NS)
    assert when(run, "pump", True) - began >= 10


def test_the_longest_time_on_its_rest_and_starts_in_an_hour() -> None:
    run = plant(pace(longest_on="20 s", rest="60 s", starts=3))
    run.wish("pump", True, Rank.REFLEX, "reflex:tank")
    run.pass_time(1800 * NS)
    starts = [at / NS - 1000 for at, name, high in run.onlooker.moves if (name, high) == ("pump", True)]
    assert len(starts) == 3
    assert starts[1] - starts[0] >= 80
    run.start()
    run.wish("pump", True, Rank.REFLEX, "reflex:tank")
    run.pass_time(1200 * NS)
    assert on(run) == set(), "a restart forgets no start"
    run.pass_time(700 * NS)
    assert len([1 for _, name, high in run.onlooker.moves if (name, high) == ("pump", True)]) > 3


def test_starts_are_staggered() -> None:
    run = plant(pace(stagger="2 s"))
    run.wish("pump", True, Rank.PLAN, "plan:1")
    run.wish("mill", True, Rank.PLAN, "plan:2")
    run.pass_time(10 * NS)
    assert abs(when(run, "pump", True) - when(run, "mill", True)) >= 2


# --- the table of their interplay -------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("forms", "gate"),
    [
        ((TRIP, NEEDS, pace(least_off="1 h")), "trip"),
        ((NEEDS, {"name": "rest", "outputs": ["kiln"], "pace": {"least_off": "1 h"}}), "needs"),
        (({"name": "rest", "outputs": ["kiln"], "pace": {"least_off": "1 h"}}, {"name": "x", "excludes": ["kiln", "lamp"]}), "pace"),
        (({"name": "x", "excludes": ["kiln", "lamp"]}, {**LIMIT, "limit": 1}), "excludes"),
        (({**LIMIT, "limit": 1},), "limit"),
    ],
)  # fmt: skip
def test_the_first_gate_that_refuses_is_the_one_that_is_told(
    forms: tuple[dict[str, Any], ...], gate: str
) -> None:
    run = plant(*forms)
    run.wish("lamp", True)
    if gate == "trip":
        run.set_input("door", True)
    run.pass_time(NS)
    run.wish("kiln", True, Rank.PLAN, "plan:it", lasting(100 * NS))
    run.pass_time(NS)
    refusal = run.engine.output_now("kiln").refusal
    assert refusal is not None
    assert refusal.gate == gate
