"""The guard's other end: what a link tells the small process that takes its pins to safe (`cairnwind.boards.guard`)."""

from __future__ import annotations

import array
import json
import socket
import subprocess
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from cairnwind.boards import guard
from cairnwind.core.values.errors import BoardError

WITHIN = 5.0
"""Seconds in which a guard has to start, and to take what it is told."""


class Guard:
    """The guard's other end: see `cairnwind.boards.guard`."""

    def __init__(self, actions: list[dict[str, Any]], files: Sequence[int]) -> None:
        self.end, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        try:
            self._process = subprocess.Popen(
                [sys.executable, "-I", "-S", str(Path(guard.__file__)), str(theirs.fileno())],
                pass_fds=[theirs.fileno()], start_new_session=True, stdin=subprocess.DEVNULL,
            )  # fmt: skip
        finally:
            theirs.close()
        self.end.settimeout(WITHIN)
        self.tell(actions, files)

    def tell(self, actions: list[dict[str, Any]], files: Sequence[int]) -> None:
        """What it does from now on, instead of what it was told before; what it had for that it has let go when this returns."""
        if len(files) > guard.MOST_FILES:
            raise BoardError(
                "guard", f"a guard cares for at most {guard.MOST_FILES} outputs of a board, here are {len(files)}", ""
            )  # fmt: skip
        attached = [(socket.SOL_SOCKET, socket.SCM_RIGHTS, array.array("i", files))] if files else []
        try:
            self.end.sendmsg([json.dumps(actions).encode()], attached)
            heard = self.end.recv(64)
        except OSError:
            heard = b""
        if heard != b"taken":
            raise BoardError("guard", "its guard process has ended", "It is started again.")

    def beat(self) -> None:
        """Still here."""
        try:
            self.end.send(b".", socket.MSG_DONTWAIT)
        except BlockingIOError:
            pass  # it has enough to read
        except OSError:
            raise BoardError("guard", "its guard process has ended", "It is started again.") from None

    def dismiss(self) -> None:
        """Done: it ends without a move."""
        try:
            self.end.send(b"bye")
        except OSError:
            pass
        self.end.close()
        try:
            self._process.wait(1)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
