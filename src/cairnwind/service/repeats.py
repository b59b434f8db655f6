"""Commands that may arrive twice: with an Idempotency-Key the second gets the answer of the first.

Scoped to key, method and path; another body under the same token is refused; a twin that arrives while the
first is being decided waits for it. Answers are stored in the command's own transaction and kept for a day.
"""

from __future__ import annotations

import hashlib
import re
import threading
import time
from collections.abc import Callable
from typing import Any

from cairnwind.core.values.errors import CallerError
from cairnwind.store.reader import Reader

KEEP = 24 * 3600 * 10**9
Repeat = tuple[str, str, str]


class Repeats:
    """Knows what is being decided, and what was."""

    def __init__(self, reader: Reader) -> None:
        self._reader = reader
        self._lock = threading.Lock()
        self._running: dict[tuple[str, str], tuple[str, threading.Event]] = {}

    def once(
        self, scope: str, token: str, content: bytes, decide: Callable[[Repeat], dict[str, Any]]
    ) -> dict[str, Any]:
        """The stored answer, or that of ``decide``. Raises `CallerError` (``token``) for another body."""
        if not re.fullmatch(r"[!-~]{1,200}", token):
            raise CallerError(
                "token",
                "This Idempotency-Key is not 1 to 200 visible ASCII characters.",
                "Send a random one, such as a UUID.",
            )
        body = hashlib.sha256(content).hexdigest()
        while True:
            with self._lock:
                running = self._running.get((scope, token))
                if running is None:
                    self._running[scope, token] = (body, finished := threading.Event())
                    break
            _same(running[0], body)
            running[1].wait()
        try:
            stored = self._reader.answer(scope, token, time.time_ns() - KEEP)
            if stored is not None:
                _same(stored[0], body)
                return stored[1]
            return decide((scope, token, body))
        finally:
            with self._lock:
                del self._running[scope, token]
            finished.set()


def _same(first: str, second: str) -> None:
    if first != second:
        raise CallerError(
            "token",
            "This Idempotency-Key was used with another request body.",
            "Use a new one for a new command.",
        )
