"""Which link carries a board: the one place that knows them all. Each is loaded only where a board asks for it."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from cairnwind.boards.link import Link
from cairnwind.core.facts.model import Board, Site
from cairnwind.core.values.fact import replace


def make(board: Board, site: Any = None, secret: Callable[[str], str] | None = None) -> Link:
    """The link that the site file asks for. ``secret`` gives the text of a secret by its name."""
    match board.link:
        case "kernel":
            from cairnwind.boards.kernel import KernelLink

            return KernelLink(board)
        case "expander":
            from cairnwind.boards.expander import ExpanderLink

            return ExpanderLink(board)
        case "modbus":
            from cairnwind.boards.modbus import ModbusLink

            return ModbusLink(board)
        case "strip":
            from cairnwind.boards.strip import StripLink

            return StripLink(board)
        case "broker":
            from cairnwind.boards.broker import BrokerLink

            return BrokerLink(board, site.broker, site.name, secret)
        case _:
            from cairnwind.boards.simulated import SimulatedLink

            return SimulatedLink(board)


def muted(site: Site) -> Site:
    """The same site with every link muted: everything is decided and shown, and nothing is driven or read."""
    return replace(site, boards={name: replace(board, link="muted") for name, board in site.boards.items()})
