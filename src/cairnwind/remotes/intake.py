"""What comes by the broker, sorted before anybody looks into it: nothing that others send holds up what stops or takes off.

Messages are put here by a connection's thread, and carried out one after the other by one of this. What stops all goes first;
then, one for each topic, what may take an output off, in the place of what waited for that output before; then the rest in
its order, of which no more waits than `MOST_WAITING`. Whoever sends faster than that is read more slowly.
"""

from __future__ import annotations

import threading
import time
from collections import Counter, deque
from collections.abc import Callable, Iterable
from typing import Any

from cairnwind.core.language.words import stops
from cairnwind.core.values import jsontext

MOST_WAITING = 1000
"""Messages that wait to be carried out; more are refused."""
MOST_STOPS = 50
LARGEST = 64 << 10
"""Bytes of one message."""
PAUSE = 0.001
"""Seconds for which whoever sends too much is not read."""
TURN = 1.0
OFFS = ("off", "release", "close", "shut", "lock", '"0', " 0", ":0")
"""What the words of something that may take off have in them."""
MANY, LATER = (
    "too many messages are waiting; this one was not taken",
    "a later one for the same output is carried out",
)


class Intake:
    """``top`` is where all topics begin, ``off`` what outputs call being off; ``take`` carries a message out, ``refuse`` answers one."""

    def __init__(
        self, top: str, off: Iterable[str], take: Callable[[Any], None], refuse: Callable[[Any, str], None]
    ) -> None:
        self._top, self._take, self._refuse = top, take, refuse
        self._off = (*OFFS, *(word.lower() for word in off))
        self._lock = threading.Lock()
        self._stopping: deque[Any] = deque(maxlen=MOST_STOPS)
        self._urgent: dict[str, Any] = {}
        """By topic."""
        self._others: deque[Any] = deque()
        self._topics: Counter[str] = Counter()
        """Of the others."""
        self._called = threading.Event()
        self._over = False
        self._thread = threading.Thread(target=self._work, name="broker-commands", daemon=True)

    def start(self) -> None:
        """Carry out from now on."""
        self._thread.start()

    def stop(self) -> None:
        """No more."""
        self._over = True
        self._called.set()
        if self._thread.is_alive():
            self._thread.join(2)

    def sort(self, message: Any) -> None:
        """A message has come."""
        topic, payload = message.topic[len(self._top) + 1 :], bytes(message.payload)
        refused: list[tuple[Any, str]] = []
        with self._lock:
            if len(payload) > LARGEST:
                refused = [(message, f"{len(payload)} bytes are too many")]
            elif stops_all(topic, payload):
                self._stopping.append(message)
            elif topic.startswith("out/") and self._hasty(payload):
                refused = [(each, LATER) for each in self._overtaken(topic)]
                self._urgent[topic] = message
            elif len(self._others) < MOST_WAITING:
                self._others.append(message)
                self._topics[topic] += 1
            else:
                refused = [(message, MANY)]
        self._called.set()
        for each, why in refused:
            self._refuse(each, why)
            time.sleep(PAUSE)

    def _overtaken(self, topic: str) -> list[Any]:
        """What waits for the same output, which waits no longer."""
        found = [self._urgent.pop(topic)] if topic in self._urgent else []
        if self._topics.pop(topic, 0):
            whole = f"{self._top}/{topic}"
            found = [each for each in self._others if each.topic == whole] + found
            self._others = deque(each for each in self._others if each.topic != whole)
        return found

    def _hasty(self, payload: bytes) -> bool:
        """Whether a wish may take off or let go: by its beginning, before anything is made of it."""
        said = payload[:200].decode("utf-8", "replace").strip().lower()
        return said in ("", "0", "0 %", "0%") or any(word in said for word in self._off)

    def _next(self) -> Any:
        with self._lock:
            if self._stopping:
                return self._stopping.popleft()
            if self._urgent:
                return self._urgent.pop(next(iter(self._urgent)))
            if not self._others:
                return None
            message = self._others.popleft()
            topic = message.topic[len(self._top) + 1 :]
            self._topics[topic] -= 1
            if not self._topics[topic]:
                del self._topics[topic]
            return message

    def _work(self) -> None:
        while not self._over:
            self._called.wait(TURN)
            self._called.clear()
            while not self._over and (message := self._next()) is not None:
                self._take(message)


def stops_all(topic: str, payload: bytes) -> bool:
    """Whether a message stops all, whichever way it says so: at the all-stop whatever is said and is no reset does."""
    kind, _, rest = topic.partition("/")
    text = payload.decode("utf-8", "replace").strip()
    if kind == "all-stop":
        return bool(text) and _member(text, "want") != "reset"
    if kind == "do" and rest == "stop":
        return True
    return (kind == "phrase" or (kind == "do" and rest == "do")) and stops(_member(text, "phrase"))


def _member(text: str, name: str) -> str:
    """A bare text, or this member of a JSON object."""
    if not text.startswith("{"):
        return text
    try:
        return str(jsontext.read(text).get(name, ""))
    except (ValueError, AttributeError):
        return ""
