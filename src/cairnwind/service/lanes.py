"""The engine's queue: two lanes, so that what must never wait does not.

Inputs, confirmations, offs, releases, all-stop and lease renewals that keep the setting go first and are never shed.
Everything else is paced, and refused in plain words once too much of it waits. Each kind of event says which it is, here or, if
it is a command, where that is declared; one that says nothing is an error when this is imported, so that none is urgent
because nobody thought of it. An off overtakes the ons before it; each of those that is for
the same output must then not be carried out after it, so offs leave their number behind.
"""

from __future__ import annotations

import itertools
import queue
import threading
from collections import deque
from collections.abc import Collection
from dataclasses import dataclass
from typing import Any, get_args

from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import PERSON

MOST_WAITING = 2000


@dataclass(slots=True)
class Item:
    """An event on its way to the engine, and what the surface wants to hear back."""

    event: Any
    reply: Any = None
    repeat: tuple[str, str, str] | None = None
    """(scope, token, body hash) of a command with an Idempotency-Key."""
    number: int = 0
    first: bool = False
    """It is in the first lane."""
    overtaken: bool = False


class Send:
    """Drives whose command is committed now."""

    __slots__ = ("drives",)

    def __init__(self, drives: list[ev.Drive]) -> None:
        self.drives = drives


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
        self._offs: dict[tuple[str, str], int] = {}
        """By output and slot ('' for any): the number of the last off or release that went ahead."""

    def put(self, item: Item) -> bool:
        """Queue an item; False if it was shed."""
        event = item.event
        item.number = next(self._numbers)
        if urgent(event):
            item.first = True
            if self._second:
                self._offs.update((output, item.number) for output in _ended(event))
            self._first.append(item)
        elif len(self._second) >= MOST_WAITING:
            return False
        else:
            self._second.append(item)
        if not self._signalled and threading.get_ident() != self.consumer:
            self._signalled = True
            self._wake.put(None)
        return True

    def waiting(self) -> int:
        """How much is queued."""
        return len(self._first) + len(self._second)

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
        if self._offs:
            self._see_overtaken(item)
        return item

    def _see_overtaken(self, item: Item) -> None:
        """Later offs and releases have gone ahead: what was said before them must not undo them."""
        event = item.event
        if type(event) is ev.Do:
            late = {
                order.output
                for step in event.course.steps
                for order in step.orders
                if self._since(item, order.output, PERSON)
            }
            if late:
                item.event = _without(event, late)
        else:
            item.overtaken = self._since(item, getattr(event, "output", ""), getattr(event, "slot", ""))

    def _since(self, item: Item, output: str, slot: str) -> bool:
        return max(self._offs.get((output, ""), 0), self._offs.get((output, slot), 0)) > item.number

    def take_first(self) -> Item | None:
        """The next item of the first lane, if any."""
        return self._first.popleft() if self._first else None


def urgent(event: Any) -> bool:
    """Whether an event goes first, and is never shed or counted."""
    kind = type(event)
    if kind in FIRST or kind in PACED:
        return kind in FIRST
    from cairnwind.commands import table  # not needed on the way to safe

    return table.urgent(event)


def _ended(event: Any) -> list[tuple[str, str]]:
    """What an urgent event takes off or lets go, as output and slot; an off is meant against whoever asked before it."""
    match event:
        case ev.Wish():
            return [(event.output, "")]
        case ev.Release():
            return [(event.output, event.slot)]
        case ev.Do():
            return [
                (order.output, "" if order.act == "claim" else PERSON)
                for step in event.course.steps
                for order in step.orders
            ]
    return []


def _without(event: ev.Do, outputs: Collection[str]) -> ev.Do:
    """The same phrase without what it says of some outputs."""
    steps = tuple(
        step._replace(orders=tuple(order for order in step.orders if order.output not in outputs))
        for step in event.course.steps
    )
    return ev.Do(event.at, event.command, event.source, event.course._replace(steps=steps))


FIRST = frozenset((
    ev.Overtaken, ev.Withdraw, ev.Confirmed, ev.Answers, ev.Failed, ev.LinkUp, ev.LinkLost, ev.InputSeen, ev.Measured, ev.TrialFailed,
    ev.Recording, ev.Tick, ev.Start, ev.Rewire, ev.Shutdown, ev.Disowned, ev.BoardTripped, Send,
))  # fmt: skip
"""What is known of boards and inputs, and what the service tells itself. Of commands their declarations say which lane they take."""
PACED = frozenset((ev.Probe, ev.Trace, ev.Denied, ev.Pretended))
if _unsaid := [
    kind.__name__ for kind in get_args(ev.Event) if kind not in FIRST | PACED | {*get_args(ev.Command)}
]:
    raise TypeError(f"no lane is said of {', '.join(_unsaid)}")
