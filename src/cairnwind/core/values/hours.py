"""When something that was given to somebody is good: on which days, between which hours, until which moment.

As a JSON object: ``days`` (0 is Monday), ``from`` and ``to`` (minutes of the day; a span may go over midnight), ``until``
(wall nanoseconds). What is absent does not limit. Keys and passcodes have such hours.
"""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from cairnwind.core.values import dates
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import NS

DAYS = ("mo", "tu", "we", "th", "fr", "sa", "su")


def read(body: dict[str, Any], zone: str) -> dict[str, Any]:
    """Hours from what was asked: ``days``, ``from``, ``to``, ``until`` (a date counts to its end). Raises `CallerError` (``bad-value``)."""
    found: dict[str, Any] = {}
    if "days" in body:
        days = body["days"]
        if not isinstance(days, list) or not all(str(day).casefold()[:2] in DAYS for day in days):
            raise CallerError("bad-value", f"{days!r} are no days.", 'Send ["mo", "tu"].')
        if days:
            found["days"] = sorted({DAYS.index(str(day).casefold()[:2]) for day in days})
    for key in ("from", "to"):
        if key in body:
            hours, _, minutes = str(body[key]).partition(":")
            if not all(part.isascii() and part.isdigit() for part in (hours, minutes)) or not (
                int(hours) < 24 and int(minutes) < 60
            ):
                raise CallerError("bad-value", f"'{body[key]}' is no time of day.", "Send it like 07:30.")
            found[key] = int(hours) * 60 + int(minutes)
    if "until" in body:
        then = dates.moment(str(body["until"]), ZoneInfo(zone))
        if len(str(body["until"])) <= len("2026-12-31"):
            then += timedelta(days=1)  # a date is meant with its day
        found["until"] = int(then.timestamp()) * NS
    return found


def over(when: dict[str, Any], wall: int) -> bool:
    """Whether it has ended for good."""
    return bool(when.get("until")) and wall >= when["until"]


def good(when: dict[str, Any], wall: int, zone: ZoneInfo) -> bool:
    """Whether it is good at a moment of the wall clock (nanoseconds)."""
    if over(when, wall):
        return False
    if not ("from" in when or "to" in when or when.get("days")):
        return True
    now = datetime.fromtimestamp(wall // NS, zone)
    minute = now.hour * 60 + now.minute
    begin, end = when.get("from", 0), when.get("to", 24 * 60)
    inside = begin <= minute < end if begin < end else minute >= begin or minute < end
    return inside and (not when.get("days") or now.weekday() in when["days"])


def shown(when: dict[str, Any], zone: str) -> dict[str, Any]:
    """Hours as they are listed: names of days, times of day, RFC 3339."""
    clock: dict[str, Any] = {
        key: f"{when[key] // 60:02d}:{when[key] % 60:02d}" for key in ("from", "to") if key in when
    }
    until = (
        datetime.fromtimestamp(when["until"] // NS, ZoneInfo(zone)).isoformat() if "until" in when else None
    )
    return {
        "days": [DAYS[day] for day in when.get("days", [])],
        "from": None,
        "to": None,
        **clock,
        "until": until,
    }
