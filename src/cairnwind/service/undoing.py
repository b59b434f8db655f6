"""What takes back a decision that the disk did not take: what it switched on, never what it switched off."""

from __future__ import annotations

from typing import Any

from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Instant, Source

CLAIMING = (ev.Wish, ev.Renew, ev.Do, ev.Open)


def undo(event: Any, outcome: ev.Outcome, at: Instant, name: str) -> ev.Command | None:
    """The command, under the id ``name``, that takes it back; None if there is nothing to take back.

    What time or an input decided (a timer, a reflex) came from nobody who could be answered, and is taken back all the same.
    """
    asked = getattr(event, "source", None)
    source = Source("service") if asked is None else asked._replace(surface="service")
    if type(event) is ev.ResetTrip and outcome.outcome == "driving":
        return ev.AllStop(at, name, source, f"the reset of '{event.trip}' could not be recorded")
    if type(event) is ev.ResetStop and outcome.outcome == "driving":
        return ev.AllStop(at, name, source, "its reset could not be recorded")
    made = tuple(
        (each.claim, each.replaced)
        for each in (outcome, *outcome.parts)
        if each.claim is not None and each.setting is not None and each.setting.on and (asked is None or type(event) in CLAIMING)
    )  # fmt: skip
    timers = (outcome.sequence,) if type(event) is ev.Do and event.course.lead is not None else ()
    return ev.Withdraw(at, name, source, made, timers) if made or timers else None
