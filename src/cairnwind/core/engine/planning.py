"""The plan: where each schedule stands, and what begins and ends with its spans.

What a schedule asks for are claims of its own slot, which end with its span. The plan runs on the wall clock, and is worked
out anew when that is set; a clock that is behind the journal is not believed until it is plausible or accepted.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from types import MappingProxyType
from typing import TYPE_CHECKING

from cairnwind.core.engine.courses import Courses, For
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Claim, Rank, Source, held, until
from cairnwind.core.facts.interlocks import Refusal
from cairnwind.core.rules.gates import Armed
from cairnwind.core.state.turn import Turn
from cairnwind.core.values.fact import replace
from cairnwind.core.values.quantities import NS, show_duration

if TYPE_CHECKING:
    from cairnwind.core.facts.plan import Schedule, Span, Walker

NOBODY: Mapping[str, str] = MappingProxyType({})
"""Nothing is called otherwise."""
LATE = 2 * NS
"""A clock that is this much behind the journal's last record is not to be believed."""


class Planning:
    """``armed`` has the gates that hold now; ``courses`` carries out what schedules ask for."""

    def __init__(self, armed: Armed, courses: Courses) -> None:
        self._armed, self._courses = armed, courses
        self.schedules: dict[str, Schedule] = {}
        self.running: dict[str, Span] = {}
        """The span that each schedule is in, if it is in one."""
        self._missed: set[str] = set()
        """Schedules that may not have done what they are for, since the journal could not be written."""
        self._walkers: dict[str, Walker] = {}

    def start(self, turn: Turn, event: ev.Start) -> None:
        """What was left: timers with their end time, schedules where they should be by now."""
        now = turn.now
        if event.last > now.wall + LATE:
            turn.state.clocks.behind = event.last
            behind = show_duration((event.last - now.wall) // NS * NS)
            text = f"the clock is {behind} behind the journal: schedules wait until it is synchronised, or a keeper accepts it"
            turn.note("clock", "", text, {})
        for schedule, was in event.schedules:
            self._take(schedule)
            if was is not None:
                self.running[schedule.name] = was
        self._end_orphans(turn)
        self.look(turn, self.schedules)
        self._courses.restore(turn, event.timers, self.running)

    def accept_clock(self, turn: Turn, event: ev.AcceptClock) -> None:
        """The clock is right: schedules and hours go by it again, and so they do after the next start."""
        sequence = turn.number()
        refusal = None
        if turn.state.clocks.behind and not event.source.keeps:
            refusal = Refusal("role", "only a keeper accepts the clock", "Use a key with the role keep.")
        elif not event.by.strip():
            refusal = Refusal("name", "the clock is accepted by somebody with a name", "Say who: --by NAME.")
        elif turn.state.clocks.behind and not turn.recording:
            refusal = turn.no_journal()
        if refusal is not None:
            turn.refuse(event, sequence, refusal)
            return
        was, turn.state.clocks.behind = turn.state.clocks.behind, 0
        text = f"the clock is accepted by {event.by}" if was else "the clock was believed already"
        if was:
            turn.effect(ev.KeepClock(sequence))
            turn.effect(ev.Changed("site", ""))
            turn.effect(ev.Changed("plan", ""))
            self._armed.gates.jumped(turn)
            for schedule in self.schedules.values():
                turn.touch_all(schedule.course.outputs)
        turn.record(sequence, "clock", "", text, event, {"accepted": bool(was), "by": event.by})
        self.look(turn, list(self.schedules))
        turn.done(event, sequence, text)

    def _end_orphans(self, turn: Turn) -> None:
        """End claims of schedules that are no more."""
        known = {schedule.slot for schedule in self.schedules.values()}
        for name in turn.site.outputs:
            s = turn.standing(name)
            for claim in s.claims.all:
                if claim.rank is Rank.PLAN and claim.slot not in known:
                    turn.end(s, claim, "its schedule is no longer there")

    def _take(self, schedule: Schedule) -> None:
        from cairnwind.core.facts.plan import Walker  # the calendar is not needed on the way to safe

        self.schedules[schedule.name] = schedule
        self._walkers[schedule.name] = Walker(schedule)

    def look(self, turn: Turn, names: Iterable[str]) -> None:
        """See where schedules stand, begin and end what that asks for; what began first is begun first."""
        now = turn.now
        if turn.state.clocks.behind:
            if now.wall < turn.state.clocks.behind - LATE:
                turn.wall.set(turn.state.clocks.behind, "plan", "")
                return
            turn.state.clocks.behind = 0
            turn.effect(ev.Changed("site", ""))
            self._armed.gates.jumped(turn)
            names = list(self.schedules)
        begin: list[tuple[int, str, Span]] = []
        for name in names:
            walker = self._walkers.get(name)
            if walker is None:
                continue
            span, due = walker.at(now.wall)
            was = self.running.get(name)
            if due is not None:
                turn.wall.set(due, "plan", name)
            if span == was:
                continue
            if was is not None:
                self._finish(turn, name)
            if span is not None:
                begin.append((span.start, name, span))
        for _, name, span in sorted(begin):
            self._begin(turn, name, span)

    def due(self, turn: Turn, name: str, slot: str) -> None:
        """An edge of a schedule's has come."""
        self.look(turn, [name] if name else list(self.schedules))

    def _begin(self, turn: Turn, name: str, span: Span) -> None:
        schedule = self.schedules[name]
        self.running[name] = span
        turn.effect(ev.KeepSchedule(schedule, span))
        turn.effect(ev.Changed("plan", ""))
        turn.note(
            "plan",
            name,
            f"'{name}' begins: {schedule.course.text}",
            {"start": span.start, "end": span.end},
        )
        if not turn.recording:
            self._missed.add(name)
        self._carry_out(turn, schedule, span)

    def _carry_out(self, turn: Turn, schedule: Schedule, span: Span) -> None:
        behalf = For(
            f"plan-{turn.sequence}", Source("plan", schedule.name), Rank.PLAN, schedule.slot, until(span.end), since=max(0, turn.now.wall - span.start)
        )  # fmt: skip
        self._courses.run(turn, schedule.course.steps, behalf)

    def withdrawn(self, claim: Claim) -> None:
        """A claim was taken back because it could not be recorded: if a schedule made it, it is owed."""
        if claim.rank is Rank.PLAN:
            self._missed.update(name for name in self.running if self.schedules[name].slot == claim.slot)

    def catch_up(self, turn: Turn) -> None:
        """The journal can be written again: what should be on now, and was not allowed to come on, comes on."""
        missed, self._missed = self._missed, set()
        for span, name in sorted((self.running[name], name) for name in missed if name in self.running):
            self._courses.drop_timers(turn, self.schedules[name].slot)
            self._carry_out(turn, self.schedules[name], span)

    def _finish(
        self, turn: Turn, name: str, why: str = "its time is over", called: Mapping[str, str] = NOBODY
    ) -> None:
        """``called``: what its outputs are called since it began."""
        schedule = self.schedules[name]
        self.running.pop(name, None)
        self._missed.discard(name)
        turn.effect(ev.KeepSchedule(schedule, None))
        turn.effect(ev.Changed("plan", ""))
        turn.note("plan", name, f"'{name}' ends: {why}", {})
        self._courses.drop_timers(turn, schedule.slot)
        for output in schedule.course.outputs:
            s = turn.state.outputs.get(called.get(output, output))
            claim = held(s.claims.all, schedule.slot) if s is not None else None
            if s is not None and claim is not None:
                turn.end(s, claim, why)

    def disown(self, turn: Turn, who: str, why: str) -> None:
        """Schedules that a key has added are there still, and do nothing."""
        for name, schedule in [
            (name, each) for name, each in self.schedules.items() if each.by == who and each.enabled
        ]:
            if name in self.running:
                self._finish(turn, name, why)
            self._take(replace(schedule, enabled=False))
            turn.effect(ev.KeepSchedule(self.schedules[name], None))
            turn.effect(ev.Changed("plan", ""))
            turn.note("plan", name, f"'{name}' is disabled: {why}", {})

    def change(self, turn: Turn, event: ev.Plan) -> None:
        """Somebody changes the plan."""
        name = event.name
        sequence = turn.number()
        schedule = self.schedules.get(name)
        if schedule is None and event.verb != "put":
            turn.refuse(
                event,
                sequence,
                Refusal("name", f"there is no schedule called '{name}'", "See: cairnwind plan."),
            )
            return
        if event.verb in ("put", "drop") and schedule is not None and schedule.origin == "site file":
            turn.refuse(
                event,
                sequence,
                Refusal("origin", f"'{name}' is in the site file", "Change it there, or disable it here."),
            )
            return
        if not turn.recording:
            turn.refuse(event, sequence, turn.no_journal())
            return
        said = f"'{name}' {event.verb}"
        if event.verb == "drop":
            if name in self.running:
                self._finish(turn, name, "it was taken off the plan")
            self._remove(name)
            turn.effect(ev.DropSchedule(name))
            said = f"'{name}' is taken off the plan"
        else:
            found = event.schedule if event.verb == "put" else schedule
            assert found is not None
            if event.verb == "put":
                found = replace(found, by=event.source.who)
            found, said, trouble = self._as_asked(turn, event.verb, found)
            if trouble:
                turn.refuse(event, sequence, Refusal("plan", trouble, "See: cairnwind plan."))
                return
            if event.verb in ("put", "run") and name in self.running:
                self._finish(turn, name, "it was changed")
            self._take(found)
            turn.effect(ev.KeepSchedule(found, self.running.get(name)))
            self.look(turn, [name])
        turn.effect(ev.Changed("plan", ""))
        data = {"verb": "plan", "change": event.verb}
        turn.record(sequence, "command", name, said, event, data)
        turn.done(event, sequence, said)

    def _as_asked(self, turn: Turn, verb: str, schedule: Schedule) -> tuple[Schedule, str, str]:
        """The schedule as it is then, in words, or why that cannot be."""
        from cairnwind.core.facts.plan import Span, ahead

        name, now = schedule.name, turn.now.wall
        match verb:
            case "put":
                return schedule, f"'{name}' is on the plan: {schedule.course.text}", ""
            case "enable":
                return replace(schedule, enabled=True), f"'{name}' is enabled", ""
            case "disable":
                return replace(schedule, enabled=False), f"'{name}' is disabled", ""
        coming = next(ahead(schedule, now), None)
        if verb == "skip":
            if coming is None:
                return schedule, "", f"'{name}' has nothing to come that could be skipped"
            left = frozenset(each for each in schedule.skipped if each > now)
            return replace(schedule, skipped=left | {coming.start}), f"'{name}' leaves out its next time", ""
        length = (
            schedule.length
            if schedule.length and not schedule.days
            else coming.end - coming.start
            if coming
            else 3600 * NS
        )
        return (
            replace(schedule, extra=Span(now, now + length)),
            f"'{name}' is run now, for {show_duration(length // NS * NS)}",
            "",
        )

    def _remove(self, name: str) -> None:
        self.schedules.pop(name, None)
        self._walkers.pop(name, None)

    def reload(self, turn: Turn, schedules: Iterable[Schedule], called: Mapping[str, str] = NOBODY) -> None:
        """The site file's schedules are these now; those that did not change, but for what their outputs are ``called``, go on as they are."""
        fresh = {schedule.name: schedule for schedule in schedules}
        for name, schedule in list(self.schedules.items()):
            if schedule.origin == "site file" and (
                name not in fresh or fresh[name].course.text != now_called(schedule.course.text, called)
            ):
                if name in self.running:
                    self._finish(turn, name, "the site file has changed", called)
                self._remove(name)
        for schedule in fresh.values():
            known = self.schedules.get(schedule.name)
            if known is None or known.origin == "site file":
                again = (
                    schedule
                    if known is None
                    else replace(schedule, enabled=known.enabled, skipped=known.skipped)
                )
                self._take(again)
        self.look(turn, list(self.schedules))

    def jumped(self, turn: Turn) -> None:
        """The wall clock was set: the plan is where it should be by now."""
        self.look(turn, list(self.schedules))


def now_called(text: str, called: Mapping[str, str]) -> str:
    """What a schedule does, by the names of now."""
    if not called:
        return text
    names = "|".join(re.escape(each) for each in sorted(called, key=len, reverse=True))
    return re.sub(rf"(?<![\w-])(?:{names})(?![\w-])", lambda match: called[match[0]], text)
