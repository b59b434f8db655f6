"""A trace of a decision on a terminal."""

from __future__ import annotations

from collections.abc import Mapping
from itertools import groupby
from typing import Any
from zoneinfo import ZoneInfo

from rich.table import Table
from rich.text import Text

from cairnwind.cli import show


def one(form: Mapping[str, Any], zone: ZoneInfo) -> None:
    """One event: its phases, and what was asked in each."""
    console = show.console()
    console.print(Text(f"{show.clock(form['at'], zone)}  ", style="dim") + Text(form["event"], style="bold"))
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), show_header=False, show_edge=False)
    for column in ("", "phase", "what", "text"):
        table.add_column(column, overflow="fold")
    rounds = max((step["round"] for step in form["steps"]), default=1)
    for (phase, round), steps in groupby(form["steps"], key=lambda step: (step["phase"], step["round"])):
        if phase == "event":
            continue
        title = f"{phase} ({round})" if rounds > 1 and round > 1 else phase
        for step in steps:
            style = "yellow" if step["no"] else "dim" if step["text"] == "nothing against it" else ""
            table.add_row("", Text(title, style="dim"), Text(step["what"]), Text(step["text"], style=style))
            title = ""
    console.print(table)
    console.print()
