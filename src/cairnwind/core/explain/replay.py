"""What once happened, as happenings for a rehearsal: from the rows of a journal, or from a table of inputs."""

from __future__ import annotations

import csv
import heapq
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import Any

from cairnwind.core.explain.rehearsal import Put
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import RELEASED, Instant, Rank, Source
from cairnwind.core.facts.history import claim_read, tag_read
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.site import Site
from cairnwind.core.physics.programs import Program
from cairnwind.core.values.errors import CallerError, unknown

MOST_ROWS = 1_000_000
KEEPER = Source("replay", "", "keep")


def of_journal(
    rows: Iterable[tuple[int, str, str, Mapping[str, Any]]],
    site: Site,
    readings: Iterable[tuple[int, str, float]] = (),
) -> Iterator[tuple[int, Put]]:
    """Inputs, links, and what persons and hands commanded: rows are (wall, kind, subject, data).

    ``readings`` are what analogue inputs read, which the journal does not hold: (wall, input, value), rising.

    What schedules did is left out: they are rehearsed. Names that the site does not have are passed over, and
    so are commands that an output no longer takes.
    """
    happenings = _of_rows(rows, site)
    return heapq.merge(happenings, _of_readings(readings, site), key=lambda each: each[0])


def _of_readings(readings: Iterable[tuple[int, str, float]], site: Site) -> Iterator[tuple[int, Put]]:
    for wall, name, value in readings:
        input = site.inputs.get(name)
        if input is not None and input.analogue:
            yield wall, _reads(name, input.volts(value))


def _reads(name: str, volts: float | None) -> Put:
    return lambda at: ev.Measured(at, name, None if volts is None else 0, 1, volts)


def _of_rows(
    rows: Iterable[tuple[int, str, str, Mapping[str, Any]]], site: Site
) -> Iterator[tuple[int, Put]]:
    lost: set[str] = set()
    for wall, kind, subject, data in rows:
        if kind == "link":
            if data["up"] and subject not in lost:
                continue  # it answers since the service was started, as it does in the rehearsal
            lost ^= {subject}
        put = _put(kind, subject, data, site)
        if put is not None:
            yield wall, put


def _put(kind: str, subject: str, data: Mapping[str, Any], site: Site) -> Put | None:
    verb = data.get("verb")
    if kind == "input" and subject in site.inputs and site.inputs[subject].analogue:
        return _reads(subject, None)  # it fell silent
    if kind == "input" and subject in site.inputs:
        return lambda at: ev.InputSeen(at, subject, data["active"], settled=True)
    if kind == "link" and subject in site.boards:
        if data["up"]:
            return lambda at: ev.LinkUp(at, subject)
        return lambda at: ev.LinkLost(at, subject, data["reason"], data.get("cut", False))
    if kind == "command" and verb == "stop" and data.get("stop"):
        source = Source(**data["stop"]["source"])
        return lambda at: ev.AllStop(at, "replay", source, data["stop"]["reason"])
    if kind == "command" and verb == "reset":
        return lambda at: ev.ResetStop(at, "replay", KEEPER)
    if kind == "command" and verb == "reset-trip" and "by" in data:
        return lambda at: ev.ResetTrip(at, "replay", KEEPER, subject, data["by"])
    if kind == "command" and verb == "resume" and "outcome" not in data:
        return lambda at: ev.Resume(at, "replay", KEEPER, subject)
    return _of_output(kind, subject, data, site) if subject in site.outputs else None


def _of_output(kind: str, subject: str, data: Mapping[str, Any], site: Site) -> Put | None:
    verb = data.get("verb")
    if kind == "guard" and "by" in data:
        return lambda at: ev.Open(at, "replay", KEEPER, subject, data["by"])
    if kind == "command" and verb == "attest" and "by" in data:
        return lambda at: ev.Attest(at, "replay", KEEPER, subject, data["by"])
    if kind == "command" and verb == "claim":
        return _claim(subject, data, site)
    if (kind == "command" and verb == "release" and "slot" in data) or (
        kind == "ended" and str(data.get("why", "")).startswith("its holder")
    ):
        return lambda at: ev.Release(at, "replay", KEEPER, subject, data["slot"])
    if kind == "command" and verb == "lock" and "tag" in data:
        tag = tag_read(data["tag"])
        return lambda at: ev.Lock(at, "replay", tag.source, subject, tag.name, tag.reason)
    if kind == "command" and verb == "unlock" and "outcome" not in data:
        return lambda at: ev.Unlock(at, "replay", KEEPER, subject, data["tag"])
    return None


def _claim(subject: str, data: Mapping[str, Any], site: Site) -> Put | None:
    claim = claim_read(data["claim"])
    if claim.rank < Rank.PERSON:
        return None
    output = site.outputs[subject]
    try:
        output.fits(claim.setting) if isinstance(claim.setting, Program) else output.admit(claim.setting)
    except CallerError:
        return None
    life = RELEASED if claim.lifetime.kind == "lease" else claim.lifetime  # it ended when the journal says so

    def put(at: Instant) -> ev.Event:
        return ev.Wish(
            at,
            "replay",
            claim.source,
            subject,
            claim.setting,
            claim.rank,
            claim.slot,
            life,
            True,
            claim.scene,
        )

    return put


def of_table(text: str, site: Site, read: Callable[[str], int]) -> list[tuple[int, Put]]:
    """Inputs from CSV with the columns time, input and state: '2026-11-23T08:00,kiln-door,open'.

    ``read`` turns a time into wall nanoseconds. The state is one of the input's words, on or off, 1 or 0; of an
    analogue input its value. Raises `CallerError` (``bad-value``) that says which line.
    """
    rows = list(csv.reader(text.splitlines()))
    if not rows or [cell.strip().lower() for cell in rows[0]] != ["time", "input", "state"]:
        raise CallerError(
            "bad-value",
            "The table of inputs does not begin with its columns.",
            "Write a first line: time,input,state",
        )
    if len(rows) > MOST_ROWS:
        raise CallerError("bad-value", f"The table of inputs has {len(rows)} lines.", f"At most {MOST_ROWS}.")
    found = []
    for number, row in enumerate(rows[1:], 2):
        if not any(cell.strip() for cell in row):
            continue
        try:
            if len(row) != 3:
                raise CallerError(
                    "bad-value", f"it has {len(row)} cells instead of 3", "Write time,input,state."
                )
            time, name, state = (cell.strip() for cell in row)
            if name not in site.inputs:
                raise unknown("input", name, site.inputs)
            found.append((read(time), _seen(site.inputs[name], state)))
        except CallerError as error:
            raise CallerError(
                "bad-value", f"Line {number} of the table of inputs: {error.sentence}", error.remedy
            ) from None
    return found


def _seen(input: Input, state: str) -> Put:
    if input.analogue:
        try:
            volts = input.volts(float(state))
        except ValueError:
            raise CallerError(
                "bad-value", f"'{state}' is no value of {input.name}.", "Write a number."
            ) from None
        return lambda at: ev.Measured(at, input.name, 0, 1, volts)
    if input.kind == "encoder":
        raise CallerError(
            "bad-value", f"{input.name} is turned by hand.", "Leave it out: turns cannot be rehearsed."
        )
    words = {
        input.words[0]: False,
        input.words[1]: True,
        "0": False,
        "1": True,
        "off": False,
        "on": True,
        "unknown": None,
    }
    if state.lower() not in words:
        raise CallerError(
            "bad-value",
            f"'{state}' is no state of {input.name}.",
            f"Write {input.words[0]}, {input.words[1]} or unknown.",
        )
    active = words[state.lower()]
    return lambda at: ev.InputSeen(at, input.name, active, settled=True)
