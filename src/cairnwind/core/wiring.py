"""Resistors and currents: the arithmetic behind what a check of the wiring says.

Resistances in ohms, voltages in volts, currents in amperes, all exact.
"""

from __future__ import annotations

from fractions import Fraction

E12 = (10, 12, 15, 18, 22, 27, 33, 39, 47, 56, 68, 82)
"""The preferred numbers of IEC 60063 at 10 % tolerance."""
HIGH_SHARE = Fraction(4, 5)
"""A level counts as high from this share of the supply on: what a chip's datasheet asks for at most."""


def standard(ohms: Fraction, *, up: bool) -> Fraction:
    """The nearest value of `E12` that is not below (``up``) or not above ``ohms``."""
    values: list[Fraction] = [number * Fraction(10) ** decade for decade in range(-1, 7) for number in E12]
    return min(v for v in values if v >= ohms) if up else max(v for v in values if v <= ohms)


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


def show_ohms(ohms: Fraction) -> str:
    """'220 ohm', '4.7 kohm'."""
    return f"{float(ohms) / 1000:.10g} kohm" if ohms >= 1000 else f"{float(ohms):.10g} ohm"
