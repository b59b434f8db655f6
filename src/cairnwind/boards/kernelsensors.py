"""Sensors that the kernel reads for everybody: hwmon, IIO, thermal zones and one-wire, by what they are called there.

A channel is written as `SOURCE:DEVICE/CHANNEL`, as in ``hwmon:nct6798/temp1`` (or by its label, ``hwmon:k10temp/Tctl``),
``iio:bme280/pressure``, ``thermal:cpu-thermal`` and ``onewire:28-0000075b6c2f``; ``simulated:shelf/temp1`` is none of the kernel's, and what
somebody pretends. Sources: Documentation/hwmon/sysfs-interface.rst,
ABI/testing/sysfs-bus-iio, driver-api/thermal/sysfs-api.rst, w1/slaves/w1_therm.rst of the kernel.
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import NamedTuple

from cairnwind.boards.sysfs import device
from cairnwind.core.values.errors import BoardError, CallerError

ROOT = Path("/sys")
HWMON = {
    "temp": ("°C", 1e-3), "in": ("V", 1e-3), "curr": ("A", 1e-3), "power": ("W", 1e-6), "energy": ("J", 1e-6), "humidity": ("%", 1e-3),
    "fan": ("rpm", 1.0), "freq": ("Hz", 1.0),
}  # fmt: skip
"""By type of channel: its unit, and what a count of the kernel is in that."""
IIO = {
    "temp": ("°C", 1e-3), "humidityrelative": ("%", 1e-3), "pressure": ("kPa", 1.0), "illuminance": ("lx", 1.0), "voltage": ("V", 1e-3),
    "current": ("A", 1e-3), "power": ("W", 1e-3), "energy": ("J", 1.0), "resistance": ("ohm", 1.0), "concentration": ("%", 1.0),
    "distance": ("m", 1.0), "proximity": ("", 1.0),
}  # fmt: skip
POWER_UP = 85_000
"""What a one-wire thermometer holds from getting its supply to the end of its first conversion, in thousandths of a degree (data sheet): a
temperature that it may have, and mostly has not."""
TORN = -127_000
"""What some drivers say where nothing answers."""


class Channel(NamedTuple):
    """One channel of one sensor, as the site file names it."""

    text: str
    source: str
    device: str
    name: str
    """Of the channel within its device; empty where there is one."""

    @property
    def unit(self) -> str:
        """What the kernel measures it in."""
        kind = re.match(r"[a-z]*", self.name)
        known = {"hwmon": HWMON, "iio": IIO, "simulated": HWMON}.get(self.source, {})
        return known[kind[0]][0] if kind and kind[0] in known else "°C" if not known else ""


def channel(text: object) -> Channel:
    """What a text names. Raises `CallerError`."""
    match = re.fullmatch(r"(hwmon|iio|thermal|onewire|simulated):([^/\s]+)(?:/([\w.+ -]+))?", str(text))
    if match is None or (match[1] in ("hwmon", "iio", "simulated")) != bool(match[3]):
        raise CallerError(
            "", f"{text!r} is no channel of a sensor",
            'Write "hwmon:nct6798/temp1", "iio:bme280/pressure", "thermal:cpu-thermal" or "onewire:28-0000075b6c2f"; cairnwind doctor lists what is here.',
        )  # fmt: skip
    return Channel(str(text), match[1], match[2], match[3] or "")


SIMULATED: dict[str, float] = {}
"""What is pretended, by channel."""


def read(channel: Channel) -> float:
    """What it is at, in its unit. Raises `BoardError` where nobody knows: it is gone, at fault, its checksum is wrong, or it has not measured yet."""
    return READERS[channel.source](channel)


def _simulated(channel: Channel) -> float:
    if channel.text not in SIMULATED:
        raise BoardError("sensor", f"Nobody has pretended anything of {channel.text} yet.", "")
    return SIMULATED[channel.text]


def _hwmon(channel: Channel) -> float:
    path = device(ROOT / "class/hwmon", "hwmon*", channel.device, "hardware monitor")
    name = channel.name if (path / f"{channel.name}_input").exists() else _labelled(path, channel)
    if _text(path / f"{name}_fault", "0") == "1":
        raise BoardError("sensor", f"{channel.text} says that it is at fault.", "See to its wires.")
    kind = re.match(r"[a-z]*", name)
    _, scale = HWMON.get(kind[0] if kind else "", ("", 1.0))
    return _number(path / f"{name}_input", channel) * scale


def _labelled(path: Path, channel: Channel) -> str:
    for each in path.glob("*_label"):
        if _text(each, "") == channel.name:
            return each.name.removesuffix("_label")
    there = ", ".join(sorted(each.name.removesuffix("_input") for each in path.glob("*_input")))
    raise BoardError(
        "no-device", f"{channel.device} has no channel {channel.name}.", f"Channels: {there or 'none'}."
    )


def _iio(channel: Channel) -> float:
    path = device(ROOT / "bus/iio/devices", "iio:device*", channel.device, "converter")
    base = path / f"in_{channel.name}"
    kind = re.match(r"[a-z]*", channel.name)
    _, scale = IIO.get(kind[0] if kind else "", ("", 1.0))
    if (ready := path / f"{base.name}_input").exists():
        return _number(ready, channel) * scale
    if not (raw := path / f"{base.name}_raw").exists():
        there = sorted(
            {
                each.name.removeprefix("in_").rpartition("_")[0]
                for form in ("in_*_input", "in_*_raw")
                for each in path.glob(form)
            }
        )
        raise BoardError(
            "no-device",
            f"{channel.device} has no channel {channel.name}.",
            f"Channels: {', '.join(there) or 'none'}.",
        )
    offset, factor = (
        float(_text(path / f"{base.name}_{what}", unless))
        for what, unless in (("offset", "0"), ("scale", "1"))
    )
    return (_number(raw, channel) + offset) * factor * scale


def _thermal(channel: Channel) -> float:
    root = ROOT / "class/thermal"
    found = [
        each
        for each in sorted(root.glob("thermal_zone*"))
        if channel.device in (each.name, _text(each / "type", ""))
    ]
    if len(found) != 1:
        there = ", ".join(
            f"{each.name} ({_text(each / 'type', '')})" for each in sorted(root.glob("thermal_zone*"))
        )
        how = "no thermal zone is" if not found else f"{len(found)} thermal zones are"
        raise BoardError(
            "no-device",
            f"{how.capitalize()} called {channel.device}.",
            f"Thermal zones here: {there or 'none'}.",
        )
    return _number(found[0] / "temp", channel) / 1000


def _onewire(channel: Channel) -> float:
    path = ROOT / "bus/w1/devices" / channel.device
    if not path.exists():
        there = ", ".join(sorted(each.name for each in path.parent.glob("[0-9a-f][0-9a-f]-*")))
        raise BoardError(
            "no-device", f"There is no one-wire sensor {channel.device}.", f"Sensors here: {there or 'none'}."
        )
    said = _text(path / "w1_slave", None, channel)
    match = re.search(r"crc=\w+ (YES|NO)[\s\S]*t=(-?\d+)", said)
    if match is None or match[1] != "YES":
        raise BoardError(
            "sensor",
            f"What {channel.text} said has a wrong checksum.",
            "It is read again; see to its wires and their length.",
        )
    count = int(match[2])
    if count == POWER_UP:
        raise BoardError(
            "sensor",
            f"{channel.text} has not measured since it got its supply.",
            "It is read again; see to its supply.",
        )
    if count <= TORN:
        raise BoardError("sensor", f"{channel.text} does not answer.", "See to its wires.")
    return count / 1000


READERS: dict[str, Callable[[Channel], float]] = {
    "hwmon": _hwmon,
    "iio": _iio,
    "thermal": _thermal,
    "onewire": _onewire,
    "simulated": _simulated,
}


def known() -> Iterator[Channel]:
    """The channels that there are here, under the names that they keep."""
    for path in sorted((ROOT / "class/hwmon").glob("hwmon*")):
        for each in sorted(path.glob("*_input")):
            yield channel(f"hwmon:{_text(path / 'name', path.name)}/{each.name.removesuffix('_input')}")
    for path in sorted((ROOT / "bus/iio/devices").glob("iio:device*")):
        names = {
            each.name.removeprefix("in_").rpartition("_")[0]
            for form in ("in_*_input", "in_*_raw")
            for each in path.glob(form)
        }
        for name in sorted(names):
            yield channel(f"iio:{_text(path / 'name', path.name)}/{name}")
    for path in sorted((ROOT / "class/thermal").glob("thermal_zone*")):
        yield channel(f"thermal:{_text(path / 'type', path.name)}")
    for path in sorted((ROOT / "bus/w1/devices").glob("[0-9a-f][0-9a-f]-*")):
        if (path / "w1_slave").exists():
            yield channel(f"onewire:{path.name}")


def _number(path: Path, channel: Channel) -> float:
    said = _text(path, None, channel)
    try:
        return float(said)
    except ValueError:
        raise BoardError("sensor", f"{channel.text} says '{said[:20]}', which is no number.", "") from None


def _text(path: Path, unless: str | None, channel: Channel | None = None) -> str:
    try:
        return path.read_text().strip()
    except OSError as error:
        if unless is not None:
            return unless
        said = os.strerror(error.errno or 0).lower()
        raise BoardError(
            "sensor", f"{channel.text if channel else path} cannot be read: {said}.", "It is read again."
        ) from None
