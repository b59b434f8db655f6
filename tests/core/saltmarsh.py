"""The demo's site with its language, for tests of phrases, plans and rehearsals."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from typing import Any

from cairnwind.core.explain.rehearsal import Put, Rehearsal, Rehearsed
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Source
from cairnwind.core.facts.plan import Schedule
from cairnwind.core.language import schedules
from cairnwind.core.values.moments import local, wall
from cairnwind.core.values.quantities import NS
from cairnwind.demo import SITE_FILE
from cairnwind.site import read_site
from cairnwind.site.plans import read_plan

SITE = read_site(SITE_FILE)
PLAN = read_plan(SITE)
VOCABULARY, SCENES = PLAN.vocabulary, PLAN.scenes
ZONE = SITE.timezone
PERSON = Source("test", "anna")
MINUTE, HOUR, DAY = 60 * NS, 3600 * NS, 86400 * NS


def at(text: str, zone: str = ZONE) -> int:
    """Wall nanoseconds of '2026-11-23 18:00' in a zone."""
    return wall(datetime.fromisoformat(text), zone)


def clock(ns: int, zone: str = ZONE) -> str:
    """The other way round, to the second."""
    return f"{local(ns, zone):%Y-%m-%d %H:%M:%S}"


def schedule(**facts: Any) -> Schedule:
    """A schedule by its form; ``from_`` and ``for_`` are Python's way to write those keys."""
    form = {"name": "it", "do": "turn yard on", **{key.rstrip("_"): value for key, value in facts.items()}}
    return schedules.make(form, PLAN, "database")


def say(phrase: str, command: str = "c") -> Put:
    """Somebody says a phrase."""
    course = PLAN.course(phrase)
    return lambda at: ev.Do(at, command, PERSON, course)


def rehearse(
    plan: Iterable[Schedule], begin: str, end: str, said: Iterable[tuple[str, Put]] = ()
) -> Rehearsed:
    """What becomes of a plan, and of what is said or happens at times."""
    happenings = [(at(time), put) for time, put in said]
    return Rehearsal(SITE, [(each, None) for each in plan], at(begin), happenings=happenings).run_to(at(end))


def changes(found: Rehearsed, output: str) -> list[tuple[str, str]]:
    """When an output became what, as 'HH:MM:SS' and words."""
    return [(clock(each.wall)[11:], each.words) for each in found.changes if each.output == output]
