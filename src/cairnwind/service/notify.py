"""What the machine's manager of services is told: sd_notify(3), datagrams to the socket that it names in ``NOTIFY_SOCKET``."""

from __future__ import annotations

import os
import socket

READY, STOPPING, TURNS = "READY=1", "STOPPING=1", "WATCHDOG=1"


def tell(*words: str) -> None:
    """Say so, where somebody asked to be told. Who cannot be told is no reason to stop."""
    path = os.environ.get("NOTIFY_SOCKET", "")
    if not path.startswith(("/", "@")):
        return
    try:
        with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM | socket.SOCK_CLOEXEC) as out:
            out.setblocking(False)
            out.sendto("\n".join(words).encode(), "\0" + path[1:] if path[0] == "@" else path)
    except OSError:
        pass
