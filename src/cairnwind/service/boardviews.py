"""HTTP for boards and their pins: what is there, what goes over the wire, and trying a bare pin."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

from flask import Response

from cairnwind.boards import wire
from cairnwind.boards.link import Link
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Rank, lease
from cairnwind.core.facts.model import Board, Input, Output
from cairnwind.core.facts.trials import MODES, PULLS, owner
from cairnwind.core.values.errors import CallerError, unknown
from cairnwind.core.values.quantities import duration, parse
from cairnwind.core.values.settings import FULL, Level, level
from cairnwind.service import pinout, shapes
from cairnwind.service.asked import answer, caller, caller_key, json_body, whole
from cairnwind.service.desk import Desk
from cairnwind.service.first import clock
from cairnwind.service.problems import problem
from cairnwind.site.pins import resolve

FIRST_READING_WITHIN = 0.5
"""Seconds that a trial's answer waits for what the pin reads."""


class BoardViews:
    """The views; `cairnwind.service.app` has the rest, and the way in."""

    def __init__(self, desk: Desk) -> None:
        self.desk, self.runtime, self.site = desk, desk.runtime, desk.runtime.site

    def routes(self, v1: str) -> dict[str, dict[str, Callable[..., Any]]]:
        """Their addresses."""
        return {
            f"{v1}/inputs/<name>/simulated": {"PUT": self.pretend},
            f"{v1}/boards/<name>": {"GET": self.get_board},
            f"{v1}/boards/<name>/pins": {"GET": self.get_pins},
            f"{v1}/boards/<name>/pins/<pin>/trial": {"PUT": self.put_trial, "DELETE": self.end_trial},
            f"{v1}/boards/<name>/traffic": {"GET": self.get_traffic},
        }

    def get_board(self, name: str) -> Response:
        """One board, with the health of its link."""
        board, link = self._board(name)
        inputs = [each for each in self.site.inputs.values() if each.pin.board == name]
        simulated = any(self.runtime.pins.world(each) is not None for each in inputs)
        return answer(
            pinout.board_whole(board, self.runtime.engine.board_now(name), link, simulated=simulated)
        )

    def get_pins(self, name: str) -> Response:
        """Its pins."""
        board, link = self._board(name)
        find = self.runtime.publisher.find
        outputs = {
            line: found
            for each in self.site.outputs.values()
            for line in each.lines
            if each.pin.board == name and (found := find(each.name)) is not None
        }
        trials = {trial.pin.line: trial for trial in self.runtime.engine.trials_now(name)}
        return answer(pinout.pin_forms(self.site, board, link, outputs, trials))

    def get_traffic(self, name: str) -> Response:
        """What went over its wire."""
        _, link = self._board(name)
        after = whole("after", 0) or 0
        frames = [pinout.frame_form(frame) for frame in link.traffic.after(after)]
        return answer(
            {
                "frames": frames,
                "rounds_a_second": round(link.traffic.rate(), 1),
                "errors": link.traffic.errors,
            }
        )

    def put_trial(self, name: str, pin: str) -> Response:
        """Try a pin that nobody owns, or another frequency and duty on an output that has PWM; renewed by the same call."""
        _, link = self._board(name)
        where = resolve(f"{name}:{pin}", dict(self.site.boards))
        body = json_body({"mode", "level", "duty", "frequency", "pull", "lease"})
        mode = body.get("mode")
        if mode not in MODES:
            raise CallerError(
                "bad-value", f"'{mode}' is not a way to try a pin.", f"Send one of {', '.join(MODES)}."
            )
        parts, millihertz, pull = _trial(body, str(mode))
        span = duration(body.get("lease", "2 s"), longest=60)
        owned = owner(self.site, where)
        output = self.site.outputs.get(owned.partition(" ")[2]) if owned.startswith("output") else None
        if output is not None and output.takes == "level" and output.frequency is not None and mode == "pwm":
            return self._try_output(output, Level(parts, millihertz, True), span)
        outcome, _ = self.desk.submit(
            ev.TryPin(
                clock(), self.runtime.command_id(), caller(), where, str(mode), span, parts, millihertz, pull
            )
        )
        if outcome.outcome != "driving":
            code = "unreachable" if outcome.outcome == "unreachable" else "refused"
            return problem(code, f"{outcome.reason}.", remedy=outcome.remedy, outcome=outcome.outcome)
        form = self._tried(link, name, where.line)
        if form is None:
            reason = self.runtime.engine.trial_failure(name, where.line) or "it has ended"
            return problem("refused", f"{where.both} cannot be tried so: {reason}.", outcome="refused")
        return answer({"pin": where.name, "line": where.line, "output": None, "trial": form})

    def _tried(self, link: Link, board: str, line: int) -> dict[str, Any] | None:
        """A trial with its first reading, for which it waits a moment; None if it has come to nothing."""
        end = time.monotonic() + FIRST_READING_WITHIN
        while True:
            trials = [each for each in self.runtime.engine.trials_now(board) if each.pin.line == line]
            reading = link.reading(line)
            if not trials or reading or time.monotonic() > end:
                return pinout.trial_form(trials[0], reading) if trials else None
            time.sleep(0.01)

    def _try_output(self, output: Output, setting: Level, span: int) -> Response:
        slot = f"try:{caller_key().id}"
        number = self.runtime.slots.find(output.name, slot)
        at, name = clock(), self.runtime.command_id()
        command: ev.Command = self.desk.renewal(ev.Renew(at, name, caller(), output.name, slot, setting))
        if number is None:
            command = ev.Wish(at, name, caller(), output.name, setting, Rank.HAND, slot, lease(span))
        outcome, ended = self.desk.submit(command, wait=0.0 if number else 1.0)
        form = shapes.outcome_form(outcome, output, ended)
        if outcome.outcome != "driving":
            code = "unreachable" if outcome.outcome == "unreachable" else "refused"
            return problem(code, f"{output.name}: {outcome.reason}.", **form)
        found = self.runtime.publisher.find(output.name)
        confirmed = found.confirmed if found else None
        level = None if confirmed is None else wire.to_pin(output, confirmed)
        trial = pinout.reading_form(
            {"level": level, "period": 10**12 // setting.millihertz if setting.millihertz else None}
        )
        trial = {
            "mode": "pwm",
            "text": f"{output.name} at {output.say(setting)}",
            "by": caller().text,
            "reading": trial,
        }
        return answer(
            {"pin": output.pin.name, "line": output.pin.line, "output": output.name, "trial": trial}
        )

    def end_trial(self, name: str, pin: str) -> Response:
        """Let a tried pin go."""
        self._board(name)
        where = resolve(f"{name}:{pin}", dict(self.site.boards))
        owned = owner(self.site, where)
        if owned.startswith("output"):
            output = self.site.outputs[owned.partition(" ")[2]]
            slot = f"try:{caller_key().id}"
            command: ev.Command = ev.Release(clock(), self.runtime.command_id(), caller(), output.name, slot)
        else:
            command = ev.EndTry(clock(), self.runtime.command_id(), caller(), where)
        outcome, _ = self.desk.submit(command)
        return answer(shapes.outcome_form(outcome, None))

    def pretend(self, name: str) -> Response:
        """Work an input of a simulated board, as the world would."""
        if name not in self.site.inputs:
            raise unknown("input", name, self.site.inputs)
        input = self.site.inputs[name]
        body = json_body({"state", "volts"})
        world = self.runtime.pins.world(input)
        if world is None:
            raise CallerError(
                "refused",
                f"{name} is on board {input.pin.board}, which is real.",
                "Work it with your hand: only simulated boards can be pretended.",
            )
        if input.analogue:
            volts = float(parse(body.get("volts"), "a voltage", bare="v"))
            world(volts)
        else:
            world(_state(input, body.get("state")))
        return answer({"input": name, "pretended": body.get("volts" if input.analogue else "state")})

    def _board(self, name: str) -> tuple[Board, Link]:
        board = self.site.boards.get(name)
        if board is None:
            raise unknown("board", name, self.site.boards)
        return board, self.runtime.pins.links[name]


def _trial(body: dict[str, Any], mode: str) -> tuple[int, int, str]:
    """Parts high, millihertz and pull of a trial, as far as its mode has them."""
    parts = millihertz = 0
    if mode == "output":
        word = str(body.get("level", "high"))
        if word not in ("high", "low"):
            raise CallerError("bad-value", f"'{word}' is not a level of a pin.", "Send high or low.")
        parts = FULL if word == "high" else 0
    elif mode == "pwm":
        share = parse(body.get("duty"), "a share", bare="%")
        if not 0 <= share <= 100:
            raise CallerError(
                "bad-value", f"'{body['duty']}' is outside 0 to 100 %.", "Send a duty like 25 %."
            )
        parts = level(share).parts
    if mode in ("pwm", "tone"):
        hertz = parse(body.get("frequency"), "a frequency", bare="hz")
        if not 0 < hertz <= 10**7:
            raise CallerError(
                "bad-value", f"'{body['frequency']}' is no frequency to try.", "Send one like 800 Hz."
            )
        millihertz = round(hertz * 1000)
        parts = parts if mode == "pwm" else FULL // 2
    pull = str(body.get("pull", "none"))
    if pull not in PULLS:
        raise CallerError("bad-value", f"'{pull}' is not a pull.", f"Send one of {', '.join(PULLS)}.")
    return parts, millihertz, pull


def _state(input: Input, value: object) -> bool:
    words = {input.words[0]: False, input.words[1]: True, "inactive": False, "active": True}
    if isinstance(value, bool):
        return value
    if not isinstance(value, str) or value not in words:
        raise CallerError(
            "bad-value",
            f"'{value}' is not a state of {input.name}.",
            f"Send {input.words[0]} or {input.words[1]}.",
        )
    return words[value]
