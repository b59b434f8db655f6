"""Passcodes of guarded outputs: kept as argon2id hashes, checked one at a time, away from the engine's thread.

Every code of an output is checked, whether an earlier one was right or not, and an output without codes is checked
against one that nobody has: so neither the answer nor its time tells how much of a code was right. After wrong
codes there is a wait, which grows by key and, less, by door; both have an end that an owner can wait for.
"""

from __future__ import annotations

import threading
import time
from typing import Any
from zoneinfo import ZoneInfo

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

from cairnwind.core.values import hours
from cairnwind.core.values.errors import CallerError
from cairnwind.store.reader import Code, Reader
from cairnwind.store.writer import Writer, form

SHORTEST, LONGEST = 4, 64
FREE = {"source": 3, "door": 6}
"""Wrong codes before there is any wait."""
MOST = {"source": 60.0, "door": 10.0}
"""Seconds of wait at most."""
MOST_CODES = 20
"""Of one output: each takes a while to check."""


class Codes:
    """Keeps the passcodes of one site and checks them, one at a time."""

    def __init__(self, reader: Reader, writer: Writer, zone: str) -> None:
        self._reader, self._writer, self._zone = reader, writer, ZoneInfo(zone)
        self._hasher = PasswordHasher(time_cost=2, memory_cost=32 * 1024, parallelism=1)
        self._nobody = ""
        self._one = threading.Lock()
        self._counting = threading.Lock()
        self._wrong: dict[tuple[str, str], tuple[int, float]] = {}
        """By ('source' | 'door', name): how many wrong codes, and until when there is a wait (monotonic seconds)."""
        self._used: set[int] = set()
        """Codes for one time that have been given, though the store may not know yet."""

    def check(self, output: str, code: str, source: str) -> Code | None:
        """The code that this is, if it is one and good now. Raises `CallerError` (``wait``) after wrong ones."""
        asked = (("source", source), ("door", output))
        self._reserve(output, asked)
        with self._one:
            found = None
            codes = self._reader.codes(output)
            for each in codes:
                if (
                    self._fits(each.hash, code)
                    and each.id not in self._used
                    and hours.good(each.form, time.time_ns(), self._zone)
                ):
                    found = each
            if not codes:
                self._nobody = self._nobody or self._hasher.hash("nobody")
                self._fits(self._nobody, code)
            if found is not None and found.form.get("once"):
                self._used.add(found.id)
        if found is not None:
            with self._counting:
                for whose in asked:
                    self._wrong.pop(whose, None)
        return found

    def _reserve(self, output: str, asked: tuple[tuple[str, str], ...]) -> None:
        """Count a guess before it is looked at, unless there is a wait: so many at once are as many as one after the other."""
        with self._counting:
            now = time.monotonic()
            left = max(self._wrong.get(each, (0, 0.0))[1] - now for each in asked)
            if left > 0:
                error = CallerError(
                    "wait",
                    f"{output}: too many wrong codes.",
                    f"Wait {left:.0f} s and give the code again." if left >= 1 else "Wait 1 s.",
                )
                error.more["retry_after"] = max(1, round(left))
                raise error
            for kind, name in asked:
                count = self._wrong.get((kind, name), (0, 0.0))[0] + 1
                wait = min(MOST[kind], 2.0 ** min(10, count - FREE[kind])) if count >= FREE[kind] else 0.0
                self._wrong[kind, name] = (count, now + wait)

    def _fits(self, hash: str, code: str) -> bool:
        try:
            return self._hasher.verify(hash, code)
        except (VerificationError, InvalidHashError):
            return False

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
    """When a code is good, from what was asked: hours, and ``once``."""
    once = body.get("once", False)
    if not isinstance(once, bool):
        raise CallerError("bad-value", "'once' is neither true nor false.", "Send true or false.")
    return {**hours.read(body, zone), **({"once": True} if once else {})}


def shown(code: Code, zone: str) -> dict[str, Any]:
    """A code as it is listed: whose, and when it is good; never the code."""
    return {
        "output": code.output,
        "owner": code.owner,
        **hours.shown(code.form, zone),
        "once": bool(code.form.get("once")),
    }
