"""HTTP: the API under /api/v1, health, and the console's files."""

from __future__ import annotations

import logging
from collections.abc import Callable
from datetime import datetime
from importlib.resources import files
from pathlib import Path
from typing import Any
from urllib.parse import quote
from zoneinfo import ZoneInfo

from flask import Flask, Response, request, send_from_directory
from werkzeug.exceptions import HTTPException

from cairnwind import __version__
from cairnwind.core import events as ev
from cairnwind.core.claims import (
    PERSON,
    RELEASED,
    TAKEOVER,
    Claim,
    Lifetime,
    Rank,
    Source,
    lasting,
    lease,
    until,
)
from cairnwind.core.errors import CallerError, Trouble, unknown
from cairnwind.core.model import Output
from cairnwind.core.past import Row, why_then
from cairnwind.core.quantities import NS, duration
from cairnwind.core.why import if_wanted, why
from cairnwind.service import shapes
from cairnwind.service.asked import CALLER, answer, caller, caller_key, json_body, need, text, waits, whole
from cairnwind.service.boardviews import BoardViews
from cairnwind.service.first import clock
from cairnwind.service.keys import Keys
from cairnwind.service.lightviews import CLAIM, LightViews, wanted, wish
from cairnwind.service.planviews import CALENDAR, PlanViews, moment_of
from cairnwind.service.problems import OF_OUTCOME, from_http, from_trouble, problem
from cairnwind.service.repeats import Repeats
from cairnwind.service.runtime import Runtime
from cairnwind.service.safeviews import SafeViews
from cairnwind.service.server import HANDOVER, HEADERS
from cairnwind.service.waveforms import Waveforms
from cairnwind.store.reader import Key

log = logging.getLogger("cairnwind.http")
LARGEST = 64 << 10
HOSTS = ("127.0.0.1", "localhost", "[::1]")
SURFACES = {"cairnwind-command-line": "command line", "cairnwind-client": "client"}
LEASE = NS
"""A hold's lease unless it says otherwise."""
CALENDAR_PATH = "/api/v1/plan/calendar"
SHORTEST_LEASE, LONGEST_LEASE = NS // 10, 60 * NS


def make_app(runtime: Runtime, keys: Keys) -> Flask:
    """The WSGI application of one runtime."""
    app = Flask("cairnwind", static_folder=None)
    app.config["MAX_CONTENT_LENGTH"] = LARGEST
    api = _Api(runtime, keys)
    app.before_request(api.admit)
    app.register_error_handler(Trouble, from_trouble)
    app.register_error_handler(HTTPException, from_http)
    app.register_error_handler(Exception, _at_fault)
    for rule, methods in api.routes().items():
        for method, view in methods.items():
            app.add_url_rule(
                rule, f"{method} {rule}", view, methods=[method], provide_automatic_options=False
            )
    return app


class _Api:
    """The views. Each turns a request into a command, or a snapshot into a response."""

    def __init__(self, runtime: Runtime, keys: Keys) -> None:
        self.runtime = runtime
        self.site = runtime.site
        self.keys = keys
        self.repeats = Repeats(runtime.reader)
        self._sources: dict[tuple[int, str], Source] = {}
        """One for each key and surface, shared by all claims made through it."""
        self.zone = ZoneInfo(self.site.timezone)
        self.console = Path(str(files("cairnwind.service").joinpath("console")))

    def routes(self) -> dict[str, dict[str, Callable[..., Any]]]:
        """Every address, its methods and its views."""
        v1 = "/api/v1"
        return {
            "/": {"GET": self.page},
            "/assets/<path:name>": {"GET": self.asset},
            "/healthz": {"GET": self.health},
            "/readyz": {"GET": self.ready},
            f"{v1}/site": {"GET": self.get_site},
            f"{v1}/outputs": {"GET": self.get_outputs},
            f"{v1}/outputs/<name>": {"GET": self.get_output},
            f"{v1}/outputs/<name>/why": {"GET": self.get_why},
            f"{v1}/outputs/<name>/claim": {"DELETE": self.release_person},
            f"{v1}/outputs/<name>/lockouts/<tag>": {"PUT": self.lock, "DELETE": self.unlock},
            f"{v1}/inputs": {"GET": self.get_inputs},
            f"{v1}/inputs/<name>": {"GET": self.get_input},
            f"{v1}/boards": {"GET": self.get_boards},
            **BoardViews(self.runtime).routes(v1),
            **LightViews(self.runtime, self._lifetime).routes(v1),
            **PlanViews(self.runtime, self.repeats, self.keys).routes(v1),
            **SafeViews(self.runtime, self._do).routes(v1),
            **Waveforms(self.runtime.signals).routes(v1),
            f"{v1}/claims": {"GET": self.get_claims, "POST": self.make_claim},
            f"{v1}/claims/<int:number>": {"PATCH": self.renew_claim, "DELETE": self.release_claim},
            f"{v1}/all-stop": {"GET": self.get_stop, "PUT": self.stop, "DELETE": self.reset_stop},
            f"{v1}/journal": {"GET": self.get_journal},
            f"{v1}/events": {"GET": self.events},
            f"{v1}/sign-in-links": {"POST": self.make_link},
            f"{v1}/session": {"POST": self.sign_in, "GET": self.who, "DELETE": self.sign_out},
        }

    # --- who is asking ------------------------------------------------------------------------------------

    def admit(self) -> Response | None:
        """Check host, key or session, and origin, before any view."""
        environ = request.environ
        host, path, method = environ.get("HTTP_HOST", ""), environ["PATH_INFO"], environ["REQUEST_METHOD"]
        name, _, port = host.rpartition(":")
        if (name if port.isdigit() else host) not in HOSTS:
            return problem(
                "host", f"This service is not called '{host}'.", "Use its address as the terminal printed it."
            )
        if not path.startswith("/api/"):
            return None
        origin = environ.get("HTTP_ORIGIN")
        if origin is not None and origin not in (f"http://{host}", f"https://{host}"):
            return problem(
                "origin", f"A page of {origin} may not use this service.", "Open the service's own console."
            )
        if path == "/api/v1/session" and method == "POST":
            return None
        key, surface = None, SURFACES.get(environ.get("HTTP_USER_AGENT", "").partition("/")[0], "HTTP")
        scheme, _, text = environ.get("HTTP_AUTHORIZATION", "").partition(" ")
        cookie = None
        if scheme.lower() == "bearer":
            key = self.keys.by_key(text.strip())
        elif path == CALENDAR_PATH and method == "GET" and "key" in request.args:
            # calendars cannot show a key any other way; so only one that may do nothing else is taken there
            key = self.keys.by_key(request.args["key"])
            key = key if key is not None and key.name == CALENDAR else None
        elif "HTTP_COOKIE" in environ and (cookie := request.cookies.get(self._cookie())):
            key, surface = self.keys.by_session(cookie), "console"
            if method != "GET" and origin is None and environ.get("HTTP_SEC_FETCH_SITE") != "same-origin":
                return problem(
                    "origin",
                    "A command by a console session has to come from the console's own page.",
                    "Use a key instead.",
                )
        if key is not None and key.name == CALENDAR and path != CALENDAR_PATH:
            key = None
        if key is None:
            return problem(
                "key",
                "No valid key came with the request."
                if text or cookie
                else "The request came without a key.",
                "Send Authorization: Bearer with the key, or sign in to the console.",
            )
        if method != "GET" and key.role == "watch":
            return problem(
                "role", f"The key '{key.name}' may only watch.", "Use a key with the role operate or keep."
            )
        source = self._sources.get((key.id, surface))
        if source is None:
            source = self._sources[key.id, surface] = Source(surface, key.name, key.role)
        environ[CALLER] = (key, source)
        return None

    def _cookie(self) -> str:
        # browsers share cookies between ports of a host, and several services may run side by side
        return f"cairnwind-{request.environ['SERVER_PORT']}"

    # --- reading ------------------------------------------------------------------------------------------

    def get_site(self) -> Response:
        return self._cached(lambda: self.runtime.publisher.current.site)

    def get_outputs(self) -> Response:
        return self._cached(lambda: self.runtime.publisher.current.outputs_body())

    def get_output(self, name: str) -> Response:
        self._output(name)
        return self._cached(lambda: self.runtime.publisher.find(name)[1])  # type: ignore[index]

    def get_why(self, name: str) -> Response:
        """Why an output is as it is, or (``at``) as it was."""
        output = self._output(name)
        clocks = shapes.local(self.zone)
        if (at := request.args.get("at")) is not None:
            return answer(
                shapes.why_form(why_then(output, self._rows_of(output, moment_of(at, self.zone)), clocks))
            )
        found = self.runtime.publisher.find(name)
        assert found is not None
        now = found[0]
        reasons = why(now, clocks)
        if not (now.leader is not None and now.leader.setting.on) and output.takes == "level":
            probe = ev.Probe(clock(), self.runtime.command_id(), caller(), name)
            outcome = self.runtime.ask(probe)
            if outcome is not None:
                reasons = if_wanted(reasons, output, outcome.reason, outcome.remedy)
        return answer(shapes.why_form(reasons))

    def _rows_of(self, output: Output, wall: int) -> list[Row]:
        """What the journal has that concerns an output, before a moment."""
        found = []
        for subject, limit in ((output.name, 500), (output.pin.board, 50), ("", 500)):
            rows = self.runtime.reader.journal(subject=subject, end=wall + 1, limit=limit)
            found += [(row.seq, (row.wall, row.kind, row.subject, row.text, row.data)) for row in rows]
        return [row for _, row in sorted(found, key=lambda each: each[0])]

    def get_inputs(self) -> Response:
        return self._cached(lambda: b"[" + b",".join(self.runtime.publisher.current.inputs.values()) + b"]")

    def get_input(self, name: str) -> Response:
        if name not in self.site.inputs:
            raise unknown("input", name, self.site.inputs)
        return self._cached(lambda: self.runtime.publisher.current.inputs[name])

    def get_boards(self) -> Response:
        return self._cached(lambda: b"[" + b",".join(self.runtime.publisher.current.boards.values()) + b"]")

    def get_claims(self) -> Response:
        pages = self.runtime.publisher.current.pages
        return answer(
            [shapes.claim(now.output, each) for page in pages for now in page.nows for each in now.claims]
        )

    def get_stop(self) -> Response:
        return answer(shapes.stop_form(self.runtime.publisher.current.site_now.stop))

    def get_journal(self) -> Response:
        limit = whole("limit", 100, 1, 1000) or 100
        before, after = whole("before", None), whole("after", None)
        if before is not None and after is not None:
            raise CallerError(
                "bad-value", "'before' and 'after' cannot be given together.", "Page in one direction."
            )
        asked = {name: request.args.get(name) for name in ("subject", "kind", "source", "from", "to")}
        begin, end = (moment_of(at, self.zone) if (at := asked[name]) else None for name in ("from", "to"))
        found = self.runtime.reader.journal(
            before=before, after=after, subject=asked["subject"], kind=asked["kind"], source=asked["source"],
            begin=begin, end=end, limit=limit,
        )  # fmt: skip
        form: dict[str, Any] = {"rows": [
            {"sequence": row.seq, "at": shapes.moment(row.wall), "kind": row.kind, "subject": row.subject or None,
             "text": row.text, "command": row.command or None, "source": row.source or None, "data": row.data}
            for row in found
        ]}  # fmt: skip
        form["next"] = None
        if len(found) == limit:
            kept = "".join(f"&{name}={quote(value, safe='')}" for name, value in asked.items() if value)
            form["next"] = (
                f"/api/v1/journal?{'after' if after is not None else 'before'}={found[-1].seq}&limit={limit}{kept}"
            )
        return answer(form)

    def events(self) -> Response:
        stream = self.runtime.stream
        handover = request.environ.get(HANDOVER)
        if stream is None or handover is None:
            raise CallerError("busy", "The event stream is not open.", "Try again in a moment.")
        last = request.headers.get("Last-Event-ID") or request.args.get("after")
        connection, owner = handover()
        head = "HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\nConnection: close\r\n"
        dress = b"".join(b"%s: %s\r\n" % header for header in HEADERS)
        stream.adopt(connection, owner, last, head.encode() + dress + b"\r\nretry: 500\n\n")
        return Response()

    def health(self) -> Response:
        if self.runtime.alive:
            return answer({"health": "good", "version": __version__})
        return problem("engine", f"The engine has stopped: {self.runtime.failure}.", "Restart the service.")

    def ready(self) -> Response:
        now = self.runtime.publisher.current.site_now
        if not self.runtime.alive or not now.recording:
            return problem("busy", now.trouble or "The engine has stopped.", "See the service's log.")
        return answer({"ready": True})

    # --- commands -----------------------------------------------------------------------------------------

    def make_claim(self) -> Response:
        body = json_body({"output", "wait", *CLAIM})
        output = self._output(need(body, "output"))
        setting = wanted(body, output, self.site.tunes)
        rank, life = self._lifetime(body)

        def command(at: Any) -> ev.Command:
            return wish(self.runtime.command_id(), at, output, setting, rank, life, body)

        return self._do(command, output, waits(body), made=True)

    def _lifetime(self, body: dict[str, Any]) -> tuple[Rank, Lifetime]:
        """Rank and lifetime: the table of defaults by surface has one row for HTTP and one for holds."""
        word = body.get("rank", "hand" if "lease" in body else "person")
        if word not in ("person", "hand"):
            raise CallerError(
                "bad-value",
                f"'{word}' is not a rank that can be asked for.",
                "Send person, or hand with a lease.",
            )
        given = [key for key in ("for", "until", "lease", "lasting") if key in body]
        if len(given) > 1:
            raise CallerError(
                "bad-value",
                f"{' and '.join(map(repr, given))} cannot be given together.",
                "Send one of them.",
            )
        if word == "hand":
            if given and given != ["lease"]:
                raise CallerError("bad-value", "A hold lasts by its lease only.", "Send 'lease' or nothing.")
            span = duration(body["lease"]) if given else LEASE
            if not SHORTEST_LEASE <= span <= LONGEST_LEASE:
                raise CallerError(
                    "bad-value",
                    f"A lease of '{body.get('lease')}' is out of range.",
                    "Send 100 ms to 60 s, and renew it.",
                )
            return Rank.HAND, lease(span)
        match given:
            case ["for"]:
                return Rank.PERSON, lasting(duration(body["for"]))
            case ["until"]:
                return Rank.PERSON, until(self._moment(body["until"]))
            case ["lasting"] if body["lasting"] == "until released":
                return Rank.PERSON, RELEASED
            case ["lasting"]:
                raise CallerError(
                    "bad-value",
                    f"'{body['lasting']}' is not a lifetime.",
                    "Send \"until released\", or 'for' or 'until'.",
                )
            case ["lease"]:
                raise CallerError(
                    "bad-value", "A person's claim has no lease.", "Send rank hand, or leave the rank out."
                )
            case _:
                return Rank.PERSON, TAKEOVER

    def _moment(self, text: object) -> int:
        """An RFC 3339 time, or HH:MM of today or tomorrow in the site's zone, as wall nanoseconds."""
        now = clock().wall
        try:
            if isinstance(text, str) and len(text) <= 5:
                hour, minute = map(int, text.split(":"))
                today = datetime.now(self.zone).replace(hour=hour, minute=minute, second=0, microsecond=0)
                wall = int(today.timestamp()) * NS
                if wall <= now:
                    day = today.date().toordinal() + 1
                    tomorrow = datetime.combine(datetime.fromordinal(day).date(), today.time(), self.zone)
                    wall = int(tomorrow.timestamp()) * NS
            else:
                then = datetime.fromisoformat(str(text))
                wall = int((then if then.tzinfo else then.replace(tzinfo=self.zone)).timestamp()) * NS
        except (ValueError, OverflowError, OSError):
            raise CallerError(
                "bad-value", f"'{text}' is not a time.", "Write it like 22:30 or 2026-11-23T22:30."
            ) from None
        if wall <= now:
            raise CallerError("bad-value", f"'{text}' is over already.", "Give a time to come.")
        return wall

    def renew_claim(self, number: int) -> Response:
        body = json_body({"setting", "wait"}, empty=True)
        claim = self._claim(number)
        output = self._output(claim.output)
        setting = output.read(body["setting"]) if "setting" in body else None
        return self._do(
            lambda at: ev.Renew(at, self.runtime.command_id(), caller(), claim.output, claim.slot, setting),
            output,
            waits(body),
        )

    def release_claim(self, number: int) -> Response:
        claim = self._claim(number)
        return self._do(
            lambda at: ev.Release(at, self.runtime.command_id(), caller(), claim.output, claim.slot),
            self._output(claim.output),
        )

    def release_person(self, name: str) -> Response:
        output = self._output(name)
        return self._do(lambda at: ev.Release(at, self.runtime.command_id(), caller(), name, PERSON), output)

    def stop(self) -> Response:
        body = json_body({"reason", "wait"}, empty=True)
        reason = text(body, "reason")
        return self._do(
            lambda at: ev.AllStop(at, self.runtime.command_id(), caller(), reason), None, waits(body)
        )

    def reset_stop(self) -> Response:
        return self._do(lambda at: ev.ResetStop(at, self.runtime.command_id(), caller()), None)

    def lock(self, name: str, tag: str) -> Response:
        output = self._output(name)
        body = json_body({"reason", "until"}, empty=True)
        reason = text(body, "reason")
        until = self._moment(body["until"]) if body.get("until") else 0
        if not tag.isprintable() or len(tag) > 60:
            raise CallerError(
                "bad-value", "This is not a name for a tag.", "Use up to 60 printable characters."
            )
        return self._do(
            lambda at: ev.Lock(at, self.runtime.command_id(), caller(), name, tag, reason, until), output
        )

    def unlock(self, name: str, tag: str) -> Response:
        output = self._output(name)
        return self._do(lambda at: ev.Unlock(at, self.runtime.command_id(), caller(), name, tag), output)

    def _do(
        self,
        command: Callable[[Any], ev.Command],
        output: Output | None,
        wait: float = 0.0,
        *,
        made: bool = False,
    ) -> Response:
        """Have a command decided, once if it carries an Idempotency-Key, and answer with its outcome."""

        def decide(repeat: tuple[str, str, str] | None) -> dict[str, Any]:
            outcome, ended = self.runtime.submit(command(clock()), repeat=repeat, wait=wait)
            return shapes.outcome_form(outcome, output, ended)

        token = request.headers.get("Idempotency-Key")
        if token is None:
            form = decide(None)
        else:
            scope = f"{caller_key().id} {request.method} {request.path}"
            form = self.repeats.once(scope, token, request.get_data(), decide)
        code = OF_OUTCOME.get(form["outcome"])
        if code is None or (code == "unreachable" and form["claim"]):
            return answer(form, 201 if made else 200)
        name = f"{output.name}: " if output else ""
        return problem(code, f"{name}{form['reason']}.", **form)

    # --- signing in ---------------------------------------------------------------------------------------

    def make_link(self) -> Response:
        if caller_key().role != "keep":
            raise CallerError(
                "role",
                f"The key '{caller_key().name}' may not make sign-in links.",
                "Use a key with the role keep.",
            )
        token = self.keys.new_link(caller_key())
        return answer({"link": f"{request.host_url}#sign-in={token}"}, 201)

    def sign_in(self) -> Response:
        token = need(json_body({"token"}), "token")
        session = self.keys.sign_in(token)
        response = answer({"signed_in": True}, 201)
        response.set_cookie(
            self._cookie(),
            session,
            max_age=30 * 86400,
            httponly=True,
            samesite="Strict",
            secure=request.is_secure,
        )
        return response

    def who(self) -> Response:
        key: Key = caller_key()
        return answer({"key": key.name, "role": key.role, "surface": caller().surface})

    def sign_out(self) -> Response:
        self.keys.sign_out(request.cookies.get(self._cookie(), ""))
        response = answer({"signed_in": False})
        response.delete_cookie(self._cookie(), httponly=True, samesite="Strict")
        return response

    # --- the console --------------------------------------------------------------------------------------

    def page(self) -> Response:
        if not (self.console / "index.html").exists():
            return problem(
                "no-page", "The console has not been built.", "Run 'make console', or use the command line."
            )
        return send_from_directory(self.console, "index.html")

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

    def _claim(self, number: int) -> Claim:
        claim = self.runtime.claims.get(number)
        if claim is None:
            raise CallerError(
                "no-claim", f"There is no claim {number}; it may have ended.", "Make a new one."
            )
        return claim

    def _cached(self, body: Callable[[], bytes]) -> Response:
        """The body with an ETag of the snapshot, or 304 if the reader has it."""
        stream = self.runtime.stream
        tag = f'"{stream.epoch if stream else ""}-{self.runtime.publisher.current.version}"'
        if request.headers.get("If-None-Match") == tag:
            return Response(status=304, headers={"ETag": tag})
        return Response(body(), content_type="application/json", headers={"ETag": tag})


def _at_fault(error: Exception) -> Response:
    log.exception("%s %s failed", request.method, request.path)
    return problem(
        "engine",
        "Cairnwind failed on this request; the log says more.",
        "Nothing was changed by it unless the journal says so.",
    )
