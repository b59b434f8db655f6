"""What is wired, and what to: boards, their headers and pins, supplies.

Facts only, all immutable; nothing of a site changes while the service runs, except by a reload that builds a new one.

What the site file says of them is declared here too, as of outputs, inputs and the site (`cairnwind.core.values.keys`): a field
that is a key is read, checked, documented and shown from its declaration.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from fractions import Fraction
from functools import partial
from typing import TYPE_CHECKING, Any

from cairnwind.core.physics.pwm import best
from cairnwind.core.values import entries
from cairnwind.core.values.fact import fact, field
from cairnwind.core.values.keys import written
from cairnwind.core.values.quantities import duration

if TYPE_CHECKING:
    from cairnwind.core.physics.pwm import Timer

POWER_ON = ("pull-up", "pull-down", "floating", "high", "low")
LABEL = written("for show", entries.text, default="")
CABLE = written('how its wire is marked at both ends: `"W12"`', entries.text, default="")
PLACE = written("for show: places group the listing and the console", entries.text, default="")
SENSES = ("active-high", "active-low")
MUTED = "muted"
"""What stands for its link where everything is decided and nothing is driven."""
ALL = frozenset({"output", "contact", "analogue", "counter", "encoder"})
STEPS = 4096
"""How many duties are told apart where nobody says what the timer is."""


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
class Enable:
    """The line of another board by which a board drives its outputs at all: its output-enable, or what switches its supply."""

    pin: Pin
    active_low: bool = False
    """Low is what enables."""
    supply: bool = False
    """It switches the supply: the board answers only while it is on."""
    after: int = 0
    """Nanoseconds from there until the board answers."""
    bias: tuple[Fraction, str] | None = None
    """The resistor that holds the line, and where it pulls."""
    host: Any = None
    """The facts of the board whose line it is."""


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
    enable: Enable | None = written(
        "a line of the kernel that has to be on for the board to drive anything, held by the [guard](boards.md#an-enable-line): "
        '`"host:line-5"`, or `{ pin = "host:line-5", sense = "active-low", switches = "supply", after = "300 ms", bias = "10 kohm down" }`',
        default=None,
    )
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
            functions = there.functions - getattr(self.facts, "lacks", frozenset())
            return functions | ({"tone"} if "pwm" in functions else frozenset())
        abilities = getattr(self.facts, "abilities", None)
        found: frozenset[str] | None = (
            abilities(line) if abilities else getattr(self.facts, "functions", None)
        )
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

    def unit(self, line: int) -> str:
        """What a line is measured in, where the board tells that by itself."""
        unit = getattr(self.facts, "unit_of", None)
        return unit(line) if unit else ""

    @property
    def serves(self) -> frozenset[str]:
        """What can be wired to it at all: outputs, and kinds of inputs."""
        found: frozenset[str] = getattr(self.facts, "serves", ALL)
        return found

    @property
    def wired(self) -> bool:
        """Whether anything is wired to its lines; else they are there already, or at somebody else's board."""
        return getattr(self.facts, "wired", True)

    @property
    def paired(self) -> bool:
        """Whether it follows encoders on two lines beside each other alone, the first of them even."""
        return getattr(self.facts, "paired", False)

    def knob(self, line: int) -> bool | None:
        """Whether this line of it is a whole knob; None where a knob is two lines."""
        knob = getattr(self.facts, "knob", None)
        return knob(line) if knob else None

    @property
    def muted(self) -> bool:
        """Whether nothing of it is driven or read."""
        return self.link == MUTED

    @property
    def drivers(self) -> bool:
        """Whether its lines may have an open drain or source; a simulated board has nothing to say against it."""
        return self.facts is None or getattr(self.facts, "drivers", False)

    @property
    def pulses(self) -> bool:
        """Whether a coil of it can be given current for a moment, whatever becomes of the service meanwhile; a simulated board has nothing to say against it."""
        return self.facts is None or getattr(self.facts, "pulses", False)

    @property
    def times(self) -> bool:
        """Whether it ends by itself what it is told to be at for a time."""
        return getattr(self.facts, "times", False)

    @property
    def decides(self) -> bool:
        """Whether somebody there decides about what it is told, by rules and reflexes of their own: then it is told who wants it."""
        return getattr(self.facts, "decides", False)

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
        return Pin(self.name, line, there.name if there else self.called[line] if self.called else "")

    @property
    def called(self) -> tuple[str, ...]:
        """What its lines are called, where they have names of their own."""
        found: tuple[str, ...] = getattr(self.facts, "called", ())
        return found

    @property
    def lines(self) -> list[int]:
        """Every line that can be wired."""
        if self.map:
            return sorted(self.map.lines)
        return [line for line in range(self.line_count) if line not in self.reserved]

    @property
    def reserved(self) -> frozenset[int]:
        """Lines that are the board's own, as far as that is known without it."""
        found: frozenset[int] = getattr(self.facts, "reserved", frozenset())
        return found


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


def either(words: Iterable[str]) -> str:
    """`"relay"`, `"lamp"` or `"fan"`."""
    *most, last = [f'`"{word}"`' for word in words]
    return f"{', '.join(most)} or {last}"
