"""Needs: outputs that may be on only while a condition holds, some of them for a grace longer.

    needs = "kiln-vent is on for 30 s"        outputs, grace

And the order of change that follows from it: before an output that others need is taken off because somebody wants that,
those others are taken off and confirmed. It is held as it is meanwhile (`Gating.bound_for` says where it is bound), and
what needs it is refused already. An off that a gate asks for waits for nothing.
"""

from __future__ import annotations

from collections.abc import Iterable
from itertools import product
from typing import Any

from cairnwind.core.facts.conditions import Condition, Missing, Value
from cairnwind.core.facts.interlocks import Interlock, Refusal
from cairnwind.core.rules.form import Form
from cairnwind.core.rules.gate import Gate, Kind
from cairnwind.core.rules.occupancy import occupies
from cairnwind.core.state.standing import Standing
from cairnwind.core.state.state import State
from cairnwind.core.state.turn import Turn
from cairnwind.core.state.watches import Watch, Watches
from cairnwind.core.values.fact import alike, fact
from cairnwind.core.values.quantities import show_duration
from cairnwind.core.values.settings import Setting

MOST_COMING = 6
"""Changes on their way that a condition is tried with, in every combination; with more it counts as not so."""


@fact
class Needs(Interlock):
    """Its outputs may be on only while a condition holds."""

    condition: Condition
    grace: int = 0
    """How long an output that is on may stay on without it."""


def _read(name: str, form: Form) -> Needs:
    return Needs(name, form.outputs(), form.condition("needs"), form.time("grace"))


def _said(rule: Needs) -> str:
    grace = f", for {show_duration(rule.grace)} without" if rule.grace else ""
    return f"{', '.join(rule.outputs)} may be on only while {rule.condition.text}{grace}"


KIND = Kind("needs", Needs, {
    "needs": "a condition without which its outputs are not on",
    "outputs": "a list of outputs or groups",
    "grace": "how long they stay on when it ceases; not at all unless said",
}, _read, _said)  # fmt: skip


class NeedsGate(Gate[Needs]):
    """The gate."""

    rule = Needs
    disarms = True

    def __init__(self, state: State, watches: Watches) -> None:
        super().__init__(state, watches)
        self._watch: dict[str, Watch] = {}
        """By rule."""
        self._looked_at: dict[str, list[tuple[Needs, Watch]]] = {}
        """By output: the rules that look at it, of the needs of others."""
        self._looks: dict[str, tuple[str, ...]] = {}
        """By rule: the outputs that it looks at."""
        self._graces: dict[str, Refusal] = {}
        """By output: what it needs and does not have, while its grace runs; when that ends is ``expected``."""

    def add(self, rule: Needs) -> None:
        """Keep an eye on its condition."""
        watch = self.watches.add(f"needs {rule.name}", rule.condition, rule, self._told)
        watch.again = self._still
        if rule.grace:
            watch.good, watch.lapse = True, self._lapse
        self._watch[rule.name] = watch
        looks = tuple(name for kind, name in rule.condition.about if kind == "output")
        self._looks[rule.name] = looks
        for name in looks:
            self._looked_at.setdefault(name, []).append((rule, watch))

    def concerned(self) -> Iterable[str]:
        """Those that need something, and those that are needed."""
        return [*self.of, *self._looked_at]

    # --- when its condition changes -----------------------------------------------------------------------

    def _told(self, turn: Turn, watch: Watch, before: Value) -> None:
        turn.touch_all(watch.rule.outputs)
        self._ask_bound(turn, watch.rule)

    def _still(self, turn: Turn, watch: Watch) -> None:
        """It is what it was, for other reasons: those that wait for it, or have to go before it changes, learn of that."""
        rule: Needs = watch.rule
        turn.touch_all(name for name in rule.outputs if turn.state.outputs[name].motion.wanted.on)
        self._ask_bound(turn, rule)

    def _ask_bound(self, turn: Turn, rule: Needs) -> None:
        """Outputs that wait for those that need them ask whether they still have to."""
        for name in self._looks[rule.name]:
            other = turn.state.outputs[name]
            if other.gating.bound_for is not None or other.gating.aim != other.drive.confirmed:
                turn.touch(name)

    def _lapse(self, turn: Turn, watch: Watch) -> None:
        """The grace of a need begins, or its condition is met again."""
        if watch.ceased is None:
            turn.mono.drop("grace", watch.key)
        else:
            turn.mono.set(watch.ceased + watch.rule.grace, "grace", watch.key)

    def grace_due(self, turn: Turn, watch: Watch) -> None:
        """A grace is over."""
        turn.touch_all(watch.rule.outputs)

    def grace(self, s: Standing) -> Refusal | None:
        """What an output lacks, while that is borne with."""
        return self._graces.get(s.output.name) if s.gating.granted else None

    # --- asked --------------------------------------------------------------------------------------------

    def refuse(self, turn: Turn, s: Standing, starting: bool) -> Refusal | None:
        """What it lacks, or is about to lack."""
        coming = None
        if not starting:
            self._graces.pop(s.output.name, None)
        for rule in self.of[s.output.name]:
            found = self._lacks(turn, rule, s, starting)
            if found is not None:
                self.watches.attend(self._watch[rule.name])
            if found is not None and not found.coming:
                return found
            coming = coming or found
        return coming

    def _lacks(self, turn: Turn, rule: Needs, s: Standing, starting: bool) -> Refusal | None:
        watch = self._watch[rule.name]
        if watch.value is True:
            coming = self._coming(turn, rule)
            if not coming:
                return None
            self.watches.attend(watch)  # what is on its way may come to matter
            if self._holds(rule, watch, coming):
                return None
            names = " and ".join(coming)
            return Refusal(
                "needs",
                f"'{rule.name}' needs {rule.condition.text}, and {names} is about to change",
                f"See: cairnwind why {next(iter(coming))}.",
                rule=rule.name,
                coming=True,
            )
        gaps = rule.condition.missing(self.sight, watch.memory) or [Missing(rule.condition.text)]
        text = " and ".join(dict.fromkeys(gap.text for gap in gaps))
        is_on = not starting and s.drive.is_on  # a grace bears with what is on, and starts nothing
        if is_on and watch.ceased is not None and turn.now.mono < watch.ceased + rule.grace:
            due = turn.wall_of(watch.ceased + rule.grace)
            self._graces[s.output.name] = Refusal(
                "needs", f"'{rule.name}' needs {rule.condition.text}; {text}", "", True, due, rule.name
            )
            return None
        only_time = all(gap.only_time for gap in gaps)
        return Refusal(
            "needs", f"'{rule.name}' needs {rule.condition.text}; {text}", "It may be on as soon as that is so.", only_time,
            self._expected(turn, gaps) if only_time else None, rule.name,
        )  # fmt: skip

    def _holds(self, rule: Needs, watch: Watch, coming: dict[str, list[Setting]]) -> bool:
        """Whether what is so now stays so, whichever of the changes on their way have happened by then."""
        if len(coming) > MOST_COMING:
            return False
        for each in product(*([None, *settings] for settings in coming.values())):
            instead = {
                name: setting for name, setting in zip(coming, each, strict=True) if setting is not None
            }
            if instead and rule.condition.supposed(self.sight, watch.memory, instead) is not True:
                return False
        return True

    def _coming(self, turn: Turn, rule: Needs) -> dict[str, list[Setting]]:
        """What outputs that the rule looks at are on their way to, or may be at on the way back from there."""
        found: dict[str, list[Setting]] = {}
        for name in self._looks[rule.name]:
            other = turn.state.outputs[name]
            bound = other.gating.bound_for if other.gating.bound_for is not None else other.drive.bound
            ways = [] if bound is None or bound == other.drive.confirmed else [bound]
            there = other.drive.strayed
            if there is not None and there != bound and other.drive.unsure:
                ways.append(there)  # told to go there and back, it may have got there and no further
            if ways:
                found[name] = ways
        return found

    def _expected(self, turn: Turn, gaps: Iterable[Missing]) -> int | None:
        """Wall nanoseconds at which the last of them is gone."""
        found = 0
        for gap in gaps:
            due = gap.expected_wall if gap.expected is None else turn.wall_of(gap.expected)
            if due is None:
                return None
            found = max(found, due)
        return found if found > turn.now.wall else None

    # --- the order of change ------------------------------------------------------------------------------

    def waits_for(self, turn: Turn, s: Standing, target: Setting) -> Refusal | None:
        """Why an output cannot leave its setting for ``target`` yet: something on needs it as it is."""
        waits: list[str] = []
        rule_name = ""
        looking = self._looked_at.get(s.output.name)
        if looking and s.drive.confirmed is not None and target != s.drive.confirmed:
            for rule, watch in looking:
                still_on = [
                    name
                    for name in rule.outputs
                    if name != s.output.name and occupies(turn, turn.state.outputs[name]).may_be_on
                ]
                coming = {**self._coming(turn, rule), s.output.name: [target]}
                if not still_on or watch.value is not True:
                    continue
                self.watches.attend(watch)
                if not self._holds(rule, watch, coming):
                    waits += still_on
                    rule_name = rule_name or rule.name
        if not waits:
            return None
        names = " and ".join(dict.fromkeys(waits))
        return Refusal(
            "needs",
            f"'{rule_name}': {names} {'has' if len(set(waits)) == 1 else 'have'} to be confirmed off first",
            f"See: cairnwind why {waits[0]}.",
            True,
            rule=rule_name,
        )

    def needed(self, name: str) -> bool:
        """Whether others look at this output for what they need."""
        return name in self._looked_at

    def bind(self, turn: Turn, s: Standing, target: Setting | None) -> None:
        """It is bound for ``target`` as soon as those that need it are off; None: it waits for nobody."""
        if target != s.gating.bound_for:
            s.gating.bound_for = target
            for rule, _ in self._looked_at.get(s.output.name, ()):
                turn.touch_all(rule.outputs)
                self._ask_bound(turn, rule)

    def moved(self, turn: Turn, s: Standing) -> None:
        """Whoever needs it, or waits for it, is asked."""
        for rule, _ in self._looked_at.get(s.output.name, ()):
            turn.touch_all(rule.outputs)
            self._ask_bound(turn, rule)
        for rule in self.of.get(s.output.name, ()):
            self._ask_bound(turn, rule)

    # --- remembered ---------------------------------------------------------------------------------------

    def succeed(self, turn: Turn, old: Any) -> None:
        """A rule that is the same as before goes on where it was."""
        for name, rule in self.rules.items():
            was = old.rules.get(name)
            if was is not None and alike(was, rule):
                self._watch[name].succeed(old._watch[name])
        self._graces = {name: grace for name, grace in old._graces.items() if name in self.of}
