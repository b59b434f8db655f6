"""Boards that speak Modbus, RTU on a serial line or TCP: relay boards that are sold, and our own firmware.

A board that is sold is read as its profile says. Our own firmware tells its pins itself (docs/firmware.md has
its registers) and goes to its safe values when no frame comes for the watchdog's time. So nothing is sent
while the engine is not fresh: a hung engine looks to the board like a dead one. While it is, a thread of its own
feeds the board (`Feeder`): polling, driving and waiting for other boards on the line must not let it starve.

A request without an answer is followed by silence, until the answer that may still come has come or can come no
more: what is late must never be taken for the answer to what was asked next.
"""

from __future__ import annotations

import select
import time
import tomllib
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from functools import cache, partial
from pathlib import Path
from typing import Any

from cairnwind.boards import devices, profiles, serialboard, serialports, wire
from cairnwind.boards.facts import Relays
from cairnwind.boards.feeder import Feeder
from cairnwind.boards.kinds import Kind, Reads, Share
from cairnwind.boards.link import LineError, Seen
from cairnwind.boards.serialboard import SerialBoard
from cairnwind.boards.serialports import Line
from cairnwind.boards.wire import Put
from cairnwind.boards.worker import Worker
from cairnwind.core.facts.hardware import Board
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.facts.trials import Trial
from cairnwind.core.physics.pwm import Timer
from cairnwind.core.values import entries
from cairnwind.core.values.errors import BoardError, CallerError
from cairnwind.core.values.fact import fact
from cairnwind.core.values.keys import written
from cairnwind.core.values.quantities import duration
from cairnwind.core.values.settings import FULL

IDENTITY, MAP_VERSION = 0x4357, 1
"""What our firmware says that it is, and the version of its map that this link knows (the high byte)."""
ANSWER_WITHIN = 0.25
"""Seconds; a board on a slow line gets the time of its frames on top."""
FIRST_ANSWER_WITHIN = 5.0
"""Seconds from opening a port in which its board may still be starting: many do when a port is opened, and again
when it is opened once more. So the port stays open that long, and the first answer ends the wait."""
LOST_AFTER = 3
"""Frames in a row without an answer after which the board counts as away."""
STUCK = 1.0
"""Seconds without progress after which the link's own thread counts as hung, and no longer feeds its board."""
WATCHDOG, MODE, VALUE, SAFE, FREQUENCY, TONE_MS = 0, 32, 64, 96, 224, 240
FACTS, UP, LIFE, LEVELS, CAPABLE, EDGES = 0, 4, 12, 16, 32, 64
OFF, OUTPUT, PULL_UP, PWM, ANALOGUE, TONE = range(6)
CAN = {"pwm": 4, "analogue": 8, "tone": 16}
CAUSES = {
    1: "its supply came",
    2: "its reset pin",
    4: "its supply dipped",
    8: "its own watchdog",
    16: "its debug port",
}
"""Bits of the register that says why it was reset: those of the chip's MCUSR."""
CLOCKS_DIFFER = 60
"""Seconds by which the clock of a board of version 1.0 may be ahead: it tells 16 bits of seconds, and nothing else of a reset."""
ANALOGUE_FULL, ANALOGUE_VOLTS = 1023, 5.0
WHOLE = 65535


OWN = "firmware"
SIMULATED = "simulated"
"""The port of a board without hardware: our own firmware, run as a program."""
OWN_LINES = 32


@cache
def _reference() -> Mapping[str, frozenset[int]]:
    """The lines of our firmware's reference board, by what they can."""
    data = tomllib.loads((Path(serialboard.__file__).parent / "images" / "reference.toml").read_text("utf-8"))
    return {what: frozenset(data[what]) for what in ("reserved", "pwm", "analogue", "tone")}


@fact
class Modbus:
    """A board on a serial line or a TCP connection that speaks Modbus."""

    port: str = written(
        'a device (`"/dev/ttyUSB0"`), an adapter by its serial number (`"usb:SERIAL"`), `"host:502"`, or `"simulated"`: our firmware, run as a program',
        partial(
            entries.like,
            form=r"/\S+|usb:\S+|[\w.-]+:\d{1,5}|simulated",
            what="not a port",
            example='"/dev/ttyUSB0", "usb:SERIAL" or "host:502"',
        ),
        needed='Say where it is: port = "/dev/ttyUSB0", "usb:SERIAL" or "host:502".',
    )
    unit: int = written("its unit", partial(entries.whole, low=1, high=247), default=1, unsaid="1")
    profile: Relays | None = written(
        "a relay board that is sold, by its profile: shipped ones, or your own `profiles/NAME.toml` beside the file; `\"firmware\"` is ours",
        default=None, unsaid='"firmware"',
    )  # fmt: skip
    """None: our own firmware, which tells its pins itself."""
    baud: int = written(
        "speed of the line; 9600 with a profile",
        partial(entries.one_of, among=serialports.BAUDS), default=115_200, unsaid="115200",
    )  # fmt: skip
    parity: str = serialports.PARITY
    stop_bits: int = serialports.STOP_BITS
    watchdog: int = written(
        "without a valid frame for so long the firmware goes to its safe values; of a board that is sold it is none, unless it is known to have one",
        partial(duration, longest=60), default=2_000_000_000, unsaid='"2 s"',
    )  # fmt: skip
    """Nanoseconds."""

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
    def reserved(self) -> frozenset[int]:
        """Lines that are the board's own."""
        return _reference()["reserved"] if self.profile is None else frozenset()

    def abilities(self, line: int) -> frozenset[str] | None:
        """What a line can beside switching and reading, as our firmware's reference board has it; the board says the same itself."""
        if self.profile is not None:
            return None
        return frozenset(what for what in ("pwm", "analogue", "tone") if line in _reference()[what])

    @property
    def tcp(self) -> bool:
        """Whether the port is a network address."""
        return ":" in self.port and not self.port.startswith(("/", "usb:"))


class ModbusLink(Worker):
    """The link to one unit on a serial line or at an address, fed while the engine is fresh and silent when it is not."""

    def __init__(self, board: Board) -> None:
        super().__init__(board)
        assert isinstance(board.facts, Modbus)
        self.facts = board.facts
        self.program: SerialBoard | None = None
        """What stands for a board without hardware."""
        self._line: Line | None = None
        self._name = ""
        self._client: Any = None
        self._can: dict[int, tuple[int, int]] = {}
        """Of our firmware, by pin: what it can do, and its timer."""
        self._frequencies: dict[int, int] = {}
        self._missed = 0
        self._patient_until = 0.0
        self._tells = False
        """It counts its starts (version 1.1 and later)."""
        self._life = (0, 0)
        """How often the board has started, or, where it does not count that, seconds since it did; and how often it has rested by itself."""
        self._seen = 0.0
        """Monotonic seconds at which that was so."""
        self._polled = 0.0
        self._gap = 0.0 if self.facts.tcp else max(0.00175, 38.5 / self.facts.baud)
        self._answers = 1.0 if self.facts.tcp else ANSWER_WITHIN + 300 * 11 / self.facts.baud
        """Seconds in which an answer has to come."""
        self._sent = 0.0
        """Monotonic seconds at which the board last got a frame."""
        self._feeder: Feeder | None = None

    # --- coming and going ---------------------------------------------------------------------------------

    def connect(self) -> None:
        """Open the line if nobody has, and wait for the board's first answer, however soon that comes."""
        port = self.facts.port if self.facts.tcp else self._find()
        self._name, self._line = port, Line.take(port)
        with self._line.turn:
            if self._line.client is None:
                self._line.client = self._open(port)
                self._patient_until = time.monotonic() + FIRST_ANSWER_WITHIN
            self._client = self._line.client
        self._missed = 0
        if self.facts.profile is None:
            self._meet()
        else:
            self._ask("read_coils", self.facts.profile.coil, count=1)

    def _find(self) -> str:
        """The path of the port. Raises `BoardError`."""
        if self.facts.port != SIMULATED:
            return serialports.find(self.facts.port)
        if self.program is None:
            try:
                self.program = SerialBoard()
            except OSError as error:
                raise BoardError(
                    "no-device",
                    f"The firmware is not there as a program: {error.strerror}.",
                    "It is built from firmware/ where there is a C compiler: make setup.",
                ) from None
        return self.program.port

    def close(self) -> None:
        """End the link, and the program that stands for the board."""
        super().close()
        if self.program is not None:
            self.program.end()

    def pretend(self, input: Input) -> Callable[[Any], None] | None:
        """How an input of a board without hardware is worked."""
        if self.facts.port != SIMULATED:
            return None

        def put(value: Any) -> None:
            if self.program is not None and input.analogue:
                self.program.volts(input.pin.line, value)
            elif self.program is not None:
                self.program.level(input.pin.line, value != input.active_low)

        return put

    def _open(self, port: str) -> Any:
        from pymodbus.client import ModbusSerialClient, ModbusTcpClient

        assert self._line is not None
        if self.facts.tcp:
            host, _, number = port.rpartition(":")
            client: Any = ModbusTcpClient(
                host, port=int(number), timeout=self._answers, retries=0, trace_packet=self._line.trace
            )
        else:
            client = ModbusSerialClient(
                port,
                baudrate=self.facts.baud,
                parity=self.facts.parity,
                stopbits=self.facts.stop_bits,
                timeout=self._answers,
                retries=0,
                trace_packet=self._line.trace,
            )
        if not self._connect(client):
            raise self._cannot_open(port)
        return client

    def _connect(self, client: Any) -> bool:
        import logging

        logging.getLogger("pymodbus").setLevel(logging.CRITICAL)  # it is told here, once
        return bool(client.connect())

    def _cannot_open(self, port: str) -> BoardError:
        if self.facts.tcp:
            return BoardError(
                "no-answer", f"Nothing listens at {port}.", "See to the board's network and address."
            )
        return serialports.trouble(port) or BoardError(
            "device", f"{port} cannot be opened.", "It is tried again."
        )

    def _meet(self) -> None:
        """Who is it, which pins has it, and what must it do: modes and safe values before anything is driven."""
        facts = self._ask("read_input_registers", FACTS, count=9)
        if facts[0] != IDENTITY:
            raise BoardError(
                "identity", f"What answers as unit {self.facts.unit} on {self._name} is no board of ours (it says 0x{facts[0]:04X}).",
                "Give its profile, or load our firmware: cairnwind firmware load.",
            )  # fmt: skip
        if facts[1] >> 8 != MAP_VERSION:
            raise BoardError(
                "version", f"Its firmware is version {facts[1] >> 8}.{facts[1] & 255}, and this service speaks {MAP_VERSION}.",
                "Load the firmware that came with this version: cairnwind firmware load.",
            )  # fmt: skip
        told = self._ask("read_input_registers", CAPABLE, count=facts[3])
        self._tells = facts[1] & 255 > 0
        self._life = self._lives() if self._tells else (facts[4], facts[8])
        self._seen = time.monotonic()
        self._frequencies.clear()
        self._can = {pin: (word & 255, word >> 8) for pin, word in enumerate(told)}
        self.traffic.add(
            "got", b"", f"firmware {facts[1] >> 8}.{facts[1] & 255}, {facts[3]} pins, up for {facts[4]} s"
        )
        self._write(WATCHDOG, self.facts.watchdog // 1_000_000)
        for lines, error in self._unfit():
            self._mark(lines, error)
        self._set_up()
        if self.facts.watchdog:
            self._feeder = Feeder(
                self.board.name, self.facts.watchdog / 1e9, alive=self._alive, heard=lambda: self._sent, feed=self._feed
            )  # fmt: skip

    def fits(self, come: Collection[int]) -> None:
        """Our firmware tells what its pins can do; of a bought board its profile has told that."""
        for lines, error in self._unfit():
            if {*come} & {*lines}:
                raise error

    def _unfit(self) -> Iterator[tuple[tuple[int, ...], BoardError]]:
        """What is wired to lines that cannot do it, and why."""
        if self.facts.profile is not None:
            return
        timers: dict[int, Output] = {}
        for output in self._named.values():
            for line in output.lines:
                dimmed = output.modulates(line)
                error = self._unable(line, 4 if dimmed else 1, output.name)
                first = timers.setdefault(self._can[line][1], output) if dimmed and error is None else output
                if first.frequency != output.frequency:
                    error = BoardError(
                        "timer", f"{output.name} and {first.name} share a timer, and so one frequency.",
                        f"Give both the same, or move one; cairnwind pins {self.board.name} shows the timers.",
                    )  # fmt: skip
                if error is not None:
                    yield output.lines, error
                    break
        for line, input in self.inputs.items():
            error = self._unable(line, 8 if input.analogue else 2 if input.pull == "up" else 3, input.name)
            if error is None and input.pull == "down":
                error = BoardError(
                    "pin",
                    f"{input.name}: the board has no pull-downs",
                    'Fit a resistor, and say pull = "none".',
                )
            if error is not None:
                yield (line,), error

    def _mark(self, lines: Iterable[int], error: BoardError) -> None:
        """Whoever is on these lines is at fault."""
        self.broken.update(dict.fromkeys(lines, error))
        self.traffic.add("lost", b"", error.sentence)
        for line in lines:
            self.unknown(line)

    def adopt(self, come: Collection[int], gone: Collection[int]) -> None:
        """Modes and safe values of lines that are used otherwise; the coils of a bought board need none."""
        if self.facts.profile is None:
            self._set_up(self.tried.keys() - {*come})

    def _set_up(self, tried: Collection[int] = ()) -> None:
        """Have every pin of our firmware in its mode, with its safe value; what is so already is left alone."""
        modes = self._ask("read_holding_registers", MODE, count=len(self._can))
        for output in self._named.values():
            self._each(output.lines, partial(self._set_output, output, modes))
        for line, input in self.inputs.items():
            mode = ANALOGUE if input.analogue else PULL_UP if input.pull == "up" else OFF
            if modes[line] != mode:
                self._each((line,), partial(self._set_mode, mode))
        wired = {*self.outputs, *self.inputs, *tried} - self.broken.keys()
        for line, mode in enumerate(modes):
            if mode != OFF and line not in wired and self._can[line][0]:
                self._write(MODE + line, OFF)

    def _each(self, lines: tuple[int, ...], do: Callable[[int], object]) -> None:
        """Do something with each line of a thing; what the board refuses is that thing's fault."""
        if self.broken.keys() & {*lines}:
            return
        try:
            for line in lines:
                do(line)
        except LineError as error:
            self._mark(lines, error)

    def _set_mode(self, mode: int, line: int) -> None:
        self._write(MODE + line, mode)

    def _set_output(self, output: Output, modes: Sequence[int], line: int) -> None:
        high = wire.to_pin(output, output.safe, line)
        mode = PWM if output.modulates(line) else OUTPUT
        if mode == PWM and output.frequency:
            self._set_frequency(line, round(output.frequency * 1000))
        self._write(SAFE + line, round(high * WHOLE / FULL) if mode == PWM else int(high > 0))
        if modes[line] != mode:
            self._write(MODE + line, mode)

    def _alive(self) -> bool:
        """Whether the board may be fed: the engine turns, and so does this link."""
        return self._up and self.fresh() and time.monotonic() - self.turned < STUCK

    def _feed(self) -> None:
        """One frame, before whatever else waits for the line. Whether the board is lost, the link's own thread finds out."""
        line, client = self._line, self._client
        if line is None or client is None:
            return
        with line.turn.first():
            if not self._alive() or not client.connected:
                return
            try:
                self._exchange(line, client, "read_input_registers", UP, count=1)
            except Exception:  # whatever it is, it is told when the link's own thread meets it
                self._hush(line)

    def timers(self) -> tuple[tuple[int, str], ...]:
        """As our firmware tells them."""
        return tuple((pin, f"T{timer}") for pin, (_, timer) in self._can.items() if timer != 255)

    def _unable(self, line: int, bits: int, name: str) -> BoardError | None:
        if line < len(self._can) and self._can[line][0] & bits:
            return None
        able = ", ".join(str(pin) for pin, (can, _) in self._can.items() if can & bits)
        return BoardError(
            "pin", f"line {line} of {self.board.name}, which {name} is wired to, cannot do that.", f"Lines that can: {able}."
        )  # fmt: skip

    def disconnect(self) -> None:
        """Leave the line; the last one closes it."""
        if self._feeder is not None:
            self._feeder.end()
            self._feeder = None
        if self._line is None:
            return
        line = Line.give(self._name)
        self._line = None
        self._client = None
        if line is not None and line.client is not None:
            line.client.close()

    # --- driving ------------------------------------------------------------------------------------------

    def put(self, levels: Mapping[int, Put]) -> Mapping[int, int]:
        """Write what has changed, switched lines together; read back what the board then has."""
        if not levels:
            return {}
        return self._put_sold(levels) if self.facts.profile else self._put_own(levels)

    def _put_own(self, levels: Mapping[int, Put]) -> Mapping[int, int]:
        plain = {
            line: put.parts > 0 for line, put in levels.items() if not self.outputs[line].modulates(line)
        }
        for first, states in _runs(plain):
            self._ask("write_coils", first, states)
        shown: dict[int, int] = {}
        for line, (parts, millihertz) in levels.items():
            if line not in plain:
                if millihertz:
                    self._set_frequency(line, millihertz)
                counts = round(parts * WHOLE / FULL)
                self._write(VALUE + line, counts)
                now = self._ask("read_holding_registers", VALUE + line, count=1)[0]
                shown[line] = parts if now == counts else now * FULL // WHOLE
        if plain:
            self._polled = 0.0  # read back at once, and inputs with it
            words = self._ask("read_input_registers", LEVELS, count=2)
            bits = words[0] | words[1] << 16
            shown |= {line: FULL if bits >> line & 1 else 0 for line in plain}
        return shown

    def _put_sold(self, levels: Mapping[int, Put]) -> Mapping[int, int]:
        profile = self.facts.profile
        assert profile is not None
        first_level = profile.lines + profile.inputs + len(profile.analogue)
        plain = {line: put.parts > 0 for line, put in levels.items() if line < profile.lines}
        for first, states in _runs(plain):
            self._ask("write_coils", profile.coil + first, states)
        shown: dict[int, int] = {}
        if plain:
            bits = self._ask("read_coils", profile.coil, count=profile.lines)
            shown = {line: FULL if bits[line] else 0 for line in plain}
        for line, put in levels.items():
            if line >= first_level:
                register, full = profile.levels[line - first_level]
                counts = round(put.parts * full / FULL)
                self._ask("write_register", register, counts)
                now = self._ask("read_holding_registers", register, count=1)[0]
                shown[line] = put.parts if now == counts else now * FULL // full
        return shown

    def _set_frequency(self, line: int, millihertz: int) -> None:
        timer = self._can[line][1]
        if self._frequencies.get(timer) == millihertz:
            return
        hundredths = millihertz // 10
        self._ask("write_registers", FREQUENCY + 2 * timer, [hundredths >> 16, hundredths & WHOLE])
        self._frequencies[timer] = millihertz

    # --- reading ------------------------------------------------------------------------------------------

    def poll(self, seconds: float) -> None:
        """Read everything, as fast as the line allows while anything is to be read; else keep the watchdog fed."""
        busy = bool(self.inputs or self.tried)
        pause = 0.0 if busy else min(0.5, self.facts.watchdog / 1e9 / 4) if self.facts.watchdog else 0.5
        if pause:
            left = self._polled + pause - time.monotonic()
            if left > 0:
                self.rest(min(left, seconds))
            if time.monotonic() < self._polled + pause:
                return
        else:
            # the silence that the standard asks for between frames; a drive ends it sooner
            self.rest(self._gap)
        self._polled = time.monotonic()
        if self.facts.profile is None:
            self._poll_own()
        else:
            self._poll_sold()
        self.traffic.rounds += 1

    def _poll_own(self) -> None:
        if self._tells:
            words = self._ask("read_input_registers", LIFE, count=14, quiet=True)
            self._same_life((words[0], words[1]))
            words = words[4:]
        else:
            up, rests = self._ask("read_input_registers", UP, count=5, quiet=True)[::4]
            self._same_life((up, rests))
            words = self._ask("read_input_registers", LEVELS, count=10, quiet=True)
        bits = words[0] | words[1] << 16
        for line, input in self.inputs.items():
            if line in self.broken:
                continue
            if not input.analogue:
                self.seen(line, bool(bits >> line & 1))
            elif words[2 + line] <= ANALOGUE_FULL:
                self.measured(
                    line, words[2 + line], ANALOGUE_FULL, words[2 + line] / ANALOGUE_FULL * ANALOGUE_VOLTS
                )
        for line, output in self.outputs.items():
            if not output.modulates(line):
                self.observed(line, FULL if bits >> line & 1 else 0)
        for line, trial in self.tried.items():
            if trial.mode == "analogue":
                raw = words[2 + line]
                self.readings[line] = {
                    "raw": raw,
                    "full": ANALOGUE_FULL,
                    "volts": raw / ANALOGUE_FULL * ANALOGUE_VOLTS,
                }
            elif trial.mode == "count":
                count = self._ask("read_input_registers", EDGES + line, count=1, quiet=True)[0]
                reading = self.readings.setdefault(line, {})
                reading.setdefault("start", count)
                reading |= {
                    "level": FULL if bits >> line & 1 else 0,
                    "count": (count - reading["start"]) & WHOLE,
                }
            elif trial.mode not in ("pwm", "tone"):
                self.seen(line, bool(bits >> line & 1))

    def _lives(self) -> tuple[int, int]:
        lives, rests = self._ask("read_input_registers", LIFE, count=2)
        return lives, rests

    def _same_life(self, now: tuple[int, int]) -> None:
        """Before anything else is made of what it answers: it has not been reset, and has not gone to its safe values by itself. What it shows
        after that is nobody's doing, and nothing to be put right: it is set up anew, from safe. Raises `BoardError`."""
        (before, rested), self._life = self._life, now
        passed, self._seen = time.monotonic() - self._seen, time.monotonic()
        gone = (now[0] - before) & WHOLE
        if (gone != 0) if self._tells else (gone > passed + CLOCKS_DIFFER):
            bits = self._ask("read_input_registers", UP + 1, count=1)[0]
            why = ", ".join(said for bit, said in CAUSES.items() if bits & bit)
            raise BoardError(
                "board", f"the board has been reset{f' ({why})' if why else ''}", "It is set up anew."
            )
        if now[1] != rested:
            raise BoardError("board", "the board went to its safe values by itself", "It is set up anew.")

    def _poll_sold(self) -> None:
        profile = self.facts.profile
        assert profile is not None
        coils = self._ask("read_coils", profile.coil, count=profile.lines, quiet=True)
        for line in range(profile.lines):
            self.observed(line, FULL if coils[line] else 0)
        first = profile.lines
        if profile.inputs:
            with self._unknown_where_refused(range(first, first + profile.inputs)):
                states = self._ask(
                    "read_discrete_inputs", profile.first_input, count=profile.inputs, quiet=True
                )
                for number in range(profile.inputs):
                    self.seen(first + number, bool(states[number]))
        for number, (register, volts) in enumerate(profile.analogue):
            line = first + profile.inputs + number
            if line in self.inputs or line in self.tried:
                with self._unknown_where_refused((line,)):
                    raw = self._ask("read_input_registers", register, count=1, quiet=True)[0]
                    self.measured(line, raw, WHOLE, raw * float(volts))

    @contextmanager
    def _unknown_where_refused(self, lines: Iterable[int]) -> Iterator[None]:
        """What the board refuses to tell of inputs is not known of these, and is nobody else's fault."""
        try:
            yield
        except LineError:
            for line in lines:
                self.unknown(line)

    def attempt_now(self, line: int, trial: Trial | None) -> None:
        """Put a bare pin into a mode, as far as the board can."""
        if self.facts.profile is not None:
            raise BoardError(
                "pin", f"lines of {self.board.name} are what its profile says; give it a name to use it", ""
            )
        can, _ = self._can.get(line, (0, 255))
        if trial is None:
            if can:
                self._write(MODE + line, OFF)
            return
        modes = {"output": (OUTPUT, 1), "pwm": (PWM, 4), "tone": (TONE, 16), "analogue": (ANALOGUE, 8)}
        pulled = (PULL_UP, 2) if trial.pull == "up" else (OFF, 1)
        mode, bit = modes.get(trial.mode, pulled)
        if not can & bit or trial.pull == "down":
            able = ", ".join(f"line-{pin}" for pin, (bits, _) in self._can.items() if bits & bit)
            raise BoardError(
                "pin", f"line {line} of {self.board.name} has no such mode; lines that have: {able}", ""
            )
        self._write(SAFE + line, 0)
        self._write(MODE + line, mode)
        self.readings[line] = {}
        if trial.mode == "output":
            self._write(VALUE + line, int(trial.parts > 0))
        elif trial.mode == "pwm":
            self._set_frequency(line, trial.millihertz)
            self._write(VALUE + line, round(trial.parts * WHOLE / FULL))
            self.readings[line] = {"level": trial.parts, "period": 10**12 // max(1, trial.millihertz)}
        elif trial.mode == "tone":
            self._write(TONE_MS, 60_000)
            self._write(VALUE + line, trial.millihertz // 1000)
            self.readings[line] = {"level": FULL // 2}

    def survey(self) -> Mapping[int, Seen]:
        """What the firmware says of its pins."""
        known = {line: seen.level for line, seen in super().survey().items()}
        known |= {
            line: FULL if high else 0
            for line, high in list(self.heard.shown.items())
            if isinstance(high, bool)
        }
        if self.facts.profile is not None:
            return {line: Seen(level, functions=frozenset()) for line, level in known.items()}
        return {
            line: Seen(
                known.get(line), "" if can else "the board itself", "",
                frozenset(name for name, bit in CAN.items() if can & bit), "" if timer == 255 else f"T{timer}",
            )
            for line, (can, timer) in self._can.items()
        }  # fmt: skip

    # --- frames -------------------------------------------------------------------------------------------

    def _write(self, register: int, value: int) -> None:
        self._ask("write_register", register, value)

    def _ask(self, what: str, *args: Any, quiet: bool = False, **more: Any) -> list[Any]:
        """One request and its answer, tried again a few times. Raises `BoardError` when the board is away."""
        from pymodbus.exceptions import ModbusException

        assert self._line is not None
        text = f"{what.replace('_', ' ')} {', '.join(map(str, (*args, *more.values())))}"
        while True:
            try:
                with self._line.turn:
                    if not self._client.connected and not self._connect(self._client):
                        raise BoardError(
                            "no-device", f"{self._name} has gone.", "It is taken up again when it is back."
                        )
                    try:
                        answer = self._exchange(self._line, self._client, what, *args, **more)
                        if not _answers(answer, what, *args, **more):
                            raise ModbusException("what came answers another question")
                    except (ModbusException, OSError):
                        self._hush(self._line)
                        raise
                    sent, got = self._line.raw
            except (ModbusException, OSError) as error:
                self._missed += 1
                self.traffic.add("lost", b"", f"{text}: no answer")
                if self._missed >= LOST_AFTER and (self.closed or time.monotonic() > self._patient_until):
                    if not self.facts.tcp:
                        self._find()
                    raise BoardError(
                        "no-answer",
                        f"unit {self.facts.unit} on {self._name} does not answer.",
                        "See to its supply, its wires and its number.",
                    ) from error
                continue
            self.turned = time.monotonic()
            self._missed = 0
            self._patient_until = 0.0
            loud = not quiet or self.traffic.watched
            if loud:
                self.traffic.add("sent", sent, text)
            if answer.isError():
                self.traffic.add("got", got, f"exception {answer.exception_code}")
                raise LineError(
                    "board",
                    f"unit {self.facts.unit} on {self._name} refuses '{text}' (exception {answer.exception_code})",
                    "",
                )
            found = list(answer.registers or answer.bits)
            if loud:
                self.traffic.add("got", got, " ".join(str(int(each)) for each in found[:24]) or "done")
            return found

    def _exchange(self, line: Line, client: Any, what: str, *args: Any, **more: Any) -> Any:
        """One request and its answer, by whoever has the line."""
        line.raw = [b"", b""]
        self._sent = time.monotonic()
        return getattr(client, what)(*args, device_id=self.facts.unit, **more)

    def _hush(self, line: Line) -> None:
        """Say nothing for as long as an answer may take, or until it has come, late and whole, and drop what comes: the next answer is the next
        question's."""
        port = getattr(line.client, "socket", None)
        if self.facts.tcp or port is None:
            return  # there each answer carries the number of its question
        came = b""
        try:
            end = time.monotonic() + self._answers
            while (left := end - time.monotonic()) > 0:
                if select.select([port.fileno()], [], [], left)[0]:
                    came += port.read(port.in_waiting or 1)
                    if _whole(came):
                        end = min(end, time.monotonic() + 2 * self._gap)
        except (OSError, ValueError):
            pass  # the port has gone


FUNCTIONS = {
    "read_coils": 1, "read_discrete_inputs": 2, "read_holding_registers": 3, "read_input_registers": 4, "write_coil": 5, "write_register": 6,
    "write_coils": 15, "write_registers": 16,
}  # fmt: skip


def _answers(answer: Any, what: str, first: int, *told: Any, count: int = 0) -> bool:
    """Whether an answer is one to this question: on a serial line nothing but its form tells that."""
    function = FUNCTIONS[what]
    if answer.function_code & 0x7F != function or answer.isError():
        return bool(answer.function_code & 0x7F == function)
    if function <= 2:
        return len(answer.bits) == -(-count // 8) * 8
    if function <= 4:
        return len(answer.registers) == count
    return bool(answer.address == first) and (function < 15 or answer.count == len(told[0]))


def _whole(frame: bytes) -> bool:
    """Whether bytes end with a whole frame of RTU."""
    from pymodbus.framer import FramerRTU

    return any(
        FramerRTU.compute_CRC(frame[at:-2]) == int.from_bytes(frame[-2:], "big")
        for at in range(len(frame) - 3)
    )


def _runs(states: Mapping[int, bool]) -> list[tuple[int, list[bool]]]:
    """Lines side by side, as one request each: (first line, their states)."""
    found: list[tuple[int, list[bool]]] = []
    for line in sorted(states):
        if found and found[-1][0] + len(found[-1][1]) == line:
            found[-1][1].append(states[line])
        else:
            found.append((line, [states[line]]))
    return found


def _reads(beside: Sequence[Path]) -> Reads:
    return {"profile": lambda value: None if value == OWN else profiles.relays(entries.text(value), beside)}


def _made(**values: Any) -> Modbus:
    if values.get("profile") is not None:
        if values.get("port") == SIMULATED:
            error = CallerError(
                "", "only our own firmware can be run as a program", "Take the profile away, or name a port."
            )
            error.more["key"] = "port"
            raise error
        values.setdefault("baud", 9600)
        values.setdefault(
            "watchdog", 0
        )  # a board that is sold rests by itself only where that is known of it
    return Modbus(**values)


def _lines(its: Modbus | None) -> int:
    own = its.profile if its is not None else None
    return OWN_LINES if own is None else own.lines + own.inputs + len(own.analogue) + len(own.levels)


def _looks(site: Site, board: Board) -> Iterator[devices.Found]:
    its: Modbus = board.facts
    if its.port == SIMULATED:
        yield devices.Found(None, "it is simulated: the firmware, run as a program.")
    elif its.tcp:
        yield devices.Found(None, "nothing of this machine is needed to reach it.")
    else:
        yield devices.openable(serialports.find(its.port), "serial port")


def _shares(its: Modbus) -> Share | None:
    """Units on a line, which has one speed; at a network address units share no speed."""
    if its.port == SIMULATED:
        return None
    parity = {"N": "no parity", "E": "even parity", "O": "odd parity"}[its.parity]
    line = (
        ""
        if its.tcp
        else f"{its.baud} baud, {parity}, {its.stop_bits} stop bit{'s' if its.stop_bits > 1 else ''}"
    )
    return Share(
        its.port if its.tcp else serialports.terms(its.port), f"unit {its.unit}", line, "port", "Give each a number of its own: unit = 2."
    )  # fmt: skip


KIND = Kind(
    "a board that speaks Modbus on a serial line or by TCP: our own firmware, or a relay board by its profile",
    lambda board, _: ModbusLink(board), Modbus, _made, _reads, _lines, looks=_looks, shares=_shares,
)  # fmt: skip
