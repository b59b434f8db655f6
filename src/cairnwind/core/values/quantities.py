"""Quantities as people write them: '40 %', '1 kHz', '500 ms', '1.2 A'.

One table of units. Numbers are exact (``Fraction``) until the caller rounds them. The decimal mark is the point; a comma is
asked back, since it may as well separate thousands.
"""

from __future__ import annotations

import re
from fractions import Fraction

from cairnwind.core.values.errors import CallerError

NS = 1_000_000_000
"""Nanoseconds in a second: all durations inside are whole nanoseconds."""

UNITS: dict[str, dict[str, Fraction]] = {
    "a time": {
        "ns": Fraction(1, 10**9),
        "us": Fraction(1, 10**6), "µs": Fraction(1, 10**6), "ms": Fraction(1, 1000),
        "s": Fraction(1), "sec": Fraction(1), "second": Fraction(1), "seconds": Fraction(1),
        "min": Fraction(60), "minute": Fraction(60), "minutes": Fraction(60),
        "h": Fraction(3600), "hour": Fraction(3600), "hours": Fraction(3600),
        "d": Fraction(86400), "day": Fraction(86400), "days": Fraction(86400),
    },
    "a frequency": {"Hz": Fraction(1), "kHz": Fraction(1000), "MHz": Fraction(10**6)},
    "a voltage": {"mV": Fraction(1, 1000), "V": Fraction(1)},
    "a current": {"uA": Fraction(1, 10**6), "µA": Fraction(1, 10**6), "mA": Fraction(1, 1000), "A": Fraction(1)},
    "a power": {"mW": Fraction(1, 1000), "W": Fraction(1), "kW": Fraction(1000)},
    "an energy": {"Wh": Fraction(3600), "kWh": Fraction(3_600_000), "J": Fraction(1), "kJ": Fraction(1000), "MJ": Fraction(10**6)},
    "a resistance": {"ohm": Fraction(1), "Ω": Fraction(1), "kohm": Fraction(1000), "kΩ": Fraction(1000), "Mohm": Fraction(10**6)},
    "a size": {"MB": Fraction(10**6), "GB": Fraction(10**9), "TB": Fraction(10**12)},
    "a share": {"%": Fraction(1), "percent": Fraction(1)},
}  # fmt: skip
_FOLDED = {
    dimension: {unit.casefold(): (unit, factor) for unit, factor in units.items()}
    for dimension, units in UNITS.items()
}
_CASED = ("MHz", "mV", "mA", "mW", "Mohm")
"""Units whose prefix would mean something else in the other case, so that it is not guessed."""
EXAMPLES = {
    "a time": "500 ms, 1.5 s, 10 min or 2 h",
    "a frequency": "800 Hz or 1 kHz",
    "a voltage": "5 V",
    "a current": "72 mA or 1.2 A",
    "a power": "85 W",
    "an energy": "40 kWh",
    "a resistance": "220 ohm or 10 kohm",
    "a size": "500 MB or 2 GB",
    "a share": "40 %",
}
LONGEST_NUMBER = 40
"""Digits: more than anybody means."""
_FORM = re.compile(r"\s*([+-]?\d+(?:[.,]\d+)?)\s*([^\d\s.,+-]*)\s*")


def parse(text: object, dimension: str, *, bare: str | None = None) -> Fraction:
    """Read ``text`` as a quantity of ``dimension`` (a key of `UNITS`), in the dimension's base unit.

    ``bare`` is the unit that a number without one is taken to have; without it a bare number is refused.
    Raises `CallerError` (``bad-value``) that says what was read and gives examples.
    """
    if isinstance(text, bool) or not isinstance(text, str | int | float):
        raise _bad(text, dimension)
    match = _FORM.fullmatch(text if isinstance(text, str) else repr(text))
    if match is None:
        raise _bad(text, dimension)
    number, unit = match.groups()
    unit = unit or bare or ""
    if "," in number:
        raise comma(str(text), number)
    spelling, factor = _FOLDED[dimension].get(unit.casefold(), ("", Fraction(0)))
    if not spelling or (spelling in _CASED and unit[0] != spelling[0]):
        raise _bad(text, dimension)
    if len(number) > LONGEST_NUMBER:
        raise _bad(text, dimension)
    return Fraction(number) * factor


def comma(text: str, number: str) -> CallerError:
    """What is asked back of a number with a comma: both readings."""
    point, without = text.replace(",", "."), text.replace(",", "")
    thousands = re.fullmatch(r"[+-]?\d{1,3}(?:,\d{3})+", number) is not None
    remedy = f"Write {without.strip()}, or {point.strip()}." if thousands else f"Write {point.strip()}."
    what = (
        f" can be read as {number.replace(',', '')} and as {number.replace(',', '.')}"
        if thousands
        else " has a comma in its number"
    )
    return CallerError("bad-value", f"'{text.strip()}'{what}.", remedy)


def duration(text: object, *, longest: int = 366 * 86400) -> int:
    """A positive time in nanoseconds, at most ``longest`` seconds."""
    seconds = parse(text, "a time")
    if not 0 < seconds <= longest:
        raise CallerError(
            "bad-value",
            f"'{text}' is out of range for a time.",
            f"Give more than nothing and at most {show_duration(longest * NS)}.",
        )
    return round(seconds * NS)


def show_duration(ns: int) -> str:
    """A duration in nanoseconds in the unit people would use: '350 ms', '12 s', '10 min'."""
    for size, unit in ((86400 * NS, "d"), (3600 * NS, "h"), (60 * NS, "min"), (NS, "s")):
        if ns >= size and (ns % size == 0 or unit == "s"):
            return f"{ns / size:.10g} {unit}"
    return f"{ns / 10**6:.10g} ms"


def show_amount(amount: Fraction, unit: str) -> str:
    """Amperes, watts or a mere number in the size that people would use: '250 mA', '9 kW', '2'."""
    value = float(amount)
    if unit == "A" and value < 1:
        return f"{value * 1000:.10g} mA"
    if unit == "W" and value >= 1000:
        return f"{value / 1000:.10g} kW"
    return f"{value:.10g} {unit}".strip()


def show_size(count: int) -> str:
    """Bytes in the size that people would use: '512 B', '3.2 MB', '1.4 GB'."""
    for size, unit in ((10**9, "GB"), (10**6, "MB"), (10**3, "kB")):
        if count >= size:
            return f"{count / size:.3g} {unit}"
    return f"{count} B"


def about(ns: int) -> str:
    """A duration rounded to what people would say: '1.8 s'."""
    return (
        f"{ns / NS:.3g} s"
        if NS <= ns < 60 * NS
        else show_duration(round(ns, -6) if ns < NS else round(ns, -9))
    )


def _bad(text: object, dimension: str) -> CallerError:
    shown = repr(text) if isinstance(text, str) else str(text).lower()
    return CallerError("bad-value", f"{shown} is not {dimension}.", f"Write it like {EXAMPLES[dimension]}.")
