"""The circuits of inputs: a contact to ground or to the pin's supply, a thermistor with its series resistor, whatever gives volts."""

from __future__ import annotations

from fractions import Fraction

from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.site import Site
from cairnwind.core.physics.scaling import Loop, Thermistor
from cairnwind.core.physics.wiring import show_ohms, volts
from cairnwind.site.circuit import Circuit, Draft

PULL = Fraction(10_000)
"""Ohms that hold the wire of a contact while it is open."""
SHAPES = ("switch", "encoder", "thermistor", "sensor")


def circuit(input: Input, site: Site) -> Circuit:
    """How an input is wired."""
    draft = Draft(input, site)
    if isinstance(input.scale, Thermistor):
        _thermistor(draft, input, input.scale)
        return draft.done("thermistor")
    if input.analogue or input.source is not None:
        if isinstance(input.scale, Loop):
            ohms = show_ohms(Fraction(input.scale.ohms).limit_denominator(1000))
            draft.part(
                "loop resistor",
                "resistor",
                f"{ohms}, 0.1 %",
                "from the pin to ground: the loop's current makes the pin's volts in it",
            )
            most = 0.021 * input.scale.ohms
            bears = draft.there.bears if draft.there is not None else None
            if bears is not None and most > bears:
                draft.notes.append(
                    f"At 21 mA {ohms} make {most:.2f} V, and {input.pin.name} bears {volts(bears)}: take a smaller one."
                )
        _sensor(draft, input)
        return draft.done("sensor")
    if input.second is not None:
        _encoder(draft, input)
        return draft.done("encoder")
    _switch(draft, input)
    return draft.done("switch")


def _thermistor(draft: Draft, input: Input, scale: Thermistor) -> None:
    series = show_ohms(Fraction(scale.series).limit_denominator(1000))
    draft.part("series resistor", "resistor", f"{series}, 1 %")
    draft.part("thermistor", "thermistor", "as its scale says")
    draft.words |= {
        "series": series,
        "side": "below" if scale.below else "above",
        "source": f"{scale.volts:g} V",
    }
    draft.signal(input.pin.line, "where thermistor and resistor meet")
    draft.ground("the thermistor's other wire" if scale.below else "the resistor's other wire")


def _sensor(draft: Draft, input: Input) -> None:
    bears = draft.there.bears if draft.there is not None else None
    draft.words["source"] = volts(input.source) if input.source is not None else f"0 to {volts(draft.volts)}"
    if input.source is None and bears is not None:
        draft.notes.append(f"What it puts on the wire must not go above {volts(bears)}.")
    draft.signal(input.pin.line, "its output")
    draft.ground("its ground")


def _encoder(draft: Draft, input: Input) -> None:
    """Two contacts with one side in common, at ground; each of the others at a line of its own."""
    draft.words["pull"] = "own" if input.pull == "up" else show_ohms(PULL)
    if input.pull != "up":
        draft.part(
            "pull-ups",
            "resistor",
            f"two of {show_ohms(PULL)}",
            "they hold its lines while its contacts are open",
        )
        draft.notes.append(
            'Drawn with resistors of its own. Where the pins can pull by themselves, write pull = "up" and leave them out; an encoder '
            "that drives its lines needs neither."
        )
    draft.notes.append("If it counts the wrong way round, exchange its two lines.")
    first, second = input.lines
    draft.signal(first, "its first contact")
    draft.signal(second, "its second contact")
    draft.ground("what both have in common")


def _switch(draft: Draft, input: Input) -> None:
    """A contact, and what holds its wire while it is open."""
    down = input.pull == "down"
    draft.words |= {
        "pull": "own" if input.pull != "none" else show_ohms(PULL),
        "to": "logic" if down else "ground",
    }
    if input.pull == "none":
        draft.part("pull-up", "resistor", show_ohms(PULL), "it holds the wire while the contact is open")
        draft.notes.append(
            'Nothing is said of a pull: drawn with a resistor of its own. Where the pin can pull by itself, write pull = "up" and leave it '
            "out. A source that drives the wire both ways needs neither."
        )
    if input.debounce == 0 and input.kind == "contact":
        draft.notes.append('A contact bounces: debounce = "20 ms" counts it once.')
    if down:
        draft.signal(input.pin.line, "one side of the contact; its other side at the pin's supply")
        return
    draft.signal(input.pin.line, "one side of the contact")
    draft.ground("its other side")
