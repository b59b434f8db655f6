"""A key that is revoked takes with it what still acts in its name.

Its holds, timers and series end, its standing claims are released, and the schedules that it has added are disabled; each is
journalled. What others have made since, in the same place, stays.
"""

from __future__ import annotations

from cairnwind.core.engine.courses import Courses
from cairnwind.core.engine.planning import Planning
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Rank
from cairnwind.core.state.turn import Turn


class Disowning:
    """``courses`` has timers, ``planning`` the schedules."""

    def __init__(self, courses: Courses, planning: Planning) -> None:
        self._courses, self._planning = courses, planning

    def disown(self, turn: Turn, event: ev.Disowned) -> None:
        """End all of it."""
        why = f"the key '{event.who}' was revoked"
        for s in turn.state.outputs.values():
            for claim in s.claims.all:
                if claim.source.who == event.who and claim.rank >= Rank.PERSON:
                    turn.end(s, claim, why)
        self._courses.disown(turn, event.who, why)
        self._planning.disown(turn, event.who, why)
