"""The plan of a site file: its scenes and schedules, read once every output is safe.

They need the command language and the calendar, which take longer to load than all the rest; so `read_site`
leaves them alone, and this reads them from the text that it kept.
"""

from __future__ import annotations

import time
from collections.abc import Iterable
from typing import Any

from cairnwind.core.facts import plan
from cairnwind.core.facts.plan import Schedule
from cairnwind.core.facts.site import Site
from cairnwind.core.language import schedules
from cairnwind.core.language.schedules import Planned
from cairnwind.core.language.words import Vocabulary
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.moments import local
from cairnwind.core.values.quantities import NS
from cairnwind.site.tables import Page, Table
from cairnwind.site.trouble import Findings, SiteFileError

YEAR = 366 * 86400 * NS


def read_plan(site: Site) -> Planned:
    """Scenes and schedules. Raises `SiteFileError` with every error."""
    return check_plan(site)[0]


def check_plan(site: Site, *, warn: bool = False) -> tuple[Planned, Findings]:
    """Like `read_plan`; with ``warn`` also what overlaps, and days that a schedule leaves out."""
    path, text = site.source
    if not text or ("[[schedule" not in text and "[scene" not in text and "schedule" not in text):
        return schedules.everything(site), Findings(path, [], text)
    reader = Page(path, text)
    tables = reader.parsed.tables
    scenes = _scenes(reader, tables.get("scene", {}))
    planned = Planned(Vocabulary(site, scenes), scenes)
    for name, texts in scenes.items():
        for number, each in enumerate(texts):
            try:
                course = planned.course(each)
                if course.lead is not None:
                    raise CallerError(
                        "",
                        f"scene {name} begins when it is run, and '{each}' says when",
                        "Use 'wait' within it.",
                    )
            except CallerError as error:
                reader.point_within(("scene", name, "do", number), each, error)
    found: list[tuple[int, Schedule]] = []
    names: set[str] = set()
    for number, values in enumerate(_list(reader, tables.get("schedule", []))):
        table = Table(reader, ("schedule", number), values)
        table.nothing_else(schedules.KEYS)
        try:
            made = schedules.make(
                {key: value for key, value in table.values.items() if key in schedules.KEYS},
                planned,
                "site file",
            )
        except CallerError as error:
            key = error.more.get("key")
            at: tuple[Any, ...] = ("schedule", number, key) if key in table.values else ("schedule", number)
            reader.point_within(at, table.values.get(str(key), "schedule"), error)
            continue
        if made.name in names:
            reader.point(
                ("schedule", number, "name"),
                made.name,
                CallerError("", f"two schedules are called '{made.name}'", "Give one of them another name."),
            )
            continue
        names.add(made.name)
        found.append((number, made))
    if reader.findings:
        raise SiteFileError(path, reader.findings, text)
    if warn:
        for number, sentence, remedy in _doubts(found):
            reader.point(
                ("schedule", number, "name"),
                dict(found)[number].name,
                CallerError("", sentence, remedy),
                grave=False,
            )
    planned = planned._replace(schedules=tuple(schedule for _, schedule in found))
    return planned, Findings(path, reader.warnings, text)


def _scenes(reader: Page, tables: Any) -> dict[str, tuple[str, ...]]:
    found: dict[str, tuple[str, ...]] = {}
    for name, table in reader.named({"scene": tables}, "scene"):
        do = table.values.get("do")
        table.nothing_else(("do", "label"))
        if not isinstance(do, list) or not do or not all(isinstance(each, str) for each in do):
            table.point(
                "do",
                f"scene {name} has no list of phrases",
                'Write do = ["turn gallery to 70 %", "turn bench-lamp on"].',
            )
            continue
        found[name] = tuple(do)
    return found


def _list(reader: Page, value: Any) -> list[Any]:
    if isinstance(value, list):
        return value
    reader.point(
        ("schedule",),
        "schedule",
        CallerError("", "schedules are a list of tables", "Write [[schedule]] and its keys below."),
    )
    return []


def _doubts(found: Iterable[tuple[int, Schedule]]) -> Iterable[tuple[int, str, str]]:
    """Schedules that want one output at the same time, and days on which one does not begin."""
    now = time.time_ns()
    seen: list[Schedule] = []
    for number, schedule in found:
        for other in seen:
            shared = [name for name in schedule.course.outputs if name in other.course.outputs]
            both = plan.overlap(other, schedule, now, now + YEAR) if shared else None
            if both is not None:
                begin, end = (local(at, schedule.where.timezone) for at in both)
                yield (
                    number,
                    (
                        f"'{schedule.name}' and '{other.name}' both want {' and '.join(shared)}, first from {begin:%Y-%m-%d %H:%M} to {end:%H:%M}"
                    ),
                    "What begins later leads; what began earlier comes back when that ends.",
                )
        left = plan.missing(schedule, now, now + YEAR)
        if left:
            yield (
                number,
                f"'{schedule.name}' has no time on {len(left)} days of the coming year, first on {left[0]}",
                "The sun does not do that there on those days.",
            )
        seen.append(schedule)
