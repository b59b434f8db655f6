"""The plan at the command line: schedules, timers, and what is on when."""

from __future__ import annotations

import itertools
import shlex
import sys
from collections.abc import Mapping
from datetime import datetime
from itertools import groupby
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import click

from cairnwind.cli.main import as_json, main, site_of
from cairnwind.core.values.errors import ACCEPT_CLOCK, CallerError, Trouble
from cairnwind.core.values.visible import visible

MOST_CALENDAR = 2 << 20


@main.group(invoke_without_command=True)
@as_json
@click.pass_context
def plan(ctx: click.Context, as_json: bool) -> None:
    """Schedules: what is on the plan, where it comes from, and when it is next."""
    if ctx.invoked_subcommand is not None:
        return
    from rich.table import Table
    from rich.text import Text

    from cairnwind.cli import show

    site = site_of(ctx)
    found = site.plan()
    if as_json:
        show.emit(found)
        return
    zone = ZoneInfo(site.facts()["timezone"])
    out = show.console()
    if not found["schedules"]:
        click.echo(
            "No schedules yet. Write [[schedule]] into the site file, or: cairnwind plan add NAME --from 18:00 --to 22:30 'turn gallery on'"
        )
        return
    if not found["believed"]:
        said = show.sentence(site.facts()["clock"] or "the clock is not believed: schedules wait")
        click.echo(f"{click.style(said, fg='yellow')} {ACCEPT_CLOCK}")
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
    for name in ("schedule", "does", "when", "next", "from"):
        table.add_column(name)
    for each in found["schedules"]:
        if not each["enabled"]:
            following = Text("disabled", style="yellow")
        elif each["running_until"]:
            following = Text(f"now, until {show.time_of(each['running_until'], zone)}", style="green")
        else:
            following = Text(day_time(each["next"][0][0], zone) if each["next"] else "never again")
        skipped = (
            f" (leaves out {', '.join(day_time(at, zone) for at in each['skipped'])})"
            if each["skipped"]
            else ""
        )
        table.add_row(
            Text(each["name"], style="bold"), each["do"], each["when"], following + skipped, each["origin"]
        )
    out.print(table)


def day_time(text: str, zone: ZoneInfo) -> str:
    """A moment to come, as people say it: 'Thu 26 Nov 15:28'."""
    then = datetime.fromisoformat(text).astimezone(zone)
    today = datetime.now(zone).date()
    return f"today {then:%H:%M}" if then.date() == today else f"{then:%a %d %b %H:%M}"


def _schedule_names(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    try:
        return [
            each["name"] for each in site_of(ctx).plan()["schedules"] if each["name"].startswith(incomplete)
        ]
    except Trouble:
        return []


a_schedule = click.argument("schedule", shell_complete=_schedule_names)


@plan.command()
@click.argument("name")
@click.argument("phrase", nargs=-1, required=True)
@click.option(
    "--from", "begins", required=True, metavar="TIME", help="When it begins: 18:00, or 'sunset - 20 min'."
)
@click.option("--to", "ends", metavar="TIME", help="When it ends.")
@click.option("--for", "lasting", metavar="TIME", help="Or how long it lasts: '2 h'.")
@click.option(
    "--days", type=int, metavar="NUMBER", help="Or how many days by the calendar, to the same time of day."
)
@click.option(
    "--repeat", metavar="RULE", help="RFC 5545: 'FREQ=WEEKLY;BYDAY=MO,FR', or never. Daily if not given."
)
@click.option("--starts", metavar="DATE", help="Its first day.")
@click.option(
    "--without",
    multiple=True,
    metavar="DATE",
    help="A day, or 'DATE TIME', to leave out; may be given more than once.",
)
@click.option("--also", multiple=True, metavar="DATE", help="A day, or 'DATE TIME', to add.")
@click.option("--timezone", metavar="ZONE", help="Another zone than the site's.")
@as_json
def add(
    name: str,
    phrase: tuple[str, ...],
    begins: str,
    ends: str | None,
    lasting: str | None,
    as_json: bool,
    **more: Any,  # days, repeat, starts, without, also, timezone: as the service takes them
) -> None:
    """Add a schedule that does PHRASE."""
    facts: dict[str, Any] = {
        "name": name,
        "do": " ".join(phrase),
        "from_": begins,
        "to": ends,
        "for_": lasting,
    }
    facts |= {key: list(value) if isinstance(value, tuple) else value for key, value in more.items() if value}
    _tell(site_of(click.get_current_context()).add_schedule(**facts), as_json)


@plan.command()
@a_schedule
@as_json
@click.pass_context
def drop(ctx: click.Context, schedule: str, as_json: bool) -> None:
    """Take a schedule off the plan; says how to add it again."""
    site = site_of(ctx)
    was = next((each for each in site.plan()["schedules"] if each["name"] == schedule), None)
    form = site.drop_schedule(schedule)
    _tell(form, as_json)
    if was is not None and not as_json:
        said: dict[str, Any] = {**was}
        options = ""
        for key in ("from", "to", "for", "days", "repeat", "starts", "without", "also", "timezone"):
            for value in said[key] if isinstance(said.get(key), list) else [said[key]] if key in said else []:
                options += f" --{key} {shlex.quote(str(value))}"
        again = f"Again: cairnwind plan add {shlex.quote(schedule)}{options} {shlex.quote(was['do'])}"
        click.echo(click.style(again, dim=True))


@plan.command()
@a_schedule
@as_json
@click.pass_context
def enable(ctx: click.Context, schedule: str, as_json: bool) -> None:
    """Let a schedule count again."""
    _tell(site_of(ctx).enable(schedule), as_json)


@plan.command()
@a_schedule
@as_json
@click.pass_context
def disable(ctx: click.Context, schedule: str, as_json: bool) -> None:
    """Let a schedule not count until it is enabled."""
    _tell(site_of(ctx).enable(schedule, False), as_json)


@plan.command()
@a_schedule
@as_json
@click.pass_context
def skip(ctx: click.Context, schedule: str, as_json: bool) -> None:
    """Leave out the next time of a schedule."""
    _tell(site_of(ctx).skip(schedule), as_json)


@plan.command(name="now")
@a_schedule
@as_json
@click.pass_context
def run_now(ctx: click.Context, schedule: str, as_json: bool) -> None:
    """Run a schedule now, for as long as it usually lasts."""
    _tell(site_of(ctx).run_now(schedule), as_json)


def _tell(form: Mapping[str, Any], as_json: bool) -> None:
    from cairnwind.cli import show

    show.emit(form) if as_json else click.echo(f"{form['reason']}.")


@main.group(invoke_without_command=True)
@as_json
@click.pass_context
def timers(ctx: click.Context, as_json: bool) -> None:
    """What is still to come: timers, and what ends by time."""
    if ctx.invoked_subcommand is not None:
        return
    from rich.table import Table

    from cairnwind.cli import show

    site = site_of(ctx)
    found = site.timers()
    if as_json:
        show.emit(found)
    elif not found:
        click.echo("No timers. Set one: cairnwind do after 5 min turn bench-lamp off")
    else:
        facts = site.facts()
        zone = ZoneInfo(facts["timezone"])
        table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
        for name in ("number", "what", "due", "by"):
            table.add_column(name)
        for each in found:
            due = ("until " if each["kind"] == "claim" else "") + show.time_of(each["due"], zone)
            if each["every_seconds"]:
                left = f", {each['left']} to go" if each["left"] else ""
                due += f", every {each['every_seconds']:g} s{left}"
            if not facts["recording"] and show.over(each["due"]):
                due += ", waits until the journal can be written"
            table.add_row(str(each["id"]), each["text"], due, each["by"])
        show.console().print(table)


@timers.command()
@click.argument("number", type=int)
@click.argument("time", nargs=-1, required=True)
@as_json
@click.pass_context
def extend(ctx: click.Context, number: int, time: tuple[str, ...], as_json: bool) -> None:
    """Put timer NUMBER off by TIME, or let what ends by time last longer: 'cairnwind timers extend 17 10 min'."""
    _tell(site_of(ctx).extend(number, " ".join(time)), as_json)


@timers.command()
@click.argument("number", type=int)
@as_json
@click.pass_context
def cancel(ctx: click.Context, number: int, as_json: bool) -> None:
    """Cancel timer NUMBER; what ends by time is released."""
    _tell(site_of(ctx).cancel(number), as_json)


# --- calendars and records ------------------------------------------------------------------------------------


@plan.command()
@click.argument("file", required=False, type=click.Path(dir_okay=False))
@click.option(
    "--link",
    is_flag=True,
    help="Make an address that a phone can subscribe to, with a read-only key; the last one ends.",
)
@as_json
@click.pass_context
def calendar(ctx: click.Context, file: str | None, link: bool, as_json: bool) -> None:
    """The plan as a calendar (.ics): printed, written to FILE, or as an address to subscribe to."""
    from cairnwind.cli import show

    site = site_of(ctx)
    if link:
        address = site.calendar_link()
        show.emit({"link": address}) if as_json else click.echo(address)
        return
    text = site.calendar()
    if file is None:
        on_terminal = sys.stdout.isatty()  # else it is a file, and stays as it came
        click.echo(visible(text.replace("\r\n", "\n")) if on_terminal else text, nl=False)
        return
    Path(file).write_text(text, "utf-8", newline="")
    events = text.count("BEGIN:VEVENT")
    show.emit({"file": file, "events": events}) if as_json else click.echo(f"{file}: {events} events.")


@plan.command(name="take")
@click.argument("file", type=click.Path(exists=True, dir_okay=False))
@click.option("--dry", is_flag=True, help="Say what would become of each event, and take none.")
@as_json
@click.pass_context
def take(ctx: click.Context, file: str, dry: bool, as_json: bool) -> None:
    """Take the events of a calendar FILE (.ics) whose titles are phrases; a line for each."""
    from cairnwind.cli import show

    if Path(file).stat().st_size > MOST_CALENDAR:
        raise CallerError(
            "too-large",
            f"{file} has {Path(file).stat().st_size >> 20} MB.",
            "At most 2 MB; export fewer events.",
        )
    found = site_of(ctx).take_calendar(Path(file).read_bytes(), dry=dry)
    if as_json:
        show.emit(found)
        return
    styles = {"taken": "green", "ignored": "yellow", "not understood": "red", "refused": "red"}
    for (outcome, title, why), same in groupby(
        found["events"], key=lambda each: (each["outcome"], each["title"], each["why"])
    ):
        count = len(list(same))
        click.echo(
            f"{click.style(outcome, fg=styles[outcome])}  {title}: {why}{f' ({count} events)' if count > 1 else ''}"
        )
    word = "would be taken" if dry else "taken"
    click.echo(f"{found['taken']} of {len(found['events'])} {word}.")


@main.command()
@click.argument("name", required=False)
@click.option(
    "--from",
    "begin",
    metavar="DATE",
    help="From then on. The last 30 days, or the last day of NAME, if not given.",
)
@click.option("--to", "end", metavar="DATE", help="Up to then.")
@click.option("--csv", "as_csv", is_flag=True, help="As CSV.")
@as_json
@click.pass_context
def records(
    ctx: click.Context, name: str | None, begin: str | None, end: str | None, as_csv: bool, as_json: bool
) -> None:
    """What outputs did on each day; or, of one input or output NAME, how it was.

    'walk' as NAME: what was seen on walks through what is wired, as a page (HTML) to print.
    """
    import csv

    from rich.table import Table

    from cairnwind.cli import show

    site = site_of(ctx)
    if name == "walk":
        from cairnwind.cli.walking import print_page

        print_page(site, as_json)
        return
    zone = ZoneInfo(site.facts()["timezone"])
    found: Any = site.usage(begin, end) if name is None else site.readings(name, begin, end)
    rows = found if name is None else found["rows"]
    if as_json:
        show.emit(found)
    elif name is None:
        columns = ("day", "output", "hours_on", "switchings", "kilowatt_hours")
        cells = [["" if row[column] is None else str(row[column]) for column in columns] for row in rows]
        if as_csv:
            csv.writer(sys.stdout).writerows([columns, *cells])
        elif not rows:
            click.echo(
                "Nothing was on in that time, or not long enough ago: days are written every five minutes."
            )
        else:
            table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
            for column in columns:
                table.add_column(
                    column.replace("_", " "), justify="left" if column in ("day", "output") else "right"
                )
            for each in cells:
                table.add_row(*each)
            show.console().print(table)
    elif as_csv:
        csv.writer(sys.stdout).writerows(
            [("at", "least", "mean", "greatest"), *((_stamp(row[0], zone), *row[1:]) for row in rows)]
        )
    elif not rows:
        click.echo(f"Nothing has been recorded of {name} in that time.")
    else:
        _chart(name, found, zone)
    if not (as_json or as_csv):
        show.notes(site.journal(subject=name, kind="note", begin=begin, end=end, limit=20), zone)


def _chart(name: str, found: Mapping[str, Any], zone: ZoneInfo) -> None:
    """The mean of each interval as a bar; of a counter what came in it."""
    rows, counted = found["rows"], found["counted"]
    if counted is not None:
        rate = (
            ""
            if counted["an_hour"] is None
            else f", {counted['an_hour']:.4g} {counted['rate_unit']} on average"
        )
        said = f"{counted['came']:.4g} {found['unit']} came{rate}; {rows[-1][3]:.6g} {found['unit']} in all"
        click.echo(f"{click.style(name, bold=True)}: {said}")
        came = [max(0.0, row[3] - before[3]) for before, row in itertools.pairwise(rows)]
        rows = [[row[0], each, each, each] for row, each in zip(rows[1:], came, strict=True)]
        if not rows:
            return
    low, high = min(row[1] for row in rows), max(row[3] for row in rows)
    step = {0: "single readings", 60: "by the minute", 3600: "by the hour", 86400: "by the day"}[
        found["step_seconds"]
    ]
    click.echo(f"{click.style(name, bold=True)}, {step}: {low:.4g} to {high:.4g} {found['unit']}")
    every = max(1, len(rows) // 40)
    for row in rows[::every]:
        share = (row[2] - low) / (high - low) if high > low else 1.0
        click.echo(
            f"  {_stamp(row[0], zone)[:16].replace('T', ' ')}  {row[2]:>9.4g}  {click.style('█' * max(1, round(share * 40)), fg='cyan')}"
        )


def _stamp(milliseconds: int, zone: ZoneInfo) -> str:
    return datetime.fromtimestamp(milliseconds / 1000, zone).isoformat(timespec="seconds")
