"""Orders to a simulated board that takes its time: each is carried out when it is due, offs first, the newest one for an output."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Sequence

from cairnwind.core.facts import events as ev


class Slow:
    """``carry_out`` is called in a thread of its own, which begins with the first order."""

    def __init__(self, name: str, carry_out: Callable[[ev.Drive], None]) -> None:
        self._name, self._carry_out = name, carry_out
        self._orders: dict[str, tuple[int, ev.Drive]] = {}
        self._wake = threading.Condition()
        self._thread: threading.Thread | None = None
        self._closed = False

    def put(self, orders: Sequence[ev.Drive], delay: int) -> None:
        """Have these carried out after ``delay`` nanoseconds; a newer order for an output replaces an older one."""
        with self._wake:
            due = time.monotonic_ns() + delay
            for order in orders:
                self._orders.pop(order.output, None)
                self._orders[order.output] = (due, order)
            if self._thread is None:
                self._thread = threading.Thread(target=self._work, name=self._name, daemon=True)
                self._thread.start()
            self._wake.notify()

    def drop(self) -> None:
        """Forget what is not carried out yet."""
        with self._wake:
            self._orders.clear()

    def close(self) -> None:
        """End the thread; what is not carried out yet never is."""
        with self._wake:
            self._closed = True
            self._wake.notify()
        if self._thread is not None:
            self._thread.join()

    def _work(self) -> None:
        while True:
            with self._wake:
                while not self._closed and (not self._orders or self._next() > time.monotonic_ns()):
                    self._wake.wait((self._next() - time.monotonic_ns()) / 1e9 if self._orders else None)
                if self._closed:
                    return
                name = min(
                    self._orders, key=lambda each: (self._orders[each][0], self._orders[each][1].setting.on)
                )
                _, order = self._orders.pop(name)
            self._carry_out(order)

    def _next(self) -> int:
        return min(due for due, _ in self._orders.values())
