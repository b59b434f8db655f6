"""Two services of one site at one broker: each says now and then that it is one, and hears of the other.

Both would carry commands out. Whoever may publish there may pretend to be such a service, so nothing follows from it but words.
"""

from __future__ import annotations

import secrets
import socket
import time
from typing import Any

from cairnwind.core.values import jsontext
from cairnwind.core.values.visible import visible

HELLO, ALIVE = 20.0, 50.0
"""Seconds after which this service says again that it is one of the site's, and for which another one counts as being there."""


class Twins:
    """What is known of the other."""

    def __init__(self) -> None:
        self._start = secrets.token_hex(6)
        self._greeted = 0.0
        """When this one has said so last (monotonic seconds)."""
        self._where, self._heard = "", -ALIVE
        """Where the other is, and when it was heard last (monotonic seconds)."""

    @property
    def due(self) -> bool:
        """Whether it is time to say so again."""
        return time.monotonic() - self._greeted > HELLO

    @property
    def where(self) -> str:
        """Where another service of this site is; empty: there is none."""
        return self._where if time.monotonic() - self._heard < ALIVE else ""

    def greeting(self) -> dict[str, Any]:
        """What this one says of itself."""
        self._greeted = time.monotonic()
        return {"start": self._start, "host": socket.gethostname()}

    def again(self) -> None:
        """Say so at once: nobody there has heard it yet."""
        self._greeted = -HELLO

    def hear(self, payload: bytes) -> str:
        """Somebody says that it is one; returns where, if it is another that was not known of."""
        try:
            said = jsontext.read(payload[:1000])
        except ValueError:
            return ""
        if not isinstance(said, dict) or said.get("start") in (None, self._start):
            return ""
        known = self.where
        self._where = visible(str(said.get("host", "")))[:80] or "another machine"
        self._heard = time.monotonic()
        if known:
            return ""
        self.again()
        return self._where
