"""The remotes that are open, and how they change with the site file: those that are as they were go on."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from cairnwind.core.facts.site import Site
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.fact import replace
from cairnwind.folder import Folder
from cairnwind.remotes import opened
from cairnwind.remotes.remote import Remote
from cairnwind.service.desk import Desk
from cairnwind.service.logs import log

Undo = Callable[[], None]


class Ways:
    """Owns the list; whoever shows it looks at it, and only this changes it."""

    def __init__(self, site: Site, desk: Desk, folder: Folder) -> None:
        self._desk, self._folder = desk, folder
        self.all: list[Remote] = opened(site, desk, desk.runtime, folder)

    def start(self) -> None:
        """Start all. Raises `CallerError` for what only the site file can mend."""
        for remote in self.all:
            remote.start()

    def stop(self) -> None:
        """End all, whatever becomes of one."""
        for remote in self.all:
            _stop(remote)

    def change(self, old: Site, new: Site, gone: Iterable[str], come: Iterable[str]) -> Undo:
        """End the remotes of these names, and start those; returns what undoes that. Raises `CallerError`, and then all is as it was."""
        ended = self._end(gone)
        started: list[Remote] = []

        def undo() -> None:
            for remote in started:
                self._take(remote)
            self._begin(old, ended)

        try:
            for remote in self._made(new, come):
                started.append(remote)
                self.all.append(remote)
                remote.start()
        except CallerError:
            undo()
            raise
        return undo

    def called(self) -> None:
        """The site has another name: whoever announces it does so by that."""
        for remote in self.all:
            if remote.kind == "discovery":
                _stop(remote)
                remote.start()

    def _end(self, names: Iterable[str]) -> list[str]:
        found = [remote for remote in self.all if remote.name in names]
        for remote in found:
            self._take(remote)
        return [remote.name for remote in found]

    def _take(self, remote: Remote) -> None:
        self.all.remove(remote)
        _stop(remote)

    def _begin(self, site: Site, names: Iterable[str]) -> None:
        for remote in self._made(site, names):
            self.all.append(remote)
            try:
                remote.start()
            except CallerError as error:
                remote.trouble = f"it could not be started again: {error.sentence}"
                log.error("%s could not be started again: %s", remote.name, error)

    def _made(self, site: Site, names: Iterable[str]) -> list[Remote]:
        told = tuple(each for each in site.remotes if each.name in names)
        some = replace(site, remotes=told, broker=None)
        return opened(some, self._desk, self._desk.runtime, self._folder, site.broker)


def _stop(remote: Remote) -> None:
    try:
        remote.stop()
    except Exception:
        log.exception("%s did not stop", remote.name)
