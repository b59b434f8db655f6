"""Reading the question language: a text to a `Condition`, by the names of a site and the words of its things."""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import lru_cache

from lark import Lark
from lark.exceptions import UnexpectedInput, UnexpectedToken

from cairnwind.core.facts.conditions import Condition
from cairnwind.core.facts.site import Site
from cairnwind.core.language.asking import IS, KINDS, WANTED, WORDS, Cut, Questions
from cairnwind.core.language.meaning import Maker, span
from cairnwind.core.language.phrases import readable
from cairnwind.core.language.sentences import PhraseError
from cairnwind.core.language.words import Said, Thing, Vocabulary
from cairnwind.core.values.errors import nearest


def names(site: Site, trips: Iterable[str] = ()) -> Vocabulary:
    """What conditions may be about: outputs, groups, inputs, boards, supplies and trips."""
    found = Vocabulary(site)
    for input in site.inputs.values():
        found.add(Thing("input", input.name), input.name, own=True)
        found.add(Thing("input", input.name), input.label)
    for kind, each in (("board", site.boards), ("supply", site.supplies), ("trip", trips)):
        for name in each:
            found.add(Thing(kind, name), name, own=True)
    return found


@lru_cache(1)
def _grammar() -> Lark:
    return Lark.open_from_package(
        "cairnwind.core.language", "conditions.lark", parser="lalr", lexer=Questions
    )


def read(text: object, vocabulary: Vocabulary) -> Condition:
    """The condition that a text is. Raises `PhraseError`, and `Asks` where it may mean two things."""
    text = readable(text, "condition", "Write one: kiln-door is closed.")
    try:
        tree = _grammar().parse((text, vocabulary))
    except UnexpectedInput as error:
        raise _trouble(error, text, vocabulary) from None
    except RecursionError:
        raise PhraseError("The condition is nested too deeply.", "Split it.") from None
    node = Maker(text, vocabulary).node(tree.children[0])
    return Condition(node.text, node)


def _trouble(error: UnexpectedInput, text: str, vocabulary: Vocabulary) -> PhraseError:
    token = error.token if isinstance(error, UnexpectedToken) else None
    expected = set(error.expected) if isinstance(error, UnexpectedToken) else set()
    wanted = [WANTED[each] for each in WANTED if each in expected]
    could = (
        f"Here could stand {', '.join(wanted[:-1])}{' or ' if len(wanted) > 1 else ''}{wanted[-1]}."
        if wanted
        else ""
    )
    if not isinstance(token, Said) or token.type == "$END":
        return PhraseError("The condition is not finished.", could, len(text.rstrip()))
    at, end = span(token)
    if token.type == "WORD" and "NAME" in expected:
        words = text[at:].replace(")", " ").split()
        stop = next((n for n, word in enumerate(words) if n and word.casefold() in WORDS), len(words))
        name = " ".join(words[:stop])
        return PhraseError(
            f"There is nothing called '{name}'.",
            nearest(name, vocabulary.names()) or "See: cairnwind look.",
            at,
            at + len(name),
        )
    if token.type == "WORD" and "IS" in expected:  # a name that begins like one that the site knows
        start = _begin(text, at, vocabulary)
        name = " ".join(re.split(rf"\s(?:{'|'.join(IS)})\b", text[start:])[0].split())
        return PhraseError(
            f"There is nothing called '{name}'.",
            nearest(name, vocabulary.names()) or "See: cairnwind look.",
            start,
            start + len(name),
        )
    if token.type == "WORD" and "STATE" in expected:
        subject = next((Thing(*thing) for thing in _subject(text, at, vocabulary)), None)
        if subject is not None:
            return Maker(text, vocabulary).no_state(subject, token)
    return PhraseError(f"'{text[at:end]}' cannot stand there.", could, at, end)


def _begin(text: str, before: int, vocabulary: Vocabulary) -> int:
    """Where the last name before a place begins."""
    last = [token for token in Cut(text[:before], vocabulary).tokens() if token.type == "NAME"]
    return (last[-1].start_pos or 0) if last else before


def _subject(text: str, before: int, vocabulary: Vocabulary) -> list[Thing]:
    """What the last name before a place means."""
    last = [token for token in Cut(text[:before], vocabulary).tokens() if token.type == "NAME"]
    return [thing for thing in last[-1].payload if thing.kind in KINDS] if last else []
