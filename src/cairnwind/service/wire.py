"""What goes over HTTP, to be seen as the wires of the other remotes are: commands always, reading while somebody looks.

Keys, links, tokens and passcodes never get in: no header is kept, and no body of a call that carries one (`Call.secret`).
Every command passes here, so it is noted without a lock, and put into words only for who looks.
"""

from __future__ import annotations

import itertools
import time
from collections import deque
from typing import Any, NamedTuple

from flask import Response, request

from cairnwind.boards.link import Frame, Traffic
from cairnwind.core.facts.claims import Source
from cairnwind.remotes.desk import Desk
from cairnwind.remotes.remote import MapRow, Remote
from cairnwind.service.asked import BODY, CALLER
from cairnwind.service.calls import CALLS, SECRET, V1, full

KEPT = 2000
"""Bytes of a body, at most."""
OWN = f"{V1}/remotes"
"""What is asked by who looks, and not noted: it would bury what they look for."""


class Exchange(NamedTuple):
    """A request and its answer."""

    number: int
    """Of its first frame; the answer is the second."""
    wall: int
    peer: str
    source: Source | None
    """Who asked, if that is known."""
    method: str
    path: str
    asked: bytes | None
    """None: it is not to be seen."""
    status: str
    said: bytes

    def frames(self) -> tuple[Frame, Frame]:
        """It, as other wires have it."""
        who = f"{self.source.who} ({self.source.surface})" if self.source else "nobody known"
        if self.asked is None:
            asked, text = b"", "(it carries a secret)"
            answer = text
        else:
            asked, text = self.asked, self.asked.decode("utf-8", "replace")
            answer = self.said.decode("utf-8", "replace")
        head = f"{self.peer} {who}: {self.method} {self.path} {text}"
        tail = f"{self.peer} {self.status} {answer}"
        return (
            Frame(self.number, self.wall, "got", asked, head[:300]),
            Frame(self.number + 1, self.wall, "sent", self.said, tail[:300]),
        )


class Exchanges(Traffic):
    """The last of them; may be added to by any thread."""

    def __init__(self) -> None:
        super().__init__()
        self._numbers = itertools.count(1, 2)
        self._exchanges: deque[Exchange] = deque(maxlen=self.KEPT // 2)

    def note(self, *what: Any) -> None:
        """Note one: what `Exchange` has after its number and time."""
        self._exchanges.append(Exchange(next(self._numbers), time.time_ns(), *what))

    def peers(self, since: int) -> list[str]:
        """Whose there are since then (nanoseconds UTC)."""
        return sorted({each.peer for each in self._exchanges.copy() if each.wall > since})

    def after(self, number: int) -> list[Frame]:
        """The frames after this number that are still kept."""
        super().after(number)  # so that somebody is known to look
        frames = (frame for each in self._exchanges.copy() for frame in each.frames())
        return sorted(frame for frame in frames if frame.number > number)


class Wire(Remote):
    """HTTP as one of the remotes, for whoever looks at what goes over it. It has no thread: whoever answers a request notes it."""

    kind = "HTTP"
    surface = "HTTP"
    traffic: Exchanges

    def __init__(self, desk: Desk) -> None:
        super().__init__("http", desk)
        self.traffic = Exchanges()
        self.up = True
        self.address = ""
        """Where it listens; known once it does."""

    def peers(self) -> list[str]:
        """Who commanded in the last minute."""
        return self.traffic.peers(time.time_ns() - 60 * 10**9)

    def facts(self) -> dict[str, Any]:
        """Where it listens."""
        return {"address": self.address}

    def map(self) -> list[MapRow]:
        """Its calls."""
        return [MapRow(f"{call.method} {full(call.path)}", "", call.says) for call in CALLS]

    def note(self, response: Response) -> Response:
        """Note a request and its answer, which is passed on as it is."""
        environ = request.environ
        method, path = environ["REQUEST_METHOD"], environ["PATH_INFO"]
        if (
            method == "GET"
            and response.status_code < 400
            and (not self.traffic.watched or path.startswith(OWN))
        ):
            return response
        rule = request.url_rule
        hidden = rule is not None and (method, rule.rule) in SECRET
        caller = environ.get(CALLER)
        self.traffic.note(
            environ.get("REMOTE_ADDR", ""), caller[1] if caller else None, method, path,
            None if hidden else environ.get(BODY, b"")[:KEPT], response.status,
            b"" if hidden or response.is_streamed else response.get_data()[:KEPT],
        )  # fmt: skip
        return response
