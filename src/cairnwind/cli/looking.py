"""Commands that look: what is what, why, what changes, what happened."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

import click

from cairnwind.cli import exits
from cairnwind.cli.interrupts import Interrupts
from cairnwind.cli.main import an_output, as_json, main, names_of, site_of

if TYPE_CHECKING:
    from cairnwind.client import Site

NOTES = 3
"""That are shown with what they are about; the journal has all."""
OPTIONS = {"source": "by", "words": "with", "begin": "from", "end": "to"}
"""What the command line calls otherwise."""
TRACE_EVERY = 0.3
"""Seconds between two looks at what was decided."""


@main.command()
@click.argument("name", required=False, shell_complete=names_of("output, input, board"))
@click.option("--by-board", is_flag=True, help="By board instead of by place.")
@click.option(
    "--modbus", "remote", flag_value="modbus", help="The map of the Modbus server: which address is what."
)
@click.option("--surface", "remote", flag_value="surface", help="The addresses of control surfaces.")
@click.option("--broker", "remote", flag_value="broker", help="The topics at the broker.")
@click.option(
    "--written", "as_written", is_flag=True, help="What the site file says of NAME, and what else it could."
)
@click.option("--supplies", is_flag=True, help="What is drawn from each supply, and what is left.")
@click.option(
    "--problems", is_flag=True, help="Only what is wrong, and what to type; ends with 1 if anything is."
)
@click.option("--csv", "as_csv", is_flag=True, help="With a map: as CSV.")
@as_json
@click.pass_context
def look(
    ctx: click.Context, name: str | None, by_board: bool, remote: str | None, as_written: bool, supplies: bool, problems: bool,
    as_csv: bool, as_json: bool,
) -> None:  # fmt: skip
    """What is what now: the site, or one output, input or board; or the map of a remote."""
    from cairnwind.cli import show

    site = site_of(ctx)
    if as_written:
        if name is None:
            raise click.UsageError("Name an output, an input or a board: cairnwind look NAME --written.")
        form = site.written(name)
        show.emit(form) if as_json else show.written(form)
        return
    if problems:
        from cairnwind.cli import problems as wrong

        rows = list(wrong.found(site))
        show.emit(rows) if as_json else wrong.show(rows, ZoneInfo(site.facts()["timezone"]))
        ctx.exit(exits.OTHER if rows else 0)
    if supplies:
        drawn = site.supplies()
        show.emit(drawn) if as_json else show.supplies(drawn)
        return
    if remote is not None:
        from cairnwind.cli import remotes

        remotes.show_map(site, remote, name, as_csv=as_csv, as_json=as_json)
        return
    facts, outputs, inputs, boards = site.facts(), site.outputs(), site.inputs(), site.boards()
    if name is not None:
        by_board = name in {each["name"] for each in boards}
        outputs = [each for each in outputs if name == (each["board"] if by_board else each["name"])]
        inputs = [each for each in inputs if name == (each["board"] if by_board else each["name"])]
        boards = [each for each in boards if each["name"] == name or not by_board]
        if not outputs and not inputs and not by_board:
            site.output(name)  # raises, with the nearest name
    notes = site.journal(subject=name or "", kind="note", limit=NOTES)
    if as_json:
        show.emit({"site": facts, "outputs": outputs, "inputs": inputs, "boards": boards, "notes": notes})
    else:
        show.look(facts, outputs, inputs, boards, by_board=by_board)
        show.notes(notes, ZoneInfo(facts["timezone"]))


@main.command()
@an_output
@click.option(
    "--at",
    metavar="TIME",
    help="Why it was so then: 21:23, yesterday 18:00, 10 min ago, or a date with a time.",
)
@as_json
@click.pass_context
def why(ctx: click.Context, output: str, at: str | None, as_json: bool) -> None:
    """Why an output is as it is, from wish to pin; or as it was, as far back as the journal reaches."""
    from cairnwind.cli import show

    form = site_of(ctx).why(output, at)
    show.emit(form) if as_json else show.why(form, past=at is not None)


@main.command()
@an_output
@click.option("--last", is_flag=True, help="What is known by now, and no more: not what comes.")
@as_json
@click.pass_context
def trace(ctx: click.Context, output: str, last: bool, as_json: bool) -> None:
    """How it is decided about an output, phase by phase: now, then live until Ctrl-C.

    \b
    For each event that concerns it: what was due, which conditions changed, what
    is wanted, which gates were asked in which order and what each said, what was
    driven, which timers were set.
    """
    from cairnwind.cli import show, show_trace

    site = site_of(ctx)
    zone = ZoneInfo(site.facts()["timezone"])
    after: int | None = None
    with Interrupts() as stop:
        while not stop.asked:
            for each in site.trace(output, after):
                after = each["number"]
                show.emit(each) if as_json else show_trace.one(each, zone)
            sys.stdout.flush()
            if last:
                break
            stop.sleep(TRACE_EVERY)


@main.command()
@click.argument("names", nargs=-1, shell_complete=names_of("output, input"))
@click.option(
    "--link",
    "board",
    metavar="NAME",
    shell_complete=names_of("board, remote"),
    help="Show what a board's link or a remote sends and receives instead.",
)
@click.option("--wave", is_flag=True, help="Draw what NAMES did lately, and follow them.")
@click.option(
    "--seconds",
    type=click.FloatRange(0.001, 300),
    default=10,
    show_default=True,
    help="With --wave: how much time is drawn.",
)
@click.option(
    "--save",
    type=click.Path(dir_okay=False, writable=True),
    help="With --wave: save it instead, as FILE.vcd or FILE.csv.",
)
@as_json
@click.pass_context
def watch(
    ctx: click.Context,
    names: tuple[str, ...],
    board: str | None,
    wave: bool,
    seconds: float,
    save: str | None,
    as_json: bool,
) -> None:
    """Show changes as they happen (of NAMES, or all), until Ctrl-C.

    Of inputs that are named, every edge is shown: what the line shows, and what counts after debounce and scale.
    """
    from cairnwind.cli import show

    site = site_of(ctx)
    if wave or save:
        from cairnwind.cli import waves

        waves.watch(site, list(names), seconds, save, as_json)
        return
    if board is not None:
        _watch_link(site, board, as_json)
        return
    zone = ZoneInfo(site.facts()["timezone"])
    known = {each["name"] for each in [*site.outputs(), *site.inputs()]}
    for name in names:
        if name not in known:
            site.output(name)
    if not as_json and sys.stdout.isatty():
        click.echo(click.style("Watching; Ctrl-C ends it.", dim=True))
    shown: dict[str, str] = {}
    with Interrupts(ends=False) as stop:
        for change in site.changes():
            if stop.asked:
                break
            if change.kind == "afresh" and not as_json:
                for each in change.data["inputs"]:
                    if each["name"] in names:
                        click.echo(show.reading(each, zone))
            if names and change.name not in names:
                continue
            if as_json:
                show.emit({"kind": change.kind, "id": change.id, "data": change.data})
                continue
            if change.kind == "input" and names:
                click.echo(show.reading(change.data, zone))
                sys.stdout.flush()
                continue
            line = show.change(change.kind, change.data, zone)
            if line is not None and shown.get(change.name) != line[12:]:
                shown[change.name] = line[12:]
                click.echo(line)
            sys.stdout.flush()


def _watch_link(site: Site, board: str, as_json: bool) -> None:
    """Follow a link's frames; those that were lost between two looks are counted."""
    from cairnwind.cli import show

    zone, last, first = ZoneInfo(site.facts()["timezone"]), 0, True
    look = site.remote_traffic if board in {each["name"] for each in site.remotes()} else site.traffic
    with Interrupts(ends=False) as stop:
        while not stop.asked:
            found = look(board, after=last)
            frames = found["frames"][-20:] if first else found["frames"]
            if not first and frames and frames[0]["number"] > last + 1:
                click.echo(click.style(f"({frames[0]['number'] - last - 1} frames went by unseen)", dim=True))
            for frame in frames:
                show.emit(frame) if as_json else click.echo(show.frame(frame, zone))
                last = frame["number"]
            if first and not as_json:
                rounds = f"{found['rounds_a_second']:g} rounds a second, " if look == site.traffic else ""
                click.echo(click.style(f"{rounds}{found['errors']} errors; Ctrl-C ends it.", dim=True))
            first = False
            sys.stdout.flush()
            stop.sleep(0.3)


@main.command()
@click.argument("name", required=False, shell_complete=names_of("output, input"))
@click.option(
    "-n", "--number", type=click.IntRange(1, 1000), default=20, show_default=True, help="How many rows."
)
@click.option("--before", type=int, help="Rows before this number.")
@click.option(
    "--kind",
    metavar="KIND",
    help="Only these: command, change, input, plan, timer, ended, link, fault, clock …",
)
@click.option(
    "--by", "source", metavar="WHO", help="Only commands by these: words of a surface's or a key's name."
)
@click.option(
    "--with",
    "words",
    metavar="WORDS",
    help="Only rows with these words; of five letters and more, how one begins will do.",
)
@click.option(
    "--from",
    "begin",
    metavar="TIME",
    help="From then on: 21:23, yesterday, 2 h ago, Tuesday 18:00, or a date.",
)
@click.option("--to", "end", metavar="TIME", help="Up to then.")
@click.option("--csv", "as_csv", is_flag=True, help="All rows that fit, as CSV.")
@click.option("--lines", "as_lines", is_flag=True, help="All rows that fit, as JSON Lines.")
@as_json
def journal(
    name: str | None, number: int, before: int | None, as_csv: bool, as_lines: bool, as_json: bool, **which: Any
) -> None:  # fmt: skip
    """What happened: commands with their outcomes, and every change; the newest last."""
    from cairnwind.cli import show

    site = site_of(click.get_current_context())
    if as_csv or as_lines:
        import csv

        writer = csv.writer(sys.stdout)
        columns = ("sequence", "at", "kind", "subject", "text", "command", "source")
        if as_csv:
            writer.writerow(columns)
        for row in site.journal_of(subject=name, **which):
            writer.writerow([row.get(column) for column in columns]) if as_csv else show.emit(row)
        return
    rows = site.journal(name, limit=number, before=before, **which)[::-1]
    if as_json:
        show.emit(rows)
    elif rows:
        show.journal(rows, ZoneInfo(site.facts()["timezone"]))
        if len(rows) == number and rows[0]["sequence"] > 1:
            kept = "".join(f"--{OPTIONS.get(key, key)} '{value}' " for key, value in which.items() if value)
            click.echo(
                click.style(
                    f"Earlier: cairnwind journal {name + ' ' if name else ''}{kept}--before {rows[0]['sequence']}",
                    dim=True,
                )
            )
    else:
        wanted = f" about '{name}'" if name else ""
        click.echo(f"Nothing{' like that' if any(which.values()) else ''} yet{wanted}.")
