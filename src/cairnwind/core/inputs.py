"""Inputs: from what a line shows to what counts: contacts with debounce, analogue values with a scale."""

from __future__ import annotations

from cairnwind.core.model import Input


class Contact:
    """One contact: ``active`` is what counts, None while unknown."""

    __slots__ = ("active", "edge", "edges", "input", "seen", "since", "turned")

    def __init__(self, input: Input) -> None:
        self.input = input
        self.active: bool | None = None
        self.seen: bool | None = None
        self.turned = 0
        """Monotonic nanoseconds at which ``seen`` last changed."""
        self.since = 0
        """Wall nanoseconds at which ``active`` last changed."""
        self.edges = 0
        """Raw changes from one state to the other, bounces included."""
        self.edge = 0
        """Wall nanoseconds of the last of them, as exactly as the board tells."""

    def see(self, active: bool | None, mono: int, wall: int, edge: int = 0, *, settled: bool = False) -> bool:
        """Take a raw state; True if what counts has changed at once.

        Unknown, and the first state after unknown, count at once: there is nothing they could bounce
        against. Any other change counts when it has lasted for the debounce time (see `due`).
        """
        if active != self.seen:
            if active is not None and self.seen is not None:
                self.edges, self.edge = self.edges + 1, edge or wall
            self.seen = active
            self.turned = mono
        if active is None or self.active is None or not self.input.debounce or settled:
            return self._settle(wall)
        return False

    @property
    def deadline(self) -> int | None:
        """Monotonic nanoseconds at which a pending change counts, or None."""
        return self.turned + self.input.debounce if self.seen != self.active else None

    def due(self, mono: int, wall: int) -> bool:
        """True if a pending change has now lasted long enough, and counts."""
        deadline = self.deadline
        return deadline is not None and deadline <= mono and self._settle(wall)

    def _settle(self, wall: int) -> bool:
        changed = self.seen != self.active
        if changed:
            self.active = self.seen
            self.since = wall
        return changed


class Gauge:
    """One analogue input: the volts on its pin and the value they stand for; None while unknown."""

    __slots__ = ("full", "input", "raw", "since", "value", "volts")

    def __init__(self, input: Input) -> None:
        self.input = input
        self.raw: int | None = None
        self.full = 0
        self.volts: float | None = None
        self.value: float | None = None
        self.since = 0

    def measure(self, raw: int | None, full: int, volts: float | None, wall: int) -> bool:
        """Take a reading: ``raw`` counts of ``full``; True if it differs from the last."""
        if (raw, full) == (self.raw, self.full):
            return False
        self.raw, self.full, self.volts, self.since = raw, full, volts, wall
        self.value = None if volts is None else self.input.value(volts)
        return True
