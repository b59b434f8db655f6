"""OpenMetrics: what may be asked of a service again and again, by whoever keeps such figures. Made from the present picture when it is asked."""

from __future__ import annotations

import shutil
import time
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from flask import Response
from prometheus_client import CollectorRegistry, ProcessCollector
from prometheus_client.core import (
    CounterMetricFamily,
    GaugeMetricFamily,
    HistogramMetricFamily,
    InfoMetricFamily,
    Metric,
)
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest
from prometheus_client.registry import Collector

from cairnwind import __version__
from cairnwind.remotes.remote import Remote
from cairnwind.service.desk import Desk
from cairnwind.service.meters import Spread
from cairnwind.service.records import number

MOST_THINGS = 2_000
"""Outputs, and inputs, that have series of their own: who keeps figures pays for each. The rest is counted."""
P = "cairnwind_"


class Metrics(Collector):
    """Collects from a running service, and answers with it."""

    def __init__(self, desk: Desk, remotes: Sequence[Remote]) -> None:
        self.desk, self.remotes = desk, remotes
        self._registry = CollectorRegistry()
        self._registry.register(self)
        ProcessCollector(registry=self._registry)

    def routes(self) -> dict[str, dict[str, Callable[..., Any]]]:
        """Its address."""
        return {"/metrics": {"GET": self.answer}}

    def answer(self) -> Response:
        """All of it, as text."""
        text = generate_latest(self._registry)  # type: ignore[no-untyped-call]
        return Response(text, content_type=CONTENT_TYPE_LATEST)

    def describe(self) -> list[Metric]:
        """Nothing: it is known when it is collected."""
        return []

    def collect(self) -> Iterator[Metric]:
        """Every family."""
        yield InfoMetricFamily(
            f"{P}service", "Which version serves.", {"version": __version__, "site": self.desk.site.name}
        )
        yield from self._commands()
        yield from self._store()
        yield from self._boards()
        yield from self._things()
        yield from self._site()

    def _commands(self) -> Iterator[Metric]:
        meters, lanes = self.desk.runtime.meters, self.desk.runtime.lanes
        found = CounterMetricFamily(
            f"{P}commands", "Commands that were decided.", labels=["surface", "outcome"]
        )
        for (surface, outcome), count in sorted(meters.commands.copy().items()):
            found.add_metric([surface, outcome], count)
        yield found
        yield _spread("decision", "From a command's arrival to its decision.", meters.decision)
        yield _spread("commit", "From a command's arrival to its commit.", meters.commit)
        yield _spread("pin", "From a command's arrival to what its pin confirmed.", meters.pin)
        yield _spread("reading", "From a request by HTTP that reads to its answer.", meters.answers[True])
        yield _spread(
            "asking",
            "From a request by HTTP that is to change something to its answer, with the wait for a confirmation where that was asked for.",
            meters.answers[False],
        )
        yield GaugeMetricFamily(f"{P}waiting_commands", "What waits for the engine.", lanes.waiting())
        beat = self.desk.runtime.machine.beat
        yield GaugeMetricFamily(
            f"{P}engine_beat_age_seconds",
            "Since the engine's last turn.",
            time.monotonic() - beat if beat else 0.0,
            unit="seconds",
        )

    def _store(self) -> Iterator[Metric]:
        runtime = self.desk.runtime
        yield CounterMetricFamily(
            f"{P}commits", "Groups of rows that were committed.", runtime.writer.commits
        )
        yield CounterMetricFamily(f"{P}rows", "Rows that were committed.", runtime.writer.written)
        size, used = runtime.reader.size()
        yield GaugeMetricFamily(f"{P}database_bytes", "The database's file.", size, unit="bytes")
        yield GaugeMetricFamily(f"{P}database_used_bytes", "What of it is used.", used, unit="bytes")
        yield GaugeMetricFamily(
            f"{P}disk_free_bytes",
            "Left on the disk of the state folder.",
            shutil.disk_usage(runtime.folder).free,
            unit="bytes",
        )
        now = runtime.publisher.current.site_now
        yield GaugeMetricFamily(f"{P}journal_writable", "1 while the journal can be written.", now.recording)
        last = next(iter(runtime.backups.all()), None)
        if last is not None:
            yield GaugeMetricFamily(
                f"{P}backup_age_seconds",
                "Since the last backup.",
                time.time() - last.made.timestamp(),
                unit="seconds",
            )

    def _boards(self) -> Iterator[Metric]:
        up = GaugeMetricFamily(f"{P}board_up", "1 while a board answers.", labels=["board", "link"])
        rate = GaugeMetricFamily(
            f"{P}board_rounds", "Rounds a second on the wire of a board.", labels=["board"]
        )
        errors = CounterMetricFamily(
            f"{P}board_errors", "What went wrong on the wire of a board.", labels=["board"]
        )
        boards, links = self.desk.site.boards, self.desk.runtime.machine.links
        for name, shown in self.desk.runtime.publisher.current.boards.items():
            if name not in boards or name not in links:
                continue  # it has just left the site
            up.add_metric([name, boards[name].link], shown.now.up)
            rate.add_metric([name], links[name].traffic.rate())
            errors.add_metric([name], links[name].traffic.errors)
        yield from (up, rate, errors)
        open_, wrong = (
            GaugeMetricFamily(f"{P}remote_up", "1 while a way in or out is open.", labels=["remote", "kind"]),
            CounterMetricFamily(
                f"{P}remote_errors", "What came by it and could not be taken.", labels=["remote"]
            ),
        )
        for remote in self.remotes:
            open_.add_metric([remote.name, remote.kind], remote.up)
            wrong.add_metric([remote.name], remote.traffic.errors)
        yield from (open_, wrong)

    def _things(self) -> Iterator[Metric]:
        picture, outputs = self.desk.runtime.publisher.current, self.desk.site.outputs
        on = GaugeMetricFamily(
            f"{P}output_on",
            "1 while an output is confirmed on; not there while that is unknown.",
            labels=["output", "kind"],
        )
        level = GaugeMetricFamily(
            f"{P}output_level",
            "Its confirmed level: 0 to 1, a drive -1 to 1, a tone's hertz.",
            labels=["output"],
        )
        held = GaugeMetricFamily(
            f"{P}output_held", "1 while a gate keeps it from what is wanted.", labels=["output"]
        )
        for now in picture.nows[:MOST_THINGS]:
            name = now.output.name
            held.add_metric([name], now.refusal is not None)
            if now.confirmed is not None and name in outputs:
                on.add_metric([name, outputs[name].kind], now.confirmed.on)
                level.add_metric([name], number(now.confirmed))
        yield from (on, level, held)
        active = GaugeMetricFamily(
            f"{P}input_active",
            "1 while a contact is in the second of its two words; not there while unknown.",
            labels=["input"],
        )
        value = GaugeMetricFamily(
            f"{P}input_value", "What an analogue input or a counter reads.", labels=["input", "unit"]
        )
        inputs = self.desk.site.inputs
        for name, shown in list(picture.inputs.items())[:MOST_THINGS]:
            its = inputs.get(name)
            if its is not None and shown.now.value is not None:
                value.add_metric([name, its.unit], shown.now.value)
            elif shown.now.active is not None:
                active.add_metric([name], shown.now.active)
        yield from (active, value)
        over = max(0, len(picture.nows) - MOST_THINGS) + max(0, len(picture.inputs) - MOST_THINGS)
        yield GaugeMetricFamily(
            f"{P}things_without_series", f"Outputs and inputs beyond {MOST_THINGS:,} of each.", over
        )

    def _site(self) -> Iterator[Metric]:
        runtime = self.desk.runtime
        now = runtime.publisher.current.site_now
        yield GaugeMetricFamily(f"{P}all_stop", "1 while everything is stopped.", now.stop is not None)
        yield GaugeMetricFamily(f"{P}trips", "Trips that are latched.", len(now.trips))
        yield GaugeMetricFamily(f"{P}lockouts", "Lockout tags that hang.", len(now.tags))
        severity = GaugeMetricFamily(f"{P}alarms", "Alarms that are raised.", labels=["severity"])
        for each in sorted({alarm.severity for alarm in now.alarms}):
            severity.add_metric([each], sum(alarm.severity == each for alarm in now.alarms))
        yield severity
        yield GaugeMetricFamily(
            f"{P}clock_behind_seconds",
            "How far the clock is behind the journal, and so not believed.",
            now.behind / 1e9,
            unit="seconds",
        )
        yield GaugeMetricFamily(
            f"{P}streams",
            "Event streams that are open.",
            runtime.stream.count if runtime.stream is not None else 0,
        )


def _spread(name: str, says: str, spread: Spread) -> Metric:
    return HistogramMetricFamily(
        f"{P}{name}_seconds", says, buckets=spread.buckets(), sum_value=spread.total, unit="seconds"
    )
