"""The way to a service: one session, its calls, its problems, its stream of events."""

from __future__ import annotations

import json
import threading
from collections.abc import Callable, Iterator
from http.client import HTTPException
from pathlib import Path
from typing import Any, BinaryIO

from cairnwind import __version__
from cairnwind.client.answers import Change, query
from cairnwind.client.connection import Answer, Connections, Refused
from cairnwind.core.values.errors import BoardError, CallerError, Trouble
from cairnwind.folder import Folder, running

API = "/api/v1"
SILENT = 60.0
"""Seconds without a sign of life after which a stream counts as broken."""
BOARD_CODES = ("unreachable", "engine", "not-recorded")


class Wire:
    """A session with one service. Raises `CallerError` (``no-service``, ``key``) when there is none."""

    def __init__(
        self,
        address: str | None = None,
        key: str | None = None,
        *,
        state: str | Path | None = None,
        timeout: float = 10.0,
        surface: str = "cairnwind-client",
        fingerprint: str | None = None,
    ) -> None:
        """``fingerprint`` is that of a certificate of the service's own making, as its start printed it."""
        certificate = None
        if address is None:
            folder = running(state)
            found = folder.address()
            if found is None:
                raise CallerError(
                    "no-service",
                    f"No service runs on the state folder {folder.path}.",
                    "Start one: cairnwind serve SITE_FILE, or cairnwind demo.",
                )
            address, key, certificate = found["url"], key or folder.key(), found.get("certificate")
            if key is None:
                raise CallerError(
                    "key",
                    f"The key in {folder.path} cannot be read by this user.",
                    "Run as the service's user, or give a key.",
                )
        elif key is None and state is not None:
            key = Folder(state).key()
        self.address = address.rstrip("/")
        headers = {"User-Agent": f"{surface}/{__version__}"}
        if key:
            headers["Authorization"] = f"Bearer {key}"
        self._connections = Connections(self.address, headers, timeout, certificate, fingerprint)

    cleans: Callable[[Any], Any] = staticmethod(lambda form: form)
    """What is done to everything that was answered, before anybody has it: for those who show it on a terminal."""

    def call(
        self,
        method: str,
        path: str,
        body: dict[str, Any] | None = None,
        *,
        params: dict[str, Any] | None = None,
        token: str | None = None,
        text: bool = False,
        content: bytes | None = None,
        root: bool = False,
    ) -> Any:
        """One call of the API; returns its JSON, raises its problem. ``content`` is a calendar, sent as it is; ``root``: it is beside the API."""
        headers = {"Idempotency-Key": token} if token else {}
        if content is not None:
            headers["Content-Type"] = "text/calendar"
        elif body is not None:
            headers["Content-Type"] = "application/json"
            content = json.dumps(body).encode()
        if params:
            path += f"?{query(params)}"
        try:
            answer = self._connections.ask(method, path if root else API + path, content, headers)
        except (OSError, HTTPException) as error:
            raise self._gone(error) from None
        if not 200 <= answer.status < 300:
            raise self._problem(answer)
        if text:  # a file, for whoever reads its format
            return answer.content.decode("utf-8")
        return self.cleans(json.loads(answer.content))

    def patiently(self, method: str, path: str, out: BinaryIO | None = None) -> Any:
        """A call that may take minutes; its JSON, or nothing where its answer is a file for ``out``."""
        try:
            answer = self._connections.patiently(method, API + path, out)
        except (OSError, HTTPException) as error:
            raise self._gone(error) from None
        if not 200 <= answer.status < 300:
            raise self._problem(answer)
        return self.cleans(json.loads(answer.content)) if out is None else None

    def changes(
        self,
        *,
        after: str | None = None,
        again: bool = True,
        opened: Callable[[Callable[[], None]], None] | None = None,
    ) -> Iterator[Change]:
        """Events as they happen; first, and whenever some were missed, an 'afresh' with the whole picture.

        Comes back by itself when the service restarts or the link breaks, unless ``again`` is False. ``opened`` is told how to end
        it from another thread.
        """
        pause = threading.Event()
        while True:
            try:
                for change in self._stream(after, opened):
                    after = change.id
                    yield change
            except (OSError, HTTPException) as error:
                if not again:
                    raise self._gone(error) from None
            if not again:
                return
            pause.wait(0.5)

    def _stream(
        self, after: str | None, opened: Callable[[Callable[[], None]], None] | None
    ) -> Iterator[Change]:
        headers = {"Accept": "text/event-stream", **({"Last-Event-ID": after} if after else {})}
        fields: dict[str, str] = {}
        try:
            for raw in self._connections.lines(f"{API}/events", headers, SILENT, opened):
                line = raw.decode("utf-8")
                if line:
                    name, _, value = line.partition(": ")
                    fields[name] = value
                elif fields.get("event") == "beat":
                    fields = {}  # it lives
                elif "data" in fields:
                    data = self.cleans(json.loads(fields["data"]))
                    name = data.get("name") or data.get("output") or ""
                    yield Change(fields["event"], name, data, fields.get("id", ""))
                    fields = {}
        except Refused as refused:
            raise self._problem(refused.answer) from None

    def _problem(self, answer: Answer) -> Trouble:
        """What an answer says went wrong (RFC 9457), as the error that the service itself raised."""
        try:
            form = json.loads(answer.content)
            code, sentence, remedy = form["code"], form["detail"], form.get("remedy", "")
        except (ValueError, KeyError, TypeError):
            return CallerError(
                "no-service", f"What answers at {self.address} is no Cairnwind service.", "Check the address."
            )
        made = (BoardError if code in BOARD_CODES else CallerError)(code, sentence, remedy)
        made.more = {
            key: value
            for key, value in form.items()
            if key in ("at", "end", "choices", "key", "difference", "edition")
        }
        return made

    def _gone(self, error: Exception) -> CallerError:
        return CallerError(
            "no-service",
            f"The service at {self.address} does not answer ({type(error).__name__}).",
            "See whether it runs: cairnwind look.",
        )

    def _get(self, path: str) -> Any:
        return self.call("GET", path)

    def _form(self, method: str, path: str, body: dict[str, Any] | None = None) -> Any:
        return self.call(method, path, body)

    def _post(self, path: str, body: dict[str, Any]) -> Any:
        return self.call("POST", path, body)

    def _rows(self, path: str) -> Any:
        return self.call("GET", path)
