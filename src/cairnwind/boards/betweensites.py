"""What two sites say to each other at their broker: two topics a pair, every message sealed, numbered, and with how old it is.

The site that *has* outputs and inputs is the owner, the one that uses some of them as a board the taker. Under the owner's topics,
``from/TAKER`` is what the taker says and ``to/TAKER`` what it is told. A message is a seal, a blank and a JSON object. The seal is
HMAC-SHA256 (RFC 2104) over topic and object, by words that both sites keep secret: whoever may publish at the broker and does not
know them is nobody. Each session has a name of the owner's making, each message in it a number that rises: what comes twice, or from
an older session, is nothing.

A message says by its sender's clock (``at``, milliseconds) when it left. The least that ever lay between that and its arrival is the
way as it is when nothing holds it up; what took longer is so much older (`Age`). So a lease counts from when it was *said*, however
long a broker, a bridge or a buffer has kept it.

    taker   {hello, site, takes: [names], lease}         every half second until it is answered, or for two
    owner   {hello, in, site}                            or {hello, why, remedy}
    taker   {in, n, at, heard, wants: {name: [order, value, who, causes]}}   three times a lease, and whenever it wants something else
    owner   {in, n, at, after, of, are: {name: picture}} what has changed, and an answer to each of those
    taker   {in, n, at, heard, bye: true}                or, by the owner, {in, n, at, after, gone: why}

``wants`` has all orders that were not answered yet, so that none is lost with a message (``who``: 0 a rule, 1 somebody, 2 somebody who
asks for it now: where it is not permitted now it leaves nothing that would begin later); ``heard`` is the last number up to which none was
missed, and what was told after that is told again. A picture says of an output ``of`` (the last order that was taken), ``is`` (what its load is
confirmed at, parts per million, null where nobody knows), ``state``, ``why``, ``remedy``, ``by`` (who leads, where that is not the taker), ``no`` (why the
order is not carried out at all), ``over`` (what was wanted has ended there, and needs a new command); of an input ``active`` or ``value`` with its ``unit``; and of both ``causes``, the reflexes that led to it.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import time
from collections.abc import Callable
from typing import Any

from cairnwind.boards.facts import Broker
from cairnwind.boards.mqtt import Connection, slug
from cairnwind.core.values import jsontext
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import NS

LONGEST = 256 << 10
"""Bytes of a message."""
AT_ONCE = 200
"""Pictures in one message."""
PART = "sites-"
"""Its connection is one of its own: what others send does not stand before it."""
SHORTEST_SECRET = 16
"""Characters."""
SHORTEST_LEASE, LONGEST_LEASE = NS, 60 * NS
"""Nanoseconds."""


def words(secret: Callable[[str], str], name: str) -> str:
    """What both sites keep secret, by its name. Raises `CallerError` (``secret``)."""
    found = secret(name)
    if len(found) < SHORTEST_SECRET:
        sentence = f"The secret '{name}' has fewer than {SHORTEST_SECRET} characters."
        raise CallerError("secret", sentence, "Make one that both sites have: openssl rand -hex 32")
    return found


def topics(owner: str, taker: str) -> tuple[str, str]:
    """What the taker says, and what it is told."""
    top = f"cairnwind/{slug(owner)}"
    return f"{top}/from/{slug(taker)}", f"{top}/to/{slug(taker)}"


class NotTheirs(Exception):
    """A message that is not from who should have sent it, or is no message."""


class Sealed:
    """Messages that go out by one topic and come in by another, under one secret."""

    def __init__(self, secret: str, out: str, into: str) -> None:
        self.out, self.into = out, into
        self._secret = secret.encode()

    def write(self, form: dict[str, Any]) -> bytes:
        """A message to be sent."""
        body = jsontext.write(form)
        return self._seal(self.out, body) + b" " + body

    def read(self, payload: bytes) -> dict[str, Any]:
        """A message that came. Raises `NotTheirs`."""
        if len(payload) > LONGEST:
            raise NotTheirs("it is too long")
        seal, _, body = payload.partition(b" ")
        if not hmac.compare_digest(seal, self._seal(self.into, body)):
            raise NotTheirs("its seal is not made with the secret that both sites should have")
        try:
            form = jsontext.read(body)
        except ValueError as error:
            raise NotTheirs(str(error)) from None
        if not isinstance(form, dict):
            raise NotTheirs("it is no object")
        return form

    def _seal(self, topic: str, body: bytes) -> bytes:
        made = hmac.new(self._secret, topic.encode() + b"\n" + body, hashlib.sha256).digest()
        return base64.urlsafe_b64encode(made).rstrip(b"=")


class Age:
    """When what comes in one session was said, by our clock. A clock that runs a little slower than ours is followed."""

    FOLLOWS = 0.001
    """Seconds a second by which two clocks may drift apart."""

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        self._clock = clock
        self._least: float | None = None
        self._then = 0.0

    def said(self, at: object) -> float:
        """When it was said (our monotonic seconds), by what it says of that (its own milliseconds)."""
        now = self._clock()
        if isinstance(at, bool) or not isinstance(at, int | float):
            return now
        gap = now - at / 1000
        if self._least is None:
            self._least = gap
        else:
            self._least = min(gap, self._least + (now - self._then) * self.FOLLOWS)
        self._then = now
        return now - (gap - self._least)


def now_ms() -> int:
    """Milliseconds, for ``at``."""
    return time.monotonic_ns() // 1_000_000


def abroad(causes: tuple[str, ...], own: str) -> list[str]:
    """Reflexes as another site reads them: those of this site with where they are."""
    return [each if AT in each else f"{each}{AT}{own}" for each in causes]


def at_home(causes: object, own: str) -> tuple[str, ...]:
    """Reflexes that another site has told of, as this one reads them."""
    found = [str(each) for each in causes[:MOST_CAUSES]] if isinstance(causes, list) else []
    return tuple(each.removesuffix(f"{AT}{own}") for each in found)


AT = " at "
MOST_CAUSES = 50


def who_is_there(
    broker: Broker, own: str, secret: Callable[[str], str], seconds: float = 1.0
) -> dict[str, bool]:
    """Sites that have left word at the broker, by their level of the topic: whether they say that they are here. Raises `BoardError`."""
    found: dict[str, bool] = {}
    connection = Connection.take(broker, own, secret, "look-")
    try:
        if not connection.up.wait(seconds * 2):
            raise connection.away()
        connection.follow(
            "cairnwind/+/service",
            lambda message: found.update({message.topic.split("/")[1]: message.payload == b"here"}),
            left=True,
        )
        time.sleep(seconds)
    finally:
        connection.give()
    return found
