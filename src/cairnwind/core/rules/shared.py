"""The gates that several outputs share: who of those that want to be on has a place.

Outputs that any chain of such rules binds together are one `Circle`. Whenever one of them wants something else, or
is confirmed at something else, the places of its circle are given anew:

* Those that want to be on are asked in this order: higher rank first; among equals whoever has a place already,
  then whoever waits for one, then by the stated order, then by who came first. So the present holder keeps its
  place against all but a strictly higher rank, and nobody overtakes those who wait.
* Each gets a place if all its rules have room for it beside those that got theirs before.
* Whoever has a place and is not on yet may go on only when that is safe *now*: what leaves has been confirmed off,
  and the gap has passed. Until then it waits, and its place is kept.
* Who can never have room, or cannot go on now for another reason than time or a confirmation that is under way (what
  it would have to wait for is on a board that is away), holds no place and keeps nobody out.
* Where room has been made for somebody who waited, nobody who comes after it is let in before it.

What may be on counts as on: an on that is under way, an output that is not known, a program at its peak.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from cairnwind.core.facts.claims import Rank
from cairnwind.core.facts.interlocks import Interlock, Refusal
from cairnwind.core.rules.excludes import Excludes, ExcludesSharing
from cairnwind.core.rules.limit import Limit, LimitSharing
from cairnwind.core.rules.occupancy import Fact, occupies
from cairnwind.core.rules.sharing import Asking, Bid, Sharing
from cairnwind.core.state.standing import Standing
from cairnwind.core.state.turn import Turn

SHARINGS: dict[type[Interlock], type[Sharing[Any]]] = {Excludes: ExcludesSharing, Limit: LimitSharing}
"""By kind of rule; an output's rules are asked in the order of the site file."""


class Circle:
    """Outputs that shared rules bind together."""

    def __init__(self, outputs: tuple[str, ...], rules: Iterable[Sharing[Any]]) -> None:
        self.outputs = outputs
        self.rules = tuple(rules)
        self.of: dict[str, tuple[Sharing[Any], ...]] = {
            name: tuple(each for each in self.rules if name in each.rule.outputs) for name in outputs
        }
        self.position = {name: self._position(name) for name in outputs}
        self.placed: set[str] = set()
        """Who has a place, on already or not yet."""
        self.due: int | None = None
        """When the places have to be given anew although nothing has changed."""
        self.seen: dict[str, object] = {}
        """By output: what it was like when the places were last given."""

    def succeed(self, old: Circle) -> None:
        """Remember what the circle before did of the same outputs and rules."""
        self.placed |= old.placed & set(self.outputs)
        known = {each.rule.name: each for each in old.rules}
        for each in self.rules:
            was = known.get(each.rule.name)
            if was is not None and type(was) is type(each):
                each.succeed(was)

    def _position(self, name: str) -> int:
        for each in self.of[name]:
            if name in each.order:
                return each.order.index(name)
        return len(self.outputs) + self.outputs.index(name)

    def give(
        self, bids: Mapping[str, Bid], facts: Mapping[str, Fact], now: int, *, supposed: bool = False
    ) -> dict[str, Refusal | None]:
        """For each output that bids: None if it may be on, or why not. ``supposed``: nothing is remembered."""
        asking = Asking(bids, facts, now, supposed=supposed)
        late = {name for each in self.rules for name in each.waiting}

        def turn(name: str) -> tuple[int, bool, bool, int, int]:
            bid = bids[name]
            has = bid.holding or name in self.placed
            return -bid.rank, not has, name not in late, self.position[name], bid.place

        found = {name: self._give(name, asking) for name in sorted(bids, key=turn)}
        if not supposed:
            self.placed, self.due = set(asking.placed), asking.due
        return found

    def _give(self, name: str, asking: Asking) -> Refusal | None:
        """Whether one that bids has a place, and may go on."""
        rules = self.of[name]
        refusal = _first(each.room(name, asking) for each in rules)
        if refusal is None and not asking.bids[name].holding:
            refusal = _first(each.clear(name, asking) for each in rules)
            if refusal is not None and not refusal.only_time:
                return refusal
        elif refusal is not None:
            return refusal
        asking.placed[name] = None
        if refusal is None:
            asking.on.add(name)
        if not asking.supposed:
            for each in self.rules:
                each.admitted(name)
        return refusal


def _first(refusals: Iterable[Refusal | None]) -> Refusal | None:
    return next((each for each in refusals if each is not None), None)


def circles(rules: Iterable[Interlock]) -> list[Circle]:
    """The shared rules and their outputs, put together where they have any output in common."""
    shared = [rule for rule in rules if type(rule) in SHARINGS]
    root: dict[str, str] = {}

    def find(name: str) -> str:
        while root.setdefault(name, name) != name:
            root[name] = name = root[root[name]]
        return name

    for rule in shared:
        for name in rule.outputs[1:]:
            root[find(name)] = find(rule.outputs[0])
    found: dict[str, tuple[dict[str, None], list[Sharing[Any]]]] = {}
    for rule in shared:
        names, own = found.setdefault(find(rule.outputs[0]), ({}, []))
        names.update(dict.fromkeys(rule.outputs))
        own.append(SHARINGS[type(rule)](rule))
    return [Circle(tuple(names), own) for names, own in found.values()]


class SharedGates:
    """The circles of a site."""

    def __init__(self) -> None:
        self.circles: list[Circle] = []
        self._of: dict[str, Circle] = {}

    def arm(self, rules: Iterable[Interlock]) -> None:
        """These of the rules that are shared hold from now on."""
        self.circles = circles(rules)
        self._of = {name: circle for circle in self.circles for name in circle.outputs}

    def concerned(self) -> Iterable[str]:
        """The outputs that any of them binds."""
        return self._of

    def rules_of(self, name: str) -> list[str]:
        """The names of those that bind an output, in the order in which they are asked."""
        circle = self._of.get(name)
        return [each.rule.name for each in circle.of[name]] if circle is not None else []

    def succeed(self, old: SharedGates) -> None:
        """Take over from those that held before."""
        for circle in self.circles:
            for each in old.circles:
                circle.succeed(each)

    def bid(self, turn: Turn, s: Standing, *, wants: bool, claimed: bool) -> None:
        """What an output that passed its own gates asks for; ``claimed``: its leading claim wants that, not its rest."""
        s.gating.bid = None
        if wants and turn.state.boards[s.output.pin.board].up:
            leader = s.claims.leader
            rank, place = (int(leader.rank), leader.place) if leader is not None and claimed else (0, 0)
            text = leader.text if leader is not None else "nobody"
            s.gating.bid = Bid(rank, place, s.gating.granted, text)

    def _bids(self, turn: Turn, circle: Circle) -> dict[str, Bid]:
        found = {}
        for name in circle.outputs:
            gating = turn.state.outputs[name].gating
            if gating.bid is not None:  # it may have been let go on since it asked
                found[name] = gating.bid._replace(holding=gating.granted)
        return found

    def give_places(self, turn: Turn, batch: Mapping[str, None]) -> None:
        """Give the places of these outputs' circles anew, where anything in them has changed."""
        for name in batch:
            circle = self._of.get(name)
            if circle is not None:
                self._give(turn, circle, name, batch)

    def _give(self, turn: Turn, circle: Circle, name: str, batch: Mapping[str, None]) -> None:
        now = turn.now.mono
        facts = {each: occupies(turn, each) for each in circle.outputs}
        seen: dict[str, object] = {}
        for each in circle.outputs:
            gating = turn.state.outputs[each].gating
            seen[each] = (facts[each], gating.bid, gating.granted)
        if seen == circle.seen and (circle.due is None or now < circle.due):
            return
        bids = self._bids(turn, circle)
        for rule in circle.rules:
            rule.note(facts, bids, now)
        found = circle.give(bids, facts, now)
        circle.seen = seen
        if circle.due is not None:
            turn.mono.set(circle.due, "ruled", name, "place")
        for each in circle.outputs:
            refusal = found.get(each)
            if refusal is not None and refusal.expected is not None:
                refusal = refusal._replace(expected=turn.wall_of(refusal.expected))
            gating = turn.state.outputs[each].gating
            if refusal != gating.shared:
                gating.shared = refusal
                if each not in batch:
                    turn.touch(each)

    def room(self, turn: Turn, s: Standing, rank: Rank) -> Refusal | None:
        """What they would say if somebody of this rank wanted an output on now."""
        circle = self._of.get(s.output.name)
        if circle is None:
            return None
        facts = {name: occupies(turn, name) for name in circle.outputs}
        bids = self._bids(turn, circle)
        name = s.output.name
        bids[name] = Bid(int(rank), turn.sequence, s.gating.granted, "you")
        return circle.give(bids, facts, turn.now.mono, supposed=True)[name]
