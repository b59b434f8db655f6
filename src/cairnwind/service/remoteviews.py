"""HTTP for the ways in and out: how each fares, what goes over its wire, what its addresses stand for; and what describes us."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from flask import Response, request

from cairnwind import __version__
from cairnwind.core.values.errors import CallerError, unknown
from cairnwind.remotes.keypad import ENTER, KeypadRemote
from cairnwind.remotes.remote import Remote
from cairnwind.remotes.things import description
from cairnwind.service import calls, shapes
from cairnwind.service.asked import answer, caller, caller_key, json_body, whole
from cairnwind.service.desk import Desk
from cairnwind.service.pinout import frame_form

OF_THE_SITE = {"broker": "message broker", "modbus": "Modbus server", "surface": "control surface"}
"""Remotes that have their name from what they are."""


class RemoteViews:
    """The views; `cairnwind.service.app` has the way in."""

    def __init__(self, desk: Desk, remotes: Sequence[Remote]) -> None:
        self.desk, self.remotes = desk, remotes

    def routes(self, v1: str) -> dict[str, dict[str, Callable[..., Any]]]:
        """Their addresses."""
        return {
            "/.well-known/wot": {"GET": self.thing},
            f"{v1}/openapi.json": {"GET": self.openapi},
            f"{v1}/remotes": {"GET": self.get_remotes},
            f"{v1}/remotes/<name>/traffic": {"GET": self.get_traffic},
            f"{v1}/remotes/<name>/map": {"GET": self.get_map},
            f"{v1}/remotes/<name>/simulated": {"PUT": self.press},
        }

    def thing(self) -> Response:
        """What the caller may command, as a W3C Thing Description 1.1."""
        key = caller_key()
        site = self.desk.runtime.site
        form = description(
            site, request.url_root.rstrip("/"), key.outputs(site), operates=key.role != "watch"
        )
        return Response(shapes.dump(form), content_type="application/td+json")

    def openapi(self) -> Response:
        """The API, described."""
        return answer(calls.describe(__version__, request.url_root.rstrip("/")))

    def get_remotes(self) -> Response:
        """The ways in and out."""
        return answer([remote.form() for remote in self.remotes])

    def get_traffic(self, name: str) -> Response:
        """What went over one."""
        traffic = self._remote(name).traffic
        frames = traffic.after(whole("after", 0) or 0)
        return answer(
            {
                "frames": [frame_form(frame) for frame in frames],
                "rounds_a_second": 0,
                "errors": traffic.errors,
            }
        )

    def get_map(self, name: str) -> Response:
        """Its addresses."""
        return answer({"rows": [row._asdict() for row in self._remote(name).map()]})

    def press(self, name: str) -> Response:
        """Press keys of a simulated keypad."""
        remote = self._remote(name)
        keys = json_body({"keys"}).get("keys")
        if not isinstance(remote, KeypadRemote):
            raise CallerError(
                "refused", f"{name} has no keys to press.", "Name a [remote.keypad.…] of the site file."
            )
        if not isinstance(keys, str):
            raise CallerError("bad-value", "Which keys is not said.", f'Write {{"keys": "4711{ENTER}"}}.')
        if caller_key().only:
            self.desk.deny(caller(), f"a key for some outputs may not press the keys of {name}", "operate")
        return answer({"remote": name, "pressed": len(keys), "said": remote.press(keys)})

    def _remote(self, name: str) -> Remote:
        for remote in self.remotes:
            if remote.name == name:
                return remote
        if name in OF_THE_SITE:
            raise CallerError(
                "unknown-name",
                f"This site has no {OF_THE_SITE[name]}: its file has no [remote.{name}].",
                "docs/remotes.md says what to write there.",
            )
        raise unknown("remote", name, [remote.name for remote in self.remotes])
