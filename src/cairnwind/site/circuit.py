"""What a circuit is, and how one is put together: parts, wires, notes, and the words of its drawing.

A `Draft` knows the pin: what it gives, where the nearest ground is. Who draws a kind of circuit adds to it in the order from the pin to
the load (`output_circuits`, `input_circuits`).
"""

from __future__ import annotations

from fractions import Fraction
from typing import NamedTuple

from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.physics.wiring import amperes, show_ohms, standard, volts

PIN_VOLTS, PIN_CURRENT = Fraction(33, 10), Fraction(4, 1000)
"""Of a pin of which nothing is said."""


class Part(NamedTuple):
    """Something to buy: what for, what, of which value, the arithmetic where there is any, and how many."""

    role: str
    what: str
    value: str
    because: str = ""
    many: int = 1


class Wire(NamedTuple):
    """A wire from a pin, or from where a board has its ground or a supply, to a terminal of something."""

    name: str
    """Of the output or input that it is for."""
    cable: str
    board: str
    place: str
    """Position or line of the board: 'J2-9', 'line-4'."""
    line: int | None
    role: str
    """'signal', or what there is at the place: 'ground', '3.3 V'."""
    to: str


class Circuit(NamedTuple):
    """How one output or input is wired."""

    name: str
    label: str
    shape: str
    """Which drawing it has."""
    pins: tuple[str, ...]
    """Both numbers of each."""
    parts: tuple[Part, ...]
    wires: tuple[Wire, ...]
    notes: tuple[str, ...]
    """What was reckoned with that nobody has said, and what to heed."""
    words: dict[str, str]
    """What is written in the drawing, by where."""


class Draft:
    """A circuit that is being put together, from what is known of its pin."""

    def __init__(self, thing: Output | Input, site: Site) -> None:
        self.thing, self.board = thing, site.boards[thing.pin.board]
        self.there = self.board.position(thing.pin.line)
        high = self.there.volts if self.there is not None else None
        most = self.there.current if self.there is not None else None
        self.volts, self.current = high or PIN_VOLTS, most or PIN_CURRENT
        self._guessed = high is None or most is None
        self.parts: list[Part] = []
        self.wires: list[Wire] = []
        self.notes: list[str] = []
        self.words = {"logic": volts(self.volts), "load": thing.label or thing.name}

    # --- from the pin to the load -------------------------------------------------------------------------

    def reckoned(self) -> None:
        """Values are reckoned from what the pin gives: where nobody has said that, it is noted."""
        if self._guessed:
            gives = f"{volts(self.volts)} and {amperes(self.current)}"
            self.notes.append(f"Nothing is said of what {self.thing.pin.name} gives: reckoned with {gives}.")

    def part(self, role: str, what: str, value: str, because: str = "", many: int = 1) -> None:
        """A part."""
        self.parts.append(Part(role, what, value, because, many))

    def resistor(self, role: str, ohms: Fraction, because: str, word: str, many: int = 1) -> None:
        """A resistor, and its value in the drawing."""
        self.words[word] = show_ohms(ohms)
        self.part(role, "resistor", show_ohms(ohms), because, many)

    def limiting(self) -> tuple[Fraction, str]:
        """The standard resistor with which the pin gives no more than it may, whatever is behind it; and the arithmetic."""
        least = self.volts / self.current
        sums = f"{volts(self.volts)} / {amperes(self.current)} = {show_ohms(least)}"
        return standard(least, up=True), f"{sums}, the next standard value up"

    # --- wires --------------------------------------------------------------------------------------------

    def signal(self, line: int, to: str) -> None:
        """A wire from a line."""
        pin = self.board.pin(line)
        self._wire(pin.position or f"line-{line}", line, "signal", to)

    def ground(self, to: str) -> None:
        """A wire from the nearest ground, where anybody knows of one."""
        self._from("ground", to)

    def logic(self, to: str) -> None:
        """A wire from the nearest position that has the volts of the pin."""
        self._from(volts(self.volts), to)

    def _from(self, role: str, to: str) -> None:
        there = self.there
        if self.board.map is None or there is None:
            return
        near = [each for each in self.board.map.positions.values() if each.role == role]
        near.sort(key=lambda each: (each.connector != there.connector, abs(each.number - there.number)))
        if near:
            self._wire(near[0].name, None, role, to)

    def _wire(self, place: str, line: int | None, role: str, to: str) -> None:
        self.wires.append(Wire(self.thing.name, self.thing.cable, self.board.name, place, line, role, to))

    def done(self, shape: str) -> Circuit:
        """It is complete."""
        pins = tuple(self.board.pin(wire.line).both for wire in self.wires if wire.line is not None)
        label = self.thing.label or self.thing.name
        return Circuit(
            self.thing.name, label, shape, pins, tuple(self.parts), tuple(self.wires), tuple(self.notes), self.words
        )  # fmt: skip


def there(thing: Output | Input, site: Site) -> Circuit:
    """Nothing is wired for it here."""
    draft = Draft(thing, site)
    draft.notes.append(f"Nothing is wired for it here: it is there already, as {thing.pin.name}.")
    return draft.done("there")._replace(pins=(thing.pin.both,))
