"""Recurrence rules of RFC 5545: what each part may say, and what a rule gives, in a bounded number of steps.

Rules by days and longer are expanded by the usual package, up to a day that is always given to it. Rules within a day are
expanded here: the package walks through every minute from their first one, and never ends where that gives nothing.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from datetime import date, datetime, timedelta
from typing import Any

FREQUENCIES = ("YEARLY", "MONTHLY", "WEEKLY", "DAILY", "HOURLY", "MINUTELY")
WITHIN_A_DAY = ("HOURLY", "MINUTELY")
MOST_COUNT = 10_000
MOST_STEPS = 200_000
"""That a rule within a day takes without giving anything, before it counts as giving nothing."""
DAYS = ("MO", "TU", "WE", "TH", "FR", "SA", "SU")
_LISTS = {
    "BYMONTH": (1, 12, False), "BYMONTHDAY": (1, 31, True), "BYYEARDAY": (1, 366, True), "BYWEEKNO": (1, 53, True),
    "BYHOUR": (0, 23, False), "BYMINUTE": (0, 59, False), "BYSETPOS": (1, 366, True),
}  # fmt: skip
"""By part: from what to what its numbers go, and whether they may count from the end."""
_NOT_WITHIN_A_DAY = ("BYSETPOS", "BYYEARDAY", "BYWEEKNO")
_DAY = re.compile(r"([+-]?\d{1,2})?(MO|TU|WE|TH|FR|SA|SU)")


def parts(text: str) -> dict[str, str]:
    """The parts of a rule, by name."""
    return dict(part.partition("=")[::2] for part in text.split(";") if part)


def check(text: str) -> None:
    """Look at each part of a rule by itself, and at those that exclude each other. Raises `ValueError` in words."""
    said = [part.partition("=") for part in text.split(";") if part]
    names = [name for name, _, _ in said]
    if twice := next((name for name in names if names.count(name) > 1), None):
        raise ValueError(f"{twice} is there twice")
    freq = parts(text)["FREQ"]
    for name, _, value in said:
        _part(name, value, freq)
    _together(names, freq)


def _part(name: str, value: str, freq: str) -> None:
    """One part by itself."""
    if name in _LISTS:
        low, high, back = _LISTS[name]
        for each in value.split(","):
            _number(name, each, low, high, back=back)
    elif name == "INTERVAL":
        _number(name, value, 1, 10_000)
    elif name == "COUNT":
        if value.isdigit() and int(value[:12]) > MOST_COUNT:
            raise ValueError(f"it counts to more than {MOST_COUNT}")
        _number(name, value, 1, MOST_COUNT)
    elif name == "BYDAY":
        _days(value, freq)
    elif name == "WKST":
        if value not in DAYS:
            raise ValueError(f"WKST is one of {', '.join(DAYS)}")
    elif name == "BYSECOND":
        if value != "0":
            raise ValueError("it begins at whole minutes")
    elif name not in ("FREQ", "UNTIL"):
        raise ValueError(f"'{name[:20]}' is no part of a rule")


def _together(names: list[str], freq: str) -> None:
    """Parts that go with some frequencies alone, or with one another."""
    within = [name for name in _NOT_WITHIN_A_DAY if name in names]
    if within and freq in WITHIN_A_DAY:
        raise ValueError(f"{within[0]} goes with days and longer, not with {freq}")
    if "COUNT" in names and "UNTIL" in names:
        raise ValueError("COUNT and UNTIL exclude each other")
    if "BYWEEKNO" in names and freq != "YEARLY":
        raise ValueError("BYWEEKNO goes with YEARLY")
    if "BYMONTHDAY" in names and freq == "WEEKLY":
        raise ValueError("BYMONTHDAY does not go with WEEKLY")
    if "BYSETPOS" in names and len([name for name in names if name.startswith("BY")]) < 2:
        raise ValueError("BYSETPOS goes with another part that says which")


def _number(name: str, text: str, low: int, high: int, *, back: bool = False) -> int:
    if not re.fullmatch(r"[+-]?\d{1,6}" if back else r"\d{1,6}", text):
        raise ValueError(f"'{text[:20]}' is no number for {name}")
    value = int(text)
    if not low <= (abs(value) if back else value) <= high:
        raise ValueError(f"{name} goes from {low} to {high}")
    return value


def _days(text: str, freq: str) -> None:
    for each in text.split(","):
        found = _DAY.fullmatch(each)
        if found is None or (found[1] and not 1 <= abs(int(found[1])) <= 53):
            raise ValueError(f"'{each[:20]}' is no day of the week")
        if found[1] and freq not in ("MONTHLY", "YEARLY"):
            raise ValueError(f"'{each}' goes with MONTHLY and YEARLY")


def expand(text: str, first: datetime, until: datetime) -> Iterator[datetime]:
    """What a rule that was checked gives from its first time on, rising, up to ``until``; local times. Its own UNTIL is not asked."""
    said = parts(text)
    if said["FREQ"] in WITHIN_A_DAY:
        yield from _within_days(said, first, until)
        return
    from dateutil.rrule import rrulestr

    bare = ";".join(f"{name}={value}" for name, value in said.items() if name not in ("UNTIL", "COUNT"))
    given: Any = rrulestr(f"{bare};UNTIL={until:%Y%m%dT%H%M%S}", dtstart=first)
    most = int(said.get("COUNT", "0"))
    for number, each in enumerate(given):
        if most and number >= most:
            return
        yield each


def _within_days(said: dict[str, str], first: datetime, until: datetime) -> Iterator[datetime]:
    """A rule by hours or minutes: every so many of them from the first one on, where the other parts let it."""
    hourly = said["FREQ"] == "HOURLY"
    step = timedelta(minutes=int(said.get("INTERVAL", "1")) * (60 if hourly else 1))
    hours, minutes, lets = _set(said, "BYHOUR"), _set(said, "BYMINUTE"), _days_of(said)
    most = int(said.get("COUNT", "0"))
    at, given, steps = first, 0, 0
    while at <= until and steps < MOST_STEPS:
        steps += 1
        if not lets(at.date()):
            at += step * -(
                (at - datetime.combine(at.date() + timedelta(days=1), datetime.min.time())) // step
            )
            continue
        if hours is None or at.hour in hours:
            each: list[datetime] = [at]
            if minutes is not None and hourly:
                each = [at.replace(minute=minute) for minute in sorted(minutes)]
            elif minutes is not None and at.minute not in minutes:
                each = []
            for found in each:
                if first <= found <= until:
                    steps = 0
                    given += 1
                    yield found
                    if most and given >= most:
                        return
        at += step


def _set(said: dict[str, str], name: str) -> frozenset[int] | None:
    return frozenset(int(each) for each in said[name].split(",")) if name in said else None


def _days_of(said: dict[str, str]) -> Callable[[date], bool]:
    """Whether the parts that are about days let a day."""
    months, monthdays = _set(said, "BYMONTH"), _set(said, "BYMONTHDAY")
    weekdays = {DAYS.index(each) for each in said["BYDAY"].split(",")} if "BYDAY" in said else None

    def lets(day: date) -> bool:
        if months is not None and day.month not in months:
            return False
        if weekdays is not None and day.weekday() not in weekdays:
            return False
        if monthdays is None:
            return True
        last = ((day.replace(day=28) + timedelta(days=4)).replace(day=1) - timedelta(days=1)).day
        return day.day in monthdays or day.day - last - 1 in monthdays

    return lets


WEEK = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
_EVERY = {
    "DAILY": "day",
    "WEEKLY": "week",
    "MONTHLY": "month",
    "YEARLY": "year",
    "HOURLY": "hour",
    "MINUTELY": "minute",
}


def words(text: str) -> str:
    """A rule as people say it: 'every day', 'Thu, Fri, Sat', 'every 2 weeks on Tue'; one that says more as it is written."""
    said = parts(text)
    step = int(said.get("INTERVAL", "1"))
    every = f"every {_EVERY[said['FREQ']]}" if step == 1 else f"every {step} {_EVERY[said['FREQ']]}s"
    match said["FREQ"], sorted(name for name in said if name.startswith("BY")):
        case (("DAILY" | "HOURLY" | "MINUTELY" | "WEEKLY"), []):
            found = every
        case "WEEKLY", ["BYDAY"]:
            days = sorted({DAYS.index(each) for each in said["BYDAY"].split(",")})
            on = ", ".join(WEEK[each] for each in days)
            found = f"{every} on {on}" if step > 1 else "every day" if len(days) == 7 else on
        case "MONTHLY", ["BYMONTHDAY"] if re.fullmatch(r"-1|[0-9]+", said["BYMONTHDAY"]):
            day = "the last day" if said["BYMONTHDAY"] == "-1" else f"day {said['BYMONTHDAY']}"
            found = f"{every} on {day}"
        case _:
            return text
    if "COUNT" in said:
        found += f", {said['COUNT']} times"
    if "UNTIL" in said:
        end = said["UNTIL"]
        found += f", until {end[:4]}-{end[4:6]}-{end[6:8]}"
    return found
