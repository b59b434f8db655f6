"""The plan and what is still to come: schedules, timers."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Annotated, Any

from msgspec import UNSET, UnsetType
from msgspec import field as renamed

from cairnwind.commands.declaring import NUMBER, PACED, SPAN, Ask, Command, declare, field
from cairnwind.commands.phrases import outputs_of
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.course import MOST_DATES
from cairnwind.core.values.errors import CallerError, unknown
from cairnwind.core.values.quantities import duration

NAME = Annotated[str, field("Its name.", of="schedule", min_length=1)]
TEXT = Annotated[str, field("A text.")]
DATES = Annotated[
    list[str],
    field("Dates, as in 2026-12-24, or times of dates, as in 2026-12-24 18:00.", max_length=MOST_DATES),
]


class _OfPlan(Command):
    """What changes the plan."""

    @classmethod
    def concerns(cls, event: ev.Plan, ask: Ask) -> Iterable[str]:
        """What the schedule switches, as it was and as it is to be."""
        before = ask.schedules.get(event.name)
        return outputs_of(
            [step for each in (event.schedule, before) if each is not None for step in each.course.steps], ask
        )

    def plan(self, ask: Ask, verb: str, name: str, schedule: Any = None) -> ev.Plan:
        """What is done to the schedule of this name."""
        if schedule is None and name not in ask.schedules:
            raise unknown("schedule", name, ask.schedules)
        return ev.Plan(ask.at, ask.command, ask.source, verb, name, schedule)


@declare(
    "change_schedule", makes=ev.Plan, role="operate", lane=PACED, address="PUT /plan/schedules/<path:name>", example={"name": "late", "do": "turn gallery off", "from": "23:30", "for": "7 h", "repeat": "FREQ=DAILY"},
)  # fmt: skip
class ChangeSchedule(_OfPlan):
    """Puts another in the place of a schedule that was added."""

    name: NAME
    do: Annotated[str, field("A phrase.", min_length=1)]
    from_: Annotated[str, field("When it begins: '18:00', 'sunset'.", min_length=1)] = renamed(name="from")
    to: TEXT | UnsetType = UNSET
    for_: TEXT | UnsetType = renamed(default=UNSET, name="for")
    days: Annotated[int, field("How many days it lasts by the calendar.", ge=1, le=366)] | UnsetType = UNSET
    repeat: Annotated[str, field("A rule of RFC 5545, or 'never'; else daily.")] | UnsetType = UNSET
    starts: TEXT | UnsetType = UNSET
    without: DATES | UnsetType = UNSET
    also: DATES | UnsetType = UNSET
    timezone: TEXT | UnsetType = UNSET
    enabled: Annotated[bool, field("Whether it counts.")] | UnsetType = UNSET

    def event(self, ask: Ask) -> ev.Command:
        """It stands on the plan from now on."""
        from cairnwind.core.language import schedules  # the grammar is not needed to know of the command

        return self.plan(ask, "put", self.name, schedules.make(self.given, ask.planned, "database"))

    def told(self, ask: Ask, outcome: ev.Outcome) -> dict[str, Any]:
        """The schedule."""
        return {"schedule": ask.schedule(self.name)} if self.name in ask.schedules else {}


@declare(
    "add_schedule", makes=ev.Plan, role="operate", lane=PACED, address="POST /plan/schedules", status=201, typed="plan add",
    example={"name": "late", "do": "turn gallery off", "from": "23:00", "for": "8 h", "repeat": "FREQ=DAILY"},
)  # fmt: skip
class AddSchedule(ChangeSchedule):
    """Adds a schedule to the plan."""

    def event(self, ask: Ask) -> ev.Command:
        """A name that nobody has."""
        if self.name in ask.schedules:
            sentence = f"There is a schedule called '{self.name}' already."
            raise CallerError("refused", sentence, "Take another name, or change that one.")
        return super().event(ask)


@declare(
    "drop_schedule",
    makes=ev.Plan,
    role="operate",
    lane=PACED,
    address="DELETE /plan/schedules/<path:name>",
    typed="plan drop",
    example={"name": "late"},
)
class DropSchedule(_OfPlan):
    """Takes a schedule off the plan."""

    name: NAME

    def event(self, ask: Ask) -> ev.Command:
        """It is no more."""
        return self.plan(ask, "drop", self.name)


@declare(
    "set_schedule",
    makes=ev.Plan,
    role="operate",
    lane=PACED,
    address="PATCH /plan/schedules/<path:name>",
    typed="plan enable",
    example={"name": "late", "enabled": False},
)
class SetSchedule(_OfPlan):
    """Enables or disables a schedule, skips its next time, or runs it now: one of these."""

    name: NAME
    enabled: Annotated[bool, field("Whether it counts.")] | UnsetType = UNSET
    skip_next: Annotated[bool, field("Its next time is left out.", schema={"const": True})] | UnsetType = (
        UNSET
    )
    run_now: (
        Annotated[bool, field("It runs now, for as long as it usually lasts.", schema={"const": True})]
        | UnsetType
    ) = UNSET

    def event(self, ask: Ask) -> ev.Command:
        """One of them."""
        verbs = {
            "enabled": "enable" if self.enabled is True else "disable",
            "skip_next": "skip",
            "run_now": "run",
        }
        given = [key for key in verbs if getattr(self, key) is not UNSET]
        if len(given) != 1 or (given[0] != "enabled" and not getattr(self, given[0])):
            raise CallerError(
                "bad-value",
                "The request does not say what to do.",
                'Send one of {"enabled": false}, {"skip_next": true}, {"run_now": true}.',
            )
        return self.plan(ask, verbs[given[0]], self.name)


class _OfTimer(Command):
    """What changes what is still to come: a timer, or a claim that ends by time."""

    def change(self, ask: Ask, number: int, span: int) -> ev.Command:
        """So much later; 0: not at all."""
        claim = ask.claims.get(number)
        if number in ask.timers:
            return ev.ChangeTimer(ask.at, ask.command, ask.source, number, span)
        if claim is None:
            raise CallerError(
                "no-claim", f"There is no timer {number}; it may be over.", "See: cairnwind timers."
            )
        if span:
            return ev.Extend(ask.at, ask.command, ask.source, claim.output, claim.slot, span)
        return ev.Release(ask.at, ask.command, ask.source, claim.output, claim.slot)

    @classmethod
    def concerns(cls, event: Any, ask: Ask) -> Iterable[str]:
        """What the timer switches, or the claim's output."""
        if not isinstance(event, ev.ChangeTimer):
            return [event.output]
        timer = ask.timers.get(event.timer)
        return outputs_of(timer.steps, ask) if timer else ()


@declare(
    "put_off", makes=(ev.ChangeTimer, ev.Extend), role="operate", lane=PACED, address="PATCH /plan/timers/<int:timer>",
    typed="timers extend",
)  # fmt: skip
class PutOff(_OfTimer):
    """Puts a timer off, or lets a claim last longer."""

    timer: NUMBER
    longer: SPAN

    def event(self, ask: Ask) -> ev.Command:
        """Later."""
        return self.change(ask, self.timer, duration(self.longer))


@declare(
    "cancel",
    makes=ev.ChangeTimer,
    role="operate",
    lane=PACED,
    address="DELETE /plan/timers/<int:timer>",
    typed="timers cancel",
)
class Cancel(_OfTimer):
    """Cancels a timer, or releases the claim."""

    timer: NUMBER

    def event(self, ask: Ask) -> ev.Command:
        """Not at all."""
        return self.change(ask, self.timer, 0)
