"""What a command says of a claim, read into what it asks for: one reading for every surface that speaks in objects."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any
from zoneinfo import ZoneInfo

from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import (
    PERSON,
    RELEASED,
    TAKEOVER,
    Instant,
    Lifetime,
    Rank,
    Source,
    lasting,
    lease,
    until,
)
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.physics import programs, sound
from cairnwind.core.physics.programs import Program
from cairnwind.core.values import spokentimes
from cairnwind.core.values.errors import CallerError, unknown
from cairnwind.core.values.quantities import NS, duration
from cairnwind.core.values.settings import Setting

CLAIM = ("setting", "over", "program", "rank", "for", "until", "lease", "lasting", "when_possible")
"""Members of a request for a claim, beside the output or outputs."""
LEASE = NS
"""A hold's lease unless it says otherwise."""
SHORTEST_LEASE, LONGEST_LEASE = NS // 10, 60 * NS


def output_of(site: Site, name: object) -> Output:
    """The output of this name. Raises `CallerError` (``unknown-name``, ``bad-value``)."""
    if not isinstance(name, str) or not name:
        raise CallerError("bad-value", "The request has no text 'output'.", "Send 'output' as a text.")
    found = site.outputs.get(name)
    if found is None and name in site.inputs:
        input = site.inputs[name]
        raise CallerError(
            "unknown-name", f"{name} is an input: it is read, and not switched.",
            f"Ask of it: cairnwind ask '{name} is {input.words[0] if not input.valued else 'above 1'}'.",
        )  # fmt: skip
    if found is None:
        raise unknown("output", name, site.outputs)
    return found


def wanted(
    body: Mapping[str, Any], output: Output, tunes: Any, place: int = 0, of: int = 1
) -> Setting | Program | None:
    """What a command's body asks an output for: a setting, a way there, or a program. None is a toggle."""
    if ("setting" in body) == ("program" in body):
        raise CallerError(
            "bad-value",
            "The request needs a 'setting' or a 'program', one of them.",
            'Send a setting like "on" or "40 %", or a program.',
        )
    if "setting" in body:
        value = body["setting"]
        if value == "toggle" and "over" not in body:
            return None
        setting = output.read(value)
        if "over" not in body:
            return setting
        return output.named(
            lambda: output.fits(
                programs.make({"kind": "ramp", "to": value, "over": body["over"]}, output.takes, output.read)
            ),
        )
    if "over" in body:
        raise CallerError("bad-value", "'over' goes with a setting.", "A ramp has its own.")
    return output.named(lambda: program(body["program"], output, tunes, place, of))


def program(form: Any, output: Output, tunes: Any, place: int = 0, of: int = 1) -> Program:
    """The program that a JSON object asks for; a text is the name of a tune of the site."""
    if isinstance(form, str):
        if form not in tunes:
            raise unknown("tune", form, tunes)
        made: Program = tunes[form]
    elif not isinstance(form, dict):
        raise CallerError("bad-value", "This is no program.", 'Send an object like {"kind": "blink"}.')
    elif form.get("kind") in ("tune", "sweep"):
        made = sound.make(form)
    else:
        made = programs.make(form, output.takes, output.read, place, of)
    return output.fits(made)


def claim(
    at: Instant, command: str, source: Source, site: Site, output: Output, body: Mapping[str, Any], place: int = 0, of: int = 1
) -> ev.Wish:  # fmt: skip
    """The command that a request for a claim asks for: persons share a slot, each hold has its own."""
    setting = wanted(body, output, site.tunes, place, of)
    rank, life = lifetime(body, site.timezone, at.wall)
    possible = body.get("when_possible", False)
    if not isinstance(possible, bool):
        raise CallerError("bad-value", "'when_possible' is neither true nor false.", "Send true or false.")
    slot = PERSON if rank is Rank.PERSON else f"hand:{command}"
    return ev.Wish(at, command, source, output.name, setting, rank, slot, life, possible)


def lifetime(body: Mapping[str, Any], zone: str, now: int) -> tuple[Rank, Lifetime]:
    """Rank and lifetime: the table of defaults by surface has one row for commands like this and one for holds."""
    word = body.get("rank", "hand" if "lease" in body else "person")
    if word not in ("person", "hand"):
        raise CallerError(
            "bad-value",
            f"'{word}' is not a rank that can be asked for.",
            "Send person, or hand with a lease.",
        )
    given = [key for key in ("for", "until", "lease", "lasting") if key in body]
    if len(given) > 1:
        raise CallerError(
            "bad-value", f"{' and '.join(map(repr, given))} cannot be given together.", "Send one of them."
        )
    if word == "hand":
        if given and given != ["lease"]:
            raise CallerError("bad-value", "A hold lasts by its lease only.", "Send 'lease' or nothing.")
        span = duration(body["lease"]) if given else LEASE
        if not SHORTEST_LEASE <= span <= LONGEST_LEASE:
            raise CallerError(
                "bad-value",
                f"A lease of '{body.get('lease')}' is out of range.",
                "Send 100 ms to 60 s, and renew it.",
            )
        return Rank.HAND, lease(span)
    match given:
        case ["for"]:
            return Rank.PERSON, lasting(duration(body["for"]))
        case ["until"]:
            return Rank.PERSON, until(moment(body["until"], ZoneInfo(zone), now))
        case ["lasting"] if body["lasting"] == "until released":
            return Rank.PERSON, RELEASED
        case ["lasting"]:
            raise CallerError(
                "bad-value",
                f"'{body['lasting']}' is not a lifetime.",
                "Send \"until released\", or 'for' or 'until'.",
            )
        case ["lease"]:
            raise CallerError(
                "bad-value", "A person's claim has no lease.", "Send rank hand, or leave the rank out."
            )
        case _:
            return Rank.PERSON, TAKEOVER


def moment(text: object, zone: ZoneInfo, now: int) -> int:
    """A time to come as people say it, or RFC 3339, as wall nanoseconds: '22:30' is of today or tomorrow, in the site's zone."""
    wall = spokentimes.wall(str(text), zone, now, spokentimes.COMING)
    if wall <= now:
        raise CallerError("bad-value", f"'{text}' is over already.", "Give a time to come.")
    return wall
