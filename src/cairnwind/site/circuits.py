"""The circuit between a pin and what is wired to it: which parts it has, of which values, and which wire goes where.

It follows from what the site file says of the load, the pin and the supplies, with the arithmetic of `core.physics.wiring`. What the
file does not say is reckoned with what is usual, and each circuit says so in its notes. It is drawn elsewhere, by its shape.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from fractions import Fraction
from typing import NamedTuple

from cairnwind.boards.facts import Relays
from cairnwind.core.facts.hardware import Board, Pin, Position
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.physics import wiring
from cairnwind.core.physics.scaling import Thermistor
from cairnwind.core.physics.wiring import LAMP_CURRENT, amperes, show_ohms, standard, volts, watts
from cairnwind.core.values.errors import unknown
from cairnwind.site.wiring import holding

PIN_VOLTS, PIN_CURRENT = Fraction(33, 10), Fraction(4, 1000)
"""Of a pin of which nothing is said."""
OPTO_OHMS = Fraction(1000)
"""Before the optocoupler of a relay board, as they are sold."""
FORWARD = Fraction(2)
"""Volts of an LED of which nothing is said."""
CONTROL = Fraction(20_000)
"""Hertz from which a fan's PWM is for its control wire, and not for its supply."""
CONTACT = Fraction(2000)
"""Watts that the contact of a small relay carries."""
PULL = Fraction(10_000)
"""Ohms that hold the wire of a contact while it is open."""
COILS = ("lock", "motor", "fan")
"""Loads whose current runs on when they are switched off."""
CHANNELS = ("red", "green", "blue")


class Part(NamedTuple):
    """Something to buy: what for, what, of which value, and the arithmetic where there is any."""

    role: str
    what: str
    value: str
    because: str = ""
    many: int = 1


class Wire(NamedTuple):
    """A wire from a pin, or from where a board has its ground, to a terminal of something."""

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
    """Which drawing it has: one of `SHAPES`."""
    pins: tuple[str, ...]
    """Both numbers of each."""
    parts: tuple[Part, ...]
    wires: tuple[Wire, ...]
    notes: tuple[str, ...]
    words: dict[str, str]
    """What is written in the drawing, by where."""


class _Near(NamedTuple):
    """What is known of a pin: what it shows when it is high, what it gives, where ground is."""

    board: Board
    there: Position | None
    volts: Fraction
    current: Fraction
    ground: str
    """The nearest ground position of its connector; empty where there is no map."""
    supply: str
    """The same of the volts that it shows."""
    notes: tuple[str, ...]


SHAPES = ("strip", "contact", "sounder", "bridge", "led", "control", "mosfet", "relay", "opto", "switch", "thermistor", "sensor")  # fmt: skip
"""strip: addressable lamps. contact: a relay that is on the board itself. sounder: a piezo. bridge: a driver that turns a motor both
ways. led: on the pin itself. control: the control wire of a fan. mosfet: the load in its drain. relay: a coil in its drain. opto: a
channel of a relay board. switch: a contact to ground or to the pin's supply. thermistor: with its series resistor. sensor: whatever gives volts or a level."""


def circuit(name: str, site: Site) -> Circuit:
    """How an output or an input of a site is wired. Raises `CallerError` (``unknown-name``)."""
    if name in site.outputs:
        return _output(site.outputs[name], site)
    if name in site.inputs:
        return _input(site.inputs[name], site)
    raise unknown("output or input", name, (*site.outputs, *site.inputs))


def sheet(site: Site) -> list[Circuit]:
    """Every output, then every input."""
    return [circuit(name, site) for name in (*site.outputs, *site.inputs)]


def to_buy(circuits: list[Circuit]) -> list[tuple[str, str, int, list[str]]]:
    """What to buy for them, alike things together: what, value, how many, and for which outputs and inputs."""
    count: Counter[tuple[str, str]] = Counter()
    whose: dict[tuple[str, str], dict[str, None]] = {}
    for each in circuits:
        for part in each.parts:
            count[part.what, part.value] += part.many
            whose.setdefault((part.what, part.value), {})[each.name] = None
    return [(what, value, count[what, value], list(whose[what, value])) for what, value in sorted(count)]


def _near(pin: Pin, site: Site) -> _Near:
    board = site.boards[pin.board]
    there = board.position(pin.line)
    high = there.volts if there is not None else None
    most = there.current if there is not None else None
    notes = []
    if high is None or most is None:
        notes.append(
            f"Nothing is said of what {pin.name} gives: reckoned with {volts(high or PIN_VOLTS)} and {amperes(most or PIN_CURRENT)}."
        )
    return _Near(board, there, high or PIN_VOLTS, most or PIN_CURRENT, _nearest(board, there, "ground"),
                 _nearest(board, there, volts(high or PIN_VOLTS)), tuple(notes))  # fmt: skip


def _nearest(board: Board, there: Position | None, role: str) -> str:
    """The position of this role that is closest to a pin; empty where nobody knows."""
    if board.map is None or there is None:
        return ""
    near = [each for each in board.map.positions.values() if each.role == role]
    near.sort(key=lambda each: (each.connector != there.connector, abs(each.number - there.number)))
    return near[0].name if near else ""


# --- outputs ------------------------------------------------------------------------------------------------


def _output(output: Output, site: Site) -> Circuit:
    near = _near(output.pin, site)
    shape = _shape(output, near.board)
    parts, notes, words = list[Part](), list(near.notes if shape not in ("strip", "contact") else ()), {}
    supply = site.supplies.get(output.supply)
    rail = supply.volts if supply is not None else output.switch.volts if output.switch is not None else None
    words["rail"] = (
        f"{supply.name}, {volts(supply.volts)}"
        if supply is not None
        else volts(rail)
        if rail
        else "its supply"
    )
    words["logic"], words["kind"] = volts(near.volts), output.kind
    words["load"] = ", ".join(
        [output.label or output.name, *([watts(output.load)] if output.load is not None else [])]
    )
    parts += _parts(shape, output, near, rail, notes, words)
    held = holding(output, near.there)
    if held is not None and shape not in ("strip", "contact"):
        ohms, way = held
        word = "pull-up" if way == "up" else "pull-down"
        words["hold"], words["hold way"] = show_ohms(ohms), way
        parts.append(
            Part(
                word,
                "resistor",
                show_ohms(ohms),
                "it holds the pin until software runs",
                len(_signals(output, shape)),
            )
        )
    elif shape in ("mosfet", "relay"):
        ohms = 10 * standard(near.volts / near.current, up=True)
        words["hold"], words["hold way"] = show_ohms(ohms), "down"
        parts.append(
            Part(
                "pull-down",
                "resistor",
                show_ohms(ohms),
                "it holds the gate off while the pin floats",
                len(_signals(output, shape)),
            )
        )
    if output.load is not None and output.load > CONTACT and shape in ("opto", "relay"):
        notes.append(
            f"{watts(output.load)} is more than the contact of a small relay carries: let that switch the coil of a contactor."
        )
    if output.normally_closed:
        notes.append("Its contact is closed while the coil has no current: without power the load is on.")
    return Circuit(
        output.name, output.label or output.name, shape, tuple(near.board.pin(line).both for line in _signals(output, shape)),
        tuple(parts), tuple(_wires(output, shape, near)), tuple(notes), words,
    )  # fmt: skip


def _signals(output: Output, shape: str) -> tuple[int, ...]:
    """The lines that a wire of their own comes from: of a strip only its data line."""
    return (output.pin.line,) if shape == "strip" else output.lines


def _shape(output: Output, board: Board) -> str:
    if board.channels:
        return "strip"
    if isinstance(getattr(board.facts, "profile", None), Relays):
        return "contact"
    if output.takes == "tone":
        return "sounder"
    if output.reversal:
        return "bridge"
    if output.gives is not None:
        return "led"
    if output.kind == "fan" and output.frequency is not None and output.frequency >= CONTROL:
        return "control"
    if output.dimmable or not (output.active_low or output.draws is not None or output.kind == "relay"):
        return "mosfet"
    return "opto" if output.active_low else "relay"


def _parts(
    shape: str, output: Output, near: _Near, rail: Fraction | None, notes: list[str], words: dict[str, str]
) -> Iterator[Part]:
    """What is between its pin and its load; adds to the notes and words."""
    least = near.volts / near.current
    limit = standard(least, up=True)
    because = (
        f"{volts(near.volts)} / {amperes(near.current)} = {show_ohms(least)}, the next standard value up"
    )
    many = len(_signals(output, shape))
    if shape == "strip":
        total = output.pixels * LAMP_CURRENT
        words["after"] = "" if output.pin.line == 0 else f"lamp {output.pin.line // 3}"
        yield Part(
            "lamps",
            "addressable lamps",
            f"{output.pixels} at 5 V",
            f"{output.pixels} * {amperes(LAMP_CURRENT)} = {amperes(total)} at full white",
        )
        if output.pin.line == 0:  # the runs after it get their data from the lamp before
            yield Part(
                "level shifter",
                "level shifter",
                "3.3 V to 5 V",
                f"0.7 * 5 V = {volts(wiring.DATA_SHARE * 5)} at least on the data wire",
            )
            yield Part(
                "data resistor",
                "resistor",
                "330 ohm",
                "in the data wire, close to the first lamp, against ringing",
            )
        words["amount"] = f"{output.pixels} lamps, {amperes(total)}"
        if output.pixels > wiring.FEED_EVERY:
            notes.append(
                f"Feed its supply in at {-(-output.pixels // wiring.FEED_EVERY) + 1} points, or the far end turns red."
            )
    elif shape == "contact":
        notes.append("The relay is on the board: its contact is wired as any switch, its coil not at all.")
    elif shape == "sounder":
        yield Part("series resistor", "resistor", show_ohms(limit), because)
        yield Part("sounder", "piezo sounder", "passive")
        words["series"] = show_ohms(limit)
    elif shape == "bridge":
        second = "direction" if output.reversal == "direction" else "the other way"
        yield Part("driver", "motor driver", f"{_what(rail, output)}, inputs for PWM and {second}")
        words["inputs"] = "PWM, direction" if output.reversal == "direction" else "forwards, backwards"
        notes.append("Its driver wants the pin's ground and the motor's joined.")
    elif shape == "led":
        assert output.gives is not None
        ohms = (near.volts - FORWARD) / output.gives
        value = standard(ohms, up=True)
        yield Part(
            "series resistor",
            "resistor",
            show_ohms(value),
            f"({volts(near.volts)} - {volts(FORWARD)}) / {amperes(output.gives)} = {show_ohms(ohms)}, the next standard value up",
        )
        yield Part("LED", "LED", f"{volts(FORWARD)} at {amperes(output.gives)}")
        words["series"] = show_ohms(value)
    elif shape == "control":
        yield Part(
            "series resistor",
            "resistor",
            show_ohms(max(limit, OPTO_OHMS)),
            "a fan pulls its control wire up to 5 V itself: this keeps that from the pin",
        )
        words["series"] = show_ohms(max(limit, OPTO_OHMS))
        if near.there is not None and near.there.bears is not None and near.there.bears < 5:
            notes.append(
                f'{output.pin.name} bears {volts(near.there.bears)}. A fan that pulls its wire up to 5 V wants a small MOSFET to ground in between, and sense = "active-low".'
            )
    elif shape == "opto":
        current = (near.volts - wiring.OPTO_DROP) / OPTO_OHMS
        yield Part(
            "relay",
            "channel of a relay board",
            f"{words['rail']}, active-low, with an optocoupler",
            f"({volts(near.volts)} - {volts(wiring.OPTO_DROP)}) / {show_ohms(OPTO_OHMS)} = {amperes(current)} through its input",
        )
        notes.append(
            "Its resistor, optocoupler, transistor and diode are on the relay board. Leave out the link between the board's two supplies, or the optocoupler isolates nothing."
        )
    else:
        yield Part("gate resistor", "resistor", show_ohms(limit), because, many)
        yield Part("transistor", "MOSFET", f"n-channel, logic level, {_what(rail, output)}", many=many)
        words["gate"] = show_ohms(limit)
        if many > 1:
            words["load"] += f", one of {many} alike"
        if shape == "relay":
            yield Part(
                "relay",
                "relay",
                f"coil for {words['rail']}" + (f", {amperes(output.draws)}" if output.draws else ""),
            )
        if shape == "relay" or output.kind in COILS:
            yield Part(
                "diode",
                "diode",
                "1 A, fast",
                "across the coil, its ring at plus: the current runs on through it when the transistor opens",
            )
            words["diode"] = "diode"


def _what(rail: Fraction | None, output: Output) -> str:
    """What a transistor has to bear: twice the volts, twice the amperes."""
    if rail is None:
        return "twice the volts and amperes of its load"
    current = output.draws or (output.load / rail if output.load is not None else None)
    if current is None:
        return f"{volts(2 * rail)} or more, twice the amperes of its load"
    return f"{volts(2 * rail)} and {amperes(2 * current)} or more"


ENDS = {
    "strip": ("the level shifter's input", "the strip's ground, and its supply's minus"),
    "sounder": ("the sounder, through its resistor", "the sounder's other wire"),
    "led": ("the LED, through its resistor", "the LED's short leg"),
    "control": ("the fan's control wire, through its resistor", "the fan's ground"),
    "mosfet": (
        "the gate of its MOSFET, through its resistor",
        "the MOSFET's source, and the minus of its supply",
    ),
    "relay": (
        "the gate of its MOSFET, through its resistor",
        "the MOSFET's source, and the minus of its supply",
    ),
    "opto": ("the input of its channel on the relay board", ""),
}
"""Where the wires of a shape end: the signal's, and ground's."""


def _wires(output: Output, shape: str, near: _Near) -> Iterator[Wire]:
    name = output.name
    signal, ground = ENDS.get(shape, ("", ""))
    for number, line in enumerate(_signals(output, shape)):
        end = signal
        if shape == "strip" and line:
            end = f"the data output of lamp {line // 3}"
        elif shape == "bridge":
            end = (
                ("its driver's PWM input", "its driver's direction input")[number]
                if output.reversal == "direction"
                else f"input {number + 1} of its driver"
            )
        elif shape == "contact":
            end = "the load, through this relay's own contact"
        elif output.takes == "colour" and shape != "strip":
            end = f"the gate of its MOSFET for {CHANNELS[number]}, through its resistor"
        yield _wire(name, output.cable, near, line, "signal", end)
    if shape == "bridge":
        ground = "its driver's ground"
    if ground and near.ground:
        yield Wire(name, output.cable, near.board.name, near.ground, None, "ground", ground)
    if shape == "opto" and near.supply:
        yield Wire(
            name,
            output.cable,
            near.board.name,
            near.supply,
            None,
            volts(near.volts),
            "the relay board's logic side, at plus",
        )


def _wire(name: str, cable: str, near: _Near, line: int, role: str, to: str) -> Wire:
    pin = near.board.pin(line)
    return Wire(name, cable, pin.board, pin.position or f"line-{line}", line, role, to)


# --- inputs -------------------------------------------------------------------------------------------------


def _input(input: Input, site: Site) -> Circuit:
    near = _near(input.pin, site)
    parts, notes, words = (
        list[Part](),
        list[str](),
        {"logic": volts(near.volts), "load": input.label or input.name},
    )
    bears = near.there.bears if near.there is not None else None
    end, ground = "its output", "its ground"
    if isinstance(input.scale, Thermistor):
        shape = "thermistor"
        end, ground = _thermistor(input, input.scale, parts, words)
    elif input.analogue or input.source is not None:
        shape = "sensor"
        words["source"] = volts(input.source) if input.source is not None else f"0 to {volts(near.volts)}"
        notes += (
            []
            if input.source is not None or bears is None
            else [f"What it puts on the wire must not go above {volts(bears)}."]
        )
    else:
        shape = "switch"
        end, ground = _contact(input, near, parts, notes, words)
    wires = [_wire(input.name, input.cable, near, input.pin.line, "signal", end)]
    if ground and near.ground:
        wires.append(Wire(input.name, input.cable, near.board.name, near.ground, None, "ground", ground))
    return Circuit(
        input.name,
        input.label or input.name,
        shape,
        (input.pin.both,),
        tuple(parts),
        tuple(wires),
        tuple(notes),
        words,
    )


def _thermistor(input: Input, scale: Thermistor, parts: list[Part], words: dict[str, str]) -> tuple[str, str]:
    series = show_ohms(Fraction(scale.series).limit_denominator(1000))
    below = scale.below
    parts += [
        Part("series resistor", "resistor", f"{series}, 1 %"),
        Part("thermistor", "thermistor", "as its scale says"),
    ]
    words |= {"series": series, "side": "below" if below else "above", "source": f"{scale.volts:g} V"}
    return (
        "where thermistor and resistor meet",
        "the thermistor's other wire" if below else "the resistor's other wire",
    )


def _contact(
    input: Input, near: _Near, parts: list[Part], notes: list[str], words: dict[str, str]
) -> tuple[str, str]:
    """A contact and what holds its wire while it is open; where the wire ends, and where ground does."""
    words |= {
        "pull": "own" if input.pull != "none" else show_ohms(PULL),
        "to": "logic" if input.pull == "down" else "ground",
    }
    active = "closed" if input.active_low == (input.pull != "down") else "open"
    words["active"] = f"{input.words[1]} while the contact is {active}"
    if input.pull == "none":
        parts.append(
            Part("pull-up", "resistor", show_ohms(PULL), "it holds the wire while the contact is open")
        )
        notes.append(
            'Nothing is said of a pull: drawn with a resistor of its own. Where the pin can pull by itself, write pull = "up" and leave it out. A source that drives the wire both ways needs neither.'
        )
    if input.debounce == 0 and input.kind == "contact":
        notes.append('A contact bounces: debounce = "20 ms" counts it once.')
    if input.pull == "down":
        return "one side of the contact; its other side at the pin's supply", ""
    return "one side of the contact", "its other side"
