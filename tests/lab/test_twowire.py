"""Expanders and PWM controllers against the kernel's bus interface; the other side is its register stub."""

from __future__ import annotations

import os
import time
from fractions import Fraction

import pytest

from cairnwind.boards import profiles, twowire
from cairnwind.boards.links.expander import Expander, ExpanderLink
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.values.errors import BoardError
from cairnwind.core.values.settings import OFF, ON, Level
from cairnwind.service.startup import clock
from tests.conftest import eventually, of_kind

BUS = os.environ.get("I2C_STUB_DEV", "")


def opened(
    chip: str, address: int, outputs: list[Output], inputs: list[Input]
) -> tuple[ExpanderLink, list[ev.Event]]:
    link = ExpanderLink(Board("b", "expander", None, 16, facts=Expander(profiles.chip(chip), BUS, address)))
    said: list[ev.Event] = []
    link.open(outputs, inputs, said.append, clock, lambda: True)
    assert link.ready(5)
    return link, said


def confirmed(said: list[ev.Event]) -> list[tuple[str, Level]]:
    return [(event.output, event.setting) for event in of_kind(said, ev.Confirmed)]


def test_an_expanders_registers_are_what_the_stub_shows() -> None:
    stub = twowire.KernelBus(BUS, 0x20)
    low, high = Output("low", "relay", Pin("b", 3), active_low=True), Output("high", "relay", Pin("b", 12))
    button = Input("button", "contact", Pin("b", 9), pull="up", active_low=True)
    stub.write(0x12, b"\xff\xff")
    link, said = opened("ports-16", 0x20, [low, high], [button])
    assert isinstance(said[0], ev.LinkUp), said
    assert stub.read(0x14, 2) == b"\x08\x00", "safe"
    assert stub.read(0x00, 2) == b"\xf7\xef", "direction: all but the two are inputs"
    assert stub.read(0x0C, 2) == b"\x00\x02", "one pull-up"
    link.drive([ev.Drive("low", 1, ON), ev.Drive("high", 1, ON)])
    eventually(lambda: confirmed(said) == [("low", ON), ("high", ON)])
    assert stub.read(0x14, 2) == b"\x00\x10"
    stub.write(0x12, b"\xff\xfd")
    eventually(lambda: any(isinstance(event, ev.InputSeen) and event.active for event in said))
    stub.write(0x14, b"\x00\x00")  # somebody else writes: what it shows is not what it was told
    eventually(lambda: ("high", OFF) in confirmed(said), within=8)
    link.close()


def test_a_pwm_controller_and_what_a_scan_tells() -> None:
    found = twowire.scan(BUS)
    assert found[0x20] == found[0x21] == "answers"
    assert found[0x40] == "held by a driver"
    lamp = Output("lamp", "lamp", Pin("b", 2), frequency=Fraction(800))
    link, said = opened("pwm-16", 0x21, [lamp], [])
    link.drive([ev.Drive("lamp", 1, Level(250_000))])
    eventually(lambda: confirmed(said) == [("lamp", Level(250_000))])
    stub = twowire.KernelBus(BUS, 0x21)
    assert stub.read(0x06 + 2 * 4, 4) == b"\x00\x00\x00\x04", "off at count 1024 of 4096"
    assert stub.read(0xFE, 1) == bytes([round(25e6 / 4096 / 800) - 1])
    link.close()
    with pytest.raises(BoardError, match=r"0x40 of .* is held by a driver"):
        twowire.KernelBus(BUS, 0x40)
    with pytest.raises(BoardError, match=r"no /dev/i2c-77 here"):
        twowire.KernelBus("/dev/i2c-77", 0x20)


def test_a_full_chain_takes_two_transactions_a_board() -> None:
    """All of a board's lines at once: one write, one look at the same register."""
    sent = []
    outputs = [Output(f"x{line}", "relay", Pin("b", line)) for line in range(16)]
    link, said = opened("ports-16", 0x20, outputs, [])
    before = len(link.traffic.after(0))
    began = time.monotonic()
    link.drive([ev.Drive(output.name, 1, ON) for output in outputs])
    eventually(lambda: len(confirmed(said)) == 16)
    sent = [frame.text for frame in link.traffic.after(before)]
    assert sent[0].startswith("output 1111111111111111")
    assert len(sent) == 2
    assert time.monotonic() - began < 2
    link.close()
