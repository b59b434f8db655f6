"""``enable`` of a board: the line of the kernel without which it drives nothing. Read, and held against what is wired to the board."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from functools import partial
from typing import Any

from cairnwind.core.facts.hardware import SENSES, Board, Enable
from cairnwind.core.facts.outputs import Output
from cairnwind.core.values import entries
from cairnwind.core.values.errors import CallerError, nearest
from cairnwind.core.values.quantities import duration
from cairnwind.site import pins, wiring

READS: dict[str, tuple[str, Callable[[Any], Any]]] = {
    "sense": ("active_low", partial(entries.second, among=SENSES)),
    "switches": ("supply", partial(entries.second, among=("outputs", "supply"))),
    "after": ("after", partial(duration, longest=60)),
    "bias": ("bias", entries.bias),
}
"""By key beside ``pin``: the field, and how it is read."""
EXAMPLE = 'Write enable = "host:line-5", or enable = { pin = "host:line-5", sense = "active-low" }.'
HOLDS = "kernel"
"""The kind of link whose lines a guard holds."""


def read(name: str, boards: Mapping[str, Board], value: object) -> Enable:
    """What enables the board called ``name``. Raises `CallerError`."""
    table = {"pin": value} if isinstance(value, str) else value
    if not isinstance(table, dict) or "pin" not in table:
        raise CallerError("", f"{value!r} is not what enables a board", EXAMPLE)
    for key in table.keys() - {"pin", *READS}:
        raise CallerError(
            "",
            f"'{key}' is not known of an enable line",
            nearest(key, READS) or f"Known: pin, {', '.join(READS)}.",
        )
    pin = pins.resolve(table["pin"], dict(boards))
    host = boards[pin.board]
    if pin.board == name:
        raise CallerError(
            "", f"board {name} cannot enable itself", "Give a line of a board whose link is kernel."
        )
    if host.link != HOLDS and not host.link == boards[name].link == "simulated":
        raise CallerError(
            "", f"{pin.name} is of a board whose link is {host.link}, and only lines of the kernel are held by a guard when the service dies",
            "Give a line of a board whose link is kernel.",
        )  # fmt: skip
    found = {field: convert(table[key]) for key, (field, convert) in READS.items() if key in table}
    return Enable(pin, **found, host=host.facts if host.link == HOLDS else None)


def check(boards: Mapping[str, Board], outputs: Iterable[Output]) -> Iterator[wiring.Found]:
    """Loads that are not at safe while their board is disabled, and enable lines that nothing holds before software runs."""
    for board in boards.values():
        if board.enable is not None:
            pin = board.enable.pin
            as_load = Output(
                f"board {board.name}",
                "relay",
                pin,
                active_low=board.enable.active_low,
                bias=board.enable.bias,
            )
            there = boards[pin.board].position(pin.line)
            for _, value, error, grave in wiring.power_on(as_load, there) if there is not None else ():
                yield ("board", board.name, "enable"), value, error, grave
    for output in outputs:
        enabled = boards[output.pin.board].enable if output.pin.board in boards else None
        if enabled is None:
            continue
        by = f"{enabled.pin.both}, which enables board {output.pin.board}"
        if output.normally_closed != output.safe.on:
            dead = "on" if output.normally_closed else "off"
            yield (
                ("output", output.name, "safe" if output.safe.on else "contact"), output.name,
                CallerError("", f"{output.name} is safe when it is {'on' if output.safe.on else 'off'}, and {by}, leaves it {dead}",
                            "Wire it to a board without an enable line, or to the other contact."), False,
            )  # fmt: skip
        elif output.on_stop == "keep":
            yield (
                ("output", output.name, "on_stop"), "keep",
                CallerError("", f"{output.name} is to stay as it is when the service stops, and {by}, goes off then",
                            "Take on_stop away, or wire it to a board without an enable line."), False,
            )  # fmt: skip
