"""What a load is beyond its pin: several lines, how it answers its duty, what it needs to start and to turn round.

Also what belongs to the site and not to one output: pads, tunes, quiet hours.
"""

from __future__ import annotations

import itertools
import re
from fractions import Fraction
from functools import partial
from typing import TYPE_CHECKING, Any

from cairnwind.core.facts.model import STEPS, Board, Input, Output, Pin, Quiet, Switch
from cairnwind.core.physics import pwm, sound
from cairnwind.core.physics.light import CURVES, EXPONENT, LIGHTNESS, STRAIGHT, WHOLE, Light
from cairnwind.core.physics.shaping import Shape
from cairnwind.core.physics.stick import ZONES, Pad
from cairnwind.core.values.errors import CallerError, unknown
from cairnwind.core.values.quantities import duration, parse
from cairnwind.site import convert, pins

if TYPE_CHECKING:
    from cairnwind.site.tables import Table

KEYS = {
    "lamp": ("curve", "floor", "ceiling", "trim"),
    "colour-lamp": ("pins", "lamps", "floor", "ceiling", "white"),
    "fan": ("kick", "lowest"),
    "motor": ("reverse", "pause", "ramp"),
}
"""Keys that only some kinds have."""
CHANNELS = ("red", "green", "blue")


def first_pin(kind: str | None, table: Table, boards: dict[str, Board]) -> Pin | None:
    """The first pin: the key 'pin', or red of a colour lamp's 'pins'."""
    if kind == "colour-lamp" and not table.has("pin"):
        found = table.need(
            "pins",
            partial(_pins, boards=boards),
            'Say where it is wired: pins = { red = "board:J2-14", green = …, blue = … }.',
        )
        return found[0] if found else None
    return table.need(
        "pin", partial(pins.resolve, boards=boards), 'Say where it is wired: pin = "board:J2-9".'
    )


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
        by, other = table.get("reverse", partial(_reverse, pin=pin, boards=boards), ("two lines", pin.line))
        found |= {"reversal": by, "others": (other,)}
    elif kind == "sounder" and (can := board.can(pin.line)) is not None and "pwm" not in can:
        able = ", ".join(board.pin(line).name for line in board.lines if "pwm" in (board.can(line) or ()))
        table.point(
            "pin",
            f"{pin.both} has no PWM, so it makes no tones",
            f"Pins that have it: {able}." if able else "Use a pin of another board.",
        )
    found["steps"] = steps(board, pin.line, hertz)
    light = _light(kind, hertz, table)
    if light is not STRAIGHT:
        found["light"] = light
    shape = Shape(*(table.get(key, partial(duration, longest=30), 0) for key in ("kick", "pause", "ramp")))
    if any(shape):
        found["shape"] = shape
    if table.has("led"):
        current = table.get("led", partial(_led, board=board, pin=pin), None)
        if current is not None:
            found["gives"] = current
    if table.has("switch"):
        found["switch"] = table.get("switch", _switch, None)
    return found


def known(kind: str | None) -> tuple[str, ...]:
    """The keys that a kind has beyond those of all."""
    return (*KEYS.get(kind or "", ()), "switch", "led")


def steps(board: Board, line: int, hertz: Fraction | None) -> int:
    """How many duties the timer behind a line tells apart."""
    timer = board.clockwork(line)
    if timer is not None and hertz:
        return pwm.best(timer, hertz).steps
    told: int = getattr(board.facts, "steps", 0)
    if told:
        return told
    return min(10**6, int(10**9 / hertz)) if board.link == "kernel" and hertz else STEPS


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
    if board.link == "strip":
        lamps = table.get("lamps", partial(convert.whole, low=1, high=1000), 1)
        last = 3 * board.facts.pixels
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


def _share(value: object, low: int = 0) -> int:
    share = parse(value, "a share", bare="%")
    if not low <= share <= 100:
        raise CallerError("", f"'{value}' is outside {low} to 100 %", f"Give {low} % to 100 %.")
    return round(share * 10_000)


def _light(kind: str, hertz: Fraction | None, table: Table) -> Light:
    """How it answers its duty: lamps with PWM of ours by perceived brightness, everything else straight."""
    default = LIGHTNESS if kind == "lamp" and hertz is not None else STRAIGHT
    curve: Light = table.get("curve", _curve, default)
    floor = table.get("lowest" if kind == "fan" else "floor", _share, 0)
    ceiling = table.get("ceiling", partial(_share, low=1), WHOLE)
    trim: tuple[int, ...] = (table.get("trim", partial(_share, low=1), WHOLE),)
    if kind == "colour-lamp":
        trim = table.get("white", _white, (WHOLE,))
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
    return tuple(_share(each, low=1) for each in value)


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
        points = [(_share(level), _share(duty)) for level, duty in rows]
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
    count = convert.whole(value.get("count", 1), 1, 100)
    there = board.position(pin.line)
    high = there.volts if there is not None and there.volts is not None else Fraction(33, 10)
    if ohms <= 0 or high <= count * forward:
        raise CallerError(
            "",
            f"{count} of {float(forward):g} V do not light from the pin's {float(high):g} V",
            "Feed them from a higher rail through a transistor: cairnwind wire led.",
        )
    return (high - count * forward) / ohms


def _switch(value: object) -> Switch:
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
        output = outputs.get(convert.text(value))
        if output is None:
            raise unknown("output", str(value), outputs)
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
            if each not in inputs:
                raise unknown("input", str(each), inputs)
            if not inputs[each].analogue:
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
            if each not in outputs:
                raise unknown("output", str(each), outputs)
            if outputs[each].takes not in ("level", "drive"):
                raise CallerError("", f"{each} is not switched on and off", "Name what is.")
        return {zone: value[zone] for zone in ZONES if zone in value}

    if table.has("zones"):
        found = Pad(
            name, label=table.get("label", convert.text, ""), dead=table.get("dead", _dead, 300_000),
            zones=table.get("zones", zones, {}) or {},
        )  # fmt: skip
        table.nothing_else(("zones", "label", "dead"))
        return found if found.zones else None
    left = table.need("left", motor, 'Say which motor is on the left: left = "trolley-left".')
    right = table.need("right", motor, 'Say which motor is on the right: right = "trolley-right".')
    found = Pad(
        name, left or "", right or "", table.get("label", convert.text, ""), table.get("dead", _dead, 80_000),
        table.get("most", partial(_share, low=1), WHOLE), table.get("curve", _exponent, 1.0), table.get("stick", stick, None),
    )  # fmt: skip
    table.nothing_else(("left", "right", "label", "dead", "most", "curve", "stick"))
    if left and left == right:
        table.point("right", "left and right are the same motor", "Name two.")
    return found if left and right else None


def _dead(value: object) -> int:
    share = _share(value)
    if share > WHOLE // 2:
        raise CallerError("", f"a dead zone of '{value}' leaves little to steer with", "Give 0 % to 50 %.")
    return share


def _exponent(value: object) -> float:
    if isinstance(value, bool) or not isinstance(value, int | float) or not 0.3 <= value <= 5:
        raise CallerError("", f"{value!r} is no exponent for a pad", "Write 0.3 to 5; 1 is straight.")
    return float(value)


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
        for name in names:
            if name not in able:
                raise unknown("sounder", str(name), able)
        return frozenset(names)

    start = table.need("from", _minute, 'Say when they begin: from = "22:00".')
    end = table.need("to", _minute, 'Say when they end: to = "07:00".')
    excepted = table.get("except", sounders, frozenset())
    table.nothing_else(("from", "to", "except"))
    if start is None or end is None:
        return None
    if start == end:
        table.point(
            "to", "quiet hours that end when they begin are none", "Take them away, or give them a length."
        )
    return Quiet(start, end, excepted)


def _minute(value: object) -> int:
    match = re.fullmatch(r"(\d{1,2}):(\d{2})", str(value))
    if match is None or int(match.group(1)) > 23 or int(match.group(2)) > 59:
        raise CallerError("", f"'{value}' is no time of day", 'Write it like "22:30".')
    return int(match.group(1)) * 60 + int(match.group(2))


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
    for each in value:
        if each not in outputs:
            raise unknown("output", str(each), outputs)
    return tuple(value)
