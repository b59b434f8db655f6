"""Frames of our firmware as messages of a broker: a client of the usual protocol library, whose frames are published under a number each.

What comes back under the number that was asked last is what it reads; anything else is late, or not for it, and dropped.
"""

from __future__ import annotations

import itertools
import socket
import threading
from typing import Any

from pymodbus import FramerType
from pymodbus.client import ModbusTcpClient
from pymodbus.exceptions import ConnectionException

from cairnwind.boards.mqtt import ORDER_LASTS, Connection
from cairnwind.core.values.errors import BoardError


class Frames(ModbusTcpClient):
    """A client whose frames are messages: what it sends is published under a number, and what comes back under that number is what it reads."""

    def __init__(self, connection: Connection, topic: str, **more: Any) -> None:
        super().__init__(topic, framer=FramerType.RTU, retries=0, **more)
        self._connection, self._topic = connection, topic
        self._numbers = itertools.count(1)
        self._asked = b""
        self._far: socket.socket | None = None
        self._lock = threading.Lock()
        connection.subscribe(f"{topic}/answer", self._answered)

    def connect(self) -> bool:
        """Be ready for answers, if the broker is there."""
        if self.socket is None:
            if not self._connection.up.is_set():
                return False
            self.socket, self._far = socket.socketpair(socket.AF_UNIX, socket.SOCK_STREAM)
        return True

    def close(self) -> None:
        """Hear no answers any more."""
        with self._lock:
            super().close()  # type: ignore[no-untyped-call]
            if self._far is not None:
                self._far.close()
                self._far = None

    def end(self) -> None:
        """It is not used any more."""
        self._connection.unsubscribe(self._answered)
        self.close()

    def send(self, request: bytes, addr: tuple[Any, ...] | None = None) -> int:
        """Publish a frame; what was not read of earlier answers is dropped."""
        if self.socket is None:
            raise ConnectionException(self._topic)
        self._drop()
        self._asked = (next(self._numbers) & 0xFFFF).to_bytes(2, "big")
        try:
            self._connection.publish(f"{self._topic}/ask", self._asked + request, lasts=ORDER_LASTS)
        except BoardError as error:
            self.close()
            raise ConnectionException(error.sentence) from None
        return len(request)

    def _drop(self) -> None:
        assert self.socket is not None
        self.socket.setblocking(False)
        try:
            self.socket.recv(4096)
        except BlockingIOError:
            pass

    def _answered(self, topic: str, payload: bytes, left: bool) -> None:
        with self._lock:
            if not left and self._far is not None and payload[:2] == self._asked:
                self._asked = b""  # a message may come twice
                self._far.send(payload[2:])
