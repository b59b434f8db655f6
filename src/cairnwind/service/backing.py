"""Backups of a site that is served: made when somebody asks and at the time of day that the site file says, old ones gone by its rule."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

from cairnwind.boards.devices import Found
from cairnwind.core.facts.site import Site
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import NS
from cairnwind.service.logs import log
from cairnwind.site import beside
from cairnwind.store import backups
from cairnwind.store.backups import Backup

FOLDER = "backups"
AGAIN = 3600 * NS
"""Nanoseconds until one that failed is tried again."""


class Backups:
    """Where they are, and when the next is due."""

    def __init__(self, database: Path, site: Callable[[], Site]) -> None:
        self._database, self._site = database, site
        self._lock = threading.Lock()
        self._tried = 0
        self.trouble = ""
        """Why the last one could not be made; empty where it could."""

    @property
    def folder(self) -> Path:
        """Where they are."""
        told = self._site().backup_to
        return Path(told) if told else self._database.parent / FOLDER

    def all(self) -> list[Backup]:
        """Those that are there, the newest first."""
        return backups.found(self.folder)

    def find(self, name: str) -> Backup:
        """The one of this name. Raises `CallerError`."""
        for each in self.all():
            if each.path.name == name:
                return each
        raise CallerError(
            "unknown-name",
            f"There is no backup called '{name}' in {self.folder}.",
            "See: cairnwind backup --list",
        )

    def make(self, now: datetime | None = None) -> tuple[Backup, list[Path]]:
        """Make one now: that, and those that are gone by the rule. Raises `CallerError` (``backup``); (``busy``) where one is being made."""
        if not self._lock.acquire(blocking=False):
            raise CallerError(
                "busy",
                "A backup is being made already.",
                "Ask again when it is there: cairnwind backup --list",
            )
        try:
            site, folder, now = self._site(), self.folder, now or datetime.now(UTC)
            path = Path(site.source[0])
            files = beside.files(site, path) if path.exists() else {}
            made = backups.make(self._database, site.name, files, path.name, folder, now)
            gone = backups.prune(folder, *site.backup_keeps)
            self.trouble = ""
            log.info("a backup was made: %s", made.path)
            return made, gone
        except CallerError as error:
            self.trouble = str(error)
            raise
        except OSError as error:
            self.trouble = f"Old backups in {self.folder} could not be taken away: {error.strerror}."
            raise CallerError("backup", self.trouble, f"See its rights: ls -ld {self.folder}") from None
        finally:
            self._lock.release()

    def due(self, wall: int) -> bool:
        """Whether that of today, or of yesterday where today's time has not come, is still to be made."""
        site = self._site()
        if site.backup_at is None or wall < self._tried + AGAIN:
            return False
        now = datetime.fromtimestamp(wall / NS, ZoneInfo(site.timezone))
        time = now.replace(hour=site.backup_at // 60, minute=site.backup_at % 60, second=0, microsecond=0)
        last = next((each.made for each in self.all()), None)
        return last is None or last < (time if time <= now else time - timedelta(days=1))

    def look(self) -> Iterator[Found]:
        """How they are, for who examines the service."""
        if self.trouble:
            yield Found(False, f"The last backup was not made: {self.trouble}", "Then type: cairnwind backup")
            return
        last = next(iter(self.all()), None)
        if last is not None:
            yield Found(
                True, f"{self.folder} has backups; the last was made on {last.made:%Y-%m-%d %H:%M} UTC."
            )
        else:
            yield Found(
                None,
                "There is no backup of this site.",
                'cairnwind backup makes one; each day: backup_at = "03:30" in [service].',
            )

    def turn(self, wall: int) -> None:
        """Make it where it is due; what goes wrong is logged, shown, and tried again in an hour."""
        if not self.due(wall):
            return
        self._tried = wall
        try:
            self.make(datetime.fromtimestamp(wall / NS, UTC))
            self._tried = 0
        except CallerError as error:
            log.error("the backup of today was not made: %s", error)
