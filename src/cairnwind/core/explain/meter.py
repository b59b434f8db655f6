"""What an output has done: how long it was on, how often it was switched on, and the energy of its stated load."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from cairnwind.core.facts.load import power
from cairnwind.core.facts.outputs import Output
from cairnwind.core.values.quantities import NS
from cairnwind.core.values.settings import Setting


class Done(NamedTuple):
    """Nanoseconds on, times switched on, joules (0 where no load is stated)."""

    on: int = 0
    switchings: int = 0
    joules: float = 0.0

    def plus(self, other: Done) -> Done:
        """Both together."""
        return Done(self.on + other.on, self.switchings + other.switchings, self.joules + other.joules)


class Meter:
    """Adds up for one output; told whenever its setting changes, and to close a period."""

    __slots__ = ("_at", "_joules", "_on", "_span", "_switchings", "_watts", "output")

    def __init__(self, output: Output) -> None:
        self.output = output
        self._span = self._switchings = 0
        self._joules = 0.0
        self._at: int | None = None
        self._on = False
        self._watts = 0.0

    @property
    def done(self) -> Done:
        """What was done up to when it was last told anything."""
        return Done(self._span, self._switchings, self._joules)

    def see(self, wall: int, setting: Setting | None) -> None:
        """From now on (wall nanoseconds) it is at a setting; None: nobody knows, which counts as off."""
        self.close(wall)
        on = setting is not None and setting.on
        if on and not self._on:
            self._switchings += 1
        self._on = on
        self._watts = power(self.output, setting) if on and setting is not None else 0.0

    def along(self, wall: int, length: int, samples: Sequence[tuple[bool, float]]) -> None:
        """From ``wall`` on it went through these, (on, watts) each, for equal parts of ``length``; it is at the last of them then."""
        for number, (on, watts) in enumerate(samples):
            self.close(wall + length * number // len(samples))
            if on and not self._on:
                self._switchings += 1
            self._on, self._watts = on, watts if on else 0.0

    def close(self, wall: int) -> None:
        """Count up to now."""
        if self._on and self._at is not None and wall > self._at:
            self._span += wall - self._at
            self._joules += self._watts * (wall - self._at) / NS
        self._at = wall

    def take(self, wall: int) -> Done:
        """What was done since this was last asked, up to now."""
        self.close(wall)
        done = self.done
        self._span = self._switchings = 0
        self._joules = 0.0
        return done
