"""Rows of a stop under attack: seconds from the stop that was sent to the pin of a simulated board."""

from __future__ import annotations

import contextlib
import json
import socket
import threading
import time
from collections.abc import Callable, Iterator

from bench.client import Connection, Server
from bench.table import Row, amount, measures

HEAD = b"GET /api/v1/outputs HTTP/1.1\r\nHost: 127.0.0.1\r\nX-Slow: "
BODY = b"POST /api/v1/phrases HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/json\r\nContent-Length: 60000\r\n\r\n{"
HANGS = amount(12, 1)
"""Seconds."""
BAR = 250.0
"""Milliseconds."""


@contextlib.contextmanager
def silent(server: Server, said: bytes, many: int) -> Iterator[None]:
    """So many connections that have said that much and no more."""
    here = []
    for _ in range(many):
        one = socket.create_connection(("127.0.0.1", server.port))
        one.sendall(said)
        here.append(one)
    time.sleep(0.3)
    try:
        yield
    finally:
        for one in here:
            one.close()


@contextlib.contextmanager
def busy(many: int, work: Callable[[], None]) -> Iterator[None]:
    """So many threads that do something over and over."""
    over = threading.Event()

    def go_on() -> None:
        while not over.is_set():
            try:
                work()
            except (OSError, RuntimeError):
                time.sleep(0.01)

    threads = [threading.Thread(target=go_on, daemon=True) for _ in range(many)]
    for each in threads:
        each.start()
    time.sleep(0.5)
    try:
        yield
    finally:
        over.set()
        for each in threads:
            each.join(5)


def stop(server: Server) -> float:
    """Milliseconds from an all-stop to the pin that it takes to safe, connecting anew; the worst of some."""
    worst = 0.0
    for _ in range(amount(10, 1)):
        line = server.connect()
        line.turn("relay-3", "on")
        server.ask("pins")
        worst = max(worst, once(server))
        put(line, "DELETE", "/api/v1/all-stop", None)
        line.answer()
        line.close()
    return worst


def once(server: Server) -> float:
    """The same, of something that is on."""
    begin = time.monotonic_ns()
    other = server.connect()
    put(other, "PUT", "/api/v1/all-stop", {})
    time.sleep(0.3)  # the answer may be later: the pin counts
    moved = [at for at, _, level in server.ask("pins")["seen"] if at > begin and not level]
    other.close()
    return (min(moved) - begin) / 1e6 if moved else 60_000.0


def off(product: Server, begun: int) -> float:
    """Milliseconds from then until relay 7 went off; a minute if it did not in five seconds."""
    end = time.monotonic() + 5
    while True:
        seen = product.ask("pins")["seen"]
        after = [at for at, line, level in seen if at > begun and not level and line == 7]
        if after or time.monotonic() > end:
            return (min(after) - begun) / 1e6 if after else 60_000.0
        time.sleep(0.05)


def hung(product: Server, ready: Callable[[], None], stop: Callable[[], int]) -> float:
    """Milliseconds from a stop to the pin of relay 7 while the disk hangs: before that is noticed, and after; the worse of both."""
    found = 0.0
    for since in (amount(0.5, 0.1), amount(3.0, 0.2)):
        ready()
        time.sleep(0.1)
        product.ask("pins")
        product.ask(f"hang {HANGS}")
        time.sleep(since)
        found = max(found, off(product, stop()))
        time.sleep(HANGS)
    return found


def put(line: Connection, method: str, path: str, body: object) -> None:
    """Send a request; its answer is not waited for."""
    text = b"" if body is None else json.dumps(body).encode()
    head = f"{method} {path} HTTP/1.1\r\nHost: 127.0.0.1:{line.port}\r\nAuthorization: Bearer {line.key}\r\n"
    if text:
        head += f"Content-Type: application/json\r\nContent-Length: {len(text)}\r\n"
    line.socket.sendall(head.encode() + b"\r\n" + text)


@measures("stop under attack")
def attacks() -> list[Row]:
    """An all-stop by HTTP while others do their worst."""
    rows = []
    many = amount(500, 20)

    def row(what: str, value: float) -> None:
        rows.append(Row(f"stop under attack: {what}", value, "ms", bar=f"<= {BAR:g}", holds=value <= BAR))

    with Server("product", "10") as product:
        row("none", stop(product))
        for what, said in (
            ("silent connections", b""),
            ("half-sent heads", HEAD),
            ("bodies that do not come", BODY),
        ):
            with silent(product, said, many):
                row(f"{many} {what}", stop(product))

        def flood() -> None:
            line = product.connect()
            for turn in range(50):
                put(
                    line,
                    "POST",
                    "/api/v1/claims",
                    {"output": f"relay-{turn % 3}", "setting": "on" if turn % 2 else "40 %"},
                )
                line.socket.recv(65536)
            line.close()

        with busy(amount(24, 2), flood):
            row("a flood of commands, 24 at once", stop(product))
        product.ask(f"journal {amount(1_000_000, 1000)}")

        def search() -> None:
            line = product.connect()
            put(line, "GET", "/api/v1/journal?limit=1000&kind=nothing", None)
            line.socket.settimeout(30)
            line.answer()
            line.close()

        with busy(amount(24, 2), search):
            row("24 searches of a million rows", stop(product))
        line = product.connect()
        line.turn("relay-3", "on")
        product.ask("pins")
        product.ask(f"hang {HANGS}")
        time.sleep(amount(3.0, 0.2))  # it is known by then that it hangs
        row(f"a disk that hangs for {HANGS} s", once(product))
        time.sleep(HANGS)
    return rows
