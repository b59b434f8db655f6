"""Every call of the API: the role that it needs, what it takes, what it answers.

The check of roles at the door, the OpenAPI description and the table of roles in the docs are all made from this table; a
test holds it against the addresses that the application really has.
"""

from __future__ import annotations

import re
from typing import Any, NamedTuple, TypedDict

import msgspec

from cairnwind import forms
from cairnwind.commands import paths, reading
from cairnwind.commands.declaring import Command
from cairnwind.commands.paths import braces
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


def with_(name: str, /, **members: Any) -> Any:
    """A form that answers alone have, and no other form."""
    return _WITH.setdefault(name, TypedDict(name, members))  # type: ignore[operator]


_WITH: dict[str, Any] = {}


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
WHOLE: Schema = {"type": "integer"}
COUNT: Schema = {"type": "integer", "minimum": 0, "maximum": 2**62}
FLAG: Schema = {"type": "boolean"}
_TURN: dict[str, Schema] = reading.schema(COMMANDS["turn"])["properties"]
SPAN, SETTING = _TURN["over"], _TURN["setting"]
ROLE: Schema = {"type": "string", "enum": ["watch", "operate", "keep"]}
WAIT = {"wait": {**SPAN, "description": "How long to wait for what becomes of it; 10 s at most."}}
CLAIM = {name: schema for name, schema in _TURN.items() if name != "output"}
HOURS: dict[str, Schema] = {
    "days": many({"type": "string", "enum": ["mo", "tu", "we", "th", "fr", "sa", "su"]}),
    "from": {"type": "string", "pattern": "^([01][0-9]|2[0-3]):[0-5][0-9]$"}, "to": {"type": "string", "pattern": "^([01][0-9]|2[0-3]):[0-5][0-9]$"},
    "until": {"type": "string", "description": "A date, which counts to its end, or RFC 3339."},
}  # fmt: skip
LIMITS: dict[str, Schema] = {"only": {**many(TEXT), "minItems": 1}, **HOURS}
SCHEDULE: dict[str, Schema] = reading.schema(COMMANDS["add_schedule"])["properties"]
PAST = {"from": TEXT, "to": TEXT}


CHANGES: dict[str, Any] = reading.schema(COMMANDS["change_site"])["properties"]["changes"]
EDITS = COMMANDS["change_site"].example
STREAM = "text/event-stream"


class Call(NamedTuple):
    """One method of one address. ``path`` as the application has it, with ``<name>`` for what varies."""

    method: str
    path: str
    role: str
    says: str
    answer: Any = None
    """The form of the answer, or its media type where it is no JSON."""
    body: Schema | str | None = None
    query: dict[str, Schema] = {}  # noqa: RUF012 - never changed
    status: int = 200
    optional: bool = False
    """It may come without a body."""
    repeat: bool = False
    """It takes an Idempotency-Key."""
    examples: dict[str, str] = {}  # noqa: RUF012 - never changed
    """Of what varies in its address."""
    dry: Any = None
    """What it answers with status 200, where it is asked to do nothing."""
    secret: bool = False
    """What is sent or answered holds a key, a link, a token or a passcode, and is not to be seen by anybody else."""

    @property
    def streams(self) -> bool:
        """It is answered for as long as somebody listens."""
        return bool(self.answer == STREAM)


GALLERY = {"name": "gallery"}
EMPTY = body()

_OTHERS: tuple[Call, ...] = (
    Call("GET", "/", ANYONE, "The console.", "text/html"),
    Call("GET", "/assets/<path:name>", ANYONE, "A file of the console.", "*/*"),
    Call("GET", "/help", ANYONE, "Leads to the docs.", "text/html", status=308),
    Call("GET", "/help/", ANYONE, "The docs.", "text/html"),
    Call("GET", "/help/<path:name>", ANYONE, "A page of the docs, or what belongs to one.", "*/*", examples={"name": "index.html"}),
    Call("GET", "/manifest.webmanifest", ANYONE, "What the console is called once it is installed on a device.", "application/manifest+json"),
    Call("GET", "/icon.svg", ANYONE, "Its mark.", "image/svg+xml"),
    Call("GET", "/worker.js", ANYONE, "What keeps its own files for a device without a network; nothing of the site.", "text/javascript"),
    Call("GET", "/healthz", ANYONE, "Whether the engine runs.", with_("Health", health=str, version=str, clock=str)),
    Call("GET", "/readyz", ANYONE, "Whether commands will be recorded.", with_("Ready", ready=bool)),
    Call("GET", "/.well-known/wot", "watch", "The W3C Thing Description of what the key may command.", "application/td+json"),
    Call("GET", "/openapi.json", "watch", "This description, OpenAPI 3.1.", forms.Free),
    Call("GET", "/metrics", "watch", "Figures of the service, its boards, outputs and inputs, as OpenMetrics.", "application/openmetrics-text"),
    Call("GET", "/site", "watch", "The site as a whole: name, time zone, all-stop, lockouts, trips, alarms, whether the journal can be written.", forms.Site),
    Call("GET", "/outputs", "watch", "Outputs from wish to pin: all, or a page of `limit` after the one named `after`.", list[forms.Output],
         query={"limit": {"type": "integer", "minimum": 1, "maximum": 10000}, "after": TEXT}),
    Call("GET", "/outputs/<name>", "watch", "One output.", forms.Output, examples=GALLERY),
    Call("GET", "/outputs/<name>/trace", "watch", "How it was decided about it, phase by phase: now, and what came since somebody began to look, or `after` a number. It is looked at for a minute after each call.",
         forms.Traces, query={"after": COUNT}, examples=GALLERY),
    Call("GET", "/outputs/<name>/why", "watch", "Why it is as it is, or (`at`) was.", forms.Why, query={"at": TEXT}, examples=GALLERY),
    Call("GET", "/written/<name>", "watch", "What the site file says of an output, an input or a board, and what else it could.", forms.Written, examples=GALLERY),
    Call("GET", "/outputs/<name>/curve", "watch", "Level, duty and count in steps of 5 %.", forms.Curve, examples=GALLERY),
    Call("GET", "/outputs/<name>/codes", "keep", "Who has a passcode; never the codes.", with_("Codes", codes=list[forms.Code])),
    Call("PUT", "/outputs/<name>/codes/<path:owner>", "keep", "Gives somebody a passcode.", forms.CodeOf,
         body("code", code=SAID, once=FLAG, **HOURS), status=201, secret=True),
    Call("DELETE", "/outputs/<name>/codes/<path:owner>", "keep", "Takes a passcode away.", forms.CodeOf),
    Call("GET", "/inputs", "watch", "Every input.", list[forms.Input]),
    Call("GET", "/inputs/<name>", "watch", "One input.", forms.Input, examples={"name": "kiln-door"}),
    Call("PUT", "/inputs/<name>/simulated", "operate", "Works an input of a simulated board.", with_("Pretended", input=str, pretended=Any, seen=str),
         body(state={"type": ["string", "boolean"]}, volts={"type": ["string", "number"]}, example={"state": "closed"}), examples={"name": "kiln-door"}),
    Call("GET", "/boards", "watch", "Every board.", list[forms.Board]),
    Call("GET", "/boards/<name>", "watch", "One board, with rate and errors of its link.", forms.BoardWhole, examples={"name": "shelf"}),
    Call("GET", "/boards/<name>/pins", "watch", "Its positions or lines: numbers, functions, user, level, trial.", list[forms.PinForm], examples={"name": "shelf"}),
    Call("GET", "/boards/<name>/traffic", "operate", "What went over its wire after a number.", forms.Traffic, query={"after": COUNT}, examples={"name": "shelf"}),
    Call("PUT", "/boards/<board>/pins/<pin>/trial", "operate", TryPin.help(), forms.TriedPin,
         reading.schema(TryPin, frozenset(("board", "pin"))), examples={"board": "shelf", "pin": "J2-10"}),
    Call("GET", "/claims", "watch", "The claims that stand.", list[forms.Claim]),
    Call("GET", "/claims/<int:claim>", "watch", "One claim, while it stands.", forms.Claim),
    Call("PATCH", "/claims", "operate", "Renews several leases at once: one connection keeps many holds.", forms.Outcomes, body("claims", claims={**many(COUNT), "minItems": 1, "maxItems": 1000})),
    Call("POST", "/commands", "operate", "Several claims, each with its setting; `output` may be a group. Checked whole, answered one by one.", forms.Outcomes,
         body("claims", claims={**many(body("output", output=SAID, **CLAIM)), "minItems": 1, "maxItems": 1000},
              example={"claims": [{"output": "gallery", "setting": "40 %"}, {"output": "bench-lamp", "setting": "on"}]}), status=201),
    Call("POST", "/programs", "operate", "One setting or program for several outputs, begun at the same moment.", forms.Outcomes,
         body("outputs", outputs={**many(TEXT), "minItems": 1, "maxItems": 1000, "uniqueItems": True}, **CLAIM,
              example={"outputs": ["gallery", "window"], "program": {"kind": "breathe", "in": "3 s"}, "for": "1 min"}), status=201),
    Call("POST", "/programs/preview", "watch", "What a program would do: curve, length, writes.", forms.Preview,
         body("output", output=SAID, program=CLAIM["program"], setting=SETTING, over=SPAN, place=WHOLE, of=WHOLE, example={"output": "gallery", "setting": "70 %", "over": "3 s"})),
    Call("POST", "/phrases", "operate", "Does what a phrase says, or what people say aloud, and says a sentence back; `dry`: what it would do. A question does nothing, and is answered. 400 `asks-back` has `choices`.",
         forms.Outcome, body("phrase", phrase=SAID, dry=FLAG, **WAIT, example={"phrase": "turn gallery to half for 10 min"}),
         status=201, dry=(forms.Dry, forms.Answered), repeat=True),
    Call("GET", "/scenes", "watch", "The scenes of the site file.", list[forms.Scene]),
    Call("GET", "/groups", "watch", "Outputs that are named together.", list[forms.Group]),
    Call("GET", "/tunes", "watch", "The tunes of the site file.", list[forms.Tune]),
    Call("GET", "/pads", "watch", "The pads.", list[forms.Pad]),
    Call("PUT", "/pads/<name>", "operate", "Moves a pad; it counts for a quarter of a second: call it `again` to go on, which moves nothing once that has ended.", forms.Steered,
         body("x y", x={"type": "number", "minimum": -1, "maximum": 1}, y={"type": "number", "minimum": -1, "maximum": 1}, again=FLAG, example={"x": 0, "y": 0.5}), examples={"name": "trolley"}),
    Call("DELETE", "/pads/<name>", "operate", "Lets a pad go.", with_("LetGo", pad=str), examples={"name": "trolley"}),
    Call("GET", "/all-stop", "watch", "Whether everything is stopped.", forms.Stop),
    Call("GET", "/rules", "watch", "Every rule in words, with its state.", with_("Rules", rules=list[forms.Rule])),
    Call("POST", "/questions", "watch", "Whether something is so (null: not known), and what is so instead.", forms.Answered,
         body("question", question=SAID, example={"question": "kiln-door is closed"})),
    Call("GET", "/trips", "watch", "Trips in force.", with_("Trips", trips=list[forms.Trip])),
    Call("GET", "/alarms", "watch", "Alarms that are not over.", with_("Alarms", alarms=list[forms.Alarm])),
    Call("GET", "/plan", "watch", "Schedules, and when they are next; timers.", forms.Plan),
    Call("GET", "/plan/spans", "watch", "When each schedule is on.", forms.Spans, query=PAST),
    Call("GET", "/plan/schedules/<path:name>", "watch", "One schedule.", forms.Schedule, examples={"name": "late"}),
    Call("GET", "/plan/kit", "watch", "What a rehearsal elsewhere needs.", forms.Kit),
    Call("POST", "/plan/rehearsals", "watch", "What the plan comes to in at most 62 days; with a change also the differences.", forms.Rehearsal,
         body(put=body("name do from", **SCHEDULE), drop=TEXT, example={"from": "2026-11-23", "to": "2026-11-24"}, **PAST)),
    Call("GET", "/plan/calendar", "watch", "The plan as a calendar (RFC 5545).", "text/calendar", query={"key": TEXT}),
    Call("POST", "/plan/calendar", "operate", "Takes a calendar's events as schedules; `dry` only says what it would take.", forms.Taken,
         "text/calendar", query={"dry": TEXT}),
    Call("POST", "/plan/calendar-links", "keep", "An address of the calendar, with a key that reads nothing else; the one before ends.", with_("Link", link=str), EMPTY, optional=True, status=201, secret=True),
    Call("GET", "/plan/timers", "watch", "Timers, and claims that end by time.", list[forms.Timer]),
    Call("GET", "/records/usage", "watch", "Days of outputs.", with_("Days", days=list[forms.Usage]), query={**PAST, "output": TEXT}),
    Call("GET", "/records/readings/<name>", "watch", "Rows of milliseconds, least, mean, greatest.", forms.Readings, query=PAST, examples={"name": "kiln-door"}),
    Call("GET", "/signals", "watch", "What signals did lately; without names what there is.", forms.Signals,
         query={"names": TEXT, "seconds": {"type": "number", "exclusiveMinimum": 0, "maximum": 300}, "after": COUNT}),
    Call("GET", "/signals.vcd", "watch", "The same as IEEE 1364 value changes.", "text/plain", query={"names": TEXT, "seconds": {"type": "number", "exclusiveMinimum": 0, "maximum": 300}}),
    Call("GET", "/signals.csv", "watch", "The same as CSV.", "text/csv", query={"names": TEXT, "seconds": {"type": "number", "exclusiveMinimum": 0, "maximum": 300}}),
    Call("GET", "/supplies", "watch", "What is drawn from each supply now, and by which outputs.", list[forms.Supply]),
    Call("GET", "/doctor", "keep", "What of the service's machine the site's boards need: whether it is there, may be opened, and who holds it.", list[forms.Examined]),
    Call("GET", "/site-file/changes", "keep", "What would change of what is wired if the site file were read anew: a sentence for each output, input, board, remote, rule, scene and schedule.", forms.SiteChanges),
    Call("POST", "/site-file/preview", "keep", "What changes of the site file would come to: its lines, in words, and what the check finds because of them.", forms.SitePreview,
         body("changes", changes=CHANGES, example=EDITS)),
    Call("GET", "/site-file/offers/<what>", "keep", "What may be written of an output, an input, a board, a rule, …, key by key, with only what is possible offered; of the one that is named, what is written.",
         forms.Offers, query={"kind": TEXT, "name": TEXT}, examples={"what": "output"}),
    Call("GET", "/draft", "keep", "One's draft: its changes, what they would come to, and what others have applied since it was begun.", forms.DraftForm),
    Call("POST", "/draft/rehearsals", "keep", "What would be different under one's draft, in at most 62 days to come, or 8 days gone by with what the journal has of them.", forms.DraftRehearsed,
         body("from to", example={"from": "2026-11-23", "to": "2026-11-24"}, **PAST)),
    Call("GET", "/editions", "keep", "Every state of the site file that was applied, the newest first.", list[forms.Edition]),
    Call("GET", "/editions/<int:number>", "keep", "One of them, and what is different in it from the one before, or from the one `against` which it is held.", forms.EditionWhole,
         query={"against": COUNT}, examples={"number": "1"}),
    Call("GET", "/circuits", "watch", "Every wire of the site: where it begins, where it ends; and what parts to buy.", forms.Sheet),
    Call("GET", "/circuits/<name>", "watch", "How an output or an input is wired: parts with their values, wires, what was reckoned with.", forms.Circuit, examples=GALLERY),
    Call("GET", "/circuits/<name>/drawing", "watch", "The same drawn, in black.", "image/svg+xml", examples=GALLERY),
    Call("GET", "/held", "watch", "What has each output when the service does not: after a stop, a kill, a power cut; and the resistor or line that is missing.",
         list[forms.HeldForm]),
    Call("GET", "/sums", "watch", "Sums of wiring that may be asked for, and what each wants to know.", list[forms.Sum]),
    Call("POST", "/sums/<name>", "watch", "What a sum comes to, step by step, for texts with their units.", forms.Reckoned,
         {"type": "object", "additionalProperties": TEXT, "maxProperties": 20, "examples": [{"source": "5 V"}]}, examples={"name": "divider"}),
    Call("GET", "/timers", "watch", "PWM timers that are described.", list[forms.TimerChip]),
    Call("GET", "/timers/<name>/fit", "watch", "How a timer reaches a frequency and a duty.", forms.Fit,
         query={"hertz": TEXT, "duty": TEXT, "first": {"type": "string", "enum": ["error", "resolution"]}}, examples={"name": "header"}),
    Call("GET", "/journal", "watch", "What happened, in pages; `next` is the address of the next one.", forms.Rows,
         query={"limit": {"type": "integer", "minimum": 1, "maximum": 1000}, "before": COUNT, "after": COUNT, "subject": TEXT, "kind": TEXT, "source": TEXT, "words": TEXT, **PAST}),
    Call("GET", "/journal/<int:sequence>", "watch", "One row of the journal.", forms.Row),
    Call("GET", "/events", "watch", "The event stream; goes on after `Last-Event-ID`.", STREAM, query={"after": TEXT}),
    Call("GET", "/events/<kind>", "watch", "What changes of one kind (`output`, `input`, `board`, `site`), each as it reads; with `next` one answer, when something does.",
         STREAM, query={"next": TEXT}, examples={"kind": "output"}),
    Call("GET", "/outputs/<name>/changes", "watch", "An output as it reads, now and whenever it changes; with `next` one answer, when it does.", STREAM,
         query={"next": TEXT}, examples=GALLERY),
    Call("GET", "/inputs/<name>/changes", "watch", "An input as it reads, now and whenever it changes; with `next` one answer, when it does.", STREAM,
         query={"next": TEXT}),
    Call("GET", "/backups", "keep", "The backups that are there, the newest first.", list[forms.Backup]),
    Call("POST", "/backups", "keep", "Makes a backup now; older ones go by the site file's rule.", forms.BackupMade, EMPTY, optional=True, status=201),
    Call("GET", "/backups/<name>", "keep", "A backup itself: a ZIP archive.", "application/zip"),
    Call("GET", "/log", "keep", "The last lines of the log, or those `after` a number; and from which level on its parts say something.", forms.LogLines, query={"after": COUNT}),
    Call("PUT", "/log/levels", "keep", "Has the log, or a `part` of it, say what is at least as grave, until the service ends.", with_("Levels", levels=dict[str, str]),
         body("level", level={"type": "string", "enum": ["debug", "info", "warning", "error"]}, part=SAID, example={"level": "info"})),
    Call("GET", "/remotes", "watch", "The ways in and out that the site file asks for, and how they fare.", list[forms.Remote]),
    Call("GET", "/sites", "watch", "Other sites: of which something is used here, and which use something of this one; with `look` also whoever has left word at the broker, which takes a second.",
         forms.Sites, query={"look": TEXT}),
    Call("GET", "/remotes/<name>/traffic", "keep", "What went over it after a number, raw and decoded.", forms.Traffic, query={"after": COUNT}),
    Call("GET", "/remotes/<name>/map", "watch", "What its addresses stand for.", with_("Map", rows=list[forms.MapRow])),
    Call("PUT", "/remotes/<name>/simulated", "operate", "Presses keys of a simulated keypad.", with_("Pressed", remote=str, pressed=int, said=str),
         body("keys", keys=SAID, example={"keys": "4711#"}), secret=True),
    Call("GET", "/keys", "keep", "Every key, never its text.", with_("Keys", keys=list[forms.Key])),
    Call("POST", "/keys", "keep", "Makes a key; its text is shown here and nowhere else.", with_("NewKey", key=str, name=str), body("name role", name={**SAID, "maxLength": 60}, role=ROLE, **LIMITS,
         example={"name": "hall tablet", "role": "operate", "only": ["gallery"]}), status=201, secret=True),
    Call("GET", "/keys/<path:name>", "keep", "One key, never its text.", forms.Key),
    Call("DELETE", "/keys/<path:name>", "keep", "Revokes a key, with its sessions and streams, at once.", with_("Revoked", name=str), examples={"name": "hall tablet"}),
    Call("POST", "/pairings", "keep", "A link that makes a key and signs a device in with it, once, within 5 minutes; as a QR code too.",
         forms.Pairing, body("name role", name={**SAID, "maxLength": 60}, role=ROLE, **LIMITS, example={"name": "Anna's phone", "role": "operate"}), status=201, secret=True),
    Call("POST", "/sign-in-links", "keep", "A link that signs a browser in with this key, once, within 15 minutes.", with_("Link", link=str), EMPTY, optional=True, status=201, secret=True),
    Call("GET", "/sessions", "keep", "Browsers that are signed in.", with_("Sessions", sessions=list[forms.Session])),
    Call("DELETE", "/sessions/<id>", "keep", "Ends a session and its streams.", with_("EndedSession", id=str)),
    Call("POST", "/session", ANYONE, "Signs a browser in with a link's token.", with_("SignedIn", signed_in=bool), body("token", token=SAID), status=201, secret=True),
    Call("GET", "/session", "watch", "Who one is, and what one may command.", forms.Who),
    Call("DELETE", "/session", "watch", "Signs out.", with_("SignedIn", signed_in=bool)),
)  # fmt: skip


def _of_command(kind: type[Command]) -> Call:
    """The call of a command of the table."""
    inside = paths.inside(kind.path)
    given = reading.schema(kind, inside)
    if kind.waits:
        given["properties"] |= WAIT
    takes = kind.method != "DELETE"
    return Call(
        kind.method, kind.path, kind.role, kind.help(), forms.Outcome, given if takes else None, status=kind.status, repeat=True,
        optional=takes and not given.get("required"), secret=kind.secret,
        examples={name: str(kind.example[name]) for name in inside if name in kind.example},
    )  # fmt: skip


_OWN = {(call.method, call.path) for call in _OTHERS}
CALLS = (*_OTHERS, *(_of_command(kind) for kind in COMMANDS.values() if (kind.method, kind.path) not in _OWN))


def _described() -> tuple[dict[tuple[str, str], Schema], dict[str, Schema]]:
    """The schema of what each call answers, and those of the forms in them. Nothing is in a form that is not described."""
    made = [call for call in CALLS if call.answer is not None and not isinstance(call.answer, str)]
    of_calls, found = msgspec.json.schema_components(
        [*(call.answer for call in made), forms.Problem, forms.Ended, forms.Dry],
        ref_template="#/components/schemas/{name}",
    )
    for name, each in found.items():
        _by_length(each)
        each.pop("title", None)
        if "properties" in each:
            each["additionalProperties"] = name == "Problem"  # beside its own it has what a command answers
    return {
        (call.method, call.path): schema for call, schema in zip(made, of_calls[: len(made)], strict=True)
    }, found


def _by_length(schema: Any) -> None:
    """Say of rows of a fixed length how long they are and no more: not all that read schemas take ``items: false``."""
    if isinstance(schema, dict):
        if schema.get("items") is False and "maxItems" in schema:
            del schema["items"]
        for each in schema.values():
            _by_length(each)
    elif isinstance(schema, list):
        for each in schema:
            _by_length(each)


def full(path: str) -> str:
    """An address as the application has it."""
    outside = (
        "/",
        "/assets/<path:name>",
        "/help",
        "/help/",
        "/help/<path:name>",
        "/healthz",
        "/readyz",
        "/metrics",
        "/.well-known/wot",
        "/manifest.webmanifest",
        "/icon.svg",
        "/worker.js",
    )
    return path if path in outside else V1 + path


ANSWERS, SCHEMAS = _described()
ROLES = {(call.method, full(call.path)): call.role for call in CALLS}
"""The role that each call needs."""


SECRET = {(call.method, full(call.path)) for call in CALLS if call.secret}
"""Calls whose bodies nobody else may see."""


QUERIES = {(call.method, full(call.path)): frozenset(call.query) for call in CALLS}
"""What may stand behind the question mark of each call."""


def role_table() -> str:
    """The table of the docs: each call, its role, what it does."""
    rows = ["| call | role | |", "|---|---|---|"]
    rows += [f"| `{call.method} {braces(full(call.path))}` | {call.role} | {call.says} |" for call in CALLS]
    return "\n".join(rows)


def describe(version: str, url: str) -> dict[str, Any]:
    """The OpenAPI 3.1 description of everything under `V1`."""
    found: dict[str, Any] = {}
    for call in CALLS:
        if full(call.path).startswith(V1):
            found.setdefault(braces(call.path), {})[call.method.lower()] = _operation(call)
    return {
        "openapi": "3.1.0",
        "info": {"title": "Cairnwind", "version": version, "description": "Errors are problem details (RFC 9457). Docs: docs/api.md."},
        "servers": [{"url": url + V1}], "security": [{"key": []}], "paths": found,
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
    for kind, name in paths.parts(call.path):
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
        {call.answer: {}}
        if isinstance(call.answer, str)
        else {"application/json": {"schema": ANSWERS[call.method, call.path]}}
    )
    found: dict[str, Any] = {
        "operationId": f"{word}-{re.sub(r'[^a-z]+', '-', braces(call.path)).strip('-')}", "summary": call.says, "x-role": call.role,
        "tags": [call.path.split("/")[1].split(".")[0]], "parameters": parameters,
        "responses": {str(call.status): {"description": "Done.", "content": content, **_headers(call)}, "default": {"$ref": "#/components/responses/Problem"}},
    }  # fmt: skip
    if call.dry is not None:
        kinds = call.dry if isinstance(call.dry, tuple) else (call.dry,)
        schema = (
            {"oneOf": [ref(each.__name__) for each in kinds]} if len(kinds) > 1 else ref(kinds[0].__name__)
        )
        found["responses"]["200"] = {
            "description": "Only said.",
            "content": {"application/json": {"schema": schema}},
        }
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
