"""Forms of what keeps a service well: backups."""

from __future__ import annotations

from typing import TypedDict

from cairnwind.forms.basic import At, Free


class Backup(TypedDict):
    """A backup file."""

    name: str
    folder: str
    made: At
    bytes: int


class BackupMade(Backup):
    """One that was just made, and the names of those that are gone by the rule."""

    gone: list[str]


class LogLine(TypedDict):
    """A line of the log: an object with `at`, `level`, `part`, `text`, and what else there is to say."""

    number: int
    line: Free


class LogLines(TypedDict):
    """Lines of the log, and the levels of its parts."""

    lines: list[LogLine]
    levels: dict[str, str]
