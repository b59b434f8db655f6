"""A strip of addressable colour lamps on one data line, whose bits are lengths of pulses, made by SPI hardware.

The usual strips take 24 bits for each lamp at 800 kHz: a bit is 1.25 us long, high for about 0.4 us if it is a 0
and 0.8 us if it is a 1, and a low of 280 us or more makes all lamps show what they have got. SPI at 2.4 MHz
sends three of its bits in the time of one: 100 is a 0 (0.417 us high), 110 is a 1 (0.833 us high). The lamps pass
on what is not for them, so the whole strip is written at each change: 60 lamps take 1.8 ms and 540 bytes.

The board's lines are channels: line 3 n is red of lamp n, then green, then blue. Nothing comes back on one wire,
so what is shown is *sent*, never read back.
"""

from __future__ import annotations

import os
import struct
import time
from collections.abc import Collection, Mapping, Sequence
from fcntl import ioctl
from functools import cache, partial
from pathlib import Path
from typing import NamedTuple, Protocol

from cairnwind.boards.access import SPI
from cairnwind.boards.kinds import AS_IT_WAS, BOARD, DEAD, Holds, Kind, Share
from cairnwind.boards.wire import Put
from cairnwind.boards.worker import Worker
from cairnwind.core.facts.hardware import Board
from cairnwind.core.values import entries
from cairnwind.core.values.errors import BoardError
from cairnwind.core.values.fact import fact
from cairnwind.core.values.keys import written
from cairnwind.core.values.settings import FULL


class Code(NamedTuple):
    """How SPI makes the pulses of the strip's bits."""

    bits: int
    """SPI bits for one of the strip's."""
    speed: int
    """Hertz of the SPI clock."""
    zero: int
    one: int
    """What is sent for a 0 and a 1, the highest bit first."""

    @property
    def reset(self) -> int:
        """Bytes of low: 300 us."""
        return self.speed * 300 // 1_000_000 // 8

    @property
    def longest_zero(self) -> int:
        """SPI bits high, of a 0."""
        return self.zero.bit_count()


CODES = {3: Code(3, 2_400_000, 0b100, 0b110), 8: Code(8, 6_400_000, 0b1100_0000, 0b1111_1000)}
"""By SPI bits for one of the strip's. Controllers that pause between bytes need eight: a pause is then always within the low."""
TRIES = 3
"""Attempts at a frame: what was sent is sent again."""
BUFFER = Path("/sys/module/spidev/parameters/bufsiz")
"""Bytes that the kernel's driver takes at once: 4096 unless it was told otherwise."""
AGAIN_EVERY = 2.0
"""Seconds after which an unchanged strip is told again, so that one that was plugged in late is right too."""
_WR_MODE, _WR_BITS, _WR_SPEED = 0x40016B01, 0x40016B03, 0x40046B04
"""ioctl numbers of Linux's spidev (include/uapi/linux/spi/spidev.h)."""


@cache
def _table(code: Code) -> list[bytes]:
    """The SPI bytes of each byte of the strip's."""
    found = []
    for byte in range(256):
        spread = 0
        for bit in range(8):
            spread |= (code.one if byte >> bit & 1 else code.zero) << code.bits * bit
        found.append(spread.to_bytes(code.bits, "big"))
    return found


def encode(channels: bytes, code: Code = CODES[3]) -> bytes:
    """The SPI bytes for the strip's channels, in the order they go out, with the low before and after."""
    table = _table(code)
    return bytes(code.reset) + b"".join([table[byte] for byte in channels]) + bytes(code.reset)


def buffer() -> int:
    """Bytes that one transfer may have."""
    try:
        return int(BUFFER.read_text())
    except (OSError, ValueError):
        return 4096


class Wire(Protocol):
    """What carries the bits."""

    def send(self, data: bytes) -> None:
        """Send bytes, highest bit first, without a gap."""

    def close(self) -> None:
        """Let it go."""


class SpiDevice:
    """The kernel's SPI device."""

    def __init__(self, path: str, code: Code = CODES[3], lamp: int = 3) -> None:
        """``lamp``: channels of one."""
        self._code, self._lamp = code, lamp
        try:
            self._file = os.open(path, os.O_RDWR | os.O_CLOEXEC)
        except OSError as error:
            remedy = (
                "Give the user that group: the one that owns it."
                if error.errno == 13
                else "See: cairnwind doctor."
            )
            raise BoardError(
                "device", f"{path} cannot be opened: {os.strerror(error.errno or 0)}.", remedy
            ) from None
        try:
            ioctl(self._file, _WR_MODE, struct.pack("B", 0))
            ioctl(self._file, _WR_BITS, struct.pack("B", 8))
            ioctl(self._file, _WR_SPEED, struct.pack("I", code.speed))
        except OSError as error:
            os.close(self._file)
            raise BoardError(
                "device", f"{path} is no SPI device: {error.strerror}.", "See: cairnwind doctor."
            ) from None

    def send(self, data: bytes) -> None:
        """One transfer: in two, the lamps would take the pause between them for the end."""
        most = buffer()
        if len(data) > most:
            lamps = (most - 2 * self._code.reset) // (self._code.bits * self._lamp)
            raise BoardError(
                "device", f"the strip takes {len(data)} bytes at once, and the SPI driver {most}: that is {lamps} lamps",
                f"Add spidev.bufsiz={1 << len(data).bit_length()} to the kernel's command line, or have fewer lamps on one line.",
            )  # fmt: skip
        for left in reversed(range(TRIES)):
            try:
                os.write(self._file, data)
                return
            except OSError as error:
                if not left:
                    raise BoardError(
                        "device", f"the SPI device took no data: {error.strerror}.", "See dmesg."
                    ) from None

    def close(self) -> None:
        """Let it go."""
        os.close(self._file)


class SimulatedStrip:
    """A strip in this process: it takes pulses as real lamps do, and shows what they mean."""

    def __init__(self, channels: int, code: Code = CODES[3]) -> None:
        self.channels, self._code = bytes(channels), code
        """What it shows, as it was sent."""
        self.frames = 0

    def send(self, data: bytes) -> None:
        """Take the pulses: one that is longer than a 0 is a 1; the low after them makes it show."""
        bits = "".join(f"{byte:08b}" for byte in data).strip("0") + "0"
        found = ["1" if len(pulse) > self._code.longest_zero else "0" for pulse in bits.split("0") if pulse]
        whole = int("".join(found) or "0", 2).to_bytes(-(-len(found) // 8), "big") if found else b""
        self.channels = (whole + bytes(len(self.channels)))[: len(self.channels)]
        self.frames += 1

    def close(self) -> None:
        """Nothing to let go."""


ORDERS = ("GRB", "RGB", "BGR", "BRG", "RBG", "GBR", "GRBW", "RGBW")


@fact
class Strip:
    """A strip of addressable colour lamps on one data line. Its lines are channels: three for each lamp."""

    device: str = written(
        '`"/dev/spidev0.0"`, or `"simulated"`',
        partial(entries.device, what="an SPI device", example="/dev/spidev0.0"),
        needed='Say where it is: device = "/dev/spidev0.0", or "simulated".',
    )
    pixels: int = written(
        "how many lamps it has",
        partial(entries.whole, low=1, high=1000), name="lamps", needed="Say how many lamps it has: lamps = 30.",
    )  # fmt: skip
    order: str = written(
        "in which order a lamp takes its channels: " + ", ".join(f'`"{order}"`' for order in ORDERS)
        + "; one with W gets its white from what red, green and blue have in common",
        partial(entries.choice, among=ORDERS), default="GRB", unsaid='"GRB"',
    )  # fmt: skip
    spi_bits: int = written(
        "SPI bits for one of the strip's: 3, or 8 for a controller that pauses between bytes",
        partial(entries.one_of, among=tuple(CODES)), default=3, unsaid="3",
    )  # fmt: skip
    functions = frozenset({"pwm"})
    steps = 255
    confirms = False
    """It is told nothing back."""

    def dims(self, line: int) -> bool:
        """Every line has levels by itself."""
        return True


def in_order(levels: Sequence[int], order: str) -> list[int]:
    """What one lamp is sent for red, green and blue: 0 to 255, in the order in which it takes them.

    Its white, if it has one, is what the three have in common, which they then do without: its LED is made for that.
    """
    white = min(levels) if "W" in order else 0
    parts = [*(level - white for level in levels), white]
    return [(parts["RGBW".index(letter)] * 255 + FULL // 2) // FULL for letter in order]


class StripLink(Worker):
    """The link to one strip, written whole at each change and never read back."""

    confirms = "sent"

    def __init__(self, board: Board) -> None:
        super().__init__(board)
        self.facts = board.facts
        self._code, lamp = CODES[self.facts.spi_bits], len(self.facts.order)
        self.simulated = (
            SimulatedStrip(lamp * self.facts.pixels, self._code) if self.facts.device == "simulated" else None
        )
        self._wire: Wire | None = None
        self._levels = [0] * (3 * self.facts.pixels)
        self._sent = 0.0

    def connect(self) -> None:
        """Open the device; everything dark."""
        self._wire = self.simulated or SpiDevice(self.facts.device, self._code, len(self.facts.order))
        self._levels = [0] * (3 * self.facts.pixels)
        self._send()

    def disconnect(self) -> None:
        """Let it go."""
        if self._wire is not None:
            self._wire.close()
        self._wire = None

    def adopt(self, come: Collection[int], gone: Collection[int]) -> None:
        """Lamps that are nobody's are dark; the others show what they did."""
        theirs = {
            line + 3 * number for line, output in self.outputs.items() for number in range(output.pixels)
        }
        self._levels = [level if line in theirs else 0 for line, level in enumerate(self._levels)]
        self._send()

    def put(self, levels: Mapping[int, Put]) -> Mapping[int, int]:
        """All that changes goes out in one frame; a run of lamps shows what its first does."""
        for line, put in levels.items():
            output = self.outputs.get(line)
            for number in range(output.pixels if output is not None else 1):
                self._levels[line + 3 * number] = put.parts
        self._send()
        return {line: put.parts for line, put in levels.items()}

    def poll(self, seconds: float) -> None:
        """Wait; tell it again now and then."""
        self.rest(min(seconds, max(0.0, self._sent + AGAIN_EVERY - time.monotonic())))
        if time.monotonic() >= self._sent + AGAIN_EVERY:
            self._send(quiet=True)
        self.traffic.rounds += 1

    def _send(self, *, quiet: bool = False) -> None:
        assert self._wire is not None
        bytes_out = bytes(
            each
            for pixel in range(self.facts.pixels)
            for each in in_order(self._levels[3 * pixel : 3 * pixel + 3], self.facts.order)
        )
        self._wire.send(encode(bytes_out, self._code))
        self._sent = time.monotonic()
        if not quiet or self.traffic.watched:
            self.traffic.add("sent", bytes_out[:24], f"{self.facts.pixels} lamps")


KIND = Kind(
    "a strip of addressable colour lamps on one data line: three lines for each lamp", lambda board, _: StripLink(board), Strip,
    lines=lambda its: 3 * (its.pixels if its else 1),
    shares=lambda its: Share(f"device {its.device}", "the strip", key="device", remedy="Join them to one board with all its lamps, or give one another device.")
    if its.device != "simulated" else None,
    holds=lambda _: Holds(BOARD, AS_IT_WAS, DEAD),
    needs=lambda its: () if its.device == "simulated" else (SPI,),
)  # fmt: skip
