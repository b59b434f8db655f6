"""The site file, read anew while it is served: by whoever asks, one at a time, all of it or nothing."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable
from typing import NamedTuple, Protocol

from cairnwind.boards.link import Link
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Source
from cairnwind.core.facts.difference import difference
from cairnwind.core.facts.site import Site
from cairnwind.core.language.forms import Rules, changed_outputs
from cairnwind.core.language.schedules import Planned
from cairnwind.core.values.errors import CallerError
from cairnwind.service.rewiring import UNCHANGED, Rewiring, Undo
from cairnwind.service.startup import Machine, clock
from cairnwind.site import SiteFileError
from cairnwind.site.plans import read_plan
from cairnwind.site.rules import read_rules

WAITS = 30.0
"""Seconds that somebody waits while the file is read anew for another."""


class Served(Protocol):
    """What is served, and the way to its engine: the runtime."""

    site: Site
    rules: Rules
    machine: Machine

    def command_id(self) -> str:
        """A fresh id for a command."""

    def submit(self, command: ev.Command) -> tuple[ev.Outcome, ev.Ended | None]:
        """Have a command decided and committed."""


class Coming(NamedTuple):
    """Another site on its way to the engine."""

    event: ev.Reload
    planned: Planned
    rules: Rules
    links: dict[str, Link]


class Reloading:
    """What is under way of it. The engine's thread takes the other site with `take`."""

    def __init__(self, runtime: Served, again: Callable[[str], Site]) -> None:
        """``again`` reads the site file, as it was read first."""
        self._runtime, self._again = runtime, again
        self._lock = threading.Lock()
        self._coming: Coming | None = None
        """What the engine is about to take."""
        self.change_remotes: Callable[[Site, Site, Iterable[str], Iterable[str]], Undo] = lambda *_: (
            lambda: None
        )
        """Ends and starts remotes when the site file asks for others; returns what undoes that. Set by who has them."""

    def take(self, event: ev.Reload) -> Coming | None:
        """What comes with this event; None if whoever wanted it has given up."""
        coming, self._coming = self._coming, None
        return coming if coming is not None and coming.event is event else None

    def reload(self, source: Source) -> ev.Outcome:
        """Read the site file anew: what is wired, rules, scenes, schedules. All of it or nothing: raises `CallerError` (``site-file``, ``reload``), and then everything is as it was."""
        if not self._lock.acquire(timeout=WAITS):
            raise CallerError("busy", "The site file is being read anew already.", "Try again in a moment.")
        try:
            fresh, planned, found = self._read_anew()
            rewiring = self._rewiring(fresh)
            changed = tuple(
                name
                for name in changed_outputs(self._runtime.rules, found)
                if name in self._runtime.site.outputs
            )

            def apply() -> ev.Outcome:
                event = ev.Reload(
                    clock(), self._runtime.command_id(), source, fresh, found.interlocks, found.reflexes, found.guards, planned.schedules,
                    changed, rewiring.wired,
                )  # fmt: skip
                self._coming = Coming(event, planned, found, rewiring.links)
                return self._runtime.submit(event)[0]

            return rewiring.do(apply, self.change_remotes)
        finally:
            self._coming = None
            self._lock.release()

    def would_change(self) -> list[str]:
        """What would change if the site file were read anew, a sentence each. Raises as `reload`."""
        return self._rewiring(self._read_anew()[0]).words()

    def _rewiring(self, fresh: Site) -> Rewiring:
        wired = difference(self._runtime.site, fresh)
        if wired.fixed:
            raise CallerError(
                "reload",
                f"The site file says otherwise of its {wired.fixed[0]} than when the service was started.",
                f"That needs a restart. {UNCHANGED}",
            )
        return Rewiring(self._runtime.machine, fresh, wired)

    def _read_anew(self) -> tuple[Site, Planned, Rules]:
        path, _ = self._runtime.site.source
        try:
            fresh = self._again(path)
            planned = read_plan(fresh)
            return fresh, planned, read_rules(fresh, planned)
        except SiteFileError as error:
            first = error.findings[0]
            more = f", and {len(error.findings) - 1} more" if len(error.findings) > 1 else ""
            sentence = f"{path}:{first.line}:{first.column}: {first.what}{more}."
            raise CallerError("site-file", sentence, f"{first.remedy} {UNCHANGED}") from None
