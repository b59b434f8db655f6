"""Rows of a stop under attack at the doors that are not HTTP's or the broker's: seconds from the stop that was sent to the pin."""

from __future__ import annotations

import contextlib
import json
import os
import socket
import ssl
import struct
import subprocess
import sys
import tempfile
import time
import tty
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

from pythonosc.osc_message_builder import OscMessageBuilder

from bench.client import Server
from bench.siege import BAR, HANGS, HEAD, hung, off, put
from bench.table import Row, amount, measures

SITE = """
site = "Wide"
{service}

[board.rack]
link = "simulated"
lines = 16
""" + "".join(
    f'\n[output.relay-{number}]\nkind = "relay"\npin = "rack:line-{number}"\n' for number in range(10)
)
REMOTES = """
[remote.modbus]
listen = "127.0.0.1:{modbus}"
clients = {{ "127.0.0.1" = "measure" }}

[remote.line.bench]
port = "{line}"
key = "measure"

[remote.surface]
listen = "127.0.0.1:{surface}"
senders = {{ "127.0.0.0/8" = "measure" }}
"""
AT_MODBUS = """
import socket, struct, sys, threading
def flood(port):
    while True:
        try:
            with socket.create_connection(("127.0.0.1", port)) as line:
                number = 0
                while True:
                    number = (number + 1) % 60000
                    line.sendall(struct.pack(">HHHBBHH", number, 0, 6, 1, 5, number % 5, 0xFF00 * (number % 2)))
                    line.setblocking(False)
                    try:
                        line.recv(65536)
                    except BlockingIOError:
                        pass
                    line.setblocking(True)
        except OSError:
            pass
for _ in range(8):
    threading.Thread(target=flood, args=(int(sys.argv[1]),), daemon=True).start()
threading.Event().wait()
"""
AT_SURFACE = """
import socket, sys
from pythonosc.osc_message_builder import OscMessageBuilder
packets = []
for number in range(20):
    built = OscMessageBuilder(f"/out/relay-{number % 5}")
    built.add_arg(float(number % 2))
    packets.append(built.build().dgram)
line = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
while True:
    for packet in packets:
        line.sendto(packet, ("127.0.0.1", int(sys.argv[1])))
"""
"""Whoever sends as fast as it can, and does not look at answers."""


@contextlib.contextmanager
def flooded(program: str, port: int) -> Iterator[None]:
    """While two of them send."""
    floods = [subprocess.Popen([sys.executable, "-c", program, str(port)]) for _ in range(2)]
    time.sleep(amount(2.0, 0.5))
    try:
        yield
    finally:
        for each in floods:
            each.kill()
            each.wait()


def free() -> int:
    """A port."""
    with socket.create_server(("127.0.0.1", 0)) as found:
        return int(found.getsockname()[1])


def worst(product: Server, ready: Callable[[str, str], None], stop: Callable[[], None]) -> float:
    """Milliseconds from a stop to the pin of relay 7, the worst of some; a minute if it was not off in five seconds."""
    found = 0.0
    for _ in range(amount(10, 1)):
        ready("DELETE", "/api/v1/all-stop")
        ready("POST", "relay-7")
        time.sleep(0.1)
        product.ask("pins")
        begun = time.monotonic_ns()
        stop()
        found = max(found, off(product, begun))
    return found


@measures("stop under attack at other doors")
def doors() -> list[Row]:
    """An all-stop by Modbus, a serial line, a control surface and HTTP with TLS, each under its own attack."""
    rows: list[Row] = []

    def row(what: str, value: float) -> None:
        rows.append(Row(what, value, "ms", bar=f"<= {BAR:g}", holds=value <= BAR))

    mine, theirs = os.openpty()
    tty.setraw(mine)
    tty.setraw(theirs)
    os.set_blocking(mine, False)
    modbus, surface = free(), free()
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "site.toml"
        path.write_text(
            SITE.format(service="") + REMOTES.format(modbus=modbus, surface=surface, line=os.ttyname(theirs))
        )
        with Server("doors", str(path)) as product:

            def ready(method: str, what: str) -> None:
                line = product.connect()
                if method == "POST":
                    line.turn(what, "on")
                else:
                    put(line, method, what, None)
                    line.answer()
                line.close()

            with flooded(AT_MODBUS, modbus):
                row(
                    "all-stop at Modbus, under a flood of writes by 16 others",
                    worst(product, ready, lambda: at_modbus(modbus)),
                )
            with flooded(AT_SURFACE, surface):
                row(
                    "all-stop at a control surface, under a flood of messages",
                    worst(product, ready, lambda: at_surface(surface)),
                )
            row(
                "all-stop at a serial line, behind 200 commands of its own",
                worst(product, ready, lambda: at_line(mine)),
            )

            def stopped(stop: Callable[[], None]) -> int:
                begun = time.monotonic_ns()
                stop()
                return begun

            def wanted() -> None:
                ready("DELETE", "/api/v1/all-stop")
                ready("POST", "relay-7")

            for what, stop in (
                ("Modbus", lambda: at_modbus(modbus)),
                ("a control surface", lambda: at_surface(surface)),
                ("a serial line", lambda: at_line(mine, before=0)),
            ):
                begin = partial(stopped, stop)
                row(f"all-stop at {what}, while the disk hangs for {HANGS} s", hung(product, wanted, begin))
        path.write_text(SITE.format(service='[service]\ntls = "self-made"\n'))
        with Server("doors", str(path)) as product:
            row_tls(product, row)
    return rows


def at_modbus(port: int) -> None:
    """An all-stop by a client that comes anew."""
    with socket.create_connection(("127.0.0.1", port), timeout=5) as line:
        line.sendall(struct.pack(">HHHBBHH", 1, 0, 6, 1, 5, 60_000, 0xFF00))
        with contextlib.suppress(OSError):
            line.recv(64)


def at_surface(port: int) -> None:
    """A button that is pressed once."""
    built = OscMessageBuilder("/stop")
    built.add_arg(1)
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as line:
        line.sendto(built.build().dgram, ("127.0.0.1", port))


def at_line(line: int, before: int = 200) -> None:
    """A stop, and so many commands that a host has sent before it."""
    calls = [
        ("turn", {"output": f"relay-{number % 10}", "setting": ("on", "40 %")[number % 2]})
        for number in range(before)
    ]
    text = b"".join(
        json.dumps({"jsonrpc": "2.0", "id": number, "method": method, "params": params}).encode() + b"\n"
        for number, (method, params) in enumerate([*calls, ("stop", {"reason": "measured"})])
    )
    while text:
        try:
            text = text[os.write(line, text) :]
        except BlockingIOError:
            hear(line)
    hear(line)


def hear(line: int) -> None:
    """What has come back, which nobody reads."""
    with contextlib.suppress(BlockingIOError):
        while os.read(line, 65536):
            pass


def row_tls(product: Server, row: Callable[[str, float], None]) -> None:
    """The same by HTTP with TLS, while others are silent before, in and after their handshakes."""
    trusting = ssl.create_default_context()
    trusting.check_hostname, trusting.verify_mode = False, ssl.CERT_NONE
    many = amount(500, 20)

    def ask(method: str, path: str, body: object = None) -> None:
        text = b"" if body is None else json.dumps(body).encode()
        head = f"{method} {path} HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer {product.key}\r\nConnection: close\r\n"
        head += f"Content-Type: application/json\r\nContent-Length: {len(text)}\r\n\r\n"
        with (
            socket.create_connection(("127.0.0.1", product.port), timeout=30) as bare,
            trusting.wrap_socket(bare) as line,
        ):
            line.sendall(head.encode() + text)
            while line.recv(65536):
                pass

    def ready(method: str, what: str) -> None:
        ask(
            method,
            "/api/v1/claims" if method == "POST" else what,
            {"output": what, "setting": "on"} if method == "POST" else None,
        )

    for what, said, shaken in (
        ("silent connections", b"", False),
        ("half-sent handshakes", b"\x16\x03\x01\x02\x00\x01", False),
        ("half-sent heads", HEAD, True),
    ):
        here: list[socket.socket] = []
        for _ in range(many):
            one: socket.socket = socket.create_connection(("127.0.0.1", product.port))
            if shaken:
                one = trusting.wrap_socket(one)
            one.sendall(said)
            here.append(one)
        time.sleep(0.3)
        row(
            f"all-stop at HTTP with TLS, {many} {what}",
            worst(product, ready, lambda: ask("PUT", "/api/v1/all-stop", {})),
        )
        for one in here:
            one.close()
