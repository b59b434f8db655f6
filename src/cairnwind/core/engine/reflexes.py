"""Reflexes: a `when` fires at the moment its condition becomes true (unknown to true is no such moment); a `while` holds its
claims as long as it is true.

Both act through courses, so that whatever they ask for goes through the same gates as a person's wish. Each effect carries the
chain of reflexes that led to it; a chain that comes back to a reflex suspends it.
"""

from __future__ import annotations

from collections.abc import Iterable

from cairnwind.core.engine.courses import Courses, For
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import PERSON, RELEASED, TAKEOVER, Rank, Source, held
from cairnwind.core.facts.conditions import Value
from cairnwind.core.facts.interlocks import Refusal
from cairnwind.core.facts.reflexes import Reflex, Rule
from cairnwind.core.rules.gates import Armed
from cairnwind.core.state.turn import Turn
from cairnwind.core.state.watches import Watch
from cairnwind.core.values.fact import alike


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


class Reflexes:
    """``armed`` has the conditions that are watched; ``courses`` carries out what they ask for."""

    def __init__(self, armed: Armed, courses: Courses) -> None:
        self._armed, self._courses = armed, courses
        self.all: dict[str, _Running] = {}

    def arm(self, rules: Iterable[Rule]) -> None:
        """Those of the rules that are reflexes hold from now on."""
        self.all = {}
        for rule in rules:
            if isinstance(rule, Reflex):
                watch = self._armed.gates.watches.add(f"reflex {rule.name}", rule.condition, rule, self._told)
                self.all[rule.name] = watch.rule = _Running(rule, watch)

    def start(self, turn: Turn) -> None:
        """Claims that are held while something is so are made anew where it still is."""
        for name in turn.site.outputs:
            s = turn.standing(name)
            for claim in s.claims.all:
                if claim.rank is Rank.REFLEX and claim.lifetime.kind == "released":
                    turn.end(s, claim, "the service was started anew")

    def reload(self, turn: Turn, rules: Iterable[Rule]) -> None:
        """What did not change remembers all that it did; what did is begun anew, and what is gone ends."""
        old = self.all
        self.arm(rules)
        for name, running in self.all.items():
            was = old.pop(name, None)
            if was is not None and alike(was.rule, running.rule):
                running.fired, running.suspended, running.chain = was.fired, was.suspended, was.chain
                running.watch.succeed(was.watch)
            elif was is not None:
                old[name] = was
        end_slots(turn, {f"reflex:{name}" for name in old})

    def _told(self, turn: Turn, watch: Watch, before: Value) -> None:
        running: _Running = watch.rule
        if running.rule.holds:
            self._hold(turn, running)
        elif watch.value and before is False:
            self._fire(turn, running)

    def _fire(self, turn: Turn, running: _Running) -> None:
        """It carries out what it is for, unless it has just done so or its own doing has come back to it."""
        rule, now = running.rule, turn.now
        if running.suspended or self._round(turn, running):
            return
        if now.mono < running.fired + rule.pause:
            if rule.holds:
                turn.mono.set(running.fired + rule.pause, "reflex", rule.name)
            return
        running.fired = now.mono
        text = f"'{rule.name}': {rule.condition.text}; {rule.course.text}"
        turn.note("reflex", rule.name, text, {"chain": list(running.chain)})
        person = rule.rank is Rank.PERSON
        life = TAKEOVER if person else RELEASED if rule.holds else None
        slot = PERSON if person else f"reflex:{rule.name}"
        behalf = For(f"reflex-{turn.sequence}", Source("reflex", rule.name), rule.rank, slot, life)
        self._courses.run(turn, rule.course.steps, behalf)
        for name in rule.course.outputs:
            turn.state.causes.put("output", name, (*running.chain, rule.name))

    def _hold(self, turn: Turn, running: _Running) -> None:
        if running.watch.value:
            self._fire(turn, running)
            return
        slot = f"reflex:{running.rule.name}"
        self._courses.drop_timers(turn, slot)
        for name in running.rule.course.outputs:
            s = turn.standing(name)
            claim = held(s.claims.all, slot)
            if claim is not None:
                turn.state.causes.put("output", name, (*self._chain(turn, running.rule), running.rule.name))
                turn.end(s, claim, f"{running.rule.condition.text} is no longer so")

    def due(self, turn: Turn, name: str, slot: str) -> None:
        """It was asked to hold something too soon after the last time."""
        running = self.all.get(name)
        if running is not None and running.watch.value:
            self._fire(turn, running)

    def catch_up(self, turn: Turn) -> None:
        """The journal can be written again: what should be held, and could not be, is held."""
        for running in self.all.values():
            rule, slot = running.rule, f"reflex:{running.rule.name}"
            if (
                rule.holds and rule.rank is not Rank.PERSON and running.watch.value
                and any(held(turn.standing(name).claims.all, slot) is None for name in rule.course.outputs)
            ):  # fmt: skip
                self._fire(turn, running)

    def _chain(self, turn: Turn, rule: Reflex) -> tuple[str, ...]:
        """The reflexes that led to what it looks at."""
        causes = turn.state.causes
        chains = [
            causes.of("input", name) if kind == "input" else causes.of_output(turn.standing(name))
            for kind, name in rule.condition.about
            if kind in ("input", "output", "claims")
        ]
        return max(chains, key=len, default=())

    def _round(self, turn: Turn, running: _Running) -> bool:
        running.chain = self._chain(turn, running.rule)
        if running.rule.name not in running.chain:
            return False
        name = running.rule.name
        round = " → ".join(f"'{each}'" for each in (*running.chain[running.chain.index(name) :], name))
        running.suspended = f"what it does comes back to it: {round}"
        text = f"'{name}' is suspended: {running.suspended}"
        turn.note("reflex", name, text, {"suspended": True})
        turn.effect(ev.Changed("site", ""))
        slot = f"reflex:{name}"
        for output in running.rule.course.outputs:
            s = turn.standing(output)
            claim = held(s.claims.all, slot)
            if claim is not None:
                turn.end(s, claim, "its reflex is suspended")
        return True

    def resume(self, turn: Turn, event: ev.Resume) -> None:
        """Somebody lets a suspended reflex work again."""
        sequence = turn.number()
        running = self.all.get(event.reflex)
        if running is None:
            turn.refuse(
                event,
                sequence,
                Refusal("name", f"there is no reflex called '{event.reflex}'", "See: cairnwind rules."),
            )
            return
        running.suspended, running.chain = "", ()
        for name in running.rule.course.outputs:
            turn.state.causes.put("output", name, ())
        text = f"'{event.reflex}' works again"
        turn.record(sequence, "command", event.reflex, text, event, {"verb": "resume"})
        turn.effect(ev.Changed("site", ""))
        turn.done(event, sequence, text)


def end_slots(turn: Turn, slots: set[str]) -> None:
    """End what stands in these slots until it is released: its rule has changed, or is no longer there."""
    for name in turn.site.outputs if slots else ():
        s = turn.standing(name)
        for claim in s.claims.all:
            if claim.slot in slots and claim.lifetime.kind == "released":
                turn.end(s, claim, "its rule has changed, or is no longer in the site file")
