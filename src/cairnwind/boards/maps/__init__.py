"""Header maps: which position of which connector is which line of the chip. Data, one TOML file each.

A file has a title and one table a connector; each entry is a position: a text for supply and ground, or
``{ line = 23, functions = ["pwm"], timer = "T0" }``.
"""

from __future__ import annotations

import tomllib
from functools import cache
from pathlib import Path

from cairnwind.core.errors import unknown
from cairnwind.core.model import HeaderMap, Position

HERE = Path(__file__).parent


def names() -> list[str]:
    """The maps there are."""
    return sorted(path.stem for path in HERE.glob("*.toml"))


@cache
def load(name: str) -> HeaderMap:
    """The map of this name. Raises `CallerError` (``unknown-name``)."""
    if name not in names():
        raise unknown("header map", name, names())
    data = tomllib.loads((HERE / f"{name}.toml").read_text("utf-8"))
    title = data.pop("title")
    positions = {}
    for connector, table in data.items():
        for number, entry in table.items():
            if isinstance(entry, str):
                position = Position(connector, int(number), None, entry)
            else:
                functions = frozenset(entry.get("functions", ()))
                position = Position(
                    connector, int(number), entry["line"], "line", functions, entry.get("timer", "")
                )
            positions[position.name] = position
    lines = {position.line: position for position in positions.values() if position.line is not None}
    return HeaderMap(name, title, positions, lines)
