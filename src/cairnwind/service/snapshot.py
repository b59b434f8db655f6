"""What readers see: an immutable picture, swapped as a whole, in pages.

A change makes one new page of outputs and a new list of pages; all other pages, with their encoded bodies,
are shared with the picture before. So a change costs the same in a small site and a large one, and a reader
takes no lock. JSON is made when somebody asks for it: while nobody reads, the engine's thread encodes nothing.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

from cairnwind.core.engine.loop import Engine
from cairnwind.core.facts.now import BoardNow, InputNow, OutputNow, SiteNow
from cairnwind.core.facts.site import Site
from cairnwind.core.values.fact import fact
from cairnwind.service import shapes
from cairnwind.service.records import Records

PAGE = 64


class Shown:
    """Something as it stood, and its JSON once somebody has asked for that."""

    __slots__ = ("_body", "_form", "kind", "now")

    def __init__(self, kind: str, now: Any, form: Callable[[Any], Any]) -> None:
        self.kind = kind
        self.now = now
        self._form = form
        self._body: bytes | None = None

    @property
    def name(self) -> str:
        """Of which output, input or board; empty for all else."""
        if self.kind == "output":
            return str(self.now.output.name)
        return str(self.now.name) if self.kind in ("input", "board") else ""

    @property
    def body(self) -> bytes:
        """Its JSON. May be asked for from any thread: what two make at once is the same."""
        if self._body is None:
            self._body = shapes.dump(self._form(self.now))
        return self._body


def whole(picture: bytes) -> Shown:
    """The whole picture anew, for those who follow it."""
    shown = Shown("afresh", None, dict)
    shown._body = picture
    return shown


class Page:
    """Up to `PAGE` outputs; the joined body is made when first asked for."""

    __slots__ = ("_body", "nows")

    def __init__(self, nows: tuple[OutputNow, ...]) -> None:
        self.nows = nows
        self._body: bytes | None = None

    @property
    def body(self) -> bytes:
        """The outputs of the page, joined by commas."""
        if self._body is None:
            self._body = b",".join([output_body(now) for now in self.nows])
        return self._body


@fact
class Snapshot:
    """The whole picture. ``version`` counts the swaps."""

    version: int
    pages: tuple[Page, ...]
    inputs: dict[str, Shown]
    boards: dict[str, Shown]
    site: Shown

    @property
    def site_now(self) -> SiteNow:
        """The site as it stands."""
        now: SiteNow = self.site.now
        return now

    @property
    def nows(self) -> list[OutputNow]:
        """Every output, in the order of the site file."""
        return [now for page in self.pages for now in page.nows]

    def outputs_body(self) -> bytes:
        """All outputs as a JSON array."""
        return b"[" + b",".join(page.body for page in self.pages) + b"]"

    def inputs_body(self) -> bytes:
        """All inputs as a JSON array."""
        return b"[" + b",".join(each.body for each in self.inputs.values()) + b"]"

    def boards_body(self) -> bytes:
        """All boards as a JSON array."""
        return b"[" + b",".join(each.body for each in self.boards.values()) + b"]"


def output_body(now: OutputNow) -> bytes:
    """An output as JSON."""
    return shapes.dump(shapes.output_form(now))


PLAN = Shown("plan", None, lambda _: {})
"""That the plan has changed: it is asked for by those who show it."""


class Publisher:
    """Makes the snapshots. Used by the engine's thread only; `current` may be read by any."""

    def __init__(self, site: Site, engine: Engine) -> None:
        self._engine = engine
        self.records: Records | None = None
        """Who keeps what is seen."""
        self._take(site, 0)

    def adopt(self, site: Site) -> None:
        """Another site: the picture is made anew."""
        self._take(site, self.current.version + 1)
        if self.records is not None:
            self.records.adopt(site, self._engine.state.clocks.now.wall)
            for now in self.current.nows:
                self.records.see_output(now, self._engine.state.clocks.now.wall)

    def _take(self, site: Site, version: int) -> None:
        engine, self._site = self._engine, site
        self._number = {name: number for number, name in enumerate(site.outputs)}
        nows = [engine.output_now(name) for name in site.outputs]
        self._pages = [Page(tuple(nows[at : at + PAGE])) for at in range(0, len(nows), PAGE)]
        self._inputs = {name: self._input(name) for name in site.inputs}
        self._boards = {name: self._board(name) for name in site.boards}
        self._site_shown = self._whole()
        self.current = self._make(version)

    def _has(self, kind: str, name: str) -> bool:
        if kind == "output":
            return name in self._number
        return kind not in ("input", "board") or name in (self._inputs if kind == "input" else self._boards)

    def find(self, name: str) -> OutputNow | None:
        """An output in the current snapshot."""
        number = self._number.get(name)
        return None if number is None else self.current.pages[number // PAGE].nows[number % PAGE]

    def publish(self, changed: Iterable[tuple[str, str]]) -> list[Shown]:
        """Swap the picture; returns what has changed."""
        told: list[Shown] = []
        fresh: dict[int, list[tuple[int, OutputNow]]] = {}
        wall = self._engine.state.clocks.now.wall
        for kind, name in changed:
            if not self._has(kind, name):
                continue  # it has left the site since
            if kind == "output":
                page, slot = divmod(self._number[name], PAGE)
                now = self._engine.output_now(name)
                if self.records is not None:
                    self.records.see_output(now, wall)
                fresh.setdefault(page, []).append((slot, now))
                told.append(Shown("output", now, shapes.output_form))
            elif kind == "input":
                shown = self._input(name)
                if self.records is not None:
                    self.records.see_input(shown.now, wall)
                self._inputs = {**self._inputs, name: shown}
                told.append(shown)
            elif kind == "board":
                shown = self._board(name)
                self._boards = {**self._boards, name: shown}
                told.append(shown)
            elif kind == "plan":
                told.append(PLAN)
            else:
                self._site_shown = self._whole()
                told.append(self._site_shown)
        for number, changes in fresh.items():
            nows = list(self._pages[number].nows)
            for slot, now in changes:
                nows[slot] = now
            self._pages[number] = Page(tuple(nows))
        self.current = self._make(self.current.version + 1)
        return told

    def _make(self, version: int) -> Snapshot:
        return Snapshot(version, tuple(self._pages), self._inputs, self._boards, self._site_shown)

    def _whole(self) -> Shown:
        return Shown("site", self._engine.site_now(), self._site_form)

    def _site_form(self, now: SiteNow) -> dict[str, Any]:
        return shapes.site_form(self._site, now)

    def _input(self, name: str) -> Shown:
        return Shown("input", self._engine.input_now(name), self._input_form)

    def _input_form(self, now: InputNow) -> dict[str, Any]:
        return shapes.input_form(self._site.inputs[now.name], now)

    def _board(self, name: str) -> Shown:
        return Shown("board", self._engine.board_now(name), self._board_form)

    def _board_form(self, now: BoardNow) -> dict[str, Any]:
        return shapes.board_form(self._site.boards[now.name], now)
