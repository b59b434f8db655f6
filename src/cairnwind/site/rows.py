"""Rows of alike outputs: ``[outputs.bay]`` with its ``pins`` makes bay-1, bay-2 and so on, and a group of them that is called bay."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import Any

from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.keys import Key

KIND = "outputs"
MOST = 256
"""Outputs of a row."""
_RUN = re.compile(r"(.+?)-(\d+)\s+to\s+(.+?)-(\d+)")
EXAMPLE = 'Write pins = "b0:line-0 to b0:line-7", or a list of such and of single pins.'
PINS = Key(
    "pins", 'their pins in their order: `"b0:line-0 to b0:line-7"`, or a list of such and of single pins',
    needed=EXAMPLE,
)  # fmt: skip


def pins(value: object) -> list[str]:
    """The single pins of a row. Raises `CallerError`."""
    found: list[str] = []
    for each in value if isinstance(value, list) else [value]:
        if not isinstance(each, str):
            raise CallerError("", f"{each!r} is no pin.", EXAMPLE)
        run = _RUN.fullmatch(each.strip())
        if run is None:
            found.append(each)
            continue
        (stem, first, other, last) = run.groups()
        begin, end = int(first), int(last)
        if stem != other or abs(end - begin) >= MOST:
            raise CallerError(
                "", f"'{each}' is no run of pins: it begins and ends at one connector, or at lines of one board.", EXAMPLE
            )  # fmt: skip
        step = 1 if begin <= end else -1
        found += [f"{stem}-{number}" for number in range(begin, end + step, step)]
    if not 0 < len(found) <= MOST:
        raise CallerError("", f"a row has 1 to {MOST} outputs, this one {len(found)}.", EXAMPLE)
    return found


def members(name: str, values: Mapping[str, Any], checked: Callable[[str], object] | None = None) -> dict[str, dict[str, Any]]:  # fmt: skip
    """The tables of a row's outputs, by their names. Raises `CallerError`, also what ``checked`` raises for a pin."""
    found = {}
    for number, pin in enumerate(pins(values.get("pins", [])), 1):
        if checked is not None:
            checked(pin)
        own = {key: value for key, value in values.items() if key != "pins"}
        if isinstance(own.get("label"), str):
            own["label"] = f"{own['label']} {number}"
        found[f"{name}-{number}"] = {**own, "pin": pin}
    return found


def names(tables: Mapping[str, Any], name: str) -> list[str]:
    """What the outputs of a row of a file are called; none where there is no such row, or it is not understood."""
    row = tables.get(KIND, {})
    try:
        return list(members(name, row[name]))
    except (CallerError, KeyError, TypeError, AttributeError):
        return []


def row_of(tables: Mapping[str, Any], name: str) -> str:
    """The row of a file that an output is one of; empty where it is of none."""
    row, _, number = name.rpartition("-")
    return row if number.isdigit() and name in names(tables, row) else ""
