"""The service's one connection to its message broker (MQTT 5), shared by all boards behind it.

Comes back by itself, takes its subscriptions up again, and leaves word when it goes: the retained topic
``cairnwind/<site>/service`` says 'here', and by the last will 'gone'.
"""

from __future__ import annotations

import re
import secrets
import threading
from collections.abc import Callable
from typing import Any, ClassVar

from cairnwind.boards.facts import Broker
from cairnwind.core.errors import BoardError

Take = Callable[[str, bytes], None]
KEEP_ALIVE = 5
"""Seconds after which a silent peer is asked whether it is there."""


def slug(name: str) -> str:
    """A site's name as a level of a topic."""
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-") or "site"


class Connection:
    """See the module's page. `take` and `give` count its users."""

    _open: ClassVar[dict[tuple[str, int, str], Connection]] = {}
    _all = threading.Lock()

    def __init__(self, broker: Broker, site: str, secret: Callable[[str], str] | None) -> None:
        import paho.mqtt.client as mqtt
        from paho.mqtt.enums import CallbackAPIVersion, MQTTProtocolVersion

        self.broker = broker
        self.up = threading.Event()
        self.trouble = "it does not answer"
        self._users = 0
        self._takers: dict[str, list[Take]] = {}
        self._status = f"cairnwind/{slug(site)}/service"
        # a name of its own for each start: two services with one name would throw each other off for ever
        self._client: Any = mqtt.Client(
            CallbackAPIVersion.VERSION2,
            f"cairnwind-{slug(site)}-{secrets.token_hex(4)}",
            protocol=MQTTProtocolVersion.MQTTv5,
        )
        if broker.user:
            self._client.username_pw_set(
                broker.user, secret(broker.secret) if broker.secret and secret else None
            )
        if broker.secure:
            self._client.tls_set()
        self._client.will_set(self._status, b"gone", qos=1, retain=True)
        self._client.reconnect_delay_set(1, 30)
        self._client.on_connect = self._connected
        self._client.on_disconnect = self._disconnected
        self._client.on_connect_fail = lambda *_: None
        self._client.on_message = self._message
        self._client.connect_async(broker.host, broker.port, KEEP_ALIVE)
        self._client.loop_start()

    @classmethod
    def take(cls, broker: Broker, site: str, secret: Callable[[str], str] | None) -> Connection:
        """The connection to this broker for this site, one user more."""
        with cls._all:
            key = (broker.host, broker.port, site)
            found = cls._open.get(key)
            if found is None:
                found = cls._open[key] = cls(broker, site, secret)
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
        if self.up.is_set():
            self._client.publish(self._status, b"gone", qos=1, retain=True).wait_for_publish(0.5)
        self._client.disconnect()
        self._client.loop_stop()

    def subscribe(self, topic: str, take: Take) -> None:
        """Have ``take`` called with (topic, payload), in the connection's thread."""
        self._takers.setdefault(topic, []).append(take)
        if self.up.is_set():
            self._client.subscribe(topic, qos=1)

    def unsubscribe(self, take: Take) -> None:
        """No longer."""
        for topic, takers in list(self._takers.items()):
            if take in takers:
                takers.remove(take)
            if not takers:
                del self._takers[topic]
                self._client.unsubscribe(topic)

    def publish(self, topic: str, payload: str, *, retain: bool = False) -> None:
        """Hand a message to the broker. Raises `BoardError` when that is away."""
        if not self.up.is_set():
            raise self.away()
        self._client.publish(topic, payload.encode(), qos=1, retain=retain)

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
        for topic in list(self._takers):
            client.subscribe(topic, qos=1)
        client.publish(self._status, b"here", qos=1, retain=True)
        self.up.set()

    def _disconnected(self, client: Any, data: Any, flags: Any, reason: Any, properties: Any) -> None:
        if not reason.is_failure or self.up.is_set():
            self.trouble = "the connection broke"
        self.up.clear()

    def _message(self, client: Any, data: Any, message: Any) -> None:
        for take in list(self._takers.get(message.topic, ())):
            take(message.topic, message.payload)
