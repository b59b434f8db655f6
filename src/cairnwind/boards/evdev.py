"""Buttons, keypads, remote controls and knobs as the kernel's input devices tell of them: include/uapi/linux/input.h, over `fcntl` and `struct`.

Codes are those of include/uapi/linux/input-event-codes.h; a key is called as there, in small letters and without what stands before it:
``volumeup`` is KEY_VOLUMEUP. One without a name here is ``code-464``.
"""

from __future__ import annotations

import fcntl
import os
import re
import struct
import time
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from cairnwind.boards.gpio import no_permission
from cairnwind.core.values.errors import BoardError, CallerError, nearest

DEV = Path("/dev/input")
SYNC, KEY, TURN = 0, 1, 2
"""Types of events: EV_SYN, EV_KEY, EV_REL."""
DROPPED = 3
"""SYN_DROPPED: the kernel had no room for what came."""
_EVENT = struct.Struct("=qqHHi") if struct.calcsize("l") == 8 else struct.Struct("=iiHHi")
_READ, _WRITE = 2, 1
_KEYS = 96
"""Bytes of a bit for each key: KEY_MAX is 0x2ff."""
MONOTONIC = 1


def _number(direction: int, number: int, size: int) -> int:
    return direction << 30 | size << 16 | ord("E") << 8 | number


GET_NAME, GET_SERIAL = _number(_READ, 0x06, 256), _number(_READ, 0x08, 256)
GET_KEYS = _number(_READ, 0x18, _KEYS)
GRAB, SET_CLOCK = _number(_WRITE, 0x90, 4), _number(_WRITE, 0xA0, 4)
_ROWS = {
    1: "esc 1 2 3 4 5 6 7 8 9 0 minus equal backspace tab q w e r t y u i o p leftbrace rightbrace enter leftctrl a s d f g h j k l semicolon "
    "apostrophe grave leftshift backslash z x c v b n m comma dot slash rightshift kpasterisk leftalt space capslock f1 f2 f3 f4 f5 f6 f7 f8 f9 f10 "
    "numlock scrolllock kp7 kp8 kp9 kpminus kp4 kp5 kp6 kpplus kp1 kp2 kp3 kp0 kpdot",
    87: "f11 f12",
    96: "kpenter rightctrl kpslash sysrq rightalt",
    102: "home up pageup left right end down pagedown insert delete",
    113: "mute volumedown volumeup power",
    139: "menu",
    142: "sleep",
    158: "back",
    163: "nextsong playpause previoussong stopcd",
    207: "play",
    224: "brightnessdown brightnessup",
    256: "btn0 btn1 btn2 btn3 btn4 btn5 btn6 btn7 btn8 btn9",
    272: "left-button right-button middle-button",
    304: "south east c-button north west z-button",
    352: "ok",
    398: "red green yellow blue",
    402: "channelup channeldown",
    512: "numeric0 numeric1 numeric2 numeric3 numeric4 numeric5 numeric6 numeric7 numeric8 numeric9 numericstar numericpound",
}
"""Names of keys, from these codes on."""
NAMES = {name: first + number for first, row in _ROWS.items() for number, name in enumerate(row.split())}
CALLED = {code: name for name, code in NAMES.items()}
AXES = {"x": 0, "y": 1, "z": 2, "hwheel": 6, "dial": 7, "wheel": 8}
DIGITS = {
    NAMES[f"{kind}{digit}"]: str(digit) for kind in ("", "kp", "numeric") for digit in range(10)
}  # fmt: skip
"""Keys that are a digit."""
ENTER = frozenset(NAMES[each] for each in ("enter", "kpenter", "ok", "numericpound"))
CLEAR = frozenset(NAMES[each] for each in ("esc", "backspace", "delete", "numericstar"))


class Line(NamedTuple):
    """A key, a knob, or one way round of one."""

    text: str
    kind: int
    code: int
    way: int = 0
    """Of a knob: 1 or -1; 0: the whole knob."""


def line(value: object) -> Line:
    """What a text names: 'volumeup', 'code-464', 'dial+'. Raises `CallerError`."""
    text = str(value)
    if text in NAMES:
        return Line(text, KEY, NAMES[text])
    if match := re.fullmatch(r"code-(\d{1,3})", text):
        return Line(text, KEY, int(match[1]))
    if match := re.fullmatch(r"(\w+?)([+-]?)", text):
        if match[1] in AXES:
            return Line(text, TURN, AXES[match[1]], {"+": 1, "-": -1, "": 0}[match[2]])
    raise CallerError(
        "", f"{value!r} is no key, no knob and no way round of one",
        nearest(text, [*NAMES, *(f"{axis}{way}" for axis in AXES for way in ("", "+", "-"))])
        or 'Write "enter", "kp1", "volumeup", "code-464" or "dial+"; cairnwind doctor lists devices.',
    )  # fmt: skip


class Event(NamedTuple):
    """Something that happened, ``mono`` in the kernel's monotonic nanoseconds."""

    mono: int
    kind: int
    code: int
    value: int


class Device:
    """An open input device, which nobody else gets the events of."""

    def __init__(self, path: str) -> None:
        """Open it. Raises `BoardError`."""
        self.path = path
        try:
            self.file = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
        except OSError as error:
            raise _trouble(error, path) from None
        try:
            self.name = _text(fcntl.ioctl(self.file, GET_NAME, bytes(256)))
            fcntl.ioctl(self.file, SET_CLOCK, struct.pack("i", MONOTONIC))
        except OSError:
            os.close(self.file)
            raise BoardError(
                "no-device", f"{path} is no input device.", "cairnwind doctor lists those that are."
            ) from None

    def grab(self) -> None:
        """Have its events alone: what is typed here is typed nowhere else. Raises `BoardError`."""
        try:
            fcntl.ioctl(self.file, GRAB, 1)
        except OSError as error:
            raise BoardError(
                "held-line",
                f"{self.name} ({self.path}) is another program's: {os.strerror(error.errno or 0).lower()}.",
                "End it; it is tried again.",
            ) from None

    def pressed(self) -> frozenset[int]:
        """The keys that are down. Raises `BoardError`."""
        try:
            bits = int.from_bytes(fcntl.ioctl(self.file, GET_KEYS, bytes(_KEYS)), "little")
        except OSError as error:
            raise _trouble(error, self.path) from None
        return frozenset(code for code in range(_KEYS * 8) if bits >> code & 1)

    def events(self) -> Iterator[Event]:
        """What waits, oldest first; to be called when the file is ready. Raises `BoardError` where it is gone."""
        try:
            data = os.read(self.file, 64 * _EVENT.size)
        except BlockingIOError:
            return
        except OSError as error:
            raise _trouble(error, self.path) from None
        if not data:
            raise BoardError("no-device", f"{self.path} has gone.", "Plug it in again; it is looked for.")
        for seconds, micros, kind, code, value in _EVENT.iter_unpack(
            data[: len(data) - len(data) % _EVENT.size]
        ):
            yield Event(seconds * 10**9 + micros * 1000, kind, code, value)

    def close(self) -> None:
        """Let it go."""
        if self.file >= 0:
            os.close(self.file)
            self.file = -1


def known() -> list[tuple[str, str]]:
    """The devices that are here: path, and what they call themselves."""
    found = []
    for path in sorted(DEV.glob("event*"), key=lambda each: int(re.sub(r"\D", "", each.name) or 0)):
        try:
            device = Device(str(path))
        except BoardError:
            found.append((str(path), "?"))
        else:
            found.append((str(path), device.name))
            device.close()
    return found


def find(name: str) -> str:
    """The path of a device by its path, or by what it calls itself. Raises `BoardError` that lists those that are here."""
    there = known()
    listed = ", ".join(f"{called} ({path})" for path, called in there) or "none"
    if name.startswith("/"):
        if os.path.exists(name):
            return name
        raise BoardError("no-device", f"There is no {name} here.", f"Input devices here: {listed}.")
    mine = [path for path, called in there if called == name]
    if len(mine) == 1:
        return mine[0]
    if mine:
        raise BoardError(
            "no-device",
            f"{len(mine)} input devices are called '{name}'.",
            f"Give one by its path in {DEV}/by-path: {listed}.",
        )
    raise BoardError(
        "no-device", f"No input device called '{name}' is here.", f"Input devices here: {listed}."
    )


def wall(mono: int) -> int:
    """A time of the kernel's monotonic clock on the wall clock, in nanoseconds."""
    return mono + time.time_ns() - time.monotonic_ns()


def _text(raw: bytes) -> str:
    return raw.split(b"\0")[0].decode("utf-8", "replace").strip()


def _trouble(error: OSError, path: str) -> BoardError:
    if isinstance(error, PermissionError):
        return no_permission(path)
    return BoardError("no-device", f"{path} is not there.", "Plug it in; it is looked for.")
