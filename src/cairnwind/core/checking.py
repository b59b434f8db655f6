"""What is wrong with the rules of a site, found before anything is switched.

Every question is put to an abstract site: its outputs are on or off, contacts one or the other, a value in one of the
ranges that the bounds of conditions leave, the hours and whatever else is free are so or not, and time always comes
to pass. Among those states the search goes from everything safe along the switchings that the rules allow. Where it
ends, the answer is certain: *found* or *excluded*. Where there are more than `MOST` states it stops, and what it has
not answered by then is *not decided*: nothing is reported as found that is not real.
"""

from __future__ import annotations

import itertools
from collections import deque
from collections.abc import Iterable, Iterator, Mapping
from fractions import Fraction
from typing import Any, NamedTuple

from cairnwind.core import events as ev
from cairnwind.core.claims import RELEASED, Instant, Rank, Source
from cairnwind.core.conditions import All, Any_, Becomes, Compare, Condition, Lasting, Node, Not, Test
from cairnwind.core.engine import Engine
from cairnwind.core.interlocks import Excludes, Interlock, Limit, Needs, Trip
from cairnwind.core.model import Site
from cairnwind.core.plan import Schedule, overlap
from cairnwind.core.quantities import NS, show_amount
from cairnwind.core.reflexes import Alarm, Reflex
from cairnwind.core.rules import Rules
from cairnwind.core.settings import Setting

MOST = 30_000
"""States that one question looks at."""
YEAR = 366 * 86400 * NS
Key = tuple[str, str]
Values = tuple[Any, ...]


class Found(NamedTuple):
    """One answer. ``verdict`` is 'found', 'excluded' or 'not decided'."""

    verdict: str
    rule: str
    """The name of the rule or output that it is about."""
    kind: str
    """'interlock', 'reflex', 'alarm', 'schedule' or 'output'."""
    question: str
    what: str = ""
    example: str = ""
    """The shortest way to see it."""


def check(site: Site, rules: Rules, schedules: Iterable[Schedule] = (), now: int = 0) -> list[Found]:
    """All questions about the rules of a site, with their answers; ``now`` is wall nanoseconds, for the plan."""
    found = [*_constant(rules), *_never_on(site, rules), *_trips(site, rules), *_limits(rules)]
    found += [*_pointless(rules), *_plan(rules, list(schedules), now), *_rounds(site, rules)]
    return found


# --- the abstract site ----------------------------------------------------------------------------------------


class _Abstract:
    """The variables of some conditions, and whether these are so."""

    def __init__(self, conditions: Iterable[Condition]) -> None:
        bounds: dict[Key, set[float]] = {}
        self.keys: dict[Key, list[Any]] = {}
        for condition in conditions:
            for node in condition.nodes:
                if isinstance(node, Compare) and node.about[0][0] != "output":
                    bounds.setdefault(node.about[0], set()).add(node.bound)
                elif key := _free(node):
                    self.keys[key] = [False, True]
        for key, some in bounds.items():
            each = sorted(some)
            between = [(low + high) / 2 for low, high in itertools.pairwise(each)]
            self.keys[key] = sorted({each[0] - 1, *each, *between, each[-1] + 1})
        self.number = {key: number for number, key in enumerate(self.keys)}

    @property
    def size(self) -> int:
        """How many valuations there are."""
        total = 1
        for each in self.keys.values():
            total *= len(each)
        return total

    def valuations(self) -> Iterator[Values]:
        """All of them, those with the least that is so first."""
        return itertools.product(*self.keys.values())

    def so(self, node: Node, on: frozenset[str], values: Values) -> bool:
        """Whether a part of a condition is so."""
        match node:
            case Not(inside=inside):
                return not self.so(inside, on, values)
            case Lasting(inside=inside) | Becomes(inside=inside):
                return self.so(inside, on, values)
            case All(each=each):
                return all(self.so(part, on, values) for part in each)
            case Any_(each=each):
                return any(self.so(part, on, values) for part in each)
            case Compare() if node.about[0][0] == "output":
                level = 100.0 if node.about[0][1] in on else 0.0
                return (level > node.bound if node.above else level < node.bound) or (
                    node.equal and level == node.bound
                )
            case Compare():
                value = values[self.number[node.about[0]]]
                return (value > node.bound if node.above else value < node.bound) or (
                    node.equal and value == node.bound
                )
            case Test() if node.about[0][0] == "output":
                return bool(node.ask(_Seen(on)))  # type: ignore[arg-type]
            case Test() if (key := _free(node)) is not None and key == node.about[0] and key[0] == "input":
                return bool(node.ask(_Seen(on, bool(values[self.number[key]]))))  # type: ignore[arg-type]
        return bool(values[self.number[_free(node) or ("", "")]])

    def said(self, on: frozenset[str], values: Values, conditions: Iterable[Condition]) -> str:
        """A state in words: what is on, and what is so of the rest."""
        named = {key: node for condition in conditions for node in condition.nodes if (key := _free(node))}
        parts = [f"{name} is on" for name in sorted(on)]
        for key, number in self.number.items():
            if key in named:
                parts.append(named[key].text if values[number] else f"not {named[key].text}")
            else:
                parts.append(f"{key[1]} at {values[number]:g}")
        return ", ".join(parts) or "everything off"


class _Seen:
    """What the test of an output or a contact looks at."""

    def __init__(self, on: frozenset[str], active: bool = False) -> None:
        self._on, self._active = on, active

    def active(self, input: str) -> bool:
        """The contact that is asked for."""
        return self._active

    def setting(self, output: str) -> Setting:
        """On or off."""
        from cairnwind.core.settings import FULL, OFF, Level

        return Level(FULL) if output in self._on else OFF


def _free(node: Node) -> Key | None:
    """The variable that a test is about, where it is neither an output nor a value."""
    if isinstance(node, Not | Lasting | Becomes | All | Any_ | Compare):
        return None
    if isinstance(node, Test):
        kind, name = node.about[0]
        if kind == "output":
            return None
        # a contact's two states are one variable; 'x is closed' and 'x is open' say the same of it
        return (
            (kind, name)
            if kind == "input" and " known" not in node.text and " unknown" not in node.text
            else (kind, node.text)
        )
    return ("time", node.text)


class _Way:
    """The states that can be reached with some rules: outputs on, and a valuation."""

    def __init__(
        self, rules: Iterable[Interlock], outputs: Iterable[str], more: Iterable[Condition] = ()
    ) -> None:
        self.outputs = tuple(outputs)
        known = set(self.outputs)
        self.needs = [rule for rule in rules if isinstance(rule, Needs) and known & set(rule.outputs)]
        self.shared = [
            rule
            for rule in rules
            if isinstance(rule, Excludes | Limit) and len(known & set(rule.outputs)) > 0
        ]
        self.abstract = _Abstract([*(rule.condition for rule in self.needs), *more])
        self.of = {name: [rule for rule in self.needs if name in rule.outputs] for name in self.outputs}

    def valid(self, on: frozenset[str], values: Values) -> bool:
        """Whether no rule is against it."""
        return (
            all(self.abstract.so(rule.condition.node, on, values) for name in on for rule in self.of[name])
            and all(_within(rule, on) for rule in self.shared)
        )  # fmt: skip

    def states(self, held: frozenset[str] = frozenset()) -> Iterator[tuple[frozenset[str], Values] | None]:
        """All that can be reached, the nearest first; None where there are too many. ``held`` stay off."""
        if self.abstract.size > MOST:
            yield None
            return
        begun = [(frozenset[str](), values) for values in self.abstract.valuations()]
        queue = deque(begun)
        seen = set(begun)
        while queue:
            on, values = queue.popleft()
            yield on, values
            if len(seen) > MOST:
                yield None
                return
            for after in self._next(on, values, held):
                if after not in seen:
                    seen.add(after)
                    queue.append(after)

    def _next(
        self, on: frozenset[str], values: Values, held: frozenset[str]
    ) -> Iterator[tuple[frozenset[str], Values]]:
        for name in self.outputs:
            if name in on:
                less = on - {name}
                if self.valid(less, values):
                    yield less, values
            elif name not in held and all(
                self.abstract.so(rule.condition.node, on, values) for rule in self.of[name]
            ):
                more = on | {name}
                if self.valid(more, values):
                    yield more, values
        for number, each in enumerate(self.abstract.keys.values()):
            for value in each:
                if value != values[number]:
                    other = (*values[:number], value, *values[number + 1 :])
                    if self.valid(on, other):
                        yield on, other


def _within(rule: Excludes | Limit, on: frozenset[str]) -> bool:
    mine = [name for name in rule.outputs if name in on]
    if isinstance(rule, Excludes):
        return len(mine) < 2
    return sum((rule.weights[name] for name in mine), Fraction(0)) <= rule.most


def _closure(rules: Iterable[Interlock], begin: Iterable[str]) -> list[str]:
    """Outputs, and whatever they need to be on or off, and so on."""
    needs = [rule for rule in rules if isinstance(rule, Needs)]
    found = dict.fromkeys(begin)
    queue = list(found)
    while queue:
        name = queue.pop()
        for rule in needs:
            if name in rule.outputs:
                for kind, other in rule.condition.about:
                    if kind == "output" and other not in found:
                        found[other] = None
                        queue.append(other)
    return list(found)


# --- the questions --------------------------------------------------------------------------------------------


def _constant(rules: Rules) -> Iterator[Found]:
    """Conditions that are always so, or never."""
    each: list[tuple[str, str, Condition]] = [
        (rule.name, "interlock", rule.condition)
        for rule in rules.interlocks
        if isinstance(rule, Needs | Trip)
    ]
    each += [(rule.name, "reflex", rule.condition) for rule in rules.reflexes if isinstance(rule, Reflex)]
    each += [(rule.name, "alarm", rule.condition) for rule in rules.reflexes if isinstance(rule, Alarm)]
    for name, kind, condition in each:
        abstract = _Abstract([condition])
        outputs = [other for of, other in condition.about if of == "output"]
        question = "can its condition be both so and not so?"
        if abstract.size << len(outputs) > MOST:
            yield Found("not decided", name, kind, question)
            continue
        answers = {
            abstract.so(condition.node, frozenset(on), values)
            for count in range(len(outputs) + 1)
            for on in itertools.combinations(outputs, count)
            for values in abstract.valuations()
        }
        if len(answers) == 1:
            word = "always so" if answers == {True} else "never so"
            yield Found(
                "found",
                name,
                kind,
                question,
                f"'{condition.text}' is {word}, whatever happens",
                "any state shows it",
            )
        else:
            yield Found("excluded", name, kind, question)


def _never_on(site: Site, rules: Rules) -> Iterator[Found]:
    """Outputs that the rules never let come on."""
    for name in dict.fromkeys(
        name for rule in rules.interlocks if isinstance(rule, Needs) for name in rule.outputs
    ):
        outputs = _closure(rules.interlocks, [name])
        way = _Way(rules.interlocks, outputs)
        verdict = "found"
        for state in way.states():
            if state is None:
                verdict = "not decided"
                break
            if name in state[0]:
                verdict = "excluded"
                break
        question = "can it ever come on?"
        if verdict != "found":
            yield Found(verdict, name, "output", question)
            continue
        core = _core([rule for rule in rules.interlocks if not isinstance(rule, Trip)], name)
        circle = _circle(core, name)
        why = (
            f"what it needs goes round in a circle: {' → '.join(circle)}"
            if circle
            else "its rules contradict each other"
        )
        rules_named = " and ".join(f"'{rule.name}'" for rule in core)
        yield Found(
            "found",
            name,
            "output",
            question,
            f"{name} can never come on: {why}",
            f"with {rules_named} alone it cannot either",
        )


def _core(rules: list[Interlock], name: str) -> list[Interlock]:
    """The fewest rules that keep an output off: none of them can be left out."""
    kept = list(rules)
    for rule in rules:
        fewer = [each for each in kept if each is not rule]
        way = _Way(fewer, _closure(fewer, [name]))
        if all(state is not None and name not in state[0] for state in way.states()):
            kept = fewer
    return kept


def _circle(rules: list[Interlock], name: str) -> list[str]:
    """A way from an output through what it needs back to it, if there is one."""
    queue = deque([[name]])
    while queue:
        path = queue.popleft()
        for rule in rules:
            if isinstance(rule, Needs) and path[-1] in rule.outputs:
                for kind, other in rule.condition.about:
                    if kind != "output":
                        continue
                    if other == name:
                        return [*path, name]
                    if other not in path:
                        queue.append([*path, other])
    return []


def _trips(site: Site, rules: Rules) -> Iterator[Found]:
    """Trips that nothing can reset, and those that trip when everything is safe."""
    for trip in rules.interlocks:
        if not isinstance(trip, Trip):
            continue
        outputs = _closure(
            rules.interlocks, [name for kind, name in trip.condition.about if kind == "output"]
        )
        way = _Way(rules.interlocks, outputs, [trip.condition])
        question = "can it be reset once it has tripped?"
        verdict, at_rest = "found", True
        for state in way.states(held=frozenset(trip.outputs)):
            if state is None:
                verdict = "not decided"
                break
            if not way.abstract.so(trip.condition.node, *state):
                verdict = "excluded"
                break
        if verdict == "found":
            names = ", ".join(trip.outputs) if len(trip.outputs) < 5 else "everything"
            yield Found(
                "found", trip.name, "interlock", question, f"nothing can reset '{trip.name}': {trip.condition.text} stays so while {names} is safe",
                "everything safe: it has tripped, and does not let go",
            )  # fmt: skip
            continue
        yield Found(verdict, trip.name, "interlock", question)
        question = "can everything be safe without its tripping?"
        if way.abstract.size > MOST:
            yield Found("not decided", trip.name, "interlock", question)
            continue
        at_rest = any(
            not way.abstract.so(trip.condition.node, frozenset(), values)
            for values in way.abstract.valuations()
        )
        if at_rest:
            yield Found("excluded", trip.name, "interlock", question)
        else:
            what = f"'{trip.name}' trips when everything is safe: {trip.condition.text}"
            yield Found("found", trip.name, "interlock", question, what, "everything off")


def _limits(rules: Rules) -> Iterator[Found]:
    """Limits smaller than one of their members."""
    for rule in rules.interlocks:
        if isinstance(rule, Limit):
            large = [name for name, weight in rule.weights.items() if weight > rule.most]
            question = "is there room for each of its outputs alone?"
            for name in large:
                what = f"{name} alone needs {show_amount(rule.weights[name], rule.unit)}, and '{rule.name}' allows {show_amount(rule.most, rule.unit)}"
                yield Found(
                    "found",
                    rule.name,
                    "interlock",
                    question,
                    what,
                    f"turn {name} on, with everything else off",
                )
            if not large:
                yield Found("excluded", rule.name, "interlock", question)


def _pointless(rules: Rules) -> Iterator[Found]:
    """Rules that never refuse anything that no other refuses."""
    question = "does it ever refuse anything that no other rule refuses?"
    shared = [rule for rule in rules.interlocks if isinstance(rule, Excludes | Limit)]
    for rule in shared:
        others = [each for each in shared if each is not rule]
        pairs = list(itertools.combinations(rule.outputs, 2))
        if isinstance(rule, Limit) and sum(rule.weights.values()) <= rule.most:
            yield Found(
                "found",
                rule.name,
                "interlock",
                question,
                f"'{rule.name}' is never reached: all its outputs together stay within it",
                "all of them on",
            )
            continue
        if isinstance(rule, Excludes):
            covers = [
                next(
                    (
                        each
                        for each in others
                        if isinstance(each, Excludes)
                        and set(pair) <= set(each.outputs)
                        and each.gap >= rule.gap
                    ),
                    None,
                )
                for pair in pairs
            ]
            if all(covers):
                names = " and ".join(dict.fromkeys(f"'{each.name}'" for each in covers if each))
                what = f"'{rule.name}' is pointless: {names} excludes the same already"
                yield Found(
                    "found",
                    rule.name,
                    "interlock",
                    question,
                    what,
                    f"{pairs[0][0]} and {pairs[0][1]} on: refused without it too",
                )
                continue
        elif 1 << len(rule.outputs) <= MOST:
            against = [
                on
                for count in range(2, len(rule.outputs) + 1)
                for on in map(frozenset, itertools.combinations(rule.outputs, count))
                if not _within(rule, on)
            ]
            if against and all(any(not _within(each, on) for each in others) for on in against):
                what = f"'{rule.name}' is pointless: other rules refuse all that it would refuse"
                yield Found(
                    "found",
                    rule.name,
                    "interlock",
                    question,
                    what,
                    f"{' and '.join(sorted(against[0]))} on: refused without it too",
                )
                continue
        else:
            yield Found("not decided", rule.name, "interlock", question)
            continue
        yield Found("excluded", rule.name, "interlock", question)


def _plan(rules: Rules, schedules: list[Schedule], now: int) -> Iterator[Found]:
    """Excludes whose members the plan turns on together."""
    from cairnwind.core.moments import local

    turned = {schedule.name: _turns_on(schedule) for schedule in schedules}
    question = "does the plan want two of its outputs on at once?"
    for rule in rules.interlocks:
        if not isinstance(rule, Excludes):
            continue
        verdict = "excluded"
        for one, other in itertools.combinations_with_replacement(schedules, 2):
            pairs = [
                (a, b)
                for a in rule.outputs
                for b in rule.outputs
                if a != b and a in turned[one.name] and b in turned[other.name]
            ]
            both = overlap(one, other, now, now + YEAR) if pairs and one is not other else None
            if one is other and pairs:
                what = f"'{one.name}' turns {pairs[0][0]} and {pairs[0][1]} on, and '{rule.name}' lets only one of them be on"
                yield Found(
                    "found", one.name, "schedule", question, what, f"the next time that '{one.name}' runs"
                )
                verdict = ""
            elif both is not None:
                at = f"{local(both[0], one.where.timezone):%Y-%m-%d %H:%M}"
                what = f"'{one.name}' and '{other.name}' want {pairs[0][0]} and {pairs[0][1]} on at once, and '{rule.name}' lets only one of them be on"
                yield Found("found", one.name, "schedule", question, what, f"first at {at}")
                verdict = ""
        if verdict:
            yield Found(verdict, rule.name, "interlock", question)


def _turns_on(schedule: Schedule) -> set[str]:
    return {
        order.output
        for step in schedule.course.steps
        for order in step.orders
        if order.act == "claim" and order.wanted is not None and order.wanted.on
    }


def _rounds(site: Site, rules: Rules) -> Iterator[Found]:
    """Reflexes whose doing comes back to them: where one may lead to the next in a circle, it is tried out."""
    reflexes = [rule for rule in rules.reflexes if isinstance(rule, Reflex)]
    leads = {
        rule.name: [other.name for other in reflexes if set(rule.course.outputs) & {name for kind, name in other.condition.about if kind in ("output", "claims")}]
        for rule in reflexes
    }  # fmt: skip
    question = "does what it does come back to it?"
    told: set[str] = set()
    for rule in reflexes:
        round = _back(leads, rule.name)
        if not round:
            yield Found("excluded", rule.name, "reflex", question)
            continue
        seen = _tried(site, rules, rule)
        if seen and rule.name not in told:
            told.update(round)
            yield Found(
                "found",
                rule.name,
                "reflex",
                question,
                f"'{rule.name}' leads back to itself: {seen[1]}",
                seen[0],
            )
        elif rule.name not in told:
            yield Found(
                "not decided",
                rule.name,
                "reflex",
                question,
                "It may, and no way was found to bring that about.",
            )


def _back(leads: Mapping[str, list[str]], name: str) -> list[str]:
    queue = deque([[name]])
    while queue:
        path = queue.popleft()
        for other in leads[path[-1]]:
            if other == name:
                return [*path, name]
            if other not in path:
                queue.append([*path, other])
    return []


def _tried(site: Site, rules: Rules, reflex: Reflex) -> tuple[str, str] | None:
    """What sets a circle of reflexes going, and the round; tried on an engine of its own, for a virtual minute."""
    for kind, name in reflex.condition.about:
        for active in (True, False):
            run = _Trial(site, rules)
            if kind == "input" and not site.inputs[name].valued:
                run.take(ev.InputSeen(run.now, name, active, settled=True))
                run.take(ev.InputSeen(run.now, name, not active, settled=True))
                how = f"{name} becomes {site.inputs[name].say(not active)}"
            elif kind == "output":
                output = site.outputs[name]
                setting = output.full if active else output.off
                run.take(
                    ev.Wish(
                        run.now, "check", Source("check"), name, setting, Rank.PLAN, "plan:check", RELEASED
                    )
                )
                how = f"turn {name} {output.say(setting)}"
            else:
                continue
            run.pass_time(60 * NS)
            for running in run.engine.reflexes.reflexes.values():
                if running.suspended:
                    return how, running.suspended.partition(": ")[2]
    return None


class _Trial:
    """An engine whose boards answer at once."""

    def __init__(self, site: Site, rules: Rules) -> None:
        self.engine = Engine(site, stepped=False)
        self.now = Instant(NS, 1_795_000_000 * NS)
        for name in site.boards:
            safe = tuple(
                (output.name, output.safe) for output in site.outputs.values() if output.pin.board == name
            )
            self.take(ev.LinkUp(self.now, name, safe))
        for input in site.inputs.values():
            if not input.valued:
                self.take(ev.InputSeen(self.now, input.name, False, settled=True))
        self.take(ev.Start(self.now, interlocks=rules.interlocks, reflexes=rules.reflexes))

    def take(self, event: ev.Event) -> None:
        """An event, and the answers of the boards."""
        waiting = [event]
        while waiting:
            for effect in self.engine.handle(waiting.pop(0)):
                if isinstance(effect, ev.Drive):
                    waiting.append(ev.Confirmed(self.now, effect.output, effect.generation, effect.setting))

    def pass_time(self, span: int) -> None:
        """What is due in it happens."""
        end = self.now.mono + span
        for _ in range(2000):
            due = self.engine.next_deadline(self.now)
            if due is None or due > end:
                return
            later = max(due, self.now.mono)
            self.now = Instant(later, self.now.wall + later - self.now.mono)
            self.take(ev.Tick(self.now))
