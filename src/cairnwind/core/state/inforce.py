"""What is in force over the whole site or by name: the all-stop, trips, lockout tags, shut guards, quiet hours.

Data; each is changed by its own gate (`cairnwind.core.rules`), and asked by it. At most decisions none of it concerns the output:
that is asked first (`cairnwind.core.rules.gates.refusal`).
"""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass, field

from cairnwind.core.facts.interlocks import Latched, Stop, Tag


@dataclass(slots=True)
class InForce:
    """What keeps outputs at safe at this moment, but for interlocks."""

    starting: bool = True
    closing: bool = False
    rewiring: frozenset[str] = frozenset()
    """Outputs that are about to be wired otherwise, or to go."""
    stop: Stop | None = None
    trips: dict[str, Latched] = field(default_factory=dict)
    """By name, the earliest first."""
    tripped: dict[str, dict[str, Latched]] = field(default_factory=dict)
    """The same by output, then by name; an output that none holds has no entry."""
    tags: dict[str, dict[str, Tag]] = field(default_factory=dict)
    """By output, then by name; an output without tags has no entry."""
    shut: set[str] = field(default_factory=set)
    """Guarded outputs that no code has opened."""
    wrong: dict[str, deque[int]] = field(default_factory=dict)
    """By guarded output: when wrong codes were given (monotonic nanoseconds)."""
    quiet: str = ""
    """Until when sounders are silent, in words; empty outside the quiet hours."""
    loud: frozenset[str] = frozenset()
    """Sounders that quiet hours do not concern."""
