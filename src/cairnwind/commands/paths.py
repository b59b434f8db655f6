"""Addresses as the application has them: ``/outputs/<name>/codes/<path:owner>``."""

from __future__ import annotations

import re
from collections.abc import Callable

_PART = re.compile(r"<(?:(\w+):)?(\w+)>")


def parts(path: str) -> list[tuple[str, str]]:
    """What varies in an address: of which kind ('int', 'path', or '' for a name), and what it is called."""
    return _PART.findall(path)


def inside(path: str) -> frozenset[str]:
    """The names of what varies."""
    return frozenset(name for _, name in parts(path))


def braces(path: str) -> str:
    """The same as OpenAPI has it: ``/outputs/{name}``."""
    return _PART.sub(r"{\2}", path)


def filled(path: str, value: Callable[[str, str], str]) -> str:
    """An address with something in each place, by kind and name."""
    return _PART.sub(lambda part: value(part[1] or "", part[2]), path)
