"""Budget: how long its outputs may be on, how much energy they may take, or how often they may start, together, in a span of time.

    budget = "12 h in any 24 h" | "40 kWh a week" | "6 starts a day"       outputs, again

*In any* span goes along with the time; *a day* and *a week* begin anew at midnight, and on Monday, of the site's zone (while the
clock is not believed nothing begins anew: any 24 hours, or seven days, count). Times on
count from the confirmed on to the confirmed off: what nobody knows in between counts as on. Energy is that of the stated
loads at their settings. A start counts once it is confirmed; one that is on its way keeps its place meanwhile.

What is used up takes its outputs off at once and keeps them off until there is more: until ``again`` of it is left (a twentieth
unless said), so that they do not come on for a moment each time that a moment of the span has gone by. A person's wish is
refused until then, for nothing starts by itself hours later because somebody once tried.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from datetime import datetime, timedelta
from fractions import Fraction
from typing import Any, NamedTuple

from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Instant
from cairnwind.core.facts.interlocks import Interlock, Refusal
from cairnwind.core.facts.load import power
from cairnwind.core.facts.site import Site
from cairnwind.core.rules.form import Form
from cairnwind.core.rules.gate import Gate, Kind
from cairnwind.core.rules.spending import Piece, Running, Spent
from cairnwind.core.state.standing import Standing
from cairnwind.core.state.state import State
from cairnwind.core.state.turn import Turn
from cairnwind.core.state.watches import Watches
from cairnwind.core.values.errors import CallerError, at_fault
from cairnwind.core.values.fact import fact
from cairnwind.core.values.quantities import NS, about, duration, parse, show_duration

DAYS = {"day": 1, "week": 7}
KEEP_EVERY = 60 * NS
"""How often what a dimmed load takes is stored while it is on; starts and ends are at once."""
MILLIJOULE = NS
"""A milliwatt for so many nanoseconds."""
EXAMPLE = 'Write budget = "12 h in any 24 h", "40 kWh a week" or "6 starts a day".'
_FORM = re.compile(r"\s*(.+?)\s+(?:in any\s+(.+?)|an?\s+(day|week))\s*", re.IGNORECASE)
_STARTS = re.compile(r"(\d+)\s+starts?", re.IGNORECASE)


@fact
class Budget(Interlock):
    """What its outputs may use together in a span."""

    what: str
    """'time', 'energy' or 'starts'."""
    most: int
    """Nanoseconds, milliwatts times nanoseconds, or a number of starts."""
    span: int
    """Nanoseconds; of a day or a week their length as a rule."""
    calendar: str
    """'day' or 'week'; empty: any span of that length."""
    again: int
    """How much must be left before what was used up is to be had again, as ``most``."""
    rates: Mapping[str, int]
    """By output: the most that it uses in a nanosecond."""


class Left(NamedTuple):
    """What is left of a budget."""

    rule: str
    left: str
    """In words: '3 h 20 min', '12.5 kWh', '2 starts'."""
    of: str
    """What it is in all: '12 h in any 24 h'."""
    share: float
    """What is left of all, 0 to 1."""
    more: int | None
    """Wall nanoseconds at which there will be more, or, while nothing is to be had, at which there is enough again; None: as it is."""
    ends: int | None
    """Wall nanoseconds at which it is used up if nothing changes; None: it is not."""
    used_up: bool = False


# --- read and said --------------------------------------------------------------------------------------------


def _read(name: str, form: Form) -> Budget:
    outputs = form.outputs()
    what, most, span, calendar = form.take("budget", _amount)
    rates = dict.fromkeys(outputs, 1 if what == "time" else 0)
    if what == "energy":
        for each in outputs:
            load = form.site.outputs[each].load
            if load is None:
                raise at_fault(
                    "outputs",
                    CallerError("bad-value", f"What {each} takes is not said.", 'Give it load = "85 W".'),
                )
            rates[each] = max(1, round(load * 1000))
    again = form.get("again", lambda value: _part(value, what, most), max(1, most // 20))
    return Budget(name, outputs, what, most, span, calendar, again, rates)


def _amount(value: object) -> tuple[str, int, int, str]:
    """What may be used, how much of it, and in which span."""
    match = _FORM.fullmatch(value) if isinstance(value, str) else None
    if match is None:
        raise CallerError("bad-value", f"{value!r} is no budget.", EXAMPLE)
    amount, span, calendar = match.groups()
    what, most = _quantity(amount)
    if calendar:
        calendar = calendar.lower()
        return what, most, DAYS[calendar] * 86400 * NS, calendar
    return what, most, duration(span if span[:1].isdigit() else f"1 {span}"), ""


def _quantity(text: str) -> tuple[str, int]:
    starts = _STARTS.fullmatch(text)
    if starts:
        if not 1 <= int(starts[1]) <= 1000:
            raise CallerError("bad-value", f"'{text}' is no number of starts.", "Write 1 to 1000 starts.")
        return "starts", int(starts[1])
    try:
        joules = parse(text, "an energy")
    except CallerError:
        try:
            return "time", duration(text)
        except CallerError:
            what = f"'{text}' is no time, no energy and no number of starts."
            raise CallerError("bad-value", what, EXAMPLE) from None
    if joules <= 0:
        raise CallerError("bad-value", f"'{text}' is no energy to spend.", EXAMPLE)
    return "energy", round(joules * 1000) * MILLIJOULE


def _part(value: object, what: str, most: int) -> int:
    if not isinstance(value, str):
        raise CallerError("bad-value", f"{value!r} is no part of a budget.", 'Write again = "30 min".')
    kind, amount = _quantity(value)
    if kind != what or amount > most:
        raise CallerError("bad-value", f"'{value}' is no part of it.", "Write as much or less of the same.")
    return amount


def shown(what: str, amount: int) -> str:
    """So much of it, in words."""
    if what == "starts":
        return f"{amount} start{'' if amount == 1 else 's'}"
    if what == "time":
        minutes, seconds = divmod(amount // NS, 60)
        if minutes >= 60:
            hours, rest = divmod(minutes, 60)
            return f"{hours} h {rest} min" if rest else f"{hours} h"
        if minutes:
            return f"{minutes} min {seconds} s" if seconds and minutes < 10 else f"{minutes} min"
        return about(amount) if amount else "0 s"
    joules = Fraction(amount, 1000 * MILLIJOULE)
    for size, unit in ((3_600_000, "kWh"), (3600, "Wh")):
        if joules * 100 >= size:
            return f"{float(joules / size):.4g} {unit}"
    return f"{float(joules):.4g} J"


def spelled(rule: Budget) -> str:
    """What may be used in which span: '12 h in any 24 h'."""
    span = f"a {rule.calendar}" if rule.calendar else f"in any {_hours(rule.span)}"
    return f"{shown(rule.what, rule.most)} {span}"


def _hours(span: int) -> str:
    return "24 h" if span == 86400 * NS else show_duration(span)


def _said(rule: Budget) -> str:
    names = ", ".join(rule.outputs)
    together = " together" if len(rule.outputs) > 1 else ""
    does = {"time": "on for", "energy": "take", "starts": "have"}[rule.what]
    return f"{names}: {does} at most {spelled(rule)}{together}"


def pointless(rule: Budget, site: Site) -> str:
    """Why it can never be used up, in words; empty if it can."""
    if rule.what == "starts" or sum(rule.rates.values()) * rule.span > rule.most:
        return ""
    return "all its outputs together, on all the time, stay within it"


KIND = Kind("budget", Budget, {
    "budget": "what they may use together: `\"12 h in any 24 h\"`, `\"40 kWh a week\"`, `\"6 starts a day\"`",
    "outputs": "a list of outputs or groups",
    "again": "how much must be left before what was used up is to be had again; a twentieth unless said",
}, _read, _said, pointless=pointless)  # fmt: skip


# --- the gate -------------------------------------------------------------------------------------------------


class _Account:
    """What is remembered of one rule. ``spent`` is replaced and never changed, so that it can be read at any time."""

    __slots__ = ("kept_at", "spent", "used_up")

    def __init__(self) -> None:
        self.spent = Spent()
        self.used_up = False
        self.kept_at = 0
        """When it was stored last (monotonic nanoseconds)."""


class BudgetGate(Gate[Budget]):
    """The gate."""

    rule = Budget
    disarms = counts = True

    def __init__(self, state: State, watches: Watches) -> None:
        super().__init__(state, watches)
        self._accounts: dict[str, _Account] = {}
        """By rule."""

    def add(self, rule: Budget) -> None:
        """Nothing is spent yet, as far as is known."""
        self._accounts[rule.name] = _Account()

    # --- asked --------------------------------------------------------------------------------------------

    def refuse(self, turn: Turn, s: Standing, starting: bool) -> Refusal | None:
        """It is used up."""
        for rule in self.of[s.output.name]:
            found = self._used_up(turn, rule, s, starting)
            if found is not None:
                return found
        return None

    def _used_up(self, turn: Turn, rule: Budget, s: Standing, starting: bool) -> Refusal | None:
        if rule.what == "starts":
            return self._too_often(turn, rule, s) if starting else None
        if pointless(rule, turn.site):
            return None
        if not self._look(turn, rule):
            return None
        return self._refusal(turn, rule, s, "and that is used up")

    def _look(self, turn: Turn, rule: Budget) -> bool:
        """Whether it is used up; where that has changed, all its outputs are asked."""
        account = self._accounts[rule.name]
        used = account.spent.used(turn.now.mono, self._edge(rule, turn.now))
        if account.used_up != (used > rule.most - rule.again if account.used_up else used >= rule.most):
            account.used_up = not account.used_up
            self._store(turn, rule)
            turn.touch_all(rule.outputs)
        return account.used_up

    def _too_often(self, turn: Turn, rule: Budget, s: Standing) -> Refusal | None:
        spent = self._accounts[rule.name].spent
        used = spent.used(turn.now.mono, self._edge(rule, turn.now))
        coming = [
            name
            for name in rule.outputs
            if name != s.output.name and self._is_coming(turn.state.outputs[name])
        ]
        if used >= rule.most:
            return self._refusal(turn, rule, s, "and it has had them")
        if used + len(coming) >= rule.most:
            more = self._leaves(rule, spent, turn.now)
            if more is not None:
                turn.mono.set(max(more, turn.now.mono + 1), "ruled", s.output.name, f"budget {rule.name}")
            return Refusal(
                "budget", f"'{rule.name}' allows {spelled(rule)}, and {coming[0]} is about to have the last",
                f"See: cairnwind why {coming[0]}.", rule=rule.name,
            )  # fmt: skip
        return None

    def _is_coming(self, s: Standing) -> bool:
        return s.gating.granted and not s.drive.is_on

    def _would_start(self, s: Standing) -> bool:
        return s.motion.wanted.on and not s.gating.granted

    def _refusal(self, turn: Turn, rule: Budget, s: Standing, why: str) -> Refusal:
        due = self._again(rule, self._accounts[rule.name].spent, turn.now)
        if due is None:
            expected, when = None, "There is more when its outputs have been off for long enough."
        else:
            turn.mono.set(max(due, turn.now.mono + 1), "ruled", s.output.name, f"budget {rule.name}")
            expected = turn.wall_of(due)
            when = f"There is more {self._clock(expected, turn.now.wall)}."
        return Refusal(
            "budget", f"'{rule.name}' allows {spelled(rule)}, {why}", when, False, expected, rule.name
        )

    def _clock(self, wall: int, now: int) -> str:
        from cairnwind.core.values.moments import local  # time zones are not needed on the way to safe

        here, today = local(wall, self.sight.site.timezone), local(now, self.sight.site.timezone)
        return f"at {here:%H:%M}" if here.date() == today.date() else f"on {here:%A, %d %B} at {here:%H:%M}"

    def left(self, name: str, now: Instant) -> Iterator[Left]:
        """What is left of each of an output's budgets at this moment; may be asked from anywhere."""
        for rule in self.of.get(name, ()):
            account = self._accounts[rule.name]
            spent = account.spent
            used = spent.used(now.mono, self._edge(rule, now))
            left = max(0, rule.most - used)
            more = (
                self._again(rule, spent, now)
                if account.used_up or not left
                else self._leaves(rule, spent, now)
            )
            ends = self._ends(rule, spent, now) if spent.running else None
            yield Left(
                rule.name,
                shown(rule.what, left),
                spelled(rule),
                left / rule.most,
                None if more is None else now.wall + more - now.mono,
                None if ends is None else now.wall + ends - now.mono,
                account.used_up or not left,
            )

    # --- its span -----------------------------------------------------------------------------------------

    def _by_calendar(self, rule: Budget) -> bool:
        """Whether its span begins anew by the clock on the wall; while nobody believes that, any span of its length counts."""
        return bool(rule.calendar) and self.sight.clock_right()

    def _edge(self, rule: Budget, now: Instant) -> int:
        """Since when what was spent counts (monotonic)."""
        if not self._by_calendar(rule):
            return now.mono - rule.span
        return now.mono - (now.wall - _boundary(rule, now.wall, self.sight.site.timezone, after=False))

    def _turns(self, rule: Budget, now: Instant) -> int:
        """When a day or week ends (monotonic)."""
        return now.mono + _boundary(rule, now.wall, self.sight.site.timezone, after=True) - now.wall

    def _ends(self, rule: Budget, spent: Spent, now: Instant) -> int | None:
        """When it is used up if nothing changes; None: never. Of a day or week that is about to end: then, to look again."""
        if not self._by_calendar(rule):
            return spent.when_used(now.mono, rule.span, rule.most)
        rate = sum([it.rate for _, it in spent.running])
        if not rate:
            return None
        left = rule.most - spent.used(now.mono, self._edge(rule, now))
        return now.mono + max(0, -(-left // rate))

    def _again(self, rule: Budget, spent: Spent, now: Instant) -> int | None:
        """When there is enough again; None while that is not to be seen."""
        if self._by_calendar(rule):
            return self._turns(rule, now)
        return spent.when_left(now.mono, rule.span, rule.most - rule.again)

    def _leaves(self, rule: Budget, spent: Spent, now: Instant) -> int | None:
        """When there is more than now."""
        if not spent.pieces and not spent.running:
            return None
        if self._by_calendar(rule):
            return self._turns(rule, now)
        edge = now.mono - rule.span
        first = [max(piece.leaves, edge) for piece in spent.pieces if piece.end > edge]
        return min(first) + rule.span if first else None

    # --- told ---------------------------------------------------------------------------------------------

    def known(self, turn: Turn, s: Standing) -> None:
        """Whether it is confirmed on: from then on it counts, until it is confirmed off."""
        for rule in self.of[s.output.name]:
            if self._see(turn, rule, s):
                self._watch(turn, rule)

    def _see(self, turn: Turn, rule: Budget, s: Standing) -> bool:
        """Whether what an output spends has changed."""
        account, name, now = self._accounts[rule.name], s.output.name, turn.now.mono
        confirmed, running = s.drive.confirmed, account.spent.of(name)
        if confirmed is None or (running is None and not confirmed.on):
            return False
        if running is None:
            account.spent = self._begun(rule, account.spent.begun(name, now, self._rate(rule, s)), name, now)
            self._store(turn, rule)
            return True
        rate = self._rate(rule, s) if confirmed.on else 0
        if confirmed.on and rate == running.rate:
            return False
        spent = account.spent.ended(name, now, rule.rates[name]).forgotten(self._edge(rule, turn.now))
        account.spent = spent.begun(name, now, rate) if confirmed.on else spent
        if not confirmed.on or now >= account.kept_at + KEEP_EVERY:
            self._store(turn, rule)
        return True

    def _begun(self, rule: Budget, spent: Spent, name: str, now: int) -> Spent:
        return spent.once(name, now) if rule.what == "starts" else spent

    def _rate(self, rule: Budget, s: Standing) -> int:
        """What it uses in a nanosecond at what it is confirmed at."""
        if rule.what != "energy" or s.drive.confirmed is None:
            return rule.rates[s.output.name]
        return round(power(s.output, s.drive.confirmed) * 1000)

    def _watch(self, turn: Turn, rule: Budget) -> None:
        """Be there when it is used up; and have those asked again that it keeps off, or would, for when there is more may have changed."""
        starts = rule.what == "starts"
        for name in rule.outputs:
            s = turn.state.outputs[name]
            refusal = s.gating.refusal
            if (refusal is not None and refusal.rule == rule.name) or (starts and self._would_start(s)):
                turn.touch(name)
        if starts:
            return
        if not pointless(rule, turn.site):
            self._look(turn, rule)
        spent = self._accounts[rule.name].spent
        due = self._ends(rule, spent, turn.now)
        if self._by_calendar(rule) and spent.running:
            turns = self._turns(rule, turn.now)
            due = turns if due is None else min(due, turns)
        for name, _ in spent.running:
            if due is not None and due > turn.now.mono:
                turn.mono.set(due, "ruled", name, f"budget {rule.name}")
                continue
            turn.mono.drop("ruled", name, f"budget {rule.name}")
            if due is not None:
                turn.touch(name)

    def started(self, turn: Turn, s: Standing) -> None:
        """One start more is on its way: there may be none left for others."""
        for rule in self.of[s.output.name]:
            if rule.what == "starts":
                turn.touch_all(name for name in rule.outputs if turn.state.outputs[name].motion.wanted.on)

    def let_go(self, turn: Turn, s: Standing) -> None:
        """A start that was on its way may have come to nothing."""
        for rule in self.of[s.output.name]:
            if rule.what == "starts":
                self._watch(turn, rule)

    def moved(self, turn: Turn, s: Standing) -> None:
        """A timer of its own brought it here, or a start came to nothing: the next end is worked out."""
        name = s.output.name
        for rule in self.of.get(name, ()):
            spends = self._accounts[rule.name].spent.of(name) is not None
            if rule.what == "starts" or (
                spends and turn.mono.due("ruled", name, f"budget {rule.name}") is None
            ):
                self._watch(turn, rule)

    def jumped(self, turn: Turn) -> None:
        """The wall clock was set: what is stored by it is stored anew, and days and weeks end at other times."""
        for rule in self.rules.values():
            if self._accounts[rule.name].spent != Spent():
                self._store(turn, rule)
            self._watch(turn, rule)
            if rule.calendar:
                turn.touch_all(rule.outputs)

    # --- remembered ---------------------------------------------------------------------------------------

    def _store(self, turn: Turn, rule: Budget) -> None:
        account = self._accounts[rule.name]
        account.kept_at = turn.now.mono
        unit = MILLIJOULE if rule.what == "energy" else 1
        pieces = [
            [turn.wall_of(it.start), turn.wall_of(it.end), -(-it.amount // unit), it.rate]
            for it in account.spent.pieces
        ]
        running = {name: turn.wall_of(it.since) for name, it in account.spent.running}
        data = {"what": rule.what, "pieces": pieces, "running": running, "used_up": account.used_up}
        turn.effect(self.kept(rule.name, data))

    def recall(self, turn: Turn, kept: Iterable[ev.Keep]) -> None:
        """What was spent before, and what was on then: that counts until it is known to be off. A clock that was set back meanwhile gives nothing back."""
        for each in kept:
            rule = self.rules.get(each.key)
            if rule is None or each.data is None or each.data["what"] != rule.what:
                turn.effect(self.kept(each.key, None))
                continue
            account = self._accounts[rule.name]
            unit = MILLIJOULE if rule.what == "energy" else 1
            pieces = [
                Piece(_mono(turn, start), _mono(turn, end), amount * unit, rate)
                for start, end, amount, rate in each.data["pieces"]
            ]
            running = [
                (name, Running(_mono(turn, since), rule.rates[name]))
                for name, since in each.data["running"].items()
                if name in rule.rates
            ]
            account.spent, account.used_up = Spent(tuple(pieces), tuple(running)), each.data["used_up"]
        self._catch_up(turn)

    def succeed(self, turn: Turn, old: Any) -> None:
        """What was spent under the same name is spent, whatever the rule allows now."""
        for name, rule in self.rules.items():
            was = old.rules.get(name)
            if was is not None and was.what == rule.what:
                self._accounts[name] = account = old._accounts[name]
                for output, _ in account.spent.running:
                    if output not in rule.rates:
                        account.spent = account.spent.ended(output, turn.now.mono, was.rates[output])
        for name in old.rules:
            if name not in self.rules:
                turn.effect(self.kept(name, None))
        self._catch_up(turn)

    def _catch_up(self, turn: Turn) -> None:
        """What is known already of its outputs counts from now on."""
        for name in self.of:
            self.known(turn, turn.state.outputs[name])
        for rule in self.rules.values():
            self._watch(turn, rule)


def _mono(turn: Turn, wall: int) -> int:
    """When that was, by the monotonic clock; not later than now."""
    return min(turn.now.mono, turn.now.mono + wall - turn.now.wall)


def _boundary(rule: Budget, wall: int, timezone: str, *, after: bool) -> int:
    """Where the day or week that ``wall`` is in begins, or (``after``) ends: midnight of the site's zone, in wall nanoseconds."""
    from cairnwind.core.values.moments import local  # time zones are not needed on the way to safe
    from cairnwind.core.values.moments import wall as of_local

    here = local(wall, timezone)
    midnight = datetime(here.year, here.month, here.day)
    if rule.calendar == "week":
        midnight -= timedelta(days=here.weekday())
    if after:
        midnight += timedelta(days=DAYS[rule.calendar])
    return of_local(midnight, timezone)
