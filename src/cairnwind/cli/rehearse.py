"""``cairnwind rehearse``: any time to come, or gone by, before or after the fact."""

from __future__ import annotations

import sys
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from datetime import datetime, timedelta
from operator import itemgetter
from pathlib import Path
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

import click

from cairnwind.cli.main import as_json, main, site_of
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import NS, duration

if TYPE_CHECKING:
    from collections.abc import Callable

    from cairnwind.core.explain.rehearsal import Put, Rehearsed, World
    from cairnwind.core.facts.plan import Schedule, Span
    from cairnwind.core.facts.site import Site

LONG = 20 * 86400 * NS
"""Rehearsals of more than this show how far they are."""
SHOWN = 400
"""Changes in a table at most."""


@main.command()
@click.argument("site_file", required=False, type=click.Path(dir_okay=False))
@click.option(
    "--from", "begins", metavar="DATE", help="When it begins: 2026-12-24, or with a time. Today if not given."
)
@click.option("--to", "ends", metavar="DATE", help="When it ends.")
@click.option("--for", "lasting", metavar="TIME", help="Or how long it lasts: '7 d' if not given.")
@click.option(
    "--inputs",
    metavar="SOURCE",
    help="A CSV file with time,input,state; 'journal' of the same time gone by; or 'world', the demo's.",
)
@click.option(
    "--against",
    metavar="FILE",
    type=click.Path(dir_okay=False),
    help="Another site file: show only what would differ under it.",
)
@click.option(
    "--picture",
    metavar="FILE",
    type=click.Path(dir_okay=False),
    help="Draw it: FILE.png or FILE.svg (needs the extra 'plot').",
)
@click.option("--csv", "as_csv", is_flag=True, help="Print the changes as CSV.")
@as_json
@click.pass_context
def rehearse(
    ctx: click.Context, site_file: str | None, begins: str | None, ends: str | None, lasting: str | None, inputs: str | None,
    against: str | None, picture: str | None, as_csv: bool, as_json: bool,
) -> None:  # fmt: skip
    """What would happen: the plan of SITE_FILE, or of the service that runs, on a virtual clock.

    Shows every change with its reason, what each output has done by the end, what was held back, and what
    collides. Nothing real is switched.
    """
    from cairnwind.cli import show
    from cairnwind.core.explain.rehearsal import differences
    from cairnwind.service import rehearsals

    site, kit = _subject(ctx, site_file)
    schedules = _plan(site, kit)
    zone = ZoneInfo(site.timezone)
    begin, end = _period(begins, ends, lasting, zone, "past" if inputs == "journal" else "coming")
    found = _go(site, schedules, begin, end, *_inputs(ctx, inputs, site, begin, end))
    if against is not None:
        other_site, _ = _subject(ctx, against)
        changed = _go(
            other_site, _plan(other_site, kit), begin, end, *_inputs(ctx, inputs, other_site, begin, end)
        )
        if as_json:
            show.emit(rehearsals.difference_forms(found, changed))
        else:
            _differences(differences(found, changed), zone)
        return
    if picture is not None:
        from cairnwind.cli.timeline import draw

        draw(found, site, Path(picture))
    if as_json:
        show.emit({**rehearsals.form(found, site), **({"picture": picture} if picture else {})})
    elif as_csv:
        click.echo(rehearsals.table(found, zone), nl=False)
    else:
        _table(found, site, zone)
        if picture is not None:
            click.echo(f"Drawn: {picture}")


def _subject(ctx: click.Context, site_file: str | None) -> tuple[Site, Mapping[str, Any] | None]:
    """A site of a file, or of the service; then with what has been added to its plan and done to it."""
    from cairnwind.site import read_site, read_text

    if site_file is not None:
        return read_site(site_file), None
    kit = site_of(ctx).kit()
    return read_text(kit["site_file"], "the service's site file"), kit


def _plan(site: Site, kit: Mapping[str, Any] | None) -> list[tuple[Schedule, Span | None]]:
    """The plan of a site file, with what the service adds to it."""
    from cairnwind.core.language import schedules
    from cairnwind.site.plans import read_plan

    planned = read_plan(site)
    found: dict[str, tuple[Schedule, Span | None]] = {each.name: (each, None) for each in planned.schedules}
    for each in kit["schedules"] if kit else ():
        name = each["name"]
        if each["form"] is not None:
            found[name] = schedules.with_state(
                schedules.make(each["form"], planned, "database"), each["state"]
            )
        elif name in found:
            found[name] = schedules.with_state(found[name][0], each["state"])
    return list(found.values())


def _period(
    begins: str | None, ends: str | None, lasting: str | None, zone: ZoneInfo, lean: str
) -> tuple[int, int]:
    """``lean``: whether the time is one to come, or one gone by."""
    import time

    from cairnwind.core.values import spokentimes

    today = datetime.now(zone).replace(hour=0, minute=0, second=0, microsecond=0)
    now = time.time_ns()
    begin = spokentimes.wall(begins, zone, now, lean) if begins else int(today.timestamp()) * NS
    if ends and lasting:
        raise CallerError(
            "bad-value", "--to and --for cannot be given together.", "Say when it ends, or how long it lasts."
        )
    if ends:
        end = spokentimes.wall(ends, zone, now, lean)
    elif lasting:
        end = begin + duration(lasting, longest=20 * 366 * 86400)
    else:
        end = int((datetime.fromtimestamp(begin // NS, zone) + timedelta(days=7)).timestamp()) * NS
    if end <= begin:
        raise CallerError("bad-value", "The end is not after the beginning.", "Give a later --to.")
    return begin, end


def _inputs(
    ctx: click.Context, source: str | None, site: Site, begin: int, end: int
) -> tuple[Iterable[tuple[int, Put]], World | None]:
    from cairnwind.core.explain import replay

    if source is None:
        return (), None
    if source == "world":
        from cairnwind.demo.world import rehearsed

        return (), rehearsed(site)
    if source == "journal":
        readings = _readings(ctx, site, begin, end)
        return list(replay.of_journal(_rows(ctx, begin, end), site, readings)), None
    from cairnwind.core.values import dates

    zone = ZoneInfo(site.timezone)
    try:
        text = Path(source).read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise CallerError(
            "no-file",
            f"The inputs in {source} cannot be read: {getattr(error, 'strerror', None) or error}.",
            "Give a CSV file, 'journal' or 'world'.",
        ) from None
    return replay.of_table(text, site, lambda time: dates.wall(time, zone)), None


def _rows(ctx: click.Context, begin: int, end: int) -> Iterator[tuple[int, str, str, Any]]:
    """The journal of the service that runs, in rising order, by the names of today."""
    from datetime import UTC

    from cairnwind.core.explain.called import Called

    def stamp(wall: int) -> str:
        return datetime.fromtimestamp(wall // NS, UTC).isoformat()

    site = site_of(ctx)
    called = Called(
        (_wall(each["at"]), {name["before"]: name["after"] for name in each["renamed"]})
        for each in sorted(site.editions(), key=itemgetter("number"))
    )
    for row in site.journal_of(begin=stamp(begin), end=stamp(end)):
        wall = _wall(row["at"])
        yield wall, row["kind"], called.now(row["subject"] or "", wall), row["data"]


def _wall(moment: str) -> int:
    return int(datetime.fromisoformat(moment).timestamp() * 1000) * 10**6


def _readings(ctx: click.Context, site: Site, begin: int, end: int) -> list[tuple[int, str, float]]:
    """What analogue inputs read in that time, in rising order: single readings, or the means that are left of them."""
    from datetime import UTC

    first, last = (datetime.fromtimestamp(wall // NS, UTC).isoformat() for wall in (begin, end))
    found = []
    for input in site.inputs.values():
        if input.analogue:
            rows = site_of(ctx).readings(input.name, first, last)["rows"]
            found += [(int(wall) * 10**6, input.name, mean) for wall, _, mean, _ in rows]
    return sorted(found)


def _go(
    site: Site,
    schedules: list[tuple[Schedule, Span | None]],
    begin: int,
    end: int,
    happenings: Iterable[tuple[int, Put]],
    world: World | None,
) -> Rehearsed:
    from cairnwind.core.explain.rehearsal import Rehearsal
    from cairnwind.site.plans import read_plan
    from cairnwind.site.rules import read_rules

    rules = read_rules(site, read_plan(site))
    rehearsal = Rehearsal(site, schedules, begin, happenings=happenings, world=world, rules=rules)
    with _progress(begin, end) as tell:
        return rehearsal.run_to(end, tell=tell)


@contextmanager
def _progress(begin: int, end: int) -> Iterator[Callable[[int], None] | None]:
    """How far it is, on a terminal and where it takes long."""
    if end - begin < LONG or not sys.stderr.isatty():
        yield None
        return
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

    with Progress(
        TextColumn("rehearsing"),
        BarColumn(),
        TextColumn("{task.fields[at]}"),
        TimeRemainingColumn(),
        console=Console(stderr=True),
        transient=True,
    ) as bar:
        task = bar.add_task("", total=end - begin, at="")
        last = begin

        def tell(wall: int) -> None:
            nonlocal last
            if wall - last > (end - begin) // 200:
                last = wall
                bar.update(task, completed=wall - begin, at=f"{datetime.fromtimestamp(wall // NS):%Y-%m-%d}")

        yield tell


def _table(found: Rehearsed, site: Site, zone: ZoneInfo) -> None:
    from rich.table import Table
    from rich.text import Text

    from cairnwind.cli import show
    from cairnwind.service import rehearsals

    out = show.console()
    first, last = (
        f"{datetime.fromtimestamp(at // NS, zone):%a %Y-%m-%d %H:%M}" for at in (found.begin, found.end)
    )
    out.print(Text.assemble((site.name, "bold"), f", rehearsed from {first} to {last}\n"))
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
    for name in ("when", "output", "is", "because"):
        table.add_column(name)
    day = ""
    for change in found.changes[:SHOWN]:
        then = datetime.fromtimestamp(change.wall / NS, zone)
        today = f"{then:%a %d %b}"
        table.add_row(
            f"{today if today != day else '':10} {then:%H:%M:%S}",
            change.output,
            Text(change.words, style="green" if change.on else "dim"),
            change.why,
        )
        day = today
    out.print(table) if found.changes else out.print("Nothing changes in that time.")
    if len(found.changes) > SHOWN:
        out.print(
            Text(f"… and {len(found.changes) - SHOWN} more: --csv or --json has them all.", style="dim")
        )
    rows = rehearsals.totals(found, site)
    if rows:
        table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim", title_justify="left")
        for name, justify in (
            ("by then", "left"),
            ("hours on", "right"),
            ("switched on", "right"),
            ("energy", "right"),
            ("of its life", "right"),
        ):
            table.add_column(name, justify=justify)  # type: ignore[arg-type]
        for row in rows:
            energy = "" if row["kilowatt_hours"] is None else f"{row['kilowatt_hours']:.3g} kWh"
            life = max(
                (share for share in (row["of_rated_switchings"], row["of_rated_hours"]) if share is not None),
                default=None,
            )
            table.add_row(
                row["label"],
                f"{row['hours_on']:.2f}",
                str(row["switchings"]),
                energy,
                "" if life is None else f"{life:.3%}",
            )
        out.print()
        out.print(table)
    for title, notes in (("Collisions", found.collisions), ("Held back", found.held_back)):
        if notes:
            out.print(Text(f"\n{title}", style="yellow"))
            for note in notes[:40]:
                out.print(
                    f"  {datetime.fromtimestamp(note.wall // NS, zone):%a %d %b %H:%M:%S}  {note.output}: {note.text}"
                )


def _differences(pairs: list[Any], zone: ZoneInfo) -> None:
    from rich.table import Table
    from rich.text import Text

    from cairnwind.cli import show

    pairs = [
        pair for pair in pairs if any(each is not None and (each.on or each.by != "rest") for each in pair)
    ]
    if not pairs:
        click.echo("Nothing would differ.")
        return
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
    for name in ("", "output", "from", "to", "is", "by"):
        table.add_column(name)
    for was, would in pairs:
        bar = was or would
        mark = Text("not any more", style="red") if was else Text("new", style="green")
        begin, end = (
            f"{datetime.fromtimestamp(at // NS, zone):%a %d %b %H:%M:%S}" for at in (bar.start, bar.end)
        )
        table.add_row(mark, bar.output, begin, end, bar.words, bar.by)
    show.console().print(table)
