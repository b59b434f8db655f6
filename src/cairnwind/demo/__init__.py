"""The demo site, and the small world that makes its sensors move."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from cairnwind.core.model import Site
from cairnwind.demo.serialboard import SerialBoard
from cairnwind.site import read_site

SITE_FILE = Path(__file__).with_name("saltmarsh.toml")


def site() -> tuple[Site, SerialBoard | None]:
    """The demo's site, and its serial board: None where that program has not been built, and the board is simulated."""
    found = read_site(SITE_FILE)
    box = found.boards["hoist-box"]
    try:
        board = SerialBoard()
    except OSError:
        box = replace(box, link="simulated", facts=None)
        return replace(found, boards={**found.boards, box.name: box}), None
    box = replace(box, facts=replace(box.facts, port=board.port))
    return replace(found, boards={**found.boards, box.name: box}), board
