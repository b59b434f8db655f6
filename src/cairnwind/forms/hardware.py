"""Forms of boards, pins, wires, timers and signals."""

from __future__ import annotations

from typing import Annotated, Literal, NotRequired, TypedDict

from msgspec import Meta

from cairnwind.forms.basic import At, Free, Percent, Time, Word
from cairnwind.forms.things import Board, Setting


class BoardWhole(Board):
    """The same, with what its link has measured."""

    confirms: str
    rounds_a_second: float
    errors: int
    simulated: Annotated[bool, Meta(description="Its inputs may be pretended.")]
    facts: Free


class Drawer(TypedDict):
    """An output that draws from a supply."""

    output: str
    amperes: Annotated[float, Meta(description="When it is on.")]
    on: Annotated[bool | None, Meta(description="Null: not known.")]


class Supply(TypedDict):
    """A supply, and what is drawn from it now."""

    name: str
    volts: float
    limit: Annotated[float | None, Meta(description="Amperes; null: not said.")]
    drawn: Annotated[
        float | None,
        Meta(description="Amperes by what is stated of its outputs; null while one of them is not known."),
    ]
    outputs: list[Drawer]


class Examined(TypedDict):
    """Something of the service's machine that was looked at."""

    good: Annotated[bool | None, Meta(description="Null: neither good nor bad.")]
    what: str
    remedy: str


class SiteChanges(TypedDict):
    """What the site file says otherwise than what is served."""

    changes: Annotated[list[str], Meta(description="A sentence each; empty: nothing that is wired.")]


class CurvePoint(TypedDict):
    """How an output answers a level."""

    level: Percent
    duty: Percent
    count: int


class Curve(TypedDict):
    """How an output answers its levels."""

    output: str
    curve: str
    steps: int
    floor: Percent
    ceiling: Percent
    trim: Percent
    hertz: float | None
    rows: list[CurvePoint]


class Reading(TypedDict):
    """What a tried pin reads; null for what it does not."""

    high: Percent | None
    raw: int | None
    full: int | None
    volts: float | None
    count: int | None
    edge: Time
    period_ns: int | None


class Trial(TypedDict):
    """What is being tried on a pin."""

    mode: Literal["output", "pwm", "tone", "input", "count", "analogue"]
    text: str
    by: str
    reading: Reading


class TriedPin(TypedDict):
    """A pin that is tried, and whose it is."""

    pin: str
    line: int
    output: str | None
    trial: Trial


class PinForm(TypedDict):
    """A position of a board's connectors, or a line of one that has no map."""

    pin: str | None
    position: str | None
    connector: str | None
    number: int | None
    line: int | None
    title: str
    role: str
    can: list[str] | None
    timer: str
    bank: str
    volts: float | None
    bears: float | None
    current: float | None
    power_on: str
    user: str
    holder: str
    trouble: Annotated[
        str, Meta(description="Why what is wired there does not work, where that is the line's own fault.")
    ]
    high: Percent | None
    trial: Trial | None


class Frame(TypedDict):
    """Something that went over a wire."""

    number: int
    at: At
    way: Literal["sent", "got", "lost"]
    raw: str
    text: str
    plain: Annotated[bool, Meta(description="The bytes are the text.")]


class Traffic(TypedDict):
    """What went over a wire lately."""

    frames: list[Frame]
    rounds_a_second: float
    errors: int


class Remote(TypedDict):
    """A way in or out, and how it fares."""

    name: str
    kind: str
    up: bool
    trouble: str
    key: str
    peers: list[str]
    errors: int
    facts: Free


class UsedThere(TypedDict):
    """Something of another site that is used here."""

    name: str
    """Its name there."""
    here: str
    """What it is called here; empty: nothing is wired to it."""
    shows: str
    """What it is, in words; 'unknown' where nobody knows."""
    trouble: str


class SiteUsed(TypedDict):
    """Another site of which something is used here."""

    site: str
    board: str
    up: bool
    reason: str
    since: str | None
    lease: float
    """Seconds."""
    delay: float | None
    """Milliseconds from a sign of life to its answer."""
    takes: list[UsedThere]


class SiteUsing(TypedDict):
    """Another site that uses something of this one."""

    site: str
    remote: str
    up: bool
    trouble: str
    key: str
    rank: str
    lease: float | None
    """Seconds."""
    heard: float | None
    """Seconds ago."""
    takes: list[str]
    wants: dict[str, str]
    """By name: what it wants now, in words."""


class SiteThere(TypedDict):
    """A site that has left word at the broker."""

    topic: str
    here: bool


class Sites(TypedDict):
    """Other sites: those of which something is used here, those that use something of this one, and those that are at the broker."""

    own: str
    broker: str
    """Where they meet; empty: this site has none."""
    up: bool
    trouble: str
    used: list[SiteUsed]
    using: list[SiteUsing]
    there: list[SiteThere] | None
    """Where that was asked."""


class MapRow(TypedDict):
    """What an address of a remote stands for."""

    address: str
    name: str
    what: str


class Pad(TypedDict):
    """A pad: two motors from one position, or an output for each zone."""

    name: str
    label: str
    left: str | None
    right: str | None
    dead: Percent
    most: Percent
    stick: list[str] | None
    zones: dict[str, str]
    outputs: list[str]
    lease_ms: float


class Steered(TypedDict):
    """What a pad's position came to."""

    pad: str
    outcomes: list[Word]
    zone: NotRequired[str]
    output: NotRequired[str | None]
    left: NotRequired[float]
    right: NotRequired[float]


class Preview(TypedDict):
    """What a program would do to an output."""

    output: str
    text: str
    kind: str
    seconds: float | None
    round_seconds: float
    times: int
    then: Literal["stay", "release"]
    ends_at: Setting | None
    shown_seconds: float
    writes: int
    writes_a_second: float
    writes_if_sampled: int
    counts: int
    curve: Annotated[list[tuple[float, Setting | None, float]], Meta(description="Seconds, setting, duty.")]
    last: Setting | None
    mean: float | None


class Signal(TypedDict):
    """What one signal did."""

    name: str
    of: Annotated[str, Meta(description="Its output or input.")]
    label: str
    kind: Literal["digital", "pwm", "drive", "tone", "analogue"]
    unit: str
    words: list[str]
    times: NotRequired[list[int]]
    values: NotRequired[list[float | None]]
    hertz: NotRequired[list[float] | None]


class TimerChip(TypedDict):
    """A PWM timer that is described."""

    name: str
    title: str
    clock: int
    prescalers: list[int]
    width: int
    fixed: int | None
    slope: Literal["single", "dual"]
    finer: int
    duty_width: int | None
    lowest_hertz: float
    highest_hertz: float
    channels: dict[str, list[str]]


class FitRow(TypedDict):
    """One way in which a timer reaches a frequency."""

    prescaler: int
    period: int
    compare: int
    hertz: float
    error_percent: float
    duty: Percent
    duty_error_percent: float
    steps: int
    period_ns: float
    in_reach: bool


class Wave(TypedDict):
    """Two periods of it."""

    seconds: float
    edges: list[tuple[float, float]]


class Fit(TypedDict):
    """How a timer reaches a frequency and a duty."""

    timer: TimerChip
    hertz: float
    duty: Percent
    first: Literal["error", "resolution"]
    beyond: str
    best: FitRow
    candidates: list[FitRow]
    wave: Wave


Signals = TypedDict("Signals", {"from": int, "to": int, "kept_seconds": float, "signals": list[Signal]})
