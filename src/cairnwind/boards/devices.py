"""Devices of this machine: whether they are there, whether this user may open them, who holds them."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from cairnwind.boards import gpio
from cairnwind.core.values.errors import BoardError


@dataclass(frozen=True, slots=True)
class Found:
    """One thing that was looked at. ``good`` None: neither good nor bad."""

    good: bool | None
    what: str
    remedy: str = ""


def chip(path: str, wanted: Sequence[int]) -> Iterator[Found]:
    """A GPIO chip, and who holds those of its lines that are wanted (none: any of them)."""
    try:
        its = gpio.Chip(path)
    except BoardError as error:
        yield Found(False, error.sentence, error.remedy)
        return
    held = {}
    for line in wanted or range(its.lines):
        try:
            info = its.info(line)
        except BoardError as error:
            yield Found(False, error.sentence, error.remedy)
            continue
        if info.used:
            held[line] = info.consumer or "the kernel"
    its.close()
    who = "; ".join(f"line {line} held by {name}" for line, name in held.items())
    bad = bool(wanted) and any(name != gpio.CONSUMER for name in held.values())
    remedy = "End what holds them, or take other lines." if bad else ""
    yield Found(
        not bad, f"GPIO chip {path} ({its.label}), {its.lines} lines{': ' + who if who else ''}.", remedy
    )


def openable(path: str, what: str, shown: str = "") -> Found:
    """Whether a device is there and may be opened; ``shown``: how it is called."""
    if not os.path.exists(path):
        return Found(False, f"{what} {shown or path} is not there.")
    if os.access(path, os.R_OK | os.W_OK):
        return Found(True, f"{what} {shown or path}.")
    error = gpio.no_permission(path)
    return Found(False, error.sentence, error.remedy)
