"""What really happened, kept as rows: what each output did on each day, and readings of inputs and outputs.

The rules, which docs/records.md states for those who read the rows:

* An output's day (in the site's zone) has its time on, how often it was switched on, and the energy of its load.
* A reading is kept when it has moved by half a percent of its range, at most once in `SHORTEST`, and every
  `LONGEST` all the same. What has two states is kept at each change.
* Of a counter its total is kept, so that what came in a time is the difference of the greatest and the least.
* Each minute gets its least, its mean over time and its greatest value; hours are made of minutes, days of hours.
* Single readings are kept for 2 days, minutes for 60, hours for 3 years; days are kept.
"""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from cairnwind.core.explain.meter import Meter
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.now import InputNow, OutputNow
from cairnwind.core.facts.site import Site
from cairnwind.core.physics.scaling import Loop, Thermistor
from cairnwind.core.values.quantities import NS
from cairnwind.core.values.settings import FULL, Colour, Drive, Level, Setting, Tone
from cairnwind.store.reader import Reader
from cairnwind.store.writer import Row, Writer

MINUTE, HOUR, DAY = 60, 3600, 86400
SHORTEST, LONGEST = 5 * NS, 300 * NS
MOVED = 0.005
COUNTED = 1e-9
"""The range of a counter: whatever it has counted is kept, but no more often than all else."""
KEPT = {0: 2 * DAY, MINUTE: 60 * DAY, HOUR: 1100 * DAY}
"""Seconds that rows are kept, by their step; days stay."""
FLUSHED = 300
"""Seconds after which the day's rows are written, though the day goes on: what a power cut may cost."""


class _Track:
    """One subject's minute: its least, greatest and time-weighted mean."""

    __slots__ = ("at", "count", "high", "kept", "kept_at", "low", "span", "total", "value")

    def __init__(self) -> None:
        self.value: float | None = None
        self.at = 0
        self.kept: float | None = None
        self.kept_at = 0
        self.fresh(None)

    def fresh(self, value: float | None) -> None:
        """A new minute begins at a value."""
        self.low = self.high = value
        self.total = self.span = 0.0
        self.count = 0

    def close(self, wall: int) -> None:
        """Count the value that was up to now."""
        if self.value is not None and wall > self.at:
            self.total += self.value * (wall - self.at)
            self.span += wall - self.at
        self.at = wall

    def see(self, wall: int, value: float | None) -> None:
        """From now on it is so much; None: unknown, which counts as nothing at all."""
        self.close(wall)
        self.value = value
        if value is not None:
            self.low = value if self.low is None else min(self.low, value)
            self.high = value if self.high is None else max(self.high, value)
            self.count += 1


class Records:
    """Told by the engine's thread; writes through the store's writer, and waits for nothing."""

    def __init__(self, site: Site, writer: Writer) -> None:
        self._writer = writer
        self._zone = ZoneInfo(site.timezone)
        self._meters = {name: Meter(output) for name, output in site.outputs.items()}
        self._tracks: dict[str, _Track] = {}
        self._ranges = {name: _range(input) for name, input in site.inputs.items() if input.analogue}
        self._counters = _counters(site)
        self._minute = self._written = 0
        self._day = ""
        self._rows: list[Row] = []
        self._late: dict[str, int] = {}
        """What has moved too soon after its last reading, and when it is kept."""

    def adopt(self, site: Site, wall: int) -> None:
        """Another site: outputs that go are counted up to now, and what is new from now on."""
        for name in self._meters.keys() - site.outputs.keys():
            self._meters[name].see(wall, None)
        self._usage(wall)
        self._zone = ZoneInfo(site.timezone)
        self._meters = {
            name: self._meters[name]
            if name in self._meters and self._meters[name].output.load == output.load
            else Meter(output)
            for name, output in site.outputs.items()
        }
        self._tracks = {
            name: each for name, each in self._tracks.items() if name in site.outputs or name in site.inputs
        }
        self._late = {name: due for name, due in self._late.items() if name in self._tracks}
        self._ranges = {name: _range(input) for name, input in site.inputs.items() if input.analogue}
        self._counters = _counters(site)

    def see_output(self, now: OutputNow, wall: int) -> None:
        """An output has changed."""
        self._roll(wall)
        name = now.output.name
        self._meters[name].see(wall, now.confirmed)
        self._keep(
            name,
            wall,
            None if now.confirmed is None else number(now.confirmed),
            1.0 if now.output.dimmable else 0.0,
        )

    def see_input(self, now: InputNow, wall: int) -> None:
        """An input has changed."""
        self._roll(wall)
        if now.name in self._counters:
            self._keep(now.name, wall, now.total, COUNTED)
        elif now.name in self._ranges:
            self._keep(now.name, wall, now.value, self._ranges[now.name])
        else:
            self._keep(now.name, wall, None if now.active is None else float(now.active), 0.0)

    def _keep(self, name: str, wall: int, value: float | None, range: float) -> None:
        track = self._tracks.get(name)
        if track is None:
            track = self._tracks[name] = _Track()
        if value is None and track.value is None:
            return
        track.see(wall, value)
        if value is None:
            track.kept = None
            return
        moved = track.kept is None or abs(value - track.kept) > MOVED * range
        if (moved and (not range or wall >= track.kept_at + SHORTEST)) or wall >= track.kept_at + LONGEST:
            self._single(name, track, wall)
        elif moved:
            self._late[name] = track.kept_at + SHORTEST  # where it stays is kept too, a little later
        else:
            self._late.pop(name, None)

    def _single(self, name: str, track: _Track, wall: int) -> None:
        value = track.value
        self._late.pop(name, None)
        if value is not None:
            track.kept, track.kept_at = value, wall
            self._rows.append(("reading", (name, 0, wall, value, value, value, 1)))

    def turn(self, wall: int) -> None:
        """Time goes on: called at least once a second."""
        self._roll(wall)
        for name in [name for name, due in self._late.items() if due <= wall]:
            self._single(name, self._tracks[name], wall)
        if self._rows:
            self._writer.put(self._rows)
            self._rows = []

    def _roll(self, wall: int) -> None:
        """What a minute was is settled before anything of the next is counted."""
        minute = wall // (MINUTE * NS)
        if minute != self._minute:
            if self._minute:
                self._end_minute(wall)
            self._minute = minute

    def _end_minute(self, wall: int) -> None:
        begin = self._minute * MINUTE * NS
        end = begin + MINUTE * NS
        for name, track in self._tracks.items():
            track.close(min(wall, end) if wall >= begin else wall)
            if track.low is not None and track.high is not None:
                mean = track.total / track.span if track.span else track.low
                self._rows.append(
                    (
                        "reading",
                        (
                            name,
                            MINUTE,
                            begin,
                            track.low,
                            min(max(mean, track.low), track.high),
                            track.high,
                            track.count,
                        ),
                    )
                )
            track.fresh(track.value)
        hour = begin // (HOUR * NS) * HOUR * NS
        if wall // (HOUR * NS) * HOUR * NS != hour:
            self._rows.append(("rollup", (HOUR, hour, MINUTE, hour, hour + HOUR * NS)))
            for step, kept in KEPT.items():
                self._rows.append(("old readings", (step, wall - kept * NS)))
        today = datetime.fromtimestamp(wall / NS, self._zone)
        if self._day and f"{today:%Y-%m-%d}" != self._day:
            self._end_day(wall)
        elif wall // NS >= self._written + FLUSHED:
            self._usage(wall)
        self._day = f"{today:%Y-%m-%d}"

    def _end_day(self, wall: int) -> None:
        self._usage(wall)
        day = datetime.fromisoformat(self._day).replace(tzinfo=self._zone)
        begin, end = (int(each.timestamp()) * NS for each in (day, day + timedelta(days=1)))
        self._rows.append(("rollup", (DAY, begin, HOUR, begin, end)))

    def _usage(self, wall: int) -> None:
        """Add what was done since this was last written to the day's rows."""
        day = self._day or f"{datetime.fromtimestamp(wall / NS, self._zone):%Y-%m-%d}"
        for name, meter in self._meters.items():
            done = meter.take(wall)
            if done.on or done.switchings:
                self._rows.append(("usage", (name, day, done.on, done.switchings, done.joules)))
        self._written = wall // NS

    def flush(self, wall: int) -> None:
        """The service ends: write what there is."""
        if self._minute:
            self._end_minute(wall)
        self._usage(wall)
        self.turn(wall)


def number(setting: Setting) -> float:
    """A setting as one number for a chart: 0 to 1, a drive -1 to 1, a tone's hertz."""
    match setting:
        case Level(parts) | Drive(parts):
            return parts / FULL
        case Colour():
            return max(setting) / FULL
        case Tone(millihertz):
            return millihertz / 1000
    return 0.0


def usage_form(rows: list[tuple[Any, ...]], site: Site) -> list[dict[str, Any]]:
    """Days of outputs as JSON objects."""
    return [
        {"output": name, "day": day, "hours_on": round(on / 3.6e12, 4), "switchings": switchings,
         "kilowatt_hours": round(joules / 3.6e6, 5) if name in site.outputs and site.outputs[name].load is not None else None}
        for name, day, on, switchings, joules in rows
    ]  # fmt: skip


def step_for(span: int) -> int:
    """The rows that suit a span (nanoseconds): single ones, minutes, hours or days."""
    if span <= 2 * HOUR * NS:
        return 0
    return MINUTE if span <= 2 * DAY * NS else HOUR if span <= 92 * DAY * NS else DAY


def _range(input: Input) -> float:
    """About how far an analogue input's value goes."""
    if isinstance(input.scale, tuple) and not isinstance(input.scale, Thermistor):
        points = input.scale.points if isinstance(input.scale, Loop) else input.scale
        values = [value for _, value in points]
        return max(values) - min(values)
    return 3.3 if input.scale is None else 100.0


def readings_of(
    reader: Reader, name: str, begin: int, end: int, limit: int
) -> tuple[int, list[tuple[Any, ...]]]:
    """Readings of a thing in a time, and the seconds that each is of (0: single ones)."""
    step = step_for(end - begin)
    rows = reader.readings(name, step, begin, end, limit)
    while not rows and step:  # nothing has been rolled up that far yet
        step = {DAY: HOUR, HOUR: MINUTE}.get(step, 0)
        rows = reader.readings(name, step, begin, end, limit)
    return step, rows


def _counters(site: Site) -> frozenset[str]:
    return frozenset(name for name, input in site.inputs.items() if input.counts)


def counted(input: Input, rows: list[tuple[Any, ...]]) -> dict[str, Any] | None:
    """Of a counter: what came from the first of its readings to the last, how much that is an hour, and what that is in (kWh in an hour are kW)."""
    if input.kind != "counter" or not rows:
        return None
    came, hours = rows[-1][3] - rows[0][1], (rows[-1][0] - rows[0][0]) / NS / HOUR
    unit = input.unit.removesuffix("h") if input.unit.endswith("Wh") else f"{input.unit}/h"
    return {"came": came, "an_hour": came / hours if hours else None, "rate_unit": unit}
