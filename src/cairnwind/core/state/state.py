"""All that the engine knows of one site, as data. Nothing here decides anything.

Each part is changed where its name says; an event changes it through its `cairnwind.core.state.turn.Turn`.
"""

from __future__ import annotations

from collections.abc import Mapping

from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Instant
from cairnwind.core.facts.difference import Difference
from cairnwind.core.facts.now import BoardNow
from cairnwind.core.facts.site import Site
from cairnwind.core.state.causes import Causes
from cairnwind.core.state.inforce import InForce
from cairnwind.core.state.inputs import Contact, Gauge
from cairnwind.core.state.standing import Standing
from cairnwind.core.state.timers import Timers
from cairnwind.core.state.trials import Trials


class Journal:
    """The numbers of the journal, and whether it can be written."""

    __slots__ = ("early", "inner", "ok", "sequence", "trouble")

    def __init__(self) -> None:
        self.sequence = 0
        self.inner = 0
        """How many commands within commands there were."""
        self.ok = True
        self.trouble = ""
        self.early: list[ev.Record] = []
        """What happened before the journal was read; it is numbered and recorded at the start."""


class Clocks:
    """The time, and what waits for it."""

    __slots__ = ("behind", "lead", "mono", "now", "wall")

    def __init__(self) -> None:
        self.now = Instant(0, 0)
        """The time of the event that is being taken."""
        self.lead: int | None = None
        """By how much the wall clock is ahead of the monotonic one."""
        self.mono, self.wall = Timers(), Timers()
        """What waits, by the monotonic clock and by the wall clock."""
        self.behind = 0
        """Wall nanoseconds before which the wall clock is not to be believed; 0 once it is."""


class Inputs:
    """What is known of inputs."""

    __slots__ = ("contacts", "gauges")

    def __init__(self, site: Site) -> None:
        self.contacts = {name: Contact(input) for name, input in site.inputs.items() if not input.analogue}
        self.gauges = {name: Gauge(input) for name, input in site.inputs.items() if input.analogue}

    def rewire(self, site: Site, same: frozenset[str], called: Mapping[str, str]) -> None:
        """Inputs of another site; of those of the ``same`` wiring all is remembered, of counters what they have counted. ``called``: by its
        new name, what one was called before."""
        contacts, gauges = self.contacts, self.gauges
        self.contacts, self.gauges = {}, {}
        for name, input in site.inputs.items():
            if input.analogue:
                self.gauges[name] = gauges[name] if name in same else Gauge(input)
                self.gauges[name].input = input
            else:
                self.contacts[name] = contacts[name] if name in same else Contact(input)
                self.contacts[name].input = input
                before = contacts.get(called.get(name, name))
                if (
                    name not in same
                    and before is not None
                    and before.input.kind == input.kind
                    and input.counts
                ):
                    self.contacts[name].total = before.total


class State:
    """What one engine knows: claims, drives, contacts, clocks, what is in force. ``stepped``: slopes are followed step by step; else, in a rehearsal, from one end to the other."""

    __slots__ = (
        "boards", "causes", "clocks", "in_force", "inputs", "journal", "on_board", "outputs", "scenes", "site", "stepped", "stopping", "trials",
    )  # fmt: skip

    def __init__(self, site: Site, *, stepped: bool) -> None:
        self.site = site
        self.stepped = stepped
        self.outputs = {name: Standing(output) for name, output in site.outputs.items()}
        self.boards = {name: BoardNow(name, False, "not opened yet", 0) for name in site.boards}
        self.on_board = _on_boards(site)
        self.inputs = Inputs(site)
        self.in_force = InForce()
        self.journal = Journal()
        self.clocks = Clocks()
        self.trials = Trials(site)
        self.causes = Causes()
        self.scenes: dict[str, dict[tuple[str, str], int]] = {}
        """By scene: output and slot of what it claimed, and the claim."""
        self.stopping: tuple[str, set[str]] | None = None
        """The all-stop that waits to be confirmed: its command, and the outputs that are not safe yet."""

    def rewire(self, site: Site, wired: Difference) -> None:
        """Another site; what is wired as it was remembers all that it did."""
        outputs, boards, wall = self.outputs, self.boards, self.clocks.now.wall
        self.site = self.trials.site = site
        self.outputs = {}
        for name, output in site.outputs.items():
            s = outputs.get(name) or Standing(output)
            if name in wired.outputs.rewired:
                s.rewire(output)
            else:
                s.say(output)
            self.outputs[name] = s
        self.boards = {
            name: BoardNow(name, False, "not opened yet", wall) if name in wired.boards.come else boards[name]
            for name in site.boards
        }
        self.on_board = _on_boards(site)
        new = frozenset(wired.inputs.come)
        called = {other: one for one, other in wired.renamed}
        self.inputs.rewire(site, frozenset(name for name in site.inputs if name not in new), called)


def _on_boards(site: Site) -> dict[str, list[str]]:
    """The outputs of each board."""
    found: dict[str, list[str]] = {name: [] for name in site.boards}
    for name, output in site.outputs.items():
        found[output.pin.board].append(name)
    return found
