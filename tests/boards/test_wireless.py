"""A board with our firmware behind a real broker, as one with a radio is: the firmware's portable part as a program with a broker's transport."""

from __future__ import annotations

import os
import signal
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import paho.mqtt.client as mqtt
import pytest
from paho.mqtt.enums import CallbackAPIVersion, MQTTProtocolVersion

from cairnwind.folder import put
from tests.boards import emulated
from tests.conftest import Running, cairnwind, eventually
from tests.mosquitto import Mosquitto

PUMP, LAMP, FLOAT, LEVEL = 16, 28, 20, 3
SITE = f"""
site = "Pond"
timezone = "UTC"
[remote.broker]
address = "mqtt://127.0.0.1:BROKER"
user = "house"
secret = "broker-password"
[board.pump-house]
link = "wireless"
watchdog = "1500 ms"
[output]
pump = {{ kind = "motor", pin = "pump-house:line-{PUMP}", rearm = "auto" }}
lamp = {{ kind = "fan", pin = "pump-house:line-{LAMP}", frequency = "800 Hz" }}
[input]
float = {{ kind = "contact", pin = "pump-house:line-{FLOAT}", pull = "up", words = ["down", "up"] }}
depth = {{ kind = "analogue", pin = "pump-house:line-{LEVEL}", unit = "V" }}
[[interlock]]
name = "not dry"
needs = "float is up"
outputs = ["pump"]
"""


@pytest.fixture
def broker(tmp_path: Path) -> Iterator[Mosquitto]:
    found = Mosquitto(tmp_path)
    yield found
    found.stop()


class Board(emulated.Board):
    """The program, whose pins are told as they move."""

    def __init__(self, broker: Mosquitto, name: str = "pump-house") -> None:
        os.environ["BOARD_PASSWORD"] = "secret word"
        self.port = ""
        super().__init__(emulated.build("wireless"), name, "127.0.0.1", broker.port, "house", word="topic")

    def shown(self, number: int) -> int:
        """What it is at, 0 to 65535."""
        return next((int(value) for _, pin, value in reversed(self.of("pin")) if int(pin) == number), 0)


@pytest.fixture
def pond(broker: Mosquitto, tmp_path: Path) -> Iterator[tuple[Board, Running]]:
    board = Board(broker)
    board.tell(f"level {FLOAT} 1")
    (tmp_path / "state").mkdir(mode=0o700)
    put(tmp_path / "state" / "secret-broker-password", b"secret word")
    running = Running(tmp_path, SITE.replace("BROKER", str(broker.port)))
    eventually(lambda: running.site.boards()[0]["up"], within=10)
    yield board, running
    running.end()
    board.end()


def test_all_that_a_wired_one_has(pond: tuple[Board, Running]) -> None:
    board, running = pond
    site = running.site
    eventually(
        lambda: (
            site.rules()[0]["boards"]
            == [{"board": "pump-house", "outputs": ["pump"], "in_force": True, "why_not": ""}]
        )
    )
    outcome = site.turn("pump", "on")
    assert "read back by board pump-house" in outcome.text
    assert board.shown(PUMP) == 65535
    site.turn("lamp", "25 %")
    assert board.shown(LAMP) == pytest.approx(16384, abs=20)
    board.tell(f"analogue {LEVEL} 512")
    eventually(lambda: abs((site.input("depth")["value"] or 0) - 2.5) < 0.02)
    board.tell(f"level {FLOAT} 0")
    eventually(lambda: board.shown(PUMP) == 0)
    site.turn("lamp", "on", lasting="400 ms")
    eventually(lambda: board.shown(LAMP) == 0)
    assert "pump-house" in running.cli("pins", "pump-house").stdout


def test_hung_gone_and_cut_off(pond: tuple[Board, Running], broker: Mosquitto) -> None:
    """Nothing is on by a host that hangs, by a board that is gone, or without the broker; all of it is back without help."""
    board, running = pond
    site = running.site
    site.turn("pump", "on")
    assert board.shown(PUMP) == 65535
    beat = running.service.machine.fresh
    running.service.machine.fresh = lambda: False  # type: ignore[method-assign]  # its engine hangs, and it goes on talking
    for link in running.service.machine.links.values():
        link.fresh = lambda: False  # type: ignore[attr-defined]
    eventually(lambda: board.shown(PUMP) == 0)
    running.service.machine.fresh = beat  # type: ignore[method-assign]
    for link in running.service.machine.links.values():
        link.fresh = beat  # type: ignore[attr-defined]
    eventually(lambda: board.shown(PUMP) == 65535, within=8)
    broker.stop()
    eventually(lambda: board.shown(PUMP) == 0)
    eventually(lambda: not site.boards()[0]["up"])
    broker.start()
    eventually(lambda: site.boards()[0]["up"], within=20)
    eventually(lambda: board.shown(PUMP) == 65535, within=8)
    board.process.send_signal(signal.SIGSTOP)
    eventually(lambda: not site.boards()[0]["up"])
    board.process.send_signal(signal.SIGCONT)
    eventually(lambda: site.boards()[0]["up"], within=20)
    board.process.send_signal(signal.SIGKILL)
    began = time.monotonic()
    eventually(lambda: "it has gone" in site.boards()[0]["reason"] or not site.boards()[0]["up"])
    print(f"its last will told it {time.monotonic() - began:.2f} s after it was killed")


def test_what_is_late_left_there_or_nobodys_is_not_done(
    pond: tuple[Board, Running], broker: Mosquitto
) -> None:
    board, running = pond
    before = len(board.of("pin"))
    other = mqtt.Client(CallbackAPIVersion.VERSION2, "other", protocol=MQTTProtocolVersion.MQTTv5)
    other.username_pw_set("house", "secret word")
    other.connect("127.0.0.1", broker.port)
    other.loop_start()
    pump_on = bytes.fromhex("0001" + "01050010ff008dff")
    heard: list[Any] = []
    other.on_message = lambda client, data, message: heard.append(message.payload)
    other.subscribe("cairnwind/boards/pump-house/answer")
    for payload in (b"", b"\x00", pump_on[:-1], pump_on[:-1] + b"\x00", b"\x00\x01" + bytes(300)):
        other.publish("cairnwind/boards/pump-house/ask", payload).wait_for_publish(2)
    other.publish("cairnwind/boards/pump-house/ask", pump_on, retain=True).wait_for_publish(2)
    board.tell("reset")  # it comes back, and finds what was left there
    eventually(lambda: running.site.boards()[0]["up"], within=10)
    time.sleep(0.5)
    assert [said for said in board.of("pin")[before:] if int(said[1]) == PUMP and said[2] != "0"] in (
        [],
        [["pin", str(PUMP), "65535"]],
    )
    other.publish("cairnwind/boards/pump-house/ask", b"", retain=True).wait_for_publish(2)
    other.loop_stop()


def test_the_kind_is_checked(tmp_path: Path) -> None:
    path = tmp_path / "pond.toml"
    path.write_text(SITE.replace("BROKER", "1883").replace("line-28", "line-24"))
    said = cairnwind("check", str(path))
    assert "line-24" in said.stdout + said.stderr
    path.write_text(SITE.split("[remote.broker]")[0] + '[board.pump-house]\nlink = "wireless"\n')
    assert "broker" in cairnwind("check", str(path)).stderr
