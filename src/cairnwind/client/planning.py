"""The plan: schedules, calendars, timers, rehearsals; and the records of what came of it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from cairnwind.client.answers import keywords, query
from cairnwind.client.wire import Wire

if TYPE_CHECKING:
    from cairnwind import forms


class Planning(Wire):
    """What happens by time."""

    def plan(self) -> forms.Plan:
        """Schedules, with where they come from and when they are next, and timers."""
        return self._get("/plan")

    def spans(self, begin: str | None = None, end: str | None = None) -> forms.Spans:
        """When each schedule is on, from one time to another (RFC 3339, or a date in the site's zone)."""
        return self._get(f"/plan/spans?{query({'from': begin, 'to': end})}")

    def add_schedule(self, **facts: Any) -> forms.Outcome:
        """Add a schedule: ``name``, ``do``, ``from_``, ``to`` or ``for_`` and ``days``, ``repeat``, ``starts``, ``without``, ``also``."""
        return self._post("/plan/schedules", keywords(facts))

    def change_schedule(self, name: str, **facts: Any) -> forms.Outcome:
        """Put another in the place of a schedule that was added."""
        return self._form("PUT", f"/plan/schedules/{quote(name, safe='')}", keywords(facts))

    def drop_schedule(self, name: str) -> forms.Outcome:
        """Take a schedule off the plan."""
        return self._form("DELETE", f"/plan/schedules/{quote(name, safe='')}")

    def enable(self, schedule: str, enabled: bool = True) -> forms.Outcome:
        """Enable or disable a schedule."""
        return self._form("PATCH", f"/plan/schedules/{quote(schedule, safe='')}", {"enabled": enabled})

    def skip(self, schedule: str) -> forms.Outcome:
        """Leave out the next time of a schedule."""
        return self._form("PATCH", f"/plan/schedules/{quote(schedule, safe='')}", {"skip_next": True})

    def run_now(self, schedule: str) -> forms.Outcome:
        """Run a schedule now, for as long as it usually lasts."""
        return self._form("PATCH", f"/plan/schedules/{quote(schedule, safe='')}", {"run_now": True})

    def rehearse(
        self, begin: str, end: str, *, put: dict[str, Any] | None = None, drop: str | None = None
    ) -> forms.Rehearsal:
        """What the plan comes to between two times, at most 62 days; with a change, also what would differ."""
        more = {key: value for key, value in (("put", put), ("drop", drop)) if value is not None}
        return self._post("/plan/rehearsals", {"from": begin, "to": end, **more})

    def calendar(self) -> str:
        """The plan as a calendar (RFC 5545)."""
        text: str = self.call("GET", "/plan/calendar", text=True)
        return text

    def calendar_link(self) -> str:
        """An address that a phone's calendar can subscribe to, with a read-only key in it; the one before ends."""
        link: str = self._post("/plan/calendar-links", {})["link"]
        return link

    def take_calendar(self, content: bytes, *, dry: bool = False) -> forms.Taken:
        """Schedules from a calendar's events; a line for each says whether it was taken, and why not."""
        found: forms.Taken = self.call("POST", f"/plan/calendar{'?dry=1' if dry else ''}", content=content)
        return found

    def kit(self) -> forms.Kit:
        """What a rehearsal in another process needs: the site file, and the rest of the plan."""
        return self._get("/plan/kit")

    def timers(self) -> list[forms.Timer]:
        """Timers, and claims that end by time."""
        return self._rows("/plan/timers")

    def extend(self, timer: int, longer: str) -> forms.Outcome:
        """Put a timer off, or let a claim last longer."""
        return self._form("PATCH", f"/plan/timers/{timer}", {"longer": longer})

    def cancel(self, timer: int) -> forms.Outcome:
        """Cancel a timer, or release the claim."""
        return self._form("DELETE", f"/plan/timers/{timer}")

    def usage(
        self, begin: str | None = None, end: str | None = None, output: str | None = None
    ) -> list[forms.Usage]:
        """What each output did on each day: hours on, switchings, energy of its load. The last 30 days if not said."""
        days: list[forms.Usage] = self._get(
            f"/records/usage?{query({'from': begin, 'to': end, 'output': output})}"
        )["days"]
        return days

    def readings(self, name: str, begin: str | None = None, end: str | None = None) -> forms.Readings:
        """How an input or output was, an hour to a year: rows of milliseconds, least, mean and greatest value."""
        return self._get(f"/records/readings/{quote(name, safe='')}?{query({'from': begin, 'to': end})}")
