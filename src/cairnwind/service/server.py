"""The web server: Cheroot, whose connections can be handed over to the event stream.

Chosen because it is a production WSGI server that runs in our process beside the engine, in plain threads;
stops cleanly; speaks TLS through the standard library; and because its connections are plain sockets: a
request for the event stream gives its socket to the stream's one thread and frees the worker. So two hundred
idle streams cost no worker at all. See ``docs/architecture.md``.
"""

from __future__ import annotations

import ipaddress
import logging
import threading
from collections.abc import Callable, Iterable
from typing import Any
from urllib.parse import urlsplit

from cheroot import wsgi

from cairnwind.service.doorman import LARGEST_HEAD, Doorman

log = logging.getLogger("cairnwind.http")
WORKERS = 12
GONE = "cairnwind.gone"
"""Key of the WSGI environment: a function that says whether whoever asked has hung up."""
HANDOVER = "cairnwind.handover"
"""Key of the WSGI environment: a function that gives the socket away and ends the request."""

HEADERS = (
    (
        b"Content-Security-Policy",
        b"default-src 'self'; frame-ancestors 'none'; base-uri 'none'; form-action 'none'",
    ),
    (b"X-Content-Type-Options", b"nosniff"),
    (b"Referrer-Policy", b"no-referrer"),
    (b"X-Frame-Options", b"DENY"),
    (b"Cross-Origin-Opener-Policy", b"same-origin"),
    (b"Cross-Origin-Resource-Policy", b"same-origin"),
    (b"Cache-Control", b"no-store"),
)
"""Sent with every answer, except where the application has its own."""
ONLY_BY_TLS = (b"Strict-Transport-Security", b"max-age=31536000")
"""Sent where there is TLS: browsers come to this host by nothing else for a year (RFC 6797)."""
NAME = "cairnwind"
"""What is said of the server: neither its version nor that of anything else."""


class Behind:
    """What stands before the service, and how others call it there."""

    def __init__(self, address: str, proxies: Iterable[str]) -> None:
        """``address`` as in https://house.lan/shed."""
        parts = urlsplit(address)
        self.scheme, self.host, self.prefix = parts.scheme, parts.netloc, parts.path
        self.proxies = frozenset(proxies)

    def seen(self, environ: dict[str, Any]) -> None:
        """What a proxy has passed on, as if whoever asked it had come here; what others say of it is passed over."""
        asked = environ.get("HTTP_X_FORWARDED_FOR", "").rpartition(",")[2].strip()
        if environ.get("REMOTE_ADDR") not in self.proxies or not asked:
            return
        try:
            environ["REMOTE_ADDR"] = str(ipaddress.ip_address(asked))
        except ValueError:
            return
        environ["wsgi.url_scheme"], environ["HTTP_HOST"], environ["SCRIPT_NAME"] = (
            self.scheme,
            self.host,
            self.prefix,
        )
        path = environ["PATH_INFO"]
        if self.prefix and (path == self.prefix or path.startswith(f"{self.prefix}/")):
            environ["PATH_INFO"] = path[len(self.prefix) :] or "/"


class Gateway(wsgi.Gateway_10):
    """Puts `HANDOVER` into the environment, and sends nothing once it was used."""

    def get_environ(self) -> dict[str, Any]:  # type: ignore[override]
        """The environment, with the way to take the socket."""
        environ: dict[str, Any] = super().get_environ()  # type: ignore[no-untyped-call]
        environ[HANDOVER], environ[GONE] = self._give, self.req.conn.hung_up
        path = environ["PATH_INFO"]
        if (
            "%2" in path
        ):  # the server leaves slashes of names as they came; whatever may hold one ends its address
            environ["PATH_INFO"] = path.replace("%2F", "/").replace("%2f", "/")
        if self.req.server.behind is not None:
            self.req.server.behind.seen(environ)
        return environ

    def start_response(self, status: str, headers: Any, exc_info: Any = None) -> Any:
        """Begin the answer, unless the application took the socket."""
        if self.req.conn.given:
            return self.write
        own = {name.encode() for name, _ in headers}
        self.req.outheaders.extend(each for each in HEADERS if each[0] not in own)
        if self.req.server.ssl_adapter is not None:
            self.req.outheaders.append(ONLY_BY_TLS)
        return super().start_response(status, headers, exc_info)

    def respond(self) -> None:
        """Answer, unless the application took the socket."""
        response = self.req.server.wsgi_app(self.env, self.start_response)
        try:
            if not self.req.conn.given:
                for chunk in filter(None, response):
                    self.write(chunk)
        finally:
            if not self.req.conn.given:
                self.req.ensure_headers_sent()
            if hasattr(response, "close"):
                response.close()

    def _give(self) -> tuple[Any, Any]:
        conn = self.req.conn
        conn.give()
        self.req.close_connection = True
        self.req.sent_headers = True
        return conn.socket, conn


class Server:
    """Listens and answers until stopped."""

    def __init__(
        self, app: Callable[..., Any], address: tuple[str, int], secure: Any = None,
        urgent: Callable[[bytes, bytes], bool] = lambda head, body: False, behind: Behind | None = None,
    ) -> None:  # fmt: skip
        """``secure`` is an adapter of `cairnwind.service.tls`; None: plain. ``urgent``: by head and body, what goes before all others."""
        self._urgent = urgent
        self._server = wsgi.Server(address, app, numthreads=WORKERS, timeout=30, shutdown_timeout=1)
        self._server.server_name = NAME
        setattr(self._server, "behind", behind)  # noqa: B010 - for its gateway
        self._server.ssl_adapter = secure
        self._server.gateway = Gateway
        self._server.request_queue_size = 1024  # who comes while many do is not made to try again
        self._server.max_request_header_size = LARGEST_HEAD
        self._server.error_log = _log  # type: ignore[method-assign]
        self._thread = threading.Thread(target=self._serve, name="http", daemon=True)

    def start(self) -> int:
        """Listen; returns the port. Raises `OSError` if the address is taken."""
        self._server.prepare()
        keeper: Any = self._server  # which has no name for who keeps its connections
        keeper._connections.close()
        keeper._connections = Doorman(self._server, self._urgent)
        self._thread.start()
        return int(self._server.bind_addr[1])

    def stop(self) -> None:
        """Finish what is being answered (a second at most) and stop."""
        self._server.stop()
        self._thread.join(2)

    def _serve(self) -> None:
        self._server.serve()


def _log(msg: str = "", level: int = logging.INFO, traceback: bool = False) -> None:
    log.log(level, "%s", msg, exc_info=traceback)
