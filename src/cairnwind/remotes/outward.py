"""Ways out: web hooks, mail, events at the broker. The journal is their queue, so that what happened is told although nobody listens just then.

Each way keeps the number of the last row that it is done with. It tells the rows after that in their order, each at least
once, with the row's number as its id; one that does not get through is tried again, with pauses that grow to minutes, and
holds up those behind it. A way that is new begins with what happens from then on.

A hook's request is signed as the Standard Webhooks specification has it: ``webhook-id``, ``webhook-timestamp``, and ``webhook-signature``
(``v1,`` and the base64 of HMAC-SHA-256 over ``id.timestamp.body``, with the way's secret).
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import logging
import smtplib
import ssl
import threading
import time
from collections.abc import Callable
from email.message import EmailMessage
from email.utils import format_datetime, make_msgid
from typing import Any, Protocol
from zoneinfo import ZoneInfo

import orjson
import requests

from cairnwind import __version__
from cairnwind.core.errors import CallerError
from cairnwind.core.quantities import NS
from cairnwind.remotes.desk import Desk
from cairnwind.remotes.remote import Remote
from cairnwind.site import remotes as facts

FIRST_PAUSE, LONGEST_PAUSE = 1.0, 300.0
ANSWER_WITHIN = 10.0
TURN = 1.0
"""Seconds between looks at the journal when nothing wakes us."""
SETTLE = 0.05
"""Seconds after a change in which its row is committed."""
KEEP_EVERY = 500


log = logging.getLogger("cairnwind.remotes")


class Which(Protocol):
    """What a way out is to tell (a table of the site file)."""

    @property
    def name(self) -> str:
        """By which its progress is kept."""

    @property
    def events(self) -> tuple[str, ...]:
        """Some of `facts.EVENTS`."""

    @property
    def outputs(self) -> tuple[str, ...]:
        """Of changes, inputs and commands: of these only; empty: all."""

    @property
    def severity(self) -> str:
        """The least that an alarm has to have."""


class Outward(Remote):
    """A way out. What it does with a row is for `tell` to say."""

    def __init__(
        self, desk: Desk, told: Which, done: int, keep: Callable[[str, int], None], secret: Callable[[str], str]
    ) -> None:  # fmt: skip
        """``done`` is the number of the last row that is told; ``keep`` stores another."""
        super().__init__(told.name, desk)
        self._told, self._done, self._keep, self._secret = told, done, keep, secret
        self._skipped = 0
        self._over, self._wake, self._again = threading.Event(), threading.Event(), threading.Event()
        self._thread = threading.Thread(target=self._work, name=f"way-{told.name}", daemon=True)
        self._tried = 0

    def start(self) -> None:
        """Begin to tell."""
        self.desk.listen(lambda changed, ended: self._wake.set())
        self.up = True
        self._thread.start()

    def stop(self) -> None:
        """Tell no more; what is left is told after the next start."""
        self._over.set()
        self._wake.set()
        self._again.set()
        if self._thread.is_alive():
            self._thread.join(ANSWER_WITHIN if self._tried else 2)
        self._keep(self.name, self._done)

    def again(self) -> None:
        """Whom it tells is there again: no need to sit a pause out."""
        self._again.set()

    def facts(self) -> dict[str, Any]:
        """What it tells, and how far it has come."""
        return {
            "events": list(self._told.events),
            "outputs": list(self._told.outputs),
            "told_up_to": self._done,
        }

    def tell(self, row: Any, form: dict[str, Any]) -> str:
        """Tell one row; returns why it did not get through, empty if it did."""
        raise NotImplementedError

    def _work(self) -> None:
        while not self._over.is_set():
            try:
                rows = self.desk.journal(self._done)
            except Exception:  # a disk that is full or gone may come back
                log.exception("%s cannot read the journal", self.name)
                self._over.wait(LONGEST_PAUSE / 60)
                continue
            for row in rows:
                if self._wanted(row) and not self._deliver(row):
                    return
                self._done = row.seq
                self._skipped += 1
                if self._skipped >= KEEP_EVERY:
                    self._skipped = 0
                    self._keep(self.name, self._done)
            if not rows:
                self._wake.wait(TURN)
                self._wake.clear()
                self._over.wait(SETTLE)

    def _deliver(self, row: Any) -> bool:
        """Until it got through; False if we are to end before that."""
        form = _form(row, self.desk.site.name)
        self._tried = 0
        while not self._over.is_set():
            self._again.clear()
            try:
                why = self.tell(row, form)
            except Exception as error:  # a fault of ours in one event must not end the way
                log.exception("%s failed on event %d", self.name, row.seq)
                why = f"Cairnwind failed on it: {error!r}"
            if not why:
                self._tried, self.trouble, self.up = 0, "", True
                self._done = row.seq
                self._keep(self.name, row.seq)
                return True
            self._tried += 1
            self.trouble, self.up = f"event {row.seq} did not get through: {why}", False
            self.traffic.add("lost", b"", self.trouble)
            self._again.wait(min(LONGEST_PAUSE, FIRST_PAUSE * 2 ** min(10, self._tried - 1)))
        return False

    def _wanted(self, row: Any) -> bool:
        told, kind = self._told, kind_of(row)
        if kind not in told.events:
            return False
        if kind == "alarm" and not row.data.get("over"):
            order = facts.SEVERITIES
            severity = row.data.get("severity", order[-1])
            return severity not in order or order.index(severity) >= order.index(told.severity)
        return not told.outputs or kind in ("alarm", "trip", "stop", "link") or row.subject in told.outputs


def kind_of(row: Any) -> str:
    """Which of `facts.EVENTS` a row of the journal is."""
    stops = row.kind == "command" and row.data.get("verb") in ("stop", "reset")
    return "stop" if stops else str(row.kind)


class HookRemote(Outward):
    """A web hook."""

    kind = "hook"

    def facts(self) -> dict[str, Any]:
        """Whom it tells."""
        assert isinstance(self._told, facts.Hook)
        return {"address": self._told.address, "signed": bool(self._told.secret), **super().facts()}

    def tell(self, row: Any, form: dict[str, Any]) -> str:
        """One request."""
        assert isinstance(self._told, facts.Hook)
        body = orjson.dumps(form)
        stamp = str(int(time.time()))
        headers = {
            "Content-Type": "application/json", "User-Agent": f"cairnwind/{__version__}", "webhook-id": str(form["id"]), "webhook-timestamp": stamp,
        }  # fmt: skip
        try:
            if self._told.secret:
                headers["webhook-signature"] = sign(
                    self._secret(self._told.secret), str(form["id"]), stamp, body
                )
            self.traffic.add("sent", body, f"{form['kind']}: {form['text']}"[:300])
            with requests.Session() as session:
                session.trust_env = False
                response = session.post(
                    self._told.address,
                    data=body,
                    headers=headers,
                    timeout=ANSWER_WITHIN,
                    allow_redirects=False,
                    stream=True,
                )
                self.traffic.add("got", b"", f"{response.status_code} {response.reason}")
                return "" if response.ok else f"it answered {response.status_code}"
        except CallerError as error:
            return error.sentence
        except requests.RequestException as error:
            return f"it does not answer ({type(error).__name__})"


class MailRemote(Outward):
    """Mail to people."""

    kind = "mail"

    def facts(self) -> dict[str, Any]:
        """Whom it tells, and by which server."""
        assert isinstance(self._told, facts.Mail)
        return {
            "server": f"{self._told.server}:{self._told.port}",
            "to": list(self._told.to),
            **super().facts(),
        }

    def tell(self, row: Any, form: dict[str, Any]) -> str:
        """One letter."""
        told = self._told
        assert isinstance(told, facts.Mail)
        from datetime import datetime

        site = self.desk.site
        then = datetime.fromtimestamp(row.wall / NS, ZoneInfo(site.timezone))
        letter = EmailMessage()
        letter["From"], letter["To"] = told.sender, ", ".join(told.to)
        letter["Subject"] = " ".join(f"{site.name}: {form['text']}".split())[:200]
        letter["Date"] = format_datetime(then)
        letter["Message-ID"] = make_msgid(f"{form['id']}", told.sender.partition("@")[2])
        letter["Auto-Submitted"] = "auto-generated"
        letter.set_content(
            f"{form['text']}\n\n{then:%A %d %B %Y, %H:%M:%S} ({site.timezone})\nevent {form['id']} of {site.name}\n"
        )
        try:
            made: smtplib.SMTP = (
                smtplib.SMTP_SSL(
                    told.server, told.port, timeout=ANSWER_WITHIN, context=ssl.create_default_context()
                )
                if told.secure == "tls"
                else smtplib.SMTP(told.server, told.port, timeout=ANSWER_WITHIN)
            )
            with made as server:
                if told.secure == "starttls":
                    server.starttls(context=ssl.create_default_context())
                if told.user:
                    server.login(told.user, self._secret(told.secret) if told.secret else "")
                server.send_message(letter)
        except CallerError as error:
            return error.sentence
        except (OSError, smtplib.SMTPException) as error:
            return f"the mail server did not take it ({type(error).__name__})"  # its words may have the password in them
        self.traffic.add("sent", letter.as_bytes(), f"to {letter['To']}: {letter['Subject']}")
        return ""


def sign(secret: str, id: str, stamp: str, body: bytes) -> str:
    """The signature of a request (Standard Webhooks, symmetric)."""
    made = hmac.new(secret.encode(), f"{id}.{stamp}.".encode() + body, hashlib.sha256).digest()
    return f"v1,{base64.b64encode(made).decode()}"


def _form(row: Any, site: str) -> dict[str, Any]:
    from datetime import UTC, datetime

    at = datetime.fromtimestamp(row.wall / NS, UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
    return {
        "id": row.seq, "site": site, "at": at, "kind": row.kind, "name": row.subject or None, "text": row.text, "source": row.source or None,
        "data": row.data,
    }  # fmt: skip
