"""A maker's first half hour at the terminal, on the demo with its four boards."""

from __future__ import annotations

import json
import os
import pty
import select
import signal
import subprocess
import time
from pathlib import Path

import serial

from cairnwind.boards import maps
from tests.boards import emulated
from tests.conftest import CAIRNWIND, Demo, cairnwind, eventually, spawn


def test_pins_look_and_the_boards_they_are_on(demo: Demo) -> None:
    shelf = demo.cli("pins", "shelf").stdout.splitlines()
    vent = next(line for line in shelf if line.startswith("J2-9 "))
    assert vent.split() == ["J2-9", "41", "high", "pulled", "up", "kiln-vent"]
    assert "5 V at 1, 2   ground at 5, 13, 20   3.3 V at 19" in shelf
    box = demo.cli("pins", "hoist-box").stdout
    motor = next(line for line in box.splitlines() if line.startswith("line-28"))
    assert motor.split() == ["line-28", "pwm", "(T0)", "low", "trolley-left"], "told by the firmware itself"
    assert "free: lines 9 to 13" in box
    told = json.loads(demo.cli("pins", "--json").stdout)
    assert [board["link"] for board in told] == [
        "simulated",
        "expander",
        "expander",
        "strip",
        "modbus",
        "sensors",
    ]
    by_board = demo.cli("look", "yard-side").stdout
    assert "Relay board 2 of the chain, expander" in by_board
    assert "kiln" not in by_board


def test_supplies_and_rules_as_they_stand(demo: Demo) -> None:
    said = demo.cli("look", "--supplies").stdout
    assert "coil-rail  5 V" in said
    assert "of 250 mA" in said
    assert json.loads(demo.cli("look", "--supplies", "--json").stdout)[0]["limit"] == 0.25
    rule = demo.cli("rules", "no fire without draught").stdout
    assert "so: kiln-door is closed" in rule
    assert "not so: kiln-vent is on for 30 s (kiln-vent is off)" in rule


def test_try_says_what_it_reads_and_lets_go(demo: Demo) -> None:
    once = demo.cli("try", "shelf:J2-10", "pwm", "800Hz", "25%", "--once").stdout.splitlines()
    assert once == [
        "shelf:J2-10 (line 14)  pwm, 25 % high at 800 Hz  reads high 25 %",
        "Let go of shelf:J2-10.",
    ]
    assert "reads high" in demo.cli("try", "hoist-box:line-26", "input", "up", "--once").stdout
    wrong = demo.cli("try", "hoist-box:line-10", "pwm", "1kHz", "5%", "--once")
    assert wrong.returncode == 5
    assert "Free pins of hoist-box that have it: line-14, line-15." in wrong.stderr
    assert "A tone needs a frequency" in demo.cli("try", "shelf:J2-10", "tone").stderr
    assert "'loud' says nothing about output" in demo.cli("try", "shelf:J2-10", "output", "loud").stderr
    trying = spawn(
        CAIRNWIND,
        "--state",
        demo.state,
        "try",
        "shelf:J3-3",
        "output",
        "high",
        stdout=subprocess.PIPE,
    )
    assert trying.stdout is not None
    assert "reads high" in trying.stdout.readline()
    trying.send_signal(signal.SIGINT)
    assert trying.stdout.read() == "Let go of shelf:J3-3.\n"
    assert trying.wait(5) == 0


def test_inputs_while_one_presses_the_button(demo: Demo) -> None:
    watching = spawn(CAIRNWIND, "--state", demo.state, "watch", "pug-mill-lid", stdout=subprocess.PIPE)
    asking = spawn(CAIRNWIND, "--state", demo.state, "identify", stdout=subprocess.PIPE)
    assert watching.stdout is not None
    assert asking.stdout is not None
    assert "no edge yet, pull-up" in watching.stdout.readline()
    asking.stdout.readline()
    time.sleep(0.5)
    assert (
        demo.cli("pretend", "pug-mill-lid", "open").stdout
        == "pug-mill-lid is pretended to be open; it reads open.\n"
    )
    assert "closed (the line shows open; counts after 30 ms)  1 edges" in watching.stdout.readline()
    assert "pug-mill-lid  open  1 edges" in watching.stdout.readline()
    while "pug-mill-lid" not in (line := asking.stdout.readline()):
        assert line
    assert "Lid of the pug mill: closed → open  at clay-side:line-8" in line
    for process in (watching, asking):
        process.send_signal(signal.SIGINT)
        process.communicate(timeout=60)
    assert "Send closed or open" in demo.cli("pretend", "pug-mill-lid", "ajar").stderr


def test_the_demos_keypad_is_pressed_and_its_code_stands_nowhere(demo: Demo) -> None:
    demo.site.give_code("glaze-store", "anna", code="730512")
    press = lambda keys: demo.cli("pretend", "store-door", keys).stdout  # noqa: E731
    assert press("7305") == "store-door: 4 keys are pressed.\n"
    assert press("7*512#") == "store-door: 6 keys are pressed; it was told: that code does not open it.\n"
    assert press("730512#") == "store-door: 7 keys are pressed; it was told: it opens.\n"
    assert "keypad (store door)" in demo.cli("look", "glaze-store").stdout
    assert "are digits, # and *" in demo.cli("pretend", "store-door", "7305x").stderr
    held = demo.cli("journal", "-n", "500").stdout + (Path(demo.state) / "service.log").read_text()
    assert "730512" not in held


def test_identify_walks_through_a_board(demo: Demo) -> None:
    asked = demo.cli("identify", "clay-side", input="n\n")
    assert "This switches pug-mill (motor). Is nobody near?" in asked.stdout
    assert asked.returncode == 1
    walked = demo.cli(
        "identify", "clay-side", "--yes", "--step", "50ms", "--dwell", "100ms"
    ).stdout.splitlines()
    assert [line.split()[3] for line in walked] == ["clay-store", "wedging-room", "extractor", "pug-mill"]
    again = demo.cli(
        "identify", "clay-side", "--yes", "--step", "50ms", "--dwell", "100ms", "--json"
    ).stdout.splitlines()
    assert [json.loads(line)["output"] for line in again] == [
        "clay-store",
        "wedging-room",
        "extractor",
        "pug-mill",
    ]
    assert json.loads(again[3])["pin"] == "clay-side:line-3"
    rows = [row["text"] for row in json.loads(demo.cli("journal", "extractor", "--json").stdout)]
    assert any(text.startswith("extractor is on") for text in rows)
    assert demo.cli("identify", "bench-lamp", "--step", "50ms", "--times", "2").returncode == 0
    assert "no output called 'bench-lmap'" in demo.cli("identify", "bench-lmap").stderr


def test_the_wire_raw_and_decoded(demo: Demo) -> None:
    watching = spawn(
        CAIRNWIND,
        "--state",
        demo.state,
        "watch",
        "--link",
        "hoist-box",
        "--json",
        stdout=subprocess.PIPE,
    )
    assert watching.stdout is not None
    demo.cli("turn", "hoist-up", "on")
    frames = []
    one_on = "01 0f 00 10 00 01 01 01"  # function 15, coil 16, one, on
    while not any(frame["raw"].startswith(one_on) for frame in frames):
        frames.append(json.loads(watching.stdout.readline()))
    assert frames[-1]["text"].startswith("write coils 16")
    watching.kill()
    watching.communicate()
    demo.cli("turn", "hoist-up", "off")


def test_the_prompt(demo: Demo) -> None:
    said = demo.cli(
        "do", input="turn yard on\nwhy yard\nturn yrad on\nfly\n'\nlook yard-side\nbye\nturn yard off\n"
    )
    assert "turn yard on (confirmed: on, read back" in said.stdout
    assert "yard is on: a person" in said.stdout
    assert "Did you mean 'yard'?" in said.stderr
    assert "'fly' is no verb that is known here" in said.stderr
    assert "A quotation mark is not closed" in said.stderr
    assert "turn yard off" not in said.stdout, "left before"
    master, slave = pty.openpty()
    shell = spawn(
        CAIRNWIND,
        "--state",
        demo.state,
        "do",
        stdin=slave,
        stdout=slave,
        stderr=slave,
        env={**os.environ, "TERM": "xterm"},
    )
    shown = b""

    def reads(what: bytes) -> bool:
        nonlocal shown
        if select.select([master], [], [], 0.1)[0]:
            shown += os.read(master, 4096)
        return what in shown

    eventually(lambda: reads(b"cairnwind>"), within=10)
    os.write(master, b"turn yard off\r")
    eventually(lambda: reads(b"(confirmed: off"), within=10)
    os.write(master, b"turn compr\t")
    eventually(lambda: reads(b"essor"), within=10)
    os.write(master, b"\x03\x04")
    assert shell.wait(10) == 0
    assert "turn yard off" in (Path(demo.state) / "prompt-history").read_text()


def test_a_map_is_learned_while_a_line_blinks(demo: Demo, tmp_path: Path) -> None:
    learned = demo.cli(
        "pins", "clay-side", "--learn", "mine", cwd=tmp_path, input="y\nK1-1\nK1-1\nK1-2\nnonsense\n\ndone\n"
    )
    assert "K1-1 is line 4 already" in learned.stderr, learned
    assert "maps/mine.toml has 2 positions" in learned.stdout
    found = maps.read(tmp_path / "maps" / "mine.toml")
    assert {name: position.line for name, position in found.positions.items()} == {"K1-1": 4, "K1-2": 5}
    assert "tried" not in demo.cli("pins", "clay-side").stdout, "all let go"
    more = demo.cli("map", "clay-side", "mine", "--json", cwd=tmp_path, input="y\nK1-3\ndone\n")
    assert json.loads(more.stdout) == {
        "file": "maps/mine.toml",
        "map": "mine",
        "positions": {"K1-1": 4, "K1-2": 5, "K1-3": 6},
    }


def test_chain_doctor_and_firmware(demo: Demo, tmp_path: Path) -> None:
    table = cairnwind("chain", "ports-16").stdout.splitlines()
    assert table[1] == "A2  A1  A0  address"
    assert table[7] == "on  -   on  0x25   "
    assert "no /dev/i2c-77" in cairnwind("chain", "ports-16", "--bus", "/dev/i2c-77").stderr
    site = tmp_path / "site.toml"
    site.write_text(
        'site = "x"\n[board.a]\nlink = "kernel"\nchip = "/dev/gpiochip77"\nlines = 4\n[board.b]\nlink = "modbus"\nport = "/dev/ttyUSB77"\n'
    )
    told = cairnwind("doctor", str(site))
    assert told.returncode == 1
    assert "Board a: There is no /dev/gpiochip77 here" in told.stdout
    assert "Board b: There is no serial port /dev/ttyUSB77" in told.stdout
    assert "for atmega1284p, 115200 baud" in cairnwind("firmware", "show").stdout
    board = emulated.native(unit=3)
    asked = cairnwind("firmware", "ask", "--port", board.port, "--unit", "3").stdout
    assert "firmware 1.3 on native, 32 pins" in asked
    assert "Nothing answers" in cairnwind("firmware", "ask", "--port", board.port, "--unit", "4").stderr
    with serial.Serial(board.port, exclusive=True):
        for asks in (("ask",), ("load", "--programmer", "stk500v1")):
            held = cairnwind("firmware", *asks, "--port", board.port)
            assert (held.returncode, f"(process {os.getpid()}) has it." in held.stderr) == (
                6,
                True,
            )
    board.end()


def test_pins_are_followed_until_somebody_has_had_enough(demo: Demo) -> None:
    for more, said in ((), "clay-side:line-1"), (("--json",), '{"at":'):
        looks = spawn(CAIRNWIND, "--state", demo.state, "pins", "clay-side", "--follow", *more, stdout=subprocess.PIPE)  # fmt: skip
        assert looks.stdout is not None
        assert "clay-side" in looks.stdout.readline()
        time.sleep(1.0)
        demo.cli("turn", "wedging-room", "on", "--for", "20 s")
        line = looks.stdout.readline()
        while not ("wedging-room" in line and said in line):
            line = looks.stdout.readline()
        assert json.loads(line)["line"] == 1 if more else line.split()[1] == "clay-side:line-1"
        demo.cli("release", "wedging-room")
        looks.send_signal(signal.SIGINT)
        assert looks.wait(20) == 0
