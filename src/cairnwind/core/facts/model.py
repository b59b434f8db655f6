"""What is wired: boards, pins, outputs, inputs, supplies.

Facts only, all immutable; nothing here changes while the service runs, except by a reload that builds a
new one. Sense and contact are recorded here and applied in `cairnwind.boards.wire`, nowhere else.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from fractions import Fraction
from typing import TYPE_CHECKING, Any, TypeVar

from cairnwind.core.physics.light import STRAIGHT, Light
from cairnwind.core.physics.scaling import Thermistor, along, back
from cairnwind.core.physics.shaping import Shape
from cairnwind.core.values import colours
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.fact import derive, fact, field
from cairnwind.core.values.settings import (
    FULL,
    KINDS,
    MOST,
    OFF,
    ZERO,
    Colour,
    Drive,
    Level,
    Setting,
    Tone,
    brief,
    read,
    show,
)

if TYPE_CHECKING:
    from cairnwind.core.physics.programs import Program
    from cairnwind.core.physics.pwm import Timer
    from cairnwind.core.physics.stick import Pad
    from cairnwind.core.values.moments import Where

T = TypeVar("T")


@fact
class Position:
    """One position of a connector, as its map tells it."""

    connector: str
    number: int
    line: int | None
    """The chip's line, or None for a supply or ground position."""
    role: str
    """'line', or what else is there: '5 V', '3.3 V', 'ground'."""
    functions: frozenset[str] = frozenset()
    """Beside plain switching and reading: 'pwm', 'analogue'."""
    timer: str = ""
    """The timer behind a PWM position: all positions of a timer share its frequency."""
    channel: int | None = None
    """Number of the PWM or analogue channel, where that is not the line's own number."""
    title: str = ""
    """What the chip's maker calls the line."""
    bank: str = ""
    volts: Fraction | None = None
    """What the pin shows when it is high."""
    bears: Fraction | None = None
    """The most that it may be given, in volts."""
    current: Fraction | None = None
    """The most that it gives or takes, in amperes."""
    power_on: str = ""
    """Before any software runs: one of `POWER_ON`, or empty where nobody knows."""
    pull: Fraction | None = None
    """Ohms of its own pull resistor, while it is pulled at power-on."""

    @property
    def name(self) -> str:
        """As in ``J2-9``."""
        return f"{self.connector}-{self.number}"


POWER_ON = ("pull-up", "pull-down", "floating", "high", "low")


@fact
class HeaderMap:
    """Which position of which connector is which line of the chip."""

    name: str
    title: str
    positions: Mapping[str, Position]
    """By position name, in the order of the connectors."""
    lines: Mapping[int, Position]
    """The same, by line."""
    sums: Mapping[str, Fraction] = field(default_factory=dict)
    """The most amperes that a bank's pins give together, by bank; under '' those of the whole header."""
    timers: Mapping[str, Timer] = field(default_factory=dict)
    """What its timers are, by the names that positions have for them."""

    def able(self, function: str) -> list[Position]:
        """The positions that have a function."""
        return [position for position in self.positions.values() if function in position.functions]


@fact
class Board:
    """Something with pins, and the link to it."""

    name: str
    link: str
    map: HeaderMap | None = None
    line_count: int = 0
    """Lines 0 to ``line_count - 1`` of a board without a map."""
    label: str = ""
    answers_after: int = 0
    """Of a simulated board: nanoseconds from a write to its confirmation."""
    facts: Any = None
    """What its link has to know beyond that: one of the classes in `cairnwind.boards.facts`."""

    def position(self, line: int) -> Position | None:
        """Where a line comes out, if the board has a map."""
        return self.map.lines.get(line) if self.map else None

    def timer(self, line: int) -> str:
        """The timer behind a line, if it is known that there is one."""
        there = self.position(line)
        return there.timer if there is not None and there.timer else getattr(self.facts, "one_timer", "")

    def clockwork(self, line: int) -> Timer | None:
        """What the timer behind a line is, where that is known."""
        named: Mapping[str, Timer] = self.map.timers if self.map else {}
        return named.get(self.timer(line)) or getattr(self.facts, "clockwork", {}).get(line)

    def can(self, line: int) -> frozenset[str] | None:
        """What a line can do beside plain switching and reading; None where only the board can tell."""
        there = self.position(line)
        if there is not None:
            return there.functions | ({"tone"} if "pwm" in there.functions else frozenset())
        found: frozenset[str] | None = getattr(self.facts, "functions", None)
        return found

    def pin(self, line: int) -> Pin:
        """The pin of a line."""
        there = self.position(line)
        return Pin(self.name, line, there.name if there else "")

    @property
    def lines(self) -> list[int]:
        """Every line that can be wired."""
        return sorted(self.map.lines) if self.map else list(range(self.line_count))


@fact
class Pin:
    """A line of a board, and the position it comes out on if the board has a map."""

    board: str
    line: int
    position: str = ""

    @property
    def name(self) -> str:
        """By position where there is one: ``shelf:J2-9``, else ``shelf:line-41``."""
        return f"{self.board}:{self.position}" if self.position else f"{self.board}:line-{self.line}"

    @property
    def both(self) -> str:
        """Both numbers: ``shelf:J2-9 (line 41)``."""
        return f"{self.name} (line {self.line})" if self.position else self.name


@fact
class Supply:
    """A rail that outputs draw from. Volts and amperes."""

    name: str
    volts: Fraction
    limit: Fraction | None = None


STEPS = 4096
"""How many duties are told apart where nobody says what the timer is."""
EXAMPLES = {
    "level": "a level like 40 %, on or off",
    "colour": "a colour like coral, #e07b1c or hue 30",
    "tone": "a tone like A4 or 440 Hz",
    "drive": "a drive from -100 % to 100 %",
}


@fact
class Switch:
    """The transistor between a pin and its load: volts, amperes, and seconds to switch on and off."""

    volts: Fraction
    current: Fraction
    rise: Fraction
    fall: Fraction


@fact
class Quiet:
    """Hours in which sounders are silent: minutes of the day in the site's zone, and who is excepted."""

    start: int
    end: int
    excepted: frozenset[str] = frozenset()


@fact
class Output:
    """A named load on a pin."""

    name: str
    kind: str
    pin: Pin
    label: str = ""
    place: str = ""
    active_low: bool = False
    normally_closed: bool = False
    safe: Setting = OFF
    rest: Setting = OFF
    rearm: str = "auto"
    on_stop: str = "safe"
    frequency: Fraction | None = None
    """Hertz, where the output is dimmed by PWM."""
    threshold: Level | None = None
    """Of an on/off output: from this level it is on."""
    words: tuple[str, str] = ("off", "on")
    supply: str = ""
    draws: Fraction | None = None
    """Amperes from its supply when on."""
    load: Fraction | None = None
    """Watts that it switches."""
    gives: Fraction | None = None
    """Amperes that the pin itself gives or takes."""
    bias: tuple[Fraction, str] | None = None
    """A resistor that holds the pin while nobody drives it: ohms, and 'up' or 'down'."""
    levels: bool = False
    """Its board dims it by itself: it has levels without a PWM frequency of ours."""
    by_software: bool = False
    """PWM made by a program, where the pin has none of its own."""
    others: tuple[int, ...] = ()
    """More lines of the same board: green and blue of a colour lamp, the line that reverses a motor."""
    reversal: str = ""
    """Of a motor with a line to reverse it: 'two lines' (one for each way) or 'direction' (PWM and a line for the way)."""
    light: Light = STRAIGHT
    steps: int = STEPS
    """How many duties its timer tells apart."""
    shape: Shape | None = None
    auto_off: int = 0
    """Nanoseconds after which what a person has on goes off, if they did not say how long; 0: it does not."""
    rated: tuple[int, int] = (0, 0)
    """How many switchings and how many nanoseconds on it is good for; 0: not said."""
    pixels: int = 0
    """Of a run on a strip: how many."""
    switch: Switch | None = None
    millihertz: int = 0
    """Its PWM frequency in millihertz; 0 where it has none. Follows from `frequency`, and is asked for at every step."""

    def __post_init__(self) -> None:
        frequency = self.frequency
        found = 0 if frequency is None else frequency.numerator * 1000 // frequency.denominator
        derive(self, "millihertz", found)

    @property
    def lines(self) -> tuple[int, ...]:
        """Every line it is wired to."""
        return (self.pin.line, *self.others)

    @property
    def takes(self) -> str:
        """What it is set to: 'level', 'colour', 'tone' or 'drive'."""
        return "drive" if self.reversal else KINDS[self.kind].takes

    @property
    def off(self) -> Setting:
        """Its zero."""
        return ZERO[self.takes]

    @property
    def full(self) -> Setting:
        """What a plain 'on' is."""
        return MOST[self.takes]

    @property
    def dimmable(self) -> bool:
        """Whether it has settings between off and on."""
        return self.frequency is not None or self.levels or self.takes in ("colour", "tone")

    @property
    def modulated(self) -> bool:
        """Whether its pins are given PWM by us."""
        return self.frequency is not None or self.takes == "tone"

    def modulates(self, line: int) -> bool:
        """Whether we give one of its lines PWM."""
        return self.modulated and not (self.reversal == "direction" and line != self.pin.line)

    def hertz(self, line: int, setting: Setting) -> int:
        """The frequency of one of its lines in millihertz; 0 where it has none."""
        if type(setting) is Tone:
            return setting.millihertz
        if type(setting) is Level and setting.millihertz:
            return setting.millihertz
        if self.frequency is None or (self.reversal == "direction" and line != self.pin.line):
            return 0
        return self.millihertz

    def duties(self, setting: Setting) -> tuple[int, ...]:
        """How far each of its lines is on for a setting, in parts per million, in the order of `lines`."""
        match setting:
            case Level(parts, _, raw):
                return (parts if raw or self.light is STRAIGHT else self.light.duty(parts),)
            case Tone(millihertz, loudness):
                return (loudness // 2 if millihertz else 0,)
            case Drive(parts):
                if self.reversal == "direction":
                    return abs(parts), FULL if parts < 0 else 0
                return max(0, parts), max(0, -parts)
            case Colour():
                if not setting.on:
                    return 0, 0, 0
                shares = [colours.linear(part) for part in setting]
                return tuple(
                    self.light.of_light(share, channel) if share else 0
                    for channel, share in enumerate(shares)
                )

    def shown(self, duties: tuple[int, ...]) -> Setting:
        """The setting that stands behind what its lines are found at: the inverse of `duties`, as near as that goes."""
        match self.takes:
            case "colour":
                top = [self.light.of_light(FULL, channel) for channel in range(3)]
                red, green, blue = (
                    colours.encoded(
                        min(FULL, (duty - self.light.floor) * FULL // max(1, most - self.light.floor))
                    )
                    if duty
                    else 0
                    for duty, most in zip(duties, top, strict=True)
                )
                return Colour(red, green, blue)
            case "tone":
                return Tone(0 if not duties[0] else 1_000_000, min(FULL, duties[0] * 2))
            case "drive" if self.reversal == "direction":
                return Drive(-duties[0] if duties[1] > FULL // 2 else duties[0])
            case "drive":
                return Drive(duties[0] - duties[1])
        return Level(duties[0] if self.light is STRAIGHT else self.light.level(duties[0]))

    def counts(self, setting: Setting) -> tuple[int, ...]:
        """What tells two settings apart at its pins: the counts of its timers, and the frequency of a tone."""
        steps = self.steps
        if type(setting) is Level:  # asked at every step of every fade
            duty = setting.parts if setting.raw or self.light is STRAIGHT else self.light.duty(setting.parts)
            return ((duty * steps + FULL // 2) // FULL or (duty > 0),)
        found = tuple([(duty * steps + FULL // 2) // FULL or (duty > 0) for duty in self.duties(setting)])
        return (*found, setting.millihertz) if type(setting) is Tone else found

    def say(self, setting: Setting | Program) -> str:
        """The setting in this output's words."""
        if isinstance(setting, tuple):  # all but a program
            return show(brief(setting), self.words, dimmable=self.dimmable)
        return setting.text

    def admit(self, setting: Setting) -> Setting:
        """The setting as this output can have it.

        A level between 0 and 100 % of an on/off output becomes off or on by its threshold; without one it
        raises `CallerError` (``bad-value``): the same on every surface.
        """
        if type(setting) is not type(self.off):
            raise CallerError(
                "bad-value",
                f"{self.name} cannot be set to {show(setting)}: it takes a {self.takes}.",
                f"Give it {EXAMPLES[self.takes]}.",
            )
        if (
            self.reversal
            and self.frequency is None
            and isinstance(setting, Drive)
            and abs(setting.parts) not in (0, FULL)
        ):
            raise CallerError(
                "bad-value",
                f"{self.name} cannot be set to {show(setting)}: its pins are used without PWM.",
                "Say 100 %, -100 % or off.",
            )
        if not isinstance(setting, Level) or setting.parts in (0, FULL) or self.dimmable:
            if isinstance(setting, Level) and (setting.raw or setting.millihertz) and self.frequency is None:
                raise CallerError(
                    "bad-value",
                    f"{self.name} cannot be set to {show(setting)}: its pin is used without PWM.",
                    "Say a level, on or off.",
                )
            return setting
        if self.threshold is not None:
            return Level(FULL) if setting >= self.threshold else OFF
        why = "its kind is on/off" if not KINDS[self.kind].dims else "its pin is used without PWM"
        fix = "Say on or off" + (
            ", or give it a 'frequency' in the site file."
            if KINDS[self.kind].dims
            else ", or give it a 'threshold' in the site file."
        )
        raise CallerError("bad-value", f"{self.name} cannot be set to {show(setting)}: {why}.", fix)

    def fits(self, program: Program) -> Program:
        """The program, if this output can be given it. Raises `CallerError` (``bad-value``)."""
        if any(type(segment.end) is not type(self.off) for segment in program.segments):
            raise CallerError(
                "bad-value",
                f"{self.name}: a {program.word} is not for what takes a {self.takes}.",
                "Give it to an output that does.",
            )
        if not self.dimmable and any(segment.shape != "hold" for segment in program.segments):
            raise CallerError(
                "bad-value",
                f"{self.name}: a {program.word} needs levels between off and on, and it has none.",
                "Blink it, or "
                + ("give it a 'frequency' in the site file." if KINDS[self.kind].dims else "say on or off."),
            )
        return program

    def read(self, text: object) -> Setting:
        """Read what a person wrote as a setting of this output. Raises `CallerError` (``bad-value``)."""
        return self.named(lambda: self.admit(read(text, self.takes, self.words)))

    def named(self, make: Callable[[], T]) -> T:
        """What ``make`` gives; its `CallerError` begins with the output's name."""
        try:
            return make()
        except CallerError as bad:
            if self.name in bad.sentence:
                raise
            raise CallerError(bad.code, f"{self.name}: {bad.sentence}", bad.remedy) from None


@fact
class Input:
    """A named button, switch or sensor on a pin."""

    name: str
    kind: str
    pin: Pin
    label: str = ""
    place: str = ""
    pull: str = "none"
    active_low: bool = False
    words: tuple[str, str] = ("closed", "open")
    """The word while inactive, and while active."""
    debounce: int = 0
    """Nanoseconds that a new state must last before it counts."""
    source: Fraction | None = None
    """The volts that its source puts on the wire."""
    unit: str = ""
    """Of an analogue input: what its value is in. Without a scale that is volts."""
    scale: tuple[tuple[float, float], ...] | Thermistor | None = None
    """Of an analogue input: points of (volts, value) that its value is on straight lines through, or a thermistor."""
    every: int = 0
    """Of an analogue input: nanoseconds between two readings that count; 0: as the board gives them."""
    median: int = 0
    """Of an analogue input: of how many readings the middle one counts; 0: of one."""
    settles: int = 0
    """Of an analogue input: nanoseconds in which it follows a step to 63 %; 0: at once."""
    plausible: tuple[float, float] = (float("-inf"), float("inf"))
    """Of an analogue input: values beyond these are not believed."""
    hysteresis: float = 0.0
    """How far a value has to come back before a comparison with it is no longer true."""
    stale: int = 0
    """Nanoseconds without a word after which it is unknown; 0: it may be silent for ever."""
    pulse: float = 1.0
    """Of a counter: what one pulse stands for, in its unit."""
    window: int = 0
    """Of a counter: its value is what came in the last so many nanoseconds; 0: since the start."""

    @property
    def lines(self) -> tuple[int, ...]:
        """Its one line."""
        return (self.pin.line,)

    @property
    def analogue(self) -> bool:
        """Whether it is measured."""
        return self.kind == "analogue"

    @property
    def valued(self) -> bool:
        """Whether it has a value instead of two states."""
        return self.kind != "contact"

    @property
    def repeat(self) -> int:
        """Nanoseconds after which an unchanged reading is told again; 0: it need not be."""
        if self.median or self.settles:
            return self.every or 100_000_000
        return self.stale // 3

    def value(self, volts: float) -> float | None:
        """The scaled value at so many volts on the pin; None where they stand for none."""
        if self.scale is None:
            return volts
        return self.scale.value(volts) if isinstance(self.scale, Thermistor) else along(self.scale, volts)

    def volts(self, value: float) -> float:
        """The volts that stand for a value: the inverse of `value`."""
        scale = self.scale
        if scale is None:
            return value
        if not isinstance(scale, Thermistor):
            return back(scale, value)
        low, high = scale.volts * 0.0021, scale.volts * 0.9979
        falling = (scale.value(low) or 0.0) > (scale.value(high) or 0.0)
        for _ in range(50):
            middle = (low + high) / 2
            if ((scale.value(middle) or 0.0) > value) == falling:
                low = middle
            else:
                high = middle
        return low

    def say(self, active: bool | None) -> str:
        """The state in this input's words."""
        return "unknown" if active is None else self.words[1 if active else 0]


LOOPBACK = ("127.0.0.1", "localhost", "::1")
"""Names by which a host knows itself, and nobody else knows it."""


@fact
class Site:
    """One installation: everything one service looks after."""

    name: str
    timezone: str = "UTC"
    latitude: float | None = None
    longitude: float | None = None
    supplies: Mapping[str, Supply] = field(default_factory=dict)
    boards: Mapping[str, Board] = field(default_factory=dict)
    outputs: Mapping[str, Output] = field(default_factory=dict)
    inputs: Mapping[str, Input] = field(default_factory=dict)
    pads: Mapping[str, Pad] = field(default_factory=dict)
    tunes: Mapping[str, Program] = field(default_factory=dict)
    quiet: Quiet | None = None
    groups: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    """Outputs that are named together."""
    broker: Any = None
    """Address and credentials of the message broker (`cairnwind.boards.facts.Broker`), if there is one."""
    remotes: tuple[Any, ...] = ()
    """The other ways in and out (`cairnwind.site.remotes`)."""
    listen: tuple[str, int] = ("127.0.0.1", 8470)
    tls: str = ""
    """'self-made', 'given' (``certificate``), 'plain', or nothing, which is plain too and for loopback only."""
    certificate: tuple[str, str] = ("", "")
    """Paths of the certificate and its key."""
    names: tuple[str, ...] = ()
    """Names of the host by which it may be called, beside those that it knows by itself."""
    durability: str = "power"
    source: tuple[str, str] = ("", "")
    """The path of the site file, and its text."""

    @property
    def where(self) -> Where:
        """Its time zone, and where it is."""
        from cairnwind.core.values.moments import Where  # time zones are not needed on the way to safe

        return Where(self.timezone, self.latitude, self.longitude)
