"""HTTP for the rules of a site as they stand: in words, part by part, with what counts and what they hold back; and questions."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any
from zoneinfo import ZoneInfo

from flask import Response

from cairnwind.core.explain.parts import parts
from cairnwind.core.facts.reflexes import Alarm, Reflex
from cairnwind.core.facts.site import Site
from cairnwind.core.rules import kinds
from cairnwind.service import shapes
from cairnwind.service.asked import answer, json_body, need
from cairnwind.service.desk import Desk
from cairnwind.service.questions import asked
from cairnwind.service.startup import clock


class RuleViews:
    """The views; `cairnwind.service.app` has the way in."""

    def __init__(self, desk: Desk) -> None:
        self.runtime = desk.runtime

    @property
    def site(self) -> Site:
        """The site as it is wired now."""
        return self.runtime.site

    def routes(self, v1: str) -> dict[str, dict[str, Callable[..., Any]]]:
        """Their addresses."""
        return {f"{v1}/rules": {"GET": self.get_rules}, f"{v1}/questions": {"POST": self.ask}}

    def get_rules(self) -> Response:
        """Every rule in words, with how it stands."""
        now = self.runtime.publisher.current.site_now
        latched, raised, suspended = (
            {each.name for each in now.trips},
            {each.name for each in now.alarms},
            dict(now.suspended),
        )
        held = self._held_back()
        found = []
        for rule in self.runtime.rules.interlocks:
            kind = kinds.kind_of(rule)
            state = "tripped" if rule.name in latched else "in force"
            form = self._rule(rule.name, kind, kinds.said(rule), rule.outputs, state, rule)
            form["holds_back"] = held.get(rule.name, [])
            form["boards"] = [
                {**each._asdict(), "outputs": list(each.outputs)}
                for each in self.runtime.machine.kept_by(rule)
            ]
            for left in self.runtime.engine.left(rule.outputs[0], clock()):
                if left.rule == rule.name:
                    form["state"] = "used up" if left.used_up else "in force"
                    form["left"] = shapes.left_form(left, ZoneInfo(self.site.timezone))
            found.append(form)
        for each in self.runtime.rules.reflexes:
            if isinstance(each, Reflex):
                how = "while" if each.holds else "when"
                said = f"{how} {each.condition.text}: {each.course.text}"
                state = f"suspended: {suspended[each.name]}" if each.name in suspended else "in force"
                found.append(self._rule(each.name, "reflex", said, each.course.outputs, state, each))
            elif isinstance(each, Alarm):
                said = f"{each.severity} when {each.condition.text}"
                state = "raised" if each.name in raised else "quiet"
                found.append(self._rule(each.name, "alarm", said, (), state, each))
            else:
                how = f"gain {each.gain:g} % a unit" if each.gain else "on and off"
                said = f"keeps {each.input} between {each.low:g} and {each.high:g} by {each.output}, {how}"
                found.append(self._rule(each.name, "regulator", said, (each.output,), "in force", each))
        for guard in self.runtime.rules.guards:
            said = f"{guard.output} opens with a passcode for {guard.opens / 1e9:g} s; without power it {'stays shut' if guard.fails == 'secure' else 'opens'}"
            found.append(self._rule(guard.output, "guard", said, (guard.output,), "in force", guard))
        return answer({"rules": found})

    def _held_back(self) -> dict[str, list[str]]:
        """By interlock: the outputs that somebody wants on and that it keeps off."""
        held: dict[str, list[str]] = {}
        for now in self.runtime.publisher.current.nows:
            if now.refusal is not None and now.refusal.rule and now.leader is not None:
                held.setdefault(now.refusal.rule, []).append(now.output.name)
        return held

    def _rule(
        self, name: str, kind: str, said: str, outputs: tuple[str, ...], state: str, rule: Any
    ) -> dict[str, Any]:
        """A rule in words, and part by part where it has a condition."""
        form: dict[str, Any] = {
            "name": name, "kind": kind, "text": said, "outputs": list(outputs), "state": state, "parts": [], "grace_ends": None, "holds_back": [], "boards": [],
        }  # fmt: skip
        watch = self.runtime.engine.gates.watches.all.get(f"{kind} {name}")
        if watch is None:
            return form
        now, engine = clock(), self.runtime.engine
        for each in parts(watch.condition, engine.sight, watch.memory.copy()):
            expected = None if each.expected is None else shapes.moment(now.wall + each.expected - now.mono)
            form["parts"].append(
                {
                    "depth": each.depth,
                    "text": each.text,
                    "so": each.so,
                    "instead": each.instead,
                    "expected": expected,
                }
            )
        since, grace = watch.ceased, getattr(rule, "grace", None)
        if since is not None and grace and since + grace > now.mono:
            form["grace_ends"] = shapes.moment(now.wall + since + grace - now.mono)
        return form

    def ask(self) -> Response:
        """Whether something is so now, and what stands in its way."""
        return answer(asked(self.runtime, need(json_body({"question"}), "question")))
