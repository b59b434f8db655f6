"""A value of the site file to a value of the model, or `CallerError`."""

from __future__ import annotations

import itertools
import re
from fractions import Fraction
from typing import Any

from cairnwind.core.physics.scaling import Thermistor, by_beta
from cairnwind.core.values.errors import CallerError, nearest
from cairnwind.core.values.quantities import NS, parse


def text(value: object) -> str:
    """A text that is not empty."""
    if not isinstance(value, str) or not value.strip():
        raise CallerError("bad-value", f"{value!r} is not a text.", "Write a text in quotation marks.")
    return value


def choice(value: object, among: tuple[str, ...]) -> str:
    """One of the words given."""
    if value in among:
        return str(value)
    raise CallerError(
        "bad-value",
        f"{value!r} is not one of {', '.join(among)}.",
        nearest(str(value), among) or f"Write one of {', '.join(among)}.",
    )


def count(value: object) -> int:
    """A number of lines."""
    if isinstance(value, bool) or not isinstance(value, int) or not 1 <= value <= 100_000:
        raise CallerError(
            "bad-value", f"{value!r} is not a number of lines.", "Write a whole number from 1 to 100000."
        )
    return value


def between(value: object, low: float, high: float) -> float:
    """Degrees within a range."""
    if isinstance(value, bool) or not isinstance(value, int | float) or not low <= value <= high:
        raise CallerError(
            "bad-value",
            f"{value!r} is not a number of degrees from {low:g} to {high:g}.",
            "Write degrees with a decimal point: 52.95.",
        )
    return float(value)


def zone(value: object) -> str:
    """An IANA time zone."""
    from cairnwind.core.values.moments import (
        named,
    )  # time zones are not needed on the way to safe, where none is named

    return named(text(value))


def words(value: object) -> tuple[str, str]:
    """Two words that differ: off first."""
    if (
        isinstance(value, list)
        and len(value) == 2
        and all(isinstance(word, str) and word.strip() for word in value)
        and value[0] != value[1]
    ):
        return value[0], value[1]
    raise CallerError(
        "bad-value",
        "these are not two words.",
        'Write the word for off (or inactive) and the one for on: words = ["closed", "open"].',
    )


def listen(value: object) -> tuple[str, int]:
    """Host and port."""
    match = re.fullmatch(r"(\[[0-9a-fA-F:]+\]|[\w.-]+):(\d{1,5})", value) if isinstance(value, str) else None
    if match is None or int(match.group(2)) > 65535:
        raise CallerError(
            "bad-value",
            f"{value!r} is not an address to listen on.",
            'Write host:port, like "127.0.0.1:8470".',
        )
    host = match.group(1).strip("[]")
    return host, int(match.group(2))


def hosts(value: object) -> tuple[str, ...]:
    """Names of hosts."""
    if not isinstance(value, list) or not all(
        isinstance(each, str) and re.fullmatch(r"[\w.-]+", each) for each in value
    ):
        raise CallerError("bad-value", f"{value!r} is not a list of names of hosts.", 'Write ["kiln.lan"].')
    return tuple(each.lower() for each in value)


def whole(value: object, low: int, high: int) -> int:
    """A whole number within a range."""
    if isinstance(value, bool) or not isinstance(value, int) or not low <= value <= high:
        raise CallerError(
            "bad-value", f"{value!r} is not a whole number from {low} to {high}.", f"Write {low} to {high}."
        )
    return value


def one_of(value: object, among: tuple[int, ...]) -> int:
    """One of the numbers given."""
    if value in among and isinstance(value, int):
        return value
    raise CallerError(
        "bad-value",
        f"{value!r} is not one of the values possible.",
        f"Write one of {', '.join(map(str, among))}.",
    )


def flag(value: object) -> bool:
    """True or false."""
    if isinstance(value, bool):
        return value
    raise CallerError("bad-value", f"{value!r} is neither true nor false.", "Write true or false.")


def bias(value: object) -> tuple[Fraction, str]:
    """A resistor and where it pulls: '10 kohm up'."""
    match = re.fullmatch(r"(.*\S)\s+(up|down)", value) if isinstance(value, str) else None
    if match is None:
        raise CallerError(
            "bad-value",
            f"{value!r} is not a bias resistor.",
            'Write its value and where it pulls: bias = "10 kohm up".',
        )
    return parse(match.group(1), "a resistance"), match.group(2)


def scale(value: Any) -> tuple[tuple[float, float], ...] | Thermistor:
    """Two points of volts and value, or a table of more, [["0.5 V", -40], ["2.5 V", 85]]; or a thermistor."""
    if isinstance(value, dict):
        return _thermistor(value)
    try:
        points = tuple(_point(each) for each in value)
    except (TypeError, ValueError):
        points = ()
    volts, values = [each[0] for each in points], [each[1] for each in points]
    rising = all(a < b for a, b in itertools.pairwise(volts)) or (len(volts) == 2 and volts[0] != volts[1])
    steady = all((a < b) == (values[0] < values[1]) and a != b for a, b in itertools.pairwise(values))
    if len(points) < 2 or not rising or not steady:
        raise CallerError(
            "bad-value",
            "this is not a scale.",
            'Write points of volts and value, two or more, with rising volts and values that go one way: scale = [["0.5 V", -40], ["2.5 V", 85]].',
        )
    return tuple(sorted(points))


def _thermistor(value: dict[str, Any]) -> Thermistor:
    """{ thermistor = "10 kohm", beta = 3950, series = "10 kohm", volts = "3.3 V" }, or 'steinhart' with three numbers."""
    try:
        own = dict(value)
        series, volts = (
            parse(own.pop("series"), "a resistance"),
            parse(own.pop("volts"), "a voltage", bare="v"),
        )
        below = choice(own.pop("side", "below"), ("below", "above")) == "below"
        if "steinhart" in own:
            a, b, c = map(float, own.pop("steinhart"))
            made = Thermistor(a, b, c, float(series), float(volts), below)
        else:
            ohms = parse(own.pop("thermistor"), "a resistance")
            made = by_beta(float(own.pop("beta")), float(ohms), float(series), float(volts), below)
        if own or series <= 0 or volts <= 0:
            raise ValueError
        middle = made.value(float(volts) / 2)
        if middle is None or not -100 < middle < 400:
            raise ValueError
    except (KeyError, TypeError, ValueError, ZeroDivisionError, OverflowError):
        raise CallerError(
            "bad-value",
            "this is not a thermistor.",
            'Write scale = { thermistor = "10 kohm", beta = 3950, series = "10 kohm", volts = "3.3 V", side = "below" }, '
            "or steinhart = [a, b, c] in place of the first two.",
        ) from None
    return made


def plausible(value: object) -> tuple[float, float]:
    """Two numbers, the lower one first."""
    if (
        isinstance(value, list)
        and len(value) == 2
        and all(type(each) in (int, float) for each in value)
        and value[0] < value[1]
    ):
        return float(value[0]), float(value[1])
    raise CallerError(
        "bad-value", "this is not a range.", "Write two numbers, the lower one first: plausible = [-20, 60]."
    )


def number(value: object) -> float:
    """A number that is not negative."""
    if isinstance(value, bool) or not isinstance(value, int | float) or not 0 <= value < 1e9:
        raise CallerError(
            "bad-value", f"{value!r} is not a number that is not negative.", "Write a number: 0.5."
        )
    return float(value)


def _point(pair: Any) -> tuple[float, float]:
    volts, value = pair
    return float(parse(volts, "a voltage", bare="v")), float(value)


def rated(value: object) -> tuple[int, int]:
    """What something is good for: '100000 switchings', '25000 h', or both in a list."""
    parts = value if isinstance(value, list) else [value]
    times = span = 0
    for part in parts:
        match = (
            re.fullmatch(r"\s*(\d{1,12})\s*(switchings|h|hours)\s*", part) if isinstance(part, str) else None
        )
        if match is None or not int(match[1]):
            raise CallerError(
                "bad-value",
                f"{part!r} is not what something is good for.",
                'Write rated = "100000 switchings", or "25000 h".',
            )
        if match[2] == "switchings":
            times = int(match[1])
        else:
            span = int(match[1]) * 3600 * NS
    return times, span
