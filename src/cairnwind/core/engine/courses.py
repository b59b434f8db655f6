"""Courses: what phrases, schedules, reflexes and alarms have carried out, step by step, and the timers of what is left.

Each order becomes the same command that a person would have given. A wait, a delay and a series are timers: on the monotonic
clock, but for those that wait for a time of day.
"""

from __future__ import annotations

from collections.abc import Container, Iterable
from typing import NamedTuple

from cairnwind.core.engine.owed import Owed, needs_record, without_toggles
from cairnwind.core.engine.requests import Requests
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import (
    PERSON,
    TAKEOVER,
    Claim,
    Instant,
    Lifetime,
    Rank,
    Source,
    held,
    until,
)
from cairnwind.core.facts.course import Course, Lead, Order, Step, Timer, told
from cairnwind.core.facts.interlocks import Refusal
from cairnwind.core.state.turn import Turn
from cairnwind.core.values.fact import replace
from cairnwind.core.values.quantities import show_duration


class For(NamedTuple):
    """On whose behalf a course is carried out."""

    command: str
    source: Source
    rank: Rank = Rank.PERSON
    slot: str = PERSON
    lifetime: Lifetime | None = None
    """What claims last that do not say so themselves."""
    late: str = ""
    """It should have happened before; words that say when: 'while the service was down'."""
    since: int = 0
    """So many nanoseconds ago it should have begun: what takes time is as far as it would be by now."""
    again: range = range(0)
    """The journal's numbers of what was done of it before: where a later claim stands in its slot, somebody has decided anew, and it
    is let be."""


class Courses:
    """``requests`` is where wishes are made."""

    def __init__(self, requests: Requests) -> None:
        self._requests = requests
        self.timers: dict[int, Timer] = {}
        self._owed = Owed()

    def do(self, turn: Turn, event: ev.Do) -> None:
        """A phrase that somebody says."""
        course, lead = event.course, event.course.lead
        sequence = turn.number()
        behalf = For(event.command, event.source)
        reason = ""
        if lead is None:
            self.run(turn, course.steps, behalf)
        else:
            refusal = self._later(turn, event, sequence, lead, behalf)
            if refusal is not None:
                turn.refuse(event, sequence, refusal)
                return
            reason = f"timer {sequence}"
        text = f"{course.text}{f' ({reason})' if reason else ''}"
        turn.record(sequence, "command", "", text, event, {"verb": "do", "phrase": course.text})
        turn.phrase = event, sequence, reason

    def _later(self, turn: Turn, event: ev.Do, sequence: int, lead: Lead, behalf: For) -> Refusal | None:
        """Set a timer for what a phrase wants later, or again and again; returns why that cannot be."""
        if not turn.recording:
            return turn.no_journal()
        now, where, steps = event.at, turn.site.where, event.course.steps
        rest = Course(told(steps), steps)
        if lead.at is not None:
            due = lead.at.after(now.wall, where)
            if due is None:
                return Refusal(
                    "time", f"there is no {lead.at.text} in the year to come", "Say a time of day."
                )
            timer = self._timer(turn, sequence, rest, behalf, due, None)
        else:
            span = lead.after or lead.every
            timer = self._timer(turn, sequence, rest, behalf, now.wall + span, now.mono + span)
        if lead.every:
            ends = lead.until.after(now.wall, where) or 0 if lead.until is not None else 0
            if lead.until is None and lead.span:
                ends = now.wall + lead.span
            left = lead.times - 1 if lead.times else 0
            timer = replace(timer, every=lead.every, left=left, ends_wall=ends)
            self.run(turn, steps, behalf)
        if not (lead.every and lead.times == 1):
            self._keep(turn, timer)
        return None

    def run(self, turn: Turn, steps: tuple[Step, ...], behalf: For) -> None:
        """Carry steps out up to the first wait, and set a timer for what is left then."""
        now = self._then(turn, behalf)
        for number, step in enumerate(steps):
            if step.after:
                rest = (step._replace(after=0), *steps[number + 1 :])
                text = told(rest)
                timer = self._timer(
                    turn,
                    turn.number(),
                    Course(text, rest),
                    behalf,
                    now.wall + step.after,
                    now.mono + step.after,
                )
                self._keep(turn, timer)
                return
            if step.stop:
                self._requests.all_stop(
                    turn, ev.AllStop(now, turn.inner(behalf.command), behalf.source, "said in a phrase")
                )
            for order in step.orders:
                self._carry_out(turn, order, behalf)

    def _then(self, turn: Turn, behalf: For) -> Instant:
        """When it should have been, on both clocks."""
        now = turn.now
        return Instant(now.mono - behalf.since, now.wall - behalf.since) if behalf.since else now

    def _carry_out(self, turn: Turn, order: Order, behalf: For) -> None:
        now = self._then(turn, behalf)
        if order.act == "release" and order.scene and not order.output:
            for name, slot in list(turn.state.scenes.get(order.scene, ())):
                self._requests.release(
                    turn, ev.Release(now, turn.inner(behalf.command), behalf.source, name, slot)
                )
            return
        if order.act == "release":
            self._requests.release(
                turn, ev.Release(now, turn.inner(behalf.command), behalf.source, order.output, behalf.slot)
            )
            return
        output = turn.site.outputs.get(order.output)
        if (
            behalf.late
            and output is not None
            and output.rearm == "command"
            and (order.wanted is None or order.wanted.on)
        ):
            text = f"{order.output}: a timer would have switched it on {behalf.late}; it needs a new command"
            turn.record(turn.number(), "timer", order.output, text, None, {})
            return
        if behalf.again and output is not None:
            standing = held(turn.standing(order.output).claims.all, behalf.slot)
            if (
                standing is not None
                and standing.id >= behalf.again.stop
                and not self._owed.follows(standing.id, behalf.again)
            ):
                text = f"{order.output}: what a timer wanted {behalf.late} is overtaken by {standing.text}"
                turn.record(turn.number(), "timer", order.output, text, None, {})
                return
        life = order.lifetime or behalf.lifetime or TAKEOVER
        if order.until is not None:
            ends = order.until.after(now.wall, turn.site.where)
            life = until(ends) if ends is not None else life
        wish = ev.Wish(
            now, turn.inner(behalf.command), behalf.source, order.output, order.wanted, behalf.rank, behalf.slot, life,
            behalf.rank < Rank.PERSON, order.scene, order.by,
        )  # fmt: skip
        self._requests.wish(turn, wish)

    def _timer(
        self, turn: Turn, number: int, course: Course, behalf: For, due_wall: int, due_mono: int | None
    ) -> Timer:
        made = turn.now.wall
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

    def _keep(self, turn: Turn, timer: Timer) -> None:
        self.timers[timer.id] = timer
        turn.effect(ev.KeepTimer(timer))
        self._watch(turn, timer)

    def _watch(self, turn: Turn, timer: Timer) -> None:
        if timer.due_mono is None:
            turn.wall.set(timer.due_wall, "timer", str(timer.id))
        else:
            turn.mono.set(timer.due_mono, "timer", str(timer.id))
        turn.effect(ev.Changed("plan", ""))

    def _drop(self, turn: Turn, timer: Timer) -> None:
        del self.timers[timer.id]
        for timers in (turn.mono, turn.wall):
            timers.drop("timer", str(timer.id))
        turn.effect(ev.DropTimer(timer.id))
        turn.effect(ev.Changed("plan", ""))

    def due(self, turn: Turn, number: str, slot: str) -> None:
        """A timer's time has come, unless it was put off or cancelled."""
        self._due(turn, int(number))

    def _due(self, turn: Turn, number: int, late: str = "") -> None:
        timer, now = self.timers.get(number), turn.now
        if timer is None:
            return
        if (timer.due_wall > now.wall) if timer.due_mono is None else (timer.due_mono > now.mono):
            return  # put off: another entry waits for that
        over = bool(timer.ends_wall and timer.ends_wall <= now.wall)
        owed = not over and not turn.recording and needs_record(timer.steps)
        following = _following(timer, now, late=bool(late)) if timer.every and not over else None
        if following is not None:
            self._keep(turn, following)
        elif not owed:
            self._drop(turn, timer)
        if over:
            return
        waits = " (what comes on waits until the journal can be written)" if owed else ""
        turn.note("timer", "", f"timer {timer.id}: {timer.text}{waits}", {"timer": timer.id})
        numbers = self._carry_on(turn, timer, self._on_behalf(turn, timer, late))
        if owed:
            self._owe(turn, timer, numbers)

    def _carry_on(self, turn: Turn, timer: Timer, behalf: For) -> range:
        """Do a timer's work; returns the numbers of the journal that were given out for it."""
        first = turn.sequence
        self.run(turn, timer.steps, behalf)
        numbers = range(first + 1, turn.sequence + 1)
        self._owed.remember(turn.now.mono, numbers, timer)
        return numbers

    def _on_behalf(self, turn: Turn, timer: Timer, late: str) -> For:
        now = turn.now
        since = now.wall - timer.due_wall if timer.due_mono is None or late else now.mono - timer.due_mono
        return For(
            f"timer-{timer.id}-{turn.sequence}", timer.source, timer.rank, timer.slot, timer.lifetime,
            late if timer.rank >= Rank.PERSON else "",
            since=max(0, since) if not late or timer.rank is Rank.PLAN else 0,
        )  # fmt: skip

    def _owe(self, turn: Turn, timer: Timer, numbers: range) -> None:
        """Its work is done anew when it can be recorded, unless somebody decides otherwise: after these numbers of the journal.

        What goes off in it has gone off, or does at its time: that waits for nothing.
        """
        self._owed.timers[timer.id] = numbers, replace(timer, steps=without_toggles(timer.steps))
        if timer.id not in self.timers:
            self.timers[timer.id] = timer
            turn.effect(ev.KeepTimer(timer))
        turn.effect(ev.Changed("plan", ""))

    def withdrawn(self, turn: Turn, claim: Claim) -> None:
        """A claim was taken back because it could not be recorded: if a timer made it, its work is owed."""
        found = self._owed.behind(claim.id)
        if found is None:
            return
        numbers, timer = found
        self._owe(turn, timer, numbers)

    def catch_up(self, turn: Turn) -> None:
        """The journal can be written again: what fell due and could not be recorded is carried out."""
        late = "while the journal could not be written"
        for numbers, timer in self._owed.in_order():
            kept = self.timers.get(timer.id)
            other = kept is not None and kept.due_wall != timer.due_wall
            if kept is None or (other and not timer.every):
                continue  # cancelled, put off, or its schedule is over
            if not other:
                self._drop(turn, kept)
            for number in [each for each in self.timers if self._owed.follows(each, numbers)]:
                self._drop(turn, self.timers[number])  # what is still to follow: the whole is done anew
            turn.note("timer", "", f"timer {timer.id}, late: {timer.text}", {"timer": timer.id})
            behalf = self._on_behalf(turn, timer, late)
            self._carry_on(turn, timer, behalf._replace(again=numbers))
        self._owed.timers.clear()

    def restore(self, turn: Turn, timers: Iterable[Timer], running: Container[str]) -> None:
        """Timers that were left, with their end time; ``running``: schedules whose span is not over."""
        now = turn.now
        for timer in sorted(timers, key=lambda each: each.due_wall):
            if timer.rank is Rank.PLAN and timer.slot.removeprefix("plan:") not in running:
                turn.effect(ev.DropTimer(timer.id))  # its span is over, or its schedule is no more
                continue
            late = timer.due_wall <= now.wall
            if timer.due_mono is not None:
                timer = replace(timer, due_mono=now.mono + max(0, timer.due_wall - now.wall))
            self.timers[timer.id] = timer
            if late:
                self._due(turn, timer.id, "while the service was down")
            else:
                self._watch(turn, timer)

    def drop_timers(self, turn: Turn, slot: str) -> None:
        """What was still to come on behalf of a slot does not."""
        for timer in [each for each in self.timers.values() if each.slot == slot]:
            self._drop(turn, timer)

    def disown(self, turn: Turn, who: str, why: str) -> None:
        """What was still to come in the name of a key does not."""
        for timer in [each for each in self.timers.values() if each.source.who == who]:
            self._drop(turn, timer)
            turn.note("timer", "", f"timer {timer.id} is cancelled: {why}: {timer.text}", {"timer": timer.id})

    def change_timer(self, turn: Turn, event: ev.ChangeTimer) -> None:
        """Somebody puts a timer off, or cancels it."""
        timer = self.timers.get(event.timer)
        sequence = turn.number()
        if timer is None:
            turn.refuse(
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
            self._keep(turn, moved)
            text = f"timer {timer.id} is put off by {show_duration(event.span)}: {timer.text}"
        else:
            self._drop(turn, timer)
            text = f"timer {timer.id} is cancelled: {timer.text}"
        turn.record(
            sequence, "command", "", text, event, {"verb": "timer", "timer": timer.id, "span": event.span}
        )
        turn.effect(ev.Outcome(event.command, sequence, turn.word, "", text))

    def drop_unrecorded(self, turn: Turn, number: int) -> None:
        """A timer whose setting could not be recorded comes to nothing."""
        timer = self.timers.get(number)
        if timer is not None:
            self._drop(turn, timer)


def _following(timer: Timer, now: Instant, *, late: bool) -> Timer | None:
    """The next of a series; None if this was the last."""
    missed = (now.wall - timer.due_wall) // timer.every if late else 0
    due = timer.due_wall + timer.every * (1 + max(0, missed))
    if timer.left == 1 or (timer.ends_wall and due >= timer.ends_wall):
        return None
    mono = None if timer.due_mono is None else timer.due_mono + timer.every
    if late:
        mono = now.mono + due - now.wall
    return replace(timer, due_wall=due, due_mono=mono, left=max(0, timer.left - 1))
