"""Trying out bare pins: begun, renewed and ended, and journalled.

`cairnwind.core.state.trials` knows what may be tried.
"""

from __future__ import annotations

from cairnwind.core.facts import events as ev
from cairnwind.core.facts.interlocks import Refusal
from cairnwind.core.facts.trials import Trial
from cairnwind.core.rules.stop import of_the_site
from cairnwind.core.state.turn import Turn


def attempt(turn: Turn, event: ev.TryPin) -> None:
    """Try a bare pin; a renewal is neither numbered nor journalled."""
    pin, trials = event.pin, turn.state.trials
    board = turn.state.boards.get(pin.board)
    if board is None:
        turn.refuse(
            event, turn.number(), Refusal("name", "the site has no such board", "See: cairnwind look.")
        )
        return
    refusal = of_the_site(turn.state.in_force) or trials.refusal(pin, event.mode, event.millihertz)
    word = "refused"
    if refusal is None and not board.up:
        word = "unreachable"
        refusal = Refusal("link", f"board {board.name} does not answer: {board.reason}", "See to the board.")
    if refusal is None and not turn.recording and event.parts:
        refusal = turn.no_journal()
    if refusal is not None:
        turn.refuse(event, turn.number(), refusal, word=word)
        return
    ends = event.at.mono + event.span
    trial = Trial(pin, event.mode, event.source, ends, event.parts, event.millihertz, event.pull)
    sequence = turn.sequence
    if trials.put(trial):
        sequence = turn.number()
        turn.effect(ev.Work(pin.board, pin.line, trial), ev.Changed("board", pin.board))
        data = {"verb": "try", "pin": pin.name, "mode": event.mode}
        turn.record(sequence, "command", pin.name, f"trying {pin.both}: {trial.text}", event, data)
    turn.mono.set(trial.ends, "trial", pin.board, str(pin.line))
    turn.done(event, sequence, trial.text, sure=True)


def end(turn: Turn, event: ev.EndTry) -> None:
    """Somebody lets a pin go."""
    pin = event.pin
    sequence = turn.number()
    trial = turn.state.trials.take(pin.board, pin.line)
    text = f"{pin.both} is let go" if trial else f"nothing is being tried on {pin.both}"
    if trial is not None:
        turn.effect(ev.Work(pin.board, pin.line, None), ev.Changed("board", pin.board))
    turn.record(sequence, "command", pin.name, text, event, {"verb": "end-try", "pin": pin.name})
    turn.done(event, sequence, text, sure=True)


def failed(turn: Turn, event: ev.TrialFailed) -> None:
    """A link cannot do what was to be tried."""
    if event.board not in turn.state.boards:
        return  # it has left the site since
    end_trials(turn, f"not possible: {event.reason}", event.board, event.line)
    turn.state.trials.failures[event.board, event.line] = event.reason


def due(turn: Turn, board: str, line: str) -> None:
    """A lease has run out, unless it was renewed."""
    trial = turn.state.trials.standing.get((board, int(line)))
    if trial is not None and trial.ends <= turn.now.mono:
        end_trials(turn, "whoever tried it did not renew it", board, int(line))


def end_trials(turn: Turn, why: str, board: str = "", line: int | None = None) -> None:
    """End all trials of bare pins, or those of a board, or that of a line."""
    trials = turn.state.trials
    for name, number in list(trials.standing):
        if (board and name != board) or (line is not None and number != line):
            continue
        trial = trials.take(name, number)
        assert trial is not None
        turn.effect(ev.Work(name, number, None), ev.Changed("board", name))
        turn.note("trial", trial.pin.name, f"the trial of {trial.pin.both} ended: {why}", {"why": why})
