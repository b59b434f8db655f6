"""What the service asks of a link, whatever carries it.

A link owns one board. It is opened with the facts of its wiring and a way to report; it drives every output
safe before it says that it is up. `drive` never blocks: a link whose I/O takes time does it in a thread of its
own, keeps one order an output (a newer one replaces it) and moves to safe first (see `cairnwind.boards.worker`).
"""

from __future__ import annotations

import threading
import time
from collections import deque
from collections.abc import Callable, Collection, Mapping, Sequence
from typing import Any, NamedTuple, Protocol

from cairnwind.core.facts.claims import Instant
from cairnwind.core.facts.events import Drive, Event
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.trials import Trial
from cairnwind.core.values.errors import BoardError

Report = Callable[[Event], None]
Clock = Callable[[], Instant]
Fresh = Callable[[], bool]


class Frame(NamedTuple):
    """Something that went over the wire."""

    number: int
    wall: int
    """Nanoseconds UTC."""
    way: str
    """'sent', 'got' or 'lost'."""
    raw: bytes
    text: str
    """The same, decoded."""


class Traffic:
    """The last things that a link sent and received, and how it fares. Bounded; may be read by any thread."""

    KEPT = 500

    def __init__(self) -> None:
        self._frames: deque[Frame] = deque(maxlen=self.KEPT)
        self._number = 0
        self._lock = threading.Lock()
        self.rounds = 0
        """Rounds of reading since the start."""
        self.errors = 0
        """Frames lost, garbled or refused since the start."""
        self._mark = (time.monotonic(), 0)
        self._rate = 0.0
        self._watched = 0.0

    @property
    def watched(self) -> bool:
        """Whether somebody is looking: else what is read over and over is not worth a note."""
        return time.monotonic() < self._watched

    def add(self, way: str, raw: bytes, text: str) -> None:
        """Note a frame, by any thread: each has a number of its own."""
        with self._lock:
            self._number += 1
            self._frames.append(Frame(self._number, time.time_ns(), way, raw, text))
            if way == "lost":
                self.errors += 1

    def after(self, number: int) -> list[Frame]:
        """The frames after this number that are still kept. For a while, regular reading is then noted too."""
        self._watched = time.monotonic() + 3
        while True:
            try:
                return [frame for frame in self._frames if frame.number > number]
            except RuntimeError:  # it grew meanwhile
                continue

    def rate(self) -> float:
        """Rounds a second, over the last second or so."""
        then, count = self._mark
        now = time.monotonic()
        if now - then >= 1:
            self._rate = (self.rounds - count) / (now - then)
            self._mark = (now, self.rounds)
        return self._rate


class LineError(BoardError):
    """One output or input is at fault, and nothing else of its board."""


class Seen(NamedTuple):
    """What a link knows of one line."""

    level: int | None = None
    """How much of the time it is high, in parts per million; None where that is not known."""
    holder: str = ""
    """The other program that holds it."""
    title: str = ""
    """What the board calls it."""
    functions: frozenset[str] | None = None
    """What the board says that it can do; None where only a map can tell."""
    timer: str = ""
    trouble: str = ""
    """Why what is wired to it does not work, where that is the line's own fault."""


class Link(Protocol):
    """The way out to one board."""

    confirms: str
    """What it can know of a drive: 'read back', 'accepted' or 'sent'."""

    @property
    def traffic(self) -> Traffic:
        """What goes over the wire."""

    def open(
        self, outputs: Sequence[Output], inputs: Sequence[Input], report: Report, clock: Clock, fresh: Fresh
    ) -> None:
        """Take the board, drive all ``outputs`` safe, then report `LinkUp` (and go on trying if it is away).

        ``fresh`` tells whether the engine still works: a link that feeds a watchdog feeds it only then.
        """

    def ready(self, seconds: float) -> bool:
        """Wait until the first attempt to reach the board has ended, well or not."""

    def drive(self, orders: Sequence[Drive]) -> None:
        """Carry out ``orders`` in their order; report `Confirmed` or `Failed` for each, unless replaced."""

    def attempt(self, line: int, trial: Trial | None) -> None:
        """Try something on a pin that nobody owns, or let it go. Reports `TrialFailed` if it cannot."""

    def reading(self, line: int) -> Mapping[str, Any]:
        """What a tried pin reads: 'level' (parts), 'raw', 'full', 'volts', 'count', 'edge' (wall nanoseconds)."""

    def survey(self) -> Mapping[int, Seen]:
        """What is known of the board's lines now."""

    def rewire(self, outputs: Sequence[Output], inputs: Sequence[Input], come: Collection[str]) -> None:
        """These are wired to it from now on; those named in ``come`` are new, or were wired otherwise, and are driven safe; lines that nobody has any
        more are let go. Waits for that. Raises `BoardError`, and then all is as it was."""

    def tell(self) -> None:
        """Report again what all inputs show."""

    def close(self) -> None:
        """Let the board go. What its pins do then is the link's to state; outputs are safe by now."""
