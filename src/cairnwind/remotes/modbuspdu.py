"""Requests and answers of Modbus (Application Protocol 1.1b3), without their frames: what is asked, and how it is answered.

Nothing is known here of outputs: a request says which addresses of which table are to be read and written.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Sequence
from typing import NamedTuple

FUNCTION, ADDRESS, VALUE, FAILURE, BUSY, TARGET = 1, 2, 3, 4, 6, 11
"""Exception codes."""
NAMES = {
    1: "read coils", 2: "read discrete inputs", 3: "read holding registers", 4: "read input registers", 5: "write coil",
    6: "write register", 15: "write coils", 16: "write registers", 22: "mask register", 23: "write and read registers",
    43: "read identification",
}  # fmt: skip
MASK, BOTH, IDENTIFY = 22, 23, 43
MOST_BYTES = 253
"""Of a request or an answer."""
DEVICE_IDENTIFICATION, STREAMS = 0x0E, 0x82
"""The kind of function 43 that there is; conformity: regular objects, one by one or as a stream."""


class Illegal(Exception):
    """A request that is answered with an exception."""

    def __init__(self, code: int, reason: str) -> None:
        super().__init__(reason)
        self.code = code


class Block(NamedTuple):
    """Addresses of one table that follow each other."""

    function: int
    """By which they are read: 1 to 4."""
    start: int
    many: int

    @property
    def addresses(self) -> range:
        """Each of them."""
        return range(self.start, self.start + self.many)


class Request(NamedTuple):
    """What is asked: addresses are written first, then read."""

    function: int
    reads: Block | None = None
    writes: tuple[tuple[int, int], ...] = ()
    """(address, value); values of coils are 0 or 1."""
    coils: bool = False
    """Of what is written."""
    mask: tuple[int, int] = (0xFFFF, 0)
    """What of a register is kept, and what is put in place of the rest."""
    identity: tuple[int, int] = (0, 0)
    """Which objects of the identification: 1 basic, 2 regular, 3 all, 4 one; and from which on."""

    @property
    def only_reads(self) -> bool:
        """Whether nothing is changed by it."""
        return not self.writes


def decode(pdu: bytes) -> Request:
    """A request. Raises `Illegal`."""
    try:
        return _decode(pdu)
    except (struct.error, IndexError):
        raise Illegal(VALUE, "the request is cut short") from None


def _decode(pdu: bytes) -> Request:
    function = pdu[0]
    match function:
        case 1 | 2:
            return Request(function, _block(function, pdu[1:5], 2000))
        case 3 | 4:
            return Request(function, _block(function, pdu[1:5], 125))
        case 5:
            at, value = struct.unpack(">HH", pdu[1:5])
            if value not in (0, 0xFF00):
                raise Illegal(VALUE, f"{value:#06x} is neither on nor off")
            return Request(function, writes=((at, int(value > 0)),), coils=True)
        case 6:
            return Request(function, writes=(struct.unpack(">HH", pdu[1:5]),))
        case 15:
            block = _block(1, pdu[1:5], 1968)
            if pdu[5] != (block.many + 7) // 8 or len(pdu) != 6 + pdu[5]:
                raise Illegal(VALUE, "the number of bytes does not fit")
            bits = ((at, pdu[6 + number // 8] >> number % 8 & 1) for number, at in enumerate(block.addresses))
            return Request(function, writes=tuple(bits), coils=True)
        case 16:
            return Request(function, writes=_registers(pdu[1:], 123))
        case 22:
            at, keep, put = struct.unpack(">HHH", pdu[1:7])
            return Request(function, _one(at), ((at, 0),), mask=(keep, put))
        case 23:
            return Request(function, _block(3, pdu[1:5], 125), _registers(pdu[5:], 121))
        case 43:
            if pdu[1] != DEVICE_IDENTIFICATION:
                raise Illegal(FUNCTION, "of function 43 there is the identification alone")
            if not 1 <= pdu[2] <= 4:
                raise Illegal(VALUE, f"{pdu[2]} is not 1 to 4")
            return Request(function, identity=(pdu[2], pdu[3]))
    raise Illegal(FUNCTION, f"function {function} is not known")


def _block(function: int, two: bytes, most: int) -> Block:
    start, count = struct.unpack(">HH", two)
    if not 1 <= count <= most:
        raise Illegal(VALUE, f"{count} are not 1 to {most}")
    if start + count > 0x10000:
        raise Illegal(ADDRESS, "beyond the last address")
    return Block(function, start, count)


def _one(at: int) -> Block:
    return Block(3, at, 1)


def _registers(rest: bytes, most: int) -> tuple[tuple[int, int], ...]:
    block = _block(3, rest[:4], most)
    if rest[4] != 2 * block.many or len(rest) != 5 + 2 * block.many:
        raise Illegal(VALUE, "the number of bytes does not fit")
    return tuple(zip(block.addresses, struct.unpack(f">{block.many}H", rest[5:]), strict=True))


# --- answers --------------------------------------------------------------------------------------------------


def read(request: Request, values: Sequence[int]) -> bytes:
    """The answer with what was read."""
    if request.function in (1, 2):
        packed = bytes(
            sum(1 << at for at, bit in enumerate(values[first : first + 8]) if bit)
            for first in range(0, len(values), 8)
        )
    else:
        packed = struct.pack(f">{len(values)}H", *(value & 0xFFFF for value in values))
    return bytes((request.function, len(packed))) + packed


def written(pdu: bytes) -> bytes:
    """The answer to what was written: the request's head."""
    return pdu[:7] if pdu[0] == MASK else pdu[:5]


def refused(pdu: bytes, error: Illegal) -> bytes:
    """The answer to what is not carried out."""
    return bytes((pdu[0] | 0x80, error.code))


def masked(request: Request, value: int) -> int:
    """What a register becomes by a mask (6.16)."""
    keep, put = request.mask
    return (value & keep) | (put & ~keep & 0xFFFF)


def identified(request: Request, objects: dict[int, str]) -> bytes:
    """The answer to who this is (6.21): as many objects as fit, and where the next request goes on. Raises `Illegal`."""
    code, first = request.identity
    if code == 4:
        if first not in objects:
            raise Illegal(ADDRESS, f"there is no object {first}")
        wanted = [first]
    else:
        last = {1: 2, 2: 0x7F, 3: 0xFF}[code]
        wanted = [number for number in sorted(objects) if number <= last]
        wanted = wanted[wanted.index(first) :] if first in wanted else wanted
    body, more = b"", 0
    count = 0
    for number in wanted:
        text = objects[number].encode("utf-8")[: MOST_BYTES - 9]
        if 7 + len(body) + 2 + len(text) > MOST_BYTES:
            more = number
            break
        body += bytes((number, len(text))) + text
        count += 1
    return bytes((IDENTIFY, DEVICE_IDENTIFICATION, code, STREAMS, 0xFF if more else 0, more, count)) + body


def words(pdu: bytes) -> str:
    """A request in short."""
    where = f" {int.from_bytes(pdu[1:3], 'big')}" if len(pdu) >= 3 and pdu[0] != IDENTIFY else ""
    return f"{NAMES.get(pdu[0], 'unknown')}{where}"


Reader = Callable[[int], int]
"""The value of one address; raises `Illegal` where it stands for nothing."""


def look(block: Block, reader: Reader) -> list[int]:
    """The values of a block: what stands for nothing reads as 0, unless all of it does. Raises `Illegal`."""
    values: list[int] = []
    missing: list[Illegal] = []
    for at in block.addresses:
        try:
            values.append(reader(at))
        except Illegal as error:
            if error.code != ADDRESS:
                raise
            missing.append(error)
            values.append(0)
    if len(missing) == block.many:
        raise missing[0]
    return values
