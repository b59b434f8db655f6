"""A small simulated board of the network: takes commands and reports over a message broker.

Topics under its name: ``<name>/alive`` (retained, 'here' or 'gone'), ``<name>/<line>/set``, ``<name>/<line>/is``.
It rests when the service says, or the broker says of it, that it is gone. It can lose its network and regain it.
"""

from __future__ import annotations

import threading
from typing import Any

import paho.mqtt.client as mqtt
from paho.mqtt.enums import CallbackAPIVersion, MQTTProtocolVersion


class NetworkBoard:
    """One board, with lines that it takes and reports. ``report_every`` is in seconds."""

    def __init__(
        self, host: str, port: int, name: str, lines: int = 4, *, service: str = "", report_every: float = 5.0,
        user: str = "", password: str = "",
    ) -> None:  # fmt: skip
        self.name, self.lines = name, lines
        self.levels = dict.fromkeys(range(lines), "0")
        self.heard: list[tuple[int, str]] = []
        self.deaf = False
        """Takes commands no longer, though it is there."""
        self.listens = threading.Event()
        self._address, self._service = (host, port), service
        self._over = threading.Event()
        self._client: Any = None
        self._credentials = (user, password)
        self.regain()
        threading.Thread(target=self._report, args=(report_every,), name=f"board-{name}", daemon=True).start()

    def regain(self) -> None:
        """Come (back) into the network."""
        client: Any = mqtt.Client(CallbackAPIVersion.VERSION2, protocol=MQTTProtocolVersion.MQTTv5)
        if self._credentials[0]:
            client.username_pw_set(*self._credentials)
        client.will_set(f"{self.name}/alive", b"gone", qos=1, retain=True)
        client.on_connect = self._connected
        client.on_message = self._message
        client.on_subscribe = lambda *_: self.listens.set()
        client.connect(*self._address, keepalive=5)
        client.loop_start()
        self._client = client

    def lose(self) -> None:
        """Lose the network, as when its supply is pulled: the broker says so by the last will."""
        client, self._client = self._client, None
        client._sock_close()  # no farewell: that is the point
        client.loop_stop()

    def set_input(self, line: int, level: str) -> None:
        """What is on an input line of it."""
        self.levels[line] = level
        self._tell(line)

    def end(self) -> None:
        """Switch it off."""
        self._over.set()
        if self._client is not None:
            if self._client.is_connected():
                self._client.publish(f"{self.name}/alive", b"gone", qos=1, retain=True).wait_for_publish(0.5)
            self._client.disconnect()
            self._client.loop_stop()

    def _connected(self, client: Any, *_: Any) -> None:
        client.subscribe(f"{self.name}/+/set", qos=1)
        if self._service:
            client.subscribe(self._service, qos=1)
        client.publish(f"{self.name}/alive", b"here", qos=1, retain=True)
        for line in range(self.lines):
            self._tell(line)

    def _message(self, client: Any, data: Any, message: Any) -> None:
        text = message.payload.decode()
        if message.topic == self._service:
            if text == "gone":
                for line in range(self.lines):
                    self.set_input(line, "0")
            return
        line = int(message.topic.split("/")[-2])
        self.heard.append((line, text))
        if not self.deaf:
            self.set_input(line, text)

    def _tell(self, line: int) -> None:
        client = self._client
        if client is not None:
            client.publish(f"{self.name}/{line}/is", self.levels[line].encode(), qos=1)

    def _report(self, every: float) -> None:
        while not self._over.wait(every):
            for line in range(self.lines):
                self._tell(line)
