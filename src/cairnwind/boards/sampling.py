"""Analogue channels that take their time to be read: a thread of their own reads them, so that nothing waits for them."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping

from cairnwind.core.values.errors import BoardError

EVERY = 0.1
"""Seconds between readings."""
Reading = tuple[int, int, float | None]
"""Counts, counts at full scale, volts; of what is measured in its own unit thousandths of that, 0, and the value."""


class Sampler:
    """Reads channels over and over; ``nudge`` is called whenever there is something new to `take`."""

    def __init__(
        self, read: Callable[[int], Reading], nudge: Callable[[], None], every: float = EVERY
    ) -> None:
        """``read`` reads a channel; raises `BoardError`. ``every``: seconds between two readings of all."""
        self._read, self._nudge, self._every = read, nudge, every
        self.channels: Mapping[int, int] = {}
        """By line, its channel. May be exchanged at any time."""
        self._new: dict[int, Reading | BoardError] = {}
        self._lock, self._over = threading.Lock(), threading.Event()
        threading.Thread(target=self._run, name="sampler", daemon=True).start()

    def take(self) -> dict[int, Reading | BoardError]:
        """By line what was read since the last time, or why it could not be."""
        with self._lock:
            new, self._new = self._new, {}
        return new

    def end(self) -> None:
        """No more; a reading that is under way is nobody's."""
        self._over.set()

    def _run(self) -> None:
        while not self._over.is_set():
            for line, channel in dict(self.channels).items():
                try:
                    found: Reading | BoardError = self._read(channel)
                except BoardError as error:
                    found = error
                if self._over.is_set():
                    return
                with self._lock:
                    self._new[line] = found
            self._nudge()
            self._over.wait(self._every)
