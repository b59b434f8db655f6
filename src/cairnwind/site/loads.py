"""What a load is beyond its pin: several lines, how it answers its duty, what it needs to start and to turn round.

Also what belongs to the site and not to one output: pads, tunes, quiet hours.
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable
from fractions import Fraction
from functools import partial
from typing import TYPE_CHECKING, Any

from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import OUTPUT_KEYS, Output, Switch
from cairnwind.core.facts.site import Quiet
from cairnwind.core.physics import sound
from cairnwind.core.physics.light import CURVES, EXPONENT, LIGHTNESS, STRAIGHT, WHOLE, Light
from cairnwind.core.physics.shaping import Shape
from cairnwind.core.physics.stick import HOLDS, MOTORS, ZONES, Pad
from cairnwind.core.values import entries
from cairnwind.core.values.errors import CallerError, known
from cairnwind.core.values.keys import REQUIRED, keys
from cairnwind.core.values.quantities import parse
from cairnwind.site import pins

if TYPE_CHECKING:
    from cairnwind.site.tables import Table

OWN = {key.name: key for key in OUTPUT_KEYS}
CHANNELS = ("red", "green", "blue")


def _said(table: Table, name: str, read: Callable[[Any], Any] | None = None, default: Any = REQUIRED) -> Any:
    """A key that a field is put together from: as it is written, else what holds then."""
    found = table.take(OWN[name], read)
    if found is not REQUIRED:
        return found
    return OWN[name].default if default is REQUIRED else default


def first_pin(kind: str | None, table: Table, boards: dict[str, Board]) -> Pin | None:
    """The first pin: the key 'pin', or red of a colour lamp's 'pins'."""
    if kind == "colour-lamp" and not table.has("pin"):
        found = table.need(
            "pins",
            partial(_pins, boards=boards),
            'Say where it is wired: pins = { red = "board:J2-14", green = …, blue = … }.',
        )
        return found[0] if found else None
    pin = table.take(OWN["pin"], partial(pins.resolve, boards=boards))
    return pin if isinstance(pin, Pin) else None


def more(
    kind: str | None, pin: Pin | None, hertz: Fraction | None, table: Table, boards: dict[str, Board]
) -> dict[str, Any]:
    """The rest of an output's facts, as keywords of `Output`."""
    found: dict[str, Any] = {}
    board = boards.get(pin.board) if pin else None
    if pin is None or board is None or kind is None:
        return found
    if kind == "colour-lamp":
        found |= _colour(pin, hertz, table, board, boards)
    elif kind == "motor" and table.has("reverse"):
        by, other = _said(
            table, "reverse", partial(_reverse, pin=pin, boards=boards), ("two lines", pin.line)
        )
        found |= {"reversal": by, "others": (other,)}
    elif kind == "relay" and table.has("resets"):
        other = _said(table, "resets", partial(_resets, pin=pin, boards=boards), 0)
        found |= {"others": (other,), "latching": _said(table, "pulse")} if other else {}
        if table.values.get("contact") == "normally-closed":
            table.point(
                "contact",
                "a latching relay has no coil that is dead",
                "Take it away; exchange its coils, if that is what is meant.",
            )
    elif kind == "relay" and table.has("pulse"):
        table.point(
            "pulse",
            "only a latching relay gets pulses",
            'Say which line its second coil is on: resets = "board:line-5".',
        )
    elif kind == "sounder" and (can := board.can(pin.line)) is not None and not can & sounding(board):
        able = ", ".join(
            board.pin(line).name for line in board.lines if (board.can(line) or frozenset()) & sounding(board)
        )
        table.point(
            "pin",
            f"{pin.both} {'has no PWM, so it ' if 'pwm' not in can else ''}makes no tones",
            f"Pins that have it: {able}." if able else "Use a pin of another board.",
        )
    if kind == "servo":
        hertz = hertz or SERVO
        found |= {"frequency": hertz}
    found["steps"] = board.duties(pin.line, hertz)
    if table.has("volts") or table.has("converter"):
        light, found["volts"] = _voltage(hertz, pin, table)
    else:
        light = _pulses(hertz or SERVO, table) if kind == "servo" else _light(kind, hertz, table)
    if light is not STRAIGHT:
        found["light"] = light
    shape = Shape(*(_said(table, key) for key in ("kick", "pause", "ramp")))
    if any(shape):
        found["shape"] = shape
    if table.has("led"):
        current = _said(table, "led", partial(_led, board=board, pin=pin), None)
        if current is not None:
            found["gives"] = current
    return found


def _pins(value: object, boards: dict[str, Board]) -> list[Pin]:
    if not isinstance(value, dict) or set(value) != set(CHANNELS):
        raise CallerError(
            "",
            "a colour lamp has three pins",
            'Write pins = { red = "board:J2-14", green = "board:J2-15", blue = "board:J2-16" }.',
        )
    found = [pins.resolve(value[channel], boards) for channel in CHANNELS]
    if len({pin.board for pin in found}) > 1:
        raise CallerError(
            "",
            "its pins are on different boards",
            "Wire all three to one board, so that they change together.",
        )
    if len({pin.line for pin in found}) < 3:
        raise CallerError("", "it has the same pin twice", "Give each channel its own.")
    return found


def _colour(
    pin: Pin, hertz: Fraction | None, table: Table, board: Board, boards: dict[str, Board]
) -> dict[str, Any]:
    if board.channels:
        lamps, last = _said(table, "lamps"), board.channels
        if pin.line % 3 or pin.line + 3 * lamps > last:
            table.point(
                "pin",
                f"lamps begin at lines 0, 3, 6 …, and {lamps} from line {pin.line} on do not fit into {last} lines",
                "Count three lines for each lamp.",
            )
        return {"others": (pin.line + 1, pin.line + 2), "pixels": lamps}
    if table.has("lamps"):
        table.point(
            "lamps",
            "only a run on a strip has a number of lamps",
            'Take it away, or wire it to a board with link = "strip".',
        )
    if table.has("pin"):
        table.point(
            "pin",
            "a colour lamp has three pins",
            'Write pins = { red = "board:J2-14", green = …, blue = … } instead.',
        )
        return {"others": (pin.line, pin.line)}  # so that the rest can still be checked
    channels = table.get("pins", partial(_pins, boards=boards), None)
    if channels is None:
        return {"others": (pin.line, pin.line)}
    if hertz is None and not table.has("frequency"):
        table.missing("frequency", 'Say how fast its PWM is: frequency = "1.5 kHz".')
    for other in channels:
        can = board.can(other.line)
        if can is not None and "pwm" not in can:
            able = ", ".join(board.pin(line).name for line in board.lines if "pwm" in (board.can(line) or ()))
            table.point("pins", f"{other.both} has no PWM", f"Pins that have it: {able}.")
    return {"others": tuple(other.line for other in channels[1:])}


def _reverse(value: object, pin: Pin, boards: dict[str, Board]) -> tuple[str, int]:
    by = "direction" if isinstance(value, dict) else "two lines"
    if isinstance(value, dict) and set(value) != {"direction"}:
        raise CallerError(
            "",
            "this is not how a motor is reversed",
            'Write reverse = "board:line-5" for a second line, or reverse = { direction = "board:line-5" }.',
        )
    other = pins.resolve(value["direction"] if isinstance(value, dict) else value, boards)
    if other.board != pin.board or other.line == pin.line:
        raise CallerError(
            "", f"{other.name} cannot be the other line of {pin.name}", "Take another line of the same board."
        )
    return by, other.line


def _resets(value: object, pin: Pin, boards: dict[str, Board]) -> int:
    other = pins.resolve(value, boards)
    if other.board != pin.board or other.line == pin.line:
        raise CallerError(
            "", f"{other.name} cannot be the other coil of {pin.name}", "Take another line of the same board."
        )
    if not boards[pin.board].pulses:
        raise CallerError(
            "", f"nobody ends a pulse at board {pin.board} when the service dies in its midst, and a coil with current for long burns",
            "Wire a latching relay to lines of the kernel, or to a board with our firmware.",
        )  # fmt: skip
    return other.line


SERVO = Fraction(50)
"""Pulses a second, where nobody says."""


def _pulses(hertz: Fraction, table: Table) -> Light:
    """A servo's pulse from one of its ends to the other, as shares of its period."""
    low, high = (Fraction(width, 10**9) * hertz for width in _said(table, "travel"))
    if high >= 1:
        table.point(
            "travel",
            f"a pulse of that length does not fit into {float(1 / hertz) * 1000:g} ms",
            "Make it shorter, or the frequency lower.",
        )
        return STRAIGHT
    return Light(floor=round(low * WHOLE), ceiling=round(high * WHOLE))


def _voltage(
    hertz: Fraction | None, pin: Pin, table: Table
) -> tuple[Light, tuple[Fraction, Fraction] | None]:
    """What is told volts: the duty of which its converter makes them, and those at its least and at full."""
    span: tuple[Fraction, Fraction] | None = _said(table, "volts", default=None)
    most: Fraction = _said(table, "converter")
    key = "volts" if table.has("volts") else "converter"
    if hertz is None:
        table.point(
            key,
            f"{pin.both} has no PWM that a converter could make volts of",
            'Give it one: frequency = "1 kHz".',
        )
    for other in ("curve", "floor", "ceiling", "trim", "lowest", "kick", "led"):
        if table.has(other):
            table.point(other, "what is told volts answers them as it does", "Take it away.")
    if span is None:
        if not table.has("volts"):
            table.point(key, "nothing is said of the volts that it is told", 'Say volts = ["1 V", "10 V"].')
        return STRAIGHT, None
    if span[1] > most:
        table.point(
            "volts", f"its converter makes {float(most):g} V at most", 'Say which it is: converter = "12 V".'
        )
        return STRAIGHT, None
    low, high = (round(each / most * WHOLE) for each in span)
    return Light(floor=low, ceiling=high), span


def _light(kind: str, hertz: Fraction | None, table: Table) -> Light:
    """How it answers its duty: lamps with PWM of ours by perceived brightness, everything else straight."""
    default = LIGHTNESS if kind == "lamp" and hertz is not None else STRAIGHT
    curve: Light = _said(table, "curve", _curve, default)
    floor: int = _said(table, "lowest" if kind == "fan" else "floor")
    ceiling: int = _said(table, "ceiling")
    trim: tuple[int, ...] = (_said(table, "trim"),)
    if kind == "colour-lamp":
        trim = _said(table, "white", _white, (WHOLE,))
    if floor >= ceiling * min(trim) // WHOLE:
        table.point(
            "floor" if table.has("floor") else "ceiling",
            "the floor is not below the ceiling",
            "Make it lower.",
        )
        floor = 0
    if (floor, ceiling, trim) == (0, WHOLE, (WHOLE,)):
        return curve
    return Light(curve.curve, curve.exponent, floor, ceiling, trim, curve.table)


def _white(value: object) -> tuple[int, ...]:
    if not isinstance(value, list) or len(value) != 3:
        raise CallerError(
            "",
            "a white balance has three shares",
            'Write what each channel has for white: white = ["100 %", "80 %", "70 %"].',
        )
    return tuple(entries.share(each, low=1) for each in value)


def _curve(value: object) -> Light:
    if isinstance(value, list):
        return Light("by-eye", table=_table(value))
    match = re.fullmatch(r"(\w+)(?:\s+(\d(?:\.\d+)?))?", value) if isinstance(value, str) else None
    if match is None or match.group(1) not in CURVES[:3] or (match.group(2) and match.group(1) != "power"):
        raise CallerError(
            "", f"{value!r} is no curve",
            'Write "lightness", "straight", "power", "power 1.8", or a table like [[0, 0], [50, 20], [100, 100]].',
        )  # fmt: skip
    if match.group(1) == "lightness":
        return LIGHTNESS
    exponent = float(match.group(2) or EXPONENT)
    if not 0.2 <= exponent <= 6:
        raise CallerError("", f"an exponent of {exponent:g} makes no useful curve", "Write 0.2 to 6.")
    return STRAIGHT if match.group(1) == "straight" else Light("power", exponent)


def _table(rows: list[Any]) -> tuple[tuple[int, int], ...]:
    try:
        points = [(entries.share(level), entries.share(duty)) for level, duty in rows]
    except (TypeError, ValueError):
        points = []
    points = [*([(0, 0)] if points and points[0][0] else []), *points]
    rising = all(a[0] < b[0] and a[1] <= b[1] for a, b in itertools.pairwise(points))
    if len(points) < 2 or not rising or points[-1][0] != WHOLE:
        raise CallerError(
            "",
            "this is no table of levels and duties",
            "Write pairs of percent that rise, up to level 100: [[0, 0], [50, 20], [100, 100]].",
        )
    return tuple(points)


def _led(value: object, board: Board, pin: Pin) -> Fraction:
    """The current that the pin gives to LEDs in series with a resistor: I = (V - n * forward) / R."""
    keys = {"forward": "a voltage", "resistor": "a resistance"}
    if not isinstance(value, dict) or not set(keys) <= set(value) <= {*keys, "count"}:
        raise CallerError(
            "",
            "this is not an LED with its resistor",
            'Write led = { forward = "2.1 V", resistor = "220 ohm" }, and count = 2 for two in series.',
        )
    forward, ohms = parse(value["forward"], "a voltage", bare="v"), parse(value["resistor"], "a resistance")
    count = entries.whole(value.get("count", 1), 1, 100)
    there = board.position(pin.line)
    high = there.volts if there is not None and there.volts is not None else Fraction(33, 10)
    if ohms <= 0 or high <= count * forward:
        raise CallerError(
            "",
            f"{count} of {float(forward):g} V do not light from the pin's {float(high):g} V",
            "Feed them from a higher rail through a transistor: cairnwind wire led.",
        )
    return (high - count * forward) / ohms


def switch(value: object) -> Switch:
    """The transistor that switches a load."""
    kinds = {"volts": "a voltage", "current": "a current", "rise": "a time", "fall": "a time"}
    if not isinstance(value, dict) or set(value) != set(kinds):
        raise CallerError(
            "",
            "this is not what a transistor switches",
            'Write switch = { volts = "12 V", current = "2 A", rise = "60 ns", fall = "90 ns" }.',
        )
    return Switch(
        *(parse(value[key], kind, bare="v" if key == "volts" else None) for key, kind in kinds.items())
    )


# --- what belongs to the site -------------------------------------------------------------------------------


def pad(name: str, table: Table, outputs: dict[str, Output], inputs: dict[str, Input]) -> Pad | None:
    """A table ``[pad.name]``."""

    def motor(value: object) -> str:
        output = known("output", value, outputs)
        if output.takes != "drive":
            raise CallerError(
                "",
                f"{output.name} is not driven both ways",
                'Give it a line to reverse it: reverse = "board:line-5".',
            )
        if output.frequency is None:
            raise CallerError(
                "", f"{output.name} is driven full or not at all", 'A pad needs PWM: frequency = "20 kHz".'
            )
        return output.name

    def stick(value: object) -> tuple[str, str]:
        if not isinstance(value, list) or len(value) != 2 or value[0] == value[1]:
            raise CallerError(
                "",
                "a stick has two inputs",
                'Write the one across and the one along: stick = ["stick-x", "stick-y"].',
            )
        for each in value:
            if not known("input", each, inputs).analogue:
                raise CallerError("", f"{each} is not analogue", "A stick has two analogue inputs.")
        return value[0], value[1]

    def zones(value: object) -> dict[str, str]:
        if not isinstance(value, dict) or not value or set(value) - set(ZONES):
            raise CallerError(
                "",
                "zones are a table of outputs",
                f'Name an output for some of {", ".join(ZONES)}: {{ up = "hoist-up" }}.',
            )
        for each in value.values():
            if known("output", each, outputs).takes not in ("level", "drive"):
                raise CallerError("", f"{each} is not switched on and off", "Name what is.")
        return {zone: value[zone] for zone in ZONES if zone in value}

    kind = HOLDS if table.has("zones") else MOTORS
    reads: dict[str, Callable[[Any], Any]] = {"left": motor, "right": motor, "stick": stick, "zones": zones}
    values = table.fill(keys(Pad), kind, reads)
    if kind == HOLDS:
        return Pad(name, **{"dead": 300_000, **values}) if values.get("zones") else None
    if values.get("left", "") == values.get("right", " "):
        table.point("right", "left and right are the same motor", "Name two.")
    return Pad(name, **values) if "left" in values and "right" in values else None


def tune(name: str, table: Table) -> Any:
    """A table ``[tune.name]``: its notes as a program."""
    found = table.need("notes", sound.tune, 'Give its notes: notes = "tempo 120 C4 E4 G4:2".')
    table.nothing_else(("notes",))
    return found


def quiet(table: Table, outputs: dict[str, Output]) -> Quiet | None:
    """The table ``[quiet]``."""

    def sounders(value: object) -> frozenset[str]:
        names = value if isinstance(value, list) else [value]
        able = {name: output for name, output in outputs.items() if output.takes == "tone"}
        return frozenset(known("sounder", name, able).name for name in names)

    values = table.fill(keys(Quiet), reads={"except": sounders})
    if not {"start", "end"} <= values.keys():
        return None
    if values["start"] == values["end"]:
        table.point(
            "to", "quiet hours that end when they begin are none", "Take them away, or give them a length."
        )
    return Quiet(**values)


def group(name: str, table: Table, outputs: dict[str, Output]) -> tuple[str, ...]:
    """Outputs that are named together; empty where that is noted as wrong."""
    found = table.need(
        "outputs", partial(_outputs, outputs=outputs), 'Say which: outputs = ["gallery", "window"].'
    )
    table.nothing_else(("outputs",))
    if name in outputs:
        table.point("outputs", f"'{name}' is an output already", "Give the group another name.")
    return found or ()


def _outputs(value: object, outputs: dict[str, Output]) -> tuple[str, ...]:
    if not isinstance(value, list) or not value:
        raise CallerError("", "this is not a list of outputs", 'Write their names: ["gallery", "window"].')
    return tuple(known("output", each, outputs).name for each in value)


def sounding(board: Board) -> frozenset[str]:
    """What a line of a board has to be able to do to make tones."""
    tones = any("tone" in (board.can(line) or ()) for line in board.lines)
    return frozenset(("tone",)) if tones else frozenset(("pwm",))
