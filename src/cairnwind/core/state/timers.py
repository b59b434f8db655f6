"""What waits for time: one entry for each thing that waits, on one clock.

An entry is named by what it is for: (kind, name, slot). Setting it anew replaces it, so that however often a claim
is renewed or a rule is asked again, there is one entry, and whoever looks at it can say whose it is. Owned by the
engine; what is due is taken out before its owner is told.
"""

from __future__ import annotations

import heapq

Key = tuple[str, str, str]
"""(kind, name, slot)."""
SPARE = 64
"""Entries that were replaced are kept in the heap until there are more of them than of the others, and than so many."""


class Timers:
    """The entries of one clock; times in its nanoseconds."""

    def __init__(self) -> None:
        self._heap: list[tuple[int, int, Key]] = []
        self._due: dict[Key, tuple[int, int]] = {}
        self._entries = 0

    def __len__(self) -> int:
        """How many wait."""
        return len(self._due)

    @property
    def kept(self) -> int:
        """How many entries are in memory, replaced ones included."""
        return len(self._heap)

    def set(self, due: int, kind: str, name: str, slot: str = "") -> None:
        """Wake for this at ``due``, and no longer at any other time."""
        key = (kind, name, slot)
        standing = self._due.get(key)
        if standing is not None and standing[0] == due:
            return
        self._entries += 1
        self._due[key] = due, self._entries
        heapq.heappush(self._heap, (due, self._entries, key))
        if len(self._heap) > 2 * len(self._due) + SPARE:
            self._heap = [(due, number, key) for key, (due, number) in self._due.items()]
            heapq.heapify(self._heap)

    def by(self, due: int, kind: str, name: str, slot: str = "") -> None:
        """Wake for this at ``due`` at the latest: whoever wakes earlier sets it anew."""
        standing = self._due.get((kind, name, slot))
        if standing is None or due < standing[0]:
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
        standing = self._due.get((kind, name, slot))
        return standing[0] if standing is not None else None

    def all(self) -> list[tuple[Key, int]]:
        """Everything that waits, and when it is woken for."""
        return [(key, due) for key, (due, _) in self._due.items()]

    @property
    def next(self) -> int | None:
        """When the first of them is due."""
        heap = self._heap
        while heap:
            due, number, key = heap[0]
            if self._due.get(key) == (due, number):
                return due
            heapq.heappop(heap)
        return None

    def is_due(self, until: int) -> bool:
        """Whether anything may be due by then: False is certain."""
        heap = self._heap
        return bool(heap) and heap[0][0] <= until

    def take(self, until: int) -> Key | None:
        """The first that is due by then, which waits no longer."""
        due = self.next
        if due is None or due > until:
            return None
        key = heapq.heappop(self._heap)[2]
        del self._due[key]
        return key
