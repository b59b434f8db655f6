"""The Linux GPIO character device, uAPI v2, over `fcntl` and `struct`: the kernel's include/uapi/linux/gpio.h.

Sizes, numbers and offsets are those of that header; the comment at each says which structure it is.
"""

from __future__ import annotations

import errno
import fcntl
import os
import struct
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from cairnwind.core.values.errors import BoardError

CONSUMER = "cairnwind"
USED, INPUT, OUTPUT = 1 << 0, 1 << 2, 1 << 3
RISING, FALLING = 1 << 4, 1 << 5
DRIVERS = {"push-pull": 0, "open-drain": 1 << 6, "open-source": 1 << 7}
PULL_UP, PULL_DOWN, NO_PULL = 1 << 8, 1 << 9, 1 << 10
PULLS = {"up": PULL_UP, "down": PULL_DOWN, "none": NO_PULL}
ATTR_VALUES, ATTR_DEBOUNCE = 2, 3
QUEUED = 256
"""Edges of each line that the kernel keeps until they are read; it would keep 16."""


def _number(direction: int, number: int, size: int) -> int:
    return direction << 30 | size << 16 | 0xB4 << 8 | number


_READ, _BOTH = 2, 3
_CHIP_INFO = struct.Struct("=32s32sI")  # gpiochip_info
_LINE_INFO = struct.Struct("=32s32sIIQ160s16s")  # gpio_v2_line_info
_CONFIG = struct.Struct("=QI20s240s")  # gpio_v2_line_config
_ATTRIBUTE = struct.Struct("=IIQQ")  # gpio_v2_line_config_attribute: id, padding, value, mask
_REQUEST = struct.Struct(f"=256s32s{_CONFIG.size}sII20si")  # gpio_v2_line_request
_VALUES = struct.Struct("=QQ")  # gpio_v2_line_values
_EVENT = struct.Struct("=QIIII24s")  # gpio_v2_line_event
GET_CHIP_INFO = _number(_READ, 0x01, _CHIP_INFO.size)
GET_LINE_INFO = _number(_BOTH, 0x05, _LINE_INFO.size)
GET_LINES = _number(_BOTH, 0x07, _REQUEST.size)
GET_VALUES = _number(_BOTH, 0x0E, _VALUES.size)
SET_VALUES = _number(_BOTH, 0x0F, _VALUES.size)


@dataclass(frozen=True, slots=True)
class LineInfo:
    """What the kernel says of a line."""

    offset: int
    title: str
    consumer: str
    flags: int

    @property
    def used(self) -> bool:
        """Whether somebody holds it, or the kernel itself does."""
        return bool(self.flags & USED)


@dataclass(frozen=True, slots=True)
class Edge:
    """A change of an input line. ``mono`` is the kernel's monotonic clock in nanoseconds."""

    mono: int
    line: int
    rising: bool
    number: int
    """Of the line's edges since it was taken: where one is left out, the kernel's queue was full."""


class Chip:
    """An open chip."""

    def __init__(self, path: str) -> None:
        """Open it. Raises `BoardError` that says what to do."""
        self.path = path
        try:
            self.file = os.open(path, os.O_RDWR | os.O_CLOEXEC)
        except OSError as error:
            raise trouble(error, path) from None
        try:
            name, label, self.lines = _CHIP_INFO.unpack(
                fcntl.ioctl(self.file, GET_CHIP_INFO, bytes(_CHIP_INFO.size))
            )
        except OSError:
            os.close(self.file)
            raise BoardError(
                "no-device", f"{path} is not a GPIO chip.", "cairnwind doctor lists the chips."
            ) from None
        self.name, self.label = _string(name), _string(label)

    def there(self) -> bool:
        """Whether the chip itself still answers."""
        try:
            fcntl.ioctl(self.file, GET_CHIP_INFO, bytes(_CHIP_INFO.size))
        except OSError:
            return False
        return True

    def info(self, line: int) -> LineInfo:
        """What the kernel says of a line. Raises `BoardError`."""
        asked = _LINE_INFO.pack(b"", b"", line, 0, 0, b"", b"")
        try:
            title, consumer, offset, _, flags, _, _ = _LINE_INFO.unpack(
                fcntl.ioctl(self.file, GET_LINE_INFO, asked)
            )
        except OSError as error:
            if error.errno == errno.EINVAL:
                raise BoardError(
                    "no-line",
                    f"{self.path} has no line {line}: it has 0 to {self.lines - 1}.",
                    "Mend the pin.",
                ) from None
            raise trouble(error, self.path) from None
        return LineInfo(offset, _string(title), _string(consumer), flags)

    def request(
        self,
        lines: Sequence[int],
        flags: int,
        *,
        values: int = 0,
        debounce: int = 0,
    ) -> Lines:
        """Take lines, all of them or none, in one step. Raises `BoardError` that names a holder.

        ``values`` are the levels of outputs, a bit a line in the order of ``lines``; ``debounce`` is in microseconds.
        """
        for line in lines:
            info = self.info(line)
            if info.used:
                raise held(self.path, info)
        config = _config(flags, values, debounce)
        offsets = struct.pack(f"={len(lines)}I", *lines)
        room = QUEUED * len(lines) if flags & (RISING | FALLING) else 0
        asked = _REQUEST.pack(offsets, CONSUMER.encode(), config, len(lines), room, b"", 0)
        try:
            file = _REQUEST.unpack(fcntl.ioctl(self.file, GET_LINES, asked))[-1]
        except OSError as error:
            for line in lines:
                if error.errno == errno.EBUSY and (info := self.info(line)).used:
                    raise held(self.path, info) from None
            if flags & (RISING | FALLING) and error.errno in (errno.ENXIO, errno.EOPNOTSUPP) and self.there():
                raise BoardError("no-edges", f"Lines of {self.path} tell of no edges.", "") from None
            raise trouble(error, self.path) from None
        return Lines(file, tuple(lines), self.path)

    def close(self) -> None:
        """Close the chip; lines that were taken stay taken."""
        if self.file >= 0:
            os.close(self.file)
            self.file = -1


class Lines:
    """Lines that are ours until closed."""

    def __init__(self, file: int, lines: tuple[int, ...], path: str) -> None:
        self.file, self.lines, self.path = file, lines, path
        self.bit = {line: 1 << number for number, line in enumerate(lines)}
        self.all = (1 << len(lines)) - 1

    def get(self) -> int:
        """The levels of all lines, a bit each."""
        try:
            return int(_VALUES.unpack(fcntl.ioctl(self.file, GET_VALUES, _VALUES.pack(0, self.all)))[0])
        except OSError as error:
            raise trouble(error, self.path) from None

    def set(self, bits: int, mask: int) -> None:
        """Bring the lines of ``mask`` to the levels in ``bits``, at once."""
        try:
            fcntl.ioctl(self.file, SET_VALUES, _VALUES.pack(bits, mask))
        except OSError as error:
            raise trouble(error, self.path) from None

    def events(self) -> Iterator[Edge]:
        """The edges that wait, oldest first. To be called when the file is ready. Raises `BoardError`."""
        try:
            data = os.read(self.file, 64 * _EVENT.size)
        except OSError as error:
            raise trouble(error, self.path) from None
        for mono, kind, line, _, number, _ in _EVENT.iter_unpack(data):
            yield Edge(mono, line, kind == 1, number)

    def close(self) -> None:
        """Let the lines go."""
        if self.file >= 0:
            os.close(self.file)
            self.file = -1


def find(name: str) -> str:
    """The path of a chip given by path, name, label, or the device that it belongs to. Raises `BoardError` that lists the chips there are."""
    if name.startswith("/"):
        if os.path.exists(name):
            return name
        raise BoardError("no-device", f"There is no {name} here.", f"Chips here: {_known()}.")
    found = []
    for path in chips():
        called = {os.path.basename(path), device_of(path)}
        try:
            chip = Chip(path)
        except BoardError:
            pass  # whoever opens it is told why
        else:
            chip.close()
            called |= {chip.label, chip.name}
        if name in called:
            found.append(path)
    if len(found) > 1:
        devices = " or ".join(f'chip = "{device_of(path)}"' for path in found)
        raise BoardError(
            "no-device",
            f"{len(found)} GPIO chips are called '{name}'.",
            f"Say by its device which is meant: {devices}.",
        )
    if found:
        return found[0]
    raise BoardError("no-device", f"There is no GPIO chip '{name}' here.", f"Chips here: {_known()}.")


def device_of(path: str) -> str:
    """The device that a chip belongs to, which is called the same after each start of the machine."""
    return os.path.basename(
        os.path.dirname(os.path.realpath(f"/sys/bus/gpio/devices/{os.path.basename(path)}"))
    )


def chips() -> list[str]:
    """The paths of the chips of this machine."""
    return [str(path) for path in sorted(Path("/dev").glob("gpiochip*"))]


def _known() -> str:
    return ", ".join(chips()) or "none, and none will be without a driver"


def held(path: str, info: LineInfo) -> BoardError:
    """The error for a line that another program holds."""
    called = f" ({info.title})" if info.title else ""
    by = f"'{info.consumer}'" if info.consumer else "the kernel itself"
    return BoardError(
        "held-line",
        f"Line {info.offset}{called} of {path} is held by {by}.",
        "End what holds it; it is tried again.",
    )


def trouble(error: OSError, path: str) -> BoardError:
    """An error of the system, in words that say what to do."""
    if error.errno in (errno.EACCES, errno.EPERM):
        return no_permission(path)
    if error.errno in (errno.ENODEV, errno.ENOENT, errno.ENXIO):
        return BoardError("no-device", f"{path} is not there.", f"Chips here: {_known()}. It is tried again.")
    return BoardError("device", f"{path}: {error.strerror}.", "")


def no_permission(path: str) -> BoardError:
    """The error for a device that this user may not open, with the group and the rule that are missing."""
    import grp
    import pwd

    try:
        info = os.stat(path)
        group = grp.getgrgid(info.st_gid).gr_name
    except (OSError, KeyError):
        info, group = None, ""
    try:
        user = pwd.getpwuid(os.geteuid()).pw_name
    except KeyError:
        user = str(os.geteuid())
    if info is not None and info.st_mode & 0o060 == 0o060 and group not in ("", "root"):
        remedy = f"Type: sudo usermod -aG {group} {user}, then sign in again."
    else:
        kernel = os.path.basename(path).rstrip("0123456789")
        if path.startswith("/sys/"):
            what = "pwm" if "/pwm" in path else "iio"
            rule = f"""SUBSYSTEM=="{what}*", RUN+="/bin/chgrp -R gpio /sys%p", RUN+="/bin/chmod -R g=u /sys%p\""""
        else:
            rule = f'KERNEL=="{kernel}*", GROUP="gpio", MODE="0660"'
        remedy = (
            f"Type: sudo groupadd -f gpio && sudo usermod -aG gpio {user}; put the line {rule} into "
            "/etc/udev/rules.d/60-cairnwind.rules, type: sudo udevadm control --reload && sudo udevadm trigger, "
            "and sign in again."
        )
    return BoardError("permission", f"User {user} may not open {path}.", remedy)


def _config(flags: int, values: int, debounce: int) -> bytes:
    attributes = [
        (kind, value) for kind, value in ((ATTR_VALUES, values), (ATTR_DEBOUNCE, debounce)) if value
    ]
    packed = b"".join(_ATTRIBUTE.pack(kind, 0, value, (1 << 64) - 1) for kind, value in attributes)
    return _CONFIG.pack(flags, len(attributes), b"", packed)


def _string(raw: bytes) -> str:
    return raw.split(b"\0")[0].decode("utf-8", "replace")
