"""Forms of the site, its outputs and inputs, its rules, and of what commands are answered with."""

from __future__ import annotations

from typing import Annotated, Literal, NotRequired, TypedDict

from msgspec import Meta

from cairnwind.forms.basic import At, Free, Percent, Time


class Problem(TypedDict):
    """Problem details (RFC 9457); beside these whatever a command answers."""

    type: str
    title: str
    status: int
    detail: Annotated[str, Meta(description="What is wrong.")]
    remedy: Annotated[str, Meta(description="What to do.")]
    code: Annotated[str, Meta(description="For programs.")]
    help: Annotated[str, Meta(description="Where the docs say more of that code.")]


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
    known: Annotated[str, Meta(description="How it is known: 'read back', 'proved', 'sent' …")]
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
    total: Annotated[
        float | None, Meta(description="Of a counter: all that it has counted, also before the last start.")
    ]
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


class RulePart(TypedDict):
    """A part of a rule's condition at this moment."""

    depth: Annotated[int, Meta(description="Deeper under 'all of these', 'one of these' and 'not'.")]
    text: str
    so: Annotated[bool | None, Meta(description="Null: not known.")]
    instead: Annotated[str, Meta(description="How it is, where it is not so.")]
    expected: Annotated[
        Time,
        Meta(description="When it will be so if all stays as it is; null: that is not a matter of time."),
    ]


class KeptBy(TypedDict):
    """A board that keeps a rule too, by itself, whatever becomes of the service."""

    board: str
    outputs: Annotated[list[str], Meta(description="Those for which it does.")]
    in_force: bool
    why_not: Annotated[str, Meta(description="Why it is not in force there; empty where it is.")]


class Rule(TypedDict):
    """A rule in words, and how it stands."""

    name: str
    kind: str
    text: str
    outputs: list[str]
    state: str
    left: NotRequired[Left]
    parts: Annotated[list[RulePart], Meta(description="Of its condition, where it has one.")]
    grace_ends: Annotated[Time, Meta(description="It is not as it should be, and a grace runs until then.")]
    holds_back: Annotated[
        list[str], Meta(description="Outputs that somebody wants on and that it keeps off now.")
    ]
    boards: Annotated[list[KeptBy], Meta(description="Of an interlock: boards that keep it too.")]


class WrittenKey(TypedDict):
    """A key that a table of the site file may have, and what stands there."""

    name: str
    says: Annotated[str, Meta(description="What it means, in Markdown.")]
    value: Annotated[str | None, Meta(description="As it is written; null: it is not.")]
    unsaid: Annotated[
        str, Meta(description="What holds where it is not written, as it would be; empty: see what it means.")
    ]
    needed: bool
    choices: Annotated[list[str], Meta(description="What may be written, where that is one of a few words.")]


class Written(TypedDict):
    """What the site file says of an output, an input or a board, and what else it could."""

    name: str
    table: Annotated[str, Meta(description="As in `output.gallery`.")]
    keys: list[WrittenKey]


class Answered(TypedDict):
    """Whether something is so; null: not known."""

    question: str
    so: bool | None
    instead: Annotated[list[str], Meta(description="What is so instead.")]
    say: NotRequired[Annotated[str, Meta(description="To be said back, where it was asked among phrases.")]]


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
