"""What each kind of link has to know about its board, beyond name and map. Facts only: nothing is opened here."""

from __future__ import annotations

from collections.abc import Mapping
from fractions import Fraction

from cairnwind.core.physics.pwm import Timer
from cairnwind.core.values.fact import fact, field


@fact
class Kernel:
    """Lines of the Linux GPIO character device, PWM and analogue channels of its sysfs."""

    chip: str
    """Device path, or the chip's label or name."""
    pwm: str = ""
    """Name of the PWM chip, as in 'pwmchip0'; a position's ``channel`` is the channel of it."""
    analogue: str = ""
    """Name of the converter, as in 'iio:device0'; a position's ``channel`` is its voltage channel."""


@fact
class Chip:
    """A port expander or PWM controller, as its datasheet describes it: a register profile.

    Registers of a chip with more than eight lines come in pairs, the low one first.
    """

    name: str
    title: str
    lines: int
    base: int
    """Address with all switches off."""
    switches: int
    """Number of address switches; switch 0 is worth 1."""
    kind: str = "ports"
    """'ports' (on and off) or 'pwm'."""
    registers: Mapping[str, int] = field(default_factory=dict)
    direction_in: int = 1
    """What a direction bit is for an input."""
    writes: tuple[tuple[int, int], ...] = ()
    """(register, value) to be written first."""
    clock: Fraction = Fraction(0)
    """Hertz, of a PWM controller."""
    counts: int = 0
    """Counts of one PWM period."""
    stride: int = 0
    """Registers from one PWM channel to the next."""

    @property
    def wide(self) -> bool:
        """Whether its registers come in pairs."""
        return self.lines > 8

    def address(self, switches: int) -> int:
        """The address with the switches set to this number."""
        return self.base + switches


@fact
class Expander:
    """A chip on a two-wire bus."""

    chip: Chip
    bus: str
    """'/dev/i2c-1', or 'simulated' for a register-accurate chip in this process."""
    address: int

    @property
    def functions(self) -> frozenset[str]:
        """What each of its lines can do."""
        return frozenset({"pwm"} if self.chip.kind == "pwm" else ())

    @property
    def one_timer(self) -> str:
        """A PWM controller has one timer for all."""
        return "of the chip" if self.chip.kind == "pwm" else ""


@fact
class Relays:
    """A Modbus board that is sold: which coil is which line, and what its registers mean."""

    name: str
    title: str
    lines: int
    coil: int = 0
    """Address of line 0's coil."""
    inputs: int = 0
    """Discrete inputs: lines from ``lines`` on."""
    first_input: int = 0
    analogue: tuple[tuple[int, Fraction], ...] = ()
    """(input register, volts a count): lines after the inputs."""
    levels: tuple[tuple[int, int], ...] = ()
    """(holding register, counts at full): lines after those, to be dimmed."""


@fact
class Modbus:
    """A board on a serial line or a TCP connection that speaks Modbus."""

    port: str
    """Device path, 'usb:SERIAL' for an adapter by its serial number, or 'host:port'."""
    unit: int
    profile: Relays | None
    """None: our own firmware, which tells its pins itself."""
    baud: int = 115_200
    parity: str = "N"
    stop_bits: int = 1
    watchdog: int = 2_000_000_000
    """Nanoseconds without a valid frame after which the firmware goes to its safe values."""

    @property
    def clockwork(self) -> dict[int, Timer]:
        """The timers behind the PWM lines of our own firmware."""
        from cairnwind.boards import timers

        return {} if self.profile is not None else dict.fromkeys((14, 15, 28, 29), timers.load("small-board"))

    def dims(self, line: int) -> bool:
        """Whether a line has levels by itself: those of a profile."""
        own = self.profile
        return own is not None and line >= own.lines + own.inputs + len(own.analogue)

    @property
    def tcp(self) -> bool:
        """Whether the port is a network address."""
        return ":" in self.port and not self.port.startswith(("/", "usb:"))


@fact
class Strip:
    """A strip of addressable colour lamps on one data line. Its lines are channels: three for each lamp."""

    device: str
    """'/dev/spidev0.0', or 'simulated'."""
    pixels: int
    order: str = "GRB"
    """In which order a lamp takes its channels."""
    functions: frozenset[str] = frozenset({"pwm"})
    steps: int = 255

    def dims(self, line: int) -> bool:
        """Every line has levels by itself."""
        return True


@fact
class Broker:
    """Where the message broker is, and how to sign in to it."""

    host: str
    port: int
    secure: bool = False
    user: str = ""
    secret: str = ""
    """Name of the secret: a file of the state folder, or an environment variable."""
    key: str = ""
    """Name of the key that those who command by the broker carry; empty: nobody commands by it."""
    version: str = "5"
    authority: str = ""
    """Path of the certificate that signed the broker's; empty: those that the machine trusts."""
    every: int = 100_000_000
    """Nanoseconds between two messages on the state of one output, at least."""
    readings: int = 5_000_000_000
    """Nanoseconds between two messages on a value that moves, at least."""
    band: float = 0.0
    """How far a value has to move to be told before that."""
    tells: bool = True
    """Whether anything of the site is told there at all."""
    events: tuple[str, ...] = ("alarm", "trip")
    """Which events are told there, besides the state."""
    outputs: tuple[str, ...] = ()
    """Events that concern an output: of these only; empty: of all."""
    severity: str = "notice"
    """The least that an alarm has to have."""
    name: str = "broker"


@fact
class Network:
    """A board behind a broker, by topic and payload templates: ``{line}`` and ``{level}`` (0 to 100)."""

    command: str
    on: str
    off: str
    level: str
    """Payload of a level between off and on; empty: it cannot dim."""
    report: str
    """Topic on which the board tells what its lines are at; empty: it does not."""
    alive: str
    """Retained topic with the board's presence; empty: it has none."""
    here: str = "here"
    """Its payload while the board is there; any other says that it has gone."""
    retain: bool = False

    def dims(self, line: int) -> bool:
        """Whether a line can be told a level."""
        return bool(self.level)
