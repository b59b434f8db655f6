"""The plan as an iCalendar feed (RFC 5545), and events of a calendar as schedules.

An event's title is a phrase, its time and recurrence are the schedule's. Schedules by the sun have no such form:
each of their times is an event of its own, which carries what it comes from, so that our own export is read back.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Mapping
from datetime import date, datetime, timedelta
from itertools import islice
from typing import Any, NamedTuple

from icalendar import Calendar, Event, vRecur

from cairnwind.core.facts import plan
from cairnwind.core.facts.plan import Schedule
from cairnwind.core.language import schedules
from cairnwind.core.language.schedules import Planned
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.moments import local, named, wall, zone
from cairnwind.core.values.quantities import NS, show_duration

NAME, FORM = "X-CAIRNWIND-NAME", "X-CAIRNWIND-FORM"
BACK, AHEAD = 30 * 86400 * NS, 180 * 86400 * NS
"""How far the feed goes where times have to be written one by one."""
LARGEST = 2 << 20
MOST_EVENTS = 1000
DAY = 86400 * NS


class Line(NamedTuple):
    """What became of one event: 'taken', 'ignored' or 'not understood', and why."""

    title: str
    outcome: str
    why: str
    form: dict[str, Any] | None = None
    """The schedule that it is, where it is taken."""


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
    calendar.add_missing_timezones()
    return bytes(calendar.to_ical())


def _events(schedule: Schedule, now: int) -> Iterable[Event]:
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
    at = local(first.start, schedule.where.timezone).time()
    left = [datetime.combine(day, at, here) for day in schedule.without]
    left += [local(start, schedule.where.timezone) for start in schedule.skipped]
    if left:
        event.add("exdate", sorted(left))
    if schedule.also:
        event.add("rdate", sorted(datetime.combine(day, at, here) for day in schedule.also))
    yield event


def _event(schedule: Schedule, start: int, end: int, each: str) -> Event:
    event = Event()
    event.add("uid", hashlib.sha256(f"{schedule.name} {each}".encode()).hexdigest()[:32] + "@cairnwind")
    event.add("dtstamp", datetime.fromtimestamp(start // NS, zone("UTC")))
    event.add("dtstart", local(start, schedule.where.timezone))
    if schedule.end is None:
        event.add(
            "duration", timedelta(seconds=(end - start) // NS)
        )  # an end by the clock would be off where that is set
    else:
        event.add("dtend", local(end, schedule.where.timezone))
    event.add("summary", schedule.course.text)
    event.add(NAME, schedule.name)
    event.add(FORM, json.dumps(schedules.form_of(schedule), ensure_ascii=True))
    return event


# --- reading --------------------------------------------------------------------------------------------------


def read(content: bytes, planned: Planned, known: Mapping[str, Schedule], now: int) -> list[Line]:
    """What a calendar's events come to, one line each. Raises `CallerError` where it is no calendar at all."""
    if len(content) > LARGEST:
        raise CallerError(
            "too-large", f"The calendar has {len(content) >> 20} MB.", "At most 2 MB; export fewer events."
        )
    try:
        events = Calendar.from_ical(content).walk("VEVENT")
    except (ValueError, IndexError, KeyError, TypeError, AttributeError) as error:
        raise CallerError(
            "bad-value",
            f"This is no calendar: {str(error)[:200]}.",
            "Give a file in the form of RFC 5545 (.ics).",
        ) from None
    if len(events) > MOST_EVENTS:
        raise CallerError(
            "bad-value",
            f"The calendar has {len(events)} events.",
            f"At most {MOST_EVENTS} are read at a time.",
        )
    lines: list[Line] = []
    names: set[str] = set()
    for event in events:
        title = _printable(str(event.get("summary", "")))
        try:
            lines.append(_line(event, title, planned, known, names, now))
        except CallerError as error:
            lines.append(
                Line(title or "(no title)", "not understood", f"{error.sentence} {error.remedy}".strip())
            )
        except (ValueError, TypeError, KeyError, AttributeError, OverflowError) as error:
            lines.append(
                Line(title or "(no title)", "not understood", f"its times cannot be read: {str(error)[:120]}")
            )
    return lines


def _line(
    event: Any, title: str, planned: Planned, known: Mapping[str, Schedule], names: set[str], now: int
) -> Line:
    if not title.strip():
        return Line("(no title)", "ignored", "it has no title, which would say what to do")
    if str(event.get("status", "")).upper() == "CANCELLED":
        return Line(title, "ignored", "it is cancelled")
    if "RECURRENCE-ID" in event:
        return Line(
            title,
            "ignored",
            "it changes a single time of another event; leave that one out and add this one by itself",
        )
    own = _own(event, title, planned)
    form = own if own is not None else _form(event, title, planned)
    if own is not None and form["name"] in names:
        return Line(title, "ignored", f"it is one of the times of '{form['name']}', which is taken")
    name = form["name"]
    count = 2
    while form["name"] in names:
        form["name"], count = f"{name} {count}", count + 1
    schedule = schedules.make(form, planned, "database")
    there = known.get(schedule.name)
    if there is not None and there.origin == "site file":
        return Line(title, "ignored", f"'{schedule.name}' is in the site file")
    if there is not None and schedules.form_of(there) == schedules.form_of(schedule):
        return Line(title, "ignored", f"'{schedule.name}' is on the plan already")
    if next(iter(islice(plan.ahead(schedule, now - DAY), 1)), None) is None:
        return Line(title, "ignored", "it is over")
    names.add(schedule.name)
    return Line(title, "taken", f"as '{schedule.name}', {plan.told(schedule)}", form)


def _own(event: Any, title: str, planned: Planned) -> dict[str, Any] | None:
    """What one of our own events by the sun comes from, unless its title was changed since."""
    text = event.get(FORM)
    if text is None:
        return None
    try:
        form = json.loads(str(text))
        by_sun = any(str(form.get(key, ""))[:2] in ("su", "da", "du") for key in ("from", "to"))
        return dict(form) if by_sun and planned.course(title).text == form["do"] else None
    except (ValueError, KeyError, TypeError, AttributeError, CallerError):
        return None


def _form(event: Any, title: str, planned: Planned) -> dict[str, Any]:
    """The schedule that an event is, by its times and its rule."""
    course = planned.course(title)
    begin = event.decoded("dtstart")
    if not isinstance(begin, datetime):
        raise CallerError("bad-value", "It lasts whole days.", "Give it a time of day to begin and to end.")
    here = planned.vocabulary.site.timezone
    name = _zone(begin, here)
    begin = (
        begin.replace(tzinfo=None)
        if begin.tzinfo is None
        else begin.astimezone(zone(name)).replace(tzinfo=None)
    )
    form: dict[str, Any] = {
        "name": _printable(str(event.get(NAME, "")) or title)[:80], "do": course.text, "from": f"{begin:%H:%M:%S}".removesuffix(":00"),
        "starts": begin.date().isoformat(), "timezone": name, "repeat": "never",
    }  # fmt: skip
    end = event.decoded("dtend") if "dtend" in event else None
    length = event.decoded("duration") if "duration" in event else None
    if isinstance(end, datetime):
        end = (
            end.replace(tzinfo=None)
            if end.tzinfo is None
            else end.astimezone(zone(name)).replace(tzinfo=None)
        )
        if end <= begin:
            if course.length is None:
                raise CallerError("bad-value", "It ends before it begins.", "Give it a later end.")
        elif end - begin < timedelta(days=1) and end.time() != begin.time():
            form["to"] = f"{end:%H:%M:%S}".removesuffix(":00")
        else:
            form["for"] = show_duration(int((end - begin).total_seconds()) * NS)
    elif isinstance(length, timedelta):
        form["for"] = show_duration(int(length.total_seconds()) * NS)
    rule = event.get("rrule")
    if isinstance(rule, list):
        raise CallerError("bad-value", "It has more than one rule to repeat by.", "Make an event of each.")
    if rule is not None:
        form["repeat"] = rule.to_ical().decode()
    for key, name_ in (("exdate", "without"), ("rdate", "also")):
        dates = _dates(event.get(key), name)
        if dates:
            form[name_] = dates
    return form


def _zone(begin: datetime, default: str) -> str:
    if begin.tzinfo is None:
        return default
    name = getattr(begin.tzinfo, "key", None) or str(begin.tzinfo)
    if name in ("UTC", "Z", "UTC+00:00"):
        return default  # a moment, which is the same in the site's zone
    return named(name)


def _dates(value: Any, name: str) -> list[str]:
    found: list[str] = []
    for each in value if isinstance(value, list) else [value] if value is not None else []:
        for stamp in each.dts:
            at = stamp.dt
            if isinstance(at, datetime):
                at = (at if at.tzinfo is None else at.astimezone(zone(name))).date()
            if isinstance(at, date):
                found.append(at.isoformat())
    return sorted(set(found))


def _printable(text: str) -> str:
    return "".join(char if char.isprintable() else " " for char in text)[:500]
