"""Commands of the table that have no command line of their own: made from their declarations.

What has to be said is an argument, what may be said an option: ``cairnwind note 'lamp changed' --about gallery``.
"""

from __future__ import annotations

from typing import Any

import click
from msgspec.structs import FieldInfo

from cairnwind.cli.main import as_json, names_of, report, site_of
from cairnwind.commands.declaring import Command
from cairnwind.commands.reading import holds, meaning, names
from cairnwind.commands.table import COMMANDS


def words() -> list[str]:
    """What they are called at the command line."""
    return [word.replace("_", "-") for word, kind in COMMANDS.items() if not kind.typed]


def command(name: str) -> click.Command | None:
    """The command of this name, if it is one of them."""
    kind = COMMANDS.get(name.replace("-", "_"))
    if kind is None or kind.typed:
        return None

    @click.pass_context
    def give(ctx: click.Context, /, as_json: bool, **given: Any) -> None:
        found = {key: value for key, value in given.items() if value not in (None, ())}
        outcome = site_of(ctx).command(kind.word, **found)
        if as_json or outcome.output:
            report(ctx, outcome, as_json)
        else:
            click.echo(outcome.reason)

    give.__doc__ = kind.help() + "".join(
        f"\n\n{name.upper()}: {meaning(field).description}"
        for name, field in names(kind).items()
        if field.required
    )
    made = click.command(name)(as_json(give))
    made.params = [*_params(kind), *made.params]
    return made


def _params(kind: type[Command]) -> list[click.Parameter]:
    return [
        _argument(name, field) if field.required else _option(name, field)
        for name, field in names(kind).items()
    ]


def _argument(name: str, field: FieldInfo) -> click.Parameter:
    return click.Argument(
        [field.name], type=_type(field), metavar=name.upper(), shell_complete=_completes(field)
    )


def _option(name: str, field: FieldInfo) -> click.Parameter:
    flag, several = holds(field) is bool, holds(field) is list
    return click.Option(
        [f"--{name.replace('_', '-')}", field.name], type=None if flag else _type(field), is_flag=flag, default=None, multiple=several,
        help=meaning(field).description, shell_complete=_completes(field),
    )  # fmt: skip


def _type(field: FieldInfo) -> type:
    return int if holds(field) is int else str


def _completes(field: FieldInfo) -> Any:
    of = (meaning(field).extra or {}).get("of", "")
    return names_of(of) if of else None
