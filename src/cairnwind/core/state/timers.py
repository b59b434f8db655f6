"""What waits for time: one entry for each thing that waits, on one clock.

An entry is named by what it is for: (kind, name, slot). Setting it anew replaces it, so that however often a claim
is renewed or a rule is asked again, there is one entry, and whoever looks at it can say whose it is. Owned by the
engine; what is due is taken out before its owner is told.
"""

from __future__ import annotations

import heapq
from collections.abc import Iterator

Key = tuple[str, str, str]
"""(kind, name, slot)."""
SPARE = 64
"""Entries that were replaced are kept until there are more of them than of the others, and than so many."""


class Timers:
    """The entries of one clock; times in its nanoseconds. Those of one moment wait together, in the order in which they were set."""

    def __init__(self) -> None:
        self._moments: list[int] = []
        """A heap of those at which something waits, or did."""
        self._at: dict[int, list[Key]] = {}
        self._due: dict[Key, int] = {}
        self._entries = 0

    def __len__(self) -> int:
        """How many wait."""
        return len(self._due)

    @property
    def kept(self) -> int:
        """How many entries are in memory, replaced ones included."""
        return self._entries

    def set(self, due: int, kind: str, name: str, slot: str = "") -> None:
        """Wake for this at ``due``, and no longer at any other time."""
        key = (kind, name, slot)
        if self._due.get(key) == due:
            return
        self._due[key] = due
        self._enter(due, key)
        if self._entries > 2 * len(self._due) + SPARE:
            self._moments, self._at, self._entries = [], {}, 0
            for each, moment in self._due.items():
                self._enter(moment, each)

    def _enter(self, due: int, key: Key) -> None:
        self._entries += 1
        together = self._at.get(due)
        if together is None:
            self._at[due] = [key]
            heapq.heappush(self._moments, due)
        else:
            together.append(key)

    def by(self, due: int, kind: str, name: str, slot: str = "") -> None:
        """Wake for this at ``due`` at the latest: whoever wakes earlier sets it anew."""
        standing = self._due.get((kind, name, slot))
        if standing is None or due < standing:
            self.set(due, kind, name, slot)

    def unless(self, due: int, kind: str, name: str, slot: str = "") -> None:
        """Wake for this at ``due``, unless it waits already."""
        if (kind, name, slot) not in self._due:
            self.set(due, kind, name, slot)

    def drop(self, kind: str, name: str, slot: str = "") -> None:
        """Wake for this no more."""
        self._due.pop((kind, name, slot), None)

    def due(self, kind: str, name: str, slot: str = "") -> int | None:
        """When this is woken for, if it waits."""
        return self._due.get((kind, name, slot))

    def all(self) -> list[tuple[Key, int]]:
        """Everything that waits, and when it is woken for."""
        return list(self._due.items())

    @property
    def next(self) -> int | None:
        """When the first of them is due."""
        while self._moments:
            due = self._moments[0]
            together = self._at[due]
            while together and self._due.get(together[0]) != due:
                del together[0]
                self._entries -= 1
            if together:
                return due
            del self._at[due]
            heapq.heappop(self._moments)
        return None

    def is_due(self, until: int) -> bool:
        """Whether anything may be due by then: False is certain."""
        moments = self._moments
        return bool(moments) and moments[0] <= until

    def take(self, until: int) -> Iterator[Key]:
        """Those that are due by then, one after the other; each waits no longer once it is given.

        What is set while they are given is among them, if it is due by then; what is dropped is not.
        """
        while self._moments and self._moments[0] <= until:
            due = self._moments[0]
            together = self._at[due]
            for key in together:  # also those that are added meanwhile
                if self._due.get(key) == due:
                    del self._due[key]
                    yield key
            if self._at.get(due) is together:
                self._entries -= len(together)
                together.clear()
                if self._moments[0] == due:
                    del self._at[due]
                    heapq.heappop(self._moments)
