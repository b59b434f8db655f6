"""Our firmware on a 32-bit chip, which shares none but the portable part with the others: the same rules, the same registers, in QEMU."""

from __future__ import annotations

import random
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from cairnwind.boards import chips
from cairnwind.boards.onboard import NEEDS, BoardRule, Table
from tests.boards import thumb
from tests.boards.test_board_rules import load, two
from tests.boards.test_firmware import MODE, OUTPUT, PULL_UP, VALUE, Host, garbage
from tests.conftest import Running, cairnwind, eventually, faults

UP, DOWN, CLOCK = 16, 17, 24
BLINK_ON, BLINK_OFF = 160, 192


@pytest.fixture
def board() -> Iterator[thumb.Board]:
    found = thumb.Board()
    yield found
    found.end()


def test_hang_cut_garbage_and_a_wrong_host_never_both_never_longer(board: thumb.Board) -> None:
    """As on the 8-bit chips. Time is told by a pin that changes each two milliseconds of the board's own."""
    host = Host(board.port)
    host.write(0, 600)
    for pin in (UP, DOWN, CLOCK):
        host.write(MODE + pin, OUTPUT)
    table = two(UP, DOWN)
    load(host, table)
    assert host.refused(MODE + UP, 0) == 6
    chance = random.Random(5)

    def press(seconds: float) -> int:
        host.write(BLINK_ON + CLOCK, 2)
        host.write(BLINK_OFF + CLOCK, 2)
        went_on, end = 0, time.monotonic() + seconds
        while time.monotonic() < end:
            pin, on = chance.choice((UP, DOWN)), chance.random() < 0.7
            answer = host.client.write_coil(pin, on, device_id=1)
            went_on += on and not answer.isError()
            if chance.random() < 0.2:
                host.client.write_coils(UP, [True, True], device_id=1)
            time.sleep(chance.random() * 0.05)
        return went_on

    assert press(4) > 5
    host.client.write_coil(UP, True, device_id=1)
    eventually(lambda: not board.high(UP))  # it hangs, or its cable is pulled
    garbage(board.port, chance)
    time.sleep(0.1)
    board.reset()  # its rules are there before anybody speaks
    time.sleep(0.5)
    assert host.kept(9) == [table.generation]
    assert press(4) > 5
    both, gap, longest = board.pair(UP, DOWN, CLOCK)
    print(f"both high {both} times, {2 * gap} ms between them of 80, {2 * longest} ms on at most of 250")
    assert both == 0
    assert 2 * gap >= 78
    assert 2 * longest <= 254
    assert host.read(12) == [1], "its starts are counted, from 0 on"
    host.client.close()


def test_a_button_takes_off_what_needs_it(board: thumb.Board) -> None:
    host = Host(board.port)
    host.write(0, 0)
    host.write(MODE + UP, OUTPUT)
    host.write(MODE, PULL_UP)
    board.let_go()
    load(host, Table((BoardRule("door", NEEDS, ("h",), (UP,), 0, True),)))
    host.write(VALUE + UP, 1)
    eventually(lambda: board.high(UP))
    board.level(0, False)
    eventually(lambda: not board.high(UP))
    assert host.refused(VALUE + UP, 1) == 6
    assert host.read(96 + UP) == [1], "the rule that did it"
    host.client.close()


def test_a_site_with_it(board: thumb.Board, tmp_path: Path) -> None:
    """The service: what it can is known without it and told by it; its rules are loaded; a knob on it is followed."""
    site = f"""
site = "Yard"
timezone = "UTC"
[board.yard]
link = "modbus"
port = "{board.port}"
chip = "lm3s6965"
[output]
winch-up = {{ kind = "relay", pin = "yard:line-{UP}" }}
winch-down = {{ kind = "relay", pin = "yard:line-{DOWN}" }}
[input]
knob = {{ kind = "encoder", pin = "yard:line-2", second = "yard:line-3", pull = "up" }}
[[interlock]]
name = "one way"
excludes = ["winch-up", "winch-down"]
gap = "300 ms"
"""
    assert faults(tmp_path, site) == ""
    dimmed = '[output]\nlamp = { kind = "lamp", pin = "yard:line-20", frequency = "1 kHz" }'
    assert "has no PWM" in faults(tmp_path, site.replace("[output]", dimmed))
    told = cairnwind("firmware", "describe", "--port", board.port).stdout
    own = tmp_path / "chips" / "own.toml"
    own.parent.mkdir()
    own.write_text(told)
    found, shipped = chips.load("own", [tmp_path]), chips.load("lm3s6965")
    assert [found.functions(line) for line in range(32)] == [shipped.functions(line) for line in range(32)]
    assert found.reserved == shipped.reserved
    running = Running(tmp_path, site)
    service = running.site
    eventually(lambda: service.boards()[0]["up"], within=10)
    eventually(lambda: "kept here and by board yard itself" in running.cli("rules").stdout)
    service.turn("winch-up", "on", lasting="5 s")
    eventually(lambda: board.high(UP))
    assert "one way" in running.cli("turn", "winch-down", "on").stderr
    board.let_go()
    knob = service.input("knob")["value"]
    for pin in (2, 3):
        board.level(pin, False)
        time.sleep(0.05)
    for pin in (2, 3):
        board.level(pin, True)
        time.sleep(0.05)
    eventually(lambda: service.input("knob")["value"] == knob + 1)
    board.reset()
    eventually(lambda: not board.high(UP))
    eventually(lambda: "has been reset" in running.cli("journal", "--kind", "link").stdout, within=10)
    eventually(lambda: service.boards()[0]["up"], within=10)
    running.end()
