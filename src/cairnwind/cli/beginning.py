"""``cairnwind new``: a first site file, from what this machine has."""

from __future__ import annotations

import os
import re
import sys
from pathlib import Path
from typing import Any, NamedTuple

import click

from cairnwind.cli.main import as_json, main
from cairnwind.core.values.errors import BoardError, CallerError


class Board(NamedTuple):
    """A board that this machine has, as the file describes it."""

    name: str
    keys: dict[str, Any]
    says: str
    beside: tuple[str, ...] = ()
    """Lines for the file that somebody has to decide on."""

    @property
    def pins(self) -> tuple[str, str]:
        """Two pins of it, for examples."""
        return (
            (f"{self.name}:J2-7", f"{self.name}:J2-8")
            if self.keys.get("map")
            else (f"{self.name}:line-1", f"{self.name}:line-2")
        )


@main.command()
@click.argument("file", required=False, default="site.toml", type=click.Path(dir_okay=False))
@click.option("--name", metavar="NAME", help="What the site is called.")
@click.option(
    "--timezone", metavar="ZONE", help="Its time zone, like Europe/London; this machine's if not given."
)
@click.option("--latitude", type=float, help="Where it is, for the sun: degrees north.")
@click.option("--longitude", type=float, help="Degrees east.")
@as_json
@click.pass_context
def new(
    ctx: click.Context, file: str, name: str | None, timezone: str | None, latitude: float | None, longitude: float | None, as_json: bool
) -> None:  # fmt: skip
    """Write a first site FILE (site.toml unless said), with the boards that this machine has.

    Looks at GPIO chips, PWM chips, converters, two-wire buses and what answers on them, serial ports and the kernel's sensors; without pins it
    takes a simulated header, to try things on. Input devices and lamps of the kernel are offered, and not taken. Nothing is switched.
    """
    from cairnwind.cli import show
    from cairnwind.core.values import entries
    from cairnwind.site import read_text

    path = Path(file)
    if path.exists():
        raise CallerError(
            "taken", f"There is a file {path} already.", f"Give another name, or serve that one: cairnwind serve {path}."
        )  # fmt: skip
    asks = sys.stdin.isatty() and not as_json
    zone = entries.zone(timezone or _zone())
    if asks:
        name = name or click.prompt("What is the site called?", default="My site", err=True)
        if timezone is None:
            zone = click.prompt("Its time zone", default=zone, value_proc=_zoned, err=True)
        if latitude is None:
            where = click.prompt(
                "Where is it, for sunrise and sunset? Latitude and longitude in degrees, or nothing",
                default="", show_default=False, value_proc=_place, err=True,
            )  # fmt: skip
            latitude, longitude = where or (None, None)
    boards = found()
    text = written(name or "My site", zone, latitude, longitude, boards)
    read_text(text, str(path))  # what is written here can be served
    try:
        with path.open("x", encoding="utf-8") as out:
            out.write(text)
    except OSError as error:
        raise CallerError(
            "no-file", f"The site file {path} cannot be written: {error.strerror}.", "Give another path."
        ) from None
    first = boards[0]
    lines = [
        f"cairnwind serve {path}",
        f"cairnwind pins {first.name}",
        f"cairnwind add output lamp kind=lamp pin={first.pins[0]}",
    ]
    if as_json:
        show.emit(
            {
                "file": str(path),
                "boards": [each.name for each in boards],
                "beside": [line for each in boards for line in each.beside],
                "next": lines,
            }
        )
        return
    click.echo(f"Written: {path}, with")
    for each in boards:
        click.echo(f"  {each.name:12} {each.says}")
        for line in each.beside:
            click.echo(f"  {'':12} {line.partition('# ')[2]}")
    click.echo("\nNext:")
    for line, what in zip(
        lines, ("serve it", "in another window: see the pins", "wire a lamp to one, and say so"), strict=True
    ):
        click.echo(f"  {line:52} {what}")


def _zoned(text: str) -> str:
    from cairnwind.core.values import entries

    try:
        return entries.zone(text.strip())
    except CallerError as error:
        raise click.BadParameter(f"{error.sentence} {error.remedy}".strip()) from None


def _place(text: str) -> tuple[float, float] | None:
    if not text.strip():
        return None
    numbers = re.findall(r"-?\d+(?:\.\d+)?", text)
    if len(numbers) != 2 or abs(float(numbers[0])) > 90 or abs(float(numbers[1])) > 180:
        raise click.BadParameter("two numbers, like 52.95 0.85 (minus for south and west), or nothing")
    return float(numbers[0]), float(numbers[1])


def _zone() -> str:
    """This machine's time zone."""
    link = os.path.realpath("/etc/localtime")
    _, there, name = link.partition("zoneinfo/")
    return os.environ.get("TZ") or (name if there else "UTC")


def found() -> list[Board]:
    """The boards of this machine; a simulated header where there are none."""
    boards: list[Board] = []
    for each in (*_chips(), *_chains(), *_serial(), *_sensors()):
        taken = {one.name for one in boards}
        names = (each.name, *(f"{each.name}-{number}" for number in range(2, 1000)))
        boards.append(each._replace(name=next(name for name in names if name not in taken)))
    if any(each.keys["link"] != "sensors" for each in boards):
        return boards
    return [
        Board("header", {"link": "simulated", "map": "header-34"}, "simulated: nothing real is switched"),
        *boards,
    ]


def _chips() -> list[Board]:
    """GPIO chips of the kernel."""
    from cairnwind.boards import gpio

    boards: list[Board] = []
    labels: dict[str, int] = {}
    for path in gpio.chips():
        try:
            chip = gpio.Chip(path)
        except BoardError as error:
            click.echo(f"{path} is left out: {error.sentence} {error.remedy}", err=True)
            continue
        chip.close()
        called = chip.label or chip.name
        labels[called] = labels.get(called, 0) + 1
        name = re.sub(r"[^a-z0-9]+", "-", called.lower()).strip("-")
        name = name if name[:1].isalpha() else f"chip-{name}"
        keys = {
            "link": "kernel",
            "chip": called if labels[called] == 1 else gpio.device_of(path),
            "lines": chip.lines,
        }
        boards.append(Board(name, keys, f"GPIO chip {path}, {chip.lines} lines"))
    return [boards[0]._replace(beside=_channels()), *boards[1:]] if boards else []


def _channels() -> tuple[str, ...]:
    """PWM chips and converters of the kernel. Which lines of which chip their channels come out on, the machine does not tell."""
    from cairnwind.boards import sysfs

    return tuple(
        f'{key} = "{name}"  # {what}: if channel 0 of it is line 0 here, and so on; else a map says which lines they are'
        for key, name, what in sysfs.found()
    )


def _chains() -> list[Board]:
    """Chips that answer on two-wire buses at addresses that a profile has."""
    from cairnwind.boards import profiles, twowire

    boards: list[Board] = []
    chips = {}
    for profile in profiles.names():
        try:
            chips[profile] = profiles.chip(profile)
        except CallerError:
            continue
    for bus in twowire.buses():
        try:
            answers = twowire.scan(bus)
        except BoardError as error:
            click.echo(f"{bus} is left out: {error.sentence} {error.remedy}", err=True)
            continue
        for address, how in answers.items():
            fits = [
                (profile, switches)
                for profile, chip in chips.items()
                for switches in range(1 << chip.switches)
                if chip.address(switches) == address and how == "answers"
            ]
            if fits:
                profile, switches = fits[0]
                keys = {"link": "expander", "chip": profile, "bus": bus, "switches": switches}
                others = f"; or {' or '.join(each for each, _ in fits[1:])}" if fits[1:] else ""
                boards.append(
                    Board("relays", keys, f"{bus}, address 0x{address:02x}: taken for {profile}{others}")
                )
    return boards


def _serial() -> list[Board]:
    """Serial ports; what is on them is not asked: opening one restarts many boards."""
    from cairnwind.boards import serialports

    boards: list[Board] = []
    for each in serialports.known():
        device, _, serial = each.partition(" (usb:")
        port = f"usb:{serial.rstrip(')')}" if serial else device
        keys = {"link": "modbus", "port": port}
        boards.append(Board("small", keys, f"{each}: taken for a board with our firmware"))
    return boards


def _sensors() -> list[Board]:
    """What the kernel measures: reading it changes nothing."""
    from cairnwind.boards import kernelsensors

    channels = [each.text for each in kernelsensors.known()]
    if not channels:
        return []
    says = f"{len(channels)} channel{'s' if channels[1:] else ''} of the kernel's sensors: line-0 is the first of them"
    return [Board("inside", {"link": "sensors", "channels": channels}, says)]


def _offered() -> list[Board]:
    """What is here and is somebody's already: it is taken only when the file says so."""
    from cairnwind.boards import evdev
    from cairnwind.boards.links import leds

    found: list[Board] = []
    for number, (path, called) in enumerate(evdev.known()):
        device = path if called == "?" else called
        says = f"The input device {device}; what is pressed there is pressed nowhere else then. Name its keys"
        keys = {"link": "keys", "device": device, "keys": ["enter", "volumeup", "dial"]}
        found.append(Board(f"keys-{number + 1}" if number else "keys", keys, says))
    if lamps := leds.known():
        says = "Lamps of this machine, which show something of its own now"
        found.append(Board("front", {"link": "leds", "leds": lamps}, says))
    if _broker():
        found.append(Board("far", {"link": "wireless"}, "A board with our firmware behind that broker"))
    return found


def _broker() -> bool:
    """Whether something listens where brokers do."""
    import socket

    try:
        socket.create_connection(("127.0.0.1", 1883), 0.3).close()
    except OSError:
        return False
    return True


def written(
    name: str, zone: str, latitude: float | None, longitude: float | None, boards: list[Board]
) -> str:
    """A first site file, which says what it does."""
    from cairnwind.site.edits import shown

    where = f"latitude = {latitude}\nlongitude = {longitude}\n" if latitude is not None and longitude is not None else (
        "# latitude = 52.95             # where it is: then schedules know sunrise and sunset\n# longitude = 0.85\n"
    )  # fmt: skip
    parts = [
        "# What one service looks after. All keys: docs/site-file.md. After a change by hand: cairnwind reload.\n"
        "# Or leave the file alone: cairnwind add, change, rename and remove write it, and cairnwind back undoes that.\n"
        f"site = {shown(name)}\ntimezone = {shown(zone)}\n{where}"
    ]
    for board in boards:
        keys = "\n".join(f"{key} = {shown(value)}" for key, value in board.keys.items())
        beside = "".join(f"# {line}\n" for line in board.beside)
        parts.append(f"# {board.says}\n[board.{board.name}]\n{keys}\n{beside}")
    if _broker():
        parts.append(
            "# A message broker answers on this machine. To tell and be told there, take the marks away:\n"
            '#\n# [remote.broker]\n# address = "mqtt://127.0.0.1:1883"\n'
        )
    for each in _offered():
        table = "".join(f"# {key} = {shown(value)}\n" for key, value in each.keys.items())
        parts.append(f"# {each.says}:\n#\n# [board.{each.name}]\n{table}")
    pin, other = boards[0].pins
    parts.append(
        "# A load on a pin looks like this. 'active-low' is for relay boards that switch on at a low level:\n"
        f'#\n# [output.lamp]\n# kind = "lamp"                  # or relay, fan, colour-lamp, sounder, heater, motor, lock, servo\n# pin = "{pin}"\n'
        '# sense = "active-high"\n#\n# [input.button]\n# kind = "contact"               # or analogue, counter, encoder\n'
        f'# pin = "{other}"\n# pull = "up"\n'
    )
    return "\n".join(parts)
