"""The JSON forms of the API: one function a noun."""

from __future__ import annotations

from datetime import UTC, datetime
from functools import lru_cache
from itertools import islice
from typing import Any
from zoneinfo import ZoneInfo

from cairnwind.core.explain.why import Why, left_text
from cairnwind.core.facts import plan
from cairnwind.core.facts.claims import Claim
from cairnwind.core.facts.events import Ended, Outcome
from cairnwind.core.facts.hardware import Board
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.interlocks import Latched, Raised, Refusal, Stop, Tag
from cairnwind.core.facts.now import BoardNow, InputNow, OutputNow, SiteNow
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.plan import Schedule, Span
from cairnwind.core.facts.site import Site
from cairnwind.core.facts.traces import Traced
from cairnwind.core.language import schedules
from cairnwind.core.physics.programs import Program
from cairnwind.core.rules.budget import Left
from cairnwind.core.values import jsontext
from cairnwind.core.values.quantities import NS
from cairnwind.core.values.settings import FULL, Colour, Drive, Setting, Tone, brief, show
from cairnwind.store.reader import Row


def dump(form: Any) -> bytes:
    """Compact UTF-8 JSON."""
    return jsontext.write(form)


def moment(wall: int | None) -> str | None:
    """Nanoseconds UTC as RFC 3339 with milliseconds; None for 'never'."""
    if not wall:
        return None
    return f"{_second(wall // 10**9)}.{wall // 10**6 % 1000:03d}Z"


@lru_cache(1024)
def _second(seconds: int) -> str:
    return f"{datetime.fromtimestamp(seconds, UTC):%Y-%m-%dT%H:%M:%S}"


def local(zone: ZoneInfo) -> Any:
    """A function that puts a wall time (nanoseconds UTC) into words in the site's zone."""

    def clock(wall: int) -> str:
        then = datetime.fromtimestamp(wall / 1e9, zone)
        today = datetime.now(zone).date()
        return f"{then:%H:%M:%S}" if then.date() == today else f"{then:%Y-%m-%d %H:%M:%S}"

    return clock


def left_form(left: Left, zone: ZoneInfo) -> dict[str, Any]:
    """What is left of a budget."""
    return {
        "left": left.left, "of": left.of, "share": round(left.share, 4), "text": left_text(left, local(zone)),
        "more": moment(left.more), "ends": moment(left.ends),
    }  # fmt: skip


def trace_form(number: int, trace: Traced) -> dict[str, Any]:
    """One decision, phase by phase."""
    return {
        "number": number, "at": moment(trace.wall), "event": trace.event,
        "steps": [
            {"phase": step.phase, "what": step.what, "text": step.text, "round": step.round, "no": step.no} for step in trace.steps
        ],
    }  # fmt: skip


def setting(output: Output, value: Setting | Program | None) -> dict[str, Any] | None:
    """A setting with its number and its words."""
    if isinstance(value, Program):
        length = value.length
        return {
            "on": value.on, "words": value.text, "program": value.word,
            "seconds": None if length is None else length / NS, "then": value.then,
        }  # fmt: skip
    if value is not None and (output.kind == "servo" or output.volts is not None):
        return {**_setting(value, output.words, output.dimmable), "words": output.say(value)}
    return None if value is None else _setting(value, output.words, output.dimmable)


@lru_cache(1024, typed=True)
def _setting(value: Setting, words: tuple[str, str], dimmable: bool) -> dict[str, Any]:
    form: dict[str, Any] = {"on": value.on, "words": show(brief(value), words, dimmable=dimmable)}
    match value:
        case Colour(red, green, blue):
            hexes = "".join(f"{round(part * 255 / FULL):02x}" for part in (red, green, blue))
            return {**form, "colour": f"#{hexes}"}
        case Tone(millihertz, loudness):
            return {**form, "hertz": millihertz / 1000, "loudness": loudness / 10_000}
        case Drive(parts):
            return {**form, "drive": parts / 10_000}
    if value.raw:
        form["duty"] = value.percent
    return (
        {"level": value.percent, **form}
        if not value.millihertz
        else {"level": value.percent, **form, "hertz": value.millihertz / 1000}
    )


def output_facts(output: Output) -> dict[str, Any]:
    """What does not change while the service runs."""
    return {
        "name": output.name, "label": output.label or output.name, "place": output.place, "kind": output.kind,
        "pin": output.pin.name, "line": output.pin.line, "board": output.pin.board, "dimmable": output.dimmable,
        "words": list(output.words), "rearm": output.rearm,
        "hertz": float(output.frequency) if output.frequency else None, "takes": output.takes,
    }  # fmt: skip


def output_form(now: OutputNow) -> dict[str, Any]:
    """An output whole: what it is, and how it stands."""
    return {**output_facts(now.output), **output_state(now)}


NOTHING = Refusal("", "", "")


def output_state(now: OutputNow) -> dict[str, Any]:
    """What does: from wish to pin."""
    say = now.output
    return {
        "state": now.state, "wanted": setting(say, now.wanted), "allowed": setting(say, now.allowed),
        "driven": setting(say, now.driven), "confirmed": setting(say, now.confirmed), "known": now.how,
        "since": moment(now.since), "by": now.leader.text if now.leader else "",
        "gate": now.refusal.gate if now.refusal else "",
        "reason": now.refusal.reason if now.refusal else now.keeping.reason if now.keeping else now.fault or now.link or now.failure,
        "expected": moment((now.refusal or now.keeping or NOTHING).expected or 0),
        "claims": [claim(say, each) for each in now.claims],
    }  # fmt: skip


def claim(output: Output, value: Claim) -> dict[str, Any]:
    """A standing claim."""
    return {
        "id": value.id, "output": value.output, "rank": value.rank.word, "slot": value.slot,
        "setting": setting(output, value.setting), "source": value.source.text,
        "lifetime": value.lifetime.kind, "ends": moment(value.ends_wall), "made": moment(value.made.wall),
    }  # fmt: skip


def input_form(input: Input, now: InputNow) -> dict[str, Any]:
    """An input with its state; ``active`` is null while unknown."""
    return {
        "name": input.name, "label": input.label or input.name, "place": input.place, "kind": input.kind,
        "pin": input.pin.name, "line": input.pin.line, "board": input.pin.board, "words": list(input.words),
        "active": now.active, "state": _value(input, now) if input.valued else input.say(now.active),
        "since": moment(now.since), "raw": now.raw, "edges": now.edges, "edge": moment(now.edge),
        "pull": input.pull, "debounce_ms": input.debounce / 1e6,
        "full": now.full or None, "volts": now.volts if now.full else None, "value": now.value, "total": now.total, "unit": input.measure, "stale_ms": input.stale / 1e6,
    }  # fmt: skip


def _value(input: Input, now: InputNow) -> str:
    return "unknown" if now.value is None else f"{now.value:.4g} {input.measure}".strip()


def board_form(board: Board, now: BoardNow) -> dict[str, Any]:
    """A board and the health of its link."""
    return {
        "name": board.name, "label": board.label or board.name, "link": board.link,
        "map": board.map.name if board.map else None, "up": now.up, "reason": now.reason, "since": moment(now.since),
    }  # fmt: skip


def stop_form(stop: Stop | None) -> dict[str, Any]:
    """The all-stop."""
    if stop is None:
        return {"stopped": False}
    return {"stopped": True, "since": moment(stop.since), "by": stop.source.text, "reason": stop.reason}


def tag_form(tag: Tag) -> dict[str, Any]:
    """A lockout tag."""
    return {
        "output": tag.output,
        "name": tag.name,
        "by": tag.source.text,
        "since": moment(tag.since),
        "reason": tag.reason,
        "until": moment(tag.until),
    }


def site_form(site: Site, now: SiteNow) -> dict[str, Any]:
    """The site as a whole."""
    return {
        "name": site.name, "timezone": site.timezone, "latitude": site.latitude, "longitude": site.longitude,
        "all_stop": stop_form(now.stop), "lockouts": [tag_form(tag) for tag in now.tags],
        "recording": now.recording, "trouble": now.trouble, "clock": now.clock,
        "trips": [trip_form(trip) for trip in now.trips], "alarms": [alarm_form(alarm) for alarm in now.alarms],
        "suspended": [{"reflex": name, "why": why} for name, why in now.suspended],
    }  # fmt: skip


def trip_form(trip: Latched) -> dict[str, Any]:
    """A trip in force."""
    return {
        "name": trip.name,
        "since": moment(trip.since),
        "cause": trip.cause,
        "outputs": list(trip.outputs),
    }


def alarm_form(alarm: Raised) -> dict[str, Any]:
    """An alarm that was raised."""
    return {
        "name": alarm.name, "severity": alarm.severity, "cause": alarm.cause, "still_so": alarm.so, "since": moment(alarm.since),
        "acknowledged_by": alarm.by or None, "times": alarm.times, "last": moment(alarm.last),
    }  # fmt: skip


def outcome_form(outcome: Outcome, output: Output | None, ended: Ended | None = None) -> dict[str, Any]:
    """The answer to a command. ``ended`` says what became of it, if that is known already."""
    form = {
        "command": outcome.command, "sequence": outcome.sequence, "outcome": outcome.outcome,
        "output": outcome.output or None, "reason": outcome.reason, "remedy": outcome.remedy,
        "setting": setting(output, outcome.setting) if output else None,
        "claim": claim(output, outcome.claim) if output and outcome.claim else None,
    }  # fmt: skip
    if outcome.parts:
        form["parts"] = [
            {
                "output": each.output,
                "outcome": each.outcome,
                "reason": each.reason,
                "claim": each.claim.id if each.claim else None,
            }
            for each in outcome.parts
        ]
    if ended is not None:
        form["ending"] = {"ending": ended.ending, "text": ended.text}
    return form


def ended_form(ended: Ended) -> dict[str, Any]:
    """What became of a command."""
    return {
        "command": ended.command,
        "output": ended.output or None,
        "ending": ended.ending,
        "text": ended.text,
    }


def schedule_form(schedule: Schedule, running: Span | None, now: int) -> dict[str, Any]:
    """A schedule, with when it is next as seen from ``now`` (nanoseconds UTC)."""
    coming = list(islice(plan.ahead(schedule, now, 800), 3)) if schedule.enabled else []
    return {
        **schedules.form_of(schedule), "origin": schedule.origin, "enabled": schedule.enabled, "when": plan.told(schedule),
        "outputs": list(schedule.course.outputs), "running_until": moment(running.end) if running else None,
        "next": [[moment(span.start), moment(span.end)] for span in coming],
        "skipped": [moment(each) for each in sorted(schedule.skipped) if each > now],
    }  # fmt: skip


def row_form(row: Row) -> dict[str, Any]:
    """A row of the journal."""
    return {
        "sequence": row.seq, "at": moment(row.wall), "kind": row.kind, "subject": row.subject or None,
        "text": row.text, "command": row.command or None, "source": row.source or None, "data": row.data,
    }  # fmt: skip


def why_form(value: Why) -> dict[str, Any]:
    """The reasons."""
    return {
        "output": value.output, "sentence": value.sentence, "remedy": value.remedy,
        "steps": [{"stage": stage, "text": text} for stage, text in value.steps],
    }  # fmt: skip
