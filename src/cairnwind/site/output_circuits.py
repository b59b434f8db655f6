"""The circuits of outputs: which one a load has, and what is between its pin and it. One function for each shape.

strip: addressable lamps. contact: a relay that is on the board itself. sounder: a piezo. bridge: a driver that turns a motor both ways.
led: on the pin itself. control: the control wire of a fan. mosfet: the load in its drain. relay: a coil in its drain. opto: a channel of
a relay board.
"""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction

from cairnwind.boards.facts import Relays
from cairnwind.core.facts.hardware import Board
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.physics import wiring
from cairnwind.core.physics.wiring import LAMP_CURRENT, OPTO_DROP, amperes, show_ohms, standard, volts, watts
from cairnwind.site.circuit import Circuit, Draft
from cairnwind.site.wiring import holding

OPTO_OHMS = Fraction(1000)
"""Before the optocoupler of a relay board, as they are sold."""
FORWARD = Fraction(2)
"""Volts of an LED of which nothing is said."""
CONTROL = Fraction(20_000)
"""Hertz from which a fan's PWM is for its control wire, and not for its supply."""
CONTACT = Fraction(2000)
"""Watts that the contact of a small relay carries."""
COILS = ("lock", "motor", "fan")
"""Loads whose current runs on when they are switched off."""
CHANNELS = ("red", "green", "blue")
GATE = "the gate of its MOSFET, through its resistor"
MINUS = "the MOSFET's source, and the minus of its supply"


def circuit(output: Output, site: Site) -> Circuit:
    """How an output is wired."""
    draft = Draft(output, site)
    shape = _shape(output, draft.board)
    supply = site.supplies.get(output.supply)
    rail = supply.volts if supply is not None else output.switch.volts if output.switch is not None else None
    draft.words["rail"] = "its supply" if rail is None else volts(rail)
    if supply is not None:
        draft.words["rail"] = f"{supply.name}, {volts(supply.volts)}"
    draft.words["kind"] = output.kind
    if output.load is not None:
        draft.words["load"] += f", {watts(output.load)}"
    SHAPES[shape](draft, output, rail)
    return draft.done(shape)


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
    if output.volts is not None:
        return "converter"
    if output.kind == "servo" or (output.kind == "fan" and (output.frequency or 0) >= CONTROL):
        return "control"
    if output.dimmable or not (output.active_low or output.draws is not None or output.kind == "relay"):
        return "mosfet"
    return "opto" if output.active_low else "relay"


# --- on boards that need nothing between --------------------------------------------------------------------


def _strip(draft: Draft, output: Output, rail: Fraction | None) -> None:
    lamps, line = output.pixels, output.pin.line
    total = lamps * LAMP_CURRENT
    sums = f"{lamps} * {amperes(LAMP_CURRENT)} = {amperes(total)} at full white"
    draft.part("lamps", "addressable lamps", f"{lamps} at 5 V", sums)
    draft.words |= {
        "amount": f"{lamps} lamps, {amperes(total)}",
        "after": f"lamp {line // 3}" if line else "",
    }
    if line:  # a run that is not the first gets its data from the lamp before
        draft.signal(line, f"the data output of lamp {line // 3}")
    else:
        least = f"0.7 * 5 V = {volts(wiring.DATA_SHARE * 5)} at least on the data wire"
        draft.part("level shifter", "level shifter", "3.3 V to 5 V", least)
        draft.part("data resistor", "resistor", "330 ohm", "in the data wire, close to the first lamp, against ringing")  # fmt: skip
        draft.signal(line, "the level shifter's input")
        draft.ground("the strip's ground, and its supply's minus")
    if lamps > wiring.FEED_EVERY:
        points = -(-lamps // wiring.FEED_EVERY) + 1
        draft.notes.append(f"Feed its supply in at {points} points, or the far end turns red.")


def _contact(draft: Draft, output: Output, rail: Fraction | None) -> None:
    for line in output.lines:
        draft.signal(line, "the load, through this relay's own contact")
    draft.notes.append("The relay is on the board: its contact is wired as any switch, its coil not at all.")
    _closed(draft, output)


# --- on a pin -----------------------------------------------------------------------------------------------


def _sounder(draft: Draft, output: Output, rail: Fraction | None) -> None:
    draft.reckoned()
    draft.resistor("series resistor", *draft.limiting(), "series")
    draft.part("sounder", "piezo sounder", "passive")
    _held(draft, output)
    draft.signal(output.pin.line, "the sounder, through its resistor")
    draft.ground("the sounder's other wire")


def _led(draft: Draft, output: Output, rail: Fraction | None) -> None:
    assert output.gives is not None
    draft.reckoned()
    exact = (draft.volts - FORWARD) / output.gives
    sums = f"({volts(draft.volts)} - {volts(FORWARD)}) / {amperes(output.gives)} = {show_ohms(exact)}"
    draft.resistor(
        "series resistor", standard(exact, up=True), f"{sums}, the next standard value up", "series"
    )
    draft.part("LED", "LED", f"{volts(FORWARD)} at {amperes(output.gives)}")
    _held(draft, output)
    draft.signal(output.pin.line, "the LED, through its resistor")
    draft.ground("the LED's short leg")


def _converter(draft: Draft, output: Output, rail: Fraction | None) -> None:
    assert output.volts is not None
    draft.reckoned()
    ohms, why = draft.limiting()
    draft.resistor(
        "series resistor", max(ohms, OPTO_OHMS), f"it bears a converter with an optocoupler; {why}", "series"
    )
    draft.part(
        "from PWM to volts",
        "converter",
        f"up to {volts(output.volts[1])}, for {volts(draft.volts)} at its input",
    )
    draft.words["span"] = f"{volts(output.volts[0])} to {volts(output.volts[1])}"
    _held(draft, output)
    draft.signal(output.pin.line, "the converter's input, through its resistor")
    draft.ground("the converter's ground, which is that of the control wire too")
    draft.notes.append(
        f"Trim the converter until it gives {volts(output.volts[1])} while {output.name} is at 100 %; measure that before the wire goes on."
    )


def _control(draft: Draft, output: Output, rail: Fraction | None) -> None:
    draft.reckoned()
    ohms = max(draft.limiting()[0], OPTO_OHMS)
    if output.kind == "servo":
        draft.resistor("series resistor", ohms, "it bears a servo that shorts its wire", "series")
        _held(draft, output)
        draft.signal(output.pin.line, "the servo's signal wire, through its resistor")
        draft.ground("the servo's ground, and its supply's minus")
        draft.notes.append(
            "A servo draws amperes when it starts to turn: give it a supply of its own, not the board's."
        )
        return
    why = "a fan pulls its control wire up to 5 V itself: this keeps that from the pin"
    draft.resistor("series resistor", ohms, why, "series")
    bears = draft.there.bears if draft.there is not None else None
    if bears is not None and bears < 5:
        draft.notes.append(
            f"{output.pin.name} bears {volts(bears)}. A fan that pulls its wire up to 5 V wants a small MOSFET to ground in between, "
            'and sense = "active-low".'
        )
    _held(draft, output)
    draft.signal(output.pin.line, "the fan's control wire, through its resistor")
    draft.ground("the fan's ground")


def _bridge(draft: Draft, output: Output, rail: Fraction | None) -> None:
    draft.reckoned()
    by_direction = output.reversal == "direction"
    second = "direction" if by_direction else "the other way"
    draft.part("driver", "motor driver", f"{_what(output, rail)}, inputs for PWM and {second}")
    draft.words["inputs"] = "PWM, direction" if by_direction else "forwards, backwards"
    draft.notes.append("Its driver wants the pin's ground and the motor's joined.")
    _held(draft, output)
    ends = ("PWM input", "direction input") if by_direction else ("input 1", "input 2")
    for line, end in zip(output.lines, ends, strict=True):
        draft.signal(line, f"its driver's {end}")
    draft.ground("its driver's ground")


def _opto(draft: Draft, output: Output, rail: Fraction | None) -> None:
    draft.reckoned()
    current = (draft.volts - OPTO_DROP) / OPTO_OHMS
    sums = f"({volts(draft.volts)} - {volts(OPTO_DROP)}) / {show_ohms(OPTO_OHMS)} = {amperes(current)} through its input"
    value = f"{draft.words['rail']}, active-low, with an optocoupler"
    draft.part("relay", "channel of a relay board", value, sums)
    draft.notes.append(
        "Its resistor, optocoupler, transistor and diode are on the relay board. Leave out the link between the board's two supplies, "
        "or the optocoupler isolates nothing."
    )
    _held(draft, output)
    _switched(draft, output)
    draft.signal(output.pin.line, "the input of its channel on the relay board")
    draft.logic("the relay board's logic side, at plus")


# --- behind a MOSFET ----------------------------------------------------------------------------------------


def _mosfet(draft: Draft, output: Output, rail: Fraction | None) -> None:
    _gate(draft, output, rail)
    if output.kind in COILS:
        _diode(draft)
    many = len(output.lines)
    if many > 1:
        draft.words["load"] += f", one of {many} alike"
    _held(draft, output, gate=True)
    for number, line in enumerate(output.lines):
        draft.signal(
            line,
            GATE if many == 1 else f"the gate of its MOSFET for {CHANNELS[number]}, through its resistor",
        )
    draft.ground(MINUS)


def _relay(draft: Draft, output: Output, rail: Fraction | None) -> None:
    _gate(draft, output, rail)
    current = f", {amperes(output.draws)}" if output.draws else ""
    draft.part("relay", "relay", f"coil for {draft.words['rail']}{current}")
    _diode(draft)
    _held(draft, output, gate=True)
    _switched(draft, output)
    draft.signal(output.pin.line, GATE)
    draft.ground(MINUS)


def _gate(draft: Draft, output: Output, rail: Fraction | None) -> None:
    draft.reckoned()
    many = len(output.lines)
    draft.resistor("gate resistor", *draft.limiting(), "gate", many)
    draft.part("transistor", "MOSFET", f"n-channel, logic level, {_what(output, rail)}", many=many)


def _diode(draft: Draft) -> None:
    why = "across the coil, its ring at plus: the current runs on through it when the transistor opens"
    draft.part("diode", "diode", "1 A, fast", why)
    draft.words["diode"] = "diode"


# --- what several have --------------------------------------------------------------------------------------


def _what(output: Output, rail: Fraction | None) -> str:
    """What a transistor has to bear: twice the volts, twice the amperes."""
    if rail is None:
        return "twice the volts and amperes of its load"
    current = output.draws or (output.load / rail if output.load is not None else None)
    if current is None:
        return f"{volts(2 * rail)} or more, twice the amperes of its load"
    return f"{volts(2 * rail)} and {amperes(2 * current)} or more"


def _held(draft: Draft, output: Output, *, gate: bool = False) -> None:
    """What holds the pin until software runs; a gate is held off in any case."""
    found = holding(output, draft.there)
    why = "it holds the pin until software runs"
    if found is None and gate:
        found = 10 * standard(draft.volts / draft.current, up=True), "down"
        why = "it holds the gate off while the pin floats"
    if found is not None:
        ohms, way = found
        draft.words["hold way"] = way
        draft.resistor("pull-up" if way == "up" else "pull-down", ohms, why, "hold", len(output.lines))


def _switched(draft: Draft, output: Output) -> None:
    """What is to be said of the contact of a small relay."""
    if output.load is not None and output.load > CONTACT:
        text = f"{watts(output.load)} is more than the contact of a small relay carries: let that switch the coil of a contactor."
        draft.notes.append(text)
    _closed(draft, output)


def _closed(draft: Draft, output: Output) -> None:
    if output.normally_closed:
        draft.notes.append(
            "Its contact is closed while the coil has no current: without power the load is on."
        )


SHAPES: dict[str, Callable[[Draft, Output, Fraction | None], None]] = {
    "strip": _strip, "contact": _contact, "sounder": _sounder, "bridge": _bridge, "led": _led, "control": _control,
    "mosfet": _mosfet, "relay": _relay, "opto": _opto, "converter": _converter,
}  # fmt: skip
