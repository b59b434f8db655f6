"""`cairnwind wire`: resistors, currents and supplies, each answer with its arithmetic. Needs no service."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from fractions import Fraction
from typing import Any

import click

from cairnwind.cli import show
from cairnwind.cli.main import as_json, main
from cairnwind.core.physics import wiring
from cairnwind.core.physics.wiring import Said
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import parse


class Quantity(click.ParamType[Fraction]):
    """An option's value with its unit: '3.3 V'."""

    def __init__(self, dimension: str, bare: str | None = None) -> None:
        self.name = dimension.split()[-1]
        self._dimension, self._bare = dimension, bare

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Fraction:
        """Read it; what is zero or negative is refused, since nothing of this kind is."""
        if isinstance(value, Fraction):
            return value
        try:
            found = parse(value, self._dimension, bare=self._bare)
        except CallerError as error:
            self.fail(f"{error.sentence} {error.remedy}", param, ctx)
        if found <= 0:
            self.fail(f"'{value}' is not above zero.", param, ctx)
        return found


VOLTS, AMPERES, HERTZ = Quantity("a voltage", "v"), Quantity("a current"), Quantity("a frequency")


def _tell(title: str, said: Iterable[Said], as_json: bool) -> None:
    steps = list(said)
    if as_json:
        show.emit(
            {
                "title": title,
                "good": all(step.good for step in steps),
                "steps": [step._asdict() for step in steps],
            }
        )
        return
    click.echo(click.style(title, bold=True))
    width = max(len(step.what) for step in steps)
    for step in steps:
        mark = " " if step.good else click.style("!", fg="yellow", bold=True)
        click.echo(
            f"{mark} {step.what.ljust(width)}  {step.result if step.good else click.style(step.result, fg='yellow')}"
        )
        if step.formula:
            click.echo(click.style(f"  {' ' * width}  {step.formula}", dim=True))


@main.group()
def wire() -> None:
    """Resistors, currents and supplies, with the arithmetic shown."""


def _options(*options: Callable[[Any], Any]) -> Callable[[Any], Any]:
    def dress(command: Any) -> Any:
        for option in reversed((*options, as_json)):
            command = option(command)
        return command

    return dress


@wire.command()
@_options(
    click.option("--supply", type=VOLTS, required=True, help="Volts that feed it: the pin's own, or a rail."),
    click.option(
        "--forward", type=VOLTS, default="2 V", show_default=True, help="Forward voltage of one LED."
    ),
    click.option("--current", type=AMPERES, default="10 mA", show_default=True),
    click.option(
        "--count", type=click.IntRange(1, 1000), default=1, show_default=True, help="LEDs in series."
    ),
    click.option("--pin", type=AMPERES, help="What the pin may give, if it feeds them."),
    click.option(
        "--driver", type=VOLTS, help="A constant-current driver instead, that needs so much for itself."
    ),
    click.option("--fine", is_flag=True, help="Values of the series E24 instead of E12."),
)
def led(
    supply: Fraction,
    forward: Fraction,
    current: Fraction,
    count: int,
    pin: Fraction | None,
    driver: Fraction | None,
    fine: bool,
    as_json: bool,
) -> None:
    """The resistor of an LED, or of several in series: cairnwind wire led --supply 3.3V --forward 2.1V --current 8mA --pin 12mA."""
    title = f"{count} LED{'s in series' if count > 1 else ''} of {wiring.volts(forward)} at {wiring.amperes(current)} from {wiring.volts(supply)}"
    if driver is not None:
        _tell(title, wiring.led_driver(supply, forward, current, count, driver), as_json)
        return
    _tell(
        title, wiring.led(supply, forward, current, count, pin, wiring.E24 if fine else wiring.E12), as_json
    )


@wire.command()
@_options(
    click.option(
        "--pin", type=VOLTS, default="3.3 V", show_default=True, help="What the pin shows when it is high."
    ),
    click.option(
        "--pin-current", type=AMPERES, default="12 mA", show_default=True, help="The most that it gives."
    ),
    click.option(
        "--threshold",
        type=VOLTS,
        default="1.5 V",
        show_default=True,
        help="Gate threshold, at most, of its datasheet.",
    ),
    click.option("--charge", type=float, default=10.0, show_default=True, help="Gate charge in nC."),
    click.option("--frequency", type=HERTZ, help="Of its PWM."),
    click.option("--coil", type=AMPERES, help="It switches a coil of so much current."),
    click.option("--diode", is_flag=True, help="The coil has a diode across it."),
)
def mosfet(
    pin: Fraction,
    pin_current: Fraction,
    threshold: Fraction,
    charge: float,
    frequency: Fraction | None,
    coil: Fraction | None,
    diode: bool,
    as_json: bool,
) -> None:
    """Gate resistor and pull-down of a MOSFET."""
    if not 0 < charge < 10_000:
        raise click.UsageError("Give the gate charge in nC, above zero.")
    said = list(wiring.mosfet(pin, pin_current, threshold, Fraction(str(charge)) / 10**9, frequency))
    _tell(
        f"MOSFET on a pin of {wiring.volts(pin)}",
        said + ([wiring.coil(coil, diode=diode)] if coil else []),
        as_json,
    )


@wire.command()
@_options(
    click.option("--pin", type=VOLTS, default="3.3 V", show_default=True),
    click.option("--pin-current", type=AMPERES, default="12 mA", show_default=True),
    click.option("--load", type=AMPERES, required=True, help="What it switches."),
    click.option(
        "--gain",
        type=click.IntRange(2, 100_000),
        default=100,
        show_default=True,
        help="Current gain, at least, of its datasheet.",
    ),
    click.option("--coil", is_flag=True, help="The load is a coil."),
    click.option("--diode", is_flag=True, help="The coil has a diode across it."),
)
def transistor(
    pin: Fraction, pin_current: Fraction, load: Fraction, gain: int, coil: bool, diode: bool, as_json: bool
) -> None:
    """Base resistor and pull-down of a bipolar transistor."""
    said = list(wiring.transistor(pin, pin_current, load, Fraction(gain)))
    _tell(
        f"transistor for {wiring.amperes(load)} on a pin of {wiring.volts(pin)}",
        said + ([wiring.coil(load, diode=diode)] if coil else []),
        as_json,
    )


@wire.command()
@_options(
    click.option(
        "--count",
        type=click.IntRange(1, 1000),
        default=1,
        show_default=True,
        help="Coils that may be on together.",
    ),
    click.option("--coil", type=AMPERES, default="72 mA", show_default=True, help="Current of one coil."),
    click.option("--supply", type=VOLTS, default="5 V", show_default=True, help="Of the coils."),
    click.option("--limit", type=AMPERES, default="1 A", show_default=True, help="What that supply gives."),
    click.option(
        "--logic", type=VOLTS, default="3.3 V", show_default=True, help="Of the board's logic side."
    ),
    click.option(
        "--supplies", type=click.Choice(["separate", "joined"]), default="separate", show_default=True
    ),
    click.option("--source", type=click.Choice(list(wiring.SOURCES)), help="What powers the board."),
    click.option(
        "--no-click", is_flag=True, help="The indicator lights but nothing clicks: what that means."
    ),
)
def relay(
    count: int,
    coil: Fraction,
    supply: Fraction,
    limit: Fraction,
    logic: Fraction,
    supplies: str,
    source: str | None,
    no_click: bool,
    as_json: bool,
) -> None:
    """A relay board: its coils against their supply, isolation, and what it means when nothing clicks."""
    said = [
        wiring.relays(count, coil, limit),
        *wiring.isolation(joined=supplies == "joined", coil_volts=supply, logic=logic),
    ]
    if source and (dead := wiring.dead_rail(source, supply)):
        said.append(Said("power source", "", dead, False))
    if no_click:
        said = list(wiring.no_click(supply, source or ""))
    _tell(
        f"{count} relay coil{'s' if count > 1 else ''} of {wiring.amperes(coil)} at {wiring.volts(supply)}",
        said,
        as_json,
    )


@wire.command()
@_options(
    click.option("--lamps", type=click.IntRange(1, 100_000), required=True),
    click.option("--supply", type=VOLTS, default="5 V", show_default=True),
    click.option("--limit", type=AMPERES, required=True, help="What the supply gives."),
    click.option("--data", type=VOLTS, default="3.3 V", show_default=True, help="Level of the data line."),
    click.option(
        "--white",
        type=click.FloatRange(1, 100),
        default=100,
        show_default=True,
        help="The brightest white that is used, in percent.",
    ),
)
def strip(lamps: int, supply: Fraction, limit: Fraction, data: Fraction, white: float, as_json: bool) -> None:
    """A strip of addressable lamps: its current, where to feed it, the level of its data line."""
    _tell(
        f"strip of {lamps} lamps at {wiring.volts(supply)}",
        wiring.strip(lamps, supply, limit, data, Fraction(str(white)) / 100),
        as_json,
    )


@wire.command()
@_options(
    click.option("--frequency", type=HERTZ, required=True),
    click.option("--kind", type=click.Choice(["lamp", "fan", "motor"]), default="lamp", show_default=True),
    click.option("--volts", type=VOLTS, help="What the transistor switches, for its losses,"),
    click.option("--current", type=AMPERES, help="how much of it,"),
    click.option(
        "--rise", type=Quantity("a time"), default="100 ns", show_default=True, help="and how fast it opens"
    ),
    click.option("--fall", type=Quantity("a time"), default="100 ns", show_default=True, help="and closes."),
)
def pwm(
    frequency: Fraction,
    kind: str,
    volts: Fraction | None,
    current: Fraction | None,
    rise: Fraction,
    fall: Fraction,
    as_json: bool,
) -> None:
    """Whether a PWM frequency suits a load: flicker, range, and what the transistor loses."""
    said = [wiring.flicker(frequency)] if kind == "lamp" else []
    said += [found] if (found := wiring.suits(kind, frequency)) else []
    if volts and current:
        said.append(wiring.switching_loss(volts, current, rise, fall, frequency))
    _tell(f"PWM at {float(frequency):g} Hz for a {kind}", said, as_json)
