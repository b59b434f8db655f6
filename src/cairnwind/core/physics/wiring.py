"""Resistors and currents: the arithmetic behind what a check of the wiring says.

Resistances in ohms, voltages in volts, currents in amperes, times in seconds, all exact. Every answer is a list of
`Said`: a formula with its numbers in it, what it comes to, and whether that is good.
"""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from typing import NamedTuple

E12 = (10, 12, 15, 18, 22, 27, 33, 39, 47, 56, 68, 82)
"""The preferred numbers of IEC 60063 at 10 % tolerance."""
E24 = (10, 11, 12, 13, 15, 16, 18, 20, 22, 24, 27, 30, 33, 36, 39, 43, 47, 51, 56, 62, 68, 75, 82, 91)
"""The same at 5 %."""
HIGH_SHARE = Fraction(4, 5)
"""A level counts as high from this share of the supply on: what a chip's datasheet asks for at most."""
DATA_SHARE = Fraction(7, 10)
"""What the usual strips ask of their data line, of their own supply."""
RATINGS = (Fraction(1, 8), Fraction(1, 4), Fraction(1, 2), Fraction(1), Fraction(2), Fraction(3), Fraction(5))
"""Watts that resistors are sold for."""
JUNCTION = Fraction(7, 10)
"""Volts from base to emitter."""
OPTO_DROP = Fraction(12, 10)
"""Volts over the lamp of an optocoupler."""
LAMP_CURRENT = Fraction(60, 1000)
"""Amperes of one addressable lamp at full white: 20 mA for each channel."""
FEED_EVERY = 50
"""Addressable lamps after which a strip wants its supply fed in again."""


class Said(NamedTuple):
    """One step of an answer."""

    what: str
    formula: str
    """With the numbers in it; empty where there is none."""
    result: str
    good: bool = True


def standard(ohms: Fraction, *, up: bool, series: tuple[int, ...] = E12) -> Fraction:
    """The nearest value of a series that is not below (``up``) or not above ``ohms``."""
    values: list[Fraction] = [number * Fraction(10) ** decade for decade in range(-1, 7) for number in series]
    return (
        min((v for v in values if v >= ohms), default=values[-1])
        if up
        else max((v for v in values if v <= ohms), default=values[0])
    )


def divider(
    source: Fraction, pin: Fraction, lower: Fraction = Fraction(10_000)
) -> tuple[Fraction, Fraction, Fraction]:
    """Two resistors that bring ``source`` volts down to at most ``pin`` volts.

    Returns (upper, lower, volts at the pin): upper >= lower * (source / pin - 1), the voltage divider rule.
    """
    upper = standard(lower * (source / pin - 1), up=True)
    return upper, lower, source * lower / (upper + lower)


def bias(pull: Fraction | None) -> tuple[Fraction, Fraction]:
    """A resistor that holds a pin against its own pull of ``pull`` ohms (None: it floats).

    Returns (ohms, share of the supply reached): pull / (pull + R) >= `HIGH_SHARE`.
    """
    if pull is None:
        return Fraction(10_000), Fraction(1)
    ohms = standard(pull * (1 - HIGH_SHARE) / HIGH_SHARE, up=False)
    return ohms, pull / (pull + ohms)


# --- LEDs ---------------------------------------------------------------------------------------------------


def led(supply: Fraction, forward: Fraction, current: Fraction, count: int = 1, pin: Fraction | None = None,
        series: tuple[int, ...] = E12) -> Iterator[Said]:  # fmt: skip
    """A resistor for ``count`` LEDs in series: R = (supply - count * forward) / current, and what standard values give."""
    drop = count * forward
    left = supply - drop
    sums = f"{volts(supply)} - {count} * {volts(forward)} = {volts(left)}"
    if left <= 0:
        most = max(0, -(-supply // forward) - 1)
        yield Said(
            "left for the resistor",
            sums,
            f"nothing: {count} in series do not light from {volts(supply)}; at most {most} do",
            False,
        )
        return
    yield Said("left for the resistor", sums, volts(left))
    if left < supply / 10:
        yield Said(
            "margin",
            f"{volts(left)} of {volts(supply)}",
            "less than a tenth: a little more or less supply changes the current much; take one LED fewer",
            False,
        )
    ohms = left / current
    yield Said("resistor", f"{volts(left)} / {amperes(current)} = {show_ohms(ohms)}", show_ohms(ohms))
    below, above = (standard(ohms, up=up, series=series) for up in (False, True))
    for name, value in (
        (("nearest below", below), ("nearest above", above))
        if below != above
        else (("standard value", below),)
    ):
        real = left / value
        power = real * real * value
        rating = next((each for each in RATINGS if each >= 2 * power), None)
        formula = f"{volts(left)} / {show_ohms(value)} = {amperes(real)}; {amperes(real)}^2 * {show_ohms(value)} = {watts(power)}"
        sold = (
            f"a resistor of {watts(rating)} stays cool"
            if rating
            else "too much for a resistor: use a constant-current driver"
        )
        yield Said(
            name,
            formula,
            f"{show_ohms(value)}: {amperes(real)}, {sold}",
            rating is not None and (pin is None or real <= pin),
        )
    if pin is not None:
        lowest = standard(left / pin, up=True, series=series)
        enough = current <= pin
        yield Said(
            "may the pin give it", f"{amperes(current)} of {amperes(pin)}",
            "yes" if enough else f"no: {volts(left)} / {amperes(pin)} = {show_ohms(left / pin)}, so {show_ohms(lowest)} or more, or a transistor between them", enough,
        )  # fmt: skip


def led_driver(
    supply: Fraction, forward: Fraction, current: Fraction, count: int, drop: Fraction
) -> Iterator[Said]:
    """LEDs with a linear constant-current driver that needs ``drop`` volts for itself."""
    need = count * forward + drop
    formula = f"{count} * {volts(forward)} + {volts(drop)} = {volts(need)}"
    yield Said(
        "volts it needs",
        formula,
        f"{volts(supply)} is {'enough' if supply >= need else 'too little: take fewer in series, or a higher supply'}",
        supply >= need,
    )
    if supply >= need:
        heat = (supply - count * forward) * current
        good = heat <= 1
        yield Said("heat in the driver", f"({volts(supply)} - {volts(count * forward)}) * {amperes(current)} = {watts(heat)}",
                   watts(heat) if good else f"{watts(heat)}: give it a heat sink, or a lower supply", good)  # fmt: skip


# --- transistors --------------------------------------------------------------------------------------------


def mosfet(
    pin: Fraction, most: Fraction, threshold: Fraction, charge: Fraction, hertz: Fraction | None
) -> Iterator[Said]:
    """The resistor between a pin and a gate, and the one that holds the gate down. ``charge`` in coulombs."""
    good = pin >= 2 * threshold
    yield Said(
        "does it open",
        f"{volts(pin)} >= 2 * {volts(threshold)}",
        "yes" if good else "not fully: it would get hot; take a logic-level type",
        good,
    )
    low = pin / most
    yield Said(
        "gate resistor, at least",
        f"{volts(pin)} / {amperes(most)} = {show_ohms(low)}",
        f"{show_ohms(standard(low, up=True))}: more current than that is not for the pin",
    )
    high = Fraction(10_000)
    if hertz:
        # the gate is through after about 2.2 R C, and that should be at most a hundredth of the period
        capacity = charge / pin
        high = 1 / hertz / 100 / (Fraction(22, 10) * capacity)
        formula = f"1 / {_number(hertz)} Hz / 100 / (2.2 * {_number(charge * 10**9)} nC / {volts(pin)}) = {show_ohms(high)}"
        fits = high >= low
        result = (
            f"{show_ohms(standard(high, up=False))}: slower edges heat it"
            if fits
            else "less than the pin bears: use a gate driver, or a lower frequency"
        )
        yield Said("gate resistor, at most", formula, result, fits)
    hold = 10 * standard(low, up=True)
    yield Said(
        "pull-down, at least",
        f"10 * {show_ohms(standard(low, up=True))} = {show_ohms(hold)}",
        f"{show_ohms(hold)}: less would take from the gate's volts",
    )
    yield Said(
        "pull-down, at most",
        f"{volts(threshold)} / 10 / 1 uA = {show_ohms(threshold / 10 * 10**6)}",
        f"{show_ohms(standard(min(threshold / 10 * 10**6, Fraction(100_000)), up=False))}: holds the gate off while the pin floats",
    )


def transistor(pin: Fraction, most: Fraction, load: Fraction, gain: Fraction) -> Iterator[Said]:
    """The resistor between a pin and a base: twice the base current that the load needs, within what the pin gives."""
    need = 2 * load / gain
    yield Said("base current", f"2 * {amperes(load)} / {_number(gain)} = {amperes(need)}", amperes(need))
    if need > most:
        yield Said(
            "may the pin give it",
            f"{amperes(need)} of {amperes(most)}",
            "no: take a MOSFET, or a transistor with more gain",
            False,
        )
        return
    left = pin - JUNCTION
    low, high = left / most, left / need
    yield Said(
        "base resistor, at least",
        f"({volts(pin)} - {volts(JUNCTION)}) / {amperes(most)} = {show_ohms(low)}",
        show_ohms(standard(low, up=True)),
    )
    yield Said(
        "base resistor, at most",
        f"({volts(pin)} - {volts(JUNCTION)}) / {amperes(need)} = {show_ohms(high)}",
        show_ohms(standard(high, up=False)),
    )
    yield Said(
        "pull-down",
        f"10 * {show_ohms(standard(high, up=False))}",
        f"{show_ohms(10 * standard(high, up=False))} from base to ground keeps it off while the pin floats",
    )


def coil(current: Fraction, *, diode: bool) -> Said:
    """A coil that is switched off wants to keep its current."""
    if diode:
        return Said("coil", "", f"its {amperes(current)} runs on through the diode: good")
    formula = f"V = L * dI/dt; 0.1 H * {amperes(current)} / 1 us = {volts(Fraction(1, 10) * current * 10**6)}"
    return Said(
        "coil without a diode",
        formula,
        "the spike kills the transistor: fit a diode across the coil, its ring at plus",
        False,
    )


# --- supplies -----------------------------------------------------------------------------------------------


def relays(count: int, current: Fraction, limit: Fraction) -> Said:
    """Coils on one supply."""
    total = count * current
    good = total <= limit
    most = limit // current
    result = (
        f"{amperes(limit - total)} are left"
        if good
        else f"too much: at most {most} at a time, or a larger supply"
    )
    return Said("coils", f"{count} * {amperes(current)} = {amperes(total)} of {amperes(limit)}", result, good)


def strip(
    lamps: int, supply: Fraction, limit: Fraction, data: Fraction, share: Fraction = Fraction(1)
) -> Iterator[Said]:
    """An addressable strip at a share of full white: its current, its feed points, the level of its data line."""
    total = lamps * LAMP_CURRENT * share
    bright = "" if share == 1 else f" * {_number(share * 100)} %"
    good = total <= limit
    most = int(limit / (LAMP_CURRENT * share))
    yield Said("current", f"{lamps} * {amperes(LAMP_CURRENT)}{bright} = {amperes(total)} of {amperes(limit)}",
               "enough" if good else f"too much: at most {most} lamps, or {_number(limit / (lamps * LAMP_CURRENT) * 100)} % of white", good)  # fmt: skip
    if lamps > FEED_EVERY:
        yield Said(
            "feed",
            f"{lamps} / {FEED_EVERY}",
            f"feed the supply in at {-(-lamps // FEED_EVERY) + 1} points, or the far end turns red",
            True,
        )
    need = supply * DATA_SHARE
    fine = data >= need
    yield Said("data level", f"{_number(DATA_SHARE)} * {volts(supply)} = {volts(need)}",
               f"{volts(data)} is enough" if fine else f"{volts(data)} is too low: a level shifter, or feed the first lamp through a diode ({volts(supply - JUNCTION)} * 0.7 = {volts((supply - JUNCTION) * DATA_SHARE)})", fine)  # fmt: skip


def isolation(*, joined: bool, coil_volts: Fraction, logic: Fraction) -> Iterator[Said]:
    """Supplies of coils and of the board's logic side, with a link between them or without."""
    if joined:
        yield Said(
            "isolation",
            "",
            "none: with the two supplies joined (the link is in) the optocouplers isolate nothing, and the coils' noise reaches the logic. Take the link out and feed the coils by themselves",
            False,
        )
    else:
        yield Said(
            "isolation",
            "",
            f"coils on {volts(coil_volts)} of their own, logic on {volts(logic)}: isolated, as long as their grounds are apart too",
        )
    drop = logic - OPTO_DROP
    yield Said("input current", f"({volts(logic)} - 1.2 V) / 1 kohm = {amperes(drop / 1000)}",
               "enough for the optocoupler" if drop / 1000 >= Fraction(2, 1000) else "little: the indicator may glow while the coil does not pull", drop / 1000 >= Fraction(2, 1000))  # fmt: skip


def no_click(coil_volts: Fraction, source: str) -> Iterator[Said]:
    """The indicator lights and nothing clicks: what that means, in the order to look."""
    pull = coil_volts * Fraction(3, 4)
    yield Said("the logic side works", "", "the indicator is on it: pin, sense and wire are right", True)
    yield Said(
        "coil rail",
        f"0.75 * {volts(coil_volts)} = {volts(pull)}",
        f"measure it while it should be on: below {volts(pull)} the coil does not pull",
        False,
    )
    if source:
        dead = dead_rail(source, coil_volts)
        yield Said("power source", "", dead or f"{source} feeds a {volts(coil_volts)} rail", not dead)
    yield Said(
        "link between the supplies",
        "",
        "out, with nothing at the coils' own terminals? Then the coils have no supply at all",
        False,
    )


SOURCES = {
    "usb": (Fraction(5),),
    "battery": (Fraction(37, 10),),
    "3.3 V": (Fraction(33, 10),),
    "5 V": (Fraction(5),),
    "12 V": (Fraction(12),),
    "24 V": (Fraction(24),),
}
"""What the usual sources feed, in volts."""


def dead_rail(source: str, rail: Fraction) -> str:
    """Why a rail is dead while the board is powered from a source; empty where it is not."""
    feeds = SOURCES[source]
    if any(abs(volt - rail) <= rail / 10 for volt in feeds):
        return ""
    return f"with the board powered from {source} its {volts(rail)} rail is dead or too low: {source} gives {volts(feeds[0])}"


# --- PWM and its loads --------------------------------------------------------------------------------------

FLICKER_LOW, FLICKER_NONE = Fraction(8, 100), Fraction(333, 10_000)
"""Of IEEE 1789-2015: modulation in percent up to these times the frequency is of low risk, and of no effect seen."""


def flicker(hertz: Fraction, modulation: Fraction = Fraction(100)) -> Said:
    """Whether a lamp's PWM flickers, by IEEE 1789-2015: modulation (percent) <= 0.08 * f above 90 Hz, 0.025 * f below."""
    share = FLICKER_LOW if hertz >= 90 else Fraction(25, 1000)
    most = share * hertz
    formula = f"{_number(share)} * {_number(hertz)} Hz = {_number(most)} % of modulation, and PWM has {_number(modulation)} %"
    if modulation > most:
        return Said(
            "flicker (IEEE 1789)",
            formula,
            f"more than of low risk: use {_number(modulation / FLICKER_LOW)} Hz or more",
            False,
        )
    fine = modulation <= FLICKER_NONE * hertz
    return Said(
        "flicker (IEEE 1789)",
        formula,
        "no effect known"
        if fine
        else f"of low risk; none known from {_number(modulation / FLICKER_NONE)} Hz on",
    )


def switching_loss(
    volt: Fraction, current: Fraction, rise: Fraction, fall: Fraction, hertz: Fraction
) -> Said:
    """What a transistor turns to heat at its edges: P = V * I * (rise + fall) / 2 * f."""
    loss = volt * current * (rise + fall) / 2 * hertz
    formula = f"{volts(volt)} * {amperes(current)} * ({_number(rise * 10**9)} ns + {_number(fall * 10**9)} ns) / 2 * {_number(hertz)} Hz = {watts(loss)}"
    good = loss <= Fraction(1, 2)
    return Said(
        "switching loss",
        formula,
        "a transistor without a heat sink bears that"
        if good
        else "hot: lower the frequency, or use a gate driver and a heat sink",
        good,
    )


RANGES = {
    "fan": (
        Fraction(21_000),
        Fraction(28_000),
        "four-wire fans take 25 kHz on their control wire; slower ones whistle, or run at full",
    ),
    "motor": (Fraction(50), Fraction(25_000), "below it jerks; above its driver gets hot"),
}


def suits(kind: str, hertz: Fraction) -> Said | None:
    """Whether a frequency suits a fan or a motor; None where nothing is to be said."""
    if kind not in RANGES:
        return None
    low, high, why = RANGES[kind]
    good = low <= hertz <= high
    return Said(
        f"frequency for a {kind}",
        f"{_number(low)} Hz <= {_number(hertz)} Hz <= {_number(high)} Hz",
        "good" if good else f"outside: {why}",
        good,
    )


# --- in words -----------------------------------------------------------------------------------------------


def show_ohms(ohms: Fraction) -> str:
    """'220 ohm', '4.7 kohm'."""
    for size, unit in ((10**6, "Mohm"), (1000, "kohm")):
        if ohms >= size:
            return f"{_number(ohms / size)} {unit}"
    return f"{_number(ohms)} ohm"


def volts(value: Fraction) -> str:
    """'3.3 V'."""
    return f"{_number(value)} V"


def amperes(value: Fraction) -> str:
    """'12 mA', '1.2 A'."""
    return f"{_number(value)} A" if value >= 1 else f"{_number(value * 1000)} mA"


def watts(value: Fraction) -> str:
    """'50 mW', '1.5 W', '7.5 kW'."""
    if value >= 1000:
        return f"{_number(value / 1000)} kW"
    return f"{_number(value)} W" if value >= 1 else f"{_number(value * 1000)} mW"


def _number(value: Fraction) -> str:
    return (
        f"{float(value):.3g}"
        if value < 1000
        else f"{float(value):.4g}"
        if value < 10_000
        else f"{float(value):.0f}"
    )
