"""Circuits as drawings: SVG with the symbols of IEC 60617, in black, so that a page may invert it.

One function for each shape of `cairnwind.site.circuits`; each walks from the pin, at the left, to the load. Run in a process of its own
(`cairnwind.service.aside`): the library that draws is of no use to anything else here.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from functools import partial
from html import escape
from typing import Any

from cairnwind.site.circuit import Circuit

# it loads matplotlib where that is installed, which takes seconds; what it needs for SVG it has itself
HIDDEN = "matplotlib" not in sys.modules
if HIDDEN:
    sys.modules["matplotlib"] = None  # type: ignore[assignment]

import schemdraw  # noqa: E402
from schemdraw import elements as e  # noqa: E402

if HIDDEN:
    del sys.modules["matplotlib"]

schemdraw.use("svg")
e.style(e.STYLE_IEC)


def draw(circuit: Circuit) -> str:
    """The drawing of a circuit, as the text of an SVG file."""
    d = schemdraw.Drawing()
    d.config(unit=2.2, fontsize=11, font="sans-serif", color="black", lw=1.6, margin=0.5)
    plain = circuit._replace(
        pins=tuple(map(_plain, circuit.pins)), words={of: _plain(text) for of, text in circuit.words.items()}
    )
    SHAPES[plain.shape](d, plain, plain.words)
    return str(d.get_imagedata("svg").decode())


def _plain(text: str) -> str:
    """A text of somebody's own: the library takes it for markup, and what stands between two dollars for a formula."""
    return escape(text).replace("$", "&#36;")


Words = dict[str, str]


LOADS = {
    "lamp": e.Lamp,
    "colour-lamp": e.Lamp,
    "motor": e.Motor,
    "fan": e.Motor,
    "lock": partial(e.Inductor2, loops=3),
}
"""Their symbols, by kind of output; any other load is a box."""


def _load(words: Words) -> Any:
    return LOADS.get(words["kind"], e.Resistor)()


def _pin(d: Any, circuit: Circuit, at: Any = None) -> None:
    """Where it begins: the pin, by both its numbers."""
    dot = e.Dot(open=True).label("\n".join(circuit.pins), "left")
    d += dot.at(at) if at is not None else dot


def _hold(d: Any, words: Words) -> None:
    """The resistor that holds a pin, at this place."""
    if "hold" not in words:
        return
    d += e.Dot()
    d.push()
    if words["hold way"] == "up":
        d += e.Resistor().up().label(words["hold"], "bottom")
        d += e.Vdd().label(words["logic"])
    else:
        d += e.Resistor().down().label(words["hold"], "top")
        d += e.Ground()
    d.pop()


def _series(d: Any, circuit: Circuit, words: Words, ohms: str) -> None:
    """Pin, what holds it, and a resistor on the way."""
    _pin(d, circuit)
    d += e.Line().right().length(0.8)
    _hold(d, words)
    d += e.Line().right().length(0.4)
    d += e.Resistor().right().label(ohms)


def _mosfet(d: Any, circuit: Circuit, words: Words) -> None:
    """The load between its supply and the drain."""
    transistor = _gate(d, circuit, words)
    _loaded(d, transistor.drain, _load(words), words, words["load"])


def _relay(d: Any, circuit: Circuit, words: Words) -> None:
    """A coil in the drain, its contact beside it."""
    transistor = _gate(d, circuit, words)
    _loaded(d, transistor.drain, e.Inductor2(loops=3), words, "coil")
    _contact(d, transistor.drain, words)


def _gate(d: Any, circuit: Circuit, words: Words) -> Any:
    _series(d, circuit, words, words["gate"])
    transistor = e.NFet(bulk=True).theta(0).reverse().anchor("gate")
    d += transistor
    d += e.Line().at(transistor.source).down().length(0.4)
    d += e.Ground()
    return transistor


def _loaded(d: Any, drain: Any, load: Any, words: Words, name: str) -> None:
    """A load from a drain up to its supply, with its diode where it has one."""
    d += e.Line().at(drain).up().length(0.3)
    d += e.Dot()
    d.push()
    d += load.up().label(name, "bottom")
    d += e.Dot()
    top = d.here
    d += e.Line().up().length(0.3)
    d += e.Vdd().label(words["rail"])
    d.pop()
    if "diode" in words:
        d += e.Line().left().length(1.1)
        d += e.Diode().up().toy(top).label("diode", "top")
        d += e.Line().right().tox(top)


def _contact(d: Any, beside: Any, words: Words) -> None:
    """The contact of a relay and what it switches, to the right of everything."""
    d += e.Dot(open=True).at((beside[0] + 3.4, beside[1] + 2.6)).label("its own supply", "top")
    d += e.Switch().down().label("contact", "bottom")
    d += _load(words).down().label(words["load"], "bottom")
    d += e.Dot(open=True).label("back to its supply", "bottom")


def _opto(d: Any, circuit: Circuit, words: Words) -> None:
    """A channel of a relay board: its input on the left, its contact on the right."""
    coupler = e.Optocoupler(base=False).anchor("cathode")
    _pin(d, circuit)
    d += e.Line().right().length(0.8)
    _hold(d, words)
    d += e.Line().right().length(1.6)
    d += coupler
    d += e.Resistor().at(coupler.anode).left().length(2.2).label("1 kohm")
    d += e.Vdd().label(words["logic"])
    d += e.Line().at(coupler.emitter).right().length(0.4)
    d += e.Ground()
    d += e.Line().at(coupler.collector).right().length(0.9)
    d += e.Inductor2(loops=3).up().label("coil", "bottom")
    d += e.Vdd().label(words["rail"])
    d += e.EncircleBox([coupler], padx=0.35, pady=0.5).linestyle("--").label("on the relay board", "bottom")
    _contact(d, coupler.collector, words)


def _control(d: Any, circuit: Circuit, words: Words) -> None:
    """The control wire of a fan, which has its own supply."""
    _series(d, circuit, words, words["series"])
    fan = e.Ic(size=(2.6, 2.4), pins=[
        e.IcPin("control", side="left", anchorname="control", slot="2/3"), e.IcPin("+", side="top", anchorname="plus"),
        e.IcPin("-", side="bottom", anchorname="minus")]).anchor("control").label(words["load"], "right")  # fmt: skip
    d += fan
    d += e.Vdd().at(fan.plus).label(words["rail"])
    d += e.Ground().at(fan.minus)


def _converter(d: Any, circuit: Circuit, words: Words) -> None:
    """What makes volts of PWM, and the control wire of the load, which has its own supply."""
    _series(d, circuit, words, words["series"])
    converter = e.Ic(size=(2.4, 2), pins=[
        e.IcPin("PWM", side="left", anchorname="pwm", slot="2/3"), e.IcPin("V", side="right", anchorname="out", slot="2/3"),
        e.IcPin("+", side="top", anchorname="plus"), e.IcPin("-", side="bottom", anchorname="minus")]).anchor("pwm")  # fmt: skip
    d += converter
    d += e.Vdd().at(converter.plus).label(words["rail"])
    d += e.Ground().at(converter.minus)
    d += e.Line().at(converter.out).right().length(2.4).label(words["span"], "bottom")
    load = e.Ic(size=(2, 1.6), pins=[e.IcPin("", side="left", anchorname="control"), e.IcPin("-", side="bottom", anchorname="minus")]).anchor(
        "control"
    ).label(words["load"], "right")  # fmt: skip
    d += load
    d += e.Ground().at(load.minus)


def _bridge(d: Any, circuit: Circuit, words: Words) -> None:
    """A driver with two inputs, and the motor between its two outputs."""
    first, second = words["inputs"].split(", ")
    driver = e.Ic(size=(4.4, 2.6), pins=[
        e.IcPin(first, side="left", anchorname="one", slot="2/2"), e.IcPin(second, side="left", anchorname="two", slot="1/2"),
        e.IcPin("+", side="top", anchorname="plus"), e.IcPin("-", side="bottom", anchorname="minus"),
        e.IcPin("A", side="right", anchorname="a", slot="2/2"), e.IcPin("B", side="right", anchorname="b", slot="1/2")])  # fmt: skip
    d += driver
    for anchor, pin in zip((driver.one, driver.two), circuit.pins, strict=True):
        d += e.Line().at(anchor).left().length(0.8)
        d += e.Dot(open=True).label(pin, "left")
    d += e.Vdd().at(driver.plus).label(words["rail"])
    d += e.Ground().at(driver.minus)
    d += e.Line().at(driver.a).right().length(0.8)
    top = d.here
    d += e.Line().at(driver.b).right().tox(top)
    d += e.Motor().up().toy(top).label(words["load"], "bottom")


def _sounder(d: Any, circuit: Circuit, words: Words) -> None:
    _series(d, circuit, words, words["series"])
    speaker = e.Speaker().anchor("in1").label(words["load"], "right")
    d += speaker
    d += e.Ground().at(speaker.in2)


def _led(d: Any, circuit: Circuit, words: Words) -> None:
    _series(d, circuit, words, words["series"])
    d += e.LED().down().label(words["load"], "bottom")
    d += e.Ground()


def _strip(d: Any, circuit: Circuit, words: Words) -> None:
    """The first lamps of a run; where it is the first run, with what its data wire needs."""
    if words["after"]:
        d += e.Dot(open=True).label(f"data output of {words['after']}", "left")
        d += e.Line().right().length(1)
    else:
        _pin(d, circuit)
        d += e.Line().right().length(0.5)
        shifter = e.Ic(size=(2.2, 1.4), pins=[
            e.IcPin("3.3 V", side="left", anchorname="low"), e.IcPin("5 V", side="right", anchorname="high")]).anchor("low").label("level shifter", "bottom")  # fmt: skip
        d += shifter
        d += e.Resistor().at(shifter.high).right().label("330 ohm")
    lamps = e.Ic(size=(3.6, 1.8), pins=[
        e.IcPin("data", side="left", anchorname="data"), e.IcPin("5 V", side="top", anchorname="plus"),
        e.IcPin("0 V", side="bottom", anchorname="minus"), e.IcPin("next", side="right", anchorname="next")]).anchor("data").label(words["amount"], "right")  # fmt: skip
    d += lamps
    d += e.Vdd().at(lamps.plus).label("5 V")
    d += e.Ground().at(lamps.minus)


def _board(d: Any, circuit: Circuit, words: Words) -> None:
    """A relay that is on the board: only its contact is wired."""
    _pin(d, circuit)
    _contact(d, (-1.4, -0.6), words)


def _switch(d: Any, circuit: Circuit, words: Words) -> None:
    """A contact, and what holds its wire while it is open."""
    _pin(d, circuit)
    d += e.Line().right().length(1.2)
    d += e.Dot()
    held = "in the pin" if words["pull"] == "own" else words["pull"]
    to_ground = words["to"] == "ground"
    d.push()
    d += (e.Resistor().up() if to_ground else e.Resistor().down()).label(held, "bottom")
    d += e.Vdd().label(words["logic"]) if to_ground else e.Ground()
    d.pop()
    d += e.Line().right().length(1.6)
    d += (e.Switch().down() if to_ground else e.Switch().up()).label(words["load"], "bottom")
    d += e.Ground() if to_ground else e.Vdd().label(words["logic"])


def _there(d: Any, circuit: Circuit, words: Words) -> None:
    """Something that is there already."""
    _pin(d, circuit)
    d += e.Line().right().length(0.8)
    d += (
        e.Ic(size=(2.8, 1.2), pins=[e.IcPin("", side="left", anchorname="in")])
        .anchor("in")
        .label(words["load"], "right")
    )


def _encoder(d: Any, circuit: Circuit, words: Words) -> None:
    """Two contacts to ground, each with what holds its wire while it is open."""
    for number, pin in enumerate(circuit.pins):
        d += e.Dot(open=True).at((0, -3.6 * number)).label(pin, "left")
        d += e.Line().right().length(1.2)
        d += e.Dot()
        d.push()
        d += (
            e.Resistor()
            .up()
            .length(1.6)
            .label("in the pin" if words["pull"] == "own" else words["pull"], "bottom")
        )
        d += e.Vdd().label(words["logic"])
        d.pop()
        d += e.Line().right().length(2.6)
        d += e.Switch().right().length(1.6).label(f"{words['load']}, {('first', 'second')[number]}", "top")
        d += e.Ground()


def _thermistor(d: Any, circuit: Circuit, words: Words) -> None:
    """It and its fixed resistor, one above the pin and one below."""
    fixed, bent = e.Resistor().label(words["series"], "bottom"), e.Thermistor().label(words["load"], "bottom")
    upper, lower = (fixed, bent) if words["side"] == "below" else (bent, fixed)
    _pin(d, circuit)
    d += e.Line().right().length(1.2)
    d += e.Dot()
    d.push()
    d += upper.up()
    d += e.Vdd().label(words["source"])
    d.pop()
    d += lower.down()
    d += e.Ground()


def _sensor(d: Any, circuit: Circuit, words: Words) -> None:
    _pin(d, circuit)
    d += e.Line().right().length(0.8)
    sensor = e.Ic(size=(2.8, 1.8), pins=[
        e.IcPin("out", side="left", anchorname="out"), e.IcPin("+", side="top", anchorname="plus"),
        e.IcPin("-", side="bottom", anchorname="minus")]).anchor("out").label(f"{words['load']}\n{words['source']}", "right")  # fmt: skip
    d += sensor
    d += e.Vdd().at(sensor.plus).label("its supply")
    d += e.Ground().at(sensor.minus)


SHAPES: dict[str, Callable[[Any, Circuit, Words], None]] = {
    "strip": _strip, "contact": _board, "sounder": _sounder, "bridge": _bridge, "led": _led, "control": _control, "mosfet": _mosfet,
    "relay": _relay, "opto": _opto, "converter": _converter, "switch": _switch, "encoder": _encoder, "there": _there, "thermistor": _thermistor, "sensor": _sensor,
}  # fmt: skip
