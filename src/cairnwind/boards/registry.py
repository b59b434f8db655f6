"""From a board of the site file to its link."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from cairnwind.boards import kinds
from cairnwind.boards.enabling import EnabledLink
from cairnwind.boards.link import Link
from cairnwind.boards.links.simulated import SimulatedLink
from cairnwind.core.facts.hardware import MUTED, Board
from cairnwind.core.facts.site import Site
from cairnwind.core.values.fact import replace


def make(board: Board, site: Any = None, secret: Callable[[str], str] | None = None) -> Link:
    """The link that the site file asks for. ``secret`` gives the text of a secret by its name."""
    if board.muted:
        return SimulatedLink(board)
    around = kinds.Around(site, secret)
    opens = kinds.find(board.link).opens
    if board.enable is not None and board.enable.host is not None:
        return EnabledLink(board, board.enable, lambda: opens(board, around))
    return opens(board, around)


def muted(site: Site) -> Site:
    """The same site with every link muted: everything is decided and shown, and nothing is driven or read."""
    return replace(site, boards={name: replace(board, link=MUTED) for name, board in site.boards.items()})
