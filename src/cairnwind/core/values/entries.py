"""What is written in the site file, to a value of the model, or `CallerError`."""

from __future__ import annotations

import ipaddress
import re
from fractions import Fraction

from cairnwind.core.values.errors import CallerError, nearest
from cairnwind.core.values.quantities import NS, duration, parse


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


def second(value: object, among: tuple[str, str]) -> bool:
    """Of two words: whether it is the second."""
    return choice(value, among) == among[1]


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


def range_of(value: object, example: str) -> tuple[float, float]:
    """Two numbers, the lower one first."""
    try:
        return plausible(value)
    except CallerError as error:
        raise CallerError(
            error.code, error.sentence, f"Write two numbers, the lower one first: {example}."
        ) from None


def voltages(value: object) -> tuple[Fraction, Fraction]:
    """Two voltages, the lower one first, none of them below zero."""
    if isinstance(value, list) and len(value) == 2:
        low, high = (parse(each, "a voltage") for each in value)
        if 0 <= low < high:
            return low, high
    raise CallerError(
        "bad-value",
        "these are not the volts at its least and at full.",
        'Write the lower ones first: volts = ["1 V", "10 V"].',
    )


def widths(value: object) -> tuple[int, int]:
    """Two lengths of pulses, up to 10 ms, the shorter one first; nanoseconds."""
    if isinstance(value, list) and len(value) == 2:
        low, high = (duration(each) for each in value)
        if 0 < low < high <= 10_000_000:
            return low, high
    raise CallerError(
        "bad-value",
        "these are not the pulses of two ends.",
        'Write the shorter one first: travel = ["1 ms", "2 ms"].',
    )


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


def a(dimension: str, value: object, bare: str | None = None) -> Fraction:
    """A quantity with its unit: ``a("power", "85 W")``."""
    return parse(value, f"a {dimension}", bare=bare)


def addresses(value: object) -> tuple[str, ...]:
    """A list of IP addresses."""
    try:
        if not isinstance(value, list):
            raise ValueError
        return tuple(str(ipaddress.ip_address(each)) for each in value)
    except ValueError:
        raise CallerError("", f"{value!r} is not a list of IP addresses.", 'Write ["127.0.0.1"].') from None


def outside(value: object) -> str:
    """An address by which others call it: 'https://house.lan/shed'; without a slash at its end."""
    if not re.fullmatch(r"https?://[a-z0-9.-]+(:\d{1,5})?(/[A-Za-z0-9._~-]+)*/?", str(value)):
        raise CallerError(
            "", f"{value!r} is not an address.", 'Write it as others call it: "https://house.lan/shed".'
        )
    return str(value).rstrip("/")


def folder(value: object) -> str:
    """The whole path of a folder."""
    if not text(value).startswith("/"):
        raise CallerError(
            "",
            f"{value!r} is not the whole path of a folder.",
            'Write it from its root: "/mnt/disk/backups".',
        )
    return str(value)


def spans(value: object) -> tuple[int, int, int]:
    """How many days, weeks and months: '7 days, 4 weeks, 12 months', each of which may be left out."""
    found = {"day": 0, "week": 0, "month": 0}
    for part in str(value).split(","):
        match = re.fullmatch(r"\s*(\d{1,3}) (day|week|month)s?\s*", part)
        if match is None:
            raise CallerError(
                "", f"{value!r} does not say how many are kept.", 'Write "7 days, 4 weeks, 12 months".'
            )
        found[match[2]] = int(match[1])
    return found["day"], found["week"], found["month"]


def size(value: object) -> int:
    """Bytes: '2 GB'; no less than a database with anything in it takes."""
    found = round(a("size", value))
    if found < 10**7:
        raise CallerError("", f"{value!r} is too small.", 'Give at least "10 MB".')
    return found


def share(value: object, low: int = 0) -> int:
    """Percent, as parts per million."""
    found = parse(value, "a share", bare="%")
    if not low <= found <= 100:
        raise CallerError("", f"'{value}' is outside {low} to 100 %", f"Give {low} % to 100 %.")
    return round(found * 10_000)


def minute(value: object) -> int:
    """A time of day, as minutes since midnight."""
    match = re.fullmatch(r"(\d{1,2}):(\d{2})", str(value))
    if match is None or int(match.group(1)) > 23 or int(match.group(2)) > 59:
        raise CallerError("", f"'{value}' is no time of day", 'Write it like "22:30".')
    return int(match.group(1)) * 60 + int(match.group(2))


def texts(value: object) -> tuple[str, ...]:
    """A list of names."""
    if not isinstance(value, list) or not all(isinstance(each, str) for each in value):
        raise CallerError("", f"{value!r} is not a list of names.", 'Write ["kiln", "kiln-vent"].')
    return tuple(value)


def like(value: object, form: str, example: str, what: str = "no such device") -> str:
    """A text of a form (a regular expression)."""
    if not isinstance(value, str) or not re.fullmatch(form, value):
        example = example if example.startswith('"') else f'"{example}"'
        raise CallerError("", f"{value!r} is {what}.", f"Write it like {example}.")
    return value


def device(value: object, what: str, example: str) -> str:
    """A device of this machine, or 'simulated'."""
    if value == "simulated" or re.fullmatch(r"/dev/\S+", str(value)):
        return str(value)
    raise CallerError("", f"{value!r} is not {what}.", f'Write "{example}", or "simulated".')


def parity(value: object) -> str:
    """'N', 'E' or 'O'."""
    return choice(value, ("none", "even", "odd"))[0].upper()
