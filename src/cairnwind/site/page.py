"""Every table of the site file and its keys, from their declarations: what docs/site-file.md is made of.

Who reads a table declares its keys: facts theirs (`cairnwind.core.values.keys`), kinds of links and of interlocks theirs, rules
and schedules theirs. Nothing is said here of what a key means.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from functools import lru_cache
from typing import Any, NamedTuple

from cairnwind.boards import kinds as links
from cairnwind.boards.facts import Broker
from cairnwind.core.facts.hardware import Board, Supply
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import OUTPUT_KEYS, Output
from cairnwind.core.facts.site import SERVICE, Quiet
from cairnwind.core.language import forms, schedules
from cairnwind.core.physics.stick import Pad
from cairnwind.core.rules import kinds as interlocks
from cairnwind.core.values.keys import Key, keys
from cairnwind.site import remotes, rows
from cairnwind.site.reader import CERTIFICATE_KEY, SERVICE_KEYS, TOP


class Table(NamedTuple):
    """One kind of table."""

    head: str
    """As it is written; empty: the top of the file."""
    says: str
    keys: tuple[Key, ...]


def _plain(said: Mapping[str, str], needed: Iterable[str]) -> tuple[Key, ...]:
    return tuple(Key(name, says, needed="Write it." if name in needed else "") for name, says in said.items())


def _lists() -> list[Table]:
    """Scenes, schedules and rules."""
    name = Key("name", forms.NAME, needed="Give it one.")
    scene = (
        Key("do", "a list of [phrases](phrases.md) that begin at the same time", needed="Say what it does."),
        Key("label", "for show"),
    )
    return [
        Table("[scene.NAME]", "settings that are asked for together", scene),
        Table("[[schedule]]", "a span of the plan ([time.md](time.md#schedules))", _plain(schedules.KEYS, ("name", "do", "from"))),
        *(
            Table(f"[[interlock]] with `{verb}`", "what must never be ([safety.md](safety.md))", (name, *_plain(kind.keys, (verb,))))
            for verb, kind in interlocks.KINDS.items()
        ),
        Table(
            "[[reflex]]", "what follows from what ([safety.md](safety.md#reflexes-regulators-alarms))",
            _plain(forms.REFLEX_KEYS, ("name", "do")),
        ),
        Table("[[regulator]]", "an input that is kept between two values", _plain(forms.REGULATOR_KEYS, ("name", "keep", "by"))),
        Table("[[alarm]]", "what somebody has to see", _plain(forms.ALARM_KEYS, ("name", "when"))),
        Table("[guard.OUTPUT]", "a passcode ([safety.md](safety.md#passcodes))", _plain(forms.GUARD_KEYS, ("opens",))),
    ]  # fmt: skip


def _remotes() -> list[Table]:
    """Ways in and out; what each is, is said by its record."""
    heads = {kind: f"[remote.{kind}]" for kind in remotes.ONES} | {
        kind: f"[remote.{kind}.NAME]" for kind in remotes.NAMED
    }
    ways: dict[str, type[Any]] = {"broker": Broker, **remotes.ONES, **remotes.NAMED}
    return [Table(heads.get(kind, "[remote.broker]"), _first(way), keys(way)) for kind, way in ways.items()]


def _first(described: type[Any]) -> str:
    """The first sentence of what something says of itself."""
    return (described.__doc__ or "").split("\n")[0].rstrip(".")


def page() -> str:
    """The tables in Markdown."""
    return "\n\n".join(_shown(each) for each in tables())


def _shown(table: Table) -> str:
    head = (
        f"### `{table.head}`"
        if table.head and "`" not in table.head
        else f"### {table.head or 'The top of the file'}"
    )
    if "`" in table.head:
        before, rest = table.head.split(" with ", 1)
        head = f"### `{before}` with {rest}"
    rows = ["| key | what | unless said |", "|---|---|---|"]
    for key in table.keys:
        kinds = f" *{' and '.join(key.kinds)}*" if key.kinds and key.kinds != (SERVICE,) else ""
        unsaid = f"`{key.unsaid}`" if key.unsaid else "**needed**" if key.needed and not key.kinds else ""
        rows.append(f"| `{key.name}`{kinds} | {key.says} | {unsaid} |".replace("\n", " "))
    return "\n".join(
        [head, "", *([f"{table.says[:1].upper()}{table.says[1:]}.", ""] if table.head else []), *rows]
    )


def tables() -> tuple[Table, ...]:
    """All of them, in the order of a file that is written from the boards up."""
    return _tables(links.names())


@lru_cache(1)
def _tables(kinds: tuple[str, ...]) -> tuple[Table, ...]:
    """The same, as long as there are these kinds of links."""
    tune = Key(
        "notes", "[light-and-sound.md](light-and-sound.md#sound) has the notation", needed="Give its notes."
    )
    group = Key("outputs", "which", needed="Say which.")
    return (
        Table("", "the top of the file", tuple(TOP)),
        Table("[supply.NAME]", _first(Supply), keys(Supply)),
        Table("[board.NAME]", _first(Board), links.board_keys()),
        *(
            Table(f'[board.NAME] with `link = "{name}"`', kind.says, kind.keys)
            for name, kind in ((name, links.find(name)) for name in kinds) if kind.keys
        ),
        Table("[output.NAME]", _first(Output), OUTPUT_KEYS),
        Table(
            "[outputs.NAME]", "a row of alike outputs NAME-1, NAME-2 and so on, and a group of them that is called NAME; beside its pins it has the keys of `[output.NAME]`, and its label is numbered",
            (rows.PINS,),
        ),
        Table("[input.NAME]", _first(Input), keys(Input)),
        Table("[pad.NAME]", _first(Pad), keys(Pad)),
        Table("[tune.NAME]", "what a sounder plays by name", (tune,)),
        Table("[quiet]", "hours in which sounders are silent", keys(Quiet)),
        Table("[group.NAME]", "outputs that phrases name together", (group,)),
        *_lists(),
        *_remotes(),
        Table("[service]", "how the service is reached", (*SERVICE_KEYS, CERTIFICATE_KEY)),
    )  # fmt: skip
