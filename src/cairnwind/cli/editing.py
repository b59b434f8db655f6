"""The site changed from the command line: ``add``, ``change``, ``rename``, ``remove``; drafts; editions."""

from __future__ import annotations

import sys
import tomllib
from typing import TYPE_CHECKING, Any

import click

from cairnwind.cli import exits
from cairnwind.cli.main import as_json, main, site_of, site_soon
from cairnwind.core.values.errors import CallerError

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from cairnwind import forms
    from cairnwind.client import Outcome, Site

WHAT = (
    "output", "outputs", "input", "board", "supply", "interlock", "reflex", "regulator", "alarm", "guard", "schedule", "scene", "group", "tune", "pad",
    "remote", "quiet", "service", "site",
)  # fmt: skip
ALONE = ("site", "quiet", "service")


def _names(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Completion of the names of a kind of thing, from the site file that is served."""
    try:
        tables: Any = tomllib.loads(site_soon(ctx).kit()["site_file"]).get(
            ctx.params.get("what") or "output", {}
        )
    except Exception:
        return []
    names = [row.get("name", "") for row in tables] if isinstance(tables, list) else list(tables)
    return [name for name in names if name.startswith(incomplete)]


def _keys(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[str]:
    """Completion of keys, and of what may stand behind them."""
    try:
        kind = next(
            (
                str(value)
                for key, value in _told("", "", ctx.params.get("keys") or ())[1].items()
                if key in ("kind", "link")
            ),
            "",
        )
        found = site_soon(ctx).offers(ctx.params["what"], kind=kind, name=ctx.params.get("name") or "")[
            "keys"
        ]
    except Exception:
        return []
    name, equals, value = incomplete.partition("=")
    if equals:
        offered = next((each["choices"] for each in found if each["name"] == name), [])
        return [f"{name}={each}" for each in offered if each.startswith(value)]
    return [f"{each['name']}=" for each in found if each["name"].startswith(name)]


a_what = click.argument("what", type=click.Choice(WHAT), metavar="WHAT")
a_name = click.argument("name", required=False, default="", shell_complete=_names)
the_keys = click.argument("keys", nargs=-1, metavar="[KEY=VALUE]...", shell_complete=_keys)


def _how(command: Callable[..., Any]) -> Callable[..., Any]:
    """What every change may be told."""
    for option in (
        click.option("--reason", default="", metavar="TEXT", help="Why, for the list of editions."),
        click.option(
            "--draft", "into_draft", is_flag=True, help="Put it into the draft; nothing changes yet."
        ),
        click.option("--dry", is_flag=True, help="Only show what it would come to."),
        as_json,
    ):
        command = option(command)
    return command


@main.command(context_settings={"ignore_unknown_options": True})
@a_what
@a_name
@the_keys
@_how
@click.pass_context
def add(ctx: click.Context, /, what: str, name: str, keys: tuple[str, ...], **how: Any) -> None:
    """Add WHAT to the site, while it works: output, outputs (a row), input, board, supply, interlock, reflex, regulator, alarm, guard, schedule, scene,
    group, tune, pad, remote, quiet or service.

    \b
    cairnwind add output porch kind=lamp pin=shelf:J2-10 label="Porch"
    cairnwind add input gate kind=contact pin=shelf:J3-8 pull=up 'words=["shut", "open"]'
    cairnwind add interlock 'one of them' 'excludes=["hoist-up", "hoist-down"]' gap="400 ms"
    cairnwind add remote hook.garden address=https://garden.lan/hook
    cairnwind add output yard --kind lamp --pin shelf:J2-16
    cairnwind add outputs bay kind=relay pins="racks:line-0 to racks:line-7" label=Bay

    What is needed and not given is asked for on a terminal, with only what is possible offered.
    """
    name, found = _told(what, name, keys)
    site = site_of(ctx)
    if sys.stdin.isatty() and not how["as_json"]:
        if not name and what not in ALONE:
            name = click.prompt(f"Name of the {'row' if what == 'outputs' else what}", err=True)
        _ask(site, what, found)
    _do(ctx, site, {"do": "add", "what": what, "name": name, "keys": found}, **how)


@main.command(context_settings={"ignore_unknown_options": True})
@a_what
@a_name
@the_keys
@_how
@click.pass_context
def change(ctx: click.Context, /, what: str, name: str, keys: tuple[str, ...], **how: Any) -> None:
    """Change keys of a thing of the site, while it works; KEY= takes a key away.

    \b
    cairnwind change output gallery pin=shelf:J2-15 label=
    cairnwind change site latitude=52.95 longitude=0.85
    """
    name, found = _told(what, name, keys)
    _do(ctx, site_of(ctx), {"do": "change", "what": what, "name": name, "keys": found}, **how)


@main.command()
@a_what
@click.argument("name", shell_complete=_names)
@click.argument("to")
@_how
@click.pass_context
def rename(ctx: click.Context, /, what: str, name: str, to: str, **how: Any) -> None:
    """Have a thing called otherwise, wherever the site speaks of it."""
    _do(ctx, site_of(ctx), {"do": "rename", "what": what, "name": name, "to": to}, **how)


@main.command()
@a_what
@a_name
@_how
@click.pass_context
def remove(ctx: click.Context, /, what: str, name: str, **how: Any) -> None:
    """Take a thing out of the site. To have it back: cairnwind back."""
    _do(ctx, site_of(ctx), {"do": "remove", "what": what, "name": name}, **how)


def _told(what: str, name: str, keys: Sequence[str]) -> tuple[str, dict[str, Any]]:
    """The name, and the keys with their values, in whichever of both ways they were typed: KEY=VALUE or --KEY VALUE."""
    found: dict[str, Any] = {}
    words = [each for each in (name, *keys) if each]
    called = ""
    while words:
        word = words.pop(0)
        key, equals, value = word.removeprefix("--").partition("=")
        if word.startswith("--") and not equals:
            if not words:
                raise click.UsageError(f"Option '{word}' requires an argument.")
            value = words.pop(0)
        elif not equals:
            if called or what in ALONE:
                raise click.UsageError(
                    f"'{word}' is no KEY=VALUE: write, for instance, label=\"Porch lamp\"."
                )
            called = word
            continue
        found[key.strip().replace("-", "_")] = _value(value)
    return called, found


def _value(text: str) -> Any:
    """A value as it was typed: numbers, truths, lists and tables as TOML has them, all else a text; nothing is null."""
    if not text.strip():
        return None
    try:
        value = tomllib.loads(f"value = {text}")["value"]
    except tomllib.TOMLDecodeError:
        return text
    return value if isinstance(value, bool | int | float | str | list | dict) else text


def _ask(site: Site, what: str, found: dict[str, Any]) -> None:
    """Ask for what is needed, first what kind of thing it is, since the rest hangs on that."""
    asked: set[str] = set()
    while True:
        kind = str(found.get("link" if what == "board" else "kind", ""))
        keys = site.offers(what, kind=kind)["keys"]
        missing = [
            each
            for each in keys
            if each["needed"] and each["name"] not in found and each["name"] not in asked
        ]
        if not missing:
            return
        first = next((each for each in missing if each["name"] in ("kind", "link")), missing[0])
        asked.add(first["name"])
        value = _prompted(first)
        if value is not None:
            found[first["name"]] = value


def _prompted(offer: forms.Offer) -> Any:
    says, choices = offer["says"].replace("`", ""), offer["choices"]
    if choices:
        many = len(choices) > 12
        click.echo(f"{offer['name']}: {says}", err=True)
        click.echo(click.wrap_text(", ".join(choices), 76, "  ", "  "), err=True)
        kind = None if many else click.Choice(choices)
        while True:
            value = click.prompt(f"  {offer['name']}", type=kind, show_choices=False, err=True)
            if value in choices or value.startswith("["):
                return _value(value)
            click.echo(f"  '{value}' is none of these.", err=True)
    return _value(click.prompt(f"{offer['name']} ({says})", err=True))


def _do(
    ctx: click.Context, site: Site, change: dict[str, Any], reason: str, into_draft: bool, dry: bool, as_json: bool
) -> None:  # fmt: skip
    """One change: shown, put into the draft, or applied."""
    change = {key: value for key, value in change.items() if value not in ("", {})}
    if dry:
        _preview(ctx, site.would_edit(change), as_json)
    elif into_draft:
        said(ctx, site.into_draft(change), as_json)
    else:
        said(ctx, site.edit(change, reason=reason), as_json)


def said(ctx: click.Context, outcome: Outcome, as_json: bool) -> None:
    """Show what became of a change: what is done, and below it what that changes."""
    from cairnwind.cli import show

    if as_json:
        show.emit(outcome.form)
        return
    head, _, parts = outcome.reason.partition("; ")
    click.echo(head[:1].upper() + head[1:])
    for part in parts.split("; ") if parts else ():
        click.echo(f"  {part}")


def _preview(ctx: click.Context, found: forms.SitePreview, as_json: bool) -> None:
    """What changes would come to; an exit code of its own where they cannot be applied."""
    from cairnwind.cli import show

    if as_json:
        show.emit(found)
    else:
        _diff(found["lines"])
        for each in found["words"]:
            click.echo(f"  {each}")
        _found("error", "red", found["errors"])
        _found("new warning", "yellow", found["new"])
        if found["old"]:
            click.echo(f"(and {len(found['old'])} warnings as before: cairnwind check)", err=True)
    if not found["good"]:
        ctx.exit(exits.code("site-file"))


def _found(title: str, colour: str, findings: Sequence[forms.Finding]) -> None:
    for each in findings:
        click.echo(f"{click.style(title, fg=colour)}: line {each['line']}: {each['what']}", err=True)
        click.echo(f"       {each['remedy']}", err=True)


def _diff(lines: str) -> None:
    """A difference, in colour on a terminal."""
    colours = {"+": "green", "-": "red", "@": "cyan"}
    for line in lines.split("\n") if lines else ():
        if not line.startswith(("+++", "---")):
            click.echo(click.style(line, fg=colours.get(line[:1])))


# --- drafts ------------------------------------------------------------------------------------------------------


@main.group(invoke_without_command=True)
@as_json
@click.pass_context
def draft(ctx: click.Context, as_json: bool) -> None:
    """Your draft: changes of the site that are not applied yet.

    Put changes into it with --draft: cairnwind add output porch kind=lamp pin=shelf:J2-10 --draft.
    """
    if ctx.invoked_subcommand is None:
        _show(ctx, as_json, lines=False)


def _show(ctx: click.Context, as_json: bool, *, lines: bool) -> None:
    from cairnwind.cli import show

    found = site_of(ctx).draft()
    if as_json:
        show.emit(found)
        return
    if not found["changes"]:
        click.echo(
            "The draft is empty. Put a change into it: cairnwind change output NAME KEY=VALUE --draft."
        )
    for number, each in enumerate(found["words"], 1):
        click.echo(f"{number:3}  {each}")
    if found["since"]:
        click.echo(
            click.style(
                f"\nSince it was begun the site file has changed; it is edition {found['edition']} now:",
                fg="yellow",
            )
        )
        _diff(found["since"])
        click.echo(f"To apply the draft to that: cairnwind draft apply --edition {found['edition']}")
    if found["trouble"]:
        click.echo(
            f"{click.style('error', fg='red')}: it can no longer be made: {found['trouble']}", err=True
        )
    if found["preview"] is not None:
        click.echo()
        _preview(ctx, found["preview"] if lines else {**found["preview"], "lines": ""}, False)
    if found["others"]:
        click.echo(f"Others have drafts too: {', '.join(found['others'])}.")


@draft.command("show")
@as_json
@click.pass_context
def draft_show(ctx: click.Context, as_json: bool) -> None:
    """Its changes, the lines of the file, and what they come to."""
    _show(ctx, as_json, lines=True)


@draft.command("check")
@as_json
@click.pass_context
def draft_check(ctx: click.Context, as_json: bool) -> None:
    """What the check finds because of it, apart from what it finds anyway."""
    from cairnwind.cli import show

    found = site_of(ctx).draft()
    preview = found["preview"]
    if preview is None:
        raise CallerError(
            "bad-value", f"There is nothing to check: {found['trouble'] or 'the draft is empty'}.", "See: cairnwind draft."
        )  # fmt: skip
    if as_json:
        show.emit({key: preview[key] for key in ("good", "errors", "new", "old")})
        if not preview["good"]:
            ctx.exit(exits.code("site-file"))
        return
    _preview(ctx, {**preview, "lines": "", "words": []}, False)
    if not preview["new"]:
        click.echo("Good: nothing is found because of it.")


@draft.command("rehearse")
@click.option(
    "--from", "begins", metavar="DATE", help="From when; today if not given, a week ago with --past."
)
@click.option("--to", "ends", metavar="DATE", help="Until when; a week later if not given.")
@click.option("--past", is_flag=True, help="The last week, with what the journal has of it.")
@as_json
@click.pass_context
def draft_rehearse(
    ctx: click.Context, begins: str | None, ends: str | None, past: bool, as_json: bool
) -> None:
    """What would be different under it: in the week to come, or in the last one."""
    import time
    from datetime import datetime, timedelta
    from zoneinfo import ZoneInfo

    from cairnwind.cli import show
    from cairnwind.core.values import spokentimes

    site = site_of(ctx)
    zone = ZoneInfo(site.facts()["timezone"])
    now, lean = time.time_ns(), spokentimes.PAST if past else spokentimes.COMING
    today = datetime.now(zone).replace(hour=0, minute=0, second=0, microsecond=0)
    first = (
        datetime.fromtimestamp(spokentimes.wall(begins, zone, now, lean) / 1e9, zone)
        if begins
        else today - timedelta(days=7 if past else 0)
    )
    last = (
        datetime.fromtimestamp(spokentimes.wall(ends, zone, now, lean) / 1e9, zone)
        if ends
        else first + timedelta(days=7)
    )
    found = site.rehearse_draft(first.isoformat(), last.isoformat())["differences"]
    if as_json:
        show.emit(found)
        return
    for each in found:
        one = each["was"] or each["would_be"]
        assert one is not None
        when = f"{datetime.fromisoformat(str(one['start'])).astimezone(zone):%a %d %b %H:%M}"
        was = each["was"]["words"] if each["was"] else "as it rests"
        then = each["would_be"]["words"] if each["would_be"] else "as it rests"
        why = (each["would_be"] or one)["why"]
        click.echo(f"{when}  {one['output']}: {was}, then {then}{f' ({why})' if why else ''}")
    if not found:
        click.echo("Nothing would be different in that time.")


@draft.command("apply")
@click.option("--reason", default="", metavar="TEXT", help="Why, for the list of editions.")
@click.option("--edition", type=int, default=0, help="The edition that it was looked at with.")
@as_json
@click.pass_context
def draft_apply(ctx: click.Context, reason: str, edition: int, as_json: bool) -> None:
    """Apply it: all of it or nothing."""
    said(ctx, site_of(ctx).command("apply_draft", reason=reason, edition=edition), as_json)


@draft.command("take")
@click.argument("number", type=int)
@as_json
@click.pass_context
def draft_take(ctx: click.Context, number: int, as_json: bool) -> None:
    """Take the change of this NUMBER out of it."""
    said(ctx, site_of(ctx).command("take_from_draft", number=number), as_json)


@draft.command("drop")
@as_json
@click.pass_context
def draft_drop(ctx: click.Context, as_json: bool) -> None:
    """Forget it."""
    said(ctx, site_of(ctx).command("drop_draft"), as_json)


# --- editions ----------------------------------------------------------------------------------------------------


@main.command()
@click.argument("number", type=int, required=False)
@click.option("--against", type=int, help="Hold it against this one; the one before unless said.")
@click.option("--text", is_flag=True, help="Print the whole file.")
@as_json
@click.pass_context
def editions(ctx: click.Context, number: int | None, against: int | None, text: bool, as_json: bool) -> None:
    """Every state of the site file that was applied; of one, by its NUMBER, what changed with it."""
    from datetime import datetime
    from zoneinfo import ZoneInfo

    from cairnwind.cli import show

    site = site_of(ctx)
    if number is not None:
        found = site.edition(number, against=against)
        if as_json:
            show.emit(found)
        elif text:
            click.echo(found["text"], nl=False)
        else:
            _diff(found["difference"])
        return
    rows = site.editions()
    if as_json:
        show.emit(rows)
        return
    zone = ZoneInfo(site.facts()["timezone"])
    how = {"start": "as it was found at a start", "reload": "by hand", "edit": "", "draft": "", "back": ""}
    for each in rows:
        at = f"{datetime.fromisoformat(each['at']).astimezone(zone):%Y-%m-%d %H:%M}"
        what = each["reason"] if each["how"] not in ("start", "reload") else how[each["how"]]
        mark = click.style(f"{each['number']:4}", bold=each["served"])
        click.echo(
            f"{mark}  {at}  {each['author'] or '-':14}  {what}{'  (served)' if each['served'] else ''}"
        )


@main.command()
@click.argument("edition", type=int)
@click.option("--reason", default="", metavar="TEXT", help="Why, for the list of editions.")
@click.option("--dry", is_flag=True, help="Only show what would be different in the file.")
@as_json
@click.pass_context
def back(ctx: click.Context, edition: int, reason: str, dry: bool, as_json: bool) -> None:
    """Have the site again as it was at an EDITION: a change like any other."""
    from cairnwind.cli import show

    site = site_of(ctx)
    if not dry:
        said(ctx, site.command("go_back", edition=edition, reason=reason), as_json)
        return
    served = next(each["number"] for each in site.editions() if each["served"])
    found = site.edition(edition, against=served)
    if as_json:
        show.emit({"difference": found["difference"]})
    else:
        _diff(found["difference"])
