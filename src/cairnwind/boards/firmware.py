"""Our firmware as an image: the one that is shipped, one built here, and how a board comes to have it.

Loading is done by the usual general flashing tool (avrdude, from Debian); asking the board who it is afterwards
is ours. An image carries a mark that says what it is for, so that an unsuitable one is refused before it is loaded.
"""

from __future__ import annotations

import re
import shutil
import subprocess
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from cairnwind.boards import chips, serialports
from cairnwind.boards.ours import CAPABLE, CAUSES, IDENTITY, MAP_VERSION
from cairnwind.core.values.errors import BoardError, CallerError

SOURCES = Path(__file__).parents[3] / "firmware"
MARK = re.compile(rb"cairnwind-firmware chip=(\w+) version=(\d+)\.(\d+) baud=(\d+)")


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


def shipped(chip: str = chips.DEFAULT) -> Path:
    """The image that is shipped for a chip. Raises `CallerError`."""
    path = chips.SHIPPED / f"{chip}.hex"
    if not path.exists():
        have = ", ".join(sorted(each.stem for each in chips.SHIPPED.glob("*.hex")))
        raise CallerError("bad-value", f"No image is shipped for the chip '{chip}'.", f"Shipped: {have}.")
    return path


def suits(image: Image) -> None:
    """Raises `CallerError` for an image that this service could not speak with."""
    if image.version[0] != MAP_VERSION:
        word = "newer" if image.version[0] > MAP_VERSION else "older"
        raise CallerError(
            "bad-value",
            f"{image.path.name} is version {image.version[0]}.{image.version[1]}, {word} than this service speaks ({MAP_VERSION}.x).",
            "Take the image that is shipped with this version, or update Cairnwind.",
        )
    if image.chip not in chips.known() or not chips.load(image.chip).part:
        raise CallerError(
            "bad-value",
            f"{image.path.name} is for the chip {image.chip}, which cannot be loaded from here.",
            f"Known: {', '.join(name for name in chips.known() if chips.load(name).part)}.",
        )


def build(out: Path, baud: int, unit: int, chip: str = chips.DEFAULT) -> Image:
    """Build an image. Raises `CallerError` when sources or compiler are missing."""
    serialports.see_baud(baud)
    made_for = chips.load(chip)
    if not (SOURCES / "avr.c").exists():
        raise CallerError(
            "no-file",
            "The firmware's sources are not installed here.",
            "Build in a checkout, or load the shipped image.",
        )
    if shutil.which(made_for.compiler) is None:
        raise CallerError(
            "no-file", "There is no compiler for the chip.", f"Type: sudo apt install {made_for.packages}"
        )
    out.mkdir(parents=True, exist_ok=True)
    made = subprocess.run(
        ["make", "-s", "-C", str(SOURCES), "image", f"OUT={out.resolve()}", f"BAUD={baud}", f"UNIT={unit}", f"CHIP={chip}"],
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


def load(
    image: Image,
    port: str,
    programmer: str,
    speed: int | None,
    say: Callable[[str], None],
    fuses: bool = False,
) -> None:
    """Put an image onto a chip, and set its fuses first where that is wanted. Raises `CallerError` or `BoardError`."""
    suits(image)
    tool = shutil.which("avrdude")
    if tool is None:
        raise CallerError(
            "no-file", "The flashing tool avrdude is missing.", "Type: sudo apt install avrdude"
        )
    path, chip = usable(port), chips.load(image.chip)
    command = [tool, "-p", chip.part, "-c", programmer, "-P", path]
    for name, value in chip.fuses.items() if fuses else ():
        command += ["-U", f"{name}:w:0x{value:02X}:m"]
    command += ["-U", f"flash:w:{image.path}:i"]
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


@dataclass(frozen=True, slots=True)
class Who:
    """What a board says of itself."""

    version: tuple[int, int]
    chip: str
    can: tuple[tuple[int, int], ...]
    """Of each pin: bits of what it can, and its timer; 255: none."""
    up: int
    """Seconds since it was reset."""
    cause: str
    """Of that."""
    supply: int
    """Millivolts, as it measures them against its own reference, give or take a tenth; 0: it does not."""

    def __str__(self) -> str:
        volts = f", about {self.supply / 1000:.1f} V" if self.supply else ""
        why = f" (reset: {self.cause})" if self.cause else ""
        return f"firmware {self.version[0]}.{self.version[1]} on {self.chip}, {len(self.can)} pins{volts}, up for {self.up} s{why}"


def ask(port: str, baud: int, unit: int, within: float = 5.0) -> Who:
    """Who answers there: waits for the first answer of a board that starts. Raises `BoardError`."""
    with _spoken(port, baud) as client:
        return _who(client, port, baud, unit, within)


@contextmanager
def _spoken(port: str, baud: int) -> Iterator[Any]:
    from pymodbus.client import ModbusSerialClient

    client: Any = ModbusSerialClient(usable(port), baudrate=baud, timeout=0.3, retries=0)
    try:
        yield client
    finally:
        client.close()


def _who(client: Any, port: str, baud: int, unit: int, within: float) -> Who:
    from pymodbus.exceptions import ModbusException

    end = time.monotonic() + within
    while time.monotonic() < end:
        try:
            if client.connect():
                answer = client.read_input_registers(0, count=9, device_id=unit)
                if not answer.isError():
                    return _told(client, port, unit, answer.registers)
        except ModbusException:
            continue
    raise BoardError(
        "unreachable",
        f"Nothing answers on {port} at {baud} baud as unit {unit}.",
        "See to the board's supply and its light: it blinks slowly until a host speaks to it.",
    )


def _told(client: Any, port: str, unit: int, facts: list[int]) -> Who:
    identity, version, chip, pins, up, cause = facts[:6]
    if identity != IDENTITY:
        raise BoardError("unreachable", f"What answers on {port} is no board of ours.", "Look at the wiring.")
    if version >> 8 != MAP_VERSION:
        raise BoardError(
            "unreachable", f"The board has firmware {version >> 8}.{version & 255}; this service speaks {MAP_VERSION}.x.",
            "Load the image that is shipped with this version.",
        )  # fmt: skip
    name, supply = f"chip {chip}", 0
    can = client.read_input_registers(CAPABLE, count=pins, device_id=unit).registers
    if version & 255 >= 2:
        told = client.read_device_information(read_code=4, object_id=5, device_id=unit).information
        name = told[5].decode("ascii", "replace")
        supply = client.read_input_registers(9, count=1, device_id=unit).registers[0]
    why = ", ".join(said for bit, said in CAUSES.items() if cause & bit)
    return Who(
        (version >> 8, version & 255), name, tuple((word & 255, word >> 8) for word in can), up, why, supply
    )


UNIT, SPEED, RESTART = 4, 5, 6
RESTART_WORD = 0x5E57


def settle(port: str, baud: int, unit: int, to_unit: int, to_baud: int) -> Who:
    """Give a board another number, or its line another speed, and ask it there who it is. Raises `BoardError`."""
    serialports.see_baud(to_baud)
    with _spoken(port, baud) as client:
        who = _who(client, port, baud, unit, 5.0)
        if who.version[1] < 2:
            raise BoardError(
                "version", f"Its firmware {who.version[0]}.{who.version[1]} has these built in.",
                "Load the one that is shipped, or build it so: cairnwind firmware build --unit 5.",
            )  # fmt: skip
        told = ((SPEED, to_baud // 100, unit), (UNIT, to_unit, unit), (RESTART, RESTART_WORD, to_unit))
        for register, value, now in told:
            if register == RESTART:
                time.sleep(KEPT_WITHIN)
            answer = client.write_register(register, value, device_id=now)
            if answer.isError():
                raise BoardError(
                    "held", f"The board does not take that now (exception {answer.exception_code}).",
                    "Something of it is on, or its line cannot have that speed. Stop the service that drives it, and try again.",
                )  # fmt: skip
    time.sleep(0.1)
    return ask(port, to_baud, to_unit)


KEPT_WITHIN = 1.5
"""Seconds in which a board has put what it keeps where it outlives its supply, byte by byte."""
