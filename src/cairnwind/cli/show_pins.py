"""How pins, chains and trials look in a terminal."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import click

from cairnwind.cli.show import both, console

POWER_ON = {
    "pull-up": "pulled up",
    "pull-down": "pulled down",
    "floating": "floats",
    "high": "driven high",
    "low": "driven low",
    "": "",
}


def pins(board: Mapping[str, Any], found: Sequence[Mapping[str, Any]]) -> None:
    """One table a connector, a row a line; supply and ground in a line of their own."""
    from rich.table import Table
    from rich.text import Text

    out = console()
    state = "answers" if board["up"] else f"does not answer: {board['reason']}"
    head = Text(f"{board['name']}  ", style="bold")
    head.append(f"{board['label']}, {board['link']}, {state}", style="" if board["up"] else "red")
    if board["rounds_a_second"] or board["errors"]:
        head.append(f"; {board['rounds_a_second']:g} rounds a second, {board['errors']} errors", style="dim")
    out.print(head)
    for connector in dict.fromkeys(each["connector"] for each in found):
        rows = [each for each in found if each["connector"] == connector]
        table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="dim", show_edge=False)
        heads = [connector, "line"] if connector else ["line"]
        for name in (*heads, "can", "now", "before software", "used by"):
            numeric = name == "line" and connector
            table.add_column(name, no_wrap=name != "used by", justify="right" if numeric else "left")
        free: list[int] = []
        for row in rows:
            if row["line"] is None:
                continue
            if (
                not connector
                and not row["user"]
                and not row["title"]
                and not row["holder"]
                and not row["can"]
                and row["high"] is None
            ):
                free.append(row["line"])
                continue
            cells = [
                row["position"] or f"line-{row['line']}",
                *([str(row["line"])] if connector else []),
                *_cells(row),
            ]
            table.add_row(*cells)
        if table.row_count:
            out.print(table)
        if free:
            out.print(Text(f"free: lines {_ranges(free)}", style="dim"))
        blank: dict[str, list[int]] = {}
        for row in rows:
            if row["line"] is None:
                blank.setdefault(row["role"], []).append(row["number"])
        if blank:
            out.print(
                Text(
                    "   ".join(f"{role} at {', '.join(map(str, where))}" for role, where in blank.items()),
                    style="dim",
                )
            )
        out.print()


def _cells(row: Mapping[str, Any]) -> list[Any]:
    from rich.text import Text

    can = (
        "?"
        if row["can"] is None
        else ", ".join(row["can"]) + (f" ({row['timer']})" if row["timer"] and "pwm" in row["can"] else "")
    )
    user = Text(row["user"].partition(" ")[2], style="bold") if row["user"] else Text("")
    if row["trial"]:
        user = Text(f"tried: {row['trial']['text']}", style="cyan")
    elif row["holder"]:
        user = Text(f"held by {row['holder']}", style="yellow")
    if row["trouble"]:
        user.append(f"{'  ' if len(user) else ''}{row['trouble']}", style="red")
    if row["title"]:
        user.append(f"{'  ' if len(user) else ''}{row['title']}", style="dim")
    return [can, high(row["high"]), POWER_ON[row["power_on"]], user]


def high(percent: float | None) -> str:
    """A pin's level in words."""
    return (
        ""
        if percent is None
        else "low"
        if percent == 0
        else "high"
        if percent == 100
        else f"high {percent:.4g} %"
    )


def _ranges(numbers: list[int]) -> str:
    parts: list[list[int]] = []
    for number in numbers:
        if parts and parts[-1][-1] == number - 1:
            parts[-1].append(number)
        else:
            parts.append([number])
    return ", ".join(str(part[0]) if len(part) == 1 else f"{part[0]} to {part[-1]}" for part in parts)


def has_read(form: Mapping[str, Any]) -> bool:
    """Whether a trial's answer has a reading yet."""
    reading = form["trial"]["reading"]
    return reading["high"] is not None or reading["raw"] is not None


def trial(form: Mapping[str, Any]) -> str:
    """A trial with its reading, as one line."""
    trial, reading = form["trial"], form["trial"]["reading"]
    parts = [both(form), trial["text"]]
    if reading["raw"] is not None:
        parts.append(
            f"reads {reading['raw']} of {reading['full']}"
            + (f" = {reading['volts']:.3f} V" if reading["volts"] is not None else "")
        )
    elif reading["high"] is not None:
        parts.append(f"reads {high(reading['high'])}")
    if reading["count"] is not None:
        parts.append(f"{reading['count']} edges")
    if reading["period_ns"]:
        parts.append(f"period {reading['period_ns'] / 1000:.10g} µs")
    return click.style(parts[0], bold=True) + "  " + "  ".join(parts[1:])


def chain(title: str, rows: Sequence[Mapping[str, Any]], others: dict[int, str], *, asked: bool) -> None:
    """The truth table of the address switches."""
    click.echo(title)
    count = len(rows[0]["switches"])
    click.echo(
        "  ".join(
            [*(f"A{number}" for number in reversed(range(count))), "address", *(["found"] if asked else [])]
        )
    )
    for row in rows:
        marks = "  ".join(f"{'on' if on else '-':<2}" for on in row["switches"])
        found = f"  {row['found'] or 'nothing'}" if asked else ""
        click.echo(f"{marks}  0x{row['address']:02X}   {found}")
    for address, what in others.items():
        click.echo(f"Elsewhere: 0x{address:02X} {what}.")
