"""Ctrl-C that is never lost: what runs until it is interrupted ends, wherever the signal came in."""

from __future__ import annotations

import signal
import time
from types import FrameType, TracebackType


class Interrupts:
    """While it is entered, SIGINT raises `KeyboardInterrupt` as ever and is remembered in ``asked`` too.

    An exception that comes up inside a callback of a library may be swallowed there; a loop that looks at ``asked`` ends all the
    same. Leaving it by `KeyboardInterrupt` is an end in good order, unless ``ends`` is False: then it is an interruption
    however it was left.
    """

    def __init__(self, *, ends: bool = True) -> None:
        self.asked = False
        self._ends = ends

    def __enter__(self) -> Interrupts:
        self._before = signal.signal(signal.SIGINT, self._interrupted)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> bool:
        signal.signal(signal.SIGINT, self._before)
        if self.asked and kind is None and not self._ends:
            raise KeyboardInterrupt
        return kind is KeyboardInterrupt and self._ends

    def _interrupted(self, number: int, frame: FrameType | None) -> None:
        self.asked = True
        raise KeyboardInterrupt

    def sleep(self, seconds: float) -> None:
        """Wait, unless it was interrupted already."""
        if not self.asked:
            time.sleep(seconds)
