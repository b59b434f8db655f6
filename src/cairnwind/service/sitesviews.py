"""HTTP for other sites: of which something is used here, which use something of this one, and who is at the broker."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from typing import Any

from flask import Response, request

from cairnwind.boards import betweensites
from cairnwind.boards.facts import Broker
from cairnwind.boards.links.site import OtherSite, SiteLink
from cairnwind.core.values.errors import BoardError
from cairnwind.folder import Folder
from cairnwind.remotes.othersite import SiteRemote
from cairnwind.remotes.remote import Remote
from cairnwind.service import shapes
from cairnwind.service.asked import answer
from cairnwind.service.desk import Desk


class SitesViews:
    """The views; `cairnwind.service.app` has the way in."""

    def __init__(self, desk: Desk, remotes: Sequence[Remote]) -> None:
        self.desk, self.remotes = desk, remotes
        self._looking = threading.Lock()
        self._there: list[dict[str, Any]] = []
        """Who was there when somebody looked last: one looks at a time, for it takes a second."""

    def routes(self, v1: str) -> dict[str, dict[str, Callable[..., Any]]]:
        """Their addresses."""
        return {f"{v1}/sites": {"GET": self.get_sites}}

    def get_sites(self) -> Response:
        """Who is there, and how they fare."""
        site = self.desk.runtime.site
        broker: Broker | None = site.broker
        there: list[dict[str, Any]] | None = None
        trouble = "" if broker else "this site has no message broker: its file has no [remote.broker]"
        if broker is not None and request.args.get("look"):
            try:
                there = self._look(broker, site.name)
            except BoardError as error:
                trouble = error.sentence
        mine = next((each for each in self.remotes if each.kind == "broker"), None)
        if mine is not None and not trouble:
            trouble = mine.form()["trouble"]
        return answer(
            {
                "own": site.name,
                "broker": f"{broker.host}:{broker.port}" if broker else "",
                "up": bool(broker) and not trouble,
                "trouble": trouble,
                "used": [
                    self._used(name, board)
                    for name, board in site.boards.items()
                    if isinstance(board.facts, OtherSite)
                ],
                "using": [_using(each) for each in self.remotes if isinstance(each, SiteRemote)],
                "there": there,
            }
        )

    def _look(self, broker: Broker, own: str) -> list[dict[str, Any]]:
        if self._looking.acquire(blocking=False):
            try:
                found = betweensites.who_is_there(broker, own, Folder(self.desk.runtime.folder).secret)
                self._there = [{"topic": topic, "here": here} for topic, here in sorted(found.items())]
            finally:
                self._looking.release()
        return self._there

    def _used(self, name: str, board: Any) -> dict[str, Any]:
        """A site of which something is used here."""
        runtime = self.desk.runtime
        link, now = runtime.machine.links.get(name), runtime.engine.board_now(name)
        fares = link.fares() if isinstance(link, SiteLink) else {"delay": None, "troubles": {}}
        wired: list[Any] = [*runtime.site.outputs.values(), *runtime.site.inputs.values()]
        here = {each.pin.line: each.name for each in wired if each.pin.board == name}
        takes = []
        for line, word in enumerate(board.facts.takes):
            mine = here.get(line, "")
            takes.append(
                {
                    "name": word,
                    "here": mine,
                    "shows": self._shows(mine) if now.up else "unknown",
                    "trouble": fares["troubles"].get(word, "") if now.up else "",
                }
            )
        return {
            "site": board.facts.site, "board": name, "up": now.up, "reason": now.reason, "since": shapes.moment(now.since),
            "lease": board.facts.lease / 1e9, "delay": fares["delay"] if now.up else None, "takes": takes,
        }  # fmt: skip

    def _shows(self, name: str) -> str:
        if name in self.desk.site.outputs:
            now = self.desk.output_now(name)
            return now.output.say(now.confirmed) if now.confirmed is not None else "unknown"
        found = self.desk.input(name)
        return str(found["state"]) if found is not None else ""


def _using(remote: SiteRemote) -> dict[str, Any]:
    """A site that uses something of this one."""
    form = remote.form()
    facts = form["facts"]
    return {
        "site": facts["site"], "remote": remote.name, "up": form["up"], "trouble": form["trouble"], "key": form["key"], "rank": facts["as"],
        "lease": facts["lease"], "heard": facts["heard"], "takes": facts["takes"], "wants": facts["wants"],
    }  # fmt: skip
