"""A small simulated voice assistant: what was heard comes as text, what it says goes back as text.

It knows nothing of Cairnwind but what it finds: a Thing by DNS-SD, the Thing's description, and in it actions that take a
phrase and a question. What people say to assistants is brought into the form of a phrase here; what that means, the
service decides, and gives the sentence to say back.
"""

from __future__ import annotations

import re
import threading
from typing import Any

import requests
from zeroconf import IPVersion, ServiceBrowser, ServiceListener, Zeroconf

TYPE = "_wot._tcp.local."
POLITE = re.compile(
    r"^(?:(?:hey|ok|okay|hello|please|now|and|so|could you|can you|would you|will you|i want you to|let us|let's)\b[ ,]*)+|[ ,]*\b(?:please|now then|thanks|thank you)$",
    re.I,
)
SAID: tuple[tuple[str, str], ...] = (
    (r"(?:stop|halt) (?:everything|it all|all)|emergency stop|everything stop", "all-stop"),
    (r"lights? out|good night|everything off", "turn all lamps off"),
    (r"(?:switch|put|shut|turn) (on|off) (.+)", r"turn \2 \1"),
    (r"(?:switch|put|shut|turn) (.+) (on|off)( .+)?", r"turn \1 \2\3"),
    (r"(?:dim|set|bring|put|turn) (.+?) (?:down |up )?to (.+)", r"turn \1 to \2"),
    (r"(?:all (?:of )?(?:the )?)(.+) (on|off)", r"turn all \1 \2"),
    (r"(?:the )?(.+) (on|off)", r"turn \1 \2"),
    (r"(?:run|begin|start) (?:the )?(.+?) scene", r"run scene \1"),
)
"""What people say, and the phrase that it is."""


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
        said = _plain(sentence)
        if not said:
            return "I heard nothing."
        if sentence.rstrip().endswith("?") and re.search(r"\b(stop|halt)\b", said, re.I):
            return self._do(sentence)  # a question stops nothing, and the house says so
        if self._asked:
            begin, end = self._at
            phrase, self._asked = f"{self._asked[:begin]}{said}{self._asked[end:]}", ""
            return self._do(phrase)
        question = re.fullmatch(
            r"(is|are) (?:the )?(.+?) (on|off|open|closed|shut|running|pressed|released)", said, re.I
        )
        if question:
            return self._ask(f"{question.group(2)} is {question.group(3)}")
        for form, phrase in SAID:
            if re.fullmatch(form, said, re.I):
                said = re.sub(form, phrase, said, flags=re.I)
                break
        return self._do(
            re.sub(r"\b(light)(s?)\b", r"lamp\2", said, flags=re.I) if "all" in said.split() else said
        )

    def _do(self, phrase: str) -> str:
        answer = self._act("phrase", {"phrase": phrase})
        if answer.get("code") == "asks-back":
            self._asked, self._at = phrase, (answer["at"], answer["end"])
        return str(answer.get("say") or answer.get("detail") or "Done.")

    def _ask(self, question: str) -> str:
        answer = self._act("ask", {"question": question})
        if "so" not in answer:
            return f"I did not understand: {answer.get('detail', '')}"
        if answer["so"] is None:
            return "That is not known."
        return "Yes." if answer["so"] else f"No: {'; '.join(answer['instead'])}."

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


def _plain(sentence: str) -> str:
    """What was said without what is only polite."""
    said = re.sub(r"[.!?]+\s*$", "", sentence.strip())
    while (shorter := POLITE.sub("", said).strip()) != said:
        said = shorter
    return said
