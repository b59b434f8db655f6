"""What a command has on for a time is ended by the board itself, to the millisecond, at the pins of the emulated chip."""

from __future__ import annotations

import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.boards import emulated
from tests.conftest import Running, eventually

BELL, LOCK = 31, 16
SITE = f"""
site = "Yard"
timezone = "UTC"
[board.yard]
link = "modbus"
port = "PORT"
[output]
bell = {{ kind = "sounder", pin = "yard:line-{BELL}" }}
latch = {{ kind = "relay", pin = "yard:line-{LOCK}", sense = "active-low" }}
"""


@pytest.fixture
def yard(tmp_path: Path) -> Iterator[tuple[emulated.Board, Running]]:
    board = emulated.emulated()
    running = Running(tmp_path, SITE.replace("PORT", board.port))
    eventually(lambda: running.site.boards()[0]["up"], within=10)
    yield board, running
    running.end()
    board.end()


def lasted(board: emulated.Board, pin: int) -> float:
    return float(board.ask(f"moves {pin}")[3]) - float(board.ask(f"first {pin}")[2])


def test_for_exactly_so_long(yard: tuple[emulated.Board, Running]) -> None:
    board, running = yard
    for name, setting, pin, ms, slack in (
        ("latch", "on", LOCK, 300, 1.01),
        ("bell", "1 kHz", BELL, 2000, 1.5),
    ):
        board.ask(f"pair {pin} {30 - pin % 2}")
        running.site.turn(name, setting, lasting=f"{ms} ms")
        eventually(lambda name=name: not running.site.output(name)["claims"], within=3)
        eventually(lambda name=name: not running.site.output(name)["confirmed"]["on"])
        time.sleep(0.3)
        found = lasted(board, pin)
        print(f"{name}: {found:.2f} ms of {ms}")
        assert abs(found - ms) <= slack, "a tone ends low: half of its last period is missing"
    texts = [row["text"] for row in running.site.journal()]
    assert not any("does not" in text or "could not" in text or "fault" in text for text in texts), texts


def test_longer_stopped_and_not_put_right(yard: tuple[emulated.Board, Running]) -> None:
    board, running = yard
    site = running.site
    board.ask(f"pair {LOCK} 30")
    site.turn("latch", "on", lasting="500 ms")
    site.turn("latch", "on", lasting="1200 ms")
    eventually(lambda: not site.output("latch")["confirmed"]["on"], within=3)
    time.sleep(0.1)
    assert 1190 <= lasted(board, LOCK) <= 1600, "the longer one counts from when it was said"
    moves = int(board.ask(f"moves {LOCK}")[2])
    board.ask(f"pair 30 {LOCK}")
    site.turn("latch", "on", lasting="10 s")
    eventually(lambda: site.output("latch")["confirmed"]["on"])
    began = time.monotonic()
    site.stop()
    eventually(lambda: board.pin(LOCK))
    assert time.monotonic() - began < 3, "a stop waits for no end"
    site.reset_stop()
    assert int(board.ask(f"moves {LOCK}")[2]) == moves + 2, "on and off, once"
