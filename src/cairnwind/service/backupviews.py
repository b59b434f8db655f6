"""HTTP for backups: make one, list them, fetch one."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from flask import Response, send_file

from cairnwind.service.asked import answer, json_body
from cairnwind.service.desk import Desk
from cairnwind.store.backups import Backup


class BackupViews:
    """The views; `cairnwind.service.app` has the way in."""

    def __init__(self, desk: Desk) -> None:
        self.desk = desk

    def routes(self, v1: str) -> dict[str, dict[str, Callable[..., Any]]]:
        """Their addresses."""
        return {
            f"{v1}/backups": {"GET": self.list, "POST": self.make},
            f"{v1}/backups/<name>": {"GET": self.fetch},
        }

    def list(self) -> Response:
        """Those that are there."""
        return answer([_form(each) for each in self.desk.runtime.backups.all()])

    def make(self) -> Response:
        """One now."""
        json_body(set(), empty=True)
        made, gone = self.desk.runtime.backups.make()
        return answer({**_form(made), "gone": [each.name for each in gone]}, 201)

    def fetch(self, name: str) -> Response:
        """The file itself."""
        found = self.desk.runtime.backups.find(name)
        return send_file(found.path, mimetype="application/zip", as_attachment=True, download_name=name)


def _form(backup: Backup) -> dict[str, Any]:
    return {
        "name": backup.path.name,
        "folder": str(backup.path.parent),
        "made": backup.made.isoformat(),
        "bytes": backup.bytes,
    }
