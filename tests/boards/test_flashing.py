"""The image gets onto a board by the usual flashing tool: the programmer is a small stand-in that speaks STK500."""

from __future__ import annotations

import os
import pty
import threading
import tty
from pathlib import Path

import pytest

from cairnwind.boards import firmware
from tests.boards import emulated
from tests.conftest import cairnwind

SYNC, OK, END = 0x14, 0x10, 0x20
LENGTHS = {
    0x30: 0,
    0x41: 1,
    0x40: 2,
    0x42: 20,
    0x45: 5,
    0x50: 0,
    0x51: 0,
    0x52: 0,
    0x55: 2,
    0x56: 4,
    0x74: 3,
    0x75: 0,
}
"""Bytes after each command, before the end mark; writing a page has its own."""
FUSES = {
    bytes.fromhex(words): (way, name)
    for way, name, words in (
        ("write", "l", "ACA0"), ("write", "h", "ACA8"), ("write", "e", "ACA4"), ("read", "l", "5000"), ("read", "h", "5808"),
        ("read", "e", "5008"),
    )
}  # fmt: skip
"""Instructions of the chip's data sheet (serial programming), by their first two bytes."""


class Programmer:
    """Takes pages into a memory (Atmel's application note AVR061); its port is a pseudo-terminal."""

    def __init__(self) -> None:
        self._host, slave = pty.openpty()
        tty.setraw(slave)
        self.port = os.ttyname(slave)
        self.flash = bytearray(b"\xff" * (128 << 10))
        self.fuses = {"l": 0x62, "h": 0x99, "e": 0xFF}
        self.writes = 0
        self._at = 0
        threading.Thread(target=self._serve, daemon=True).start()

    def _take(self, count: int) -> bytes:
        data = b""
        while len(data) < count:
            data += os.read(self._host, count - len(data))
        return data

    def _serve(self) -> None:
        while True:
            command = self._take(1)[0]
            if command == 0x64:  # a page: length, kind of memory, bytes
                size = int.from_bytes(self._take(2), "big")
                kind, data = self._take(1), self._take(size)
                assert kind == b"F"
                self.flash[2 * self._at : 2 * self._at + size] = data
                self.writes += 1
                answer = b""
            else:
                more = self._take(LENGTHS[command])
                answer = self._answer(command, more)
            assert self._take(1)[0] == END
            os.write(self._host, bytes([SYNC]) + answer + bytes([OK]))

    def _answer(self, command: int, more: bytes) -> bytes:
        if command == 0x55:
            self._at = int.from_bytes(more, "little")
        if command == 0x75:
            return bytes([0x1E, 0x97, 0x05])
        if command == 0x74:
            size = int.from_bytes(more[:2], "big")
            return bytes(self.flash[2 * self._at : 2 * self._at + size])
        if command == 0x56 and (fuse := FUSES.get(more[:2])):
            way, name = fuse
            if way == "write":
                self.fuses[name] = more[3]
            return bytes([self.fuses[name]])
        if command == 0x56:  # a raw instruction: reading the signature
            return bytes([[0x1E, 0x97, 0x05][more[2] & 3] if more[0] == 0x30 else 0])
        return {0x41: b"\x03", 0x42: b"", 0x45: b""}.get(command, b"")


def hexed(path: Path, data: bytes) -> Path:
    """Data as an image in Intel hex form."""
    lines = []
    for at in range(0, len(data), 16):
        record = bytes([len(data[at : at + 16]), at >> 8, at & 255, 0, *data[at : at + 16]])
        lines.append(f":{record.hex().upper()}{-sum(record) & 255:02X}")
    path.write_text("\n".join([*lines, ":00000001FF"]) + "\n")
    return path


def test_it_is_loaded_whole_and_the_board_is_asked_who_it_is() -> None:
    programmer, board = Programmer(), emulated.native()
    loaded = cairnwind(
        "firmware", "load", "--port", programmer.port, "--programmer", "stk500v1", "--board-port", board.port
    )
    assert loaded.returncode == 0, loaded
    assert f"{board.port} answers: firmware 1.3 on native, 32 pins, about 5.0 V" in loaded.stdout
    image = firmware.read(firmware.shipped())
    assert firmware.MARK.search(programmer.flash)
    assert programmer.flash[image.size + 256 :].strip(b"\xff") == b""
    assert programmer.fuses == {"l": 0x62, "h": 0x99, "e": 0xFF}, "left as they are unless it is said"
    more = ("--port", programmer.port, "--programmer", "stk500v1", "--board-port", board.port, "--fuses")
    asked = cairnwind("firmware", "load", *more, input="n\n")
    assert "from then on it runs from a crystal of 16 MHz alone" in asked.stderr
    assert (asked.returncode, programmer.fuses["l"]) == (1, 0x62)
    assert cairnwind("firmware", "load", *more, "--yes").returncode == 0
    assert programmer.fuses == {"l": 0xF7, "h": 0xD1, "e": 0xFC}
    board.end()


def test_what_is_not_ours_or_of_another_version_is_refused_before_anything_is_loaded(tmp_path: Path) -> None:
    programmer = Programmer()
    newer = hexed(
        tmp_path / "newer.hex",
        b"x" * 40 + b"cairnwind-firmware chip=atmega1284p version=2.3 baud=9600" + b"y" * 9,
    )
    other = hexed(tmp_path / "other.hex", b"something else")
    chip = hexed(tmp_path / "chip.hex", b"cairnwind-firmware chip=z80 version=1.0 baud=9600")
    broken = tmp_path / "broken.hex"
    broken.write_text(firmware.shipped().read_text().replace("0", "1", 40))
    for path, said in (
        (newer, "newer.hex is version 2.3, newer than this service speaks (1.x)"),
        (other, "is no firmware of ours"),
        (chip, "is for the chip z80"),
        (broken, "line 1: the checksum is wrong"),
        (tmp_path / "none.hex", "is no image in Intel hex form"),
    ):
        refused = cairnwind(
            "firmware", "load", "--port", programmer.port, "--programmer", "stk500v1", "--image", str(path)
        )
        assert refused.returncode in (2, 8), refused
        assert said in refused.stderr, refused.stderr
    assert programmer.writes == 0
    missing = cairnwind("firmware", "load", "--port", "/dev/ttyUSB77", "--programmer", "stk500v1")
    assert "no serial port /dev/ttyUSB77" in missing.stderr


@pytest.mark.parametrize("chip", ["atmega1284p", "atmega324p"])
def test_the_shipped_image_is_what_its_sources_make(tmp_path: Path, chip: str) -> None:
    built = firmware.build(tmp_path / "out", 115_200, 1, chip)
    assert built.path.read_text() == firmware.shipped(chip).read_text(), "make -C firmware shipped"
    slow = cairnwind("firmware", "build", "--baud", "9600", "--unit", "5", "--out", str(tmp_path / "slow"))
    assert "version 1.3 for atmega1284p, 9600 baud" in slow.stdout


@pytest.mark.parametrize("unit", [1, 200])
def test_a_board_that_does_not_answer_is_said_so(unit: int) -> None:
    board = emulated.native(unit=7)
    asked = cairnwind("firmware", "ask", "--port", board.port, "--unit", str(unit))
    assert asked.returncode == 6
    assert f"Nothing answers on {board.port} at 115200 baud as unit {unit}" in asked.stderr
    board.end()
