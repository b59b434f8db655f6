"""Rehearsals as forms: JSON for every surface, rows for a table."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from cairnwind.core.explain.rehearsal import Bar, Note, Put, Rehearsal, Rehearsed, differences, wear
from cairnwind.core.explain.replay import of_journal
from cairnwind.core.facts.plan import Schedule, Span
from cairnwind.core.facts.site import Site
from cairnwind.core.language import schedules
from cairnwind.core.language.forms import Rules
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.fact import replace
from cairnwind.core.values.quantities import NS
from cairnwind.service.records import readings_of
from cairnwind.service.shapes import moment
from cairnwind.site import read_text
from cairnwind.site.plans import read_plan
from cairnwind.site.rules import read_rules
from cairnwind.store.reader import Reader

HOUR = 3600 * NS
KILOWATT_HOUR = 3.6e6
MOST_EVENTS = 50_000
"""Of one rehearsal that others ask for."""
PAGE = 1000


def compared(
    site: Site, plan: Sequence[Schedule], changed: Sequence[Schedule] | None, begin: int, end: int
) -> dict[str, Any]:  # fmt: skip
    """The rehearsal of a plan, and, where it is to be changed, of the changed one, with what differs. Raises `CallerError` (``too-large``)."""
    rules = read_rules(site, read_plan(site))
    found = _rehearsed(site, rules, [(each, None) for each in plan], begin, end)
    if changed is None:
        return {"plan": form(found, site)}
    other = _rehearsed(site, rules, [(each, None) for each in changed], begin, end)
    return {
        "plan": form(found, site),
        "changed": form(other, site),
        "differences": difference_forms(found, other),
    }


def under(
    path: str, text: str, after: str, names: Mapping[str, str], added: Sequence[tuple[dict[str, Any], dict[str, Any]]], begin: int, end: int,
    rows: Sequence[tuple[int, str, str, Mapping[str, Any]]], readings: Sequence[tuple[int, str, float]],
) -> dict[str, Any]:  # fmt: skip
    """What would be different in a time if the site file read ``after`` and not ``text``, with other ``names`` of outputs and inputs (by what they
    are called now); ``added`` are the schedules that people have added, ``rows`` and ``readings`` what the journal and the records have of that time, where it is gone by. Raises `CallerError`."""
    found = []
    for said, called in ((text, {}), (after, names)):
        site = read_text(said, path)
        planned = read_plan(site)
        plan: dict[str, tuple[Schedule, Span | None]] = {
            each.name: (each, None) for each in planned.schedules
        }
        for made, state in added:
            if made["name"] not in plan:
                plan[made["name"]] = schedules.with_state(schedules.make(made, planned, "database"), state)
        then = [(wall, kind, called.get(name, name), data) for wall, kind, name, data in rows]
        read = [(wall, called.get(name, name), value) for wall, name, value in readings]
        happenings = list(of_journal(then, site, read))
        found.append(_rehearsed(site, read_rules(site, planned), [*plan.values()], begin, end, happenings))
    one, other = found
    bars = [each._replace(output=names.get(each.output, each.output)) for each in one.bars]
    return {"differences": difference_forms(replace(one, bars=bars), other)}


def gone_by(
    reader: Reader, site: Site, begin: int, end: int
) -> tuple[list[tuple[int, str, str, dict[str, Any]]], list[tuple[int, str, float]]]:
    """What the journal and the records have of a time gone by, by the names of today. Raises `CallerError` (``too-large``, ``busy``)."""
    rows: list[tuple[int, str, str, dict[str, Any]]] = []
    called, last = reader.called(), 0
    while page := reader.journal(after=last, begin=begin, end=end, limit=PAGE):
        rows += [(each.wall, each.kind, called.now(each.subject, each.wall), each.data) for each in page]
        last = page[-1].seq
        if len(rows) > MOST_EVENTS:
            raise CallerError(
                "too-large", f"More than {MOST_EVENTS:,} things happened in that time.",
                "Go through a shorter time, or on a machine of your own: cairnwind draft rehearse.",
            )  # fmt: skip
    readings = []
    for input in site.inputs.values():
        if input.analogue:
            _, found = readings_of(reader, input.name, begin, end, MOST_EVENTS)
            readings += [(wall, input.name, mean) for wall, _, mean, _ in found]
    return rows, sorted(readings)


def _rehearsed(
    site: Site, rules: Rules, plan: Sequence[tuple[Schedule, Span | None]], begin: int, end: int, happenings: Sequence[tuple[int, Put]] = (),
) -> Rehearsed:  # fmt: skip
    events = 0

    def tell(_: int) -> None:
        nonlocal events
        events += 1
        if events > MOST_EVENTS:
            raise CallerError(
                "too-large", f"More than {MOST_EVENTS:,} things would happen in this time.",
                "Rehearse a shorter time, or on a machine of your own: cairnwind rehearse.",
            )  # fmt: skip

    return Rehearsal(site, plan, begin, happenings=happenings, rules=rules).run_to(end, tell=tell)


def form(found: Rehearsed, site: Site) -> dict[str, Any]:
    """A rehearsal as a JSON object."""
    return {
        "from": moment(found.begin), "to": moment(found.end),
        "changes": [
            {"at": moment(each.wall), "output": each.output, "setting": each.words, "on": each.on, "why": each.why} for each in found.changes
        ],
        "bars": [bar(each) for each in found.bars if each.on or each.by != "rest"],
        "totals": totals(found, site), "held_back": [note(each) for each in found.held_back],
        "collisions": [note(each) for each in found.collisions],
    }  # fmt: skip


def bar(each: Bar) -> dict[str, Any]:
    """A time in which one party has an output at something."""
    return {"output": each.output, "start": moment(each.start), "end": moment(each.end), "words": each.words, "on": each.on,
            "level": round(each.level, 3), "by": each.by, "why": each.why, "brief": each.brief}  # fmt: skip


def note(each: Note) -> dict[str, Any]:
    """Something held back, or a collision."""
    return {"at": moment(each.wall), "output": each.output, "text": each.text}


def totals(found: Rehearsed, site: Site) -> list[dict[str, Any]]:
    """What each output did that did anything."""
    used = wear(site, found.totals)
    rows = []
    for name, done in found.totals.items():
        if not done.on and not done.switchings:
            continue
        output = site.outputs[name]
        of_switchings, of_hours = used[name]
        rows.append({
            "output": name, "label": output.label or name, "hours_on": round(done.on / HOUR, 3), "switchings": done.switchings,
            "kilowatt_hours": round(done.joules / KILOWATT_HOUR, 4) if output.load is not None else None,
            "of_rated_switchings": of_switchings, "of_rated_hours": of_hours,
        })  # fmt: skip
    return rows


def difference_forms(one: Rehearsed, other: Rehearsed) -> list[dict[str, Any]]:
    """What differs between two rehearsals of the same time; 'was' or 'would be' is empty where only one has it."""
    found = []
    for first, second in differences(one, other):
        if (first or second) is None or not any(
            each is not None and (each.on or each.by != "rest") for each in (first, second)
        ):
            continue
        found.append({"was": bar(first) if first else None, "would_be": bar(second) if second else None})
    return found


def table(found: Rehearsed, zone: ZoneInfo) -> str:
    """The changes as CSV, times in the site's zone."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(("time", "output", "setting", "on", "why"))
    writer.writerows(changes(found, zone))
    return out.getvalue()


def changes(found: Rehearsed, zone: ZoneInfo) -> Iterable[tuple[str, str, str, int, str]]:
    """The changes as rows."""
    for each in found.changes:
        at = datetime.fromtimestamp(each.wall / NS, zone)
        yield at.isoformat(timespec="milliseconds"), each.output, each.words, int(each.on), each.why
