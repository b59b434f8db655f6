"""Alarms: conditions that somebody has to be told of. Each stays until it is acknowledged, and is raised again as often as it says."""

from __future__ import annotations

from collections.abc import Iterable

from cairnwind.core.engine.courses import Courses, For
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Rank, Source
from cairnwind.core.facts.conditions import Value
from cairnwind.core.facts.interlocks import Raised, Refusal
from cairnwind.core.facts.reflexes import Alarm, Rule
from cairnwind.core.rules.gates import Armed
from cairnwind.core.state.turn import Turn
from cairnwind.core.state.watches import Watch
from cairnwind.core.values.fact import alike


class Alarms:
    """``armed`` has the conditions that are watched; ``courses`` carries out what is done each time."""

    def __init__(self, armed: Armed, courses: Courses) -> None:
        self._armed, self._courses = armed, courses
        self.all: dict[str, Alarm] = {}
        self._watch: dict[str, Watch] = {}
        self.raised: dict[str, Raised] = {}

    def arm(self, rules: Iterable[Rule]) -> None:
        """Those of the rules that are alarms hold from now on."""
        self.all, self._watch = {}, {}
        for rule in rules:
            if isinstance(rule, Alarm):
                self.all[rule.name] = rule
                self._watch[rule.name] = self._armed.gates.watches.add(
                    f"alarm {rule.name}", rule.condition, rule, self._told
                )

    def start(self, turn: Turn, raised: Iterable[Raised]) -> None:
        """Those that nobody has seen before the service was started anew."""
        for each in raised:
            alarm = self.all.get(each.name)
            if alarm is None:
                turn.effect(ev.DropAlarm(each.name))
            else:
                self.raised[each.name] = each
                self._again(turn, alarm)

    def reload(self, turn: Turn, rules: Iterable[Rule]) -> None:
        """What did not change goes on where it was; what is gone is over."""
        old, watches = self.all, self._watch
        self.arm(rules)
        for name, alarm in self.all.items():
            known = old.get(name)
            if known is not None and alike(known, alarm):
                self._watch[name].succeed(watches[name])
        for name in [each for each in self.raised if each not in self.all]:
            del self.raised[name]
            turn.effect(ev.DropAlarm(name))

    def _told(self, turn: Turn, watch: Watch, before: Value) -> None:
        self._see(turn, watch.rule, watch)

    def _see(self, turn: Turn, alarm: Alarm, watch: Watch) -> None:
        standing = self.raised.get(alarm.name)
        if watch.value and (standing is None or not standing.so):
            self._raise(
                turn, alarm, standing._replace(so=True) if standing is not None and not standing.by else None
            )
        elif not watch.value and standing is not None and standing.so:
            if standing.by:
                self._clear(turn, alarm.name, "its cause is gone")
            else:
                self._keep(turn, standing._replace(so=False))

    def _raise(self, turn: Turn, alarm: Alarm, again: Raised | None) -> None:
        standing = again or Raised(alarm.name, turn.now.wall, alarm.severity, alarm.condition.text, True)
        standing = standing._replace(times=standing.times + 1, last=turn.now.wall)
        self._keep(turn, standing)
        more = f" (for the {standing.times}th time)" if standing.times > 3 else ""
        text = f"alarm '{alarm.name}' ({alarm.severity}): {alarm.condition.text}{more}"
        turn.note(
            "alarm",
            alarm.name,
            text,
            {"severity": alarm.severity, "times": standing.times},
        )
        if alarm.course is not None:
            behalf = For(
                f"alarm-{turn.sequence}", Source("alarm", alarm.name), Rank.REFLEX, f"alarm:{alarm.name}"
            )
            self._courses.run(turn, alarm.course.steps, behalf)
        self._again(turn, alarm)

    def _again(self, turn: Turn, alarm: Alarm) -> None:
        if alarm.repeat:
            turn.mono.set(turn.now.mono + alarm.repeat, "alarm", alarm.name)

    def due(self, turn: Turn, name: str, slot: str) -> None:
        """It is raised again, if nobody has acknowledged it."""
        alarm, standing = self.all.get(name), self.raised.get(name)
        if alarm is not None and standing is not None and not standing.by:
            self._raise(turn, alarm, standing)

    def acknowledge(self, turn: Turn, event: ev.Acknowledge) -> None:
        """Somebody has heard it."""
        sequence = turn.number()
        standing = self.raised.get(event.alarm)
        refusal = None
        if event.alarm not in self.all:
            refusal = Refusal("name", f"there is no alarm called '{event.alarm}'", "See: cairnwind alarms.")
        elif not event.by.strip():
            refusal = Refusal(
                "name", "an alarm is acknowledged by somebody with a name", "Say who: --by NAME."
            )
        if refusal is not None:
            turn.refuse(event, sequence, refusal)
            return
        if standing is None or standing.by:
            text = f"'{event.alarm}' {'was not raised' if standing is None else 'was acknowledged already'}"
        else:
            text = f"'{event.alarm}' is acknowledged by {event.by}"
        turn.record(sequence, "command", event.alarm, text, event, {"verb": "acknowledge", "by": event.by})
        if standing is not None and not standing.by:
            if standing.so:
                self._keep(turn, standing._replace(by=event.by))
            else:
                self._clear(turn, event.alarm, f"acknowledged by {event.by}")
        turn.done(event, sequence, text)

    def _keep(self, turn: Turn, standing: Raised) -> None:
        self.raised[standing.name] = standing
        turn.effect(ev.KeepAlarm(standing))
        turn.effect(ev.Changed("site", ""))

    def _clear(self, turn: Turn, name: str, why: str) -> None:
        del self.raised[name]
        turn.effect(ev.DropAlarm(name))
        turn.effect(ev.Changed("site", ""))
        turn.note("alarm", name, f"alarm '{name}' is over: {why}", {"over": True})
