"""Ways out: web hooks, mail, events at the broker. The journal is their queue, so that what happened is told although nobody listens just then.

Each way keeps the number of the last row that it is done with. It tells the rows after that in their order, each at least
once, with the row's number as its id; while nobody answers they wait, and are tried again with pauses that grow to minutes.
What is answered with a refusal is put aside after some attempts, so that an alarm never waits behind what somebody does not
understand; it is told again later, until it is taken. A way that is new begins with what happens from then on.

A hook's request is signed as the Standard Webhooks specification has it: ``webhook-id``, ``webhook-timestamp``, and ``webhook-signature``
(``v1,`` and the base64 of HMAC-SHA-256 over ``id.timestamp.body``, with the way's secret: base64 of 24 to 64 bytes, with or without
``whsec_`` before it). Delivered is what is answered with 2xx, and nothing else.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import logging
import re
import smtplib
import ssl
import threading
import time
from collections.abc import Callable
from email.message import EmailMessage
from email.utils import format_datetime, make_msgid, parseaddr, parsedate_to_datetime
from typing import Any, NamedTuple, Protocol
from urllib.parse import urlsplit
from zoneinfo import ZoneInfo

import requests

from cairnwind import __version__
from cairnwind.core.facts.telling import SEVERITIES
from cairnwind.core.values import jsontext
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import NS
from cairnwind.remotes.desk import Desk
from cairnwind.remotes.progress import Progress
from cairnwind.remotes.remote import Remote
from cairnwind.site import remotes as facts

FIRST_PAUSE, LONGEST_PAUSE = 1.0, 300.0
LONGEST_ASKED = 3600.0
"""Seconds: somebody who asks for a longer pause is tried again after that."""
ANSWER_WITHIN = 10.0
TURN = 1.0
"""Seconds between looks at the journal when nothing wakes us."""
SETTLE = 0.05
"""Seconds after a change in which its row is committed."""
REFUSALS = 3
"""Attempts before something that is refused is put aside; one, while anything else is."""
MOST_REFUSED = 10
"""Of what was put aside, when it is tried again: the others have their turn the next time."""
LATER = (408, 425, 429)
"""Answers of HTTP that are no refusals, although they begin with 4: too slow, too early, too much."""

log = logging.getLogger("cairnwind.remotes")


class Which(Protocol):
    """What a way out is to tell (a table of the site file)."""

    @property
    def name(self) -> str:
        """By which its progress is kept."""

    @property
    def events(self) -> tuple[str, ...]:
        """Some of `cairnwind.core.facts.telling.EVENTS`."""

    @property
    def outputs(self) -> tuple[str, ...]:
        """Of changes, inputs and commands: of these only; empty: all."""

    @property
    def severity(self) -> str:
        """The least that an alarm has to have."""


class Attempt(NamedTuple):
    """What came of telling a row."""

    why: str = ""
    """Why it did not get through; empty if it did."""
    refused: bool = False
    """Somebody was there and did not want it: another row may fare better."""
    after: float = 0.0
    """Seconds that somebody asks us to wait before it is tried again."""


class Outward(Remote):
    """A way out. What it does with a row is for `tell` to say."""

    def __init__(self, desk: Desk, told: Which, progress: Progress, secret: Callable[[str], str]) -> None:
        super().__init__(told.name, desk)
        self._told, self._progress, self._secret = told, progress, secret
        self._again_at, self._again_after = 0.0, FIRST_PAUSE
        """When what was put aside is tried again (monotonic seconds), and the pause that comes then."""
        self._over, self._wake, self._again = threading.Event(), threading.Event(), threading.Event()
        self._thread = threading.Thread(target=self._work, name=f"way-{told.name}", daemon=True)
        self._tried = 0
        self._refusal = "before this start"

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
        self._progress.keep()

    def again(self) -> None:
        """Whom it tells is there again: no need to sit a pause out."""
        self._again.set()

    def facts(self) -> dict[str, Any]:
        """What it tells, and how far it has come."""
        return {
            "events": list(self._told.events),
            "outputs": list(self._told.outputs),
            "told_up_to": self._progress.done,
            "put_aside": sorted(self._progress.aside)[:100],
        }

    def form(self) -> dict[str, Any]:
        """How it fares."""
        form = super().form()
        aside = list(self._progress.aside)
        if aside and not form["trouble"]:
            what = (
                f"event {aside[0]} was"
                if len(aside) == 1
                else f"{len(aside)} events from {min(aside)} on were"
            )
            form["trouble"] = f"{what} refused ({self._refusal}): put aside, and tried again"
        return form

    def tell(self, row: Any, form: dict[str, Any]) -> Attempt:
        """Tell one row."""
        raise NotImplementedError

    def _work(self) -> None:
        progress = self._progress
        while not self._over.is_set():
            try:
                self._try_refused()
                rows = self.desk.journal(progress.done)
            except Exception:  # a disk that is full or gone may come back
                log.exception("%s cannot read the journal", self.name)
                self._over.wait(LONGEST_PAUSE / 60)
                continue
            for row in rows:
                if not self._wanted(row):
                    progress.passed(row.seq)
                elif not self._deliver(row):
                    return
            if not rows:
                self._wake.wait(TURN)
                self._wake.clear()
                self._over.wait(SETTLE)

    def _deliver(self, row: Any) -> bool:
        """Until it got through or was put aside; False if we are to end before that."""
        self._tried = 0
        while not self._over.is_set():
            self._again.clear()
            attempt = self._attempt(row)
            if not attempt.why:
                self._tried = 0
                return True
            self._tried += 1
            if attempt.refused and self._tried >= (1 if self._progress.aside else REFUSALS):
                self._refusal, self._tried = attempt.why, 0
                if not self._progress.aside:
                    self._again_at, self._again_after = time.monotonic() + FIRST_PAUSE, FIRST_PAUSE
                self._progress.put_aside(row.seq)
                self.trouble, self.up = "", True
                return True
            self._again.wait(
                max(attempt.after, min(LONGEST_PAUSE, FIRST_PAUSE * 2 ** min(10, self._tried - 1)))
            )
        return False

    def _attempt(self, row: Any) -> Attempt:
        """Tell a row, and note what came of it."""
        try:
            attempt = self.tell(row, _form(row, self.desk.site.name))
        except Exception as error:  # a fault of ours in one event must not end the way
            log.exception("%s failed on event %d", self.name, row.seq)
            attempt = Attempt(f"Cairnwind failed on it: {error!r}", refused=True)
        if not attempt.why:
            self.trouble, self.up = "", True
            self._progress.told(row.seq)
        else:
            self.trouble = f"event {row.seq} did not get through: {attempt.why}"
            self.up = attempt.refused
            self.traffic.add("lost", b"", self.trouble)
        return attempt

    def _try_refused(self) -> None:
        """What was put aside, once more; the pauses grow while any of it is refused."""
        if not self._progress.aside or time.monotonic() < self._again_at:
            return
        refused = 0
        for seq in list(self._progress.aside):
            row = next(iter(self.desk.journal(seq - 1, 1)), None)
            if row is None or row.seq != seq:
                log.warning("%s: event %d is no longer in the journal, and is not told", self.name, seq)
                self._progress.told(seq)
                continue
            attempt = self._attempt(row)
            if attempt.refused:
                refused += 1
                self._refusal, self.trouble = attempt.why, ""
                self._progress.later(seq)
            if refused == MOST_REFUSED or (attempt.why and not attempt.refused) or self._over.is_set():
                break
        self._again_after = min(LONGEST_PAUSE, self._again_after * 2)
        self._again_at = time.monotonic() + self._again_after

    def _wanted(self, row: Any) -> bool:
        told, kind = self._told, kind_of(row)
        if kind not in told.events:
            return False
        if kind == "alarm" and not row.data.get("over"):
            order = SEVERITIES
            severity = row.data.get("severity", order[-1])
            return severity not in order or order.index(severity) >= order.index(told.severity)
        return not told.outputs or kind in ("alarm", "trip", "stop", "link") or row.subject in told.outputs


def kind_of(row: Any) -> str:
    """Which of `cairnwind.core.facts.telling.EVENTS` a row of the journal is."""
    stops = row.kind == "command" and row.data.get("verb") in ("stop", "reset")
    return "stop" if stops else str(row.kind)


class HookRemote(Outward):
    """A web hook."""

    kind = "hook"

    def facts(self) -> dict[str, Any]:
        """Whom it tells."""
        assert isinstance(self._told, facts.Hook)
        where = urlsplit(self._told.address)
        rest = "/…" if where.path.strip("/") or where.query else ""  # which may be what opens it
        return {
            "address": f"{where.scheme}://{where.netloc}{rest}",
            "signed": bool(self._told.secret),
            **super().facts(),
        }

    def tell(self, row: Any, form: dict[str, Any]) -> Attempt:
        """One request."""
        assert isinstance(self._told, facts.Hook)
        body = jsontext.write(form)
        stamp = str(int(time.time()))
        headers = {
            "Content-Type": "application/json", "User-Agent": f"cairnwind/{__version__}", "webhook-id": str(form["id"]), "webhook-timestamp": stamp,
        }  # fmt: skip
        try:
            if self._told.secret:
                headers["webhook-signature"] = sign(
                    self._secret(self._told.secret), str(form["id"]), stamp, body
                )
            self.traffic.add("sent", body, body.decode()[:300])
            with requests.Session() as session:
                session.trust_env = False
                response = session.post(
                    self._told.address,
                    data=body,
                    headers=headers,
                    timeout=ANSWER_WITHIN,
                    allow_redirects=False,
                    stream=True,
                    verify=self._told.authority or True,
                )
                status = response.status_code
                self.traffic.add("got", b"", f"{status} {response.reason}")
                if 200 <= status < 300:
                    return Attempt()
                refused = 300 <= status < 500 and status not in LATER
                elsewhere = ", which is another address: give it that" if 300 <= status < 400 else ""
                return Attempt(
                    f"it answered {status}{elsewhere}",
                    refused,
                    _asked(response.headers.get("Retry-After", "")),
                )
        except CallerError as error:
            return Attempt(error.sentence)
        except requests.RequestException as error:
            return Attempt(_unheard(error))
        except OSError as error:
            return Attempt(f"{self._told.authority} cannot be read: {error}")


class MailRemote(Outward):
    """Mail to people."""

    kind = "mail"

    def facts(self) -> dict[str, Any]:
        """Whom it tells, and by which server."""
        assert isinstance(self._told, facts.Mail)
        return {
            "server": f"{self._told.server[1]}:{self._told.server[2]}",
            "to": list(self._told.to),
            **super().facts(),
        }

    def tell(self, row: Any, form: dict[str, Any]) -> Attempt:
        """One letter."""
        told = self._told
        assert isinstance(told, facts.Mail)
        from datetime import datetime

        secure, host, port = told.server

        site = self.desk.site
        then = datetime.fromtimestamp(row.wall / NS, ZoneInfo(site.timezone))
        letter = EmailMessage()
        letter["From"], letter["To"] = told.sender, ", ".join(told.to)
        _, address = parseaddr(told.sender)
        letter["Subject"] = " ".join(f"{site.name}: {form['text']}".split())[:200]
        letter["Date"] = format_datetime(then)
        letter["Message-ID"] = make_msgid(f"{form['id']}", address.partition("@")[2])
        letter["Auto-Submitted"] = "auto-generated"
        letter.set_content(
            f"{form['text']}\n\n{then:%A %d %B %Y, %H:%M:%S} ({site.timezone})\nevent {form['id']} of {site.name}\n"
        )
        try:
            trust = ssl.create_default_context(cafile=told.authority or None) if secure else None
        except (OSError, ssl.SSLError) as error:
            return Attempt(f"{told.authority} cannot be read: {error}")
        try:
            made: smtplib.SMTP = (
                smtplib.SMTP_SSL(host, port, timeout=ANSWER_WITHIN, context=trust)
                if secure == "tls"
                else smtplib.SMTP(host, port, timeout=ANSWER_WITHIN)
            )
            with made as server:
                if secure == "starttls":
                    server.starttls(context=trust)
                if told.user:
                    server.login(told.user, self._secret(told.secret) if told.secret else "")
                server.send_message(letter)
        except CallerError as error:
            return Attempt(error.sentence)
        except (OSError, smtplib.SMTPException) as error:
            return Attempt(_untaken(error), refused=_for_good(error))
        self.traffic.add("sent", letter.as_bytes(), f"to {letter['To']}: {letter['Subject']}")
        return Attempt()


def _unheard(error: requests.RequestException) -> str:
    """Why a hook was not reached, in words."""
    match error:
        case requests.Timeout():
            return f"it does not answer within {ANSWER_WITHIN:g} s"
        case requests.exceptions.SSLError():
            return "its certificate is not one that this machine trusts"
        case requests.ConnectionError():
            return "it cannot be reached"
    return f"it cannot be asked ({type(error).__name__})"


def _untaken(error: Exception) -> str:
    """Why a mail server did not take a letter. Its own words are left out: they may have the password in them."""
    match error:
        case smtplib.SMTPAuthenticationError():
            return "the mail server does not take this user and secret"
        case smtplib.SMTPRecipientsRefused():
            return "the mail server does not take these addresses"
        case smtplib.SMTPResponseException(smtp_code=code):
            return f"the mail server answered {code}"
        case ssl.SSLError():
            return "the mail server's certificate is not one that this machine trusts"
        case smtplib.SMTPException():
            return f"the mail server did not take it ({type(error).__name__})"
    return f"the mail server cannot be reached: {getattr(error, 'strerror', None) or type(error).__name__}"


def _for_good(error: Exception) -> bool:
    """Whether a mail server has refused a letter for what it is (RFC 5321, 4.2.1: codes from 500 on)."""
    match error:
        case smtplib.SMTPRecipientsRefused(recipients=each):
            return all(code >= 500 for code, _ in each.values())
        case smtplib.SMTPSenderRefused(smtp_code=code) | smtplib.SMTPDataError(smtp_code=code):
            return code >= 500
    return False


def sign(secret: str, id: str, stamp: str, body: bytes) -> str:
    """The signature of a request (Standard Webhooks, symmetric)."""
    made = hmac.new(_key(secret), f"{id}.{stamp}.".encode() + body, hashlib.sha256).digest()
    return f"v1,{base64.b64encode(made).decode()}"


def _key(secret: str) -> bytes:
    """The bytes that a secret stands for; a text that is no base64 of 24 to 64 bytes stands for its own."""
    text = secret.removeprefix("whsec_")
    try:
        found = base64.b64decode(text, validate=True)
    except ValueError:
        found = b""
    return found if 24 <= len(found) <= 64 else secret.encode()


def _asked(said: str) -> float:
    """For how many seconds a `Retry-After` asks us to wait: a number of them, or a date (RFC 9110, 10.2.3)."""
    if re.fullmatch(r"[0-9]{1,9}", said.strip()):
        return min(LONGEST_ASKED, float(said))
    try:
        then = parsedate_to_datetime(said).timestamp()
    except (ValueError, TypeError, OverflowError):
        return 0.0
    return min(LONGEST_ASKED, max(0.0, then - time.time()))


def _form(row: Any, site: str) -> dict[str, Any]:
    from datetime import UTC, datetime

    at = datetime.fromtimestamp(row.wall / NS, UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
    return {
        "id": row.seq, "site": site, "at": at, "kind": kind_of(row), "name": row.subject or None, "text": row.text, "source": row.source or None,
        "data": row.data,
    }  # fmt: skip
