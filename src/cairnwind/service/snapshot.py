"""What readers see: an immutable picture, swapped as a whole, in pages.

A change makes one new page of outputs and a new list of pages; all other pages, with their encoded bodies,
are shared with the picture before. So a change costs the same in a small site and a large one, and a reader
takes no lock.
"""

from __future__ import annotations

from collections.abc import Iterable

from cairnwind.core.engine.loop import Engine
from cairnwind.core.facts.model import Site
from cairnwind.core.facts.now import OutputNow, SiteNow
from cairnwind.core.values.fact import fact
from cairnwind.service import shapes
from cairnwind.service.records import Records

PAGE = 64


class Page:
    """Up to `PAGE` outputs: their pictures and their JSON; the joined body is made when first asked for."""

    __slots__ = ("_body", "bodies", "nows")

    def __init__(self, nows: tuple[OutputNow, ...], bodies: tuple[bytes, ...]) -> None:
        self.nows = nows
        self.bodies = bodies
        self._body: bytes | None = None

    @property
    def body(self) -> bytes:
        """The outputs of the page, joined by commas."""
        if self._body is None:
            self._body = b",".join(self.bodies)
        return self._body


@fact
class Snapshot:
    """The whole picture. ``version`` counts the swaps."""

    version: int
    pages: tuple[Page, ...]
    inputs: dict[str, bytes]
    boards: dict[str, bytes]
    site: bytes
    site_now: SiteNow

    def outputs_body(self) -> bytes:
        """All outputs as a JSON array."""
        return b"[" + b",".join(page.body for page in self.pages) + b"]"


class Publisher:
    """Makes the snapshots. Used by the engine's thread only; `current` may be read by any."""

    def __init__(self, site: Site, engine: Engine) -> None:
        self._site = site
        self._engine = engine
        self.records: Records | None = None
        """Who keeps what is seen."""
        self._number = {name: number for number, name in enumerate(site.outputs)}
        names = list(site.outputs)
        self._facts_end: list[int] = []
        """By number: where in an output's body its facts, which never change, end."""
        self._pages = [self._page(names[at : at + PAGE]) for at in range(0, len(names), PAGE)]
        self._inputs = {name: self._input(name) for name in site.inputs}
        self._boards = {name: self._board(name) for name in site.boards}
        self._site_now = engine.site_now()
        self._site_body = self._site_form()
        self.current = self._make(0)

    def find(self, name: str) -> tuple[OutputNow, bytes] | None:
        """An output's picture and JSON in the current snapshot."""
        number = self._number.get(name)
        if number is None:
            return None
        page = self.current.pages[number // PAGE]
        return page.nows[number % PAGE], page.bodies[number % PAGE]

    def publish(self, changed: Iterable[tuple[str, str]]) -> list[tuple[str, bytes]]:
        """Swap the picture; returns what has changed as (kind, JSON), each encoded once."""
        told: list[tuple[str, bytes]] = []
        fresh: dict[int, list[tuple[int, OutputNow, bytes]]] = {}
        for kind, name in changed:
            if kind == "output":
                page, slot = divmod(self._number[name], PAGE)
                now = self._engine.output_now(name)
                if self.records is not None:
                    self.records.see_output(now, self._engine.state.clocks.now.wall)
                facts = self._pages[page].bodies[slot][: self._facts_end[self._number[name]]]
                body = facts + shapes.dump(shapes.output_state(now))[1:]
                fresh.setdefault(page, []).append((slot, now, body))
            elif kind == "input":
                body = self._input(name)
                if self.records is not None:
                    self.records.see_input(self._engine.input_now(name), self._engine.state.clocks.now.wall)
                self._inputs = {**self._inputs, name: body}
            elif kind == "board":
                body = self._board(name)
                self._boards = {**self._boards, name: body}
            elif kind == "plan":
                body = b"{}"  # asked for by those who show it
            else:
                self._site_now = self._engine.site_now()
                body = self._site_body = self._site_form()
            told.append((kind, body))
        for number, changes in fresh.items():
            nows, bodies = list(self._pages[number].nows), list(self._pages[number].bodies)
            for slot, now, body in changes:
                nows[slot], bodies[slot] = now, body
            self._pages[number] = Page(tuple(nows), tuple(bodies))
        self.current = self._make(self.current.version + 1)
        return told

    def _make(self, version: int) -> Snapshot:
        return Snapshot(
            version, tuple(self._pages), self._inputs, self._boards, self._site_body, self._site_now
        )

    def _site_form(self) -> bytes:
        return shapes.dump(shapes.site_form(self._site, self._site_now))

    def _page(self, names: list[str]) -> Page:
        nows = tuple(self._engine.output_now(name) for name in names)
        bodies = []
        for now in nows:
            facts = shapes.dump(shapes.output_facts(now.output))[:-1] + b","
            self._facts_end.append(len(facts))
            bodies.append(facts + shapes.dump(shapes.output_state(now))[1:])
        return Page(nows, tuple(bodies))

    def _input(self, name: str) -> bytes:
        return shapes.dump(shapes.input_form(self._site.inputs[name], self._engine.input_now(name)))

    def _board(self, name: str) -> bytes:
        return shapes.dump(shapes.board_form(self._site.boards[name], self._engine.board_now(name)))
