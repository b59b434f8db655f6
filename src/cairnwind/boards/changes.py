"""What a board has counted of its contacts between two looks, as the states that they went through."""

from __future__ import annotations

from collections.abc import Iterator

WHOLE = 0xFFFF
"""Counts wrap after that."""
MOST = 4
"""Changes of a contact that are told between two looks: more are bounces. Of a counter all are."""


class Changes:
    """Remembers by line what was counted, in which life of the board, and which state that was told for."""

    def __init__(self) -> None:
        self._last: dict[int, tuple[int, int, bool]] = {}

    def states(self, line: int, high: bool, count: int | None, life: int, *, every: bool) -> Iterator[bool]:
        """The states of a line since the last look, the present one last. ``count``: its changes so far, None where nobody counts them.

        What was counted goes before what the line showed in the same round: the two are read one after the other.
        """
        before = self._last.get(line)
        came = 0 if before is None or count is None or before[1] != life else (count - before[0]) & WHOLE
        if before is not None and came:
            state = before[2]
            if not every and came > MOST:
                came = MOST - (came & 1)
            for _ in range(came):
                state = not state
                yield state
            high = state
        else:
            yield high
        if count is not None:
            self._last[line] = count, life, high
