"""Schedules: spans of time in which a course is carried out, and when they begin and end.

A schedule has a start (by the clock or by the sun), an end or a length, days by a recurrence rule of RFC 5545,
days left out and days added. It is a pure function of the wall clock: `spans` gives what begins between two
moments, and a `Walker` goes forward through them for the engine.

Rules: an end that is not after its start is on the next day; a length in days is by the calendar, one in hours and minutes
exact, whatever the clock does meanwhile (RFC 5545, section 3.3.6). Times that summer time skips or doubles are read as
`cairnwind.core.values.moments` says; a span that has no length by that is left out, and so is a day on which the sun
does not do what the schedule waits for.
"""

from __future__ import annotations

import re
from bisect import bisect_left, bisect_right
from calendar import isleap
from collections.abc import Iterator
from datetime import date, datetime, timedelta
from functools import lru_cache
from math import gcd
from typing import Any, NamedTuple

from cairnwind.core.facts import recurrence
from cairnwind.core.facts.course import Course
from cairnwind.core.facts.recurrence import FREQUENCIES, WITHIN_A_DAY, check, expand, parts
from cairnwind.core.values.errors import CallerError, nearest
from cairnwind.core.values.fact import fact, replace
from cairnwind.core.values.moments import Moment, Where, local, wall
from cairnwind.core.values.quantities import NS, show_duration

DAILY = "FREQ=DAILY"
ANCHOR = date(2024, 1, 1)
"""A Monday: where rules are counted from that do not say when they begin."""
WINDOW = 64
"""Days that are looked at in one go; twice as many where there was nothing, up to ``LONGEST_WINDOW``."""
LONGEST_WINDOW = timedelta(days=4096)
OFTEN = {"MINUTELY": timedelta(hours=12), "HOURLY": timedelta(days=8)}
"""Rules that give so much that less is looked at in one go."""
SET = timedelta(hours=3)
"""How far summer time may move a local time, and more."""
DECADE = 10
"""Years up to which a rule that counts is counted at a time."""
AHEAD = 10 * 366
"""Days after which a rule that has given nothing counts as giving nothing at all."""
LONGEST = 366 * 86400 * NS


class Span(NamedTuple):
    """From when to when, in nanoseconds UTC."""

    start: int
    end: int


@fact
class Schedule:
    """One schedule. Dates are those of its zone."""

    name: str
    course: Course
    start: Moment
    where: Where
    end: Moment | None = None
    length: int = 0
    """Nanoseconds, where there is no ``end``."""
    days: int = 0
    """Besides: so many days by the calendar, to the same time of day."""
    rule: str = DAILY
    """RFC 5545; empty: on ``first`` only."""
    first: date | None = None
    """Its first day; None: it has always been."""
    without: frozenset[date] = frozenset()
    """Days left out, or (a `datetime` without a zone) single local times."""
    also: frozenset[date] = frozenset()
    """Days added, or single local times. A day that is left out and added is added, a time is left out."""
    origin: str = "site file"
    """Or 'database'."""
    enabled: bool = True
    skipped: frozenset[int] = frozenset()
    """Starts (wall nanoseconds) that are left out once."""
    extra: Span | None = None
    """A span that somebody asked for out of its turn."""
    by: str = ""
    """The name of the key that has added it; empty: it is in the site file."""

    @property
    def slot(self) -> str:
        """The slot of its claims."""
        return f"plan:{self.name}"

    @property
    def at_most(self) -> int:
        """Nanoseconds that a span of it lasts at most, unless it ends by the clock or the sun: a day may have 25 hours."""
        return self.length + self.days * 25 * 3600 * NS


# --- reading --------------------------------------------------------------------------------------------------


def rule(text: object) -> str:
    """A recurrence rule in the form that everything here takes. Raises `CallerError` (``bad-value``)."""
    if not isinstance(text, str) or not text.strip() or len(text) > 500:
        raise CallerError(
            "bad-value",
            f"{text!r} is no recurrence rule.",
            f"Write one of RFC 5545: {DAILY}, or FREQ=WEEKLY;BYDAY=MO,FR.",
        )
    made = re.sub(r"\s+", "", text.upper().removeprefix("RRULE:"))
    said = parts(made)
    freq = said.get("FREQ", "")
    if freq == "SECONDLY":
        raise CallerError(
            "bad-value",
            f"'{text}' begins more often than every minute.",
            "Use a phrase with 'every' in a longer span.",
        )
    if freq not in FREQUENCIES:
        raise CallerError(
            "bad-value",
            f"'{text}' has no frequency that is known.",
            nearest(freq, FREQUENCIES) or f"Begin it with FREQ= and one of {', '.join(FREQUENCIES)}.",
        )
    try:
        if "UNTIL" in said:
            _until(said["UNTIL"], Where("UTC"))
        check(made)
    except (ValueError, TypeError, KeyError, OverflowError) as error:
        raise CallerError(
            "bad-value",
            f"'{text}' is no recurrence rule: {error}.",
            f"Write one of RFC 5545: {DAILY}, or FREQ=WEEKLY;BYDAY=MO,FR.",
        ) from None
    return made


def sound(schedule: Schedule) -> Schedule:
    """The schedule, if it makes sense by itself. Raises `CallerError` (``bad-value``)."""
    if not schedule.end and not schedule.length and not schedule.days:
        raise CallerError(
            "bad-value",
            f"'{schedule.name}' has no end.",
            "Give it 'to', or 'for', or a phrase that ends by itself.",
        )
    if schedule.length + schedule.days * 24 * 3600 * NS > LONGEST:
        raise CallerError("bad-value", f"'{schedule.name}' lasts longer than a year.", "Make it shorter.")
    if schedule.start.sun and any(word in schedule.rule for word in WITHIN_A_DAY):
        raise CallerError(
            "bad-value",
            f"'{schedule.name}' begins with the sun, which does that once a day.",
            f"Use {DAILY} or a rule by weeks, months or years.",
        )
    if schedule.start.sun and any(isinstance(each, datetime) for each in (*schedule.without, *schedule.also)):
        raise CallerError(
            "bad-value",
            f"'{schedule.name}' begins with the sun, and names a time of day to leave out or to add.",
            "Name the day alone.",
        )
    if schedule.course.lead is not None:
        raise CallerError(
            "bad-value",
            f"'{schedule.name}': its phrase says when to begin, and so does the schedule.",
            "Take that out of the phrase.",
        )
    if any(step.stop for step in schedule.course.steps):
        raise CallerError(
            "bad-value",
            f"'{schedule.name}' would stop everything.",
            "A schedule turns things off; the all-stop is for people.",
        )
    if not _begins(schedule):
        raise _never(schedule)
    return schedule


def _begins(schedule: Schedule) -> bool:
    """Whether it ever begins."""
    try:
        if schedule.rule and not _gives(schedule.rule, schedule.first or ANCHOR) and not schedule.also:
            return False
        soon = (
            wall(datetime.combine(schedule.first or ANCHOR, datetime.min.time()), schedule.where.timezone)
            - NS
        )
        return next(iter(ahead(schedule, soon)), None) is not None
    except (
        ValueError
    ):  # the package's word for parts that exclude each other, like an interval and hours that it never meets
        return False


def _never(schedule: Schedule) -> CallerError:
    return CallerError(
        "bad-value",
        f"'{schedule.name}' never begins: its rule gives no day in ten years.",
        "See to its rule, and to the days that are left out.",
    )


def _gives(text: str, first: date) -> bool:
    """Whether a rule gives anything at all, in ten years.

    The package that expands rules by days and longer sees their end only where they give something: where they do not, it walks up
    to the year 9999. The calendar is the same again every 400 years, so it is asked about a year near that end.
    """
    said = parts(text)
    bare = ";".join(f"{key}={value}" for key, value in said.items() if key not in ("UNTIL", "COUNT"))
    if said["FREQ"] not in WITHIN_A_DAY and first.year < 2399:
        first = first.replace(year=first.year + 7600, day=min(first.day, 28))
    begin = datetime.combine(first, datetime.min.time())
    return next(iter(expand(bare, begin, _after(begin, AHEAD))), None) is not None


def _after(begin: datetime, days: int) -> datetime:
    """So many days later, as far as there are days."""
    return begin + timedelta(days=min(days, (datetime.max - begin).days - 1))


# --- when -----------------------------------------------------------------------------------------------------


def starts(schedule: Schedule, begin: date, end: date) -> list[datetime]:
    """Local times (without a zone) at which the rule begins, from one day up to before another; rising."""
    midnight = datetime.min.time()
    return _starts(schedule, datetime.combine(begin, midnight), datetime.combine(end, midnight))


def _starts(schedule: Schedule, low: datetime, high: datetime) -> list[datetime]:
    """The same, from one local time up to before another."""
    first_day = schedule.first or ANCHOR
    by_clock = not schedule.start.sun
    second = schedule.start.second if by_clock else 0
    time = (datetime.min + timedelta(seconds=second)).time()
    found: set[datetime] = set()
    first = datetime.combine(first_day, time)
    if not schedule.rule:
        if low <= first < high:
            found.add(first)
    elif high > first:
        found.update(_by_rule(schedule.rule, first, schedule.where, low, high))
    for also in schedule.also:
        at = also if isinstance(also, datetime) else datetime.combine(also, time)
        if low <= at < high:
            found.add(at)
    left = {_meant(each, schedule.where) for each in schedule.without if isinstance(each, datetime)}
    return sorted(
        each
        for each in found
        if (each.date() not in schedule.without or each.date() in schedule.also or each in schedule.also)
        and not (left and _meant(each, schedule.where) in left)
    )


def _meant(at: datetime, where: Where) -> int:
    """The moment that a local time means: the same for the two names of one that summer time skips."""
    return wall(at, where.timezone)


def _by_rule(text: str, first: datetime, where: Where, low: datetime, high: datetime) -> Iterator[datetime]:
    """What a rule gives from ``low`` up to before ``high``, without walking there from its first day where that is possible."""
    found = parts(text)
    last = high - timedelta(seconds=1)
    if "UNTIL" in found:
        last = min(last, _until(found["UNTIL"], where))
        text = ";".join(f"{key}={value}" for key, value in found.items() if key != "UNTIL")
    if last < first:
        return
    if "COUNT" in found:
        times = _counted(text, first, last.year // DECADE * DECADE + DECADE)
        yield from times[bisect_left(times, low) : bisect_right(times, last)]
        return
    for each in expand(text, _nearer(found, first, low), last):
        if each >= low and each >= first:
            yield each


@lru_cache(256)
def _counted(text: str, first: datetime, year: int) -> tuple[datetime, ...]:
    """What a rule that counts gives up to a year: it has to be counted from its first time on, which is done once."""
    return tuple(expand(text, first, datetime(min(year, 9999), 1, 1)))


def _nearer(said: dict[str, str], first: datetime, low: datetime) -> datetime:
    """A later first day that gives the same days from ``low`` on: so many whole rounds of the rule later."""
    interval = int(said.get("INTERVAL", "1"))
    freq = said["FREQ"]
    if freq in ("YEARLY", "MONTHLY"):
        # by leap years, so that a 29th of February is one again, and by whole rounds of the months
        years = 4 * (interval if freq == "YEARLY" else interval // gcd(interval, 12))
        rounds = (low.year - first.year) // years - 1
        year = first.year + rounds * years
        return first.replace(year=year) if rounds > 0 and _has(year, first) else first
    days = (7 if freq == "WEEKLY" else 1) * interval
    rounds = (low - first).days // days - 1
    return first + timedelta(days=days * rounds) if rounds > 0 else first


def _has(year: int, day: date) -> bool:
    """Whether a year has this day: only a 29th of February may be missing."""
    return (day.month, day.day) != (2, 29) or isleap(year)


def _until(text: str, where: Where) -> datetime:
    """RFC 5545's UNTIL as a local time: a date lasts the day, one with Z is UTC."""
    if len(text) == 8:
        return datetime.strptime(text + "235959", "%Y%m%d%H%M%S")
    read = datetime.strptime(text.rstrip("Z"), "%Y%m%dT%H%M%S")
    if text.endswith("Z"):
        return local(int((read - datetime(1970, 1, 1)).total_seconds()) * NS, where.timezone).replace(
            tzinfo=None
        )
    return read


def span(schedule: Schedule, begin: datetime) -> Span | None:
    """The span that begins at a local time; None where there is none (no sunset that day, no length)."""
    where = schedule.where
    day = begin.date()
    start = schedule.start.on(day, where) if schedule.start.sun else wall(begin, where.timezone)
    if start is None:
        return None
    if schedule.end is None:
        return Span(start, _later(start, schedule.days, where) + schedule.length)
    same_clock = not schedule.start.sun and not schedule.end.sun
    end: int | None
    if same_clock:
        later = schedule.end.second <= begin.hour * 3600 + begin.minute * 60 + begin.second
        end = schedule.end.on(day + timedelta(days=int(later)), where)
    else:
        end = schedule.end.on(day, where)
        if end is None or end <= start:
            end = schedule.end.on(day + timedelta(days=1), where)
    return Span(start, end) if end is not None and end > start else None


def _later(start: int, days: int, where: Where) -> int:
    """So many days later, at the same time of day."""
    if not days:
        return start
    return wall(local(start, where.timezone).replace(tzinfo=None) + timedelta(days=days), where.timezone)


def spans(schedule: Schedule, begin: int, end: int) -> Iterator[Span]:
    """The spans that begin in [begin, end), in nanoseconds UTC, in rising order; skipped ones are left out, disabled is not asked."""
    zone, often = schedule.where.timezone, OFTEN.get(parts(schedule.rule).get("FREQ", ""))
    margin = SET if often else timedelta(days=2)
    at = local(begin, zone).replace(tzinfo=None) - margin
    last = local(end, zone).replace(tzinfo=None) + margin
    told = begin - 1
    extra = schedule.extra
    size = usual = often or timedelta(days=WINDOW)
    while at < last:
        until = min(at + size, last)
        found = [
            each
            for each in (span(schedule, each) for each in _starts(schedule, at, until))
            if each is not None
        ]
        for each in sorted(found):
            if extra is not None and begin <= extra.start < end and extra.start <= each.start:
                yield extra
                extra = None
            # an hour that is skipped would else begin twice
            if told < each.start < end and each.start not in schedule.skipped:
                told = each.start
                yield each
        at, size = until, usual if found else min(2 * size, LONGEST_WINDOW)
    if extra is not None and begin <= extra.start < end:
        yield extra


def ahead(schedule: Schedule, now: int, days: int = AHEAD) -> Iterator[Span]:
    """The spans that begin after ``now``, one after the other, as far as ``days`` are looked ahead without finding one."""
    at = now + 1
    while True:
        found = None
        for size in (8, WINDOW, 366, days):
            found = next(spans(schedule, at, at + size * 86400 * NS), None)
            if found is not None:
                break
        if found is None:
            return
        for each in spans(schedule, at, found.start + WINDOW * 86400 * NS):
            yield each
            at = each.start + 1


class Walker:
    """Where a schedule stands, as the wall clock goes on; a clock that goes back begins anew."""

    def __init__(self, schedule: Schedule) -> None:
        self.schedule = schedule
        self._at: int | None = None
        self._now: Span | None = None
        self._coming: Iterator[Span] = iter(())
        self._next: Span | None = None

    def at(self, now: int) -> tuple[Span | None, int | None]:
        """The span that holds at ``now`` (the one that began last), and when this next changes."""
        if not self.schedule.enabled:
            return None, None
        if self._at is None or now < self._at:
            before = self.schedule.at_most + (3 * 86400 * NS if self.schedule.end else 0)
            held = [each for each in spans(self.schedule, now - before, now + 1) if each.end > now]
            self._now = held[-1] if held else None
            self._coming = ahead(self.schedule, now)
            self._next = next(self._coming, None)
        self._at = now
        while self._next is not None and self._next.start <= now:
            self._now = self._next
            self._next = next(self._coming, None)
        if self._now is not None and self._now.end <= now:
            self._now = None
        due = [
            each
            for each in (self._now.end if self._now else None, self._next.start if self._next else None)
            if each is not None
        ]
        return self._now, min(due, default=None)


def missing(schedule: Schedule, begin: int, end: int) -> list[date]:
    """Days on which the rule begins, and the schedule does not: the sun does not do that, or no time is left."""
    zone = schedule.where.timezone
    days = starts(schedule, local(begin, zone).date(), local(end, zone).date() + timedelta(days=1))
    return [each.date() for each in days if span(schedule, each) is None]


def overlap(one: Schedule, other: Schedule, begin: int, end: int) -> Span | None:
    """The first time between two moments that two schedules share; None if there is none."""
    first, second = spans(one, begin, end), spans(other, begin, end)
    a, b = next(first, None), next(second, None)
    while a is not None and b is not None:
        if a.start < b.end and b.start < a.end:
            return Span(max(a.start, b.start), min(a.end, b.end))
        if a.end <= b.end:
            a = next(first, None)
        else:
            b = next(second, None)
    return None


def changed(schedule: Schedule, **facts: Any) -> Schedule:
    """The schedule with other facts."""
    return replace(schedule, **facts)


def lasts(schedule: Schedule) -> str:
    """How long, in words: '2 days and 3 h'."""
    days = f"{schedule.days} day{'s' if schedule.days > 1 else ''}" if schedule.days else ""
    return " and ".join(filter(None, (days, show_duration(schedule.length) if schedule.length else "")))


def told(schedule: Schedule) -> str:
    """When it is, in words: 'sunset - 20 min to 22:30, Thu, Fri, Sat'."""
    end = f" to {schedule.end.text}" if schedule.end else f" for {lasts(schedule)}"
    days = (
        recurrence.words(schedule.rule)
        if schedule.rule
        else f"on {schedule.first}"
        if schedule.first
        else "once"
    )
    return f"{schedule.start.text}{end}, {days}"
