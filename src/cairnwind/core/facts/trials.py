"""Bare pins that are tried out: pins that no output and no input owns, each under a lease.

A trial is not a claim: there is no output that could have one. But it obeys the same gates (all-stop, start,
stop, lost link), and when it ends, however it ends, its pin is let go.
"""

from __future__ import annotations

from cairnwind.core.facts.claims import Source
from cairnwind.core.facts.hardware import Pin
from cairnwind.core.facts.site import Site
from cairnwind.core.values.fact import fact
from cairnwind.core.values.settings import frequency

MODES = ("output", "pwm", "tone", "input", "analogue", "count")
NEEDS = {"pwm": "pwm", "tone": "tone", "analogue": "analogue"}
"""The function that a mode asks of its pin; the others work on any line."""
PULLS = ("none", "up", "down")


@fact
class Trial:
    """What is being tried on one pin."""

    pin: Pin
    mode: str
    source: Source
    ends: int
    """Monotonic nanoseconds."""
    parts: int = 0
    """Of an output or PWM: how much of the time the pin is high, in parts per million."""
    millihertz: int = 0
    pull: str = "none"

    @property
    def text(self) -> str:
        """What is tried, in words."""
        at = f" at {frequency(self.millihertz)}" if self.millihertz else ""
        match self.mode:
            case "output":
                return "output, " + ("high" if self.parts else "low")
            case "pwm":
                return f"pwm, {self.parts / 10_000:.10g} % high{at}"
            case "tone":
                return f"tone{at}"
            case "analogue":
                return "analogue"
            case _:
                pulled = f", pull-{self.pull}" if self.pull != "none" else ""
                return f"{'input' if self.mode == 'input' else 'counting edges'}{pulled}"


def owner(site: Site, pin: Pin) -> str:
    """Who owns a pin: 'output gallery', 'input kiln-door', 'board path' that it enables, or nobody."""
    for kind, things in (("output", site.outputs), ("input", site.inputs)):
        for thing in things.values():
            if thing.pin.board == pin.board and pin.line in thing.lines:
                return f"{kind} {thing.name}"
    for board in site.boards.values():
        if board.enable is not None and (board.enable.pin.board, board.enable.pin.line) == (
            pin.board,
            pin.line,
        ):
            return f"board {board.name}"
    return ""
