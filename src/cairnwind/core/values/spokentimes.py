"""Times as people say them: '21:23', 'yesterday', '10 min ago', 'Tuesday 18:00', 'in 2 h', or as RFC 3339 has them; in the site's zone."""

from __future__ import annotations

import re
from datetime import datetime, time, timedelta
from zoneinfo import ZoneInfo

from cairnwind.core.values import dates
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import NS, duration

LONGEST = 200 * 366 * 86400
DAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
NAMED = {"today": 0, "yesterday": -1, "tomorrow": 1}
PAST, COMING = "past", "coming"
_CLOCK = re.compile(r"(\d{1,2}):(\d{2})(?::(\d{2}))?")
_SAID = re.compile(r"(?:(last|next|on)\s+)?([a-z]+)(?:\s+(?:at\s+)?(\S+))?")
EXAMPLES = {
    PAST: "Write it like 21:23, yesterday, 10 min ago, Tuesday 18:00 or 2026-11-23T22:30.",
    COMING: "Write it like 22:30, tomorrow, in 10 min, Tuesday 18:00 or 2026-11-23T22:30.",
}


def wall(text: str, zone: ZoneInfo, now: int, lean: str = PAST) -> int:
    """The wall nanoseconds that are meant. ``lean``: whether what may be either has gone by or is to come.

    Raises `CallerError` (``bad-value``).
    """
    said = " ".join(text.casefold().split())
    if said[:1].isdigit() and len(said) >= len("2026-11-23") and said[4:5] == "-":
        return dates.wall(text.strip(), zone)
    try:
        found = _meant(said, zone, now, lean)
    except (ValueError, OverflowError, OSError):
        found = None
    if found is None:
        raise CallerError("bad-value", f"'{text}' is not a time.", EXAMPLES[lean])
    return found


def _meant(said: str, zone: ZoneInfo, now: int, lean: str) -> int | None:
    here = datetime.fromtimestamp(now / NS, zone)
    if said == "now":
        return now
    if said.endswith(" ago"):
        return now - duration(said.removesuffix(" ago"), longest=LONGEST)
    if said.startswith("in "):
        return now + duration(said.removeprefix("in "), longest=LONGEST)
    clock = _clock(said)
    if clock is not None:
        return _nearest([_at(here, day, clock) for day in (-1, 0, 1)], now, lean)
    match = _SAID.fullmatch(said)
    if match is None:
        return None
    which, word, rest = match.groups()
    clock = _clock(rest) if rest else time(0)
    if clock is None:
        return None
    if word in NAMED and which is None:
        return _at(here, NAMED[word], clock)
    day = next((number for number, name in enumerate(DAYS) if len(word) >= 2 and name.startswith(word)), None)
    if day is None:
        return None
    lean = {"last": PAST, "next": COMING}.get(which or "", lean)
    ahead = (day - here.weekday()) % 7
    return _nearest([_at(here, ahead + week, clock) for week in (-7, 0, 7)], now, lean)


def _clock(text: str) -> time | None:
    match = _CLOCK.fullmatch(text)
    if match is None:
        return None
    hour, minute, second = (int(part or 0) for part in match.groups())
    return time(hour, minute, second)


def _at(here: datetime, days: int, clock: time) -> int:
    then = datetime.combine(here.date() + timedelta(days=days), clock, here.tzinfo)
    return int(then.timestamp()) * NS


def _nearest(found: list[int], now: int, lean: str) -> int:
    """The last of them that has gone by, or the first that is to come."""
    return (
        max(each for each in found if each <= now)
        if lean == PAST
        else min(each for each in found if each > now)
    )
