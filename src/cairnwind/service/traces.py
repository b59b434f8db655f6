"""Traces of decisions that somebody looks at: the last ones of each output."""

from __future__ import annotations

from collections import deque
from itertools import count

from cairnwind.core.facts.traces import Traced
from cairnwind.core.values.quantities import NS

KEPT = 100
"""Traces of one output."""
LOOKED_AT = 60 * NS
"""How long an output is looked at after somebody asked last."""


class Traces:
    """Put in by the engine's thread; read by any."""

    def __init__(self) -> None:
        self._numbers = count(1)
        self._of: dict[str, deque[tuple[int, Traced]]] = {}

    def take(self, trace: Traced) -> None:
        """Somebody looks at this output, and something was decided about it."""
        self._of.setdefault(trace.output, deque(maxlen=KEPT)).append((next(self._numbers), trace))

    def since(self, output: str, number: int) -> list[tuple[int, Traced]]:
        """Those of an output after this number, the oldest first."""
        return [each for each in self._of.get(output, deque()).copy() if each[0] > number]
