"""The service's one connection to its message broker (MQTT 5, or 3.1.1), shared by its remote and all boards behind it.

Comes back by itself, takes its subscriptions up again, and leaves word when it goes: the retained topic
``cairnwind/<site>/service`` says 'here', and by the last will 'gone'. 'here' comes after the subscriptions: who has heard it is heard.

A second connection of the same service (``part``) is for what must not wait behind anything else: it leaves no word.
"""

from __future__ import annotations

import re
import secrets
import socket
import ssl
import sys
import threading
from collections.abc import Callable
from typing import Any, ClassVar

from cairnwind.boards.facts import Broker
from cairnwind.core.values.errors import BoardError, CallerError
from cairnwind.optional import needs

OUTCOME_LASTS, EVENT_LASTS, ORDER_LASTS = 60, 7 * 86_400, 5
"""Seconds after which the broker no longer delivers an outcome, an event, and what a board is told: an old order is none."""
Take = Callable[[str, bytes, bool], None]
KEEP_ALIVE, PATIENT = 5, 60
"""Seconds after which a silent peer is asked whether it is there; where what others send may stand before its answer, too."""
FLOODED = ("commands-", "stops-")
"""Parts by which anybody's messages come."""
LITTLE = 32 << 10
"""Bytes that may wait in this machine where others send: what is read slowly waits at the broker."""


def no_delay(sock: Any) -> None:
    """Small messages leave at once: else each waits up to 40 ms for the other side's word that it has the one before."""
    try:
        sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    except (AttributeError, OSError):
        pass  # not a socket of TCP: then there is nothing to hold back


def slug(name: str) -> str:
    """A site's name as a level of a topic."""
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-") or "site"


def _why_not(error: BaseException | None) -> str:
    """Why a broker could not be reached, in words that follow 'it is away:'."""
    if isinstance(error, ssl.SSLCertVerificationError):
        return f"its certificate is not trusted ({error.verify_message.rstrip('.') or error})"
    if isinstance(error, ssl.SSLError):
        return f"no secure connection comes about ({error.reason or error})"
    if isinstance(error, ConnectionRefusedError):
        return "nobody listens there"
    if isinstance(error, socket.gaierror):
        return "its name is not known"
    return "it does not answer"


class Connection:
    """A connection that is shared: `take` and `give` count its users, and the last one closes it."""

    _open: ClassVar[dict[tuple[str, int, str, str], Connection]] = {}
    _all = threading.Lock()

    def __init__(
        self, broker: Broker, site: str, secret: Callable[[str], str] | None, part: str = ""
    ) -> None:
        needs("broker", "A message broker")
        import paho.mqtt.client as mqtt
        from paho.mqtt.enums import CallbackAPIVersion, MQTTProtocolVersion

        self.broker = broker
        self.up = threading.Event()
        self.trouble = "it does not answer"
        self._users = 0
        self._lock = threading.Lock()
        """Held while subscriptions are added or taken up again, so that none falls between the two."""
        self._there = False
        self.part = part
        self.beside: tuple[Connection, ...] = ()
        """Others of this service, by which commands are heard."""
        self._ready = not part and not (broker.key or broker.tells)
        """Whoever takes commands does so by now; where nobody is to, from the beginning."""
        self._takers: dict[str, list[Take]] = {}
        self._filters: dict[str, bool] = {}
        self.arrived: list[Callable[[], None]] = []
        """Called whenever the broker is reached (again), in the connection's thread."""
        self._status = f"cairnwind/{slug(site)}/service"
        # a name of its own for each start: two services with one name would throw each other off for ever
        self._client: Any = mqtt.Client(
            CallbackAPIVersion.VERSION2,
            f"cairnwind-{slug(site)}-{part}{secrets.token_hex(4)}",
            protocol=MQTTProtocolVersion.MQTTv5 if broker.version == "5" else MQTTProtocolVersion.MQTTv311,
            transport="websockets" if broker.path else "tcp",
        )
        if broker.path:
            self._client.ws_set_options(broker.path)
        if broker.user:
            self._client.username_pw_set(
                broker.user, secret(broker.secret) if broker.secret and secret else None
            )
        if broker.secure:
            self._secure()
        if not part:
            self._client.will_set(self._status, b"gone", qos=1, retain=True)
        self._client.reconnect_delay_set(1, 30)
        self._client.on_connect = self._connected
        self._client.on_disconnect = self._disconnected
        self._client.on_connect_fail = self._not_reached
        self._client.on_socket_open = lambda client, data, sock: self._opened(sock)
        self._client.on_message = self._message
        self._client.connect_async(broker.host, broker.port, PATIENT if part in FLOODED else KEEP_ALIVE)
        self._client.loop_start()

    def _opened(self, sock: Any) -> None:
        no_delay(sock)
        if self.part in FLOODED and hasattr(sock, "setsockopt"):
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, LITTLE)

    def _secure(self) -> None:
        """By whom the broker is known, and this service to it. Raises `CallerError` where a file is not there or no certificate."""
        broker = self.broker
        try:
            self._client.tls_set(
                ca_certs=broker.authority or None,
                certfile=broker.certificate or None,
                keyfile=broker.certificate_key or None,
            )
        except (OSError, ValueError) as error:
            files = ", ".join(filter(None, (broker.authority, broker.certificate, broker.certificate_key)))
            raise CallerError(
                "secret",
                f"The broker's certificates ({files}) cannot be read: {error}.",
                "See [remote.broker].",
            ) from None

    @classmethod
    def take(
        cls, broker: Broker, site: str, secret: Callable[[str], str] | None, part: str = ""
    ) -> Connection:
        """The connection to this broker for this site, one user more."""
        with cls._all:
            key = (broker.host, broker.port, site, part)
            found = cls._open.get(key)
            if found is None:
                found = cls._open[key] = cls(broker, site, secret, part)
            found._users += 1
            return found

    def give(self) -> None:
        """One user less; the last one ends it."""
        with self._all:
            self._users -= 1
            if self._users:
                return
            for key in [key for key, each in self._open.items() if each is self]:
                del self._open[key]
        if self.up.is_set() and not self.part:
            try:
                self._client.publish(self._status, b"gone", qos=1, retain=True).wait_for_publish(0.5)
            except (RuntimeError, ValueError):
                pass  # too much waits to be sent: its last will says so
        self._client.disconnect()
        self._client.loop_stop()

    def subscribe(self, topic: str, take: Take) -> None:
        """Have ``take`` called with (topic, payload, whether it was left there before), in the connection's thread."""
        with self._lock:
            self._takers.setdefault(topic, []).append(take)
            if self._there:
                self._client.subscribe(topic, qos=1)

    def follow(self, topics: str, take: Callable[[Any], None], *, left: bool = False) -> None:
        """Have ``take`` called with each message of the topics of a filter, in the connection's thread; ``left``: what was left there before, too."""
        with self._lock:
            self._filters[topics] = left
            self._client.message_callback_add(topics, lambda client, data, message: take(message))
            if self._there:
                self._follow(topics)

    def ready(self) -> None:
        """Commands are taken from now on: say so, now and whenever the broker is back."""
        with self._lock:
            self._ready = True
            if self._there and not self.part:
                self._say_here()

    def here_again(self) -> None:
        """A connection beside this one has come up: say so, if commands are taken."""
        with self._lock:
            if self._there and self._ready:
                self._say_here()

    def _say_here(self) -> None:
        """Not before the connections beside this one hear: who has heard it is heard."""
        if all(each.up.is_set() for each in self.beside):
            self._client.publish(self._status, b"here", qos=1, retain=True)

    def _follow(self, topics: str) -> None:
        """Commands: not those that were left there before, unless that was asked for, and marked where they are to be left there."""
        if self.broker.version != "5":
            self._client.subscribe(topics, qos=1)
            return
        from paho.mqtt.subscribeoptions import SubscribeOptions

        handling = (
            SubscribeOptions.RETAIN_SEND_ON_SUBSCRIBE
            if self._filters[topics]
            else SubscribeOptions.RETAIN_DO_NOT_SEND
        )
        options = SubscribeOptions(qos=1, retainAsPublished=True, retainHandling=handling)
        self._client.subscribe(topics, options=options)

    def unsubscribe(self, take: Take, only: str = "") -> None:
        """No longer; of one topic, where that is given."""
        with self._lock:
            for topic, takers in list(self._takers.items()):
                if take in takers and only in ("", topic):
                    takers.remove(take)
                if not takers:
                    del self._takers[topic]
                    self._client.unsubscribe(topic)

    def publish(
        self, topic: str, payload: str | bytes, *, retain: bool = False, correlation: bytes | None = None, within: float = 0.0,
        lasts: int = 0, content: str = "",
    ) -> None:  # fmt: skip
        """Hand a message to the broker; with ``within`` wait so many seconds until it says that it has it.

        ``lasts``: seconds after which it is delivered to nobody any more; ``content``: its media type (both with MQTT 5).

        Raises `BoardError` when it is away, or does not say so.
        """
        if not self.up.is_set():
            raise self.away()
        properties = None
        if self.broker.version == "5" and (correlation is not None or lasts or content):
            from paho.mqtt.packettypes import PacketTypes
            from paho.mqtt.properties import Properties

            properties = Properties(PacketTypes.PUBLISH)  # type: ignore[no-untyped-call]
            if correlation is not None:
                properties.CorrelationData = correlation
            if lasts:
                properties.MessageExpiryInterval = lasts
            if content:
                properties.ContentType, properties.PayloadFormatIndicator = content, 1
        data = payload if isinstance(payload, bytes) else payload.encode()
        told = self._client.publish(topic, data, qos=1, retain=retain, properties=properties)
        if within:
            try:
                told.wait_for_publish(within)
            except (RuntimeError, ValueError):
                pass  # it broke off, or too much waits to be sent
            if not told.is_published():
                raise self.away() if not self.up.is_set() else BoardError(
                    "no-answer", "The message broker did not say that it has the message.", "It is sent again."
                )  # fmt: skip

    def away(self) -> BoardError:
        """The error for a broker that is not there."""
        at = f"{self.broker.host}:{self.broker.port}"
        return BoardError(
            "no-answer",
            f"The message broker at {at} is away: {self.trouble}.",
            "See to the broker; it is tried again.",
        )

    def _connected(self, client: Any, data: Any, flags: Any, reason: Any, properties: Any) -> None:
        if reason.is_failure:
            self.trouble = str(reason).lower()
            return
        with self._lock:
            for topic in self._takers:
                client.subscribe(topic, qos=1)
            for topics in self._filters:
                self._follow(topics)
            self._there = True
            if self._ready and not self.part:
                self._say_here()
        self.up.set()
        for arrived in self.arrived:
            arrived()

    def _not_reached(self, client: Any, data: Any) -> None:
        """Called while what happened is being handled."""
        self.trouble = _why_not(sys.exc_info()[1])

    def _disconnected(self, client: Any, data: Any, flags: Any, reason: Any, properties: Any) -> None:
        if not reason.is_failure or self.up.is_set():
            self.trouble = "the connection broke"
        with self._lock:
            self._there = False
        self.up.clear()

    def _message(self, client: Any, data: Any, message: Any) -> None:
        for take in list(self._takers.get(message.topic, ())):
            take(message.topic, message.payload, message.retain)
