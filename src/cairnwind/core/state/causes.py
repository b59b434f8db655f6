"""Which reflexes led to what outputs and inputs do now, of this site and of others it is bound to: so that one that comes back to itself is noticed."""

from __future__ import annotations

from cairnwind.core.state.standing import Standing

MOST = 50
"""Reflexes in a row that are remembered: a longer row is no row, it goes round."""
BY_REFLEX = ("reflex", "site")
"""Surfaces whose claims stand for what led to them."""


class Causes:
    """By 'output' or 'input' and name: the reflexes, the first one first."""

    __slots__ = ("_rows",)

    def __init__(self) -> None:
        self._rows: dict[tuple[str, str], tuple[str, ...]] = {}

    def of(self, kind: str, name: str) -> tuple[str, ...]:
        """What led to what it does."""
        return self._rows.get((kind, name), ())

    def of_output(self, s: Standing) -> tuple[str, ...]:
        """The same of an output, unless somebody else has it now."""
        row = self.of("output", s.output.name)
        leader = s.claims.leader
        if row and leader is not None and leader.source.surface not in BY_REFLEX:
            self.put("output", s.output.name, ())
            return ()
        return row

    def put(self, kind: str, name: str, row: tuple[str, ...]) -> None:
        """These led to it."""
        if row:
            self._rows[kind, name] = row[-MOST:]
        else:
            self._rows.pop((kind, name), None)
