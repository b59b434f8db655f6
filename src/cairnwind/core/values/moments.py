"""Times of day, by the clock of a zone or by the sun, and the moments of the wall clock that they mean.

The rule for summer time, everywhere in Cairnwind, is that of RFC 5545, section 3.3.5: a local time that is
skipped is read with the offset from before the gap (01:30 becomes 02:30 where 01:00 to 02:00 is skipped), and
one that comes twice means the first of the two.

Sunrise and sunset are when the upper edge of the sun touches the horizon, dawn and dusk when it is 6 degrees
below; where the sun does not rise or set on a day, there is no such moment on that day.
"""

from __future__ import annotations

import re
from datetime import date, datetime, timedelta
from functools import lru_cache
from typing import NamedTuple
from zoneinfo import ZoneInfo, available_timezones

from cairnwind.core.values.errors import CallerError, nearest
from cairnwind.core.values.quantities import NS, duration, show_duration

DAY = 86400
SUN = ("sunrise", "sunset", "dawn", "dusk")
_WORDS = {"noon": 12 * 3600, "midday": 12 * 3600, "midnight": 0}
_CLOCK = re.compile(r"([01]?\d|2[0-3])[:.]([0-5]\d)(?::([0-5]\d))?")
_BY_SUN = re.compile(r"(\w+)(?:\s*([+-])\s*(\d.*))?")
LONGEST_OFFSET = 12 * 3600
FAR = 400
"""Days that a moment is looked for: longer than any polar night."""


class Where(NamedTuple):
    """A time zone by its IANA name, and degrees north and east where they are known."""

    timezone: str
    latitude: float | None = None
    longitude: float | None = None


@lru_cache(64)
def zone(name: str) -> ZoneInfo:
    """A time zone by its IANA name."""
    return ZoneInfo(name)


def named(name: object) -> str:
    """The IANA name of a zone, if it is one. Raises `CallerError` (``bad-value``)."""
    try:
        zone(str(name))
    except (KeyError, ValueError, OSError):
        hint = nearest(str(name), available_timezones())
        raise CallerError(
            "bad-value", f"'{name}' is not a time zone.", hint or "Write an IANA name like Europe/London."
        ) from None
    return str(name)


def wall(local: datetime, timezone: str) -> int:
    """A local time without a zone, in nanoseconds UTC, by the rule of this module."""
    return int(local.replace(tzinfo=zone(timezone), fold=0).timestamp()) * NS


def local(wall: int, timezone: str) -> datetime:
    """Nanoseconds UTC in the zone's time."""
    return datetime.fromtimestamp(wall // NS, zone(timezone))


@lru_cache(4096)
def sun(which: str, day: date, where: Where) -> int | None:
    """When the sun does that on a local day, in nanoseconds UTC; None where it does not on that day."""
    from astral import Observer
    from astral import sun as by_sun

    assert where.latitude is not None
    assert where.longitude is not None
    try:
        found = getattr(by_sun, which)(
            Observer(where.latitude, where.longitude), day, tzinfo=zone(where.timezone)
        )
    except ValueError:
        return None
    return int(found.timestamp()) * NS


class Moment(NamedTuple):
    """A time of day: seconds since local midnight, or what the sun does, and an offset in nanoseconds from that."""

    second: int = 0
    sun: str = ""
    offset: int = 0

    @property
    def text(self) -> str:
        """As people write it, and as `read` takes it: '22:30', 'sunset - 20 min'."""
        if not self.sun:
            hours, rest = divmod(self.second, 3600)
            seconds = f":{rest % 60:02d}" if rest % 60 else ""
            return f"{hours:02d}:{rest // 60:02d}{seconds}"
        sign = "+" if self.offset > 0 else "-"
        return f"{self.sun} {sign} {show_duration(abs(self.offset))}" if self.offset else self.sun

    def on(self, day: date, where: Where) -> int | None:
        """The moment of a local day, in nanoseconds UTC; None where the sun does not do that on that day."""
        if self.sun:
            found = sun(self.sun, day, where)
            return None if found is None else found + self.offset
        return wall(
            datetime.combine(day, datetime.min.time()) + timedelta(seconds=self.second), where.timezone
        )

    def after(self, now: int, where: Where) -> int | None:
        """The first such moment after ``now``; None if there is none in more than a year."""
        day = local(now, where.timezone).date() - timedelta(days=1)
        for ahead in range(FAR):
            found = self.on(day + timedelta(days=ahead), where)
            if found is not None and found > now:
                return found
        return None


def read(text: object, where: Where | None = None) -> Moment:
    """Read '22:30', 'noon', 'sunset - 20 min'. Raises `CallerError` (``bad-value``).

    With ``where``, a moment by the sun is refused where the site does not know its latitude and longitude.
    """
    words = " ".join(text.casefold().split()) if isinstance(text, str) else ""
    if words in _WORDS:
        return Moment(_WORDS[words])
    if clock := _CLOCK.fullmatch(words):
        hours, minutes, seconds = (int(part or 0) for part in clock.groups())
        return Moment(hours * 3600 + minutes * 60 + seconds)
    by_sun = _BY_SUN.fullmatch(words)
    if by_sun is None or by_sun[1] not in SUN:
        hint = nearest(words.split(" ")[0], (*SUN, *_WORDS)) if words[:1].isalpha() else ""
        raise CallerError(
            "bad-value", f"'{text}' is not a time of day.", hint or "Write it like 22:30, or sunset - 20 min."
        )
    if where is not None and (where.latitude is None or where.longitude is None):
        raise CallerError(
            "bad-value",
            f"'{by_sun[1]}' needs to know where the site is.",
            "Give the site file its latitude and longitude.",
        )
    offset = duration(by_sun[3], longest=LONGEST_OFFSET) if by_sun[2] else 0
    return Moment(sun=by_sun[1], offset=-offset if by_sun[2] == "-" else offset)
