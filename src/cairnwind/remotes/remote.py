"""What all remotes have: a name, a key that they carry, what went over their wire, and how they fare."""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterable
from typing import Any, NamedTuple

from cairnwind import oneid
from cairnwind.boards.link import Traffic
from cairnwind.core.facts.claims import Source
from cairnwind.remotes.desk import Desk

log = logging.getLogger("cairnwind.remotes")


class MapRow(NamedTuple):
    """What one address of a remote stands for."""

    address: str
    name: str
    what: str


class Remote:
    """One way in or out. A remote starts its own threads, and none of them is the engine's."""

    kind = ""
    surface = ""
    """What its commands are said to come from."""

    def __init__(self, name: str, desk: Desk, keys: Iterable[str] = ()) -> None:
        self.name, self.desk = name, desk
        self.keys = tuple(dict.fromkeys(filter(None, keys)))
        """The names of the keys that it carries."""
        self.traffic = Traffic()
        self.up = False
        self.trouble = ""

    def start(self) -> None:
        """Begin. Raises `CallerError` (``port``, ``secret``) for what only the site file can mend."""

    def stop(self) -> None:
        """End, and let everything go that was opened."""

    def guarded(self, take: Callable[..., None], *given: Any) -> None:
        """Take something that came, under an id of its own. A fault of ours in it is logged, and ends neither the thread nor the connection."""
        with oneid.of_its_own():
            try:
                take(*given)
                if given:
                    log.debug("remote %s took what came", self.name)
            except Exception as error:
                log.exception("remote %s failed on what came", self.name)
                self.traffic.add("lost", b"", f"Cairnwind failed on it: {error!r}; the log says more")

    @property
    def key(self) -> str:
        """The key of a remote that has one for all; empty: nobody commands by it."""
        return self.keys[0] if self.keys else ""

    def source(self, key: str = "") -> Source:
        """Who its commands come from."""
        return self.desk.source(self.surface, key or self.key)

    def peers(self) -> list[str]:
        """Who is at the other side now."""
        return []

    def facts(self) -> dict[str, Any]:
        """What else there is to say of it."""
        return {}

    def map(self) -> list[MapRow]:
        """What its addresses stand for."""
        return []

    def form(self) -> dict[str, Any]:
        """How it fares, as a JSON object."""
        barred = [
            f"{why}: cairnwind key new --for '{key}'" for key in self.keys if (why := self.desk.barred(key))
        ]
        return {
            "name": self.name, "kind": self.kind, "up": self.up, "trouble": self.trouble or "; ".join(barred), "key": ", ".join(self.keys), "peers": self.peers(),
            "errors": self.traffic.errors, "facts": self.facts(),
        }  # fmt: skip
