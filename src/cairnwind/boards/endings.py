"""Ends that a board sees to by itself: what is for a time, and tones, of which every one has an end.

The board's clock counts. The host's word that an end has come is carried out once the board's has, and an output is not looked at around
that moment: what it shows then is no deviation. A stop, and whatever else ends it sooner, waits for nothing.
"""

from __future__ import annotations

import time

from cairnwind.boards.rulekeeping import Registers
from cairnwind.core.facts import events as ev

LEFT, VALUE, LASTS = 128, 64, 384
NEAR, LATEST = 0.02, 0.15
"""Seconds: so long before its end an output is not looked at any more; so long after the host's end the board's is waited for."""
LONGEST = 0xFFFF
"""Milliseconds that a board can be told."""
TONE_AGAIN, TONE_LONGEST = 20.0, 60_000
"""A tone is told again after so many seconds: without that the board ends it after so many milliseconds."""


class Endings:
    """Of one board. Only its link's thread calls this."""

    def __init__(self, registers: Registers) -> None:
        self._registers = registers
        self._ends: dict[int, float] = {}
        """By line: monotonic seconds at which the board ends what it is at."""
        self._waiting: dict[str, tuple[int, ev.Drive]] = {}
        """By output: its line, and the order that only says that its end has come."""
        self._tones: dict[int, float] = {}
        """By line: when its tone was told last."""

    def clear(self) -> None:
        """The board is met anew."""
        self._ends.clear()
        self._waiting.clear()
        self._tones.clear()

    def tell(self, line: int, nanoseconds: int) -> None:
        """What the line is told next lasts so long. Raises `BoardError`."""
        self._registers.put_words(LASTS + line, [max(1, min(LONGEST, round(nanoseconds / 1e6)))])

    def begun(self, line: int, nanoseconds: int) -> None:
        """It has been told that now; 0: it lasts until it is told otherwise."""
        if nanoseconds:
            self._ends[line] = time.monotonic() + nanoseconds / 1e9
        else:
            self._ends.pop(line, None)

    def near(self, line: int) -> bool:
        """Whether the end of what the line is at is so near, or so lately past, that what it shows tells nothing."""
        return time.monotonic() >= self._ends.get(line, float("inf")) - NEAR

    # --- the host's ends ----------------------------------------------------------------------------------

    def waits(self, order: ev.Drive, line: int) -> bool:
        """Whether an order has to wait for the board's end; whatever waited for this output does no more."""
        self._waiting.pop(order.output, None)
        if not order.ended or not 0 < self._ends.get(line, 0.0) - time.monotonic() < LATEST:
            return False
        self._waiting[order.output] = line, order
        return True

    @property
    def pause(self) -> float | None:
        """Seconds until the next end that is waited for; None: there is none."""
        if not self._waiting:
            return None
        soonest = min(self._ends.get(line, 0.0) for line, _ in self._waiting.values())
        return max(0.0, soonest - time.monotonic() + 0.001)

    def due(self) -> list[ev.Drive]:
        """Orders whose end has come, at the board too: its clock may be a little slower, and is the one that counts. Raises `BoardError`."""
        found = []
        for name, (line, order) in list(self._waiting.items()):
            now = time.monotonic()
            if self._ends.get(line, 0.0) > now:
                continue
            left = self._registers.words("holding", LEFT + line, 1)[0] / 1000
            if 0 < left < LATEST:
                self._ends[line] = now + left
            else:
                del self._waiting[name]
                found.append(order)
        return found

    # --- tones --------------------------------------------------------------------------------------------

    def sounds(self, line: int, on: bool) -> None:
        """A tone has been told, or its end."""
        if on:
            self._tones[line] = time.monotonic()
        else:
            self._tones.pop(line, None)

    def sound_on(self) -> None:
        """Tell tones again that go on for longer than the board lets them. Raises `BoardError`."""
        for line, told in list(self._tones.items()):
            if line not in self._ends and time.monotonic() - told > TONE_AGAIN:
                self._registers.put_words(VALUE + line, self._registers.words("holding", VALUE + line, 1))
                self._tones[line] = time.monotonic()
