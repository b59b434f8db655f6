"""`cairnwind wire`: sums of wiring, which need no service, and how the site that runs is wired."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import click
from click.shell_completion import CompletionItem

from cairnwind.cli import show
from cairnwind.cli.main import as_json, main, names_of, site_of
from cairnwind.core.physics.sums import FLAG, SUMS, Asked, Sum, reckon
from cairnwind.core.values.errors import CallerError, known


class Wiring(click.Group):
    """What is no sum is the name of an output or an input."""

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """A sum, or how something is wired."""
        if args and args[0] not in self.commands and not args[0].startswith("-"):
            return "name", circuit, args
        return super().resolve_command(ctx, args)

    def shell_complete(self, ctx: click.Context, incomplete: str) -> list[CompletionItem]:
        """The sums, and the names of what is wired."""
        found = super().shell_complete(ctx, incomplete)
        names = names_of("output input")(
            ctx, self.params[0] if self.params else click.Option(["--x"]), incomplete
        )
        return [*found, *map(CompletionItem, names)]


@main.group(cls=Wiring, subcommand_metavar="SUM or NAME or sheet [ARGS]...")
def wire() -> None:
    """Resistors, currents and supplies, with the arithmetic shown; or how output or input NAME is wired, with its drawing.

    cairnwind wire led --supply 3.3V --forward 2.1V --current 8mA --pin 12mA reckons a resistor; cairnwind wire gallery
    --drawing gallery.svg draws the circuit of an output of the site that runs; cairnwind wire sheet lists all its wires.
    """


class Value(click.ParamType[Any]):
    """An option's value with its unit: '3.3 V'."""

    def __init__(self, asked: Asked) -> None:
        self.name, self._asked = asked.kind.split()[-1], asked

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """Read it, and keep the text."""
        try:
            self._asked.read(value)
        except CallerError as error:
            self.fail(f"{error.sentence} {error.remedy}", param, ctx)
        return value


def _command(sum: Sum) -> click.Command:
    def run(as_json: bool, **given: Any) -> None:
        title, steps = reckon(
            sum.name, {name: str(value) for name, value in given.items() if value is not None}
        )
        if as_json:
            show.emit(
                {
                    "title": title,
                    "good": all(step.good for step in steps),
                    "steps": [step._asdict() for step in steps],
                }
            )
        else:
            _tell(title, [step._asdict() for step in steps])

    run.__doc__ = sum.says
    made = click.command(sum.name)(as_json(run))
    made.params = [*map(_option, sum.asks), *made.params]
    return made


def _option(asked: Asked) -> click.Option:
    flag = asked.kind == FLAG
    more: dict[str, Any] = (
        {"default": asked.default, "show_default": True} if asked.default is not None and not flag else {}
    )
    kind: Any = None if flag else click.Choice(asked.among) if asked.among else Value(asked)
    return click.Option(
        [f"--{asked.name.replace('_', '-')}", asked.name], type=kind, is_flag=flag, required=asked.needed, help=asked.says or None, **more
    )  # fmt: skip


for _sum in SUMS.values():
    wire.add_command(_command(_sum))


@click.command("name")
@click.argument("name")
@click.option(
    "--drawing", type=click.Path(dir_okay=False, path_type=Path), metavar="FILE", help="Draw it, as SVG."
)
@as_json
@click.pass_context
def circuit(ctx: click.Context, name: str, drawing: Path | None, as_json: bool) -> None:
    """How output or input NAME is wired: its parts with their values, and which wire goes where."""
    site = site_of(ctx)
    found = site.circuit(name)
    if drawing is not None:
        drawing.write_text(site.drawing(name), "utf-8")
    if as_json:
        show.emit(found)
        return
    click.echo(click.style(f"{found['label']}, {', '.join(found['pins'])}", bold=True))
    _parts(
        [
            {
                "what": f"{each['role']}: {each['what']}"
                if each["what"] not in each["role"]
                else each["role"],
                **_value(each),
            }
            for each in found["parts"]
        ]
    )
    _wires(found["wires"])
    for note in found["notes"]:
        click.echo(click.style("! ", fg="yellow") + note)
    if drawing is not None:
        click.echo(f"Drawn to {drawing}.")


@wire.command()
@as_json
@click.pass_context
def sheet(ctx: click.Context, as_json: bool) -> None:
    """Every wire of the site: where it begins, where it ends, and what parts to buy."""
    found = site_of(ctx).circuits()
    if as_json:
        show.emit(found)
        return
    _wires(found["wires"])
    click.echo()
    _parts(
        [
            {
                "what": each["what"],
                "value": each["value"],
                "count": each["count"],
                "why": ", ".join(each["outputs_and_inputs"]),
            }
            for each in found["parts"]
        ]
    )


@wire.command()
@click.argument("outputs", nargs=-1, shell_complete=names_of("output"))
@as_json
@click.pass_context
def held(ctx: click.Context, outputs: tuple[str, ...], as_json: bool) -> None:
    """What has each output when the service does not: after a stop, a kill, a power cut; and what is missing."""
    found = {each["output"]: each for each in site_of(ctx).held()}
    rows = [known("output", name, found) for name in outputs or found]
    if as_json:
        show.emit(rows)
        return
    if not rows:
        click.echo("No output is wired yet.")
    show.held(rows)


def _value(part: Mapping[str, Any]) -> dict[str, Any]:
    return {"value": part["value"], "count": part["count"], "why": part["because"]}


def _parts(rows: Sequence[Mapping[str, Any]]) -> None:
    if not rows:
        return
    table = _table("", "part", "value", "")
    for row in rows:
        table.add_row(f"{row['count']} x", row["what"], row["value"], row["why"])
    show.console().print(table)


def _wires(rows: Sequence[Mapping[str, Any]]) -> None:
    table = _table("wire", "from", "of", "to")
    for row in rows:
        begin = f"{row['board']}:{row['place']}" + (
            f" (line {row['line']})"
            if row["line"] is not None and not row["place"].startswith("line-")
            else f" ({row['role']})"
            if row["line"] is None
            else ""
        )
        table.add_row(row["cable"], begin, row["name"], row["to"])
    show.console().print(table)


def _table(*heads: str) -> Any:
    from rich.table import Table

    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim", show_edge=False)
    for head in heads:
        table.add_column(head)
    return table


def _tell(title: str, steps: Sequence[Mapping[str, Any]]) -> None:
    click.echo(click.style(title, bold=True))
    width = max(len(step["what"]) for step in steps)
    for step in steps:
        good, result = step["good"], step["result"]
        mark = " " if good else click.style("!", fg="yellow", bold=True)
        click.echo(
            f"{mark} {step['what'].ljust(width)}  {result if good else click.style(result, fg='yellow')}"
        )
        if step["formula"]:
            click.echo(click.style(f"  {' ' * width}  {step['formula']}", dim=True))
