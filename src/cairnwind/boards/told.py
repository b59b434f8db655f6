"""What sensors on the network tell: a number or a state in a message of a topic, plain or at a place within JSON."""

from __future__ import annotations

import json
import math
from collections.abc import Callable
from functools import partial
from typing import Any, NamedTuple

from cairnwind.core.values import entries
from cairnwind.core.values.errors import CallerError, nearest
from cairnwind.core.values.quantities import duration

LONGEST = 65_536
"""Bytes of a message that is looked into."""
YES, NO = ("on", "true", "yes", "open"), ("off", "false", "no", "closed")
"""Texts that are a state where nobody says which is."""


class Told(NamedTuple):
    """One thing that is told on a topic."""

    topic: str
    path: tuple[str, ...] = ()
    """Where it stands in the JSON of the message; empty: the message is it."""
    unit: str = ""
    age: int = 0
    """Nanoseconds after which it is unknown, unless it was told again; 0: it stays."""
    active: str = ""
    """Of a state: the text that is its active one; every other is not."""


def topic(value: object) -> str:
    """A topic, without wildcards."""
    found = entries.text(value)
    if "+" in found or "#" in found:
        raise CallerError("", f"'{found}' has a wildcard.", "Give one topic: pond/water.")
    return found


_READS: dict[str, Callable[[Any], Any]] = {
    "topic": topic,
    "path": lambda value: tuple(entries.text(value).split(".")),
    "unit": entries.text,
    "age": partial(duration, longest=30 * 86400),
    "active": entries.text,
}


def read(value: object) -> tuple[Told, ...]:
    """A list of tables."""
    if not isinstance(value, list) or not all(isinstance(each, dict) for each in value):
        raise CallerError(
            "",
            "this is no list of what is told",
            'Write readings = [{ topic = "pond/water", path = "temperature", unit = "°C" }].',
        )
    found = []
    for each in value:
        for key in each.keys() - _READS.keys():
            raise CallerError(
                "",
                f"'{key}' is not known of a reading",
                nearest(key, _READS) or f"Known: {', '.join(_READS)}.",
            )
        if "topic" not in each:
            raise CallerError(
                "", "a reading has no 'topic'", 'Write { topic = "pond/water", path = "temperature" }.'
            )
        found.append(Told(**{key: _READS[key](said) for key, said in each.items()}))
    return tuple(found)


def within(payload: bytes, path: tuple[str, ...]) -> Any:
    """What stands at a place in a message: a text, or a value of JSON. Raises `LookupError` where there is nothing."""
    if len(payload) > LONGEST:
        raise LookupError(f"it is longer than {LONGEST} bytes")
    text = payload.decode("utf-8", "replace").strip()
    if not path:
        return text
    try:
        found = json.loads(text)
    except (ValueError, RecursionError):
        raise LookupError("it is no JSON") from None
    for at, key in enumerate(path):
        try:
            found = found[int(key)] if isinstance(found, list) else found[key]
        except (KeyError, IndexError, ValueError, TypeError):
            raise LookupError(f"it has no {'.'.join(path[: at + 1])}") from None
    return found


def number(said: Any) -> float:
    """The number that something is, with or without a unit behind it. Raises `LookupError`."""
    if isinstance(said, bool):
        return float(said)
    try:
        found = float(said.split()[0].rstrip("%") if isinstance(said, str) else said)
    except (ValueError, TypeError, IndexError, OverflowError):
        raise LookupError(f"'{str(said)[:40]}' is no number") from None
    if not math.isfinite(found) or abs(found) > 1e15:
        raise LookupError(f"'{str(said)[:40]}' is no number")
    return found


def state(said: Any, active: str) -> bool:
    """The state that something is. Raises `LookupError`."""
    text = str(said).strip()
    if active:
        return text.casefold() == active.casefold()
    if text.casefold() in YES or text.casefold() in NO:
        return text.casefold() in YES
    return number(said) != 0
