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
    from cairnwind.forms import SiteUsed, SiteUsing
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


@main.command()
@click.option("--look", is_flag=True, help="Ask the broker who has left word there, too.")
@as_json
@click.pass_context
def sites(ctx: click.Context, look: bool, as_json: bool) -> None:
    """Other sites at the broker: whose outputs and inputs are used here, and who uses ours."""
    from cairnwind.cli import show

    found = site_of(ctx).sites(look=look)
    if as_json:
        show.emit(found)
        return
    if not found["broker"]:
        click.echo("This site has no message broker, at which sites meet: see docs/sites.md.")
        return
    state = "up" if found["up"] else f"away: {found['trouble']}"
    click.echo(f"{found['own']}, at the broker {found['broker']} ({state})")
    for each in found["used"]:
        _used_here(each)
    for one in found["using"]:
        _uses_ours(one)
    if not found["used"] and not found["using"]:
        click.echo("It uses nothing of another site, and none uses anything of it: see docs/sites.md.")
    if found["there"] is not None:
        click.echo(
            "\nThere now: "
            + (", ".join(each["topic"] for each in found["there"] if each["here"]) or "nobody")
        )
        if gone := [each["topic"] for each in found["there"] if not each["here"]]:
            click.echo(f"Gone: {', '.join(gone)}")


def _used_here(used: SiteUsed) -> None:
    """A site of which something is used here."""
    from cairnwind.cli import show

    delay = f", answers in {used['delay']:g} ms" if used["delay"] is not None else ""
    state = f"up{delay}" if used["up"] else f"away: {used['reason']}"
    click.echo(f"\nuses of {click.style(used['site'], bold=True)} (board {used['board']}, {state}):")
    table = Table(box=None, padding=(0, 2, 0, 2), show_header=False)
    for each in used["takes"]:
        here = each["here"] or "[dim]not wired here[/]"
        table.add_row(each["name"], here, each["shows"], each["trouble"])
    show.console().print(table)


def _uses_ours(using: SiteUsing) -> None:
    """A site that uses something of this one."""
    from cairnwind.cli import show

    state = "up" if using["up"] else f"away: {using['trouble']}"
    name = click.style(using["site"], bold=True)
    click.echo(
        f"\n{name} uses ours (remote {using['remote']}, key {using['key']}, as {using['rank']}, {state}):"
    )
    if not using["takes"]:
        return
    table = Table(box=None, padding=(0, 2, 0, 2), show_header=False)
    for each in using["takes"]:
        wants = using["wants"].get(each)
        table.add_row(each, f"wants {wants}" if wants else "")
    show.console().print(table)


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
