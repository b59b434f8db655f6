"""Inputs: from what a line shows to what counts. So far contacts with debounce."""

from __future__ import annotations

from cairnwind.core.model import Input


class Contact:
    """One contact: ``active`` is what counts, None while unknown."""

    __slots__ = ("active", "input", "seen", "since", "turned")

    def __init__(self, input: Input) -> None:
        self.input = input
        self.active: bool | None = None
        self.seen: bool | None = None
        self.turned = 0
        """Monotonic nanoseconds at which ``seen`` last changed."""
        self.since = 0
        """Wall nanoseconds at which ``active`` last changed."""

    def see(self, active: bool | None, mono: int, wall: int) -> bool:
        """Take a raw state; True if what counts has changed at once.

        Unknown, and the first state after unknown, count at once: there is nothing they could bounce
        against. Any other change counts when it has lasted for the debounce time (see `due`).
        """
        if active != self.seen:
            self.seen = active
            self.turned = mono
        if active is None or self.active is None or not self.input.debounce:
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
