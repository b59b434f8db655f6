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
from collections.abc import Iterable, Iterator, Sequence
from typing import Any, NamedTuple

from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Instant
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.physics.light import STRAIGHT
from cairnwind.core.values.settings import Drive, Level, Setting

KEPT = 300_000_000
"""Microseconds."""
MOST_ROWS = 1_000_000
MOST_EACH, LEAST_EACH = 16_384, 256
ROW = 24
TRIM_EVERY = 3 * 64
"""Numbers of an array after which it is looked whether some are too old."""
COLOURS = ("red", "green", "blue")


class Row(NamedTuple):
    """From ``time`` (monotonic microseconds) on it was at ``value``, at ``millihertz`` where it is PWM or a tone."""

    time: int
    value: float
    millihertz: int


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
    """The rows of a site's signals, each in one array: time, value, millihertz; time, value, …, oldest first."""

    def __init__(self, site: Site) -> None:
        self._site = site
        self._lock = threading.Lock()
        """Held while rows are dropped, and while they are read: what is added at the end disturbs no reader."""
        each = MOST_ROWS // max(1, len(site.outputs) + len(site.inputs))
        self._limit = max(LEAST_EACH, min(MOST_EACH, each))
        self._rows: dict[str, array[float]] = {}
        self._trimmed: set[str] = set()

    def adopt(self, site: Site) -> None:
        """Another site: what was noted of what is still there, by name, stays."""
        self._site = site
        names = {signal.name for signal in self.every()}
        self._rows = {name: rows for name, rows in self._rows.items() if name in names}

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
                self._add(name, mono // 1000, math.nan if active is None else float(active))
            case ev.Measured(at, name, raw, _, volts):
                input = self._site.inputs[name]
                value = None if raw is None or volts is None else input.value(volts)
                self._add(name, at.mono // 1000, math.nan if value is None else value)

    def _output(self, at: Instant, output: Output, setting: Setting) -> None:
        if type(setting) is Level:  # the many
            parts = (
                setting.parts if setting.raw or output.light is STRAIGHT else output.light.duty(setting.parts)
            )
            if parts or output.name in self._rows:
                self._add(
                    output.name, at.mono // 1000, parts / 10_000, setting.millihertz or output.millihertz
                )
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
        if value or name in self._rows:
            self._add(name, at.mono // 1000, value, millihertz)

    def _add(self, name: str, time: int, value: float, millihertz: int = 0) -> None:
        """Note a value, unless it is the last one again."""
        rows = self._rows.get(name)
        if rows is None:
            rows = self._rows[name] = array("d")
        elif rows:
            if rows[-2] == value and rows[-1] == millihertz:
                return
            if time < rows[-3]:
                time = int(rows[-3])  # a board's own clock may be a little behind
        rows.extend((time, value, millihertz))
        if len(rows) % TRIM_EVERY == 0:
            self._trim(name, rows, time)

    def _trim(self, name: str, rows: array[float], now: int) -> None:
        """Drop what is too old or too much, all but the row that tells what it was at before."""
        old = max(len(rows) // 3 - self._limit, bisect_left(_Times(rows), now - KEPT) - 1, 0)
        if old:
            self._trimmed.add(name)
            with self._lock:
                del rows[: 3 * old]

    def rows(self, signal: Signal, start: int, end: int) -> list[Row]:
        """What a signal was at from ``start`` to ``end``, monotonic microseconds, the row in force at the start included."""
        rows = self._rows.get(signal.name)
        found: list[Row] = []
        if rows is not None:
            with self._lock:
                times = _Times(rows)
                first, last = max(0, bisect_left(times, start + 1) - 1), bisect_left(times, end + 1)
                part = rows[3 * first : 3 * last].tolist()
            found = [Row(int(part[at]), part[at + 1], int(part[at + 2])) for at in range(0, len(part), 3)]
        if (
            signal.thing in self._site.outputs
            and signal.name not in self._trimmed
            and (not found or found[0].time > start)
        ):
            found.insert(0, Row(start, 0.0, 0))  # it was off before it was ever on
        # rows that differ but in what could not be known are one: a value that is none equals nothing
        return [
            row
            for number, row in enumerate(found)
            if not (number and math.isnan(row.value) and math.isnan(found[number - 1].value))
        ]


class _Times(Sequence[float]):
    """The times of an array of rows, to be searched."""

    def __init__(self, rows: array[float]) -> None:
        self._rows = rows
        self._length = len(rows) // 3

    def __len__(self) -> int:
        return self._length

    def __getitem__(self, number: Any) -> Any:
        return self._rows[3 * number]


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
