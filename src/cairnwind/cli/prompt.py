"""Phrases at the command line: ``cairnwind do PHRASE``, and a prompt with history and completion without one."""

from __future__ import annotations

import shlex
import sys
from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

import click

from cairnwind.cli.main import as_json, complain, main, phrases_of, site_of
from cairnwind.core.values.errors import BoardError, CallerError, Trouble
from cairnwind.core.values.visible import visible

if TYPE_CHECKING:
    from prompt_toolkit.completion import Completion

    from cairnwind.client import Site

COMMANDS = ("why", "look", "pins", "try", "timers", "plan", "journal")
"""Commands that the prompt also takes; everything else is a phrase."""
LEAVE = ("bye", "exit", "quit")
FOLLOWS = ["turn", "fade", "toggle", "blink", "breathe", "flicker", "play", "pulse", "run", "release", "wait", "after", "every", "at", "then", "and", "except", "on", "off", "to", "over", "for", "until", "times", "all", "lamps", "everything", "in", "from", "scene", "half", "sunrise", "sunset"]  # fmt: skip


@main.command(name="do", context_settings={"ignore_unknown_options": True})
@click.argument("phrase", nargs=-1, shell_complete=phrases_of)
@click.option("--dry", is_flag=True, help="Say what would be done, and do nothing.")
@as_json
@click.pass_context
def do(ctx: click.Context, phrase: tuple[str, ...], dry: bool, as_json: bool) -> None:
    """Do what a PHRASE says: 'turn gallery to 40 % over 3 s for 10 min'. Without one: a prompt.

    The language is in docs/phrases.md. Everything can be said in several ways; the answer shows how it was
    understood. Where a phrase may mean two things it is not done, and both are named.
    """
    site = site_of(ctx)
    if phrase:
        _say(site, " ".join(phrase), dry=dry, as_json=as_json)
        return
    site.facts()  # fails here, in words, if there is no service
    for line in _lines(ctx, site):
        words = line.split()
        try:
            if not words:
                continue
            if words[0] in LEAVE:
                return
            if words[0] in COMMANDS:
                _run(ctx, shlex.split(line))
            else:
                _say(site, line, dry=dry, as_json=as_json)
        except ValueError:
            complain(CallerError("bad-value", "A quotation mark is not closed.", "Close it, and try again."))
        except Trouble as error:
            complain(error)
        except click.UsageError as error:
            click.echo(f"{click.style('error', fg='red')}: {error.format_message()}", err=True)
        except (click.exceptions.Exit, SystemExit):
            pass
        except KeyboardInterrupt:
            click.echo()


def _say(site: Site, phrase: str, *, dry: bool, as_json: bool) -> None:
    from cairnwind.cli import show

    try:
        form = site.rehearse_phrase(phrase) if dry else site.do(phrase)
    except Trouble as error:
        _point(phrase, error)
        raise
    if as_json:
        show.emit(form)
    elif dry:
        _dry(form, ZoneInfo(site.facts()["timezone"]))
    else:
        _done(form)


def _point(phrase: str, error: Trouble) -> None:
    """The phrase with a caret below the word that is not understood."""
    at, end = error.more.get("at"), error.more.get("end")
    if isinstance(at, int) and isinstance(end, int):
        before, wrong = visible(phrase[:at]), visible(phrase[at:end])
        click.echo(
            f"  {visible(phrase)}\n  {' ' * len(before)}{click.style('^' * len(wrong), fg='red')}", err=True
        )


def _done(form: Mapping[str, Any]) -> None:
    became = form.get("ending")
    word = became["ending"] if became else form["outcome"]
    why = became["text"] if became else form["reason"]
    click.echo(f"{click.style(form['phrase'], bold=True)} ({word}{': ' + why if why else ''})")
    parts = form.get("parts", [])
    odd = [part for part in parts if part["outcome"] != "driving"] if len(parts) > 1 else []
    for part in odd:
        click.echo(f"  {part['output']}: {part['outcome']}{': ' + part['reason'] if part['reason'] else ''}")
    if form["outcome"] in ("blocked", "unreachable"):
        raise BoardError(
            "unreachable" if form["outcome"] == "unreachable" else "refused",
            f"{form['reason']}.",
            form["remedy"],
        )


def _dry(form: Mapping[str, Any], zone: ZoneInfo) -> None:
    """What would be done, as a table."""
    from rich.table import Table
    from rich.text import Text

    from cairnwind.cli import show

    out = show.console()
    out.print(Text.assemble("understood as  ", (form["phrase"], "bold")))
    if form["every_seconds"]:
        out.print(f"at once, and again every {form['every_seconds']:g} s")
    elif form["begins"]:
        out.print(f"begins at {show.time_of(form['begins'], zone)}")
    table = Table(box=None, padding=(0, 2, 0, 0), show_header=True, header_style="dim")
    for name in ("after", "output", "now", "would be", "lasting"):
        table.add_column(name)
    for step in form["steps"]:
        after = f"{step['after_seconds']:g} s" if step["after_seconds"] else ""
        if step["stop"]:
            table.add_row(after, "everything", "", "safe: the all-stop", "until a keeper resets it")
        for order in step["orders"]:
            would = {"toggle": "toggled", "release": "released"}.get(order["act"]) or (
                order["setting"] or {}
            ).get("words", "")
            table.add_row(
                after,
                order["label"],
                order["now"],
                would,
                order["lasting"] or ("until the plan changes it" if order["act"] == "claim" else ""),
            )
            after = ""
    out.print(table)
    out.print(Text("Nothing was done.", style="dim"))


def _run(ctx: click.Context, words: list[str]) -> None:
    command = main.get_command(ctx, words[0])
    assert command is not None
    with command.make_context(words[0], words[1:], parent=ctx.find_root()) as inner:
        command.invoke(inner)


def _lines(ctx: click.Context, site: Site) -> Iterable[str]:
    if not sys.stdin.isatty():
        for line in sys.stdin:
            yield line.strip()
        return
    from prompt_toolkit import PromptSession
    from prompt_toolkit.history import FileHistory

    from cairnwind.folder import running

    state = (ctx.find_root().params.get("state")) or None
    session: Any = PromptSession(
        history=FileHistory(str(running(state).path / "prompt-history")), completer=_completer(site)
    )
    click.echo(
        click.style(
            f"A phrase, or {', '.join(COMMANDS)}; Tab completes, the arrow keys bring back, Ctrl-D leaves.",
            dim=True,
        )
    )
    while True:
        try:
            yield session.prompt("cairnwind> ")
        except KeyboardInterrupt:
            continue
        except EOFError:
            return


def _completer(site: Site) -> Any:
    from prompt_toolkit.completion import Completer
    from prompt_toolkit.completion import Completion as Made

    try:
        names = (
            [each["name"] for each in site.outputs()]
            + [each["name"] for each in site.scenes()]
            + [each["name"] for each in site.tunes()]
        )
    except Trouble:
        names = []

    class Names(Completer):
        """Verbs and commands first, then names of the running site and what may follow."""

        def get_completions(self, document: Any, event: Any) -> Iterable[Completion]:
            before = document.text_before_cursor
            begin = before.split(" ")[-1]
            options = (
                [*FOLLOWS[:14], *COMMANDS]
                if " " not in before.strip() and not before.endswith(" ")
                else [*names, *FOLLOWS]
            )
            for option in dict.fromkeys(options):
                if option.startswith(begin.lower()):
                    yield Made(option, -len(begin))

    return Names()
