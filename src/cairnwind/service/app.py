"""HTTP: the API under /api/v1, health, and the console's files."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable, Sequence
from functools import partial
from importlib.resources import files
from pathlib import Path
from typing import Any
from urllib.parse import quote
from zoneinfo import ZoneInfo

from flask import Flask, Response, request, send_from_directory
from werkzeug.exceptions import HTTPException

from cairnwind import __version__, oneid
from cairnwind.commands.declaring import Command
from cairnwind.commands.paths import inside
from cairnwind.commands.reading import names, read
from cairnwind.commands.table import COMMANDS
from cairnwind.core.engine.answering import OUTCOMES_WORST_FIRST
from cairnwind.core.explain.past import why_then
from cairnwind.core.explain.why import Why, if_wanted, why, with_budgets, with_clock, with_notes
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.now import OutputNow
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.values import spokentimes
from cairnwind.core.values.errors import CallerError, Trouble, unknown
from cairnwind.remotes.remote import Remote
from cairnwind.service import shapes
from cairnwind.service.asked import CALLER, answer, caller, caller_key, json_body, waits, whole
from cairnwind.service.backupviews import BackupViews
from cairnwind.service.boardviews import BoardViews
from cairnwind.service.calls import V1
from cairnwind.service.desk import Desk
from cairnwind.service.door import Door
from cairnwind.service.helpviews import HelpViews
from cairnwind.service.keyviews import KeyViews
from cairnwind.service.lightviews import LightViews
from cairnwind.service.logviews import LogViews
from cairnwind.service.meters import Meters
from cairnwind.service.metrics import Metrics
from cairnwind.service.packing import pack
from cairnwind.service.planviews import PlanViews
from cairnwind.service.problems import OF_OUTCOME, from_http, from_trouble, problem
from cairnwind.service.remoteviews import RemoteViews
from cairnwind.service.repeats import Repeats
from cairnwind.service.ruleviews import RuleViews
from cairnwind.service.safeviews import SafeViews
from cairnwind.service.server import HANDOVER
from cairnwind.service.sitesviews import SitesViews
from cairnwind.service.siteviews import SiteViews
from cairnwind.service.snapshot import output_body
from cairnwind.service.startup import clock
from cairnwind.service.stream import DRESS, KINDS, Choice
from cairnwind.service.traces import LOOKED_AT
from cairnwind.service.waveforms import Waveforms
from cairnwind.service.wire import Wire
from cairnwind.service.wiringviews import WiringViews
from cairnwind.site.written import written

log = logging.getLogger("cairnwind.http")
LARGEST = 64 << 10
NOTES = 3
"""That are shown with the reasons of an output."""


def make_app(desk: Desk, door: Door, wire: Wire, remotes: Sequence[Remote] = ()) -> Flask:
    """The WSGI application of one service."""
    app = Flask("cairnwind", static_folder=None)
    app.config["MAX_CONTENT_LENGTH"] = LARGEST
    api = _Api(desk, remotes)
    app.before_request(_begin)
    app.before_request(door.admit)
    app.after_request(pack)  # after all that looks at an answer
    app.after_request(wire.note)
    app.after_request(_end)
    app.after_request(partial(_meter, desk.runtime.meters))
    app.register_error_handler(Trouble, from_trouble)
    app.register_error_handler(HTTPException, from_http)
    app.register_error_handler(Exception, _at_fault)
    for (method, rule), view in api.views().items():
        app.add_url_rule(rule, f"{method} {rule}", view, methods=[method], provide_automatic_options=False)
    return app


def _begin() -> None:
    oneid.begin(request.environ.get("HTTP_X_REQUEST_ID", ""))
    request.environ[BEGAN] = time.monotonic()


def _meter(meters: Meters, response: Response) -> Response:
    """Count how long it took; not where somebody waits for a change."""
    waited = request.args.get("next") or response.content_type == "text/event-stream"
    if not waited:
        meters.answers[request.method == "GET"].see(time.monotonic() - request.environ[BEGAN])
    return response


def _end(response: Response) -> Response:
    """Say which request was answered, to whoever asked and, where that is wanted, to the log."""
    response.headers[oneid.HEADER] = oneid.current()
    if log.isEnabledFor(logging.DEBUG):
        environ = request.environ
        key = environ.get(CALLER)
        more = {
            "method": environ["REQUEST_METHOD"], "path": environ["PATH_INFO"], "status": response.status_code, "from": environ.get("REMOTE_ADDR", ""),
            "key": key[1].who if key else "", "ms": round((time.monotonic() - environ[BEGAN]) * 1000, 2),
        }  # fmt: skip
        log.debug("answered", extra={"more": more})
    return response


BEGAN = "cairnwind.began"
BESIDE = {
    "manifest.webmanifest": "application/manifest+json", "icon.svg": "image/svg+xml", "worker.js": "text/javascript",
}  # fmt: skip
"""Files of the console at the root, and what they are."""


class _Api:
    """The views. Each turns a request into a command, or a snapshot into a response."""

    def __init__(self, desk: Desk, remotes: Sequence[Remote]) -> None:
        self.desk, self.runtime, self.remotes = desk, desk.runtime, remotes
        self.repeats = Repeats(self.runtime.reader)
        self.console = Path(str(files("cairnwind.service").joinpath("console")))

    @property
    def zone(self) -> ZoneInfo:
        """The site's time zone."""
        return ZoneInfo(self.site.timezone)

    @property
    def site(self) -> Site:
        """The site as it is wired now."""
        return self.runtime.site

    def views(self) -> dict[tuple[str, str], Callable[..., Any]]:
        """Every method of every address, and its view; of commands those that do more by HTTP than elsewhere have one of their own."""
        found = {(kind.method, f"{V1}{kind.path}"): self._command(kind) for kind in COMMANDS.values()}
        found |= {
            (method, rule): view
            for rule, methods in self.routes().items()
            for method, view in methods.items()
        }
        return found

    def routes(self) -> dict[str, dict[str, Callable[..., Any]]]:
        """Every address, its methods and its views."""
        v1 = "/api/v1"
        return {
            "/": {"GET": self.page},
            "/assets/<path:name>": {"GET": self.asset},
            **{f"/{name}": {"GET": partial(self.beside, name)} for name in BESIDE},
            "/healthz": {"GET": self.health},
            "/readyz": {"GET": self.ready},
            **Metrics(self.desk, self.remotes).routes(),
            **HelpViews().routes(),
            f"{v1}/site": {"GET": self.get_site},
            f"{v1}/outputs": {"GET": self.get_outputs},
            f"{v1}/outputs/<name>": {"GET": self.get_output},
            f"{v1}/outputs/<name>/why": {"GET": self.get_why},
            f"{v1}/written/<name>": {"GET": self.get_written},
            f"{v1}/outputs/<name>/trace": {"GET": self.get_trace},
            f"{v1}/inputs": {"GET": self.get_inputs},
            f"{v1}/inputs/<name>": {"GET": self.get_input},
            f"{v1}/boards": {"GET": self.get_boards},
            **BoardViews(self.desk).routes(v1),
            **LightViews(self.desk).routes(v1),
            **PlanViews(self.desk, self._perform).routes(v1),
            **RuleViews(self.desk).routes(v1),
            **SafeViews(self.desk).routes(v1),
            **SiteViews(self.desk).routes(v1),
            **WiringViews(self.desk).routes(v1),
            **Waveforms(self.runtime.signals).routes(v1),
            **KeyViews(self.desk).routes(v1),
            **RemoteViews(self.desk, self.remotes).routes(v1),
            **SitesViews(self.desk, self.remotes).routes(v1),
            **BackupViews(self.desk).routes(v1),
            **LogViews().routes(v1),
            f"{v1}/groups": {"GET": self.get_groups},
            f"{v1}/claims": {"GET": self.get_claims, "PATCH": self.renew_claims},
            f"{v1}/claims/<int:claim>": {"GET": self.get_claim},
            f"{v1}/all-stop": {"GET": self.get_stop},
            f"{v1}/journal": {"GET": self.get_journal},
            f"{v1}/journal/<int:sequence>": {"GET": self.get_row},
            f"{v1}/events": {"GET": self.events},
            f"{v1}/events/<kind>": {"GET": self.events_of},
            f"{v1}/outputs/<name>/changes": {"GET": self.output_changes},
            f"{v1}/inputs/<name>/changes": {"GET": self.input_changes},
        }

    # --- reading ------------------------------------------------------------------------------------------

    def get_site(self) -> Response:
        return self._cached(lambda: self.runtime.publisher.current.site.body)

    def get_outputs(self) -> Response:
        limit, after = whole("limit", None, 1, 10_000), request.args.get("after")
        if limit is None and after is None:
            return self._cached(lambda: self.runtime.publisher.current.outputs_body())
        if after:
            self._output(after)
        names = list(self.site.outputs)
        first = names.index(after) + 1 if after else 0
        end = first + (limit or len(names))
        some = self.runtime.publisher.current.nows[first:end]
        response = Response(b"[" + b",".join(map(output_body, some)) + b"]", content_type="application/json")
        if end < len(names):
            response.headers["Link"] = f'</api/v1/outputs?limit={limit}&after={names[end - 1]}>; rel="next"'
        return response

    def get_groups(self) -> Response:
        return answer(
            [{"name": name, "outputs": list(outputs)} for name, outputs in self.runtime.site.groups.items()]
        )

    def get_output(self, name: str) -> Response:
        self._output(name)
        return self._cached(lambda: output_body(self._now(name)))

    def _now(self, name: str) -> OutputNow:
        found = self.runtime.publisher.find(name)
        assert found is not None, "there is an output of this name"
        return found

    def get_written(self, name: str) -> Response:
        """What the site file says of an output, an input or a board."""
        table, found = written(self.site, name)
        return answer(
            {
                "name": name,
                "table": table,
                "keys": [
                    {
                        "name": key.name, "says": key.says, "value": value, "unsaid": key.unsaid, "needed": bool(key.needed),
                        "choices": list(key.choices),
                    }
                    for key, value in found
                ],
            }
        )  # fmt: skip

    def get_why(self, name: str) -> Response:
        """Why an output is as it is, or (``at``) as it was."""
        clocks = shapes.local(self.zone)
        if (at := request.args.get("at")) is not None:
            wall = spokentimes.wall(at, self.zone, clock().wall)
            called = name if name in self.site.outputs else self.runtime.reader.called().now(name, wall)
            output = self._output(called if called in self.site.outputs else name)
            return answer(shapes.why_form(self._then(output, wall, clocks)))
        output = self._output(name)
        now = self._now(name)
        reasons = why(now, clocks)
        reasons = with_budgets(reasons, self.runtime.engine.left(name, clock()), clocks)
        behind = self.runtime.publisher.current.site_now.clock
        if behind and any(
            name in each.course.outputs for each in list(self.runtime.engine.planning.schedules.values())
        ):
            reasons = with_clock(reasons, behind)
        if not (now.leader is not None and now.leader.setting.on) and output.takes == "level":
            outcome = self.runtime.against(caller(), name)
            if outcome is not None:
                reasons = if_wanted(reasons, output, outcome.reason, outcome.remedy)
        notes = self.runtime.reader.journal(subject=name, kind="note", limit=NOTES)
        reasons = with_notes(reasons, [(row.wall, row.source, row.data["note"]) for row in notes], clocks)
        return answer(shapes.why_form(reasons))

    def get_trace(self, name: str) -> Response:
        """How it was decided about an output: now, and what came since somebody began to look, or (``after``) after a number."""
        self._output(name)
        after = whole("after", None)
        for now in (False,) if after is not None else (False, True):
            look = ev.Trace(clock(), self.runtime.command_id(), caller(), name, LOOKED_AT, now)
            if self.runtime.ask(look) is None:
                raise CallerError("busy", "The engine has no time for that.", "Ask again in a moment.")
        found = self.runtime.traces.since(name, after or 0)
        form = [shapes.trace_form(number, each) for number, each in found]
        return answer({"output": name, "traces": form})

    def _then(self, output: Output, wall: int, clocks: Callable[[int], str]) -> Why:
        """Why it was so: from the last checkpoint before that moment, and the rows since; from what there is, where there is none."""
        reader, board = self.runtime.reader, output.pin.board
        forgotten = reader.fact("forgotten")
        if forgotten is not None and wall < forgotten["wall"]:
            raise CallerError(
                "bad-value",
                f"The journal reaches back to {clocks(forgotten['wall'])}; what was before has gone.",
                "Ask for a later moment. How long it is kept: journal_age and journal_size in [service].",
            )
        called = reader.called()
        reached, kept = reader.kept(reader.once(output.name), wall)
        if kept is not None:
            rows = reader.since(reached, [*reader.once(output.name), *reader.once(board), ""], wall)
        else:
            rows = [
                row
                for subject, limit in ((output.name, 500), (board, 50), ("", 500))
                for row in reader.journal(subject=subject, end=wall + 1, limit=limit)
            ]
        named = ((row, called.now(row.subject, row.wall)) for row in sorted(rows, key=lambda row: row.seq))
        mine = [
            (row.wall, row.kind, name, row.text, row.data)
            for row, name in named
            if name in (output.name, board, "")
        ]
        return why_then(output, mine, clocks, kept)

    def get_inputs(self) -> Response:
        return self._cached(lambda: self.runtime.publisher.current.inputs_body())

    def get_input(self, name: str) -> Response:
        self._input(name)
        return self._cached(lambda: self.runtime.publisher.current.inputs[name].body)

    def get_boards(self) -> Response:
        return self._cached(lambda: self.runtime.publisher.current.boards_body())

    def get_claims(self) -> Response:
        nows = self.runtime.publisher.current.nows
        return answer([shapes.claim(now.output, each) for now in nows for each in now.claims])

    def get_claim(self, claim: int) -> Response:
        found = self.runtime.slots.claims.get(claim)
        if found is None:
            raise CallerError("no-claim", f"There is no claim {claim}; it may have ended.", "Make a new one.")
        return answer(shapes.claim(self.site.outputs[found.output], found))

    def get_stop(self) -> Response:
        return answer(shapes.stop_form(self.runtime.publisher.current.site_now.stop))

    def get_journal(self) -> Response:
        limit = whole("limit", 100, 1, 1000) or 100
        before, after = whole("before", None), whole("after", None)
        if before is not None and after is not None:
            raise CallerError(
                "bad-value", "'before' and 'after' cannot be given together.", "Page in one direction."
            )
        asked = {
            name: request.args.get(name) for name in ("subject", "kind", "source", "words", "from", "to")
        }
        begin, end = (
            spokentimes.wall(at, self.zone, clock().wall) if (at := asked[name]) else None
            for name in ("from", "to")
        )
        found = self.runtime.reader.journal(
            before=before, after=after, subject=asked["subject"], kind=asked["kind"], source=asked["source"], words=asked["words"],
            begin=begin, end=end, limit=limit,
        )  # fmt: skip
        form: dict[str, Any] = {"rows": [shapes.row_form(row) for row in found], "next": None}
        if len(found) == limit:
            kept = "".join(f"&{name}={quote(value, safe='')}" for name, value in asked.items() if value)
            form["next"] = (
                f"/api/v1/journal?{'after' if after is not None else 'before'}={found[-1].seq}&limit={limit}{kept}"
            )
        return answer(form)

    def get_row(self, sequence: int) -> Response:
        found = (
            self.runtime.reader.journal(after=sequence - 1, before=sequence + 1, limit=1)
            if sequence < 2**62
            else []
        )
        if not found:
            raise CallerError(
                "unknown-name", f"The journal has no row {sequence}.", "See: cairnwind journal."
            )
        return answer(shapes.row_form(found[0]))

    def events(self) -> Response:
        """Everything that changes."""
        return self._stream(None)

    def events_of(self, kind: str) -> Response:
        """What changes of one kind, each as it reads."""
        if kind not in KINDS:
            raise unknown("kind of event", kind, KINDS)
        return self._stream(Choice(kind))

    def output_changes(self, name: str) -> Response:
        """An output, whenever it changes, as it reads."""
        self._output(name)
        return self._stream(Choice("output", name), lambda: output_body(self._now(name)))

    def input_changes(self, name: str) -> Response:
        """An input, whenever it changes, as it reads."""
        self._input(name)
        return self._stream(Choice("input", name), lambda: self.runtime.publisher.current.inputs[name].body)

    def _stream(self, choice: Choice | None, now: Callable[[], bytes] | None = None) -> Response:
        """Hand the connection over to the event stream; with ``next`` it is answered once, when something changes."""
        if request.method == "HEAD":
            return Response(content_type="text/event-stream")
        stream = self.runtime.stream
        handover = request.environ.get(HANDOVER)
        if stream is None or handover is None:
            raise CallerError("busy", "The event stream is not open.", "Try again in a moment.")
        last = request.headers.get("Last-Event-ID") or request.args.get("after")
        if choice is not None and "next" in request.args:
            choice = choice._replace(once=True)
        connection, owner = handover()
        head = b"HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nConnection: close\r\n" + DRESS
        stream.adopt(
            connection, owner, last, head + b"\r\nretry: 500\n\n", request.environ[CALLER][2], choice, now
        )
        return Response()

    def health(self) -> Response:
        if self.runtime.alive:
            return answer(
                {
                    "health": "good",
                    "version": __version__,
                    "clock": self.runtime.publisher.current.site_now.clock,
                }
            )
        return problem("engine", f"The engine has stopped: {self.runtime.failure}.", "Restart the service.")

    def ready(self) -> Response:
        now = self.runtime.publisher.current.site_now
        if not self.runtime.alive or not now.recording:
            return problem("busy", now.trouble or "The engine has stopped.", "See the service's log.")
        return answer({"ready": True})

    # --- commands -----------------------------------------------------------------------------------------

    def renew_claims(self) -> Response:
        """Several leases go on: an outcome for each, the worst as their own."""
        numbers = json_body({"claims"}).get("claims")
        if (
            not isinstance(numbers, list)
            or not 1 <= len(numbers) <= 1000
            or not all(type(each) is int for each in numbers)
        ):
            raise CallerError(
                "bad-value", "The request has no list of 1 to 1000 'claims'.", "Send their numbers."
            )
        # one that has ended does not end the others
        claims = [claim for each in numbers if (claim := self.runtime.slots.claims.get(each)) is not None]
        at, by = clock(), caller()
        found = self.desk.submit_all(
            [ev.Renew(at, self.runtime.command_id(), by, claim.output, claim.slot) for claim in claims]
        )
        forms = [
            shapes.outcome_form(outcome, self.site.outputs[claim.output])
            for outcome, claim in zip(found, claims, strict=True)
        ]
        there = {claim.id for claim in claims}
        if gone := [each for each in numbers if each not in there]:
            ended = ", ".join(map(str, gone))
            return problem(
                "no-claim", f"There is no claim {ended}; it may have ended.", "Make a new one.", outcome="refused", outcomes=forms, ended=gone
            )  # fmt: skip
        worst = min((form["outcome"] for form in forms), key=OUTCOMES_WORST_FIRST.index)
        if worst in OF_OUTCOME:
            first = next(form for form in forms if form["outcome"] == worst)
            return problem(
                OF_OUTCOME[worst], f"{first['output']}: {first['reason']}.", outcome=worst, outcomes=forms
            )
        return answer({"outcome": worst, "outcomes": forms})

    def _command(self, kind: type[Command]) -> Callable[..., Response]:
        """The view of a command of the table: what stands in the address and in the body, read as it declares that."""
        known = {*names(kind), *(("wait",) if kind.waits else ())} - inside(kind.path)

        def view(**address: Any) -> Response:
            body = json_body(known, empty=True) if kind.method != "DELETE" else {}
            wait = waits(body)
            body.pop("wait", None)
            return self._perform(read(kind, {**body, **address}), wait)

        return view

    def _perform(self, command: Command, wait: float = 0.0) -> Response:
        """Have a command decided, once if it carries an Idempotency-Key, and answer with its outcome."""

        def decide(repeat: tuple[str, str, str] | None) -> dict[str, Any]:
            return self.desk.perform(caller(), command, repeat=repeat, wait=wait)

        token = request.headers.get("Idempotency-Key")
        if token is None:
            form = decide(None)
        else:
            scope = f"{caller_key().id} {request.method} {request.path}"
            form = self.repeats.once(scope, token, request.get_data(), decide)
        code = OF_OUTCOME.get(form["outcome"])
        if code is None or (code == "unreachable" and form["claim"]):
            response = answer(form, command.status)
            if command.status == 201:
                response.headers["Location"] = f"{V1}{_made(form)}"
            return response
        name = f"{form['output']}: " if form["output"] else ""
        return problem(code, f"{name}{form['reason'] or form['outcome']}.", **form)

    # --- the console --------------------------------------------------------------------------------------

    def page(self) -> Response:
        if not (self.console / "index.html").exists():
            return problem(
                "no-page", "The console has not been built.", "Run 'make console', or use the command line."
            )
        return send_from_directory(self.console, "index.html")

    def beside(self, name: str) -> Response:
        """A file beside the page, which has to be at the root."""
        response = send_from_directory(self.console, name, mimetype=BESIDE[name])
        response.headers["Cache-Control"] = "no-cache"
        return response

    def asset(self, name: str) -> Response:
        response = send_from_directory(self.console / "assets", name)
        response.headers["Cache-Control"] = "public, max-age=31536000, immutable"  # names carry a hash
        return response

    # --- small helpers ------------------------------------------------------------------------------------

    def _output(self, name: str) -> Output:
        output = self.site.outputs.get(name)
        if output is None:
            raise unknown("output", name, self.site.outputs)
        return output

    def _input(self, name: str) -> None:
        if name not in self.site.inputs:
            raise unknown("input", name, self.site.inputs)

    def _cached(self, body: Callable[[], bytes]) -> Response:
        """The body with an ETag of the snapshot, or 304 if the reader has it."""
        stream = self.runtime.stream
        tag = f"{stream.epoch if stream else ''}-{self.runtime.publisher.current.version}"
        headers = {"ETag": f'W/"{tag}"'}  # the same in other bytes, where it is compressed
        if "If-None-Match" in request.headers and request.if_none_match.contains_weak(tag):
            return Response(status=304, headers={**headers, "Vary": "Accept-Encoding"})
        return Response(body(), content_type="application/json", headers=headers)


def _made(form: dict[str, Any]) -> str:
    """Where what a command made is found: its claim, its schedule, else its row in the journal."""
    if form["claim"]:
        return f"/claims/{form['claim']['id']}"
    if "schedule" in form:
        return f"/plan/schedules/{quote(form['schedule']['name'], safe='')}"
    return f"/journal/{form['sequence']}"


def _at_fault(error: Exception) -> Response:
    log.exception("%s %s failed", request.method, request.path)
    return problem(
        "engine",
        "Cairnwind failed on this request; the log says more.",
        "Nothing was changed by it unless the journal says so.",
    )
