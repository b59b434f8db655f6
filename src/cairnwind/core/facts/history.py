"""The forms in which things stand in the journal, and the state that a journal tells.

`Told` folds journal rows into the claims, tags and confirmed settings that they leave. It shares no code
with the engine, so that it can be held against it: after any run, and after any crash, what the journal
tells must be what the engine has.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from cairnwind.core.facts.claims import Claim, Instant, Lifetime, Rank, Source
from cairnwind.core.facts.interlocks import Latched, Raised, Stop, Tag
from cairnwind.core.physics.programs import decode_wanted, encode_wanted


def source_form(source: Source) -> dict[str, Any]:
    """A source as a JSON object."""
    return {"surface": source.surface, "who": source.who, "role": source.role}


def claim_form(claim: Claim) -> dict[str, Any]:
    """A claim as a JSON object; `claim_read` is the inverse but for monotonic times, which end with a boot."""
    return {
        "id": claim.id, "output": claim.output, "slot": claim.slot, "rank": claim.rank.word,
        "setting": encode_wanted(claim.setting), "place": claim.place, "source": source_form(claim.source),
        "lifetime": {"kind": claim.lifetime.kind, "span": claim.lifetime.span, "wall": claim.lifetime.wall},
        "made": claim.made.wall, "ends": claim.ends_wall, "scene": claim.scene, "patient": claim.patient,
    }  # fmt: skip


def claim_read(form: Mapping[str, Any]) -> Claim:
    """The claim of a stored form."""
    return Claim(
        form["id"], form["output"], form["slot"], Rank[form["rank"].upper()], decode_wanted(form["setting"]), form["place"],
        Source(**form["source"]), Lifetime(**form["lifetime"]), Instant(0, form["made"]), None, form["ends"], form.get("scene", ""), form.get("patient", False),
    )  # fmt: skip


def trip_form(trip: Latched) -> dict[str, Any]:
    """A trip in force as a JSON object."""
    return {"name": trip.name, "since": trip.since, "cause": trip.cause, "outputs": list(trip.outputs)}


def trip_read(form: Mapping[str, Any]) -> Latched:
    """The trip of a stored form."""
    return Latched(form["name"], form["since"], form["cause"], tuple(form["outputs"]))


def alarm_form(alarm: Raised) -> dict[str, Any]:
    """A raised alarm as a JSON object."""
    return alarm._asdict()


def alarm_read(form: Mapping[str, Any]) -> Raised:
    """The alarm of a stored form."""
    return Raised(**form)


def stop_form(stop: Stop | None) -> dict[str, Any] | None:
    """An all-stop as a JSON object."""
    if stop is None:
        return None
    return {"since": stop.since, "source": source_form(stop.source), "reason": stop.reason}


def stop_read(form: Mapping[str, Any] | None) -> Stop | None:
    """The all-stop of a stored form."""
    return Stop(form["since"], Source(**form["source"]), form["reason"]) if form else None


def tag_form(tag: Tag) -> dict[str, Any]:
    """A lockout tag as a JSON object."""
    return {
        "output": tag.output,
        "name": tag.name,
        "source": source_form(tag.source),
        "since": tag.since,
        "reason": tag.reason,
        "until": tag.until,
    }


def tag_read(form: Mapping[str, Any]) -> Tag:
    """The tag of a stored form."""
    return Tag(
        form["output"],
        form["name"],
        Source(**form["source"]),
        form["since"],
        form["reason"],
        form.get("until", 0),
    )


class Told:
    """What a journal tells, row by row: ``(kind, subject, data)``."""

    def __init__(self, rows: Iterable[tuple[str, str, Mapping[str, Any]]] = ()) -> None:
        self.claims: dict[tuple[str, str], dict[str, Any]] = {}
        """By output and slot, in the stored form."""
        self.confirmed: dict[str, dict[str, Any]] = {}
        """By output, as last seen."""
        self.inputs: dict[str, bool | None] = {}
        self.tags: set[tuple[str, str]] = set()
        self.stopped = False
        self.trips: set[str] = set()
        for kind, subject, data in rows:
            self.read(kind, subject, data)

    def read(self, kind: str, subject: str, data: Mapping[str, Any]) -> None:
        """Take one row."""
        match kind, data.get("verb"):
            case "command", "claim":
                self.claims[subject, data["claim"]["slot"]] = dict(data["claim"])
            case "command", "release" if "slot" in data:
                self.claims.pop((subject, data["slot"]), None)
            case "ended", _:
                self.claims.pop((subject, data["slot"]), None)
            case "command", "stop":
                self.stopped = True
            case "command", "reset":
                self.stopped = False
            case "command", "lock" if "outcome" not in data:
                self.tags.add((subject, data["tag"]["name"]))
            case "command", "unlock" if "outcome" not in data:
                self.tags.discard((subject, data["tag"]))
            case "trip", _ if "cause" in data:
                self.trips.add(subject)
            case ("command", "reset-trip") | ("trip", _) if "outcome" not in data:
                self.trips.discard(subject)
            case "change", _:
                self.confirmed[subject] = dict(data["setting"])
            case "input", _:
                self.inputs[subject] = data["active"]
