"""The rules of one board with our firmware, as its link sees to them: compared, loaded while nothing is on, and what they say told on.

Only the link's own thread calls what speaks to the board. What must hold: a board never drives under rules other than those it should
have without somebody being told (`RuleKeeper.why_not`); rules are taken away only after it was rested, and nothing is on.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Collection, Iterator
from typing import Protocol

from cairnwind.boards.link import LineError
from cairnwind.boards.onboard import MOST, WORDS, Table
from cairnwind.core.values.errors import BoardError

REST, RESET, SUM, GENERATION, RULES = 1, 7, 8, 9, 256
HELD_BY = 96
"""Input registers: the rule that last kept each pin from being on, its number + 1."""
HELD = 6
"""The exception by which the firmware says that a rule holds something, or that something is on."""
AT_ONCE = 120
"""Registers in one frame."""
COILS_WITHIN = 1.5
"""Seconds in which coils of latching relays have had their current, at a fall to safe."""
AGAIN = 5.0
"""Seconds until rules that the board would not take are tried again."""


class Registers(Protocol):
    """How its link speaks to it."""

    def words(self, kind: str, first: int, count: int) -> list[int]:
        """Read 'holding' or 'input' registers. Raises `BoardError`."""

    def put_words(self, first: int, words: list[int]) -> None:
        """Write registers side by side. Raises `BoardError`."""


def is_held(error: LineError) -> bool:
    """Whether the board has refused because of a rule, or because something is on."""
    return error.more.get("exception") == HELD


class RuleKeeper:
    """``tripped`` is called with the name of a trip that the board has latched."""

    def __init__(self, board: str, registers: Registers, tripped: Callable[[str], None]) -> None:
        self._board, self._registers, self._tripped = board, registers, tripped
        self.wanted: Table | None = None
        """What it should hold; None: nobody has said yet, and it goes on with what it has."""
        self._generation = 0
        """Of what it holds."""
        self._able = False
        self._trouble = ""
        self._try_at = 0.0
        self._told: set[str] = set()
        """Trips that it has latched and that were told."""
        self._resets: list[str] = []

    # --- from other threads -------------------------------------------------------------------------------

    def keep(self, table: Table) -> None:
        """It is to hold these from now on."""
        self.wanted, self._try_at = table, 0.0

    def reset(self, trip: str) -> None:
        """Somebody has reset a trip."""
        self._resets.append(trip)

    def why_not(self) -> str:
        """Why what it should hold is not in force; nothing where it is."""
        if self.wanted is None or not self._able:
            return self._trouble or "it has not been heard of yet"
        if self._generation != self.wanted.generation:
            return self._trouble or "it is being told"
        return ""

    # --- by the link's thread -----------------------------------------------------------------------------

    def meet(self, version: int) -> None:
        """The board answers: what does it hold?"""
        self._able, self._trouble, self._told = version & 255 >= 2, "", set()
        if not self._able:
            self._trouble = f"its firmware {version >> 8}.{version & 255} keeps no rules"
            return
        self._generation = self._registers.words("holding", GENERATION, 1)[0]
        if self.wanted is not None and self._generation not in (0, self.wanted.generation):
            self.clear()

    def clear(self) -> None:
        """Rest the board, and take its rules away: pins that they name are to be set up otherwise."""
        if self._able and self._generation:
            self._registers.put_words(REST, [1])
            end = time.monotonic() + COILS_WITHIN
            while True:
                try:
                    self._registers.put_words(GENERATION, [0])
                    break
                except LineError as error:  # a coil that puts a latching relay to safe has its current yet
                    if not is_held(error) or time.monotonic() > end:
                        raise
                    time.sleep(0.02)
            self._generation, self._try_at = 0, 0.0

    def load(self) -> None:
        """Have it hold what it should, if it does not yet. Raises `BoardError` where something is on: it has to be set up anew, from safe."""
        table = self.wanted
        if not self._able or table is None or table.generation == self._generation:
            return
        if time.monotonic() < self._try_at:
            return
        self._try_at = time.monotonic() + AGAIN
        try:
            if self._generation:
                self._registers.put_words(GENERATION, [0])
                self._generation = 0
            if table.rules:
                words = table.words
                for at in range(0, MOST * WORDS, AT_ONCE):
                    self._registers.put_words(RULES + at, words[at : at + AT_ONCE])
                self._registers.put_words(SUM, [table.sum])
                self._registers.put_words(GENERATION, [table.generation])
            self._generation = table.generation
            self._trouble = ""
        except LineError as error:
            if is_held(error):
                raise BoardError("rules", "other rules are put in force", "It is set up anew.") from error
            self._trouble = "it does not take them: a pin that they name is not set up as it should be"

    def look(self, generation: int, latched: int) -> None:
        """What it says of its rules, with everything else that is read. Raises `BoardError` where they are not what it was told."""
        if generation != self._generation:
            raise BoardError("rules", "somebody else has changed its rules", "It is set up anew.")
        names = {name for number, name in self._numbered() if latched >> number & 1}
        for name in names - self._told:
            self._tripped(name)
        self._told = names
        while self._resets:
            self._reset(self._resets.pop())

    def _reset(self, trip: str) -> None:
        for number, name in self._numbered():
            if name == trip:
                try:
                    self._registers.put_words(RESET, [number])
                except LineError:
                    pass  # its cause is still there, as the board sees it: it is told again
        self._told.discard(trip)

    def _numbered(self) -> Iterator[tuple[int, str]]:
        table = self.wanted
        if table is not None and table.generation == self._generation:
            yield from ((number, rule.name) for number, rule in enumerate(table.rules))

    def refusal(self, lines: Collection[int]) -> LineError:
        """Why it has refused to have one of these on."""
        names = dict(self._numbered())
        for line in lines:
            held = self._registers.words("input", HELD_BY + line, 1)[0]
            if held:
                name = names.get(held - 1)
                which = f"the board's rule '{name}'" if name else "a rule of the board that this site has not"
                return LineError("held", f"it is held by {which}", "See: cairnwind rules.")
        return LineError("held", "the board does not take that now", "")
