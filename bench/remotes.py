"""Rows of remotes: a command by the broker, to the pin and to its outcome, against a bare round trip through the same broker."""

from __future__ import annotations

import contextlib
import os
import queue
import socket
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from bench.client import Server
from bench.siege import BAR, HANGS, hung, off, put
from bench.table import Row, amount, measures
from cairnwind.boards.mqtt import no_delay

ROUNDS, EACH = amount(5, 1), amount(60, 20)
PAUSE = 0.005
"""Seconds between two commands: what follows the one is over before the next, and both sides wake from the same rest."""


class Phone:
    """A client at the broker that notes when messages come."""

    def __init__(self, port: int, topics: str) -> None:
        import paho.mqtt.client as mqtt
        from paho.mqtt.enums import CallbackAPIVersion, MQTTProtocolVersion

        self.came: queue.SimpleQueue[tuple[int, str, bytes]] = queue.SimpleQueue()
        self.client: Any = mqtt.Client(CallbackAPIVersion.VERSION2, protocol=MQTTProtocolVersion.MQTTv5)
        self.client.on_message = lambda client, data, message: self.came.put(
            (time.monotonic_ns(), message.topic, message.payload)
        )
        ready: queue.SimpleQueue[bool] = queue.SimpleQueue()
        self.client.on_subscribe = lambda *_: ready.put(True)
        self.client.on_socket_open = lambda client, data, sock: no_delay(sock)
        self.client.connect("127.0.0.1", port)
        self.client.loop_start()
        self.client.subscribe(topics, 1)
        ready.get(timeout=5)

    def send(self, topic: str, payload: str) -> int:
        """Publish; when that was."""
        at = time.monotonic_ns()
        self.client.publish(topic, payload, qos=1)
        return at

    def end(self) -> None:
        """Go."""
        self.client.disconnect()
        self.client.loop_stop()


@contextlib.contextmanager
def a_broker() -> Iterator[int]:
    """A real message broker that lets anybody in; its port."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "open.conf"
        file.write_text(f"listener {port} 127.0.0.1\nallow_anonymous true\nuser root\nset_tcp_nodelay true\n")
        path = os.environ["PATH"] + ":/usr/sbin:/sbin"
        process = subprocess.Popen(
            ["mosquitto", "-c", file], env={**os.environ, "PATH": path}, stderr=subprocess.DEVNULL
        )
        try:
            time.sleep(1)
            yield port
        finally:
            process.kill()
            process.wait()


@measures("broker command")
def broker() -> list[Row]:
    """Broker ``want`` to pin, and to outcome, one at a time, medians."""
    with a_broker() as port, Server("product", "10", str(port)) as product, Server("bare", str(port)) as bare:
        return _measured(product, bare, port)


FLOOD = """
import sys, time
import paho.mqtt.client as mqtt
from paho.mqtt.enums import CallbackAPIVersion
client = mqtt.Client(CallbackAPIVersion.VERSION2)
client.connect("127.0.0.1", int(sys.argv[1]))
client.loop_start()
number = 0
while True:
    number += 1
    client.publish(f"cairnwind/wide/out/relay-{number % 3}/want", sys.argv[2] if number % 2 else "on", qos=int(sys.argv[3]))
    if number % 200 == 0:
        while client._out_messages and len(client._out_messages) > 400:
            time.sleep(0.001)
"""
"""Whoever sends commands as fast as the broker takes them."""


@measures("stop under attack at the broker")
def flooded() -> list[Row]:
    """An all-stop, and an off, by the broker, while two others flood it with commands."""
    rows = []

    def ready() -> None:
        line = product.connect()
        put(line, "DELETE", "/api/v1/all-stop", None)
        line.answer()
        line.turn("relay-7", "on")
        line.close()

    for said, qos in (("40 %", "0"), ("40 %", "1"), ("off", "0")):
        with a_broker() as port, Server("product", "10", str(port)) as product:
            phone = Phone(port, "cairnwind/+/all-stop/now")
            time.sleep(0.5)
            command = [sys.executable, "-c", FLOOD, str(port), said, qos]
            floods = [subprocess.Popen(command) for _ in range(2)]
            try:
                time.sleep(amount(3.0, 0.5))
                for what, topic, payload in (
                    ("all-stop", "all-stop/want", "stop"),
                    ("off", "out/relay-7/off", ""),
                ):
                    worst = 0.0
                    for _ in range(amount(10, 1)):
                        ready()
                        time.sleep(0.1)
                        product.ask("pins")
                        begun = phone.send(f"cairnwind/wide/{topic}", payload)
                        worst = max(worst, off(product, begun))
                    label = f"{what} at the broker, under a flood of '{said}', QoS {qos}"
                    rows.append(Row(label, worst, "ms", bar=f"<= {BAR:g}", holds=worst <= BAR))
            finally:
                for each in floods:
                    each.kill()
                    each.wait()
                phone.end()
    with a_broker() as port, Server("product", "10", str(port)) as product:
        phone = Phone(port, "cairnwind/+/all-stop/now")
        time.sleep(0.5)
        worst = hung(product, ready, lambda: phone.send("cairnwind/wide/all-stop/want", "stop"))
        label = f"all-stop at the broker, while the disk hangs for {HANGS} s"
        rows.append(Row(label, worst, "ms", bar=f"<= {BAR:g}", holds=worst <= BAR))
        phone.end()
    return rows


def _measured(product: Server, bare: Server, port: int) -> list[Row]:
    phone, plain = Phone(port, "cairnwind/+/out/+/outcome"), Phone(port, "bare/pong")
    time.sleep(1)
    there: list[float] = []
    back: list[float] = []
    pins: list[float] = []
    outcomes: list[float] = []
    for _ in range(ROUNDS):
        bare.ask("pins")
        sent = []
        for _ in range(EACH):
            sent.append(plain.send("bare/ping", "on"))
            back.append((plain.came.get(timeout=5)[0] - sent[-1]) / 1e6)
            time.sleep(PAUSE)
        there += [(at - begun) / 1e6 for at, begun in zip(bare.ask("pins")["seen"], sent, strict=True)]
        product.ask("pins")
        sent = []
        for turn in range(EACH):
            sent.append(
                phone.send(f"cairnwind/wide/out/relay-{turn % 10}/want", "on" if turn // 10 % 2 else "off")
            )
            while b'"outcome"' not in (message := phone.came.get(timeout=5))[2]:
                pass  # what became of the one before
            outcomes.append((message[0] - sent[-1]) / 1e6)
            time.sleep(PAUSE)
        moved = [at for at, _, _ in product.ask("pins")["seen"]]
        for begun in sent:
            after = [at for at in moved if at >= begun]
            if after and min(after) - begun < 10**9:
                pins.append((min(after) - begun) / 1e6)
    phone.end()
    plain.end()
    found = [statistics.median(each) for each in (pins, there, outcomes, back)]
    return [
        Row("broker want to pin", found[0], "ms", found[1], found[0] / found[1], "<= 1.5", found[0] / found[1] <= 1.5),
        Row("broker want to outcome", found[2], "ms", found[3], found[2] / found[3], "<= 2", found[2] / found[3] <= 2),
    ]  # fmt: skip
