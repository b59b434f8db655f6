"""Trips: a condition that latches outputs at safe until its cause is gone and a person resets it, by name.

    trip = "kiln-door is open"                outputs (or "all"), grace, reset

Not known is no cause, unless it lasts beyond the trip's grace. A latched trip outlives the service.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from cairnwind.core.facts import events as ev
from cairnwind.core.facts.conditions import Condition, Value
from cairnwind.core.facts.interlocks import Interlock, Latched, Refusal
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.rules.form import Form, outputs
from cairnwind.core.rules.gate import Gate, Kind
from cairnwind.core.state.inforce import InForce
from cairnwind.core.state.standing import Standing
from cairnwind.core.state.state import State
from cairnwind.core.state.turn import Turn
from cairnwind.core.state.watches import Watch, Watches
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.fact import alike, fact
from cairnwind.core.values.quantities import duration, show_duration


@fact
class Trip(Interlock):
    """A condition that latches its outputs at safe until its cause is gone and a person resets it."""

    condition: Condition
    grace: int | None = None
    """Not known for so long counts as so; None: it never does."""
    role: str = "operate"
    """Who may reset it: 'operate' or 'keep'."""


def _read(name: str, form: Form) -> Trip:
    site: Site = form.site
    named = form.take(
        "outputs", lambda value: tuple(site.outputs) if value == "all" else outputs(value, site)
    )
    grace: int | None = form.get("grace", duration, 0) if "grace" in form else None
    return Trip(name, named, form.condition("trip"), grace, form.get("reset", _role, "operate"))


def _role(value: object) -> str:
    if value in ("operate", "keep"):
        return str(value)
    raise CallerError("bad-value", f"{value!r} resets nothing.", 'Write reset = "operate" or "keep".')


def _said(rule: Trip) -> str:
    named = "everything" if len(rule.outputs) > 6 else ", ".join(rule.outputs)
    return f"{named} goes to safe and stays there when {rule.condition.text}"


KIND = Kind("trip", Trip, {
    "trip": "a condition: once it is true its outputs are latched safe, until somebody resets it by name",
    "outputs": "a list of outputs or groups",
    "grace": "how long it may be unknown or true before it trips; at once unless said",
    "reset": "who may reset it: `\"operate\"` or `\"keep\"`",
}, _read, _said, holds_off=False)  # fmt: skip


def refuse(force: InForce, output: Output) -> Refusal | None:
    """A trip holds it."""
    latched = force.tripped.get(output.name)
    if not latched:
        return None
    trip = next(iter(latched.values()))
    more = f" and {len(latched) - 1} more" if len(latched) > 1 else ""
    return Refusal(
        "trip",
        f"'{trip.name}'{more} has tripped: {trip.cause}",
        f"When its cause is gone somebody resets it by name: cairnwind reset '{trip.name}' --by NAME.",
        rule=trip.name,
    )


def latch(force: InForce, trip: Latched) -> None:
    """A trip is in force."""
    force.trips[trip.name] = trip
    for name in trip.outputs:
        force.tripped.setdefault(name, {})[trip.name] = trip


def unlatch(force: InForce, name: str) -> None:
    """A trip is no longer in force."""
    trip = force.trips.pop(name, None)
    for output in trip.outputs if trip else ():
        force.tripped[output].pop(name, None)
        if not force.tripped[output]:
            del force.tripped[output]


class TripGate(Gate[Trip]):
    """What latches them."""

    rule = Trip

    def __init__(self, state: State, watches: Watches) -> None:
        super().__init__(state, watches)
        self._watch: dict[str, Watch] = {}
        """By rule."""
        self._counting: dict[str, list[Watch]] = {}
        """By output: those of its trips that have a grace."""

    def add(self, rule: Trip) -> None:
        """Keep an eye on its condition."""
        watch = self._watch[rule.name] = self.watches.add(
            f"trip {rule.name}", rule.condition, rule, self._told
        )
        if rule.grace is not None:
            watch.good, watch.lapse = False, self._lapse
            for name in rule.outputs:
                self._counting.setdefault(name, []).append(watch)

    def concerned(self) -> Iterable[str]:
        """None: what it latches is asked of all outputs alike."""
        return ()

    # --- when its condition changes -----------------------------------------------------------------------

    def _told(self, turn: Turn, watch: Watch, before: Value) -> None:
        if watch.value:
            self._latch(turn, watch.rule, watch.condition.text)
        turn.effect(ev.Changed("site", ""))

    def _lapse(self, turn: Turn, watch: Watch) -> None:
        """Its grace begins when nobody can say any more that its cause is not there."""
        trip: Trip = watch.rule
        turn.effect(*(ev.Changed("output", name) for name in trip.outputs))
        if watch.ceased is None:
            self._drop_grace(turn, trip)
        elif watch.value is None and trip.grace is not None:
            turn.mono.set(watch.ceased + trip.grace, "grace", watch.key)
            since = turn.wall_of(watch.ceased)
            turn.effect(self.kept(trip.name, {"since": since, "span": trip.grace}))

    def _drop_grace(self, turn: Turn, trip: Trip) -> None:
        if turn.mono.due("grace", f"trip {trip.name}") is not None:
            turn.mono.drop("grace", f"trip {trip.name}")
            turn.effect(self.kept(trip.name, None))

    def grace_due(self, turn: Turn, watch: Watch) -> None:
        """Nobody has known for too long whether its cause is there."""
        trip: Trip = watch.rule
        turn.effect(self.kept(trip.name, None))
        self._latch(turn, trip, f"{watch.condition.text}: not known for {show_duration(trip.grace or 0)}")

    def grace(self, s: Standing) -> Refusal | None:
        """What an output loses soon, while nobody knows whether a cause is there: the first of its trips that count down."""
        found = None
        for watch in self._counting.get(s.output.name, ()):
            due = self.state.clocks.mono.due("grace", watch.key)
            if due is None:
                continue
            now = self.state.clocks.now
            expected = now.wall + due - now.mono
            if found is None or found.expected is None or expected < found.expected:
                text = f"whether {watch.condition.text} is not known, and '{watch.rule.name}' trips"
                found = Refusal("trip", text, "", True, expected, watch.rule.name)
        return found

    def _latch(self, turn: Turn, trip: Trip, cause: str) -> None:
        force = turn.state.in_force
        if trip.name in force.trips:
            return
        self._drop_grace(turn, trip)
        latched = Latched(trip.name, turn.now.wall, cause, trip.outputs)
        latch(force, latched)
        turn.effect(ev.KeepTrip(latched), ev.Changed("site", ""))
        turn.note("trip", trip.name, f"'{trip.name}' tripped: {cause}", {"cause": cause})
        turn.disarm((turn.standing(name) for name in trip.outputs), f"ended when '{trip.name}' tripped")
        turn.touch_all(trip.outputs)
        self.watches.mark("trip", trip.name)

    def seen_by_board(self, turn: Turn, event: ev.BoardTripped) -> None:
        """A board that keeps it too has latched it, perhaps for what came and went too soon for anybody else."""
        trip = self.rules.get(event.trip)
        if trip is not None:
            self._latch(turn, trip, f"{trip.condition.text} (as board {event.board} saw)")

    # --- reset --------------------------------------------------------------------------------------------

    def reset(self, turn: Turn, event: ev.ResetTrip) -> None:
        """Somebody resets a trip."""
        sequence = turn.number()
        trip = self.rules.get(event.trip)
        if trip is not None and event.trip not in turn.state.in_force.trips:
            text = f"'{event.trip}' has not tripped"
            turn.record(sequence, "command", event.trip, text, event, {"verb": "reset-trip"})
            turn.done(event, sequence, text)
            return
        refusal = self._no_reset(turn, trip, event)
        if refusal is not None or trip is None:
            assert refusal is not None
            turn.refuse(event, sequence, refusal)
            return
        unlatch(turn.state.in_force, event.trip)
        turn.effect(ev.DropTrip(event.trip), ev.Changed("site", ""))
        self.watches.mark("trip", event.trip)
        turn.touch_all(trip.outputs)
        text = f"'{event.trip}' is reset by {event.by}"
        turn.record(sequence, "command", event.trip, text, event, {"verb": "reset-trip", "by": event.by})
        turn.done(event, sequence, text, sure=True)

    def _no_reset(self, turn: Turn, trip: Trip | None, event: ev.ResetTrip) -> Refusal | None:
        """Why a trip may not be reset now."""
        if trip is None:
            return Refusal("name", f"there is no trip called '{event.trip}'", "See: cairnwind look.")
        if trip.role == "keep" and not event.source.keeps:
            return Refusal("role", f"only a keeper resets '{trip.name}'", "Use a key with the role keep.")
        if not event.by.strip():
            return Refusal("name", "a trip is reset by somebody with a name", "Say who: --by NAME.")
        if not turn.recording:
            return turn.no_journal()
        watch = self._watch[trip.name]
        if watch.value is False:
            return None
        how = "is still there" if watch.value else "may still be there"
        now = " and ".join(each.text for each in trip.condition.node.inverse(self.sight, watch.memory))
        return Refusal("trip", f"its cause {how}: {now or trip.condition.text}", "See to that first.")

    # --- remembered ---------------------------------------------------------------------------------------

    def take_up(self, turn: Turn, latched: Iterable[Latched]) -> None:
        """Trips that were in force still are, where the site file still has them."""
        for each in latched:
            trip = self.rules.get(each.name)
            if trip is None:
                turn.effect(ev.DropTrip(each.name))
                text = f"the trip '{each.name}' is no longer in the site file, and is reset"
                turn.note("trip", each.name, text, {"gone": True})
            else:
                latch(turn.state.in_force, each._replace(outputs=trip.outputs))

    def recall(self, turn: Turn, kept: Iterable[ev.Keep]) -> None:
        """Graces that were running go on: to their end by the clock, or for what was left of them."""
        for each in kept:
            watch = self._watch.get(each.key)
            if watch is None or watch.good is None or each.data is None:
                turn.effect(self.kept(each.key, None))
                continue
            since, span = each.data["since"], each.data["span"]
            left = max(0, min(since + span - turn.now.wall, span))
            watch.ceased = turn.now.mono + left - (watch.rule.grace or 0)
            turn.mono.set(turn.now.mono + left, "grace", watch.key)

    def succeed(self, turn: Turn, old: Any) -> None:
        """A rule that is the same as before goes on where it was; the graces of others are over."""
        for name, was in old.rules.items():
            rule = self.rules.get(name)
            if rule is not None and alike(was, rule):
                self._watch[name].succeed(old._watch[name])
            elif was.grace is not None:
                self._drop_grace(turn, was)
        latched = list(turn.state.in_force.trips.values())
        for each in latched:
            unlatch(turn.state.in_force, each.name)
        self.take_up(turn, latched)
