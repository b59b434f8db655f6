"""Commands for keys: who may, with what, until when; and signing in."""

from __future__ import annotations

import os
import signal
import time
from collections.abc import Mapping
from typing import Any
from zoneinfo import ZoneInfo

import click
from rich.table import Table

from cairnwind.cli.main import as_json, main, names_of, site_of
from cairnwind.core.values.errors import CallerError

ROLES = ("watch", "operate", "keep")


@main.group()
def key() -> None:
    """Keys, sessions, and signing in to the console."""


def _limits(command: Any) -> Any:
    for option in (
        click.option("--until", metavar="DATE", help="The key ends with that day, 2026-12-31, or at a time."),
        click.option("--days", metavar="DAYS", help="Good on these days only: mo,tu,we."),
        click.option("--to", metavar="HH:MM", help="Good up to then only."),
        click.option("--from", "from_", metavar="HH:MM", help="Good from then on only."),
        click.option(
            "--only",
            metavar="NAMES",
            help="May command these only, outputs, groups or kinds: gallery,showroom,lamps.",
        ),
        click.option("--role", type=click.Choice(ROLES), default="operate", show_default=True),
        click.option("--for", "name", required=True, metavar="NAME", help="Whose it is: 'hall tablet'."),
    ):
        command = option(command)
    return command


def _asked(only: str | None, days: str | None, **more: str | None) -> dict[str, Any]:
    found: dict[str, Any] = {name: value for name, value in more.items() if value}
    for name, value in (("only", only), ("days", days)):
        if value:
            found[name] = [each.strip() for each in value.split(",") if each.strip()]
    return found


@key.command()
@_limits
@as_json
@click.pass_context
def new(ctx: click.Context, /, name: str, role: str, as_json: bool, **limits: Any) -> None:
    """Make a key. Its text is shown once, and kept nowhere."""
    from cairnwind.cli import show

    text = site_of(ctx).new_key(name, role, **_asked(**limits))
    if as_json:
        show.emit({"name": name, "role": role, "key": text})
        return
    click.echo(f"{click.style(text, bold=True)}")
    click.echo(
        click.style(
            f"The key of '{name}' ({role}). It is shown this once; who has lost it gets another.", dim=True
        ),
        err=True,
    )


@key.command()
@_limits
@as_json
@click.pass_context
def pair(ctx: click.Context, /, name: str, role: str, as_json: bool, **limits: Any) -> None:
    """Make a link, also as a QR code, that signs one phone or browser in with a key of its own, within 5 minutes."""
    from cairnwind.cli import show

    found = site_of(ctx).pair(name, role, **_asked(**limits))
    if as_json:
        show.emit(found)
        return
    click.echo(qr(found["rows"]))
    click.echo(f"{found['link']}\n")
    click.echo(f"Opened once, within 5 minutes, it signs in '{name}' ({role}).")
    if "127.0.0.1" in found["link"] or "localhost" in found["link"]:
        click.echo("This service listens on this host only; for a phone say where: [service] listen, tls.")


def qr(rows: list[str]) -> str:
    """A QR code for a terminal: two rows of it in one of text, dark on light whatever the terminal's colours are."""
    quiet = 2
    width = len(rows[0]) + 2 * quiet
    padded = (
        ["0" * width] * quiet + [f"{'0' * quiet}{row}{'0' * quiet}" for row in rows] + ["0" * width] * quiet
    )
    if len(padded) % 2:
        padded.append("0" * width)
    marks = {"00": "█", "01": "▀", "10": "▄", "11": " "}
    lines = [
        "".join(marks[up + down] for up, down in zip(padded[at], padded[at + 1], strict=True))
        for at in range(0, len(padded), 2)
    ]
    return "\n".join(click.style(line, fg="bright_white", bg="black") for line in lines)


@key.command("list")
@as_json
@click.pass_context
def list_keys(ctx: click.Context, as_json: bool) -> None:
    """Every key: what it may, and when it was used last. Never its text."""
    from cairnwind.cli import show

    site = site_of(ctx)
    found = site.keys()
    if as_json:
        show.emit(found)
        return
    zone = ZoneInfo(site.facts()["timezone"])
    table = Table(box=None, padding=(0, 2, 0, 0))
    for column in ("key", "role", "may command", "good", "last used", "from"):
        table.add_column(column, header_style="dim")
    for each in found:
        table.add_row(
            each["name"], each["role"], ", ".join(each["only"]) or ("everything" if each["role"] != "watch" else "nothing"), _good(each),
            show.time_of(each["used"], zone) if each["used"] else "never", each["used_from"] or "",
        )  # fmt: skip
    show.console().print(table)


def _good(key: Mapping[str, Any]) -> str:
    hours = f"{key['from'] or '00:00'} to {key['to'] or '24:00'}" if key["from"] or key["to"] else ""
    until = f"until {key['until'][:16].replace('T', ' ')}" if key["until"] else ""
    return " ".join(filter(None, (" ".join(key["days"]), hours, until))) or "always"


@key.command()
@click.argument("name", shell_complete=names_of("key"))
@as_json
@click.pass_context
def revoke(ctx: click.Context, name: str, as_json: bool) -> None:
    """End the key of NAME at once, with the browsers that are signed in by it and the streams that are open."""
    from cairnwind.cli import show

    site_of(ctx).revoke(name)
    show.emit({"revoked": name}) if as_json else click.echo(
        f"The key of '{name}' has ended, with its sessions and streams."
    )


@key.command()
@click.option("--end", metavar="ID", help="Sign this one out.")
@as_json
@click.pass_context
def sessions(ctx: click.Context, end: str | None, as_json: bool) -> None:
    """Browsers that are signed in; --end signs one out."""
    from cairnwind.cli import show

    site = site_of(ctx)
    if end:
        site.end_session(end)
        show.emit({"ended": end}) if as_json else click.echo(f"Session {end} has ended.")
        return
    found = site.sessions()
    if as_json:
        show.emit(found)
        return
    if not found:
        click.echo(
            "No browser is signed in. To sign one in: cairnwind key link, or for a phone: cairnwind key pair --for NAME."
        )
        return
    zone = ZoneInfo(site.facts()["timezone"])
    table = Table(box=None, padding=(0, 2, 0, 0))
    for column in ("id", "key", "device", "since", "last used"):
        table.add_column(column, header_style="dim")
    for each in found:
        table.add_row(
            each["id"],
            each["key"],
            each["device"],
            show.time_of(each["made"], zone),
            show.time_of(each["used"], zone),
        )
    show.console().print(table)


@key.command()
@as_json
@click.pass_context
def link(ctx: click.Context, as_json: bool) -> None:
    """A link that signs a browser in to the console, once, within 15 minutes."""
    from cairnwind.cli import show

    found = site_of(ctx).sign_in_link()
    show.emit({"link": found}) if as_json else click.echo(found)


@key.command()
@as_json
@click.pass_context
def recover(ctx: click.Context, as_json: bool) -> None:
    """On the service's own host: give the first key a new text, for whoever has lost the last key that keeps."""
    from cairnwind.cli import show
    from cairnwind.folder import running

    if (ctx.obj or {}).get("address"):
        raise CallerError(
            "bad-value", "This works on the service's own host only.", "Run it there, as the service's user."
        )
    folder = running((ctx.obj or {}).get("state"))
    found = folder.address()
    try:
        (folder.path / "key").unlink(missing_ok=True)
        if found is not None:
            os.kill(found["pid"], signal.SIGHUP)
    except OSError as error:
        raise CallerError(
            "permission",
            f"The key in {folder.path} cannot be renewed: {error.strerror}.",
            "Run it as the service's user.",
        ) from None
    end = time.monotonic() + 10
    while found is not None and folder.key() is None and time.monotonic() < end:
        time.sleep(0.05)
    done = folder.key() is not None
    said = (
        f"The first key has a new text, in {folder.path / 'key'}."
        if done
        else f"The first key gets a new text when the service starts on {folder.path}."
    )
    show.emit({"renewed": done, "file": str(folder.path / "key")}) if as_json else click.echo(said)
