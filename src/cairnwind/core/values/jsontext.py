"""JSON, read and written in one way, whoever it comes from.

What comes from others may be anything: whatever cannot be read raises one kind of error, and numbers are no longer than what
64 bits hold.
"""

from __future__ import annotations

import re
from typing import Any

from msgspec import MsgspecError, json

write = json.encode
"""Any form of plain values as compact UTF-8 JSON; a number that is not finite becomes null."""

_decode = json.Decoder().decode
_LONG = re.compile(rb"[0-9]{19}")


def read(text: bytes | str) -> Any:
    """What a text says. Raises `ValueError`, with words that say why, where it is no JSON."""
    data = text.encode("utf-8", "surrogatepass") if isinstance(text, str) else text
    try:
        found = _decode(data)
        return _bounded(found) if _LONG.search(data) else found
    except MsgspecError as error:
        raise ValueError(str(error).removeprefix("JSON is malformed: ")) from None
    except RecursionError:
        raise ValueError("it is nested too deeply") from None
    except UnicodeDecodeError:
        raise ValueError("its text is not UTF-8") from None


def _bounded(found: Any) -> Any:
    """Whole numbers beyond 64 bits as the nearest that a double holds."""
    if isinstance(found, dict):
        return {key: _bounded(value) for key, value in found.items()}
    if isinstance(found, list):
        return [_bounded(value) for value in found]
    if isinstance(found, int) and not -(2**63) <= found < 2**64:
        try:
            return float(found)
        except OverflowError:
            raise ValueError("a number is out of range") from None
    return found
