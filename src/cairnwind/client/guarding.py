"""What keeps a site safe: rules, trips, alarms, passcodes."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from cairnwind.client.answers import Outcome, outcome_of
from cairnwind.client.wire import Wire

if TYPE_CHECKING:
    from cairnwind import forms
    from cairnwind.client.when import When


class Guarding(Wire):
    """What may not be, and what to do about it."""

    def rules(self) -> list[forms.Rule]:
        """Interlocks, reflexes, regulators, alarms and guards, in words, with how they stand."""
        found: list[forms.Rule] = self._get("/rules")["rules"]
        return found

    def ask(self, question: str) -> forms.Answered:
        """Whether something is so now: 'kiln-vent is on for 30 s'. ``so`` is None where that is not known."""
        return self._post("/questions", {"question": question})

    def when(self, condition: str, tell: Callable[[str], Any]) -> When:
        """Have ``tell`` called each time that a condition becomes so: ``site.when("kiln-door becomes open", print)``.

        It is called by a thread of its own, until `When.stop`, or to the end of a ``with`` block.
        """
        from cairnwind.client.when import When

        return When(self, condition, tell)

    def would_change(self) -> list[str]:
        """What would change if the site file were read anew, a sentence each. Raises `CallerError` (``site-file``, ``reload``)."""
        found: list[str] = self.call("GET", "/site-file/changes")["changes"]
        return found

    def reload(self) -> Outcome:
        """Have the service read its site file anew: what is wired, rules, scenes, schedules. Needs a key with the role keep."""
        return outcome_of(self.call("POST", "/site-file/reload", {}))

    def trips(self) -> list[forms.Trip]:
        """Trips that are latched."""
        found: list[forms.Trip] = self._get("/trips")["trips"]
        return found

    def reset(self, trip: str, by: str) -> Outcome:
        """Reset a trip whose cause is gone. ``by`` is who does it."""
        return outcome_of(self.call("POST", f"/trips/{quote(trip, safe='')}/reset", {"by": by}))

    def alarms(self) -> list[forms.Alarm]:
        """Alarms that were raised and are not over."""
        found: list[forms.Alarm] = self._get("/alarms")["alarms"]
        return found

    def acknowledge(self, alarm: str, by: str) -> Outcome:
        """Say that somebody has heard an alarm."""
        return outcome_of(self.call("POST", f"/alarms/{quote(alarm, safe='')}/acknowledgement", {"by": by}))

    def accept_clock(self, by: str) -> Outcome:
        """Say that the clock is right, though it is behind the journal: schedules and hours go by it again."""
        return outcome_of(self.call("POST", "/clock/acceptance", {"by": by}))

    def resume(self, reflex: str) -> Outcome:
        """Let a suspended reflex work again."""
        return outcome_of(self.call("POST", f"/reflexes/{quote(reflex, safe='')}/resume", {}))

    def attest(self, output: str, by: str) -> Outcome:
        """Say that an output which nobody can ask was seen to be off."""
        return outcome_of(self.call("POST", f"/outputs/{quote(output, safe='')}/attestation", {"by": by}))

    def open(self, output: str, code: str) -> Outcome:
        """Open a guarded output with a passcode; it closes by itself."""
        return outcome_of(self.call("POST", f"/outputs/{quote(output, safe='')}/open", {"code": code}))

    def codes(self, output: str) -> list[forms.Code]:
        """Who has a passcode for an output, and when it is good. Never the codes."""
        found: list[forms.Code] = self._get(f"/outputs/{quote(output, safe='')}/codes")["codes"]
        return found

    def give_code(self, output: str, owner: str, code: str, **when: Any) -> None:
        """Give somebody a passcode; ``days``, ``from_``, ``to``, ``until`` and ``once`` say when it is good."""
        body = {key.rstrip("_"): value for key, value in when.items() if value}
        self.call(
            "PUT", f"/outputs/{quote(output, safe='')}/codes/{quote(owner, safe='')}", {"code": code, **body}
        )

    def drop_code(self, output: str, owner: str) -> None:
        """Take somebody's passcode away."""
        self.call("DELETE", f"/outputs/{quote(output, safe='')}/codes/{quote(owner, safe='')}")
