"""PWM and analogue channels through the kernel's sysfs: Documentation/driver-api/pwm.rst and ABI/testing/sysfs-bus-iio."""

from __future__ import annotations

import errno
import os
import time
from fractions import Fraction
from pathlib import Path

from cairnwind.boards.gpio import trouble
from cairnwind.core.values.errors import BoardError
from cairnwind.core.values.settings import FULL

PWM = Path("/sys/class/pwm")
IIO = Path("/sys/bus/iio/devices")


def device(root: Path, form: str, name: str, what: str) -> Path:
    """A device by its own name, which may be another after the next start, or by what it belongs to or calls itself. Raises `BoardError`."""
    there = {path: _names(path) for path in sorted(root.glob(form))}
    mine = [path for path, names in there.items() if name in names]
    if len(mine) == 1:
        return mine[0]
    listed = ", ".join(
        f"{path.name} ({' or '.join(names[1:])})" if names[1:] else path.name for path, names in there.items()
    )
    if mine:
        raise BoardError(
            "no-device", f"{len(mine)} {what}s are called {name}.", f"Name one otherwise: {listed}."
        )
    capital = what[:1].upper() + what[1:]
    raise BoardError("no-device", f"There is no {what} {name} here.", f"{capital}s here: {listed or 'none'}.")


def _names(path: Path) -> list[str]:
    found = [
        path.name,
        os.path.basename(os.path.realpath(path / "device")) if (path / "device").exists() else "",
    ]
    try:
        found.append((path / "name").read_text().strip())
    except OSError:
        pass
    return list(dict.fromkeys(each for each in found if each))


def _stays(path: Path) -> str:
    """A name of a device that is the same after each start of the machine, where it has one."""
    return [*_names(path), path.name][1]


def found(pwm: Path = PWM, iio: Path = IIO) -> list[tuple[str, str, str]]:
    """PWM chips and converters of this machine: the key of a board that names it, its name, what it is."""
    things = []
    for chip in sorted(pwm.glob("pwmchip*")):
        things.append(("pwm", _stays(chip), f"PWM, {_number(chip / 'npwm')} channels, now {chip.name}"))
    for path in sorted(iio.glob("iio:device*")):
        count = len(list(path.glob("in_voltage[0-9]*_raw")))
        if count:
            things.append(("analogue", _stays(path), f"converter, {count} voltage channels, now {path.name}"))
    return things


class PwmChannel:
    """One channel of a PWM chip. Period and duty in nanoseconds; polarity normal: duty is the time high."""

    def __init__(self, chip: str, channel: int, root: Path = PWM, hertz: Fraction | None = None) -> None:
        """Export it, as it is: whoever made it sets it at once, at ``hertz`` if that is known. Raises `BoardError`."""
        self.chip = self.there(chip, root)
        self.path = self.chip / f"pwm{channel}"
        self._channel = channel
        if self.path.is_dir() and hertz and _number(self.path / "period") != round(10**9 / hertz):
            self.close()  # it was left running: many chips have one timer, which nobody could set while it is used
        if not self.path.is_dir():
            _write(self.chip / "export", channel)
            for _ in range(50):  # the rule that gives the group its rights may come a moment later
                if os.access(self.path / "duty_cycle", os.W_OK):
                    break
                time.sleep(0.02)
        self.period = _number(self.path / "period")
        self.duty = _number(self.path / "duty_cycle")
        if (self.path / "polarity").exists() and (self.path / "polarity").read_text().strip() != "normal":
            if _number(self.path / "enable"):
                _write(self.path / "enable", 0)
            _write(self.path / "polarity", "normal")

    @staticmethod
    def there(chip: str, root: Path = PWM) -> Path:
        """Where the chip is. Raises `BoardError`."""
        return device(root, "pwmchip*", chip, "PWM chip")

    def set(self, parts: int, millihertz: int) -> int:
        """Have it high for ``parts`` per million of each period; returns what it then is, by its own numbers.

        At no moment the duty is longer than the period, which the kernel would refuse: a shorter period is
        written after the duty, a longer one before it.
        """
        period = round(10**12 / millihertz) if millihertz else (self.period or 1_000_000)
        duty = period * parts // FULL
        if period < self.period:
            if duty < self.duty or self.duty > period:
                _write(self.path / "duty_cycle", duty)
                self.duty = duty
            _write(self.path / "period", period)
        elif period > self.period:
            _write(self.path / "period", period)
        self.period = period
        if duty != self.duty:
            _write(self.path / "duty_cycle", duty)
        if not _number(self.path / "enable"):
            _write(self.path / "enable", 1)
        self.period, self.duty = _number(self.path / "period"), _number(self.path / "duty_cycle")
        return (
            parts if (self.period, self.duty) == (period, duty) else self.duty * FULL // max(1, self.period)
        )

    def close(self) -> None:
        """Let it go."""
        try:
            _write(self.chip / "unexport", self._channel)
        except BoardError:
            pass


class Converter:
    """The voltage channels of an analogue converter."""

    def __init__(self, device: str, root: Path = IIO) -> None:
        self.path = self.there(device, root)

    @staticmethod
    def there(name: str, root: Path = IIO) -> Path:
        """Where it is. Raises `BoardError`."""
        return device(root, "iio:device*", name, "converter")

    def read(self, channel: int) -> tuple[int, int, float]:
        """(counts, counts at full scale as far as the kernel tells, volts): (raw + offset) * scale is millivolts."""
        name = f"in_voltage{channel}"
        raw = _number(self.path / f"{name}_raw")
        scale = self._fact(name, "scale", 1.0)
        offset = self._fact(name, "offset", 0.0)
        bits, signed = 12, False
        try:
            text = (self.path / "scan_elements" / f"{name}_type").read_text()  # such as le:u12/16>>4
            form = text.split(":")[1].split("/")[0]
            bits, signed = int(form[1:]), form[0] == "s"
        except (OSError, ValueError, IndexError):
            pass
        return raw, (1 << (bits - 1 if signed else bits)) - 1, (raw + offset) * scale / 1000

    def _fact(self, name: str, what: str, default: float) -> float:
        for path in (self.path / f"{name}_{what}", self.path / f"in_voltage_{what}"):
            try:
                return float(path.read_text())
            except (OSError, ValueError):
                continue
        return default


def _write(path: Path, value: int | str) -> None:
    try:
        with open(path, "w") as file:
            file.write(str(value))
    except OSError as error:
        if error.errno == errno.EBUSY and path.name == "period":
            raise BoardError(
                "timer",
                f"{path.parent.name} of {path.parent.parent.name} shares its timer with a channel that runs at another frequency.",
                "Give all channels of that chip one frequency.",
            ) from None
        raise trouble(error, str(path)) from None


def _number(path: Path) -> int:
    try:
        return int(path.read_text())
    except OSError as error:
        raise trouble(error, str(path)) from None
