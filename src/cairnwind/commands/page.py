"""The page of the docs about all commands, made from their declarations."""

from __future__ import annotations

from cairnwind.commands.declaring import Command
from cairnwind.commands.paths import braces
from cairnwind.commands.reading import meaning, names
from cairnwind.commands.table import COMMANDS


def table() -> str:
    """Every command: what it does, what it carries, who may, and whether it goes first."""
    rows = [
        "| command | does | carries | role | lane | HTTP | command line |",
        "|---|---|---|---|---|---|---|",
    ]
    for word, kind in COMMANDS.items():
        path = braces(kind.path)
        rows.append(
            f"| `{word}` | {kind.help()} | {_carries(kind)} | {kind.role} | {_lane(kind)} | `{kind.method} {path}` | `{kind.typed or word.replace('_', '-')}` |"
        )
    return "\n".join(rows)


def _carries(kind: type[Command]) -> str:
    fields = names(kind)
    found = [
        f"`{name}`{'' if field.required else '?'}: {_says(meaning(field).description or '')}"
        for name, field in fields.items()
    ]
    return "<br>".join(found).replace("|", "\\|")


def _says(text: str) -> str:
    return text.rstrip(".")


def _lane(kind: type[Command]) -> str:
    if callable(kind.lane):
        return "first where it only lets go, switches off or keeps; else paced"
    return "first" if kind.lane else "paced"
