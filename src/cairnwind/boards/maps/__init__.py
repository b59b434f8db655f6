"""Header maps: which position of which connector is which line of the chip. Data, one TOML file each.

Our own stand beside this file; a user's own stand in a folder ``maps`` beside the site file, and come first.
What holds for all lines stands at the top (volts, bears, current, sum, power_on, pull), a table ``[bank.NAME]``
has what holds for some, and every other table is a connector. Each entry of it is a position: a text for
supply and ground, or ``{ line = 23, title = "…", functions = ["pwm"], timer = "T0", channel = 2, bank = "…" }``
with any of the facts above where they differ. A table ``[timers]`` says what each timer is, by the name of its
description in `cairnwind.boards.timers`.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterable, Sequence
from fractions import Fraction
from functools import cache
from pathlib import Path
from typing import Any

from cairnwind.boards import timers
from cairnwind.core.facts.hardware import POWER_ON, HeaderMap, Position
from cairnwind.core.values.errors import CallerError, unknown
from cairnwind.core.values.quantities import parse

HERE = Path(__file__).parent
FUNCTIONS = ("pwm", "analogue", "tone")
_FACTS = {"volts": "a voltage", "bears": "a voltage", "current": "a current", "pull": "a resistance"}
_KEYS = {*_FACTS, "power_on"}
_POSITION = {"line", "title", "functions", "timer", "channel", "bank"}


def names(beside: Sequence[Path] = ()) -> list[str]:
    """The maps there are: our own, and those in the folders given."""
    return sorted({path.stem for folder in (*beside, HERE) for path in folder.glob("*.toml")})


def load(name: str, *beside: Path) -> HeaderMap:
    """The map of this name, sought in the folders first. Raises `CallerError` (``unknown-name``, ``bad-map``)."""
    for folder in beside:
        path = folder / f"{name}.toml"
        if path.is_file() and "/" not in name:
            return read(path)  # each time: it may have been changed
    if "/" not in name and (HERE / f"{name}.toml").is_file():
        return _shipped(name)
    raise unknown("header map", name, names(beside))


@cache
def _shipped(name: str) -> HeaderMap:
    return read(HERE / f"{name}.toml")


def read(path: Path) -> HeaderMap:
    """The map of a file. Raises `CallerError` (``bad-map``) that says which position is wrong, and why."""
    try:
        data = tomllib.loads(path.read_text("utf-8"))
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise CallerError(
            "bad-map", f"The header map {path} cannot be read: {error}.", "Mend the file."
        ) from None
    try:
        return _build(path.stem, data, path.parent.parent / "timers")
    except CallerError as bad:
        raise CallerError("bad-map", f"The header map {path}: {bad.sentence}", bad.remedy) from None


def _build(name: str, data: dict[str, Any], own: Path) -> HeaderMap:
    """``own`` is the folder of timers that stands beside that of the map."""
    title = str(data.pop("title", name))
    banks = data.pop("bank", {})
    clockwork = {timer: timers.load(str(kind), own) for timer, kind in data.pop("timers", {}).items()}
    whole = {key: data.pop(key) for key in list(data) if not isinstance(data[key], dict)}
    sums = {bank: parse(table["sum"], "a current") for bank, table in banks.items() if "sum" in table}
    if "sum" in whole:
        sums[""] = parse(whole.pop("sum"), "a current")
    _only(whole, _KEYS, "its top")
    positions: dict[str, Position] = {}
    by_line: dict[int, Position] = {}
    for connector, table in data.items():
        for number, entry in table.items():
            if not number.isdigit():
                raise CallerError(
                    "", f"{connector} has a position '{number}'.", "Positions are numbers from 1 on."
                )
            position = _position(connector, int(number), entry, whole, banks)
            positions[position.name] = position
            if position.line is not None:
                other = by_line.setdefault(position.line, position)
                if other is not position:
                    raise CallerError(
                        "",
                        f"line {position.line} is at {other.name} and at {position.name}.",
                        "A line comes out once.",
                    )
    return HeaderMap(name, title, positions, by_line, sums, clockwork)


def _position(
    connector: str, number: int, entry: Any, whole: dict[str, Any], banks: dict[str, Any]
) -> Position:
    where = f"{connector}-{number}"
    if isinstance(entry, str):
        return Position(connector, number, None, entry)
    if not isinstance(entry, dict) or not isinstance(entry.get("line"), int):
        raise CallerError("", f"{where} is no position.", 'Write { line = 23 }, or a text like "ground".')
    _only(entry, _KEYS | _POSITION, where)
    bank = str(entry.get("bank", ""))
    if bank and bank not in banks:
        raise unknown("bank", bank, banks)
    functions = frozenset(entry.get("functions", ()))
    if functions - set(FUNCTIONS):
        raise CallerError("", f"{where} has a function that is not known.", f"Known: {', '.join(FUNCTIONS)}.")
    facts = {**whole, **{key: value for key, value in banks.get(bank, {}).items() if key in _KEYS}, **entry}
    power_on = str(facts.get("power_on", ""))
    if power_on and power_on not in POWER_ON:
        raise CallerError("", f"{where} is '{power_on}' at power-on.", f"Write one of {', '.join(POWER_ON)}.")
    read: dict[str, Fraction | None] = {
        key: parse(facts[key], dimension) if key in facts else None for key, dimension in _FACTS.items()
    }
    return Position(
        connector, number, entry["line"], "line", functions, str(entry.get("timer", "")), entry.get("channel"),
        str(entry.get("title", "")), bank, read["volts"], read["bears"] or read["volts"], read["current"], power_on,
        read["pull"],
    )  # fmt: skip


def _only(table: dict[str, Any], known: set[str], where: str) -> None:
    for key in table:
        if key not in known:
            raise CallerError("", f"'{key}' is not known at {where}.", unknown("key", key, known).remedy)


def write(path: Path, title: str, found: dict[str, dict[int, tuple[int, str]]]) -> None:
    """Write a map that was learned: connector to position to (line, title)."""
    lines = [f"title = {_quote(title)}"]
    for connector in sorted(found):
        lines += ["", f"[{connector}]"]
        lines += [
            f"{number} = {{ line = {line}{f', title = {_quote(name)}' if name else ''} }}"
            for number, (line, name) in sorted(found[connector].items())
        ]
    path.parent.mkdir(parents=True, exist_ok=True)
    aside = path.with_suffix(".part")
    aside.write_text("\n".join(lines) + "\n", "utf-8")
    aside.replace(path)


def of_names(names: Iterable[tuple[int, str]]) -> dict[str, dict[int, tuple[int, str]]]:
    """Connector to position to (line, title), from the names that a kernel has for the lines of a chip.

    A name like 'P8_11' or 'J2-9' is a position; any other is that of a line which is called so: its connector is 'L'.
    """
    found: dict[str, dict[int, tuple[int, str]]] = {}
    for line, name in names:
        match = re.fullmatch(r"([A-Za-z]{1,3}\d{0,2})[_\-. ](\d{1,3})", name)
        if match is not None and int(match[2]):
            found.setdefault(match[1].upper(), {})[int(match[2])] = (line, name)
        elif name:
            found.setdefault("L", {})[line + 1] = (line, name)
    return found


def _quote(text: str) -> str:
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'
