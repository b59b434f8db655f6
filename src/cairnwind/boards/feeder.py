"""Keeps the watchdog of one board fed, whatever its link waits for meanwhile.

A link's own thread reads, drives and waits: for the line, for an answer that does not come, for another board on the
same line. None of that may let a healthy board fall to its safe values. So somebody else sees to it that the board
hears a frame in good time, and takes the line before everybody else when it is due.

What must hold: nothing is fed that should look dead. `Feeder` asks ``alive`` at every turn, and that is true only
while the engine turns, the link's own thread makes progress, and the link has not given the board up.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable

SHARE = 4
"""A board hears a frame at least so often within its watchdog's time."""


class Feeder:
    """A thread that feeds one board. ``watchdog`` in seconds; ``heard`` gives when the board last got a frame."""

    def __init__(
        self,
        name: str,
        watchdog: float,
        *,
        alive: Callable[[], bool],
        heard: Callable[[], float],
        feed: Callable[[], None],
    ) -> None:
        self._every = watchdog / SHARE
        self._alive, self._heard, self._feed = alive, heard, feed
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._run, name=f"feed-{name}", daemon=True)
        self._thread.start()

    def end(self) -> None:
        """Feed no more; returns once that is certain."""
        self._over.set()
        if threading.current_thread() is not self._thread:
            self._thread.join()

    def _run(self) -> None:
        while not self._over.is_set():
            heard = self._heard()
            left = heard + self._every - time.monotonic()
            if left > 0:
                self._over.wait(left)
            elif self._alive():
                self._feed()
                if self._heard() == heard:
                    self._over.wait(
                        self._every / SHARE
                    )  # it came to nothing: the adapter may have been pulled out
            else:
                self._over.wait(self._every)
