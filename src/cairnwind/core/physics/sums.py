"""Sums of wiring that anybody may ask for: what each wants to know, and how it is reckoned.

Declared once; the command line, HTTP and the console each make their own of it. Values come as text with their units, and
`reckon` says which of them is wrong.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from fractions import Fraction
from typing import Any, NamedTuple

from cairnwind.core.physics import wiring
from cairnwind.core.physics.wiring import Said, amperes, show_ohms, volts
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import parse

VOLTAGE, CURRENT, FREQUENCY, TIME, RESISTANCE = (
    "a voltage",
    "a current",
    "a frequency",
    "a time",
    "a resistance",
)
PLAIN = re.compile(r"[0-9]{1,9}(\.[0-9]{1,6})?")
NUMBER, WHOLE, FLAG, CHOICE = "a number", "a whole number", "yes or no", "one of a few"


class Asked(NamedTuple):
    """One value that a sum wants to know."""

    name: str
    kind: str
    """A dimension, or one of the four that have no unit."""
    says: str = ""
    default: str | None = None
    """As text; None: there is none."""
    needed: bool = False
    low: int = 1
    high: int = 100_000
    """Of numbers."""
    among: tuple[str, ...] = ()

    def read(self, value: object) -> Any:
        """The value of a text. Raises `CallerError` (``bad-value``)."""
        text = str(value).strip()
        if self.kind == FLAG:
            if text.lower() in ("true", "yes", "1", "false", "no", "0", ""):
                return text.lower() in ("true", "yes", "1")
            raise self._wrong(value, "Say yes or no.")
        if self.kind == CHOICE:
            if text in self.among:
                return text
            raise self._wrong(value, f"Say {', '.join(self.among[:-1])} or {self.among[-1]}.")
        if self.kind in (NUMBER, WHOLE):
            return self._number(text)
        found = parse(text, self.kind, bare="v" if self.kind == VOLTAGE else None)
        if found <= 0:
            raise CallerError("bad-value", f"{text[:60]!r} is not above zero.", f"Give {self.kind} that is.")
        return found

    def _number(self, text: str) -> Fraction | int:
        found = Fraction(text) if PLAIN.fullmatch(text) else None  # no powers of ten: they grow without end
        if (
            found is None
            or not self.low <= found <= self.high
            or (self.kind == WHOLE and found.denominator != 1)
        ):
            raise self._wrong(text, f"Give {self.kind} from {self.low} to {self.high}.")
        return int(found) if self.kind == WHOLE else found

    def _wrong(self, value: object, remedy: str) -> CallerError:
        return CallerError("bad-value", f"{str(value)[:60]!r} is no {self.name.replace('_', ' ')}.", remedy)


class Sum(NamedTuple):
    """One of the sums."""

    name: str
    says: str
    asks: tuple[Asked, ...]
    made: Callable[..., tuple[str, Iterator[Said]]]
    """A title and the steps, from the values by name; None where one is not given."""


def reckon(name: str, given: Mapping[str, object]) -> tuple[str, list[Said]]:
    """The title and the steps of a sum for texts by name. Raises `CallerError` (``bad-value``, ``unknown-name``)."""
    sum = SUMS.get(name)
    if sum is None:
        raise CallerError(
            "unknown-name", f"There is no sum called '{name}'.", f"There are {', '.join(SUMS)}."
        )
    known = {each.name for each in sum.asks}
    if stray := next((each for each in given if each not in known), None):
        raise CallerError(
            "bad-value", f"The sum {name} asks for no '{stray}'.", f"It asks for {', '.join(sorted(known))}."
        )
    values: dict[str, Any] = {}
    for each in sum.asks:
        said = given.get(each.name)
        said = each.default if said is None or said == "" else said
        if said is None and each.needed:
            raise CallerError(
                "bad-value",
                f"The sum {name} wants to know the {each.name}.",
                f"{each.says} It is {each.kind}.".strip(),
            )
        values[each.name] = each.read(said) if said is not None else None
    title, steps = sum.made(**values)
    return title, list(steps)


# --- each of them -------------------------------------------------------------------------------------------


def _led(supply: Fraction, forward: Fraction, current: Fraction, count: int, pin: Fraction | None, driver: Fraction | None,
         fine: bool) -> tuple[str, Iterator[Said]]:  # fmt: skip
    title = f"{count} LED{'s in series' if count > 1 else ''} of {volts(forward)} at {amperes(current)} from {volts(supply)}"
    if driver is not None:
        return title, wiring.led_driver(supply, forward, current, count, driver)
    return title, wiring.led(supply, forward, current, count, pin, wiring.E24 if fine else wiring.E12)


def _mosfet(pin: Fraction, pin_current: Fraction, threshold: Fraction, charge: Fraction, frequency: Fraction | None,
            coil: Fraction | None, diode: bool) -> tuple[str, Iterator[Said]]:  # fmt: skip
    def steps() -> Iterator[Said]:
        yield from wiring.mosfet(pin, pin_current, threshold, charge / 10**9, frequency)
        if coil is not None:
            yield wiring.coil(coil, diode=diode)

    return f"MOSFET on a pin of {volts(pin)}", steps()


def _transistor(
    pin: Fraction, pin_current: Fraction, load: Fraction, gain: int, coil: bool, diode: bool
) -> tuple[str, Iterator[Said]]:
    def steps() -> Iterator[Said]:
        yield from wiring.transistor(pin, pin_current, load, Fraction(gain))
        if coil:
            yield wiring.coil(load, diode=diode)

    return f"transistor for {amperes(load)} on a pin of {volts(pin)}", steps()


def _relay(count: int, coil: Fraction, supply: Fraction, limit: Fraction, logic: Fraction, supplies: str, source: str | None,
           no_click: bool) -> tuple[str, Iterator[Said]]:  # fmt: skip
    def steps() -> Iterator[Said]:
        if no_click:
            yield from wiring.no_click(supply, source or "")
            return
        yield wiring.relays(count, coil, limit)
        yield from wiring.isolation(joined=supplies == "joined", coil_volts=supply, logic=logic)
        if source and (dead := wiring.dead_rail(source, supply)):
            yield Said("power source", "", dead, False)

    return f"{count} relay coil{'s' if count > 1 else ''} of {amperes(coil)} at {volts(supply)}", steps()


def _strip(
    lamps: int, supply: Fraction, limit: Fraction, data: Fraction, white: Fraction
) -> tuple[str, Iterator[Said]]:
    return f"strip of {lamps} lamps at {volts(supply)}", wiring.strip(lamps, supply, limit, data, white / 100)


def _pwm(
    frequency: Fraction,
    kind: str,
    volts: Fraction | None,
    current: Fraction | None,
    rise: Fraction,
    fall: Fraction,
) -> tuple[str, Iterator[Said]]:
    def steps() -> Iterator[Said]:
        if kind == "lamp":
            yield wiring.flicker(frequency)
        if (found := wiring.suits(kind, frequency)) is not None:
            yield found
        if volts and current:
            yield wiring.switching_loss(volts, current, rise, fall, frequency)

    return f"PWM at {float(frequency):g} Hz for a {kind}", steps()


def _divider(source: Fraction, pin: Fraction, lower: Fraction) -> tuple[str, Iterator[Said]]:
    def steps() -> Iterator[Said]:
        if source <= pin:
            yield Said(
                "divider", f"{volts(source)} <= {volts(pin)}", "none is needed: the pin bears it as it is"
            )
            return
        exact = lower * (source / pin - 1)
        upper, _, at_pin = wiring.divider(source, pin, lower)
        yield Said(
            "upper resistor, at least",
            f"{show_ohms(lower)} * ({volts(source)} / {volts(pin)} - 1) = {show_ohms(exact)}",
            show_ohms(upper),
        )
        yield Said(
            "at the pin",
            f"{volts(source)} * {show_ohms(lower)} / ({show_ohms(upper)} + {show_ohms(lower)})",
            volts(at_pin),
        )
        drain = source / (upper + lower)
        yield Said(
            "taken from the source",
            f"{volts(source)} / ({show_ohms(upper)} + {show_ohms(lower)})",
            amperes(drain),
        )

    return f"divider from {volts(source)} to a pin that bears {volts(pin)}", steps()


_PIN = Asked("pin", VOLTAGE, "What the pin shows when it is high.", "3.3 V")
_PIN_CURRENT = Asked("pin_current", CURRENT, "The most that it gives.", "12 mA")
_DIODE = Asked("diode", FLAG, "The coil has a diode across it.", "no")

SUMS = {
    each.name: each
    for each in (
        Sum("led", "The resistor of an LED, or of several in series.", (
            Asked("supply", VOLTAGE, "Volts that feed it: the pin's own, or a rail.", needed=True),
            Asked("forward", VOLTAGE, "Forward voltage of one LED.", "2 V"), Asked("current", CURRENT, "Through it.", "10 mA"),
            Asked("count", WHOLE, "LEDs in series.", "1", high=1000), Asked("pin", CURRENT, "What the pin may give, if it feeds them."),
            Asked("driver", VOLTAGE, "A constant-current driver instead, that needs so much for itself."),
            Asked("fine", FLAG, "Values of the series E24 instead of E12.", "no")), _led),
        Sum("mosfet", "Gate resistor and pull-down of a MOSFET.", (
            _PIN, _PIN_CURRENT, Asked("threshold", VOLTAGE, "Gate threshold, at most, of its datasheet.", "1.5 V"),
            Asked("charge", NUMBER, "Gate charge in nC.", "10", high=10_000), Asked("frequency", FREQUENCY, "Of its PWM."),
            Asked("coil", CURRENT, "It switches a coil of so much current."), _DIODE), _mosfet),
        Sum("transistor", "Base resistor and pull-down of a bipolar transistor.", (
            _PIN, _PIN_CURRENT, Asked("load", CURRENT, "What it switches.", needed=True),
            Asked("gain", WHOLE, "Current gain, at least, of its datasheet.", "100", low=2), Asked("coil", FLAG, "The load is a coil.", "no"),
            _DIODE), _transistor),
        Sum("divider", "Two resistors that bring a source down to what a pin bears.", (
            Asked("source", VOLTAGE, "What the source puts on the wire.", needed=True), Asked("pin", VOLTAGE, "What the pin bears.", "3.3 V"),
            Asked("lower", RESISTANCE, "From the pin to ground.", "10 kohm")), _divider),
        Sum("relay", "A relay board: its coils against their supply, isolation, and what it means when nothing clicks.", (
            Asked("count", WHOLE, "Coils that may be on together.", "1", high=1000), Asked("coil", CURRENT, "Current of one coil.", "72 mA"),
            Asked("supply", VOLTAGE, "Of the coils.", "5 V"), Asked("limit", CURRENT, "What that supply gives.", "1 A"),
            Asked("logic", VOLTAGE, "Of the board's logic side.", "3.3 V"),
            Asked("supplies", CHOICE, "Of coils and logic.", "separate", among=("separate", "joined")),
            Asked("source", CHOICE, "What powers the board.", among=tuple(wiring.SOURCES)),
            Asked("no_click", FLAG, "The indicator lights but nothing clicks: what that means.", "no")), _relay),
        Sum("strip", "A strip of addressable lamps: its current, where to feed it, the level of its data line.", (
            Asked("lamps", WHOLE, "How many.", needed=True), Asked("supply", VOLTAGE, "Of the lamps.", "5 V"),
            Asked("limit", CURRENT, "What the supply gives.", needed=True), Asked("data", VOLTAGE, "Level of the data line.", "3.3 V"),
            Asked("white", NUMBER, "The brightest white that is used, in percent.", "100", high=100)), _strip),
        Sum("pwm", "Whether a PWM frequency suits a load: flicker, range, and what the transistor loses.", (
            Asked("frequency", FREQUENCY, "Of the PWM.", needed=True),
            Asked("kind", CHOICE, "What it drives.", "lamp", among=("lamp", "fan", "motor")),
            Asked("volts", VOLTAGE, "What the transistor switches, for its losses,"), Asked("current", CURRENT, "how much of it,"),
            Asked("rise", TIME, "and how fast it opens", "100 ns"), Asked("fall", TIME, "and closes.", "100 ns")), _pwm),
    )
}  # fmt: skip
"""By name, in the order in which they are offered."""
