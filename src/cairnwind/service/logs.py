"""Structured logs: one JSON object a line."""

from __future__ import annotations

import itertools
import json
import logging
import sys
import time
from collections import deque

from cairnwind import oneid
from cairnwind.core.values.errors import CallerError, unknown
from cairnwind.core.values.visible import escaped

log = logging.getLogger("cairnwind")
LEVELS = {"debug": logging.DEBUG, "info": logging.INFO, "warning": logging.WARNING, "error": logging.ERROR}
KEPT = 1000
"""Lines that may be asked for while the service runs."""


class JsonLines(logging.Formatter):
    """One JSON object a line."""

    def format(self, record: logging.LogRecord) -> str:
        """The record as JSON; secrets are never logged, so nothing is filtered here."""
        form = {
            "at": time.strftime("%Y-%m-%dT%H:%M:%S", time.gmtime(record.created)) + f".{record.msecs:03.0f}Z",
            "level": record.levelname.lower(), "part": record.name, "text": record.getMessage(),
        }  # fmt: skip
        if request := oneid.current():
            form["request"] = request
        form |= getattr(record, "more", {})
        if record.exc_info:
            form["trace"] = self.formatException(record.exc_info)
        return escaped(json.dumps(form, ensure_ascii=False))  # a log is read on terminals


class Recent(logging.Handler):
    """The last lines, by their numbers, for whoever asks the service."""

    def __init__(self) -> None:
        super().__init__()
        self.setFormatter(JsonLines())
        self._lines: deque[tuple[int, str]] = deque(maxlen=KEPT)
        self._numbers = itertools.count(1)

    def emit(self, record: logging.LogRecord) -> None:
        """Keep it."""
        self._lines.append((next(self._numbers), self.format(record)))

    def after(self, number: int) -> list[tuple[int, str]]:
        """Those after a number that are still kept."""
        return [each for each in self._lines.copy() if each[0] > number]


recent = Recent()
"""Of this process."""


def parts() -> dict[str, str]:
    """The parts that say something, each with the level from which on it does."""
    names = {level: name for name, level in LEVELS.items()}
    known = {name for name in logging.root.manager.loggerDict if name.partition(".")[0] == log.name}
    return {
        name: names.get(logging.getLogger(name).getEffectiveLevel(), "critical") for name in sorted(known)
    }


def set_level(part: str, level: str) -> None:
    """Have a part, and those below it, say what is at least as grave; until the service ends. Raises `CallerError`."""
    if level not in LEVELS:
        raise CallerError("bad-value", f"'{level}' is no level of the log.", f"Levels: {', '.join(LEVELS)}.")
    if part not in parts():
        raise unknown("part of the log", part, parts())
    for name in parts():
        if name == part or name.startswith(f"{part}."):
            logging.getLogger(name).setLevel(LEVELS[level])


def log_to(path: str | None) -> None:
    """Structured logs to a file, or to stderr."""
    handler: logging.Handler = (
        logging.FileHandler(path, encoding="utf-8") if path else logging.StreamHandler(sys.stderr)
    )
    handler.setFormatter(JsonLines())
    root = logging.getLogger("cairnwind")
    root.handlers[:] = [handler, recent]
    root.setLevel(logging.INFO)
    root.propagate = False
    # a library that warns of bytes which somebody sent does it by the root logger: nobody fills this host's terminal with that
    logging.getLogger().addHandler(logging.NullHandler())
