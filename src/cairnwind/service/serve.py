"""From a site file to a service that runs, and to its clean end.

The order matters: the folder is held, every output is told its safe setting, and only then the store is read
and HTTP is loaded at all.
"""

from __future__ import annotations

import gc
import os
import select
import signal
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from cairnwind.core.facts.site import LOOPBACK, Site
from cairnwind.core.values.errors import CallerError
from cairnwind.folder import Folder
from cairnwind.optional import needs
from cairnwind.remotes.address import near, outside
from cairnwind.service import notify
from cairnwind.service.startup import Machine

if TYPE_CHECKING:
    from cairnwind.remotes.remote import Remote
    from cairnwind.service.desk import Desk
    from cairnwind.service.keys import Keys
    from cairnwind.service.runtime import Runtime
    from cairnwind.service.server import Server
    from cairnwind.service.ways import Ways


class Service:
    """One site, served. Also used in process, by tests and benchmarks."""

    def __init__(
        self,
        site: Site,
        folder: Folder,
        port: int | None = None,
        again: Callable[[str, str], Site] | None = None,
    ) -> None:
        """``port`` 0 takes a free one; None the site file's. ``again`` reads a text of the site file, and what that is called, as it was read."""
        self._again = again
        self.folder = folder
        self.machine = Machine(site, secret=folder.secret)
        self.host, self.port = site.listen
        if port is not None:
            self.port = port
        self.runtime: Runtime
        self.keys: Keys
        self.desk: Desk
        self._server: Server
        self._ways: Ways
        self.certificate: Path | None = None
        """Of its TLS; None: it is plain."""
        self.discoverable = False
        """Announce it although it listens on loopback only: for what looks for it on this host."""
        self.safe_at = 0.0
        """Monotonic seconds at which every output had been told its safe setting."""

    @property
    def site(self) -> Site:
        """The site as it is wired now."""
        return self.machine.site

    @property
    def remotes(self) -> list[Remote]:
        """The ways in and out that are open."""
        return self._ways.all if hasattr(self, "_ways") else []

    @property
    def url(self) -> str:
        """Where it is found on this host."""
        host = near(self.host)
        return (
            f"{'https' if self.certificate else 'http'}://{f'[{host}]' if ':' in host else host}:{self.port}"
        )

    @property
    def abroad(self) -> bool:
        """Whether it is reached from elsewhere."""
        return self.host not in LOOPBACK

    def start(self) -> None:
        """Hold the folder, make safe, read the store, listen. Raises `CallerError`; then nothing is left open."""
        try:
            self.folder.hold()
        except CallerError as error:
            if error.code == "folder":  # nobody else has it: what is wired is safe all the same
                self.machine.make_safe()
                self.machine.close()
            raise
        try:
            self.machine.make_safe()
            self.safe_at = time.monotonic()
            self._load()
        except BaseException:
            self.machine.close()
            self.folder.let_go()
            raise
        # what is there now stays: no need to look through it again and again
        gc.collect()
        gc.freeze()
        gc.set_threshold(10_000, 20, 50)
        address = {
            "url": self.url, "pid": os.getpid(), "site": self.site.name, "safe_at": self.safe_at,
            "certificate": str(self.certificate) if self.certificate else None,
        }  # fmt: skip
        self.folder.write_address(address)

    def _load(self) -> None:
        """The rest, loaded only now: moving to safe waits for nothing, not even for an import."""
        from cairnwind.service.app import make_app
        from cairnwind.service.desk import Desk
        from cairnwind.service.door import Door
        from cairnwind.service.haste import hasty
        from cairnwind.service.keys import Keys
        from cairnwind.service.runtime import Runtime
        from cairnwind.service.server import Behind, Server
        from cairnwind.service.ways import Ways
        from cairnwind.service.wire import Wire

        self.runtime = Runtime(self.machine, self._again)
        self.runtime.start(self.folder.database)
        try:
            self.keys = Keys(self.runtime.reader, self.runtime.writer, lambda: self.runtime.site.timezone)
            self.first_key = self.keys.first(self.folder)
            assert self.runtime.stream is not None
            self.keys.expel, self.keys.disown = self.runtime.stream.expel, self.runtime.disown
            self.runtime.stream.still = self.keys.still
            self.desk = Desk(self.runtime, self.keys)
            behind = Behind(self.site.behind, self.site.proxies) if self.site.behind else None
            own = (behind.host.partition(":")[0],) if behind is not None else ()
            door = Door(self.desk, self.host, lambda: (*self.runtime.site.names, *own))
            wire = Wire(self.desk)
            self._ways = Ways(self.site, self.desk, self.folder)
            self._ways.all.append(wire)
            self.runtime.reloading.change_remotes, self.runtime.reloading.called = (
                self._ways.change,
                self._ways.called,
            )
            app = make_app(self.desk, door, wire, self.remotes)
            self._server = Server(app, (self.host, self.port), self._secure(), hasty(self.site), behind)
            self.port = self._server.start()
            wire.address = self.url
            self._ways.start()
            self._announce()
        except OSError as error:
            self._end_remotes()
            self.runtime.close()
            raise CallerError(
                "port",
                f"Cannot listen on {self.host}:{self.port}: {error.strerror or error}.",
                "Stop what listens there, or give another with --port (0 takes a free one).",
            ) from None
        except BaseException:
            self._end_remotes()
            if hasattr(self, "_server"):
                self._server.stop()
            self.runtime.close()
            raise

    def _secure(self) -> Any:
        """The TLS that the site file asks for; None: plain."""
        if self.site.tls not in ("self-made", "given"):
            return None
        from cairnwind.service import tls

        if self.site.tls == "given":
            certificate, key = (Path(each) for each in self.site.certificate)
        else:
            certificate, key = tls.own(self.folder, self.site.name, self.site.names, self.host)
        self.certificate = certificate
        return tls.adapter(certificate, key)

    def _announce(self) -> None:
        """Be found by those who look, unless nobody elsewhere could come."""
        if not (self.abroad or self.discoverable):
            return
        from cairnwind.service.logs import log

        try:
            needs("discovery", "To be found on the network")
        except CallerError as error:
            log.warning("%s", error)
            return
        from cairnwind.remotes.discovery import Discovery

        found = Discovery(self.desk, self.host, self.port, secure=self.certificate is not None)
        self.remotes.append(found)
        found.start()

    def _end_remotes(self) -> None:
        if hasattr(self, "_ways"):
            self._ways.stop()

    def sign_in_link(self) -> str:
        """A one-time link to the console, for whoever may reach it."""
        return f"{outside(self.site, self.url)}/#sign-in={self.keys.new_link(self.first_key)}"

    def stop(self) -> list[str]:
        """Everything safe, then the end. Returns the outputs that were not confirmed safe."""
        from cairnwind.service.logs import log

        if self.runtime.alive:
            left = self.runtime.shut_down()
        else:
            self.machine.force_safe()
            left = list(self.site.outputs)
        self._end_remotes()
        self._server.stop()
        if not self.runtime.close():
            log.error("the last rows of the journal could not be written")
        self.machine.close()
        self.folder.let_go()
        if left:
            log.error("not confirmed safe: %s", ", ".join(left))
        total = len(self.site.outputs)
        log.info("stopped: %d of %d outputs confirmed safe", total - len(left), total)
        return left


class _Asked:
    """What signals ask for. Their handlers take no lock, as an `Event` would: one that comes while another is handled waited for itself, for ever."""

    def __init__(self) -> None:
        self.again = self._over = False
        self._file = os.eventfd(0, os.EFD_NONBLOCK | os.EFD_CLOEXEC)
        for number in (signal.SIGINT, signal.SIGTERM):
            signal.signal(number, self._end)
        signal.signal(signal.SIGHUP, self._anew)

    def _end(self, number: int, frame: object) -> None:
        self._over = True
        os.eventfd_write(self._file, 1)

    def _anew(self, number: int, frame: object) -> None:
        self.again = True
        os.eventfd_write(self._file, 1)

    def to_end(self, seconds: float) -> bool:
        """Whether it is to end; waits until something is asked for, or so long."""
        if not self._over:
            poller = select.poll()
            poller.register(self._file, select.POLLIN)
            if poller.poll(seconds * 1000):
                os.eventfd_read(self._file)
        return self._over


def run(
    service: Service,
    started: Callable[[Service], None],
    ended: Callable[[list[str]], None],
    log_file: str | None,
) -> int:
    """Serve until SIGINT or SIGTERM; returns the exit code. Prints nothing by itself."""
    asked = _Asked()
    service.start()
    from cairnwind.service.logs import log, log_to

    left: list[str] = []
    try:
        try:
            log_to(log_file)
        except OSError as error:
            log_to(None)
            log.error("the log cannot be written to %s: %s", log_file, error.strerror)
        log.info("serving %s at %s, state in %s", service.site.name, service.url, service.folder.path)
        started(service)
        notify.tell(notify.READY, f"STATUS=serving {service.site.name} at {service.url}")
        threading.Thread(target=_look_over, args=(service,), name="check", daemon=True).start()
        while not asked.to_end(1.0):
            if asked.again:
                asked.again = False
                _reload(service)
            if not service.runtime.alive:
                log.critical("the engine has stopped by itself: %s", service.runtime.failure)
                break
            if service.machine.fresh():
                notify.tell(notify.TURNS)
    finally:
        notify.tell(notify.STOPPING)
        left = service.stop()
    ended(left)
    return 0 if not left and not service.runtime.failure else 1


def _look_over(service: Service) -> None:
    """What the check finds in the rules that are served: a line in the log for each."""
    from cairnwind.core.explain.checking import check
    from cairnwind.service.logs import log

    runtime = service.runtime
    try:
        answers = check(runtime.site, runtime.rules, runtime.planned.schedules, time.time_ns())
    except Exception:
        log.exception("the rules could not be checked")
        return
    for each in answers:
        if each.verdict == "found":
            log.warning("%s (to see it: %s)", each.what, each.example)


def _reload(service: Service) -> None:
    """SIGHUP: the site file anew, or a line in the log that says why not; and a first key, if its file is gone."""
    from cairnwind.core.facts.claims import Source
    from cairnwind.service.logs import log

    service.keys.first(service.folder)
    try:
        outcome = service.runtime.reloading.reload(Source("signal", "", "keep"))
        log.info("%s", outcome.reason)
        _look_over(service)
    except CallerError as error:
        log.error("not reloaded: %s", error)
