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
from cairnwind.core.state.standing import Gating, Standing
from cairnwind.core.state.turn import Turn

SHARINGS: dict[type[Interlock], type[Sharing[Any]]] = {Excludes: ExcludesSharing, Limit: LimitSharing}
"""By kind of rule; an output's rules are asked in the order of the site file."""


MOST_ROUNDS = 3
"""In which places are given anew because others have got one, so that asking once more would say the same."""


class Circle:
    """Outputs that shared rules bind together.

    While everybody who bids has a place and may go on, and nobody waits, a change costs what has changed and no more; else the
    places are given anew to all who bid.
    """

    __slots__ = (
        "_fits", "added", "asking", "dirty", "facts", "given", "had", "lookers", "of", "outputs", "position", "queues", "rules", "seen",
        "smooth", "stale",
    )  # fmt: skip

    def __init__(self, outputs: tuple[str, ...], rules: Iterable[Sharing[Any]]) -> None:
        self.outputs = outputs
        self.rules = tuple(rules)
        of: dict[str, list[Sharing[Any]]] = {name: [] for name in outputs}
        for each in self.rules:
            for name in dict.fromkeys(each.rule.outputs):
                of[name].append(each)
        self.of = {name: tuple(rules) for name, rules in of.items()}
        self.position = self._positions()
        self.facts: dict[str, Fact] = {}
        """What is known of each, as far as anybody has asked."""
        self.asking = Asking({}, self.facts, 0, supposed=False)
        """Who has which places."""
        self.had: set[str] = set()
        """Who had a place before the site file was read anew, and has not been asked since."""
        self.added: set[str] = set()
        """Who got a place since `give`, while places are being given."""
        self.seen: dict[str, tuple[Fact, Bid | None]] = {}
        """By output: what it was like when places were given last."""
        self.queues = tuple(each for each in self.rules if each.queues)
        """Those of the rules that have people wait."""
        self.smooth = False
        """Everybody who bids has a place and may go on, and nobody waits."""
        self.dirty = dict.fromkeys(outputs, True)
        """Who may bid otherwise by now, or of whom something else may be known, since places were given; and whether the latter has to
        be looked at yet."""
        self.stale = True
        """There is somebody of whom that has to be looked at."""
        self.given = False
        """Places have been given since the site file was read."""
        self.lookers: dict[str, None] = {}
        """Who was told that it could go on, and does not bid yet: they ask again when others bid otherwise."""
        self._fits: tuple[str, int] | None = None
        """Who was told that it may go on beside all that have their places, and when; None since anything has changed."""

    def succeed(self, old: Circle) -> None:
        """Remember what the circle before did of the same outputs and rules."""
        self.had |= {name for name in (*old.asking.placed, *old.had) if name in self.of}
        known = {each.rule.name: each for each in old.rules}
        for each in self.rules:
            was = known.get(each.rule.name)
            if was is not None and type(was) is type(each):
                each.succeed(was)

    def _positions(self) -> dict[str, int]:
        """In which order those of one rank are asked."""
        ordered = {each.rule.name: {name: at for at, name in enumerate(each.order)} for each in self.rules}
        found = {}
        for number, name in enumerate(self.outputs):
            said = (ordered[each.rule.name].get(name) for each in self.of[name])
            found[name] = next((at for at in said if at is not None), len(self.outputs) + number)
        return found

    def refresh(self, turn: Turn) -> None:
        """Look again at those of whom something else may be known; not asked while there are none."""
        for name in [name for name, stale in self.dirty.items() if stale]:
            self.dirty[name] = False
            self._look(turn, turn.state.outputs[name])

    def _look(self, turn: Turn, s: Standing) -> None:
        """Look again at one."""
        self._fits, self.stale = None, False
        name = s.output.name
        fact, was = occupies(turn, s), self.facts.get(name)
        if (was is not None and was.may_be_on) != fact.may_be_on:
            rules = self.of[name]
            for each in rules:
                each.known(name, fact.may_be_on)
            if was is not None:
                self.asking.known(name, fact.may_be_on, rules)
        self.facts[name] = fact

    def ask_again(self, turn: Turn) -> None:
        """Whoever was told that it could go on, and does not bid yet, is decided about once more."""
        turn.touch_all(self.lookers)
        self.lookers = {}

    def mark(self, turn: Turn, name: str) -> None:
        """Something else may be known of an output: whoever was told that it could go on asks again."""
        self.dirty[name] = self.stale = True
        if self.lookers:
            self.ask_again(turn)

    def learns(self, turn: Turn, s: Standing) -> bool:
        """Take note of what is known of one output by now where that changes nobody's place; False if places have to be given."""
        asking, gating, name = self.asking, s.gating, s.output.name
        if not self.smooth or self.had or len(self.dirty) > 1:
            return False
        bid = gating.bid
        if bid is None:
            if name in asking.bids:
                return False
        elif not gating.granted or name not in asking.placed:
            return False
        elif not bid.holding:
            asking.bids[name] = bid = bid.held(holding=True)
        elif asking.bids[name] != bid:
            return False
        if self.stale:
            self._look(turn, s)
        self.dirty.clear()
        for rule in self.queues:
            rule.note(asking.bids, turn.now.mono)
        self.seen[name] = self.facts[name], bid
        return True

    def likeness(self, name: str, gating: Gating) -> tuple[Fact, Bid | None]:
        """What decides about an output's place: what is known of it, and what it asks for now."""
        bid: Bid | None = gating.bid
        if bid is not None and bid.holding != gating.granted:
            bid = bid.held(holding=gating.granted)  # it has been let go on since it asked
        return self.facts[name], bid

    def alone(self, turn: Turn, s: Standing) -> bool:
        """Give or take the place of the one output that has changed, where nobody else is concerned; False if more has to be seen to."""
        name, gating = s.output.name, s.gating
        now, due = turn.now.mono, self.asking.due
        if (
            not self.smooth
            or self.had
            or self.lookers
            or len(self.dirty) > 1
            or (due is not None and due <= now)
        ):
            return False
        if self.stale:
            self._look(turn, s)
            for rule in self.queues:
                rule.note(self.asking.bids, now)
        like = self.likeness(name, gating)
        if self.seen.get(name) != like:
            if gating.shared is not None or not self.simply(name, like[1], now):
                return False
            self.seen[name] = like
            self.added.clear()
        self.dirty.clear()
        return True

    def give(self, bids: dict[str, Bid], now: int, *, supposed: bool = False) -> dict[str, Refusal | None]:
        """For each output that bids: None if it may be on, or why not. ``supposed``: nothing is remembered."""
        asking, self._fits = Asking(bids, self.facts, now, supposed=supposed), None
        for each in self.queues:
            each.begin(asking)
        late = {name for each in self.queues for name in each.waiting}
        had = self.had or self.asking.placed

        def turn(name: str) -> tuple[int, bool, bool, int, int]:
            bid = bids[name]
            has = bid.holding or (name in had and name not in self.added)
            return -bid.rank, not has, name not in late, self.position[name], bid.place

        found = {name: self._give(name, asking) for name in sorted(bids, key=turn)}
        if not supposed:
            self.asking, self.had, self.given = asking, set(), True
            waits = asking.due is not None or any(each.waiting for each in self.queues)
            self.smooth = not waits and not any(found.values())
        return found

    def _give(self, name: str, asking: Asking) -> Refusal | None:
        """Whether one that bids has a place, and may go on."""
        rules = self.of[name]
        refusal = None
        for each in rules:
            refusal = refusal or each.room(name, asking)
        if refusal is None and not asking.bids[name].holding:
            refusal = self._clear(name, asking, rules)
            if refusal is not None and not refusal.only_time:
                return refusal
        elif refusal is not None:
            return refusal
        asking.place(name, rules, on=refusal is None)
        if not asking.supposed:
            for each in self.queues:
                each.admitted(name)
        return refusal

    @staticmethod
    def _clear(name: str, asking: Asking, rules: Iterable[Sharing[Any]]) -> Refusal | None:
        """Why it may not go on at this moment: what time will not mend counts before what it will."""
        first = None
        for each in rules:
            found = each.clear(name, asking)
            if found is not None and not found.only_time:
                return found
            first = first or found
        return first

    def simply(self, name: str, bid: Bid | None, now: int) -> bool:
        """Give or take one output's place where nobody else is concerned; False if the places have to be given anew."""
        asking, rules = self.asking, self.of[name]
        fits, self._fits = self._fits == (name, now), None
        if bid is None:
            asking.bids.pop(name, None)
            asking.leave(name, rules)
            return True
        asking.bids[name] = bid
        if not bid.holding or name not in asking.placed:
            if not fits and self._against(name, now) is not None:
                return False
        if name not in asking.placed:
            self.added.add(name)
        asking.place(name, rules, on=True)
        return True

    def _against(self, name: str, now: int) -> Refusal | None:
        """Why one that bids may not go on beside all that have their places; nothing is remembered of the question."""
        asking, rules = self.asking, self.of[name]
        asking.supposed, asking.now = True, now
        found = None
        for each in rules:
            found = found or each.room(name, asking)
        if found is None:
            found = self._clear(name, asking, rules)
        asking.supposed, asking.due = False, None
        asking.full.clear()
        return found

    def would(self, name: str, bid: Bid, now: int) -> Refusal | None:
        """What would be said to one more that bids."""
        bids = self.asking.bids
        before = bids.get(name)
        bids[name] = bid
        try:
            if self.smooth and before is None:
                refusal = self._against(name, now)
                if refusal is None:
                    self._fits = name, now
                if refusal is None or all(each.rank >= bid.rank for each in bids.values()):
                    return refusal  # it comes after all that have their place
            return self.give(dict(bids), now, supposed=True)[name]
        finally:
            if before is None:
                del bids[name]
            else:
                bids[name] = before


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

    def arm(self, rules: Iterable[Interlock], outputs: Mapping[str, Standing]) -> None:
        """These of the rules that are shared hold from now on."""
        self.circles = circles(rules)
        self._of = {name: circle for circle in self.circles for name in circle.outputs}
        for name, s in outputs.items():
            s.gating.circle = self._of.get(name)

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

    def bid(self, turn: Turn, s: Standing, *, claimed: bool) -> None:
        """What an output asks for that passed its own gates and wants on; ``claimed``: its leading claim wants that, not its rest."""
        gating, leader = s.gating, s.claims.leader
        if not turn.state.boards[s.output.pin.board].up:
            gating.bid = None
        elif leader is None:
            gating.bid = Bid(0, 0, gating.granted)
        else:
            rank, place = (leader.rank, leader.place) if claimed else (0, 0)
            gating.bid = Bid(rank, place, gating.granted, (leader.rank, leader.slot, leader.source))

    def refuses(self, turn: Turn, s: Standing, *, claimed: bool) -> bool:
        """Whether they would refuse an output at this moment if it bid; if not, it is asked about again when that may have changed."""
        circle: Circle | None = s.gating.circle
        if circle is None:
            return False
        self.bid(turn, s, claimed=claimed)
        bid: Bid | None = s.gating.bid
        if bid is None:
            return False
        if circle.stale:
            circle.refresh(turn)
        if circle.given and circle.would(s.output.name, bid, turn.now.mono) is not None:
            return True
        circle.lookers[s.output.name] = None
        # after a reload nobody has a place until they are given for the first time: until then it stays as it was
        return not circle.given and s.gating.bound_for is None

    def learns(self, turn: Turn, s: Standing) -> bool:
        """Something else is known of an output: whether that changes nobody's place; if not, they have to be given anew."""
        circle: Circle | None = s.gating.circle
        return circle is None or circle.learns(turn, s)

    def give_places(self, turn: Turn, batch: Mapping[str, None], known: Mapping[str, None]) -> None:
        """Give the places of these outputs' circles anew, where anything in them has changed.

        Those of the ``batch`` are decided about after that in any case; of the others only those that are told something new.
        """
        outputs = turn.state.outputs
        if len(batch) == 1 and not known:  # as nearly always
            (name,) = batch
            s = outputs[name]
            circle = s.gating.circle
            if circle is not None:
                circle.dirty.setdefault(name, False)
                if not circle.alone(turn, s):
                    self._give(turn, circle, name, batch)
            return
        circles: dict[Circle, str] = {}
        for name in (*batch, *known):
            circle = outputs[name].gating.circle
            if circle is not None:
                circle.dirty.setdefault(name, False)
                circles.setdefault(circle, name)
        for circle, name in circles.items():
            self._give(turn, circle, name, batch)

    def _give(self, turn: Turn, circle: Circle, first: str, batch: Mapping[str, None]) -> None:
        if circle.stale:
            circle.refresh(turn)
        now, due = turn.now.mono, circle.asking.due
        changed = self._changed(turn, circle)
        if not changed and (due is None or now < due):
            return
        if circle.lookers:
            circle.ask_again(turn)
        if circle.smooth and not circle.had and self._all_simply(circle, changed, now):
            for name in changed:
                self._told(turn, name, None, batch)
            return
        found = self._anew(circle, changed, now)
        if circle.asking.due is not None:
            turn.mono.set(circle.asking.due, "ruled", first, "place")
        for name in circle.outputs:
            self._told(turn, name, found.get(name), batch)

    def _changed(self, turn: Turn, circle: Circle) -> dict[str, Bid | None]:
        """Who bids otherwise than when places were given last, or of whom something else is known; with what it asks for now."""
        dirty, circle.dirty = circle.dirty, {}
        changed: dict[str, Bid | None] = {}
        for name in dirty:
            like = circle.likeness(name, turn.state.outputs[name].gating)
            if circle.seen.get(name) != like:
                circle.seen[name], changed[name] = like, like[1]
        return changed

    def _anew(self, circle: Circle, changed: Mapping[str, Bid | None], now: int) -> dict[str, Refusal | None]:
        """Give the places to all who bid, until giving them once more would say the same."""
        bids = circle.asking.bids
        for name, bid in changed.items():
            if bid is None:
                bids.pop(name, None)
            else:
                bids[name] = bid
        for rule in circle.queues:
            rule.note(bids, now)
        had = circle.had or set(circle.asking.placed) - circle.added
        found = circle.give(bids, now)
        circle.added = set()
        for _ in range(MOST_ROUNDS):
            if had == (had := set(circle.asking.placed)):
                break
            for name, refusal in found.items():
                if refusal is not None and bids[name].holding:
                    bids[name] = bids[name].held(holding=False)
            found = circle.give(bids, now)  # whoever has got a place is asked before others from now on
        return found

    def _all_simply(self, circle: Circle, changed: Mapping[str, Bid | None], now: int) -> bool:
        """Give and take the places of those that have changed, where nobody else is concerned by any of that."""
        for rule in circle.queues:
            rule.note(circle.asking.bids, now)
        for name, bid in changed.items():
            if not circle.simply(name, bid, now):
                return False
        circle.added.clear()
        return True

    def _told(self, turn: Turn, name: str, refusal: Refusal | None, batch: Mapping[str, None]) -> None:
        """What they say of an output now; where that is new it is decided about again."""
        if refusal is not None and refusal.expected is not None:
            refusal = refusal._replace(expected=turn.wall_of(refusal.expected))
        gating = turn.state.outputs[name].gating
        if refusal != gating.shared:
            gating.shared = refusal
            if name not in batch:
                turn.touch(name)

    def room(self, turn: Turn, s: Standing, rank: Rank) -> Refusal | None:
        """What they would say if somebody of this rank wanted an output on now."""
        circle: Circle | None = s.gating.circle
        if circle is None:
            return None
        if circle.stale:
            circle.refresh(turn)
        bid = Bid(int(rank), turn.sequence, s.gating.granted)
        return circle.would(s.output.name, bid, turn.now.mono)
