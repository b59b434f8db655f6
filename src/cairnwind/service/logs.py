"""Structured logs: one JSON object a line."""

from __future__ import annotations

import json
import logging
import sys
import time

from cairnwind.core.values.visible import escaped

log = logging.getLogger("cairnwind")


class JsonLines(logging.Formatter):
    """One JSON object a line."""

    def format(self, record: logging.LogRecord) -> str:
        """The record as JSON; secrets are never logged, so nothing is filtered here."""
        form = {
            "at": time.strftime("%Y-%m-%dT%H:%M:%S", time.gmtime(record.created)) + f".{record.msecs:03.0f}Z",
            "level": record.levelname.lower(), "part": record.name, "text": record.getMessage(),
        }  # fmt: skip
        if record.exc_info:
            form["trace"] = self.formatException(record.exc_info)
        return escaped(json.dumps(form, ensure_ascii=False))  # a log is read on terminals


def log_to(path: str | None) -> None:
    """Structured logs to a file, or to stderr."""
    handler: logging.Handler = (
        logging.FileHandler(path, encoding="utf-8") if path else logging.StreamHandler(sys.stderr)
    )
    handler.setFormatter(JsonLines())
    root = logging.getLogger("cairnwind")
    root.handlers[:] = [handler]
    root.setLevel(logging.INFO)
    root.propagate = False
    # a library that warns of bytes which somebody sent does it by the root logger: nobody fills this host's terminal with that
    logging.getLogger().addHandler(logging.NullHandler())
