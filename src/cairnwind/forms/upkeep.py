"""Forms of what keeps a service well: backups."""

from __future__ import annotations

from typing import TypedDict

from cairnwind.forms.basic import At


class Backup(TypedDict):
    """A backup file."""

    name: str
    folder: str
    made: At
    bytes: int


class BackupMade(Backup):
    """One that was just made, and the names of those that are gone by the rule."""

    gone: list[str]
