"""Forms of circuits, of what a site needs of wires and parts, and of sums."""

from __future__ import annotations

from typing import Annotated, TypedDict

from msgspec import Meta


class CircuitPart(TypedDict):
    """A part of a circuit."""

    role: str
    what: str
    value: str
    because: Annotated[str, Meta(description="The arithmetic, where there is any.")]
    count: int


class CircuitWire(TypedDict):
    """A wire from a board to a terminal."""

    name: Annotated[str, Meta(description="Of the output or input that it is for.")]
    cable: str
    board: str
    place: Annotated[str, Meta(description="Position or line of the board.")]
    line: int | None
    role: Annotated[str, Meta(description="'signal', or what there is at the place: 'ground', '3.3 V'.")]
    to: str


class Circuit(TypedDict):
    """How an output or an input is wired."""

    name: str
    label: str
    shape: str
    pins: list[str]
    parts: list[CircuitPart]
    wires: list[CircuitWire]
    notes: list[str]


class ToBuy(TypedDict):
    """Parts that are alike."""

    what: str
    value: str
    count: int
    outputs_and_inputs: list[str]


class Sheet(TypedDict):
    """Every wire of a site, and what to buy."""

    wires: list[CircuitWire]
    parts: list[ToBuy]


class HeldThen(TypedDict):
    """What has an output at such a moment."""

    safe: Annotated[bool | None, Meta(description="Whether it is at safe then; null: nobody knows.")]
    says: str


class HeldForm(TypedDict):
    """What has an output when the service does not."""

    output: str
    stop: Annotated[HeldThen, Meta(description="After a stop in good order.")]
    killed: Annotated[HeldThen, Meta(description="After the service was killed.")]
    power: Annotated[HeldThen, Meta(description="After a power cut, before anything is told.")]
    remedy: Annotated[str, Meta(description="What is missing.")]


class SumAsk(TypedDict):
    """A value that a sum wants to know."""

    name: str
    kind: str
    says: str
    default: str | None
    needed: bool
    among: list[str]


class Sum(TypedDict):
    """A sum that may be asked for."""

    name: str
    says: str
    asks: list[SumAsk]


class SumStep(TypedDict):
    """A step of an answer."""

    what: str
    formula: str
    result: str
    good: bool


class Reckoned(TypedDict):
    """What a sum comes to."""

    title: str
    good: bool
    steps: list[SumStep]
