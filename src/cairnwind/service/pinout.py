"""What is known of a board's pins, put together: map, wiring, kernel or firmware, trials, levels."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from cairnwind.boards import wire
from cairnwind.boards.facts import Chip
from cairnwind.boards.link import Frame, Link, Seen
from cairnwind.core.facts.hardware import Board, Position
from cairnwind.core.facts.now import BoardNow, OutputNow
from cairnwind.core.facts.site import Site
from cairnwind.core.facts.trials import Trial, owner
from cairnwind.core.values.settings import FULL
from cairnwind.service.shapes import board_form, moment


def pin_forms(
    site: Site,
    board: Board,
    link: Link,
    outputs: Mapping[int, OutputNow],
    trials: Mapping[int, Trial],
) -> list[dict[str, Any]]:
    """Every position of the board's connectors, or every line where it has no map. Keyed arguments are by line."""
    seen = link.survey()
    if board.map is not None:
        places: list[tuple[int | None, Position | None]] = [
            (each.line, each) for each in board.map.positions.values()
        ]
    else:
        places = [(line, None) for line in sorted({*board.lines, *seen})]
    forms = []
    for line, there in places:
        if line is None:
            assert there is not None
            forms.append(_blank(there))
            continue
        known = seen.get(line, Seen())
        can = board.can(line)
        functions = can if can is not None else known.functions
        pin = board.pin(line)
        trial = trials.get(line)
        forms.append({
            "pin": pin.name, "position": pin.position or None,
            "connector": there.connector if there else None, "number": there.number if there else None, "line": line,
            "title": (there.title if there else "") or known.title, "role": "line",
            "can": sorted(functions) if functions is not None else None, "timer": board.timer(line) or known.timer,
            "bank": there.bank if there else "", "volts": _number(there.volts if there else None),
            "bears": _number(there.bears if there else None), "current": _number(there.current if there else None),
            "power_on": there.power_on if there else "", "user": owner(site, pin), "holder": known.holder, "trouble": known.trouble,
            "high": _high(line, known, outputs), "trial": trial_form(trial, link.reading(line)) if trial else None,
        })  # fmt: skip
    return forms


def _blank(there: Position) -> dict[str, Any]:
    return {
        "pin": None, "position": there.name, "connector": there.connector, "number": there.number, "line": None,
        "title": "", "role": there.role, "can": [], "timer": "", "bank": "", "volts": None, "bears": None,
        "current": None, "power_on": "", "user": "", "holder": "", "trouble": "", "high": None, "trial": None,
    }  # fmt: skip


def _number(value: Any) -> float | None:
    return None if value is None else float(value)


def _high(line: int, known: Seen, outputs: Mapping[int, OutputNow]) -> float | None:
    """How much of the time the pin is high, in percent."""
    level = known.level
    if line in outputs:
        confirmed = outputs[line].confirmed
        level = None if confirmed is None else wire.to_pin(outputs[line].output, confirmed, line)
    return None if level is None else level * 100 / FULL


def trial_form(trial: Trial, reading: Mapping[str, Any]) -> dict[str, Any]:
    """What is being tried, and what the pin reads."""
    return {"mode": trial.mode, "text": trial.text, "by": trial.source.text, "reading": reading_form(reading)}


def reading_form(reading: Mapping[str, Any]) -> dict[str, Any]:
    """What a tried pin reads; null for what it does not."""
    level = reading.get("level")
    return {
        "high": None if level is None else level * 100 / FULL,
        "raw": reading.get("raw"), "full": reading.get("full"), "volts": reading.get("volts"),
        "count": reading.get("count"), "edge": moment(reading.get("edge")), "period_ns": reading.get("period"),
    }  # fmt: skip


def board_whole(board: Board, now: BoardNow, link: Link, *, simulated: bool) -> dict[str, Any]:
    """A board with the health of its link as it is at this moment."""
    traffic = link.traffic
    facts = board.facts
    told = {
        name: getattr(facts, name)
        for name in ("chip", "bus", "address", "port", "unit", "baud", "pwm", "analogue")
        if hasattr(facts, name)
    }
    if hasattr(told.get("chip"), "name"):
        told["chip"] = told["chip"].name
    if isinstance(chip := getattr(facts, "chip", None), Chip) and chip.switches:
        told["switches"] = [
            bool((facts.address - chip.base) >> number & 1) for number in range(chip.switches)
        ]
    return {
        **board_form(board, now), "confirms": link.confirms, "rounds_a_second": round(traffic.rate(), 1),
        "errors": traffic.errors, "simulated": simulated, "facts": {name: value for name, value in told.items() if value != ""},
    }  # fmt: skip


def frame_form(frame: Frame) -> dict[str, Any]:
    """Something that went over a wire."""
    return {
        "number": frame.number,
        "at": moment(frame.wall),
        "way": frame.way,
        "raw": frame.raw.hex(" "),
        "text": frame.text,
        # what is text on the wire is shown by the text already
        "plain": bool(frame.raw) and frame.raw[:40].decode("utf-8", "ignore") in frame.text,
    }
