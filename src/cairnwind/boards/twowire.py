"""A two-wire bus: the kernel's /dev/i2c-N with SMBus transfers, or register-accurate chips in this process.

Source of the numbers: include/uapi/linux/i2c-dev.h and i2c.h of the kernel.
"""

from __future__ import annotations

import ctypes
import errno
import fcntl
import os
import time
from collections.abc import Callable
from typing import Protocol, TypeVar

from cairnwind.boards import gpio
from cairnwind.boards.facts import Chip
from cairnwind.core.values.errors import BoardError

T = TypeVar("T")
I2C_SLAVE, I2C_SMBUS = 0x0703, 0x0720
WRITE, READ = 0, 1
BYTE, BYTE_DATA, BLOCK = 1, 2, 8
LONGEST = 32
RESTART, ASLEEP, COUNTS_UP = 0x80, 0x10, 0x20
"""Bits of the mode register of a PWM controller."""
ADDRESSES = range(0x08, 0x78)
"""7-bit addresses that are not reserved by the standard."""


TRIES, BETWEEN = 3, 0.002
"""Attempts at a transfer, and seconds between them: registers may be read and written again, and one disturbance is no lost board."""
WHY = {
    errno.ENXIO: "", errno.EREMOTEIO: "", errno.ENODEV: "",
    errno.EAGAIN: "another master had the bus (arbitration lost)", errno.ETIMEDOUT: "the bus did not get free: something holds a wire low",
    errno.EOPNOTSUPP: "the adapter cannot make such a transfer", errno.EIO: "the transfer broke off",
    errno.EPROTO: "what came is no answer", errno.EBADMSG: "what came is no answer",
}  # fmt: skip
"""What an error of the kernel's I2C (Documentation/i2c/fault-codes.rst) says; empty: nobody answers."""


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
        def once() -> bytes:
            buffer = ctypes.create_string_buffer(data, LONGEST + 2)
            transfer = _Transfer(way, command, size, ctypes.cast(buffer, ctypes.c_void_p))
            fcntl.ioctl(self._file, I2C_SMBUS, transfer)
            return buffer.raw

        return tried(once, f"address 0x{self.address:02X} of {self.path}")


def tried(once: Callable[[], T], where: str) -> T:
    """A transfer, up to `TRIES` times. Raises `BoardError` that tells the kernel's errors apart."""
    for left in reversed(range(TRIES)):
        try:
            return once()
        except OSError as error:
            if left and error.errno != errno.EOPNOTSUPP:
                time.sleep(BETWEEN)
                continue
            why = WHY.get(error.errno or 0, error.strerror or "")
            if not why:
                raise BoardError(
                    "no-answer", f"Nothing answers at {where} ({error.strerror}).",
                    "See to supply, wires and address switches: cairnwind chain shows what answers.",
                ) from None  # fmt: skip
            remedy = (
                "Take another adapter."
                if error.errno == errno.EOPNOTSUPP
                else "See to the wires: their length, their pull-ups, what else is on them."
            )
            raise BoardError("bus", f"The bus failed at {where}: {why}.", remedy) from None
    raise AssertionError("the last attempt has returned or raised")


class SimulatedBus:
    """One chip with its registers, as its profile describes it. It can be pulled out, browned out and disturbed."""

    def __init__(self, chip: Chip, address: int) -> None:
        self.chip, self.address = chip, address
        self.there = True
        self.faults: list[int] = []
        """Errors (`errno`) of the transfers to come, one each."""
        self.transactions = 0
        self.outside: dict[int, bool] = {}
        """What the world puts on input lines; the others are at their pull."""
        self.reset()

    def reset(self) -> None:
        """As after power-on, or a dip of the supply that the bus is not told of: registers as the data sheet has them."""
        self.registers = bytearray(256)
        self.waits = False
        """Of a PWM controller: its oscillator runs again, and its channels wait to be restarted."""
        for name, value in self.chip.after_reset.items():
            self._store(name, value)

    def duty(self, line: int) -> int:
        """Counts for which a channel of a PWM controller is high now: none while it sleeps, or waits to be restarted."""
        at = self.chip.registers["first"] + line * self.chip.stride
        start, end = (int.from_bytes(self.registers[at + by : at + by + 2], "little") for by in (0, 2))
        if self.word("mode") & ASLEEP or self.waits:
            return 0
        return (
            self.chip.counts
            if start & self.chip.counts
            else 0
            if end & self.chip.counts
            else (end - start) % self.chip.counts
        )

    def read(self, register: int, count: int) -> bytes:
        """See `Bus`."""
        tried(self._turn, f"address 0x{self.address:02X} of the simulated bus")
        if self.chip.kind == "ports" and "input" in self.chip.registers:
            self._store("input", self.levels())
        return bytes(self.registers[register : register + count])

    def write(self, register: int, data: bytes) -> None:
        """See `Bus`."""
        tried(self._turn, f"address 0x{self.address:02X} of the simulated bus")
        if self.chip.kind == "pwm":
            data = self._of_controller(register, data)
        self.registers[register : register + len(data)] = data

    def _of_controller(self, register: int, data: bytes) -> bytes:
        """A controller takes its prescaler only asleep; put to sleep and woken, its channels wait for the restart bit."""
        mode = self.word("mode")
        if register == self.chip.registers["prescale"] and not mode & ASLEEP:
            return bytes(self.registers[register : register + 1])
        if register != self.chip.registers["mode"]:
            return data
        if data[0] & ASLEEP and not mode & ASLEEP:
            self.waits = True
        elif data[0] & RESTART and not data[0] & ASLEEP:
            self.waits = False
        return bytes([data[0] & ~RESTART | (RESTART if self.waits else 0)])

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
        return int.from_bytes(self.registers[at : at + self.chip.width], "little")

    def close(self) -> None:
        """See `Bus`."""

    def _store(self, name: str, value: int) -> None:
        at, size = self.chip.registers[name], self.chip.width
        self.registers[at : at + size] = (value & ((1 << 8 * size) - 1)).to_bytes(size, "little")

    def _turn(self) -> None:
        self.transactions += 1
        if self.faults:
            raise OSError(fault := self.faults.pop(0), os.strerror(fault))
        if not self.there:
            raise OSError(errno.ENXIO, os.strerror(errno.ENXIO))


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
