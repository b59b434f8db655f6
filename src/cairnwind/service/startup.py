"""What comes first, before the store is read and HTTP is loaded: every output is told its safe setting.

Imports little, so that it comes soon: the engine, the links and the lanes between them.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Iterable
from typing import Any

from cairnwind.boards.link import Link
from cairnwind.boards.registry import make
from cairnwind.core.engine.loop import Engine
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Instant
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.interlocks import Interlock
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.service.lanes import Item, Lanes

SWITCH = 0.001
"""Seconds after which a thread that computes gives way: those that drive pins and feed boards wait for nobody long."""
OPEN_WITHIN = 2.0
"""Seconds in which boards have to answer; those that do not are unreachable until they do."""
TURN = 0.25
"""Seconds after which the engine turns although it has nothing to do, so that it is known to work."""
STALE = 1.5
"""Seconds without a turn after which it counts as hung."""


def clock() -> Instant:
    """Now, on both clocks."""
    return Instant(time.monotonic_ns(), time.time_ns())


class Machine:
    """The engine of a site with its links: what decides and what drives."""

    def __init__(
        self,
        site: Site,
        links: dict[str, Link] | None = None,
        secret: Callable[[str], str] | None = None,
    ) -> None:
        self.site = site
        self.secret = secret
        self.engine = Engine(site)
        self.lanes = Lanes()
        self.links = (
            links
            if links is not None
            else {name: make(board, site, secret) for name, board in site.boards.items()}
        )
        self.tables: dict[str, Any] = {}
        """By board that keeps rules by itself: those that it should."""
        self.beat: float | None = None
        """Monotonic seconds of the engine's last turn; None while its thread does not run yet."""

    def fresh(self) -> bool:
        """Whether the engine still works: links ask before they feed a watchdog."""
        return self.beat is None or time.monotonic() - self.beat < STALE

    def adopt(self, site: Site, links: dict[str, Link]) -> None:
        """Another site, with its links. Called by the engine's thread."""
        self.site, self.links = site, links

    def make_safe(self) -> None:
        """Open every link: all outputs are told their safe setting."""
        sys.setswitchinterval(SWITCH)
        end = time.monotonic() + OPEN_WITHIN
        for name, link in self.links.items():
            link.open(*wired(self.site, name), self.report, clock, self.fresh)
        for link in self.links.values():
            link.ready(end - time.monotonic())
        while (item := self.lanes.take()) is not None:
            self.send([effect for effect in self.engine.handle(item.event) if type(effect) is ev.Drive])

    def report(self, event: ev.Event) -> None:
        """What links call: queue an event. Never blocks."""
        self.lanes.put(Item(event))

    def send(self, drives: list[ev.Drive]) -> None:
        """Hand drives to their links, in their order."""
        by_board: dict[str, list[ev.Drive]] = {}
        for drive in drives:
            by_board.setdefault(self.site.outputs[drive.output].pin.board, []).append(drive)
        for board, orders in by_board.items():
            try:
                self.links[board].drive(orders)
            except Exception as error:
                import logging  # only when something is wrong: it is not needed on the way to safe

                logging.getLogger("cairnwind.links").exception("link %s failed", board)
                for order in orders:
                    self.report(
                        ev.Failed(
                            clock(),
                            order.output,
                            order.generation,
                            f"the link to board {board} failed: {error}",
                        )
                    )

    def world(self, input: Input) -> Callable[[Any], None] | None:
        """How an input of a simulated board is worked: a function of its state, or its volts. None: the board is real."""
        link = self.links[input.pin.board]
        found: Callable[[Any], None] | None = getattr(link, "pretend", lambda _: None)(input)
        return found

    def work(self, work: ev.Work) -> None:
        """Hand a trial, or its end, to its link."""
        self.links[work.board].attempt(work.line, work.trial)

    def force_safe(self) -> None:
        """Tell every output its safe setting without asking the engine, which is dead: the last way out."""
        safe = [ev.Drive(output.name, -1, output.safe) for output in self.site.outputs.values()]
        self.send(safe)

    def keep_rules(self, site: Site, interlocks: Iterable[Interlock]) -> None:
        """Tell the boards that keep rules by themselves which; each loads them when nothing of it is on, and is set up anew where something is."""
        from cairnwind.boards.onboard import tables  # not needed on the way to safe

        self.tables = tables(site, interlocks)
        for name, table in self.tables.items():
            keep = getattr(self.links.get(name), "keep", None)
            if keep is not None:
                keep(table)

    def reset_trip(self, trip: str) -> None:
        """Somebody has reset a trip: boards that have latched it by themselves are told."""
        for name, table in self.tables.items():
            if any(rule.name == trip for rule in table.rules):
                reset = getattr(self.links.get(name), "reset_trip", None)
                if reset is not None:
                    reset(trip)

    def kept_by(self, interlock: Interlock) -> list[Any]:
        """Which boards keep a part of an interlock too (`cairnwind.boards.onboard.Held`)."""
        from cairnwind.boards.onboard import where

        def why_not(board: str) -> str:
            link = self.links.get(board)
            if link is None or not self.engine.board_now(board).up:
                return "it does not answer"
            asked = getattr(link, "why_not_kept", None)
            return str(asked()) if asked else "nothing of it is driven"

        return where(interlock, self.tables, why_not)

    def close(self) -> None:
        """Let the boards go."""
        for link in self.links.values():
            link.close()


def wired(site: Site, board: str) -> tuple[list[Output], list[Input]]:
    """What is wired to a board."""
    outputs = [each for each in site.outputs.values() if each.pin.board == board]
    return outputs, [each for each in site.inputs.values() if each.pin.board == board]
