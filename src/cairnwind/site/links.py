"""What a board's table says for each kind of link, read into `cairnwind.boards.facts`."""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from cairnwind.boards import facts, profiles
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import duration
from cairnwind.site import convert

if TYPE_CHECKING:
    from cairnwind.site.tables import Table

COMMON = ("link", "map", "lines", "label")
KEYS = {
    "simulated": ("answers_after",),
    "kernel": ("chip", "pwm", "analogue"),
    "expander": ("chip", "bus", "switches"),
    "modbus": ("port", "unit", "profile", "baud", "parity", "stop_bits", "watchdog"),
    "strip": ("device", "lamps", "order"),
    "broker": ("command", "report", "alive", "retain"),
}
OWN = "firmware"
OWN_LINES = 32
BAUDS = (1200, 2400, 4800, 9600, 19200, 38400, 57600, 115200, 230400, 250000, 460800, 500000, 921600, 1000000)


def read(link: str, table: Table, beside: Sequence[Path]) -> tuple[Any, int]:
    """The facts of a board's link, and the number of lines that they imply (0: the map or ``lines`` says)."""
    return _READERS[link](table, beside)


def _simulated(table: Table, beside: Sequence[Path]) -> tuple[Any, int]:
    return None, 0


def _kernel(table: Table, beside: Sequence[Path]) -> tuple[Any, int]:
    chip = table.need("chip", convert.text, 'Say which: chip = "/dev/gpiochip0", or the chip\'s label.')
    return facts.Kernel(
        chip or "", table.get("pwm", partial(_named, form=r"pwmchip\d+", like="pwmchip0"), ""),
        table.get("analogue", partial(_named, form=r"iio:device\d+", like="iio:device0"), ""),
    ), 0  # fmt: skip


def _expander(table: Table, beside: Sequence[Path]) -> tuple[Any, int]:
    known = [name for name in profiles.names(beside) if _is_chip(name, beside)]
    chip = table.need(
        "chip",
        lambda value: profiles.chip(convert.text(value), beside),
        f"Say which chip by its profile: {', '.join(known)}.",
    )
    bus = table.need("bus", _bus, 'Say where it is: bus = "/dev/i2c-1", or "simulated".')
    most = (1 << chip.switches) - 1 if chip else 127
    switches = table.get("switches", partial(convert.whole, low=0, high=most), 0)
    if chip is None or bus is None:
        return None, 16
    return facts.Expander(chip, bus, chip.address(switches)), chip.lines


def _is_chip(name: str, beside: Sequence[Path]) -> bool:
    try:
        profiles.chip(name, beside)
    except CallerError:
        return False
    return True


def _modbus(table: Table, beside: Sequence[Path]) -> tuple[Any, int]:
    port = table.need("port", _port, 'Say where it is: port = "/dev/ttyUSB0", "usb:SERIAL" or "host:502".')
    profile = table.get(
        "profile", lambda value: None if value == OWN else profiles.relays(convert.text(value), beside), None
    )
    parity = table.get("parity", partial(convert.choice, among=("none", "even", "odd")), "none")
    found = facts.Modbus(
        port or "", table.get("unit", partial(convert.whole, low=1, high=247), 1), profile,
        table.get("baud", partial(convert.one_of, among=BAUDS), 115_200 if profile is None else 9600),
        parity[0].upper(), table.get("stop_bits", partial(convert.one_of, among=(1, 2)), 1),
        table.get("watchdog", partial(duration, longest=60), 2_000_000_000),
    )  # fmt: skip
    if profile is None:
        return found, OWN_LINES
    return found, profile.lines + profile.inputs + len(profile.analogue) + len(profile.levels)


def _broker(table: Table, beside: Sequence[Path]) -> tuple[Any, int]:
    command = table.need("command", partial(_keys, keys=("topic", "on", "off", "level"), need=("topic", "on", "off")),
                         'Say how it is told: command = { topic = "yard/{line}/set", on = "1", off = "0" }.') or {}  # fmt: skip
    alive = table.get("alive", partial(_keys, keys=("topic", "here"), need=("topic",)), {})
    report = table.get("report", _topic, "")
    for topic in (command.get("topic", "{line}"), report or "{line}"):
        if "{line}" not in topic:
            table.missing("command", "A topic of all lines has {line} where the line's number stands.")
    return facts.Network(
        command.get("topic", ""), command.get("on", "1"), command.get("off", "0"), command.get("level", ""),
        report, alive.get("topic", ""), alive.get("here", "here"),
        table.get("retain", convert.flag, False),
    ), 0  # fmt: skip


def _strip(table: Table, beside: Sequence[Path]) -> tuple[Any, int]:
    device = table.need("device", _spi, 'Say where it is: device = "/dev/spidev0.0", or "simulated".')
    lamps = (
        table.need(
            "lamps", partial(convert.whole, low=1, high=1000), "Say how many lamps it has: lamps = 30."
        )
        or 1
    )
    order = table.get(
        "order", partial(convert.choice, among=("GRB", "RGB", "BGR", "BRG", "RBG", "GBR")), "GRB"
    )
    return facts.Strip(device or "simulated", lamps, order), 3 * lamps


def _spi(value: object) -> str:
    if value == "simulated" or re.fullmatch(r"/dev/\S+", str(value)):
        return str(value)
    raise CallerError("", f"{value!r} is no SPI device.", 'Write "/dev/spidev0.0", or "simulated".')


_READERS = {
    "simulated": _simulated,
    "kernel": _kernel,
    "expander": _expander,
    "modbus": _modbus,
    "strip": _strip,
    "broker": _broker,
}


def _named(value: object, form: str, like: str) -> str:
    if not re.fullmatch(form, str(value)):
        raise CallerError(
            "", f"{value!r} is no such device.", f'Write it like "{like}"; cairnwind doctor lists them.'
        )
    return str(value)


def _bus(value: object) -> str:
    if value == "simulated" or re.fullmatch(r"/dev/\S+", str(value)):
        return str(value)
    raise CallerError("", f"{value!r} is not a two-wire bus.", 'Write "/dev/i2c-1", or "simulated".')


def _port(value: object) -> str:
    if re.fullmatch(r"/\S+|usb:\S+|[\w.-]+:\d{1,5}", str(value)):
        return str(value)
    raise CallerError("", f"{value!r} is not a port.", 'Write "/dev/ttyUSB0", "usb:SERIAL" or "host:502".')


def _topic(value: object) -> str:
    topic = convert.text(value)
    if "+" in topic or "#" in topic:
        raise CallerError(
            "", f"'{topic}' has a wildcard.", "A template names one topic a line: yard/{line}/is."
        )
    return topic


def _keys(value: object, keys: tuple[str, ...], need: tuple[str, ...]) -> dict[str, str]:
    if (
        not isinstance(value, dict)
        or set(value) - set(keys)
        or any(not isinstance(each, str) for each in value.values())
    ):
        raise CallerError(
            "", "this is not a table of texts with the keys it has.", f"Keys: {', '.join(keys)}."
        )
    for key in need:
        if key not in value:
            raise CallerError("", f"it has no '{key}'.", f"Keys: {', '.join(keys)}.")
    _topic(value["topic"])
    return dict(value)
