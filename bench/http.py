"""Rows over HTTP: commands acknowledged, commands to the pin, event streams."""

from __future__ import annotations

import selectors
import statistics
import time

from bench.client import Server
from bench.table import Row, amount, in_turns, measures


@measures("http command")
def command() -> list[Row]:
    """HTTP command, acknowledged, 8 connections: requests a second."""
    rows = []
    with Server("product", "10") as product, Server("committed") as reference, Server("echo") as echo:
        for server in (product, reference, echo):
            server.rate(8, 0.5)
        ours, theirs, bare = in_turns(
            5, lambda: product.rate(8, 1.5), lambda: reference.rate(8, 1.5), lambda: echo.rate(8, 1.5)
        )
        rows.append(
            Row(
                "http command, 8 connections",
                ours,
                "requests/s",
                theirs,
                ours / theirs,
                ">= 0.8",
                ours / theirs >= 0.8,
            )
        )
        rows.append(Row("http command, 8 connections, to bare echo", ours, "requests/s", bare, ours / bare))
        for slow in (0.005, 0.02):
            product.ask(f"slow {slow}")
            reference.ask(f"slow {slow}")
            before = product.ask("stats")
            ours, theirs = in_turns(3, lambda: product.rate(8, 1.5), lambda: reference.rate(8, 1.5))
            after = product.ask("stats")
            name = f"http command, commits slowed by {slow * 1000:.0f} ms"
            rows.append(Row(name, ours, "requests/s", theirs, ours / theirs, ">= 0.8", ours / theirs >= 0.8))
            per = (after["written"] - before["written"]) / max(1, after["commits"] - before["commits"])
            rows.append(Row(f"{name}: rows per commit", per, "rows"))
    return rows


@measures("http to pin")
def pin() -> list[Row]:
    """HTTP command to the pin of a simulated board, one at a time, median."""
    with Server("product", "10") as product, Server("echo") as echo:
        line = product.connect()

        def to_pin() -> float:
            product.ask("pins")
            sent = []
            for turn in range(amount(300, 20)):
                sent.append(time.monotonic_ns())
                line.turn(f"relay-{turn % 10}", "on" if turn // 10 % 2 else "off")
            moved = [at for at, _, _ in product.ask("pins")["seen"]]
            taken = []
            for at in sent:
                after = [move for move in moved if move > at]
                # a turn to what it is at already moves nothing
                if after and after[0] - at < 50_000_000:
                    taken.append((after[0] - at) / 1e9)
            return statistics.median(taken)

        to_pin()
        ours, bare = in_turns(5, to_pin, lambda: echo.median(300))
        line.close()
    return [
        Row(
            "http to pin, one at a time",
            ours * 1e3,
            "ms",
            bare * 1e3,
            ours / bare,
            "<= 1.3",
            ours / bare <= 1.3,
        )
    ]


@measures("event streams")
def streams() -> list[Row]:
    """200 event streams open: the median command, and how soon all know of a change."""
    with Server("product", "10") as product:
        product.median(200)
        open_streams = []
        selector = selectors.DefaultSelector()

        def connect() -> None:
            for _ in range(amount(200, 10)):
                line = product.connect()
                line.stream()
                line.socket.setblocking(False)
                selector.register(line.socket, selectors.EVENT_READ)
                open_streams.append(line)

        def drain(seconds: float) -> None:
            end = time.monotonic() + seconds
            while time.monotonic() < end:
                for key, _ in selector.select(0.01):
                    key.fileobj.recv(1 << 20)  # type: ignore[union-attr]

        def close() -> None:
            for line in open_streams:
                selector.unregister(line.socket)
                line.close()
            open_streams.clear()
            time.sleep(0.2)

        def with_streams() -> float:
            connect()
            found = _median_while_reading(product, selector)
            drain(0.3)
            close()
            return found

        ours, bare = in_turns(3, with_streams, lambda: product.median(300))
        connect()
        drain(0.3)
        line = product.connect()
        spreads = []
        for turn in range(amount(20, 2)):
            begin = time.monotonic()
            line.turn("relay-3", "on" if turn % 2 else "off")
            waiting = {each.socket.fileno() for each in open_streams}
            while waiting and time.monotonic() < begin + 2:
                for key, _ in selector.select(0.01):
                    key.fileobj.recv(1 << 20)  # type: ignore[union-attr]
                    waiting.discard(key.fd)
            spreads.append(time.monotonic() - begin)
            drain(0.1)
        line.close()
        close()
        worst = max(spreads)
    return [
        Row(
            "event streams, 200 open: median command",
            ours * 1e3,
            "ms",
            bare * 1e3,
            ours / bare,
            "<= 1.3",
            ours / bare <= 1.3,
        ),
        Row(
            "event streams, 200 open: a change reaches all, worst of 20",
            worst * 1e3,
            "ms",
            bar="<= 30",
            holds=worst <= 0.03,
        ),
    ]


def _median_while_reading(product: Server, selector: selectors.BaseSelector) -> float:
    """The median command while another process reads the streams, so that reading costs this one nothing."""
    import os

    child = os.fork()
    if child == 0:  # the reader: it ends when its parent kills it
        try:
            while True:
                for key, _ in selector.select(1):
                    key.fileobj.recv(1 << 20)  # type: ignore[union-attr]
        finally:
            os._exit(0)
    try:
        return product.median(300)
    finally:
        os.kill(child, 9)
        os.waitpid(child, 0)
