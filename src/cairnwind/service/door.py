"""The door: who is asking, from where, and whether this call is for them. Nothing behind it asks again who may what."""

from __future__ import annotations

import ipaddress
import socket
from collections.abc import Callable, Iterable

from flask import Request, Response, request

from cairnwind.core.facts.claims import Source
from cairnwind.core.facts.site import LOOPBACK
from cairnwind.core.language.rights import Key, lacks
from cairnwind.core.values.errors import CallerError, Trouble, unknown
from cairnwind.service.asked import CALLER
from cairnwind.service.calls import ANYONE, QUERIES, ROLES
from cairnwind.service.desk import Desk
from cairnwind.service.keys import FIRST, Who, digest
from cairnwind.service.planviews import CALENDAR
from cairnwind.service.problems import from_trouble, problem
from cairnwind.service.startup import clock

SURFACES = {
    "cairnwind-command-line": "command line",
    "cairnwind-client": "client",
    "cairnwind-voice": "voice",
}
CALENDAR_PATH = "/api/v1/plan/calendar"
BEFORE = "HTTP_CAIRNWIND_BEFORE"
"""A header of commands: milliseconds since 1970 by this service's clock (`beat`), after which they are not to be done any more."""


class Door:
    """Admits a request of HTTP, or says why not: host, origin, key or session, role, rate."""

    def __init__(
        self, desk: Desk, listen: str = "127.0.0.1", also: Callable[[], Iterable[str]] = tuple
    ) -> None:
        """``also``: what the site file calls the service."""
        self._desk, self._keys, self._also = desk, desk.keys, also
        self._names = {*LOOPBACK}
        self._abroad = listen not in LOOPBACK
        if self._abroad:
            own = socket.gethostname().lower()
            self._names |= {own, f"{own}.local", socket.getfqdn().lower(), listen}
        self._sources: dict[tuple[int, str], Source] = {}
        """One for each key and surface, shared by all claims made through it."""

    def admit(self) -> Response | None:
        """Check host, origin, key or session, and role, before any view."""
        environ = request.environ
        host, path, method = environ.get("HTTP_HOST", ""), environ["PATH_INFO"], environ["REQUEST_METHOD"]
        if not self._own(host):
            return problem(
                "host", f"This service is not called '{host}'.", "Use its address as the terminal printed it, or list the name: [service] names."
            )  # fmt: skip
        rule = request.url_rule
        call = ("GET" if method == "HEAD" else method, rule.rule if rule is not None else "")
        role = ROLES.get(call, "watch")
        if rule is None and not path.startswith("/api/"):
            return None
        origin = environ.get("HTTP_ORIGIN")
        if (
            path.startswith("/api/")
            and origin is not None
            and origin not in (f"http://{host}", f"https://{host}")
        ):
            return problem(
                "origin", f"A page of {origin} may not use this service.", "Open the service's own console."
            )
        try:
            if role != ANYONE and (refused := self._known(path, method, origin, role)) is not None:
                return refused
            if rule is not None and path.startswith("/api/") and request.query_string:
                known = QUERIES.get(call, frozenset())
                for name in request.args:
                    if name not in known:
                        error = unknown("query", name, known)
                        raise CallerError(
                            "bad-value",
                            f"The address has a query '{name}' that is not known here.",
                            error.remedy,
                        )
            if BEFORE in environ and method != "GET":
                _in_time(environ[BEFORE])
        except Trouble as error:
            return from_trouble(error)
        return None

    def _known(self, path: str, method: str, origin: str | None, role: str) -> Response | None:
        environ = request.environ
        come_from = environ.get("REMOTE_ADDR", "")
        surface = SURFACES.get(environ.get("HTTP_USER_AGENT", "").partition("/")[0], "HTTP")
        key: Key | None = None
        scheme, _, text = environ.get("HTTP_AUTHORIZATION", "").partition(" ")
        cookie, session = None, ""
        if scheme.lower() == "bearer":
            key = self._keys.by_key(text.strip(), come_from)
        elif path == CALENDAR_PATH and method == "GET" and "key" in request.args:
            # calendars cannot show a key any other way; so only one that may do nothing else is taken there
            key = self._keys.by_key(request.args["key"], come_from)
            key = key if key is not None and key.name == CALENDAR else None
        elif "HTTP_COOKIE" in environ and (cookie := request.cookies.get(cookie_name(request))):
            key, surface, session = self._keys.by_session(cookie, come_from), "console", digest(cookie)
            if method != "GET" and origin is None and environ.get("HTTP_SEC_FETCH_SITE") != "same-origin":
                return problem(
                    "origin",
                    "A command by a console session has to come from the console's own page.",
                    "Use a key instead.",
                )
        if key is not None and key.name == CALENDAR and path != CALENDAR_PATH:
            key = None
        if key is None:
            response = problem(
                "key",
                "No valid key came with the request."
                if text or cookie
                else "The request came without a key.",
                "Send Authorization: Bearer with the key, or sign in to the console.",
            )
            response.headers["WWW-Authenticate"] = 'Bearer realm="cairnwind"'
            return response
        source = self._sources.get((key.id, surface))
        if source is None or source.who != key.name:
            source = self._sources[key.id, surface] = Source(surface, key.name, key.role)
        if lacks(key, role):
            self._desk.deny(source, f"the key '{key.name}' may only {key.role}", role, record=method != "GET")
        if key.name != FIRST and method == "GET":
            self._desk.pace(key, "requests")
        environ[CALLER] = (key, source, Who(key.name, session))
        return None

    def _own(self, host: str) -> bool:
        """Whether a Host header means this service: else a page elsewhere has had its name point here."""
        name, _, port = host.rpartition(":")
        name = (name if port.isdigit() else host).strip("[]").lower()
        if name in self._names or name in self._also():
            return True
        if not self._abroad:
            return False
        try:
            ipaddress.ip_address(name)  # an address is no name that could be made to point here
        except ValueError:
            return False
        return True


def cookie_name(asked: Request) -> str:
    """Of the session: browsers share cookies between ports of a host, and several services may run side by side.

    Where there is TLS its beginning has browsers hold that nobody but this host, by TLS, has set it.
    """
    return f"{'__Host-' if asked.is_secure else ''}cairnwind-{asked.environ['SERVER_PORT']}"


def _in_time(before: str) -> None:
    """What somebody has given up is not done late. Raises `CallerError` (``late``, ``bad-value``)."""
    if not before.isdigit() or len(before) > 15:
        raise CallerError(
            "bad-value",
            f"'{before[:40]}' is no time.",
            "Send Cairnwind-Before: milliseconds since 1970, UTC.",
        )
    late = clock().wall // 1_000_000 - int(before)
    if late > 0:
        raise CallerError(
            "late",
            f"This came {late / 1000:.1f} s after its sender had given it up.",
            "It was not done: send it again.",
        )
