"""UDP sockets of one port, of which one hears only what has certain bytes at certain places: a flood of anything else does not crowd that out.

The kernel tells them apart (Linux: sockets(7), SO_REUSEPORT, and a classic BPF program that is given what was sent and says
which of the sockets gets it). Elsewhere there is one socket, and what does not fit into its buffer is lost.
"""

from __future__ import annotations

import ctypes
import socket
import struct
import sys

ATTACH = 51
"""SO_ATTACH_REUSEPORT_CBPF."""
LOAD_WORD, LOAD_BYTE, IF_EQUAL, RETURN = 0x20, 0x30, 0x15, 0x06
"""Of the program: a big-endian word, or a byte, at a place; a jump; which socket."""
STEP = 8
"""Bytes of a step of the program."""
TURN = 0.5
"""Seconds between two looks whether it is over."""


Looks = tuple[tuple[int, bytes], ...]
"""What something looks like: bytes, and where they stand."""


def listening(host: str, port: int, either: tuple[Looks, ...]) -> list[socket.socket]:
    """The socket for all, and the one for what looks like ``either`` of some, if there can be one. Raises `OSError` where somebody else has the port."""
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    made = [_bound(family, (host, port))]  # alone: with others, the option below would share it with them
    if sys.platform != "linux":
        return made
    port = made.pop().getsockname()[1]
    try:
        for _ in range(2):
            made.append(_bound(family, (host, port), shared=True))
        code = _program(either)
        option = struct.pack("@HP", len(code) // STEP, ctypes.addressof(code))
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


def _program(either: tuple[Looks, ...]) -> ctypes.Array[ctypes.c_char]:
    """Socket 1 for what looks like either of them, else socket 0. A look beyond the end of what was sent ends it with 0."""
    steps: list[tuple[int, int, int, int]] = []
    for looks in either:
        parts = [part for at, text in looks for part in _parts(at, text)]
        for number, (load, at, part) in enumerate(parts):
            to_next = 2 * (len(parts) - number - 1) + 1
            steps += [(load, 0, 0, at), (IF_EQUAL, 0, to_next, int.from_bytes(part, "big"))]
        steps.append((RETURN, 0, 0, 1))
    steps.append((RETURN, 0, 0, 0))
    code = b"".join(struct.pack("=HBBI", *step) for step in steps)
    return ctypes.create_string_buffer(code, len(code))


def _parts(at: int, text: bytes) -> list[tuple[int, int, bytes]]:
    """Words, then bytes: how each is loaded, where, and what it has to be."""
    words = len(text) // 4 * 4
    return [(LOAD_WORD, at + n, text[n : n + 4]) for n in range(0, words, 4)] + [
        (LOAD_BYTE, at + n, text[n : n + 1]) for n in range(words, len(text))
    ]
