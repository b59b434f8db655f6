"""Who stands at the HTTP door: a request is shown to a worker only when all of it has come.

Connections that say nothing, half of a request, or half of a handshake cost an entry here, and no worker. Each has a time for
its handshake and head, and one for its body; heads and bodies have a size, and all that has come of requests that are not whole
has one together. When there are too many connections, those go that wait longest with nothing whole, of the address that has most.

What lets go, takes off or stops does not stand in line with the rest: it has workers of its own (`Express`), of which there are
always enough.
"""

from __future__ import annotations

import errno
import io
import logging
import os
import queue
import re
import resource
import selectors
import socket
import ssl
import threading
import time
from collections import Counter, deque
from collections.abc import Callable
from functools import partial
from typing import Any

from cheroot.connections import ConnectionManager
from cheroot.server import HTTPConnection

log = logging.getLogger("cairnwind.http")
HEAD_WITHIN, BODY_WITHIN, IDLE = 10.0, 20.0, 30.0
"""Seconds for the handshake and the head, for the body, and between two requests."""
WRITE_WITHIN = 10.0
"""Seconds for whoever is answered to take some of it."""
LARGEST_HEAD, LARGEST_BODY, MOST_HELD = 64 << 10, 4 << 20, 64 << 20
"""Bytes: of a head, of a body, and of all requests together that are not whole."""
MOST_CONNECTIONS = 512
LOOK_EVERY = 0.5
"""Seconds between looks for whose time is over."""
_LENGTH = re.compile(rb"\r\ncontent-length:[ \t]*([^\r\n]*)", re.IGNORECASE)
_CHUNKED = re.compile(rb"\r\ntransfer-encoding:[^\r\n]*chunked", re.IGNORECASE)
_EXPECTS = re.compile(rb"\r\nexpect:[ \t]*100-continue", re.IGNORECASE)
_CHUNK = re.compile(rb"([0-9a-fA-F]{1,8})[^\r\n]{0,200}\r\n")


class Whole(io.BytesIO):
    """One request, as a file to be read."""

    @property
    def bytes_read(self) -> int:
        """How much of it was read."""
        return self.tell()

    def has_data(self) -> bool:
        """Whether there is more of it."""
        return self.tell() < len(self.getbuffer())


class Connection(HTTPConnection):
    """A connection: what has come of its next request, and since when."""

    def __init__(self, server: Any, sock: Any, makefile: Callable[..., Any]) -> None:
        super().__init__(
            server, sock, lambda sock, mode, size: Whole() if "r" in mode else makefile(sock, mode, size)
        )
        self.come = bytearray()
        self.body_from = 0
        """Where its body begins, once its head has come."""
        self.since = time.monotonic()
        """When its request began, or it fell idle."""
        self.shaken = not isinstance(sock, ssl.SSLSocket)
        """Its handshake is done."""
        self.given = False
        """It belongs to somebody else now: whoever streams."""
        self.closed = False
        self.busy = False
        """A worker has its request: until that is answered nobody else has another one of it."""
        self.parked = False
        """It is not listened to, since more came while it was busy."""
        self.address = ""
        self.left: Callable[[], None] = _nothing
        """Called once, when it is closed or given away."""

    def close(self) -> None:
        """Close, unless it belongs to somebody else now. Never raises: whoever answers would end by that, and the server with it."""
        if self.given or self.closed:
            return
        self.closed = True
        self._leave()
        try:
            super().close()
        except (OSError, ValueError):
            self.socket.close()  # the other side was quicker

    def give(self) -> None:
        """It belongs to somebody else from now on."""
        self.given = True
        self._leave()

    def _leave(self) -> None:
        left, self.left = self.left, _nothing
        left()

    def hung_up(self) -> bool:
        """Whether the other side has gone while a worker has its request."""
        if self.closed or not self.parked:
            return self.closed
        try:
            return not socket.socket.recv(self.socket, 1, socket.MSG_PEEK | socket.MSG_DONTWAIT)
        except OSError as error:
            return not isinstance(error, BlockingIOError)

    @property
    def begun(self) -> bool:
        """Whether anything of a request has come, or its handshake is still to be done."""
        return bool(self.come) or not self.shaken

    def ends(self) -> float:
        """When its time is over."""
        if not self.begun and self.requests_seen:
            return self.since + IDLE
        return self.since + (BODY_WITHIN if self.body_from else HEAD_WITHIN)


def _nothing() -> None:
    """Nobody counts it."""


class Refused(Exception):
    """A request that is answered at the door: its status line."""


def whole(conn: Connection) -> int:
    """How long the request is that has come, 0 while it is not whole. Raises `Refused`."""
    come = conn.come
    if not conn.body_from:
        end = come.find(b"\r\n\r\n")
        if end > LARGEST_HEAD or (end < 0 and len(come) > LARGEST_HEAD):
            raise Refused("431 Request Header Fields Too Large")
        if end < 0:
            return 0
        conn.body_from = end + 4
        conn.since = time.monotonic()
    begin = conn.body_from
    head = bytes(come[:begin])
    lengths, chunked = _LENGTH.findall(head), _CHUNKED.search(head)
    if len(lengths) > bool(not chunked):
        raise Refused("400 Bad Request")  # where it ends would depend on who reads it
    if chunked:
        return _chunks(come, begin)
    length = lengths[0].strip() if lengths else b"0"
    if not length.isdigit():
        return begin  # whoever reads it says so
    if len(length) > 12 or int(length) > LARGEST_BODY:
        raise Refused("413 Request Entity Too Large")
    return begin + int(length) if len(come) >= begin + int(length) else 0


def _chunks(come: bytearray, at: int) -> int:
    """Where a body in chunks ends (RFC 9112, 7.1); 0 while it has not."""
    total = 0
    while True:
        chunk = _CHUNK.match(come, at)
        if chunk is None:
            if come.find(b"\r\n", at) >= 0 or len(come) - at > 300:
                raise Refused("400 Bad Request")
            return 0
        size = int(chunk[1], 16)
        total += size
        if total > LARGEST_BODY:
            raise Refused("413 Request Entity Too Large")
        at = chunk.end() + size + 2
        if size == 0:  # trailers are not taken
            if bytes(come[chunk.end() : chunk.end() + 2]) not in (b"", b"\r", b"\r\n"):
                raise Refused("400 Bad Request")
            return at if len(come) >= at else 0
        if len(come) < at:
            return 0


class Express:
    """Workers that are there for what must not wait: one more whenever all are busy."""

    LEAST, MOST = 2, 64
    LINGER = 30.0
    """Seconds after which one that nobody needed goes."""

    def __init__(self, done: Callable[[Connection], None]) -> None:
        """``done`` takes back what is to be kept open."""
        self._done = done
        self._waiting: queue.SimpleQueue[Connection | None] = queue.SimpleQueue()
        self._lock = threading.Lock()
        self._idle = self._all = 0
        self._over = False

    def start(self) -> None:
        """Be ready."""
        for _ in range(self.LEAST):
            self._hire()

    def _hire(self) -> None:
        with self._lock:
            self._all += 1
        threading.Thread(target=self._work, name="http-express", daemon=True).start()

    def put(self, conn: Connection) -> None:
        """Have it answered now."""
        with self._lock:
            enough = self._idle > self._waiting.qsize() or self._all >= self.MOST
        if not enough:
            self._hire()
        self._waiting.put(conn)

    def stop(self) -> None:
        """No more."""
        self._over = True
        for _ in range(self._all):
            self._waiting.put(None)

    def _work(self) -> None:
        while not self._over:
            with self._lock:
                self._idle += 1
            try:
                conn = self._waiting.get(timeout=self.LINGER)
            except queue.Empty:
                conn = None
            with self._lock:
                self._idle -= 1
                if conn is None and (self._over or self._all > self.LEAST):
                    self._all -= 1
                    return
            if conn is not None:
                self._answer(conn)

    def _answer(self, conn: Connection) -> None:
        stays = False
        try:
            stays = bool(conn.communicate())  # type: ignore[no-untyped-call]
        except Exception:
            log.exception("a request could not be answered")
        finally:
            if stays:
                self._done(conn)
            else:
                conn.close()


class Doorman(ConnectionManager):
    """Takes the place of the server's own keeper of connections; runs in the thread that listens."""

    def __init__(self, server: Any, urgent: Callable[[bytes, bytes], bool]) -> None:
        """``urgent`` says by the head and the body of a request whether it goes before all others."""
        self.server = server
        self._urgent = urgent
        self._selector = selectors.DefaultSelector()
        self._listening = server.socket
        self._listening.setblocking(False)
        self._selector.register(self._listening, selectors.EVENT_READ, None)
        self._back: deque[Connection] = deque()
        """Those that workers have given back."""
        self._bell, self._ear = socket.socketpair()
        self._bell.setblocking(False)
        self._ear.setblocking(False)
        self._selector.register(self._ear, selectors.EVENT_READ, None)
        self._here: dict[int, Connection] = {}
        """By descriptor: all but those that were given away."""
        self._held = 0
        """Bytes that have come of requests that are not whole."""
        self._lock = threading.Lock()
        """Held while that is counted: a connection may be closed by any thread."""
        self._most = min(MOST_CONNECTIONS, resource.getrlimit(resource.RLIMIT_NOFILE)[0] // 2)
        self._serving = self._stop_requested = False
        self.express = Express(self.put)
        self.express.start()

    # --- for the server and its workers -----------------------------------------------------------------------

    def put(self, conn: Connection) -> None:
        """Wait for the next request of a connection, from any thread."""
        conn.requests_seen += 1
        conn.since, conn.body_from = time.monotonic(), 0
        conn.busy = False  # it is listened to all the time; what comes now is heard
        if conn.come or conn.parked or (isinstance(conn.socket, ssl.SSLSocket) and conn.socket.pending()):
            self._back.append(conn)  # some of its next request has come already
            self._ring()

    def _ring(self) -> None:
        try:
            self._bell.send(b"!")
        except OSError:
            pass  # it rings already, or nobody is there to hear

    def stop(self) -> None:
        """End `run`, and wait until it has ended."""
        self._stop_requested = True
        self._ring()
        while self._serving:
            time.sleep(0.01)

    def close(self) -> None:
        """Close everything that waits."""
        self.express.stop()
        for conn in [*self._here.values(), *self._back]:
            conn.close()
        self._selector.close()
        self._bell.close()
        self._ear.close()

    @property
    def can_add_keepalive_connection(self) -> bool:
        """There is always room: whoever waits longest goes."""
        return True

    # --- the thread that listens ------------------------------------------------------------------------------

    def _run(self, expiration_interval: float) -> None:
        look = time.monotonic() + LOOK_EVERY
        while not self._stop_requested:
            for key, _ in self._selector.select(LOOK_EVERY):
                if key.fileobj is self._listening:
                    self._welcome()
                elif key.fileobj is self._ear:
                    self._ear.recv(4096)
                else:
                    self._hear(key.data)
            while self._back:
                self._keep(self._back.popleft())
            now = time.monotonic()
            if now >= look:
                look = now + LOOK_EVERY
                for conn in [
                    each for each in list(self._here.values()) if not each.busy and each.ends() <= now
                ]:
                    self._time_out(conn)

    def _welcome(self) -> None:
        for _ in range(64):
            try:
                sock, address = self._listening.accept()
            except BlockingIOError:
                return  # that was all
            except OSError as error:
                if error.errno in (errno.EMFILE, errno.ENFILE):
                    self._make_room(None)
                return
            sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            makefile, env, adapter = _plain, {}, self.server.ssl_adapter
            if adapter is not None:
                try:
                    sock, env = adapter.wrap(sock)
                except OSError:
                    continue
                makefile = adapter.makefile
            sock.settimeout(WRITE_WITHIN)  # for whoever answers: what is read here has come already
            conn = Connection(self.server, sock, makefile)
            conn.address = conn.remote_addr = str(address[0])
            conn.remote_port = address[1]
            conn.ssl_env = env
            conn.left = partial(self._leave, conn, sock.fileno())
            self._here[sock.fileno()] = conn
            self._selector.register(sock, selectors.EVENT_READ, conn)
            if len(self._here) > self._most:
                self._make_room(conn)

    def _leave(self, conn: Connection, number: int) -> None:
        """It is closed, or given away; called by whichever thread does that."""
        if self._here.pop(number, None) is not None:
            self._hold(-len(conn.come))
            self._deaf(conn)

    def _hold(self, size: int) -> None:
        with self._lock:
            self._held += size

    def _make_room(self, newest: Connection | None) -> None:
        """Let one go: of the address that has most here, whoever waits longest."""
        here = [conn for conn in list(self._here.values()) if conn is not newest and not conn.busy]
        counts = Counter(conn.address for conn in here)
        if counts:
            most = counts.most_common(1)[0][0]
            min((conn for conn in here if conn.address == most), key=lambda conn: conn.since).close()
        elif newest is not None:
            newest.close()

    def _keep(self, conn: Connection) -> None:
        """One that was answered, and whose next request has come already, some of it at least."""
        if conn.busy or conn.closed:
            return  # it has been heard meanwhile, or has gone
        if conn.parked:
            conn.parked = False
            self._selector.register(conn.socket, selectors.EVENT_READ, conn)
        if conn.come:
            self._take(conn)
        else:
            self._hear(conn)

    def _hear(self, conn: Connection) -> None:
        """Something has come, or the other side has gone."""
        if conn.busy:
            conn.parked = True
            self._deaf(conn)
            return
        if not conn.shaken:
            try:
                conn.socket.setblocking(False)
                conn.socket.do_handshake()
            except ssl.SSLWantReadError:
                self._await(conn, selectors.EVENT_READ)
                return
            except ssl.SSLWantWriteError:
                self._await(conn, selectors.EVENT_WRITE)
                return
            except OSError as error:
                self._no_tls(conn, error)
                return
            conn.shaken = True
            self._await(conn, selectors.EVENT_READ)
        first = not conn.come
        try:
            part = self._read(conn)
        except OSError:
            part = b""
        if not part:
            if part is not None:
                conn.close()  # the other side has gone, or has said all that it will say
            return
        conn.come += part
        self._hold(len(part))
        if first:
            conn.since = time.monotonic()
        self._take(conn)

    @staticmethod
    def _read(conn: Connection) -> bytes | None:
        """What has come, without waiting; None if that is nothing."""
        if not isinstance(conn.socket, ssl.SSLSocket):
            try:
                return os.read(conn.socket.fileno(), 65536)
            except BlockingIOError:
                return None
        conn.socket.setblocking(False)
        found = b""
        try:
            while len(found) < 1 << 20 and (part := conn.socket.recv(65536)):
                found += part
            return found
        except (BlockingIOError, ssl.SSLWantReadError, ssl.SSLWantWriteError):
            return found or None

    def _take(self, conn: Connection) -> None:
        """Show a request to a worker if it is whole, and none has one of this connection."""
        if conn.busy or conn.closed:
            return
        had_head = bool(conn.body_from)
        try:
            size = whole(conn)
        except Refused as error:
            self._refuse(conn, str(error))
            return
        if not size:
            if conn.body_from and not had_head and _EXPECTS.search(bytes(conn.come[: conn.body_from])):
                self._say(conn, b"HTTP/1.1 100 Continue\r\n\r\n")
            if self._held > MOST_HELD:
                self._refuse(
                    max(
                        (each for each in list(self._here.values()) if not each.busy),
                        key=lambda each: len(each.come),
                        default=conn,
                    ),
                    "503 Service Unavailable",
                )
            return
        head = _EXPECTS.sub(b"", bytes(conn.come[: conn.body_from]))  # it was told, or has not waited
        rest = bytes(conn.come[conn.body_from : size])
        del conn.come[:size]
        self._hold(-size)
        conn.rfile = Whole(head + rest)
        conn.busy = True
        if isinstance(conn.socket, ssl.SSLSocket):
            conn.socket.settimeout(WRITE_WITHIN)
        if self._urgent(head, rest):
            self.express.put(conn)
        else:
            self.server.process_conn(conn)

    # --- those that go ----------------------------------------------------------------------------------------

    def _await(self, conn: Connection, event: int) -> None:
        self._selector.modify(conn.socket, event, conn)

    def _deaf(self, conn: Connection) -> None:
        """What comes from it is not heard."""
        try:
            self._selector.unregister(conn.socket)
        except (KeyError, ValueError, OSError):
            pass  # it was not

    def _time_out(self, conn: Connection) -> None:
        if conn.come:
            self._refuse(conn, "408 Request Timeout")
        else:
            conn.close()

    def _refuse(self, conn: Connection, status: str) -> None:
        self._say(conn, f"HTTP/1.1 {status}\r\nContent-Length: 0\r\nConnection: close\r\n\r\n".encode())
        conn.close()

    def _no_tls(self, conn: Connection, error: OSError) -> None:
        """No handshake: who speaks plainly is told that, in plain words."""
        if "HTTP_REQUEST" in str(error):
            text = b"This address is for https only."
            head = (
                b"HTTP/1.1 400 Bad Request\r\nContent-Type: text/plain\r\nContent-Length: %d\r\nConnection: close\r\n\r\n"
                % len(text)
            )
            try:
                socket.socket.send(conn.socket, head + text)
            except OSError:
                pass
        conn.close()

    @staticmethod
    def _say(conn: Connection, text: bytes) -> None:
        try:
            conn.socket.send(text)
        except OSError:
            pass  # who does not take it has not asked for it


def _plain(sock: Any, mode: str, size: int) -> Any:
    from cheroot.makefile import MakeFile

    return MakeFile(sock, mode, size)
