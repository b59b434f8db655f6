"""``cairnwind firmware``: the image for small boards on a serial line."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import Any

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

    _image(ours.read(Path(image) if image else ours.SHIPPED), as_json)


def _image(found: Any, as_json: bool) -> None:
    from cairnwind.cli import show as answers

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
@as_json
def build(out: str, baud: int, unit: int, as_json: bool) -> None:
    """Build an image, for a line of another speed or a board of another number."""
    from cairnwind.boards import firmware as ours

    _image(ours.build(Path(out), baud, unit), as_json)


@firmware.command()
@PORT
@click.option("--programmer", required=True, help="Kind of programmer, as the flashing tool calls it.")
@click.option("--speed", type=int, help="Baud of the programmer, where it is not its own default.")
@click.option("--image", type=click.Path(dir_okay=False), help="Another image than the one that is shipped.")
@click.option("--board-port", help="Where the board is spoken to afterwards, if that is another port.")
@UNIT
@as_json
def load(
    port: str, programmer: str, speed: int | None, image: str | None, board_port: str | None, unit: int, as_json: bool
) -> None:  # fmt: skip
    """Load an image onto a board, then ask the board who it is."""
    from cairnwind.boards import firmware as ours

    found = ours.read(Path(image) if image else ours.SHIPPED)
    ours.load(
        found, port, programmer, speed, lambda line: click.echo(click.style(line, dim=True), err=as_json)
    )
    _answers(board_port or port, ours.ask(board_port or port, found.baud, unit), as_json, "Loaded. ")


@firmware.command()
@PORT
@BAUD
@UNIT
@as_json
def ask(port: str, baud: int, unit: int, as_json: bool) -> None:
    """Ask the board on a port who it is."""
    from cairnwind.boards import firmware as ours

    _answers(port, ours.ask(port, baud, unit), as_json)


def _answers(port: str, who: str, as_json: bool, before: str = "") -> None:
    from cairnwind.cli import show as answers

    answers.emit({"port": port, "board": who}) if as_json else click.echo(
        f"{before}{port}{' answers' if before else ''}: {who}"
    )
