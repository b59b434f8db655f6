"""What follows from what is so, as facts: reflexes, regulators and alarms."""

from __future__ import annotations

from cairnwind.core.facts.claims import Rank
from cairnwind.core.facts.conditions import Condition
from cairnwind.core.facts.course import Course
from cairnwind.core.values.fact import fact
from cairnwind.core.values.quantities import NS

SEVERITIES = ("note", "warning", "urgent")


@fact
class Reflex:
    """A phrase that is carried out when a condition becomes true, or held while it is."""

    name: str
    condition: Condition
    course: Course
    holds: bool = False
    """It is a `while`."""
    rank: Rank = Rank.REFLEX
    pause: int = NS // 5
    """Nanoseconds between two times that it fires, at least."""


@fact
class Regulator:
    """An input that is kept between two values by an output."""

    name: str
    input: str
    low: float
    high: float
    output: str
    lowers: bool = False
    """The value falls while the output is on: a fan, not a heater."""
    pause: int = NS
    """Nanoseconds between two changes of the output, at least."""
    gain: float = 0.0
    """Of proportional-integral control: percent for each unit that the value is away; 0: two points."""
    integral: int = 600 * NS
    """Nanoseconds in which a lasting difference does as much again as at once."""


@fact
class Alarm:
    """A condition that somebody has to be told of."""

    name: str
    condition: Condition
    severity: str = "warning"
    repeat: int = 0
    """Nanoseconds after which it is raised again while nobody has acknowledged it; 0: it is not."""
    course: Course | None = None
    """What is done each time that it is raised."""


Rule = Reflex | Regulator | Alarm
