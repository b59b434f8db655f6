"""One command on its way to the engine: what its declaration may look at (`cairnwind.commands.declaring.Ask`)."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Claim, Source
from cairnwind.core.facts.site import Site
from cairnwind.core.language.rights import Key
from cairnwind.service import shapes
from cairnwind.service.codes import Codes
from cairnwind.service.editing import Editing
from cairnwind.service.runtime import Runtime
from cairnwind.service.startup import clock


class Asking:
    """``key`` is whose the source is, if there is such a key (still)."""

    __slots__ = ("_codes", "_key", "_runtime", "at", "command", "found", "once", "source")

    def __init__(
        self,
        runtime: Runtime,
        codes: Callable[[], Codes],
        source: Source,
        key: Key | None,
        *,
        once: bool = True,
    ) -> None:
        self._runtime, self._codes, self._key = runtime, codes, key
        self.at, self.command = clock(), runtime.command_id()
        self.source, self.once = source, once
        self.found: dict[str, Any] = {}

    @property
    def site(self) -> Site:
        """What is wired."""
        return self._runtime.site

    @property
    def rules(self) -> Any:
        """The rules, as the site file was read last."""
        return self._runtime.rules

    @property
    def planned(self) -> Any:
        """The language of phrases, with scenes."""
        return self._runtime.planned

    @property
    def schedules(self) -> Mapping[str, Any]:
        """The plan."""
        return self._runtime.engine.planning.schedules

    @property
    def timers(self) -> Mapping[int, Any]:
        """What is still to come."""
        return self._runtime.engine.courses.timers

    @property
    def claims(self) -> Mapping[int, Claim]:
        """Those that stand, by number."""
        return self._runtime.slots.claims

    def renewal(self, event: ev.Renew) -> ev.Renew:
        """The same; where it asks for the setting that the hold has already, it only keeps that: it goes first, and is not counted."""
        slots = self._runtime.slots
        claim = slots.claims.get(slots.find(event.output, event.slot) or 0)
        if claim is None or event.setting is None or claim.setting != event.setting:
            return event
        return ev.Renew(event.at, event.command, event.source, event.output, event.slot)

    def passcode(self, output: str, code: str) -> tuple[str, int] | None:
        """Whose code this is, and its number if it is used up by that; None if it is none."""
        who = str(self._key.id if self._key else 0)  # over whichever surface
        found = self._codes().check(output, code, who)
        return None if found is None else (found.owner, found.id if found.form.get("once") else 0)

    def reload(self) -> ev.Outcome:
        """Have the site file read anew."""
        return self._runtime.reloading.reload(self.source)

    @property
    def editing(self) -> Editing:
        """What changes the site file."""
        return self._runtime.editing

    def hold(self, kind: str) -> str:
        """The slot of a hold of this kind, of whoever gives the command."""
        return f"{kind}:{self._key.id if self._key else 0}"

    def schedule(self, name: str) -> dict[str, Any]:
        """A schedule as HTTP shows it."""
        planning = self._runtime.engine.planning
        return shapes.schedule_form(planning.schedules[name], planning.running.get(name), self.at.wall)
