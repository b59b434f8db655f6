"""Looks at the machine's devices: are they there, may this user open them, who holds them?"""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from cairnwind.boards import facts, gpio, serialports, sysfs, twowire
from cairnwind.core.facts.model import Board, Site
from cairnwind.core.values.errors import BoardError


@dataclass(frozen=True, slots=True)
class Found:
    """One thing that was looked at. ``good`` None: neither good nor bad."""

    good: bool | None
    what: str
    remedy: str = ""


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
        yield from _chip(path, range(0))
    for root, pattern, what in (
        (sysfs.PWM, "pwmchip*", "PWM chip"),
        (sysfs.IIO, "iio:device*", "Analogue converter"),
    ):
        for device in sorted(Path(root).glob(pattern)):
            yield Found(None, f"{what} {device.name}.")
    for bus in twowire.buses():
        yield _openable(bus, "Two-wire bus")
    ports = serialports.known()
    for port in ports:
        yield _openable(port.split(" ")[0], "Serial port", port)
    if not ports:
        yield Found(None, "No serial ports of USB adapters here.")


def _chip(path: str, wanted: range | list[int]) -> Iterator[Found]:
    try:
        chip = gpio.Chip(path)
    except BoardError as error:
        yield Found(False, error.sentence, error.remedy)
        return
    held = {}
    for line in wanted or range(chip.lines):
        try:
            info = chip.info(line)
        except BoardError as error:
            yield Found(False, error.sentence, error.remedy)
            continue
        if info.used:
            held[line] = info.consumer or "the kernel"
    chip.close()
    who = "; ".join(f"line {line} held by {name}" for line, name in held.items())
    bad = bool(wanted) and any(name != gpio.CONSUMER for name in held.values())
    remedy = "End what holds them, or take other lines." if bad else ""
    yield Found(
        not bad, f"GPIO chip {path} ({chip.label}), {chip.lines} lines{': ' + who if who else ''}.", remedy
    )


def _openable(path: str, what: str, shown: str = "") -> Found:
    if not os.path.exists(path):
        return Found(False, f"{what} {shown or path} is not there.")
    if os.access(path, os.R_OK | os.W_OK):
        return Found(True, f"{what} {shown or path}.")
    error = gpio.no_permission(path)
    return Found(False, error.sentence, error.remedy)


def _board(site: Site, board: Board) -> Iterator[Found]:
    its = board.facts
    name = f"Board {board.name}: "
    try:
        if isinstance(its, facts.Kernel):
            lines = [each.pin.line for each in site.outputs.values() if each.pin.board == board.name]
            lines += [each.pin.line for each in site.inputs.values() if each.pin.board == board.name]
            yield from _chip(gpio.find(its.chip), lines)
            for device, root in ((its.pwm, sysfs.PWM), (its.analogue, sysfs.IIO)):
                if device:
                    there = (root / device).is_dir()
                    yield Found(there, f"{name}{device} is {'there' if there else 'not there'}.")
        elif isinstance(its, facts.Expander) and its.bus != "simulated":
            bus = twowire.KernelBus(its.bus, its.address)
            answers = bus.answers()
            bus.close()
            said = "answers" if answers else "does not answer"
            yield Found(
                answers,
                f"{name}address 0x{its.address:02X} of {its.bus} {said}.",
                "" if answers else f"cairnwind chain {its.chip.name} --bus {its.bus} shows what does.",
            )
        elif isinstance(its, facts.Modbus) and not its.tcp:
            yield _openable(serialports.find(its.port), f"{name}serial port")
        else:
            yield Found(None, f"{name}nothing of this machine is needed to reach it.")
    except BoardError as error:
        yield Found(False, f"{name}{error.sentence}", error.remedy)
