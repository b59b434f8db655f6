"""A whole service that dies or stops, with a small board on a serial line and one behind a broker: both end at rest.

The kernel's lines are in tests/lab/test_ways_out.py; docs/boards.md has the table.
"""

from __future__ import annotations

import signal
import subprocess
import time
from pathlib import Path

import pytest

from cairnwind.boards.mqtt import slug
from cairnwind.client import Site
from cairnwind.demo.network import NetworkBoard
from tests.boards import emulated
from tests.boards.test_broker import wait_for
from tests.conftest import Process, eventually, free_port, spawn

SITE = """
site = "Ways out"
timezone = "UTC"

[remote.broker]
address = "mqtt://127.0.0.1:{broker}"

[board.box]
link = "modbus"
port = "{port}"
watchdog = "600 ms"

[board.yard]
link = "broker"
lines = 3
command = {{ topic = "yard/{{line}}/set", on = "1", off = "0" }}
report = "yard/{{line}}/is"
alive = {{ topic = "yard/alive" }}

[output.hoist]
kind = "relay"
pin = "box:line-16"

[output.pump]
kind = "relay"
pin = "yard:line-1"
"""


@pytest.mark.parametrize("way", [signal.SIGTERM, signal.SIGKILL, signal.SIGSTOP])
def test_boards_rest_by_themselves(way: int, tmp_path: Path) -> None:
    port = free_port()
    conf = tmp_path / "open.conf"
    conf.write_text(f"listener {port} 127.0.0.1\nallow_anonymous true\nuser root\n")
    broker = spawn("mosquitto", "-c", conf, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    wait_for(port)
    yard = NetworkBoard("127.0.0.1", port, "yard", 3, service=f"cairnwind/{slug('Ways out')}/service")
    assert yard.listens.wait(5)
    box = emulated.native()
    file = tmp_path / "site.toml"
    file.write_text(SITE.format(broker=port, port=box.port))
    service = Process(file, tmp_path / "state")
    try:
        site = Site(state=tmp_path / "state")
        for name in ("hoist", "pump"):
            eventually(lambda name=name: site.output(name)["state"] == "confirmed", within=10)
            assert site.turn(name, "on").ending == "confirmed"
        assert box.of("pin")[-1] == ["pin", "16", "65535"]
        assert yard.levels[1] == "1"
        service.process.send_signal(way)
        began = time.monotonic()
        eventually(lambda: box.of("pin")[-1] == ["pin", "16", "0"], within=5)
        if way != signal.SIGTERM:
            assert time.monotonic() - began > 0.3, "not before its watchdog's time"
        eventually(
            lambda: yard.levels[1] == "0", within=15
        )  # a stopped process keeps its connection: the broker's patience
    finally:
        service.process.send_signal(signal.SIGCONT)
        service.kill()
        yard.end()
        box.end()
        broker.kill()
        broker.wait()
