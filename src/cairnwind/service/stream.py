"""The event stream: each event is encoded once, if anybody reads, and sent to all by one thread of its own.

A stream that has been opened leaves the workers that serve commands: its socket is handed over to this thread.
Events are numbered; a reader that comes back with the last number it saw gets what it missed, as long as that
is still kept, else a whole picture ('afresh'). A reader that falls too far behind is dropped, and comes back
the same way. Under a flood, events leave in bursts some milliseconds apart, so that commands come first.

Who asks for one thing, or one kind of things, is told those alone, each as it reads: for as long as it likes (`Choice`), or once
and then asks again, which is how clients do it that know no streams. What comes between two such questions is kept for the second.
"""

from __future__ import annotations

import secrets
import selectors
import socket
import threading
import time
from collections import Counter, deque
from collections.abc import Callable
from typing import Any, NamedTuple

from cairnwind.service.server import HEADERS
from cairnwind.service.snapshot import Shown
from cairnwind.service.startup import clock

KEPT = 4096
"""Events kept for those who come back."""
BURST_EVERY = 0.02
"""Seconds between the starts of two bursts, as long as events keep coming."""
BEAT = 2.0
"""Seconds between two beats: who follows everything is told that this service still lives, and what time it is here."""
LOOK = 15.0
"""Seconds after which a silent stream of anything else gets a comment, so that both ends notice a dead link."""
MOST = 400
"""Streams at once; then the key that has most of them loses its oldest."""
BEHIND = 1 << 20
"""Bytes that may wait for one reader."""
ASKED_AGAIN, MOST_ASKED = 60.0, 1024
"""Seconds in which somebody asks again to be told what it missed meanwhile; of how many who ask so is kept what they know."""
DRESS = b"".join(b"%s: %s\r\n" % header for header in HEADERS)
"""What every answer has, for those that go past the server."""


KINDS = ("output", "input", "board", "site")
"""Of things that change."""


class Choice(NamedTuple):
    """What somebody is told of, and how."""

    kind: str
    """One of `KINDS`."""
    name: str = ""
    """Which; empty: all of that kind."""
    once: bool = False
    """One answer, and no stream."""

    def has(self, event: Shown) -> bool:
        """Whether an event is among it."""
        return event.kind == self.kind and (not self.name or event.name == self.name)


class Reader:
    """One open stream."""

    __slots__ = ("choice", "ends", "next", "owner", "socket", "waiting", "who")

    def __init__(self, connection: Any, owner: Any, next: int, who: Any, choice: Choice | None) -> None:
        self.socket: socket.socket = connection
        self.owner = owner
        """Whatever has to live as long as the socket."""
        self.who = who
        """Whom it belongs to."""
        self.next = next
        """The number of the next event to send."""
        self.choice = choice
        """None: everything."""
        self.ends = False
        """It has its one answer: once that is sent it is done."""
        self.waiting = b""


class Stream:
    """All open streams, and the events they are sent."""

    def __init__(self, afresh: Callable[[], bytes]) -> None:
        """``afresh`` gives the whole picture as JSON; it is called by whoever hands a stream over."""
        self.still: Callable[[Any], bool] = lambda _: True
        """Whether somebody's streams may go on; asked at every beat."""
        self._expelled: deque[Callable[[Any], bool]] = deque()
        self.epoch = secrets.token_hex(4)
        self._afresh = afresh
        self._events: deque[Shown] = deque(maxlen=KEPT)
        self._end = 0
        """The number that the next event gets."""
        self._lock = threading.Lock()
        self._new: deque[Reader] = deque()
        self._readers: dict[int, Reader] = {}
        self._asked: dict[tuple[Any, Choice], tuple[float, int]] = {}
        """By who asks for one answer after another, and for what: when it got the last, and the number after that."""
        self._selector = selectors.DefaultSelector()
        self._bell, self._ear = socket.socketpair()
        self._bell.setblocking(False)
        self._ear.setblocking(False)
        self._rung = False
        self._selector.register(self._ear, selectors.EVENT_READ, None)
        self._closing = False
        self._thread = threading.Thread(target=self._work, name="event-stream", daemon=True)
        self._thread.start()

    @property
    def count(self) -> int:
        """Streams that are open."""
        return len(self._readers)

    def tell(self, events: list[Shown]) -> None:
        """Send these to all. Called by the engine's thread; costs the same however many read."""
        with self._lock:
            self._events += events
            self._end += len(events)
        if self._readers:
            self._ring()

    def expel(self, whom: Callable[[Any], bool]) -> None:
        """End the streams of all of whom this is true, soon."""
        self._expelled.append(whom)
        self._ring()

    def adopt(
        self, connection: Any, owner: Any, last: str | None, head: bytes, who: Any = None, choice: Choice | None = None,
        now: Callable[[], bytes] | None = None,
    ) -> None:  # fmt: skip
        """Take over a socket: send ``head``, then the events after ``last`` (an event's id), or all afresh.

        With a ``choice`` only what is among it: first what that is like ``now``, if there is a way to tell. Who asks for one answer
        is sent ``head`` with it, and what it missed since its last one comes first.
        """
        connection.setblocking(False)
        epoch, _, number = (last or "").partition(".")
        with self._lock:
            first = self._end - len(self._events)
            known = epoch == self.epoch and number.isdigit() and first <= int(number) + 1 <= self._end
            begin = int(number) + 1 if known else self._end
            if choice is not None and choice.once:
                at, after = self._asked.get((who, choice), (0.0, self._end))
                begin = after if after >= first and at > time.monotonic() - ASKED_AGAIN else self._end
            reader = Reader(connection, owner, begin, who, choice)
        if choice is None:
            reader.waiting = head if known else head + self._picture(reader)
        elif choice.once:
            self._asked[who, choice] = time.monotonic(), begin
            self._forget()
        else:
            reader.waiting = head if known or now is None else head + self._told(begin - 1, now())
        self._new.append(reader)
        self._ring()

    def _forget(self) -> None:
        """Of those who ask for one answer after another only the last are remembered."""
        while len(self._asked) > MOST_ASKED:
            del self._asked[next(iter(self._asked))]

    def close(self) -> None:
        """End all streams."""
        self._closing = True
        self._ring()
        self._thread.join()
        self._selector.close()
        self._bell.close()
        self._ear.close()

    # --- the thread ---------------------------------------------------------------------------------------

    def _work(self) -> None:
        last_burst = 0.0
        beat = look = time.monotonic()
        while True:
            for key, mask in self._selector.select(max(0.0, beat - time.monotonic())):
                if key.data is None:
                    self._hear()
                elif mask & selectors.EVENT_READ and not self._alive(key.data):
                    self._drop(key.data)
                elif mask & selectors.EVENT_WRITE:
                    self._send(key.data)
            if self._closing:
                for reader in [*self._readers.values(), *self._new]:
                    self._drop(reader)
                return
            while self._new:
                reader = self._new.popleft()
                if len(self._readers) >= MOST:
                    self._drop(self._oldest_of_most())
                self._readers[reader.socket.fileno()] = reader
                self._selector.register(reader.socket, selectors.EVENT_READ, reader)
                self._send(reader)
            while self._expelled:
                whom = self._expelled.popleft()
                for reader in list(self._readers.values()):
                    if reader.who is not None and whom(reader.who):
                        self._drop(reader)
            pause = last_burst + BURST_EVERY - time.monotonic()
            if pause > 0:
                time.sleep(pause)
            last_burst = time.monotonic()
            self._burst()
            if last_burst >= beat:
                beat = last_burst + BEAT
                self._say(b'event: beat\ndata: {"at": %d}\n\n' % (clock().wall // 1_000_000), whole=True)
            if last_burst >= look:
                look = last_burst + LOOK
                for reader in list(self._readers.values()):
                    if reader.who is not None and not self.still(reader.who):
                        self._drop(reader)
                self._say(b": here\n\n", whole=False)

    def _say(self, said: bytes, *, whole: bool) -> None:
        """Tell all who follow everything, or all others, that somebody is here."""
        for reader in list(self._readers.values()):
            once = reader.choice is not None and reader.choice.once
            if not reader.waiting and not once and (reader.choice is None) == whole:
                reader.waiting = said
                self._send(reader)

    def _oldest_of_most(self) -> Reader:
        """Of the key that has most streams, the one that was opened first."""
        keys = Counter(getattr(reader.who, "key", "") for reader in self._readers.values())
        most = keys.most_common(1)[0][0]
        return next(reader for reader in self._readers.values() if getattr(reader.who, "key", "") == most)

    def _burst(self) -> None:
        joined: dict[int, tuple[bytes, int]] = {}
        for reader in list(self._readers.values()):
            if reader.next == self._end or reader.waiting:
                continue
            if reader.choice is not None:
                self._choose(reader, reader.choice)
                continue
            if reader.next not in joined:
                joined[reader.next] = self._after(reader.next)
            chunk, end = joined[reader.next]
            if not chunk:  # fell out of what is kept
                self._drop(reader)
                continue
            reader.waiting, reader.next = chunk, end
            self._send(reader)

    def _choose(self, reader: Reader, choice: Choice) -> None:
        """Tell somebody what it asked for, of what came since it was told last."""
        with self._lock:
            end, missed = self._end, self._end - reader.next
            if missed > len(self._events):  # fell out of what is kept
                self._drop(reader)
                return
            events = [self._events[at] for at in range(-missed, 0)]
        found = [(number, event) for number, event in enumerate(events, reader.next) if choice.has(event)]
        reader.next = end
        if not found:
            return
        if choice.once:
            number, event = found[0]
            self._asked[reader.who, choice] = time.monotonic(), number + 1
            reader.ends = True
            head = f"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Length: {len(event.body)}\r\nConnection: close\r\n"
            reader.waiting = head.encode() + DRESS + b"\r\n" + event.body
        else:
            reader.waiting = b"".join([self._told(number, event.body) for number, event in found])
        self._send(reader)

    def _told(self, number: int, body: bytes) -> bytes:
        """A message without a name, which is a thing as it reads."""
        return b"id: %s.%d\ndata: %s\n\n" % (self.epoch.encode(), number, body)

    def _after(self, first: int) -> tuple[bytes, int]:
        """The events from a number on, as they are sent, and the number after them; nothing if they are no longer kept."""
        with self._lock:
            end, missed = self._end, self._end - first
            events = [self._events[at] for at in range(-missed, 0)] if missed <= len(self._events) else []
        return b"".join([self._frame(number, event) for number, event in enumerate(events, first)]), end

    def _frame(self, number: int, event: Shown) -> bytes:
        return b"id: %s.%d\nevent: %s\ndata: %s\n\n" % (
            self.epoch.encode(), number, event.kind.encode(), event.body
        )  # fmt: skip

    def _send(self, reader: Reader) -> None:
        try:
            sent = reader.socket.send(reader.waiting) if reader.waiting else 0
        except (BlockingIOError, InterruptedError):
            sent = 0
        except OSError as error:
            # a TLS socket says 'want read/write' where a plain one blocks
            if type(error).__name__ not in ("SSLWantReadError", "SSLWantWriteError"):
                self._drop(reader)
                return
            sent = 0
        was_waiting = bool(reader.waiting)
        reader.waiting = reader.waiting[sent:]
        if len(reader.waiting) > BEHIND:
            self._drop(reader)
            return
        if reader.ends and not reader.waiting:
            self._drop(reader)
            return
        mask = selectors.EVENT_READ | (selectors.EVENT_WRITE if reader.waiting else 0)
        if was_waiting and self._selector.get_key(reader.socket).events != mask:
            self._selector.modify(reader.socket, mask, reader)
        if not reader.waiting and reader.next != self._end:
            self._ring()

    def _alive(self, reader: Reader) -> bool:
        try:
            return bool(reader.socket.recv(4096))
        except (BlockingIOError, InterruptedError):
            return True
        except OSError as error:
            return type(error).__name__ in ("SSLWantReadError", "SSLWantWriteError")

    def _drop(self, reader: Reader) -> None:
        number = reader.socket.fileno()
        if self._readers.pop(number, None) is not None:
            self._selector.unregister(reader.socket)
        try:
            reader.socket.shutdown(socket.SHUT_RDWR)
        except OSError:
            pass  # the other side was quicker
        reader.socket.close()

    def _picture(self, reader: Reader) -> bytes:
        return b"id: %s.%d\nevent: afresh\ndata: %s\n\n" % (
            self.epoch.encode(),
            reader.next - 1,
            self._afresh(),
        )

    def _ring(self) -> None:
        if not self._rung:
            self._rung = True
            try:
                self._bell.send(b"!")
            except OSError:
                pass  # full: it has been rung; closed: nobody is there to hear

    def _hear(self) -> None:
        try:
            self._ear.recv(4096)
        except OSError:
            pass
        self._rung = False
