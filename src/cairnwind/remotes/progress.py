"""How far a way out has come, as the store keeps it: so what was not delivered is told after the next start."""

from __future__ import annotations

from cairnwind.store.reader import Reader
from cairnwind.store.writer import Row, Writer

KEEP_EVERY = 500
"""Rows that nobody asked to be told of: so many may be looked at again after a start."""


class Progress:
    """Of one way. A way that is new begins with what happens from then on."""

    def __init__(self, way: str, reader: Reader, writer: Writer) -> None:
        self._way, self._writer = way, writer
        known = reader.told(way)
        self.done = reader.last() if known is None else known
        """The number of the last row that the way is done with."""
        self.aside = reader.put_aside(way)
        """The numbers of rows up to that which were refused, and are still to be told."""
        self._passed = 0
        if known is None:
            self.keep()

    def passed(self, seq: int) -> None:
        """A row is not for this way."""
        self.done = seq
        self._passed += 1
        if self._passed >= KEEP_EVERY:
            self.keep()

    def told(self, seq: int) -> None:
        """A row got through: the next one, or one that was put aside."""
        if seq in self.aside:
            self.aside.remove(seq)
            self._writer.put([("not aside", (self._way, seq))])
        else:
            self.done = seq
            self.keep()

    def put_aside(self, seq: int) -> None:
        """The next row was refused: those behind it go first."""
        self.aside.append(seq)
        self.done = seq
        self.keep(("aside", (self._way, seq)))

    def later(self, seq: int) -> None:
        """A row that was put aside is refused again: the others have their turn before it."""
        self.aside.remove(seq)
        self.aside.append(seq)

    def keep(self, *more: Row) -> None:
        """Store it."""
        self._passed = 0
        self._writer.put([*more, ("told", (self._way, self.done))])
