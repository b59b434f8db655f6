"""Names in a sentence."""

from __future__ import annotations

from collections.abc import Iterable


def listed(names: Iterable[str]) -> str:
    """'one, two and three'."""
    each = list(names)
    return " and ".join(each) if len(each) < 3 else f"{', '.join(each[:-1])} and {each[-1]}"
