"""Commands for the ways in and out; and the voice assistant of the demo."""

from __future__ import annotations

import csv
import sys
import threading
from typing import TYPE_CHECKING

import click
from rich.table import Table

from cairnwind.cli.main import as_json, main, site_of

if TYPE_CHECKING:
    from cairnwind.client import Site
    from cairnwind.service.serve import Service


@main.command()
@as_json
@click.pass_context
def remotes(ctx: click.Context, as_json: bool) -> None:
    """The ways in and out that the site file asks for, and how they fare. Their wire: cairnwind watch --link NAME."""
    from cairnwind.cli import show

    found = site_of(ctx).remotes()
    if as_json:
        show.emit(found)
        return
    table = Table(box=None, padding=(0, 2, 0, 0))
    for column in ("remote", "kind", "", "key", "where", "there now"):
        table.add_column(column, header_style="dim")
    for each in found:
        state = "[green]up[/]" if each["up"] else "[yellow]away[/]"
        facts = each["facts"]
        where = (
            facts.get("listen")
            or facts.get("address")
            or facts.get("port")
            or facts.get("server")
            or facts.get("device")
            or facts.get("name", "")
        )
        table.add_row(
            each["name"],
            each["kind"],
            state,
            each["key"],
            str(where),
            ", ".join(each["peers"]),
        )
    show.console().print(table)
    for each in found:
        if each["trouble"]:
            click.echo(f"{each['name']}: {each['trouble']}")
    if all(each["kind"] == "HTTP" for each in found):
        click.echo("No other: the site file has no [remote.…] table. See docs/remotes.md.")


def show_map(site: Site, remote: str, name: str | None, *, as_csv: bool, as_json: bool) -> None:
    """What the addresses of a remote stand for, of one thing or of all."""
    from cairnwind.cli import show

    rows = [row for row in site.remote_map(remote) if name is None or row["name"] == name]
    if as_json:
        show.emit(rows)
        return
    if as_csv:
        writer = csv.writer(sys.stdout)
        writer.writerow(("address", "name", "what"))
        writer.writerows((row["address"], row["name"], row["what"]) for row in rows)
        return
    table = Table(box=None, padding=(0, 2, 0, 0))
    for column in ("address", "name", "what"):
        table.add_column(column, header_style="dim")
    legends: dict[str, str] = {}
    for row in rows:
        what, _, legend = row["what"].partition(": ")
        if legend:
            legends[what] = legend
        table.add_row(row["address"], row["name"], what)
    show.console().print(table)
    for what, legend in legends.items():
        click.echo(f"{click.style(f'{what}:', dim=True)} {legend}")


def listen_to_voice(service: Service) -> None:
    """Read what would be said from the terminal, in a thread; say back what the assistant says."""
    from cairnwind.demo.voice import Voice
    from cairnwind.remotes.discovery import label

    if service.keys.named("voice assistant") is not None:
        service.keys.revoke("voice assistant")
    text = service.keys.new("voice assistant", "operate", {})

    def listen() -> None:
        voice = Voice(text)
        click.echo("  voice     looking for the house …")
        name = label(service.site.name)
        if not voice.find(name, port=service.port):
            click.echo(
                "  voice     found nothing by discovery: this host does not pass multicast on. It asks the address instead."
            )
            voice.address = service.url
        said = voice.read()
        click.echo(
            f"  voice     found {voice.thing['title']} at {voice.address}, with {len(said)} things to ask for."
        )
        click.echo(
            "            Type what you would say: all lamps off, is the kiln door open, make the gallery half as bright …\n"
        )
        sys.stdout.flush()
        for line in sys.stdin:
            click.echo(f"  {click.style('voice', bold=True)}: {voice.hear(line)}")
            sys.stdout.flush()

    threading.Thread(target=listen, name="voice", daemon=True).start()
