"""What the service asks of a link, whatever carries it.

A link owns one board. It is opened with the facts of its wiring and a way to report; it drives every output
safe before it says that it is up. `drive` never blocks: a link whose I/O takes time does it in a thread of its
own, keeps one order an output (a newer one replaces it) and moves to safe first.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Protocol

from cairnwind.core.claims import Instant
from cairnwind.core.events import Drive, Event
from cairnwind.core.model import Board, Input, Output

Report = Callable[[Event], None]
Clock = Callable[[], Instant]


class Link(Protocol):
    """The way out to one board."""

    confirms: str
    """What it can know of a drive: 'read back', 'accepted' or 'sent'."""

    def open(self, outputs: Sequence[Output], inputs: Sequence[Input], report: Report, clock: Clock) -> None:
        """Take the board, drive all ``outputs`` safe, then report `LinkUp` (and go on trying if it is away)."""

    def drive(self, orders: Sequence[Drive]) -> None:
        """Carry out ``orders`` in their order; report `Confirmed` or `Failed` for each, unless replaced."""

    def close(self) -> None:
        """Let the board go. What its pins do then is the link's to state; outputs are safe by now."""


def make(board: Board) -> Link:
    """The link that the site file asks for."""
    from cairnwind.boards.simulated import SimulatedLink

    return SimulatedLink(board)
