"""Schedules and timers as forms: what a site file, a request or the store says of them, and back."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import date, datetime
from typing import Any, NamedTuple, TypeVar

from cairnwind.core.facts import plan
from cairnwind.core.facts.claims import Lifetime, Rank, Source
from cairnwind.core.facts.course import MOST_DATES, Order, Step, Timer
from cairnwind.core.facts.history import source_form
from cairnwind.core.facts.plan import Schedule, Span
from cairnwind.core.facts.site import Site
from cairnwind.core.language import compiling
from cairnwind.core.language.words import Vocabulary
from cairnwind.core.physics.programs import decode_wanted, encode_wanted
from cairnwind.core.values import moments
from cairnwind.core.values.dates import day, day_or_time
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import duration, show_duration

T = TypeVar("T")
KEYS = {
    "name": "what it is called",
    "do": "a phrase",
    "from": 'when it begins: `"18:30"`, `"sunset - 20 min"`',
    "to": "when it ends; neither this nor `for` where the phrase ends by itself",
    "for": "instead: how long it lasts",
    "days": "instead or besides: how many days it lasts by the calendar, to the same time of day",
    "repeat": 'on which days, as RFC 5545 has it: `"FREQ=WEEKLY;BYDAY=TH,FR"`; `"never"`: only on `starts` and `also`; daily unless said',
    "starts": "its first day, from which weeks and intervals are counted",
    "without": 'days left out, or single times: `["2026-12-24", "2026-12-25 18:00"]`',
    "also": "days added, or single times",
    "timezone": "IANA name, where that is not the site's",
    "enabled": "false: it stays in the file and does nothing",
}
"""What can be said of a schedule."""


class Planned(NamedTuple):
    """The plan of a site file, with the language that its phrases are in."""

    vocabulary: Vocabulary
    scenes: Mapping[str, tuple[str, ...]]
    schedules: tuple[Schedule, ...] = ()

    def course(self, text: str) -> Any:
        """The course of a phrase. Raises `CallerError`."""
        return compiling.understand(text, self.vocabulary, self.scenes)


def make(form: Mapping[str, Any], planned: Planned, origin: str) -> Schedule:
    """The schedule that a form describes.

    Raises `CallerError`, which says in ``more["key"]`` which of its `KEYS` is at fault, where that is known.
    """
    for key in form:
        if key not in KEYS:
            raise _of(
                key, CallerError("bad-value", f"A schedule has no '{key}'.", f"It has {', '.join(KEYS)}.")
            )
    site = planned.vocabulary.site
    name = _take(form, "name", _name)
    where = site.where
    if form.get("timezone") is not None:
        where = where._replace(timezone=_take(form, "timezone", moments.named))
    course = _take(form, "do", planned.course)
    start = _take(form, "from", lambda text: moments.read(text, where))
    end = _take(form, "to", lambda text: moments.read(text, where)) if form.get("to") is not None else None
    length = _take(form, "for", duration) if form.get("for") is not None else 0
    count = _take(form, "days", _count) if form.get("days") is not None else 0
    if end is not None and (length or count):
        raise _of(
            "for",
            CallerError(
                "bad-value",
                f"'{name}' has both 'to' and '{'for' if length else 'days'}'.",
                "Say when it ends, or how long it lasts.",
            ),
        )
    if end is None and not length and not count:
        length = course.length or 0
    starts = _take(form, "starts", day) if form.get("starts") is not None else None
    repeat = form.get("repeat")
    text = plan.DAILY if repeat is None else ""
    if repeat is not None and repeat != "never":
        text = _take(form, "repeat", plan.rule)
    if repeat == "never" and starts is None and not form.get("also"):
        raise _of(
            "repeat",
            CallerError("bad-value", f"'{name}' has no day.", "Give it 'starts', or a rule to repeat by."),
        )
    if end is not None and end == start:
        raise _of("to", CallerError("bad-value", f"'{name}' ends when it begins.", "Give it a later end."))
    schedule = Schedule(
        name, course, start, where, end, length, count, text, starts,
        _take(form, "without", days) if form.get("without") else frozenset(),
        _take(form, "also", days) if form.get("also") else frozenset(),
        origin, _take(form, "enabled", flag) if "enabled" in form else True,
    )  # fmt: skip
    return plan.sound(schedule)


def form_of(schedule: Schedule) -> dict[str, Any]:
    """The form of a schedule, which `make` takes."""
    form: dict[str, Any] = {"name": schedule.name, "do": schedule.course.text, "from": schedule.start.text}
    if schedule.end is not None:
        form["to"] = schedule.end.text
    elif schedule.length and (schedule.days or schedule.length != schedule.course.length):
        form["for"] = show_duration(schedule.length)
    if schedule.days:
        form["days"] = schedule.days
    form["repeat"] = schedule.rule or "never"
    if schedule.first is not None:
        form["starts"] = schedule.first.isoformat()
    for key, dates in (("without", schedule.without), ("also", schedule.also)):
        if dates:
            form[key] = sorted(_stamp(each) for each in dates)
    form["timezone"] = schedule.where.timezone
    return form


def _stamp(each: date) -> str:
    return each.isoformat(" ").removesuffix(":00") if isinstance(each, datetime) else each.isoformat()


def state_of(schedule: Schedule, now: Span | None) -> dict[str, Any]:
    """What has been done to a schedule beyond what it says of itself, and the span that it is in."""
    return {"enabled": schedule.enabled, "skipped": sorted(schedule.skipped),
            "extra": list(schedule.extra) if schedule.extra else None, "now": list(now) if now else None, "by": schedule.by}  # fmt: skip


def with_state(schedule: Schedule, state: Mapping[str, Any]) -> tuple[Schedule, Span | None]:
    """A schedule as it was left, and the span that it was in."""
    extra, now = state.get("extra"), state.get("now")
    left = plan.changed(
        schedule,
        enabled=state["enabled"],
        skipped=frozenset(state["skipped"]),
        extra=Span(*extra) if extra else None,
        by=state.get("by", ""),
    )
    return left, Span(*now) if now else None


# --- timers ---------------------------------------------------------------------------------------------------


def timer_form(timer: Timer) -> dict[str, Any]:
    """A timer as a JSON object."""
    return {
        "id": timer.id, "text": timer.text, "steps": [_step(step) for step in timer.steps], "source": source_form(timer.source),
        "rank": timer.rank.word, "slot": timer.slot, "made": timer.made, "due": timer.due_wall, "calendar": timer.due_mono is None,
        "lifetime": list(timer.lifetime) if timer.lifetime else None, "every": timer.every, "left": timer.left, "ends": timer.ends_wall,
    }  # fmt: skip


def timer_read(form: Mapping[str, Any]) -> Timer:
    """The timer of a stored form; its monotonic time is for the engine to find."""
    return Timer(
        form["id"], form["text"], tuple(_step_read(each) for each in form["steps"]), Source(**form["source"]), Rank[form["rank"].upper()],
        form["slot"], form["made"], form["due"], None if form["calendar"] else 0,
        Lifetime(*form["lifetime"]) if form["lifetime"] else None, form["every"], form["left"], form["ends"],
    )  # fmt: skip


def _step(step: Step) -> dict[str, Any]:
    orders = [
        [order.output, order.act, None if order.wanted is None else encode_wanted(order.wanted),
         list(order.lifetime) if order.lifetime else None, order.until.text if order.until else None, order.scene, order.by]
        for order in step.orders
    ]  # fmt: skip
    return {"after": step.after, "orders": orders, "text": step.text, "stop": step.stop}


def _step_read(form: Mapping[str, Any]) -> Step:
    orders = tuple(
        Order(output, act, None if wanted is None else decode_wanted(wanted), Lifetime(*life) if life else None,
              moments.read(until) if until else None, scene, *by)
        for output, act, wanted, life, until, scene, *by in form["orders"]
    )  # fmt: skip
    return Step(form["after"], orders, form["text"], form["stop"])


# --- values ---------------------------------------------------------------------------------------------------


def _of(key: str, error: CallerError) -> CallerError:
    error.more = {**error.more, "key": key}
    return error


def _take(form: Mapping[str, Any], key: str, read: Callable[[Any], T]) -> T:
    if form.get(key) is None:
        raise _of(key, CallerError("bad-value", f"A schedule needs '{key}'.", _NEEDS.get(key, "")))
    try:
        return read(form[key])
    except CallerError as error:
        raise _of(key, error) from None


_NEEDS = {"name": "Give it a name.", "do": "Say what it does: do = \"turn gallery on\".", "from": "Say when it begins: from = \"22:30\"."}  # fmt: skip


def _name(text: object) -> str:
    if not isinstance(text, str) or not text.strip() or len(text) > 80 or not text.isprintable():
        raise CallerError(
            "bad-value", f"{text!r} cannot be a schedule's name.", "Use up to 80 printable characters."
        )
    return text.strip()


def days(value: object) -> frozenset[date]:
    """Dates. Raises `CallerError`."""
    if not isinstance(value, list) or len(value) > MOST_DATES:
        raise CallerError("bad-value", "This is not a list of dates.", 'Write ["2026-12-24", "2026-12-25"].')
    return frozenset(day_or_time(each) for each in value)


def _count(value: object) -> int:
    if not isinstance(value, int) or isinstance(value, bool) or not 1 <= value <= 366:
        raise CallerError("bad-value", f"{value!r} is no number of days.", "Write 1 to 366.")
    return value


def flag(value: object) -> bool:
    """True or false. Raises `CallerError`."""
    if not isinstance(value, bool):
        raise CallerError("bad-value", f"{value!r} is neither true nor false.", "Write true or false.")
    return value


def everything(site: Site, scenes: Mapping[str, tuple[str, ...]] = {}) -> Planned:
    """The language of a site, without a plan."""
    return Planned(Vocabulary(site, scenes), scenes)
