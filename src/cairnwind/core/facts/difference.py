"""What two site files say differently, by name: what is new, gone, wired otherwise, or only called otherwise.

What is wired otherwise is at safe while that changes. Which keys of an output or input are no wiring is said here, once.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.values.fact import alike
from cairnwind.core.values.listing import listed

SAID = frozenset(
    ("label", "place", "cable", "words", "load", "draws", "supply", "gives", "bias", "switch", "rated", "auto_off", "proof", "proof_within", "rearm", "on_stop", "rest", "source")
)  # fmt: skip
"""Fields that may change while an output or input is at work: its link and its pins know nothing of them."""
SAID_OF_BOARDS = frozenset(("label", "place"))
TABLES = {
    "supplies": "supplies",
    "pads": "pads",
    "tunes": "tunes",
    "quiet": "quiet hours",
    "groups": "groups",
    "latitude": "latitude",
    "longitude": "longitude",
    "name": "site's name",
    "timezone": "timezone",
    "names": "service's names",
    "durability": "durability",
    "backup_at": "time of backups",
    "backup_to": "folder of backups",
    "backup_keeps": "backups that are kept",
    "journal_age": "age of the journal",
    "journal_size": "size of the journal",
}
"""Fields of a site that change with the rules, and what they are called."""
FIXED = {
    "broker": "[remote.broker]",
    "listen": "[service] listen",
    "tls": "[service] tls",
    "certificate": "[service] certificate",
    "behind": "[service] behind",
    "proxies": "[service] proxies",
}
"""Fields that only a restart changes, and what they are called."""


Names = tuple[tuple[str, str], ...]
"""Outputs and inputs that are called otherwise: the old name and the new one."""


MADE = {
    "supply": "draws",
    "others": "pins",
    "reversal": "reverse",
    "latching": "pulse",
    "light": "curve",
    "pixels": "lamps",
}
"""Fields of an output that are made of keys of another name."""
SHAPE = ("kick", "pause", "ramp")
FOLLOW = frozenset(("levels", "steps", "millihertz"))
"""Fields that follow from others."""


class Things(NamedTuple):
    """Names of outputs, of inputs or of boards."""

    added: tuple[str, ...] = ()
    removed: tuple[str, ...] = ()
    rewired: tuple[str, ...] = ()
    """Wired otherwise; of a board: taken anew."""
    said: tuple[str, ...] = ()
    """Only called otherwise, or claimed otherwise."""

    @property
    def gone(self) -> tuple[str, ...]:
        """What is not there any more as it was."""
        return (*self.removed, *self.rewired)

    @property
    def come(self) -> tuple[str, ...]:
        """What is there as it was not before."""
        return (*self.added, *self.rewired)


class Difference(NamedTuple):
    """All of it."""

    outputs: Things = Things()
    inputs: Things = Things()
    boards: Things = Things()
    remotes: Things = Things()
    tables: tuple[str, ...] = ()
    """What else is otherwise."""
    fixed: tuple[str, ...] = ()
    """What is otherwise and needs a restart."""
    renamed: Names = ()
    """Outputs and inputs among the removed and the added that are the same thing."""


def difference(old: Site, new: Site, renamed: Names = ()) -> Difference:
    """What is otherwise in ``new``. Names alone do not tell what was ``renamed``."""
    boards = _things(old.boards, new.boards, SAID_OF_BOARDS)
    anew = frozenset(boards.gone)
    return Difference(
        _things(old.outputs, new.outputs, SAID, anew),
        _things(old.inputs, new.inputs, SAID, anew),
        boards,
        _things(
            {each.name: each for each in old.remotes}, {each.name: each for each in new.remotes}, frozenset()
        ),
        tuple(says for field, says in TABLES.items() if not _same(getattr(old, field), getattr(new, field))),
        tuple(
            says
            for field, says in {**FIXED, **_bound(old)}.items()
            if not _same(getattr(old, field), getattr(new, field))
        ),
        renamed,
    )


def _bound(site: Site) -> dict[str, str]:
    """What else only a restart changes, for what has been made of it: topics at the broker, a certificate."""
    found = {"name": "name, by which its topics at the broker are called"} if site.broker is not None else {}
    return found | (
        {"names": "[service] names, for which its certificate is"} if site.tls == "self-made" else {}
    )


def _things(
    old: Mapping[str, Any], new: Mapping[str, Any], said: frozenset[str], anew: frozenset[str] = frozenset()
) -> Things:
    """``anew`` are boards that are taken anew: what is on them is wired otherwise."""
    kinds: dict[str, list[str]] = {"rewired": [], "said": []}
    for name in old.keys() & new.keys():
        one, other = old[name], new[name]
        fields = [
            each for each in one.__struct_fields__ if not _same(getattr(one, each), getattr(other, each))
        ]
        board = one.pin.board if isinstance(one, Output | Input) else ""
        if board in anew or any(each not in said for each in fields):
            kinds["rewired"].append(name)
        elif fields:
            kinds["said"].append(name)
    return Things(
        tuple(name for name in new if name not in old),
        tuple(name for name in old if name not in new),
        *(tuple(name for name in new if name in found) for found in kinds.values()),
    )


def _same(one: Any, other: Any) -> bool:
    if isinstance(one, Mapping) and isinstance(other, Mapping):
        return list(one) == list(other) and all(_same(one[key], other[key]) for key in one)
    if isinstance(one, tuple) and isinstance(other, tuple) and type(one) is type(other):
        return len(one) == len(other) and all(_same(a, b) for a, b in zip(one, other, strict=True))
    return alike(one, other)


def safe_first(old: Site, difference: Difference) -> tuple[str, ...]:
    """Outputs that are at safe while what is wired changes: those that go, and those that are wired otherwise."""
    gone = frozenset(difference.outputs.gone)
    return tuple(name for name in old.outputs if name in gone)


def in_words(old: Site, new: Site, difference: Difference) -> list[str]:
    """What changes, a sentence each: outputs, inputs, boards, all else."""
    found = []
    for kind, things, before, after in (
        ("output", difference.outputs, old.outputs, new.outputs),
        ("input", difference.inputs, old.inputs, new.inputs),
    ):
        safe = ", at safe meanwhile" if kind == "output" else ""
        called = {one: other for one, other in difference.renamed if one in before and other in after}
        found += [f"{kind} {one} is called {other} from now on{safe}" for one, other in called.items()]
        found += [
            f"{kind} {name} is new, on {after[name].pin.both}"
            for name in things.added
            if name not in called.values()
        ]
        found += [
            f"{kind} {name} goes{', after it is at safe' if safe else ''}"
            for name in things.removed
            if name not in called
        ]
        for name in things.rewired:
            one, other = before[name], after[name]
            if (one.pin.board, one.pin.line) != (other.pin.board, other.pin.line):
                found.append(f"{kind} {name} moves from {one.pin.both} to {other.pin.both}{safe}")
            elif one.pin.board in difference.boards.gone:
                found.append(f"{kind} {name} is on a board that is taken anew{safe}")
            else:
                found.append(f"{kind} {name} is wired otherwise: its {listed(_fields(one, other))}{safe}")
        found += [
            f"{kind} {name} is said otherwise: its {listed(_fields(before[name], after[name]))}"
            for name in things.said
        ]
    boards = difference.boards
    found += [f"board {name} is taken" for name in boards.added]
    found += [f"board {name} is let go" for name in boards.removed]
    found += [f"board {name} is let go and taken anew" for name in boards.rewired]
    found += [f"board {name} is said otherwise" for name in boards.said]
    found += [f"remote {name} is started" for name in difference.remotes.added]
    found += [f"remote {name} is ended" for name in difference.remotes.removed]
    found += [f"remote {name} is ended and started anew" for name in difference.remotes.rewired]
    return [
        *found,
        *(f"the {each} {'are' if each.endswith('s') else 'is'} otherwise" for each in difference.tables),
    ]


def _fields(one: Any, other: Any) -> list[str]:
    """The keys of the file that say otherwise."""
    names = {**MADE, **{key.field: key.name for key in getattr(type(one), "__keys__", ())}}
    fields = [each for each in one.__struct_fields__ if not _same(getattr(one, each), getattr(other, each))]
    said = [names.get(each, each) for each in fields if each not in FOLLOW]
    shape = getattr(one, "shape", ())
    if "shape" in said:
        parts = [name for name, a, b in zip(SHAPE, shape, other.shape, strict=True) if a != b]
        said[said.index("shape") : said.index("shape") + 1] = parts
    return list(dict.fromkeys(said))
