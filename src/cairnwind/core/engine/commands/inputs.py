"""What inputs say: contacts, counters and readings, and those that fall silent."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from cairnwind.core.facts import events as ev
from cairnwind.core.rules.gates import Armed
from cairnwind.core.state.inputs import Contact, Gauge, silent
from cairnwind.core.state.turn import Turn
from cairnwind.core.values.quantities import NS, show_duration

COUNTED = "counted"
"""Under what the totals of counters are stored."""
STORED_EVERY = 5 * NS
"""So long a pulse may be counted and not stored yet."""
Told = Callable[[Turn, str], None]
"""Somebody who has to know that an input has changed, or was measured."""


class Contacts:
    """``armed`` has the gates that hold now; ``changed`` and ``measured`` are told of inputs by name."""

    def __init__(self, armed: Armed, changed: Told, measured: Told) -> None:
        self._armed, self._changed, self._measured = armed, changed, measured

    def seen(self, turn: Turn, event: ev.InputSeen) -> None:
        """A line shows something."""
        contact = turn.state.inputs.contacts.get(event.input)
        if contact is not None:  # it may have left the site since
            if event.causes or turn.state.causes.of("input", event.input):
                turn.state.causes.put("input", event.input, event.causes)
            self._see(turn, contact, event.active, event.edge, event.settled, event.way)

    def _see(
        self,
        turn: Turn,
        contact: Contact,
        active: bool | None,
        edge: int = 0,
        settled: bool = False,
        way: int = 0,
    ) -> None:
        before, input, now = contact.seen, contact.input, turn.now
        if contact.see(active, now.mono, now.wall, edge, settled=settled, way=way):
            self._counts(turn, contact)
        if contact.deadline is not None:
            turn.mono.set(contact.deadline, "input", input.name)
        if input.stale and active is not None and turn.state.stepped:  # in a rehearsal nobody falls silent
            turn.mono.by(now.mono + input.stale, "stale", input.name)
        if before != active:
            turn.effects.append(ev.Changed("input", input.name))

    def _counts(self, turn: Turn, contact: Contact) -> None:
        """What counts of a contact has changed."""
        name = contact.input.name
        turn.effects.append(ev.Changed("input", name))
        self._armed.gates.watches.mark("input", name)
        self._changed(turn, name)
        if contact.input.counts:
            if contact.total != contact.stored:
                turn.mono.unless(turn.now.mono + STORED_EVERY, "total", name)
            return  # its pulses are counted, not told one by one
        text = f"{name} is {contact.input.say(contact.active)}"
        turn.note("input", name, text, {"active": contact.active})

    def total_due(self, turn: Turn, name: str, slot: str) -> None:
        """What a counter has counted is stored now and then, not pulse by pulse."""
        contact = turn.state.inputs.contacts.get(name)
        if contact is not None and contact.total != contact.stored:
            contact.stored = contact.total
            turn.effect(ev.Keep(COUNTED, name, {"total": contact.total}))

    def store(self, turn: Turn) -> None:
        """Store what all counters have counted."""
        for name, contact in turn.state.inputs.contacts.items():
            if contact.input.counts:
                self.total_due(turn, name, "")

    def recall(self, turn: Turn, kept: Iterable[ev.Keep]) -> None:
        """Go on counting where the service before this one was."""
        for each in kept:
            contact = turn.state.inputs.contacts.get(each.key)
            if (
                each.gate == COUNTED
                and each.data is not None
                and contact is not None
                and contact.input.counts
            ):
                contact.total += each.data["total"]
                contact.stored = each.data["total"]
                if contact.recount(turn.now.mono):
                    self._counts(turn, contact)

    def measured(self, turn: Turn, event: ev.Measured) -> None:
        """A reading came in."""
        gauge = turn.state.inputs.gauges.get(event.input)
        if gauge is not None:
            self._measure(turn, gauge, event.raw, event.full, event.volts)

    def _measure(self, turn: Turn, gauge: Gauge, raw: int | None, full: int, volts: float | None) -> None:
        name, now = gauge.input.name, turn.now
        if gauge.measure(raw, full, volts, now.mono, now.wall):
            turn.effects.append(ev.Changed("input", name))
            self._armed.gates.watches.mark("input", name)
            self._changed(turn, name)
        if gauge.input.stale and volts is not None and turn.state.stepped:
            turn.mono.by(now.mono + gauge.input.stale, "stale", name)
        self._measured(turn, name)

    def unknown(self, turn: Turn, names: Iterable[str]) -> None:
        """Nothing is known of these inputs any more."""
        inputs = turn.state.inputs
        for name in names:
            if name in inputs.gauges:
                self._measure(turn, inputs.gauges[name], None, 0, None)
            else:
                self._see(turn, inputs.contacts[name], None)

    def due(self, turn: Turn, name: str, slot: str) -> None:
        """A contact has stood long enough to count, or a pulse leaves a rate."""
        contact = turn.state.inputs.contacts[name]
        if contact.due(turn.now.mono, turn.now.wall):
            self._counts(turn, contact)
            if contact.input.window and contact.deadline is not None:
                turn.mono.set(contact.deadline, "input", name)

    def stale_due(self, turn: Turn, name: str, slot: str) -> None:
        """An input may have been silent for too long."""
        inputs = turn.state.inputs
        thing = inputs.gauges.get(name) or inputs.contacts[name]
        stale = thing.input.stale
        if not stale:
            return
        if not silent(thing, turn.now.mono):
            if thing.heard + stale > turn.now.mono:
                turn.mono.set(thing.heard + stale, "stale", name)
            return
        text = f"{name} was not heard from for {show_duration(stale)}: it is not known"
        turn.note("input", name, text, {"active": None, "silent": True})
        if isinstance(thing, Gauge):
            self._measure(turn, thing, None, 0, None)
        else:
            self._see(turn, thing, None)
