"""The rules of a site file, read once every output is safe: until then all outputs are held there.

As with the plan, the languages take longer to load than all that is needed to make outputs safe.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator
from typing import Any, TypeVar

from cairnwind.core.explain import checking
from cairnwind.core.explain.checking import Found
from cairnwind.core.facts.conditions import Compare
from cairnwind.core.facts.guards import Guard
from cairnwind.core.facts.interlocks import Interlock
from cairnwind.core.facts.reflexes import Rule
from cairnwind.core.facts.site import Site
from cairnwind.core.language import forms as rules
from cairnwind.core.language.forms import Language, Rules
from cairnwind.core.language.schedules import Planned
from cairnwind.core.rules import kinds
from cairnwind.core.rules.excludes import Excludes
from cairnwind.core.rules.limit import Limit, of_supplies
from cairnwind.core.values.errors import CallerError, unknown
from cairnwind.site.remotes import Keypad
from cairnwind.site.tables import Page
from cairnwind.site.trouble import Findings, SiteFileError

T = TypeVar("T", Interlock, Rule)


def read_rules(site: Site, planned: Planned) -> Rules:
    """Interlocks, those of supplies included, reflexes, regulators, alarms and guards.

    Raises `SiteFileError` with every error.
    """
    path, text = site.source
    if not any(
        word in text for word in ("interlock", "reflex", "regulator", "alarm", "guard", "proof", "keypad")
    ):
        return Rules(tuple(of_supplies(site, ())))
    reader = Page(path, text)
    interlocks = _tables(reader, "interlock")
    words = rules.language(
        site, [str(each["name"]) for each in interlocks if "trip" in each and "name" in each]
    )

    def interlock(form: dict[str, Any]) -> Interlock:
        made: Interlock = kinds.make(form, words)
        _settles(made, site)
        return made

    own = _each(reader, "interlock", interlocks, interlock)
    own += _of_outputs(reader, site, words)
    follow: list[Rule] = []
    makers: dict[str, Callable[[dict[str, Any]], Rule]] = {
        "reflex": lambda form: rules.reflex(form, words, planned.course),
        "regulator": lambda form: rules.regulator(form, words),
        "alarm": lambda form: rules.alarm(form, words, planned.course),
    }
    for kind, make in makers.items():
        follow += _each(reader, kind, _tables(reader, kind), make)
    guards = _guards(reader, site)
    _keypads(reader, site, guards)
    if reader.findings:
        raise SiteFileError(path, reader.findings, text)
    return Rules((*own, *of_supplies(site, own)), tuple(follow), guards)


def check_rules(site: Site, planned: Planned) -> tuple[list[Found], Findings]:
    """The answers to all questions about the rules, and what they found with its place. Raises `SiteFileError`."""
    found = read_rules(site, planned)
    answers = checking.check(site, found, planned.schedules, time.time_ns())
    path, text = site.source
    reader = Page(path, text)
    for name, error in _by_word_of_anybody(site, found):
        names = [table.get("name") for table in _tables(reader, "interlock")]
        if name in names:
            reader.point(("interlock", names.index(name), "name"), name, error, grave=False)
    for kind, name, error in _beyond(site, found):
        names = [table.get("name") for table in _tables(reader, kind)]
        if name in names:
            reader.point((kind, names.index(name), "name"), name, error, grave=False)
    for each in answers:
        if each.verdict != "found":
            continue
        error = CallerError("", each.what, f"To see it: {each.example}.")
        if each.kind == "output":
            reader.point(("output", each.rule), each.rule, error, key=True, grave=False)
            continue
        names = [table.get("name") for table in _tables(reader, each.kind)]
        if each.rule in names:
            reader.point((each.kind, names.index(each.rule), "name"), each.rule, error, grave=False)
        else:
            reader.point(("supply",), each.rule, error, key=True, grave=False)
    return answers, Findings(path, reader.warnings, text)


def _by_word_of_anybody(site: Site, found: Rules) -> Iterator[tuple[str, CallerError]]:
    """Interlocks that hang on what is reported where whoever may publish there speaks for a board."""
    for rule in found.interlocks:
        condition = getattr(rule, "condition", None)
        looks = (
            [name for kind, name in condition.about if kind in ("input", "output")]
            if condition is not None
            else rule.outputs
        )
        for name in dict.fromkeys(looks):
            thing = site.inputs.get(name) or site.outputs.get(name)
            assert thing is not None
            topic = getattr(site.boards[thing.pin.board].facts, "anybody", "")
            if topic:
                what = f"it hangs on {name}, of which anybody speaks who may publish '{topic}' at the broker"
                remedy = f"Let board {thing.pin.board} alone publish there, by the broker's access list, and say so: alone = true."
                yield rule.name, CallerError("", what, remedy)
                break


def _beyond(site: Site, found: Rules) -> Iterator[tuple[str, str, CallerError]]:
    """Conditions that ask an input for a value that is not plausible for it: then it is unknown, and they are never so."""
    kinds_of: list[tuple[str, Any]] = [("interlock", each) for each in found.interlocks]
    kinds_of += [(type(each).__name__.lower(), each) for each in found.reflexes]
    for kind, rule in kinds_of:
        condition = getattr(rule, "condition", None)
        for node in _nodes(condition.node) if condition is not None else ():
            if not isinstance(node, Compare):
                continue
            for of, name in node.about:
                input = site.inputs.get(name) if of == "input" else None
                if input is None or not input.analogue:
                    continue
                low, high = input.plausible
                if (node.above and node.bound >= high) or (not node.above and node.bound <= low):
                    what = (
                        f"{name} is plausible from {low:g} to {high:g} {input.unit}".rstrip()
                        + f", so it is never known to be {'above' if node.above else 'below'} {node.bound:g}"
                    )
                    yield kind, rule.name, CallerError("", what, "Move the bound, or say more of the input: plausible = [0, 200].")  # fmt: skip


def _nodes(node: Any) -> Iterator[Any]:
    yield node
    for each in [getattr(node, "inside", None), *getattr(node, "each", ())]:
        if each is not None:
            yield from _nodes(each)


def the_language(site: Site, found: Rules) -> Language:
    """The question language of a site with these rules."""
    return rules.language(site, [each.name for each in found.interlocks if hasattr(each, "role")])


def _each(
    reader: Page, kind: str, forms: list[dict[str, Any]], make: Callable[[dict[str, Any]], T]
) -> list[T]:
    """What a list of tables makes; what cannot be made is pointed at."""
    found: dict[str, T] = {}
    for number, form in enumerate(forms):
        try:
            made = make(form)
            if made.name in found:
                raise CallerError(
                    "", f"two of this kind are called '{made.name}'", "Give one of them another name."
                )
        except CallerError as error:
            key = error.more.get("key")
            path = (kind, number, key) if key in form else (kind, number)
            reader.point_within(path, form.get(str(key), kind), error)
            continue
        found[made.name] = made
    return list(found.values())


def _of_outputs(reader: Page, site: Site, words: Language) -> list[Interlock]:
    """Interlocks that outputs say of themselves."""
    found: list[Interlock] = []
    for output in site.outputs.values():
        if not output.proof:
            continue
        form = {"proof": output.proof, "proof_within": output.proof_within}
        try:
            found += kinds.of_output(output.name, form, words)
        except CallerError as error:
            reader.point_within(("output", output.name, "proof"), output.proof, error)
    return found


def _guards(reader: Page, site: Site) -> tuple[Guard, ...]:
    found = []
    for name, table in reader.named(reader.parsed.tables, "guard"):
        try:
            found.append(rules.guard(name, table.values, site))
        except CallerError as error:
            key = error.more.get("key")
            path = ("guard", name, key) if key in table.values else ("guard", name)
            reader.point_within(path, table.values.get(str(key), name), error)
    return tuple(found)


def _keypads(reader: Page, site: Site, guards: Iterable[Guard]) -> None:
    """Keypads open what has a guard."""
    guarded = {each.output: each for each in guards}
    for each in site.remotes:
        if isinstance(each, Keypad) and each.opens not in guarded:
            error = unknown("guarded output", each.opens, guarded)
            reader.point(("remote", "keypad", each.name, "opens"), each.opens, error)


def _settles(rule: Interlock, site: Site) -> None:
    """Outputs that nobody confirms need a stated time in which they are off."""
    if not isinstance(rule, Excludes | Limit):
        return
    blind = [name for name in rule.outputs if not site.boards[site.outputs[name].pin.board].confirms]
    if blind and not rule.settle:
        error = CallerError(
            "",
            f"{blind[0]} is never confirmed off by its board",
            'Say how long it takes at most: settle = "500 ms".',
        )
        error.more["key"] = "settle"
        raise error


def _tables(reader: Page, kind: str) -> list[dict[str, Any]]:
    value = reader.parsed.tables.get(kind, [])
    if isinstance(value, list) and all(isinstance(each, dict) for each in value):
        return value
    reader.point(
        (kind,),
        kind,
        CallerError("", f"'{kind}' is a list of tables", f"Write [[{kind}]] and its keys below."),
    )
    return []
