"""Dates and moments as people write them (RFC 3339, or without a zone in the site's), within the years that can be kept."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import NS

EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
FIRST, LAST = 1970, 2199
"""Years: what is stored in nanoseconds ends in 2262, and whoever writes another does not mean it."""


def day(text: object) -> date:
    """A date: '2026-12-24'. Raises `CallerError` (``bad-value``)."""
    if isinstance(text, date):
        return text
    try:
        found = date.fromisoformat(str(text))
    except ValueError:
        raise CallerError("bad-value", f"'{text}' is not a date.", "Write it like 2026-12-24.") from None
    return _within(found, str(text))


def day_or_time(text: object) -> date:
    """A date, or one local time of a date: '2026-12-24', '2026-12-24 18:00'. Raises `CallerError` (``bad-value``)."""
    if isinstance(text, date):
        return text
    said = str(text)
    if len(said) <= 10:
        return day(said)
    try:
        found = datetime.fromisoformat(said)
    except ValueError:
        found = None
    if found is None or found.tzinfo is not None or found.microsecond:
        raise CallerError(
            "bad-value",
            f"'{text}' is neither a date nor a time of one.",
            "Write it like 2026-12-24, or 2026-12-24 18:00.",
        )
    _within(found.date(), said)
    return found


def moment(text: str, zone: ZoneInfo) -> datetime:
    """A moment, or a date for its beginning, with its zone. Raises `CallerError` (``bad-value``)."""
    try:
        found = datetime.fromisoformat(text)
        found = found if found.tzinfo else found.replace(tzinfo=zone)
        found.timestamp()
    except (ValueError, OverflowError, OSError):
        raise CallerError(
            "bad-value", f"'{text}' is not a time.", "Write it like 2026-11-23 or 2026-11-23T22:30."
        ) from None
    _within(found.date(), text)
    return found


def wall(text: str, zone: ZoneInfo) -> int:
    """The same as wall nanoseconds, to the microsecond."""
    return (moment(text, zone) - EPOCH) // timedelta(microseconds=1) * (NS // 1_000_000)


def _within(found: date, text: str) -> date:
    if not FIRST <= found.year <= LAST:
        raise CallerError(
            "bad-value", f"'{text}' is out of range.", f"Write one of the years {FIRST} to {LAST}."
        )
    return found
