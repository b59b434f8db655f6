"""A whole service on a real kernel: what becomes of its pins, whichever way it goes (docs/boards.md, 'Ways out')."""

from __future__ import annotations

import re
import signal
import time
from pathlib import Path
from typing import Any

import pytest

from cairnwind.client import Site
from cairnwind.core.facts import events as ev
from cairnwind.service.startup import clock
from cairnwind.site import read_site
from tests.conftest import Process, Running, cairnwind, eventually
from tests.lab.conftest import World

SITE = """
site = "Lab"
timezone = "UTC"

[board.host]
link = "kernel"
chip = "sim0"
lines = 32

[output.low]
kind = "relay"
pin = "host:line-0"
sense = "active-low"

[output.high]
kind = "relay"
pin = "host:line-1"

[input.button]
kind = "contact"
pin = "host:line-4"
pull = "up"
sense = "active-low"
words = ["released", "pressed"]
debounce = "10 ms"
"""
ON, REST = (0, 1), (1, 0)


@pytest.fixture
def pins(world: World) -> Any:
    world.pull(0, True)  # as the maker's resistor does while nobody drives the line
    world.pull(1, False)
    return lambda: (world.value(0), world.value(1))


def both_on(site: Site) -> None:
    assert site.turn("low", "on", wait="5 s").ending == "confirmed"
    assert site.turn("high", "on", wait="5 s").ending == "confirmed"


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGINT, signal.SIGKILL])
def test_signals(number: int, tmp_path: Path, pins: Any, world: World) -> None:
    file = tmp_path / "site.toml"
    file.write_text(SITE)
    process = Process(file, tmp_path / "state")
    site = Site(state=tmp_path / "state", timeout=20)
    both_on(site)
    assert pins() == ON
    if number == signal.SIGTERM:
        looks(tmp_path, world)
    process.process.send_signal(number)
    eventually(lambda: pins() == REST, within=10)
    process.process.communicate(timeout=20)
    assert pins() == REST


def looks(tmp_path: Path, world: World) -> None:
    """The command line on a real board."""
    state = ("--state", str(tmp_path / "state"))
    listed = cairnwind(*state, "pins", "host").stdout
    assert "line-22" in listed
    assert "lamp0" in listed, "the kernel's own name of a free line"
    tried = cairnwind(*state, "try", "host:line-22", "output", "high", "--once").stdout
    assert "reads high" in tried
    assert world.value(22) == 0, "let go"
    told = cairnwind("doctor", str(tmp_path / "site.toml"))
    assert "sim0" in told.stdout, told


def test_engine_hung_engine_dead_link_crashed(tmp_path: Path, pins: Any) -> None:
    running = Running(tmp_path, SITE)
    both_on(running.site)
    assert pins() == ON
    link: Any = running.service.machine.links["host"]

    poll = link.poll
    link.poll = lambda seconds: 1 / 0
    eventually(lambda: "ZeroDivisionError" in running.site.boards()[0]["reason"], within=10)
    assert pins() == REST, "a link's thread that fails takes its outputs to safe on the way"
    link.poll = poll
    eventually(lambda: running.site.boards()[0]["up"], within=10)
    eventually(
        lambda: pins() == ON, within=10
    )  # the claims are still there, and these outputs re-arm by themselves

    handle = running.service.machine.engine.handle
    running.service.machine.engine.handle = lambda event: time.sleep(6) or handle(event)  # type: ignore[func-returns-value]
    running.service.machine.report(ev.Tick(clock()))
    began = time.monotonic()
    eventually(lambda: pins() == REST, within=5)
    print(f"hung engine: safe after {time.monotonic() - began:.2f} s")
    running.service.machine.engine.handle = handle
    eventually(lambda: pins() == ON, within=20)

    def die(event: Any) -> Any:
        raise RuntimeError("made to fail")

    running.service.machine.engine.handle = die
    eventually(lambda: pins() == REST, within=15)
    assert not running.service.runtime.alive
    running.service.stop()
    assert pins() == REST


def test_a_first_file_has_what_the_kernel_has(tmp_path: Path) -> None:
    path = tmp_path / "site.toml"
    said = cairnwind("new", str(path), "--name", "Lab", "--timezone", "UTC")
    assert re.search(r"sim0 +GPIO chip /dev/gpiochip\d, 32 lines", said.stdout), said.stderr
    assert "address 0x20: taken for ports-16" in said.stdout
    text = path.read_text("utf-8")
    assert '# pwm = "0-0040"  # PWM, 17 channels, now pwmchip0' in text
    assert {"sim0", "chip-0-0040", "relays"} <= read_site(path).boards.keys()
