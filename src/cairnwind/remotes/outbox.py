"""What is still to be sent on a slow line, whole and in order, by a thread of its own: whoever has something to say waits for nobody.

Of what is not taken off by the other side no more is kept than `MOST`; what comes then is lost, and counted.
"""

from __future__ import annotations

import threading
from collections import deque
from typing import Any

import serial

from cairnwind.boards.link import Traffic
from cairnwind.core.values import jsontext

MOST = 256 << 10
"""Bytes that wait."""
LITTLE = 2 << 10
"""Bytes of which whoever may as well say it later waits until no more are before it."""
CHUNK = 128
"""Bytes that are written at a time: a line that is slow takes long for a whole answer, and gets all of it."""


class Outbox:
    """Lines of JSON on their way to a port, which may come and go."""

    def __init__(self, name: str, traffic: Traffic) -> None:
        self._traffic = traffic
        self._lines: deque[bytes] = deque()
        self._size = 0
        self._port: Any = None
        self._torn = False
        """The last line was not sent to its end."""
        self._changed = threading.Condition()
        self._over = False
        self._thread = threading.Thread(target=self._work, name=f"{name}-out", daemon=True)

    def start(self) -> None:
        """Send from now on."""
        self._thread.start()

    def stop(self) -> None:
        """Send no more."""
        self.leave()
        with self._changed:
            self._over = True
            self._changed.notify_all()
        if self._thread.is_alive():
            self._thread.join(2)

    def open(self, port: Any) -> None:
        """Whatever is put here from now on goes to this port."""
        with self._changed:
            self._port, self._torn = port, False
            self._changed.notify_all()

    def leave(self) -> None:
        """The port is away, and what was meant for it is of no use."""
        with self._changed:
            port, self._port = self._port, None
            self._lines.clear()
            self._size = 0
            self._changed.notify_all()
        if port is not None:
            try:
                port.cancel_write()
            except (OSError, TypeError):
                pass  # it is gone already

    def put(self, form: Any) -> None:
        """Something to say, by any thread."""
        line = jsontext.write(form) + b"\n"
        with self._changed:
            if self._port is None:
                return
            if room := self._size + len(line) <= MOST:
                self._lines.append(line)
                self._size += len(line)
                self._changed.notify_all()
        if not room:
            self._traffic.add("lost", line, "not sent: nobody takes off what is sent before it")

    def room(self, seconds: float) -> bool:
        """Wait until there is little before whatever is put here now; False if that did not come."""
        with self._changed:
            return self._changed.wait_for(lambda: self._size <= LITTLE or self._over, seconds)

    def _work(self) -> None:
        while True:
            with self._changed:
                self._changed.wait_for(lambda: self._lines or self._over)
                if self._over:
                    return
                port, line = self._port, self._lines[0]
            why = self._write(port, line)
            with self._changed:
                if self._lines and self._lines[0] is line:
                    self._lines.popleft()
                    self._size -= len(line)
                    self._changed.notify_all()
            self._traffic.add(*(("lost", line, why) if why else ("sent", line, line.decode()[:300])))

    def _write(self, port: Any, line: bytes) -> str:
        """Write a line; returns why it could not be. What was begun before it is ended first, so that this one can be read."""
        rest = b"\n" + line if self._torn else line
        try:
            while rest:
                self._torn = True
                port.write(rest[:CHUNK])
                rest = rest[CHUNK:]
            self._torn = False
        except (OSError, TypeError, serial.SerialException) as error:  # some drivers fail in odd ways
            return f"not sent: {error}"
        return ""
