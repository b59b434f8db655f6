"""Two clocks: durations follow the monotonic one, the calendar the wall; restarts shorten and never lengthen."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from hypothesis import given
from hypothesis import strategies as st

from cairnwind.core.engine.loop import Engine
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import (
    PERSON,
    TAKEOVER,
    Claim,
    Instant,
    Lifetime,
    Rank,
    Source,
    lasting,
    restore,
    until,
)
from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.state.inputs import Contact
from cairnwind.core.values import dates, spokentimes
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import NS
from cairnwind.core.values.settings import OFF, ON

ADA = Source("test", "ada", "keep")
SITE = Site(
    "S",
    boards={"b": Board("b", "simulated", None, 2)},
    outputs={"vent": Output("vent", "relay", Pin("b", 0))},
)
NOON = 1_700_000_000 * NS


def engine() -> Engine:
    found = Engine(SITE)
    found.handle(ev.LinkUp(Instant(0, NOON), "b", (("vent", OFF),)))
    found.handle(ev.Start(Instant(0, NOON)))
    return found


def claim(made: Engine, life: Lifetime) -> None:
    drive = made.handle(ev.Wish(Instant(1, NOON + 1), "a", ADA, "vent", ON, Rank.PERSON, PERSON, life))[0]
    made.handle(ev.Confirmed(Instant(1, NOON + 1), "vent", drive.generation, ON))


def test_a_clock_that_is_set_moves_calendar_ends_and_no_duration() -> None:
    for life, over in ((until(NOON + 60 * NS), True), (lasting(60 * NS), False)):
        it = engine()
        claim(it, life)
        assert it.next_deadline(Instant(2, NOON + 2)) is not None
        effects = it.handle(ev.Tick(Instant(5 * NS, NOON + 120 * NS)))  # set forward by two minutes
        assert any(
            isinstance(effect, ev.Record) and effect.text == "the clock was set forward by 115 s"
            for effect in effects
        )
        assert (it.output_now("vent").leader is None) is over
    it = engine()
    claim(it, until(NOON + 60 * NS))
    it.handle(ev.Tick(Instant(61 * NS, NOON - 3600 * NS)))
    assert it.output_now("vent").wanted == ON
    due = it.next_deadline(Instant(61 * NS, NOON - 3600 * NS))
    assert due == 61 * NS + 3660 * NS, "set back by an hour: the claim lasts until its time of day"


def test_slow_drift_is_not_a_jump() -> None:
    it = engine()
    for second in range(1, 2000):
        effects = it.handle(ev.Tick(Instant(second * NS, NOON + second * NS + second * 10**6)))
        assert effects == []


@given(st.integers(1, 10**6), st.integers(-(10**6), 10**6), st.integers(0, 10**6))
def test_a_restart_never_lengthens_a_claim(span: int, clock_moved: int, down: int) -> None:
    span, wall = span * NS, NOON + (clock_moved + down) * NS
    stored = Claim(
        7, "vent", PERSON, Rank.PERSON, ON, 7, ADA, lasting(span), Instant(0, NOON), None, NOON + span
    )
    left = restore(stored, Instant(0, wall))
    if left is None:
        assert wall >= NOON + span
        return
    assert left.ends_mono is not None
    assert 0 < left.ends_mono <= span
    assert left.ends_mono <= NOON + span - wall
    assert (left.id, left.place, left.setting) == (7, 7, ON)


def test_a_takeover_ends_at_the_next_edge_of_the_plan_and_not_before() -> None:
    it = engine()
    claim(it, TAKEOVER)
    it.handle(ev.Tick(Instant(9000 * NS, NOON + 9000 * NS)))
    assert it.output_now("vent").wanted == ON
    at = Instant(9001 * NS, NOON + 9001 * NS)
    it.handle(ev.Wish(at, "p", ADA, "vent", OFF, Rank.PLAN, "plan:evening", lasting(60 * NS)))
    now = it.output_now("vent")
    assert (now.wanted, now.leader and now.leader.text) == (OFF, "'evening' (plan)")


@given(st.lists(st.tuples(st.integers(0, 60), st.booleans()), max_size=30))
def test_a_contact_counts_when_it_has_been_still_for_its_time(moves: list[tuple[int, bool]]) -> None:
    """Against the definition: at any moment what counts is the last state that lasted for 20 ms."""
    contact = Contact(Input("door", "contact", Pin("b", 1), debounce=20))
    contact.see(False, 0, 0)
    time, raw, still, counts = 0, False, 0, False
    for pause, state in moves:
        for _ in range(pause):
            time += 1
            if raw != counts and time - still >= 20:
                counts = raw
            if contact.deadline is not None and contact.deadline <= time:
                contact.due(time, time)
            assert contact.active == counts
        if state != raw:
            raw, still = state, time
        contact.see(state, time, time)
    contact.see(None, time, time)
    assert contact.active is None


@given(
    wall=st.integers(10**14, 4_000_000_000_000_000),
    zone=st.sampled_from(["Europe/London", "Asia/Kolkata", "America/St_Johns"]),
)
def test_a_moment_is_read_to_the_microsecond_in_whatever_zone_it_is_written(wall: int, zone: str) -> None:
    then = datetime(1970, 1, 1, tzinfo=UTC) + timedelta(microseconds=wall)
    for written in (
        then.isoformat(),
        then.astimezone(ZoneInfo(zone)).isoformat(),
        then.isoformat().replace("+00:00", "Z"),
    ):
        assert dates.wall(written, ZoneInfo("Pacific/Auckland")) == wall * 1000


NOWS = st.integers(1_500_000_000 * NS, 1_900_000_000 * NS)
ZONES = st.sampled_from(["Europe/London", "America/St_Johns", "UTC", "Australia/Lord_Howe"]).map(ZoneInfo)


@given(
    NOWS,
    ZONES,
    st.integers(0, 23),
    st.integers(0, 59),
    st.sampled_from(["", *spokentimes.DAYS]),
    st.booleans(),
)
def test_a_time_is_meant_as_people_mean_it(
    now: int, zone: ZoneInfo, hour: int, minute: int, day: str, past: bool
) -> None:
    lean = spokentimes.PAST if past else spokentimes.COMING
    said = f"{day.title()} {hour}:{minute:02}".strip()
    found = spokentimes.wall(said, zone, now, lean)
    assert (found <= now) is past
    assert abs(found - now) <= (8 if day else 2) * 86400 * NS, "the nearest one"
    then = datetime.fromtimestamp(found // NS, zone)
    assert abs(hour * 60 + minute - then.hour * 60 - then.minute) in {0, 30, 60}, (
        "but for the hour that summer time leaves out"
    )
    assert not day or then.weekday() == spokentimes.DAYS.index(day)
    assert spokentimes.wall(said[:3].lower() + said[3:], zone, now, lean) == found
    assert spokentimes.wall(then.isoformat(), zone, now) == found
    assert spokentimes.wall("10 min ago", zone, now) == now - 600 * NS
    assert spokentimes.wall("in 2 h", zone, now) == now + 7200 * NS
    today = spokentimes.wall("today", zone, now)
    assert spokentimes.wall("yesterday", zone, now) < today <= now < spokentimes.wall("tomorrow", zone, now)


@given(st.text(max_size=20))
def test_what_is_no_time_is_said_to_be_none(text: str) -> None:
    try:
        spokentimes.wall(text, ZoneInfo("Europe/London"), 1_700_000_000 * NS)
    except CallerError as error:
        assert error.remedy
