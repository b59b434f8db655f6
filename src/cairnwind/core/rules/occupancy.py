"""Whether an output may be on, by all that is known of it: what counts for whoever must not be on beside it, or after it."""

from __future__ import annotations

from typing import NamedTuple

from cairnwind.core.state.standing import Standing
from cairnwind.core.state.turn import Turn
from cairnwind.core.values.quantities import NS

WATCHDOG_MARGIN = NS
"""Beyond a board's watchdog time, before its outputs count as safe."""


class Fact(NamedTuple):
    """What is known of an output: whether it may be on, and how; and since when it is confirmed off (monotonic)."""

    may_be_on: bool
    how: str
    """In words that follow its name: 'is not confirmed off yet'."""
    off_at: int
    leaving: bool = False
    """Nothing is known to keep it from going off when it is told to, or it counts as off after a time that is known."""
    expected: int | None = None
    """When it counts as off (monotonic), where that is known: its board's watchdog has then rested it."""


_ON = Fact(True, "is not confirmed off yet", 0, leaving=True)
_STUCK = Fact(True, "is not confirmed off yet", 0)
_UNKNOWN = Fact(True, "is not known to be off", 0, leaving=True)
_UNKNOWN_STUCK = Fact(True, "is not known to be off", 0)


def occupies(turn: Turn, s: Standing) -> Fact:
    """What is known of an output."""
    if not turn.state.boards[s.output.pin.board].up:
        return _away(turn, s)
    drive = s.drive
    confirmed = drive.confirmed
    if confirmed is None:
        return _UNKNOWN if drive.pending is not None and not drive.attempts else _UNKNOWN_STUCK
    if confirmed.on or drive.pending is not None:
        return _STUCK if drive.attempts or drive.welded else _ON
    return Fact(False, "", s.known.off_at)


def _away(turn: Turn, s: Standing) -> Fact:
    """Of an output whose board does not answer."""
    name, board = s.output.name, s.output.pin.board
    if s.known.attested:
        return Fact(False, "", 0)
    # a dead coil has a normally-closed contact closed
    cut = turn.state.boards[board].cut and not s.output.normally_closed
    fuse = 0 if cut else getattr(turn.site.boards[board].facts, "watchdog", 0)
    if (fuse or cut) and s.known.lost_at:
        due = s.known.lost_at + fuse + WATCHDOG_MARGIN
        if due <= turn.now.mono:
            return Fact(False, "", due)
        turn.mono.set(due, "ruled", name, "watchdog")
        by = (
            "board {} has been disabled for a second"
            if cut
            else "the watchdog of board {}, which does not answer, has rested it"
        )
        text = f"is not known to be off before {by.format(board)}"
        return Fact(True, text, 0, True, due)
    return Fact(True, f"is not known to be off: board {board} does not answer", 0)
