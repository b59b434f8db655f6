"""The plan as an iCalendar feed (RFC 5545).

Schedules by the sun have no such form: each of their times is an event of its own, which carries what it comes from, so that our
own export is read back (`cairnwind.site.calendars`). Times that are left out or added stand one a line, in the zone's own record
too: not every reader takes more.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Iterator
from datetime import datetime, timedelta
from typing import Any

from icalendar import Calendar, Event, vDDDLists, vRecur, vText

from cairnwind.core.facts import plan
from cairnwind.core.facts.plan import Schedule
from cairnwind.core.language import schedules
from cairnwind.core.values.moments import local, wall, zone
from cairnwind.core.values.quantities import NS

NAME, FORM = "X-CAIRNWIND-NAME", "X-CAIRNWIND-FORM"
BACK, AHEAD = 30 * 86400 * NS, 180 * 86400 * NS
"""How far the feed goes where times have to be written one by one."""
ZONE_BACK = 400 * 86400 * NS
"""How far the record of a zone goes back."""


def feed(name: str, found: Iterable[Schedule], now: int) -> bytes:
    """The plan as a calendar; disabled schedules are not in it."""
    calendar = Calendar()
    calendar.add("prodid", "-//Cairnwind//plan//EN")
    calendar.add("version", "2.0")
    calendar.add("calscale", "GREGORIAN")
    calendar.add("name", name)
    for schedule in found:
        if schedule.enabled:
            for event in _events(schedule, now):
                calendar.add_component(event)
    calendar.add_missing_timezones(first_date=local(now - ZONE_BACK, "UTC").date())
    for part in calendar.walk():
        times: Any = part.get("RDATE")
        if part.name in ("STANDARD", "DAYLIGHT") and times is not None:
            part["RDATE"] = [vDDDLists([stamp.dt]) for stamp in times.dts]
    return bytes(calendar.to_ical())


def _events(schedule: Schedule, now: int) -> Iterator[Event]:
    by_sun = schedule.start.sun or (schedule.end is not None and schedule.end.sun)
    if by_sun or not schedule.rule:
        for span in plan.spans(schedule, now - BACK, now + AHEAD):
            yield _event(schedule, span.start, span.end, str(span.start))
        return
    begin = now - BACK
    if schedule.first is not None and "COUNT" in schedule.rule:
        begin = min(
            begin, wall(datetime.combine(schedule.first, datetime.min.time()), schedule.where.timezone) - 1
        )
    bare = plan.changed(schedule, without=frozenset(), also=frozenset(), skipped=frozenset(), extra=None)
    first = next(iter(plan.ahead(bare, begin)), None)
    if first is None:
        return
    event = _event(schedule, first.start, first.end, "")
    event["rrule"] = vRecur.from_ical(schedule.rule)
    here = zone(schedule.where.timezone)
    for name, times in (("exdate", _left(schedule, bare)), ("rdate", _added(schedule))):
        for each in sorted(times):
            event.add(name, each.replace(tzinfo=here))
    yield event


def _left(schedule: Schedule, bare: Schedule) -> set[datetime]:
    """The local times that are left out; of a day every one that the rule gives."""
    left = {local(start, schedule.where.timezone).replace(tzinfo=None) for start in schedule.skipped}
    for each in schedule.without:
        if isinstance(each, datetime):
            left.add(each)
        else:
            left.update(plan.starts(bare, each, each + timedelta(days=1)))
    return left


def _added(schedule: Schedule) -> set[datetime]:
    """The local times that are added."""
    clock = (datetime.min + timedelta(seconds=schedule.start.second)).time()
    return {each if isinstance(each, datetime) else datetime.combine(each, clock) for each in schedule.also}


def _event(schedule: Schedule, start: int, end: int, each: str) -> Event:
    event = Event()
    event.add("uid", hashlib.sha256(f"{schedule.name} {each}".encode()).hexdigest()[:32] + "@cairnwind")
    event.add("dtstamp", datetime.fromtimestamp(start // NS, zone("UTC")))
    event.add("dtstart", local(start, schedule.where.timezone))
    if schedule.end is None:  # an end by the clock would be off where that is set
        event["duration"] = vText(_duration(schedule))
    else:
        event.add("dtend", local(end, schedule.where.timezone))
    event.add("summary", schedule.course.text)
    event.add(NAME, schedule.name)
    event.add(FORM, json.dumps(schedules.form_of(schedule), ensure_ascii=True))
    return event


def _duration(schedule: Schedule) -> str:
    """How long it lasts: days are those of the calendar, hours and less are exact (RFC 5545, section 3.3.6)."""
    days = f"{schedule.days}D" if schedule.days else ""
    seconds = schedule.length // NS
    return f"P{days}T{seconds}S" if seconds or not days else f"P{days}"
