"""Trying out bare pins while the engine decides. A part of the engine, in a file of its own.

`cairnwind.core.facts.trials` says what may be tried; here it is begun, renewed and ended, and journalled.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from cairnwind.core.facts import events as ev
from cairnwind.core.facts.interlocks import Refusal
from cairnwind.core.facts.trials import Trial, Trials

if TYPE_CHECKING:
    from cairnwind.core.engine.loop import Engine


class BarePins:
    """See the module's page."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self.trials = Trials(engine.site)

    def attempt(self, event: ev.TryPin) -> None:
        """Try a bare pin; a renewal is neither numbered nor journalled."""
        engine, pin = self._engine, event.pin
        board = engine.board_now(pin.board)
        refusal = engine.keeper.site_refusal() or self.trials.refusal(pin, event.mode, event.millihertz)
        word = "refused"
        if refusal is None and not board.up:
            word = "unreachable"
            refusal = Refusal(
                "link", f"board {board.name} does not answer: {board.reason}", "See to the board."
            )
        if refusal is None and not engine.recording and event.parts:
            refusal = engine.no_journal()
        if refusal is not None:
            engine.refuse(event, engine.number(), refusal, word=word)
            return
        ends = event.at.mono + event.span
        trial = Trial(pin, event.mode, event.source, ends, event.parts, event.millihertz, event.pull)
        sequence = engine.sequence
        if self.trials.put(trial):
            sequence = engine.number()
            engine.effect(ev.Work(pin.board, pin.line, trial))
            engine.effect(ev.Changed("board", pin.board))
            data = {"verb": "try", "pin": pin.name, "mode": event.mode}
            engine.record(sequence, "command", pin.name, f"trying {pin.both}: {trial.text}", event, data)
        engine.mono.set(trial.ends, "trial", pin.board, str(pin.line))
        engine.effect(ev.Outcome(event.command, sequence, "driving", "", trial.text))

    def end(self, event: ev.EndTry) -> None:
        """Somebody lets a pin go."""
        engine, pin = self._engine, event.pin
        sequence = engine.number()
        trial = self.trials.take(pin.board, pin.line)
        text = f"{pin.both} is let go" if trial else f"nothing is being tried on {pin.both}"
        if trial is not None:
            engine.effect(ev.Work(pin.board, pin.line, None))
            engine.effect(ev.Changed("board", pin.board))
        engine.record(sequence, "command", pin.name, text, event, {"verb": "end-try", "pin": pin.name})
        engine.effect(ev.Outcome(event.command, sequence, "driving", "", text))

    def failed(self, event: ev.TrialFailed) -> None:
        """A link cannot do what was to be tried."""
        self.end_all(f"not possible: {event.reason}", event.board, event.line)
        self.trials.failures[event.board, event.line] = event.reason

    def due(self, board: str, line: str) -> None:
        """A lease has run out, unless it was renewed."""
        trial = self.trials.standing.get((board, int(line)))
        if trial is not None and trial.ends <= self._engine.now.mono:
            self.end_all("whoever tried it did not renew it", board, int(line))

    def end_all(self, why: str, board: str = "", line: int | None = None) -> None:
        """End all trials, or those of a board, or that of a line."""
        engine = self._engine
        for name, number in list(self.trials.standing):
            if (board and name != board) or (line is not None and number != line):
                continue
            trial = self.trials.take(name, number)
            assert trial is not None
            engine.effect(ev.Work(name, number, None))
            engine.effect(ev.Changed("board", name))
            text = f"the trial of {trial.pin.both} ended: {why}"
            engine.record(engine.number(), "trial", trial.pin.name, text, None, {"why": why})
