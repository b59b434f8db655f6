"""The plan at the command line: schedules, timers, and what is on when."""

from __future__ import annotations

from typing import Any
from zoneinfo import ZoneInfo

import click

from cairnwind.cli.main import _site, as_json, main
from cairnwind.core.errors import Trouble


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

    site = _site(ctx)
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
        click.echo(
            click.style("The clock is behind the journal: schedules wait until it is right.", fg="yellow")
        )
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
    from datetime import datetime

    then = datetime.fromisoformat(text).astimezone(zone)
    today = datetime.now(zone).date()
    return f"today {then:%H:%M}" if then.date() == today else f"{then:%a %d %b %H:%M}"


def _schedule_names(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    try:
        return [
            each["name"] for each in _site(ctx).plan()["schedules"] if each["name"].startswith(incomplete)
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
    "--repeat", metavar="RULE", help="RFC 5545: 'FREQ=WEEKLY;BYDAY=MO,FR', or never. Daily if not given."
)
@click.option("--starts", metavar="DATE", help="Its first day.")
@click.option(
    "--without", multiple=True, metavar="DATE", help="A day to leave out; may be given more than once."
)
@click.option("--also", multiple=True, metavar="DATE", help="A day to add.")
@click.option("--timezone", metavar="ZONE", help="Another zone than the site's.")
@as_json
def add(
    name: str,
    phrase: tuple[str, ...],
    begins: str,
    ends: str | None,
    lasting: str | None,
    as_json: bool,
    **more: Any,  # repeat, starts, without, also, timezone: as the service takes them
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
    _tell(_site(click.get_current_context()).add_schedule(**facts), as_json)


@plan.command()
@a_schedule
@as_json
@click.pass_context
def drop(ctx: click.Context, schedule: str, as_json: bool) -> None:
    """Take a schedule off the plan; says how to add it again."""
    site = _site(ctx)
    was = next((each for each in site.plan()["schedules"] if each["name"] == schedule), None)
    form = site.drop_schedule(schedule)
    _tell(form, as_json)
    if was is not None and not as_json:
        end = f" --to '{was['to']}'" if "to" in was else f" --for '{was['for']}'" if "for" in was else ""
        click.echo(
            click.style(
                f"Again: cairnwind plan add '{schedule}' --from '{was['from']}'{end} --repeat '{was['repeat']}' '{was['do']}'",
                dim=True,
            )
        )


@plan.command()
@a_schedule
@as_json
@click.pass_context
def enable(ctx: click.Context, schedule: str, as_json: bool) -> None:
    """Let a schedule count again."""
    _tell(_site(ctx).enable(schedule), as_json)


@plan.command()
@a_schedule
@as_json
@click.pass_context
def disable(ctx: click.Context, schedule: str, as_json: bool) -> None:
    """Let a schedule not count until it is enabled."""
    _tell(_site(ctx).enable(schedule, False), as_json)


@plan.command()
@a_schedule
@as_json
@click.pass_context
def skip(ctx: click.Context, schedule: str, as_json: bool) -> None:
    """Leave out the next time of a schedule."""
    _tell(_site(ctx).skip(schedule), as_json)


@plan.command(name="now")
@a_schedule
@as_json
@click.pass_context
def run_now(ctx: click.Context, schedule: str, as_json: bool) -> None:
    """Run a schedule now, for as long as it usually lasts."""
    _tell(_site(ctx).run_now(schedule), as_json)


def _tell(form: dict[str, Any], as_json: bool) -> None:
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

    site = _site(ctx)
    found = site.timers()
    if as_json:
        show.emit(found)
    elif not found:
        click.echo("No timers. Set one: cairnwind do after 5 min turn bench-lamp off")
    else:
        zone = ZoneInfo(site.facts()["timezone"])
        table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
        for name in ("number", "what", "due", "by"):
            table.add_column(name)
        for each in found:
            due = ("until " if each["kind"] == "claim" else "") + show.time_of(each["due"], zone)
            if each["every_seconds"]:
                left = f", {each['left']} to go" if each["left"] else ""
                due += f", every {each['every_seconds']:g} s{left}"
            table.add_row(str(each["id"]), each["text"], due, each["by"])
        show.console().print(table)


@timers.command()
@click.argument("number", type=int)
@click.argument("time", nargs=-1, required=True)
@as_json
@click.pass_context
def extend(ctx: click.Context, number: int, time: tuple[str, ...], as_json: bool) -> None:
    """Put timer NUMBER off by TIME, or let what ends by time last longer: 'cairnwind timers extend 17 10 min'."""
    _tell(_site(ctx).extend(number, " ".join(time)), as_json)


@timers.command()
@click.argument("number", type=int)
@as_json
@click.pass_context
def cancel(ctx: click.Context, number: int, as_json: bool) -> None:
    """Cancel timer NUMBER; what ends by time is released."""
    _tell(_site(ctx).cancel(number), as_json)
