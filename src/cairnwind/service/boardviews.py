"""HTTP for boards and their pins: what is there, what goes over the wire, and trying a bare pin."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Mapping
from typing import Any, cast

from flask import Response

from cairnwind.boards import wire
from cairnwind.boards.doctor import examine
from cairnwind.boards.link import Link
from cairnwind.boards.quadrature import MOST_STEPS
from cairnwind.commands.reading import names, read
from cairnwind.commands.trials import TryPin
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.conditions import drawn
from cairnwind.core.facts.hardware import Board
from cairnwind.core.facts.inputs import TURNS, Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.values.errors import CallerError, unknown
from cairnwind.core.values.quantities import parse
from cairnwind.service import pinout
from cairnwind.service.around import look
from cairnwind.service.asked import answer, caller, caller_key, json_body, whole
from cairnwind.service.desk import Desk
from cairnwind.service.problems import problem
from cairnwind.service.startup import clock

FIRST_READING_WITHIN = 0.5
"""Seconds that a trial's answer waits for what the pin reads."""


class BoardViews:
    """The views; `cairnwind.service.app` has the rest, and the way in."""

    def __init__(self, desk: Desk) -> None:
        self.desk, self.runtime = desk, desk.runtime

    @property
    def site(self) -> Site:
        """The site as it is wired now."""
        return self.runtime.site

    def routes(self, v1: str) -> dict[str, dict[str, Callable[..., Any]]]:
        """Their addresses."""
        return {
            f"{v1}/inputs/<name>/simulated": {"PUT": self.pretend},
            f"{v1}/supplies": {"GET": self.get_supplies},
            f"{v1}/doctor": {"GET": self.get_doctor},
            f"{v1}/boards/<name>": {"GET": self.get_board},
            f"{v1}/boards/<name>/pins": {"GET": self.get_pins},
            f"{v1}/boards/<board>/pins/<pin>/trial": {"PUT": self.put_trial},
            f"{v1}/boards/<name>/traffic": {"GET": self.get_traffic},
        }

    def get_board(self, name: str) -> Response:
        """One board, with the health of its link."""
        board, link = self._board(name)
        inputs = [each for each in self.site.inputs.values() if each.pin.board == name]
        simulated = any(self.runtime.machine.world(each) is not None for each in inputs)
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

    def get_supplies(self) -> Response:
        """What is drawn from each supply."""
        sight, find = self.runtime.engine.sight, self.runtime.publisher.find
        forms = []
        for supply in self.site.supplies.values():
            total = drawn(sight, supply.name)
            each = []
            for output in self.site.outputs.values():
                if output.supply == supply.name and output.draws:
                    now = find(output.name)
                    on = now.confirmed.on if now is not None and now.confirmed is not None else None
                    each.append({"output": output.name, "amperes": float(output.draws), "on": on})
            limit = float(supply.limit) if supply.limit is not None else None
            forms.append(
                {"name": supply.name, "volts": float(supply.volts), "limit": limit, "drawn": None if total is None else float(total), "outputs": each}
            )  # fmt: skip
        return answer(forms)

    def get_doctor(self) -> Response:
        """What of this machine the boards need, and whether it is there."""
        return answer(
            [
                {"good": each.good, "what": each.what, "remedy": each.remedy}
                for each in (
                    *examine(self.site),
                    *look(self.site, self.runtime.folder, running=True),
                    *self.runtime.backups.look(),
                )
            ]
        )

    def put_trial(self, board: str, pin: str) -> Response:
        """Try a pin, and read it: what its command answers elsewhere, with the reading."""
        known = {*names(TryPin)} - {"board", "pin"}
        command = cast(TryPin, read(TryPin, {**json_body(known), "board": board, "pin": pin}))
        _, link = self._board(board)
        ask = self.desk.asking(caller())
        where, output = command.where(ask), command.owner(ask)
        held = output is not None and self.runtime.slots.find(output.name, ask.hold("try")) is not None
        form = self.desk.perform(caller(), command, wait=1.0 if output is not None and not held else 0.0)
        if form["outcome"] != "driving":
            code = "unreachable" if form["outcome"] == "unreachable" else "refused"
            name = f"{output.name}: " if form["output"] and output is not None else ""
            return problem(code, f"{name}{form['reason']}.", **form)
        if form["output"] and output is not None:
            return self._tried_output(output, form["claim"])
        trial = self._tried(link, board, where.line)
        if trial is None:
            reason = self.runtime.engine.trial_failure(board, where.line) or "it has ended"
            return problem("refused", f"{where.both} cannot be tried so: {reason}.", outcome="refused")
        return answer({"pin": where.name, "line": where.line, "output": None, "trial": trial})

    def _tried(self, link: Link, board: str, line: int) -> dict[str, Any] | None:
        """A trial with its first reading, for which it waits a moment; None if it has come to nothing."""
        end = time.monotonic() + FIRST_READING_WITHIN
        while True:
            trials = [each for each in self.runtime.engine.trials_now(board) if each.pin.line == line]
            reading = link.reading(line)
            if not trials or reading or time.monotonic() > end:
                return pinout.trial_form(trials[0], reading) if trials else None
            time.sleep(0.01)

    def _tried_output(self, output: Output, claim: Mapping[str, Any]) -> Response:
        found = self.runtime.publisher.find(output.name)
        confirmed = found.confirmed if found else None
        level = None if confirmed is None else wire.to_pin(output, confirmed)
        hertz = claim["setting"].get("hertz")
        trial = {
            "mode": "pwm",
            "text": f"{output.name} at {claim['setting']['words']}",
            "by": caller().text,
            "reading": pinout.reading_form(
                {"level": level, "period": round(10**9 / hertz) if hertz else None}
            ),
        }
        return answer(
            {"pin": output.pin.name, "line": output.pin.line, "output": output.name, "trial": trial}
        )

    def pretend(self, name: str) -> Response:
        """Work an input of a simulated board, as the world would."""
        if name not in self.site.inputs:
            raise unknown("input", name, self.site.inputs)
        if caller_key().only:  # rules of any output may ask for it
            self.desk.deny(
                caller(), "a key for some outputs may not work inputs, which others depend on", "operate"
            )
        input = self.site.inputs[name]
        body = json_body({"volts" if input.analogue else "state"})
        world = self.runtime.machine.world(input)
        if world is None:
            raise CallerError(
                "refused",
                f"{name} is on board {input.pin.board}, which is real.",
                "Work it with your hand: only simulated boards can be pretended.",
            )
        value: float | int | bool
        if input.analogue:
            value = _volts(input, body.get("volts"))
            what = f"{value:g} V"
        elif input.kind == "encoder":
            value = _steps(input, body.get("state"))
            what = f"turned {'up' if value > 0 else 'down'}{f' by {abs(value)}' if abs(value) > 1 else ''}"
        else:
            value = _state(input, body.get("state"))
            what = input.words[int(value)]
        said = ev.Pretended(clock(), self.runtime.command_id(), caller(), name, what)
        outcome, _ = self.desk.submit(said)
        if outcome.outcome == "refused":
            raise CallerError("refused", f"{outcome.reason[:1].upper()}{outcome.reason[1:]}.", outcome.remedy)
        world(value)
        seen = _reads(input, value) if input.analogue else what
        return answer(
            {"input": name, "pretended": body.get("volts" if input.analogue else "state"), "seen": seen}
        )

    def _board(self, name: str) -> tuple[Board, Link]:
        board = self.site.boards.get(name)
        if board is None:
            raise unknown("board", name, self.site.boards)
        return board, self.runtime.machine.links[name]


def _volts(input: Input, said: object) -> float:
    """The volts that are meant: volts, or a value in the input's own unit."""
    match = re.fullmatch(r"\s*(-?\d+(?:\.\d+)?)\s*(\D+?)\s*", said) if isinstance(said, str) else None
    if match is not None and input.unit and _folded(match[2]) == _folded(input.unit) != "v":
        return input.volts(float(match[1]))
    try:
        return float(parse(said, "a voltage", bare="v"))
    except CallerError as error:
        if not input.unit:
            raise
        raise CallerError(
            error.code,
            f"'{said}' is neither volts nor {input.unit}.",
            f"Write it like 1.2 V, or 21 {input.unit}.",
        ) from None


def _folded(unit: str) -> str:
    return unit.replace("°", "").strip().casefold()


def _reads(input: Input, volts: float) -> str:
    """What an analogue input makes of volts."""
    value = input.value(volts)
    return "not known" if value is None else f"{value:.4g} {input.measure}"


def _steps(input: Input, said: object) -> int:
    """By how many steps an encoder is turned, down negative."""
    if isinstance(said, str) and said in TURNS:
        return 1 if said == TURNS[1] else -1
    try:
        steps = int(said) if isinstance(said, str | int) else 0
    except ValueError:
        steps = 0
    if not 0 < abs(steps) <= MOST_STEPS:
        raise CallerError(
            "bad-value",
            f"'{said}' is no turn of {input.name}.",
            f"Send {TURNS[1]}, {TURNS[0]}, or a number of steps up to {MOST_STEPS}: 3, or -3.",
        )
    return steps


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
