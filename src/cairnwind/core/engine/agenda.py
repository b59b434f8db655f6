"""What is still to come: timers, and the schedules of the plan. A part of the engine, in a file of its own.

Courses are carried out here, step by step; each order becomes the same command that a person would have given.
A wait, a delay and a series are timers; what a schedule asks for are claims of its own slot, which end with its
span. Timers run on the monotonic clock, but for those that wait for a time of day; the plan runs on the wall
clock, and is worked out anew when that is set.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, NamedTuple

from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import PERSON, TAKEOVER, Instant, Lifetime, Rank, Source, held, until
from cairnwind.core.facts.course import Course, Order, Step, Timer, told
from cairnwind.core.facts.interlocks import Refusal
from cairnwind.core.values.fact import replace
from cairnwind.core.values.quantities import NS, show_duration

if TYPE_CHECKING:
    from cairnwind.core.engine.loop import Engine
    from cairnwind.core.facts.plan import Schedule, Span, Walker

LATE = 2 * NS
"""A clock that is this much behind the journal's last record is not to be believed."""
WORST = ("not recorded", "refused", "unreachable", "blocked", "waiting", "driving")
"""Outcomes, the worst first: that of a command to several outputs is its parts' worst."""


class For(NamedTuple):
    """On whose behalf a course is carried out."""

    command: str
    source: Source
    rank: Rank = Rank.PERSON
    slot: str = PERSON
    lifetime: Lifetime | None = None
    """What claims last that do not say so themselves."""
    late: bool = False
    """It should have happened while the service was down."""
    since: int = 0
    """So many nanoseconds ago it should have begun: what takes time is as far as it would be by now."""


class Agenda:
    """See the module's page."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self.timers: dict[int, Timer] = {}
        self.schedules: dict[str, Schedule] = {}
        self.running: dict[str, Span] = {}
        """The span that each schedule is in, if it is in one."""
        self.scenes: dict[str, dict[tuple[str, str], int]] = {}
        """By scene: output and slot of what it claimed, and the claim."""
        self.believed = 0
        """Wall nanoseconds before which the clock is not to be believed; 0 once it is."""
        self._walkers: dict[str, Walker] = {}

    # --- courses ------------------------------------------------------------------------------------------

    def do(self, event: ev.Do) -> None:
        """A phrase that somebody says."""
        engine, course = self._engine, event.course
        sequence = engine.number()
        behalf = For(event.command, event.source)
        lead = course.lead
        if lead is not None and not engine.recording:
            engine.refuse(event, sequence, engine.no_journal())
            return
        reason = ""
        if lead is None:
            self.run(course.steps, behalf)
        else:
            rest = Course(told(course.steps), course.steps)
            now = event.at
            ends = 0
            if lead.until is not None:
                ends = lead.until.after(now.wall, engine.site.where) or 0
            elif lead.span:
                ends = now.wall + lead.span
            if lead.at is not None:
                due = lead.at.after(now.wall, engine.site.where)
                if due is None:
                    engine.refuse(
                        event,
                        sequence,
                        Refusal(
                            "time", f"there is no {lead.at.text} in the year to come", "Say a time of day."
                        ),
                    )
                    return
                timer = self._timer(sequence, rest, behalf, due, None)
            else:
                span = lead.after or lead.every
                timer = self._timer(sequence, rest, behalf, now.wall + span, now.mono + span)
            if lead.every:
                left = lead.times - 1 if lead.times else 0
                timer = replace(timer, every=lead.every, left=left, ends_wall=ends)
                self.run(course.steps, behalf)
                if lead.times == 1:
                    timer = replace(timer, due_wall=0)
            if timer.due_wall:
                self._keep(timer)
            reason = f"timer {sequence}"
        text = f"{course.text}{f' ({reason})' if reason else ''}"
        engine.record(sequence, "command", "", text, event, {"verb": "do", "phrase": course.text})
        engine.gather(event, sequence, reason)

    def run(self, steps: tuple[Step, ...], behalf: For) -> None:
        """Carry steps out up to the first wait, and set a timer for what is left then."""
        engine, now = self._engine, self._then(behalf)
        for number, step in enumerate(steps):
            if step.after:
                rest = (step._replace(after=0), *steps[number + 1 :])
                text = told(rest)
                timer = self._timer(
                    engine.number(), Course(text, rest), behalf, now.wall + step.after, now.mono + step.after
                )
                self._keep(timer)
                return
            if step.stop:
                engine.all_stop(
                    ev.AllStop(now, engine.inner(behalf.command), behalf.source, "said in a phrase")
                )
            for order in step.orders:
                self._carry_out(order, behalf)

    def _then(self, behalf: For) -> Instant:
        """When it should have been, on both clocks."""
        now = self._engine.now
        return Instant(now.mono - behalf.since, now.wall - behalf.since) if behalf.since else now

    def _carry_out(self, order: Order, behalf: For) -> None:
        engine, now = self._engine, self._then(behalf)
        if order.act == "release" and order.scene and not order.output:
            for name, slot in list(self.scenes.get(order.scene, ())):
                engine.release(ev.Release(now, engine.inner(behalf.command), behalf.source, name, slot))
            return
        if order.act == "release":
            engine.release(
                ev.Release(now, engine.inner(behalf.command), behalf.source, order.output, behalf.slot)
            )
            return
        output = engine.site.outputs.get(order.output)
        if (
            behalf.late
            and output is not None
            and output.rearm == "command"
            and (order.wanted is None or order.wanted.on)
        ):
            text = f"{order.output}: a timer would have switched it on while the service was down; it needs a new command"
            engine.record(engine.number(), "timer", order.output, text, None, {})
            return
        life = order.lifetime or behalf.lifetime or TAKEOVER
        if order.until is not None:
            ends = order.until.after(now.wall, engine.site.where)
            life = until(ends) if ends is not None else life
        wish = ev.Wish(
            now, engine.inner(behalf.command), behalf.source, order.output, order.wanted, behalf.rank, behalf.slot, life,
            behalf.rank < Rank.PERSON, order.scene, order.by,
        )  # fmt: skip
        engine.wish(wish)

    def claimed(self, scene: str, output: str, slot: str, claim: int) -> None:
        """A scene has made a claim."""
        self.scenes.setdefault(scene, {})[output, slot] = claim

    def forget(self, scene: str, output: str, slot: str) -> None:
        """A scene's claim has ended."""
        found = self.scenes.get(scene, {})
        found.pop((output, slot), None)
        if not found:
            self.scenes.pop(scene, None)

    # --- timers -------------------------------------------------------------------------------------------

    def _timer(self, number: int, course: Course, behalf: For, due_wall: int, due_mono: int | None) -> Timer:
        made = self._engine.now.wall
        return Timer(
            number,
            course.text,
            course.steps,
            behalf.source,
            behalf.rank,
            behalf.slot,
            made,
            due_wall,
            due_mono,
            behalf.lifetime,
        )

    def _keep(self, timer: Timer) -> None:
        self.timers[timer.id] = timer
        self._engine.effect(ev.KeepTimer(timer))
        self._watch(timer)

    def _watch(self, timer: Timer) -> None:
        if timer.due_mono is None:
            self._engine.wall.set(timer.due_wall, "timer", str(timer.id))
        else:
            self._engine.mono.set(timer.due_mono, "timer", str(timer.id))
        self._engine.effect(ev.Changed("plan", ""))

    def _drop(self, timer: Timer) -> None:
        del self.timers[timer.id]
        for timers in (self._engine.mono, self._engine.wall):
            timers.drop("timer", str(timer.id))
        self._engine.effect(ev.DropTimer(timer.id))
        self._engine.effect(ev.Changed("plan", ""))

    def timer_due(self, number: int, *, late: bool = False) -> None:
        """A timer's time has come, unless it was put off or cancelled."""
        engine, timer = self._engine, self.timers.get(number)
        if timer is None:
            return
        now = engine.now
        if (timer.due_wall > now.wall) if timer.due_mono is None else (timer.due_mono > now.mono):
            return  # put off: another entry waits for that
        over = bool(timer.ends_wall and timer.ends_wall <= now.wall)
        if timer.every and not over:
            again = timer.left != 1
            missed = (now.wall - timer.due_wall) // timer.every if late else 0
            step = timer.every * (1 + max(0, missed))
            following = replace(
                timer, due_wall=timer.due_wall + step, due_mono=None if timer.due_mono is None else timer.due_mono + timer.every,
                left=max(0, timer.left - 1),
            )  # fmt: skip
            if again and not (timer.ends_wall and following.due_wall >= timer.ends_wall):
                if late:
                    following = replace(following, due_mono=now.mono + following.due_wall - now.wall)
                self._keep(following)
            else:
                self._drop(timer)
        else:
            self._drop(timer)
        if over:
            return
        engine.record(
            engine.number(), "timer", "", f"timer {timer.id}: {timer.text}", None, {"timer": timer.id}
        )
        since = now.wall - timer.due_wall if timer.due_mono is None or late else now.mono - timer.due_mono
        behalf = For(
            f"timer-{timer.id}-{engine.sequence}", timer.source, timer.rank, timer.slot, timer.lifetime,
            late and timer.rank >= Rank.PERSON,
            since=max(0, since) if not late or timer.rank is Rank.PLAN else 0,
        )  # fmt: skip
        self.run(timer.steps, behalf)

    def drop_timers(self, slot: str) -> None:
        """What was still to come on behalf of a slot does not."""
        for timer in [each for each in self.timers.values() if each.slot == slot]:
            self._drop(timer)

    def change_timer(self, event: ev.ChangeTimer) -> None:
        """Somebody puts a timer off, or cancels it."""
        engine, timer = self._engine, self.timers.get(event.timer)
        sequence = engine.number()
        if timer is None:
            engine.refuse(
                event,
                sequence,
                Refusal(
                    "timer", f"there is no timer {event.timer}", "It may be over; see: cairnwind plan timers."
                ),
            )
            return
        if event.span:
            moved = replace(
                timer,
                due_wall=timer.due_wall + event.span,
                due_mono=None if timer.due_mono is None else timer.due_mono + event.span,
            )
            self._keep(moved)
            text = f"timer {timer.id} is put off by {show_duration(event.span)}: {timer.text}"
        else:
            self._drop(timer)
            text = f"timer {timer.id} is cancelled: {timer.text}"
        engine.record(
            sequence, "command", "", text, event, {"verb": "timer", "timer": timer.id, "span": event.span}
        )
        engine.effect(ev.Outcome(event.command, sequence, engine.word, "", text))

    # --- the plan -----------------------------------------------------------------------------------------

    def start(self, event: ev.Start) -> None:
        """What was left: timers with their end time, schedules where they should be by now."""
        engine = self._engine
        now = engine.now
        if event.last > now.wall + LATE:
            self.believed = event.last
            behind = show_duration((event.last - now.wall) // NS * NS)
            engine.record(
                engine.number(),
                "clock",
                "",
                f"the clock is {behind} behind the journal: schedules wait until it is synchronised, or a keeper accepts it",
                None,
                {},
            )
        for schedule, was in event.schedules:
            self._take(schedule)
            if was is not None:
                self.running[schedule.name] = was
        self._end_orphans()
        self.look(self.schedules)
        for timer in sorted(event.timers, key=lambda each: each.due_wall):
            if timer.rank is Rank.PLAN and timer.slot.removeprefix("plan:") not in self.running:
                engine.effect(ev.DropTimer(timer.id))  # its span is over, or its schedule is no more
                continue
            late = timer.due_wall <= now.wall
            if timer.due_mono is not None or late:
                timer = replace(
                    timer,
                    due_mono=None if timer.due_mono is None else now.mono + max(0, timer.due_wall - now.wall),
                )
            self.timers[timer.id] = timer
            if late:
                self.timer_due(timer.id, late=True)
            else:
                self._watch(timer)

    @property
    def behind(self) -> int:
        """Nanoseconds by which the clock is behind the journal; 0 while it is believed."""
        return max(1, self.believed - self._engine.now.wall) if self.believed else 0

    def accept_clock(self, event: ev.AcceptClock) -> None:
        """The clock is right: schedules and hours go by it again, and so they do after the next start."""
        engine = self._engine
        sequence = engine.number()
        refusal = None
        if self.believed and not event.source.keeps:
            refusal = Refusal("role", "only a keeper accepts the clock", "Use a key with the role keep.")
        elif not event.by.strip():
            refusal = Refusal("name", "the clock is accepted by somebody with a name", "Say who: --by NAME.")
        elif self.believed and not engine.recording:
            refusal = engine.no_journal()
        if refusal is not None:
            engine.refuse(event, sequence, refusal)
            return
        was, self.believed = self.believed, 0
        text = f"the clock is accepted by {event.by}" if was else "the clock was believed already"
        if was:
            engine.effect(ev.KeepClock(sequence))
            engine.effect(ev.Changed("site", ""))
            engine.effect(ev.Changed("plan", ""))
            engine.safety.watches.mark_all(engine.safety.watches.timed)
            for name in {name for schedule in self.schedules.values() for name in schedule.course.outputs}:
                engine.touch(name)
        engine.record(sequence, "clock", "", text, event, {"accepted": bool(was), "by": event.by})
        self.look(list(self.schedules))
        engine.effect(ev.Outcome(event.command, sequence, engine.word, "", text))

    def drop_unrecorded(self, number: int) -> None:
        """A timer whose setting could not be recorded comes to nothing."""
        timer = self.timers.get(number)
        if timer is not None:
            self._drop(timer)

    def _end_orphans(self) -> None:
        """End claims of schedules that are no more."""
        known = {schedule.slot for schedule in self.schedules.values()}
        for name in self._engine.site.outputs:
            s = self._engine.standing(name)
            for claim in s.claims:
                if claim.rank is Rank.PLAN and claim.slot not in known:
                    self._engine.end(s, claim, "its schedule is no longer there")

    def _take(self, schedule: Schedule) -> None:
        from cairnwind.core.facts.plan import Walker  # the calendar is not needed on the way to safe

        self.schedules[schedule.name] = schedule
        self._walkers[schedule.name] = Walker(schedule)

    def look(self, names: Iterable[str]) -> None:
        """See where schedules stand, begin and end what that asks for; what began first is begun first."""
        engine, now = self._engine, self._engine.now
        if self.believed:
            if now.wall < self.believed - LATE:
                engine.wall.set(self.believed, "plan", "")
                return
            self.believed = 0
            engine.effect(ev.Changed("site", ""))
            engine.safety.watches.mark_all(engine.safety.watches.timed)
            names = list(self.schedules)
        begin: list[tuple[int, str, Span]] = []
        for name in names:
            walker = self._walkers.get(name)
            if walker is None:
                continue
            span, due = walker.at(now.wall)
            was = self.running.get(name)
            if due is not None:
                engine.wall.set(due, "plan", name)
            if span == was:
                continue
            if was is not None:
                self._finish(name)
            if span is not None:
                begin.append((span.start, name, span))
        for _, name, span in sorted(begin):
            self._begin(name, span)

    def due(self, name: str) -> None:
        """An edge of a schedule's has come."""
        self.look([name] if name else list(self.schedules))

    def _begin(self, name: str, span: Span) -> None:
        engine, schedule = self._engine, self.schedules[name]
        self.running[name] = span
        engine.effect(ev.KeepSchedule(schedule, span))
        engine.effect(ev.Changed("plan", ""))
        engine.record(
            engine.number(),
            "plan",
            name,
            f"'{name}' begins: {schedule.course.text}",
            None,
            {"start": span.start, "end": span.end},
        )
        behalf = For(
            f"plan-{engine.sequence}", Source("plan", name), Rank.PLAN, schedule.slot, until(span.end), since=max(0, engine.now.wall - span.start)
        )  # fmt: skip
        self.run(schedule.course.steps, behalf)

    def _finish(self, name: str, why: str = "its time is over") -> None:
        engine, schedule = self._engine, self.schedules[name]
        self.running.pop(name, None)
        engine.effect(ev.KeepSchedule(schedule, None))
        engine.effect(ev.Changed("plan", ""))
        engine.record(engine.number(), "plan", name, f"'{name}' ends: {why}", None, {})
        self.drop_timers(schedule.slot)
        for output in schedule.course.outputs:
            s = engine.standing(output)
            claim = held(s.claims, schedule.slot)
            if claim is not None:
                engine.end(s, claim, why)

    def change(self, event: ev.Plan) -> None:
        """Somebody changes the plan."""
        engine, name = self._engine, event.name
        sequence = engine.number()
        schedule = self.schedules.get(name)
        if schedule is None and event.verb != "put":
            engine.refuse(
                event,
                sequence,
                Refusal("name", f"there is no schedule called '{name}'", "See: cairnwind plan."),
            )
            return
        if event.verb in ("put", "drop") and schedule is not None and schedule.origin == "site file":
            engine.refuse(
                event,
                sequence,
                Refusal("origin", f"'{name}' is in the site file", "Change it there, or disable it here."),
            )
            return
        if not engine.recording:
            engine.refuse(event, sequence, engine.no_journal())
            return
        said = f"'{name}' {event.verb}"
        if event.verb == "drop":
            if name in self.running:
                self._finish(name, "it was taken off the plan")
            self._remove(name)
            engine.effect(ev.DropSchedule(name))
            said = f"'{name}' is taken off the plan"
        else:
            found = event.schedule if event.verb == "put" else schedule
            assert found is not None
            found, said, trouble = self._as_asked(event.verb, found)
            if trouble:
                engine.refuse(event, sequence, Refusal("plan", trouble, "See: cairnwind plan."))
                return
            if event.verb in ("put", "run") and name in self.running:
                self._finish(name, "it was changed")
            self._take(found)
            engine.effect(ev.KeepSchedule(found, self.running.get(name)))
            self.look([name])
        engine.effect(ev.Changed("plan", ""))
        data = {"verb": "plan", "change": event.verb}
        engine.record(sequence, "command", name, said, event, data)
        engine.effect(ev.Outcome(event.command, sequence, engine.word, "", said))

    def _as_asked(self, verb: str, schedule: Schedule) -> tuple[Schedule, str, str]:
        """The schedule as it is then, in words, or why that cannot be."""
        from cairnwind.core.facts.plan import Span, ahead

        name, now = schedule.name, self._engine.now.wall
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
        length = schedule.length or (coming.end - coming.start if coming else 3600 * NS)
        return (
            replace(schedule, extra=Span(now, now + length)),
            f"'{name}' is run now, for {show_duration(length // NS * NS)}",
            "",
        )

    def _remove(self, name: str) -> None:
        self.schedules.pop(name, None)
        self._walkers.pop(name, None)

    def reload(self, schedules: Iterable[Schedule]) -> None:
        """The site file's schedules are these now; those that did not change go on as they are."""
        fresh = {schedule.name: schedule for schedule in schedules}
        for name, schedule in list(self.schedules.items()):
            if schedule.origin == "site file" and (
                name not in fresh or fresh[name].course.text != schedule.course.text
            ):
                if name in self.running:
                    self._finish(name, "the site file has changed")
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
        self.look(list(self.schedules))

    def jumped(self) -> None:
        """The wall clock was set: the plan is where it should be by now."""
        self.look(list(self.schedules))
