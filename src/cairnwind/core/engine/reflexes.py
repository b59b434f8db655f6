"""What follows from what is so: reflexes, regulators and alarms. A part of the engine, in a file of its own.

A reflex `when` fires at the moment its condition becomes true (unknown to true is no such moment); a reflex `while`
holds its claims as long as it is true. Both act through phrases, so that whatever they ask for goes through the
same gates as a person's wish. A regulator keeps an input between two values; without a reading its output is safe.
An alarm stays until somebody acknowledges it, and is raised again as often as it says.

Each effect carries the chain of reflexes that led to it. A chain that comes back to a reflex suspends it.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from cairnwind.core.engine.agenda import For
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import PERSON, RELEASED, TAKEOVER, Rank, Source, held
from cairnwind.core.facts.conditions import Condition, Value
from cairnwind.core.facts.course import Course
from cairnwind.core.facts.interlocks import Raised, Refusal
from cairnwind.core.state.watches import Watch
from cairnwind.core.values.fact import alike, fact
from cairnwind.core.values.quantities import NS
from cairnwind.core.values.settings import FULL, Level, Setting

if TYPE_CHECKING:
    from cairnwind.core.engine.loop import Engine

SEVERITIES = ("note", "warning", "urgent")


@fact
class Reflex:
    """A phrase that is carried out when a condition becomes true, or held while it is."""

    name: str
    condition: Condition
    course: Course
    holds: bool = False
    """It is a `while`."""
    rank: Rank = Rank.REFLEX
    pause: int = NS // 5
    """Nanoseconds between two times that it fires, at least."""


@fact
class Regulator:
    """An input that is kept between two values by an output."""

    name: str
    input: str
    low: float
    high: float
    output: str
    lowers: bool = False
    """The value falls while the output is on: a fan, not a heater."""
    pause: int = NS
    """Nanoseconds between two changes of the output, at least."""
    gain: float = 0.0
    """Of proportional-integral control: percent for each unit that the value is away; 0: two points."""
    integral: int = 600 * NS
    """Nanoseconds in which a lasting difference does as much again as at once."""


@fact
class Alarm:
    """A condition that somebody has to be told of."""

    name: str
    condition: Condition
    severity: str = "warning"
    repeat: int = 0
    """Nanoseconds after which it is raised again while nobody has acknowledged it; 0: it is not."""
    course: Course | None = None
    """What is done each time that it is raised."""


Rule = Reflex | Regulator | Alarm


class _Running:
    """How a reflex stands."""

    __slots__ = ("chain", "fired", "rule", "suspended", "watch")

    def __init__(self, rule: Reflex, watch: Watch) -> None:
        self.rule = rule
        self.watch = watch
        self.fired = -rule.pause
        self.suspended = ""
        """Why it does nothing any more; empty while it works."""
        self.chain: tuple[str, ...] = ()


class _Keeping:
    """How a regulator stands."""

    __slots__ = ("changed", "rule", "sum", "ticked", "wants")

    def __init__(self, rule: Regulator) -> None:
        self.rule = rule
        self.wants: Setting | None = None
        self.changed = -rule.pause
        self.sum = 0.0
        self.ticked = 0

    def succeed(self, old: _Keeping) -> None:
        """Go on where the same rule was."""
        self.wants, self.changed, self.sum, self.ticked = old.wants, old.changed, old.sum, old.ticked


class Reflexes:
    """See the module's page."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self.reflexes: dict[str, _Running] = {}
        self.regulators: dict[str, _Keeping] = {}
        self.alarms: dict[str, Alarm] = {}
        self.watch_of_alarm: dict[str, Watch] = {}
        self.raised: dict[str, Raised] = {}
        self._of_input: dict[str, list[_Keeping]] = {}
        self._causes: dict[str, tuple[str, ...]] = {}
        """By output: the reflexes that led to what it does now, the first one first."""
        self._fired = 0

    def arm(self, rules: Iterable[Rule]) -> None:
        """These hold from now on."""
        for rule in rules:
            if isinstance(rule, Reflex):
                watch = self._engine.safety.watches.add(
                    f"reflex {rule.name}", rule.condition, rule, self._told
                )
                self.reflexes[rule.name] = watch.rule = _Running(rule, watch)
            elif isinstance(rule, Regulator):
                keeping = self.regulators[rule.name] = _Keeping(rule)
                self._of_input.setdefault(rule.input, []).append(keeping)
            else:
                watch = self._engine.safety.watches.add(
                    f"alarm {rule.name}", rule.condition, rule, self._told
                )
                self.alarms[rule.name], self.watch_of_alarm[rule.name] = rule, watch

    def start(self, raised: Iterable[Raised]) -> None:
        """What was left. Claims that are held while something is so are made anew where it still is."""
        engine = self._engine
        for name in engine.site.outputs:
            s = engine.standing(name)
            for claim in s.claims:
                if claim.rank is Rank.REFLEX and claim.lifetime.kind == "released":
                    engine.end(s, claim, "the service was started anew")
        for each in raised:
            alarm = self.alarms.get(each.name)
            if alarm is None:
                engine.effect(ev.DropAlarm(each.name))
            else:
                self.raised[each.name] = each
                self._again(alarm)
        for keeping in self.regulators.values():
            self._regulate(keeping)

    def succeed(self, old: Reflexes) -> None:
        """Go on where other rules were: what did not change remembers all that it did; what did is begun anew."""
        engine, watches = self._engine, self._engine.safety.watches
        kept = set()
        for name, running in self.reflexes.items():
            was = old.reflexes.get(name)
            if was is not None and alike(was.rule, running.rule):
                running.fired, running.suspended, running.chain = was.fired, was.suspended, was.chain
                watches.all[f"reflex {name}"].succeed(was.watch)
                kept.add(f"reflex:{name}")
        for name, keeping in self.regulators.items():
            before = old.regulators.get(name)
            if before is not None and alike(before.rule, keeping.rule):
                keeping.succeed(before)
                kept.add(f"regulator:{name}")
        for name, alarm in self.alarms.items():
            known = old.alarms.get(name)
            if known is not None and alike(known, alarm):
                watches.all[f"alarm {name}"].succeed(old.watch_of_alarm[name])
        self._causes, self._fired = old._causes, old._fired
        gone = {f"reflex:{name}" for name in old.reflexes} | {f"regulator:{name}" for name in old.regulators}
        gone -= kept
        for name in engine.site.outputs:
            s = engine.standing(name)
            for claim in s.claims:
                if claim.slot in gone and claim.lifetime.kind == "released":
                    engine.end(s, claim, "its rule has changed, or is no longer in the site file")
        for name, each in old.raised.items():
            if name in self.alarms:
                self.raised[name] = each
            else:
                engine.effect(ev.DropAlarm(name))
        for name, keeping in self.regulators.items():
            if f"regulator:{name}" not in kept:
                self._regulate(keeping)

    def _told(self, watch: Watch, before: Value) -> None:
        rule = watch.rule
        if isinstance(rule, Alarm):
            self._see_alarm(rule, watch)
        elif rule.rule.holds:
            self._hold(rule)
        elif watch.value and before is False:
            self._fire(rule)

    # --- reflexes -----------------------------------------------------------------------------------------

    def _fire(self, running: _Running) -> None:
        """It carries out what it is for, unless it has just done so or its own doing has come back to it."""
        engine, rule, now = self._engine, running.rule, self._engine.now
        if running.suspended or self._round(running):
            return
        if now.mono < running.fired + rule.pause:
            if rule.holds:
                engine.mono.set(running.fired + rule.pause, "reflex", rule.name)
            return
        running.fired = now.mono
        self._fired += 1
        text = f"'{rule.name}': {rule.condition.text}; {rule.course.text}"
        engine.record(engine.number(), "reflex", rule.name, text, None, {"chain": list(running.chain)})
        person = rule.rank is Rank.PERSON
        life = TAKEOVER if person else RELEASED if rule.holds else None
        slot = PERSON if person else f"reflex:{rule.name}"
        behalf = For(f"reflex-{engine.sequence}", Source("reflex", rule.name), rule.rank, slot, life)
        engine.agenda.run(rule.course.steps, behalf)
        for name in rule.course.outputs:
            self._causes[name] = (*running.chain, rule.name)

    def _hold(self, running: _Running) -> None:
        if running.watch.value:
            self._fire(running)
            return
        engine, slot = self._engine, f"reflex:{running.rule.name}"
        engine.agenda.drop_timers(slot)
        for name in running.rule.course.outputs:
            s = engine.standing(name)
            claim = held(s.claims, slot)
            if claim is not None:
                self._causes[name] = (*self._chain(running.rule), running.rule.name)
                engine.end(s, claim, f"{running.rule.condition.text} is no longer so")

    def due(self, name: str) -> None:
        """It was asked to hold something too soon after the last time."""
        running = self.reflexes.get(name)
        if running is not None and running.watch.value:
            self._fire(running)

    def _chain(self, rule: Reflex) -> tuple[str, ...]:
        """The reflexes that led to what it looks at."""
        chains = [self._cause(name) for kind, name in rule.condition.about if kind in ("output", "claims")]
        return max(chains, key=len, default=())

    def _cause(self, output: str) -> tuple[str, ...]:
        chain = self._causes.get(output, ())
        leader = self._engine.standing(output).leader
        if chain and leader is not None and leader.source.surface != "reflex":
            del self._causes[output]  # somebody else has it now
            return ()
        return chain

    def _round(self, running: _Running) -> bool:
        running.chain = self._chain(running.rule)
        if running.rule.name not in running.chain:
            return False
        engine, name = self._engine, running.rule.name
        round = " → ".join(f"'{each}'" for each in (*running.chain[running.chain.index(name) :], name))
        running.suspended = f"what it does comes back to it: {round}"
        text = f"'{name}' is suspended: {running.suspended}"
        engine.record(engine.number(), "reflex", name, text, None, {"suspended": True})
        engine.effect(ev.Changed("site", ""))
        slot = f"reflex:{name}"
        for output in running.rule.course.outputs:
            s = engine.standing(output)
            claim = held(s.claims, slot)
            if claim is not None:
                engine.end(s, claim, "its reflex is suspended")
        return True

    def resume(self, event: ev.Resume) -> None:
        """Somebody lets a suspended reflex work again."""
        engine = self._engine
        sequence = engine.number()
        running = self.reflexes.get(event.reflex)
        if running is None:
            engine.refuse(
                event,
                sequence,
                Refusal("name", f"there is no reflex called '{event.reflex}'", "See: cairnwind rules."),
            )
            return
        running.suspended, running.chain = "", ()
        for name in running.rule.course.outputs:
            self._causes.pop(name, None)
        text = f"'{event.reflex}' works again"
        engine.record(sequence, "command", event.reflex, text, event, {"verb": "resume"})
        engine.effect(ev.Changed("site", ""))
        engine.effect(ev.Outcome(event.command, sequence, engine.word, "", text))

    # --- regulators ---------------------------------------------------------------------------------------

    def input_changed(self, name: str) -> None:
        """A reading came in."""
        for keeping in self._of_input.get(name, ()):
            self._regulate(keeping)

    def regulator_due(self, name: str) -> None:
        """It is time to look again."""
        keeping = self.regulators.get(name)
        if keeping is not None:
            self._regulate(keeping)

    def _regulate(self, keeping: _Keeping) -> None:
        engine, rule, now = self._engine, keeping.rule, self._engine.now.mono
        value = engine.safety.value(rule.input)
        output = engine.site.outputs[rule.output]
        if value is None:
            keeping.sum, keeping.ticked = 0.0, 0
            if keeping.wants != output.safe:
                self._want(keeping, output.safe, f"{rule.input} is not known")
            return
        if keeping.wants is not None and now < keeping.changed + rule.pause:
            engine.mono.set(keeping.changed + rule.pause, "regulator", rule.name)
            return
        shown = f"{rule.input} is {value:.4g}"
        if rule.gain:
            wanted = self._level(keeping, value, now)
            engine.mono.set(now + rule.pause, "regulator", rule.name)
            before = keeping.wants
            near = (
                isinstance(before, Level)
                and isinstance(wanted, Level)
                and abs(before.parts - wanted.parts) < FULL // 100
            )
            if before is None or (not near and before != wanted) or (wanted.on != before.on):
                self._want(keeping, wanted, shown)
            return
        low, high = (value < rule.low, value > rule.high)
        on = high if rule.lowers else low
        off = low if rule.lowers else high
        if on or off or keeping.wants is None or keeping.wants == output.safe:
            full = output.full if on else output.off
            if full != keeping.wants and (on or off or keeping.wants is None):
                self._want(keeping, full, shown)

    def _level(self, keeping: _Keeping, value: float, now: int) -> Level:
        """u = gain (e + 1/T ∫ e dt) in percent; the integral stops where the output is at its end."""
        rule = keeping.rule
        away = (rule.low + rule.high) / 2 - value
        if rule.lowers:
            away = -away
        span = now - keeping.ticked if keeping.ticked else 0
        keeping.ticked = now
        more = rule.gain * away * span / rule.integral
        total = rule.gain * away + keeping.sum + more
        if 0 <= total <= 100 or (total > 100) != (more > 0):
            keeping.sum = min(100.0, max(-100.0, keeping.sum + more))
        percent = min(100.0, max(0.0, rule.gain * away + keeping.sum))
        return Level(round(percent) * FULL // 100)

    def _want(self, keeping: _Keeping, setting: Setting, why: str) -> None:
        engine, rule = self._engine, keeping.rule
        keeping.wants, keeping.changed = setting, engine.now.mono
        self._fired += 1
        wish = ev.Wish(
            engine.now, f"regulator-{self._fired}", Source("regulator", f"{rule.name}: {why}"), rule.output, setting, Rank.REFLEX,
            f"regulator:{rule.name}", RELEASED,
        )  # fmt: skip
        engine.wish(wish)

    # --- alarms -------------------------------------------------------------------------------------------

    def _see_alarm(self, alarm: Alarm, watch: Watch) -> None:
        standing = self.raised.get(alarm.name)
        if watch.value and (standing is None or not standing.so):
            self._raise(
                alarm, standing._replace(so=True) if standing is not None and not standing.by else None
            )
        elif not watch.value and standing is not None and standing.so:
            if standing.by:
                self._clear(alarm.name, "its cause is gone")
            else:
                self._keep(standing._replace(so=False))

    def _raise(self, alarm: Alarm, again: Raised | None) -> None:
        engine = self._engine
        standing = again or Raised(alarm.name, engine.now.wall, alarm.severity, alarm.condition.text, True)
        standing = standing._replace(times=standing.times + 1, last=engine.now.wall)
        self._keep(standing)
        more = f" (for the {standing.times}th time)" if standing.times > 3 else ""
        text = f"alarm '{alarm.name}' ({alarm.severity}): {alarm.condition.text}{more}"
        engine.record(
            engine.number(),
            "alarm",
            alarm.name,
            text,
            None,
            {"severity": alarm.severity, "times": standing.times},
        )
        if alarm.course is not None:
            behalf = For(
                f"alarm-{engine.sequence}", Source("alarm", alarm.name), Rank.REFLEX, f"alarm:{alarm.name}"
            )
            engine.agenda.run(alarm.course.steps, behalf)
        self._again(alarm)

    def _again(self, alarm: Alarm) -> None:
        if alarm.repeat:
            self._engine.mono.set(self._engine.now.mono + alarm.repeat, "alarm", alarm.name)

    def alarm_due(self, name: str) -> None:
        """It is raised again, if nobody has acknowledged it."""
        alarm, standing = self.alarms.get(name), self.raised.get(name)
        if alarm is not None and standing is not None and not standing.by:
            self._raise(alarm, standing)

    def acknowledge(self, event: ev.Acknowledge) -> None:
        """Somebody has heard it."""
        engine = self._engine
        sequence = engine.number()
        standing = self.raised.get(event.alarm)
        refusal = None
        if event.alarm not in self.alarms:
            refusal = Refusal("name", f"there is no alarm called '{event.alarm}'", "See: cairnwind alarms.")
        elif not event.by.strip():
            refusal = Refusal(
                "name", "an alarm is acknowledged by somebody with a name", "Say who: --by NAME."
            )
        if refusal is not None:
            engine.refuse(event, sequence, refusal)
            return
        if standing is None or standing.by:
            text = f"'{event.alarm}' {'was not raised' if standing is None else 'was acknowledged already'}"
        else:
            text = f"'{event.alarm}' is acknowledged by {event.by}"
        engine.record(sequence, "command", event.alarm, text, event, {"verb": "acknowledge", "by": event.by})
        if standing is not None and not standing.by:
            if standing.so:
                self._keep(standing._replace(by=event.by))
            else:
                self._clear(event.alarm, f"acknowledged by {event.by}")
        engine.effect(ev.Outcome(event.command, sequence, engine.word, "", text))

    def _keep(self, standing: Raised) -> None:
        self.raised[standing.name] = standing
        self._engine.effect(ev.KeepAlarm(standing))
        self._engine.effect(ev.Changed("site", ""))

    def _clear(self, name: str, why: str) -> None:
        del self.raised[name]
        engine = self._engine
        engine.effect(ev.DropAlarm(name))
        engine.effect(ev.Changed("site", ""))
        engine.record(engine.number(), "alarm", name, f"alarm '{name}' is over: {why}", None, {"over": True})
