"""Schedules: when they begin and end, by rule, clock and sun, where summer time skips and doubles hours."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from itertools import islice, pairwise
from typing import Any

import pytest
from dateutil.rrule import rrulestr
from hypothesis import given, settings
from hypothesis import strategies as st

from cairnwind.core.facts import plan, recurrence
from cairnwind.core.facts.plan import Walker, ahead, spans
from cairnwind.core.language import schedules
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.moments import Moment, Where, local, read, wall
from cairnwind.core.values.quantities import NS
from tests.core.saltmarsh import DAY, PLAN, at, clock, schedule

DAYS = ["MO", "TU", "WE", "TH", "FR", "SA", "SU"]
RULES = st.one_of(
    st.builds("FREQ=DAILY;INTERVAL={}".format, st.integers(1, 9)),
    st.builds(lambda n, days: f"FREQ=WEEKLY;INTERVAL={n};BYDAY={','.join(days)}", st.integers(1, 4), st.lists(st.sampled_from(DAYS), min_size=1, unique=True)),
    st.builds("FREQ=MONTHLY;BYMONTHDAY={}".format, st.sampled_from([1, 15, 29, 31, -1])),
    st.builds("FREQ=MONTHLY;BYDAY={}{};INTERVAL={}".format, st.sampled_from([1, 2, -1]), st.sampled_from(DAYS), st.integers(1, 3)),
    st.builds("FREQ=YEARLY;BYMONTH={};BYMONTHDAY={}".format, st.integers(1, 12), st.integers(1, 28)),
    st.builds("FREQ=HOURLY;INTERVAL={}".format, st.integers(1, 30)),
    st.builds("FREQ=MINUTELY;INTERVAL={};BYHOUR=9".format, st.integers(7, 90)),
    st.builds("FREQ=DAILY;COUNT={}".format, st.integers(1, 400)),
    st.builds("FREQ=WEEKLY;UNTIL=2026{:02d}{:02d}T235959".format, st.integers(1, 12), st.integers(1, 28)),
)  # fmt: skip
LONG = st.one_of(
    st.builds("FREQ=YEARLY;INTERVAL={}".format, st.integers(1, 9)),
    st.builds("FREQ=YEARLY;BYWEEKNO={};BYDAY={}".format, st.sampled_from([1, 20, 53, -1]), st.sampled_from(DAYS)),
    st.builds("FREQ=YEARLY;INTERVAL={};BYYEARDAY={}".format, st.integers(1, 3), st.sampled_from([1, 60, 366, -1])),
    st.builds("FREQ=YEARLY;INTERVAL={};BYDAY={}{}".format, st.integers(1, 3), st.sampled_from(["", 1, 20, -1]), st.sampled_from(DAYS)),
    st.builds("FREQ=MONTHLY;INTERVAL={}".format, st.integers(1, 30)),
    st.builds("FREQ=MONTHLY;INTERVAL={};BYDAY=MO,WE;BYSETPOS={}".format, st.integers(1, 14), st.sampled_from([1, 3, -1, -2])),
    st.builds("FREQ=WEEKLY;INTERVAL={};BYDAY=MO,WE,SU;WKST={};BYSETPOS={}".format, st.integers(1, 5), st.sampled_from(DAYS), st.sampled_from([1, -1])),
    st.builds("FREQ=DAILY;BYMONTH=2;BYMONTHDAY=29;COUNT={}".format, st.integers(10, 40)),
)  # fmt: skip
"""Rules that go on for decades: the walk from their first day is left out."""
ZONES = ["Europe/London", "Australia/Sydney", "Australia/Lord_Howe"]


@settings(max_examples=70, deadline=None)
@given(
    st.tuples(RULES, st.dates(date(2024, 1, 1), date(2026, 12, 31)))
    | st.tuples(
        LONG,
        st.dates(date(1970, 1, 1), date(2026, 12, 31))
        | st.sampled_from([date(1972, 2, 29), date(2000, 2, 29)]),
    ),
    st.dates(date(2026, 1, 1), date(2027, 6, 1)),
    st.times(),
    st.lists(st.integers(0, 60), max_size=3),
)
def test_the_next_ones_are_those_of_the_packages_own_expansion(
    begins: tuple[str, date], now: date, time: Any, left: list[int]
) -> None:
    rule, first = begins
    time = time.replace(microsecond=0)
    without = [now + timedelta(days=each) for each in left]
    try:
        made = schedule(
            from_=f"{time:%H:%M:%S}",
            for_="1 min",
            repeat=rule,
            starts=first.isoformat(),
            without=[each.isoformat() for each in without],
            timezone="UTC",
        )
    except CallerError as error:
        assert "never begins" in error.sentence, "only a rule that is over before it began"
        return
    begin = wall(datetime.combine(now, datetime.min.time()), "UTC")
    most = 40 if first.year >= 2024 else 12
    found = [local(span.start, "UTC").replace(tzinfo=None) for span in islice(ahead(made, begin - NS), most)]
    whole = rrulestr(rule, dtstart=datetime.combine(first, time))
    expected: list[datetime] = []
    for each in whole.xafter(datetime.combine(now, datetime.min.time()), inc=True):
        if len(expected) == most or each - (expected or [datetime.combine(now, time)])[-1] > timedelta(
            days=plan.AHEAD
        ):
            break  # what has given nothing in ten years counts as giving nothing
        if each.date() not in without:
            expected.append(each)
    assert found == expected


@pytest.mark.parametrize(
    ("zone", "day", "skipped", "doubled_day", "doubled"),
    [  # a local time that is skipped is an hour (or half an hour) later; one that comes twice is the first
        ("Europe/London", "2027-03-28", ("01:30", "02:30"), "2026-10-25", "01:30"),
        ("Australia/Sydney", "2026-10-04", ("02:30", "03:30"), "2027-04-04", "02:30"),
        ("Australia/Lord_Howe", "2026-10-04", ("02:15", "02:45"), "2027-04-04", "01:45"),
    ],
)
def test_hours_that_summer_time_skips_and_doubles(
    zone: str, day: str, skipped: tuple[str, str], doubled_day: str, doubled: str
) -> None:
    gap = schedule(from_=skipped[0], for_="10 min", timezone=zone)
    (span,) = spans(gap, at(f"{day} 00:00", zone), at(f"{day} 23:00", zone))
    assert clock(span.start, zone)[11:16] == skipped[1]
    assert span.end - span.start == 600 * NS
    twice = schedule(from_=doubled, to="05:00", timezone=zone)
    (span,) = spans(twice, at(f"{doubled_day} 00:00", zone), at(f"{doubled_day} 23:00", zone))
    assert local(span.start, zone).fold == 0, "the first of the two"
    assert span.end - span.start > (at(f"{doubled_day} 05:00", zone) - at(f"{doubled_day} 02:59", zone)), (
        "and it lasts through both"
    )
    every = schedule(from_="00:00", for_="1 min", repeat="FREQ=HOURLY", timezone=zone)
    for changing in (day, doubled_day):
        starts = [
            each.start for each in spans(every, at(f"{changing} 00:00", zone), at(f"{changing} 23:30", zone))
        ]
        assert starts == sorted(set(starts)), "none twice"
    lost = schedule(from_="00:30", to="01:10", timezone="Europe/London")
    assert plan.missing(lost, at("2027-03-27 12:00"), at("2027-03-29 12:00")) == [], (
        "01:10 is 02:10 there, and later than 00:30"
    )


def test_the_sun_and_days_without_it() -> None:
    made = schedule(from_="sunset - 20 min", to="22:30", repeat="FREQ=WEEKLY;BYDAY=TH,FR,SA")
    first = next(ahead(made, at("2026-11-23 12:00")))
    assert clock(first.start).startswith("2026-11-26 15:2")
    assert clock(first.end) == "2026-11-26 22:30:00"
    north = Where("Europe/Oslo", 69.65, 18.96)
    sunset = Moment(sun="sunset")
    assert sunset.on(date(2026, 6, 21), north) is None
    after = sunset.after(wall(datetime(2026, 6, 1), "Europe/Oslo"), north)
    assert after is not None
    assert local(after, "Europe/Oslo").month in (7, 8), "when it sets again"
    polar = plan.changed(made, where=north, rule="FREQ=DAILY", course=made.course)
    left = plan.missing(
        polar, wall(datetime(2026, 6, 1), "Europe/Oslo"), wall(datetime(2026, 6, 30), "Europe/Oslo")
    )
    assert len(left) == 30, "it is said which days are left out"
    assert read("midnight") == Moment(0)
    for text in ("25:00", "sunsit", "sunset - 13 h", "noonish", ""):
        with pytest.raises(CallerError):
            read(text)
    with pytest.raises(CallerError, match="where the site is"):
        read("sunset", Where("UTC"))


@settings(max_examples=40, deadline=None)
@given(RULES, st.integers(1, 40), st.lists(st.integers(0, 300 * 24), min_size=1, max_size=30))
def test_wherever_one_looks_from_the_span_is_the_same(rule: str, hours: int, times: list[int]) -> None:
    try:
        made = schedule(from_="06:30", for_=f"{hours} h", repeat=rule, starts="2026-01-01")
    except CallerError:
        return
    walker = Walker(made)
    for hour in times:  # forward and back: a clock may be set
        now = at("2026-02-01 00:10") + hour * 3600 * NS
        held, due = walker.at(now)
        fresh, again = Walker(made).at(now)
        assert (held, due) == (fresh, again)
        known = [each for each in spans(made, now - 60 * DAY, now + 1) if each.end > now]
        assert held == (known[-1] if known else None)
        if due is not None:
            assert due > now


@pytest.mark.parametrize(
    ("facts", "key", "match"),
    [
        ({"from": "18:00", "to": "18:00"}, "to", "ends when it begins"),
        ({"from": "18:00"}, None, "has no end"),
        ({"from": "18:00", "to": "19:00", "for": "1 h"}, "for", "both 'to' and 'for'"),
        ({"from": "18:00", "to": "19:00", "repeat": "FREQ=DAYLY"}, "repeat", "no frequency"),
        ({"from": "18:00", "to": "19:00", "repeat": "FREQ=DAILY;BYDAY=XX"}, "repeat", "no recurrence rule"),
        (
            {"from": "18:00", "to": "19:00", "repeat": "FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30"},
            None,
            "never begins",
        ),
        (
            {"from": "18:00", "to": "19:00", "repeat": "FREQ=DAILY;UNTIL=20200101T000000Z"},
            None,
            "never begins",
        ),
        (
            {"from": "18:00", "to": "19:00", "repeat": "FREQ=SECONDLY"},
            "repeat",
            "more often than every minute",
        ),
        ({"from": "18:00", "to": "19:00", "repeat": "FREQ=DAILY;COUNT=1000000"}, "repeat", "counts to more"),
        ({"from": "18:00", "to": "19:00", "timezone": "Europe/Atlantis"}, "timezone", "not a time zone"),
        ({"from": "18:00", "to": "19:00", "starts": "2026-02-30"}, "starts", "not a date"),
        ({"from": "18:00", "to": "19:00", "repeat": "never"}, "repeat", "has no day"),
        ({"from": "sunset", "for": "1 h", "repeat": "FREQ=HOURLY"}, None, "once a day"),
        ({"from": "18:00", "to": "19:00", "do": "turn this on"}, "do", "nothing called"),
        ({"from": "18:00", "to": "19:00", "do": "after 5 min turn yard on"}, None, "says when to begin"),
        ({"from": "18:00", "to": "19:00", "do": "all-stop"}, None, "stop everything"),
        ({"from": "18:00", "to": "19:00", "name": "a\nb"}, "name", "cannot be a schedule's name"),
        ({"from": "18:00", "to": "19:00", "colour": "red"}, "colour", "has no 'colour'"),
    ],
)
def test_what_makes_no_sense_is_refused_by_its_key(
    facts: dict[str, Any], key: str | None, match: str
) -> None:
    with pytest.raises(CallerError, match=match) as refused:
        schedules.make({"name": "it", "do": "turn yard on", **facts}, PLAN, "database")
    assert refused.value.more.get("key") == key
    assert refused.value.remedy


def test_forms_there_and_back_overlaps_and_single_days() -> None:
    once = schedule(from_="18:00", to="19:00", repeat="never", also=["2026-12-24", "2026-12-31"])
    assert [clock(each.start)[:16] for each in ahead(once, at("2026-11-01 00:00"))] == [
        "2026-12-24 18:00",
        "2026-12-31 18:00",
    ]
    for made in (*PLAN.schedules, once):
        form = schedules.form_of(made)
        again = schedules.make(form, PLAN, "database")
        assert schedules.form_of(again) == form
        assert list(islice(ahead(again, at("2026-11-01 00:00")), 20)) == list(
            islice(ahead(made, at("2026-11-01 00:00")), 20)
        )
    early, late = PLAN.schedules[1], PLAN.schedules[2]
    both = plan.overlap(early, late, at("2026-11-23 00:00"), at("2026-12-23 00:00"))
    assert both is not None
    assert (clock(both.start), clock(both.end)) == ("2026-11-27 20:00:00", "2026-11-27 21:00:00")
    assert (
        plan.overlap(PLAN.schedules[3], PLAN.schedules[4], at("2026-11-23 00:00"), at("2026-12-23 00:00"))
        is None
    )


# --- what anybody may send ----------------------------------------------------------------------------------------

NUMBERS = st.integers(-3, 70).map(str)
VALUES = {
    "INTERVAL": st.sampled_from(["0", "1", "2", "7", "25", "-1", "9999", "99999999999999999999", "x", ""]), "COUNT": NUMBERS,
    "BYMONTH": NUMBERS, "BYMONTHDAY": NUMBERS, "BYYEARDAY": NUMBERS, "BYWEEKNO": NUMBERS, "BYHOUR": NUMBERS, "BYMINUTE": NUMBERS,
    "BYSETPOS": NUMBERS, "BYSECOND": NUMBERS, "WKST": st.sampled_from(["MO", "SU", "XX"]), "BYEASTER": NUMBERS,
    "BYDAY": st.lists(st.sampled_from(["MO", "TU", "5FR", "-1SU", "99MO", "0WE", "ZZ"]), min_size=1, max_size=3).map(",".join),
    "UNTIL": st.sampled_from(["20300101", "19700101", "20300101T000000Z", "never"]),
}  # fmt: skip
PARTS = st.lists(st.sampled_from([*VALUES]), max_size=4).flatmap(
    lambda names: st.tuples(*(VALUES[name].map(lambda value, name=name: f"{name}={value}") for name in names))
)
ANY_RULE = st.builds(
    lambda freq, more: ";".join([f"FREQ={freq}", *more]), st.sampled_from(["SECONDLY", "MINUTELY", "HOURLY", "DAILY", "WEEKLY", "MONTHLY", "YEARLY", ""]), PARTS
)  # fmt: skip


@settings(max_examples=400, deadline=None)  # what takes for ever does not end within the limit of every test
@given(ANY_RULE)
def test_no_rule_that_anybody_sends_takes_for_ever(text: str) -> None:
    try:
        made = schedules.make(
            {"name": "x", "do": "turn gallery on for 1 s", "from": "00:00", "repeat": text}, PLAN, "test"
        )
    except CallerError as refused:
        assert refused.remedy
        return
    begin = wall(datetime(2026, 11, 23), "Europe/London")
    found = list(islice(plan.spans(made, begin, begin + 62 * 86400 * NS), 2000))
    assert all(one.start < other.start for one, other in pairwise(found))


@settings(max_examples=80, deadline=None)
@given(
    st.sampled_from(["HOURLY", "MINUTELY"]), st.integers(1, 300), st.sets(st.integers(0, 23), max_size=3), st.sets(st.integers(0, 59), max_size=3),
    st.sets(st.sampled_from(["MO", "WE", "SU"]), max_size=2), st.sets(st.integers(-3, 5).filter(bool), max_size=2), st.integers(0, 40), st.integers(0, 1439),
)  # fmt: skip
def test_rules_within_a_day_give_what_the_usual_package_gives(
    freq: str,
    interval: int,
    hours: set[int],
    minutes: set[int],
    days: set[str],
    dates: set[int],
    count: int,
    start: int,
) -> None:
    text = f"FREQ={freq};INTERVAL={interval}"
    for name, values in (("BYHOUR", hours), ("BYMINUTE", minutes), ("BYDAY", days), ("BYMONTHDAY", dates)):
        text += f";{name}={','.join(map(str, sorted(values)))}" if values else ""
    first = datetime(2026, 2, 26) + timedelta(minutes=start)
    until = first + timedelta(days=9)
    step = interval * (60 if freq == "HOURLY" else 1)
    met = [divmod((start + step * turn) % 1440, 60) for turn in range(1440)]
    if not any(
        (hour in hours or not hours) and (minute in minutes or not minutes or freq == "HOURLY")
        for hour, minute in met
    ):
        assert list(recurrence.expand(text, first, until)) == []
        return  # the package looks for it for ever, or has a word for that
    try:
        wanted = list(rrulestr(f"{text};UNTIL={until:%Y%m%dT%H%M%S}", dtstart=first))
    except ValueError:
        return  # its word for hours that an interval never meets
    counted = f"{text};COUNT={count}" if count else text
    recurrence.check(counted)
    assert list(recurrence.expand(counted, first, until)) == (wanted[:count] if count else wanted)


SIMPLE = st.builds(
    lambda freq, step, days, count: [f"FREQ={freq}", *([f"INTERVAL={step}"] if step > 1 else []), *([f"BYDAY={','.join(days)}"] if days else []), *([f"COUNT={count}"] if count else [])],
    st.sampled_from(["DAILY", "WEEKLY", "MONTHLY"]), st.integers(1, 3), st.lists(st.sampled_from(DAYS), unique=True, max_size=7), st.sampled_from([0, 0, 5]),
)  # fmt: skip


@given(one=SIMPLE, other=SIMPLE, order=st.randoms())
def test_what_is_said_of_a_rule_in_words_says_which_days(
    one: list[str], other: list[str], order: Any
) -> None:
    mixed = list(one)
    order.shuffle(mixed)
    said = recurrence.words(";".join(one))
    if "=" not in said:
        assert recurrence.words(";".join(mixed)) == said
        assert "FREQ" not in said
    first, until = datetime(2026, 11, 2, 18), datetime(2027, 1, 31)
    if recurrence.words(";".join(other)) == said:
        days = [list(recurrence.expand(";".join(rule), first, until)) for rule in (one, other, mixed)]
        assert days[0] == days[1] == days[2]
    assert recurrence.words("FREQ=WEEKLY;BYDAY=SA,TH,FR") == "Thu, Fri, Sat"
    assert (
        recurrence.words("FREQ=MONTHLY;BYMONTHDAY=-1;UNTIL=20271231")
        == "every month on the last day, until 2027-12-31"
    )
