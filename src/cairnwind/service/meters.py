"""What a service counts of itself while it works: commands by outcome and surface, and how long each step of them took.

Counted by whoever does it, cheaply; shown by `cairnwind.service.metrics`.
"""

from __future__ import annotations

import time
from bisect import bisect_left
from collections import Counter, OrderedDict
from collections.abc import Sequence

from cairnwind.core.facts import events as ev
from cairnwind.core.values.quantities import NS

BOUNDS = (0.0005, 0.001, 0.0025, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 10.0)
"""Seconds: upper bounds of what is told apart."""
MOST_SURFACES = 24
"""Ways in that are told apart; what comes by more is 'other'."""
MOST_UNDER_WAY = 10_000


class Spread:
    """How often something took how long."""

    __slots__ = ("counts", "total")

    def __init__(self) -> None:
        self.counts = [0] * (len(BOUNDS) + 1)
        self.total = 0.0

    def see(self, seconds: float) -> None:
        """It took so long once."""
        self.counts[bisect_left(BOUNDS, seconds)] += 1
        self.total += seconds

    def buckets(self) -> Sequence[tuple[str, float]]:
        """Upper bounds, and how often it took no longer."""
        rising, found = 0, []
        for bound, count in zip((*map(str, BOUNDS), "+Inf"), self.counts, strict=True):
            rising += count
            found.append((bound, float(rising)))
        return found


class Meters:
    """One for each service. `decided` and `ended` are called by the engine's thread, `committed` by the store's."""

    def __init__(self) -> None:
        self.commands: Counter[tuple[str, str]] = Counter()
        """By surface and outcome."""
        self.decision, self.commit, self.pin = Spread(), Spread(), Spread()
        """Seconds from the arrival of a command to its decision, to its commit, and to what its pin confirmed."""
        self.answers = {reads: Spread() for reads in (True, False)}
        """Seconds that HTTP took to answer, where something was read and where it was to change."""
        self._surfaces: set[str] = set()
        self._under_way: OrderedDict[str, int] = OrderedDict()

    def decided(self, event: object, outcome: ev.Outcome) -> None:
        """A command was decided."""
        at, source = getattr(event, "at", None), getattr(event, "source", None)
        if at is None or source is None or not outcome.command:
            return
        surface = source.surface
        if surface not in self._surfaces:
            if len(self._surfaces) >= MOST_SURFACES:
                surface = "other"
            else:
                self._surfaces.add(surface)
        self.commands[surface, outcome.outcome] += 1
        self.decision.see((time.monotonic_ns() - at.mono) / NS)
        if outcome.outcome == "driving":
            self._under_way[outcome.command] = at.mono
            if len(self._under_way) > MOST_UNDER_WAY:
                self._under_way.popitem(last=False)

    def committed(self, event: object, outcome: ev.Outcome) -> None:
        """What was decided about it is on the disk."""
        at = getattr(event, "at", None)
        if at is not None and outcome.command:
            self.commit.see((time.monotonic_ns() - at.mono) / NS)

    def ended(self, ended: ev.Ended) -> None:
        """Something became of a command."""
        began = self._under_way.pop(ended.command, None)
        if began is not None and ended.ending == "confirmed":
            self.pin.see((time.monotonic_ns() - began) / NS)
