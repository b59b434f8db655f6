"""Work that others ask for and that may be long: one at a time for a key, few at once for all, ended when nobody waits.

It is done in a process of its own (`cairnwind.service.aside`), which the system ends where it takes too much; the worker that
has the request waits for it. What stops, takes off or lets go has workers of its own.
"""

from __future__ import annotations

import pickle
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

from flask import request

from cairnwind.core.values import jsontext
from cairnwind.core.values.errors import CallerError
from cairnwind.service.aside import TOO_MUCH, WRONG
from cairnwind.service.asked import caller_key
from cairnwind.service.server import GONE

AT_ONCE = 2
WITHIN = 30.0
"""Seconds that one may take, however little of the processor it gets."""
LOOK_EVERY = 0.05
"""Seconds between two looks whether somebody still waits."""
PROGRAM = (sys.executable, "-P", "-m", "cairnwind.service.aside")


class Bounded:
    """``what`` it is, and ``instead`` what to do where it is too much."""

    def __init__(self, what: str, instead: str) -> None:
        self._what, self._instead = what, instead
        self._room = threading.BoundedSemaphore(AT_ONCE)
        self._keys: set[int] = set()
        self._lock = threading.Lock()

    def run(self, task: Callable[..., Any], *given: Any) -> bytes:
        """What ``task`` gives for what it is given, as JSON; raises `CallerError` (``rate``, ``busy``, ``too-large``, its own)."""
        with self._one():
            ended, said = self._aside(pickle.dumps((task, given)))
        if ended == WRONG:
            raise CallerError(*jsontext.read(said))
        if ended == TOO_MUCH or ended < 0:
            raise CallerError("too-large", f"This is more than {self._what} here may take.", self._instead)
        if ended:
            raise RuntimeError(f"{self._what} ended with {ended}")
        return said

    @contextmanager
    def _one(self) -> Iterator[None]:
        """One of those that may be at once."""
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
                yield
            finally:
                self._room.release()
        finally:
            with self._lock:
                self._keys.discard(key)

    @staticmethod
    def _aside(asked: bytes) -> tuple[int, bytes]:
        """How its process ended, and what it said."""
        gone: Callable[[], bool] = request.environ.get(GONE, bool)
        end = time.monotonic() + WITHIN
        untold: bytes | None = asked
        with subprocess.Popen(
            PROGRAM, stdin=subprocess.PIPE, stdout=subprocess.PIPE, start_new_session=True
        ) as process:
            try:
                while True:
                    try:
                        said, _ = process.communicate(untold, LOOK_EVERY)
                        return process.returncode, said
                    except subprocess.TimeoutExpired:
                        untold = None
                        if gone():
                            raise CallerError(
                                "busy", "Nobody waits for this any more.", "Ask again."
                            ) from None
                        if time.monotonic() > end:
                            return TOO_MUCH, b""
            finally:
                process.kill()
