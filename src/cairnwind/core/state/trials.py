"""The trials of bare pins that stand, and what may be tried, whatever the gates say."""

from __future__ import annotations

from collections.abc import Callable

from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.facts.interlocks import Refusal
from cairnwind.core.facts.site import Site
from cairnwind.core.facts.trials import NEEDS, Trial, owner
from cairnwind.core.values.settings import frequency


class Trials:
    """The trials that stand, by board and line. Changed by the engine only."""

    def __init__(self, site: Site) -> None:
        self.site = site
        self.standing: dict[tuple[str, int], Trial] = {}
        self.timers: dict[tuple[str, int], str] = {}
        """Timers that boards have told of, by board and line; a map tells of the others."""
        self.failures: dict[tuple[str, int], str] = {}
        """Why the last trial of a pin came to nothing, in the board's words."""

    def refusal(self, pin: Pin, mode: str, millihertz: int) -> Refusal | None:
        """Why this pin may not be tried so, whatever the gates say."""
        board = self.site.boards[pin.board]
        owned = owner(self.site, pin)
        if owned:
            kind, _, name = owned.partition(" ")
            how = {
                "output": f"Use it by its name: cairnwind turn {name}.",
                "input": f"Use it by its name: cairnwind watch {name}.",
                "board": "It is what enables that board, and nothing else may move it.",
            }[kind]
            return Refusal("owner", f"{pin.both} belongs to {owned}", how)
        need = NEEDS.get(mode)
        can = board.can(pin.line)
        if need and can is not None and need not in can:
            free = self._free(board, lambda line: need in (board.can(line) or ()))
            what = "analogue input" if need == "analogue" else "PWM"
            remedy = (
                f"Free pins of {board.name} that have it: {', '.join(free)}."
                if free
                else f"No free pin of {board.name} has it."
            )
            return Refusal("pin", f"{pin.both} has no {what}", remedy)
        return self.shared_timer(pin, millihertz, "") if mode in ("pwm", "tone") else None

    def _free(self, board: Board, able: Callable[[int], bool]) -> list[str]:
        pins = [board.pin(line) for line in board.lines if able(line)]
        return [pin.position or f"line-{pin.line}" for pin in pins if not owner(self.site, pin)]

    def shared_timer(self, pin: Pin, millihertz: int, own: str) -> Refusal | None:
        """Why ``pin`` may not have this frequency: another pin of its timer has another one.

        ``own`` is the output that asks, which may change its own.
        """
        board = self.site.boards[pin.board]
        timer = self._timer(board, pin.line)
        if not timer:
            return None
        others = {
            output.name: round(output.frequency * 1000)
            for output in self.site.outputs.values()
            if output.frequency
            and output.name != own
            and output.pin.board == board.name
            and any(self._timer(board, line) == timer for line in output.lines if output.modulates(line))
        }
        for trial in self.standing.values():
            if (
                trial.mode in ("pwm", "tone")
                and trial.pin.board == board.name
                and trial.pin.line != pin.line
                and self._timer(board, trial.pin.line) == timer
            ):
                others[f"the trial on {trial.pin.name}"] = trial.millihertz
        for name, theirs in others.items():
            if theirs != millihertz:
                free = self._free(board, lambda line: self._timer(board, line) not in ("", timer))
                elsewhere = f", or try a pin of another timer: {', '.join(free)}" if free else ""
                return Refusal(
                    "timer",
                    f"{pin.name} shares timer {timer} with {name}, and so one frequency: {frequency(theirs)}",
                    f"Try it at {frequency(theirs)}{elsewhere}.",
                )
        return None

    def _timer(self, board: Board, line: int) -> str:
        return board.timer(line) or self.timers.get((board.name, line), "")

    def put(self, trial: Trial) -> bool:
        """Take a trial; True if it is more than a renewal."""
        at = (trial.pin.board, trial.pin.line)
        before = self.standing.get(at)
        self.standing[at] = trial
        self.failures.pop(at, None)
        return before is None or (before.text, before.source) != (trial.text, trial.source)

    def take(self, board: str, line: int) -> Trial | None:
        """End a trial."""
        return self.standing.pop((board, line), None)
