"""Our own firmware, which tells its pins itself (docs/firmware.md has its registers) and goes to its safe values when no frame comes for
the watchdog's time. So nothing is sent while the engine is not fresh: a hung engine looks to the board like a dead one. While it is, a
thread of its own feeds the board (`Feeder`): polling, driving and waiting for other boards on the line must not let it starve.
"""

from __future__ import annotations

import secrets
import time
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from functools import partial

from cairnwind.boards import wire
from cairnwind.boards.changes import Changes
from cairnwind.boards.endings import TONE_LONGEST, Endings
from cairnwind.boards.feeder import Feeder
from cairnwind.boards.link import LineError, Seen
from cairnwind.boards.master import UP, WHOLE, Master, runs
from cairnwind.boards.onboard import Table
from cairnwind.boards.rulekeeping import RuleKeeper, is_held
from cairnwind.boards.wire import Put
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.hardware import Board
from cairnwind.core.facts.inputs import STATES, Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.trials import Trial
from cairnwind.core.values.errors import BoardError
from cairnwind.core.values.settings import FULL

IDENTITY, MAP_VERSION = 0x4357, 1
"""What our firmware says that it is, and the version of its map that this link knows (the high byte)."""
WATCHDOG, REST, OWNER, FEED = range(4)
MODE, VALUE, SAFE, FREQUENCY, TONE_MS, COIL = 32, 64, 96, 224, 240, 416
FACTS, LIFE, LEVELS, CAPABLE, EDGES, TURNS = 0, 12, 16, 32, 64, 128
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
ANALOGUE_FULL = 1023
OWNED = RULED = TIMED = COUNTED = 2
FOLLOWED = 3
"""From which minor version on it knows its host, keeps rules, ends by itself what lasts, and counts changes each millisecond."""


class FirmwareLink(Master):
    """The link to a board with our firmware."""

    def __init__(self, board: Board) -> None:
        super().__init__(board)
        self._can: dict[int, tuple[int, int]] = {}
        """By pin: what it can do, and its timer."""
        self._frequencies: dict[int, int] = {}
        self._minor = 0
        """Of its version: 1.1 counts its starts, 1.2 keeps rules and knows its host, 1.3 follows encoders."""
        self._number = 1 + secrets.randbelow(0xFFFE)
        """By which it knows that it is this link that feeds it."""
        self._fed = 0.0
        """Monotonic seconds at which it was fed last."""
        self.rules = RuleKeeper(board.name, self, self._tripped)
        self._endings = Endings(self)
        self._changes = Changes()
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
        self._minor = facts[1] & 255
        if self._minor >= OWNED:
            self._let_feed()
        self.rules.meet(facts[1])
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
        self._write(TONE_MS, TONE_LONGEST)
        self._endings.clear()
        self.rules.load()
        self._life = self._lives() if self._tells else (facts[4], facts[8])
        if self._minor >= OWNED:
            self._write(OWNER, self._number)
            self._fed = time.monotonic()
        if self.facts.watchdog:
            heard = (lambda: self._fed) if self._minor >= OWNED else (lambda: self._sent)
            self._feeder = Feeder(
                self.board.name, self.facts.watchdog / 1e9, alive=self._alive, heard=heard, feed=self._feed
            )  # fmt: skip

    @property
    def _tells(self) -> bool:
        """Whether it counts its starts."""
        return self._minor > 0

    def _let_feed(self) -> None:
        """Whatever comes keeps it alive, until it is set up; what another host has left on goes to safe first."""
        try:
            self._write(OWNER, 0)
        except LineError:
            self._write(REST, 1)
            self._write(OWNER, 0)

    def feeding(self) -> tuple[str, tuple[int, ...], dict[str, int]]:
        """See `Master`: from 1.2 on a frame keeps it alive only if it comes from its own host."""
        if self._minor < OWNED:
            return super().feeding()
        self._fed = time.monotonic()
        return "write_register", (FEED, self._number), {}

    # --- its rules ----------------------------------------------------------------------------------------

    def keep(self, table: Table) -> None:
        """It is to keep these rules by itself. May be called by any thread."""
        self.rules.keep(table)
        self.nudge()

    def reset_trip(self, trip: str) -> None:
        """Somebody has reset a trip: the board is told. May be called by any thread."""
        self.rules.reset(trip)
        self.nudge()

    def why_not_kept(self) -> str:
        """Why its rules are not in force; nothing where they are."""
        return self.rules.why_not()

    def words(self, kind: str, first: int, count: int) -> list[int]:
        """See `cairnwind.boards.rulekeeping.Registers`."""
        return self._ask(f"read_{kind}_registers", first, count=count)

    def put_words(self, first: int, words: list[int]) -> None:
        """See `cairnwind.boards.rulekeeping.Registers`."""
        self._ask("write_registers", first, words)

    def _tripped(self, trip: str) -> None:
        self._report(ev.BoardTripped(self.clock(), self.board.name, trip))

    def unfit(self) -> Iterator[tuple[Sequence[int], BoardError]]:
        """The firmware tells what its pins can do."""
        timers: dict[int, Output] = {}
        for output in self._named.values():
            for line in output.lines:
                dimmed = output.modulates(line) and not self._sounds(output, line)
                error = self._unable(line, 4 if dimmed else 1, output.name)
                if output.latching and self._minor < TIMED:
                    error = BoardError(
                        "version", "its firmware ends no pulse by itself", "Load the one that is shipped."
                    )
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
            if error is None and input.kind == "encoder":
                error = self._unturned(input)
            if error is not None:
                yield input.lines, error

    def _unturned(self, input: Input) -> BoardError | None:
        """Why the board cannot follow an encoder."""
        if self._minor < FOLLOWED:
            return BoardError(
                "version", f"{input.name}: its firmware follows no encoder", "Load the one that is shipped."
            )
        return None

    def adopt(self, come: Collection[int], gone: Collection[int]) -> None:
        """Modes and safe values of lines that are used otherwise."""
        self._set_up()
        self.rules.load()
        self._life = self._lives() if self._tells else self._life

    def _set_up(self) -> None:
        """Have every pin of our firmware in its mode, with its safe value; what is so already is left alone. A board that keeps rules about pins
        that are set up otherwise is rested first, and they are taken away."""
        pins = len(self._can)
        now = (
            self._ask("read_holding_registers", MODE, count=pins),
            self._ask("read_holding_registers", SAFE, count=pins),
        )
        wanted = {line: each for line, each in self._wanted() if line not in self.broken}
        wired = {*self.outputs, *self.inputs, *self.tried} - self.broken.keys()
        bare = [
            line
            for line, mode in enumerate(now[0])
            if mode != OFF and line not in wired and self._can[line][0]
        ]
        coils = self._ask("read_holding_registers", COIL, count=pins) if self._minor >= TIMED else []
        if bare or any((now[0][line], now[1][line]) != each for line, each in wanted.items() if each[1] >= 0):
            self.rules.clear()
        for output in self._named.values():
            if self._minor >= TIMED:
                self._each(output.lines, partial(self._at_rest, output, coils))
            if output.modulates(output.pin.line) and output.frequency:  # that of a tone comes with it
                self._each(output.lines, partial(self._begin, output))
        for lines in (*(each.lines for each in self._named.values()), *((line,) for line in self.inputs)):
            self._each(
                lines, lambda line: self._set_mode(line, now, *wanted[line])
            )  # of broken ones nothing is done
        for line in bare:
            self._write(MODE + line, OFF)

    def _wanted(self) -> Iterator[tuple[int, tuple[int, int]]]:
        """By line: its mode and its safe value; -1 where it has none."""
        for output in self._named.values():
            for line in output.lines:
                held = wire.released(output) if output.latching else wire.to_pins(output, output.safe)
                high = held[line].parts
                if self._sounds(output, line):
                    yield line, (TONE, 0)
                elif output.modulates(line):
                    yield line, (PWM, round(high * WHOLE / FULL))
                else:
                    yield line, (OUTPUT, int(high > 0))
        for line, input in self.inputs.items():
            yield line, (ANALOGUE if input.analogue else PULL_UP if input.pull == "up" else OFF, -1)

    def _at_rest(self, output: Output, coils: Sequence[int], line: int) -> None:
        """The coil that puts a latching relay to safe gets its current whenever the board goes there by itself; nothing else is a coil."""
        coil = (
            bool(output.latching) and wire.to_pins(output, output.safe)[line] != wire.released(output)[line]
        )
        ms = output.latching // 1_000_000 if coil else 0
        if coils[line] != ms:
            self._write(COIL + line, ms)

    def _each(self, lines: tuple[int, ...], do: Callable[[int], object]) -> None:
        """Do something with each line of a thing; what the board refuses is that thing's fault."""
        if self.broken.keys() & {*lines}:
            return
        try:
            for line in lines:
                do(line)
        except LineError as error:
            self.wrong(lines, error)

    def _begin(self, output: Output, line: int) -> None:
        if output.modulates(line) and output.frequency:
            self._set_frequency(line, round(output.frequency * 1000))

    def _set_mode(self, line: int, now: tuple[Sequence[int], Sequence[int]], mode: int, safe: int) -> None:
        if safe >= 0 and now[1][line] != safe:
            self._write(SAFE + line, safe)
        if now[0][line] != mode:
            self._write(MODE + line, mode)

    def _sounds(self, output: Output, line: int) -> bool:
        """Whether it is a sounder at a pin that has tones and no PWM."""
        can = self._can.get(line, (0, 255))[0]
        return output.takes == "tone" and bool(can & CAN["tone"]) and not can & CAN["pwm"]

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
        try:
            return self._put_values(levels)
        except LineError as error:
            raise (self.rules.refusal(levels) if is_held(error) else error) from error

    def _put_values(self, levels: Mapping[int, Put]) -> Mapping[int, int]:
        plain = {
            line: put.parts > 0 for line, put in levels.items() if not self.outputs[line].modulates(line)
        }
        for first, states in runs(plain):
            self._ask("write_coils", first, states)
        shown: dict[int, int] = {}
        for line, (parts, millihertz) in levels.items():
            if line not in plain and self._sounds(self.outputs[line], line):
                shown[line] = self._sound(line, parts, millihertz)
            elif line not in plain:
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

    def _sound(self, line: int, parts: int, millihertz: int) -> int:
        """A tone, or its end: this pin has one loudness."""
        hertz = round(millihertz / 1000) if parts else 0
        self._write(VALUE + line, hertz)
        self._endings.sounds(line, hertz > 0)
        return parts if self._ask("read_holding_registers", VALUE + line, count=1)[0] == hertz else 0

    def _put_all(self, levels: Mapping[int, Put], orders: Sequence[ev.Drive]) -> dict[int, int]:
        """What is for a time is ended by the board, by its own clock, and so are pulses of coils, whatever becomes of this host meanwhile."""
        lasting: dict[int, int] = {}
        for order in orders:
            output = self._named[order.output]
            lasts = order.lasts if self._minor >= TIMED and len(output.lines) == 1 else 0
            lasting |= dict.fromkeys(output.lines, lasts)
            for line in output.lines if lasts or output.latching else ():
                self._endings.tell(line, lasts or output.latching)
        shown = super()._put_all(levels, orders)
        for line, lasts in lasting.items():
            self._endings.begun(line, lasts)
        return shown

    def _carry_out(self, orders: list[ev.Drive]) -> None:
        """What only says that an end has come waits for the board's."""
        super()._carry_out(
            [order for order in orders if not self._endings.waits(order, self._named[order.output].pin.line)]
        )

    def poll(self, seconds: float) -> None:
        """See `Master`; ends that are waited for come in time."""
        pause = self._endings.pause
        if pause is not None:
            self.rest(min(seconds, pause))
            super()._carry_out(self._endings.due())
            return
        self._endings.sound_on()
        super().poll(seconds)

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
            ruled = self._minor >= RULED
            words = self._ask("read_input_registers", LIFE, count=17 if ruled else 14, quiet=True)
            self._same_life((words[0], words[1]))
            if ruled:
                self.rules.look(words[14], words[15])
                self.rules.load()
            words = words[4:]
        else:
            up, rests = self._ask("read_input_registers", UP, count=5, quiet=True)[::4]
            self._same_life((up, rests))
            words = self._ask("read_input_registers", LEVELS, count=10, quiet=True)
        bits = words[0] | words[1] << 16
        self._look_at_inputs(bits, words)
        for line, output in self.outputs.items():
            if not output.modulates(line) and not self._endings.near(line):
                self.observed(line, FULL if bits >> line & 1 else 0)
        for line, trial in self.tried.items():
            self._look_at_trial(line, trial, bool(bits >> line & 1), words)

    def _look_at_inputs(self, bits: int, words: Sequence[int]) -> None:
        edges = self._edges()
        for line, input in self.inputs.items():
            if line in self.broken:
                continue
            if input.kind == "encoder":
                if line == input.pin.line:
                    self._look_at_turns(input)
            elif not input.analogue:
                every = input.kind == "counter"
                for high in self._changes.states(
                    line, bool(bits >> line & 1), edges.get(line), self._life[0], every=every
                ):
                    self.seen(line, high)
            elif words[2 + line] <= ANALOGUE_FULL:
                self.measured(line, words[2 + line], ANALOGUE_FULL, self._volts(words[2 + line]))

    def _look_at_turns(self, input: Input) -> None:
        """The board follows both lines itself, each millisecond: they change faster than anybody asks."""
        (count,) = self._ask("read_input_registers", TURNS + input.pin.line // 2, count=1, quiet=True)
        turning = self.heard.turning(input)
        was = turning.known
        steps = turning.counted(count if input.pin.line % 2 == 0 else -count & WHOLE)
        if steps or not was or self.heard.again(input):
            self.stepped(input, steps)

    def _volts(self, raw: int) -> float:
        return raw / ANALOGUE_FULL * self.facts.reference

    def _look_at_trial(self, line: int, trial: Trial, high: bool, words: Sequence[int]) -> None:
        if trial.mode == "analogue":
            raw = words[2 + line]
            self.readings[line] = {"raw": raw, "full": ANALOGUE_FULL, "volts": self._volts(raw)}
        elif trial.mode == "count":
            count = self._ask("read_input_registers", EDGES + line, count=1, quiet=True)[0]
            reading = self.readings.setdefault(line, {})
            reading.setdefault("start", count)
            reading |= {"level": FULL if high else 0, "count": (count - reading["start"]) & WHOLE}
        elif trial.mode not in ("pwm", "tone"):
            self.seen(line, high)

    def _edges(self) -> dict[int, int]:
        """How often contacts and counters have changed, as the board has counted."""
        lines = [line for line, input in self.inputs.items() if input.kind in STATES]
        if not lines or self._minor < COUNTED:
            return {}
        first, count = min(lines), max(lines) - min(lines) + 1
        counts = self._ask("read_input_registers", EDGES + first, count=count, quiet=True)
        return {line: counts[line - first] for line in lines}

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
