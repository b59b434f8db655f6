"""What is wired, changed while the rest works: all of it or nothing.

    prepared    boards that are new are opened aside; nothing that they report is heard yet
    held        outputs that go or are wired otherwise are taken to safe, and kept there until that is confirmed
    rewired     boards that stay are told what is wired to them; boards that are taken anew are let go and opened again; remotes
                that go are ended, and those that come are started
    applied     the engine takes the other site in one turn, and the links with it
    done        what the new boards reported is heard; boards that have left are let go

Whatever fails before it is applied, the old site goes on: boards are told again what was wired to them, and outputs are let go.
Whoever reloads does this in a thread of its own, one at a time; only *applied* is the engine's.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterable

from cairnwind.boards.link import Link
from cairnwind.boards.registry import make
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.difference import Difference, in_words, safe_first
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.values.errors import BoardError, CallerError
from cairnwind.service.lanes import Item
from cairnwind.service.startup import OPEN_WITHIN, Machine, clock, wired
from cairnwind.site.saving import UNCHANGED

Undo = Callable[[], None]
SAFE_WITHIN = 5.0
"""Seconds in which outputs have to be at safe before they are wired otherwise."""


class Aside:
    """What a link reports before anybody is to hear it."""

    def __init__(self, hear: Callable[[ev.Event], None]) -> None:
        self._hear, self._kept = hear, list[ev.Event]()
        self._lock = threading.Lock()
        self._open = False
        self.up: bool | None = None
        self.reason = ""

    def report(self, event: ev.Event) -> None:
        """What the link calls."""
        if isinstance(event, ev.LinkUp | ev.LinkLost):
            self.up, self.reason = isinstance(event, ev.LinkUp), getattr(event, "reason", "")
        with self._lock:
            if not self._open:
                self._kept.append(event)
                return
        self._hear(event)

    def open(self) -> None:
        """It is heard from now on, and what it has said so far."""
        with self._lock:
            kept, self._kept, self._open = self._kept, [], True
            for event in kept:
                self._hear(event)


class Rewiring:
    """One change of what is wired."""

    def __init__(self, machine: Machine, new: Site, wired: Difference) -> None:
        self._machine, self._old, self._new, self.wired = machine, machine.site, new, wired
        self.safe_first = safe_first(self._old, wired)
        self.links: dict[str, Link] = {
            name: link
            for name, link in machine.links.items()
            if name in new.boards and name not in wired.boards.gone
        }
        """Those of the new site."""
        self._before = dict(machine.links)
        self._aside: dict[str, Aside] = {}
        self._told: list[str] = []
        """Boards that stay and were told what is wired to them now."""
        self._closed: list[str] = []
        self._unway: Undo = lambda: None
        """What has the old remotes back."""

    # --- said ---------------------------------------------------------------------------------------------

    def words(self) -> list[str]:
        """What changes, a sentence each."""
        return in_words(self._old, self._new, self.wired)

    def _concerned(self) -> list[str]:
        """Boards that stay, to which something else is wired."""
        names = {
            *self.wired.outputs.gone,
            *self.wired.outputs.come,
            *self.wired.inputs.gone,
            *self.wired.inputs.come,
        }
        things: list[Output | Input] = []
        for site in (self._old, self._new):
            things += [*site.outputs.values(), *site.inputs.values()]
        boards = {thing.pin.board for thing in things if thing.name in names}
        return [name for name in self.links if name in boards]

    # --- done, step by step -------------------------------------------------------------------------------

    def do(
        self,
        apply: Callable[[], ev.Outcome],
        remotes: Callable[[Site, Site, Iterable[str], Iterable[str]], Undo],
    ) -> ev.Outcome:
        """All of it; ``apply`` has the engine take the other site, ``remotes`` ends and starts those of these names. Raises `CallerError`, and
        then the old one goes on."""
        try:
            self._prepare(self.wired.boards.added)
            self._hold()
            self._rewire()
            ways = self.wired.remotes
            if ways.gone or ways.come:
                self._unway = remotes(self._old, self._new, ways.gone, ways.come)
            outcome = apply()
            if outcome.outcome == "refused":
                self._undo()
                return outcome
        except BaseException as error:
            self._undo()
            if isinstance(error, BoardError):
                raise CallerError("reload", error.sentence, f"{error.remedy} {UNCHANGED}".strip()) from None
            raise
        for aside in self._aside.values():
            aside.open()
        for name in self._told:
            self.links[name].tell()
        for name in self.wired.boards.removed:
            self._before[name].close()
        return outcome

    def _prepare(self, names: Iterable[str]) -> None:
        """Open boards of the new site aside; each has to answer."""
        opened = list(names)
        for name in opened:
            board = self._new.boards[name]
            self.links[name] = link = make(board, self._new, self._machine.secret)
            aside = self._aside[name] = Aside(self._machine.report)
            link.open(*wired(self._new, name), aside.report, clock, self._machine.fresh)
        end = time.monotonic() + OPEN_WITHIN
        for name in opened:
            self.links[name].ready(end - time.monotonic())
            aside = self._aside[name]
            if not aside.up:
                why = aside.reason or "it said nothing"
                raise CallerError(
                    "reload",
                    f"Board {name} does not answer: {why}.",
                    f"See to it, or leave it out. {UNCHANGED}",
                )

    def _hold(self) -> None:
        """Keep what goes, or is wired otherwise, at safe, and see that it is."""
        if not self.safe_first:
            return
        machine = self._machine
        machine.lanes.put(Item(ev.Rewire(clock(), self.safe_first)))
        end = time.monotonic() + SAFE_WITHIN
        while (left := self._not_safe()) and time.monotonic() < end:
            time.sleep(0.01)
        if left:
            name = left[0]
            board = machine.engine.board_now(self._old.outputs[name].pin.board)
            why = f"board {board.name} does not answer" if not board.up else "it was not confirmed"
            raise CallerError(
                "reload",
                f"Output {name} is not known to be at safe: {why}.",
                f"See to it, or, where you can see that it is off: cairnwind attest {name} --by NAME. {UNCHANGED}",
            )

    def _not_safe(self) -> list[str]:
        engine, found = self._machine.engine, []
        if not engine.state.in_force.rewiring.issuperset(self.safe_first):
            return [*self.safe_first]  # the engine has not heard of it: one of them may be on its way to on
        for name in self.safe_first:
            s = engine.state.outputs[name]
            up = engine.state.boards[s.output.pin.board].up
            at_safe = up and s.drive.pending is None and s.drive.confirmed == s.output.safe
            allowed = s.gating.allowed == s.output.safe
            if not ((at_safe and allowed) or (not up and s.known.attested)):
                found.append(name)
        return found

    def _rewire(self) -> None:
        """Tell boards that stay what is wired to them; take those anew that are otherwise."""
        come = {*self.wired.outputs.come, *self.wired.inputs.come}
        for name in self._concerned():
            self._told.append(name)
            self.links[name].rewire(*wired(self._new, name), come)
        for name in self.wired.boards.rewired:
            self._machine.report(ev.LinkLost(clock(), name, "it is let go, to be taken anew"))
            self._closed.append(name)
            self._before[name].close()
        self._prepare(self.wired.boards.rewired)

    def _undo(self) -> None:
        """The old site goes on."""
        machine = self._machine
        self._unway()
        for name in self._aside:
            self.links[name].close()
        for name in self._told:
            gone = {*self.wired.outputs.gone, *self.wired.inputs.gone}
            try:
                machine.links[name].rewire(*wired(self._old, name), gone)
                machine.links[name].tell()
            except BoardError:
                pass  # it has been lost, and is taken as it was when it is back
        for name in self._closed:
            machine.links[name] = link = make(self._old.boards[name], self._old, machine.secret)
            link.open(*wired(self._old, name), machine.report, clock, machine.fresh)
        if self.safe_first:
            machine.lanes.put(Item(ev.Rewire(clock())))
