"""Forms of the plan, of what it comes to, and of what came of it."""

from __future__ import annotations

from typing import Annotated, Literal, NotRequired, TypedDict

from msgspec import Meta

from cairnwind.forms.basic import At, Free, Time
from cairnwind.forms.things import Setting


class Schedule(TypedDict("_ScheduleSaid", {"from": str, "to": NotRequired[str], "for": NotRequired[str]})):
    """A schedule, and when it is next."""

    name: str
    do: str
    days: NotRequired[int]
    repeat: Annotated[str, Meta(description="A rule of RFC 5545, or 'never'.")]
    starts: NotRequired[str]
    without: NotRequired[list[str]]
    also: NotRequired[list[str]]
    timezone: str
    origin: Literal["site file", "database"]
    enabled: bool
    when: Annotated[str, Meta(description="In words.")]
    outputs: list[str]
    running_until: Time
    next: Annotated[list[tuple[At, At]], Meta(description="Begin and end of the next times.")]
    skipped: list[At]


class Timer(TypedDict):
    """What is still to come: a timer, a series, or a claim that ends by time."""

    id: int
    kind: Literal["timer", "series", "claim"]
    output: str | None
    text: str
    due: At
    by: str
    every_seconds: float | None
    left: int | None
    made: At


class Plan(TypedDict):
    """Every schedule, and what is still to come."""

    schedules: list[Schedule]
    timers: list[Timer]
    scenes: list[str]
    believed: Annotated[bool, Meta(description="Whether the clock is.")]


class Span(TypedDict):
    """A time at which a schedule is on."""

    name: str
    outputs: list[str]
    do: str
    start: At
    end: At


class DryOrder(TypedDict):
    """What a phrase would do to one output."""

    output: str | None
    label: str
    act: str
    setting: Setting | None
    lasting: str
    now: str
    against: Annotated[
        str,
        Meta(description="What would keep it from being so now, as far as that is known; empty: nothing."),
    ]


class DryStep(TypedDict):
    """One step of a phrase."""

    after_seconds: float
    text: str
    orders: list[DryOrder]
    stop: bool


class Dry(TypedDict):
    """What a phrase would do."""

    phrase: str
    steps: list[DryStep]
    begins: Time
    every_seconds: float | None


class Usage(TypedDict):
    """A day of an output."""

    output: str
    day: str
    hours_on: float
    switchings: int
    kilowatt_hours: float | None


class Counted(TypedDict):
    """What a counter has counted from the first of its readings to the last."""

    came: float
    an_hour: float | None
    rate_unit: Annotated[str, Meta(description="What that is in: kWh in an hour are kW.")]


Readings = TypedDict(
    "Readings",
    {
        "name": str, "unit": str, "step_seconds": int, "from": At, "to": At,
        "rows": Annotated[list[tuple[int, float, float, float]], Meta(description="Milliseconds UTC, least, mean, greatest; of a counter of its total.")],
        "counted": Annotated[Counted | None, Meta(description="Of a counter.")],
    },
)  # fmt: skip


class Bar(TypedDict):
    """A time in which one party has an output at something."""

    output: str
    start: At
    end: At
    words: str
    on: bool
    level: float
    by: str
    why: str
    brief: str  # fmt: skip


class Change(TypedDict):
    """A change that a rehearsal comes to."""

    at: At
    output: str
    setting: str
    on: bool
    why: str


class Total(TypedDict):
    """What an output did in a rehearsal."""

    output: str
    label: str
    hours_on: float
    switchings: int
    kilowatt_hours: float | None
    of_rated_switchings: float | None
    of_rated_hours: float | None


class Remark(TypedDict):
    """Something held back, or a collision."""

    at: At
    output: str
    text: str


Rehearsed = TypedDict(
    "Rehearsed",
    {
        "from": At, "to": At, "changes": list[Change], "bars": list[Bar], "totals": list[Total], "held_back": list[Remark],
        "collisions": list[Remark],
    },
)  # fmt: skip


class Difference(TypedDict):
    """What differs between two rehearsals."""

    was: Bar | None
    would_be: Bar | None


class Rehearsal(TypedDict):
    """What the plan comes to, and what a change to it would."""

    plan: Rehearsed
    changed: NotRequired[Rehearsed]
    differences: NotRequired[list[Difference]]


class TakenEvent(TypedDict):
    """What became of an event of a calendar."""

    title: str
    outcome: Literal["taken", "ignored", "not understood", "refused"]
    why: str


class Taken(TypedDict):
    """What became of a calendar's events."""

    events: list[TakenEvent]
    taken: int
    dry: bool


class Kit(TypedDict):
    """What a rehearsal elsewhere needs."""

    site_file: str
    schedules: list[Free]


Spans = TypedDict("Spans", {"from": At, "to": At, "spans": list[Span]})
