"""Looks at the machine's devices: are they there, may this user open them, who holds them?"""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

from cairnwind.boards import evdev, gpio, kernelsensors, kinds, serialports, sysfs, twowire
from cairnwind.boards.devices import Found, chip, openable
from cairnwind.boards.links import leds
from cairnwind.core.facts.hardware import Board
from cairnwind.core.facts.site import Site
from cairnwind.core.values.errors import BoardError


def examine(site: Site | None) -> list[Found]:
    """The devices that the site's boards need, or all there are."""
    if site is None:
        return [*_groups(), *_everything()]
    found = [*_groups()]
    for board in site.boards.values():
        found += _board(site, board)
    return found


def _groups() -> Iterator[Found]:
    import grp
    import pwd

    try:
        user = pwd.getpwuid(os.geteuid()).pw_name
    except KeyError:
        user = str(os.geteuid())
    names = sorted(grp.getgrgid(group).gr_name for group in os.getgroups() if _known_group(group))
    if os.geteuid() == 0:
        yield Found(
            None,
            "You are the superuser: what works here may not for an ordinary user, and need not be done as one.",
        )
    yield Found(None, f"User {user}, groups {', '.join(names) or 'none'}.")


def _known_group(group: int) -> bool:
    import grp

    try:
        grp.getgrgid(group)
    except KeyError:
        return False
    return True


def _everything() -> Iterator[Found]:
    chips = gpio.chips()
    if not chips:
        yield Found(None, "No GPIO chips (/dev/gpiochip*) here.")
    for path in chips:
        yield from chip(path, ())
    for root, pattern, what in (
        (sysfs.PWM, "pwmchip*", "PWM chip"),
        (sysfs.IIO, "iio:device*", "Analogue converter"),
    ):
        for device in sorted(Path(root).glob(pattern)):
            yield Found(None, f"{what} {device.name}.")
    for bus in twowire.buses():
        yield openable(bus, "Two-wire bus")
    for name in leds.known():
        yield openable(str(leds.LEDS / name / "brightness"), "Lamp of the kernel", name)
    for path, called in evdev.known():
        yield openable(path, "Input device", f"{called} ({path})")
    for each in kernelsensors.known():
        yield Found(None, f"Sensor of the kernel {each.text}{f', in {each.unit}' if each.unit else ''}.")
    ports = serialports.known()
    for port in ports:
        yield openable(port.split(" ")[0], "Serial port", port)
    if not ports:
        yield Found(None, "No serial ports of USB adapters here.")


def _board(site: Site, board: Board) -> Iterator[Found]:
    name = f"Board {board.name}: "
    try:
        for found in kinds.find(board.link).looks(site, board):
            yield (
                found
                if found.good and found.what.startswith("GPIO")
                else replace(found, what=name + found.what)
            )
    except BoardError as error:
        yield Found(False, f"{name}{error.sentence}", error.remedy)
