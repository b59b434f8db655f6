"""HTTP for time: phrases, timers, the plan, and what it comes to in any span."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta
from itertools import islice
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

from flask import Response, request

from cairnwind.commands.phrases import Do, said_aloud
from cairnwind.commands.reading import read
from cairnwind.core.facts import events as ev
from cairnwind.core.facts import plan
from cairnwind.core.facts.claims import Rank
from cairnwind.core.facts.course import Course, Timer
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.plan import Schedule
from cairnwind.core.facts.site import Site
from cairnwind.core.language import answers, schedules, spoken
from cairnwind.core.physics.programs import Program
from cairnwind.core.values import spokentimes
from cairnwind.core.values.errors import CallerError, Trouble, unknown
from cairnwind.core.values.quantities import NS, show_duration
from cairnwind.core.values.settings import Setting
from cairnwind.remotes.address import outside
from cairnwind.service import records, rehearsals, shapes
from cairnwind.service.asked import answer, caller, caller_key, json_body, need, waits
from cairnwind.service.bounded import Bounded
from cairnwind.service.desk import Desk
from cairnwind.service.questions import asked
from cairnwind.service.startup import clock

if TYPE_CHECKING:
    from cairnwind.site.calendars import Line

SPAN_MOST = 400 * 86400 * NS
"""As far as spans are asked for at once."""
SPANS_MOST = 5000
REHEARSED_MOST = 62 * 86400 * NS
"""As far as the service rehearses by itself: longer ones are run by those who ask for them."""
READINGS_MOST = 20_000
CALENDAR = "calendar"
"""The key that is in the calendar's address."""


class PlanViews:
    """The views; `cairnwind.service.app` has the way in."""

    def __init__(self, desk: Desk, perform: Callable[..., Response]) -> None:
        """``perform`` has a command decided, and answers with its outcome."""
        self.desk, self.runtime, self.keys = desk, desk.runtime, desk.keys
        self.engine = self.runtime.engine
        self._perform = perform
        self._rehearsing = Bounded(
            "a rehearsal", "Rehearse a shorter time, or on a machine of your own: cairnwind rehearse."
        )

    @property
    def zone(self) -> ZoneInfo:
        """The site's time zone."""
        return ZoneInfo(self.site.timezone)

    @property
    def site(self) -> Site:
        """What is wired, and the site file, as it was read last."""
        return self.runtime.site

    @property
    def planned(self) -> schedules.Planned:
        """The language, scenes and schedules of the site file, as it was read last."""
        return self.runtime.planned

    def routes(self, v1: str) -> dict[str, dict[str, Callable[..., Any]]]:
        """Their addresses."""
        return {
            f"{v1}/phrases": {"POST": self.say},
            f"{v1}/scenes": {"GET": self.get_scenes},
            f"{v1}/plan": {"GET": self.get_plan},
            f"{v1}/plan/spans": {"GET": self.get_spans},
            f"{v1}/plan/schedules/<path:name>": {"GET": self.get_schedule},
            f"{v1}/plan/kit": {"GET": self.kit},
            f"{v1}/plan/rehearsals": {"POST": self.rehearse},
            f"{v1}/plan/calendar": {"GET": self.calendar, "POST": self.take_calendar},
            f"{v1}/plan/calendar-links": {"POST": self.calendar_link},
            f"{v1}/records/usage": {"GET": self.usage},
            f"{v1}/records/readings/<name>": {"GET": self.readings},
            f"{v1}/plan/timers": {"GET": self.get_timers},
        }  # fmt: skip

    # --- phrases ------------------------------------------------------------------------------------------

    def say(self) -> Response:
        """Carry a phrase out, or with ``dry`` say what it would do."""
        body = json_body({"phrase", "dry", "wait"})
        dry = body.get("dry", False)
        if not isinstance(dry, bool):
            raise CallerError("bad-value", "'dry' is neither true nor false.", "Send true or false.")
        said = body.get("phrase")
        if isinstance(said, str) and spoken.asks(said):
            return self._answered(said)
        command = read(Do, {key: value for key, value in body.items() if key == "phrase"})
        try:
            if dry:
                return answer(self._dry(said_aloud(need(body, "phrase"), self.planned.course)))
            return self._perform(command, waits(body))
        except Trouble as error:
            error.more["say"] = answers.question(error)
            raise

    def _answered(self, said: str) -> Response:
        """A question among phrases: it does nothing, and is answered in a sentence."""
        try:
            found = asked(self.desk.runtime, spoken.question(said))
        except CallerError as error:
            error.more["say"] = answers.question(error)
            raise
        return answer({**found, "say": answers.told(found["so"], found["instead"])})

    def _dry(self, course: Course) -> dict[str, Any]:
        """What a phrase would do: who is set to what and until when, step by step."""
        now = clock().wall
        steps = []
        at = 0
        for step in course.steps:
            at += step.after
            orders = []
            for order in step.orders:
                output = self.site.outputs.get(order.output)
                ends = order.until.after(now, self.site.where) if order.until else None
                life = order.lifetime
                until = (
                    f"until {self._words(ends)}" if ends else f"for {show_duration(life.span)}" if life and life.kind == "for"
                    else "until released" if life else ""
                )  # fmt: skip
                orders.append({
                    "output": order.output or None, "label": (output.label or output.name) if output else f"scene {order.scene}",
                    "act": order.act, "setting": shapes.setting(output, order.wanted) if output else None, "lasting": until,
                    "now": self._now(order.output), "against": "" if at else self._against(output, order.wanted),
                })  # fmt: skip
            steps.append({"after_seconds": at / NS, "text": step.text, "orders": orders, "stop": step.stop})
        lead = course.lead
        begins = None
        if lead is not None:
            begins = shapes.moment(lead.at.after(now, self.site.where) if lead.at else now + lead.after)
        return {"phrase": course.text, "steps": steps, "begins": begins, "every_seconds": lead.every / NS if lead and lead.every else None}  # fmt: skip

    def _against(self, output: Output | None, wanted: Setting | Program | None) -> str:
        """What the gates would say now to whoever wants this."""
        if output is None or wanted is None or not wanted.on:
            return ""
        if not caller_key().may(self.site, output.name):
            return f"the key '{caller_key().name}' may not command {output.name}"
        found = self.runtime.against(caller(), output.name)
        return found.reason if found is not None else ""

    def _now(self, name: str) -> str:
        found = self.runtime.publisher.find(name)
        return found.output.say(found.wanted) if found else ""

    def _words(self, wall: int) -> str:
        then, today = datetime.fromtimestamp(wall // NS, self.zone), datetime.now(self.zone).date()
        if then.date() == today:
            return f"{then:%H:%M}"
        return (
            f"tomorrow {then:%H:%M}" if then.date() == today + timedelta(days=1) else f"{then:%Y-%m-%d %H:%M}"
        )

    def get_scenes(self) -> Response:
        """The scenes of the site file."""
        return answer([{"name": name, "do": list(do)} for name, do in self.planned.scenes.items()])

    # --- timers -------------------------------------------------------------------------------------------

    def get_timers(self) -> Response:
        """What is still to come: timers, and claims that end by time."""
        return answer(self._timers())

    def _timers(self) -> list[dict[str, Any]]:
        found = [self._timer(each) for each in list(self.engine.courses.timers.values())]
        for now in self.runtime.publisher.current.nows:
            found += [
                {"id": each.id, "kind": "claim", "output": each.output, "text": f"{each.output} {now.output.say(each.setting)}",
                 "due": shapes.moment(each.ends_wall), "by": each.source.text, "every_seconds": None, "left": None, "made": shapes.moment(each.made.wall)}
                for each in now.claims
                if each.rank is Rank.PERSON and each.lifetime.kind in ("for", "until")
            ]  # fmt: skip
        return sorted(found, key=lambda each: each["due"] or "")

    def _timer(self, timer: Timer) -> dict[str, Any]:
        return {
            "id": timer.id, "kind": "series" if timer.every else "timer", "output": None, "text": timer.text, "due": shapes.moment(timer.due_wall),
            "by": timer.source.text, "every_seconds": timer.every / NS or None, "left": timer.left or None, "made": shapes.moment(timer.made),
        }  # fmt: skip

    # --- the plan -----------------------------------------------------------------------------------------

    def get_plan(self) -> Response:
        """Every schedule with where it comes from and when it is next, and the timers."""
        return answer({"schedules": [self._schedule(each) for each in list(self.engine.planning.schedules.values())], "timers": self._timers(),
                       "scenes": list(self.planned.scenes), "believed": not self.engine.state.clocks.behind})  # fmt: skip

    def get_schedule(self, name: str) -> Response:
        """One schedule."""
        return answer(self._schedule(self._find(name)))

    def _schedule(self, schedule: Schedule) -> dict[str, Any]:
        return shapes.schedule_form(schedule, self.engine.planning.running.get(schedule.name), clock().wall)

    def get_spans(self) -> Response:
        """When each schedule is on, between two moments."""
        begin, end = self.period()
        found = []
        for schedule in list(self.engine.planning.schedules.values()):
            if schedule.enabled:
                early = begin - max(schedule.at_most, 2 * 86400 * NS)
                for span in islice(plan.spans(schedule, early, end), SPANS_MOST):
                    if span.end > begin:
                        found.append({"name": schedule.name, "outputs": list(schedule.course.outputs), "do": schedule.course.text,
                                      "start": shapes.moment(span.start), "end": shapes.moment(span.end)})  # fmt: skip
        return answer(
            {
                "from": shapes.moment(begin),
                "to": shapes.moment(end),
                "spans": sorted(found, key=lambda each: each["start"]),
            }
        )

    def period(self) -> tuple[int, int]:
        """'from' and 'to' of the query; a week from today's midnight if they are not given."""
        today = datetime.now(self.zone).replace(hour=0, minute=0, second=0, microsecond=0)
        begin = self._instant(request.args.get("from"), today)
        end = self._instant(
            request.args.get("to"), datetime.fromtimestamp(begin // NS, self.zone) + timedelta(days=7)
        )
        if not begin < end <= begin + SPAN_MOST:
            raise CallerError(
                "bad-value", "'to' is not after 'from', or more than 400 days.", "Ask for a shorter time."
            )
        return begin, end

    def _instant(self, text: str | None, default: datetime) -> int:
        return (
            spokentimes.wall(text, self.zone, clock().wall, spokentimes.COMING)
            if text
            else int(default.timestamp()) * NS
        )

    def _find(self, name: str) -> Schedule:
        found = self.engine.planning.schedules.get(name)
        if found is None:
            raise unknown("schedule", name, self.engine.planning.schedules)
        return found

    # --- calendars ----------------------------------------------------------------------------------------

    def calendar(self) -> Response:
        """The plan as a calendar that a phone may subscribe to."""
        from cairnwind.site import calendar_feed

        found = calendar_feed.feed(
            self.site.name, list(self.engine.planning.schedules.values()), clock().wall
        )
        return Response(
            found,
            content_type="text/calendar; charset=utf-8",
            headers={"Cache-Control": "private, max-age=300"},
        )

    def calendar_link(self) -> Response:
        """An address of the calendar with a read-only key in it; the one before ends."""
        json_body(set(), empty=True)
        text = self.keys.renew(CALENDAR, "watch")
        link = f"{outside(self.site, request.host_url)}api/v1/plan/calendar?key={text}"
        return answer({"link": link}, 201, link)

    def take_calendar(self) -> Response:
        """Schedules from the events of a calendar, a line for each event; with ``dry`` only the lines."""
        from cairnwind.site import calendars

        if not request.environ.get("CONTENT_TYPE", "").lower().startswith("text/calendar"):
            raise CallerError(
                "media",
                "The request's body is not marked as a calendar.",
                "Send Content-Type: text/calendar.",
            )
        request.max_content_length = calendars.LARGEST
        lines = calendars.read(
            request.get_data(), self.planned, dict(self.engine.planning.schedules), clock().wall
        )
        if request.args.get("dry") is None:
            lines = self._take(lines)
        told = [{"title": line.title, "outcome": line.outcome, "why": line.why} for line in lines]
        return answer(
            {
                "events": told,
                "taken": sum(line.outcome == "taken" for line in lines),
                "dry": request.args.get("dry") is not None,
            }
        )

    def _take(self, lines: list[Line]) -> list[Line]:
        """Put the schedules of events on the plan, all or, where one of them is not permitted, none; returns what became of each."""
        made = [
            schedules.make(line.form, self.planned, "database") for line in lines if line.form is not None
        ]
        asked = [
            ev.Plan(clock(), self.runtime.command_id(), caller(), "put", each.name, each) for each in made
        ]
        outcomes = iter(self.desk.submit_all([*asked]) if asked else ())
        found = []
        for line in lines:
            outcome = next(outcomes) if line.form is not None else None
            if outcome is not None and outcome.outcome != "driving":
                line = line._replace(outcome="refused", why=f"{outcome.reason}. {outcome.remedy}".strip())
            found.append(line)
        return found

    # --- records ------------------------------------------------------------------------------------------

    def usage(self) -> Response:
        """What each output did on each day; the last 30 days if no period is given."""
        today = datetime.now(self.zone)
        begin, end = (
            datetime.fromtimestamp(spokentimes.wall(text, self.zone, clock().wall) // NS, self.zone)
            if (text := request.args.get(name))
            else default
            for name, default in (("from", today - timedelta(days=29)), ("to", today))
        )
        name = request.args.get("output")
        if name is not None and name not in self.site.outputs:
            raise unknown("output", name, self.site.outputs)
        rows = self.runtime.reader.usage(f"{begin:%Y-%m-%d}", f"{end:%Y-%m-%d}", name)
        return answer({"days": records.usage_form(rows, self.site)})

    def readings(self, name: str) -> Response:
        """How an input or an output was over a time: single readings, or least, mean and greatest of each interval."""
        if name not in self.site.inputs and name not in self.site.outputs:
            raise unknown("input or output", name, [*self.site.inputs, *self.site.outputs])
        now = clock().wall
        begin = (
            spokentimes.wall(text, self.zone, now) if (text := request.args.get("from")) else now - 86400 * NS
        )
        end = spokentimes.wall(text, self.zone, now) if (text := request.args.get("to")) else now
        if not begin < end:
            raise CallerError("bad-value", "'to' is not after 'from'.", "Ask for a later end.")
        step, rows = records.readings_of(self.runtime.reader, name, begin, end, READINGS_MOST)
        input = self.site.inputs.get(name)
        unit = input.measure if input is not None else ""
        return answer({
            "name": name, "unit": unit, "step_seconds": step, "from": shapes.moment(begin), "to": shapes.moment(end),
            "rows": [[wall // 10**6, low, mean, high] for wall, low, mean, high in rows],
            "counted": records.counted(input, rows) if input is not None else None,
        })  # fmt: skip

    # --- rehearsals ---------------------------------------------------------------------------------------

    def kit(self) -> Response:
        """What a rehearsal elsewhere needs: the site file, and what has been added to its plan and done to it."""
        added = [
            {
                "form": schedules.form_of(each) if each.origin == "database" else None,
                "name": each.name,
                "state": schedules.state_of(each, None),
            }
            for each in list(self.engine.planning.schedules.values())
        ]
        return answer({"site_file": self.site.source[1], "schedules": added})

    def rehearse(self) -> Response:
        """What will happen in a time to come; with ``put`` or ``drop``, also what would be different then."""
        body = json_body({"from", "to", "put", "drop"})
        begin, end = (
            spokentimes.wall(need(body, name), self.zone, clock().wall, spokentimes.COMING)
            for name in ("from", "to")
        )
        if not begin < end <= begin + REHEARSED_MOST:
            raise CallerError(
                "bad-value",
                "'to' is not after 'from', or more than 62 days.",
                "Rehearse longer times with: cairnwind rehearse.",
            )
        now = list(self.engine.planning.schedules.values())
        changed = self._changed(body, now) if "put" in body or "drop" in body else None
        found = self._rehearsing.run(rehearsals.compared, self.site, now, changed, begin, end)
        return Response(found, content_type="application/json")

    def _changed(self, body: dict[str, Any], now: list[Schedule]) -> list[Schedule]:
        """The plan as it would be."""
        changed = {each.name: each for each in now}
        if "drop" in body:
            changed.pop(need(body, "drop"), None)
        if "put" in body:
            if not isinstance(body["put"], dict):
                raise CallerError(
                    "bad-value", "'put' is no schedule.", f"Send an object with {', '.join(schedules.KEYS)}."
                )
            made = schedules.make(body["put"], self.planned, "database")
            changed[made.name] = made
        return list(changed.values())
