"""What every output and input has done lately: the last minutes, as values with times to the microsecond.

Bounded: at most `MOST_ROWS` rows in all, shared out evenly among the signals (but no more than `MOST_EACH`, and
never fewer than `LEAST_EACH`), of `ROW` bytes each, and nothing older than `KEPT`. An output that has only ever been
off costs nothing. The engine's thread writes, any thread reads.
"""

from __future__ import annotations

import math
import threading
from array import array
from bisect import bisect_left
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from cairnwind.core import events as ev
from cairnwind.core.claims import Instant
from cairnwind.core.light import STRAIGHT
from cairnwind.core.model import Input, Output, Site
from cairnwind.core.settings import Drive, Level, Setting

KEPT = 300_000_000
"""Microseconds."""
MOST_ROWS = 1_000_000
MOST_EACH, LEAST_EACH = 16_384, 256
ROW = 24
COLOURS = ("red", "green", "blue")


class Row(NamedTuple):
    """From ``time`` (monotonic microseconds) on it was at ``value``, at ``millihertz`` where it is PWM or a tone."""

    time: int
    value: float
    millihertz: int


class Trace:
    """One signal's rows, oldest first."""

    __slots__ = ("_limit", "_lock", "_room", "times", "trimmed", "values", "waves")

    def __init__(self, limit: int, lock: threading.Lock) -> None:
        self._limit = limit
        self._lock = lock
        self._room = 256
        """At so many rows it is looked whether some are too old."""
        self.times = array("q")
        self.trimmed = False
        self.values = array("d")
        self.waves = array("q")

    def add(self, time: int, value: float, millihertz: int = 0) -> None:
        """Note a value, unless it is the last one again. The time goes in last: a reader goes by the times."""
        times = self.times
        if times:
            if self.values[-1] == value and self.waves[-1] == millihertz:
                return
            if time < times[-1]:
                time = times[-1]  # a board's own clock may be a little behind
        self.values.append(value)
        self.waves.append(millihertz)
        times.append(time)
        if len(times) > self._room:
            self._trim(time)

    def _trim(self, now: int) -> None:
        """Drop what is too old or too much, all but the row that tells what it was at before."""
        with self._lock:
            old = max(len(self.times) - self._limit, bisect_left(self.times, now - KEPT) - 1, 0)
            self.trimmed = self.trimmed or old > 0
            for column in (self.times, self.values, self.waves):
                del column[:old]
        self._room = min(self._limit, 2 * len(self.times) + 64) + self._limit // 4

    def rows(self, start: int, end: int) -> list[Row]:
        """What it was at from ``start`` to ``end``, the row that was in force at the start included."""
        with self._lock:
            first = max(0, bisect_left(self.times, start + 1) - 1)
            last = bisect_left(self.times, end + 1)
            return [
                Row(*row)
                for row in zip(
                    self.times[first:last], self.values[first:last], self.waves[first:last], strict=True
                )
            ]


class Signal(NamedTuple):
    """What a trace is of."""

    name: str
    """The output's or input's, with '.red' and so on for the channels of a colour lamp."""
    thing: str
    label: str
    kind: str
    """'digital', 'pwm', 'drive', 'tone' or 'analogue'."""
    unit: str
    words: tuple[str, str]


def of_output(output: Output) -> list[Signal]:
    """The signals of an output."""
    label = output.label or output.name
    kind = {"level": "pwm" if output.dimmable else "digital", "colour": "pwm"}.get(output.takes, output.takes)
    if output.takes == "colour":
        return [
            Signal(f"{output.name}.{colour}", output.name, f"{label}, {colour}", kind, "%", output.words)
            for colour in COLOURS
        ]
    return [Signal(output.name, output.name, label, kind, "Hz" if kind == "tone" else "%", output.words)]


def of_input(input: Input) -> Signal:
    """The signal of an input."""
    kind = "analogue" if input.analogue else "digital"
    return Signal(
        input.name,
        input.name,
        input.label or input.name,
        kind,
        (input.unit or "V") if input.analogue else "",
        input.words,
    )


class Signals:
    """The traces of a site."""

    def __init__(self, site: Site) -> None:
        self._site = site
        self._lock = threading.Lock()
        each = MOST_ROWS // max(1, len(site.outputs) + len(site.inputs))
        self._limit = max(LEAST_EACH, min(MOST_EACH, each))
        self._traces: dict[str, Trace] = {}

    def every(self) -> list[Signal]:
        """Every signal there is."""
        found = [signal for output in self._site.outputs.values() for signal in of_output(output)]
        return found + [of_input(input) for input in self._site.inputs.values()]

    def note(self, event: ev.Event) -> None:
        """Take what an event says of a signal. Called by the engine's thread."""
        match event:
            case ev.Confirmed():
                self._output(event.at, self._site.outputs[event.output], event.setting)
            case ev.Answers():
                for each in event.all:
                    self._output(each.at, self._site.outputs[each.output], each.setting)
            case ev.InputSeen(at, name, active, edge, _):
                mono = at.mono - (at.wall - edge) if edge else at.mono
                self._trace(name).add(mono // 1000, math.nan if active is None else float(active))
            case ev.Measured(at, name, raw, _, volts):
                input = self._site.inputs[name]
                value = math.nan if raw is None or volts is None else input.value(volts)
                self._trace(name).add(at.mono // 1000, value)

    def _output(self, at: Instant, output: Output, setting: Setting) -> None:
        if type(setting) is Level:  # the many
            parts = (
                setting.parts if setting.raw or output.light is STRAIGHT else output.light.duty(setting.parts)
            )
            trace = self._traces.get(output.name)
            if trace is None:
                if not parts:
                    return
                trace = self._trace(output.name)
            trace.add(at.mono // 1000, parts / 10_000, setting.millihertz or output.millihertz)
            return
        duties = output.duties(setting)
        if output.takes == "colour":
            for channel, duty in zip(COLOURS, duties, strict=True):
                self._put(
                    at, f"{output.name}.{channel}", duty / 10_000, output.hertz(output.pin.line, setting)
                )
            return
        value = setting.parts / 10_000 if isinstance(setting, Drive) else duties[0] / 10_000
        self._put(at, output.name, value, output.hertz(output.pin.line, setting))

    def _put(self, at: Instant, name: str, value: float, millihertz: int) -> None:
        if value or name in self._traces:
            self._trace(name).add(at.mono // 1000, value, millihertz)

    def _trace(self, name: str) -> Trace:
        trace = self._traces.get(name)
        if trace is None:
            trace = self._traces[name] = Trace(self._limit, self._lock)
        return trace

    def rows(self, signal: Signal, start: int, end: int) -> list[Row]:
        """What a signal was at from ``start`` to ``end``, monotonic microseconds."""
        trace = self._traces.get(signal.name)
        found = trace.rows(start, end) if trace is not None else []
        if (
            signal.thing in self._site.outputs
            and (trace is None or not trace.trimmed)
            and (not found or found[0].time > start)
        ):
            found.insert(0, Row(start, 0.0, 0))  # it was off before it was ever on
        # rows that differ but in what could not be known are one: a value that is none equals nothing
        return [
            row
            for number, row in enumerate(found)
            if not (number and math.isnan(row.value) and math.isnan(found[number - 1].value))
        ]


MOST_EDGES = 200_000


def square(rows: Iterable[Row], end: int) -> Iterator[tuple[int, int]]:
    """The real edges of a PWM signal as (nanoseconds, level), each row in the phase it began with."""
    rows = list(rows)
    for number, row in enumerate(rows):
        start = row.time * 1000
        until = (rows[number + 1].time if number + 1 < len(rows) else end) * 1000
        duty = row.value / 100
        if not row.millihertz or duty <= 0 or duty >= 1:
            yield start, int(duty > 0.5)
            continue
        period = 10**12 / row.millihertz
        count = 0
        while (rise := start + round(count * period)) < until:
            yield rise, 1
            if (fall := rise + round(period * duty)) < until:
                yield fall, 0
            count += 1


def edges(rows: list[Row], end: int) -> int:
    """About how many edges `square` would give."""
    found = 0
    for number, row in enumerate(rows):
        until = rows[number + 1].time if number + 1 < len(rows) else end
        found += 1 + (2 * row.millihertz * (until - row.time) // 10**9 if 0 < row.value < 100 else 0)
    return found
