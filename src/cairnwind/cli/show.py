"""How answers look in a terminal: tables, marks, times in the site's zone. Plain where it is not a terminal."""

from __future__ import annotations

import json
import re
import sys
from collections.abc import Iterable, Mapping, Sequence
from datetime import UTC, datetime
from typing import IO, TYPE_CHECKING, Any, cast
from zoneinfo import ZoneInfo

import click

from cairnwind.core.values.errors import ACCEPT_CLOCK
from cairnwind.core.values.visible import escaped

if TYPE_CHECKING:
    from rich.console import Console

STATE_STYLE = {
    "confirmed": "", "driving": "cyan", "running": "cyan", "waiting": "yellow", "retrying": "yellow", "blocked": "yellow",
    "unreachable": "red", "fault": "red",
}  # fmt: skip
"""A style for each of `cairnwind.core.facts.now.STATES`."""


class _Trimmed:
    """Standard output where it is not a terminal: tables are not filled up with blanks, which would wrap in whatever shows them."""

    encoding = "utf-8"

    def write(self, text: str) -> int:
        sys.stdout.write(re.sub(r" +(?=\n)", "", text))
        return len(text)

    def flush(self) -> None:
        sys.stdout.flush()


def console(width: int = 200) -> Console:
    """Standard output: as wide as need be when it is not a terminal."""
    from rich.console import Console

    if sys.stdout.isatty():
        return Console(highlight=False, soft_wrap=False)
    return Console(highlight=False, soft_wrap=False, width=width, file=cast("IO[str]", _Trimmed()))


def emit(form: Any) -> None:
    """One JSON value on one line."""
    click.echo(escaped(json.dumps(form, ensure_ascii=False)))


def sentence(text: str) -> str:
    """A reason as a sentence of its own."""
    return f"{text[0].upper()}{text[1:].rstrip('.')}."


def time_of(text: str | None, zone: ZoneInfo) -> str:
    """An RFC 3339 time as the site's clock shows it: the day only where it is another."""
    if not text:
        return ""
    then = datetime.fromisoformat(text).astimezone(zone)
    return f"{then:%H:%M:%S}" if then.date() == datetime.now(zone).date() else f"{then:%Y-%m-%d %H:%M}"


def over(text: str) -> bool:
    """Whether an RFC 3339 time has passed."""
    return datetime.fromisoformat(text) < datetime.now(UTC)


def supplies(found: Sequence[Mapping[str, Any]]) -> None:
    """What is drawn from each supply, by which outputs, and what is left."""
    if not found:
        click.echo("The site file has no supplies.")
    for each in found:
        drawn, limit = each["drawn"], each["limit"]
        said = "not known" if drawn is None else f"{drawn * 1000:.4g} mA"
        if limit is not None:
            said += f" of {limit * 1000:.4g} mA" + (
                "" if drawn is None else f", {max(0.0, limit - drawn) * 1000:.4g} mA left"
            )
        click.echo(f"{click.style(each['name'], bold=True)}  {each['volts']:g} V  {said}")
        for output in each["outputs"]:
            on = {True: "on", False: "off", None: "not known"}[output["on"]]
            click.echo(f"  {output['output']}  {output['amperes'] * 1000:.4g} mA  {on}")


def look(
    facts: Mapping[str, Any],
    outputs: Sequence[Mapping[str, Any]],
    inputs: Sequence[Mapping[str, Any]],
    boards: Sequence[Mapping[str, Any]],
    *,
    by_board: bool = False,
) -> None:
    """The site: its outputs and inputs by place or by board, and the boards that do not answer."""
    from rich.table import Table
    from rich.text import Text

    zone = ZoneInfo(facts["timezone"])
    out = console()
    out.print(Text(facts["name"], style="bold"))
    if facts["all_stop"]["stopped"]:
        stop = facts["all_stop"]
        out.print(
            Text(
                f"ALL-STOP since {time_of(stop['since'], zone)} by the {stop['by']}{': ' + stop['reason'] if stop['reason'] else ''}",
                style="bold red",
            )
        )
    if facts["clock"]:
        out.print(Text(f"{sentence(facts['clock'])} {ACCEPT_CLOCK}", style="yellow"))
    for trip in facts["trips"]:
        out.print(
            Text(
                f"'{trip['name']}' has tripped since {time_of(trip['since'], zone)}: {trip['cause']}",
                style="bold red",
            )
        )
    for alarm in facts["alarms"]:
        if not alarm["acknowledged_by"]:
            style = {"urgent": "bold red", "warning": "yellow"}.get(alarm["severity"], "")
            out.print(
                Text(
                    f"Alarm '{alarm['name']}' since {time_of(alarm['since'], zone)}: {alarm['cause']}",
                    style=style,
                )
            )
    for board in boards:
        if not board["up"]:
            out.print(Text(f"Board {board['name']} does not answer: {board['reason']}", style="red"))
    if not outputs and not inputs:
        out.print("The site has no outputs and no inputs yet: add [output.…] tables to its file.")
        return
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim", show_edge=False)
    for name in ("output", "is", "because", "since", "pin"):
        table.add_column(name, no_wrap=name != "because")
    key = "board" if by_board else "place"
    heads = {board["name"]: f"{board['label']}, {board['link']}" for board in boards}
    for place in dict.fromkeys([*(each[key] for each in outputs), *(each[key] for each in inputs)]):
        title = Text(place or "elsewhere", style="italic")
        table.add_row(title, "", Text(heads[place], style="dim") if by_board else "")
        for each in outputs:
            if each[key] == place:
                style = STATE_STYLE[each["state"]]
                known = each["confirmed"]
                state = Text(
                    known["words"] if known else "unknown", style="bold" if known and known["on"] else ""
                )
                if each["state"] != "confirmed":
                    state.append(f" ({each['state']})", style=style)
                table.add_row(
                    f"  {each['name']}",
                    state,
                    _because(each),
                    time_of(each["since"], zone),
                    both(each),
                )
        for each in inputs:
            if each[key] == place:
                table.add_row(
                    f"  {each['name']}",
                    Text(each["state"], style="bold" if each["active"] else ""),
                    Text("input", style="dim"),
                    time_of(each["since"], zone),
                    both(each),
                )
    out.print(table)


def both(thing: Mapping[str, Any]) -> str:
    """A pin by both its numbers, once where they are the same."""
    pin = str(thing["pin"])
    return pin if pin.endswith(f":line-{thing['line']}") else f"{pin} (line {thing['line']})"


def _because(output: Mapping[str, Any]) -> str:
    if output["reason"]:
        return str(output["reason"])
    return f"{output['by']} wants it {output['wanted']['words']}" if output["by"] else "rest"


def notes(rows: Sequence[Mapping[str, Any]], zone: ZoneInfo) -> None:
    """What people have left to remember, the oldest first."""
    for row in reversed(rows):
        click.echo(
            f"{click.style(time_of(row['at'], zone), dim=True)}  {row['text']}  {click.style(row['source'], dim=True)}"
        )


def written(form: Mapping[str, Any]) -> None:
    """What stands in the site file, and below it what else could."""
    from rich.table import Table
    from rich.text import Text

    out = console()
    out.print(Text(f"[{form['table']}]", style="bold"))
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), show_header=False)
    table.add_column(no_wrap=True)
    table.add_column(overflow="fold")
    table.add_column(style="dim", overflow="fold")
    for key in sorted(form["keys"], key=lambda key: key["value"] is None):
        stands = key["value"] is not None
        value = key["value"] if stands else f"({key['unsaid']})" if key["unsaid"] else "-"
        style = "" if stands else "dim"
        table.add_row(
            Text(f"  {key['name']}", style=style), Text(value, style=style), Text(_without_links(key["says"]))
        )
    out.print(table)


def _without_links(text: str) -> str:
    """Markdown as plain words."""
    return re.sub(r"\[([^]]*)\]\([^)]*\)", r"\1", text).replace("`", "")


def why(form: Mapping[str, Any], *, past: bool = False) -> None:
    """The sentence, then the steps from wish to pin."""
    from rich.table import Table
    from rich.text import Text

    out = console()
    out.print(Text(f"{form['output']} {'was' if past else 'is'} {form['sentence']}", style="bold"))
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), show_header=False)
    table.add_column(style="dim", no_wrap=True)
    table.add_column()
    for step in form["steps"]:
        table.add_row(f"  {step['stage']}", step["text"])
    if form["remedy"]:
        table.add_row("  to change", form["remedy"])
    out.print(table)


def journal(rows: Sequence[Mapping[str, Any]], zone: ZoneInfo) -> None:
    """Rows of the journal, oldest at the top."""
    for row in rows:
        journal_line(row, zone)


def journal_line(row: Mapping[str, Any], zone: ZoneInfo) -> None:
    """One row: number, time, text, source."""
    source = click.style(f"  {row['source']}", dim=True) if row["source"] else ""
    click.echo(f"{row['sequence']:>7}  {time_of(row['at'], zone)}  {row['text']}{source}")


def reading(data: Mapping[str, Any], zone: ZoneInfo) -> str:
    """An input as it reads at this moment: what its line shows, and what counts."""
    if data["kind"] == "analogue":
        if data["raw"] is not None and not data["full"]:  # it is measured in its own unit
            raw = ""
        elif data["value"] is None:
            raw = f"{data['raw']} of {data['full']}" if data["raw"] is not None else "no reading"
        else:
            raw = f"{data['raw']} of {data['full']} = {data['volts']:.3f} V"
        return f"{clock(data['since'], zone)}  {data['name']}  {click.style(data['state'], bold=True)}  {raw}"
    line = "unknown" if data["raw"] is None else data["words"][1 if data["raw"] else 0]
    settled = (
        ""
        if data["raw"] == data["active"]
        else f" (the line shows {line}; counts after {data['debounce_ms']:g} ms)"
    )
    pull = f", pull-{data['pull']}" if data["pull"] != "none" else ""
    edges = (
        f"{data['edges']} edges, the last at {clock(data['edge'], zone)}" if data["edges"] else "no edge yet"
    )
    return f"{clock(data['edge'] or data['since'], zone)}  {data['name']}  {click.style(data['state'], bold=bool(data['active']))}{settled}  {edges}{pull}"


def frame(data: Mapping[str, Any], zone: ZoneInfo) -> str:
    """Something that went over a wire: time, way, text, bytes."""
    ways = {
        "sent": click.style("→", fg="cyan"),
        "got": click.style("←", fg="green"),
        "lost": click.style("×", fg="red"),
    }
    raw = "" if data["plain"] or not data["raw"] else click.style(f"  [{data['raw']}]", dim=True)
    return f"{clock(data['at'], zone)}  {ways[data['way']]} {data['text']}{raw}"


def clock(text: str | None, zone: ZoneInfo) -> str:
    """A time to the millisecond, as the site's clock shows it."""
    return (
        datetime.fromisoformat(text).astimezone(zone).strftime("%H:%M:%S.%f")[:-3] if text else "            "
    )


def change(kind: str, data: Mapping[str, Any], zone: ZoneInfo) -> str | None:
    """A change as one line, or None where it says nothing to a person."""
    at = datetime.now(zone).strftime("%H:%M:%S.%f")[:-3]
    match kind:
        case "output":
            known = data["confirmed"]["words"] if data["confirmed"] else "unknown"
            if data["state"] == "driving":
                what = click.style(
                    f"{known} → {data['driven']['words']}" if data["driven"] else known, fg="cyan"
                )
            else:
                what = click.style(known, bold=bool(data["confirmed"] and data["confirmed"]["on"]))
                what += "" if data["state"] == "confirmed" else f" ({data['state']}: {data['reason']})"
            return f"{at}  {data['name']}  {what}  " + click.style(data["by"] or "rest", dim=True)
        case "input":
            return (
                f"{at}  {data['name']}  {click.style(data['state'], bold=bool(data['active']))}  "
                + click.style("input", dim=True)
            )
        case "board":
            return f"{at}  board {data['name']} " + (
                "answers" if data["up"] else click.style(f"does not answer: {data['reason']}", fg="red")
            )
        case "site":
            stop = data["all_stop"]
            return f"{at}  " + (
                click.style("all-stop", fg="red", bold=True) + f" by the {stop['by']}"
                if stop["stopped"]
                else "no all-stop"
            )
        case "command" if data["ending"] != "confirmed":
            return f"{at}  {data['output'] or 'site'}  {data['ending']}: {data['text']}"
    return None


HELD = {True: ("safe", "green"), False: ("not safe", "red"), None: ("unknown", "yellow")}


def held(rows: Iterable[Mapping[str, Any]]) -> None:
    """What has each output when the service does not."""
    for each in rows:
        click.echo(click.style(each["output"], bold=True))
        for when, then in (("stop", each["stop"]), ("kill", each["killed"]), ("power cut", each["power"])):
            mark, colour = HELD[then["safe"]]
            click.echo(f"  after a {when:<9}  {click.style(f'{mark:<8}', fg=colour)}  {then['says']}")
        if each["remedy"]:
            click.echo(click.style("  ! ", fg="yellow") + each["remedy"])
