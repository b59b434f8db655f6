"""The rules of a site as its file says them: the language that they are written in, reflexes, regulators, alarms and guards.

How each kind of interlock is written stands with its gate (`cairnwind.core.rules.kinds`).
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import Any, NamedTuple

from cairnwind.core.facts.claims import Rank
from cairnwind.core.facts.conditions import Compare, Condition
from cairnwind.core.facts.course import Course
from cairnwind.core.facts.guards import Guard
from cairnwind.core.facts.interlocks import Interlock
from cairnwind.core.facts.reflexes import SEVERITIES, Alarm, Reflex, Regulator, Rule
from cairnwind.core.facts.site import Site
from cairnwind.core.language import questions
from cairnwind.core.language.words import Vocabulary
from cairnwind.core.rules.form import outputs, take
from cairnwind.core.rules.kinds import said, text
from cairnwind.core.values.errors import CallerError, at_fault, unknown
from cairnwind.core.values.quantities import NS, duration


class Language(NamedTuple):
    """The names that rules are written with."""

    site: Site
    vocabulary: Vocabulary

    def condition(self, text: object) -> Condition:
        """The condition of a text. Raises `CallerError`."""
        return questions.read(text, self.vocabulary)

    def state(self, text: object) -> Condition:
        """A condition about what is so, and not about a moment."""
        found = self.condition(text)
        if found.momentary:
            raise CallerError(
                "bad-value",
                f"'{found.text}' is about a moment, and here something has to be so.",
                "Say 'is' instead of 'becomes'.",
            )
        return found


class Rules(NamedTuple):
    """All rules of a site."""

    interlocks: tuple[Interlock, ...] = ()
    reflexes: tuple[Rule, ...] = ()
    guards: tuple[Guard, ...] = ()


def language(site: Site, trips: Iterable[str] = ()) -> Language:
    """The language of a site, which has trips by these names."""
    return Language(site, questions.names(site, trips))


def changed_outputs(old: Rules, new: Rules) -> tuple[str, ...]:
    """Outputs that other interlocks or guards concern than before."""

    def known(rules: Rules) -> dict[str, set[str]]:
        found: dict[str, set[str]] = {}
        for rule in rules.interlocks:
            for name in rule.outputs:
                found.setdefault(name, set()).add(f"{rule.name}: {said(rule)}")
        for guard in rules.guards:
            found.setdefault(guard.output, set()).add(f"guard {guard.opens}")
        return found

    before, after = known(old), known(new)
    return tuple(name for name, each in after.items() if each - before.get(name, set()))


# --- what follows from what is so -----------------------------------------------------------------------------

NAME = "what it is called"
REFLEX_KEYS = {
    "name": NAME,
    "when": "a condition: the phrase is done when it becomes true",
    "while": "instead: the phrase holds as long as it is true",
    "do": "a phrase",
    "as": '`"reflex"` or `"person"`: whose wish that is; a reflex\'s unless said',
    "pause": "how long after it was done it is not done again; 200 ms unless said, of an encoder's steps nothing",
}
REGULATOR_KEYS = {
    "name": NAME,
    "keep": 'an input between two values: `"kiln-temp between 40 and 45"`',
    "by": "an output that raises it",
    "lowers": "true where the output lowers it",
    "pause": "the least time between two changes; 1 s unless said, 5 s with `gain`",
    "gain": "percent of level for each unit that is missing: by level instead of on and off",
    "integral": "in which time what goes on missing counts as much again; 10 min unless said",
}
ALARM_KEYS = {
    "name": NAME,
    "when": "a condition",
    "severity": '`"notice"`, `"warning"` or `"urgent"`; a warning unless said',
    "repeat": "how often it is told again until somebody acknowledges it; it is told once unless said",
    "do": "a phrase that is done each time",
}
GUARD_KEYS = {
    "opens": "for how long a right passcode opens it",
    "fails": '`"secure"` or `"safe"`: what becomes of it without power; secure unless said',
}


def reflex(form: Mapping[str, Any], words: Language, course: Callable[[str], Course]) -> Reflex:
    """The reflex that a form describes; errors as of `make`."""
    name = _known(form, REFLEX_KEYS, "A reflex")
    if ("when" in form) == ("while" in form):
        raise CallerError(
            "bad-value", f"'{name}' has neither 'when' nor 'while', or both.", "Say one of them."
        )
    holds = "while" in form
    condition = take(form, "while", words.state) if holds else take(form, "when", words.condition)
    done = take(form, "do", lambda text: _course(text, course))
    rank = take({"as": "reflex", **form}, "as", _rank)
    if rank is Rank.PERSON and holds:
        raise at_fault(
            "as",
            CallerError(
                "bad-value",
                "What is held while something is so is no person's wish.",
                "Leave 'as' out, or say 'when'.",
            ),
        )
    orders = [order for step in done.steps for order in step.orders]
    if any(order.act in ("toggle", "step") for order in orders) and rank is not Rank.PERSON:
        raise at_fault(
            "do", CallerError("bad-value", "A toggle is a person's.", 'Say as = "person", or on or off.')
        )
    if rank is Rank.REFLEX and not holds and done.length is None:
        raise at_fault(
            "do",
            CallerError(
                "bad-value",
                f"'{name}' does not say how long that lasts.",
                "Say 'for' or 'until', or write 'while' instead of 'when'.",
            ),
        )
    steps = any(
        kind == "input" and words.site.inputs[each].kind == "encoder" for kind, each in condition.about
    )
    pause = take(form, "pause", duration) if "pause" in form else 0 if steps else NS // 5
    return Reflex(name, condition, done, holds, rank, pause)


def regulator(form: Mapping[str, Any], words: Language) -> Regulator:
    """The regulator that a form describes."""
    name = _known(form, REGULATOR_KEYS, "A regulator")
    site = words.site
    kept = take(form, "keep", lambda text: _kept(text, words))
    output = take(form, "by", lambda value: outputs([value], site))[0]
    lowers = form.get("lowers", False)
    if not isinstance(lowers, bool):
        raise at_fault(
            "lowers",
            CallerError(
                "bad-value", f"{lowers!r} is neither true nor false.", "Write lowers = true for a fan."
            ),
        )
    gain = take(form, "gain", _gain) if "gain" in form else 0.0
    takes = site.outputs[output]
    if takes.takes != "level" or (gain and not takes.dimmable):
        fix = "Leave 'gain' out." if takes.takes == "level" else "Name an output that takes a level."
        raise at_fault(
            "gain" if gain else "by",
            CallerError("bad-value", f"{output} has no levels to regulate with.", fix),
        )
    low, high = (part.bound for part in kept.node.parts if isinstance(part, Compare))
    input = next(name for kind, name in kept.about)
    pause = take(form, "pause", duration) if "pause" in form else (5 if gain else 1) * NS
    integral = take(form, "integral", duration) if "integral" in form else 600 * NS
    return Regulator(name, input, low, high, output, lowers, pause, gain, integral)


def alarm(form: Mapping[str, Any], words: Language, course: Callable[[str], Course]) -> Alarm:
    """The alarm that a form describes."""
    name = _known(form, ALARM_KEYS, "An alarm")
    severity = take({"severity": "warning", **form}, "severity", _severity)
    done = take(form, "do", lambda text: _course(text, course)) if "do" in form else None
    if done is not None and done.length is None:
        raise at_fault(
            "do", CallerError("bad-value", f"'{name}' does not say how long that lasts.", "Say 'for'.")
        )
    return Alarm(
        name,
        take(form, "when", words.state),
        severity,
        (take(form, "repeat", duration) if "repeat" in form else 0),
        done,
    )


def guard(output: str, form: Mapping[str, Any], site: Site) -> Guard:
    """The guard that a table describes."""
    for key in form:
        if key not in GUARD_KEYS:
            raise at_fault(
                key, CallerError("bad-value", f"A guard has no '{key}'.", f"It has {', '.join(GUARD_KEYS)}.")
            )
    if output not in site.outputs:
        raise unknown("output", output, site.outputs)
    if site.outputs[output].safe.on or site.outputs[output].takes != "level":
        raise CallerError(
            "bad-value",
            f"{output} is not off when it is safe, so a code cannot guard it.",
            "Let its 'safe' be off.",
        )
    fails = take({"fails": "secure", **form}, "fails", _fails)
    return Guard(output, take(form, "opens", lambda value: duration(value, longest=3600)), fails)


def _known(form: Mapping[str, Any], keys: Iterable[str], what: str) -> str:
    for key in form:
        if key not in keys:
            raise at_fault(
                key, CallerError("bad-value", f"{what} has no '{key}'.", f"It has {', '.join(keys)}.")
            )
    return take(form, "name", text)


def _course(text: object, course: Callable[[str], Course]) -> Course:
    if not isinstance(text, str):
        raise CallerError("bad-value", "this is not a phrase.", 'Write do = "turn yard on for 2 min".')
    found = course(text)
    if found.lead is not None:
        raise CallerError(
            "bad-value", f"'{found.text}' says when, and the condition does that.", "Use 'wait' within it."
        )
    return found


def _kept(text: object, words: Language) -> Condition:
    said = (
        text.replace(" between ", " is between ", 1)
        if isinstance(text, str) and " is between " not in text
        else text
    )
    found = words.condition(said)
    each = [part for part in found.node.parts if isinstance(part, Compare)]
    if (
        len(each) != 2
        or not (each[0].above and not each[1].above)
        or found.about[0][0] != "input"
        or len(found.about) != 1
    ):
        raise CallerError(
            "bad-value",
            f"'{text}' is not an input between two values.",
            'Write keep = "cupboard-temperature between 38 C and 42 C".',
        )
    return found


def _rank(value: object) -> Rank:
    if value in ("reflex", "person"):
        return Rank.PERSON if value == "person" else Rank.REFLEX
    raise CallerError(
        "bad-value", f"{value!r} is no rank of a reflex.", 'Write as = "person", or leave it out.'
    )


def _gain(value: object) -> float:
    if isinstance(value, bool) or not isinstance(value, int | float) or not 0 < value <= 1000:
        raise CallerError("bad-value", f"{value!r} is no gain.", "Write percent for each unit: gain = 8.")
    return float(value)


def _severity(value: object) -> str:
    if value in SEVERITIES:
        return str(value)
    raise CallerError("bad-value", f"{value!r} is no severity.", f"Write {' or '.join(SEVERITIES)}.")


def _fails(value: object) -> str:
    if value in ("secure", "safe"):
        return str(value)
    raise CallerError(
        "bad-value",
        f"{value!r} is not what a lock does without power.",
        'Write fails = "secure" (it stays shut) or "safe" (it opens).',
    )
