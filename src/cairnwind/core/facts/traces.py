"""How the engine came to a decision, as a picture for people: one event, phase by phase."""

from __future__ import annotations

from typing import NamedTuple

from cairnwind.core.values.fact import fact

PHASES = (
    "event",
    "due",
    "conditions",
    "want",
    "own gates",
    "shared gates",
    "allowed",
    "drive",
    "timers",
    "answer",
)
"""In the order in which they are gone through; those from 'want' to 'drive' again and again, until nothing is left to decide."""


class Step(NamedTuple):
    """One thing that was asked or done."""

    phase: str
    what: str
    """Which gate, rule, condition or timer; empty where the phase has but one."""
    text: str
    """What it said, in words."""
    round: int = 1
    """Which time round."""
    no: bool = False
    """It stood in the way."""


@fact
class Traced:
    """What one event came to for one output."""

    output: str
    wall: int
    """Wall nanoseconds of the event."""
    event: str
    steps: tuple[Step, ...]
