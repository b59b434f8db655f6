"""What keeps a service well: backups."""

from __future__ import annotations

import os
from pathlib import Path
from urllib.parse import quote

from cairnwind import forms
from cairnwind.client.wire import Wire


class Keeping(Wire):
    """Backups of the site."""

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
