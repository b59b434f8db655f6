"""The gates that several outputs share: excludes and limits. Who of those that want to be on has a place.

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
from fractions import Fraction
from typing import NamedTuple

from cairnwind.core.facts.interlocks import Excludes, Limit, Refusal
from cairnwind.core.values.quantities import show_amount, show_duration

Shared = Excludes | Limit


class Bid(NamedTuple):
    """Somebody wants an output on: with what rank, since which place in the journal, and whether it has its place."""

    rank: int
    place: int
    holding: bool
    text: str
    """Who that is, in words."""


class Fact(NamedTuple):
    """What is known of an output: whether it may be on, and how; and since when it is confirmed off (monotonic)."""

    may_be_on: bool
    how: str
    """In words that follow its name: 'is not confirmed off yet'."""
    off_at: int
    leaving: bool = False
    """Nothing is known to keep it from going off when it is told to, or it counts as off after a time that is known."""
    expected: int | None = None
    """When it counts as off (monotonic), where that is known: its board's watchdog has then rested it."""


class Circle:
    """Outputs that shared rules bind together."""

    def __init__(self, outputs: tuple[str, ...], rules: Iterable[Shared]) -> None:
        self.outputs = outputs
        self.rules = tuple(rules)
        self.of: dict[str, tuple[Shared, ...]] = {
            name: tuple(rule for rule in self.rules if name in rule.outputs) for name in outputs
        }
        self.position = {name: self._position(name) for name in outputs}
        self.limits = tuple(rule for rule in self.rules if isinstance(rule, Limit))
        self.weight = {
            rule.name: {name: _micro(weight) for name, weight in rule.weights.items()} for rule in self.limits
        }
        self.most = {rule.name: _micro(rule.most) for rule in self.limits}
        """Whole millionths: sums are made at every change."""
        self.waiting: dict[str, set[str]] = {rule.name: set() for rule in self.limits}
        """By limit: who had no room."""
        self.placed: set[str] = set()
        """Who has a place, on already or not yet."""
        self.used: dict[str, int] = {}
        self.freed: dict[str, int] = {}
        """By limit: when room was last made (monotonic nanoseconds)."""
        self.due: int | None = None
        """When the places have to be given anew although nothing has changed."""
        self.seen: dict[str, object] = {}
        """By output: what it was like when the places were last given."""

    def succeed(self, old: Circle) -> None:
        """Remember what the circle before did of the same limits: who waits, and since when there is room."""
        self.placed |= old.placed & set(self.outputs)
        for rule in self.limits:
            if rule.name in old.used:
                self.waiting[rule.name] = old.waiting[rule.name] & set(rule.outputs)
                self.used[rule.name] = old.used[rule.name]
                if rule.name in old.freed:
                    self.freed[rule.name] = old.freed[rule.name]

    def _position(self, name: str) -> int:
        for rule in self.of[name]:
            if isinstance(rule, Limit) and name in rule.order:
                return rule.order.index(name)
        return len(self.outputs) + self.outputs.index(name)

    def note(self, facts: Mapping[str, Fact], bids: Mapping[str, Bid], now: int) -> None:
        """See where room was made since the last time, and who no longer waits."""
        for rule in self.limits:
            weight = self.weight[rule.name]
            used = sum([weight[name] for name in rule.outputs if facts[name].may_be_on])
            if used < self.used.get(rule.name, used):
                self.freed[rule.name] = now
            self.used[rule.name] = used
            if self.waiting[rule.name]:
                self.waiting[rule.name] &= bids.keys()

    def give(
        self, bids: Mapping[str, Bid], facts: Mapping[str, Fact], now: int, *, supposed: bool = False
    ) -> dict[str, Refusal | None]:
        """For each output that bids: None if it may be on, or why not. ``supposed``: nothing is remembered."""
        self.due = None if not supposed else self.due
        placed: dict[str, None] = {}
        found: dict[str, Refusal | None] = {}
        full: dict[str, str] = {}
        late = {name for names in self.waiting.values() for name in names}
        order = sorted(
            bids,
            key=lambda name: (
                -bids[name].rank, not (bids[name].holding or name in self.placed), name not in late, self.position[name], bids[name].place
            ),
        )  # fmt: skip
        on: set[str] = set()
        for name in order:
            refusal = next(
                (
                    why
                    for rule in self.of[name]
                    if (why := self._room(rule, name, bids, placed, full, now, supposed))
                ),
                None,
            )
            if refusal is None and not bids[name].holding:
                refusal = next(
                    (
                        why
                        for rule in self.of[name]
                        if (why := self._clear(rule, name, on, facts, now, supposed))
                    ),
                    None,
                )
                if refusal is not None and refusal.only_time:
                    placed[name] = None
            found[name] = refusal
            if refusal is None:
                placed[name] = None
                on.add(name)
            if name in placed and not supposed:
                for names in self.waiting.values():
                    names.discard(name)
        if not supposed:
            self.placed = set(placed)
        return found

    # --- room ---------------------------------------------------------------------------------------------

    def _room(
        self, rule: Shared, name: str, bids: Mapping[str, Bid], placed: Mapping[str, None], full: dict[str, str],
        now: int, supposed: bool,
    ) -> Refusal | None:  # fmt: skip
        """Why a rule has no room for an output beside those that have their place."""
        if isinstance(rule, Excludes):
            other = next((each for each in rule.outputs if each in placed), None)
            if other is None:
                return None
            only, text = f"'{rule.name}' lets only one of {_names(rule.outputs)} be on", bids[other].text
            if bids[other].holding:
                why, remedy = f"{only}, and {other} has it, for {text}", f"Switch {other} off first."
            else:
                why = f"{only}, and {other} is next, for {text}"
                remedy = f"Release {other} first; see: cairnwind why {other}."
            return Refusal("excludes", why, remedy, rule=rule.name)
        behind = "" if bids[name].holding else full.get(rule.name, "")
        weight = self.weight[rule.name]
        used = sum([weight[each] for each in rule.outputs if each in placed])
        refusal = None
        if weight[name] > self.most[rule.name]:
            return Refusal(
                "limit", self._too_much(rule, name, placed, used), "Raise the limit, or take it out of it.", rule=rule.name
            )  # fmt: skip
        if used + weight[name] > self.most[rule.name]:
            refusal = Refusal(
                "limit", self._too_much(rule, name, placed, used), self._remedy(rule, name), rule=rule.name
            )
        elif behind:
            refusal = Refusal(
                "limit",
                f"'{rule.name}' has room again for {behind} before {name}",
                f"Release {behind}, or wait until it is on.",
                rule=rule.name,
            )
        elif name in self.waiting[rule.name] and not bids[name].holding:
            ready = self.freed.get(rule.name, now) + rule.settle
            if now < ready:
                refusal = Refusal(
                    "limit",
                    f"'{rule.name}' waits {show_duration(rule.settle)} after room was made",
                    "Wait.",
                    True,
                    ready,
                    rule.name,
                )
                if not supposed:
                    self._wake(ready)
        if refusal is not None:
            if refusal.only_time:
                full.setdefault(rule.name, name)  # there is room for it, and only its time has not come
            if not supposed:
                self.waiting[rule.name].add(name)
        return refusal

    def _too_much(self, rule: Limit, name: str, placed: Mapping[str, None], micro: int) -> str:
        used = Fraction(micro, 1_000_000)
        mine = rule.weights[name]

        def show(amount: Fraction) -> str:
            return show_amount(amount, rule.unit)

        have = _names([each for each in rule.outputs if each in placed])
        if mine > rule.most:
            return f"'{rule.name}' allows {show(rule.most)}, and {name} alone needs {show(mine)}"
        if not rule.unit:
            return f"'{rule.name}' lets {float(rule.most):g} of them be on, and {have} {'is' if used == 1 else 'are'}"
        return (
            f"'{rule.name}' allows {show(rule.most)}: {have} {'needs' if len(placed) == 1 else 'need'} {show(used)}, "
            f"and {name} would need {show(mine)} more"
        )

    def _remedy(self, rule: Limit, name: str) -> str:
        return f"Switch off one of {_names([each for each in rule.outputs if each != name])} first."

    # --- now ----------------------------------------------------------------------------------------------

    def _clear(
        self, rule: Shared, name: str, on: set[str], facts: Mapping[str, Fact], now: int, supposed: bool
    ) -> Refusal | None:
        """Why an output that has its place may not go on at this moment."""
        if isinstance(rule, Excludes):
            for other in rule.outputs:
                if other == name:
                    continue
                fact = facts[other]
                if fact.may_be_on:
                    return self._leaving(rule, other, fact)
                ready = fact.off_at + rule.gap + rule.settle
                if now < ready:
                    if not supposed:
                        self._wake(ready)
                    text = f"'{rule.name}' keeps {show_duration(rule.gap + rule.settle)} between {other} and {name}"
                    return Refusal("excludes", text, "Wait.", True, ready, rule.name)
            return None
        others = [each for each in rule.outputs if each != name and (each in on or facts[each].may_be_on)]
        weight = self.weight[rule.name]
        if sum([weight[each] for each in others], weight[name]) <= self.most[rule.name]:
            return None
        leaving = next((each for each in others if each not in on), others[0])
        return self._leaving(rule, leaving, facts[leaving])

    def _leaving(self, rule: Shared, other: str, fact: Fact) -> Refusal:
        """It has to be off first."""
        gate = "excludes" if isinstance(rule, Excludes) else "limit"
        return Refusal(
            gate, f"'{rule.name}': {other} {fact.how}", f"{other} has to be confirmed off.", fact.leaving, fact.expected, rule.name
        )  # fmt: skip

    def _wake(self, due: int) -> None:
        if self.due is None or due < self.due:
            self.due = due


def circles(rules: Iterable[Shared]) -> list[Circle]:
    """The rules and their outputs, put together where they have any output in common."""
    rules = list(rules)
    root: dict[str, str] = {}

    def find(name: str) -> str:
        while root.setdefault(name, name) != name:
            root[name] = name = root[root[name]]
        return name

    for rule in rules:
        for name in rule.outputs[1:]:
            root[find(name)] = find(rule.outputs[0])
    found: dict[str, tuple[dict[str, None], list[Shared]]] = {}
    for rule in rules:
        names, own = found.setdefault(find(rule.outputs[0]), ({}, []))
        names.update(dict.fromkeys(rule.outputs))
        own.append(rule)
    return [Circle(tuple(names), own) for names, own in found.values()]


def _micro(amount: Fraction) -> int:
    """Millionths, rounded."""
    return round(amount * 1_000_000)


def _names(names: Iterable[str]) -> str:
    each = list(names)
    return " and ".join(each) if len(each) < 3 else f"{', '.join(each[:-1])} and {each[-1]}"
