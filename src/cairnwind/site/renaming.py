"""A thing of the site file gets another name, and so it does wherever the file speaks of it.

Names stand in lists, in front of pins, and within phrases and conditions. There they are found as the languages find them: a word
that means something else is left alone, and so is a label.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Any

import tomlkit

from cairnwind.core.facts.site import Site
from cairnwind.core.language import questions, words
from cairnwind.core.language.asking import Cut
from cairnwind.core.language.words import Said, Thing, Vocabulary, folded
from cairnwind.core.values.errors import CallerError
from cairnwind.site import rows
from cairnwind.site.edits import LISTED, Block, Edit, blocks, divided, find, known, no_such, path_of
from cairnwind.site.reader import read_text
from cairnwind.site.trouble import SiteFileError

PHRASES = {("schedule", "do"), ("scene", "do"), ("reflex", "do"), ("alarm", "do")}
CONDITIONS = {
    ("output", "proof"), ("outputs", "proof"), ("interlock", "needs"), ("interlock", "trip"), ("reflex", "when"), ("reflex", "while"), ("alarm", "when"), ("regulator", "keep"),
}  # fmt: skip
OUTPUTS = {
    ("interlock", "outputs"), ("interlock", "excludes"), ("interlock", "order"), ("regulator", "by"), ("pad", "left"), ("pad", "right"),
    ("pad", "zones"), ("group", "outputs"), ("quiet", "except"), ("remote", "outputs"), ("remote", "opens"),
}  # fmt: skip
"""Keys whose texts are names of outputs, or of groups of them."""
INPUTS = {("pad", "stick")}
PINNED = ("output", "outputs", "input")
"""Tables whose texts may begin with a board."""
ENABLE = ("board", "enable")
"""The one key of a board that may."""
TOGETHER = {
    "output": ("output", "input"),
    "input": ("output", "input"),
    "outputs": ("outputs", "output", "group"),
    "group": ("group", "outputs"),
}
"""Kinds that share their names."""
BEHIND = {"tune": ("PLAY",), "scene": ("RUN", "SCENE", "START")}
"""Of kinds that only stand behind some words: behind which."""
_AFTER = {word: kind for kind, said in BEHIND.items() for word in said}
Replace = Callable[[str], str]


def rename(text: str, change: Edit) -> str:
    """The file with another name for one thing. Raises `CallerError` where that cannot be."""
    if change.name not in known(text, change.what) and change.what != "remote":
        raise no_such(text, change)
    if change.what == "guard":
        raise CallerError(
            "bad-value", "A guard is called as its output is.", "Rename the output, or remove the guard and add one."
        )  # fmt: skip
    for kind in TOGETHER.get(change.what, (change.what,)):
        if change.to in known(text, kind):
            raise CallerError("taken", f"'{change.to}' is the name of another {kind}.", "Give another name.")
    parts = blocks(text)
    mine = find(parts, text, change)
    if not mine:
        raise CallerError(
            "by-hand",
            f"{change.what} {change.name} does not stand in a table of its own.",
            "Change the file by hand, then: cairnwind reload.",
        )
    things = _things(text, change)
    spoken = _spoken(text, things)
    return "".join(
        _headed(part, number in mine, change, things, _followed(part, things, spoken))
        for number, part in enumerate(parts)
    )


def _things(text: str, change: Edit) -> list[Edit]:
    """All that is called otherwise: of a row its outputs, and the group of them."""
    if change.what != rows.KIND:
        return [change]
    outputs = rows.names(tomllib.loads(text), change.name)
    pairs = [(each, f"{change.to}{each[len(change.name) :]}") for each in outputs]
    return [
        Edit("rename", "group", change.name, {}, change.to),
        *(Edit("rename", "output", one, {}, other) for one, other in pairs),
    ]


def followed(text: str, names: Iterable[tuple[str, str]], phrases: list[str]) -> list[str]:
    """Phrases that stand elsewhere, with the new names of outputs and inputs of this file, and of rows of them."""
    tables = tomllib.loads(text)
    inputs, things = known(text, "input"), []
    for one, other in names:
        things.append(Edit("rename", "input" if one in inputs else "output", one, {}, other))
        row, number = rows.row_of(tables, one), one.rpartition("-")[2]
        if row and number == "1" and other.endswith("-1"):
            things.append(Edit("rename", "group", row, {}, other.removesuffix("-1")))
    if not things or not phrases:
        return phrases
    spoken = _spoken(text, things)["phrase"]
    return [spoken(phrase) for phrase in phrases]


def _headed(part: Block, mine: bool, change: Edit, things: Sequence[Edit], text: str) -> str:
    """A block whose head has the new name, where it is the thing's own, or its guard's."""
    if change.what in LISTED:
        return _set(text, part, ("name",), change.to) if mine else text
    own = next(
        (each for each in things if each.what == "output" and part.head == ("guard", each.name)),
        change if mine else None,
    )
    if own is None:
        return text
    last = path_of(own)[-1]
    return re.sub(
        rf"^(\s*\[[^\]\n]*?)(?<![\w-])(\"?){re.escape(last)}\2(?![\w-])",
        lambda found: f"{found[1]}{own.to.rpartition('.')[2]}",
        text,
        count=1,
        flags=re.M,
    )


def _followed(part: Block, things: Sequence[Edit], spoken: Mapping[str, Replace]) -> str:
    """A block with the new names wherever it speaks of the things."""
    replace = _replacing(part.head, things, spoken)
    said = part.text.replace(" ", "-").lower()
    if not part.head or not any(each.name in said for each in things):
        return part.text
    body, tail = divided(part.text)
    document = tomlkit.parse(body)
    table: Any = document
    for name in part.head:
        table = table[0] if isinstance(name, int) else table[name]
    changed = False
    for holder, key, names in _texts(table, ()):
        old = str(holder[key])
        new = replace(names, old)
        if new != old:
            holder[key], changed = _like(holder[key], new), True
    return tomlkit.dumps(document) + tail if changed else part.text


def _replacing(
    head: tuple[str | int, ...], things: Sequence[Edit], spoken: Mapping[str, Replace]
) -> Callable[[tuple[str, ...], str], str]:
    """What becomes of a text of a table under its keys."""
    kind = str(head[0]) if head else ""
    inside = tuple(str(each) for each in head[1:] if not isinstance(each, int))

    def found(keys: tuple[str, ...], text: str) -> str:
        within = (*inside, *keys)[1:2]
        whole = {(kind, key) for key in (*inside, *keys)}
        if whole & PHRASES:
            return spoken["phrase"](text)
        if whole & CONDITIONS:
            return spoken["condition"](text)
        for change in things:
            names = {"output": OUTPUTS, "group": OUTPUTS, "input": INPUTS}.get(change.what, set())
            if whole & names or (change.what == "supply" and (*inside, *keys)[-1:] == ("supply",)):
                if text == change.name:
                    return change.to
            elif change.what == "board" and ":" in text and (kind in PINNED or (kind, *within) == ENABLE):
                first = re.escape(change.name)
                return re.sub(
                    rf"(?<![\w-]){first}:" if " to " in text else rf"^{first}:", f"{change.to}:", text
                )
        return text

    return found


def _texts(holder: Any, keys: tuple[str, ...]) -> Iterator[tuple[Any, Any, tuple[str, ...]]]:
    """Every text in a table: what holds it, under which key or number, and the keys that lead there."""
    places: Iterable[Any] = list(holder) if isinstance(holder, Mapping) else range(len(holder))
    for place in places:
        value = holder[place]
        under = (*keys, str(place)) if isinstance(holder, Mapping) else keys
        if isinstance(value, str):
            yield holder, place, under
        elif isinstance(value, Mapping | list):
            yield from _texts(value, under)


def _like(old: Any, new: str) -> Any:
    """A text in the quotes of another."""
    said = old.as_string()
    literal = said[0] == "'" and "'" not in new
    return tomlkit.string(new, literal=literal, multiline=said[:3] in ("'''", '"""') and len(said) > 5)


def _set(text: str, part: Block, keys: tuple[str, ...], value: str) -> str:
    body, tail = divided(text)
    document = tomlkit.parse(body)
    table: Any = document
    for name in part.head:
        table = table[0] if isinstance(name, int) else table[name]
    table[keys[0]] = _like(table[keys[0]], value)
    return tomlkit.dumps(document) + tail


def _spoken(text: str, things: Sequence[Edit]) -> dict[str, Replace]:
    """How phrases and conditions speak of them from then on. Raises `SiteFileError` where the file is not understood as it is."""
    try:
        site: Site = read_text(text, "the site file")
    except SiteFileError as error:
        first = error.findings[0]
        raise CallerError(
            "site-file",
            f"{things[0].name} cannot be renamed in a file that is not good: line {first.line}: {first.what}.",
            first.remedy,
        ) from None
    tables = tomllib.loads(text)
    phrases = Vocabulary(site, tables.get("scene", {}))
    trips = [str(row["name"]) for row in tables.get("interlock", []) if "trip" in row and "name" in row]
    asked = questions.names(site, trips)
    trip = {"interlock": "trip"}
    new = {
        Thing(trip.get(each.what, each.what), each.name): each.to
        if each.what != "interlock"
        else _said(each.to)
        for each in things
    }
    return {
        "phrase": lambda said: _exchanged(said, words.tokens(said, phrases), new),
        "condition": lambda said: _exchanged(said, Cut(said, asked).tokens(), new),
    }


def _said(name: str) -> str:
    """A name as a condition says it: in quotes where it is not one word."""
    return name if re.fullmatch(r"[\w-]+", name) else f"'{name}'"


def _exchanged(text: str, found: list[Said], names: Mapping[Thing, str]) -> str:
    """The text with the new names, where the old ones stand and no labels, which stay."""
    for number in range(len(found) - 1, -1, -1):
        token, before = found[number], found[number - 1].type if number else ""
        thing = (
            next((each for each in token.payload if each in names), None) if token.type == "NAME" else None
        )
        if thing is None:
            continue
        if (
            len(token.payload) > 1
            and (thing.kind in BEHIND or before in _AFTER)
            and thing.kind != _AFTER.get(before)
        ):
            continue  # something else of that name is meant
        new = names[thing]
        begin, end = token.start_pos or 0, token.end_pos or 0
        quoted = text[begin] in "'\""
        inner = text[begin + 1 : end - 1] if quoted else text[begin:end]
        if folded(inner) == folded(thing.name):
            put = f"{text[begin]}{new}{text[begin]}" if quoted and new[0] not in "'\"" else new
            text = text[:begin] + put + text[end:]
    return text
