"""The site as the check sees it: what may be so at once, and what can be reached, without a clock and without boards.

Outputs are off or on, dimmed ones at any level that a bound tells apart; contacts are one or the other, values in one of
the ranges that the bounds leave; the hours and days are those that the week has. Two things keep it true:

* Whatever the engine can bring about is here too. A 'for' may be so or not yet so while its inside is; a value with
  hysteresis may be taken either way within it; an output that a grace lets stay on is not held to what it needs.
  So what is *never* here is never there, and may be reported as found.
* A way that is found here is checked step by step against every rule, so that it can be gone.

`ways` answers for one condition what would make it so, as alternatives; `Way` goes from everything off by turning on what
something needs, and only where that fails looks at every state there is. Both stop at a budget, and say so.
"""

from __future__ import annotations

import itertools
from collections import deque
from collections.abc import Collection, Iterable, Iterator, Mapping
from fractions import Fraction
from typing import Any

from cairnwind.core.facts.conditions import (
    All,
    Any_,
    Becomes,
    Compare,
    Condition,
    Days,
    Hours,
    Lasting,
    Node,
    Not,
    Test,
)
from cairnwind.core.facts.inputs import TURNS
from cairnwind.core.facts.interlocks import Interlock
from cairnwind.core.facts.site import Site
from cairnwind.core.rules.excludes import Excludes
from cairnwind.core.rules.limit import Limit
from cairnwind.core.rules.needs import Needs
from cairnwind.core.rules.pace import Pace
from cairnwind.core.rules.trip import Trip
from cairnwind.core.values.settings import FULL, OFF, Level, Setting

MOST = 30_000
"""States that one question looks at."""
ALTERNATIVES = 2_000
"""Ways to make one condition so."""
STEPS = 400_000
"""Conditions that are asked for all questions together."""
DEEPEST = 60
"""Outputs that need each other in a row, in one go; in the order of `needed_first` there is never more than one."""
Key = tuple[str, str]
Meant = Mapping[Key, Any]
"""What is to be so: ('on', output) true or false, and variables at their values."""


class TooMany(Exception):
    """There is more to look at than the budget allows."""


class Budget:
    """How much may be looked at before a question is left open."""

    def __init__(self, steps: int = STEPS) -> None:
        self.left = steps

    def spend(self, steps: int = 1) -> None:
        """Look at something. Raises `TooMany`."""
        self.left -= steps
        if self.left < 0:
            raise TooMany


class Space:
    """The variables of some conditions, what each may be, and whether a condition is so."""

    def __init__(
        self, site: Site, conditions: Iterable[Condition], rules: Iterable[Interlock] = (), budget: Budget | None = None
    ) -> None:  # fmt: skip
        self.site = site
        self.budget = budget or Budget()
        self._never = {
            name: min(pace.longest_on, 1 << 62)
            for pace in rules
            if isinstance(pace, Pace) and pace.longest_on
            for name in pace.outputs
        }
        self.domain: dict[Key, list[Any]] = {}
        nodes = [node for condition in conditions for node in condition.nodes]
        self._clocked = [node for node in nodes if _by_clock(node)]
        bounds: dict[Key, set[float]] = {}
        self.nodes_of: dict[Key, Node] = {}
        self.lasting: dict[str, Lasting] = {}
        for node in nodes:
            if isinstance(node, Compare):
                kind, name = node.about[0]
                bounds.setdefault(("level" if kind == "output" else kind, name), set()).add(node.bound)
                if node.slack:
                    self._add(("band", node.text), [False, True], node)
            elif isinstance(node, Lasting):
                self.lasting[node.text] = node
                self._add(("for", node.text), [False, True], node)
            elif isinstance(node, Test) and not self._of_output(node):
                self._add(_key(node), [False, True], node)
            elif isinstance(node, Hours | Days) and not _by_clock(node):
                self._add(("time", node.text), [False, True], node)
        for key, some in bounds.items():
            self.domain[key] = _levels(site, key[1], some) if key[0] == "level" else _values(some)
        if self._clocked:
            self.domain["clock", ""] = self._week()
        self._ties = self._tie()

    def _add(self, key: Key, values: list[Any], node: Node) -> None:
        self.domain.setdefault(key, values)
        self.nodes_of.setdefault(key, node)

    def _of_output(self, node: Test) -> bool:
        return node.about[0][0] == "output" and not _about_knowing(node)

    def _week(self) -> list[frozenset[str]]:
        """The sets of clock conditions that are so together, over a week: one moment of each."""
        edges = {0}
        for node in self._clocked:
            if isinstance(node, Hours):
                edges |= {node.start.second, node.end.second}
        found: dict[frozenset[str], None] = {}
        for day, second in itertools.product(range(7), sorted(edges)):
            so = frozenset(node.text for node in self._clocked if _then(node, day, second))
            found[so] = None
        return list(found)

    # --- whether something is so ------------------------------------------------------------------------------

    def so(self, node: Node, on: frozenset[str], values: Meant) -> bool:
        """Whether a part of a condition is so in a state."""
        match node:
            case Not(inside=inside):
                return not self.so(inside, on, values)
            case Lasting():
                return bool(values["for", node.text])
            case Becomes(inside=inside):
                return self.so(inside, on, values)
            case All(each=each):
                return all(self.so(part, on, values) for part in each)
            case Any_(each=each):
                return any(self.so(part, on, values) for part in each)
            case Compare():
                if node.slack:
                    return bool(values["band", node.text])
                return _compared(node, self.value(node, on, values))
            case Test() if self._of_output(node):
                return bool(node.ask(_Seen(on)))  # type: ignore[arg-type]
            case Test():
                return self._asked(node, values[_key(node)])
            case Hours() | Days() if _by_clock(node):
                return node.text in values["clock", ""]
        return bool(values["time", node.text])

    def _asked(self, node: Test, value: Any) -> bool:
        if node.about[0][0] in ("input", "board", "trip") and not _about_knowing(node):
            return bool(node.ask(_Seen(frozenset(), bool(value))))  # type: ignore[arg-type]
        return bool(value)

    def value(self, node: Compare, on: frozenset[str], values: Meant) -> float:
        """What a comparison looks at."""
        kind, name = node.about[0]
        if kind != "output":
            return float(values[kind, name])
        return float(values["level", name]) if name in on else 0.0

    def keys_of(self, node: Node) -> set[Key]:
        """What the truth of a part of a condition hangs on."""
        match node:
            case Not(inside=inside) | Becomes(inside=inside):
                return self.keys_of(inside)
            case Lasting():
                return {("for", node.text)}
            case All(each=each) | Any_(each=each):
                return {key for part in each for key in self.keys_of(part)}
            case Compare():
                return {("band", node.text)} if node.slack else self._value_keys(node)
            case Test():
                return {("on", node.about[0][1])} if self._of_output(node) else {_key(node)}
        return {("clock", "") if _by_clock(node) else ("time", node.text)}

    def _value_keys(self, node: Compare) -> set[Key]:
        kind, name = node.about[0]
        return {("on", name), ("level", name)} if kind == "output" else {(kind, name)}

    def _tie(self) -> dict[Key, list[Key]]:
        """By what may change: the variables that have to go with it."""
        found: dict[Key, list[Key]] = {}
        for key, node in self.nodes_of.items():
            with_it = {key}
            if isinstance(node, Lasting):
                with_it |= self.keys_of(node.inside)
            elif key[0] == "band" and isinstance(node, Compare):
                with_it |= self._value_keys(node)
            elif key[0] == "board":
                with_it |= {
                    ("on", name) for name, output in self.site.outputs.items() if output.pin.board == key[1]
                }
            for each in with_it:
                found.setdefault(each, []).append(key)
        return found

    def consistent(self, on: frozenset[str], values: Meant, changed: Iterable[Key] | None = None) -> bool:
        """Whether the variables go together: what lasts is so, what is within its hysteresis is either, boards are there.

        ``changed``: only as far as it hangs on these; the rest is known to go together.
        """
        keys = (
            self.nodes_of
            if changed is None
            else {key: None for each in changed for key in self._ties.get(each, ())}
        )
        for key in keys:
            node = self.nodes_of[key]
            if key not in values:
                continue
            self.budget.spend()
            if key[0] == "for" and values[key]:
                assert isinstance(node, Lasting)
                if not self.may_last(node) or not self.so(node.inside, on, values):
                    return False
            elif key[0] == "band":
                assert isinstance(node, Compare)
                if not _banded(node, self.value(node, on, values), bool(values[key])):
                    return False
            elif key[0] == "board" and not values[key]:
                if any(self.site.outputs[name].pin.board == key[1] for name in on):
                    return False
        return True

    def tied(self, key: Key) -> list[Key]:
        """The variables that have to go with this one."""
        return self._ties.get(key, [])

    def may_last(self, node: Lasting) -> bool:
        """Whether it can be so for its time: an output is not on for longer than its pace lets it."""
        inside = node.inside
        if isinstance(inside, Test) and not isinstance(inside, Compare) and self._of_output(inside):
            name = inside.about[0][1]
            if inside.ask(_Seen(frozenset((name,)))):  # type: ignore[arg-type]
                return node.span < self._never.get(name, 1 << 62)
        return True

    # --- what would make it so --------------------------------------------------------------------------------

    def ways(self, node: Node, want: bool, *, settled: bool = False) -> list[dict[Key, Any]]:
        """Every way in which a condition is so (or not), as what is to be so for it. Raises `TooMany`.

        ``settled``: time has passed, so that whatever is so has been so for long enough.
        """
        self.budget.spend()
        match node:
            case Not(inside=inside):
                return self.ways(inside, not want, settled=settled)
            case Becomes(inside=inside):
                return self.ways(inside, want, settled=settled)
            case Lasting(inside=inside):
                key = ("for", node.text)
                if want:
                    if not self.may_last(node):
                        return []
                    return [{**way, key: True} for way in self.ways(inside, True, settled=settled)]
                found = [{**way, key: False} for way in self.ways(inside, False, settled=settled)]
                return found if settled and self.may_last(node) else [{key: False}]
            case All(each=each) if want:
                return self._together([self.ways(part, True, settled=settled) for part in each])
            case Any_(each=each) if not want:
                return self._together([self.ways(part, False, settled=settled) for part in each])
            case All(each=each) | Any_(each=each):
                return self._few([way for part in each for way in self.ways(part, want, settled=settled)])
        return self._ways_of_one(node, want)

    def _ways_of_one(self, node: Node, want: bool) -> list[dict[Key, Any]]:
        """The same of a part that has no parts."""
        match node:
            case Compare():
                return self._compared(node, want)
            case Test() if self._of_output(node):
                name = node.about[0][1]
                return [
                    {("on", name): on} for on in (False, True)
                    if bool(node.ask(_Seen(frozenset((name,) if on else ())))) == want  # type: ignore[arg-type]
                ]  # fmt: skip
            case Test():
                return [{_key(node): value} for value in (False, True) if self._asked(node, value) == want]
            case Hours() | Days() if _by_clock(node):
                return [{("clock", ""): so} for so in self.domain["clock", ""] if (node.text in so) == want]
        return [{("time", node.text): want}]

    def _compared(self, node: Compare, want: bool) -> list[dict[Key, Any]]:
        kind, name = node.about[0]
        band = {("band", node.text): want} if node.slack else {}

        def fits(value: float) -> bool:
            return _banded(node, value, want) if node.slack else _compared(node, value) == want

        if kind != "output":
            return [{(kind, name): value, **band} for value in self.domain[kind, name] if fits(value)]
        found: list[dict[Key, Any]] = [
            {("on", name): True, ("level", name): value, **band}
            for value in self.domain["level", name]
            if fits(value)
        ]
        return ([{("on", name): False, **band}] if fits(0.0) else []) + found

    def _few(self, found: list[dict[Key, Any]]) -> list[dict[Key, Any]]:
        if len(found) > ALTERNATIVES:
            raise TooMany
        return found

    def _together(self, parts: list[list[dict[Key, Any]]]) -> list[dict[Key, Any]]:
        """What makes all parts so at once: their alternatives, as far as they do not contradict each other."""
        found: list[dict[Key, Any]] = [{}]
        for part in sorted(parts, key=len):
            self.budget.spend(len(found) * len(part))
            found = self._few(
                [merged for one in found for other in part if (merged := _merged(one, other)) is not None]
            )
        return found

    def all_ways(self, wanted: Iterable[tuple[Node, bool]], *, settled: bool = False) -> list[dict[Key, Any]]:
        """The same for several conditions at once, and only what can be: an output is not on at a board that is away."""
        return [
            way
            for way in self._together([self.ways(node, want, settled=settled) for node, want in wanted])
            if not any(
                kind == "on" and on and way.get(("board", self.site.outputs[name].pin.board)) is False
                for (kind, name), on in way.items()
            )
        ]


def _merged(one: Mapping[Key, Any], other: Mapping[Key, Any]) -> dict[Key, Any] | None:
    if any(key in one and one[key] != value for key, value in other.items()):
        return None
    return {**one, **other}


class _Asked(int):
    """The number that is asked for."""

    def __eq__(self, other: object) -> bool:
        return True

    __hash__ = int.__hash__


class _Seen:
    """What a test looks at."""

    def __init__(self, on: frozenset[str], yes: bool = False) -> None:
        self._on, self._yes = on, yes

    def active(self, input: str) -> bool:
        """The contact that is asked for."""
        return self._yes

    def way(self, input: str) -> int:
        """The turn that is asked for, either way: each is a variable of its own."""
        return _Asked() if self._yes else 0

    def up(self, board: str) -> bool:
        """The board that is asked for."""
        return self._yes

    def tripped(self, trip: str) -> bool:
        """The trip that is asked for."""
        return self._yes

    def setting(self, output: str) -> Setting:
        """On or off."""
        return Level(FULL) if output in self._on else OFF


def _about_knowing(node: Test) -> bool:
    return " unknown" in node.text or " known" in node.text


def _key(node: Test) -> Key:
    """The variable of a test: two tests of one contact, board or trip say the same thing of it."""
    kind, name = node.about[0]
    return (
        (kind, name)
        if kind in ("input", "board", "trip") and not _about_knowing(node) and not node.text.endswith(TURNS)
        else (kind, node.text)
    )


def _by_clock(node: Node) -> bool:
    """Whether it asks for a time of day or a day that every week has at the same place."""
    return isinstance(node, Days) or (isinstance(node, Hours) and not node.start.sun and not node.end.sun)


def _then(node: Node, day: int, second: int) -> bool:
    if isinstance(node, Days):
        return day in node.days
    assert isinstance(node, Hours)
    begin, end = node.start.second, node.end.second
    return begin <= second < end if begin < end else second >= begin or second < end


def _compared(node: Compare, value: float) -> bool:
    return (value > node.bound if node.above else value < node.bound) or (node.equal and value == node.bound)


def _banded(node: Compare, value: float, so: bool) -> bool:
    """Whether a comparison with hysteresis may be so, or not so, at a value."""
    if not so:
        return not _compared(node, value)
    eased = node.bound + (-node.slack if node.above else node.slack)
    return (value > eased if node.above else value < eased) or _compared(node, value)


def _values(bounds: Iterable[float]) -> list[float]:
    """A value in each of the ranges that bounds leave, and the bounds themselves."""
    each = sorted(bounds)
    between = [(low + high) / 2 for low, high in itertools.pairwise(each)]
    return sorted({each[0] - 1, *each, *between, each[-1] + 1})


def _levels(site: Site, name: str, bounds: Iterable[float]) -> list[float]:
    """The levels that an output may have while it is on, as far as bounds tell them apart."""
    output = site.outputs[name]
    if output.takes == "level" and not output.dimmable:
        return [100.0]
    lowest = -100.0 if output.takes == "drive" else 0.0
    near = [lowest, *sorted(bound for bound in bounds if lowest < bound < 100.0), 100.0]
    between = [(low + high) / 2 for low, high in itertools.pairwise(near)]
    return sorted({value for value in (*near, *between) if value})[::-1]


class Way:
    """What can be reached from everything off by turning things on and off, one by one, as some rules allow."""

    def __init__(
        self, site: Site, rules: Iterable[Interlock], more: Iterable[Condition] = (), budget: Budget | None = None, *, trips: bool = True
    ) -> None:  # fmt: skip
        rules = list(rules)
        self.needs: dict[str, list[Needs]] = {}
        self.trips: dict[str, list[Trip]] = {}
        self.shared: dict[str, list[Excludes | Limit]] = {}
        conditions = list(more)
        for rule in rules:
            if isinstance(rule, Needs | Trip):
                conditions.append(rule.condition)
            for name in rule.outputs:
                if isinstance(rule, Needs):
                    self.needs.setdefault(name, []).append(rule)
                elif isinstance(rule, Trip) and trips:
                    self.trips.setdefault(name, []).append(rule)
                elif isinstance(rule, Excludes | Limit):
                    self.shared.setdefault(name, []).append(rule)
        self.space = Space(site, conditions, rules, budget)
        self._spoken = [
            name for condition in conditions for kind, name in condition.about if kind == "output"
        ]
        self._about: dict[Key, list[Needs | Trip]] = {}
        for rule in rules:
            if isinstance(rule, Needs) or (trips and isinstance(rule, Trip)):
                for key in self.space.keys_of(rule.condition.node):
                    self._about.setdefault(key, []).append(rule)
        self._known: dict[str, tuple[frozenset[str], dict[Key, Any]]] = {}
        """By output: a state in which it is on."""
        self.begin = self._at_rest()

    def _at_rest(self) -> dict[Key, Any]:
        """Everything off, contacts at rest, boards that answer."""
        begin: dict[Key, Any] = {key: values[0] for key, values in self.space.domain.items()}
        for key in begin:
            if key[0] == "board":
                begin[key] = True
            elif key[0] == "band":
                node = self.space.nodes_of[key]
                assert isinstance(node, Compare)
                begin[key] = _compared(node, self.space.value(node, frozenset(), begin))
        return begin

    def valid(self, on: frozenset[str], values: Meant, changed: Collection[Key] | None = None) -> bool:
        """Whether no rule is against it. What a grace lets stay on is not asked for what it needs.

        ``changed``: only what hangs on these; before they changed nothing was against it.
        """
        space = self.space
        if not space.consistent(on, values, changed):
            return False
        if changed is None:
            asked = [rule for name in on for rule in (*self.needs.get(name, ()), *self.trips.get(name, ()))]
            names: Iterable[str] = on
        else:
            asked = [
                rule
                for key in changed
                for rule in self._about.get(key, ())
                if not on.isdisjoint(rule.outputs)
            ]
            names = [name for kind, name in changed if kind == "on" and name in on]
            asked += [
                rule for name in names for rule in (*self.needs.get(name, ()), *self.trips.get(name, ()))
            ]
        for rule in {id(rule): rule for rule in asked}.values():
            space.budget.spend()
            if isinstance(rule, Trip):
                if space.so(rule.condition.node, on, values):
                    return False
            elif not rule.grace and not space.so(rule.condition.node, on, values):
                return False
        shared = {id(rule): rule for name in names for rule in self.shared.get(name, ())}
        return all(within(rule, on) for rule in shared.values())

    def starts(self, name: str, on: frozenset[str], values: Meant) -> frozenset[str] | None:
        """The outputs that are on once this one is too, or None if it may not be started."""
        if not all(self.space.so(rule.condition.node, on, values) for rule in self.needs.get(name, ())):
            return None
        more = on | {name}
        return more if self.valid(more, values, [("on", name)]) else None

    # --- by what is needed --------------------------------------------------------------------------------------

    def reach(self, name: str, held: frozenset[str] = frozenset()) -> bool:
        """Whether a way to turn it on is found by turning on what it needs. Raises `TooMany`; False says nothing."""
        if name in self._known and not held:
            return True
        return self._on(name, frozenset(), self.begin, (), held) is not None

    def _on(
        self, name: str, on: frozenset[str], values: dict[Key, Any], stack: tuple[str, ...], held: frozenset[str]
    ) -> tuple[frozenset[str], dict[Key, Any]] | None:  # fmt: skip
        if name in on:
            return on, values
        if name in stack or name in held or len(stack) > DEEPEST:
            return None
        if not on and not held and name in self._known:
            return self._known[name]
        wanted = [(rule.condition.node, True) for rule in self.needs.get(name, ())]
        wanted += [(trip.condition.node, False) for trip in self.trips.get(name, ())]
        for meant in self.space.all_ways(wanted)[:64]:
            state = self._bring(meant, name, on, values, (*stack, name), held)
            if state is not None:
                more = self.starts(name, *state)
                if more is not None:
                    if not on and values is self.begin and not held:
                        self._known[name] = more, state[1]
                    return more, state[1]
        return None

    def _bring(
        self, meant: Meant, name: str, on: frozenset[str], values: dict[Key, Any], stack: tuple[str, ...], held: frozenset[str]
    ) -> tuple[frozenset[str], dict[Key, Any]] | None:  # fmt: skip
        """Bring about what is meant, whatever ``name`` itself is to be."""
        state = on, values
        for (kind, other), value in meant.items():
            if kind == "on" and value and other != name:
                found = self._on(other, *state, stack, held)
                if found is None:
                    return None
                state = found
        on = state[0] - {other for (kind, other), value in meant.items() if kind == "on" and not value}
        told = {key: value for key, value in meant.items() if key[0] != "on"}
        changed = {key for key, value in told.items() if state[1][key] != value} | {
            ("on", each) for each in state[0] ^ on
        }
        if not changed:
            return on, state[1]
        values = {**state[1], **told}
        changed |= self._loosen(on, values, meant, changed)
        return (on, values) if self.valid(on, values, changed) else None

    def _loosen(
        self, on: frozenset[str], values: dict[Key, Any], meant: Meant, changed: Iterable[Key]
    ) -> set[Key]:
        """Variables that nobody has asked for go where they may; returns which."""
        space, moved = self.space, set()
        for key in {key for each in changed for key in space.tied(each)}:
            node = space.nodes_of[key]
            if key in meant or key not in values:
                continue
            if isinstance(node, Lasting) and values[key] and not space.so(node.inside, on, values):
                values[key] = False
                moved.add(key)
            elif key[0] == "band" and isinstance(node, Compare):
                if not _banded(node, space.value(node, on, values), bool(values[key])):
                    values[key] = not values[key]
                    moved.add(key)
        return moved

    # --- every state --------------------------------------------------------------------------------------------

    def states(self, held: frozenset[str] = frozenset()) -> Iterator[tuple[frozenset[str], dict[Key, Any]]]:
        """All that can be reached, the nearest first. Raises `TooMany`. ``held`` stay off."""
        keys, domains = list(self.space.domain), list(self.space.domain.values())
        size = 1
        for each in domains:
            size *= len(each)
        if size > MOST:
            raise TooMany
        names = [*dict.fromkeys([*self.needs, *self.shared, *self.trips, *self._spoken])]
        queue: deque[tuple[frozenset[str], tuple[Any, ...]]] = deque()
        seen = set()
        for values in itertools.product(*domains):
            if self.space.consistent(frozenset(), dict(zip(keys, values, strict=True))):
                queue.append((frozenset(), values))
                seen.add((frozenset[str](), values))
        around = len(names) + sum(map(len, domains))
        while queue:
            self.space.budget.spend(around)
            on, values = queue.popleft()
            meant = dict(zip(keys, values, strict=True))
            yield on, meant
            if len(seen) > MOST:
                raise TooMany
            for after in self._next(on, values, meant, names, held, keys, domains):
                if after not in seen:
                    seen.add(after)
                    queue.append(after)

    def _next(
        self, on: frozenset[str], values: tuple[Any, ...], meant: dict[Key, Any], names: list[str], held: frozenset[str],
        keys: list[Key], domains: list[list[Any]],
    ) -> Iterator[tuple[frozenset[str], tuple[Any, ...]]]:  # fmt: skip
        for name in names:
            if name in on:
                if self.valid(on - {name}, meant, [("on", name)]):
                    yield on - {name}, values
            elif name not in held and (more := self.starts(name, on, meant)) is not None:
                yield more, values
        for number, each in enumerate(domains):
            for value in each:
                if value != values[number]:
                    other = (*values[:number], value, *values[number + 1 :])
                    if self.valid(on, dict(zip(keys, other, strict=True)), [keys[number]]):
                        yield on, other


def within(rule: Excludes | Limit, on: frozenset[str]) -> bool:
    """Whether a rule lets these be on together."""
    mine = [name for name in rule.outputs if name in on]
    if isinstance(rule, Excludes):
        return len(mine) < 2
    return sum((rule.weights[name] for name in mine), Fraction(0)) <= rule.most


def needed_first(rules: Iterable[Interlock]) -> list[str]:
    """The outputs of rules, each after those that it needs, as far as that goes."""
    of: dict[str, list[str]] = {}
    for rule in rules:
        if isinstance(rule, Needs | Trip):
            named = (
                [name for kind, name in rule.condition.about if kind == "output"]
                if isinstance(rule, Needs)
                else []
            )
            for name in rule.outputs:
                of.setdefault(name, []).extend(named)
    found: dict[str, None] = {}
    begun: set[str] = set()
    for first in of:
        stack = [(first, False)]
        while stack:
            name, done = stack.pop()
            if done:
                found[name] = None
            elif name not in begun:
                begun.add(name)
                stack.append((name, True))
                stack += [(other, False) for other in of.get(name, ())]
    return [name for name in found if name in of]


def closure(rules: Iterable[Interlock], begin: Iterable[str]) -> tuple[list[str], list[Interlock]]:
    """Outputs, whatever they need or would trip them, and so on; and the rules among these."""
    rules = list(rules)
    of: dict[str, list[Interlock]] = {}
    for rule in rules:
        for name in rule.outputs:
            of.setdefault(name, []).append(rule)
    found = dict.fromkeys(begin)
    queue = list(found)
    while queue:
        for rule in of.get(queue.pop(), ()):
            if isinstance(rule, Needs | Trip):
                for kind, other in rule.condition.about:
                    if kind == "output" and other not in found:
                        found[other] = None
                        queue.append(other)
    return list(found), [rule for rule in rules if not found.keys().isdisjoint(rule.outputs)]
