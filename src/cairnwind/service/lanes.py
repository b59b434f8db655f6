"""The engine's queue: two lanes, so that what must never wait does not.

Inputs, confirmations, offs, all-stop and lease renewals go first and are never shed. Everything else is
refused in plain words once too much of it waits. An off overtakes the ons before it; each of those that is for
the same output must then not be carried out after it, so offs leave their number behind.
"""

from __future__ import annotations

import itertools
import queue
import threading
from collections import deque
from dataclasses import dataclass
from typing import Any

from cairnwind.core import events as ev

MOST_WAITING = 2000


@dataclass(slots=True)
class Item:
    """An event on its way to the engine, and what the surface wants to hear back."""

    event: Any
    reply: Any = None
    repeat: tuple[str, str, str] | None = None
    """(scope, token, body hash) of a command with an Idempotency-Key."""
    number: int = 0
    overtaken: bool = False


class Lanes:
    """Many producers, one consumer."""

    def __init__(self) -> None:
        self._first: deque[Item] = deque()
        self._second: deque[Item] = deque()
        self._wake: queue.SimpleQueue[None] = queue.SimpleQueue()
        self._signalled = False
        self.consumer = 0
        """The thread that empties the lanes: what it queues itself needs no signal."""
        self._numbers = itertools.count(1)
        self._offs: dict[str, int] = {}

    def put(self, item: Item) -> bool:
        """Queue an item; False if it was shed."""
        event = item.event
        item.number = next(self._numbers)
        if urgent(event):
            if type(event) is ev.Wish and self._second:
                self._offs[event.output] = item.number
            self._first.append(item)
        elif len(self._second) >= MOST_WAITING:
            return False
        else:
            self._second.append(item)
        if not self._signalled and threading.get_ident() != self.consumer:
            self._signalled = True
            self._wake.put(None)
        return True

    def wait(self, seconds: float | None) -> None:
        """Wait until something is queued, at most so long."""
        if not self._first and not self._second:
            try:
                self._wake.get(timeout=seconds)
            except queue.Empty:
                pass
        self._signalled = False  # before the lanes are emptied: whoever appends from now on signals anew

    def take(self) -> Item | None:
        """The next item, the first lane first."""
        if self._first:
            return self._first.popleft()
        if not self._second:
            self._offs.clear()
            return None
        item = self._second.popleft()
        # a later off for the same output has gone ahead: this must not undo it
        item.overtaken = self._offs.get(getattr(item.event, "output", ""), 0) > item.number
        return item

    def take_first(self) -> Item | None:
        """The next item of the first lane, if any."""
        return self._first.popleft() if self._first else None


def urgent(event: Any) -> bool:
    """Whether an event goes first, and is never shed."""
    if type(event) is ev.Wish:
        return event.setting is not None and not event.setting.on
    if type(event) is ev.Do:
        return any(step.stop for step in event.course.steps[:1]) and event.course.lead is None
    return type(event) not in _PATIENT


_PATIENT = (ev.ResetStop, ev.Unlock, ev.Release, ev.Plan, ev.ChangeTimer, ev.Extend, ev.Denied)
