"""What is wired: boards, pins, outputs, inputs, supplies.

Facts only, all immutable; nothing here changes while the service runs, except by a reload that builds a
new one. Sense and contact are recorded here and applied in `cairnwind.boards.wire`, nowhere else.

What the site file says of them is declared here too (`cairnwind.core.values.keys`): a field that is a key is read, checked,
documented and shown from its declaration.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from fractions import Fraction
from functools import partial
from typing import TYPE_CHECKING, Any, TypeVar

from cairnwind.core.physics import scaling
from cairnwind.core.physics.light import STRAIGHT, Light
from cairnwind.core.physics.pwm import best
from cairnwind.core.physics.scaling import Thermistor, along, back
from cairnwind.core.physics.shaping import Shape
from cairnwind.core.values import colours, entries
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.fact import derive, fact, field
from cairnwind.core.values.keys import Key, keys, written
from cairnwind.core.values.quantities import duration
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


LABEL = written("for show", entries.text, default="")
CABLE = written('how its wire is marked at both ends: `"W12"`', entries.text, default="")
PLACE = written("for show: places group the listing and the console", entries.text, default="")


@fact
class Board:
    """Something with pins, and the link to it."""

    name: str
    link: str = written(
        "how it is reached: {links}; [boards.md](boards.md) says more of each",
        needed='Say how it is reached: link = "simulated".',
    )
    map: HeaderMap | None = written(
        'a header map (shipped: `"header-34"`; your own: `maps/NAME.toml` beside the file); expanders and Modbus boards know',
        default=None,
    )
    line_count: int = written(
        "instead of a map: how many lines there are", entries.count, name="lines", default=0
    )
    """Lines 0 to ``line_count - 1`` of a board without a map."""
    label: str = LABEL
    answers_after: int = written(
        "how slow a simulated board is; it answers at once unless said",
        duration,
        default=0,
        kinds=("simulated",),
    )
    """Nanoseconds from a write to its confirmation."""
    facts: Any = None
    """What its link has to know beyond that, and what its lines can do: the facts of its kind (`cairnwind.boards.kinds`)."""

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

    def dims(self, line: int) -> bool:
        """Whether a line has levels by itself, without PWM of ours."""
        dims = getattr(self.facts, "dims", None)
        return bool(dims and dims(line))

    def duties(self, line: int, hertz: Fraction | None) -> int:
        """How many duties are told apart on a line."""
        timer = self.clockwork(line)
        if timer is not None and hertz:
            return best(timer, hertz).steps
        count = getattr(self.facts, "duties", None)
        return getattr(self.facts, "steps", 0) or (count(hertz) if count else 0) or STEPS

    @property
    def software(self) -> bool:
        """Whether a program can make PWM on its lines; a simulated board has nothing to say against it."""
        return self.facts is None or getattr(self.facts, "software", False)

    @property
    def confirms(self) -> bool:
        """Whether anybody is told what its lines are at."""
        return getattr(self.facts, "confirms", True)

    @property
    def channels(self) -> int:
        """Of a strip: how many lines its lamps have together; 0: it is none."""
        return 3 * getattr(self.facts, "pixels", 0)

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
    volts: Fraction = written(
        "its voltage", partial(entries.a, "voltage", bare="v"), needed="Say its voltage: volts = 5."
    )
    limit: Fraction | None = written(
        'what its outputs may draw together: `"800 mA"`', partial(entries.a, "current"), default=None
    )


def _or(words: Iterable[str]) -> str:
    """`"relay"`, `"lamp"` or `"fan"`."""
    *most, last = [f'`"{word}"`' for word in words]
    return f"{', '.join(most)} or {last}"


SENSES = ("active-high", "active-low")
INPUT_KINDS = ("contact", "analogue", "counter")
STATES = ("contact", "counter")
"""Kinds of input whose line is high or low."""
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

    start: int = written(
        "when they begin", entries.minute, name="from", needed='Say when they begin: from = "22:00".'
    )
    end: int = written("when they end", entries.minute, name="to", needed='Say when they end: to = "07:00".')
    excepted: frozenset[str] = written(
        "a list of sounders that are not silent then", name="except", default=frozenset()
    )


@fact
class Output:
    """A named load on a pin."""

    name: str
    kind: str = written(
        f"{_or(KINDS)}; heaters, motors and locks re-arm by command unless said",
        partial(entries.choice, among=tuple(KINDS)),
        needed=f"Say what it is: {' or '.join(KINDS)}.",
    )
    pin: Pin = written("where it is wired", needed='Say where it is wired: pin = "board:J2-9".')
    label: str = LABEL
    place: str = PLACE
    cable: str = CABLE
    active_low: bool = written(
        '`"active-high"` or `"active-low"`: written once, here; everywhere else on means the load is on',
        partial(entries.second, among=SENSES),
        name="sense",
        default=False,
        unsaid='"active-high"',
    )
    normally_closed: bool = written(
        '`"normally-open"` or `"normally-closed"`: with the latter a dead coil leaves the load on',
        partial(entries.second, among=("normally-open", "normally-closed")),
        name="contact",
        default=False,
        unsaid='"normally-open"',
    )
    frequency: Fraction | None = written(
        "PWM of a lamp, colour lamp, fan or motor: makes it dimmable; all pins of a timer share it",
        default=None,
    )
    """Hertz."""
    by_software: bool = written(
        '`"software"`: PWM by a thread, on a line of the kernel without its own, up to 200 Hz',
        partial(entries.second, among=("hardware", "software")),
        name="pwm",
        default=False,
        unsaid='"hardware"',
    )
    threshold: Level | None = written("of an on/off output: levels from here on count as on", default=None)
    safe: Setting = written("the setting that gates and failures send it to; off unless said", default=OFF)
    rest: Setting = written("the setting that nobody claims; `safe` unless said", default=OFF)
    rearm: str = written(
        '`"auto"`, or `"command"`: after a stop, a lost link or a restart it takes a new command',
        partial(entries.choice, among=("auto", "command")),
        default="auto",
        unsaid='"auto"',
    )
    on_stop: str = written(
        '`"safe"`, or `"keep"`: stays as it is when the service stops in good order',
        partial(entries.choice, among=("safe", "keep")),
        default="safe",
        unsaid='"safe"',
    )
    auto_off: int = written(
        "a time after which what a person has on goes off, if they did not say how long", duration, default=0
    )
    """Nanoseconds; 0: it does not."""
    rated: tuple[int, int] = written(
        'what it is good for: `"100000 switchings"`, `"25000 h"`, or a list of both',
        entries.rated,
        default=(0, 0),
    )
    """How many switchings and how many nanoseconds on; 0: not said."""
    words: tuple[str, str] = written(
        'its own two words, off first: `["shut", "open"]`',
        entries.words,
        default=("off", "on"),
        unsaid='["off", "on"]',
    )
    draws: Fraction | None = written(
        'what it draws when it is on: `{ supply = "coil-rail", current = "72 mA" }`', default=None
    )
    """Amperes from its supply when on."""
    supply: str = ""
    load: Fraction | None = written('what it switches: `"85 W"`', partial(entries.a, "power"), default=None)
    """Watts."""
    gives: Fraction | None = written(
        'what the pin itself has to give or take: `"5 mA"`', partial(entries.a, "current"), default=None
    )
    """Amperes."""
    bias: tuple[Fraction, str] | None = written(
        'the resistor that holds it before software runs: `"12 kohm down"`', entries.bias, default=None
    )
    """Ohms, and 'up' or 'down'."""
    switch: Switch | None = written(
        "for `check`: `{ volts, current, rise, fall }` of the transistor", default=None
    )
    levels: bool = False
    """Its board dims it by itself: it has levels without a PWM frequency of ours."""
    others: tuple[int, ...] = ()
    """More lines of the same board: green and blue of a colour lamp, the line that reverses a motor."""
    reversal: str = ""
    """Of a motor with a line to reverse it: 'two lines' (one for each way) or 'direction' (PWM and a line for the way)."""
    light: Light = STRAIGHT
    steps: int = STEPS
    """How many duties its timer tells apart."""
    shape: Shape | None = None
    pixels: int = 0
    """Of a run on a strip: how many."""
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


OUTPUT_KEYS = (
    *keys(Output),
    Key("pins", 'instead of `pin`: `{ red = "…", green = "…", blue = "…" }`', kinds=("colour-lamp",)),
    Key("white", 'its white balance: `["100 %", "80 %", "70 %"]`', kinds=("colour-lamp",)),
    Key("lamps", "on a strip: how many from `pin` on are one", partial(entries.whole, low=1, high=1000), 1, "1", kinds=("colour-lamp",)),
    Key("curve", '`"lightness"` (with PWM), `"straight"`, `"power 1.8"`, or a table `[[0, 0], [50, 20], [100, 100]]` of level and duty', kinds=("lamp",)),
    Key("floor", "the least duty that lights", entries.share, 0, '"0 %"', kinds=("lamp", "colour-lamp")),
    Key("ceiling", "the most duty that it gets", partial(entries.share, low=1), FULL, '"100 %"', kinds=("lamp", "colour-lamp")),
    Key("trim", "what matches it to its neighbours", partial(entries.share, low=1), FULL, '"100 %"', kinds=("lamp",)),
    Key("lowest", "the duty that 1 % is", entries.share, 0, '"0 %"', kinds=("fan",)),
    Key("kick", "full for so long when it starts; not at all unless said", partial(duration, longest=30), 0, kinds=("fan",)),
    Key("reverse", 'its second line, or `{ direction = "…" }`', kinds=("motor",)),
    Key("pause", "how long it stands before it turns round; not at all unless said", partial(duration, longest=30), 0, kinds=("motor",)),
    Key("ramp", "the time from nothing to full; at once unless said", partial(duration, longest=30), 0, kinds=("motor",)),
    Key("led", 'instead of `gives`, for `check`: `{ forward = "2.1 V", resistor = "220 ohm", count = 1 }`'),
)  # fmt: skip
"""Those that fill fields of an output, and those that fields are put together from."""


@fact
class Input:
    """A named button, switch or sensor on a pin."""

    name: str
    kind: str = written(
        _or(INPUT_KINDS),
        partial(entries.choice, among=INPUT_KINDS),
        needed=f"Say what it is: {' or '.join(INPUT_KINDS)}.",
    )
    pin: Pin = written("where it is wired", needed='Say where it is wired: pin = "board:J3-4".')
    label: str = LABEL
    place: str = PLACE
    cable: str = CABLE
    active_low: bool = written(
        '`"active-high"` or `"active-low"`',
        partial(entries.second, among=SENSES),
        name="sense",
        default=False,
        unsaid='"active-high"',
        kinds=STATES,
    )
    words: tuple[str, str] = written(
        "its own two words, inactive first",
        entries.words,
        default=("closed", "open"),
        unsaid='["closed", "open"]',
        kinds=("contact",),
    )
    pull: str = written(
        '`"up"`, `"down"` or `"none"`',
        partial(entries.choice, among=("up", "down", "none")),
        default="none",
        unsaid='"none"',
        kinds=STATES,
    )
    debounce: int = written(
        "how long a new state must last before it counts; it counts at once unless said",
        partial(duration, longest=60),
        default=0,
        kinds=STATES,
    )
    """Nanoseconds."""
    source: Fraction | None = written(
        "the volts that its source puts on the wire: held against what the pin bears",
        partial(entries.a, "voltage"),
        default=None,
    )
    unit: str = written(
        'what its value is in: `"°C"`; volts without a scale',
        entries.text,
        default="",
        kinds=("analogue", "counter"),
    )
    scale: tuple[tuple[float, float], ...] | Thermistor | None = written(
        'points of volts and value, two or more: `[["0.5 V", -40], ["2.5 V", 85]]`; or `{ thermistor = "10 kohm", beta = 3950, '
        'series = "10 kohm", volts = "3.3 V", side = "below" }`, `steinhart = [a, b, c]` in place of the first two',
        scaling.read,
        default=None,
        kinds=("analogue",),
    )
    """Points of (volts, value) that its value is on straight lines through, or a thermistor."""
    every: int = written(
        "time between two readings that count; as the board gives them unless said",
        partial(duration, longest=3600),
        default=0,
        kinds=("analogue",),
    )
    """Nanoseconds."""
    median: int = written(
        "of so many readings the middle one counts",
        partial(entries.whole, low=3, high=99),
        default=0,
        kinds=("analogue",),
    )
    settles: int = written(
        "the time in which it follows a step to 63 %; at once unless said",
        partial(duration, longest=3600),
        default=0,
        kinds=("analogue",),
    )
    """Nanoseconds."""
    plausible: tuple[float, float] = written(
        "two numbers: values beyond these are not believed, and it is unknown",
        entries.plausible,
        default=(float("-inf"), float("inf")),
        kinds=("analogue",),
    )
    hysteresis: float = written(
        "how far a value has to come back before a comparison with it is no longer true",
        entries.number,
        default=0.0,
        unsaid="0",
        kinds=("analogue", "counter"),
    )
    stale: int = written(
        "a silence after which it is unknown; it may be silent for ever unless said", duration, default=0
    )
    """Nanoseconds."""
    pulse: float = written(
        "what one pulse stands for, in its unit", entries.number, default=1.0, unsaid="1", kinds=("counter",)
    )
    window: int = written(
        "its value is what came in the last so long; since the start unless said",
        partial(duration, longest=86400),
        default=0,
        kinds=("counter",),
    )
    """Nanoseconds."""

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


SERVICE = "service"
"""Keys of this kind are of the table ``[service]``; the others of a site stand at the top."""


@fact
class Site:
    """One installation: everything one service looks after."""

    name: str = written(
        "the site's name",
        entries.text,
        name="site",
        needed='Give the site a name: site = "Saltmarsh Kiln House".',
    )
    timezone: str = written("IANA name; times are shown in it", entries.zone, default="UTC", unsaid='"UTC"')
    latitude: float | None = written("degrees", partial(entries.between, low=-90.0, high=90.0), default=None)
    longitude: float | None = written(
        "degrees", partial(entries.between, low=-180.0, high=180.0), default=None
    )
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
    listen: tuple[str, int] = written(
        "where it listens; any address that is not this machine's own needs `tls` or a certificate ([remotes.md](remotes.md#from-elsewhere))",
        entries.listen,
        default=("127.0.0.1", 8470),
        unsaid='"127.0.0.1:8470"',
        kinds=(SERVICE,),
    )
    tls: str = written(
        '`"self-made"`, or `"plain"`: unprotected',
        partial(entries.choice, among=("self-made", "plain")),
        default="",
        kinds=(SERVICE,),
    )
    """'self-made', 'given' (``certificate``), 'plain', or nothing, which is plain too and for loopback only."""
    certificate: tuple[str, str] = written(
        "a PEM file, beside the site file", default=("", ""), kinds=(SERVICE,)
    )
    """Paths of the certificate and its key."""
    names: tuple[str, ...] = written(
        "other names of this host", entries.hosts, default=(), unsaid="[]", kinds=(SERVICE,)
    )
    durability: str = written(
        '`"power"`: acknowledged survives a power cut; `"process"`: a killed process',
        partial(entries.choice, among=("power", "process")),
        default="power",
        unsaid='"power"',
        kinds=(SERVICE,),
    )
    source: tuple[str, str] = ("", "")
    """The path of the site file, and its text."""

    @property
    def where(self) -> Where:
        """Its time zone, and where it is."""
        from cairnwind.core.values.moments import Where  # time zones are not needed on the way to safe

        return Where(self.timezone, self.latitude, self.longitude)
