"""The laws of the small world behind the demo: what loads do to what sensors read. No clock, no threads.

The draught follows the vent; the kiln warms while it fires and has a draught; the cupboard warms and is aired;
daylight follows the hour; the hoist reaches its top. Steps may be long: each law is solved for a step.
"""

from __future__ import annotations

import math
from collections.abc import Mapping

DRAUGHT_AFTER = 2.0
"""Seconds from the vent's relay to a draught that the flow switch feels."""
HOIST_TRAVEL = 8.0
"""Seconds from the bottom to the top."""
OUTSIDE = 14.0
"""Degrees."""


class Nature:
    """The state of the world. ``on`` is by output how far it is on, 0 to 1."""

    def __init__(self) -> None:
        self.kiln = self.cupboard = OUTSIDE + 4
        self.draught = self.hoist = 0.0

    def step(self, seconds: float, on: Mapping[str, float]) -> None:
        """Let time pass."""
        vent = on.get("kiln-vent", 0.0)
        self.draught = min(1.0, self.draught + seconds / DRAUGHT_AFTER) if vent else 0.0
        fire = on.get("kiln", 0.0) * (1.0 if self.flowing else 0.4)
        self.kiln = _towards(self.kiln, fire * 9, 0.004 + 0.002 * self.draught, seconds)
        heat, air = on.get("cupboard-heater", 0.0), on.get("cupboard-fan", 0.0)
        self.cupboard = _towards(self.cupboard, heat * 0.8, 0.004 + 0.02 * air, seconds)
        way = (on.get("hoist-up", 0.0) > 0) - (on.get("hoist-down", 0.0) > 0)
        self.hoist = max(0.0, min(1.0, self.hoist + way * seconds / HOIST_TRAVEL))

    @property
    def flowing(self) -> bool:
        """Whether the flow switch feels a draught."""
        return self.draught >= 1

    @property
    def top(self) -> bool:
        """Whether the hoist is at its top."""
        return self.hoist >= 1

    def value(self, input: str, hour: float) -> float:
        """What a sensor reads, in its own unit. Daylight is brightest at 13 h, and dark from 19 h to 7 h."""
        found = {"kiln-temperature": self.kiln, "cupboard-temperature": self.cupboard}.get(input)
        return 100 * max(0.0, math.sin((hour - 7) / 12 * math.pi)) if found is None else found


def _towards(value: float, warming: float, loss: float, seconds: float) -> float:
    """dT/dt = warming - loss (T - outside), solved for a step."""
    rest = OUTSIDE + warming / loss
    return rest + (value - rest) * math.exp(-loss * seconds)
