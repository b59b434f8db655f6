"""Connections to one service, kept open: one for each thread that asks.

On the standard library's own client: whoever types a command waits for all that is imported, and there is little to ask of HTTP.
"""

from __future__ import annotations

import contextlib
import http.client
import select
import socket
import threading
from collections.abc import Callable, Iterator, Mapping
from typing import TYPE_CHECKING, Any, BinaryIO, NamedTuple
from urllib.parse import urlsplit

if TYPE_CHECKING:
    import ssl


LONG = 1800.0
"""Seconds for what takes long."""


class Answer(NamedTuple):
    """What came back, whole."""

    status: int
    content: bytes


class Connections:
    """Raises `OSError` or `http.client.HTTPException` when nobody answers, or not in HTTP."""

    def __init__(
        self,
        address: str,
        headers: Mapping[str, str],
        timeout: float,
        certificate: str | None,
        fingerprint: str | None,
    ) -> None:
        """``certificate`` is a file of those that are trusted, ``fingerprint`` the one that is, whoever signed it (SHA-256)."""
        parts = urlsplit(address)
        self._secure, self._host, self._prefix = parts.scheme == "https", parts.hostname or "", parts.path
        self._port = parts.port or (443 if self._secure else 80)
        self._headers, self._timeout = dict(headers), timeout
        self._certificate = certificate
        self._fingerprint = (fingerprint or "").replace(":", "").casefold()
        self._mine = threading.local()

    def ask(
        self, method: str, path: str, body: bytes | None = None, headers: Mapping[str, str] | None = None
    ) -> Answer:
        """One request and its answer. It is asked once: what is lost on the way may have been done."""
        connection = self._kept()
        try:
            connection.request(method, self._prefix + path, body, {**self._headers, **(headers or {})})
            response = connection.getresponse()
            return Answer(response.status, response.read())
        except BaseException:
            connection.close()
            raise

    def patiently(self, method: str, path: str, out: BinaryIO | None = None) -> Answer:
        """One request whose answer may take minutes, or be large: then it is written to ``out``, where it is good. A connection of its own."""
        connection = self._opened()
        connection.timeout = LONG
        if connection.sock is not None:
            connection.sock.settimeout(LONG)
        try:
            connection.request(method, self._prefix + path, None, self._headers)
            response = connection.getresponse()
            if out is None or response.status != 200:
                return Answer(response.status, response.read())
            while part := response.read(1 << 20):
                out.write(part)
            return Answer(response.status, b"")
        finally:
            connection.close()

    def lines(
        self,
        path: str,
        headers: Mapping[str, str],
        silent: float,
        opened: Callable[[Callable[[], None]], None] | None = None,
    ) -> Iterator[bytes]:
        """The lines of an answer that does not end, over a connection of its own; ``silent``: seconds without any that are borne.
        ``opened`` is told how to end it from another thread.

        Raises `Refused` where the answer is none that can be read so.
        """
        connection = self._opened()
        try:
            connection.request("GET", self._prefix + path, None, {**self._headers, **headers})
            response = connection.getresponse()
            held = connection.sock or getattr(response.fp, "raw", None)
            held = getattr(held, "_sock", held)
            if opened is not None and held is not None:
                opened(lambda: _shut(held))
            if response.status != 200:
                raise Refused(Answer(response.status, response.read()))
            if connection.sock is not None:
                connection.sock.settimeout(silent)
            while line := response.readline():
                yield line.rstrip(b"\r\n")
        finally:
            connection.close()

    def _kept(self) -> http.client.HTTPConnection:
        found: http.client.HTTPConnection | None = getattr(self._mine, "connection", None)
        if found is None:
            found = self._mine.connection = self._opened()
        elif found.sock is not None and select.select([found.sock], [], [], 0)[0]:
            found.close()  # the other side has, and the next request opens it anew
        if found.sock is None and self._secure:
            found = self._mine.connection = self._opened()
        return found

    def _opened(self) -> http.client.HTTPConnection:
        if not self._secure:
            return http.client.HTTPConnection(self._host, self._port, timeout=self._timeout)
        connection = http.client.HTTPSConnection(
            self._host, self._port, timeout=self._timeout, context=self._context()
        )
        if self._fingerprint:
            import hashlib

            connection.connect()
            shown = connection.sock.getpeercert(binary_form=True) or b""
            if hashlib.sha256(shown).hexdigest() != self._fingerprint:
                connection.close()
                raise OSError("its certificate is not the one whose fingerprint was given")
        return connection

    def _context(self) -> ssl.SSLContext:
        import ssl

        context = ssl.create_default_context(cafile=self._certificate)
        if self._fingerprint:
            context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
        return context


def _shut(held: Any) -> None:
    """Whoever reads from it reads its end."""
    with contextlib.suppress(OSError):
        held.shutdown(socket.SHUT_RDWR)


class Refused(Exception):
    """An answer that says why not."""

    def __init__(self, answer: Answer) -> None:
        super().__init__(answer.status)
        self.answer = answer
