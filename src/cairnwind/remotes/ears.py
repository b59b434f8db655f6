"""UDP sockets of one port, of which one hears only what begins with certain bytes: a flood of anything else does not crowd that out.

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


def listening(host: str, port: int, begins: bytes) -> list[socket.socket]:
    """The socket for all, and the one for what ``begins`` so, if there can be one. Raises `OSError` where somebody else has the port."""
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    made = [_bound(family, (host, port))]  # alone: with others, the option below would share it with them
    if sys.platform != "linux":
        return made
    port = made.pop().getsockname()[1]
    try:
        for _ in range(2):
            made.append(_bound(family, (host, port), shared=True))
        code = _program(begins)
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


def _program(begins: bytes) -> ctypes.Array[ctypes.c_char]:
    """Socket 1 for what begins so, else socket 0."""
    parts = [(LOAD_WORD, at, begins[at : at + 4]) for at in range(0, len(begins) - 3, 4)]
    parts += [(LOAD_BYTE, at, begins[at : at + 1]) for at in range(len(begins) // 4 * 4, len(begins))]
    steps: list[tuple[int, int, int, int]] = []
    for number, (load, at, part) in enumerate(parts):
        others = 2 * (len(parts) - number) - 1
        steps += [(load, 0, 0, at), (IF_EQUAL, 0, others, int.from_bytes(part, "big"))]
    steps += [(RETURN, 0, 0, 1), (RETURN, 0, 0, 0)]
    code = b"".join(struct.pack("=HBBI", *step) for step in steps)
    return ctypes.create_string_buffer(code, len(code))
