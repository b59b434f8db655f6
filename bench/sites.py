"""Sites to measure on."""

from __future__ import annotations

import re

from cairnwind.core.model import Board, Output, Pin, Site
from cairnwind.demo import SITE_FILE

POLLING = ("clay-side", "yard-side", "hoist-box")
"""Boards of the demo whose links read all the time."""


def quiet_demo() -> str:
    """The text of the demo's site file without the boards that are read all the time, and without its plan."""
    text = SITE_FILE.read_text("utf-8")
    tables = re.split(r"^(?=\[)", text, flags=re.MULTILINE)
    plan = ("[[schedule", "[scene", "[group")
    return "".join(
        table
        for table in tables
        if not table.startswith(plan) and not any(board in table for board in POLLING)
    )


def wide(count: int) -> Site:
    """So many relays on one simulated board."""
    outputs = {
        f"relay-{number}": Output(
            f"relay-{number}", "relay", Pin("rack", number), label=f"Relay {number}", place="rack room"
        )
        for number in range(count)
    }
    return Site("Wide", boards={"rack": Board("rack", "simulated", None, max(count, 1))}, outputs=outputs)
