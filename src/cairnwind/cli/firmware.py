"""``cairnwind firmware``: the image for small boards on a serial line."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path

import click

from cairnwind.cli.main import as_json, main

PORT = click.option("--port", required=True, help="Serial port: a path, or usb:SERIAL.")
BAUD = click.option("--baud", type=int, default=115_200, show_default=True)
UNIT = click.option(
    "--unit", type=click.IntRange(1, 247), default=1, show_default=True, help="Number on the line."
)


@main.group()
def firmware() -> None:
    """The firmware for small boards on a serial line: build it, load it, ask a board which it has."""


@firmware.command()
@click.argument("image", required=False, type=click.Path(dir_okay=False))
@as_json
def show(image: str | None, as_json: bool) -> None:
    """What IMAGE is, or the one that is shipped."""
    from cairnwind.boards import firmware as ours
    from cairnwind.cli import show as answers

    found = ours.read(Path(image) if image else ours.SHIPPED)
    if as_json:
        answers.emit({**asdict(found), "path": str(found.path)})
    else:
        click.echo(
            f"{found.path}: version {found.version[0]}.{found.version[1]} for {found.chip}, {found.baud} baud, {found.size} bytes"
        )


@firmware.command()
@click.option("--out", default="firmware-image", show_default=True, help="Folder for the image.")
@BAUD
@UNIT
def build(out: str, baud: int, unit: int) -> None:
    """Build an image, for a line of another speed or a board of another number."""
    from cairnwind.boards import firmware as ours

    found = ours.build(Path(out), baud, unit)
    click.echo(
        f"{found.path}: version {found.version[0]}.{found.version[1]} for {found.chip}, {found.baud} baud, {found.size} bytes"
    )


@firmware.command()
@PORT
@click.option("--programmer", required=True, help="Kind of programmer, as the flashing tool calls it.")
@click.option("--speed", type=int, help="Baud of the programmer, where it is not its own default.")
@click.option("--image", type=click.Path(dir_okay=False), help="Another image than the one that is shipped.")
@click.option("--board-port", help="Where the board is spoken to afterwards, if that is another port.")
@UNIT
def load(
    port: str, programmer: str, speed: int | None, image: str | None, board_port: str | None, unit: int
) -> None:
    """Load an image onto a board, then ask the board who it is."""
    from cairnwind.boards import firmware as ours

    found = ours.read(Path(image) if image else ours.SHIPPED)
    ours.load(found, port, programmer, speed, lambda line: click.echo(click.style(line, dim=True)))
    click.echo(f"Loaded. {board_port or port} answers: {ours.ask(board_port or port, found.baud, unit)}")


@firmware.command()
@PORT
@BAUD
@UNIT
def ask(port: str, baud: int, unit: int) -> None:
    """Ask the board on a port who it is."""
    from cairnwind.boards import firmware as ours

    click.echo(f"{port}: {ours.ask(port, baud, unit)}")
