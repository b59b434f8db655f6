"""``cairnwind look --problems``: only what is wrong, with what to do about it."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

import click

if TYPE_CHECKING:
    from cairnwind.client import Site

STATES = ("blocked", "unreachable", "fault", "retrying")


def found(site: Site) -> Iterator[dict[str, Any]]:
    """Each as what it is about, its name, what is wrong, and the line to type."""

    def problem(
        what: str, name: str, text: str, remedy: str = "", since: str | None = None
    ) -> dict[str, Any]:
        return {"what": what, "name": name, "text": text, "remedy": remedy, "since": since}

    facts = site.facts()
    stop = facts["all_stop"]
    if stop["stopped"]:
        reason = f": {stop['reason']}" if stop.get("reason") else ""
        yield problem(
            "site",
            "",
            f"everything is stopped by {stop.get('by', 'somebody')}{reason}",
            "cairnwind stop --reset",
            stop.get("since"),
        )
    if not facts["recording"]:
        yield problem("site", "", f"the journal cannot be written: {facts['trouble']}", "cairnwind doctor")
    elif facts["trouble"]:
        yield problem(
            "site", "", f"the journal may soon not be written: {facts['trouble']}", "cairnwind doctor"
        )
    if facts["clock"]:
        yield problem("site", "", str(facts["clock"]), "cairnwind clock")
    for trip in facts["trips"]:
        yield problem(
            "trip",
            trip["name"],
            f"latched by {trip['cause']}; it holds {', '.join(trip['outputs'])}",
            f"cairnwind reset '{trip['name']}' --by NAME",
            trip["since"],
        )
    for alarm in site.alarms():
        if alarm["acknowledged_by"] is None or alarm["still_so"]:
            remedy = (
                ""
                if alarm["acknowledged_by"]
                else f"cairnwind alarms '{alarm['name']}' --acknowledge --by NAME"
            )
            yield problem(
                "alarm", alarm["name"], f"{alarm['severity']}: {alarm['cause']}", remedy, alarm["since"]
            )
    for each in facts["suspended"]:
        name = each["reflex"]
        yield problem("reflex", name, f"suspended: {each['why']}", f"cairnwind resume '{name}'")
    for board in site.boards():
        if not board["up"]:
            yield problem(
                "board",
                board["name"],
                f"lost: {board['reason']}",
                f"cairnwind look {board['name']}",
                board["since"],
            )
    for remote in site.remotes():
        if not remote["up"] or remote["trouble"]:
            yield problem("remote", remote["name"], remote["trouble"] or "away", "cairnwind remotes")
    for output in site.outputs():
        if output["state"] in STATES:
            yield problem(
                "output",
                output["name"],
                f"{output['state']}: {output['reason']}",
                f"cairnwind why {output['name']}",
                output["since"],
            )
    for input in site.inputs():
        if input["active"] is None and input["value"] is None:
            yield problem(
                "input", input["name"], "not known", f"cairnwind look {input['name']}", input["since"]
            )


def show(problems: list[dict[str, Any]], zone: ZoneInfo) -> None:
    """Each on a line, with since when it is so, and what to type below it."""
    today = datetime.now(zone).date()

    def when(text: str) -> str:
        at = datetime.fromisoformat(text).astimezone(zone)
        return f"{at:%H:%M:%S}" if at.date() == today else f"{at:%a %d %b %Y %H:%M}"

    for each in problems:
        name = click.style(f"{each['what']} {each['name']}".strip(), bold=True)
        since = click.style(f"  since {when(each['since'])}", dim=True) if each["since"] else ""
        click.echo(f"{name}  {each['text']}{since}")
        if each["remedy"]:
            click.echo(f"    {each['remedy']}")
    if not problems:
        click.echo("Nothing is wrong.")
