"""Why an output was as it was at a moment that is over: from the rows of the journal."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import Any

from cairnwind.core.explain.why import Why
from cairnwind.core.facts.claims import Claim, Instant, leading, restore
from cairnwind.core.facts.history import claim_form, claim_read
from cairnwind.core.facts.outputs import Output
from cairnwind.core.values.settings import decode

Row = tuple[int, str, str, str, Mapping[str, Any]]
"""(wall nanoseconds, kind, subject, text, data), as they were written."""

SAID = ("gate", "stop", "away", "fault")

MOMENTS = ("confirmed", "command")


class Then:
    """What rows of the journal come to, for one output."""

    def __init__(self, output: Output, kept: Any = None) -> None:
        """``kept`` is what `form` has given for the rows before."""
        self.output = output
        self.claims: dict[str, Claim] = {}
        self.tags: dict[str, str] = {}
        self.gate = self.stop = self.away = self.fault = ""
        self.command: tuple[int, str] | None = None
        self.confirmed: tuple[int, str] | None = None
        self.running = True
        if kept is not None:
            claims = (claim_read(each) for each in kept["claims"])
            self.claims, self.tags = {each.slot: each for each in claims}, dict(kept["tags"])
            self.gate, self.stop, self.away, self.fault = (kept[name] for name in SAID)
            self.confirmed, self.command = (tuple(kept[name]) if kept[name] else None for name in MOMENTS)
            self.running = kept["running"]

    def form(self) -> dict[str, Any]:
        """All of it, as JSON."""
        return {
            "claims": [claim_form(each) for each in self.claims.values()],
            "tags": self.tags,
            **{name: getattr(self, name) for name in MOMENTS},
            "running": self.running,
            **{name: getattr(self, name) for name in SAID},
        }

    def see(self, row: Row) -> None:
        """One row, after those before it. One that cannot be read (of an older version, of a damaged disk) comes to nothing."""
        try:
            self._see(row)
        except (KeyError, ValueError, TypeError, AttributeError):
            pass

    def _see(self, row: Row) -> None:
        wall, kind, subject, text, data = row
        if subject == self.output.name:
            self._mine(row)
        match kind, data.get("verb"):
            case "command", "stop":
                self.stop = text
            case "command", "reset":
                self.stop = ""
            case "link", _ if subject == self.output.pin.board:
                self.away = "" if data["up"] else data["reason"]
                if self.away:
                    self.confirmed = None
            case "start", _:
                self.running, self.away = True, ""
                back = (restore(each, Instant(each.made.mono, wall)) for each in self.claims.values())
                self.claims = {each.slot: each for each in back if each is not None}
            case "shutdown", _:
                self.running = False

    def _mine(self, row: Row) -> None:
        wall, kind, _, text, data = row
        match kind, data.get("verb"):
            case "command", "claim":
                made = claim_read(data["claim"])
                self.claims[made.slot] = made
                self.command = (wall, f"{text}, by the {made.source.text}")
            case "command", "release" if "slot" in data:
                self.claims.pop(data["slot"], None)
            case "ended", _:
                self.claims.pop(data["slot"], None)
            case "command", "lock" if "tag" in data:
                self.tags[data["tag"]["name"]] = text.partition(": ")[2]
            case "command", "unlock" if "outcome" not in data:
                self.tags.pop(data["tag"], None)
            case "gate", _:
                self.gate = data.get("reason", "") if data.get("gate") else ""
            case "change", _:
                self.confirmed, self.fault = (wall, self.output.say(decode(data["setting"]))), ""
            case (("failed" | "fault"), _):
                self.fault = text.partition(": ")[2]

    @property
    def held(self) -> str:
        """What kept it from what was wanted."""
        if not self.running:
            return "the service was not running"
        return self.stop or next(iter(self.tags.values()), "") or self.gate


def why_then(output: Output, rows: Iterable[Row], clock: Callable[[int], str], kept: Any = None) -> Why:
    """The reasons as the journal tells them. ``rows`` rise, and are of the output, its board and the site as a whole; what those before them
    came to is ``kept``.
    """
    then = Then(output, kept)
    for row in rows:
        then.see(row)
    leader = leading(tuple(then.claims.values()))
    wanted = (
        f"{leader.text} wanted it {output.say(leader.setting)} since {clock(leader.made.wall)}"
        if leader
        else f"nobody claimed it, so it rested at {output.say(output.rest)}"
    )
    held, board, confirmed = then.held, output.pin.board, then.confirmed
    allowed = f"{held}; so it was kept {output.say(output.safe)}" if held else "nothing stood in the way"
    driven = (
        f"board {board} did not answer: {then.away}" if then.away else then.fault or f"board {board} answered"
    )
    known = f"{confirmed[1]} since {clock(confirmed[0])}" if confirmed else "not known"
    head = confirmed[1] if confirmed else "unknown"
    against = held or then.fault or then.away
    steps = [("wanted", wanted)]
    steps += [
        ("also", f"{each.text} wanted it {output.say(each.setting)}")
        for each in then.claims.values()
        if each is not leader
    ]
    steps += [("allowed", allowed), ("driven", driven), ("confirmed", known)]
    steps += (
        [("command", f"the last one before: {clock(then.command[0])} {then.command[1]}")]
        if then.command
        else []
    )
    return Why(output.name, f"{head}: {wanted}{f', but {against}' if against else ''}.", tuple(steps), "")
