"""Editions: every state of the site file that was applied, whole, with who applied it and why."""

from __future__ import annotations

import threading
from typing import NamedTuple

from cairnwind.core.values.errors import CallerError
from cairnwind.store.reader import Edition, Reader
from cairnwind.store.writer import Writer


class Origin(NamedTuple):
    """Where an edition comes from."""

    author: str
    how: str
    """'start', 'reload', 'edit', 'draft' or 'back'."""
    reason: str = ""


class Editions:
    """Kept in the store; the last one is what is served."""

    def __init__(self, reader: Reader, writer: Writer) -> None:
        self._reader, self._writer = reader, writer
        last = reader.edition()
        self.number = last.number if last is not None else 0
        self._text = last.text if last is not None else None

    def see(self, text: str, wall: int, origin: Origin) -> int:
        """This is what is served from now on; the number of its edition. ``wall``: nanoseconds UTC."""
        if text != self._text:
            self.number, self._text = self.number + 1, text
            row = (self.number, wall, origin.author, origin.how, origin.reason, text)
            told = threading.Event()
            self._writer.put([("edition", row)], lambda _: told.set())
            told.wait()  # whoever asked finds it when they are answered; where the disk does not take it, it is kept for later
        return self.number

    def find(self, number: int) -> Edition:
        """One of them. Raises `CallerError` (``unknown-name``)."""
        found = self._reader.edition(number)
        if found is None:
            raise CallerError(
                "unknown-name", f"There is no edition {number}.", f"There are 1 to {self.number}: cairnwind editions."
            )  # fmt: skip
        return found

    def all(self) -> list[Edition]:
        """All of them, the newest first."""
        return self._reader.editions()
