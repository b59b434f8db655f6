"""Port expanders and PWM controllers on two wires, as their register profiles describe them.

All changed lines of a board go out in one transaction. What confirms a drive is the output register, read back:
it tells what the chip was told, not what its pins can do under load.

When the service dies these chips go on as they are: they have no watchdog. Loads that may not are put on a board
that has one, or the chip behind an enable line of the kernel (`cairnwind.boards.enabling`).
"""

from __future__ import annotations

import time
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import Any

from cairnwind.boards import devices, profiles, wire
from cairnwind.boards.access import TWO_WIRE
from cairnwind.boards.facts import Chip
from cairnwind.boards.kinds import AS_IT_WAS, BOARD, FLOATS, LOW, Holds, Kind, Reads, Share
from cairnwind.boards.link import Seen
from cairnwind.boards.quadrature import Hand
from cairnwind.boards.twowire import ASLEEP, COUNTS_UP, RESTART, Bus, KernelBus, SimulatedBus
from cairnwind.boards.wire import Put
from cairnwind.boards.worker import Worker
from cairnwind.core.facts.hardware import Board
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.site import Site
from cairnwind.core.facts.trials import Trial
from cairnwind.core.values import entries
from cairnwind.core.values.errors import BoardError, CallerError, at_fault
from cairnwind.core.values.fact import fact
from cairnwind.core.values.keys import written
from cairnwind.core.values.settings import FULL

READ_EVERY = 0.02
"""Seconds between looks at a board with inputs."""
LOOK_EVERY = 0.5
"""Seconds between looks whether a board without inputs is still there."""


COMPARED_EVERY = 0.1
"""Seconds between looks whether a chip has the settings that it was given, where it is read more often for its inputs."""
WAKES = 0.0005
"""Seconds that an oscillator takes to run again."""
SIMULATED = "simulated"


@fact
class Expander:
    """A chip on a two-wire bus."""

    chip: Chip = written(
        "which chip, by its profile: shipped ones, or your own `profiles/NAME.toml` beside the file",
        needed='Say which chip, by its profile: chip = "ports-16", "ports-8", "pwm-16", or one of your own.',
    )
    bus: str = written(
        '`"/dev/i2c-1"`, or `"simulated"`: a register-accurate chip in the service',
        partial(entries.device, what="a two-wire bus", example="/dev/i2c-1"),
        needed='Say where it is: bus = "/dev/i2c-1", or "simulated".',
    )
    address: int = written(
        "what its address switches say: switch 0 is worth 1",
        partial(entries.whole, low=0, high=127), name="switches", default=0, unsaid="0",
    )  # fmt: skip

    @property
    def functions(self) -> frozenset[str]:
        """What each of its lines can do."""
        return frozenset({"pwm"} if self.chip.kind == "pwm" else ())

    @property
    def one_timer(self) -> str:
        """A PWM controller has one timer for all."""
        return "of the chip" if self.chip.kind == "pwm" else ""


class ExpanderLink(Worker):
    """The link to one chip on two wires."""

    def __init__(self, board: Board) -> None:
        super().__init__(board)
        assert isinstance(board.facts, Expander)
        self.facts, self.chip = board.facts, board.facts.chip
        self.simulated = SimulatedBus(self.chip, self.facts.address) if self.facts.bus == SIMULATED else None
        self._bus: Bus | None = None
        self._hand = Hand(self._pretend_level, 2.5 * READ_EVERY)
        self._out = self._dir = self._pulls = 0
        self._prescale = -1
        self._looked = self._compared = 0.0

    def connect(self) -> None:
        """Find out what it was at, then set all up: the output register before the directions."""
        self._bus = self.simulated or KernelBus(self.facts.bus, self.facts.address)
        if self.chip.kind == "pwm":
            self._prescale = -1
            self._wake()
            for register, value in self.chip.writes:
                self._bus.write(register, bytes([value]))
            return
        self._out = int.from_bytes(self._look("output"), "little")
        self.traffic.add("got", b"", f"found at {self._out:0{self.chip.lines}b}")
        self._dir = -1
        for lines, error in self.unfit():
            self.wrong(lines, error)
        self._set_up(self.outputs)

    def unfit(self) -> Iterator[tuple[Sequence[int], BoardError]]:
        """Inputs that ask for a pull that the chip does not have."""
        pulls = ("up",) if "pull-up" in self.chip.registers else ()
        for line, input in self.inputs.items():
            if input.pull not in ("none", *pulls):
                yield (line,), BoardError(
                    "profile", f"the chip {self.chip.name} has no pull-{input.pull}s, which {input.name} asks for",
                    'Fit a resistor, and say pull = "none".',
                )  # fmt: skip

    def adopt(self, come: Collection[int], gone: Collection[int]) -> None:
        """Output register, pulls and directions anew; lines that stay are written as they are."""
        if self.chip.kind == "pwm":
            for line in gone:
                self._channel(line, Put(0))
        else:
            self._set_up(come)

    def _set_up(self, come: Collection[int]) -> None:
        """Have the chip as the wiring asks for; of those that have ``come`` their safe setting before they are outputs."""
        driven = {line for line in self.tried if not self._dir >> line & 1} - {*come}
        self._dir = self._pulls = 0
        for line in range(self.chip.lines):
            if line not in self.outputs and line not in driven:
                self._dir |= 1 << line
            if line in self.inputs and self.inputs[line].pull == "up":
                self._pulls |= 1 << line
        for line, output in self.outputs.items():
            if line in come:
                high = wire.to_pin(output, output.safe, line)
                self._out = self._out | 1 << line if high else self._out & ~(1 << line)
        self._store("output", self._out)
        if "pull-up" in self.chip.registers:
            self._store("pull-up", self._pulls)
        self._directions()

    def disconnect(self) -> None:
        """Close the bus."""
        if self._bus is not None:
            self._bus.close()
        self._bus = None

    def put(self, levels: Mapping[int, Put]) -> Mapping[int, int]:
        """All lines in one write, then one look at the same register."""
        if not levels:
            return {}
        if self.chip.kind == "pwm":
            return {line: self._channel(line, put) for line, put in levels.items()}
        for line, (parts, _) in levels.items():
            self._out = self._out | 1 << line if parts else self._out & ~(1 << line)
        self._store("output", self._out)
        found = int.from_bytes(self._look("output"), "little")
        return {line: FULL if found >> line & 1 else 0 for line in levels}

    def poll(self, seconds: float) -> None:
        """Read the inputs; look now and then whether it is still there, and still does what it was told."""
        pause = READ_EVERY if self.inputs or self.tried else LOOK_EVERY
        left = self._looked + pause - time.monotonic()
        if left > 0:
            self.rest(min(left, seconds))
            if left > seconds:
                return
        if time.monotonic() < self._looked + pause:
            return
        self._looked = time.monotonic()
        self.traffic.rounds += 1
        if self._looked >= self._compared + COMPARED_EVERY:
            self._compared = self._looked
            self._compare()
        if self.chip.kind == "pwm":
            return
        if "input" in self.chip.registers and (self.inputs or self.tried):
            word = int.from_bytes(self._look("input", quiet=True), "little")
            for line in (*self.inputs, *self.tried):
                if line not in self.broken:
                    self.seen(line, bool(word >> line & 1))
        if pause == LOOK_EVERY or self.traffic.rounds % 25 == 0:
            found = int.from_bytes(self._look("output", quiet=True), "little")
            for line in self.outputs:
                self.observed(line, FULL if found >> line & 1 else 0)

    def _compare(self) -> None:
        """Raise `BoardError` where the chip has other settings than it was given: its supply has dipped, and it drives nothing any more."""
        for name, word in self._settings().items():
            found = int.from_bytes(self._look(name, quiet=True), "little")
            if name == "mode":
                found &= ~RESTART
            if found != word:
                reset = all(
                    int.from_bytes(self._look(each, quiet=True), "little") == value
                    for each, value in self.chip.after_reset.items()
                )
                raise BoardError(
                    "reset", f"it was reset: its supply has dipped ({name} is {found:#x}, not {word:#x})" if reset
                    else f"it has other settings than it was given: {name} is {found:#x}, not {word:#x}",
                    "See to its supply and its wires. It is set up anew, from safe.",
                )  # fmt: skip

    def _settings(self) -> dict[str, int]:
        """What the registers hold that say how its pins are used, by their names."""
        if self.chip.kind == "pwm":
            return {"mode": COUNTS_UP} | ({"prescale": self._prescale} if self._prescale >= 0 else {})
        most = (1 << 8 * self.chip.width) - 1
        found = {}
        if "direction" in self.chip.registers:
            found["direction"] = (self._dir if self.chip.direction_in else ~self._dir) & most
        else:
            found["output"] = self._out & most  # nothing else tells that such a chip was reset
        if "pull-up" in self.chip.registers:
            found["pull-up"] = self._pulls & most
        return found

    def attempt_now(self, line: int, trial: Trial | None) -> None:
        """Turn a bare line round, or drive a free PWM channel."""
        if self.chip.kind == "pwm":
            if trial is not None and trial.mode not in ("pwm", "output"):
                raise BoardError("pin", f"{self.board.name} has outputs only", "")
            if (
                trial is not None
                and trial.millihertz
                and self.outputs
                and self._prescaled(trial.millihertz) != self._prescale >= 0
            ):
                raise BoardError(
                    "timer",
                    f"all channels of {self.board.name} have one frequency, and its outputs have another",
                    "",
                )
            put = Put(0) if trial is None else Put(trial.parts, trial.millihertz)
            level = self._channel(line, put)
            if trial is not None:
                self.readings[line] = {"level": level}
            return
        if trial is not None and trial.mode in ("pwm", "tone", "analogue"):
            raise BoardError("pin", f"lines of {self.board.name} are on or off", "")
        bit = 1 << line
        out = trial is not None and trial.mode == "output"
        if out and trial is not None:
            self._out = self._out | bit if trial.parts else self._out & ~bit
            self._store("output", self._out)
        self._dir = self._dir & ~bit if out else self._dir | bit
        self._directions()
        if "pull-up" in self.chip.registers:
            self._pulls = (
                self._pulls | bit if trial is not None and trial.pull == "up" else self._pulls & ~bit
            )
            self._store("pull-up", self._pulls)
        if trial is not None:
            self.readings[line] = {} if not out else {"level": FULL if trial.parts else 0}
            if trial.pull == "down":
                raise BoardError("pin", f"the chip {self.chip.name} has no pull-downs", "")

    def _pretend_level(self, line: int, high: bool) -> None:
        assert self.simulated is not None
        self.simulated.outside[line] = high

    def pretend(self, input: Input) -> Callable[[Any], None] | None:
        """How an input of a simulated chip is worked."""
        if self.simulated is None:
            return None
        outside = self.simulated.outside
        if input.kind == "encoder":
            return lambda steps: self._hand.turn(input, steps)
        return lambda active: outside.__setitem__(input.pin.line, active != input.active_low)

    def survey(self) -> Mapping[int, Seen]:
        """Levels as last read; the chip's functions are known."""
        known = super().survey()
        return {
            line: known.get(line, Seen())._replace(functions=self.facts.functions)
            for line in range(self.chip.lines)
        }

    # --- registers ----------------------------------------------------------------------------------------

    def _channel(self, line: int, put: Put) -> int:
        """One PWM channel: on at count 0, off at the count of its duty; the highest bit of a pair means full or none."""
        if put.millihertz:
            self._frequency(put.millihertz)
        counts = round(put.parts * self.chip.counts / FULL)
        full = self.chip.counts
        start, end = (full, 0) if counts >= full else (0, full if counts == 0 else counts)
        data = start.to_bytes(2, "little") + end.to_bytes(2, "little")
        register = self.chip.registers["first"] + line * self.chip.stride
        assert self._bus is not None
        self._bus.write(register, data)
        self.traffic.add("sent", bytes([register]) + data, f"channel {line}: {counts} of {full} counts")
        if self._bus.read(register, 4) == data:
            return put.parts
        return 0

    def _frequency(self, millihertz: int) -> None:
        """The chip has to sleep while its prescaler is changed."""
        prescale = self._prescaled(millihertz)
        if prescale == self._prescale:
            return
        self._exchange("mode", bytes([COUNTS_UP | ASLEEP]), "mode: asleep")
        self._exchange("prescale", bytes([prescale]), f"prescale {prescale}")
        self._wake()
        self._prescale = prescale

    def _prescaled(self, millihertz: int) -> int:
        """prescale = clock / (counts x frequency) - 1, rounded."""
        return max(3, min(255, round(self.chip.clock * 1000 / (self.chip.counts * millihertz)) - 1))

    def _wake(self) -> None:
        """Awake, registers counting up. Channels that ran go on only when the oscillator runs again, and then the restart bit is written."""
        self._exchange("mode", bytes([COUNTS_UP]), "mode: awake, registers count up")
        if self._look("mode", quiet=True)[0] & RESTART:
            time.sleep(WAKES)
            self._exchange("mode", bytes([COUNTS_UP | RESTART]), "mode: channels go on")

    def _directions(self) -> None:
        if "direction" in self.chip.registers:
            self._store("direction", self._dir if self.chip.direction_in else ~self._dir)

    def _store(self, name: str, word: int) -> None:
        size = self.chip.width
        data = (word & ((1 << 8 * size) - 1)).to_bytes(size, "little")
        self._exchange(name, data, f"{name} {int.from_bytes(data, 'little'):0{8 * size}b}")

    def _exchange(self, name: str, data: bytes, text: str) -> None:
        assert self._bus is not None
        register = self.chip.registers[name]
        self._bus.write(register, data)
        self.traffic.add("sent", bytes([register]) + data, text)

    def _look(self, name: str, *, quiet: bool = False) -> bytes:
        assert self._bus is not None
        register = self.chip.registers[name]
        data = self._bus.read(register, self.chip.width)
        if not quiet:
            self.traffic.add(
                "got", bytes([register]) + data, f"{name} {int.from_bytes(data, 'little'):0{8 * len(data)}b}"
            )
        return data


def _reads(beside: Sequence[Path]) -> Reads:
    return {"chip": lambda value: profiles.chip(entries.text(value), beside)}


def _made(chip: Chip, bus: str, switches: int = 0) -> Expander:
    try:
        entries.whole(switches, 0, (1 << chip.switches) - 1)
    except CallerError as error:
        raise at_fault("switches", error) from None
    return Expander(chip, bus, chip.address(switches))


def _looks(site: Site, board: Board) -> Iterator[devices.Found]:
    its: Expander = board.facts
    if its.bus == SIMULATED:
        yield devices.Found(None, "it is simulated.")
        return
    bus = KernelBus(its.bus, its.address)
    answers = bus.answers()
    bus.close()
    said = "answers" if answers else "does not answer"
    remedy = "" if answers else f"cairnwind chain {its.chip.name} --bus {its.bus} shows what does."
    yield devices.Found(answers, f"address 0x{its.address:02X} of {its.bus} {said}.", remedy)


def _shares(its: Expander) -> Share:
    """One chip an address."""
    return Share(
        f"bus {its.bus}", f"at address 0x{its.address:02x}", key="switches",
        remedy="Set the switches of one of them otherwise, and say so: switches = 1.",
    )  # fmt: skip


KIND = Kind(
    "a chip on a two-wire bus", lambda board, _: ExpanderLink(board), Expander, _made, _reads,
    lines=lambda its: its.chip.lines if its else 16, looks=_looks, shares=_shares,
    holds=lambda its: Holds(BOARD, AS_IT_WAS, FLOATS if its.chip.kind == "ports" else LOW),
    needs=lambda its: () if its.bus == SIMULATED else (TWO_WIRE,),
)  # fmt: skip
