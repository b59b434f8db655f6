"""Two lines of a rotary encoder, which change one after the other: from what they show to steps either way.

The states of the first and the second line go round 00, 10, 11, 01 one way, and back the other. A contact that bounces goes to and fro
between two of them, and counts nothing. Where both have changed at once a state was missed, and nobody knows the way: that counts nothing.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator

from cairnwind.core.facts.inputs import Input

PLACES = {(False, False): 0, (True, False): 1, (True, True): 2, (False, True): 3}
"""Where in their round two lines are."""
WHOLE = 0x10000
"""Of a board that counts: its counts wrap there."""
MOST_STEPS = 100
"""Steps that are told at once; more are told at the next look."""


class Turning:
    """How far one encoder was turned. ``per_step`` changes make one step."""

    def __init__(self, per_step: int) -> None:
        self._per_step = per_step
        self._lines: list[bool | None] = [None, None]
        self._place: int | None = None
        self._counted: int | None = None
        self._at = self._rest = 0
        """Changes up, less those down; and of how many of them steps were made."""
        self.missed = 0
        """How often a state was left out."""

    def line(self, second: bool, high: bool) -> int:
        """One of its lines is high or low; returns the steps that this makes, down negative."""
        self._lines[second] = high
        first, other = self._lines
        if first is None or other is None:
            return 0
        place = PLACES[first, other]
        before, self._place = self._place, place
        if before is None or place == before:
            return 0
        if (place - before) % 4 == 2:
            self.missed += 1
            return 0
        return self._changed(1 if (place - before) % 4 == 1 else -1)

    def counted(self, count: int) -> int:
        """What a board that follows the lines itself has counted so far, modulo `WHOLE`."""
        before, self._counted = self._counted, count
        came = 0 if before is None else (count - before + WHOLE // 2) % WHOLE - WHOLE // 2
        return self._changed(came)

    def forget(self) -> None:
        """Nobody knows any more where it is; what was half a step is none."""
        self._lines, self._place, self._counted, self._rest = [None, None], None, None, self._at

    @property
    def known(self) -> bool:
        """Whether both of its lines, or its count, have been seen."""
        return self._place is not None or self._counted is not None

    def _changed(self, by: int) -> int:
        self._at += by
        steps = max(-MOST_STEPS, min(int((self._at - self._rest) / self._per_step), MOST_STEPS))
        self._rest += steps * self._per_step
        return steps


class Hand:
    """Turns the encoders of a board without hardware: ``put`` gives a line a level, and ``pause`` is how long it takes to be seen."""

    def __init__(self, put: Callable[[int, bool], None], pause: float) -> None:
        self._put, self._pause = put, pause
        self._lines: dict[str, tuple[bool, bool]] = {}

    def turn(self, input: Input, steps: int) -> None:
        """So many steps, down negative."""
        first, second = input.lines
        pulled = input.pull == "up"
        for levels in path(*self._lines.get(input.name, (pulled, pulled)), steps * input.per_step):
            self._put(first, levels[0])
            self._put(second, levels[1])
            self._lines[input.name] = levels
            time.sleep(self._pause)


def path(first: bool, second: bool, changes: int) -> Iterator[tuple[bool, bool]]:
    """The states that two lines go through for so many changes, down negative: for those who pretend."""
    lines = {place: lines for lines, place in PLACES.items()}
    for number in range(1, abs(changes) + 1):
        yield lines[(PLACES[first, second] + (number if changes > 0 else -number)) % 4]
