"""Signals in the terminal: drawn under each other on one time axis, followed live, or saved as a file."""

from __future__ import annotations

import sys
from collections.abc import Iterator, Mapping
from datetime import datetime
from itertools import pairwise
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import click
from rich.live import Live
from rich.table import Table
from rich.text import Text

from cairnwind.cli import draw, show
from cairnwind.cli.interrupts import Interrupts
from cairnwind.client import Site
from cairnwind.core.values.errors import CallerError

EVERY = 0.25


def watch(site: Site, names: list[str], seconds: float, save: str | None, as_json: bool) -> None:
    """Draw ``names`` (or those that moved) over the last ``seconds``; on a terminal until Ctrl-C."""
    if save is not None:
        form = Path(save).suffix.lstrip(".").lower()
        if form not in ("vcd", "csv"):
            raise CallerError(
                "bad-value", f"'{save}' is neither FILE.vcd nor FILE.csv.", "Say which by its ending."
            )
        text = site.export(names or moved(site, seconds), form, seconds=seconds)
        Path(save).write_text(text, "utf-8")
        rows = text.count("\n")
        show.emit({"file": save, "lines": rows}) if as_json else click.echo(f"{save}: {rows} lines.")
        return
    if as_json:
        show.emit(site.signals(names or moved(site, seconds), seconds=seconds))
        return
    zone = ZoneInfo(site.facts()["timezone"])
    out = show.console(120)
    if not sys.stdout.isatty():
        out.print(picture(site.signals(names or moved(site, seconds), seconds=seconds), zone, out.width))
        return
    with Interrupts(ends=False) as stop, Live(console=out, refresh_per_second=8) as live:
        while not stop.asked:
            found = site.signals(names or moved(site, seconds), seconds=seconds)
            live.update(picture(found, zone, out.width), refresh=True)
            stop.sleep(EVERY)


def moved(site: Site, seconds: float) -> list[str]:
    """The signals that changed lately, at most 20; those that are on if none did."""
    every = [each["name"] for each in site.signals()["signals"]]
    found = site.signals(every, seconds=seconds)["signals"]
    lively = [each["name"] for each in found if len(each["times"]) > 1]
    if not lively:
        lively = [each["name"] for each in found if each["values"] and each["values"][-1]]
    return lively[:20] or every[:8]


def picture(found: Mapping[str, Any], zone: ZoneInfo, width: int) -> Table:
    """The signals as a table: name, trace, what it is now."""
    start, end = found["from"], found["to"]
    label = max((len(each["name"]) for each in found["signals"]), default=4)
    cells = max(20, width - label - 30)
    table = Table(box=None, padding=(0, 1), expand=False)
    begun, over = (datetime.fromtimestamp(at / 1e6, zone) for at in (start, end))
    axis = f"{begun:%H:%M:%S.%f}"[:-3] + f"{over:%H:%M:%S}".rjust(cells - 12)
    for column in ("signal", axis, "now"):
        table.add_column(Text(column), no_wrap=True)
    for signal in found["signals"]:
        low, high = scale(signal)
        parts = list(spans(signal, start, end, cells))
        flat = signal["kind"] == "digital"
        trace = draw.levels(parts) if flat else draw.span(parts, low, high)
        table.add_row(signal["name"], Text(trace, style="cyan"), now(signal))
    return table


def scale(signal: Mapping[str, Any]) -> tuple[float, float]:
    """Bottom and top of a trace: fixed where the unit says so, else what there was."""
    if signal["kind"] == "pwm":
        return 0.0, 100.0
    if signal["kind"] == "drive":
        return -100.0, 100.0
    numbers = signal["hertz"] if signal["kind"] == "tone" else signal["values"]
    known = [value for value in numbers or [] if value is not None]
    return (0.0 if signal["kind"] == "tone" else min(known, default=0.0)), max(known, default=1.0)


def spans(
    signal: Mapping[str, Any], start: int, end: int, cells: int
) -> Iterator[tuple[float, float] | None]:
    """For each cell of the time axis the lowest and highest value in it; None where it is not known."""
    values = signal["values"]
    if signal["kind"] == "tone":
        values = [
            hertz if value else 0.0 for value, hertz in zip(values, signal["hertz"] or values, strict=True)
        ]
    edges = [*signal["times"], end + 1]
    rows = [(a, b, value) for (a, b), value in zip(pairwise(edges), values, strict=True)]
    number = 0
    for cell in range(cells):
        left = start + (end - start) * cell // cells
        right = start + (end - start) * (cell + 1) // cells
        while number < len(rows) and rows[number][1] <= left:
            number += 1
        inside = []
        at = number
        while at < len(rows) and rows[at][0] < right:
            inside.append(rows[at][2])
            at += 1
        known = [value for value in inside if value is not None]
        if known:
            yield min(known), max(known)
        else:
            yield None if inside or (signal["kind"] in ("analogue", "digital") and not rows) else (0.0, 0.0)


def now(signal: Mapping[str, Any]) -> str:
    """What it is at, in words."""
    if not signal["values"]:
        return "off" if signal["kind"] != "analogue" else "unknown"
    value = signal["values"][-1]
    if value is None:
        return "unknown"
    hertz = signal["hertz"][-1] if signal["hertz"] else 0
    match signal["kind"]:
        case "digital":
            return str(signal["words"][1 if value else 0])
        case "tone":
            return f"{hertz:.6g} Hz" if value else "silent"
        case "analogue":
            return f"{value:.4g} {signal['unit']}"
    return f"{value:.4g} %" + (f" at {hertz:.5g} Hz" if hertz and value else "")
