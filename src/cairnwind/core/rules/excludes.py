"""Excludes: at most one of its outputs is on, with a gap between two.

excludes = ["hoist-up", "hoist-down"]     gap, settle
"""

from __future__ import annotations

from cairnwind.core.facts.interlocks import Interlock, Refusal
from cairnwind.core.rules.form import Form
from cairnwind.core.rules.gate import Kind
from cairnwind.core.rules.sharing import Asking, Sharing, leaving
from cairnwind.core.values.errors import CallerError, at_fault
from cairnwind.core.values.fact import fact
from cairnwind.core.values.listing import listed
from cairnwind.core.values.quantities import show_duration


@fact
class Excludes(Interlock):
    """At most one of its outputs is on."""

    gap: int = 0
    """From the confirmed off of one to the on of another."""
    settle: int = 0
    """What an output that cannot be confirmed is given to go off."""


def _read(name: str, form: Form) -> Excludes:
    outputs = form.outputs("excludes")
    if len(outputs) < 2:
        raise at_fault(
            "excludes", CallerError("bad-value", "One output alone excludes nothing.", "Name two or more.")
        )
    return Excludes(name, outputs, form.time("gap"), form.time("settle"))


def _said(rule: Excludes) -> str:
    gap = f", {show_duration(rule.gap)} apart" if rule.gap else ""
    return f"at most one of {', '.join(rule.outputs)} is on{gap}"


KIND = Kind("excludes", Excludes, {
    "excludes": "a list of outputs of which one at a time is on",
    "gap": "how long nobody is on between two of them",
    "settle": "how long an output takes to be off whose board confirms nothing",
}, _read, _said)  # fmt: skip


class ExcludesSharing(Sharing[Excludes]):
    """It at work in its circle."""

    __slots__ = ()

    def placed(self, name: str, asking: Asking, count: int) -> None:
        """Who has the one place."""
        held = asking.held.setdefault(self.name, {})
        if count > 0:
            held[name] = None
        else:
            held.pop(name, None)

    def room(self, name: str, asking: Asking) -> Refusal | None:
        """Another has the one place."""
        held = [each for each in asking.held.get(self.name, ()) if each != name]
        if not held:
            return None
        rule = self.rule
        other = held[0] if len(held) == 1 else next(each for each in rule.outputs if each in held)
        only, text = f"'{rule.name}' lets only one of {listed(rule.outputs)} be on", asking.bids[other].text
        if asking.bids[other].holding:
            why, remedy = f"{only}, and {other} has it, for {text}", f"Switch {other} off first."
        else:
            why = f"{only}, and {other} is next, for {text}"
            remedy = f"Release {other} first; see: cairnwind why {other}."
        return Refusal("excludes", why, remedy, rule=rule.name)

    def clear(self, name: str, asking: Asking) -> Refusal | None:
        """Another may still be on, or its gap is not over."""
        rule = self.rule
        for other in rule.outputs:
            if other == name:
                continue
            fact = asking.facts[other]
            if fact.may_be_on:
                return leaving("excludes", rule.name, other, fact)
            ready = fact.off_at + rule.gap + rule.settle
            if asking.now < ready:
                asking.wake(ready)
                text = (
                    f"'{rule.name}' keeps {show_duration(rule.gap + rule.settle)} between {other} and {name}"
                )
                return Refusal("excludes", text, "Wait.", True, ready, rule.name)
        return None
