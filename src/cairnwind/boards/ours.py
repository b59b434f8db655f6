"""Our own firmware, which tells its pins itself (docs/firmware.md has its registers) and goes to its safe values when no frame comes for
the watchdog's time. So nothing is sent while the engine is not fresh: a hung engine looks to the board like a dead one. While it is, a
thread of its own feeds the board (`Feeder`): polling, driving and waiting for other boards on the line must not let it starve.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from functools import partial

from cairnwind.boards import wire
from cairnwind.boards.feeder import Feeder
from cairnwind.boards.link import LineError, Seen
from cairnwind.boards.master import UP, WHOLE, Master, runs
from cairnwind.boards.wire import Put
from cairnwind.core.facts.hardware import Board
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.trials import Trial
from cairnwind.core.values.errors import BoardError
from cairnwind.core.values.settings import FULL

IDENTITY, MAP_VERSION = 0x4357, 1
"""What our firmware says that it is, and the version of its map that this link knows (the high byte)."""
WATCHDOG, MODE, VALUE, SAFE, FREQUENCY, TONE_MS = 0, 32, 64, 96, 224, 240
FACTS, LIFE, LEVELS, CAPABLE, EDGES = 0, 12, 16, 32, 64
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


class FirmwareLink(Master):
    """The link to a board with our firmware."""

    def __init__(self, board: Board) -> None:
        super().__init__(board)
        self._can: dict[int, tuple[int, int]] = {}
        """By pin: what it can do, and its timer."""
        self._frequencies: dict[int, int] = {}
        self._tells = False
        """It counts its starts (version 1.1 and later)."""
        self._life = (0, 0)
        """How often the board has started, or, where it does not count that, seconds since it did; and how often it has rested by itself."""
        self._seen = 0.0
        """Monotonic seconds at which that was so."""

    def meet(self) -> None:
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
        for lines, error in self.unfit():
            self.wrong(lines, error)
        self._set_up()
        if self.facts.watchdog:
            self._feeder = Feeder(
                self.board.name, self.facts.watchdog / 1e9, alive=self._alive, heard=lambda: self._sent, feed=self._feed
            )  # fmt: skip

    def unfit(self) -> Iterator[tuple[Sequence[int], BoardError]]:
        """The firmware tells what its pins can do."""
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

    def adopt(self, come: Collection[int], gone: Collection[int]) -> None:
        """Modes and safe values of lines that are used otherwise."""
        self._set_up()

    def _set_up(self) -> None:
        """Have every pin of our firmware in its mode, with its safe value; what is so already is left alone."""
        modes = self._ask("read_holding_registers", MODE, count=len(self._can))
        for output in self._named.values():
            self._each(output.lines, partial(self._set_output, output, modes))
        for line, input in self.inputs.items():
            mode = ANALOGUE if input.analogue else PULL_UP if input.pull == "up" else OFF
            if modes[line] != mode:
                self._each((line,), partial(self._set_mode, mode))
        wired = {*self.outputs, *self.inputs, *self.tried} - self.broken.keys()
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
            self.wrong(lines, error)

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

    # --- driving ------------------------------------------------------------------------------------------

    def put(self, levels: Mapping[int, Put]) -> Mapping[int, int]:
        """Write what has changed, switched lines together; read back what the board then has."""
        plain = {
            line: put.parts > 0 for line, put in levels.items() if not self.outputs[line].modulates(line)
        }
        for first, states in runs(plain):
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

    def _set_frequency(self, line: int, millihertz: int) -> None:
        timer = self._can[line][1]
        if self._frequencies.get(timer) == millihertz:
            return
        hundredths = millihertz // 10
        self._ask("write_registers", FREQUENCY + 2 * timer, [hundredths >> 16, hundredths & WHOLE])
        self._frequencies[timer] = millihertz

    # --- reading ------------------------------------------------------------------------------------------

    def look(self) -> None:
        """See `Master`."""
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

    def attempt_now(self, line: int, trial: Trial | None) -> None:
        """Put a bare pin into a mode, as far as the board can."""
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
        return {
            line: Seen(
                known.get(line), "" if can else "the board itself", "",
                frozenset(name for name, bit in CAN.items() if can & bit), "" if timer == 255 else f"T{timer}",
            )
            for line, (can, timer) in self._can.items()
        }  # fmt: skip
