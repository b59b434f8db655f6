"""All gates of a site: who is asked in which order, and who is told of what.

An output's own gates come first, and the first that refuses sends it to safe:

    starting, closing   the service itself is not ready, or about to end
    rewiring            its wiring changes
    all-stop            everything safe
    trip                latched until a person resets it
    lockout             named tags
    quiet               hours in which sounders are silent
    guard               a passcode that has not been given
    (rounds)            interlocks that contradict themselves
    needs               a condition that has to hold
    pace                it has started too often, or rested too little
    budget              it has used up what it is allowed in a span

After them come those that several outputs share (`cairnwind.core.rules.shared`): excludes, then limits, which look only at
those outputs that passed their own. An output that no interlock concerns costs nothing here.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Any, NamedTuple

from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Instant
from cairnwind.core.facts.guards import Guard
from cairnwind.core.facts.interlocks import Interlock, Refusal
from cairnwind.core.facts.outputs import Output
from cairnwind.core.rules import guard, lockout, quiet, stop, trip
from cairnwind.core.rules.budget import Left
from cairnwind.core.rules.gate import Gate
from cairnwind.core.rules.guard import GuardGate
from cairnwind.core.rules.kinds import GATES
from cairnwind.core.rules.needs import NeedsGate
from cairnwind.core.rules.proof import ProofGate
from cairnwind.core.rules.rounds import Rounds
from cairnwind.core.rules.shared import SharedGates
from cairnwind.core.rules.trip import TripGate
from cairnwind.core.state.inforce import InForce
from cairnwind.core.state.sight import Sight
from cairnwind.core.state.standing import Standing
from cairnwind.core.state.state import State
from cairnwind.core.state.turn import Turn
from cairnwind.core.state.watches import Watches
from cairnwind.core.values.fact import alike

OWN: tuple[Callable[[InForce, Output], Refusal | None], ...] = (
    stop.starting,
    stop.closing,
    stop.rewiring,
    stop.all_stop,
    trip.refuse,
    lockout.refuse,
    quiet.refuse,
    guard.refuse,
)
"""What is in force, in the order in which it is asked."""


def refusal(force: InForce, output: Output) -> Refusal | None:
    """The first of what is in force that does not let an output leave safe."""
    name = output.name
    if not (
        name in force.shut or name in force.tripped or name in force.tags
        or force.stop or force.quiet or force.rewiring or force.starting or force.closing
    ):  # fmt: skip
        return None
    for gate in OWN:
        found = gate(force, output)
        if found is not None:
            return found
    return None


class Mine(NamedTuple):
    """Of the gates that concern an output, those that have anything to say in each matter, or are to be told of it."""

    refuse: tuple[Gate[Any], ...]
    keeps_on: tuple[Gate[Any], ...]
    known: tuple[Gate[Any], ...]
    sent: tuple[Gate[Any], ...]
    started: tuple[Gate[Any], ...]
    let_go: tuple[Gate[Any], ...]
    went_off: tuple[Gate[Any], ...]
    lost: tuple[Gate[Any], ...]
    back: tuple[Gate[Any], ...]
    moved: tuple[Gate[Any], ...]
    """Also those that have no rule for it and only look at it."""
    needed: bool
    """Others look at it for what they need."""
    paced: bool
    """A gate counts how long or how often it is on."""


MATTERS = Mine._fields[:-2]


def _mine(name: str, gates: Sequence[Gate[Any]], *, needed: bool) -> Mine:
    """Sorted by matter: a gate says by having a method of its own what concerns it."""
    found: dict[str, tuple[Gate[Any], ...]] = {
        matter: tuple(
            gate
            for gate in gates
            if getattr(type(gate), matter) is not getattr(Gate, matter)
            and (matter == "moved" or name in gate.of)
        )
        for matter in MATTERS
    }
    paced = any(gate.counts and name in gate.of for gate in gates)
    return Mine(**found, needed=needed, paced=paced)


class Gates:
    """Asks the gates in their order, and tells each of what concerns it. One set of rules: another is armed when the site file is read anew, and takes over."""

    def __init__(self, state: State, rounds: Rounds) -> None:
        self.state = state
        self.sight = Sight(state)
        self.watches = Watches()
        self.rounds = rounds
        self.guards = GuardGate(state, self.watches)
        self.shared = SharedGates()
        self.all: tuple[Gate[Any], ...] = tuple(gate(state, self.watches) for gate in GATES)
        self.trips = self._gate(TripGate)
        self.needs = self._gate(NeedsGate)
        self.proofs: ProofGate = self._gate(ProofGate)
        self.rules: tuple[Interlock, ...] = ()
        self.some = False
        """Whether any interlock concerns any output."""
        self.disarming = frozenset(gate.rule.__name__.lower() for gate in self.all if gate.disarms) | {"trip"}
        """The words of those that have persons and hands ask anew when they take an output off."""

    def _gate(self, kind: type[Any]) -> Any:
        return next(gate for gate in self.all if type(gate) is kind)

    def arm(self, rules: Iterable[Interlock], guards: Iterable[Guard]) -> None:
        """These rules hold from now on."""
        self.rules = tuple(rules)
        self.guards.arm(guards)
        by_kind = {gate.rule: gate for gate in self.all}
        for rule in self.rules:  # in the order of the site file, in which their conditions are asked
            if type(rule) in by_kind:
                by_kind[type(rule)].arm(rule)
        self.shared.arm(self.rules, self.state.outputs)
        own: dict[str, list[Gate[Any]]] = {name: [] for name in self.shared.concerned()}
        for gate in self.all:
            for name in dict.fromkeys(gate.concerned()):
                own.setdefault(name, []).append(gate)
        self.some = bool(own)
        alike: dict[
            Mine, Mine
        ] = {}  # one for all outputs of the same gates: what is touched often is to be small
        for name, s in self.state.outputs.items():
            s.gating.ruled, s.gating.mine = name in own, None
            if name in own:
                mine = _mine(name, own[name], needed=self.needs.needed(name))
                s.gating.mine = alike.setdefault(mine, mine)

    def same(self, old: Gates) -> bool:
        """Whether the same interlocks hold as before."""
        return len(self.rules) == len(old.rules) and all(
            alike(one, other) for one, other in zip(self.rules, old.rules, strict=True)
        )

    def succeed(self, turn: Turn, old: Gates) -> None:
        """Go on where other rules were: what did not change, by name, remembers all that it did."""
        self.shared.succeed(old.shared)
        self.guards.succeed(old.guards)
        for gate, was in zip(self.all, old.all, strict=True):
            gate.succeed(turn, was)
        for s in self.state.outputs.values():
            if not s.gating.ruled:
                s.gating.bound_for = s.gating.keeping = None
        if not self.same(old):
            self.rounds.clear()

    def recall(self, turn: Turn, kept: Iterable[ev.Keep]) -> None:
        """Take up what gates had stored before the service was started anew."""
        of: dict[str, list[ev.Keep]] = {}
        for each in kept:
            of.setdefault(each.gate, []).append(each)
        for gate in self.all:
            gate.recall(turn, of.get(gate.rule.__name__.lower(), ()))

    # --- asked --------------------------------------------------------------------------------------------

    def look(self, turn: Turn) -> bool:
        """Ask the conditions that have to be asked. False if there were none."""
        return bool(self.watches.dirty) and self.watches.look(turn, self.sight)

    def own(self, turn: Turn, s: Standing, *, starting: bool) -> Refusal | None:
        """The first of an output's own interlocks that refuses; else what is about to."""
        coming = None
        for gate in s.gating.mine.refuse:
            found: Refusal | None = gate.refuse(turn, s, starting)
            if found is not None:
                if not found.coming:
                    return found
                coming = coming or found
        return coming

    def asked(self, turn: Turn, s: Standing, *, starting: bool) -> Iterator[tuple[str, Refusal | None]]:
        """Each of an output's own interlocks, with what it says, for whoever looks on."""
        for gate in s.gating.mine.refuse:
            yield gate.rule.__name__.lower(), gate.refuse(turn, s, starting)

    def keeps_on(self, turn: Turn, s: Standing) -> Refusal | None:
        """Why an output that nobody wants on any more stays on a little longer."""
        for gate in s.gating.mine.keeps_on:
            found: Refusal | None = gate.keeps_on(turn, s)
            if found is not None:
                return found
        return None

    def would(self, turn: Turn, s: Standing, rank: Any) -> Refusal | None:
        """What all interlocks would say if somebody of this rank wanted an output on now."""
        if not s.gating.ruled:
            return None
        gating = s.gating
        found = self.own(turn, s, starting=not gating.granted) if gating.mine.refuse else None
        if found is None and not gating.granted and not self.watches.dirty:
            turn.free = s.output.name
        return found or (self.shared.room(turn, s, rank) if gating.circle is not None else None)

    def grace(self, s: Standing) -> Refusal | None:
        """What ends soon, unless something changes: an output is on by a grace alone, or a trip of it counts down."""
        if not s.drive.is_on:
            return None
        found: Refusal | None = self.needs.grace(s)
        trips: Refusal | None = self.trips.grace(s)
        if found is None or trips is None:
            return found or trips
        return trips if found.expected is None or (trips.expected or 0) < found.expected else found

    def left(self, name: str, now: Instant) -> list[Left]:
        """What an output has left of what its interlocks allow, where that can be counted."""
        return [each for gate in self.all for each in gate.left(name, now)]

    # --- told ---------------------------------------------------------------------------------------------

    def noticed(self, turn: Turn, s: Standing) -> None:
        """What is known of an output has changed, however that came: whoever looks at it, needs it or waits for it is asked."""
        turn.touched[s.output.name] = None
        self.known(turn, s)

    def known(self, turn: Turn, s: Standing) -> None:
        """The same, for all but the output itself."""
        if s.gating.ruled:
            mine = s.gating.mine
            if s.gating.circle is not None:
                s.gating.circle.mark(turn, s.output.name)
            for gate in mine.known:
                gate.known(turn, s)
            for gate in mine.moved:
                gate.moved(turn, s)
        self.looked_at(s)

    def looked_at(self, s: Standing) -> None:
        """Conditions that are about this output have to be asked again."""
        watches = self.watches
        if watches.about:
            watches.mark("output", s.output.name)
            if s.output.supply:
                watches.mark("supply", s.output.supply)

    def sent(self, turn: Turn, s: Standing) -> None:
        """An output is told another setting; what was about to change no longer is, too."""
        mine = s.gating.mine
        if s.gating.circle is not None:
            s.gating.circle.mark(turn, s.output.name)
            if (
                s.drive.confirmed is None
            ):  # of which nothing was on its way: now something is, and others wait for that
                turn.known[s.output.name] = None
        for gate in mine.sent:
            gate.sent(turn, s)
        for gate in mine.moved:
            gate.moved(turn, s)

    def moved(self, turn: Turn, s: Standing) -> None:
        """What is on its way to an output has changed."""
        if s.gating.circle is not None:
            s.gating.circle.mark(turn, s.output.name)
        for gate in s.gating.mine.moved:
            gate.moved(turn, s)

    def started(self, turn: Turn, s: Standing) -> None:
        """An output is let go on."""
        s.gating.place = 0
        for gate in s.gating.mine.started:
            gate.started(turn, s)

    def let_go(self, turn: Turn, s: Standing) -> None:
        """An output that was let go on is no longer to be on."""
        for gate in s.gating.mine.let_go:
            gate.let_go(turn, s)

    def went_off(self, turn: Turn, s: Standing, *, was_on: bool) -> None:
        """An output is confirmed off."""
        for gate in s.gating.mine.went_off:
            gate.went_off(turn, s, was_on)

    def lost(self, turn: Turn, s: Standing) -> None:
        """An output's board is about to count as away."""
        for gate in s.gating.mine.lost:
            gate.lost(turn, s)

    def back(self, turn: Turn, s: Standing) -> None:
        """An output's board answers again."""
        for gate in s.gating.mine.back:
            gate.back(turn, s)

    def jumped(self, turn: Turn) -> None:
        """The wall clock was set, or is to be believed again: conditions by the hour are asked."""
        self.watches.mark_all(self.watches.timed)
        for gate in self.all:
            gate.jumped(turn)

    def grace_due(self, turn: Turn, key: str, slot: str) -> None:
        """A grace is over."""
        watch = self.watches.all.get(key)
        if watch is not None and watch.ceased is not None:
            (self.trips if key.startswith("trip ") else self.needs).grace_due(turn, watch)

    def watch_due(self, turn: Turn, key: str, slot: str) -> None:
        """A condition's own clock says that it has to be asked."""
        if key in self.watches.all:  # it may have been asked for before a reload
            self.watches.dirty[key] = None

    def due(self, turn: Turn, name: str, slot: str) -> None:
        """An interlock has something to say of an output now, and those that wait for it may no longer have to."""
        self.noticed(turn, turn.standing(name))


class Armed:
    """Where the gates that hold now are to be found: they are others after the site file was read anew."""

    __slots__ = ("gates",)

    def __init__(self, gates: Gates) -> None:
        self.gates = gates
