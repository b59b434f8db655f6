"""What may be written of a thing, key by key, with only what is possible offered: for whoever adds or changes one."""

from __future__ import annotations

import tomllib
from collections.abc import Iterator
from typing import Any, NamedTuple

from cairnwind.core.facts.hardware import Board
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.values.errors import unknown
from cairnwind.core.values.keys import Key
from cairnwind.site import page, rows
from cairnwind.site.edits import ALONE, LISTED, WHAT
from cairnwind.site.loads import sounding
from cairnwind.site.reader import OUTPUT
from cairnwind.site.remotes import NAMED, ONES

OUTPUT_NAMES = {
    ("guard", "name"), ("interlock", "outputs"), ("interlock", "excludes"), ("interlock", "order"), ("regulator", "by"), ("group", "outputs"),
    ("pad", "left"), ("pad", "right"), ("quiet", "except"),
}  # fmt: skip
"""Keys that name outputs."""
WANTS = {"fan": "pwm", "colour-lamp": "pwm", "analogue": "analogue"}
"""What a pin has to be able to do for a kind, where that is more than to switch or to be read."""


class Offer(NamedTuple):
    """One key, what may be written for it, and what is."""

    key: Key
    choices: tuple[str, ...]
    """All that is possible, where that is few; empty: it is free."""
    value: Any = None


def offers(site: Site, what: str, kind: str = "", name: str = "") -> list[Offer]:
    """What may be written of a thing of a kind; of one that is there, what is. Raises `CallerError` (``unknown-name``)."""
    if what not in WHAT:
        raise unknown("kind of table", what, WHAT)
    table = _table(site, what, name)
    kind = kind or str(table.get("link" if what == "board" else "kind", ""))
    if what == "interlock" and not kind:
        kind = next((verb for verb in VERBS if verb in table), "")
    own = str(table.get("pin", ""))
    found = []
    for key in _keys(what, kind):
        choices = key.choices or tuple(_possible(site, what, kind, key.name))
        if key.name == "pin" and "frequency" in table:
            choices = tuple(free_pins(site, "fan"))
        if key.name == "pin" and own and own not in choices:
            choices = (own, *choices)
        found.append(Offer(key, choices, table.get(key.name)))
    return found


VERBS = ("needs", "excludes", "limit", "trip", "pace", "budget")


def _keys(what: str, kind: str) -> list[Key]:
    """The keys that tables of this sort have."""
    heads = {
        "site": "",
        "interlock": f"[[interlock]] with `{kind}`",
        "remote": f"[remote.{kind}.NAME]" if kind in NAMED else f"[remote.{kind or 'modbus'}]",
        "guard": "[guard.OUTPUT]",
    }
    head = heads.get(
        what, f"[[{what}]]" if what in LISTED else f"[{what}]" if what in ALONE else f"[{what}.NAME]"
    )
    wanted = (
        {head}
        | ({"[output.NAME]"} if what == "outputs" else set())
        | ({f'[board.NAME] with `link = "{kind}"`'} if what == "board" else set())
    )
    found: dict[str, Key] = {"kind": OUTPUT["kind"], "pins": rows.PINS} if what == "outputs" else {}
    for table in page.tables():
        if table.head in wanted or (
            what == "interlock" and not kind and table.head.startswith("[[interlock")
        ):
            found.update({key.name: key for key in table.keys if not found.get(key.name)})
    return [
        key
        for key in found.values()
        if not (key.name == "name" and what in LISTED)
        and not (key.name == "pin" and what == "outputs")
        and (what in ("site", *ALONE) or key.of(kind or None))
    ]


def _table(site: Site, what: str, name: str) -> dict[str, Any]:
    """What is written of a thing that is there."""
    tables: Any = tomllib.loads(site.source[1])
    if what == "site":
        return dict(tables)
    tables = tables.get(what, {})
    if what in ALONE:
        return dict(tables)
    if what in LISTED:
        return next((row for row in tables if name and row.get("name") == name), {})
    for part in name.split(".") if name else ():
        tables = tables.get(part, {}) if isinstance(tables, dict) else {}
    return dict(tables) if name else {}


def _possible(site: Site, what: str, kind: str, key: str) -> Iterator[str]:
    """What can be written for a key of this sort, where the site says that."""
    if (what, key) in OUTPUT_NAMES:
        yield from site.outputs
    elif key == "pin":
        yield from free_pins(site, kind)
    elif key in ("second", "resets"):  # another line for the same thing
        yield from free_pins(site)
    elif key == "stick":
        yield from (each.name for each in site.inputs.values() if each.analogue)
    elif key == "supply":
        yield from site.supplies
    elif (what, key) == ("remote", "kind"):
        yield from (*ONES, *NAMED)


def free_pins(site: Site, kind: str = "") -> Iterator[str]:
    """Pins that nothing is on, and that can do what a kind of output or input wants."""
    things: list[Output | Input] = [*site.outputs.values(), *site.inputs.values()]
    taken = {(thing.pin.board, line) for thing in things for line in _lines(thing)}
    for board in site.boards.values():
        for line in board.lines:
            if (board.name, line) not in taken and _can(board, line, kind):
                yield board.pin(line).name


def _lines(thing: Output | Input) -> Iterator[int]:
    yield from thing.lines
    if isinstance(thing, Output) and thing.pixels:
        yield from range(thing.pin.line, thing.pin.line + 3 * thing.pixels)


def _can(board: Board, line: int, kind: str) -> bool:
    can, wanted = board.can(line), WANTS.get(kind, "")
    if kind == "sounder" and can is not None:
        return bool(can & sounding(board))
    if wanted == "pwm" and board.dims(line):
        return True
    return not wanted or can is None or wanted in can
