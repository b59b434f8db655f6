"""What keeps a service well: backups, its log, and all that is known of it for who looks into it."""

from __future__ import annotations

import os
from pathlib import Path
from urllib.parse import quote

from cairnwind import forms
from cairnwind.client.wire import Wire


class Keeping(Wire):
    """Backups of the site, and its log."""

    def back_up(self) -> forms.BackupMade:
        """Make a backup now, where the site file says; ``gone`` are those that went by its rule."""
        return self.patiently("POST", "/backups")

    def backups(self) -> list[forms.Backup]:
        """Those that are there, the newest first."""
        return self.call("GET", "/backups")

    def fetch_backup(self, name: str, to: Path) -> None:
        """Write one to a file here, which is there once it is whole."""
        part = to.with_name(f"{to.name}.part")
        try:
            with part.open("wb") as out:
                os.fchmod(out.fileno(), 0o600)
                self.patiently("GET", f"/backups/{quote(name, safe='')}", out)
            part.replace(to)
        finally:
            part.unlink(missing_ok=True)

    def log(self, after: int = 0) -> forms.LogLines:
        """The last lines of the log, or those after a number; and the levels of its parts."""
        return self.call("GET", f"/log?after={after}")

    def set_log(self, level: str, part: str = "cairnwind") -> dict[str, str]:
        """Have a part of the log say what is at least as grave, until the service ends; returns the levels of all."""
        levels: dict[str, str] = self.call("PUT", "/log/levels", {"level": level, "part": part})["levels"]
        return levels

    def metrics(self) -> str:
        """Figures as OpenMetrics."""
        return self.call("GET", "/metrics", root=True, text=True)
