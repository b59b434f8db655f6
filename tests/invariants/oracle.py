"""What must never be seen on the pins, whatever happens: an oracle that shares nothing with what it watches.

It knows the rules of a site as plain tuples (`Rule`), and the truth of pins, contacts and links. It imports
neither conditions nor interlocks. ``BOUND`` is the stated reaction bound: for what a cause from outside makes
forbidden, an output has so long to go off.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, NamedTuple

NS = 1_000_000_000
BOUND = NS // 2
HEARD = NS // 50
"""So long after a contact has moved, it is one or the other."""
ANSWERED = NS // 4
"""So long after an order it is answered, unless that fails."""
SLOW = 12 * NS
"""After an order that failed, nothing is sure for so long."""
HOUR, DAY = 3600 * NS, 86400 * NS
Ask = tuple[Any, ...]
"""('pin' | 'contact', name, bool), ('and' | 'or', a, b), ('not', a), ('for', a, ns), ('hours', from s, to s)."""


def _parts(ask: Ask) -> list[Ask]:
    """A question and all that it is made of."""
    return [ask, *(part for each in ask if isinstance(each, tuple) for part in _parts(each))]


class Violation(AssertionError):
    """Something forbidden was seen."""


class Rule(NamedTuple):
    """('needs' | 'excludes' | 'limit' | 'trip' | 'pace' | 'budget', name, outputs, facts).

    Of a budget ``gap`` is its span, ``most`` what may be used in that, and ``weights`` is (1,) where it counts starts.
    """

    kind: str
    name: str
    outputs: tuple[str, ...]
    ask: Ask = ()
    gap: int = 0
    most: int = 0
    weights: tuple[int, ...] = ()
    pace: tuple[tuple[str, int], ...] = ()
    grace: int = -1
    """Of needs and trips; below 0: none."""


@dataclass
class Seen:
    """One pin: since when it is what it is, when it was switched on, and when an order to it failed last."""

    on: bool = False
    since: int = -DAY
    starts: list[int] = field(default_factory=list)
    lasted: int = 0
    rested: int = DAY
    """How long it was off before it came on."""
    failed: int = -DAY
    ordered: int = -DAY
    forbidden: dict[str, int] = field(default_factory=dict)
    """By rule: since when it is on against it."""


class Oracle:
    """See the module's page."""

    def __init__(self, rules: tuple[Rule, ...], outputs: dict[str, str], inputs: dict[str, str]) -> None:
        """``outputs`` and ``inputs`` by name: the board that they are on."""
        self.rules = rules
        self.board = {**outputs, **inputs}
        self.pins = {name: Seen() for name in outputs}
        self.contacts: dict[str, bool | None] = dict.fromkeys(inputs, False)
        self.up = dict.fromkeys({*self.board.values()}, True)
        self.since: dict[str, dict[int, int | None]] = {rule.name: {} for rule in rules}
        """Of each 'for' in a rule's question: since when its inside is so."""
        self.denied: dict[int, int] = {}
        """Of each 'for': when its inside was known not to be so last."""
        self.met: dict[str, int] = {}
        """By rule: when what it asks was last so."""
        self.meets: set[str] = set()
        """Rules that asked what was so, when they were looked at last."""
        self.cause: dict[str, int | None] = {rule.name: None for rule in rules if rule.kind == "trip"}
        self.latched: dict[str, int | None] = dict.fromkeys(self.cause)
        self.ceased: dict[str, int | None] = {rule.name: None for rule in rules if rule.grace >= 0}
        """Of rules with a grace: since when what they ask is not as it should be, or not known to be."""
        self.spent: dict[str, list[tuple[int, int, int]]] = {
            rule.name: [] for rule in rules if rule.kind == "budget"
        }
        """Of each budget: until when outputs were on, how long, and how many."""
        self.periods: dict[str, list[int]] = {name: [] for name in self.spent}
        """Of each budget: when its outputs were switched, in its span."""
        self.starts: dict[str, list[int]] = {name: [] for name in self.spent}
        """Of each budget: starts that must have been known."""
        self.shaken: dict[str, int] = {}
        """By board: when it, or the service, was away last: what was not answered before that may never have been known."""
        self.stop: int | None = None
        self.welded: set[str] = set()
        self.at = self.wall = 0
        self.turned = -DAY
        """When a contact moved last."""
        self.sure = False
        """Only what a service must know by now counts as so."""

    # --- what is told -------------------------------------------------------------------------------------

    def pin(self, at: int, output: str, on: bool) -> None:
        """A pin has moved."""
        self.look(at)
        seen = self.pins[output]
        for rule in self.rules:
            if rule.kind == "budget" and output in rule.outputs:
                self.periods[rule.name].append(at)
        if not on and self.counted(at, output):
            for rule in self.rules:
                if rule.kind == "budget" and output in rule.outputs:
                    self.starts[rule.name].append(seen.since)
        if on:
            self.check_start(at, output, seen)
            seen.starts = [each for each in seen.starts if each > at - HOUR] + [at]
        else:
            seen.lasted = at - seen.since
            seen.forbidden.clear()
            seen.rested = DAY
        if on:
            seen.rested = at - seen.since
        seen.on, seen.since = on, at
        self.look(at)

    def contact(self, at: int, name: str, active: bool) -> None:
        """A contact has moved."""
        self.look(at)
        self.contacts[name] = active
        self.turned = at
        self.look(at)

    def link(self, at: int, board: str, up: bool) -> None:
        """A board was lost, or is back."""
        self.look(at)
        self.up[board] = up
        self.shaken[board] = at
        for seen in self.pins.values():
            seen.forbidden.clear()
        self.look(at)

    def failed(self, at: int, output: str) -> None:
        """An order to it fails: how long that takes to mend is not bounded."""
        self.pins[output].failed = at
        for seen in self.pins.values():
            seen.forbidden.clear()

    def ordered(self, at: int, output: str) -> None:
        """It is told something: until it has answered, which it is at is not sure."""
        self.pins[output].ordered = at

    def weld(self, at: int, output: str, stuck: bool) -> None:
        """Its contact stays as it is, whoever says what; or no longer."""
        self.failed(at, output)
        self.welded = self.welded | {output} if stuck else self.welded - {output}

    def restarted(self, at: int) -> None:
        """A new engine knows nothing of how long anything has been so."""
        self.shaken[""] = at
        for since in self.since.values():
            since.clear()
        self.cause = dict.fromkeys(self.cause)
        for rule in self.rules:
            if rule.kind == "needs" and rule.grace >= 0:
                self.ceased[rule.name] = None
        self.met, self.meets, self.denied = {}, set(), {}
        self.look(at)

    def reset(self, at: int, trip: str) -> None:
        """Somebody was told that a trip is reset."""
        rule = next(rule for rule in self.rules if rule.name == trip)
        if self.ask(rule.ask, rule.name) is not False and (self.cause[trip] or at) <= at - BOUND:
            raise Violation(f"{trip} was reset although its cause is there")
        self.latched[trip] = None

    def stopped(self, at: int, in_force: bool) -> None:
        """The all-stop, or its reset."""
        self.stop = at if in_force else None
        for seen in self.pins.values():
            seen.forbidden.pop("all-stop", None)

    def passed(self, at: int, wall: int) -> None:
        """Time has passed."""
        self.wall = wall
        self.look(at)

    # --- what is asked ------------------------------------------------------------------------------------

    def ask(self, ask: Ask, rule: str) -> bool | None:
        """Whether it is so, in truth; None where no service could know."""
        match ask:
            case ("pin", name, meant):
                seen = self.pins[name]
                settled = self.at - seen.failed > SLOW and self.at - seen.ordered > ANSWERED
                known = self.up[self.board[name]] and (settled or not self.sure)
                return self.pins[name].on == meant if known else None
            case ("contact", name, meant):
                return self.contacts[name] == meant if self.up[self.board[name]] else None
            case ("not", inside):
                found = self.ask(inside, rule)
                return None if found is None else not found
            case ("and", one, other):
                both = self.ask(one, rule), self.ask(other, rule)
                return False if False in both else None if None in both else True
            case ("or", one, other):
                both = self.ask(one, rule), self.ask(other, rule)
                return True if True in both else None if None in both else False
            case ("for", inside, span):
                found, since = self.ask(inside, rule), self.since[rule]
                if found is False:
                    self.denied[id(ask)] = self.at
                if found is None and self.at - self.denied.get(id(ask), -DAY) < span:
                    found = False  # what was not so a moment ago has not been so for long, whatever it is now
                if found is not True:
                    since[id(ask)] = None
                    return found
                began = since.get(id(ask))
                if began is None:
                    began = since[id(ask)] = self.at
                return self.at - began >= span
            case ("hours", begin, end):
                second = self.wall % DAY // NS
                return begin <= second < end if begin < end else second >= begin or second < end
        raise ValueError(ask)

    def look(self, at: int) -> None:
        """See that nothing forbidden is so."""
        passed, self.at = at - self.at, at
        for rule in self.rules:
            match rule.kind:
                case "budget":
                    self.budget(at, rule, passed)
                case "needs":
                    met = self.ask(rule.ask, rule.name) is True
                    if met or rule.name in self.meets:
                        self.met[rule.name] = at  # what only time has ended was so until just now
                    self.meets = self.meets | {rule.name} if met else self.meets - {rule.name}
                    borne = self.borne(at, rule, met)
                    for name in rule.outputs:
                        self.bounded(at, name, rule.name, met or borne)
                case "trip":
                    self.trip(at, rule)
                case "excludes":
                    on = [name for name in rule.outputs if self.pins[name].on]
                    if len(on) > 1:
                        raise Violation(f"{' and '.join(on)} are on at once, against {rule.name}")
                case "limit":
                    used = sum(
                        weight
                        for name, weight in zip(rule.outputs, rule.weights, strict=True)
                        if self.pins[name].on
                    )
                    if used > rule.most:
                        raise Violation(f"{used} of {rule.most}, against {rule.name}")
                case "pace":
                    longest = dict(rule.pace).get("longest_on", 0)
                    for name in rule.outputs:
                        seen = self.pins[name]
                        self.bounded(
                            at, name, rule.name, not longest or not seen.on or at - seen.since < longest
                        )
        if self.stop is not None:
            for name in self.pins:
                self.bounded(at, name, "all-stop", False)

    def certain(self, at: int, name: str) -> bool:
        """Whether what it is told gets through and is answered, so that a service must know what it is at."""
        return self.up[self.board[name]] and name not in self.welded and at - self.pins[name].failed > SLOW

    def counted(self, at: int, name: str) -> bool:
        """Whether a service must know that a pin that is on has come on."""
        seen = self.pins[name]
        answered = seen.since + ANSWERED
        steady = (
            self.shaken.get(self.board[name], -DAY) < seen.since and self.shaken.get("", -DAY) < seen.since
        )
        return (
            answered < at
            and seen.rested > ANSWERED
            and steady
            and seen.failed + SLOW < seen.since
            and name not in self.welded
        )

    def budget(self, at: int, rule: Rule, passed: int) -> None:
        """Add up what is certainly on; what is answered counts from the answer, so each period may be a little longer."""
        if rule.weights == (1,):
            return
        spent = self.spent[rule.name] = [each for each in self.spent[rule.name] if each[0] > at - rule.gap]
        on = [name for name in rule.outputs if self.pins[name].on and self.certain(at, name)]
        if on and passed:
            spent.append((at, passed, len(on)))
        periods = self.periods[rule.name] = [
            each for each in self.periods[rule.name] if each > at - 2 * rule.gap
        ]
        used = sum(min(span, end - at + rule.gap) * count for end, span, count in spent)
        for name in rule.outputs:
            self.bounded(at, name, rule.name, used <= rule.most + (len(periods) + 2) * ANSWERED)

    def borne(self, at: int, rule: Rule, good: bool) -> bool:
        """Whether the grace of a rule still runs: whatever it becomes, only what is good ends it."""
        if rule.grace < 0:
            return False
        if good:
            self.ceased[rule.name] = None
            return True
        since = self.ceased[rule.name]
        if since is None:
            since = self.ceased[rule.name] = at
        return at - since < rule.grace

    def bounded(self, at: int, name: str, rule: str, permitted: bool) -> None:
        """An output that is on against a rule has `BOUND` to go off, while its board answers."""
        seen = self.pins[name]
        if permitted or not seen.on or not self.up[self.board[name]] or name in self.welded:
            seen.forbidden.pop(rule, None)
            return
        since = seen.forbidden.setdefault(rule, at)
        if at - since > BOUND and at - seen.failed > SLOW:
            raise Violation(f"{name} is on, against {rule}, for {(at - since) / NS:.3f} s")

    def trip(self, at: int, rule: Rule) -> None:
        """A cause that lasts longer than the bound has latched it."""
        self.sure = True
        found = self.ask(rule.ask, rule.name)
        self.sure = False
        if found is not True:
            self.cause[rule.name] = None
        elif self.cause[rule.name] is None:
            self.cause[rule.name] = at
        elif at - (self.cause[rule.name] or at) > BOUND and self.latched[rule.name] is None:
            self.latched[rule.name] = at
        if rule.grace >= 0 and not any(each[0] == "pin" for each in _parts(rule.ask)):
            if not self.borne(at, rule, found is False) and self.latched[rule.name] is None:
                self.latched[rule.name] = at
        for name in rule.outputs:
            self.bounded(at, name, rule.name, self.latched[rule.name] is None)

    def check_start(self, at: int, name: str, seen: Seen) -> None:
        """A pin goes on: whether that may be now."""
        off_for = at - seen.since
        for rule in self.rules:
            if name not in rule.outputs:
                continue
            match rule.kind:
                case "needs" if at - self.met.get(rule.name, -DAY) > BOUND and at - self.turned > HEARD:
                    raise Violation(f"{name} was switched on against {rule.name}")
                case "trip" if (latched := self.latched[rule.name]) is not None and at - latched > BOUND:
                    raise Violation(f"{name} was switched on although {rule.name} had tripped")
                case "excludes":
                    for other in rule.outputs:
                        gone = at - self.pins[other].since
                        if other != name and not self.pins[other].on and gone < rule.gap:
                            raise Violation(f"{name} on {gone / NS:.4f} s after {other}, against {rule.name}")
                case "pace":
                    self.check_pace(at, name, seen, off_for, rule)
                case "budget" if rule.weights == (1,):
                    others = [
                        self.pins[each].since
                        for each in rule.outputs
                        if self.pins[each].on and self.counted(at, each)
                    ]
                    starts = [
                        each for each in (*self.starts[rule.name], *others) if each > at - rule.gap + ANSWERED
                    ]
                    if len(starts) >= rule.most:
                        raise Violation(f"{name} was started too often, against {rule.name}")

    def check_pace(self, at: int, name: str, seen: Seen, off_for: int, rule: Rule) -> None:
        """Whether it has been off long enough, and was not started too often."""
        pace = dict(rule.pace)
        if off_for < pace.get("least_off", 0):
            raise Violation(f"{name} on again after {off_for / NS:.3f} s, against {rule.name}")
        if pace.get("rest") and seen.lasted >= pace["longest_on"] and off_for < pace["rest"]:
            raise Violation(f"{name} did not rest, against {rule.name}")
        if pace.get("starts") and len([each for each in seen.starts if each > at - HOUR]) >= pace["starts"]:
            raise Violation(f"{name} was started too often, against {rule.name}")
        if pace.get("stagger"):
            last = max(
                (max(self.pins[other].starts, default=-DAY) for other in rule.outputs if other != name),
                default=-DAY,
            )
            if at - last < pace["stagger"] - BOUND // 2:
                raise Violation(f"{name} was started too soon after another, against {rule.name}")
