"""The demo site, and the small world that makes its sensors move."""

from __future__ import annotations

import tempfile
from pathlib import Path

from cairnwind.core.facts.site import Site
from cairnwind.core.values.fact import replace
from cairnwind.demo.serialboard import SerialBoard
from cairnwind.site import read_site

SITE_FILE = Path(__file__).with_name("saltmarsh.toml")


def site(broker: str = "") -> tuple[Site, SerialBoard | None]:
    """The demo's site, and its serial board: None where that program has not been built, and the board is simulated.

    With the address of a message broker the site has a board behind that too.
    """
    try:
        board = SerialBoard()
    except OSError:
        board = None
    return read(broker, board), board


def read(broker: str, board: SerialBoard | None) -> Site:
    """The demo's site as its file has it now, with its serial board where that is. Raises as `read_site`."""
    if broker:
        with tempfile.TemporaryDirectory() as folder:
            both = Path(folder) / SITE_FILE.name
            more = SITE_FILE.with_name("broker.toml").read_text("utf-8").replace("ADDRESS", broker)
            both.write_text(SITE_FILE.read_text("utf-8") + more, "utf-8")
            found = read_site(both)
    else:
        found = read_site(SITE_FILE)
    box = found.boards["hoist-box"]
    if board is None:
        box = replace(box, link="simulated", facts=None)
    else:
        box = replace(box, facts=replace(box.facts, port=board.port))
    return replace(found, boards={**found.boards, box.name: box})
