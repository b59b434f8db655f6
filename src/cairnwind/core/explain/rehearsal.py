"""A rehearsal: the same engine on a virtual clock, before it happens.

Boards answer at once and in full; inputs come from wherever the caller has them. Programs are followed from
segment to segment and not step by step, so that a year takes seconds. What comes out are the changes with their
reasons, bars for a picture, what each output has done by then, what was held back, and what collided.
"""

from __future__ import annotations

import heapq
from collections.abc import Callable, Iterable, Mapping
from functools import lru_cache
from itertools import count
from typing import Any, NamedTuple

from cairnwind.core.engine.loop import Engine
from cairnwind.core.explain.meter import Done, Meter
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Claim, Instant, Rank, leading
from cairnwind.core.facts.load import power
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.plan import Schedule, Span
from cairnwind.core.facts.site import Site
from cairnwind.core.language.forms import Rules
from cairnwind.core.physics.programs import Program
from cairnwind.core.state.standing import Standing
from cairnwind.core.values.fact import fact
from cairnwind.core.values.quantities import NS
from cairnwind.core.values.settings import Setting

SLICES = 16
"""A slope is measured in so many parts."""
NO_RULES = Rules()
HELD_BACK = ("blocked", "refused", "waiting", "unreachable")
Put = Callable[[Instant], ev.Event]
"""What happens at a time, as an event of that time."""
World = Callable[[int, Mapping[str, Setting]], Iterable[Put]]
"""What the world does in answer to the outputs, asked every so often with the wall time."""


class Change(NamedTuple):
    """One confirmed change of an output."""

    wall: int
    output: str
    words: str
    on: bool
    why: str


class Bar(NamedTuple):
    """A time in which one party has an output at something; ``end`` is exclusive."""

    output: str
    start: int
    end: int
    words: str
    on: bool
    level: float
    """0 to 1, for the picture: how high."""
    by: str
    why: str
    brief: str = ""
    """In a word, for the picture."""


class Note(NamedTuple):
    """Something held back, or a collision."""

    wall: int
    output: str
    text: str


@fact
class Rehearsed:
    """What a rehearsal has found. Times are wall nanoseconds."""

    begin: int
    end: int
    changes: list[Change]
    bars: list[Bar]
    totals: dict[str, Done]
    held_back: list[Note]
    collisions: list[Note]
    records: list[ev.Record]


class _Seen:
    """What was found so far."""

    def __init__(self) -> None:
        self.bars: list[Bar] = []
        self.changes: list[Change] = []
        self.held: list[Note] = []
        self.collisions: list[Note] = []
        self.records: list[ev.Record] = []


class Rehearsal:
    """One rehearsal; `run_to` may be called again and again."""

    def __init__(
        self,
        site: Site,
        schedules: Iterable[tuple[Schedule, Span | None]],
        begin: int,
        *,
        happenings: Iterable[tuple[int, Put]] = (),
        world: World | None = None,
        every: int = 60 * NS,
        claims: tuple[Claim, ...] = (),
        rules: Rules = NO_RULES,
    ) -> None:
        """Contacts of which nothing is heard are at rest. ``happenings`` are (wall nanoseconds, event); ``world`` is asked each ``every`` nanoseconds."""
        self.site, self.begin = site, begin
        self._engine = Engine(site, stepped=False)
        self._now = Instant(NS, begin)
        self._coming: list[tuple[int, int, Put]] = []
        self._count = count()
        for wall, put in happenings:
            if wall >= begin:
                heapq.heappush(self._coming, (wall, next(self._count), put))
        self._world, self._every, self._asked = world, every, begin
        self._meters = {name: Meter(output) for name, output in site.outputs.items()}
        self._settings: dict[str, Setting] = {}
        self._slopes: dict[str, tuple[int, Program, int]] = {}
        self._seen = _Seen()
        self._open: dict[str, tuple[tuple[Any, ...], Bar]] = {}
        for name in site.boards:
            safe = tuple(
                (output.name, output.safe) for output in site.outputs.values() if output.pin.board == name
            )
            self._take(ev.LinkUp(self._now, name, safe))
        for input in site.inputs.values():
            if not input.valued:
                self._take(ev.InputSeen(self._now, input.name, False, settled=True))
        self._take(
            ev.Start(
                self._now, claims=claims, schedules=tuple(schedules), interlocks=rules.interlocks, reflexes=rules.reflexes,
                guards=rules.guards,
            )
        )  # fmt: skip

    def run_to(self, end: int, *, tell: Callable[[int], None] | None = None) -> Rehearsed:
        """Go on up to ``end`` (wall nanoseconds); ``tell`` hears the wall time of every event, and may raise to stop."""
        while True:
            due = self._engine.next_deadline(self._now)
            wall = end if due is None else max(self._now.wall, self._now.wall + due - self._now.mono)
            kind = "tick"
            if self._coming and self._coming[0][0] <= wall:
                wall, kind = self._coming[0][0], "put"
            if self._world is not None and self._asked + self._every <= wall:
                wall, kind = self._asked + self._every, "world"
            if wall >= end:
                break
            self._now = Instant(self._now.mono + max(0, wall - self._now.wall), max(wall, self._now.wall))
            if kind == "tick":
                self._take(ev.Tick(self._now))
            elif kind == "put":
                self._take(heapq.heappop(self._coming)[2](self._now))
            else:
                self._asked = wall
                assert self._world is not None
                for put in self._world(wall, self._settings):
                    self._take(put(self._now))
            if tell is not None:
                tell(wall)
        self._now = Instant(self._now.mono + max(0, end - self._now.wall), max(end, self._now.wall))
        return self._found(end)

    def _found(self, end: int) -> Rehearsed:
        totals = {}
        for name, meter in self._meters.items():
            slope = self._slopes.get(name)
            self._along(name, end)
            if slope is not None:
                self._slopes[name] = (end, *slope[1:])  # it goes on, if this is gone on with
            meter.close(end)
            totals[name] = meter.done
        bars = self._seen.bars + [bar._replace(end=end) for _, bar in self._open.values() if bar.start < end]
        bars.sort(key=lambda bar: (bar.start, bar.output))
        return Rehearsed(
            self.begin,
            end,
            list(self._seen.changes),
            bars,
            totals,
            list(self._seen.held),
            list(self._seen.collisions),
            list(self._seen.records),
        )

    # --- events and effects -------------------------------------------------------------------------------

    def _take(self, event: ev.Event) -> None:
        waiting: list[ev.Event] = [event]
        while waiting:
            effects = self._engine.handle(waiting.pop(0))
            answers = []
            touched: dict[str, None] = {}
            for effect in effects:
                if isinstance(effect, ev.Drive):
                    answers.append(ev.Confirmed(self._now, effect.output, effect.generation, effect.setting))
                elif isinstance(effect, ev.Record):
                    self._note(effect)
                elif isinstance(effect, ev.Changed) and effect.kind == "output":
                    touched[effect.name] = None
            if answers:
                waiting.append(answers[0] if len(answers) == 1 else ev.Answers(self._now, tuple(answers)))
            for name in touched:
                self._look(name)

    def _look(self, name: str) -> None:
        """How an output stands now: its meter, and the bar that is open."""
        s = self._engine.standing(name)
        wall = self._now.wall
        confirmed = s.drive.confirmed
        sloped = self._along(name, wall)
        if confirmed is not None and (sloped or self._settings.get(name) != confirmed):
            self._settings[name] = confirmed
            self._meters[name].see(wall, confirmed)
        leader = leading(s.claims.all)
        program = leader.setting if leader is not None and isinstance(leader.setting, Program) else None
        if program is not None and s.gating.refusal is None and leader is not None:
            self._slopes[name] = (wall, program, leader.made.wall)
        wanted = leader.setting if leader is not None else s.output.rest
        shown = s.gating.allowed if s.gating.refusal is not None else wanted
        key = (
            leader.place if leader else 0,
            s.gating.refusal is not None,
            None if isinstance(shown, Program) else shown,
        )
        was = self._open.get(name)
        if was is not None and was[0] == key:
            return
        if was is not None and was[1].start < wall:
            self._seen.bars.append(was[1]._replace(end=wall))
        level = 1.0
        if not isinstance(shown, Program):
            level = max(s.output.duties(shown)) / 1_000_000
        elif shown.last.on:
            level = max(s.output.duties(shown.last)) / 1_000_000
        by = leader.text if leader else "rest"
        brief = s.output.say(shown)
        if isinstance(shown, Program):
            brief = s.output.say(shown.last) if shown.then == "stay" else shown.word
        made = Bar(name, wall, wall, s.output.say(shown), shown.on, level, by, self._why(s), brief)
        self._open[name] = (key, made)

    def _along(self, name: str, wall: int) -> bool:
        """Measure the slope that an output has been on since it was last looked at, if it was on one."""
        slope = self._slopes.pop(name, None)
        if slope is None:
            return False
        since, program, made = slope
        length = wall - since
        if length > 0:
            samples = _samples(self.site.outputs[name], program, since - made, length)
            self._meters[name].along(since, length, samples)
        return True

    @staticmethod
    def _why(s: Standing) -> str:
        leader, refusal = s.claims.leader, s.gating.refusal
        wanted = f"{leader.text} wants it {s.output.say(leader.setting)}" if leader else "nobody claims it"
        return f"{wanted}, but {refusal.reason}" if refusal else wanted

    def _note(self, record: ev.Record) -> None:
        self._seen.records.append(record)
        name = record.subject
        if record.kind == "change":
            s = self._engine.standing(name)
            assert s.drive.confirmed is not None
            if record.at.wall == self.begin and not s.drive.confirmed.on:
                return  # everything begins at safe
            self._seen.changes.append(
                Change(
                    record.at.wall,
                    name,
                    s.output.say(s.drive.confirmed),
                    s.drive.confirmed.on,
                    self._why(s),
                )
            )
        elif (record.kind == "gate" and record.data["gate"]) or (
            record.kind == "command" and record.data.get("outcome") in HELD_BACK
        ):
            self._seen.held.append(Note(record.at.wall, name, record.text))
        if (
            record.kind == "command"
            and record.data.get("verb") == "claim"
            and record.data["claim"]["rank"] == "plan"
        ):
            others = [
                each
                for each in self._engine.standing(name).claims.all
                if each.rank is Rank.PLAN and each.slot != record.data["claim"]["slot"]
            ]
            if others:
                both = f"{' and '.join(each.text for each in others)} also has it; what began later leads"
                self._seen.collisions.append(
                    Note(
                        record.at.wall,
                        name,
                        f"'{record.data['claim']['slot'].partition(':')[2]}' begins while {both}",
                    )
                )


@lru_cache(512)
def _samples(output: Output, program: Program, begin: int, length: int) -> tuple[tuple[bool, float], ...]:
    """Whether it is on and what it takes in each slice of a slope; kept, since most days are like the day before."""
    middles = (begin + (2 * number + 1) * length // (2 * SLICES) for number in range(SLICES))
    settings = [program.at(t) for t in middles]
    return tuple([(setting.on, power(output, setting)) for setting in settings])


def differences(one: Rehearsed, other: Rehearsed) -> list[tuple[Bar | None, Bar | None]]:
    """The bars that only one of two rehearsals of the same time has: (of the first, of the second), by time."""

    def key(bar: Bar) -> tuple[Any, ...]:
        return bar.output, bar.start, bar.end, bar.words, bar.on

    left, right = {key(bar): bar for bar in one.bars}, {key(bar): bar for bar in other.bars}
    gone: list[tuple[Bar | None, Bar | None]] = [(bar, None) for at, bar in left.items() if at not in right]
    come: list[tuple[Bar | None, Bar | None]] = [(None, bar) for at, bar in right.items() if at not in left]
    return sorted([*gone, *come], key=lambda pair: (pair[0] or pair[1] or one.bars[0])[1::-1])


def wear(site: Site, totals: Mapping[str, Done]) -> dict[str, tuple[float | None, float | None]]:
    """By output: the share of its rated switchings, and of its rated time on, that was used; None where not rated."""
    found = {}
    for name, done in totals.items():
        times, span = site.outputs[name].rated
        found[name] = (done.switchings / times if times else None, done.on / span if span else None)
    return found
