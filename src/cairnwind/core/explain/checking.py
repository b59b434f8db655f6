"""What is wrong with the rules of a site, found before anything is switched.

Every question is put to an abstract site (`cairnwind.core.explain.abstract`). Where an answer is certain it is *found* or
*excluded*; where there is more to look at than the budget allows it is *not decided*, with that as the reason: nothing
is reported as found that is not real.
"""

from __future__ import annotations

import itertools
from collections import deque
from collections.abc import Iterable, Iterator, Mapping
from typing import Any, NamedTuple

from cairnwind.core.engine.loop import Engine
from cairnwind.core.explain.abstract import Budget, Key, Space, TooMany, Way, closure, needed_first, within
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import RELEASED, Instant, Rank, Source
from cairnwind.core.facts.conditions import Condition
from cairnwind.core.facts.interlocks import Interlock
from cairnwind.core.facts.plan import Schedule, overlap
from cairnwind.core.facts.reflexes import Alarm, Reflex
from cairnwind.core.facts.site import Site
from cairnwind.core.language.forms import Rules
from cairnwind.core.rules import kinds
from cairnwind.core.rules.excludes import Excludes
from cairnwind.core.rules.limit import Limit
from cairnwind.core.rules.needs import Needs
from cairnwind.core.rules.trip import Trip
from cairnwind.core.values.quantities import NS, show_amount

TOO_MANY = "There is more to look at than can be in a few seconds."
YEAR = 366 * 86400 * NS


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
    budget = Budget()
    found = [*_constant(site, rules, budget), *_never_on(site, rules, budget), *_trips(site, rules, budget)]
    found += [
        *_limits(rules),
        *_by_itself(site, rules),
        *_pointless(rules),
        *_plan(rules, list(schedules), now),
        *_rounds(site, rules),
    ]
    return found


# --- the questions --------------------------------------------------------------------------------------------


def _constant(site: Site, rules: Rules, budget: Budget) -> Iterator[Found]:
    """Conditions that are always so, or never."""
    each: list[tuple[str, str, Condition]] = [
        (rule.name, "interlock", rule.condition)
        for rule in rules.interlocks
        if isinstance(rule, Needs | Trip)
    ]
    each += [(rule.name, "reflex", rule.condition) for rule in rules.reflexes if isinstance(rule, Reflex)]
    each += [(rule.name, "alarm", rule.condition) for rule in rules.reflexes if isinstance(rule, Alarm)]
    question = "can its condition be both so and not so?"
    for name, kind, condition in each:
        try:
            space = Space(site, [condition], rules.interlocks, budget)
            so, otherwise = (space.all_ways([(condition.node, want)]) for want in (True, False))
        except TooMany:
            yield Found("not decided", name, kind, question, TOO_MANY)
            continue
        if so and otherwise:
            yield Found("excluded", name, kind, question)
        else:
            what = f"'{condition.text}' is {'always' if so else 'never'} so, whatever happens"
            yield Found("found", name, kind, question, what, "any state shows it")


def _never_on(site: Site, rules: Rules, budget: Budget) -> Iterator[Found]:
    """Outputs that the rules never let come on."""
    question = "can it ever come on?"
    whole = Way(site, rules.interlocks, budget=budget)
    latched = {
        trip.name: trip
        for trip in rules.interlocks
        if isinstance(trip, Trip) and _for_good(site, rules, trip, budget)
    }
    for name in needed_first(rules.interlocks):
        for trip in latched.values():
            if name in trip.outputs:
                what = f"{name} can never come on: '{trip.name}' has tripped as soon as everything is safe, and nothing can reset it"
                yield Found("found", name, "output", question, what, "everything off")
                break
        else:
            try:
                able = whole.reach(name) or _reached(site, rules.interlocks, name, budget)
            except TooMany:
                yield Found("not decided", name, "output", question, TOO_MANY)
                continue
            yield (
                Found("excluded", name, "output", question) if able else _why_never(site, rules, name, budget)
            )


def _reached(site: Site, interlocks: Iterable[Interlock], name: str, budget: Budget) -> bool:
    """Whether any state in which it is on can be reached. Raises `TooMany`."""
    _, among = closure(interlocks, [name])
    return any(name in on for on, _ in Way(site, among, budget=budget).states())


def _why_never(site: Site, rules: Rules, name: str, budget: Budget) -> Found:
    """An output that never comes on, with the fewest rules that keep it off."""
    core = _core(site, list(rules.interlocks), name, budget)
    circle = _circle(core, name)
    trips = [rule for rule in core if isinstance(rule, Trip)]
    if circle:
        why = f"what it needs goes round in a circle: {' → '.join(circle)}"
    elif trips:
        why = f"'{trips[0].name}' trips as soon as it does: {trips[0].condition.text}"
    else:
        why = "its rules contradict each other"
    named = " and ".join(f"'{rule.name}'" for rule in core)
    return Found(
        "found", name, "output", "can it ever come on?", f"{name} can never come on: {why}",
        f"with {named} alone it cannot either",
    )  # fmt: skip


def _core(site: Site, rules: list[Interlock], name: str, budget: Budget) -> list[Interlock]:
    """The fewest rules that keep an output off, as far as the budget goes: none of them can be left out."""
    _, kept = closure(rules, [name])
    try:
        for rule in list(kept):
            fewer = [each for each in kept if each is not rule]
            if not Way(site, fewer, budget=budget).reach(name) and not _reached(site, fewer, name, budget):
                kept = fewer
    except TooMany:
        pass
    return kept


def _circle(rules: list[Interlock], name: str) -> list[str]:
    """A way from an output through what it needs back to it, if there is one."""
    queue, seen = deque([[name]]), {name}
    while queue:
        path = queue.popleft()
        for rule in rules:
            if isinstance(rule, Needs) and path[-1] in rule.outputs:
                for kind, other in rule.condition.about:
                    if kind != "output":
                        continue
                    if other == name:
                        return [*path, name]
                    if other not in seen:
                        seen.add(other)
                        queue.append([*path, other])
    return []


# --- trips ----------------------------------------------------------------------------------------------------


def _implied(site: Site, rules: Rules, trip: Trip, budget: Budget) -> dict[str, Trip]:
    """The trip, and those that have tripped as well whenever it has."""
    trips = {each.name: each for each in rules.interlocks if isinstance(each, Trip)}
    found, more = {trip.name: trip}, True
    while more:
        more = False
        held = {name for each in found.values() for name in each.outputs}
        for other in trips.values():
            if other.name not in found and not _otherwise(site, rules, other, found, held, budget):
                found[other.name], more = other, True
    return found


def _otherwise(
    site: Site, rules: Rules, trip: Trip, latched: Mapping[str, Trip], held: set[str], budget: Budget, *, settled: bool = True
) -> list[dict[Key, Any]]:  # fmt: skip
    """What would make a trip's cause not so, while others have tripped and their outputs are held at safe."""
    space = Space(site, [trip.condition], rules.interlocks, budget)
    found = space.all_ways([(trip.condition.node, False)], settled=settled)
    return [
        way
        for way in found
        if not any(
            (kind == "trip" and name in latched and value is False)
            or (kind == "on" and value and name in held)
            for (kind, name), value in way.items()
        )
    ]


def _resettable(site: Site, rules: Rules, trip: Trip, budget: Budget) -> bool:
    """Whether somebody can reset it once it has tripped, others that it brings along before it. Raises `TooMany`."""
    latched = _implied(site, rules, trip, budget)
    while True:
        held = {name for each in latched.values() for name in each.outputs}
        freed = next(
            (each for each in latched.values() if _may_reset(site, rules, each, latched, held, budget)), None
        )
        if freed is None:
            return False
        if freed is trip:
            return True
        del latched[freed.name]


def _may_reset(
    site: Site, rules: Rules, trip: Trip, latched: Mapping[str, Trip], held: set[str], budget: Budget
) -> bool:
    ways = _otherwise(site, rules, trip, latched, held, budget)
    if any(not any(kind == "on" and value for (kind, _), value in way.items()) for way in ways):
        return True  # at rest already, if only inputs are as they may be
    if not ways:
        return False
    _, among = closure(rules.interlocks, [name for kind, name in trip.condition.about if kind == "output"])
    way = Way(site, [rule for rule in among if rule is not trip], [trip.condition], budget)
    return any(
        not way.space.so(trip.condition.node, on, values) and _settled(way.space, on, values)
        for on, values in way.states(held=frozenset(held))
    )


def _settled(space: Space, on: frozenset[str], values: Mapping[Key, Any]) -> bool:
    """Whether what is so has been so for long enough: time always comes to pass."""
    return all(
        bool(values["for", text]) or not space.may_last(node) or not space.so(node.inside, on, values)
        for text, node in space.lasting.items()
    )


def _for_good(site: Site, rules: Rules, trip: Trip, budget: Budget) -> bool:
    """Whether it has tripped at once when everything is safe, and can then never be reset."""
    everything = set(site.outputs)
    try:
        return not _otherwise(site, rules, trip, {}, everything, budget, settled=False) and not _resettable(
            site, rules, trip, budget
        )
    except TooMany:
        return False


def _trips(site: Site, rules: Rules, budget: Budget) -> Iterator[Found]:
    """Trips that nothing can reset, and those that trip when everything is safe."""
    for trip in rules.interlocks:
        if not isinstance(trip, Trip):
            continue
        question = "can it be reset once it has tripped?"
        try:
            if not _resettable(site, rules, trip, budget):
                yield Found(
                    "found", trip.name, "interlock", question, *_never_reset(site, rules, trip, budget)
                )
                continue
            yield Found("excluded", trip.name, "interlock", question)
        except TooMany:
            yield Found("not decided", trip.name, "interlock", question, TOO_MANY)
        question = "can everything be safe without its tripping?"
        try:
            if _otherwise(site, rules, trip, {}, set(site.outputs), budget):
                yield Found("excluded", trip.name, "interlock", question)
            else:
                what = f"'{trip.name}' trips when everything is safe: {trip.condition.text}"
                yield Found("found", trip.name, "interlock", question, what, "everything off")
        except TooMany:
            yield Found("not decided", trip.name, "interlock", question, TOO_MANY)


def _never_reset(site: Site, rules: Rules, trip: Trip, budget: Budget) -> tuple[str, str]:
    """Why nothing can reset a trip, and how that is seen."""
    latched = [f"'{name}'" for name in _implied(site, rules, trip, budget) if name != trip.name]
    if latched:
        what = f"nothing can reset '{trip.name}': it and {' and '.join(latched)} keep each other tripped"
        return what, f"'{trip.name}' trips, and {' and '.join(latched)} with it"
    names = ", ".join(trip.outputs) if len(trip.outputs) < 5 else "everything"
    what = f"nothing can reset '{trip.name}': {trip.condition.text} stays so while {names} is safe"
    return what, "everything safe: it has tripped, and does not let go"


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


def _by_itself(site: Site, rules: Rules) -> Iterator[Found]:
    """Rules that never refuse anything, by what they say alone."""
    question = "can it ever refuse anything?"
    for rule in rules.interlocks:
        ask = kinds.kind(rule).pointless
        if ask is None:
            continue
        why = ask(rule, site)
        if why:
            what = f"'{rule.name}' is never reached: {why}"
            yield Found("found", rule.name, "interlock", question, what, "all of them on, all the time")
        else:
            yield Found("excluded", rule.name, "interlock", question)


def _pointless(rules: Rules) -> Iterator[Found]:
    """Rules that never refuse anything that no other refuses."""
    question = "does it ever refuse anything that no other rule refuses?"
    shared = [rule for rule in rules.interlocks if isinstance(rule, Excludes | Limit)]
    of: dict[str, list[Excludes | Limit]] = {}
    for rule in shared:
        for name in rule.outputs:
            of.setdefault(name, []).append(rule)
    for rule in shared:
        near = {id(each): each for name in rule.outputs for each in of[name] if each is not rule}
        others = [each for each in near.values() if len(set(each.outputs) & set(rule.outputs)) > 1]
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
        elif len(rule.outputs) < 13:
            against = [
                on
                for count in range(2, len(rule.outputs) + 1)
                for on in map(frozenset, itertools.combinations(rule.outputs, count))
                if not within(rule, on)
            ]
            if against and all(any(not within(each, on) for each in others) for on in against):
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
            yield Found("not decided", rule.name, "interlock", question, TOO_MANY)
            continue
        yield Found("excluded", rule.name, "interlock", question)


def _plan(rules: Rules, schedules: list[Schedule], now: int) -> Iterator[Found]:
    """Excludes whose members the plan turns on together."""
    from cairnwind.core.values.moments import local

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
            for running in run.engine.reflexes.all.values():
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
