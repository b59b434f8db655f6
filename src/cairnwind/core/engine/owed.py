"""What fell due while the journal could not be written, and so could not be carried out: it is owed until it can be.

Timers come due once. One whose work needs a record that the disk does not take, at once or as it turns out some seconds
later, is kept here until the disk takes records again.
"""

from __future__ import annotations

from collections import deque

from cairnwind.core.facts.course import Step, Timer
from cairnwind.core.values.quantities import NS

REMEMBERED = 120 * NS
"""How long it is known which timer made a claim, while none is owed: longer than any commit is waited for before it counts as failed."""


class Owed:
    """``timers`` are owed, by their own numbers: each with the journal's numbers of what was done of it."""

    def __init__(self) -> None:
        self.timers: dict[int, tuple[range, Timer]] = {}
        self._ran: deque[tuple[int, range, Timer]] = deque()
        """When, which numbers were given out meanwhile, and the timer."""

    def remember(self, mono: int, numbers: range, timer: Timer) -> None:
        """A timer's work was decided, under these numbers of the journal."""
        while self._ran and not self.timers and mono - self._ran[0][0] > REMEMBERED:
            self._ran.popleft()
        self._ran.append((mono, numbers, timer))

    def behind(self, number: int) -> tuple[range, Timer] | None:
        """The timer that has lately made a claim or set a timer, by the number of that, and all numbers of its work."""
        return next(((numbers, timer) for _, numbers, timer in self._ran if number in numbers), None)

    def follows(self, number: int, numbers: range) -> bool:
        """Whether a claim or a timer came of what these numbers were given out for, or of what was to follow that."""
        while number not in numbers:
            made = self.behind(number)
            if made is None:
                return False
            number = made[1].id
        return True

    def in_order(self) -> list[tuple[range, Timer]]:
        """All that is owed, what was due first before the others."""
        return sorted(self.timers.values(), key=lambda each: each[1].due_wall)


def needs_record(steps: tuple[Step, ...]) -> bool:
    """Whether something in a course would switch on, or make brighter, which is not done without a record."""
    return any(
        order.act in ("claim", "step") and (order.wanted is None or order.wanted.on)
        for step in steps
        for order in step.orders
    )


def without_toggles(steps: tuple[Step, ...]) -> tuple[Step, ...]:
    """What is carried out later: a toggle is what it was when it was due, and is not done a second time."""
    return tuple(
        step._replace(orders=tuple(order for order in step.orders if order.act != "toggle")) for step in steps
    )
