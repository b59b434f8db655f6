"""Work that others ask for and that may be long: one at a time for a key, few at once for all, each with a bound, ended when nobody waits.

It is done by the worker that has the request, so that what it takes is that worker's and nobody else's: what stops, takes off or
lets go has workers of its own.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from flask import request

from cairnwind.core.values.errors import CallerError
from cairnwind.service.asked import caller_key
from cairnwind.service.server import GONE

AT_ONCE = 2
MOST_EVENTS, WITHIN = 50_000, 10.0
"""Events of one, and seconds that it may take."""
LOOK_EVERY = 200
"""Events between two looks whether somebody still waits."""


class Bounded:
    """``what`` it is, and ``instead`` what to do where it is too much."""

    def __init__(self, what: str, instead: str) -> None:
        self._what, self._instead = what, instead
        self._room = threading.BoundedSemaphore(AT_ONCE)
        self._keys: set[int] = set()
        self._lock = threading.Lock()

    @contextmanager
    def one(self) -> Iterator[Callable[[int], None]]:
        """To be told of every event; raises `CallerError` (``rate``, ``busy``, ``too-large``)."""
        key = caller_key().id
        with self._lock:
            if key in self._keys:
                raise CallerError(
                    "rate", f"This key has {self._what} running already.", "Wait until it has ended."
                )
            self._keys.add(key)
        try:
            if not self._room.acquire(timeout=1.0):
                raise CallerError("busy", f"Others have {self._what} running.", "Try again in a moment.")
            try:
                yield self._counter()
            finally:
                self._room.release()
        finally:
            with self._lock:
                self._keys.discard(key)

    def _counter(self) -> Callable[[int], None]:
        end, events = time.monotonic() + WITHIN, 0
        gone: Callable[[], bool] = request.environ.get(GONE, bool)

        def tell(_: int) -> None:
            nonlocal events
            events += 1
            if events > MOST_EVENTS or (events % LOOK_EVERY == 0 and time.monotonic() > end):
                raise CallerError(
                    "too-large", f"This is more than {self._what} here may take.", self._instead
                )
            if events % LOOK_EVERY == 0 and gone():
                raise CallerError("busy", "Nobody waits for this any more.", "Ask again.")

        return tell
