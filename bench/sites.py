"""Sites to measure on."""

from __future__ import annotations

import re

from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.demo import SITE_FILE

POLLING = ("clay-side", "yard-side", "hoist-box")
"""Boards of the demo whose links read all the time."""


def quiet_demo() -> str:
    """The text of the demo's site file without its plan, and with simulated boards for those that are read all the time."""
    tables = re.split(r"^(?=\[)", SITE_FILE.read_text("utf-8"), flags=re.MULTILINE)
    return "".join(_quiet(table) for table in tables if not table.startswith("[[schedule"))


def _quiet(table: str) -> str:
    board = re.match(r"\[board\.([\w-]+)\]", table)
    if board is None or board[1] not in POLLING:
        return table
    return f'[board.{board[1]}]\nlink = "simulated"\nlines = 40\n\n'


def wide(count: int) -> Site:
    """So many relays on one simulated board."""
    outputs = {
        f"relay-{number}": Output(
            f"relay-{number}", "relay", Pin("rack", number), label=f"Relay {number}", place="rack room"
        )
        for number in range(count)
    }
    return Site("Wide", boards={"rack": Board("rack", "simulated", None, max(count, 1))}, outputs=outputs)
