"""The kinds of interlocks there are. A new one is a file of its own, and a line here."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from cairnwind.core.facts.interlocks import Interlock
from cairnwind.core.rules import budget, excludes, limit, needs, pace, proof, trip
from cairnwind.core.rules.budget import BudgetGate
from cairnwind.core.rules.form import Form, Words, take
from cairnwind.core.rules.gate import Gate, Kind
from cairnwind.core.rules.needs import NeedsGate
from cairnwind.core.rules.pace import PaceGate
from cairnwind.core.rules.proof import ProofGate
from cairnwind.core.rules.trip import TripGate
from cairnwind.core.values.errors import CallerError, at_fault

KINDS = {
    kind.verb: kind for kind in (needs.KIND, excludes.KIND, limit.KIND, trip.KIND, pace.KIND, budget.KIND)
}
"""By the key that a site file says them with."""
OF_OUTPUTS = (proof.KIND,)
"""Those that are said at their output."""
GATES: tuple[type[Gate[Any]], ...] = (TripGate, NeedsGate, PaceGate, BudgetGate, ProofGate)
"""The gates of one output alone, in the order in which they are asked; those that outputs share come after them."""


def make(form: Mapping[str, Any], words: Words) -> Any:
    """The interlock that a form describes.

    Raises `CallerError`, which says in ``more["key"]`` which key is at fault, where that is known.
    """
    verbs = [key for key in KINDS if key in form]
    name = take(form, "name", text)
    if len(verbs) != 1:
        raise CallerError(
            "bad-value",
            f"'{name}' has {'none' if not verbs else 'more than one'} of {', '.join(KINDS)}.",
            "Each interlock says one of them.",
        )
    kind = KINDS[verbs[0]]
    for key in form:
        if key != "name" and key not in kind.keys:
            fix = f"It has {', '.join(key for key in kind.keys if key != kind.verb)}."
            raise at_fault(
                key, CallerError("bad-value", f"An interlock with '{kind.verb}' has no '{key}'.", fix)
            )
    rule: Interlock = kind.read(name, Form(form, words))
    key = "outputs" if "outputs" in form else kind.verb
    for each in rule.outputs:
        output = words.site.outputs[each]
        if kind.holds_off and output.safe.on:
            what = f"{each} is {output.say(output.safe)} when it is safe, so '{name}' cannot keep it off."
            raise at_fault(key, CallerError("bad-value", what, "Let its 'safe' be off, or take it out."))
        if output.on_stop == "keep":
            what = f"{each} is kept as it is when the service stops, so '{name}' would not hold then."
            raise at_fault(key, CallerError("bad-value", what, 'Let its on_stop be "safe", or take it out.'))
    return rule


def text(value: object) -> str:
    """The name of a rule."""
    if isinstance(value, str) and value.strip() and value.isprintable() and len(value) <= 100:
        return value.strip()
    raise CallerError("bad-value", f"{value!r} is no name.", 'Give it one: name = "no fire without draught".')


def kind_of(rule: Interlock) -> str:
    """The verb of its kind."""
    return kind(rule).verb


def kind(rule: Interlock) -> Kind:
    """Its kind."""
    return next(each for each in (*KINDS.values(), *OF_OUTPUTS) if type(rule) is each.rule)


def of_output(output: str, form: Mapping[str, Any], words: Words) -> list[Interlock]:
    """The interlocks that an output's own table says. Raises `CallerError`, as `make` does."""
    return [
        kind.read(f"{kind.verb} of {output}", Form({**form, "outputs": [output]}, words))
        for kind in OF_OUTPUTS
        if kind.verb in form
    ]


def said(rule: Interlock) -> str:
    """What an interlock says, in a line."""
    return kind(rule).said(rule)
