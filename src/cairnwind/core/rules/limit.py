"""Limit: what its outputs need together stays within a bound: a number of them, amperes of a supply, or watts.

limit = 2 | "1.2 A" | "3 kW"              outputs, order, settle
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from fractions import Fraction
from typing import Any

from cairnwind.core.facts.interlocks import Interlock, Refusal
from cairnwind.core.facts.site import Site
from cairnwind.core.rules.form import Form, outputs
from cairnwind.core.rules.gate import Kind
from cairnwind.core.rules.sharing import Asking, Bid, Sharing, leaving
from cairnwind.core.values.errors import CallerError, at_fault
from cairnwind.core.values.fact import fact
from cairnwind.core.values.listing import listed
from cairnwind.core.values.quantities import NS, parse, show_amount, show_duration

SUPPLY = "supply "
"""What the limit of a supply is called, before the supply's own name."""


@fact
class Limit(Interlock):
    """What its outputs need together stays within a bound: a number of them, amperes of a supply, or watts."""

    most: Fraction
    unit: str
    """'' counts them, 'A' and 'W' add up what they draw or switch."""
    weights: Mapping[str, Fraction]
    """By output: what it counts for when it is on at all."""
    order: tuple[str, ...] = ()
    """Who keeps a place longest comes first."""
    settle: int = 2 * NS
    """How long after room was made somebody who had none comes in again."""


def _read(name: str, form: Form) -> Limit:
    named = form.outputs()
    most, unit = form.take("limit", _bound)
    weights: dict[str, Fraction] = {}
    for each in named:
        output = form.site.outputs[each]
        weight = {"": Fraction(1), "A": output.draws, "W": output.load}[unit]
        if weight is None:
            what = 'draws = { supply = "…", current = "72 mA" }' if unit == "A" else 'load = "85 W"'
            raise at_fault(
                "outputs", CallerError("bad-value", f"What {each} needs is not said.", f"Give it {what}.")
            )
        weights[each] = weight
    order = form.get("order", lambda value: outputs(value, form.site), named)
    strange = [each for each in order if each not in named]
    if strange:
        raise at_fault(
            "order",
            CallerError("bad-value", f"{strange[0]} is not among its outputs.", "Order those that are."),
        )
    return Limit(name, named, most, unit, weights, order, form.time("settle", 2 * NS))


def _bound(value: object) -> tuple[Fraction, str]:
    if isinstance(value, int) and not isinstance(value, bool) and value >= 1:
        return Fraction(value), ""
    for unit, dimension in (("A", "a current"), ("W", "a power")):
        try:
            found = parse(value, dimension) if isinstance(value, str) else Fraction(0)
        except CallerError:
            continue
        if found > 0:
            return found, unit
    raise CallerError(
        "bad-value",
        f"{value!r} is no limit.",
        'Write a number of outputs (2), a current ("1.2 A") or a power ("3 kW").',
    )


def _said(rule: Limit) -> str:
    return f"{', '.join(rule.outputs)}: at most {show_amount(rule.most, rule.unit)}{'' if rule.unit else ' of them'}"


KIND = Kind("limit", Limit, {
    "limit": "what they need together at most: a number of them, `\"1.2 A\"` or `\"3 kW\"`",
    "outputs": "a list of outputs or groups",
    "order": "who keeps a place longest comes first; as they are listed unless said",
    "settle": "how long after room was made somebody comes in again; 2 s unless said",
}, _read, _said)  # fmt: skip


def of_supplies(site: Site, own: Iterable[Interlock]) -> list[Limit]:
    """The limits that supplies have by themselves: one for each that its outputs could overload together."""
    found = []
    taken = {rule.name for rule in own}
    for supply in site.supplies.values():
        weights = {
            output.name: output.draws
            for output in site.outputs.values()
            if output.supply == supply.name and output.draws
        }
        name = f"{SUPPLY}{supply.name}"
        keeps = [
            each for each in weights if site.outputs[each].safe.on or site.outputs[each].on_stop == "keep"
        ]
        if (
            supply.limit is not None
            and sum(weights.values()) > supply.limit
            and name not in taken
            and not keeps
        ):
            found.append(Limit(name, tuple(weights), supply.limit, "A", weights))
    return found


class LimitSharing(Sharing[Limit]):
    """It at work in its circle. Weights in whole millionths: sums are kept up to date at every change."""

    __slots__ = ("_freed", "_most", "_noted", "_used", "_weight")
    queues = True

    def __init__(self, rule: Limit) -> None:
        super().__init__(rule)
        self._weight = {name: _micro(weight) for name, weight in rule.weights.items()}
        self._most = _micro(rule.most)
        self._used = 0
        """What those need that may be on."""
        self._noted: int | None = None
        """The same when places were given last."""
        self._freed: int | None = None
        """When room was last made (monotonic nanoseconds)."""

    @property
    def order(self) -> tuple[str, ...]:
        """Who keeps a place longest comes first."""
        return self.rule.order

    def begin(self, asking: Asking) -> None:
        """Nobody has a place; what may be on occupies its room."""
        asking.taken[self.name], asking.occupied[self.name] = 0, self._used

    def known(self, name: str, may_be_on: bool) -> None:
        """An output may be on from now on, or is known not to be."""
        self._used += self._weight[name] if may_be_on else -self._weight[name]

    def placed(self, name: str, asking: Asking, count: int) -> None:
        """An output got a place, or has none any more."""
        asking.taken[self.name] += count * self._weight[name]

    def occupied(self, name: str, asking: Asking, count: int) -> None:
        """An output counts as on, or no longer does."""
        asking.occupied[self.name] += count * self._weight[name]

    def note(self, bids: Mapping[str, Bid], now: int) -> None:
        """See whether room was made since the last time, and who no longer waits."""
        if self._noted is not None and self._used < self._noted:
            self._freed = now
        self._noted = self._used
        if self.waiting:
            self.waiting &= bids.keys()

    def room(self, name: str, asking: Asking) -> Refusal | None:
        """Beside those that have their place there is no room for it, or none yet."""
        weight = self._weight[name]
        used = asking.taken[self.name] - (weight if name in asking.placed else 0)
        if used + weight <= self._most and not self.waiting and not asking.full:
            return None
        rule = self.rule
        if weight > self._most:
            return Refusal(
                "limit", self._too_much(name, asking, used), "Raise the limit, or take it out of it.", rule=rule.name
            )  # fmt: skip
        holding = asking.bids[name].holding
        behind = "" if holding else asking.full.get(rule.name, "")
        refusal = None
        if used + weight > self._most:
            remedy = f"Switch off one of {listed([each for each in rule.outputs if each != name])} first."
            refusal = Refusal("limit", self._too_much(name, asking, used), remedy, rule=rule.name)
        elif behind:
            text = f"'{rule.name}' has room again for {behind} before {name}"
            refusal = Refusal("limit", text, f"Release {behind}, or wait until it is on.", rule=rule.name)
        elif name in self.waiting and not holding:
            refusal = self._settling(asking)
        if refusal is not None:
            if refusal.only_time:
                asking.full.setdefault(
                    rule.name, name
                )  # there is room for it, and only its time has not come
            if not asking.supposed:
                self.waiting.add(name)
        return refusal

    def _settling(self, asking: Asking) -> Refusal | None:
        """Room was made a moment ago. Who has room by its rank, and not since somebody went, waits for nobody."""
        rule = self.rule
        if self._freed is None or asking.now >= (ready := self._freed + rule.settle):
            return None
        asking.wake(ready)
        text = f"'{rule.name}' waits {show_duration(rule.settle)} after room was made"
        return Refusal("limit", text, "Wait.", True, ready, rule.name)

    def clear(self, name: str, asking: Asking) -> Refusal | None:
        """What has to go off first may still be on."""
        facts, weight, key = asking.facts, self._weight[name], self.name
        mine = weight if facts[name].may_be_on or asking.placed.get(name) else 0
        if asking.occupied[key] - mine + weight <= self._most:
            return None
        others = [
            each
            for each in self.rule.outputs
            if each != name and (asking.placed.get(each) or facts[each].may_be_on)
        ]
        first = next((each for each in others if not asking.placed.get(each)), others[0])
        return leaving("limit", self.rule.name, first, facts[first])

    def admitted(self, name: str) -> None:
        """It has its place."""
        self.waiting.discard(name)

    def succeed(self, old: Any) -> None:
        """Who waits, and since when there is room."""
        if old._noted is not None:
            self.waiting = old.waiting & set(self.rule.outputs)
            self._noted, self._freed = old._noted, old._freed

    def _too_much(self, name: str, asking: Asking, micro: int) -> str:
        rule = self.rule
        used, mine = Fraction(micro, 1_000_000), rule.weights[name]

        def show(amount: Fraction) -> str:
            return show_amount(amount, rule.unit)

        have = listed([each for each in rule.outputs if each in asking.placed])
        if mine > rule.most:
            return f"'{rule.name}' allows {show(rule.most)}, and {name} alone needs {show(mine)}"
        if not rule.unit:
            return f"'{rule.name}' lets {float(rule.most):g} of them be on, and {have} {'is' if used == 1 else 'are'}"
        return (
            f"'{rule.name}' allows {show(rule.most)}: {have} {'needs' if len(asking.placed) == 1 else 'need'} {show(used)}, "
            f"and {name} would need {show(mine)} more"
        )


def _micro(amount: Fraction) -> int:
    """Millionths, rounded."""
    return round(amount * 1_000_000)
