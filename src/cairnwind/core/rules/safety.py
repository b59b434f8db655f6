"""What the interlocks say while the engine decides. A part of the engine, in a file of its own.

    gate       asked of                     on the way in              when it ceases
    trip       the output alone             refused                    safe at once, claims of 'rearm' outputs end
    needs      the output alone             refused; waits if only a   safe at once or after its grace; claims of
                                            running 'for' is missing   'rearm' outputs end
    pace       the output alone             waits                      the longest time on ends it; the least time on
                                                                       delays an off that somebody wants
    excludes   those that passed            refused; waits for gap     only a strictly higher rank evicts
    limit      those that passed            refused                    the last in the order yields

Before an output that others need is taken off because somebody wants that, those others are taken off and
confirmed: it is held as it is (`Standing.going` says where it is bound), and what needs it is refused already. An
off that a gate asks for waits for nothing.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable
from fractions import Fraction
from typing import TYPE_CHECKING, Any

from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import PERSON, Claim, Instant, Rank, lasting
from cairnwind.core.facts.conditions import Missing, Value, drawn
from cairnwind.core.facts.interlocks import (
    Excludes,
    Guard,
    Interlock,
    Latched,
    Limit,
    Needs,
    Pace,
    Refusal,
    Trip,
)
from cairnwind.core.facts.model import Site
from cairnwind.core.rules.places import Bid, Circle, Fact, circles
from cairnwind.core.state.watches import Watch, Watches
from cairnwind.core.values.fact import alike
from cairnwind.core.values.quantities import NS, show_duration
from cairnwind.core.values.settings import Setting

if TYPE_CHECKING:
    from cairnwind.core.engine.loop import Engine
    from cairnwind.core.state.standing import Standing

HOUR = 3600 * NS
_ON = Fact(True, "is not confirmed off yet", 0, leaving=True)
_STUCK = Fact(True, "is not confirmed off yet", 0)
_UNKNOWN = Fact(True, "is not known to be off", 0, leaving=True)
_UNKNOWN_STUCK = Fact(True, "is not known to be off", 0)
MOST_COMING = 6
"""Changes on their way that a condition is tried with, in every combination; with more it counts as not so."""
WATCHDOG_MARGIN = NS
"""Beyond a board's watchdog time, before its outputs count as safe."""


class Ruled:
    """What the rules know of one output that any of them concerns."""

    __slots__ = (
        "bid",
        "circle",
        "grace",
        "needed",
        "needs",
        "off_of",
        "on_at",
        "on_sure",
        "pace",
        "place",
        "rested",
        "running",
        "shared",
        "starts",
    )

    def __init__(self) -> None:
        self.needs: list[tuple[Needs, Watch]] = []
        """What it needs."""
        self.needed: list[tuple[Needs, Watch]] = []
        """What looks at it, of the needs of others."""
        self.pace: list[Pace] = []
        self.circle: Circle | None = None
        self.grace: Refusal | None = None
        """What it needs and does not have, while its grace runs; when it ends is ``expected``."""
        self.bid: Bid | None = None
        self.shared: Refusal | None = None
        """What the shared gates said last."""
        self.place = 0
        """The place of a person's or hand's claim that waits for its first start."""
        self.on_at = 0
        """Monotonic nanoseconds of its last start: it may be on since then."""
        self.on_sure: int | None = None
        """Monotonic nanoseconds since which it is confirmed on; None while it is not."""
        self.off_of = 0
        """The start whose end has been confirmed."""
        self.starts: deque[int] = deque(maxlen=1000)
        """Of those in the last hour."""
        self.rested = True
        """It has not been on for its longest time since it last began."""
        self.running = False
        """It was on when its board was lost."""

    def succeed(self, old: Ruled) -> None:
        """Remember what the old rules did of this output."""
        for name in (
            "bid",
            "shared",
            "grace",
            "place",
            "on_at",
            "on_sure",
            "off_of",
            "starts",
            "rested",
            "running",
        ):
            setattr(self, name, getattr(old, name))


class Safety:
    """See the module's page. Implements `cairnwind.core.facts.conditions.View`."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self.watches = Watches()
        self.of: dict[str, Ruled] = {}
        """By output; those that no rule concerns have no entry."""
        self.trips: dict[str, Trip] = {}
        self._rules: tuple[Interlock, ...] = ()
        self.guards: dict[str, Guard] = {}
        self._open_until: dict[str, int] = {}
        """By guarded output that is open: until when (monotonic nanoseconds)."""
        self._last_start: dict[str, int] = {}
        """By pace: when one of its outputs was last started."""
        self.circles: list[Circle] = []
        self._tripping: dict[str, list[Watch]] = {}
        """By output: the trips that have a grace."""
        self.wrong: dict[str, deque[int]] = {}
        """By output: when wrong codes were given (monotonic nanoseconds)."""

    def arm(self, interlocks: Iterable[Interlock], guards: Iterable[Guard] = ()) -> None:
        """These rules hold from now on."""
        self._rules = tuple(interlocks)
        self.guards = {guard.output: guard for guard in guards}
        self._engine.keeper.shut = set(self.guards)
        shared: list[Excludes | Limit] = []
        for rule in self._rules:
            if isinstance(rule, Trip):
                self.trips[rule.name] = rule
                watch = self.watches.add(f"trip {rule.name}", rule.condition, rule, self._trip_told)
                if rule.grace is not None:
                    watch.good, watch.lapse = False, self._trip_lapse
                    for name in rule.outputs:
                        self._tripping.setdefault(name, []).append(watch)
                continue
            for name in rule.outputs:
                self.of.setdefault(name, Ruled())
            if isinstance(rule, Needs):
                watch = self.watches.add(f"needs {rule.name}", rule.condition, rule, self._need_told)
                watch.again = self._need_still
                if rule.grace:
                    watch.good, watch.lapse = True, self._need_lapse
                for name in rule.outputs:
                    self.of[name].needs.append((rule, watch))
                for kind, name in rule.condition.about:
                    if kind == "output":
                        self.of.setdefault(name, Ruled()).needed.append((rule, watch))
            elif isinstance(rule, Pace):
                for name in rule.outputs:
                    self.of[name].pace.append(rule)
                self._last_start[rule.name] = self.now.mono  # what was started before is not known
            else:
                shared.append(rule)
        self.circles = circles(shared)
        for circle in self.circles:
            for name in circle.outputs:
                self.of[name].circle = circle
        for name, ruled in self.of.items():
            self._engine.standing(name).ruled = ruled

    def succeed(self, old: Safety) -> None:
        """Go on where other rules were: what did not change, by name, remembers all that it did."""
        for name, ruled in self.of.items():
            before = old.of.get(name)
            if before is not None:
                ruled.succeed(before)
        for circle in self.circles:
            for each in old.circles:
                circle.succeed(each)
        known = {(type(rule), rule.name): rule for rule in old._rules}
        for rule in self._rules:
            was = known.pop((type(rule), rule.name), None)
            if was is not None and alike(was, rule):
                if isinstance(rule, Needs | Trip):
                    key = f"{'needs' if isinstance(rule, Needs) else 'trip'} {rule.name}"
                    self.watches.all[key].succeed(old.watches.all[key])
            elif isinstance(was, Trip) and was.grace is not None:
                self._drop_grace(was)
        for was in known.values():
            if isinstance(was, Trip) and was.grace is not None:
                self._drop_grace(was)
        self._last_start.update(
            {name: at for name, at in old._last_start.items() if name in self._last_start}
        )
        self.wrong = old.wrong
        self._open_until = {name: at for name, at in old._open_until.items() if name in self.guards}
        self._engine.keeper.shut -= self._open_until.keys()
        latched = list(self._engine.keeper.trips.values())
        for trip in latched:
            self._engine.keeper.unlatch(trip.name)
        self.take_up(latched)

    def same(self, old: Safety) -> bool:
        """Whether the same interlocks hold as before."""
        return len(self._rules) == len(old._rules) and all(
            alike(one, other) for one, other in zip(self._rules, old._rules, strict=True)
        )

    # --- what conditions see ------------------------------------------------------------------------------

    @property
    def now(self) -> Instant:
        """Now."""
        return self._engine.now

    @property
    def site(self) -> Site:
        """What is wired."""
        return self._engine.site

    def setting(self, output: str) -> Setting | None:
        """What it is confirmed to be at."""
        return self._engine.standing(output).confirmed

    def active(self, input: str) -> bool | None:
        """A contact's state."""
        return self._engine.contacts[input].active

    def value(self, input: str) -> float | None:
        """An analogue input's value, or a counter's."""
        gauge = self._engine.gauges.get(input)
        return gauge.value if gauge is not None else self._engine.contacts[input].value

    def up(self, board: str) -> bool:
        """Whether a board answers."""
        return self._engine.board_now(board).up

    def leader(self, output: str) -> Claim | None:
        """The claim that leads."""
        return self._engine.standing(output).leader

    def load(self, supply: str) -> Fraction | None:
        """Amperes that are drawn from a supply."""
        return drawn(self, supply)

    def tripped(self, trip: str) -> bool:
        """Whether a trip is latched."""
        return trip in self._engine.keeper.trips

    def wrong_codes(self, output: str, span: int) -> int:
        """How many wrong codes it was given in the last ``span`` nanoseconds."""
        since = self.now.mono - span
        return sum(at > since for at in self.wrong.get(output, ()))

    def unsure(self, output: str) -> bool:
        """Whether an output is on its way from off to on or back."""
        return self._engine.standing(output).unsure

    def clock_right(self) -> bool:
        """Whether the wall clock is to be believed."""
        return not self._engine.agenda.believed

    # --- conditions that change ---------------------------------------------------------------------------

    def look(self) -> bool:
        """Ask the conditions that have to be asked. False if there were none."""
        return self.watches.look(self, self._engine.mono, self._engine.wall)

    def watch_due(self, key: str) -> None:
        """A condition's own clock says that it has to be asked."""
        if key in self.watches.all:  # it may have been asked for before a reload
            self.watches.dirty[key] = None

    def _need_told(self, watch: Watch, before: Value) -> None:
        self._touch(watch.rule.outputs)
        self._ask_bound(watch.rule)

    def _need_lapse(self, watch: Watch) -> None:
        """The grace of a need begins, or its condition is met again."""
        if watch.ceased is None:
            self._engine.mono.drop("grace", watch.key)
        else:
            self._engine.mono.set(watch.ceased + watch.rule.grace, "grace", watch.key)

    def _trip_lapse(self, watch: Watch) -> None:
        """The grace of a trip begins when nobody can say any more that its cause is not there."""
        trip = watch.rule
        for name in trip.outputs:
            self._engine.effect(ev.Changed("output", name))
        if watch.ceased is None:
            self._drop_grace(trip)
        elif watch.value is None:
            self._engine.mono.set(watch.ceased + trip.grace, "grace", watch.key)
            self._engine.effect(ev.KeepGrace(trip.name, self._wall(watch.ceased), trip.grace))

    def _drop_grace(self, trip: Trip) -> None:
        if self._engine.mono.due("grace", f"trip {trip.name}") is not None:
            self._engine.mono.drop("grace", f"trip {trip.name}")
            self._engine.effect(ev.DropGrace(trip.name))

    def grace_due(self, key: str) -> None:
        """A grace is over."""
        watch = self.watches.all.get(key)
        if watch is None or watch.ceased is None:
            return
        if isinstance(watch.rule, Needs):
            self._touch(watch.rule.outputs)
        else:
            self._engine.effect(ev.DropGrace(watch.rule.name))
            self._latch(
                watch.rule, f"{watch.condition.text}: not known for {show_duration(watch.rule.grace)}"
            )

    def take_up_graces(self, kept: Iterable[ev.KeepGrace]) -> None:
        """Graces of trips that were running when the service ended go on: to their end by the clock, or for what was left."""
        for each in kept:
            watch = self.watches.all.get(f"trip {each.name}")
            if watch is None or watch.good is None:
                self._engine.effect(ev.DropGrace(each.name))
                continue
            left = max(0, min(each.since + each.span - self.now.wall, each.span))
            watch.ceased = self.now.mono + left - watch.rule.grace
            self._engine.mono.set(self.now.mono + left, "grace", watch.key)

    def grace(self, s: Standing) -> Refusal | None:
        """What ends soon, unless something changes: an output is on by a grace alone, or a trip of it counts down."""
        if s.confirmed is None or not s.confirmed.on:
            return None
        found = s.ruled.grace if s.ruled is not None and s.granted else None
        for watch in self._tripping.get(s.output.name, ()):
            due = self._engine.mono.due("grace", watch.key)
            if due is not None and (
                found is None or found.expected is None or self._wall(due) < found.expected
            ):
                text = f"whether {watch.condition.text} is not known, and '{watch.rule.name}' trips"
                found = Refusal("trip", text, "", True, self._wall(due), watch.rule.name)
        return found

    def _need_still(self, watch: Watch) -> None:
        """It is what it was, for other reasons: those that wait for it, or have to go before it changes, learn of that."""
        rule = watch.rule
        self._touch(name for name in rule.outputs if self._engine.standing(name).wanted.on)
        self._ask_bound(rule)

    def _ask_bound(self, rule: Needs) -> None:
        """Outputs that wait for those that need them ask whether they still have to."""
        for kind, name in rule.condition.about:
            if kind == "output":
                other = self._engine.standing(name)
                if other.going is not None or other.aim != other.confirmed:
                    self._engine.touch(name)

    def _trip_told(self, watch: Watch, before: Value) -> None:
        if watch.value:
            self._latch(watch.rule, watch.condition.text)
        self._engine.effect(ev.Changed("site", ""))

    def _touch(self, outputs: Iterable[str]) -> None:
        for name in outputs:
            self._engine.touch(name)

    # --- trips --------------------------------------------------------------------------------------------

    def _latch(self, trip: Trip, cause: str) -> None:
        engine = self._engine
        if trip.name in engine.keeper.trips:
            return
        self._drop_grace(trip)
        latched = Latched(trip.name, self.now.wall, cause, trip.outputs)
        engine.keeper.latch(latched)
        engine.effect(ev.KeepTrip(latched))
        engine.effect(ev.Changed("site", ""))
        engine.record(
            engine.number(), "trip", trip.name, f"'{trip.name}' tripped: {cause}", None, {"cause": cause}
        )
        engine.disarm((engine.standing(name) for name in trip.outputs), f"ended when '{trip.name}' tripped")
        self._touch(trip.outputs)
        self.watches.mark("trip", trip.name)

    def take_up(self, latched: Iterable[Latched]) -> None:
        """Trips that were in force when the service ended are still."""
        for each in latched:
            trip = self.trips.get(each.name)
            if trip is None:
                self._engine.effect(ev.DropTrip(each.name))
                text = f"the trip '{each.name}' is no longer in the site file, and is reset"
                self._engine.record(self._engine.number(), "trip", each.name, text, None, {"gone": True})
            else:
                self._engine.keeper.latch(each._replace(outputs=trip.outputs))

    def reset(self, event: ev.ResetTrip) -> None:
        """Somebody resets a trip."""
        engine = self._engine
        sequence = engine.number()
        trip = self.trips.get(event.trip)
        refusal = None
        if trip is None:
            refusal = Refusal("name", f"there is no trip called '{event.trip}'", "See: cairnwind look.")
        elif event.trip not in engine.keeper.trips:
            text = f"'{event.trip}' has not tripped"
            engine.record(sequence, "command", event.trip, text, event, {"verb": "reset-trip"})
            engine.effect(ev.Outcome(event.command, sequence, engine.word, "", text))
            return
        elif trip.role == "keep" and not event.source.keeps:
            refusal = Refusal("role", f"only a keeper resets '{trip.name}'", "Use a key with the role keep.")
        elif not event.by.strip():
            refusal = Refusal("name", "a trip is reset by somebody with a name", "Say who: --by NAME.")
        elif not engine.recording:
            refusal = engine.no_journal()
        else:
            watch = self.watches.all[f"trip {trip.name}"]
            if watch.value is not False:
                how = "is still there" if watch.value else "may still be there"
                now = " and ".join(each.text for each in trip.condition.node.inverse(self, watch.memory))
                refusal = Refusal(
                    "trip", f"its cause {how}: {now or trip.condition.text}", "See to that first."
                )
        if refusal is not None:
            engine.refuse(event, sequence, refusal)
            return
        assert trip is not None
        engine.keeper.unlatch(event.trip)
        engine.effect(ev.DropTrip(event.trip))
        engine.effect(ev.Changed("site", ""))
        self.watches.mark("trip", event.trip)
        self._touch(trip.outputs)
        text = f"'{event.trip}' is reset by {event.by}"
        engine.record(sequence, "command", event.trip, text, event, {"verb": "reset-trip", "by": event.by})
        engine.effect(ev.Outcome(event.command, sequence, "driving", "", text))

    # --- guards -------------------------------------------------------------------------------------------

    def open(self, event: ev.Open) -> None:
        """A right code was given."""
        engine = self._engine
        guard = self.guards[event.output]
        if not engine.recording:
            engine.refuse(event, engine.number(), engine.no_journal())
            return
        ends = self.now.mono + guard.opens
        self._open_until[event.output] = ends
        engine.keeper.shut.discard(event.output)
        engine.mono.set(ends, "guard", event.output)
        if event.code:
            engine.effect(ev.DropCode(event.code))
        text = f"{event.output}: opened with the code of {event.by}, for {show_duration(guard.opens)}"
        engine.record(engine.number(), "guard", event.output, text, None, {"by": event.by})
        full = engine.site.outputs[event.output].full
        engine.wish(
            ev.Wish(
                self.now,
                event.command,
                event.source,
                event.output,
                full,
                Rank.PERSON,
                PERSON,
                lasting(guard.opens),
            )
        )

    def wrong_code(self, event: ev.WrongCode) -> None:
        """A wrong code was given: it is counted, and nothing else happens."""
        engine = self._engine
        self.wrong.setdefault(event.output, deque(maxlen=1000)).append(self.now.mono)
        self.watches.mark("guard", event.output)
        refusal = Refusal("guard", "that code does not open it", "Give another, or ask its keeper.")
        engine.refuse(event, engine.number(), refusal)

    def guard_due(self, output: str) -> None:
        """Its time is over, unless it was opened again meanwhile."""
        if output in self.guards and self._open_until.get(output, 0) <= self.now.mono:
            self._open_until.pop(output, None)
            self._engine.keeper.shut.add(output)
            self._engine.disarm_all(self._engine.standing(output), "its guard has closed it")
            self._engine.touch(output)

    # --- one output's own gates ---------------------------------------------------------------------------

    def refusal(self, s: Standing, *, starting: bool) -> Refusal | None:
        """Why an output may not be on, by what it needs and by its pace; None if it may."""
        ruled = s.ruled
        assert ruled is not None
        coming = None
        if not starting:
            ruled.grace = None
        for rule, watch in ruled.needs:
            found = self._need(rule, watch, s, starting)
            if found is not None and not found.coming:
                return found
            coming = coming or found
        for pace in ruled.pace:
            found = self._pace(pace, s, ruled, starting)
            if found is not None:
                return found
        return coming

    def _need(self, rule: Needs, watch: Watch, s: Standing, starting: bool) -> Refusal | None:
        if watch.value is True:
            coming = self._coming(rule)
            if self._holds(rule, watch, coming):
                return None
            names = " and ".join(coming)
            return Refusal(
                "needs",
                f"'{rule.name}' needs {rule.condition.text}, and {names} is about to change",
                f"See: cairnwind why {next(iter(coming))}.",
                rule=rule.name,
                coming=True,
            )
        gaps = rule.condition.missing(self, watch.memory) or [Missing(rule.condition.text)]
        text = " and ".join(dict.fromkeys(gap.text for gap in gaps))
        is_on = (
            not starting and s.confirmed is not None and s.confirmed.on
        )  # a grace bears with what is on, and starts nothing
        if is_on and watch.ceased is not None and self.now.mono < watch.ceased + rule.grace:
            assert s.ruled is not None
            due = self._wall(watch.ceased + rule.grace)
            s.ruled.grace = Refusal(
                "needs", f"'{rule.name}' needs {rule.condition.text}; {text}", "", True, due, rule.name
            )
            return None
        only_time = all(gap.only_time for gap in gaps)
        return Refusal(
            "needs", f"'{rule.name}' needs {rule.condition.text}; {text}", "It may be on as soon as that is so.", only_time,
            self._expected(gaps) if only_time else None, rule.name,
        )  # fmt: skip

    def _holds(self, rule: Needs, watch: Watch, coming: dict[str, Setting]) -> bool:
        """Whether what is so now stays so, whichever of the changes on their way have happened by then."""
        if len(coming) > MOST_COMING:
            return False
        names = list(coming)
        for chosen in range(1, 1 << len(names)):
            instead = {name: coming[name] for number, name in enumerate(names) if chosen >> number & 1}
            if rule.condition.supposed(self, watch.memory, instead) is not True:
                return False
        return True

    def _coming(self, rule: Needs) -> dict[str, Setting]:
        """What outputs that the rule looks at are on their way to."""
        found: dict[str, Setting] = {}
        for kind, name in rule.condition.about:
            if kind == "output":
                other = self._engine.standing(name)
                bound = other.going if other.going is not None else other.pending
                if bound is None and other.retry_at is not None:
                    bound = other.failed  # it is tried again
                if bound is not None and bound != other.confirmed:
                    found[name] = bound
        return found

    def _expected(self, gaps: Iterable[Missing]) -> int | None:
        """Wall nanoseconds at which the last of them is gone."""
        now, found = self.now, 0
        for gap in gaps:
            due = gap.expected_wall if gap.expected is None else self._wall(gap.expected)
            if due is None:
                return None
            found = max(found, due)
        return found if found > now.wall else None

    def _wall(self, mono: int) -> int:
        return self.now.wall + mono - self.now.mono

    def _pace(self, pace: Pace, s: Standing, ruled: Ruled, starting: bool) -> Refusal | None:
        now = self.now.mono
        if not starting:
            if pace.longest_on and now >= ruled.on_at + pace.longest_on:
                ruled.rested = False
                self.remember(s)
                return Refusal(
                    "pace",
                    f"'{pace.name}' lets it be on for {show_duration(pace.longest_on)} at a time",
                    "It rests now.",
                    rule=pace.name,
                )
            return None
        due, why = 0, ""
        still = max(pace.least_off, 0 if ruled.rested else pace.rest)
        if still:
            if s.confirmed is None or s.confirmed.on or s.pending is not None:
                return Refusal(
                    "pace", f"'{pace.name}': it is not confirmed off yet", "Wait.", True, rule=pace.name
                )
            if now < s.off_at + still:
                due, why = s.off_at + still, f"keeps it off for {show_duration(still)} once it is off"
        if pace.starts:
            while ruled.starts and ruled.starts[0] + HOUR <= now:
                ruled.starts.popleft()
            if len(ruled.starts) >= pace.starts and ruled.starts[-pace.starts] + HOUR > due:
                due, why = ruled.starts[-pace.starts] + HOUR, f"allows {pace.starts} starts in any hour"
        last = self._last_start.get(pace.name)
        if pace.stagger and last is not None and now < last + pace.stagger and last + pace.stagger > due:
            due, why = last + pace.stagger, f"keeps {show_duration(pace.stagger)} between two starts"
        if not why:
            return None
        self._engine.mono.set(due, "ruled", s.output.name, f"pace {pace.name}")
        return Refusal("pace", f"'{pace.name}' {why}", "Wait.", True, self._wall(due), pace.name)

    def keeps_on(self, s: Standing) -> Refusal | None:
        """Why an output that nobody wants on any more stays on a little longer; None if it need not."""
        ruled = s.ruled
        if ruled is None or ruled.on_sure is None:
            return None
        for pace in ruled.pace:
            due = ruled.on_sure + pace.least_on
            if pace.least_on and self.now.mono < due:
                self._engine.mono.set(due, "ruled", s.output.name, f"least {pace.name}")
                text = f"'{pace.name}' keeps it on for {show_duration(pace.least_on)} once it is on"
                return Refusal(
                    "pace", text, "Wait; an all-stop takes it off at once.", True, self._wall(due), pace.name
                )
        return None

    # --- the order of change ------------------------------------------------------------------------------

    def first_off(self, s: Standing, target: Setting) -> Refusal | None:
        """Why an output cannot leave its setting yet: something on needs it as it is. Notes where it is bound."""
        ruled = s.ruled
        waits: list[str] = []
        rule_name = ""
        if ruled is not None and ruled.needed and s.confirmed is not None and target != s.confirmed:
            for rule, watch in ruled.needed:
                still_on = [name for name in rule.outputs if name != s.output.name and self._still_on(name)]
                coming = {**self._coming(rule), s.output.name: target}
                if still_on and watch.value is True and not self._holds(rule, watch, coming):
                    waits += still_on
                    rule_name = rule_name or rule.name
        going = target if waits else None
        if going != s.going:
            s.going = going
            for rule, _ in ruled.needed if ruled else ():
                self._touch(rule.outputs)
        if not waits:
            return None
        names = " and ".join(dict.fromkeys(waits))
        return Refusal(
            "needs",
            f"'{rule_name}': {names} {'has' if len(set(waits)) == 1 else 'have'} to be confirmed off first",
            f"See: cairnwind why {waits[0]}.",
            True,
            rule=rule_name,
        )

    def _still_on(self, name: str) -> bool:
        return self.fact(name).may_be_on

    def sent(self, s: Standing) -> None:
        """An output is told another setting. If that is a start, it starts now: an on that failed is tried again."""
        assert s.ruled is not None
        assert s.pending is not None
        if s.pending.on and not (s.confirmed is not None and s.confirmed.on):
            for pace in s.ruled.pace:
                self._last_start[pace.name] = self.now.mono

    def known(self, s: Standing) -> None:
        """Note since when it is confirmed on: what was only sent, or failed, does not count."""
        assert s.ruled is not None
        if s.confirmed is None or not s.confirmed.on:
            s.ruled.on_sure = None
        elif s.ruled.on_sure is None:
            s.ruled.on_sure = self.now.mono

    def moved(self, s: Standing) -> None:
        """What is known of an output, or on its way to it, has changed: whoever needs it, or waits for it, is asked."""
        ruled = s.ruled
        assert ruled is not None
        for rule, _ in ruled.needed:
            self._touch(rule.outputs)
            self._ask_bound(rule)
        for rule, _ in ruled.needs:
            self._ask_bound(rule)

    # --- places -------------------------------------------------------------------------------------------

    def fact(self, name: str) -> Fact:
        """What is known of an output."""
        s = self._engine.standing(name)
        board = self._engine.board_now(s.output.pin.board)
        if not board.up:
            return self._fact_away(s)
        confirmed = s.confirmed
        if confirmed is None:
            return _UNKNOWN if s.pending is not None and not s.attempts else _UNKNOWN_STUCK
        if confirmed.on or s.pending is not None:
            return _STUCK if s.attempts else _ON
        return Fact(False, "", s.off_at)

    def _fact_away(self, s: Standing) -> Fact:
        """Of an output whose board does not answer."""
        name, board = s.output.name, s.output.pin.board
        if s.attested:
            return Fact(False, "", 0)
        fuse = getattr(self.site.boards[board].facts, "watchdog", 0)
        if fuse and s.lost_at:
            due = s.lost_at + fuse + WATCHDOG_MARGIN
            if due <= self.now.mono:
                return Fact(False, "", due)
            self._engine.mono.set(due, "ruled", name, "watchdog")
            text = f"is not known to be off before the watchdog of board {board}, which does not answer, has rested it"
            return Fact(True, text, 0, True, due)
        return Fact(True, f"is not known to be off: board {board} does not answer", 0)

    def bid(self, s: Standing, wants: bool, wish: Any) -> None:
        """What an output that passed its own gates asks for."""
        ruled = s.ruled
        assert ruled is not None
        ruled.bid = None
        if wants and self._engine.board_now(s.output.pin.board).up:
            leader = s.leader
            rank, place = (int(leader.rank), leader.place) if leader is not None and wish.on else (0, 0)
            text = leader.text if leader is not None else "nobody"
            ruled.bid = Bid(rank, place, s.granted, text)

    def _bids(self, circle: Circle) -> dict[str, Bid]:
        found = {}
        for name in circle.outputs:
            bid = self.of[name].bid
            if bid is not None:  # it may have been let go on since it asked
                found[name] = bid._replace(holding=self._engine.standing(name).granted)
        return found

    def give_places(self, s: Standing, batch: Iterable[str]) -> None:
        """Give the places of an output's circle anew, if anything in it has changed."""
        ruled = s.ruled
        circle = ruled.circle if ruled is not None else None
        if circle is None:
            return
        now = self.now.mono
        facts = {name: self.fact(name) for name in circle.outputs}
        seen: dict[str, object] = {
            name: (facts[name], self.of[name].bid, self._engine.standing(name).granted)
            for name in circle.outputs
        }
        if seen == circle.seen and (circle.due is None or now < circle.due):
            return
        bids = self._bids(circle)
        circle.note(facts, bids, now)
        found = circle.give(bids, facts, now)
        circle.seen = seen
        if circle.due is not None:
            self._engine.mono.set(circle.due, "ruled", s.output.name, "place")
        for name in circle.outputs:
            refusal = found.get(name)
            if refusal is not None and refusal.expected is not None:
                refusal = refusal._replace(expected=self._wall(refusal.expected))
            if refusal != self.of[name].shared:
                self.of[name].shared = refusal
                if name not in batch:
                    self._engine.touch(name)

    def room(self, s: Standing, rank: Rank) -> Refusal | None:
        """What the shared gates would say if somebody of this rank wanted it on now."""
        ruled = s.ruled
        circle = ruled.circle if ruled is not None else None
        if circle is None:
            return None
        facts = {name: self.fact(name) for name in circle.outputs}
        bids = self._bids(circle)
        name = s.output.name
        bids[name] = Bid(int(rank), self._engine.sequence, s.granted, "you")
        return circle.give(bids, facts, self.now.mono, supposed=True)[name]

    # --- starts -------------------------------------------------------------------------------------------

    def started(self, s: Standing) -> None:
        """An output goes on."""
        ruled, now = s.ruled, self.now.mono
        assert ruled is not None
        if not (ruled.on_at and self.fact(s.output.name).may_be_on):
            ruled.on_at = now  # else it has not gone off since
        ruled.place = 0
        ruled.starts.append(now)
        was, ruled.rested = ruled.rested, True
        for pace in ruled.pace:
            if pace.longest_on:
                self._engine.mono.set(
                    ruled.on_at + pace.longest_on, "ruled", s.output.name, f"longest {pace.name}"
                )
        if not was or any(pace.starts for pace in ruled.pace):
            self.remember(s)

    def lost(self, s: Standing) -> None:
        """Its board is away: nobody knows how long it is on."""
        ruled = s.ruled
        assert ruled is not None
        may_be_on = s.granted or s.confirmed is None or s.confirmed.on or s.pending is not None
        if may_be_on and any(pace.rest for pace in ruled.pace):
            ruled.rested, ruled.running = False, True
            self.remember(s)

    def back(self, s: Standing) -> None:
        """Its board answers again."""
        ruled = s.ruled
        assert ruled is not None
        if ruled.running:
            ruled.running = False
            longest = min(pace.longest_on for pace in ruled.pace if pace.rest)
            ruled.rested = self.now.mono < ruled.on_at + longest
            self.remember(s)

    def went_off(self, s: Standing, *, was_on: bool) -> None:
        """It is confirmed off: if it was on for its longest time, or nobody knows since when, it has to rest."""
        ruled = s.ruled
        assert ruled is not None
        unknown = was_on and not ruled.on_at
        fresh = ruled.on_at != ruled.off_of
        too_long = fresh and any(
            pace.rest and self.now.mono >= ruled.on_at + pace.longest_on for pace in ruled.pace
        )
        if ruled.rested and (too_long or (unknown and any(pace.rest for pace in ruled.pace))):
            ruled.rested = False
            self.remember(s)
        ruled.off_of = ruled.on_at

    def remember(self, s: Standing) -> None:
        """Store what a restart must not forget of an output's pace."""
        ruled = s.ruled
        assert ruled is not None
        most = max((pace.starts for pace in ruled.pace), default=0)
        starts = tuple(self._wall(at) for at in list(ruled.starts)[-most:]) if most else ()
        self._engine.effect(ev.KeepPace(s.output.name, starts, ruled.rested))

    def jumped(self) -> None:
        """The wall clock was set: what is stored by it is stored anew, and conditions by the hour are asked again."""
        self.watches.mark_all(self.watches.timed)
        for name, ruled in self.of.items():
            if ruled.starts and any(pace.starts for pace in ruled.pace):
                self.remember(self._engine.standing(name))

    def recall(self, kept: Iterable[ev.KeepPace]) -> None:
        """What was stored of paces. A clock that was set back meanwhile shortens nothing."""
        now = self.now
        for each in kept:
            ruled = self.of.get(each.output)
            if ruled is not None:
                ruled.starts.extend(now.mono - max(0, now.wall - wall) for wall in each.starts)
                ruled.rested = each.rested
