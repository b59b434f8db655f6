"""One unit that speaks Modbus, RTU on a serial line or TCP, as its master sees it: the line, which boards share, and its frames.

A request without an answer is followed by silence, until the answer that may still come has come or can come no
more: what is late must never be taken for the answer to what was asked next.
"""

from __future__ import annotations

import os
import select
import time
from abc import abstractmethod
from collections.abc import Callable, Mapping
from functools import partial
from typing import Any

from cairnwind.boards import chips, serialports
from cairnwind.boards.chips import Chip
from cairnwind.boards.facts import Relays
from cairnwind.boards.feeder import Feeder
from cairnwind.boards.link import LineError
from cairnwind.boards.quadrature import Hand
from cairnwind.boards.serialboard import SerialBoard
from cairnwind.boards.serialports import Line
from cairnwind.boards.worker import Worker
from cairnwind.core.facts.hardware import Board
from cairnwind.core.facts.inputs import Input
from cairnwind.core.physics.pwm import Timer
from cairnwind.core.values import entries
from cairnwind.core.values.errors import BoardError
from cairnwind.core.values.fact import fact
from cairnwind.core.values.keys import written
from cairnwind.core.values.quantities import duration

ANSWER_WITHIN = 0.25
"""Seconds; a board on a slow line gets the time of its frames on top."""
FIRST_ANSWER_WITHIN = 5.0
"""Seconds from opening a port in which its board may still be starting: many do when a port is opened, and again
when it is opened once more. So the port stays open that long, and the first answer ends the wait."""
LOST_AFTER = 3
"""Frames in a row without an answer after which the board counts as away; one that is away is asked once, and others have the line meanwhile."""
STUCK = 1.0
"""Seconds without progress after which the link's own thread counts as hung, and no longer feeds its board."""
UP = 4
"""The register that is read to keep a board of ours alive."""

SIMULATED = "simulated"
"""The port of a board without hardware: our own firmware, run as a program."""


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
    chip: Chip | None = written(
        "of our own firmware: the chip it runs on, for `check`; shipped: `\"atmega1284p\"`, `\"atmega324p\"`, `\"lm3s6965\"`; your own: `chips/NAME.toml` beside the file",
        default=None, unsaid='"atmega1284p"',
    )  # fmt: skip
    baud: int = written(
        "speed of the line; 9600 with a profile",
        partial(entries.one_of, among=serialports.BAUDS), default=115_200, unsaid="115200",
    )  # fmt: skip
    parity: str = serialports.PARITY
    stop_bits: int = serialports.STOP_BITS
    framing: str = written(
        'over a network: `"tcp"`, or `"rtu"`: frames as on a serial line, which an adapter passes on',
        partial(entries.choice, among=("tcp", "rtu")), default="tcp", unsaid='"tcp"',
    )  # fmt: skip
    echo: bool = written(
        "whether its adapter gives back what is sent, as some for two wires do",
        entries.flag,
        default=False,
        unsaid="false",
    )
    rs485: bool = written(
        "whether the port's driver turns the two wires round by itself: the kernel's RS-485 mode",
        entries.flag,
        default=False,
        unsaid="false",
    )
    silence: int = written(
        "how long the line is silent before each frame; 3.5 characters, as the standard has it, unless said",
        partial(duration, longest=1), default=0,
    )  # fmt: skip
    """Nanoseconds."""
    watchdog: int = written(
        "without a valid frame for so long the firmware goes to its safe values; of a board that is sold it is none, unless it is known to have one",
        partial(duration, longest=60), default=2_000_000_000, unsaid='"2 s"',
    )  # fmt: skip
    """Nanoseconds."""
    reference: float = written(
        "of our own firmware: what its converter measures against, which is its supply: `\"3.3 V\"`",
        lambda value: float(entries.a("voltage", value)), default=5.0, unsaid='"5 V"',
    )  # fmt: skip
    """Volts."""

    @property
    def keeps_rules(self) -> bool:
        """Whether it is a board that keeps rules by itself: one with our firmware."""
        return self.profile is None

    @property
    def times(self) -> bool:
        """Whether it ends by itself what is for a time."""
        return self.profile is None

    @property
    def paired(self) -> bool:
        """Whether it follows encoders by itself, on pairs of lines: with our firmware."""
        return self.profile is None

    @property
    def pulses(self) -> bool:
        """Whether it gives a coil current for a moment by itself, also when it rests: with our firmware."""
        return self.profile is None

    @property
    def its_chip(self) -> Chip:
        """The chip of a board with our own firmware."""
        return self.chip or chips.default()

    @property
    def clockwork(self) -> dict[int, Timer]:
        """The timers behind the PWM lines of our own firmware."""
        return {} if self.profile is not None else self.its_chip.clockwork

    def dims(self, line: int) -> bool:
        """Whether a line has levels by itself: those of a profile."""
        own = self.profile
        return own is not None and line >= own.lines + own.inputs + len(own.analogue)

    @property
    def reserved(self) -> frozenset[int]:
        """Lines that are the board's own."""
        return self.its_chip.reserved if self.profile is None else frozenset()

    def abilities(self, line: int) -> frozenset[str] | None:
        """What a line can beside switching and reading, as far as its chip is known; the board says the same itself."""
        return None if self.profile is not None else self.its_chip.functions(line)

    @property
    def numbered(self) -> bool:
        """Whether each answer carries the number of its question."""
        return self.tcp and self.framing == "tcp"

    @property
    def tcp(self) -> bool:
        """Whether the port is a network address."""
        return ":" in self.port and not self.port.startswith(("/", "usb:"))


class Master(Worker):
    """The link to one unit on a serial line or at an address, fed while the engine is fresh and silent when it is not."""

    def __init__(self, board: Board) -> None:
        super().__init__(board)
        assert isinstance(board.facts, Modbus)
        self.facts = board.facts
        self.program: SerialBoard | None = None
        """What stands for a board without hardware."""
        self._hand = Hand(self._pretend_level, 0.003)
        self._line: Line | None = None
        self._name = ""
        self._client: Any = None
        self._missed = 0
        self._answered = False
        """It has, since it was taken."""
        self._patient_until = 0.0
        self._polled = 0.0
        self._gap = 0.0 if self.facts.tcp else max(0.00175, 38.5 / self.facts.baud, self.facts.silence / 1e9)
        self._answers = 1.0 if self.facts.tcp else ANSWER_WITHIN + 300 * 11 / self.facts.baud
        """Seconds in which an answer has to come."""
        self._sent = 0.0
        """Monotonic seconds at which the board last got a frame."""
        self._feeder: Feeder | None = None

    @abstractmethod
    def meet(self) -> None:
        """Find out whether it is the board that is meant, and set it up. Raises `BoardError`."""

    @abstractmethod
    def look(self) -> None:
        """Read once what is to be read. Raises `BoardError`."""

    # --- coming and going ---------------------------------------------------------------------------------

    def connect(self) -> None:
        """Open the line if nobody has, and wait for the board's first answer, however soon that comes."""
        # a port may have several names, and is one line
        port = self.facts.port if self.facts.tcp else os.path.realpath(self._find())
        self._name, self._line = port, Line.take(port)
        with self._line.turn:
            if self._line.client is None:
                self._line.client = self._open(port)
                self._patient_until = time.monotonic() + FIRST_ANSWER_WITHIN
            self._client = self._line.client
        self._missed, self._answered = 0, False
        self.meet()

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

    def _pretend_level(self, line: int, high: bool) -> None:
        if self.program is not None:
            self.program.level(line, high)

    def pretend(self, input: Input) -> Callable[[Any], None] | None:
        """How an input of a board without hardware is worked."""
        if self.facts.port != SIMULATED:
            return None

        if input.kind == "encoder":
            return lambda steps: self._hand.turn(input, steps)

        def put(value: Any) -> None:
            if self.program is not None and input.analogue:
                self.program.volts(input.pin.line, value)
            elif self.program is not None:
                self.program.level(input.pin.line, value != input.active_low)

        return put

    def _open(self, port: str) -> Any:
        from pymodbus import FramerType
        from pymodbus.client import ModbusSerialClient, ModbusTcpClient

        assert self._line is not None
        if self.facts.tcp:
            host, _, number = port.rpartition(":")
            client: Any = ModbusTcpClient(
                host,
                port=int(number),
                timeout=self._answers,
                retries=0,
                trace_packet=self._line.trace,
                framer=FramerType.SOCKET if self.facts.numbered else FramerType.RTU,
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
                handle_local_echo=self.facts.echo,
            )
        if not self._connect(client):
            raise self._cannot_open(port)
        return client

    def _connect(self, client: Any) -> bool:
        import logging

        logging.getLogger("pymodbus").setLevel(logging.CRITICAL)  # it is told here, once
        if not client.connect():
            return False
        if not self.facts.tcp:
            self._set_port(client)
        return True

    def _set_port(self, client: Any) -> None:
        """What of a serial port is more than its speed. Raises `BoardError`."""
        from serial.rs485 import RS485Settings

        if self.facts.rs485:
            try:
                client.socket.rs485_mode = RS485Settings()
            except (OSError, ValueError):
                client.close()
                raise BoardError(
                    "not-supported",
                    f"{self._name} cannot turn its two wires round: its driver has no RS-485 mode.",
                    "Take rs485 away, and use an adapter that turns them by itself.",
                ) from None
        try:
            # or what came is passed on 16 ms late, by the adapters that are usual
            client.socket.set_low_latency_mode(True)
        except (OSError, ValueError, AttributeError):
            pass  # not all drivers know it

    def _cannot_open(self, port: str) -> BoardError:
        if self.facts.tcp:
            return BoardError(
                "no-answer", f"Nothing listens at {port}.", "See to the board's network and address."
            )
        return serialports.trouble(port) or BoardError(
            "device", f"{port} cannot be opened.", "It is tried again."
        )

    def _alive(self) -> bool:
        """Whether the board may be fed: the engine turns, and so does this link."""
        return self._up and self.fresh() and time.monotonic() - self.turned < STUCK

    def feeding(self) -> tuple[str, tuple[int, ...], dict[str, int]]:
        """The request that keeps the board alive, and what goes with it."""
        return "read_input_registers", (UP,), {"count": 1}

    def _feed(self) -> None:
        """One frame, before whatever else waits for the line. Whether the board is lost, the link's own thread finds out."""
        line, client = self._line, self._client
        if line is None or client is None:
            return
        with line.turn.first():
            if not self._alive() or not client.connected:
                return
            try:
                what, args, more = self.feeding()
                self._exchange(line, client, what, *args, **more)
            except Exception:  # whatever it is, it is told when the link's own thread meets it
                self._hush(line)

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
        self.look()
        self.traffic.rounds += 1

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
                if self._missed >= (LOST_AFTER if self._answered else 1) and (
                    self.closed or time.monotonic() > self._patient_until
                ):
                    if not self.facts.tcp:
                        self._find()
                    if (
                        self._line is not None
                        and self._line.raw[0]
                        and self._line.raw[1].startswith(self._line.raw[0])
                    ):
                        raise BoardError(
                            "echo",
                            f"{self._name} gives back what is sent, instead of an answer of unit {self.facts.unit}.",
                            "Where its adapter does that: echo = true. See to the board's supply, its wires and its number.",
                        ) from error
                    raise BoardError(
                        "no-answer",
                        f"unit {self.facts.unit} on {self._name} does not answer.",
                        "See to its supply, its wires and its number.",
                    ) from error
                continue
            self.turned = time.monotonic()
            self._missed, self._answered = 0, True
            self._patient_until = 0.0
            loud = not quiet or self.traffic.watched
            if loud:
                self.traffic.add("sent", sent, text)
            if answer.isError():
                self.traffic.add("got", got, f"exception {answer.exception_code}")
                refused = LineError(
                    "board",
                    f"unit {self.facts.unit} on {self._name} refuses '{text}' (exception {answer.exception_code})",
                    "",
                )
                refused.more["exception"] = answer.exception_code
                raise refused
            found = list(answer.registers or answer.bits)
            if loud:
                self.traffic.add("got", got, " ".join(str(int(each)) for each in found[:24]) or "done")
            return found

    def _exchange(self, line: Line, client: Any, what: str, *args: Any, **more: Any) -> Any:
        """One request and its answer, by whoever has the line."""
        line.raw = [b"", b""]
        if (early := line.spoken + self._gap - time.monotonic()) > 0:
            time.sleep(early)
        self._sent = time.monotonic()
        try:
            return self._call(client, what, *args, **more)
        finally:
            line.spoken = time.monotonic()

    def _call(self, client: Any, what: str, *args: Any, **more: Any) -> Any:
        return getattr(client, what)(*args, device_id=self.facts.unit, **more)

    def _hush(self, line: Line) -> None:
        """Say nothing for as long as an answer may take, or until it has come, late and whole, and drop what comes: the next answer is the next
        question's."""
        port = getattr(line.client, "socket", None)
        if self.facts.numbered or port is None:
            return
        came = b""
        try:
            end = time.monotonic() + self._answers
            while (left := end - time.monotonic()) > 0:
                if select.select([port.fileno()], [], [], left)[0]:
                    new = port.recv(512) if self.facts.tcp else port.read(port.in_waiting or 1)
                    if not new:
                        return  # it was closed
                    came += new
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


WHOLE = 65535
"""The greatest value of a register."""


def _whole(frame: bytes) -> bool:
    """Whether bytes end with a whole frame of RTU."""
    from pymodbus.framer import FramerRTU

    return any(
        FramerRTU.compute_CRC(frame[at:-2]) == int.from_bytes(frame[-2:], "big")
        for at in range(len(frame) - 3)
    )


def runs(states: Mapping[int, bool]) -> list[tuple[int, list[bool]]]:
    """Lines side by side, as one request each: (first line, their states)."""
    found: list[tuple[int, list[bool]]] = []
    for line in sorted(states):
        if found and found[-1][0] + len(found[-1][1]) == line:
            found[-1][1].append(states[line])
        else:
            found.append((line, [states[line]]))
    return found
