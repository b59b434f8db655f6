"""Trying bare pins: a lease on a pin that nobody owns, or on an output's own PWM."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Annotated, Any

from msgspec import UNSET, UnsetType

from cairnwind.commands.declaring import FIRST, PACED, SPAN, Ask, Command, declare, field
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Rank, lease
from cairnwind.core.facts.hardware import Pin
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.trials import MODES, PULLS, owner
from cairnwind.core.values.errors import CallerError, unknown
from cairnwind.core.values.quantities import duration, parse
from cairnwind.core.values.settings import FULL, Level, level

AMOUNT: dict[str, Any] = {"type": ["string", "number"]}
PIN = {"board": "shelf", "pin": "J2-10"}


class _OfPin(Command):
    """What is done with a pin of a board."""

    board: Annotated[str, field("The board.", of="board", min_length=1)]
    pin: Annotated[str, field("A position or a line of it.", min_length=1)]

    def where(self, ask: Ask) -> Pin:
        """The pin. Raises `CallerError` (``unknown-name``)."""
        if self.board not in ask.site.boards:
            raise unknown("board", self.board, ask.site.boards)
        from cairnwind.site.pins import resolve  # what reads a site file is not needed to know of the command

        return resolve(f"{self.board}:{self.pin}", dict(ask.site.boards))

    def owner(self, ask: Ask) -> Output | None:
        """The output that has it, if one does."""
        owned = owner(ask.site, self.where(ask))
        return ask.site.outputs[owned.partition(" ")[2]] if owned.startswith("output") else None

    @classmethod
    def concerns(cls, event: Any, ask: Ask) -> Iterable[str]:
        """The output whose pin it is; a bare one belongs to none."""
        return [owner(ask.site, event.pin).removeprefix("output ") or ""]


@declare(
    "try_pin", makes=ev.TryPin, role="operate", lane=PACED, address="PUT /boards/<board>/pins/<pin>/trial", typed="try",
    example={**PIN, "mode": "output", "level": "high"},
)  # fmt: skip
class TryPin(_OfPin):
    """Tries a bare pin, renews that, and reads it."""

    mode: Annotated[str, field("How.", schema={"enum": list(MODES)}, min_length=1)]
    level: Annotated[str, field("Of an output.", schema={"enum": ["high", "low"]})] = "high"
    duty: Annotated[Any, field("Of PWM.", schema=AMOUNT)] | UnsetType = UNSET
    frequency: Annotated[Any, field("Of PWM or a tone.", schema=AMOUNT)] | UnsetType = UNSET
    pull: Annotated[str, field("Of an input.", schema={"enum": list(PULLS)})] = "none"
    lease: SPAN = "2 s"

    def event(self, ask: Ask) -> ev.Command:
        """A trial; on an output that has PWM, a hold with another duty and frequency."""
        where = self.where(ask)
        if self.mode not in MODES:
            raise CallerError(
                "bad-value", f"'{self.mode}' is not a way to try a pin.", f"Send one of {', '.join(MODES)}."
            )
        parts, millihertz = self._parts(), self._millihertz()
        if self.pull not in PULLS:
            raise CallerError(
                "bad-value", f"'{self.pull}' is not a pull.", f"Send one of {', '.join(PULLS)}."
            )
        span = duration(self.lease, longest=60)
        output = self.owner(ask)
        if (
            output is not None
            and output.takes == "level"
            and output.frequency is not None
            and self.mode == "pwm"
        ):
            slot, setting = ask.hold("try"), Level(parts, millihertz, True)
            if any(claim.slot == slot and claim.output == output.name for claim in list(ask.claims.values())):
                return ask.renewal(ev.Renew(ask.at, ask.command, ask.source, output.name, slot, setting))
            return ev.Wish(
                ask.at, ask.command, ask.source, output.name, setting, Rank.HAND, slot, lease(span)
            )
        if self.mode == "tone":
            parts = FULL // 2
        return ev.TryPin(
            ask.at, ask.command, ask.source, where, self.mode, span, parts, millihertz, self.pull
        )

    def _parts(self) -> int:
        if self.mode == "output":
            if self.level not in ("high", "low"):
                raise CallerError(
                    "bad-value", f"'{self.level}' is not a level of a pin.", "Send high or low."
                )
            return FULL if self.level == "high" else 0
        if self.mode != "pwm":
            return 0
        share = parse(None if self.duty is UNSET else self.duty, "a share", bare="%")
        if not 0 <= share <= 100:
            raise CallerError("bad-value", f"'{self.duty}' is outside 0 to 100 %.", "Send a duty like 25 %.")
        return level(share).parts

    def _millihertz(self) -> int:
        if self.mode not in ("pwm", "tone"):
            return 0
        hertz = parse(None if self.frequency is UNSET else self.frequency, "a frequency", bare="hz")
        if not 0 < hertz <= 10**7:
            raise CallerError(
                "bad-value", f"'{self.frequency}' is no frequency to try.", "Send one like 800 Hz."
            )
        return round(hertz * 1000)


@declare(
    "end_try",
    makes=ev.EndTry,
    role="operate",
    lane=FIRST,
    address="DELETE /boards/<board>/pins/<pin>/trial",
    typed="try",
    example=PIN,
)
class EndTry(_OfPin):
    """Lets a tried pin go."""

    def event(self, ask: Ask) -> ev.Command:
        """It is let go."""
        where, output = self.where(ask), self.owner(ask)
        if output is not None:
            return ev.Release(ask.at, ask.command, ask.source, output.name, ask.hold("try"))
        return ev.EndTry(ask.at, ask.command, ask.source, where)
