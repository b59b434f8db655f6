"""A board in this process: it has pins, and may be slow, fail, lie or be pulled out.

Answers at once when it is not asked to take time; with a delay it works through its orders in a thread, as a
real link does. Tests and the demo's small world move its inputs, look at its pins and break it.
"""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable, Collection, Mapping, Sequence
from typing import Any

from cairnwind.boards import wire
from cairnwind.boards.kinds import LINE, Holds, Kind
from cairnwind.boards.link import Clock, Fresh, Report, Seen, Traffic
from cairnwind.boards.slow import Slow
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Instant
from cairnwind.core.facts.hardware import Board
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.trials import Trial
from cairnwind.core.values.settings import FULL, Level, Setting

COUNTS, FULL_SCALE = 4095, 3.3
"""Of its analogue lines: counts and volts at full scale."""


class Trouble:
    """What goes wrong with it, as somebody pretends."""

    __slots__ = ("failures", "silent", "stuck")

    def __init__(self) -> None:
        self.failures = 0
        """How many of the next orders fail."""
        self.stuck: dict[int, int] = {}
        """Lines that stay at a level whatever they are told: a welded contact."""
        self.silent = False
        """It does what it is told and never answers."""


class World:
    """What is put on lines that are no outputs: levels, and volts."""

    __slots__ = ("levels", "volts")

    def __init__(self) -> None:
        self.levels: dict[int, bool] = {}
        self.volts: dict[int, float] = {}


class _Tried:
    """A line that is tried: edges so far, and the wall nanoseconds of the last."""

    __slots__ = ("count", "edge", "trial")

    def __init__(self, trial: Trial) -> None:
        self.trial = trial
        self.count = self.edge = 0


class SimulatedLink:
    """A link whose board is in this process and can be broken. Times in nanoseconds; pins are levels of 0 to a million parts high."""

    confirms = "read back"
    HISTORY = 10_000

    def __init__(self, board: Board) -> None:
        self.board = board
        self.answers_after = board.answers_after
        self.pins: dict[int, int] = {}
        self.hertz: dict[int, int] = {}
        """The PWM frequency or tone on a line, in millihertz."""
        self.writes = 0
        """How often anything was written to a pin that changed it."""
        self.seen: deque[tuple[int, int, int]] = deque(maxlen=self.HISTORY)
        """What the pins did: (monotonic nanoseconds, line, level), the last `HISTORY` moves."""
        self.watchers: list[Callable[[int, int], None]] = []
        """Called with (line, level) at each move; the world behind the board looks on through these."""
        self.trouble = Trouble()
        self.plugged = True
        self.traffic = Traffic()
        self.world = World()
        self._tried: dict[int, _Tried] = {}
        self._outputs: dict[str, Output] = {}
        self._inputs: dict[int, Input] = {}
        self._slow = Slow(f"link-{board.name}", self._late)

    def open(
        self,
        outputs: Sequence[Output],
        inputs: Sequence[Input],
        report: Report,
        clock: Clock,
        fresh: Fresh = lambda: True,
    ) -> None:
        """Drive all outputs safe, then report the link up and what the inputs show."""
        self._report, self._clock = report, clock
        self._wire(outputs, inputs)
        self._home()

    def _wire(self, outputs: Sequence[Output], inputs: Sequence[Input]) -> None:
        self._outputs = {output.name: output for output in outputs}
        self._inputs = {input.pin.line: input for input in inputs}
        for input in self._inputs.values():
            if not input.analogue:
                at_rest = input.active_low if self.board.muted else input.pull == "up"
                for line in input.lines:
                    self.world.levels.setdefault(line, at_rest)

    def rewire(self, outputs: Sequence[Output], inputs: Sequence[Input], come: Collection[str]) -> None:
        """These from now on; what is new is driven safe, and lines that nobody has any more are low."""
        before = {line for output in self._outputs.values() for line in output.lines}
        self._wire(outputs, inputs)
        if not self.plugged:
            return
        for line in before - {line for output in outputs for line in output.lines}:
            self._move(line, 0)
            self.pins.pop(line, None)
        for output in outputs:
            if output.name in come:
                self._put(output, output.safe)

    def tell(self) -> None:
        """Report what the inputs show."""
        if self.plugged:
            self._look()

    def drive(self, orders: Sequence[ev.Drive]) -> None:
        """Carry the orders out, now or after the delay."""
        if not self.answers_after:
            at = self._clock()
            answers = [answer for order in orders if (answer := self._carry_out(order, at)) is not None]
            if answers:
                self._report(answers[0] if len(answers) == 1 else ev.Answers(self._clock(), tuple(answers)))
            return
        self._slow.put(orders, self.answers_after)

    def close(self) -> None:
        """Stop answering. The pins stay as they are, as those of a board with power do."""
        self._slow.close()

    # --- what tests and the world behind it do ------------------------------------------------------------

    def unplug(self, reason: str = "unplugged") -> None:
        """Pull it out: nothing gets through and the service is told."""
        self.plugged = False
        self._slow.drop()
        self._report(ev.LinkLost(self._clock(), self.board.name, reason))

    def plug(self) -> None:
        """Put it back."""
        self.plugged = True
        self._home()

    def pretend(self, input: Input) -> Callable[[Any], None]:
        """How this input is worked."""
        if input.analogue:
            return lambda volts: self.put_volts(input.pin.line, volts)
        if input.kind == "encoder":
            return lambda steps: self.turn(input, steps)
        return lambda active: self.set_input(input.name, active)

    def turn(self, input: Input, steps: int) -> None:
        """Turn an encoder by so many steps, down negative."""
        for _ in range(abs(steps) if self.plugged else 0):
            for way in (1 if steps > 0 else -1, 0):
                self._report(ev.InputSeen(self._clock(), input.name, way != 0, settled=True, way=way))

    def put_volts(self, line: int, volts: float) -> None:
        """Put so many volts on an analogue line: it is read with `COUNTS` counts over `FULL_SCALE` volts."""
        self.world.volts[line] = volts
        input = self._inputs.get(line)
        if input is not None and self.plugged:
            raw, full, measured = self._sample(line)
            self._report(ev.Measured(self._clock(), input.name, raw, full, measured))

    def put_level(self, line: int, high: bool) -> None:
        """Put a level on a line that is no output: what a button does, or whoever tries a pin."""
        tried = self._tried.get(line)
        if tried is not None and self.world.levels.get(line, False) != high:
            tried.count, tried.edge = tried.count + 1, time.time_ns()
        self.world.levels[line] = high

    def preset(self, input: Input, active: bool) -> None:
        """What an input shows when the board is opened."""
        self.world.levels[input.pin.line] = active != input.active_low

    def set_input(self, name: str, active: bool) -> None:
        """Bring an input to a state, whatever its sense."""
        input = next(each for each in self._inputs.values() if each.name == name)
        self.preset(input, active)
        if self.plugged:
            self._report(ev.InputSeen(self._clock(), name, active))

    def ready(self, seconds: float) -> bool:
        """It is, as soon as it is open."""
        return True

    def attempt(self, line: int, trial: Trial | None) -> None:
        """Try a bare pin."""
        self._tried.pop(line, None)
        if trial is None:
            self._move(line, 0)
            self.pins.pop(line, None)
            return
        self._tried[line] = _Tried(trial)
        if trial.mode in ("output", "pwm", "tone"):
            self._move(line, FULL // 2 if trial.mode == "tone" else trial.parts, trial.millihertz)
        elif trial.pull != "none":
            self.world.levels.setdefault(line, trial.pull == "up")

    def reading(self, line: int) -> Mapping[str, Any]:
        """What a tried pin reads."""
        tried = self._tried.get(line)
        if tried is None:
            return {}
        trial = tried.trial
        if trial.mode == "analogue":
            raw, full, volts = self._sample(line)
            return {"raw": raw, "full": full, "volts": volts}
        if trial.mode in ("input", "count"):
            level = FULL if self.world.levels.get(line) else 0
            return {"level": level, "count": tried.count, "edge": tried.edge}
        return {"level": self.pins.get(line, 0)}

    def survey(self) -> Mapping[int, Seen]:
        """Every line's level, as far as anybody has set one."""
        levels = {line: FULL if high else 0 for line, high in list(self.world.levels.items())}
        return {line: Seen(level) for line, level in {**levels, **self.pins}.items()}

    def level(self, output: str) -> int:
        """How high the pin of this output is, 0 to a million."""
        return self.pins[self._outputs[output].pin.line]

    # --- inside -------------------------------------------------------------------------------------------

    def _home(self) -> None:
        readings = []
        for output in self._outputs.values():
            readings.append((output.name, self._put(output, output.safe)))
        self._report(ev.LinkUp(self._clock(), self.board.name, tuple(readings)))
        self._look()

    def _look(self) -> None:
        for line, input in self._inputs.items():
            if input.analogue:
                self.put_volts(line, self.world.volts.get(line, 0.0))
            else:
                active = input.kind != "encoder" and wire.active(input, self.world.levels[line])
                self._report(ev.InputSeen(self._clock(), input.name, active))

    def _put(self, output: Output, setting: Setting) -> Setting:
        """Bring its pins to a setting; what they then show."""
        if type(setting) is Level and not output.others and not self.trouble.stuck:  # nearly always
            self._move(output.pin.line, *wire.of_level(output, setting))
            return setting
        puts = wire.to_pins(output, setting)
        good = True
        for line, (parts, millihertz) in puts.items():
            there = self.trouble.stuck.get(line, parts)
            good = good and there == parts
            self._move(line, there, millihertz)
        if output.latching:
            for line, (parts, _) in wire.released(output).items():
                self._move(line, parts)
        return setting if good else wire.from_pins(output, self.pins)

    def _move(self, line: int, level: int, millihertz: int = 0) -> None:
        if self.pins.get(line) != level or (level and self.hertz.get(line, 0) != millihertz):
            self.pins[line], self.hertz[line] = level, millihertz
            self.writes += 1
            self.seen.append((time.monotonic_ns(), line, level))
            if self.traffic.watched:
                at = f" at {millihertz / 1000:.10g} Hz" if millihertz else ""
                self.traffic.add("sent", b"", f"line {line}: {level / 10_000:g} % high{at}")
            for watcher in self.watchers:
                watcher(line, level)

    def _sample(self, line: int) -> tuple[int, int, float]:
        raw = max(0, min(COUNTS, round(self.world.volts.get(line, 0.0) / FULL_SCALE * COUNTS)))
        return raw, COUNTS, raw * FULL_SCALE / COUNTS

    def _carry_out(self, order: ev.Drive, at: Instant) -> ev.Confirmed | None:
        """Do it; returns the answer, if there is one to give."""
        if not self.plugged:
            return None
        if self.trouble.failures > 0:
            self.trouble.failures -= 1
            self._report(ev.Failed(at, order.output, order.generation, "the board refused the write"))
            return None
        shown = self._put(self._outputs[order.output], order.setting)
        if self.trouble.silent:
            return None
        return ev.Confirmed(at, order.output, order.generation, shown, self.confirms)

    def _late(self, order: ev.Drive) -> None:
        answer = self._carry_out(order, self._clock())
        if answer is not None:
            self._report(answer)


KIND = Kind(
    "a board in the service itself",
    lambda board, _: SimulatedLink(board),
    holds=lambda _: Holds(LINE, LINE, LINE),
)
