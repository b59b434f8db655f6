"""The way to a service: one session, its calls, its problems, its stream of events."""

from __future__ import annotations

import json
import ssl
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import requests
from requests.adapters import HTTPAdapter

from cairnwind import __version__
from cairnwind.client.answers import Change
from cairnwind.core.values.errors import BoardError, CallerError, Trouble
from cairnwind.folder import Folder, running

API = "/api/v1"
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
        self._timeout = timeout
        self._session = requests.Session()
        self._session.trust_env = False  # no proxy stands between a host and itself
        if fingerprint:
            self._session.mount("https://", _Pinned(fingerprint))
        elif certificate:
            self._session.verify = certificate
        self._session.headers["User-Agent"] = f"{surface}/{__version__}"
        if key:
            self._session.headers["Authorization"] = f"Bearer {key}"

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
    ) -> Any:
        """One call of the API; returns its JSON, raises its problem. ``content`` is a calendar, sent as it is."""
        headers = {"Idempotency-Key": token} if token else {}
        if content is not None:
            headers["Content-Type"] = "text/calendar"
        try:
            response = self._session.request(
                method,
                self.address + API + path,
                json=body,
                data=content,
                params=params,
                headers=headers,
                timeout=self._timeout,
            )
        except requests.RequestException as error:
            raise self._gone(error) from None
        if response.ok:
            return response.text if text else response.json()
        raise problem(response)

    def changes(self, *, after: str | None = None, again: bool = True) -> Iterator[Change]:
        """Events as they happen; first, and whenever some were missed, an 'afresh' with the whole picture.

        Comes back by itself when the service restarts or the link breaks, unless ``again`` is False.
        """
        pause = threading.Event()
        while True:
            try:
                for change in self._stream(after):
                    after = change.id
                    yield change
            except requests.RequestException as error:
                if not again:
                    raise self._gone(error) from None
            if not again:
                return
            pause.wait(0.5)

    def _stream(self, after: str | None) -> Iterator[Change]:
        headers = {"Accept": "text/event-stream", **({"Last-Event-ID": after} if after else {})}
        with self._session.get(
            f"{self.address}{API}/events", headers=headers, stream=True, timeout=(self._timeout, 60)
        ) as response:
            if not response.ok:
                raise problem(response)
            fields: dict[str, str] = {}
            for raw in response.iter_lines(chunk_size=1):
                line = raw.decode("utf-8")
                if line:
                    name, _, value = line.partition(": ")
                    fields[name] = value
                elif "data" in fields:
                    data = json.loads(fields["data"])
                    yield Change(
                        fields["event"],
                        data.get("name") or data.get("output") or "",
                        data,
                        fields.get("id", ""),
                    )
                    fields = {}

    def _gone(self, error: Exception) -> CallerError:
        return CallerError(
            "no-service",
            f"The service at {self.address} does not answer ({type(error).__name__}).",
            "See whether it runs: cairnwind look.",
        )

    def _get(self, path: str) -> dict[str, Any]:
        found: dict[str, Any] = self.call("GET", path)
        return found

    def _form(self, method: str, path: str, body: dict[str, Any] | None = None) -> dict[str, Any]:
        form: dict[str, Any] = self.call(method, path, body)
        return form

    def _post(self, path: str, body: dict[str, Any]) -> dict[str, Any]:
        found: dict[str, Any] = self.call("POST", path, body)
        return found

    def _rows(self, path: str) -> list[dict[str, Any]]:
        found: list[dict[str, Any]] = self.call("GET", path)
        return found


class _Pinned(HTTPAdapter):
    """Takes one certificate only, whoever signed it."""

    def __init__(self, fingerprint: str) -> None:
        self._fingerprint = fingerprint
        super().__init__()

    def init_poolmanager(self, *args: Any, **more: Any) -> None:
        """With the fingerprint in place of a chain of signatures."""
        context = ssl.create_default_context()
        context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
        super().init_poolmanager(*args, ssl_context=context, assert_fingerprint=self._fingerprint, **more)

    def cert_verify(self, conn: Any, url: Any, verify: Any, cert: Any) -> None:
        """The fingerprint says all."""
        conn.assert_fingerprint = self._fingerprint
        conn.cert_reqs = "CERT_NONE"


def problem(response: requests.Response) -> Trouble:
    """What an answer says went wrong (RFC 9457), as the error that the service itself raised."""
    try:
        form = response.json()
        code, sentence, remedy = form["code"], form["detail"], form.get("remedy", "")
    except (ValueError, KeyError, TypeError):
        return CallerError(
            "no-service", f"What answers at {response.url} is no Cairnwind service.", "Check the address."
        )
    made = (BoardError if code in BOARD_CODES else CallerError)(code, sentence, remedy)
    made.more = {key: value for key, value in form.items() if key in ("at", "end", "choices", "key")}
    return made
