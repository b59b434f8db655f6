"""From a site file to a service that runs, and to its clean end.

The order matters: the folder is held, every output is told its safe setting, and only then the store is read
and HTTP is loaded at all.
"""

from __future__ import annotations

import gc
import json
import logging
import os
import signal
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from cairnwind.core.errors import CallerError
from cairnwind.core.model import Site
from cairnwind.folder import Folder
from cairnwind.service.runtime import Runtime

if TYPE_CHECKING:
    from cairnwind.service.keys import Keys
    from cairnwind.service.server import Server

log = logging.getLogger("cairnwind")


class Service:
    """One site, served. Also used in process, by tests and benchmarks."""

    def __init__(self, site: Site, folder: Folder, port: int | None = None) -> None:
        """``port`` 0 takes a free one; None the site file's."""
        self.site = site
        self.folder = folder
        self.runtime = Runtime(site)
        self.host, self.port = site.listen
        if port is not None:
            self.port = port
        self.keys: Keys
        self._server: Server | None = None
        self.safe_after = 0.0
        """Seconds (monotonic clock) at which every output had been told its safe setting."""

    @property
    def url(self) -> str:
        """Where it listens."""
        host = f"[{self.host}]" if ":" in self.host else self.host
        return f"http://{host}:{self.port}"

    def start(self) -> None:
        """Hold the folder, make safe, read the store, listen. Raises `CallerError`; then nothing is left open."""
        self.folder.hold()
        try:
            self.runtime.make_safe()
            self.safe_after = time.monotonic()
            self.runtime.start(self.folder.database)
            self._listen()
        except BaseException:
            self.folder.let_go()
            raise
        # what is there now stays: no need to look through it again and again
        gc.collect()
        gc.freeze()
        gc.set_threshold(10_000, 20, 50)
        self.folder.write_address({"url": self.url, "pid": os.getpid(), "site": self.site.name, "safe_at": self.safe_after})
        log.info("serving %s at %s, state in %s", self.site.name, self.url, self.folder.path)

    def _listen(self) -> None:
        # loaded only now: moving to safe waits for nothing, not even for an import
        from cairnwind.service.app import make_app
        from cairnwind.service.keys import Keys
        from cairnwind.service.server import Server

        self.keys = Keys(self.runtime.reader, self.runtime.writer)
        self.first_key = self.keys.first(self.folder)
        server = Server(make_app(self.runtime, self.keys), (self.host, self.port))
        try:
            self.port = server.start()
        except OSError as error:
            self.runtime.shut_down()
            self.runtime.close()
            raise CallerError("port", f"Cannot listen on {self.host}:{self.port}: {error.strerror or error}.", "Stop what listens there, or give another with --port (0 takes a free one).") from None
        self._server = server

    def sign_in_link(self) -> str:
        """A one-time link to the console."""
        return f"{self.url}/#sign-in={self.keys.new_link(self.first_key)}"

    def stop(self) -> list[str]:
        """Everything safe, then the end. Returns the outputs that were not confirmed safe."""
        left = self.runtime.shut_down()
        if self._server is not None:
            self._server.stop()
        clean = self.runtime.close()
        self.folder.let_go()
        for name in left:
            log.error("%s was not confirmed safe", name)
        if not clean:
            log.error("the last rows of the journal could not be written")
        log.info("stopped: %d of %d outputs confirmed safe", len(self.site.outputs) - len(left), len(self.site.outputs))
        return left


def run(service: Service, started: Callable[[Service], None], ended: Callable[[list[str]], None]) -> int:
    """Serve until SIGINT or SIGTERM; returns the exit code. Prints nothing by itself."""
    over = threading.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: over.set())
    service.start()
    started(service)
    while not over.wait(1.0):
        if not service.runtime.alive:
            log.critical("the engine has stopped by itself: %s", service.runtime.failure)
            break
    left = service.stop()
    ended(left)
    return 0 if not left and not service.runtime.failure else 1


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
        return json.dumps(form, ensure_ascii=False)


def log_to(path: Path | None) -> None:
    """Structured logs to a file, or to stderr."""
    handler: logging.Handler = logging.FileHandler(path, encoding="utf-8") if path else logging.StreamHandler(sys.stderr)
    handler.setFormatter(JsonLines())
    root = logging.getLogger("cairnwind")
    root.handlers[:] = [handler]
    root.setLevel(logging.INFO)
    root.propagate = False
