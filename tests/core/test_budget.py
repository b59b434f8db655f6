"""Budgets: what counts, when it is used up, when there is more, and that nothing makes it forget."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cairnwind.core.explain import checking
from cairnwind.core.explain.why import why, with_budgets
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Rank
from cairnwind.core.language import forms as rules
from cairnwind.core.language.forms import Rules
from cairnwind.core.rules import kinds
from cairnwind.core.rules.budget import Left
from cairnwind.core.rules.spending import MOST_PIECES, Spent
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.fact import replace
from cairnwind.core.values.moments import local, wall
from cairnwind.core.values.quantities import NS
from tests.core.test_interlocks import MS, on, plant, when
from tests.invariants.plant import KEEPER, Plant

MINUTE, HOUR = 60 * NS, 3600 * NS


def budget(text: str, *outputs: str, **more: str) -> dict[str, Any]:
    return {"name": "share", "budget": text, "outputs": list(outputs or ("kiln",)), **more}


def left(run: Plant, output: str = "kiln") -> Left:
    (found,) = run.engine.left(output, run.now)
    return found


def plan(run: Plant, output: str, wanted: bool = True) -> ev.Outcome:
    return run.wish(output, wanted, Rank.PLAN, f"plan:{output}")


# --- what counts, as arithmetic -------------------------------------------------------------------------------

SPAN = 100
WALK = st.lists(st.tuples(st.integers(1, 60), st.booleans()), min_size=1, max_size=40)


@given(WALK, st.integers(1, 99))
def test_what_is_used_and_when_against_a_second_by_second_count(
    walk: list[tuple[int, bool]], most: int
) -> None:
    spent, now, was, seconds = Spent(), 1000, False, [False] * 1000
    for span, is_on in walk:
        if is_on and not was:
            spent = spent.begun("it", now, 1)
        elif was and not is_on:
            spent = spent.ended("it", now, 1).forgotten(now - SPAN)
        was = is_on
        seconds += [is_on] * span
        now += span

    def used(at: int) -> int:
        return sum([*seconds, *[was] * SPAN * 3][at - SPAN : at])

    assert spent.used(now, now - SPAN) == used(now)
    reached = next((at for at in range(now, now + 2 * SPAN) if used(at) >= most), None)
    free = next((at for at in range(now, now + 2 * SPAN) if used(at) <= most), None)
    assert spent.when_used(now, SPAN, most) == reached
    assert spent.when_left(now, SPAN, most) == free


def test_many_short_pieces_are_put_together_and_never_count_for_less() -> None:
    spent, now = Spent(), 0
    for _ in range(MOST_PIECES * 3):
        spent = spent.begun("it", now, 1).ended("it", now + 1, 1)
        now += 3
    assert len(spent.pieces) <= MOST_PIECES
    assert all(spent.used(now, now - span) >= span // 3 - 1 for span in range(0, now, 7))


# --- on the pins ----------------------------------------------------------------------------------------------


def test_time_runs_out_and_comes_back_for_those_that_wait_and_for_nobody_else() -> None:
    run = plant(budget("10 min in any 1 h", again="5 min"))
    plan(run, "kiln")
    run.pass_time(11 * MINUTE)
    assert on(run) == set()
    assert when(run, "kiln", False) == pytest.approx(600, abs=0.1)
    refused = run.wish("kiln", True)
    assert refused.outcome == "refused", "nothing starts by itself hours later because somebody once tried"
    assert "allows 10 min in any 1 h, and that is used up" in refused.reason
    more = left(run).more
    assert more is not None
    assert (more - run.wall) / NS == pytest.approx(3600 + 300 - 660, abs=1), "when half of it is left again"
    assert f"{local(more, run.site.timezone):%H:%M}" in refused.remedy
    run.pass_time(51 * MINUTE)
    early = run.wish("kiln", True)
    assert early.outcome == "refused", "two minutes are left again, and five are wanted"
    assert on(run) == set()
    run.pass_time(3 * MINUTE - 2 * NS)
    assert on(run) == set()
    run.pass_time(5 * NS)
    assert on(run) == {"kiln"}, "the plan's claim has waited"
    assert when(run, "kiln", True) == pytest.approx(3900, abs=0.1)


def test_outputs_share_it_and_what_is_not_known_counts() -> None:
    run = plant(budget("10 min in any 1 h", "kiln", "up"), boards=("a", "b"))
    for name in ("kiln", "up"):
        plan(run, name)
    run.pass_time(2 * MINUTE)
    run.lose("b")
    run.pass_time(2 * MINUTE)
    assert left(run).left == "2 min 0 s".removesuffix(" 0 s"), "4 minutes each: nobody knows that it is off"
    run.pass_time(MINUTE + NS)
    assert on(run) == {"up"}, "its cable is pulled; the other is off"
    run.back("b")
    run.pass_time(NS)
    assert on(run) == set()


def test_a_start_that_failed_is_none_and_one_that_is_on_its_way_keeps_its_place() -> None:
    run = plant(budget("2 starts in any 1 h", "kiln", "lamp", "mill"), delay=50 * MS)
    run.fails["a"] = "before"
    run.wish("kiln", True)
    run.pass_time(40 * MS)
    run.wish("kiln", False)
    run.pass_time(10 * NS)
    run.wish("lamp", True)
    run.wish("mill", True)
    third = run.wish("kiln", True)
    assert (third.outcome, "is about to have the last" in third.reason) == ("refused", True)
    run.pass_time(NS)
    assert on(run) == {"lamp", "mill"}
    run.wish("lamp", False)
    run.pass_time(NS)
    assert "it has had them" in run.wish("lamp", True).reason
    run.pass_time(HOUR)
    assert run.wish("lamp", True).outcome == "driving"


def test_energy_counts_the_stated_load() -> None:
    run = plant(budget("1 kWh in any 1 d", "kiln", "mill"), watts={"kiln": 2000, "mill": 1000})
    plan(run, "kiln")
    run.pass_time(15 * MINUTE)
    assert left(run).left == "0.5 kWh"
    plan(run, "mill")
    run.pass_time(11 * MINUTE)
    assert on(run) == set()
    assert when(run, "kiln", False) == pytest.approx(900 + 600, abs=0.2)


@pytest.mark.parametrize("how", ["restart", "reload", "other rules", "a clock that is set"])
def test_nothing_makes_it_forget(how: str) -> None:
    run = plant(budget("10 min in any 1 h"), {"name": "one way", "excludes": ["up", "down"]})
    run.wish("kiln", True, patient=True)
    run.pass_time(6 * MINUTE)
    match how:
        case "restart":
            run.start()
            run.pass_time(NS)
            assert on(run) == {"kiln"}
        case "reload":
            run.reload()
        case "other rules":
            more = kinds.make(budget("8 min in any 1 h"), rules.language(run.site))
            run.tell(ev.Reload(run.now, "reload", KEEPER, replace(run.site), (more,)))
        case _:
            run.jump(-5 * HOUR)
            run.jump(9 * HOUR)
    run.pass_time((1 if how == "other rules" else 3) * MINUTE)
    assert on(run) == {"kiln"}
    run.pass_time(70 * NS)
    assert on(run) == set()
    if how == "other rules":
        return
    run.start()
    run.pass_time(MINUTE)
    assert on(run) == set(), "nor does a restart give any of it back"


@pytest.mark.parametrize(("day", "hours"), [("2026-10-25", 25), ("2027-03-28", 23), ("2026-11-02", 24)])
def test_a_day_begins_at_midnight_of_the_site(day: str, hours: int) -> None:
    from datetime import datetime, timedelta

    run = plant(budget("2 h a day"))
    midnight = datetime.fromisoformat(day)
    run.jump(wall(midnight + timedelta(hours=22), run.site.timezone) - run.wall - (NS if hours == 24 else 0))
    begin, end = wall(midnight, run.site.timezone), wall(midnight + timedelta(days=1), run.site.timezone)
    assert (end - begin) == hours * HOUR or run.site.timezone == "UTC"
    plan(run, "kiln")
    run.pass_time(end - run.wall - NS)
    assert "kiln" in on(run) or left(run).used_up
    run.pass_time(2 * NS)
    assert on(run) == {"kiln"}, "a new day, a new budget"
    assert left(run).left == "1 h 59 min"
    run.pass_time(2 * HOUR)
    assert on(run) == set()
    more = left(run).more
    assert more is not None
    assert f"{local(more, run.site.timezone):%H:%M}" == "00:00"


def test_no_day_begins_anew_by_a_clock_that_nobody_believes() -> None:
    run = plant(budget("2 h a day"))
    run.jump(10 * HOUR - run.wall % (24 * HOUR))
    plan(run, "kiln")
    run.pass_time(3 * HOUR)
    assert on(run) == set()
    last = run.wall
    run.jump(-14 * HOUR)  # 23:00 of the day before
    run.start(last)
    plan(run, "kiln")
    run.pass_time(3 * HOUR)
    assert on(run) == set(), "midnight by that clock gives nothing back"
    run.jump(last + 2 * HOUR - run.wall)
    run.pass_time(NS)
    assert on(run) == set(), "it is 15:00 of the same day"
    run.pass_time(9 * HOUR)
    assert on(run) == {"kiln"}, "a new day"


# --- said, checked, refused -----------------------------------------------------------------------------------


def test_why_says_what_is_left_and_when_it_ends() -> None:
    run = plant(budget("10 min in any 1 h"))
    plan(run, "kiln")
    run.pass_time(4 * MINUTE)

    def clock(at: int) -> str:
        return f"{(at - run.wall) / NS:+.0f} s"

    found = with_budgets(why(run.engine.output_now("kiln"), clock), run.engine.left("kiln", run.now), clock)
    assert (
        "budget",
        "'share': 6 min left of 10 min in any 1 h, used up at +360 s if it goes on so",
    ) in found.steps
    said = kinds.said(run.rules[0])
    assert said == "kiln: on for at most 10 min in any 1 h"


def test_the_check_finds_one_that_is_never_reached() -> None:
    run = plant()
    words = rules.language(run.site)
    for text, verdict in (
        ("25 h in any 24 h", "found"),
        ("23 h a day", "excluded"),
        ("1 MJ in any 1 h", "found"),
    ):
        rule = kinds.make(budget(text), words)
        (answer,) = [
            each
            for each in checking.check(run.site, Rules((rule,)))
            if "ever refuse anything?" in each.question
        ]
        assert answer.verdict == verdict, text


@pytest.mark.parametrize(
    ("text", "more", "says"),
    [
        ("12 h", {}, "is no budget"), ("often in any 24 h", {}, "no time, no energy and no number of starts"),
        ("0 starts a day", {}, "no number of starts"), ("12 h in any blue moon", {}, "a time"), ("-3 kWh a week", {}, "no energy"),
        ("12 h a day", {"again": "13 h"}, "no part of it"), ("12 h a day", {"again": "1 kWh"}, "no part of it"),
        ("12 h a day", {"settle": "1 s"}, "has no 'settle'"),
    ],
)  # fmt: skip
def test_what_is_no_budget_is_refused_with_what_to_write(text: str, more: dict[str, str], says: str) -> None:
    run = plant()
    with pytest.raises(CallerError) as found:
        kinds.make(budget(text, **more), rules.language(run.site))
    assert says in str(found.value)
    assert found.value.remedy


@settings(max_examples=30, deadline=None)
@given(
    st.lists(
        st.tuples(st.sampled_from(["on", "off", "wait", "restart", "reload"]), st.integers(1, 200)),
        max_size=25,
    )
)
def test_whatever_happens_it_is_never_on_for_longer_in_any_span(acts: list[tuple[str, int]]) -> None:
    run = plant(budget("100 s in any 300 s"))
    for act, span in acts:
        match act:
            case "on" | "off":
                run.wish("kiln", act == "on", patient=True)
            case "restart":
                run.start()
            case "reload":
                run.reload()
        run.pass_time(span * NS)
    moves = [(at, high) for at, name, high in run.onlooker.moves if name == "kiln"]
    spans = [
        (at, next((end for end, high in moves[number:] if not high), run.mono))
        for number, (at, high) in enumerate(moves)
        if high
    ]
    for _, end in spans:
        edge = end - 300 * NS
        used = sum(max(0, min(b, end) - max(a, edge)) for a, b in spans)
        assert used <= 100 * NS + 40 * MS * len(spans)
