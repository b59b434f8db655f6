"""Events of a calendar as schedules (RFC 5545).

An event's title is a phrase, its time and recurrence are the schedule's. Whatever cannot be taken as it is meant is refused in
words, and nothing of a calendar is passed over without a line that says so:

* a single time that was moved or called off (RECURRENCE-ID) is left out of its event; where it was moved, it is a schedule itself;
* a recurrence in UTC stays in UTC;
* a length in days is by the calendar, one in hours is exact, and so is that of whatever repeats and gives its end.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from datetime import date, datetime, timedelta
from itertools import islice
from typing import Any, NamedTuple

from icalendar import Calendar
from icalendar.parser import Contentlines

from cairnwind.core.facts import plan
from cairnwind.core.facts.plan import Schedule
from cairnwind.core.language import schedules
from cairnwind.core.language.schedules import Planned
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.moments import local, named, wall
from cairnwind.core.values.quantities import NS, show_duration
from cairnwind.site.calendar_feed import FORM, NAME

LARGEST = 2 << 20
MOST_EVENTS = 1000
DAY = 86400 * NS
UTC = ("UTC", "Z", "UTC+00:00")
MEANT = (
    "SUMMARY",
    "STATUS",
    "DTSTART",
    "DTEND",
    "DURATION",
    "RRULE",
    "RDATE",
    "EXDATE",
    "EXRULE",
    "RECURRENCE-ID",
    "UID",
    "SEQUENCE",
)
"""What of an event matters: one of these that cannot be read is not passed over."""
_LENGTH = re.compile(
    r"[+]?P(?:(\d{1,4})W|(?:(\d{1,5})D)?(?:T(?:(\d{1,6})H)?(?:(\d{1,7})M)?(?:(\d{1,9})S)?)?)"
)
OTHERS = {"VTODO": "a task", "VJOURNAL": "an entry of a diary", "VFREEBUSY": "a time that somebody is busy"}


class Line(NamedTuple):
    """What became of one event: 'taken', 'ignored', 'not understood' or 'refused', and why."""

    title: str
    outcome: str
    why: str
    form: dict[str, Any] | None = None
    """The schedule that it is, where it is taken."""


class Found(NamedTuple):
    """One event, with how its length is written."""

    event: Any
    length: str
    changes: list[Any]
    """The events that change single times of it; of such a change, the events of which it changes a time."""
    old: bool
    """A later version of it is there."""

    @property
    def title(self) -> str:
        """Its title, printable."""
        return _printable(_text(self.event, "SUMMARY"))


def read(content: bytes, planned: Planned, known: Mapping[str, Schedule], now: int) -> list[Line]:
    """What a calendar's events come to, one line each. Raises `CallerError` where it is no calendar at all."""
    if len(content) > LARGEST:
        raise CallerError(
            "too-large", f"The calendar has {len(content) >> 20} MB.", "At most 2 MB; export fewer events."
        )
    try:
        calendar: Any = Calendar.from_ical(content)
        events, lengths = calendar.walk("VEVENT"), list(_lengths(content))
    except (ValueError, IndexError, KeyError, TypeError, AttributeError, RecursionError) as error:
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
    for found in _by_uid(events, lengths):
        title = found.title or "(no title)"
        try:
            lines.append(_line(found, planned, known, names, now))
        except CallerError as error:
            lines.append(Line(title, "not understood", f"{error.sentence} {error.remedy}".strip()))
        except (ValueError, TypeError, KeyError, AttributeError, OverflowError) as error:
            lines.append(Line(title, "not understood", f"its times cannot be read: {str(error)[:120]}"))
    for each in calendar.subcomponents:
        if each.name not in ("VEVENT", "VTIMEZONE"):
            what = OTHERS.get(str(each.name), "something else")
            lines.append(
                Line(
                    _printable(_text(each, "SUMMARY")) or "(no title)",
                    "ignored",
                    f"it is {what} and no event",
                )
            )
    return lines


def _lengths(content: bytes) -> Iterator[str]:
    """How the length of each event is written, in their order: 'P1D' and 'PT24H' are not the same. Raises `ValueError` where parts do not close."""
    inside: list[tuple[str, list[str]]] = []
    found: list[list[str]] = []
    lines: Any = Contentlines
    for line in lines.from_ical(content):
        if not line:
            continue
        name, _, value = line.parts()
        if name.upper() == "BEGIN":
            inside.append((value.upper(), []))
            if value.upper() == "VEVENT":
                found.append(inside[-1][1])
        elif name.upper() == "END":
            if not inside or inside.pop()[0] != value.upper():
                raise ValueError(f"an END of {value[:40]} closes nothing")
        elif name.upper() == "DURATION" and inside and inside[-1][0] == "VEVENT":
            inside[-1][1].append(value.upper())
    if inside:
        raise ValueError(f"a {inside[-1][0][:40]} does not end")
    return iter([said[0] if said else "" for said in found])


def _by_uid(events: list[Any], lengths: list[str]) -> Iterator[Found]:
    """The events in their order, each with those that change single times of it."""
    changes: dict[str, list[Any]] = {}
    for event in events:
        if "RECURRENCE-ID" in event:
            changes.setdefault(_text(event, "UID"), []).append(event)
    newest = _newest(events)
    for event, length in zip(events, lengths, strict=True):
        old = _version(event) < newest[_which(event)]
        if "RECURRENCE-ID" in event:
            yield Found(event, length, _whose(event, events), old)
        else:
            yield Found(event, length, changes.get(_text(event, "UID"), []), old)


def _newest(events: list[Any]) -> dict[tuple[str, str], int]:
    """The latest version of each event, by what it is and which of its times it is."""
    found: dict[tuple[str, str], int] = {}
    for event in events:
        found[_which(event)] = max(found.get(_which(event), 0), _version(event))
    return found


def _which(event: Any) -> tuple[str, str]:
    stamp = event.get("RECURRENCE-ID")
    return _text(event, "UID"), "" if stamp is None or isinstance(stamp, list) else bytes(
        stamp.to_ical()
    ).decode()


def _version(event: Any) -> int:
    said = _text(event, "SEQUENCE")
    return int(said) if re.fullmatch(r"\d{1,9}", said) else 0


def _whose(change: Any, events: list[Any]) -> list[Any]:
    """The events of which this one changes a time."""
    uid = _text(change, "UID")
    return [each for each in events if "RECURRENCE-ID" not in each and _text(each, "UID") == uid]


def _line(found: Found, planned: Planned, known: Mapping[str, Schedule], names: set[str], now: int) -> Line:
    event, title = found.event, found.title
    single = "RECURRENCE-ID" in event
    if found.old:
        return Line(title or "(no title)", "ignored", "a later version of it is in this calendar")
    if single and not found.changes:
        return Line(
            title or "(no title)",
            "not understood",
            "it changes a single time of an event that is not in this calendar; export both",
        )
    if single and _text(event, "STATUS").upper() == "CANCELLED":
        return Line(
            title or "(no title)",
            "ignored",
            "it calls off a single time of its event, which is left out there",
        )
    if not title.strip():
        return Line("(no title)", "ignored", "it has no title, which would say what to do")
    if _text(event, "STATUS").upper() == "CANCELLED":
        return Line(title, "ignored", "it is cancelled")
    _see_whole(event)
    own = _own(event, title, planned)
    form = own if own is not None else _form(found, title, planned)
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
        names.add(schedule.name)
        return Line(title, "ignored", f"'{schedule.name}' is on the plan already")
    if next(iter(islice(plan.ahead(schedule, now - DAY), 1)), None) is None:
        return Line(title, "ignored", "it is over")
    names.add(schedule.name)
    return Line(title, "taken", f"as '{schedule.name}', {plan.told(schedule)}", form)


def _see_whole(event: Any) -> None:
    """Raises `CallerError` where something that matters cannot be read, or means what no schedule can."""
    for name, why in event.errors:
        if str(name).upper() in MEANT:
            raise CallerError("bad-value", f"Its {name} cannot be read: {str(why)[:120]}.", "")
    if "EXRULE" in event:
        raise CallerError(
            "bad-value", "It has a rule for what is left out (EXRULE).", "Leave single times out instead."
        )
    for name in ("DTSTART", "DTEND", "DURATION", "RRULE"):
        if isinstance(event.get(name), list):
            raise CallerError("bad-value", f"It has more than one {name}.", "Make an event of each.")


def _own(event: Any, title: str, planned: Planned) -> dict[str, Any] | None:
    """What one of our own events by the sun comes from, unless its title was changed since."""
    try:
        form = _said(event)
        by_sun = any(str(form.get(key, ""))[:2] in ("su", "da", "du") for key in ("from", "to"))
        return dict(form) if by_sun and planned.course(title).text == form["do"] else None
    except (ValueError, KeyError, TypeError, AttributeError, CallerError):
        return None


def _said(event: Any) -> Mapping[str, Any]:
    """The schedule that an event of our own comes from; empty for others."""
    try:
        form = json.loads(_text(event, FORM) or "{}")
    except ValueError:
        return {}
    return form if isinstance(form, dict) else {}


def _form(found: Found, title: str, planned: Planned) -> dict[str, Any]:
    """The schedule that an event is, by its times and its rule."""
    event = found.event
    course = planned.course(title)
    given = event.decoded("dtstart")
    if not isinstance(given, datetime):
        raise CallerError("bad-value", "It lasts whole days.", "Give it a time of day to begin and to end.")
    repeats = "RRULE" in event or "RDATE" in event
    where = _zone(given, planned.vocabulary.site.timezone, repeats=repeats)
    begin = _local(given, where)
    form: dict[str, Any] = {
        "name": _printable(_text(event, NAME) or title)[:80], "do": course.text, "from": f"{begin:%H:%M:%S}".removesuffix(":00"),
        "starts": begin.date().isoformat(), "timezone": where, "repeat": "never",
    }  # fmt: skip
    form |= _lasting(found, begin, where, repeats=repeats, ends=course.length is not None)
    if "RRULE" in event:
        form["repeat"] = event["RRULE"].to_ical().decode()
    left = [*_stamps(event.get("EXDATE"), where), *_changed(found, where)]
    for key, stamps in (("without", left), ("also", _stamps(event.get("RDATE"), where))):
        if stamps:
            form[key] = sorted(set(stamps))
    return form


def _lasting(found: Found, begin: datetime, where: str, *, repeats: bool, ends: bool) -> dict[str, Any]:
    """How long it lasts, as the form of a schedule says it; ``ends``: its phrase ends by itself."""
    event = found.event
    if "DTEND" in event:
        end = event.decoded("dtend")
        if not isinstance(end, datetime):
            raise CallerError("bad-value", "It begins at a time and ends with a day.", "Give its end a time.")
        end = _local(end, where)
        exact = wall(end, where) - wall(begin, where)
        if exact <= 0:
            if ends:
                return {}
            raise CallerError("bad-value", "It ends before it begins.", "Give it a later end.")
        clock = f"{end:%H:%M:%S}".removesuffix(":00")
        if exact < DAY and (_said(event).get("to") == clock if repeats else _plain(begin, end, exact)):
            return {"to": clock}
        return {"for": show_duration(exact)}
    if not found.length:
        return {}
    said = _LENGTH.fullmatch(found.length)
    if said is None or found.length.endswith(("P", "T")):
        raise CallerError("bad-value", f"Its length '{found.length[:30]}' cannot be read.", "")
    weeks, days, hours, minutes, seconds = (int(each or 0) for each in said.groups())
    exact = (hours * 3600 + minutes * 60 + seconds) * NS
    form: dict[str, Any] = {"for": show_duration(exact)} if exact else {}
    if weeks or days:
        form["days"] = weeks * 7 + days
    return form


def _plain(begin: datetime, end: datetime, exact: int) -> bool:
    """Whether no clock is set between two local times."""
    return exact == (end - begin) // timedelta(seconds=1) * NS


def _changed(found: Found, where: str) -> list[str]:
    """The times of it that other events move or call off."""
    stamps: list[str] = []
    for change in found.changes if "RECURRENCE-ID" not in found.event else ():
        stamp = change.get("RECURRENCE-ID")
        if stamp is None or isinstance(stamp, list) or not isinstance(stamp.dt, date):
            raise CallerError("bad-value", "Which of its times another event changes cannot be read.", "")
        if "RANGE" in stamp.params:
            raise CallerError(
                "bad-value",
                "From one of its times on it is another event.",
                "Let it end there, and make an event of what follows.",
            )
        stamps.append(_stamp(stamp.dt, where))
    return stamps


def _zone(begin: datetime, default: str, *, repeats: bool) -> str:
    if begin.tzinfo is None:
        return default
    name = getattr(begin.tzinfo, "key", None) or str(begin.tzinfo)
    if name in UTC:
        return "UTC" if repeats else default  # a single moment is the same in the site's zone
    return named(name)


def _local(at: datetime, where: str) -> datetime:
    """Without a zone, in that one. What is skipped there keeps its name."""
    if at.tzinfo is None or getattr(at.tzinfo, "key", None) == where:
        return at.replace(tzinfo=None)
    return local(int(at.timestamp()) * NS, where).replace(tzinfo=None)


def _stamps(value: Any, where: str) -> list[str]:
    found: list[str] = []
    for each in value if isinstance(value, list) else [value] if value is not None else []:
        for stamp in each.dts:
            if not isinstance(stamp.dt, date):
                raise CallerError(
                    "bad-value", "It has times of a length of their own.", "Make an event of each."
                )
            found.append(_stamp(stamp.dt, where))
    return found


def _stamp(at: date, where: str) -> str:
    if isinstance(at, datetime):
        return _local(at, where).isoformat(" ").removesuffix(":00")
    return at.isoformat()


def _text(event: Any, name: str) -> str:
    found = event.get(name, "")
    return str(found[0] if isinstance(found, list) else found)


def _printable(text: str) -> str:
    return "".join(char if char.isprintable() else " " for char in text)[:500]
