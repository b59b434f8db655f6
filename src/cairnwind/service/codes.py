"""Passcodes of guarded outputs: kept as argon2id hashes, checked one at a time, away from the engine's thread.

Every code of an output is checked, whether an earlier one was right or not, and an output without codes is checked
against one that nobody has: so neither the answer nor its time tells how much of a code was right. After wrong
codes there is a wait, which grows by source and, less, by door; both have an end that an owner can wait for.
"""

from __future__ import annotations

import threading
import time
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

from cairnwind.core.errors import CallerError
from cairnwind.core.quantities import NS
from cairnwind.store.reader import Code, Reader
from cairnwind.store.writer import Writer, form

SHORTEST, LONGEST = 4, 64
FREE = {"source": 3, "door": 6}
"""Wrong codes before there is any wait."""
MOST = {"source": 60.0, "door": 10.0}
"""Seconds of wait at most."""
DAYS = ("mo", "tu", "we", "th", "fr", "sa", "su")
MOST_CODES = 20
"""Of one output: each takes a while to check."""


class Codes:
    """See the module's page."""

    def __init__(self, reader: Reader, writer: Writer, zone: str) -> None:
        self._reader, self._writer, self._zone = reader, writer, ZoneInfo(zone)
        self._hasher = PasswordHasher(time_cost=2, memory_cost=32 * 1024, parallelism=1)
        self._nobody = ""
        self._one = threading.Lock()
        self._wrong: dict[tuple[str, str], tuple[int, float]] = {}
        """By ('source' | 'door', name): how many wrong codes, and until when there is a wait (monotonic seconds)."""
        self._used: set[int] = set()
        """Codes for one time that have been given, though the store may not know yet."""

    def check(self, output: str, code: str, source: str) -> Code | None:
        """The code that this is, if it is one and good now. Raises `CallerError` (``wait``) after wrong ones."""
        now = time.monotonic()
        for key in (("source", source), ("door", output)):
            left = self._wrong.get(key, (0, 0.0))[1] - now
            if left > 0:
                raise CallerError(
                    "wait",
                    f"{output}: too many wrong codes.",
                    f"Wait {left:.0f} s and give the code again." if left >= 1 else "Wait 1 s.",
                )
        with self._one:
            found = None
            codes = self._reader.codes(output)
            for each in codes:
                if self._fits(each.hash, code) and each.id not in self._used and self._good(each):
                    found = each
            if not codes:
                self._nobody = self._nobody or self._hasher.hash("nobody")
                self._fits(self._nobody, code)
            if found is not None and found.form.get("once"):
                self._used.add(found.id)
        for kind, name in (("source", source), ("door", output)):
            if found is not None:
                self._wrong.pop((kind, name), None)
            else:
                count = self._wrong.get((kind, name), (0, 0.0))[0] + 1
                wait = min(MOST[kind], 2.0 ** min(10, count - FREE[kind])) if count >= FREE[kind] else 0.0
                self._wrong[kind, name] = (count, now + wait)
        return found

    def _fits(self, hash: str, code: str) -> bool:
        try:
            return self._hasher.verify(hash, code)
        except (VerificationError, InvalidHashError):
            return False

    def _good(self, code: Code) -> bool:
        """Whether it is good at this time."""
        when = code.form
        if when.get("until") and time.time_ns() >= when["until"]:
            return False
        now = datetime.now(self._zone)
        minute = now.hour * 60 + now.minute
        begin, end = when.get("from", 0), when.get("to", 24 * 60)
        inside = begin <= minute < end if begin < end else minute >= begin or minute < end
        return inside and (not when.get("days") or now.weekday() in when["days"])

    def put(self, output: str, owner: str, code: str, when: dict[str, Any]) -> None:
        """Give somebody a code, in place of the one they had. Raises `CallerError` (``bad-value``)."""
        if not (SHORTEST <= len(code) <= LONGEST and code.isprintable()):
            raise CallerError(
                "bad-value", f"A code has {SHORTEST} to {LONGEST} characters.", "Choose another."
            )
        if len(set(code)) == 1:
            raise CallerError(
                "bad-value", "A code of one character over and over is no code.", "Choose another."
            )
        with self._one:
            others = [each for each in self._reader.codes(output) if each.owner != owner]
            if len(others) >= MOST_CODES:
                raise CallerError(
                    "bad-value", f"{output} has {MOST_CODES} codes already.", "Take one away first."
                )
            if any(self._fits(each.hash, code) for each in others):
                raise CallerError("bad-value", "That code cannot be used.", "Choose another.")
            row = (output, owner, self._hasher.hash(code), form(when), time.time_ns())
        self._writer.put_and_wait([("code", row)])

    def drop(self, output: str, owner: str) -> bool:
        """Take somebody's code away. False if there was none."""
        mine = [each for each in self._reader.codes(output) if each.owner == owner]
        self._writer.put_and_wait([("no code", (each.id,)) for each in mine])
        return bool(mine)


def when_of(body: dict[str, Any], zone: str) -> dict[str, Any]:
    """When a code is good, from what was asked: days, from, to, until (a date), once."""
    found: dict[str, Any] = {}
    if body.get("days"):
        days = body["days"]
        if not isinstance(days, list) or not all(str(day).casefold()[:2] in DAYS for day in days):
            raise CallerError("bad-value", f"{days!r} are no days.", 'Send ["mo", "tu"].')
        found["days"] = sorted({DAYS.index(str(day).casefold()[:2]) for day in days})
    for key in ("from", "to"):
        if body.get(key):
            hours, _, minutes = str(body[key]).partition(":")
            if not (hours.isdigit() and minutes.isdigit() and int(hours) < 24 and int(minutes) < 60):
                raise CallerError("bad-value", f"'{body[key]}' is no time of day.", "Send it like 07:30.")
            found[key] = int(hours) * 60 + int(minutes)
    if body.get("until"):
        try:
            then = datetime.fromisoformat(str(body["until"]))
        except ValueError:
            raise CallerError(
                "bad-value", f"'{body['until']}' is no date.", "Send it like 2026-12-31."
            ) from None
        then = then if then.tzinfo else then.replace(tzinfo=ZoneInfo(zone))
        found["until"] = int(then.timestamp()) * NS
    if body.get("once"):
        found["once"] = True
    return found


def shown(code: Code, zone: str) -> dict[str, Any]:
    """A code as it is listed: whose, and when it is good; never the code."""
    when = code.form
    clock: dict[str, Any] = {
        key: f"{when[key] // 60:02d}:{when[key] % 60:02d}" for key in ("from", "to") if key in when
    }
    until = (
        datetime.fromtimestamp(when["until"] // NS, ZoneInfo(zone)).isoformat() if "until" in when else None
    )
    return {
        "output": code.output, "owner": code.owner, "days": [DAYS[day] for day in when.get("days", [])], "from": None, "to": None, **clock,
        "until": until, "once": bool(when.get("once")),
    }  # fmt: skip
