"""Inputs: from what a line shows to what counts.

Contacts with debounce, counters of their edges, encoders that count both ways, and analogue values: sampled no more often than asked, filtered,
scaled, and held to what is plausible. What has not been heard from for its stated time is unknown.
"""

from __future__ import annotations

import math
from collections import deque

from cairnwind.core.facts.inputs import Input

PULSES = 10_000
"""How many pulses of a counter are remembered for its rate."""


class Contact:
    """One contact: ``active`` is what counts, None while unknown. A counter also has a ``value``."""

    __slots__ = (
        "active",
        "edge",
        "edges",
        "heard",
        "input",
        "pulses",
        "seen",
        "since",
        "stored",
        "total",
        "turned",
        "value",
        "way",
    )

    def __init__(self, input: Input) -> None:
        self.input = input
        self.way = 0
        """Of an encoder at the moment of a step: 1 up, -1 down."""
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
        self.heard = 0
        """Monotonic nanoseconds of the last word of it."""
        self.total = self.stored = 0
        """Pulses of a counter or steps of an encoder, those before the last start among them; and how many of them are stored."""
        self.pulses: deque[int] = deque(maxlen=PULSES)
        self.value: float | None = None
        """Of what counts: pulses or steps in its own unit, in all or in the last stretch of `Input.window`."""

    def see(
        self, active: bool | None, mono: int, wall: int, edge: int = 0, *, settled: bool = False, way: int = 0
    ) -> bool:
        """Take a raw state; True if what counts has changed at once. ``way``: of an encoder's step.

        Unknown, and the first state after unknown, count at once: there is nothing they could bounce
        against. Any other change counts when it has lasted for the debounce time (see `due`).
        """
        self.heard, self.way = mono, way
        if active != self.seen:
            if active is not None and self.seen is not None:
                self.edges, self.edge = self.edges + 1, edge or wall
            self.seen = active
            self.turned = mono
        if active is None or self.active is None or not self.input.debounce or settled:
            return self._settle(mono, wall)
        return False

    @property
    def deadline(self) -> int | None:
        """Monotonic nanoseconds at which a pending change counts, or a pulse leaves the rate; None if neither."""
        if self.seen != self.active:
            return self.turned + self.input.debounce
        return self.pulses[0] + self.input.window if self.pulses and self.input.window else None

    def due(self, mono: int, wall: int) -> bool:
        """True if a pending change has now lasted long enough, and counts, or if its rate has changed."""
        deadline = self.deadline
        if deadline is None or deadline > mono:
            return False
        if self.seen != self.active:
            return self._settle(mono, wall)
        return self._count(mono)

    def _settle(self, mono: int, wall: int) -> bool:
        changed = self.seen != self.active
        if changed:
            rose = self.active is False and self.seen is True
            self.active = self.seen
            self.since = wall
            if self.input.counts:
                if rose:
                    self.total += self.way if self.input.kind == "encoder" else 1
                    if self.input.window:
                        self.pulses.append(mono)
                self._count(mono)
        return changed

    def recount(self, mono: int) -> bool:
        """Its total is another; True if its value is, too."""
        return self._count(mono)

    def _count(self, mono: int) -> bool:
        window, before = self.input.window, self.value
        while self.pulses and self.pulses[0] + window <= mono:
            self.pulses.popleft()
        counted = len(self.pulses) if window else self.total
        self.value = None if self.active is None else counted * self.input.pulse
        return self.value != before


class Gauge:
    """One analogue input: the volts on its pin and the value they stand for; None while unknown."""

    __slots__ = ("full", "heard", "input", "last", "raw", "since", "smooth", "taken", "value", "volts")

    def __init__(self, input: Input) -> None:
        self.input = input
        self.raw: int | None = None
        self.full = 0
        self.volts: float | None = None
        self.value: float | None = None
        self.since = 0
        self.heard = self.taken = 0
        """Monotonic nanoseconds of the last reading, and of the last that was taken."""
        self.last: deque[float] = deque(maxlen=max(1, input.median))
        self.smooth: float | None = None
        """What the exponential filter is at."""

    def measure(self, raw: int | None, full: int, volts: float | None, mono: int, wall: int) -> bool:
        """Take a reading: ``raw`` counts of ``full``; True if it differs from the last."""
        filtered = self.input.median or self.input.settles
        self.heard = mono
        if (
            (raw, full) == (self.raw, self.full)
            and not filtered
            and (self.value is not None or volts is None)
        ):
            return False
        if volts is not None and self.value is not None and mono - self.taken < self.input.every:
            return False
        before = (self.raw, self.value)
        self.raw, self.full, self.volts = raw, full, volts
        self.value = None if volts is None else self._taken(volts, mono)
        self.taken = mono
        if volts is None:
            self.last.clear()
            self.smooth = None
        if (self.raw, self.value) == before:
            return False
        self.since = wall
        return True

    def _taken(self, volts: float, mono: int) -> float | None:
        input = self.input
        value = input.value(volts)
        low, high = input.plausible
        if value is None or not low <= value <= high:
            self.last.clear()
            self.smooth = None
            return None  # a broken wire, a short, or nonsense
        if input.median:
            self.last.append(value)
            value = sorted(self.last)[len(self.last) // 2]
        if input.settles:
            if self.smooth is None:
                self.smooth = value
            else:
                self.smooth += (value - self.smooth) * (1 - math.exp((self.taken - mono) / input.settles))
            value = self.smooth
        return value


def silent(thing: Contact | Gauge, mono: int) -> bool:
    """Whether an input has not been heard from for its stated time."""
    known = thing.active is not None if isinstance(thing, Contact) else thing.value is not None
    return known and thing.input.stale > 0 and mono - thing.heard >= thing.input.stale
