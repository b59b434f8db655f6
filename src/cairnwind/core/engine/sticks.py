"""Sticks that drive two motors, under claims that end when a stick is let go or unknown."""

from __future__ import annotations

from itertools import count

from cairnwind.core.engine.requests import Requests
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import RELEASED, Rank, Source, held
from cairnwind.core.facts.site import Site
from cairnwind.core.physics.stick import Pad, mix
from cairnwind.core.state.turn import Turn
from cairnwind.core.values.fact import alike
from cairnwind.core.values.settings import Drive

MOST = 110
"""Percent: a stick that reads more has a broken wire."""


class Sticks:
    """By analogue input: the pads whose stick it is an axis of."""

    def __init__(self, site: Site, requests: Requests) -> None:
        self._requests = requests
        self._count = count(1)
        self._centred: set[str] = set()
        self._pads: dict[str, list[Pad]] = {}
        self._arm(site)

    def succeed(self, turn: Turn, site: Site) -> None:
        """Another site's pads from now on: sticks of those that go, or are otherwise, let go."""
        for name, pad in turn.site.pads.items():
            if name in site.pads and alike(pad, site.pads[name]):
                continue
            self._centred.discard(name)
            for motor in (pad.left, pad.right):
                claim = held(turn.standing(motor).claims.all, f"stick:{name}")
                if claim is not None:
                    turn.end(turn.standing(motor), claim, "its pad is another now")
        self._pads.clear()
        self._arm(site)

    def _arm(self, site: Site) -> None:
        for pad in site.pads.values():
            for axis in pad.stick or ():
                self._pads.setdefault(axis, []).append(pad)

    def moved(self, turn: Turn, input: str) -> None:
        """An axis may have moved."""
        for pad in self._pads.get(input, ()):
            self._steer(turn, pad)

    def _steer(self, turn: Turn, pad: Pad) -> None:
        """It is held somewhere: its two motors follow under claims that end when it is let go or unknown."""
        assert pad.stick is not None
        x, y = (turn.state.inputs.gauges[name].value for name in pad.stick)
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
            s = turn.standing(name)
            claim = held(s.claims.all, slot)
            centred = not any(each.on for each in drives)
            if centred and claim is not None:
                turn.end(s, claim, "the stick was let go")
            elif not centred and (claim is None or claim.setting != drive):
                source = Source("stick", pad.label or pad.name)
                self._requests.wish(
                    turn,
                    ev.Wish(
                        turn.now,
                        f"stick-{next(self._count)}",
                        source,
                        name,
                        drive,
                        Rank.HAND,
                        slot,
                        RELEASED,
                    ),
                )
        stands = {name: held(turn.standing(name).claims.all, slot) for name in (pad.left, pad.right)}
        if not all(stands.values()):
            for name, claim in stands.items():
                if claim is not None:
                    turn.end(turn.standing(name), claim, "the other motor may not move")
