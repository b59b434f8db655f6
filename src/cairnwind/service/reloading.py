"""The site file, read anew while it is served: by whoever asks, one at a time, all of it or nothing."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from typing import NamedTuple, Protocol

from cairnwind.boards.link import Link
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Source
from cairnwind.core.facts.difference import Names, difference
from cairnwind.core.facts.site import Site
from cairnwind.core.language.forms import Rules, changed_outputs
from cairnwind.core.language.schedules import Planned
from cairnwind.core.values.errors import CallerError
from cairnwind.service.editions import Editions, Origin
from cairnwind.service.rewiring import Rewiring, Undo
from cairnwind.service.startup import Machine, clock
from cairnwind.site import SiteFileError
from cairnwind.site.drafting import difference_of, rules_in_words
from cairnwind.site.plans import read_plan
from cairnwind.site.reader import text_of
from cairnwind.site.rules import read_rules
from cairnwind.site.saving import UNCHANGED, Saving

WAITS = 30.0
"""Seconds that somebody waits while the file is read anew for another."""


class Served(Protocol):
    """What is served, and the way to its engine: the runtime."""

    site: Site
    rules: Rules
    planned: Planned
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


class Fresh(NamedTuple):
    """A text of the site file, understood."""

    site: Site
    planned: Planned
    rules: Rules


class Reloading:
    """What is under way of it. The engine's thread takes the other site with `take`."""

    editions: Editions
    """Set once the store is there."""

    def __init__(self, runtime: Served, again: Callable[[str, str], Site]) -> None:
        """``again`` reads a text of the site file, and what that is called, as it was read first."""
        self._runtime, self._again = runtime, again
        self._lock = threading.Lock()
        self._coming: Coming | None = None
        """What the engine is about to take."""
        self.called: Callable[[], None] = lambda: None
        """Called when the site has another name. Set by who has the remotes."""
        self.change_remotes: Callable[[Site, Site, Iterable[str], Iterable[str]], Undo] = lambda *_: (
            lambda: None
        )
        """Ends and starts remotes when the site file asks for others; returns what undoes that. Set by who has them."""

    def take(self, event: ev.Reload) -> Coming | None:
        """What comes with this event; None if whoever wanted it has given up."""
        coming, self._coming = self._coming, None
        return coming if coming is not None and coming.event is event else None

    @property
    def file(self) -> tuple[str, str]:
        """The path of the site file, and its text as it is served."""
        return self._runtime.site.source

    def reload(self, source: Source) -> ev.Outcome:
        """Read the site file anew: what is wired, rules, scenes, schedules. All of it or nothing: raises `CallerError` (``site-file``, ``reload``), and then everything is as it was."""
        with self._alone():
            text = text_of(self.file[0])
            return self._do(source, text, Origin(source.who, "reload", "as it was edited by hand"))

    def change(
        self, source: Source, edit: Callable[[str], str], origin: Origin, *, seen: int | None = None, renamed: Names = (),
    ) -> ev.Outcome:  # fmt: skip
        """Write the site file otherwise, and read it anew: all of it or nothing.

        ``edit`` makes the new text from the one that is served; ``seen`` is the edition that whoever asks has seen; ``renamed`` are
        outputs and inputs that are called otherwise. Raises `CallerError` (``site-file``, ``reload``; ``edition`` where somebody else
        has changed the file meanwhile), and then everything is as it was.
        """
        with self._alone():
            self._see(seen)
            path, served = self.file
            saving = Saving(path)
            if saving.text != served:
                error = CallerError(
                    "edition",
                    f"The site file {path} was changed by hand since it was read.",
                    f"Take that in first: cairnwind reload. {UNCHANGED}",
                )
                error.more["difference"] = difference_of(served, saving.text, ("as it is served", "by hand"))
                raise error
            text = edit(served)
            if text == served:
                raise CallerError(
                    "bad-value", "That changes nothing in the site file.", "See: cairnwind draft."
                )
            try:
                return self._do(source, text, origin, saving, renamed)
            finally:
                saving.end()

    def would_change(self, text: str | None = None, renamed: Names = ()) -> list[str]:
        """What would change if the site file were read anew, or if it had this text, a sentence each. Raises as `reload`."""
        path, served = self.file
        text = text_of(path) if text is None else text
        return [*self._rewiring(self._read(text).site, renamed).words(), *rules_in_words(served, text)]

    def would_rewire(self, text: str, renamed: Names = ()) -> list[str]:
        """The same of what is wired alone."""
        return self._rewiring(self._read(text).site, renamed).words()

    @contextmanager
    def _alone(self) -> Iterator[None]:
        if not self._lock.acquire(timeout=WAITS):
            raise CallerError("busy", "The site file is being read anew already.", "Try again in a moment.")
        try:
            yield
        finally:
            self._coming = None
            self._lock.release()

    def _see(self, seen: int | None) -> None:
        """Whether what somebody has seen is what is served."""
        if seen is None or seen == self.editions.number:
            return
        now = self.editions.find(self.editions.number)
        then = self.editions.find(seen)
        error = CallerError(
            "edition",
            f"The site file has changed since edition {seen}: it is edition {now.number} now, by {now.author or 'hand'}.",
            f"See what has changed (cairnwind draft), then apply it to edition {now.number}. {UNCHANGED}",
        )
        error.more["edition"] = now.number
        error.more["difference"] = difference_of(
            then.text, now.text, (f"edition {seen}", f"edition {now.number}")
        )
        raise error

    def _do(
        self, source: Source, text: str, origin: Origin, saving: Saving | None = None, renamed: Names = ()
    ) -> ev.Outcome:
        fresh, before = self._read(text), self._runtime.site.name
        rewiring = self._rewiring(fresh.site, renamed)
        if saving is not None:
            saving.prepare(text)
        changed = tuple(
            name
            for name in changed_outputs(self._runtime.rules, fresh.rules)
            if name in self._runtime.site.outputs and name in fresh.site.outputs
        )
        said = (
            f"edition {self.editions.number + 1} is applied"
            if saving is not None
            else "the site file is read anew"
        )
        if saving is not None and origin.reason:
            said += f" ({origin.reason})"

        def apply() -> ev.Outcome:
            event = ev.Reload(
                clock(), self._runtime.command_id(), source, fresh.site, fresh.rules.interlocks, fresh.rules.reflexes,
                fresh.rules.guards, fresh.planned.schedules, changed, rewiring.wired, said,
            )  # fmt: skip
            self._coming = Coming(event, fresh.planned, fresh.rules, rewiring.links)
            if saving is not None:
                saving.put()
            return self._runtime.submit(event)[0]

        try:
            outcome = rewiring.do(apply, self.change_remotes)
        except BaseException:
            if saving is not None:
                saving.back()
            raise
        if outcome.outcome in ("refused", "not recorded"):
            if saving is not None:
                saving.back()
            return outcome
        self.editions.see(text, clock().wall, origin)
        if fresh.site.name != before:
            self.called()
        return outcome

    def _rewiring(self, fresh: Site, renamed: Names = ()) -> Rewiring:
        wired = difference(self._runtime.site, fresh, renamed)
        if wired.fixed:
            raise CallerError(
                "reload",
                f"The site file says otherwise of its {wired.fixed[0]} than when the service was started.",
                f"That needs a restart. {UNCHANGED}",
            )
        return Rewiring(self._runtime.machine, fresh, wired)

    def _read(self, text: str) -> Fresh:
        path, _ = self.file
        try:
            site = self._again(text, path)
            planned = read_plan(site)
            return Fresh(site, planned, read_rules(site, planned))
        except SiteFileError as error:
            first = error.findings[0]
            more = f", and {len(error.findings) - 1} more" if len(error.findings) > 1 else ""
            sentence = f"{path}:{first.line}:{first.column}: {first.what}{more}."
            raise CallerError("site-file", sentence, f"{first.remedy} {UNCHANGED}") from None
