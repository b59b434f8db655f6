"""HTTP for what keeps a site safe: rules, trips, alarms, reflexes, guards, and questions about what is so."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any
from zoneinfo import ZoneInfo

from flask import Response

from cairnwind.commands.wishes import output_of
from cairnwind.core.facts.conditions import Memory
from cairnwind.core.facts.reflexes import Alarm, Reflex
from cairnwind.core.language import forms as forms
from cairnwind.core.rules import kinds
from cairnwind.core.values.errors import CallerError
from cairnwind.service import shapes
from cairnwind.service.asked import answer, json_body, need
from cairnwind.service.codes import shown, when_of
from cairnwind.service.desk import Desk
from cairnwind.service.first import clock
from cairnwind.site.rules import the_language


class SafeViews:
    """The views; `cairnwind.service.app` has the way in."""

    def __init__(self, desk: Desk) -> None:
        self.desk, self.runtime, self.site = desk, desk.runtime, desk.runtime.site

    @property
    def rules(self) -> forms.Rules:
        """The rules, as the site file was read last."""
        return self.runtime.rules

    def routes(self, v1: str) -> dict[str, dict[str, Callable[..., Any]]]:
        """Their addresses."""
        return {
            f"{v1}/rules": {"GET": self.get_rules},
            f"{v1}/questions": {"POST": self.ask},
            f"{v1}/trips": {"GET": self.get_trips},
            f"{v1}/alarms": {"GET": self.get_alarms},
            f"{v1}/outputs/<name>/codes": {"GET": self.get_codes},
            f"{v1}/outputs/<name>/codes/<path:owner>": {"PUT": self.put_code, "DELETE": self.drop_code},
        }

    # --- looking ------------------------------------------------------------------------------------------

    def get_rules(self) -> Response:
        """Every rule in words, with how it stands."""
        now = self.runtime.publisher.current.site_now
        latched, raised, suspended = (
            {each.name for each in now.trips},
            {each.name for each in now.alarms},
            dict(now.suspended),
        )
        found = []
        for rule in self.rules.interlocks:
            kind = kinds.kind_of(rule)
            state = "tripped" if rule.name in latched else "in force"
            form = _rule(rule.name, kind, kinds.said(rule), rule.outputs, state)
            for left in self.runtime.engine.left(rule.outputs[0], clock()):
                if left.rule == rule.name:
                    form["state"] = "used up" if left.used_up else "in force"
                    form["left"] = shapes.left_form(left, ZoneInfo(self.site.timezone))
            found.append(form)
        for each in self.rules.reflexes:
            if isinstance(each, Reflex):
                how = "while" if each.holds else "when"
                said = f"{how} {each.condition.text}: {each.course.text}"
                state = f"suspended: {suspended[each.name]}" if each.name in suspended else "in force"
                found.append(_rule(each.name, "reflex", said, each.course.outputs, state))
            elif isinstance(each, Alarm):
                said = f"{each.severity} when {each.condition.text}"
                found.append(
                    _rule(each.name, "alarm", said, (), "raised" if each.name in raised else "quiet")
                )
            else:
                how = f"gain {each.gain:g} % a unit" if each.gain else "on and off"
                said = f"keeps {each.input} between {each.low:g} and {each.high:g} by {each.output}, {how}"
                found.append(_rule(each.name, "regulator", said, (each.output,), "in force"))
        for guard in self.rules.guards:
            said = f"{guard.output} opens with a passcode for {guard.opens / 1e9:g} s; without power it {'stays shut' if guard.fails == 'secure' else 'opens'}"
            found.append(_rule(guard.output, "guard", said, (guard.output,), "in force"))
        return answer({"rules": found})

    def get_trips(self) -> Response:
        """Trips in force."""
        return answer(
            {"trips": [shapes.trip_form(each) for each in self.runtime.publisher.current.site_now.trips]}
        )

    def get_alarms(self) -> Response:
        """Alarms that were raised and are not over."""
        return answer(
            {"alarms": [shapes.alarm_form(each) for each in self.runtime.publisher.current.site_now.alarms]}
        )

    def ask(self) -> Response:
        """Whether something is so now, and what stands in its way."""
        words = the_language(self.runtime.site, self.rules)
        condition = words.state(need(json_body({"question"}), "question"))
        sight = self.runtime.engine.sight
        memory = Memory()
        value = condition.look(sight, memory)
        missing = [gap.text for gap in condition.missing(sight, memory)]
        return answer({"question": condition.text, "so": value, "instead": [] if value else missing})

    # --- passcodes ----------------------------------------------------------------------------------------

    def get_codes(self, name: str) -> Response:
        """Who has a code for an output; never the codes."""
        self._keeper(name)
        return answer(
            {"codes": [shown(each, self.site.timezone) for each in self.runtime.reader.codes(name)]}
        )

    def put_code(self, name: str, owner: str) -> Response:
        """Give somebody a code."""
        self._keeper(name)
        body = json_body({"code", "days", "from", "to", "until", "once"})
        if not owner.isprintable() or len(owner) > 60:
            raise CallerError(
                "bad-value", "This is not a name for an owner.", "Use up to 60 printable characters."
            )
        self.desk.codes.put(name, owner, need(body, "code"), when_of(body, self.site.timezone))
        return answer({"output": name, "owner": owner}, 201)

    def drop_code(self, name: str, owner: str) -> Response:
        """Take somebody's code away."""
        self._keeper(name)
        if not self.desk.codes.drop(name, owner):
            raise CallerError(
                "unknown-name", f"{owner} has no code for {name}.", f"See: cairnwind code {name}."
            )
        return answer({"output": name, "owner": owner})

    # --- small helpers ------------------------------------------------------------------------------------

    def _guarded(self, name: str) -> None:
        if name not in {guard.output for guard in self.rules.guards}:
            raise CallerError("bad-value", f"{name} has no guard.", "Turn it on without a code.")

    def _keeper(self, name: str) -> None:
        output_of(self.site, name)
        self._guarded(name)


def _rule(name: str, kind: str, said: str, outputs: tuple[str, ...], state: str) -> dict[str, Any]:
    return {"name": name, "kind": kind, "text": said, "outputs": list(outputs), "state": state}
