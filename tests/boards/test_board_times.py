"""What a command has on for a time is ended by the board itself, to the millisecond, at the pins of the emulated chip."""

from __future__ import annotations

import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.boards import emulated
from tests.conftest import Running, eventually, faults

BELL, LOCK, SET, RESET = 31, 16, 17, 22
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
        ("bell", "1 kHz", BELL, 2000, 1.6),
    ):
        board.ask(f"pair {pin} {30 - pin % 2}")
        board.ask("lag")
        moves = int(board.ask(f"moves {pin}")[2])
        running.site.turn(name, setting, lasting=f"{ms} ms")
        eventually(lambda name=name: not running.site.output(name)["claims"], within=3)
        eventually(lambda name=name: not running.site.output(name)["confirmed"]["on"])
        time.sleep(0.3)
        found, lag = lasted(board, pin), float(board.ask("lag")[1])
        print(f"{name}: {found:.2f} ms of {ms}; the emulated chip stood still for {lag:.1f} ms")
        assert found <= ms + slack
        assert found >= ms - slack - lag, "a tone ends low: half of its last period is missing"
        if name == "latch":
            assert int(board.ask(f"moves {pin}")[2]) - moves == 2, "on and off, and nothing put right"


def test_longer_stopped_and_not_put_right(yard: tuple[emulated.Board, Running]) -> None:
    board, running = yard
    site = running.site
    board.ask(f"pair {LOCK} 30")
    site.turn("latch", "on", lasting="500 ms")
    site.turn("latch", "on", lasting="1200 ms")
    eventually(lambda: not site.output("latch")["confirmed"]["on"], within=3)
    time.sleep(0.1)
    # by the board's own clock, which a busy machine emulates more slowly than the host's goes
    assert 900 <= lasted(board, LOCK) <= 1600, "the longer one counts from when it was said"
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


def test_a_latching_relay_is_pulsed_by_the_board_and_put_to_safe_by_it(tmp_path: Path) -> None:
    """Never both coils, no coil for longer than its time; when its host dies, and when its power comes back, it goes to safe by itself."""
    board = emulated.emulated()
    table = (
        SITE.split("[output]")[0]
        + f'[output]\nvalve = {{ kind = "relay", pin = "yard:line-{SET}", resets = "yard:line-{RESET}", pulse = "60 ms" }}\n'
    )
    running = Running(
        tmp_path,
        table.replace("PORT", board.port).replace('link = "modbus"', 'link = "modbus"\nwatchdog = "500 ms"'),
    )
    site = running.site
    eventually(lambda: site.boards()[0]["up"], within=10)
    moves = lambda pin: int(board.ask(f"moves {pin}")[2])  # noqa: E731
    board.ask(f"pair {SET} {RESET}")
    before = moves(SET), moves(RESET)
    site.turn("valve", "on")
    eventually(lambda: moves(SET) == before[0] + 2)
    site.turn("valve", "off")
    eventually(lambda: moves(RESET) == before[1] + 2)
    site.turn("valve", "on")
    eventually(lambda: moves(SET) == before[0] + 4)
    link = running.service.machine.links["yard"]
    link.fresh = lambda: False  # type: ignore[attr-defined]  # its host hangs: nobody feeds it
    link._make_safe = lambda: None  # type: ignore[attr-defined]
    eventually(lambda: moves(RESET) >= before[1] + 4)
    time.sleep(0.2)
    assert not board.pin(RESET)
    rested = moves(RESET)
    board.tell("reset")
    eventually(lambda: moves(RESET) == rested + 2)
    both, _, longest = (float(word) for word in board.ask(f"pair {SET} {RESET}")[1:])
    print(f"both for {both} ms, the longest {longest:.2f} ms of 60")
    assert both == 0
    assert 58.9 <= longest <= 61
    running.end()
    board.end()


def test_volts_through_a_converter_are_the_share_that_makes_them(tmp_path: Path) -> None:
    board = emulated.emulated()
    table = SITE.split("[output]")[0] + (
        '[output]\nhall = { kind = "lamp", pin = "yard:line-14", frequency = "1 kHz", volts = ["1 V", "10 V"], converter = "12 V" }\n'
    )
    running = Running(tmp_path, table.replace("PORT", board.port))
    eventually(lambda: running.site.boards()[0]["up"], within=10)
    for level, said, share in ((100, "100 % (10 V)", 10 / 12), (40, "40 % (4.6 V)", 4.6 / 12), (0, "off", 0)):
        running.site.turn("hall", f"{level} %")
        eventually(lambda share=share: board.measure(14)[1] == pytest.approx(share, abs=0.0002))
        assert said in running.cli("look", "hall").stdout
    running.end()
    board.end()
    for wrong, why in (
        ('converter = "5 V"', "its converter makes 5 V at most"),
        ('converter = "12 V", curve = "lightness"', "what is told volts answers them as it does"),
    ):
        assert why in faults(tmp_path, table.replace('converter = "12 V"', wrong))
    assert "has no PWM that a converter could" in faults(tmp_path, table.replace('frequency = "1 kHz", ', ""))
    assert "the lower ones first" in faults(tmp_path, table.replace('["1 V", "10 V"]', '["10 V", "1 V"]'))
    assert "nothing is said of the volts" in faults(tmp_path, table.replace('volts = ["1 V", "10 V"], ', ""))


@pytest.mark.parametrize("degrees", [-60, 0, 12.5, 60])
def test_a_servo_is_told_degrees_and_gets_their_pulse_or_none(tmp_path: Path, degrees: float) -> None:
    board = emulated.emulated()
    table = (
        SITE.split("[output]")[0]
        + '[output]\nvane = { kind = "servo", pin = "yard:line-14", travel = ["0.8 ms", "2.2 ms"], degrees = [-60, 60] }\n'
    )
    running = Running(tmp_path, table.replace("PORT", board.port))
    eventually(lambda: running.site.boards()[0]["up"], within=10)
    assert board.measure(14, 60) == (0, 0), "off is no pulse at all"
    said = running.cli("do", f"turn vane to {degrees:g} degrees")
    assert f"confirmed: {degrees:g}°, read back" in said.stdout, said

    def pulse() -> float:
        """Milliseconds; a write to another pin of its port disturbs the emulated timer for a period."""
        hertz, share = board.measure(14, 60)
        return 1000 * share / hertz

    eventually(lambda: abs(pulse() - (1.5 + degrees / 60 * 0.7)) < 0.005)
    assert "turns from -60° to 60°, not to 61°" in running.cli("turn", "vane", "61°").stderr
    running.site.turn("vane", "off")
    assert board.measure(14, 60) == (0, 0)
    running.end()
    board.end()


def test_pulses_are_counted_by_the_board_and_none_is_lost(tmp_path: Path) -> None:
    """At 250 a second, between two looks and while its host is away; a press that is shorter than a look is one."""
    board = emulated.emulated()
    board.tell("level 20 0")
    board.tell("level 21 0")
    table = SITE.replace("PORT", board.port) + (
        '[input]\nmeter = { kind = "counter", pin = "yard:line-20", pulse = 1.0, unit = "l" }\n'
        'button = { kind = "contact", pin = "yard:line-21", words = ["released", "pressed"] }\n'
        '[[reflex]]\nname = "pressed"\nwhen = "button becomes pressed"\ndo = "turn latch on for 5 s"\n'
    )
    running = Running(tmp_path, table)
    site = running.site
    eventually(lambda: site.input("meter")["value"] == 0, within=10)
    board.tell("train 20 500 2000")
    eventually(lambda: board.of("train"), within=10)
    eventually(lambda: site.input("meter")["value"] == 500)
    assert "l in all" in eventually(lambda: running.cli("records", "meter").stdout)
    kept = site.readings("meter")
    assert kept["counted"]["rate_unit"] == "l/h"
    assert len(kept["rows"]) < 10, "a thousand changes are no thousand rows"
    running.end()
    board.tell("train 20 30 3000")
    eventually(lambda: len(board.of("train")) == 2)
    running.begin()
    eventually(lambda: running.site.boards()[0]["up"], within=10)
    board.tell("train 20 20 2000")
    eventually(
        lambda: running.site.input("meter")["value"] == 520, within=8
    )  # another service has seen none of the 30
    board.tell("train 21 1 1500")
    eventually(lambda: running.site.output("latch")["confirmed"]["on"])
    running.end()
    board.end()


def test_a_colour_lamp_and_a_sounder_on_one_small_board(tmp_path: Path) -> None:
    """Three channels over two timers of one frequency, and a tune on its tone pin meanwhile."""
    board = emulated.emulated()
    table = SITE.split("[output]")[0] + (
        f'[output]\nbell = {{ kind = "sounder", pin = "yard:line-{BELL}" }}\n'
        'glow = { kind = "colour-lamp", frequency = "500 Hz", pins = { red = "yard:line-28", green = "yard:line-29", blue = "yard:line-14" } }\n'
    )
    running = Running(tmp_path, table.replace("PORT", board.port))
    site = running.site
    eventually(lambda: site.boards()[0]["up"], within=10)
    site.turn("glow", "#ff0000")
    eventually(lambda: board.measure(28, 30) == (0, 1))
    assert (board.measure(29, 30), board.measure(14, 30)) == ((0, 0), (0, 0))
    site.turn("glow", "#80ff40")
    site.turn("bell", "A4", lasting="3 s")
    shares = eventually(
        lambda: (found := [board.measure(pin, 40)[1] for pin in (28, 29, 14)])[0] < 1 and found
    )
    assert shares[1] == 1
    assert 0 < shares[2] < shares[0] < 1
    assert board.measure(BELL, 60)[0] == pytest.approx(440, rel=0.01)
    assert board.measure(28, 60)[0] == pytest.approx(500, rel=0.01)
    site.stop()
    eventually(lambda: all(board.measure(pin, 20) == (0, 0) for pin in (28, 29, 14, BELL)))
    running.end()
    board.end()
