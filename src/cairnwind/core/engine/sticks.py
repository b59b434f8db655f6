"""Sticks that drive two motors while the engine decides. A part of the engine, in a file of its own."""

from __future__ import annotations

from itertools import count
from typing import TYPE_CHECKING

from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import RELEASED, Rank, Source, held
from cairnwind.core.physics.stick import Pad, mix
from cairnwind.core.values.settings import Drive

if TYPE_CHECKING:
    from cairnwind.core.engine.loop import Engine

MOST = 110
"""Percent: a stick that reads more has a broken wire."""


class Sticks:
    """By analogue input: the pads whose stick it is an axis of."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._count = count(1)
        self._centred: set[str] = set()
        self._pads: dict[str, list[Pad]] = {}
        for pad in engine.site.pads.values():
            for axis in pad.stick or ():
                self._pads.setdefault(axis, []).append(pad)

    def moved(self, input: str) -> None:
        """An axis may have moved."""
        for pad in self._pads.get(input, ()):
            self._steer(pad)

    def _steer(self, pad: Pad) -> None:
        """It is held somewhere: its two motors follow under claims that end when it is let go or unknown."""
        engine = self._engine
        assert pad.stick is not None
        x, y = (engine.gauges[name].value for name in pad.stick)
        drives = (Drive(0), Drive(0))
        if x is None or y is None or max(abs(x), abs(y)) > MOST:
            self._centred.discard(pad.name)  # unknown, or a broken wire
        else:
            drives = mix(pad, x / 100, y / 100)
            if not drives[0].on and not drives[1].on:
                self._centred.add(pad.name)
            elif pad.name not in self._centred:
                drives = (Drive(0), Drive(0))  # it counts once it has been seen in the middle
        slot = f"stick:{pad.name}"
        for name, drive in zip((pad.left, pad.right), drives, strict=True):
            s = engine.standing(name)
            claim = held(s.claims, slot)
            centred = not any(each.on for each in drives)
            if centred and claim is not None:
                engine.end(s, claim, "the stick was let go")
            elif not centred and (claim is None or claim.setting != drive):
                source = Source("stick", pad.label or pad.name)
                engine.wish(
                    ev.Wish(
                        engine.now,
                        f"stick-{next(self._count)}",
                        source,
                        name,
                        drive,
                        Rank.HAND,
                        slot,
                        RELEASED,
                    )
                )
        stands = {name: held(engine.standing(name).claims, slot) for name in (pad.left, pad.right)}
        if not all(stands.values()):
            for name, claim in stands.items():
                if claim is not None:
                    engine.end(engine.standing(name), claim, "the other motor may not move")
