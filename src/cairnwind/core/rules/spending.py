"""What was spent in a span of time, piece by piece: when it began and ended, how much it was, and how fast it can have been.

Pure arithmetic on whole numbers. A piece that the edge of the span cuts counts with what can have been spent after that edge:
as if it had been spent as late and as fast as possible, so that never less counts than was spent.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

MOST_PIECES = 200
"""Of one budget; with more the two oldest are put together, which lets them count a little longer."""


class Piece(NamedTuple):
    """Times in monotonic nanoseconds; ``rate`` is the most that it can have spent in one."""

    start: int
    end: int
    amount: int
    rate: int
    output: str = ""

    def since(self, edge: int) -> int:
        """What of it counts after ``edge``."""
        if edge >= self.end:
            return 0
        if edge <= self.start:
            return self.amount
        return min(self.amount, self.rate * (self.end - edge))

    @property
    def leaves(self) -> int:
        """When an edge that passes begins to let it go."""
        return self.end - self.amount // self.rate if self.rate else self.end


class Running(NamedTuple):
    """What is spent right now: since when, and how much in a nanosecond."""

    since: int
    rate: int


class Spent(NamedTuple):
    """All of one budget."""

    pieces: tuple[Piece, ...] = ()
    """The oldest end first."""
    running: tuple[tuple[str, Running], ...] = ()
    """By output."""

    def used(self, now: int, edge: int) -> int:
        """What counts at ``now`` of what was spent since ``edge``."""
        closed = sum([piece.since(edge) for piece in self.pieces])
        return closed + sum([it.rate * (now - max(it.since, edge)) for _, it in self.running])

    def of(self, output: str) -> Running | None:
        """What an output spends now."""
        return next((it for name, it in self.running if name == output), None)

    def begun(self, output: str, now: int, rate: int) -> Spent:
        """An output spends so much from now on."""
        return self._replace(running=(*self.running, (output, Running(now, rate))))

    def ended(self, output: str, now: int, most: int) -> Spent:
        """It spends no more; ``most`` is the most that it can spend in a nanosecond."""
        it = self.of(output)
        if it is None:
            return self
        rest = tuple(each for each in self.running if each[0] != output)
        if not it.rate:
            return self._replace(running=rest)
        piece = Piece(it.since, now, it.rate * (now - it.since), most, output)
        return Spent(_with(self.pieces, piece), rest)

    def once(self, output: str, now: int) -> Spent:
        """It has spent one, at once."""
        return self._replace(pieces=_with(self.pieces, Piece(now, now, 1, 0, output)))

    def forgotten(self, edge: int) -> Spent:
        """Without what no edge will ever ask for again."""
        if self.pieces and self.pieces[0].end <= edge:
            return self._replace(pieces=tuple(piece for piece in self.pieces if piece.end > edge))
        return self

    def when_used(self, now: int, span: int, most: int) -> int | None:
        """The first time at which ``most`` is used of a span that goes along with the time, if nothing changes; None: never."""
        used = self.used(now, now - span)
        if used >= most:
            return now
        slope, at = self._slope(now, span), now
        for time, change, drop in self._changes(now, span):
            if slope > 0 and used + slope * (time - at) >= most:
                break
            used += slope * (time - at) - drop
            at, slope = time, slope + change
        return at - (used - most) // slope if slope > 0 else None  # rounded up

    def when_left(self, now: int, span: int, most: int) -> int | None:
        """The first time at which no more than ``most`` is used of such a span, if nothing changes; None: never."""
        used = self.used(now, now - span)
        if used <= most:
            return now
        slope, at = self._slope(now, span), now
        for time, change, drop in self._changes(now, span):
            if slope < 0 and used + slope * (time - at) <= most:
                break
            used += slope * (time - at) - drop
            at, slope = time, slope + change
            if used <= most:
                return at
        return at + -((most - used) // -slope) if slope < 0 else None

    def _slope(self, now: int, span: int) -> int:
        """How fast what is used grows at this moment."""
        edge = now - span
        leaving = sum([piece.rate for piece in self.pieces if piece.leaves <= edge < piece.end])
        leaving += sum([it.rate for _, it in self.running if it.since <= edge])
        return sum([it.rate for _, it in self.running]) - leaving

    def _changes(self, now: int, span: int) -> list[tuple[int, int, int]]:
        """When that changes from then on: (time, by how much, what drops out at once)."""
        found = []
        for piece in self.pieces:
            if piece.rate:
                found += [(piece.leaves + span, -piece.rate, 0), (piece.end + span, piece.rate, 0)]
            else:
                found.append((piece.end + span, 0, piece.amount))
        found += [(it.since + span, -it.rate, 0) for _, it in self.running]
        return sorted(each for each in found if each[0] > now)


def _with(pieces: Iterable[Piece], piece: Piece) -> tuple[Piece, ...]:
    """One more; where it goes on where another of the same output ended, they are one."""
    found = list(pieces)
    if piece.rate:
        for number, other in enumerate(found):
            if other.output == piece.output and other.end == piece.start and other.rate == piece.rate:
                del found[number]
                piece = piece._replace(start=other.start, amount=other.amount + piece.amount)
                break
    found.append(piece)
    found.sort(key=lambda each: each.end)
    if len(found) > MOST_PIECES:
        one, two = found[:2]
        both = Piece(min(one.start, two.start), two.end, one.amount + two.amount, one.rate + two.rate)
        found[:2] = [both] if both.rate else [two._replace(amount=both.amount)]
    return tuple(found)
