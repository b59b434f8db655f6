"""Serial ports: which there are, and which one is meant. Several boards on one line share it."""

from __future__ import annotations

import os
import threading
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import Any, ClassVar

from cairnwind.core.values import entries
from cairnwind.core.values.errors import BoardError, CallerError
from cairnwind.core.values.keys import written

BAUDS = (1200, 2400, 4800, 9600, 19200, 38400, 57600, 115200, 230400, 250000, 460800, 500000, 921600, 1000000)
"""Speeds that a line may have."""
CLOCK = 16_000_000
"""Hertz of the chip that our firmware runs on."""
WORST = 0.025
"""So far two ends of a line may be apart: a bit is read in its middle, ten of them after one start."""
PARITY = written('`"none"`, `"even"` or `"odd"`', entries.parity, default="N", unsaid='"none"')
STOP_BITS = written("1 or 2", partial(entries.one_of, among=(1, 2)), default=1, unsaid="1")


def _off(baud: int) -> float:
    counts = max(1, round(CLOCK / (8 * baud)))
    return abs(CLOCK / (8 * counts) / baud - 1)


def see_baud(baud: int) -> None:
    """Raise `CallerError` (``key``: baud) for a speed that the chip of our firmware is too far away from: it divides its clock by eight times
    a whole number (data sheet, asynchronous double speed)."""
    if _off(baud) <= WORST:
        return
    fit = ", ".join(str(each) for each in BAUDS if _off(each) <= WORST)
    error = CallerError(
        "bad-value", f"Our firmware's chip at {CLOCK // 1_000_000} MHz is {_off(baud):.1%} away from {baud} baud: its frames would be garbled.",
        f"Take one of {fit}.",
    )  # fmt: skip
    error.more["key"] = "baud"
    raise error


def terms(port: str) -> str:
    """A port as it is spoken of: by the one name that it has, where it is there."""
    if port.startswith("usb:"):
        from serial.tools import list_ports

        port = next((each.device for each in list_ports.comports() if each.serial_number == port[4:]), port)
    return f"serial port {os.path.realpath(port) if port.startswith('/') else port}"


def known() -> list[str]:
    """The ports there are, each with what it calls itself: '/dev/ttyUSB0 (usb:A50285BI)'."""
    from serial.tools import list_ports

    found = {
        port.device: f" (usb:{port.serial_number})" if port.serial_number else ""
        for port in list_ports.comports()
        if port.device.startswith(("/dev/ttyUSB", "/dev/ttyACM")) or port.vid is not None
    }
    found |= {
        str(path): ""
        for pattern in ("ttyUSB*", "ttyACM*", "ttyAMA*")
        for path in Path("/dev").glob(pattern)
        if str(path) not in found
    }
    return [f"{device}{called}" for device, called in sorted(found.items())]


def find(port: str) -> str:
    """The device path of a port given by path or by USB serial number. Raises `BoardError` that lists the ports."""
    from serial.tools import list_ports

    there = ", ".join(known()) or "none: plug the adapter in"
    if port.startswith("usb:"):
        for each in list_ports.comports():
            if each.serial_number == port[4:]:
                return str(each.device)
        raise BoardError(
            "no-device",
            f"No serial port with the USB serial number {port[4:]} is there.",
            f"Ports here: {there}.",
        )
    if not Path(port).exists():
        raise BoardError("no-device", f"There is no serial port {port}.", f"Ports here: {there}.")
    return port


def trouble(path: str) -> BoardError | None:
    """Why a port that is there cannot be used, if it cannot: no right to it, or another program has it."""
    import fcntl

    from cairnwind.boards.gpio import no_permission

    try:
        file = os.open(path, os.O_RDWR | os.O_NOCTTY | os.O_NONBLOCK)
    except PermissionError:
        return no_permission(path)
    except OSError as error:
        return BoardError("device", f"{path} cannot be opened: {error.strerror}.", "See to the adapter.")
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)  # as all do who open a port for themselves
    except OSError:
        by = _holder(path)
        return BoardError(
            "held-line", f"{path} is in use: {by or 'another program'} has it.", f"End {'that' if by else 'it'} first."
        )  # fmt: skip
    finally:
        os.close(file)
    return None


def _holder(path: str) -> str:
    """The program that has locked a device, as proc(5) tells in /proc/locks."""
    its = os.stat(path)
    mine = f"{os.major(its.st_dev):02x}:{os.minor(its.st_dev):02x}:{its.st_ino}"
    try:
        for line in Path("/proc/locks").read_text().splitlines():
            words = line.split()  # 1: FLOCK ADVISORY WRITE PROCESS MAJOR:MINOR:INODE BEGIN END
            if words[1] == "FLOCK" and words[5] == mine:
                said = (Path("/proc") / words[4] / "cmdline").read_bytes().split(b"\0")
                called = " ".join(
                    os.path.basename(os.fsdecode(word)) for word in said[:3] if not word.startswith(b"-")
                )
                return f"'{called.strip()}' (process {words[4]})"
    except (OSError, IndexError):
        pass
    return ""


class Turn:
    """Who talks on a line: one at a time, in the order in which they came, and whoever keeps a board alive before everybody else."""

    def __init__(self) -> None:
        self._changed = threading.Condition()
        self._taken = False
        self._waiting: deque[object] = deque()
        self._hurried = 0
        """How many wait who go first."""

    def __enter__(self) -> None:
        mine = object()
        with self._changed:
            self._waiting.append(mine)
            while self._taken or self._hurried or self._waiting[0] is not mine:
                self._changed.wait()
            self._waiting.popleft()
            self._taken = True

    def __exit__(self, *_: object) -> None:
        with self._changed:
            self._taken = False
            self._changed.notify_all()

    @contextmanager
    def first(self) -> Iterator[None]:
        """The next turn, before all who wait for an ordinary one."""
        with self._changed:
            self._hurried += 1
            while self._taken:
                self._changed.wait()
            self._hurried -= 1
            self._taken = True
        try:
            yield
        finally:
            self.__exit__()


class Line:
    """One line that boards share: one of them talks at a time."""

    _lines: ClassVar[dict[str, Line]] = {}
    _all = threading.Lock()

    def __init__(self) -> None:
        self.turn = Turn()
        self.client: Any = None
        self.users = 0
        self.raw = [b"", b""]
        """What was sent and received in the present turn."""
        self.spoken = 0.0
        """Monotonic seconds at which somebody last said anything on it."""

    def trace(self, sending: bool, data: bytes) -> bytes:
        """What the client calls with everything that goes over the line."""
        self.raw[0 if sending else 1] = data  # of what comes, the client gives all that it has so far
        return data

    @classmethod
    def take(cls, name: str) -> Line:
        """The line of this name, one user more."""
        with cls._all:
            line = cls._lines.setdefault(name, cls())
            line.users += 1
            return line

    @classmethod
    def give(cls, name: str) -> Line | None:
        """One user less; the line, if that was the last, for its client to be closed."""
        with cls._all:
            line = cls._lines[name]
            line.users -= 1
            return cls._lines.pop(name) if line.users == 0 else None
