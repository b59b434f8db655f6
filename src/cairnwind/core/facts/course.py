"""What a phrase comes down to: who is to be set to what, one step after the other, and when that is to happen.

The engine carries out courses and knows nothing of the language that they were said in.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from cairnwind.core.facts.claims import Lifetime, Rank, Source
from cairnwind.core.physics.programs import Program
from cairnwind.core.values.fact import fact
from cairnwind.core.values.quantities import show_duration
from cairnwind.core.values.settings import Setting

if TYPE_CHECKING:
    from cairnwind.core.values.moments import Moment

MOST_DATES = 1000
"""That one schedule leaves out, or has besides."""


class Order(NamedTuple):
    """One output's part of a step."""

    output: str
    act: str
    """'claim', 'toggle', 'step' or 'release'."""
    wanted: Setting | Program | None = None
    lifetime: Lifetime | None = None
    """None: as is usual for whoever says it."""
    until: Moment | None = None
    """Or until then; the moment is found when the step is carried out."""
    scene: str = ""
    """The scene that asks for it; releasing that releases what it claims."""
    by: int = 0
    """Of a 'step': parts per million that the level goes up or, below zero, down, from what it is then."""


class Step(NamedTuple):
    """Orders that are carried out together."""

    after: int
    """Nanoseconds after the step before."""
    orders: tuple[Order, ...]
    text: str
    stop: bool = False
    """It is the all-stop."""


def told(steps: tuple[Step, ...]) -> str:
    """Steps in words, with the waits between them."""
    return "; ".join(
        f"{f'wait {show_duration(step.after)}; ' if step.after else ''}{step.text}" for step in steps
    )


class Lead(NamedTuple):
    """When a course begins, and how often."""

    after: int = 0
    at: Moment | None = None
    every: int = 0
    times: int = 0
    """How many rounds; 0: until it is cancelled, or the series is over."""
    span: int = 0
    """How long the series lasts, in nanoseconds; 0: no such end."""
    until: Moment | None = None


class Course(NamedTuple):
    """Steps, and when they begin. ``text`` is the phrase in its canonical form."""

    text: str
    steps: tuple[Step, ...]
    lead: Lead | None = None

    @property
    def outputs(self) -> tuple[str, ...]:
        """Every output that it names, once; a scene that is released names none."""
        named = (order.output for step in self.steps for order in step.orders if order.output)
        return tuple(dict.fromkeys(named))

    @property
    def length(self) -> int | None:
        """Nanoseconds until everything that it claims has ended by itself; None if something stays."""
        at = longest = 0
        for step in self.steps:
            at += step.after
            for order in step.orders:
                lasts = _lasts(order)
                if lasts is None:
                    return None
                longest = max(longest, at + lasts)
        return max(longest, at)


def _lasts(order: Order) -> int | None:
    if order.act != "claim":
        return 0 if order.act == "release" else None
    if order.lifetime is not None and order.lifetime.kind == "for":
        return order.lifetime.span
    wanted = order.wanted
    return wanted.length if isinstance(wanted, Program) and wanted.then == "release" else None


@fact
class Timer:
    """A course that is still to come: a wait within it, a delay before it, or its next round."""

    id: int
    """The journal's sequence number of what set it."""
    text: str
    """What is done when it is due."""
    steps: tuple[Step, ...]
    source: Source
    rank: Rank
    slot: str
    made: int
    """Wall nanoseconds."""
    due_wall: int
    due_mono: int | None
    """None: it is due by the wall clock."""
    lifetime: Lifetime | None = None
    """What its claims last, unless they say so themselves."""
    every: int = 0
    left: int = 0
    """Rounds left, of a series that counts them."""
    ends_wall: int = 0
    """When a series is over; 0: it is not."""
