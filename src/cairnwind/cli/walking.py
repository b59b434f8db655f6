"""``cairnwind walk``: a walk through what is wired to a board, thing by thing, with somebody who looks; and its record as a page."""

from __future__ import annotations

import getpass
import sys
from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

import click

from cairnwind.cli.main import as_json, main, names_of, site_of
from cairnwind.core.values.errors import CallerError, Trouble

if TYPE_CHECKING:
    from cairnwind import forms
    from cairnwind.client import Site

MOVING = ("motor", "heater", "lock")
ANSWERS = "yes, no, swap (it is the other way round), other NAME (that was NAME), again, skip, quit"


class Over(Exception):
    """Whoever walks has had enough."""


@main.command()
@click.argument("board", shell_complete=names_of("board"))
@click.option("--by", metavar="NAME", help="Who looks; you, if not given.")
@click.option("--yes", is_flag=True, help="Do not ask whether anybody is near what moves.")
@as_json
@click.pass_context
def walk(ctx: click.Context, board: str, by: str | None, yes: bool, as_json: bool) -> None:
    """Walk through what is wired to BOARD: each output is switched on, each input waited for, and you say what you see.

    \b
    yes          it is as the site says
    no           it is not
    swap         it is the other way round: its sense is changed, in the draft
    other NAME   that was NAME: the pins of both are exchanged, in the draft
    again, skip, quit

    What was seen is kept: cairnwind records walk. What is to be changed is put into your draft: cairnwind draft.
    """
    from cairnwind.cli import show

    site = site_of(ctx)
    outputs = [each for each in site.outputs() if each["board"] == board]
    inputs = [each for each in site.inputs() if each["board"] == board]
    if not outputs and not inputs:
        if board not in {each["name"] for each in site.boards()}:
            site.board(board)  # says what boards there are
        raise CallerError(
            "bad-value", f"Nothing is wired to board {board}.", f"Try its pins: cairnwind try {board}:…"
        )
    moving = [f"{each['name']} ({each['kind']})" for each in outputs if each["kind"] in MOVING]
    if moving and not yes:
        click.confirm(f"This switches {', '.join(moving)}. Is nobody near?", abort=True)
    whose = by or getpass.getuser()
    count: dict[str, int] = {}
    total = len(outputs) + len(inputs)
    try:
        for number, each in enumerate([*outputs, *inputs], 1):
            name = each["name"]
            click.echo(
                err=as_json,
                message=f"\n{number} of {total}  {click.style(name, bold=True)}  {each['label']}  at {each['pin']} (line {each['line']})",
            )
            saw, text = _output(site, name) if number <= len(outputs) else _input(site, name)
            _draft(site, each, saw, text, output=number <= len(outputs))
            site.command("witness", about=name, by=whose, saw=saw, text=text)
            count[saw] = count.get(saw, 0) + 1
    except Over:
        pass
    click.echo(
        err=as_json,
        message=f"\nThe walk is over: {', '.join(f'{many} {saw}' for saw, many in count.items()) or 'nothing was looked at'}.",
    )
    if as_json:
        show.emit(count)
        return
    if count.keys() & {"swapped", "other"}:
        click.echo("What is to be changed is in your draft: cairnwind draft.")
    click.echo("A page for the cabinet's door: cairnwind records walk > walk.html")


def _answer(question: str) -> tuple[str, str]:
    """A word and what follows it."""
    while True:
        try:
            said = click.prompt(
                f"   {question}", default="", show_default=False, prompt_suffix=" ", err=True
            ).strip()
        except click.Abort:
            raise Over from None
        word, _, rest = said.partition(" ")
        found = next(
            (full for full in ("yes", "no", "swap", "other", "again", "skip", "quit") if word and full.startswith(word.lower())), ""
        )  # fmt: skip
        if not said:
            return "", ""
        if found == "quit":
            raise Over
        if found and (found != "other" or rest.strip()):
            return found, rest.strip()
        click.echo(f"   Answer with {ANSWERS}.", err=True)


def _output(site: Site, name: str) -> tuple[str, str]:
    """Switch an output on for as long as somebody looks; what they saw."""
    while True:
        try:
            with site.hold(name):
                word, rest = _answer("It is on now. Is it? [yes/no/swap/other NAME/again/skip/quit]")
                while not word:
                    word, rest = _answer(f"Answer with {ANSWERS}:")
        except Trouble as error:
            click.echo(f"   {error}", err=True)
            return "skipped", error.sentence[:400]
        if word != "again":
            return _seen(word, rest)


def _input(site: Site, name: str) -> tuple[str, str]:
    """Wait until somebody works an input; what was seen of it."""
    while True:
        before = site.input(name)
        word, rest = _answer("Work it now, hold it, then press Enter. [Enter/no/skip/quit]")
        if word:
            return _seen(word, rest)
        now = site.input(name)
        if now["state"] == before["state"] and now.get("value") == before.get("value"):
            click.echo(f"   Nothing was seen: it is {now['state'] or now.get('value')} as before.", err=True)
            continue
        states = f"{before['state'] or before.get('value')}, then {now['state'] or now.get('value')}"
        word, rest = _answer(f"Seen: {states}. Is that right? [yes/no/swap/other NAME/again/skip/quit]")
        if word not in ("", "again"):
            saw, text = _seen(word, rest)
            return saw, text or states


def _seen(word: str, rest: str) -> tuple[str, str]:
    saw = {"yes": "right", "no": "wrong", "swap": "swapped", "other": "other", "skip": "skipped"}[word]
    return saw, f"that was {rest}" if word == "other" else rest


def _draft(site: Site, thing: Mapping[str, Any], saw: str, text: str, *, output: bool) -> None:
    """What is to be changed because of that, into the draft."""
    what = "output" if output else "input"
    if saw == "swapped":
        keys = site.offers(what, name=thing["name"])["keys"]
        now = next((each["value"] for each in keys if each["name"] == "sense"), None) or "active-high"
        sense = "active-high" if now == "active-low" else "active-low"
        changes = [{"do": "change", "what": what, "name": thing["name"], "keys": {"sense": sense}}]
    elif saw == "other":
        other = text.removeprefix("that was ")
        things = {each["name"]: each for each in (site.outputs() if output else site.inputs())}
        if other in things:
            changes = [
                {"do": "change", "what": what, "name": thing["name"], "keys": {"pin": things[other]["pin"]}},
                {"do": "change", "what": what, "name": other, "keys": {"pin": thing["pin"]}},
            ]
        else:
            changes = [{"do": "rename", "what": what, "name": thing["name"], "to": other}]
    else:
        return
    try:
        site.into_draft(*changes)
    except CallerError as error:
        click.echo(f"   not in the draft: {error}", err=True)


# --- the page ----------------------------------------------------------------------------------------------------

PAGE = """<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><title>{{ site }}: what was seen</title><style>
body { font: 11pt/1.4 sans-serif; margin: 2em auto; max-width: 60em; color: #222 } h1 { font-size: 16pt; margin: 0 }
table { border-collapse: collapse; width: 100%; margin-top: 1em } th, td { border-bottom: 1px solid #bbb; padding: .3em .6em; text-align: left; vertical-align: top }
th { font-weight: 600; border-bottom: 2px solid #444 } .not { font-weight: 600 } p { margin: .3em 0 }
</style></head><body>
<h1>{{ site }}</h1><p>What was seen on walks through what is wired; the last word of each. Printed {{ printed }}.</p>
<table><thead><tr><th>Board and pin</th><th>Output or input</th><th>What was seen</th><th>By</th><th>When</th></tr></thead><tbody>
{% for row in rows %}<tr><td>{{ row.pin }}</td><td>{{ row.name }}{% if row.label and row.label != row.name %}<br>{{ row.label }}{% endif %}</td><td{% if not row.right %} class="not"{% endif %}>{{ row.seen }}</td><td>{{ row.by }}</td><td>{{ row.at }}</td></tr>
{% endfor %}</tbody></table></body></html>"""


def rows_of(site: Site, zone: ZoneInfo) -> list[dict[str, Any]]:
    """The last word of everything that is wired, in the order of boards and lines."""
    from datetime import datetime

    last: dict[str, forms.Row] = {str(row["subject"]): row for row in site.journal_of(kind="walk")}
    found = []
    things: Iterable[Any] = [*site.outputs(), *site.inputs()]
    for each in sorted(things, key=lambda each: (each["board"], each["line"])):
        row = last.get(each["name"])
        said: Mapping[str, Any] = row["data"] if row else {}
        at = f"{datetime.fromisoformat(row['at']).astimezone(zone):%Y-%m-%d %H:%M}" if row else ""
        found.append({
            "name": each["name"], "label": each["label"], "pin": each["pin"], "right": said.get("saw") == "right",
            "seen": SEEN[said["saw"]] + (f" ({said['text']})" if said["text"] else "") if said else "not looked at", "by": said.get("by", ""),
            "at": at,
        })  # fmt: skip
    return found


SEEN = {
    "right": "right",
    "wrong": "not right",
    "swapped": "the other way round",
    "other": "something else",
    "skipped": "skipped",
}


def page(site: Site, zone: ZoneInfo) -> str:
    """All of it as a page."""
    from datetime import datetime

    from jinja2 import Environment

    template = Environment(autoescape=True).from_string(PAGE)
    return template.render(
        site=site.facts()["name"], printed=f"{datetime.now(zone):%Y-%m-%d %H:%M}", rows=rows_of(site, zone)
    )


def print_page(site: Site, as_json: bool) -> None:
    """To standard output."""
    from cairnwind.cli import show

    zone = ZoneInfo(site.facts()["timezone"])
    if as_json:
        show.emit(rows_of(site, zone))
    else:
        sys.stdout.write(page(site, zone) + "\n")
