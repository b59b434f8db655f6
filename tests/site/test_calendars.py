"""Events of a phone's calendar: what they mean by RFC 5545 is what the plan does."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from cairnwind.core.facts import plan as plans
from cairnwind.core.language import schedules
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import NS
from cairnwind.site.calendar_feed import feed
from cairnwind.site.calendars import read
from tests.core.saltmarsh import PLAN, ZONE, at

ZONES = ["Europe/London", "America/New_York", "Australia/Lord_Howe", "UTC", ""]
"""With summer time in different months, of an hour and of half an hour; none; and that of the site."""


@settings(max_examples=200, deadline=None)
@given(st.sampled_from(ZONES), st.dates(datetime(2027, 2, 20).date(), datetime(2027, 11, 10).date()), st.times().map(lambda at: at.replace(second=0, microsecond=0)),
       st.sampled_from(["DTEND", "PT", "P"]), st.integers(1, 3000), st.integers(1, 3),
       st.sets(st.integers(1, 19), max_size=3), st.dictionaries(st.integers(1, 19), st.none() | st.integers(-600, 600), max_size=3),
       st.lists(st.integers(0, 40_000), max_size=2), st.booleans())  # fmt: skip
def test_an_event_of_a_phone_means_what_rfc_5545_says(
    where: str, day: date, at_: Any, how: str, minutes: int, interval: int, left: set[int], moved: dict[int, int | None], added: list[int], in_utc: bool
) -> None:  # fmt: skip
    """The oracle expands by itself: days are counted, and the clock is asked of the zone."""
    zone = ZoneInfo(where or ZONE)
    first = datetime.combine(day, at_)

    def utc(local: datetime) -> datetime:
        return datetime.fromtimestamp(local.replace(tzinfo=zone).timestamp(), UTC)

    def stamp(name: str, local: datetime, *, as_utc: bool = False) -> str:
        if where == "UTC" or as_utc:
            return f"{name}:{utc(local):%Y%m%dT%H%M%SZ}"
        return f"{name}{f';TZID={where}' if where else ''}:{local:%Y%m%dT%H%M%S}"

    length = timedelta(minutes=minutes)
    exact = utc(first + length) - utc(first) if how == "DTEND" else length
    assume(exact > timedelta())
    said = {"DTEND": stamp("DTEND", first + length), "PT": f"DURATION:PT{minutes}M", "P": f"DURATION:P{length.days}DT{length.seconds // 60}M"}[how]  # fmt: skip

    def span(begin: datetime) -> tuple[datetime, datetime]:
        start = utc(begin)
        if how != "P":
            return start, start + exact
        same = start.astimezone(zone).replace(tzinfo=None) + timedelta(days=length.days)
        return start, utc(same) + timedelta(seconds=length.seconds)

    times = [first + timedelta(days=interval * number) for number in range(20)]
    extra = [first + timedelta(minutes=each) for each in added]
    away = {utc(times[number]) for number in left | moved.keys()}
    expected = {span(each) for each in [*times, *extra] if utc(each) not in away}
    lines = ["BEGIN:VEVENT", "UID:a", "SUMMARY:turn yard on", stamp("DTSTART", first), said, f"RRULE:FREQ=DAILY;INTERVAL={interval};COUNT=20",
             *(stamp("EXDATE", times[number], as_utc=in_utc) for number in left), *(stamp("RDATE", each) for each in extra), "END:VEVENT"]  # fmt: skip
    for number, by in moved.items():
        lines += ["BEGIN:VEVENT", "UID:a", stamp("RECURRENCE-ID", times[number], as_utc=in_utc)]
        if by is None:
            lines += ["STATUS:CANCELLED", "END:VEVENT"]
            continue
        begin = times[number] + timedelta(minutes=by)
        lines += ["SUMMARY:turn yard on", stamp("DTSTART", begin), "DURATION:PT7M", "END:VEVENT"]
        expected.add((utc(begin), utc(begin) + timedelta(minutes=7)))
    content = "\r\n".join(
        ["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:x", *lines, "END:VCALENDAR", ""]
    ).encode()
    found = read(content, PLAN, {}, at("2027-02-10 12:00"))
    assert {line.outcome for line in found} <= {"taken", "ignored"}, found
    have: set[tuple[datetime, datetime]] = set()
    for line in found:
        if line.form is not None:
            made = schedules.make(line.form, PLAN, "database")
            assert schedules.form_of(
                schedules.make(schedules.form_of(made), PLAN, "database")
            ) == schedules.form_of(made)
            have.update(
                (datetime.fromtimestamp(each.start / NS, UTC), datetime.fromtimestamp(each.end / NS, UTC))
                for each in plans.spans(made, at("2027-01-01 00:00"), at("2028-06-01 00:00"))
            )
    assert have == expected
    everything = [schedules.make(line.form, PLAN, "database") for line in found if line.form is not None]
    fed = feed("Test", everything, at("2027-02-10 12:00"))
    assert not [
        line
        for line in fed.replace(b"\r\n ", b"").split(b"\r\n")
        if line[:6] in (b"RDATE;", b"RDATE:", b"EXDATE") and b"," in line
    ], "one a line"


@pytest.mark.parametrize(
    "parts",
    [
        "BEGIN:VEVENT\nBEGIN:VALARM\nEND:VEVENT",
        "END:VEVENT",
        "BEGIN:VEVENT\nUID:a\nBEGIN:20270105\nEND:VEVENT\nEND:VEVENT",
        "BEGIN:VEVENT",
    ],
)
def test_parts_that_do_not_close_are_no_calendar(parts: str) -> None:
    text = f"BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:x\n{parts}\nEND:VCALENDAR\n".replace("\n", "\r\n")
    with pytest.raises(CallerError, match="This is no calendar"):
        read(text.encode(), PLAN, {}, at("2026-12-01 12:00"))
