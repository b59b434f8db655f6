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


CHIP = click.option("--chip", default="atmega1284p", show_default=True, help="The chip that it is for.")


@main.group()
def firmware() -> None:
    """The firmware for small boards on a serial line: build it, load it, ask a board which it has."""


@firmware.command()
@click.argument("image", required=False, type=click.Path(dir_okay=False))
@CHIP
@as_json
def show(image: str | None, chip: str, as_json: bool) -> None:
    """What IMAGE is, or the one that is shipped."""
    from cairnwind.boards import firmware as ours

    _image(ours.read(Path(image) if image else ours.shipped(chip)), as_json)


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
@CHIP
@as_json
def build(out: str, baud: int, unit: int, chip: str, as_json: bool) -> None:
    """Build an image, for a line of another speed or a board of another number."""
    from cairnwind.boards import firmware as ours

    _image(ours.build(Path(out), baud, unit, chip), as_json)


@firmware.command()
@PORT
@click.option("--programmer", required=True, help="Kind of programmer, as the flashing tool calls it.")
@click.option("--speed", type=int, help="Baud of the programmer, where it is not its own default.")
@click.option("--image", type=click.Path(dir_okay=False), help="Another image than the one that is shipped.")
@click.option("--board-port", help="Where the board is spoken to afterwards, if that is another port.")
@click.option(
    "--fuses",
    is_flag=True,
    help="Set the chip's fuses too: crystal, brown-out, no debug port. It then needs its crystal.",
)
@click.option("--yes", is_flag=True, help="Do not ask before fuses are set.")
@UNIT
@CHIP
@as_json
def load(
    port: str, programmer: str, speed: int | None, image: str | None, board_port: str | None, fuses: bool, yes: bool,
    unit: int, chip: str, as_json: bool,
) -> None:  # fmt: skip
    """Load an image onto a board, then ask the board who it is."""
    from cairnwind.boards import chips
    from cairnwind.boards import firmware as ours

    found = ours.read(Path(image) if image else ours.shipped(chip))
    ours.suits(found)
    if fuses and not yes:
        values = ", ".join(f"{name} 0x{value:02X}" for name, value in chips.load(found.chip).fuses.items())
        click.confirm(
            f"Fuses of the {found.chip} ({values}): from then on it runs from a crystal of 16 MHz alone. Set them?",
            abort=True, err=True,
        )  # fmt: skip
    ours.load(
        found,
        port,
        programmer,
        speed,
        lambda line: click.echo(click.style(line, dim=True), err=as_json),
        fuses,
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


@firmware.command()
@PORT
@BAUD
@UNIT
@click.option("--to-unit", type=click.IntRange(1, 247), help="Its number from now on.")
@click.option("--to-baud", type=int, help="The speed of its line from now on.")
@as_json
def settle(port: str, baud: int, unit: int, to_unit: int | None, to_baud: int | None, as_json: bool) -> None:
    """Give a board another number on its line, or its line another speed; kept without power. It starts anew, with everything safe."""
    from cairnwind.boards import firmware as ours

    if to_unit is None and to_baud is None:
        raise click.UsageError("Say what is to change: --to-unit, --to-baud, or both.")
    _answers(port, ours.settle(port, baud, unit, to_unit or unit, to_baud or baud), as_json, "Settled. ")


@firmware.command()
@PORT
@BAUD
@UNIT
@click.option(
    "--out", type=click.Path(dir_okay=False), help="A file for it: chips/NAME.toml beside the site file."
)
def describe(port: str, baud: int, unit: int, out: str | None) -> None:
    """What the chip of a board can, as it says itself: a file that `chip = "NAME"` in the site file refers to."""
    from cairnwind.boards import chips
    from cairnwind.boards import firmware as ours

    who = ours.ask(port, baud, unit)
    text = chips.describe(who.chip, who.can)
    if out is None:
        click.echo(text, nl=False)
        return
    try:
        Path(out).parent.mkdir(parents=True, exist_ok=True)
        with Path(out).open("x", encoding="utf-8") as file:
            file.write(text)
    except OSError as error:
        raise click.ClickException(f"{out} cannot be written: {error.strerror}.") from None
    click.echo(f'{out} is written; in the site file: chip = "{Path(out).stem}"')


def _answers(port: str, who: Any, as_json: bool, before: str = "") -> None:
    from cairnwind.cli import show as answers

    answers.emit({"port": port, "board": asdict(who)}) if as_json else click.echo(
        f"{before}{port}{' answers' if before else ''}: {who}"
    )
