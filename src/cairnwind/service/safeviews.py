"""HTTP for what keeps a site safe: trips, alarms, guards and their passcodes."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from flask import Response

from cairnwind.commands.claim_requests import output_of
from cairnwind.core.facts.site import Site
from cairnwind.core.language import forms as forms
from cairnwind.core.values.errors import CallerError
from cairnwind.service import shapes
from cairnwind.service.asked import answer, json_body, need
from cairnwind.service.codes import shown, when_of
from cairnwind.service.desk import Desk


class SafeViews:
    """The views; `cairnwind.service.app` has the way in."""

    def __init__(self, desk: Desk) -> None:
        self.desk, self.runtime = desk, desk.runtime

    @property
    def rules(self) -> forms.Rules:
        """The rules, as the site file was read last."""
        return self.runtime.rules

    @property
    def site(self) -> Site:
        """The site as it is wired now."""
        return self.runtime.site

    def routes(self, v1: str) -> dict[str, dict[str, Callable[..., Any]]]:
        """Their addresses."""
        return {
            f"{v1}/trips": {"GET": self.get_trips},
            f"{v1}/alarms": {"GET": self.get_alarms},
            f"{v1}/outputs/<name>/codes": {"GET": self.get_codes},
            f"{v1}/outputs/<name>/codes/<path:owner>": {"PUT": self.put_code, "DELETE": self.drop_code},
        }

    # --- looking ------------------------------------------------------------------------------------------

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
