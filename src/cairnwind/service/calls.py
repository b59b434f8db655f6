"""Every call of the API: the role that it needs, what it takes, what it answers.

The check of roles at the door, the OpenAPI description and the table of roles in the docs are all made from this table; a
test holds it against the addresses that the application really has.
"""

from __future__ import annotations

import re
from typing import Any, NamedTuple

from cairnwind.commands import reading
from cairnwind.commands.declaring import Command
from cairnwind.commands.table import COMMANDS
from cairnwind.commands.trials import TryPin

V1 = "/api/v1"
ANYONE = "anyone"
Schema = dict[str, Any]


def obj(required: str = "", /, **properties: Schema) -> Schema:
    """An object: the names of what is always there, and what there may be."""
    found: Schema = {"type": "object", "properties": properties}
    if required:
        found["required"] = required.split()
    return found


def body(required: str = "", /, *, example: Any = None, **properties: Schema) -> Schema:
    """The object that a request carries: nothing else is taken."""
    found = {**obj(required, **properties), "additionalProperties": False}
    return found if example is None else {**found, "examples": [example]}


def ref(name: str) -> Schema:
    """A schema by its name."""
    return {"$ref": f"#/components/schemas/{name}"}


def many(of: Schema) -> Schema:
    """An array."""
    return {"type": "array", "items": of}


def named(name: str, of: Schema) -> Schema:
    """An object with one member."""
    return obj(name, **{name: of})


TEXT: Schema = {"type": "string"}
SAID: Schema = {"type": "string", "minLength": 1}
SHORT: Schema = {"type": "string", "maxLength": 500}
NUMBER: Schema = {"type": "number"}
WHOLE: Schema = {"type": "integer"}
COUNT: Schema = {"type": "integer", "minimum": 0, "maximum": 2**62}
FLAG: Schema = {"type": "boolean"}
TIME: Schema = {"type": ["string", "null"], "format": "date-time"}
MAYBE: Schema = {"type": ["string", "null"]}
LEFT: Schema = {
    **obj("left of share more ends text", left=TEXT, of=TEXT, share=NUMBER, more=TIME, ends=TIME, text=TEXT),
    "description": "Of a budget: what is left, of what, as a share from 0 to 1, when there is more, and when it is used up if it goes on so.",
}
SPAN: Schema = {
    "type": ["string", "number"],
    "description": "A time as people write it: '3 s', '10 min'; a number is seconds.",
}
SETTING: Schema = {
    "type": ["string", "number", "boolean", "object"],
    "description": "'on', 'off', 'toggle', '40 %', 40, 'coral', 'A4'; or an object: {level}, {duty, hertz}, {colour}, {hertz, loudness}, {drive}.",
}  # fmt: skip
ROLE: Schema = {"type": "string", "enum": ["watch", "operate", "keep"]}
WAIT = {"wait": {**SPAN, "description": "How long to wait for what becomes of it; 10 s at most."}}
LIFE: dict[str, Schema] = {
    "rank": {"type": "string", "enum": ["person", "hand"]}, "for": SPAN, "until": TEXT, "lease": SPAN,
    "lasting": {"type": "string", "enum": ["until released"]}, "when_possible": FLAG,
}  # fmt: skip
CLAIM: dict[str, Schema] = {
    "setting": SETTING, "over": SPAN, "program": {"type": ["string", "object"], "description": "An object with a kind, or the name of a tune."}, **LIFE,
}  # fmt: skip
HOURS: dict[str, Schema] = {
    "days": many({"type": "string", "enum": ["mo", "tu", "we", "th", "fr", "sa", "su"]}),
    "from": {"type": "string", "pattern": "^([01][0-9]|2[0-3]):[0-5][0-9]$"}, "to": {"type": "string", "pattern": "^([01][0-9]|2[0-3]):[0-5][0-9]$"},
    "until": {"type": "string", "description": "A date, which counts to its end, or RFC 3339."},
}  # fmt: skip
LIMITS: dict[str, Schema] = {"only": {**many(TEXT), "minItems": 1}, **HOURS}
SCHEDULE: dict[str, Schema] = {
    "name": SAID, "do": SAID, "from": SAID, "to": TEXT, "for": TEXT, "repeat": TEXT, "starts": TEXT, "without": many(TEXT), "also": many(TEXT), "timezone": TEXT,
}  # fmt: skip
PAST = {"from": TEXT, "to": TEXT}

SCHEMAS: dict[str, Schema] = {
    "Problem": {
        **obj(
            "type title status detail remedy code",
            type=TEXT, title=TEXT, status=WHOLE, detail={**TEXT, "description": "What is wrong."},
            remedy={**TEXT, "description": "What to do."}, code={**TEXT, "description": "For programs."},
        ),
        "description": "Problem details (RFC 9457).",
    },
    "Setting": obj("on words", on=FLAG, words=TEXT, level=NUMBER, colour=TEXT, hertz=NUMBER, loudness=NUMBER, drive=NUMBER, duty=NUMBER, program=TEXT),
    "MaybeSetting": {"anyOf": [ref("Setting"), {"type": "null"}]},
    "Claim": obj(
        "id output rank slot setting source lifetime ends made",
        id=WHOLE, output=TEXT, rank={"type": "string", "enum": ["plan", "reflex", "person", "hand"]}, slot=TEXT, setting=ref("MaybeSetting"),
        source=TEXT, lifetime={"type": "string", "enum": ["takeover", "released", "for", "until", "lease", "span", "while"]}, ends=TIME, made=TIME,
    ),
    "Output": obj(
        "name label place kind pin board takes state wanted allowed driven confirmed known by gate reason claims",
        name=TEXT, label=TEXT, place=TEXT, kind=TEXT, pin=TEXT, board=TEXT, takes={"type": "string", "enum": ["level", "colour", "tone", "drive"]},
        state={"type": "string", "enum": ["confirmed", "driving", "running", "retrying", "blocked", "waiting", "unreachable", "fault"]},
        wanted=ref("Setting"), allowed=ref("Setting"), driven=ref("MaybeSetting"), confirmed=ref("MaybeSetting"), known=TEXT, since=TIME,
        by=TEXT, gate=TEXT, reason=TEXT, expected=TIME, claims=many(ref("Claim")),
    ),
    "Input": obj(
        "name label place kind pin board state active value unit",
        name=TEXT, label=TEXT, place=TEXT, kind=TEXT, pin=TEXT, board=TEXT, state=TEXT, active={"type": ["boolean", "null"]},
        value={"type": ["number", "null"]}, unit=TEXT, since=TIME,
    ),
    "Board": obj("name label link up reason", name=TEXT, label=TEXT, link=TEXT, up=FLAG, reason=TEXT, since=TIME),
    "Stop": obj("stopped", stopped=FLAG, since=TIME, by=TEXT, reason=TEXT),
    "Site": obj("name timezone all_stop lockouts trips alarms recording clock", name=TEXT, timezone=TEXT, all_stop=ref("Stop"), lockouts=many(obj()),
                trips=many(ref("Trip")), alarms=many(ref("Alarm")), recording=FLAG, trouble=TEXT, clock=TEXT),
    "Trip": obj("name since cause outputs", name=TEXT, since=TIME, cause=TEXT, outputs=many(TEXT)),
    "Alarm": obj("name severity cause since", name=TEXT, severity=TEXT, cause=TEXT, since=TIME, still_so=FLAG, acknowledged_by=MAYBE, times=WHOLE),
    "Outcome": obj(
        "command sequence outcome reason",
        command=TEXT, sequence={**WHOLE, "description": "Its row in the journal."},
        outcome={"type": "string", "enum": ["driving", "waiting", "blocked", "refused", "unreachable", "not recorded"]},
        output=MAYBE, reason=TEXT, remedy=TEXT, setting=ref("MaybeSetting"), claim={"anyOf": [ref("Claim"), {"type": "null"}]},
        parts=many(obj("output outcome reason", output=TEXT, outcome=TEXT, reason=TEXT)), ending=obj("ending text", ending=TEXT, text=TEXT),
        phrase=TEXT, say={**TEXT, "description": "A sentence to say back."},
    ),
    "Outcomes": obj("outcome outcomes", outcome=TEXT, outcomes=many(ref("Outcome"))),
    "Why": obj("output sentence remedy steps", output=TEXT, sentence=TEXT, remedy=TEXT, steps=many(obj("stage text", stage=TEXT, text=TEXT))),
    "Schedule": obj("name do origin enabled when outputs next", name=TEXT, do=TEXT, origin=TEXT, enabled=FLAG, when=TEXT, outputs=many(TEXT), next=many(many(TIME))),
    "Timer": obj("id kind text due by", id=WHOLE, kind={"type": "string", "enum": ["timer", "series", "claim"]}, text=TEXT, due=TIME, by=TEXT),
    "Key": obj("name role only days from to until made used used_from", name=TEXT, role=ROLE, only=many(TEXT), days=many(TEXT), to=MAYBE, until=TIME,
               made=TIME, used=TIME, used_from=MAYBE, **{"from": MAYBE}),
    "Session": obj("id key device made ends used this", id=TEXT, key=TEXT, device=TEXT, made=TIME, ends=TIME, used=TIME, this=FLAG),
    "Frame": obj("number at way raw text plain", plain={**FLAG, "description": "The bytes are the text."}, number=WHOLE, at=TIME, way={"type": "string", "enum": ["sent", "got", "lost"]}, raw=TEXT, text=TEXT),
    "Traffic": obj("frames errors", frames=many(ref("Frame")), errors=WHOLE, rounds_a_second=NUMBER),
    "Remote": obj("name kind up trouble key peers errors", name=TEXT, kind=TEXT, up=FLAG, trouble=TEXT, key=TEXT, peers=many(TEXT), errors=WHOLE, facts=obj()),
    "Row": obj("sequence at kind text", sequence=WHOLE, at=TIME, kind=TEXT, subject=MAYBE, text=TEXT, command=MAYBE, source=MAYBE),
    "Pad": obj("name label outputs zones lease_ms", name=TEXT, label=TEXT, left=MAYBE, right=MAYBE, outputs=many(TEXT), zones=obj(), lease_ms=NUMBER),
}  # fmt: skip


class Call(NamedTuple):
    """One method of one address. ``path`` as the application has it, with ``<name>`` for what varies."""

    method: str
    path: str
    role: str
    says: str
    answer: Schema | str | None = None
    """Schema of the answer, or its media type where it is no JSON."""
    body: Schema | str | None = None
    query: dict[str, Schema] = {}  # noqa: RUF012 - never changed
    status: int = 200
    optional: bool = False
    """It may come without a body."""
    repeat: bool = False
    """It takes an Idempotency-Key."""
    examples: dict[str, str] = {}  # noqa: RUF012 - never changed
    """Of what varies in its address."""
    secret: bool = False
    """What is sent or answered holds a key, a link, a token or a passcode, and is not to be seen by anybody else."""


OUTCOME = ref("Outcome")
GALLERY = {"name": "gallery"}
BY = body("by", by={**SAID, "maxLength": 60}, example={"by": "Anna"})
EMPTY = body()

_OTHERS: tuple[Call, ...] = (
    Call("GET", "/", ANYONE, "The console.", "text/html"),
    Call("GET", "/assets/<path:name>", ANYONE, "A file of the console.", "*/*"),
    Call("GET", "/healthz", ANYONE, "Whether the engine runs.", obj("health version clock", health=TEXT, version=TEXT, clock=TEXT)),
    Call("GET", "/readyz", ANYONE, "Whether commands will be recorded.", obj("ready", ready=FLAG)),
    Call("GET", "/.well-known/wot", "watch", "The W3C Thing Description of what the key may command.", "application/td+json"),
    Call("GET", "/openapi.json", "watch", "This description, OpenAPI 3.1.", obj("openapi info paths", openapi=TEXT, info=obj(), paths=obj())),
    Call("GET", "/site", "watch", "The site as a whole: name, time zone, all-stop, lockouts, trips, alarms, whether the journal can be written.", ref("Site")),
    Call("GET", "/outputs", "watch", "Outputs from wish to pin: all, or a page of `limit` after the one named `after`.", many(ref("Output")),
         query={"limit": {"type": "integer", "minimum": 1, "maximum": 10000}, "after": TEXT}),
    Call("GET", "/outputs/<name>", "watch", "One output.", ref("Output"), examples=GALLERY),
    Call("GET", "/outputs/<name>/trace", "watch", "How it was decided about it, phase by phase: now, and what came since somebody began to look, or `after` a number. It is looked at for a minute after each call.",
         obj("output traces", output=TEXT, traces=many(obj("number at event steps", number=WHOLE, at=TIME, event=TEXT, steps=many(obj("phase what text round no", phase=TEXT, what=TEXT, text=TEXT, round=WHOLE, no=FLAG))))), query={"after": COUNT}, examples=GALLERY),
    Call("GET", "/outputs/<name>/why", "watch", "Why it is as it is, or (`at`) was.", ref("Why"), query={"at": TEXT}, examples=GALLERY),
    Call("GET", "/outputs/<name>/curve", "watch", "Level, duty and count in steps of 5 %.", obj("output rows", output=TEXT, rows=many(obj())), examples=GALLERY),
    Call("GET", "/outputs/<name>/codes", "keep", "Who has a passcode; never the codes.", named("codes", many(obj("output owner", output=TEXT, owner=TEXT)))),
    Call("PUT", "/outputs/<name>/codes/<path:owner>", "keep", "Gives somebody a passcode.", obj("output owner", output=TEXT, owner=TEXT),
         body("code", code=SAID, once=FLAG, **HOURS), status=201, secret=True),
    Call("DELETE", "/outputs/<name>/codes/<path:owner>", "keep", "Takes a passcode away.", obj("output owner", output=TEXT, owner=TEXT)),
    Call("GET", "/inputs", "watch", "Every input.", many(ref("Input"))),
    Call("GET", "/inputs/<name>", "watch", "One input.", ref("Input"), examples={"name": "kiln-door"}),
    Call("PUT", "/inputs/<name>/simulated", "operate", "Works an input of a simulated board.", obj("input", input=TEXT),
         body(state={"type": ["string", "boolean"]}, volts={"type": ["string", "number"]}, example={"state": "closed"}), examples={"name": "kiln-door"}),
    Call("GET", "/boards", "watch", "Every board.", many(ref("Board"))),
    Call("GET", "/boards/<name>", "watch", "One board, with rate and errors of its link.", ref("Board"), examples={"name": "shelf"}),
    Call("GET", "/boards/<name>/pins", "watch", "Its positions or lines: numbers, functions, user, level, trial.", many(obj("pin line title role", title=TEXT, role=TEXT)), examples={"name": "shelf"}),
    Call("GET", "/boards/<name>/traffic", "watch", "What went over its wire after a number.", ref("Traffic"), query={"after": COUNT}, examples={"name": "shelf"}),
    Call("PUT", "/boards/<board>/pins/<pin>/trial", "operate", TryPin.help(), obj("pin line trial", pin=TEXT, line=WHOLE, trial=obj()),
         reading.schema(TryPin, frozenset(("board", "pin"))), examples={"board": "shelf", "pin": "J2-10"}),
    Call("GET", "/claims", "watch", "The claims that stand.", many(ref("Claim"))),
    Call("GET", "/claims/<int:claim>", "watch", "One claim, while it stands.", ref("Claim")),
    Call("PATCH", "/claims", "operate", "Renews several leases at once: one connection keeps many holds.", ref("Outcomes"), body("claims", claims={**many(COUNT), "minItems": 1, "maxItems": 1000})),
    Call("POST", "/commands", "operate", "Several claims, each with its setting; `output` may be a group. Checked whole, answered one by one.", ref("Outcomes"),
         body("claims", claims={**many(body("output", output=SAID, **CLAIM)), "minItems": 1, "maxItems": 1000},
              example={"claims": [{"output": "gallery", "setting": "40 %"}, {"output": "bench-lamp", "setting": "on"}]}), status=201),
    Call("POST", "/programs", "operate", "One setting or program for several outputs, begun at the same moment.", ref("Outcomes"),
         body("outputs", outputs={**many(TEXT), "minItems": 1, "maxItems": 1000, "uniqueItems": True}, **CLAIM,
              example={"outputs": ["gallery", "window"], "program": {"kind": "breathe", "in": "3 s"}, "for": "1 min"}), status=201),
    Call("POST", "/programs/preview", "watch", "What a program would do: curve, length, writes.", obj("output text writes curve", output=TEXT, text=TEXT, writes=WHOLE, curve=many({})),
         body("output", output=SAID, program=CLAIM["program"], setting=SETTING, over=SPAN, place=WHOLE, of=WHOLE, example={"output": "gallery", "setting": "70 %", "over": "3 s"})),
    Call("POST", "/phrases", "operate", "Does what a phrase says, and says a sentence back; `dry`: what it would do. 400 `asks-back` has `choices`.",
         {"anyOf": [OUTCOME, obj("phrase steps", phrase=TEXT, steps=many(obj()))]}, body("phrase", phrase=SAID, dry=FLAG, **WAIT, example={"phrase": "turn gallery to half for 10 min"}),
         status=201, repeat=True),
    Call("GET", "/scenes", "watch", "The scenes of the site file.", many(obj("name do", name=TEXT, do=many(TEXT)))),
    Call("GET", "/groups", "watch", "Outputs that are named together.", many(obj("name outputs", name=TEXT, outputs=many(TEXT)))),
    Call("GET", "/tunes", "watch", "The tunes of the site file.", many(obj("name text seconds", name=TEXT, text=TEXT, seconds=NUMBER))),
    Call("GET", "/pads", "watch", "The pads.", many(ref("Pad"))),
    Call("PUT", "/pads/<name>", "operate", "Moves a pad; it counts for a quarter of a second: call it `again` to go on, which moves nothing once that has ended.", obj("pad outcomes", pad=TEXT, outcomes=many(TEXT)),
         body("x y", x={"type": "number", "minimum": -1, "maximum": 1}, y={"type": "number", "minimum": -1, "maximum": 1}, again=FLAG, example={"x": 0, "y": 0.5}), examples={"name": "trolley"}),
    Call("DELETE", "/pads/<name>", "operate", "Lets a pad go.", obj("pad", pad=TEXT), examples={"name": "trolley"}),
    Call("GET", "/all-stop", "watch", "Whether everything is stopped.", ref("Stop")),
    Call("GET", "/rules", "watch", "Every rule in words, with its state.", named("rules", many(obj("name kind text outputs state", name=TEXT, kind=TEXT, text=TEXT, outputs=many(TEXT), state=TEXT, left=LEFT)))),
    Call("POST", "/questions", "watch", "Whether something is so (null: not known), and what is so instead.", obj("question so instead", question=TEXT, so={"type": ["boolean", "null"]}, instead=many(TEXT)),
         body("question", question=SAID, example={"question": "kiln-door is closed"})),
    Call("GET", "/trips", "watch", "Trips in force.", named("trips", many(ref("Trip")))),
    Call("GET", "/alarms", "watch", "Alarms that are not over.", named("alarms", many(ref("Alarm")))),
    Call("GET", "/plan", "watch", "Schedules, and when they are next; timers.", obj("schedules timers scenes", schedules=many(ref("Schedule")), timers=many(ref("Timer")), scenes=many(TEXT))),
    Call("GET", "/plan/spans", "watch", "When each schedule is on.", obj("from to spans", spans=many(obj())), query=PAST),
    Call("GET", "/plan/schedules/<path:name>", "watch", "One schedule.", ref("Schedule"), examples={"name": "late"}),
    Call("GET", "/plan/kit", "watch", "What a rehearsal elsewhere needs.", obj()),
    Call("POST", "/plan/rehearsals", "watch", "What the plan comes to in at most 62 days; with a change also the differences.", named("plan", obj("from to bars totals")),
         body(put=body("name do from", **SCHEDULE), drop=TEXT, example={"from": "2026-11-23", "to": "2026-11-24"}, **PAST)),
    Call("GET", "/plan/calendar", "watch", "The plan as a calendar (RFC 5545).", "text/calendar", query={"key": TEXT}),
    Call("POST", "/plan/calendar", "operate", "Takes a calendar's events as schedules; `dry` only says what it would take.", obj("events taken dry", events=many(obj()), taken=WHOLE, dry=FLAG),
         "text/calendar", query={"dry": TEXT}),
    Call("POST", "/plan/calendar-links", "keep", "An address of the calendar, with a key that reads nothing else; the one before ends.", obj("link", link=TEXT), EMPTY, optional=True, status=201, secret=True),
    Call("GET", "/plan/timers", "watch", "Timers, and claims that end by time.", many(ref("Timer"))),
    Call("GET", "/records/usage", "watch", "Days of outputs.", named("days", many(obj())), query={**PAST, "output": TEXT}),
    Call("GET", "/records/readings/<name>", "watch", "Rows of milliseconds, least, mean, greatest.", obj("name rows", name=TEXT, rows=many(many({}))), query=PAST, examples={"name": "kiln-door"}),
    Call("GET", "/signals", "watch", "What signals did lately; without names what there is.", obj("from to signals", signals=many(obj())),
         query={"names": TEXT, "seconds": {"type": "number", "exclusiveMinimum": 0, "maximum": 300}, "after": COUNT}),
    Call("GET", "/signals.vcd", "watch", "The same as IEEE 1364 value changes.", "text/plain", query={"names": TEXT, "seconds": {"type": "number", "exclusiveMinimum": 0, "maximum": 300}}),
    Call("GET", "/signals.csv", "watch", "The same as CSV.", "text/csv", query={"names": TEXT, "seconds": {"type": "number", "exclusiveMinimum": 0, "maximum": 300}}),
    Call("GET", "/timers", "watch", "PWM timers that are described.", many(obj("name title", name=TEXT, title=TEXT))),
    Call("GET", "/timers/<name>/fit", "watch", "How a timer reaches a frequency and a duty.", obj("timer best candidates", timer=obj(), best=obj(), candidates=many(obj())),
         query={"hertz": TEXT, "duty": TEXT, "first": {"type": "string", "enum": ["error", "resolution"]}}, examples={"name": "header"}),
    Call("GET", "/journal", "watch", "What happened, in pages; `next` is the address of the next one.", obj("rows next", rows=many(ref("Row")), next=MAYBE),
         query={"limit": {"type": "integer", "minimum": 1, "maximum": 1000}, "before": COUNT, "after": COUNT, "subject": TEXT, "kind": TEXT, "source": TEXT, **PAST}),
    Call("GET", "/journal/<int:sequence>", "watch", "One row of the journal.", ref("Row")),
    Call("GET", "/events", "watch", "The event stream; goes on after `Last-Event-ID`.", "text/event-stream", query={"after": TEXT}),
    Call("GET", "/remotes", "watch", "The ways in and out that the site file asks for, and how they fare.", many(ref("Remote"))),
    Call("GET", "/remotes/<name>/traffic", "watch", "What went over it after a number, raw and decoded.", ref("Traffic"), query={"after": COUNT}),
    Call("GET", "/remotes/<name>/map", "watch", "What its addresses stand for.", named("rows", many(obj("address name what", address=TEXT, name=TEXT, what=TEXT)))),
    Call("GET", "/keys", "keep", "Every key, never its text.", named("keys", many(ref("Key")))),
    Call("POST", "/keys", "keep", "Makes a key; its text is shown here and nowhere else.", obj("key name", key=TEXT, name=TEXT), body("name role", name={**SAID, "maxLength": 60}, role=ROLE, **LIMITS,
         example={"name": "hall tablet", "role": "operate", "only": ["gallery"]}), status=201, secret=True),
    Call("GET", "/keys/<path:name>", "keep", "One key, never its text.", ref("Key")),
    Call("DELETE", "/keys/<path:name>", "keep", "Revokes a key, with its sessions and streams, at once.", obj("name", name=TEXT), examples={"name": "hall tablet"}),
    Call("POST", "/pairings", "keep", "A link that makes a key and signs a device in with it, once, within 5 minutes; as a QR code too.",
         obj("link ends rows", link=TEXT, ends=TIME, rows=many(TEXT)), body("name role", name={**SAID, "maxLength": 60}, role=ROLE, **LIMITS, example={"name": "Anna's phone", "role": "operate"}), status=201, secret=True),
    Call("POST", "/sign-in-links", "keep", "A link that signs a browser in with this key, once, within 15 minutes.", obj("link", link=TEXT), EMPTY, optional=True, status=201, secret=True),
    Call("GET", "/sessions", "keep", "Browsers that are signed in.", named("sessions", many(ref("Session")))),
    Call("DELETE", "/sessions/<id>", "keep", "Ends a session and its streams.", obj("id", id=TEXT)),
    Call("POST", "/session", ANYONE, "Signs a browser in with a link's token.", obj("signed_in", signed_in=FLAG), body("token", token=SAID), status=201, secret=True),
    Call("GET", "/session", "watch", "Who one is, and what one may command.", obj("key role surface", key=TEXT, role=ROLE, surface=TEXT, only={"type": ["array", "null"], "items": TEXT})),
    Call("DELETE", "/session", "watch", "Signs out.", obj("signed_in", signed_in=FLAG)),
)  # fmt: skip


def _of_command(kind: type[Command]) -> Call:
    """The call of a command of the table."""
    inside = re.findall(r"<(?:\w+:)?(\w+)>", kind.path)
    given = reading.schema(kind, frozenset(inside))
    if kind.waits:
        given["properties"] |= WAIT
    takes = kind.method != "DELETE"
    return Call(
        kind.method, kind.path, kind.role, kind.help(), OUTCOME, given if takes else None, status=kind.status, repeat=True,
        optional=takes and not given.get("required"), secret=kind.secret,
        examples={name: str(kind.example[name]) for name in inside if name in kind.example},
    )  # fmt: skip


_OWN = {(call.method, call.path) for call in _OTHERS}
CALLS = (*_OTHERS, *(_of_command(kind) for kind in COMMANDS.values() if (kind.method, kind.path) not in _OWN))


def full(path: str) -> str:
    """An address as the application has it."""
    outside = ("/", "/assets/<path:name>", "/healthz", "/readyz", "/.well-known/wot")
    return path if path in outside else V1 + path


ROLES = {(call.method, full(call.path)): call.role for call in CALLS}
"""The role that each call needs."""


SECRET = {(call.method, full(call.path)) for call in CALLS if call.secret}
"""Calls whose bodies nobody else may see."""


QUERIES = {(call.method, full(call.path)): frozenset(call.query) for call in CALLS}
"""What may stand behind the question mark of each call."""


def role_table() -> str:
    """The table of the docs: each call, its role, what it does."""
    rows = ["| call | role | |", "|---|---|---|"]
    rows += [f"| `{call.method} {_braces(full(call.path))}` | {call.role} | {call.says} |" for call in CALLS]
    return "\n".join(rows)


def _braces(path: str) -> str:
    return re.sub(r"<(?:\w+:)?(\w+)>", r"{\1}", path)


def describe(version: str, url: str) -> dict[str, Any]:
    """The OpenAPI 3.1 description of everything under `V1`."""
    paths: dict[str, Any] = {}
    for call in CALLS:
        if full(call.path).startswith(V1):
            paths.setdefault(_braces(call.path), {})[call.method.lower()] = _operation(call)
    return {
        "openapi": "3.1.0",
        "info": {"title": "Cairnwind", "version": version, "description": "Errors are problem details (RFC 9457). Docs: docs/api.md."},
        "servers": [{"url": url + V1}], "security": [{"key": []}], "paths": paths,
        "components": {
            "securitySchemes": {"key": {"type": "http", "scheme": "bearer"}}, "schemas": SCHEMAS,
            "responses": {"Problem": {"description": "What is wrong, and what to do.", "headers": {"Retry-After": {"description": "With 429 and 503: seconds.", "schema": {"type": "integer"}}}, "content": {"application/problem+json": {"schema": ref("Problem")}}}},
        },
    }  # fmt: skip


def _headers(call: Call) -> dict[str, Any]:
    """What stands above an answer."""
    if call.status == 201 and call.repeat:
        return {"headers": {"Location": {"description": "Where what was made is found.", "schema": TEXT}}}
    return {}


def _operation(call: Call) -> dict[str, Any]:
    word = {"GET": "get", "POST": "post", "PUT": "put", "PATCH": "patch", "DELETE": "delete"}[call.method]
    parameters: list[dict[str, Any]] = []
    for kind, name in re.findall(r"<(?:(\w+):)?(\w+)>", call.path):
        schema: Schema = COUNT if kind == "int" else SAID
        given = {"example": call.examples[name]} if name in call.examples else {}
        parameters.append({"name": name, "in": "path", "required": True, "schema": schema, **given})
    parameters += [{"name": name, "in": "query", "schema": schema} for name, schema in call.query.items()]
    if call.repeat:
        parameters.append(
            {
                "name": "Idempotency-Key",
                "in": "header",
                "schema": {"type": "string", "minLength": 1, "maxLength": 200, "pattern": "^[!-~]+$"},
            }
        )
    content = (
        {call.answer: {}} if isinstance(call.answer, str) else {"application/json": {"schema": call.answer}}
    )
    found: dict[str, Any] = {
        "operationId": f"{word}-{re.sub(r'[^a-z]+', '-', call.path).strip('-')}", "summary": call.says, "x-role": call.role,
        "tags": [call.path.split("/")[1].split(".")[0]], "parameters": parameters,
        "responses": {str(call.status): {"description": "Done.", "content": content, **_headers(call)}, "default": {"$ref": "#/components/responses/Problem"}},
    }  # fmt: skip
    if call.path == "/phrases":
        found["responses"]["200"] = found["responses"]["201"]
    if call.role == ANYONE:
        found["security"] = []
    if call.body is not None:
        media = (
            {call.body: {"schema": TEXT}}
            if isinstance(call.body, str)
            else {"application/json": {"schema": call.body}}
        )
        found["requestBody"] = {"required": not call.optional, "content": media}
    return found
