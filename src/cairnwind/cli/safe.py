"""The commands about what keeps a site safe: rules, questions, trips, alarms, passcodes."""

from __future__ import annotations

import sys
from typing import Any
from zoneinfo import ZoneInfo

import click

from cairnwind.cli.main import an_output, as_json, main, names_of, report, site_of
from cairnwind.core.values.errors import ACCEPT_CLOCK, CallerError

by_whom = click.option("--by", "by", metavar="NAME", help="Who does it; asked for if it is not said.")


def _who(by: str | None) -> str:
    """The name of who does it: given, or asked for on a terminal."""
    if by:
        return by
    if not sys.stdin.isatty():
        raise click.UsageError("Nobody is named. Say who does it: --by NAME.")
    return str(click.prompt("Your name", err=True))


@main.command()
@click.argument("name", required=False)
@as_json
@click.pass_context
def rules(ctx: click.Context, name: str | None, as_json: bool) -> None:
    """What must never be, what follows from what, and how each rule stands; of all, or, part by part, those about NAME."""
    from rich.table import Table
    from rich.text import Text

    from cairnwind.cli import show

    found = site_of(ctx).rules()
    if name is not None:
        found = [each for each in found if name == each["name"] or name in each["outputs"]]
    if as_json:
        show.emit({"rules": found})
        return
    if not found:
        click.echo("No rules." if name is None else f"No rule is called '{name}' or concerns it.")
        return
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim", show_edge=False)
    for head in ("rule", "kind", "says"):
        table.add_column(head, overflow="fold")
    for each in found:
        bad = each["state"] not in ("in force", "quiet")
        state = Text(f"\n{each['state']}", style="bold red") if bad else Text("")
        if "left" in each:
            state = Text(f"\n{each['left']['text']}", style="bold red" if bad else "dim")
        parts = _parts(each) if name is not None else []
        if each["holds_back"]:
            parts.append(Text(f"\nit keeps off now: {', '.join(each['holds_back'])}", style="yellow"))
        said = Text.assemble(Text(each["text"]), state, *_kept(each), *parts)
        table.add_row(Text(each["name"]), Text(each["kind"], style="dim"), said)
    show.console().print(table)


def _kept(rule: Any) -> list[Any]:
    """Which boards keep a rule too."""
    from rich.text import Text

    lines = []
    for each in rule["boards"]:
        which = f" for {', '.join(each['outputs'])}" if set(each["outputs"]) != set(rule["outputs"]) else ""
        if each["in_force"]:
            lines.append(Text(f"\nkept here and by board {each['board']} itself{which}", style="green"))
        else:
            lines.append(
                Text(f"\nkept here alone, not by board {each['board']}: {each['why_not']}", style="yellow")
            )
    return lines


SO = {True: "so", False: "not so", None: "not known"}


def _parts(rule: Any) -> list[Any]:
    """How each part of a rule's condition stands, a line each."""
    from rich.text import Text

    lines = []
    for part in rule["parts"]:
        instead = f" ({part['instead']})" if part["instead"] and part["instead"] != part["text"] else ""
        text = f"\n{'  ' * part['depth']}{SO[part['so']]}: {part['text']}{instead}"
        lines.append(Text(text, style="green" if part["so"] else "dim"))
    if rule["grace_ends"]:
        lines.append(Text(f"\na grace runs until {rule['grace_ends']}", style="yellow"))
    return lines


@main.command()
@click.argument("question", nargs=-1, required=True)
@as_json
@click.pass_context
def ask(ctx: click.Context, question: tuple[str, ...], as_json: bool) -> None:
    """Whether something is so now: cairnwind ask kiln-vent is on and kiln-door is closed.

    Ends with 0 if it is, 1 if it is not, and 2 if nobody knows.
    """
    from cairnwind.cli import show

    found = site_of(ctx).ask(" ".join(question))
    if as_json:
        show.emit(found)
    else:
        word = {True: "yes", False: "no", None: "not known"}[found["so"]]
        why = f": {' and '.join(found['instead'])}" if found["instead"] else ""
        click.echo(f"{found['question']}: {click.style(word, bold=True)}{why}")
    ctx.exit({True: 0, False: 1, None: 2}[found["so"]])


@main.command()
@click.argument("trip", required=False, shell_complete=names_of("rule trip"))
@by_whom
@as_json
@click.pass_context
def reset(ctx: click.Context, trip: str | None, by: str | None, as_json: bool) -> None:
    """Reset TRIP once its cause is gone, by name. Without TRIP: what has tripped."""
    from cairnwind.cli import show

    site = site_of(ctx)
    if trip is None:
        found = site.trips()
        if as_json:
            show.emit({"trips": found})
            return
        zone = ZoneInfo(site.facts()["timezone"])
        for each in found:
            click.echo(
                f"{click.style(each['name'], fg='red', bold=True)}  since {show.time_of(each['since'], zone)}: {each['cause']}"
            )
        if not found:
            click.echo("Nothing has tripped.")
        return
    _say(ctx, site.reset(trip, _who(by)), as_json)


@main.command()
@click.option("--accept", is_flag=True, help="Say that it is right, though it is behind the journal.")
@by_whom
@as_json
@click.pass_context
def clock(ctx: click.Context, accept: bool, by: str | None, as_json: bool) -> None:
    """Whether the clock is believed; with --accept, somebody with a name says that it is right."""
    from cairnwind.cli import show

    site = site_of(ctx)
    if accept:
        _say(ctx, site.accept_clock(_who(by)), as_json)
        return
    facts = site.facts()
    if as_json:
        show.emit({"timezone": facts["timezone"], "trouble": facts["clock"]})
    elif facts["clock"]:
        click.echo(f"{click.style(show.sentence(facts['clock']), fg='yellow')} {ACCEPT_CLOCK}")
    else:
        click.echo(f"The clock is believed; times are those of {facts['timezone']}.")


@main.command()
@click.argument("alarm", required=False, shell_complete=names_of("rule alarm"))
@click.option("--acknowledge", is_flag=True, help="Say that somebody has heard ALARM.")
@by_whom
@as_json
@click.pass_context
def alarms(ctx: click.Context, alarm: str | None, acknowledge: bool, by: str | None, as_json: bool) -> None:
    """Alarms that were raised; with --acknowledge, ALARM has been heard by somebody with a name."""
    from cairnwind.cli import show

    site = site_of(ctx)
    if acknowledge:
        if alarm is None:
            raise click.UsageError("Which alarm? Give its name before --acknowledge.")
        _say(ctx, site.acknowledge(alarm, _who(by)), as_json)
        return
    found = [each for each in site.alarms() if alarm in (None, each["name"])]
    if as_json:
        show.emit({"alarms": found})
        return
    zone = ZoneInfo(site.facts()["timezone"])
    for each in found:
        colour = {"urgent": "red", "warning": "yellow"}.get(each["severity"])
        heard = (
            f"acknowledged by {each['acknowledged_by']}"
            if each["acknowledged_by"]
            else "nobody has acknowledged it"
        )
        so = "" if each["still_so"] else "; it is no longer so"
        name = click.style(each["name"], fg=colour, bold=True)
        click.echo(
            f"{name}  {each['severity']} since {show.time_of(each['since'], zone)}: {each['cause']}{so}; {heard}"
        )
    if not found:
        click.echo("No alarms.")


@main.command()
@click.argument("reflex", shell_complete=names_of("rule reflex"))
@as_json
@click.pass_context
def resume(ctx: click.Context, reflex: str, as_json: bool) -> None:
    """Let a suspended REFLEX work again."""
    _say(ctx, site_of(ctx).resume(reflex), as_json)


@main.command()
@click.option("--dry", is_flag=True, help="Only say what would change.")
@as_json
@click.pass_context
def reload(ctx: click.Context, dry: bool, as_json: bool) -> None:
    """Have the service read its site file anew.

    Outputs, inputs and boards that are new, gone or wired otherwise are changed while the rest works; outputs are at safe meanwhile.
    On any mistake, and where a board does not answer, everything stays as it was.
    """
    from cairnwind.cli import show

    if not dry:
        _say(ctx, site_of(ctx).reload(), as_json)
        return
    changes = site_of(ctx).would_change()
    if as_json:
        show.emit({"changes": changes})
    else:
        click.echo("\n".join(changes) if changes else "Nothing would change.")


@main.command()
@an_output
@by_whom
@as_json
@click.pass_context
def attest(ctx: click.Context, output: str, by: str | None, as_json: bool) -> None:
    """Say that OUTPUT, which nobody can ask, was seen to be off; others that it excludes may go on then."""
    report(ctx, site_of(ctx).attest(output, _who(by)), as_json)


@main.command("open")
@an_output
@as_json
@click.pass_context
def open_(ctx: click.Context, output: str, as_json: bool) -> None:
    """Open a guarded OUTPUT; its passcode is asked for, or read from standard input."""
    code = (
        click.prompt("Code", hide_input=True, err=True)
        if sys.stdin.isatty()
        else sys.stdin.readline().strip()
    )
    if not code:
        raise CallerError(
            "bad-value",
            "No passcode was given.",
            "Type it where it is asked for, or send it on standard input.",
        )
    report(ctx, site_of(ctx).open(output, str(code)), as_json)


@main.command()
@an_output
@click.argument("owner", required=False)
@click.option("--give", is_flag=True, help="Give OWNER a code, in place of the one they have.")
@click.option("--drop", is_flag=True, help="Take OWNER's code away.")
@click.option("--days", default="", help="With --give: days on which it is good, as in mo,tu,we.")
@click.option("--from", "from_", default="", help="With --give: from this time of day.")
@click.option("--to", default="", help="With --give: to this time of day.")
@click.option("--until", default="", help="With --give: not after this date or time.")
@click.option("--once", is_flag=True, help="With --give: for one time only.")
@as_json
@click.pass_context
def code(
    ctx: click.Context,
    output: str,
    owner: str | None,
    give: bool,
    drop: bool,
    as_json: bool,
    days: str,
    from_: str,
    to: str,
    until: str,
    once: bool,
) -> None:
    """Passcodes of a guarded OUTPUT: who has one, and when it is good. Codes are never shown."""
    from cairnwind.cli import show

    site = site_of(ctx)
    if (give or drop) and owner is None:
        raise click.UsageError("Whose code? Give the owner's name.")
    if give:
        terminal = sys.stdin.isatty()
        secret = (
            click.prompt("Code", hide_input=True, confirmation_prompt=True, err=True)
            if terminal
            else sys.stdin.readline().strip()
        )
        named = [day for day in days.split(",") if day]
        site.give_code(
            output, str(owner), str(secret), days=named, from_=from_, to=to, until=until, once=once
        )
        show.emit({"output": output, "owner": owner}) if as_json else click.echo(
            f"{owner} has a code for {output}."
        )
        return
    if drop:
        site.drop_code(output, str(owner))
        show.emit({"output": output, "owner": owner}) if as_json else click.echo(
            f"{owner} has no code for {output} any more."
        )
        return
    found = [each for each in site.codes(output) if owner in (None, each["owner"])]
    if as_json:
        show.emit({"codes": found})
        return
    for each in found:
        parts = [" ".join(each["days"])] if each["days"] else []
        parts += (
            [f"{each['from'] or '00:00'} to {each['to'] or '24:00'}"] if each["from"] or each["to"] else []
        )
        parts += [f"until {each['until']}"] if each["until"] else []
        parts += ["for one time"] if each["once"] else []
        click.echo(f"{click.style(each['owner'], bold=True)}  {', '.join(parts) or 'always'}")
    if not found:
        click.echo(f"Nobody has a code for {output} yet: cairnwind code {output} NAME --give.")


def _say(ctx: click.Context, outcome: Any, as_json: bool) -> None:
    from cairnwind.cli import show

    show.emit(outcome.form) if as_json else click.echo(f"{outcome.reason} ({outcome.outcome})")
