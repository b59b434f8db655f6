"""What a check says about volts, currents and the moment before any software runs. Arithmetic: `core.wiring`."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from fractions import Fraction

from cairnwind.boards import wire
from cairnwind.core.facts.hardware import Board, Position, Supply
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.physics.pwm import best
from cairnwind.core.physics.wiring import HIGH_SHARE, bias, divider, flicker, show_ohms, switching_loss
from cairnwind.core.physics.wiring import suits as range_of
from cairnwind.core.values.errors import CallerError

BEFORE = {"pull-up": True, "high": True, "pull-down": False, "low": False}
"""Whether a pin is high before software runs, by what its map says; not there where it floats."""
Found = tuple[tuple[str, str, str], object, CallerError, bool]
"""Path, value, what is wrong, and whether it refuses the file (else it warns)."""


def check(thing: Output | Input, boards: dict[str, Board]) -> Iterator[Found]:
    """What is electrically wrong with one output or input."""
    board = boards.get(thing.pin.board)
    there = board.position(thing.pin.line) if board else None
    if isinstance(thing, Input):
        if there is not None:
            yield from _source(thing, there)
        if (
            thing.analogue
            and board is not None
            and (can := board.can(thing.pin.line)) is not None
            and "analogue" not in can
        ):
            able = ", ".join(
                board.pin(line).name.split(":")[1]
                for line in board.lines
                if "analogue" in (board.can(line) or ())
            )
            able = able or "none"
            yield (
                ("input", thing.name, "pin"), thing.pin.name,
                CallerError("", f"{thing.pin.both} has no analogue input", f"Positions of {board.name} that have it: {able}."), True,
            )  # fmt: skip
        return
    if there is None:
        return
    if thing.gives is not None and there.current is not None and thing.gives > there.current:
        yield (
            ("output", thing.name, "gives"), thing.gives,
            CallerError("", f"{thing.pin.both} gives at most {_milli(there.current)}, and {thing.name} takes {_milli(thing.gives)}",
                        "Put a transistor between them, or take a larger resistor."), True,
        )  # fmt: skip
    yield from power_on(thing, there)


def suits(output: Output) -> Iterator[Found]:
    """Whether its PWM frequency suits the load, with the arithmetic."""
    if output.frequency is None or output.volts is not None:  # its converter has it, not the load
        return
    said = [flicker(output.frequency)] if output.kind in ("lamp", "colour-lamp") else []
    if (found := range_of(output.kind, output.frequency)) is not None:
        said.append(found)
    if output.switch is not None:
        each = output.switch
        said.append(switching_loss(each.volts, each.current, each.rise, each.fall, output.frequency))
    for step in said:
        if not step.good:
            what = f"{output.name}: {step.what}: {step.formula}"
            yield (
                ("output", output.name, "frequency"),
                float(output.frequency),
                CallerError("", what, f"{step.result[0].upper()}{step.result[1:]}."),
                False,
            )


OFF_BY = 5
"""Percent by which a frequency may be missed before it is said that it cannot be had."""


def reach(output: Output, board: Board) -> Iterator[Found]:
    """Whether the timers behind its lines can make its frequency."""
    if output.frequency is None or output.takes == "tone":
        return
    for line in output.lines:
        timer = board.clockwork(line) if output.modulates(line) else None
        if timer is None:
            continue
        fit = best(timer, output.frequency)
        if abs(fit.error) > OFF_BY:
            what = f"the timer of {board.pin(line).both} makes no {float(output.frequency):g} Hz"
            nearest = CallerError("", what, f"It comes nearest with {float(fit.hertz):.4g} Hz.")
            yield ("output", output.name, "frequency"), float(output.frequency), nearest, True
            return


def supplies(outputs: Iterable[Output], known: Mapping[str, Supply]) -> Iterator[Found]:
    """Supplies that cannot feed everything at once."""
    drawn: dict[str, list[Output]] = {}
    for output in outputs:
        if output.draws is not None:
            drawn.setdefault(output.supply, []).append(output)
    for name, some in drawn.items():
        limit = known[name].limit
        total = sum((output.draws or Fraction(0) for output in some), Fraction(0))
        if limit is not None and total > limit:
            sums = " + ".join(f"{_milli(output.draws or Fraction(0))}" for output in some)
            yield (
                ("supply", name, "limit"), name,
                CallerError("", f"supply {name} gives {_milli(limit)}, and all on together take {sums} = {_milli(total)} ({', '.join(each.name for each in some)})",
                            "See that they are not all on at once, or take a larger supply."), False,
            )  # fmt: skip


def _source(input: Input, there: Position) -> Iterator[Found]:
    if input.source is None or there.bears is None or input.source <= there.bears:
        return
    upper, lower, at_pin = divider(input.source, there.volts or there.bears)
    yield (
        ("input", input.name, "source"), input.source,
        CallerError(
            "", f"{input.pin.both} bears {float(there.bears):g} V, and the source of {input.name} puts {float(input.source):g} V on it",
            f"Divide it: {show_ohms(upper)} from the source to the pin and {show_ohms(lower)} from the pin to ground "
            f"leave {float(input.source):g} V x {float(lower):g} / ({float(upper):g} + {float(lower):g}) = {float(at_pin):.2f} V. "
            f'Then write source = "{float(at_pin):.2f} V".',
        ), True,
    )  # fmt: skip


def rests_high(output: Output, line: int | None = None) -> bool:
    """Whether a line of an output (its first unless given) is high while it is at safe and nobody drives it: a motor is not braked then, and a latching relay stays as it is."""
    if output.brakes or output.latching:  # no coil has current
        return output.active_low
    return wire.to_pin(output, output.safe, line) > 0


def holding(output: Output, there: Position | None) -> tuple[Fraction, str] | None:
    """The resistor that holds a pin until software runs: ohms, and 'up' or 'down'; None where none is needed, or none would do."""
    if output.bias is not None or there is None:
        return output.bias
    safe_high = rests_high(output)
    if not there.power_on or there.power_on in ("high", "low") or BEFORE.get(there.power_on) == safe_high:
        return None
    pull = there.pull if there.power_on != "floating" else None
    return bias(pull)[0], "up" if safe_high else "down"


def bias_needed(there: Position | None) -> Fraction:
    """Ohms of the resistor that has a pin against its own pull."""
    return bias(there.pull if there is not None and there.power_on != "floating" else None)[0]


def sure(output: Output, there: Position) -> bool:
    """Whether the output's bias resistor has the pin, whatever the pin's own pull."""
    pull = there.pull if there.power_on != "floating" else None
    if output.bias is None or there.power_on in ("high", "low"):
        return False
    agree = BEFORE.get(there.power_on) == (output.bias[1] == "up")
    return pull is None or agree or pull / (pull + output.bias[0]) >= HIGH_SHARE


def power_on(output: Output, there: Position) -> Iterator[Found]:
    """The pin's own state before software runs, against what keeps the load safe."""
    safe_high = rests_high(output)
    rail = "up" if safe_high else "down"
    if not there.power_on or BEFORE.get(there.power_on) == safe_high:
        return
    if there.power_on in ("high", "low"):
        what = f"drives {there.power_on}"
        remedy = "No resistor holds against that: take another pin, or a driver that is enabled later."
        yield _warn(
            output,
            f"{output.pin.both} {what} before software runs, which turns {output.name} {_word(output)}",
            remedy,
        )
        return
    pull = there.pull if there.power_on != "floating" else None
    if output.bias is not None and output.bias[1] == rail and sure(output, there):
        return
    ohms, share = bias(pull)
    to = "the pin's supply" if rail == "up" else "ground"
    fit = f'Fit {show_ohms(ohms)} from the pin to {to}, and write bias = "{show_ohms(ohms)} {rail}"'
    if pull is None:
        yield _warn(
            output,
            f"{output.pin.both} floats before software runs, so {output.name} may be half on",
            f"{fit}.",
        )
        return
    sum = f"{show_ohms(pull)} / ({show_ohms(pull)} + {show_ohms(ohms)}) = {float(share):.0%} of the way"
    yield _warn(
        output,
        f"{output.pin.both} is pulled {there.power_on[5:]} before software runs, which turns {output.name} {_word(output)}",
        f"{fit}: {sum}.",
    )


def _word(output: Output) -> str:
    return output.words[0 if output.safe.on else 1]


def _warn(output: Output, what: str, remedy: str) -> Found:
    return ("output", output.name, "pin"), output.pin.name, CallerError("", what, remedy), False


def sums(
    outputs: Iterable[Output], boards: dict[str, Board]
) -> Iterator[tuple[tuple[str, str, str], object, CallerError]]:
    """Banks and headers whose pins would give more together than they may."""
    given: dict[tuple[str, str], list[Output]] = {}
    for output in outputs:
        there = boards[output.pin.board].position(output.pin.line) if output.pin.board in boards else None
        if there is not None and output.gives is not None:
            for bank in {there.bank, ""}:
                given.setdefault((output.pin.board, bank), []).append(output)
    for (name, bank), members in given.items():
        header = boards[name].map
        most = header.sums.get(bank) if header else None
        total = sum((each.gives for each in members if each.gives), Fraction(0))
        if most is not None and total > most:
            what = f"bank {bank} of {name}" if bank else f"all pins of {name} together"
            terms = " + ".join(f"{each.name} {_milli(each.gives or Fraction(0))}" for each in members)
            last = members[-1]
            yield (
                ("output", last.name, "gives"), last.gives,
                CallerError("", f"{what} may give {_milli(most)}: {terms} = {_milli(total)}", "Drive some of them through transistors."),
            )  # fmt: skip


def _milli(amperes: Fraction) -> str:
    return f"{float(amperes) * 1000:.10g} mA"
