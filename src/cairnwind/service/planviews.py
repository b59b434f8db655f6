"""HTTP for time: phrases, timers, the plan, and what it comes to in any span."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta
from itertools import islice
from typing import Any
from zoneinfo import ZoneInfo

from flask import Response, request

from cairnwind.core import events as ev
from cairnwind.core import plan, schedules
from cairnwind.core.claims import Claim, Rank
from cairnwind.core.course import Course, Timer
from cairnwind.core.errors import CallerError, unknown
from cairnwind.core.plan import Schedule
from cairnwind.core.quantities import NS, duration, show_duration
from cairnwind.service import shapes
from cairnwind.service.asked import answer, caller, caller_key, json_body, need, waits
from cairnwind.service.first import clock
from cairnwind.service.problems import OF_OUTCOME, problem
from cairnwind.service.repeats import Repeats
from cairnwind.service.runtime import Runtime

SPAN_MOST = 400 * 86400 * NS
"""As far as spans are asked for at once."""
SPANS_MOST = 5000
OWN = set(schedules.KEYS)


class PlanViews:
    """The views; `cairnwind.service.app` has the way in."""

    def __init__(self, runtime: Runtime, repeats: Repeats) -> None:
        self.runtime = runtime
        self.site = runtime.site
        self.planned = runtime.planned
        self.agenda = runtime.engine.agenda
        self.zone = ZoneInfo(self.site.timezone)
        self.repeats = repeats

    def routes(self, v1: str) -> dict[str, dict[str, Callable[..., Any]]]:
        """Their addresses."""
        return {
            f"{v1}/phrases": {"POST": self.say},
            f"{v1}/scenes": {"GET": self.get_scenes},
            f"{v1}/plan": {"GET": self.get_plan},
            f"{v1}/plan/spans": {"GET": self.get_spans},
            f"{v1}/plan/schedules": {"POST": self.add},
            f"{v1}/plan/schedules/<path:name>": {"GET": self.get_schedule, "PUT": self.put, "DELETE": self.drop, "PATCH": self.patch},
            f"{v1}/plan/timers": {"GET": self.get_timers},
            f"{v1}/plan/timers/<int:number>": {"PATCH": self.extend, "DELETE": self.cancel},
        }  # fmt: skip

    # --- phrases ------------------------------------------------------------------------------------------

    def say(self) -> Response:
        """Carry a phrase out, or with ``dry`` say what it would do."""
        body = json_body({"phrase", "dry", "wait"})
        text = need(body, "phrase")
        dry = body.get("dry", False)
        if not isinstance(dry, bool):
            raise CallerError("bad-value", "'dry' is neither true nor false.", "Send true or false.")
        course = self.planned.course(text)
        if dry:
            return answer(self._dry(course))
        wait = waits(body)

        def decide(repeat: tuple[str, str, str] | None) -> dict[str, Any]:
            command = ev.Do(clock(), self.runtime.command_id(), caller(), course)
            outcome, _ = self.runtime.submit(command, repeat=repeat, wait=wait)
            return {**shapes.outcome_form(outcome, None), "phrase": course.text}

        token = request.headers.get("Idempotency-Key")
        if token is None:
            form = decide(None)
        else:
            form = self.repeats.once(
                f"{caller_key().id} POST {request.path}", token, request.get_data(), decide
            )
        code = OF_OUTCOME.get(form["outcome"])
        if code is None:
            return answer(form, 201)
        return problem(
            code,
            f"{form['reason'] or form['outcome']}.",
            **{key: value for key, value in form.items() if key != "command"},
        )

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
                    "now": self._now(order.output),
                })  # fmt: skip
            steps.append({"after_seconds": at / NS, "text": step.text, "orders": orders, "stop": step.stop})
        lead = course.lead
        begins = None
        if lead is not None:
            begins = shapes.moment(lead.at.after(now, self.site.where) if lead.at else now + lead.after)
        return {"phrase": course.text, "steps": steps, "begins": begins, "every_seconds": lead.every / NS if lead and lead.every else None}  # fmt: skip

    def _now(self, name: str) -> str:
        found = self.runtime.publisher.find(name)
        return found[0].output.say(found[0].wanted) if found else ""

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
        found = [self._timer(each) for each in list(self.agenda.timers.values())]
        for page in self.runtime.publisher.current.pages:
            for now in page.nows:
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

    def extend(self, number: int) -> Response:
        """Put a timer off, or let a claim last longer."""
        body = json_body({"longer"})
        return self._change(number, duration(need(body, "longer")))

    def cancel(self, number: int) -> Response:
        """Cancel a timer, or release the claim."""
        return self._change(number, 0)

    def _change(self, number: int, span: int) -> Response:
        at, name = clock(), self.runtime.command_id()
        claim: Claim | None = self.runtime.claims.get(number)
        if number not in self.agenda.timers and claim is None:
            raise CallerError(
                "no-claim", f"There is no timer {number}; it may be over.", "See: cairnwind timers."
            )
        if number in self.agenda.timers or claim is None:
            command: ev.Command = ev.ChangeTimer(at, name, caller(), number, span)
        elif span:
            command = ev.Extend(at, name, caller(), claim.output, claim.slot, span)
        else:
            command = ev.Release(at, name, caller(), claim.output, claim.slot)
        return self._done(command)

    def _done(self, command: ev.Command, status: int = 200, **more: Any) -> Response:
        outcome, _ = self.runtime.submit(command)
        form = {**shapes.outcome_form(outcome, self.site.outputs.get(outcome.output)), **more}
        code = OF_OUTCOME.get(outcome.outcome)
        if code is None:
            return answer(form, status)
        return problem(code, f"{outcome.reason}.", **form)

    # --- the plan -----------------------------------------------------------------------------------------

    def get_plan(self) -> Response:
        """Every schedule with where it comes from and when it is next, and the timers."""
        return answer({"schedules": [self._schedule(each) for each in list(self.agenda.schedules.values())], "timers": self._timers(),
                       "scenes": list(self.planned.scenes), "believed": not self.agenda.believed})  # fmt: skip

    def get_schedule(self, name: str) -> Response:
        """One schedule."""
        return answer(self._schedule(self._find(name)))

    def _schedule(self, schedule: Schedule) -> dict[str, Any]:
        now = clock().wall
        running = self.agenda.running.get(schedule.name)
        coming = list(islice(plan.ahead(schedule, now, 800), 3)) if schedule.enabled else []
        return {
            **schedules.form_of(schedule), "origin": schedule.origin, "enabled": schedule.enabled, "when": plan.told(schedule),
            "outputs": list(schedule.course.outputs), "running_until": shapes.moment(running.end) if running else None,
            "next": [[shapes.moment(span.start), shapes.moment(span.end)] for span in coming],
            "skipped": [shapes.moment(each) for each in sorted(schedule.skipped) if each > now],
        }  # fmt: skip

    def get_spans(self) -> Response:
        """When each schedule is on, between two moments."""
        begin, end = self.period()
        found = []
        for schedule in list(self.agenda.schedules.values()):
            if schedule.enabled:
                early = begin - max(schedule.length, 2 * 86400 * NS)
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
        return moment_of(text, self.zone) if text else int(default.timestamp()) * NS

    def add(self) -> Response:
        """A new schedule."""
        body = json_body(OWN)
        schedule = schedules.make(body, self.planned, "database")
        if schedule.name in self.agenda.schedules:
            raise CallerError(
                "refused",
                f"There is a schedule called '{schedule.name}' already.",
                "Take another name, or change that one.",
            )
        return self._put(schedule, 201)

    def put(self, name: str) -> Response:
        """Change a schedule that was added here."""
        body = json_body(OWN)
        return self._put(schedules.make({"name": name, **body}, self.planned, "database"), 200, instead=name)

    def _put(self, schedule: Schedule, status: int, instead: str = "") -> Response:
        if instead and instead != schedule.name:
            raise CallerError(
                "bad-value",
                f"'{instead}' cannot be renamed to '{schedule.name}'.",
                "Add it anew, and drop the old one.",
            )
        command = ev.Plan(clock(), self.runtime.command_id(), caller(), "put", schedule.name, schedule)
        return self._done(command, status, schedule=self._schedule(schedule))

    def drop(self, name: str) -> Response:
        """Take a schedule off the plan."""
        self._find(name)
        return self._done(ev.Plan(clock(), self.runtime.command_id(), caller(), "drop", name))

    def patch(self, name: str) -> Response:
        """Enable or disable a schedule, skip its next time, or run it now."""
        body = json_body({"enabled", "skip_next", "run_now"})
        self._find(name)
        verbs = {
            "enabled": "enable" if body.get("enabled") is True else "disable",
            "skip_next": "skip",
            "run_now": "run",
        }
        given = [key for key in verbs if key in body]
        if (
            len(given) != 1
            or not isinstance(body[given[0]], bool)
            or (given[0] != "enabled" and not body[given[0]])
        ):
            raise CallerError(
                "bad-value",
                "The request does not say what to do.",
                'Send one of {"enabled": false}, {"skip_next": true}, {"run_now": true}.',
            )
        return self._done(ev.Plan(clock(), self.runtime.command_id(), caller(), verbs[given[0]], name))

    def _find(self, name: str) -> Schedule:
        found = self.agenda.schedules.get(name)
        if found is None:
            raise unknown("schedule", name, self.agenda.schedules)
        return found


def moment_of(text: str, zone: ZoneInfo) -> int:
    """An RFC 3339 time or a date, in the site's zone if it has none, as wall nanoseconds. Raises `CallerError`."""
    try:
        then = datetime.fromisoformat(text)
        return int((then if then.tzinfo else then.replace(tzinfo=zone)).timestamp()) * NS
    except (ValueError, OverflowError, OSError):
        raise CallerError(
            "bad-value", f"'{text}' is not a time.", "Write it like 2026-11-23 or 2026-11-23T22:30."
        ) from None
