"""Drives a server of `bench.serve`: the process, and requests over plain sockets, to cost little itself."""

from __future__ import annotations

import json
import selectors
import socket
import statistics
import subprocess
import sys
import time
from types import TracebackType
from typing import Any

from bench.table import amount


class Server:
    """One server process."""

    def __init__(self, *args: str) -> None:
        self.process = subprocess.Popen(
            [sys.executable, "-m", "bench.serve", *args],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
        )
        hello = self._read()
        self.port, self.key = hello["port"], hello["key"]

    def __enter__(self) -> Server:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        assert self.process.stdin is not None
        self.process.stdin.write("end\n")
        self.process.stdin.close()
        self.process.wait(10)

    def ask(self, order: str) -> Any:
        """Give an order; its answer."""
        assert self.process.stdin is not None
        self.process.stdin.write(order + "\n")
        self.process.stdin.flush()
        return self._read()

    def _read(self) -> Any:
        assert self.process.stdout is not None
        return json.loads(self.process.stdout.readline())

    def connect(self) -> Connection:
        """A connection that is kept."""
        return Connection(self.port, self.key)

    def rate(self, connections: int, seconds: float, outputs: int = 10) -> float:
        """Requests a second that are answered, with so many connections, all driven by one thread."""
        seconds = amount(seconds, 0.1)
        lines = [self.connect() for _ in range(connections)]
        selector = selectors.DefaultSelector()
        turns = list(range(connections))
        for number, line in enumerate(lines):
            selector.register(line.socket, selectors.EVENT_READ, number)
            line.send(*_turn(turns[number], outputs))
        answered = 0
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            for key, _ in selector.select(1):
                lines[key.data].answer()
                answered += 1
                turns[key.data] += connections + 1
                lines[key.data].send(*_turn(turns[key.data], outputs))
        for line in lines:
            line.answer()
            line.close()
        return answered / seconds

    def median(self, requests: int, outputs: int = 10) -> float:
        """Seconds from request to answer, one at a time: the median."""
        line = self.connect()
        times = []
        for turn in range(amount(requests, 10)):
            begin = time.perf_counter()
            line.turn(*_turn(turn, outputs))
            times.append(time.perf_counter() - begin)
        line.close()
        return statistics.median(times)


def _turn(turn: int, outputs: int) -> tuple[str, str]:
    return f"relay-{turn % outputs}", "on" if turn // outputs % 2 else "off"


class Connection:
    """Keep-alive requests, built beforehand, answers read to their length."""

    def __init__(self, port: int, key: str) -> None:
        self.socket = socket.create_connection(("127.0.0.1", port))
        self.socket.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        self.port, self.key = port, key
        self._requests: dict[tuple[str, str], bytes] = {}

    def turn(self, output: str, setting: str) -> bytes:
        """One command; the answer's body."""
        self.send(output, setting)
        return self.answer()

    def send(self, output: str, setting: str) -> None:
        """Send one command."""
        request = self._requests.get((output, setting))
        if request is None:
            body = json.dumps({"output": output, "setting": setting})
            request = self._requests[output, setting] = (
                f"POST /api/v1/claims HTTP/1.1\r\nHost: 127.0.0.1:{self.port}\r\nAuthorization: Bearer {self.key}\r\n"
                f"Content-Type: application/json\r\nContent-Length: {len(body)}\r\n\r\n{body}"
            ).encode()
        self.socket.sendall(request)

    def stream(self) -> None:
        """Turn this connection into an event stream, and read its beginning."""
        self.socket.sendall(
            f"GET /api/v1/events HTTP/1.1\r\nHost: 127.0.0.1:{self.port}\r\nAuthorization: Bearer {self.key}\r\n\r\n".encode()
        )
        seen = b""
        while b"event: afresh" not in seen or not seen.endswith(b"\n\n"):
            seen += self.socket.recv(65536)

    def close(self) -> None:
        """Hang up."""
        self.socket.close()

    def answer(self) -> bytes:
        """Read one answer; its body."""
        data = self.socket.recv(65536)
        while b"\r\n\r\n" not in data:
            data += self.socket.recv(65536)
        head, _, body = data.partition(b"\r\n\r\n")
        if not head.startswith(b"HTTP/1.1 20"):
            raise RuntimeError((head + body).decode())
        at = head.lower().index(b"content-length:") + 15
        length = int(head[at:].split(b"\r\n")[0])
        while len(body) < length:
            body += self.socket.recv(65536)
        return body
