"""Signals as they leave the service: JSON for the console, VCD (IEEE 1364) and CSV for other programs.

Inside, times are monotonic microseconds; outside they are microseconds UTC by the clock as it is set now.
"""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

from flask import Response, request
from vcd import VCDWriter

from cairnwind.core.values.errors import CallerError, unknown
from cairnwind.core.values.quantities import duration
from cairnwind.service.asked import answer, whole
from cairnwind.service.signals import KEPT, MOST_EDGES, Signal, Signals, edges, square
from cairnwind.service.startup import clock

LONGEST = KEPT / 1e6
"""Seconds."""


class Waveforms:
    """The views of ``/signals``."""

    def __init__(self, signals: Signals) -> None:
        self._signals = signals
        self._all = {signal.name: signal for signal in signals.every()}

    def routes(self, v1: str) -> dict[str, dict[str, Callable[..., Any]]]:
        """Their addresses."""
        return {
            f"{v1}/signals": {"GET": self.get},
            f"{v1}/signals.vcd": {"GET": self.vcd},
            f"{v1}/signals.csv": {"GET": self.csv},
        }

    def _asked(self) -> tuple[list[Signal], int, int, int]:
        """The signals asked for, from and to in monotonic microseconds, and what to add to make them UTC."""
        names = [name for name in request.args.get("names", "").split(",") if name]
        chosen: list[Signal] = []
        for name in names:
            some = [signal for signal in self._all.values() if name in (signal.name, signal.thing)]
            if not some:
                raise unknown("signal", name, {signal.thing for signal in self._all.values()})
            chosen += some
        now = clock()
        end, utc = now.mono // 1000, (now.wall - now.mono) // 1000
        try:
            span = duration(request.args.get("seconds", "30") + " s", longest=int(LONGEST)) // 1000
            after = whole("after", None)
            start = max(end - span, after - utc) if after else end - span
        except (ValueError, CallerError):
            raise CallerError(
                "bad-value",
                "'seconds' and 'after' are numbers of seconds, and of microseconds UTC.",
                f"Ask for 0.001 to {LONGEST:g} seconds.",
            ) from None
        return chosen if names else list(self._all.values()), start, end, utc

    def get(self) -> Response:
        """Rows of the signals; without names only what there is to ask for."""
        chosen, start, end, utc = self._asked()
        listed = not request.args.get("names")
        forms = []
        for signal in chosen:
            form: dict[str, Any] = {
                "name": signal.name, "of": signal.thing, "label": signal.label, "kind": signal.kind, "unit": signal.unit, "words": signal.words,
            }  # fmt: skip
            if not listed:
                rows = self._signals.rows(signal, start, end)
                form["times"] = [row.time + utc for row in rows]
                form["values"] = [None if math.isnan(row.value) else row.value for row in rows]
                form["hertz"] = (
                    [row.millihertz / 1000 for row in rows] if any(row.millihertz for row in rows) else None
                )
            forms.append(form)
        return answer({"from": start + utc, "to": end + utc, "kept_seconds": LONGEST, "signals": forms})

    def vcd(self) -> Response:
        """All of them as value changes over time; PWM as its square wave too, where that has not too many edges."""
        chosen, start, end, utc = self._asked()
        out = io.StringIO()
        changes: list[tuple[int, int, Any, Any]] = []
        begun = datetime.fromtimestamp((start + utc) / 1e6, UTC)
        rows = {signal.name: self._signals.rows(signal, start, end) for signal in chosen}
        waves = sum(edges(rows[signal.name], end) for signal in chosen if signal.kind == "pwm") <= MOST_EDGES
        with VCDWriter(
            out, timescale="1 us", date=f"{begun:%Y-%m-%d %H:%M:%S} UTC", version="Cairnwind"
        ) as writer:
            for order, signal in enumerate(chosen):
                kind = "wire" if signal.kind == "digital" else "real"
                scope, _, channel = signal.name.partition(".")
                name = (
                    {"pwm": "duty", "tone": "loudness"}.get(signal.kind, "value")
                    if kind == "real"
                    else "level"
                )
                if channel:
                    name = f"{channel}_{name}"
                if kind == "wire":
                    variable = writer.register_var(scope, name, "wire", size=1, init="x")
                else:
                    variable = writer.register_var(scope, name, "real", init=0.0)
                for row in rows[signal.name]:
                    value: Any = (
                        ("x" if math.isnan(row.value) else int(row.value > 0))
                        if kind == "wire"
                        else row.value
                    )
                    changes.append((max(0, row.time - start), order, variable, value))
                if signal.kind in ("pwm", "tone"):
                    pitch = writer.register_var(
                        scope, f"{channel}_hertz" if channel else "hertz", "real", init=0.0
                    )
                    changes += [
                        (
                            max(0, row.time - start),
                            order,
                            pitch,
                            row.millihertz / 1000 if row.value else 0.0,
                        )
                        for row in rows[signal.name]
                    ]
                if signal.kind == "pwm" and waves:
                    wave = writer.register_var(
                        scope, f"{channel}_pin" if channel else "pin", "wire", size=1, init=0
                    )
                    changes += [
                        (max(0, at // 1000 - start), order, wave, level)
                        for at, level in square(rows[signal.name], end)
                    ]
            for at, _, variable, value in sorted(changes, key=lambda change: change[:2]):
                if not (isinstance(value, float) and math.isnan(value)):
                    writer.change(variable, at, value)
            writer.close(end - start)
        return _file(out.getvalue(), "text/plain", "signals.vcd")

    def csv(self) -> Response:
        """One row for each change."""
        chosen, start, end, utc = self._asked()
        out = io.StringIO()
        writer = csv.writer(out, lineterminator="\n")
        writer.writerow(["time_utc", "signal", "value", "unit", "hertz"])
        found = [(row, signal) for signal in chosen for row in self._signals.rows(signal, start, end)]
        for row, signal in sorted(found, key=lambda each: each[0].time):
            wall = max(row.time, start) + utc
            stamp = datetime.fromtimestamp(wall // 10**6, UTC)
            value = "" if math.isnan(row.value) else f"{row.value:.10g}"
            writer.writerow(
                [
                    f"{stamp:%Y-%m-%dT%H:%M:%S}.{wall % 10**6:06d}Z",
                    signal.name,
                    value,
                    signal.unit,
                    f"{row.millihertz / 1000:.10g}" if row.millihertz else "",
                ]
            )
        return _file(out.getvalue(), "text/csv", "signals.csv")


def _file(text: str, kind: str, name: str) -> Response:
    return Response(
        text,
        content_type=f"{kind}; charset=utf-8",
        headers={"Content-Disposition": f'attachment; filename="{name}"'},
    )
