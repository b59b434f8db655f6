"""Boards that are enabled by a line of the kernel: what that line is at, whichever way it goes, while the chip behind it goes on as it is."""

from __future__ import annotations

import os
import re
import signal
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from cairnwind.boards import gpio, twowire
from cairnwind.boards.links.expander import ExpanderLink
from cairnwind.client import Site
from cairnwind.core.facts import events as ev
from cairnwind.core.values.errors import BoardError
from cairnwind.service.startup import clock
from tests.conftest import Process, Running, cairnwind, eventually
from tests.lab.conftest import CHIP, World

BUS = os.environ.get("I2C_STUB_DEV", "")
ENABLE = 6
SITE = f"""
site = "Lab"
timezone = "UTC"

[board.host]
link = "kernel"
chip = "sim0"
lines = 32

[board.chain]
link = "expander"
chip = "ports-16"
bus = "{BUS}"
enable = {{ pin = "host:line-{ENABLE}", sense = "active-low" }}

[output.behind]
kind = "relay"
pin = "chain:line-0"

[output.beside]
kind = "relay"
pin = "host:line-1"

[[interlock]]
name = "one of the two"
excludes = ["behind", "beside"]
gap = "100 ms"
"""
SUPPLY = SITE.replace('sense = "active-low"', 'sense = "active-low", switches = "supply", after = "300 ms"')


@pytest.fixture
def stub() -> Iterator[twowire.KernelBus]:
    bus = twowire.KernelBus(BUS, 0x20)
    bus.write(0x14, b"\xff\xff")  # as a service before this one left it
    yield bus
    bus.write(0x14, b"\x00\x00")


def enabled(world: World) -> bool:
    return world.value(ENABLE) == 0


def on(stub: twowire.KernelBus) -> bool:
    return bool(stub.read(0x14, 2)[0] & 1)


@pytest.fixture(autouse=True)
def held(world: World) -> Iterator[None]:
    world.pull(ENABLE, True)  # the resistor, while nobody has the line
    yield
    for line in (ENABLE, ENABLE + 1):
        world.pull(line, False)


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGKILL, signal.SIGSTOP])
def test_however_the_service_ends(number: int, tmp_path: Path, world: World, stub: twowire.KernelBus) -> None:
    file = tmp_path / "site.toml"
    file.write_text(SITE)
    assert not enabled(world)
    process = Process(file, tmp_path / "state")
    site = Site(state=tmp_path / "state", timeout=20)
    assert site.turn("behind", "on", wait="10 s").ending == "confirmed"
    assert enabled(world)
    assert on(stub)
    refused = cairnwind(
        "--state", str(tmp_path / "state"), "try", f"host:line-{ENABLE}", "output", "high", "--once"
    )
    assert "board chain" in refused.stderr, refused
    process.process.send_signal(number)
    eventually(lambda: not enabled(world), within=6)
    assert on(stub) == (number != signal.SIGTERM), "a chip on two wires goes on as it is"
    if number == signal.SIGSTOP:
        process.process.kill()
    process.process.communicate(timeout=20)
    assert not enabled(world)


def test_what_is_cut_counts_as_off(
    tmp_path: Path, world: World, stub: twowire.KernelBus, monkeypatch: Any
) -> None:
    while_enabling: list[bool] = []
    line_set = gpio.Lines.set

    def watched(self: gpio.Lines, bits: int, mask: int) -> None:
        if self.lines == (ENABLE,) and not bits:
            while_enabling.append(on(stub))
        line_set(self, bits, mask)

    monkeypatch.setattr(gpio.Lines, "set", watched)
    running = Running(tmp_path, SITE)
    site, engine = running.site, running.service.machine.engine
    assert site.turn("behind", "on", wait="10 s").ending == "confirmed"
    assert enabled(world)
    away = {"now": True}
    poll = ExpanderLink.poll

    def lost(self: ExpanderLink, seconds: float) -> None:
        if away["now"]:
            raise BoardError("no-answer", "nobody answers", "See to the cable.")
        poll(self, seconds)

    monkeypatch.setattr(ExpanderLink, "poll", lost)
    monkeypatch.setattr(
        ExpanderLink, "connect", lambda self: lost(self, 0.0) if away["now"] else CONNECT(self)
    )
    eventually(lambda: not engine.board_now("chain").up)
    assert not enabled(world)
    assert engine.board_now("chain").cut
    assert on(stub), "nobody could tell the chip"
    assert "has been disabled for a second" in site.turn("beside", "on").reason
    eventually(lambda: site.output("beside")["confirmed"]["on"])
    assert "disabled by host:line-6" in site.why("behind")["sentence"]
    site.turn("beside", "off", wait="5 s")
    assert not enabled(world)
    away["now"] = False
    eventually(lambda: engine.board_now("chain").up, within=10)
    assert enabled(world)
    assert len(while_enabling) > 1
    assert not any(while_enabling), "set up from safe before that"

    # an engine that hangs
    handle = engine.handle
    engine.handle = lambda event: time.sleep(5) or handle(event)  # type: ignore[method-assign, func-returns-value]
    running.service.machine.report(ev.Tick(clock()))
    began = time.monotonic()
    eventually(lambda: not enabled(world), within=4)
    print(f"a hung engine: disabled after {time.monotonic() - began:.2f} s")
    engine.handle = handle  # type: ignore[method-assign]
    eventually(lambda: engine.board_now("chain").up and enabled(world), within=20)
    running.end()
    assert not enabled(world)


CONNECT = ExpanderLink.connect


def test_a_supply_is_on_before_it_is_spoken_to_and_off_for_a_while_after_a_loss(
    tmp_path: Path, world: World, stub: twowire.KernelBus, monkeypatch: Any
) -> None:
    seen: list[tuple[float, str]] = []
    line_set = gpio.Lines.set

    def watched(self: gpio.Lines, bits: int, mask: int) -> None:
        line_set(self, bits, mask)
        if self.lines == (ENABLE,):
            seen.append((time.monotonic(), "off" if bits else "on"))

    def connected(self: ExpanderLink) -> None:
        seen.append((time.monotonic(), "spoken to"))
        CONNECT(self)

    monkeypatch.setattr(gpio.Lines, "set", watched)
    monkeypatch.setattr(ExpanderLink, "connect", connected)
    running = Running(tmp_path, SUPPLY)
    link: Any = running.service.machine.links["chain"]
    assert running.site.turn("behind", "on", wait="10 s").ending == "confirmed"
    link._link.poll = lambda seconds: 1 / 0
    eventually(lambda: not running.service.machine.engine.board_now("chain").up)
    del link._link.poll
    eventually(lambda: running.service.machine.engine.board_now("chain").up, within=10)
    said = [what for _, what in seen]
    assert said[:2] == ["on", "spoken to"], said
    assert seen[1][0] - seen[0][0] >= 0.3, "it has time to start"
    off = said.index("off")
    again = said.index("on", off)
    assert seen[again][0] - seen[off][0] >= 1.0, "all of it loses its supply"
    running.end()
    assert [what for _, what in seen][-1] == "off"


def test_a_line_that_somebody_else_has(tmp_path: Path, world: World, stub: twowire.KernelBus) -> None:
    chip = gpio.Chip(CHIP)
    theirs = chip.request([ENABLE], gpio.OUTPUT, values=1)
    running = Running(tmp_path, SITE)
    now = running.site.boards()
    chain = next(each for each in now if each["name"] == "chain")
    assert not chain["up"]
    assert re.search(r"enable line host:line-6 cannot be had: .* held by", chain["reason"]), chain
    with pytest.raises(BoardError, match="cannot be had"):
        running.site.turn("behind", "on")
    assert running.site.turn("beside", "off", wait="5 s").ending == "confirmed", "the rest of the site works"
    theirs.close()
    eventually(lambda: enabled(world), within=10)
    assert running.site.turn("behind", "on", wait="5 s").ending == "confirmed"
    running.end()
    chip.close()


def test_another_line_enables_it_while_it_runs(tmp_path: Path, world: World, stub: twowire.KernelBus) -> None:
    world.pull(ENABLE + 1, True)
    running = Running(tmp_path, SITE)
    assert running.site.turn("behind", "on", wait="5 s").ending == "confirmed"
    running.site_file.write_text(SITE.replace(f"line-{ENABLE}", f"line-{ENABLE + 1}"))
    assert "board chain is let go and taken anew" in running.site.reload().reason
    assert (world.value(ENABLE), world.value(ENABLE + 1)) == (1, 0)
    eventually(lambda: on(stub))
    running.end()
    assert (world.value(ENABLE), world.value(ENABLE + 1)) == (1, 1)
