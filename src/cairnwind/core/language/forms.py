"""Interlocks as forms: what a site file says of them, and back in words.

Each has a name and one of five verbs, which says what kind it is:

    needs = "kiln-vent is on for 30 s"        outputs, grace
    excludes = ["hoist-up", "hoist-down"]     gap, settle
    limit = 2 | "1.2 A" | "3 kW"              outputs, order, settle
    trip = "kiln-door is open"                outputs (or "all"), grace, reset
    pace = { least_off = "2 min", … }         outputs
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from fractions import Fraction
from typing import Any, NamedTuple, TypeVar

from cairnwind.core.engine.reflexes import SEVERITIES, Alarm, Reflex, Regulator, Rule
from cairnwind.core.facts.claims import Rank
from cairnwind.core.facts.conditions import Compare, Condition
from cairnwind.core.facts.course import Course
from cairnwind.core.facts.interlocks import Excludes, Guard, Interlock, Limit, Needs, Pace, Trip
from cairnwind.core.facts.model import Site
from cairnwind.core.language import questions
from cairnwind.core.language.words import Vocabulary
from cairnwind.core.values.errors import CallerError, unknown
from cairnwind.core.values.quantities import NS, duration, parse, show_amount, show_duration

T = TypeVar("T")
VERBS = ("needs", "excludes", "limit", "trip", "pace")
KEYS = {
    "needs": ("outputs", "grace"),
    "excludes": ("gap", "settle"),
    "limit": ("outputs", "order", "settle"),
    "trip": ("outputs", "grace", "reset"),
    "pace": ("outputs",),
}
PACES = ("least_on", "least_off", "longest_on", "rest", "starts", "stagger")
SUPPLY = "supply "
"""What the limit of a supply is called, before the supply's own name."""


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


def make(form: Mapping[str, Any], words: Language) -> Interlock:
    """The interlock that a form describes.

    Raises `CallerError`, which says in ``more["key"]`` which key is at fault, where that is known.
    """
    verbs = [key for key in VERBS if key in form]
    name = _take(form, "name", _text)
    if len(verbs) != 1:
        raise CallerError(
            "bad-value",
            f"'{name}' has {'none' if not verbs else 'more than one'} of {', '.join(VERBS)}.",
            "Each interlock says one of them.",
        )
    verb = verbs[0]
    for key in form:
        if key not in ("name", verb, *KEYS[verb]):
            fix = f"It has {', '.join(KEYS[verb])}."
            raise _of(key, CallerError("bad-value", f"An interlock with '{verb}' has no '{key}'.", fix))
    site = words.site
    if verb == "excludes":
        outputs = _take(form, verb, lambda value: _outputs(value, site))
        if len(outputs) < 2:
            raise _of(
                verb, CallerError("bad-value", "One output alone excludes nothing.", "Name two or more.")
            )
        rule: Interlock = Excludes(name, outputs, _time(form, "gap"), _time(form, "settle"))
    else:
        outputs = _take(
            form, "outputs", lambda value: _all(value, site) if verb == "trip" else _outputs(value, site)
        )
        if verb == "needs":
            rule = Needs(name, outputs, _take(form, verb, words.state), _time(form, "grace"))
        elif verb == "trip":
            grace = _time(form, "grace") if "grace" in form else None
            rule = Trip(
                name,
                outputs,
                _take(form, verb, words.state),
                grace,
                _take({"reset": "operate", **form}, "reset", _role),
            )
        elif verb == "pace":
            rule = _take(form, verb, lambda value: _pace(name, outputs, value))
        else:
            rule = _limit(name, outputs, form, site)
    for output in rule.outputs:
        if not isinstance(rule, Trip) and site.outputs[output].safe.on:
            shown = site.outputs[output].say(site.outputs[output].safe)
            raise _of(
                "outputs" if "outputs" in form else verb,
                CallerError(
                    "bad-value",
                    f"{output} is {shown} when it is safe, so '{name}' cannot keep it off.",
                    "Let its 'safe' be off, or take it out.",
                ),
            )
        if site.outputs[output].on_stop == "keep":
            raise _of(
                "outputs" if "outputs" in form else verb,
                CallerError(
                    "bad-value", f"{output} is kept as it is when the service stops, so '{name}' would not hold then.",
                    'Let its on_stop be "safe", or take it out.',
                ),
            )  # fmt: skip
    return rule


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


def _limit(name: str, outputs: tuple[str, ...], form: Mapping[str, Any], site: Site) -> Limit:
    most, unit = _take(form, "limit", _bound)
    weights: dict[str, Fraction] = {}
    for each in outputs:
        output = site.outputs[each]
        weight = {"": Fraction(1), "A": output.draws, "W": output.load}[unit]
        if weight is None:
            what = 'draws = { supply = "…", current = "72 mA" }' if unit == "A" else 'load = "85 W"'
            raise _of(
                "outputs", CallerError("bad-value", f"What {each} needs is not said.", f"Give it {what}.")
            )
        weights[each] = weight
    order = _take(form, "order", lambda value: _outputs(value, site)) if "order" in form else outputs
    strange = [each for each in order if each not in outputs]
    if strange:
        raise _of(
            "order",
            CallerError("bad-value", f"{strange[0]} is not among its outputs.", "Order those that are."),
        )
    settle = _time(form, "settle") if "settle" in form else 2_000_000_000
    return Limit(name, outputs, most, unit, weights, order, settle)


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


def _pace(name: str, outputs: tuple[str, ...], value: object) -> Pace:
    if not isinstance(value, dict) or not value or any(key not in PACES for key in value):
        raise CallerError(
            "bad-value",
            "this is no pace.",
            f'Write pace = {{ least_off = "2 min" }}; it has {", ".join(PACES)}.',
        )
    times = {key: duration(each) for key, each in value.items() if key != "starts"}
    starts = value.get("starts", 0)
    if isinstance(starts, bool) or not isinstance(starts, int) or not 0 <= starts <= 1000:
        raise CallerError("bad-value", f"{starts!r} is no number of starts in an hour.", "Write starts = 6.")
    pace = Pace(name, outputs, starts=starts, **times)
    if pace.longest_on and pace.least_on > pace.longest_on:
        raise CallerError("bad-value", "the least time on is longer than the longest.", "Make it shorter.")
    if bool(pace.rest) != bool(pace.longest_on):
        raise CallerError(
            "bad-value",
            "after its longest time on it rests, and only one of the two is said.",
            'Say both: longest_on = "20 min", rest = "10 min".',
        )
    return pace


def _outputs(value: object, site: Site) -> tuple[str, ...]:
    if not isinstance(value, list) or not value or not all(isinstance(each, str) for each in value):
        raise CallerError(
            "bad-value", "this is not a list of outputs.", 'Write their names: ["kiln", "pug-mill"].'
        )
    found: dict[str, None] = {}
    for each in value:
        if each in site.groups:
            found.update(dict.fromkeys(site.groups[each]))
        elif each in site.outputs:
            found[each] = None
        else:
            raise unknown("output", each, [*site.outputs, *site.groups])
    return tuple(found)


def _all(value: object, site: Site) -> tuple[str, ...]:
    return tuple(site.outputs) if value == "all" else _outputs(value, site)


def _role(value: object) -> str:
    if value in ("operate", "keep"):
        return str(value)
    raise CallerError("bad-value", f"{value!r} resets nothing.", 'Write reset = "operate" or "keep".')


def _text(value: object) -> str:
    if isinstance(value, str) and value.strip() and value.isprintable() and len(value) <= 100:
        return value.strip()
    raise CallerError("bad-value", f"{value!r} is no name.", 'Give it one: name = "no fire without draught".')


def _time(form: Mapping[str, Any], key: str) -> int:
    return _take(form, key, duration) if key in form else 0


def _take(form: Mapping[str, Any], key: str, read: Callable[[Any], T]) -> T:
    try:
        if key not in form:
            raise CallerError(
                "bad-value", f"'{form.get('name', 'an interlock')}' has no '{key}'.", f"Give it '{key}'."
            )
        return read(form[key])
    except CallerError as error:
        raise _of(key, error) from None


def _of(key: str, error: CallerError) -> CallerError:
    error.more["key"] = key
    return error


def said(rule: Interlock) -> str:
    """What an interlock says, in a line."""
    names = ", ".join(rule.outputs)
    match rule:
        case Needs():
            grace = f", for {show_duration(rule.grace)} without" if rule.grace else ""
            return f"{names} may be on only while {rule.condition.text}{grace}"
        case Excludes():
            gap = f", {show_duration(rule.gap)} apart" if rule.gap else ""
            return f"at most one of {names} is on{gap}"
        case Limit():
            return f"{names}: at most {show_amount(rule.most, rule.unit)}{'' if rule.unit else ' of them'}"
        case Trip():
            return f"{'everything' if len(rule.outputs) > 6 else names} goes to safe and stays there when {rule.condition.text}"
        case Pace():
            parts = [
                f"{key.replace('_', ' ')} {show_duration(getattr(rule, key))}"
                for key in PACES
                if key != "starts" and getattr(rule, key)
            ]
            parts += [f"at most {rule.starts} starts in any hour"] if rule.starts else []
            return f"{names}: {', '.join(parts)}"


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

REFLEX_KEYS = ("name", "when", "while", "do", "as", "pause")
REGULATOR_KEYS = ("name", "keep", "by", "lowers", "pause", "gain", "integral")
ALARM_KEYS = ("name", "when", "severity", "repeat", "do")
GUARD_KEYS = ("opens", "fails")


def reflex(form: Mapping[str, Any], words: Language, course: Callable[[str], Course]) -> Reflex:
    """The reflex that a form describes; errors as of `make`."""
    name = _known(form, REFLEX_KEYS, "A reflex")
    if ("when" in form) == ("while" in form):
        raise CallerError(
            "bad-value", f"'{name}' has neither 'when' nor 'while', or both.", "Say one of them."
        )
    holds = "while" in form
    condition = _take(form, "while", words.state) if holds else _take(form, "when", words.condition)
    done = _take(form, "do", lambda text: _course(text, course))
    rank = _take({"as": "reflex", **form}, "as", _rank)
    if rank is Rank.PERSON and holds:
        raise _of(
            "as",
            CallerError(
                "bad-value",
                "What is held while something is so is no person's wish.",
                "Leave 'as' out, or say 'when'.",
            ),
        )
    orders = [order for step in done.steps for order in step.orders]
    if any(order.act in ("toggle", "step") for order in orders) and rank is not Rank.PERSON:
        raise _of(
            "do", CallerError("bad-value", "A toggle is a person's.", 'Say as = "person", or on or off.')
        )
    if rank is Rank.REFLEX and not holds and done.length is None:
        raise _of(
            "do",
            CallerError(
                "bad-value",
                f"'{name}' does not say how long that lasts.",
                "Say 'for' or 'until', or write 'while' instead of 'when'.",
            ),
        )
    pause = _time(form, "pause") if "pause" in form else NS // 5
    return Reflex(name, condition, done, holds, rank, pause)


def regulator(form: Mapping[str, Any], words: Language) -> Regulator:
    """The regulator that a form describes."""
    name = _known(form, REGULATOR_KEYS, "A regulator")
    site = words.site
    kept = _take(form, "keep", lambda text: _kept(text, words))
    output = _take(form, "by", lambda value: _outputs([value], site))[0]
    lowers = form.get("lowers", False)
    if not isinstance(lowers, bool):
        raise _of(
            "lowers",
            CallerError(
                "bad-value", f"{lowers!r} is neither true nor false.", "Write lowers = true for a fan."
            ),
        )
    gain = _take(form, "gain", _gain) if "gain" in form else 0.0
    takes = site.outputs[output]
    if takes.takes != "level" or (gain and not takes.dimmable):
        fix = "Leave 'gain' out." if takes.takes == "level" else "Name an output that takes a level."
        raise _of(
            "gain" if gain else "by",
            CallerError("bad-value", f"{output} has no levels to regulate with.", fix),
        )
    low, high = (part.bound for part in kept.node.parts if isinstance(part, Compare))
    input = next(name for kind, name in kept.about)
    pause = _time(form, "pause") if "pause" in form else (5 if gain else 1) * NS
    integral = _time(form, "integral") if "integral" in form else 600 * NS
    return Regulator(name, input, low, high, output, lowers, pause, gain, integral)


def alarm(form: Mapping[str, Any], words: Language, course: Callable[[str], Course]) -> Alarm:
    """The alarm that a form describes."""
    name = _known(form, ALARM_KEYS, "An alarm")
    severity = _take({"severity": "warning", **form}, "severity", _severity)
    done = _take(form, "do", lambda text: _course(text, course)) if "do" in form else None
    if done is not None and done.length is None:
        raise _of("do", CallerError("bad-value", f"'{name}' does not say how long that lasts.", "Say 'for'."))
    return Alarm(name, _take(form, "when", words.state), severity, _time(form, "repeat"), done)


def guard(output: str, form: Mapping[str, Any], site: Site) -> Guard:
    """The guard that a table describes."""
    for key in form:
        if key not in GUARD_KEYS:
            raise _of(
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
    fails = _take({"fails": "secure", **form}, "fails", _fails)
    return Guard(output, _take(form, "opens", lambda value: duration(value, longest=3600)), fails)


def _known(form: Mapping[str, Any], keys: tuple[str, ...], what: str) -> str:
    for key in form:
        if key not in keys:
            raise _of(key, CallerError("bad-value", f"{what} has no '{key}'.", f"It has {', '.join(keys)}."))
    return _take(form, "name", _text)


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
