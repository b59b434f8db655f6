"""The guard: a small process that takes pins to safe when the service that drives them dies or hangs.

It is started with one end of a socket. A message that is a JSON list says what 'safe' is, with the files that are
needed (line requests) attached; it is answered 'taken', once what was told before is let go. Every message keeps
the guard quiet for `PATIENCE` seconds; 'bye' ends it without a move. When the other end closes, or is silent for too
long, it takes every pin to safe, says so if anybody is left to hear it, and ends: the lines are let go, and their pull
resistors have them.

Runs by itself (``python -I -S guard.py FD``) and imports next to nothing: nothing that can fail here may.
"""

from __future__ import annotations

import array
import fcntl
import json
import os
import signal
import socket
import struct
import sys
import time

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

PATIENCE = 2.0
MOST_FILES = 250
"""That come with one message: the kernel bears 253."""
SET_VALUES = 0xC010B40F
"""GPIO_V2_LINE_SET_VALUES_IOCTL: _IOWR(0xB4, 0x0F, struct of two u64: bits, mask)."""


def rest(actions: list[dict[str, Any]], files: list[int]) -> None:
    """Take everything to safe; one that fails does not keep the others."""
    for action in actions:
        try:
            if "wait" in action:
                time.sleep(action["wait"])
            elif "file" in action:
                values = struct.pack("=QQ", action["bits"], action["mask"])
                fcntl.ioctl(files[action["file"]], SET_VALUES, values)
            elif "value" in action:
                with open(action["path"], "w") as file:
                    file.write(action["value"])
            else:
                with open(action["period"]) as file:  # as it is by now
                    duty = int(file.read()) * action["parts"] // 1_000_000
                with open(action["path"], "w") as file:
                    file.write(str(duty))
        except (OSError, ValueError):
            pass


def receive(end: socket.socket) -> tuple[bytes, list[int]]:
    """A message, and the files that came with it."""
    files = array.array("i")
    message, extra, _, _ = end.recvmsg(1 << 20, socket.CMSG_LEN(MOST_FILES * files.itemsize))
    for level, kind, data in extra:
        if level == socket.SOL_SOCKET and kind == socket.SCM_RIGHTS:
            files.frombytes(data[: len(data) - len(data) % files.itemsize])
    return message, list(files)


def main() -> None:
    """Guard until the end."""
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_IGN)  # whoever stops the service stops it, not its guard
    end = socket.socket(fileno=int(sys.argv[1]))
    actions: list[dict[str, Any]] = []
    files: list[int] = []
    while True:
        said = b""
        for patience in (PATIENCE, 0.2):  # a second look: the machine itself may have stood still
            end.settimeout(patience)
            try:
                said, came = receive(end)
                break
            except TimeoutError:
                continue
            except OSError:
                break
        if said == b"bye":
            return
        if said[:1] == b"[":
            for file in files:
                os.close(file)
            actions, files = json.loads(said), came
            try:
                end.send(b"taken")
            except OSError:
                pass  # whoever said so has died since: the next look finds the end closed
        if not said:
            rest(actions, files)
            try:
                end.settimeout(0.1)
                end.send(b"rested")
            except OSError:
                pass
            os._exit(0)


if __name__ == "__main__":
    main()
