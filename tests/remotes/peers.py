"""What is at the other side of the remotes in tests: real clients of each protocol, and a site that has all ways in."""

from __future__ import annotations

import json
import os
import queue
import re
import socket
import time
import tty
from pathlib import Path
from typing import Any, NamedTuple

import paho.mqtt.client as mqtt
from paho.mqtt.enums import CallbackAPIVersion, MQTTProtocolVersion
from paho.mqtt.packettypes import PacketTypes
from paho.mqtt.properties import Properties
from pymodbus.client import ModbusTcpClient
from pythonosc.osc_message_builder import OscMessageBuilder
from pythonosc.osc_packet import OscPacket

from cairnwind.boards.mqtt import no_delay
from cairnwind.client import Site
from cairnwind.core.values.errors import Trouble
from tests.conftest import Running, eventually, free_port
from tests.mosquitto import Mosquitto

WIRED = """
site = "Test bench"
timezone = "Europe/London"

[board.near]
link = "simulated"
lines = 16

[board.far]
link = "modbus"
port = "127.0.0.1:9"

[output.vent]
kind = "relay"
pin = "near:line-0"

[output.kiln]
kind = "relay"
pin = "near:line-1"

[output.gallery]
kind = "lamp"
pin = "near:line-2"
frequency = "800 Hz"

[output.yard]
kind = "lamp"
pin = "near:line-3"

[output.shed]
kind = "relay"
pin = "far:line-16"

[output.bell]
kind = "sounder"
pin = "near:line-4"

[output.left]
kind = "motor"
pin = "near:line-5"
frequency = "400 Hz"
reverse = { direction = "near:line-6" }

[output.right]
kind = "motor"
pin = "near:line-7"
frequency = "400 Hz"
reverse = { direction = "near:line-8" }

[pad.trolley]
left = "left"
right = "right"

[pad.hoist]
zones = { up = "vent", down = "yard" }

[input.door]
kind = "contact"
pin = "near:line-9"

[input.warmth]
kind = "analogue"
pin = "near:line-10"
unit = "C"
scale = [["0 V", 0], ["1 V", 100]]

[group.lamps]
outputs = ["gallery", "yard"]

[scene.evening]
do = ["turn gallery to 40 %", "turn yard on"]

[[interlock]]
name = "no fire without draught"
needs = "vent is on"
outputs = ["kiln"]

[[alarm]]
name = "too warm"
when = "warmth is above 200 C"
severity = "warning"
"""


class Answer(NamedTuple):
    """What a surface was told, in its own way."""

    outcome: str
    reason: str


class Broker:
    """A phone at the broker."""

    def __init__(
        self, port: int, user: str = "phone", word: str = "phone word", *, version: str = "5"
    ) -> None:
        protocol = MQTTProtocolVersion.MQTTv5 if version == "5" else MQTTProtocolVersion.MQTTv311
        self.client: Any = mqtt.Client(CallbackAPIVersion.VERSION2, protocol=protocol)
        self.client.username_pw_set(user, word)
        self.came: queue.SimpleQueue[Any] = queue.SimpleQueue()
        self.kept: dict[str, Any] = {}
        self.client.on_message = self._message
        self.client.on_connect = lambda client, *_: client.subscribe(
            [("cairnwind/test-bench/#", 1), ("back/#", 1)]
        )
        self.ready = False
        self.client.on_subscribe = lambda *_: setattr(self, "ready", True)
        self.client.on_socket_open = lambda client, data, sock: no_delay(sock)
        self.client.connect("127.0.0.1", port)
        self.client.loop_start()
        eventually(lambda: self.ready)

    def _message(self, client: Any, data: Any, message: Any) -> None:
        try:
            form = json.loads(message.payload) if message.payload else None
        except ValueError:
            form = message.payload.decode()
        self.kept[message.topic.removeprefix("cairnwind/test-bench/")] = form
        self.came.put((message, form))

    def send(self, topic: str, payload: str, *, retain: bool = False, **properties: Any) -> None:
        given = Properties(PacketTypes.PUBLISH) if properties else None
        for name, value in properties.items():
            setattr(given, name, value)
        self.client.publish(f"cairnwind/test-bench/{topic}", payload, qos=1, retain=retain, properties=given)

    def wait(self, topic: str, true: Any = lambda form: True) -> Any:
        """The next message on a topic of which this is true."""
        end = time.monotonic() + 8
        while True:
            message, form = self.came.get(timeout=max(0.01, end - time.monotonic()))
            if message.topic == topic or message.topic == f"cairnwind/test-bench/{topic}":
                if true(form):
                    return form

    def end(self) -> None:
        self.client.disconnect()
        self.client.loop_stop()


class Host:
    """A host at the other end of a serial line, which is a pseudo-terminal."""

    def __init__(self) -> None:
        self.mine, self.theirs = os.openpty()
        tty.setraw(self.mine)
        tty.setraw(self.theirs)
        self.port = os.ttyname(self.theirs)
        self._waiting = b""
        self._id = 0
        os.set_blocking(self.mine, False)

    def write(self, raw: bytes) -> None:
        while raw:
            try:
                raw = raw[os.write(self.mine, raw) :]
            except BlockingIOError:
                time.sleep(0.002)

    def lines(self, seconds: float = 5.0) -> Any:
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            try:
                self._waiting += os.read(self.mine, 65536)
            except BlockingIOError:
                time.sleep(0.005)
            while b"\n" in self._waiting:
                line, _, self._waiting = self._waiting.partition(b"\n")
                yield json.loads(line)

    def call(self, method: str, within: float = 5.0, /, **params: Any) -> dict[str, Any]:
        self._id += 1
        self.write(
            json.dumps({"jsonrpc": "2.0", "id": self._id, "method": method, "params": params}).encode()
            + b"\n"
        )
        return next(form for form in self.lines(within) if form.get("id") == self._id)


class Surface:
    """A phone with faders."""

    def __init__(self, port: int) -> None:
        self.socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.socket.bind(("127.0.0.1", 0))
        self.socket.settimeout(0.05)
        self.port = port
        self.said: list[tuple[str, list[Any]]] = []

    def send(self, address: str, *values: Any) -> None:
        builder = OscMessageBuilder(address)
        for value in values:
            builder.add_arg(value)
        self.socket.sendto(builder.build().dgram, ("127.0.0.1", self.port))

    def hear(self, seconds: float = 0.2) -> list[tuple[str, list[Any]]]:
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            try:
                packet, _ = self.socket.recvfrom(4096)
            except TimeoutError:
                continue
            self.said += [
                (each.message.address, list(each.message.params)) for each in OscPacket(packet).messages
            ]
        return self.said


def every_way(broker: int, modbus: int, line: str, surface: int) -> str:
    """The part of a site file that lets people in by each remote."""
    return f"""
[remote.broker]
address = "mqtt://127.0.0.1:{broker}"
user = "house"
secret = "broker"
key = "hands"
at_most_every = "50 ms"

[remote.modbus]
listen = "127.0.0.1:{modbus}"
clients = {{ "127.0.0.1" = "hands" }}

[remote.line.bench]
port = "{line}"
key = "hands"

[remote.surface]
listen = "127.0.0.1:{surface}"
senders = {{ "127.0.0.0/8" = "hands" }}
"""


class Ways:
    """A service with every way in, and somebody at each."""

    def __init__(self, folder: Path) -> None:
        self.mosquitto = Mosquitto(folder)
        self.host = Host()
        self.modbus_port, surface_port = free_port(), free_port()
        remotes = every_way(self.mosquitto.port, self.modbus_port, self.host.port, surface_port)
        (folder / "state").mkdir()
        secret = folder / "state" / "secret-broker"
        secret.write_text("secret word")
        secret.chmod(0o600)
        self.running = Running(folder, WIRED + remotes)
        site = self.running.site
        eventually(lambda: [board["up"] for board in site.boards()] == [True, False])
        key = site.new_key("hands", "operate", only=["vent", "kiln", "gallery", "shed", "bell"])
        self.client = Site(self.running.url, key)
        self.key = key
        self.broker = Broker(self.mosquitto.port)
        eventually(lambda: self.broker.kept.get("service") == "here")
        self.plc: Any = ModbusTcpClient("127.0.0.1", port=self.modbus_port, timeout=5)
        assert self.plc.connect()
        self.surface = Surface(surface_port)
        self.surface.send("/tell", 60)
        self.surface.hear(0.3)
        self.coil = {
            row["name"]: int(row["address"].split()[1])
            for row in site.remote_map("modbus")
            if row["address"].startswith("coil") and row["name"]
        }

    def end(self) -> None:
        self.broker.end()
        self.plc.close()
        if self.running.service.runtime.alive:
            self.running.end()
        self.mosquitto.stop()

    # --- one command, by each surface, and what it is told ------------------------------------------------------

    def by_http(self, output: str, setting: str) -> Answer:
        answer = self.running.http(
            "POST", "/api/v1/claims", key=self.key, json={"output": output, "setting": setting}
        ).json()
        return Answer(answer.get("outcome", "refused"), answer.get("reason", answer.get("detail", "")))

    def by_client(self, output: str, setting: str) -> Answer:
        try:
            found = self.client.turn(output, setting)
        except Trouble as error:
            return Answer("unreachable" if error.code == "unreachable" else "refused", error.sentence)
        return Answer(found.outcome, found.reason)

    def by_cli(self, output: str, setting: str) -> Answer:
        done = self.running.cli(
            "--address", self.running.url, "turn", output, setting, "--json", env={"CAIRNWIND_KEY": self.key}
        )
        if done.returncode == 0:
            form = json.loads(done.stdout)
            return Answer(form["outcome"], form["reason"])
        return Answer("unreachable" if done.returncode == 6 else "refused", done.stderr)

    def by_phrase(self, output: str, setting: str) -> Answer:
        said = f"turn {output} {'to ' if setting[0].isdigit() else ''}{setting}"
        answer = self.running.http("POST", "/api/v1/phrases", key=self.key, json={"phrase": said}).json()
        assert answer["say"], answer
        part = answer.get("parts", [answer])[0] if answer.get("outcome") else answer
        return Answer(part.get("outcome", "refused"), part.get("reason", answer.get("detail", "")))

    def by_broker(self, output: str, setting: str) -> Answer:
        mark = str(time.monotonic_ns())
        self.broker.send(f"out/{output}/want", json.dumps({"setting": setting, "id": mark}))
        form = self.broker.wait(
            f"out/{output}/outcome", lambda form: form["id"] == mark and "outcome" in form
        )
        return Answer(form["outcome"], form["reason"])

    def by_line(self, output: str, setting: str) -> Answer:
        answer = self.host.call("turn", output=output, setting=setting)
        form = answer.get("result") or answer["error"]["data"]
        return Answer(form["outcome"], form["reason"])

    def by_modbus(self, output: str, setting: str) -> Answer:
        at = self.coil.get(output, 999)
        if setting in ("on", "off"):
            done = self.plc.write_coil(at, setting == "on")
        else:
            done = self.plc.write_register(at, round(float(setting.rstrip(" %")) * 10))
        if not done.isError():
            return Answer("driving", "")
        (said,) = [frame["text"] for frame in self.running.site.remote_traffic("modbus")["frames"]][-1:]
        assert re.match(rf"exception {done.exception_code}: ", said)
        return Answer("unreachable" if done.exception_code == 11 else "refused", said)

    def by_surface(self, output: str, setting: str) -> Answer:
        """A surface is not answered; one that asked to be told hears of refusals."""
        self.surface.said.clear()
        share = {"on": 1.0, "off": 0.0}.get(setting)
        self.surface.send(f"/out/{output}", float(setting.rstrip(" %")) / 100 if share is None else share)
        for address, values in self.surface.hear(0.4):
            if address == "/refused":
                return Answer("unreachable" if "does not answer" in values[1] else "refused", values[1])
        return Answer("driving", "")
