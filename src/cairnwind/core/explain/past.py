"""Why an output was as it was at a moment that is over: from the rows of the journal."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import Any

from cairnwind.core.explain.why import Why
from cairnwind.core.facts.claims import Claim, leading
from cairnwind.core.facts.history import claim_read
from cairnwind.core.facts.model import Output
from cairnwind.core.values.settings import decode

Row = tuple[int, str, str, str, Mapping[str, Any]]
"""(wall nanoseconds, kind, subject, text, data), as they were written."""


def why_then(output: Output, rows: Iterable[Row], clock: Callable[[int], str]) -> Why:
    """The reasons as the journal tells them. ``rows`` rise, and are of the output, its board and the site as a whole."""
    claims: dict[str, Claim] = {}
    gate = stop = away = ""
    tags: dict[str, str] = {}
    confirmed: tuple[int, str] | None = None
    command = fault = ""
    running = True
    for wall, kind, subject, text, data in rows:
        mine = subject == output.name
        match kind, data.get("verb"):
            case "command", "claim" if mine:
                made = claim_read(data["claim"])
                claims[made.slot] = made
                command = f"{clock(wall)} {text}, by the {made.source.text}"
            case "command", "release" if mine and "slot" in data:
                claims.pop(data["slot"], None)
            case "ended", _ if mine:
                claims.pop(data["slot"], None)
            case "command", "stop":
                stop = text
            case "command", "reset":
                stop = ""
            case "command", "lock" if mine and "tag" in data:
                tags[data["tag"]["name"]] = text.partition(": ")[2]
            case "command", "unlock" if mine and "outcome" not in data:
                tags.pop(data["tag"], None)
            case "gate", _ if mine:
                gate = data.get("reason", "") if data.get("gate") else ""
            case "change", _ if mine:
                confirmed, fault = (wall, output.say(decode(data["setting"]))), ""
            case (("failed" | "fault"), _) if mine:
                fault = text.partition(": ")[2]
            case "link", _ if subject == output.pin.board:
                away = "" if data["up"] else data["reason"]
                if away:
                    confirmed = None
            case "start", _:
                running, away = True, ""
            case "shutdown", _:
                running, claims = False, {}
    leader = leading(tuple(claims.values()))
    wanted = (
        f"{leader.text} wanted it {output.say(leader.setting)} since {clock(leader.made.wall)}"
        if leader
        else f"nobody claimed it, so it rested at {output.say(output.rest)}"
    )
    held = stop or next(iter(tags.values()), "") or gate
    if not running:
        held = "the service was not running"
    allowed = f"{held}; so it was kept {output.say(output.safe)}" if held else "nothing stood in the way"
    driven = (
        f"board {output.pin.board} did not answer: {away}"
        if away
        else fault or f"board {output.pin.board} answered"
    )
    known = f"{confirmed[1]} since {clock(confirmed[0])}" if confirmed else "not known"
    head = confirmed[1] if confirmed else "unknown"
    but = f", but {held or fault or away}" if held or fault or away else ""
    steps = [("wanted", wanted)]
    steps += [
        ("also", f"{each.text} wanted it {output.say(each.setting)}")
        for each in claims.values()
        if each is not leader
    ]
    steps += [("allowed", allowed), ("driven", driven), ("confirmed", known)]
    steps += [("command", f"the last one before: {command}")] if command else []
    return Why(output.name, f"{head}: {wanted}{but}.", tuple(steps), "")
