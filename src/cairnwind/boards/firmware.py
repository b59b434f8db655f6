"""Our firmware as an image: the one that is shipped, one built here, and how a board comes to have it.

Loading is done by the usual general flashing tool (avrdude, from Debian); asking the board who it is afterwards
is ours. An image carries a mark that says what it is for, so that an unsuitable one is refused before it is loaded.
"""

from __future__ import annotations

import re
import shutil
import subprocess
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from cairnwind.boards import serialports
from cairnwind.boards.ours import IDENTITY, MAP_VERSION
from cairnwind.core.values.errors import BoardError, CallerError

SHIPPED = Path(__file__).parent / "images" / "atmega1284p.hex"
SOURCES = Path(__file__).parents[3] / "firmware"
MARK = re.compile(rb"cairnwind-firmware chip=(\w+) version=(\d+)\.(\d+) baud=(\d+)")
PARTS = {"atmega1284p": "m1284p"}


@dataclass(frozen=True, slots=True)
class Image:
    """What the mark of an image says."""

    path: Path
    chip: str
    version: tuple[int, int]
    baud: int
    size: int


def read(path: Path) -> Image:
    """An image in Intel hex form. Raises `CallerError` for one that is broken or not ours."""
    memory: dict[int, int] = {}
    try:
        for number, line in enumerate(path.read_text("ascii").splitlines(), 1):
            record = bytes.fromhex(line.removeprefix(":"))
            if not line.startswith(":") or sum(record) & 255 or len(record) != record[0] + 5:
                raise CallerError(
                    "bad-value", f"{path}, line {number}: the checksum is wrong.", "Fetch or build it again."
                )
            if record[3] == 0:
                at = record[1] << 8 | record[2]
                memory.update(enumerate(record[4:-1], at))
    except (OSError, ValueError) as error:
        raise CallerError(
            "no-file", f"{path} is no image in Intel hex form: {error}.", "Give a .hex file."
        ) from None
    data = bytes(memory[at] for at in sorted(memory))
    mark = MARK.search(data)
    if mark is None:
        raise CallerError(
            "bad-value", f"{path} is no firmware of ours.", "Build one with: cairnwind firmware build."
        )
    chip, major, minor, baud = mark.groups()
    return Image(path, chip.decode(), (int(major), int(minor)), int(baud), len(data))


def suits(image: Image) -> None:
    """Raises `CallerError` for an image that this service could not speak with."""
    if image.version[0] != MAP_VERSION:
        word = "newer" if image.version[0] > MAP_VERSION else "older"
        raise CallerError(
            "bad-value",
            f"{image.path.name} is version {image.version[0]}.{image.version[1]}, {word} than this service speaks ({MAP_VERSION}.x).",
            "Take the image that is shipped with this version, or update Cairnwind.",
        )
    if image.chip not in PARTS:
        raise CallerError(
            "bad-value",
            f"{image.path.name} is for the chip {image.chip}, which cannot be loaded from here.",
            f"Known: {', '.join(PARTS)}.",
        )


def build(out: Path, baud: int, unit: int) -> Image:
    """Build an image. Raises `CallerError` when sources or compiler are missing."""
    serialports.see_baud(baud)
    if not (SOURCES / "avr.c").exists():
        raise CallerError(
            "no-file",
            "The firmware's sources are not installed here.",
            "Build in a checkout, or load the shipped image.",
        )
    if shutil.which("avr-gcc") is None:
        raise CallerError(
            "no-file", "There is no compiler for the chip.", "Type: sudo apt install gcc-avr avr-libc"
        )
    out.mkdir(parents=True, exist_ok=True)
    made = subprocess.run(
        ["make", "-s", "-C", str(SOURCES), "image", f"OUT={out.resolve()}", f"BAUD={baud}", f"UNIT={unit}"],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    if made.returncode:
        raise CallerError("no-file", f"The build failed: {made.stderr.strip()[-400:]}", "See the sources.")
    return read(out / "board.hex")


def usable(port: str) -> str:
    """The path of a port that nobody else has. Raises `BoardError`."""
    path = serialports.find(port)
    trouble = serialports.trouble(path)
    if trouble is not None:
        raise trouble
    return path


def load(image: Image, port: str, programmer: str, speed: int | None, say: Callable[[str], None]) -> None:
    """Put an image onto a chip. Raises `CallerError` or `BoardError`."""
    suits(image)
    tool = shutil.which("avrdude")
    if tool is None:
        raise CallerError(
            "no-file", "The flashing tool avrdude is missing.", "Type: sudo apt install avrdude"
        )
    path = usable(port)
    command = [tool, "-p", PARTS[image.chip], "-c", programmer, "-P", path, "-U", f"flash:w:{image.path}:i"]
    if speed:
        command += ["-b", str(speed)]
    run = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
    assert run.stdout is not None
    last = ""
    for line in run.stdout:
        last = line.strip() or last
        say(line.rstrip())
    if run.wait():
        raise BoardError(
            "unreachable",
            f"Loading through {path} failed: {last}",
            "See to cable, programmer and port; nothing else was changed.",
        )


def ask(port: str, baud: int, unit: int, within: float = 5.0) -> str:
    """Who answers there: waits for the first answer of a board that starts. Raises `BoardError`."""
    from pymodbus.client import ModbusSerialClient
    from pymodbus.exceptions import ModbusException

    client: Any = ModbusSerialClient(usable(port), baudrate=baud, timeout=0.3, retries=0)
    end = time.monotonic() + within
    try:
        while time.monotonic() < end:
            try:
                if client.connect():
                    answer = client.read_input_registers(0, count=5, device_id=unit)
                    if not answer.isError():
                        identity, version, chip, pins, up = answer.registers
                        if identity != IDENTITY:
                            raise BoardError(
                                "unreachable",
                                f"What answers on {port} is no board of ours.",
                                "Look at the wiring.",
                            )
                        if version >> 8 != MAP_VERSION:
                            raise BoardError(
                                "unreachable", f"The board has firmware {version >> 8}.{version & 255}; this service speaks {MAP_VERSION}.x.",
                                "Load the image that is shipped with this version.",
                            )  # fmt: skip
                        return f"firmware {version >> 8}.{version & 255} on {'the native program' if chip == 2 else 'atmega1284p'}, {pins} pins, up for {up} s"
            except ModbusException:
                continue
    finally:
        client.close()
    raise BoardError(
        "unreachable",
        f"Nothing answers on {port} at {baud} baud as unit {unit}.",
        "See to the board's supply and its light: it blinks slowly until a host speaks to it.",
    )
