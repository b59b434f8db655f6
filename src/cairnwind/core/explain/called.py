"""What things are called now that had other names when something happened to them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping


class Called:
    """Names of a past, as they are today. Two things may have exchanged theirs, so a name alone does not tell."""

    def __init__(self, renames: Iterable[tuple[int, Mapping[str, str]]]) -> None:
        """``renames`` are rising: when outputs and inputs got other names (wall nanoseconds), and by those before these."""
        self._renames = list(renames)

    def now(self, name: str, wall: int) -> str:
        """What is called now what had this name at a time."""
        for at, names in self._renames:
            if at > wall:
                name = names.get(name, name)
        return name
