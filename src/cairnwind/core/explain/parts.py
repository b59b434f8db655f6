"""How a condition stands, part by part: what is so of it, what is instead, and what only time is missing for."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from cairnwind.core.facts.conditions import All, Any_, Condition, Lasting, Memory, Node, Not, Value, View


class PartNow(NamedTuple):
    """A part of a condition at this moment."""

    depth: int
    """0 for what stands by itself; deeper for what stands under an 'all of these', 'one of these' or 'not'."""
    text: str
    so: Value
    instead: str
    """How it is, in words, where it is not so."""
    expected: int | None = None
    """Monotonic nanoseconds at which it will be so if all stays as it is."""


BINDS = {All: "all of these", Any_: "one of these", Not: "not"}


def parts(condition: Condition, view: View, memory: Memory) -> list[PartNow]:
    """Each part, after whatever binds it. ``memory`` is a copy, which nobody else changes meanwhile."""
    memory.frozen = True
    node = condition.node
    if isinstance(node, All):  # what has to be so altogether needs no line that says so
        return [found for each in node.each for found in _walk(each, 0, view, memory)]
    return list(_walk(node, 0, view, memory))


def _walk(node: Node, depth: int, view: View, memory: Memory) -> Iterator[PartNow]:
    so = node.look(view, memory)
    word = BINDS.get(type(node))
    if word is not None:
        yield PartNow(depth, word, so, "")
        for each in node.parts:
            yield from _walk(each, depth + 1, view, memory)
        return
    gaps = [] if so is True else node.missing(view, memory)
    expected = (
        next((gap.expected for gap in gaps if gap.only_time), None) if isinstance(node, Lasting) else None
    )
    yield PartNow(depth, node.text, so, " and ".join(gap.text for gap in gaps), expected)
