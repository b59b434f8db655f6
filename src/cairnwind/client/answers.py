"""What the service answers, typed; and how questions are put."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any
from urllib.parse import quote


@dataclass(frozen=True, slots=True)
class Outcome:
    """The answer to a command."""

    outcome: str
    """'driving', 'waiting', 'blocked' or 'unreachable' (a claim that stands all the same)."""
    output: str | None
    sequence: int
    """The command's number in the journal."""
    reason: str
    command: str
    words: str
    """The setting, in the output's words."""
    ending: str
    """'confirmed', 'failed' or 'superseded', if that was known within the time to wait; else empty."""
    text: str
    """What became of it, in words."""
    claim: int | None
    form: dict[str, Any] = field(repr=False)
    """The whole answer, as the API gave it."""


@dataclass(frozen=True, slots=True)
class Change:
    """One event of the stream."""

    kind: str
    """'output', 'input', 'board', 'site', 'command', or 'afresh' (the whole picture)."""
    name: str
    data: dict[str, Any]
    id: str


def outcome_of(form: dict[str, Any]) -> Outcome:
    """An outcome from its form."""
    setting, ending, claim = form.get("setting") or {}, form.get("ending") or {}, form.get("claim") or {}
    return Outcome(
        form["outcome"], form["output"], form["sequence"], form["reason"], form["command"], setting.get("words", ""),
        ending.get("ending", ""), ending.get("text", ""), claim.get("id"), form,
    )  # fmt: skip


def lifetime(lasting: str | None, until: str | None, when_possible: bool) -> dict[str, Any]:
    """How long a claim is to last, as members of a request."""
    body: dict[str, Any] = {}
    if lasting == "until released":
        body["lasting"] = lasting
    elif lasting is not None:
        body["for"] = lasting
    if until is not None:
        body["until"] = until
    if when_possible:
        body["when_possible"] = True
    return body


def keywords(facts: dict[str, Any]) -> dict[str, Any]:
    """Keywords as keys: ``from_`` is 'from', which Python keeps for itself."""
    return {key.rstrip("_"): value for key, value in facts.items() if value is not None}


def query(values: dict[str, Any]) -> str:
    """Values as the query of an address; those that are None are left out."""
    return "&".join(
        f"{key}={quote(str(value), safe='')}" for key, value in values.items() if value is not None
    )
