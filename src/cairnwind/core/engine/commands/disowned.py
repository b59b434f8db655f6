"""A key that is revoked takes with it what still acts in its name.

Its holds, timers and series end, its standing claims are released, and the schedules that it has added are disabled; each is
journalled. Its lockout tags stay, and are nobody's but a keeper's to take off. What others have made since, in the same place, stays.
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
        for tags in turn.state.in_force.tags.values():
            for name, tag in tags.items():
                if tag.source.who == event.who:
                    # another key of that name is another's
                    tags[name] = tag._replace(source=tag.source._replace(who=f"{event.who} (revoked)"))
                    turn.effect(ev.KeepTag(tags[name]), ev.Changed("site", ""))
        self._courses.disown(turn, event.who, why)
        self._planning.disown(turn, event.who, why)
