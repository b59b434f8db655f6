"""A two-wire bus: the kernel's /dev/i2c-N with SMBus transfers, or register-accurate chips in this process.

Source of the numbers: include/uapi/linux/i2c-dev.h and i2c.h of the kernel.
"""

from __future__ import annotations

import ctypes
import errno
import fcntl
import os
from typing import Protocol

from cairnwind.boards import gpio
from cairnwind.boards.facts import Chip
from cairnwind.core.values.errors import BoardError

I2C_SLAVE, I2C_SMBUS = 0x0703, 0x0720
WRITE, READ = 0, 1
BYTE, BYTE_DATA, BLOCK = 1, 2, 8
LONGEST = 32
ADDRESSES = range(0x08, 0x78)
"""7-bit addresses that are not reserved by the standard."""


class _Transfer(ctypes.Structure):
    _fields_ = (
        ("way", ctypes.c_uint8),
        ("command", ctypes.c_uint8),
        ("size", ctypes.c_uint32),
        ("data", ctypes.c_void_p),
    )


class Bus(Protocol):
    """What a link asks of a bus. Both raise `BoardError` when nothing answers."""

    def read(self, register: int, count: int) -> bytes:
        """Read ``count`` registers from ``register`` on, in one transaction."""

    def write(self, register: int, data: bytes) -> None:
        """Write registers from ``register`` on, in one transaction."""

    def close(self) -> None:
        """Done."""


class KernelBus:
    """One address of a bus of this machine."""

    def __init__(self, path: str, address: int) -> None:
        """Open it. Raises `BoardError` that says what to do."""
        self.path, self.address = path, address
        try:
            self._file = os.open(path, os.O_RDWR | os.O_CLOEXEC)
        except OSError as error:
            if error.errno == errno.ENOENT:
                raise BoardError(
                    "no-device", f"There is no {path} here.", f"Buses here: {', '.join(buses()) or 'none'}."
                ) from None
            raise gpio.trouble(error, path) from None
        try:
            fcntl.ioctl(self._file, I2C_SLAVE, address)
        except OSError as error:
            os.close(self._file)
            if error.errno == errno.EBUSY:
                raise BoardError(
                    "held-line",
                    f"Address 0x{address:02X} of {path} is held by a driver of the kernel.",
                    "Unbind that driver, or use what it offers.",
                ) from None
            raise gpio.trouble(error, path) from None

    def read(self, register: int, count: int) -> bytes:
        """See `Bus`."""
        if count == 1:
            return self._transfer(READ, register, BYTE_DATA, b"\0")[:1]
        return self._transfer(READ, register, BLOCK, bytes([count]) + bytes(count))[1 : count + 1]

    def write(self, register: int, data: bytes) -> None:
        """See `Bus`."""
        if len(data) == 1:
            self._transfer(WRITE, register, BYTE_DATA, data)
        else:
            self._transfer(WRITE, register, BLOCK, bytes([len(data)]) + data)

    def answers(self) -> bool:
        """Whether anything is there: a read of one byte, which moves no register of the usual chips."""
        try:
            self._transfer(READ, 0, BYTE, b"\0")
        except BoardError:
            return False
        return True

    def close(self) -> None:
        """See `Bus`."""
        os.close(self._file)

    def _transfer(self, way: int, command: int, size: int, data: bytes) -> bytes:
        buffer = ctypes.create_string_buffer(data, LONGEST + 2)
        transfer = _Transfer(way, command, size, ctypes.cast(buffer, ctypes.c_void_p))
        try:
            fcntl.ioctl(self._file, I2C_SMBUS, transfer)
        except OSError as error:
            raise BoardError(
                "no-answer", f"Nothing answers at address 0x{self.address:02X} of {self.path} ({error.strerror}).",
                "See to supply, wires and address switches: cairnwind chain shows what answers.",
            ) from None  # fmt: skip
        return buffer.raw


class SimulatedBus:
    """One chip with its registers, as its profile describes it; it can be pulled out."""

    def __init__(self, chip: Chip, address: int) -> None:
        self.chip, self.address = chip, address
        self.there = True
        self.transactions = 0
        self.outside: dict[int, bool] = {}
        """What the world puts on input lines; the others are at their pull."""
        self.reset()

    def reset(self) -> None:
        """As after power-on: all lines inputs."""
        self.registers = bytearray(256)
        if "direction" in self.chip.registers and self.chip.direction_in:
            self._store("direction", 0xFFFF)
        if self.chip.kind == "ports":
            self._store("output", 0xFFFF)

    def read(self, register: int, count: int) -> bytes:
        """See `Bus`."""
        self._turn()
        if self.chip.kind == "ports" and "input" in self.chip.registers:
            self._store("input", self.levels())
        return bytes(self.registers[register : register + count])

    def write(self, register: int, data: bytes) -> None:
        """See `Bus`."""
        self._turn()
        self.registers[register : register + len(data)] = data

    def levels(self) -> int:
        """What the pins are at, a bit each: driven, given from outside, or pulled."""
        word = self.word("output") if self.chip.kind == "ports" else 0
        direction = self.word("direction") if "direction" in self.chip.registers else 0
        inputs = direction if self.chip.direction_in else ~direction
        pulls = self.word("pull-up") if "pull-up" in self.chip.registers else 0
        levels = 0
        for line in range(self.chip.lines):
            given = (
                self.outside.get(line, bool(pulls >> line & 1))
                if inputs >> line & 1
                else bool(word >> line & 1)
            )
            levels |= given << line
        return levels

    def word(self, name: str) -> int:
        """A register, or a pair of them."""
        at = self.chip.registers[name]
        return int.from_bytes(self.registers[at : at + (2 if self.chip.wide else 1)], "little")

    def close(self) -> None:
        """See `Bus`."""

    def _store(self, name: str, value: int) -> None:
        at, size = self.chip.registers[name], 2 if self.chip.wide else 1
        self.registers[at : at + size] = (value & ((1 << 8 * size) - 1)).to_bytes(size, "little")

    def _turn(self) -> None:
        self.transactions += 1
        if not self.there:
            raise BoardError(
                "no-answer",
                f"Nothing answers at address 0x{self.address:02X} of the simulated bus.",
                "Plug it in.",
            )


def buses() -> list[str]:
    """The two-wire buses of this machine."""
    from pathlib import Path

    return [str(path) for path in sorted(Path("/dev").glob("i2c-*"))]


def scan(path: str) -> dict[int, str]:
    """What is at each address of a bus: 'answers', or 'held by a driver'. Addresses without anything are left out."""
    found = {}
    KernelBus(path, ADDRESSES[0]).close()  # raises at once if there is no such bus, or no right to it
    for address in ADDRESSES:
        try:
            bus = KernelBus(path, address)
        except BoardError as error:
            if error.code == "held-line":
                found[address] = "held by a driver"
            continue
        if bus.answers():
            found[address] = "answers"
        bus.close()
    return found


def truth_table(chip: Chip) -> list[tuple[list[int], int]]:
    """Every setting of the address switches (the highest first, as on the board) with its address."""
    return [
        ([number >> switch & 1 for switch in reversed(range(chip.switches))], chip.address(number))
        for number in range(1 << chip.switches)
    ]
