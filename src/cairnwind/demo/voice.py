"""A small simulated voice assistant: what was heard comes as text, what it says goes back as text.

It knows nothing of Cairnwind but what it finds: a Thing by DNS-SD, the Thing's description, and in it an action that takes what was
said. What that means, the service decides, and gives the sentence to say back.
"""

from __future__ import annotations

import threading
from typing import Any

import requests
from zeroconf import IPVersion, ServiceBrowser, ServiceListener, Zeroconf

TYPE = "_wot._tcp.local."


class Voice:
    """One assistant, set up for one site. ``key`` is what the assistant was given when it was set up."""

    def __init__(self, key: str, address: str = "", td: str = "/.well-known/wot") -> None:
        self._session = requests.Session()
        self._session.trust_env = False
        self._session.headers.update({"Authorization": f"Bearer {key}", "User-Agent": "cairnwind-voice/1"})
        self.address, self._td = address, td
        self.thing: dict[str, Any] = {}
        self._asked = ""
        """The phrase that was asked back about, with the place of the word in question."""
        self._at = (0, 0)

    def find(self, name: str = "", within: float = 10.0, port: int = 0) -> bool:
        """Look for a Thing on this host's networks; True when one (of this name, at this port) answers.

        Two houses may be announced by one name, and the second is then told by another: its port is its own.
        """
        found = threading.Event()
        voice = self

        class Listener(ServiceListener):
            def add_service(self, zc: Zeroconf, kind: str, full: str) -> None:
                info = zc.get_service_info(kind, full)
                if info is None or found.is_set() or (port and info.port != port):
                    return
                if name and not port and full.partition("." + kind)[0] != name:
                    return
                told = {key.decode(): (value or b"").decode() for key, value in info.properties.items()}
                host = info.parsed_addresses(IPVersion.V4Only)[0]
                voice.address, voice._td = (
                    f"{told.get('scheme', 'http')}://{host}:{info.port}",
                    told.get("td", voice._td),
                )
                found.set()

            def update_service(self, zc: Zeroconf, kind: str, full: str) -> None:
                self.add_service(zc, kind, full)

            def remove_service(self, zc: Zeroconf, kind: str, full: str) -> None:
                """It has gone; whoever talks to it will notice."""

        zeroconf = Zeroconf(interfaces=["127.0.0.1"], ip_version=IPVersion.V4Only)
        try:
            ServiceBrowser(zeroconf, TYPE, Listener())
            return found.wait(within)
        finally:
            zeroconf.close()

    def read(self) -> list[str]:
        """Read the Thing's description; returns the titles of what it can be asked for."""
        answer = self._session.get(self.address + self._td, timeout=5)
        answer.raise_for_status()
        self.thing = answer.json()
        return [action["title"] for action in self.thing["actions"].values()]

    def hear(self, sentence: str) -> str:
        """What was said; returns what to say back."""
        said = sentence.strip()
        if not said:
            return "I heard nothing."
        if self._asked:
            begin, end = self._at
            said, self._asked = f"{self._asked[:begin]}{said}{self._asked[end:]}", ""
        return self._do(said)

    def _do(self, phrase: str) -> str:
        answer = self._act("phrase", {"phrase": phrase})
        if answer.get("code") == "asks-back":
            self._asked, self._at = answer.get("phrase", phrase), (answer["at"], answer["end"])
        return str(answer.get("say") or answer.get("detail") or "Done.")

    def _act(self, action: str, body: dict[str, Any]) -> dict[str, Any]:
        """Invoke an action by the form that the description has for it."""
        form = self.thing["actions"][action]["forms"][0]
        try:
            answer = self._session.request(
                form["htv:methodName"], self.thing["base"] + form["href"], json=body, timeout=10
            )
            found: dict[str, Any] = answer.json()
        except (requests.RequestException, ValueError):
            return {"detail": "The house does not answer."}
        return found
