"""Every form that a surface shows, declared once: what is made by the service, described by OpenAPI, typed for the client and the
console, and held by a test against all that is answered.

They are plain dictionaries; these types say what is in them. Times are RFC 3339 in UTC.
"""

from __future__ import annotations

from typing import Annotated, Any, Literal, NotRequired, TypedDict

from msgspec import Meta

Time = Annotated[str | None, Meta(extra_json_schema={"format": "date-time"})]
At = Annotated[str, Meta(extra_json_schema={"format": "date-time"})]
Free = Annotated[dict[str, Any], Meta(description="Whatever there is to say of it.")]
Percent = float
Role = Literal["watch", "operate", "keep"]
Word = Literal["driving", "waiting", "blocked", "refused", "unreachable", "not recorded"]


class Problem(TypedDict):
    """Problem details (RFC 9457); beside these whatever a command answers."""

    type: str
    title: str
    status: int
    detail: Annotated[str, Meta(description="What is wrong.")]
    remedy: Annotated[str, Meta(description="What to do.")]
    code: Annotated[str, Meta(description="For programs.")]


class Setting(TypedDict):
    """What an output is, is to be or may be set to: in words, and by the number that its kind has."""

    on: bool
    words: str
    level: NotRequired[Percent]
    colour: NotRequired[Annotated[str, Meta(description="As in #e07b1c.")]]
    hertz: NotRequired[float]
    loudness: NotRequired[Percent]
    drive: NotRequired[Annotated[float, Meta(description="-100 to 100.")]]
    duty: NotRequired[Percent]
    program: NotRequired[Annotated[str, Meta(description="The kind of program that runs.")]]
    seconds: NotRequired[
        Annotated[float | None, Meta(description="How long the program takes; null: until it is ended.")]
    ]
    then: NotRequired[Literal["stay", "release"]]


class Claim(TypedDict):
    """One party's wish, while it stands."""

    id: int
    output: str
    rank: Literal["plan", "reflex", "person", "hand"]
    slot: str
    setting: Setting | None
    source: str
    lifetime: Literal["takeover", "released", "for", "until", "lease", "span", "while"]
    ends: Time
    made: At


class _Facts(TypedDict):
    name: str
    label: str
    place: str
    kind: str
    pin: str
    line: int
    board: str


class OutputFacts(_Facts):
    """What does not change of an output while the service runs."""

    dimmable: bool
    words: Annotated[list[str], Meta(description="What it says for off and on.")]
    rearm: Literal["auto", "command"]
    hertz: Annotated[float | None, Meta(description="Of its PWM.")]
    takes: Literal["level", "colour", "tone", "drive"]


class OutputState(TypedDict):
    """How an output stands, from wish to pin."""

    state: Literal[
        "confirmed", "driving", "running", "retrying", "blocked", "waiting", "unreachable", "fault"
    ]
    wanted: Setting
    allowed: Setting
    driven: Setting | None
    confirmed: Setting | None
    known: Annotated[str, Meta(description="How it is known: 'read back', 'sent' …")]
    since: Time
    by: Annotated[str, Meta(description="Whose claim leads.")]
    gate: Annotated[str, Meta(description="What keeps it from being so.")]
    reason: str
    expected: Annotated[Time, Meta(description="When that is over.")]
    claims: list[Claim]


class Output(OutputFacts, OutputState):
    """An output: what it is, and how it stands."""


class Input(_Facts):
    """An input, and what it shows."""

    words: list[str]
    active: Annotated[bool | None, Meta(description="Null while it is not known.")]
    state: str
    since: Time
    raw: bool | int | None
    edges: int
    edge: Annotated[Time, Meta(description="When its line moved last.")]
    pull: str
    debounce_ms: float
    full: int | None
    volts: float | None
    value: float | None
    unit: str
    stale_ms: float


class Board(TypedDict):
    """A board, and the health of its link."""

    name: str
    label: str
    link: str
    map: str | None
    up: bool
    reason: str
    since: Time


class BoardWhole(Board):
    """The same, with what its link has measured."""

    confirms: str
    rounds_a_second: float
    errors: int
    simulated: Annotated[bool, Meta(description="Its inputs may be pretended.")]
    facts: Free


class Stop(TypedDict):
    """The all-stop."""

    stopped: bool
    since: NotRequired[Time]
    by: NotRequired[str]
    reason: NotRequired[str]


class Tag(TypedDict):
    """A lockout tag."""

    output: str
    name: str
    by: str
    since: Time
    reason: str
    until: Annotated[Time, Meta(description="When it is meant to come off.")]


class Trip(TypedDict):
    """A trip in force."""

    name: str
    since: Time
    cause: str
    outputs: list[str]


class Alarm(TypedDict):
    """An alarm that was raised and is not over."""

    name: str
    severity: Literal["note", "warning", "urgent"]
    cause: str
    still_so: bool
    since: Time
    acknowledged_by: str | None
    times: int
    last: Time


class Suspended(TypedDict):
    """A reflex that does not work, and why."""

    reflex: str
    why: str


class Site(TypedDict):
    """The site as a whole."""

    name: str
    timezone: str
    latitude: float | None
    longitude: float | None
    all_stop: Stop
    lockouts: list[Tag]
    recording: Annotated[bool, Meta(description="Whether the journal can be written.")]
    trouble: Annotated[str, Meta(description="Why not.")]
    clock: Annotated[str, Meta(description="Why the clock is not believed; empty if it is.")]
    trips: list[Trip]
    alarms: list[Alarm]
    suspended: list[Suspended]


class Part(TypedDict):
    """What became of one output of a phrase."""

    output: str
    outcome: Word
    reason: str
    claim: int | None


class Ending(TypedDict):
    """What became of a command in the time that was waited for."""

    ending: Literal["confirmed", "failed", "superseded"]
    text: str


class Ended(Ending):
    """The same, as it is told later."""

    command: str
    output: str | None


class Schedule(TypedDict("_ScheduleSaid", {"from": str, "to": NotRequired[str], "for": NotRequired[str]})):
    """A schedule, and when it is next."""

    name: str
    do: str
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


class Outcome(TypedDict):
    """The answer to a command: what was decided, and committed."""

    command: str
    sequence: Annotated[int, Meta(description="Its row in the journal.")]
    outcome: Word
    output: str | None
    reason: str
    remedy: str
    setting: Setting | None
    claim: Claim | None
    parts: NotRequired[list[Part]]
    ending: NotRequired[Ending]
    phrase: NotRequired[Annotated[str, Meta(description="How it was understood.")]]
    say: NotRequired[Annotated[str, Meta(description="A sentence to say back.")]]
    schedule: NotRequired[Schedule]


class Outcomes(TypedDict):
    """The answer to several commands; the worst of them as their own."""

    outcome: Word
    outcomes: list[Outcome]


class Step(TypedDict):
    """One stage of the way from wish to pin, in words."""

    stage: str
    text: str


class Why(TypedDict):
    """The reasons of an output."""

    output: str
    sentence: str
    remedy: str
    steps: list[Step]


class TraceStep(TypedDict):
    """One thing that was looked at on the way to a decision."""

    phase: str
    what: str
    text: str
    round: int
    no: Annotated[bool, Meta(description="It stood in the way.")]


class Trace(TypedDict):
    """One decision, phase by phase."""

    number: int
    at: At
    event: str
    steps: list[TraceStep]


class Traces(TypedDict):
    """What was decided about an output since somebody began to look."""

    output: str
    traces: list[Trace]


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


class _Hours(TypedDict("_HoursSaid", {"from": str | None, "to": str | None})):
    days: list[str]
    until: Time


class Code(_Hours):
    """Who has a passcode, and when it is good; never the code."""

    output: str
    owner: str
    once: bool


class CodeOf(TypedDict):
    """Whose code."""

    output: str
    owner: str


class Key(_Hours):
    """A key, never its text."""

    name: str
    role: Role
    only: Annotated[list[str], Meta(description="Outputs, groups and kinds that it may command; empty: all.")]
    made: At
    used: Time
    used_from: str | None


class Session(TypedDict):
    """A browser that is signed in."""

    id: str
    key: str
    device: str
    made: At
    ends: Time
    used: Time
    this: bool


class Who(TypedDict):
    """Who one is, and what one may command."""

    key: str
    role: Role
    surface: str
    only: list[str] | None


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


class MapRow(TypedDict):
    """What an address of a remote stands for."""

    address: str
    name: str
    what: str


class Row(TypedDict):
    """A row of the journal."""

    sequence: int
    at: At
    kind: str
    subject: str | None
    text: str
    command: str | None
    source: str | None
    data: Free


class Rows(TypedDict):
    """A page of the journal."""

    rows: list[Row]
    next: Annotated[str | None, Meta(description="The address of the next page.")]


class Left(TypedDict):
    """Of a budget: what is left."""

    left: str
    of: str
    share: Annotated[float, Meta(description="0 to 1.")]
    text: str
    more: Annotated[Time, Meta(description="When there is more.")]
    ends: Annotated[Time, Meta(description="When it is used up if it goes on so.")]


class Rule(TypedDict):
    """A rule in words, and how it stands."""

    name: str
    kind: str
    text: str
    outputs: list[str]
    state: str
    left: NotRequired[Left]


class Answered(TypedDict):
    """Whether something is so; null: not known."""

    question: str
    so: bool | None
    instead: Annotated[list[str], Meta(description="What is so instead.")]


class Scene(TypedDict):
    """A scene of the site file."""

    name: str
    do: list[str]


class Group(TypedDict):
    """Outputs that are named together."""

    name: str
    outputs: list[str]


class Tune(TypedDict):
    """A tune of the site file."""

    name: str
    text: str
    seconds: float


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


class Usage(TypedDict):
    """A day of an output."""

    output: str
    day: str
    hours_on: float
    switchings: int
    kilowatt_hours: float | None


Readings = TypedDict(
    "Readings",
    {
        "name": str, "unit": str, "step_seconds": int, "from": At, "to": At,
        "rows": Annotated[list[tuple[int, float, float, float]], Meta(description="Milliseconds UTC, least, mean, greatest.")],
    },
)  # fmt: skip


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
    outcome: Literal["taken", "ignored", "not understood"]
    why: str


class Taken(TypedDict):
    """What became of a calendar's events."""

    events: list[TakenEvent]
    taken: int
    dry: bool


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


class Pairing(TypedDict):
    """A link that makes a key and signs a device in with it, once; and its QR code as rows of 0 and 1."""

    link: str
    ends: At
    rows: list[str]


class Kit(TypedDict):
    """What a rehearsal elsewhere needs."""

    site_file: str
    schedules: list[Free]


Spans = TypedDict("Spans", {"from": At, "to": At, "spans": list[Span]})
Signals = TypedDict("Signals", {"from": int, "to": int, "kept_seconds": float, "signals": list[Signal]})
