"""UDP sockets of one OSC port, of which one hears only what may be for one address: a flood of anything else does not crowd that out.

The kernel tells them apart (Linux: sockets(7), SO_REUSEPORT, and a classic BPF program that is given what was sent and says
which of the sockets gets it): a message to the address, or to a pattern; a bundle that has the address anywhere, or begins with a
pattern. Elsewhere there is one socket, and what does not fit into its buffer is lost.
"""

from __future__ import annotations

import ctypes
import socket
import struct
import sys

from cairnwind.remotes.osc import MARKS

ATTACH = 51
"""SO_ATTACH_REUSEPORT_CBPF."""
LOAD_WORD, LOAD_BYTE, IF_EQUAL, RETURN, GO_ON = 0x20, 0x30, 0x15, 0x06, 0x05
"""Of the program: a big-endian word, or a byte, at a place; a jump if it is that; which socket; a jump."""
STEP = 8
"""Bytes of a step of the program."""
FIRST = 20
"""Where the first message of a bundle begins, after its name, its time and its length."""
LONGEST, FURTHEST = 64, 1500
"""Bytes of an address in which a pattern is looked for, and of a bundle in which the address is: what a network carries in one piece."""
TURN = 0.5
"""Seconds between two looks whether it is over."""
Steps = list[tuple[int, int, int, int]]
"""What is done, how far it is to go on if so and if not, and with what."""
NOT, THEIRS = (RETURN, 0, 0, 0), (RETURN, 0, 0, 1)


def listening(host: str, port: int, address: bytes) -> list[socket.socket]:
    """The socket for all, and the one for what may be for ``address``, if there can be one. Raises `OSError` where somebody else has the port."""
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    made = [_bound(family, (host, port))]  # alone: with others, the option below would share it with them
    if sys.platform != "linux":
        return made
    port = made.pop().getsockname()[1]
    try:
        for _ in range(2):
            made.append(_bound(family, (host, port), shared=True))
        code = b"".join(struct.pack("=HBBI", *step) for step in _program(address))
        held = ctypes.create_string_buffer(code, len(code))
        option = struct.pack("@HP", len(code) // STEP, ctypes.addressof(held))
        made[0].setsockopt(socket.SOL_SOCKET, ATTACH, option)
    except OSError:
        for each in made:
            each.close()
        made = [_bound(family, (host, port))]
    return made


def _bound(family: int, address: tuple[str, int], *, shared: bool = False) -> socket.socket:
    made = socket.socket(family, socket.SOCK_DGRAM)
    try:
        if shared:
            made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEPORT, 1)
        made.bind(address)
    except OSError:
        made.close()
        raise
    made.settimeout(TURN)
    return made


def _program(address: bytes) -> Steps:
    """Socket 1 for what may be for the address, else socket 0. A look beyond the end of what was sent ends it with 0."""
    message = [*_says(address, 0), *_is_pattern(0), NOT]
    bundle = [
        *_is_pattern(FIRST),
        *(step for at in range(FIRST, FURTHEST, 4) for step in _says(address, at)),
        NOT,
    ]
    return [(LOAD_BYTE, 0, 0, 0), (IF_EQUAL, 0, 1, ord("#")), (GO_ON, 0, 0, len(message)), *message, *bundle]


def _says(address: bytes, at: int) -> Steps:
    """It is theirs if the address stands there, filled up with zeros as OSC has it."""
    words = [int.from_bytes(address[n : n + 4].ljust(4, b"\0"), "big") for n in range(0, len(address) + 1, 4)]
    steps: Steps = []
    for number, word in enumerate(words):
        past = 2 * (len(words) - number) - 1
        steps += [(LOAD_WORD, 0, 0, at + 4 * number), (IF_EQUAL, 0, past, word)]
    return [*steps, THEIRS]


def _is_pattern(at: int) -> Steps:
    """It is theirs if the address that begins there has a mark of a pattern before its end."""
    steps: Steps = []
    marks = [ord(mark) for mark in sorted(MARKS)]
    for number in range(LONGEST):
        asked = [(IF_EQUAL, len(marks) - n, 0, mark) for n, mark in enumerate(marks)]
        left = (LONGEST - 1 - number) * (len(marks) + 4)
        steps += [(LOAD_BYTE, 0, 0, at + number), *asked, (IF_EQUAL, 1, 2, 0), THEIRS, (GO_ON, 0, 0, left)]
    return steps
