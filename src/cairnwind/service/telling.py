"""Who is told of what: the picture that readers see, the streams, those who look on, and who waits for what became of a command."""

from __future__ import annotations

import queue
from collections.abc import Callable

from cairnwind.core.engine.loop import Engine
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.site import Site
from cairnwind.service import shapes
from cairnwind.service.snapshot import Publisher, Shown, whole
from cairnwind.service.stream import Stream

Listener = Callable[[list[tuple[str, str]], list[ev.Ended]], None]
"""Called after each batch with what has changed, and what became of commands. It only notes that."""


class Telling:
    """Told by the engine's thread, effect by effect; tells the others after each batch."""

    def __init__(self, site: Site, engine: Engine) -> None:
        self.publisher = Publisher(site, engine)
        self.stream: Stream | None = None
        """All open streams, once the store is there."""
        self.listeners: list[Listener] = []
        self.waiters: dict[str, queue.SimpleQueue[ev.Ended]] = {}
        """By command: who waits for what becomes of it."""
        self._changed: dict[tuple[str, str], None] = {}
        self._ended: list[ev.Ended] = []
        self._afresh = False
        """Another picture is to be told whole."""

    def adopt(self, site: Site) -> None:
        """Another site: readers see it, and streams are sent all of it."""
        self.publisher.adopt(site)
        self._afresh = True

    def open(self) -> None:
        """Streams may be opened from now on."""
        self.stream = Stream(self._picture)

    def close(self) -> None:
        """End all streams."""
        if self.stream is not None:
            self.stream.close()

    def changed(self, effect: ev.Changed) -> None:
        """Something has to be shown anew after this batch."""
        self._changed[effect.kind, effect.name] = None

    def ended(self, effect: ev.Ended) -> None:
        """Something became of a command."""
        self._ended.append(effect)

    def publish(self) -> None:
        """The batch is over: readers see it, and the streams."""
        if not self._changed and not self._ended and not self._afresh:
            return
        told = self.publisher.publish(self._changed)
        told += [Shown("command", ended, shapes.ended_form) for ended in self._ended]
        if self.stream is not None:
            if self._afresh:
                told, self._afresh = [*told, whole(self._picture())], False
            self.stream.tell(told)

    def tell(self) -> None:
        """And so do those who look on, and who wait."""
        if not self._changed and not self._ended:
            return
        changed, ended = list(self._changed), self._ended
        self._changed, self._ended = {}, []
        for take in self.listeners:
            take(changed, ended)
        for each in ended:
            waiter = self.waiters.get(each.command) or self.waiters.get(
                each.command.rpartition(".")[0]
            )  # a phrase waits for its parts
            if waiter is not None:
                waiter.put(each)

    def _picture(self) -> bytes:
        snapshot = self.publisher.current
        return b'{"site":%s,"outputs":%s,"inputs":%s,"boards":%s}' % (
            snapshot.site.body, snapshot.outputs_body(), snapshot.inputs_body(), snapshot.boards_body(),
        )  # fmt: skip
