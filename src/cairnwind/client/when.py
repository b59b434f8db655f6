"""Being told when something becomes so, beside whatever else a program does: ``site.when("kiln-door becomes open", tell)``."""

from __future__ import annotations

import logging
import re
import threading
from collections.abc import Callable
from types import TracebackType
from typing import TYPE_CHECKING, Any

from cairnwind.core.values.errors import Trouble

if TYPE_CHECKING:
    from cairnwind.client.wire import Wire

log = logging.getLogger("cairnwind.client")
AGAIN = 0.5
"""Seconds before a service that was lost is asked again."""


class When:
    """A condition that is looked at whenever anything changes, in a thread of its own.

    ``tell`` is called, by that thread, each time that the condition becomes so: with the condition in words. It is called one time
    after the other; what it raises is logged. Nothing is called after `stop`, which waits for a call that is under way.
    """

    def __init__(self, site: Wire, condition: str, tell: Callable[[str], Any]) -> None:
        """Raises `CallerError` at once where the condition is not understood."""
        self.condition = condition
        self._site, self._tell = site, tell
        self._question = re.sub(r"\bbecomes\b", "is", condition)
        self._so = self._is_so()
        self._over = False
        self._closes: Callable[[], None] = lambda: None
        self._thread = threading.Thread(target=self._look, name="cairnwind-when", daemon=True)
        self._thread.start()

    def stop(self) -> None:
        """Look no more. May be called by ``tell`` itself."""
        self._over = True
        self._closes()
        if threading.current_thread() is not self._thread:
            self._thread.join()

    def __enter__(self) -> When:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.stop()

    def _look(self) -> None:
        pause = threading.Event()
        while not self._over:
            try:
                for _ in self._site.changes(again=False, opened=self._opened):
                    if self._over:
                        return
                    self._ask()
            except Trouble as error:
                if not self._over:
                    log.warning("when %s: %s", self.condition, error)
            if not self._over:
                pause.wait(AGAIN)

    def _opened(self, close: Callable[[], None]) -> None:
        self._closes = close
        if self._over:
            close()

    def _is_so(self) -> bool | None:
        so: bool | None = self._site.call("POST", "/questions", {"question": self._question})["so"]
        return so

    def _ask(self) -> None:
        so = self._is_so()
        began, self._so = so is True and self._so is False, so if so is not None else self._so
        if not began or self._over:
            return
        try:
            self._tell(self.condition)
        except Exception:
            log.exception("when %s: what was to be done failed", self.condition)
