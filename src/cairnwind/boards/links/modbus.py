"""Boards that speak Modbus: relay boards that are sold, by their profile, and those with our own firmware."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from cairnwind.boards import chips, devices, profiles, serialports
from cairnwind.boards.access import serial
from cairnwind.boards.kinds import AS_IT_WAS, BOARD, DEAD, FLOATS, Holds, Kind, Reads, Share
from cairnwind.boards.master import SIMULATED, Master, Modbus
from cairnwind.boards.ours import FirmwareLink
from cairnwind.boards.sold import SoldLink
from cairnwind.core.facts.hardware import Board
from cairnwind.core.facts.site import Site
from cairnwind.core.values import entries
from cairnwind.core.values.errors import CallerError, at_fault

OWN = "firmware"


def link_to(board: Board) -> Master:
    """The link to a board, by what it is."""
    assert isinstance(board.facts, Modbus)
    return FirmwareLink(board) if board.facts.profile is None else SoldLink(board)


def _reads(beside: Sequence[Path]) -> Reads:
    return {
        "profile": lambda value: None if value == OWN else profiles.relays(entries.text(value), beside),
        "chip": lambda value: chips.load(entries.text(value), beside),
    }


def _made(**values: Any) -> Modbus:
    if values.get("profile") is not None:
        if values.get("port") == SIMULATED:
            error = CallerError(
                "", "only our own firmware can be run as a program", "Take the profile away, or name a port."
            )
            error.more["key"] = "port"
            raise error
        for key in ("chip", "reference"):
            if key in values:
                raise at_fault(
                    key,
                    CallerError("bad-value", f"'{key}' is of boards with our own firmware.", "Take it away."),
                )
        values.setdefault("baud", 9600)
        values.setdefault(
            "watchdog", 0
        )  # a board that is sold rests by itself only where that is known of it
    made = Modbus(**values)
    if made.profile is None and not made.tcp:
        serialports.see_baud(made.baud)
    return made


def _lines(its: Modbus | None) -> int:
    own = its.profile if its is not None else None
    if own is None:
        return (its.its_chip if its is not None else chips.default()).lines
    return own.lines + own.inputs + len(own.analogue) + len(own.levels)


def _looks(site: Site, board: Board) -> Iterator[devices.Found]:
    its: Modbus = board.facts
    if its.port == SIMULATED:
        yield devices.Found(None, "it is simulated: the firmware, run as a program.")
    elif its.tcp:
        yield devices.Found(None, "nothing of this machine is needed to reach it.")
    else:
        yield devices.openable(serialports.find(its.port), "serial port")


def _shares(its: Modbus) -> Share | None:
    """Units on a line, which has one speed, or at a network address, which has one sort of frames."""
    if its.port == SIMULATED:
        return None
    parity = {"N": "no parity", "E": "even parity", "O": "odd parity"}[its.parity]
    line = f"{its.baud} baud, {parity}, {its.stop_bits} stop bit{'s' if its.stop_bits > 1 else ''}"
    line += f"{', echo' if its.echo else ''}{', RS-485 mode' if its.rs485 else ''}"
    line = f"{its.framing.upper()} frames" if its.tcp else line
    return Share(
        its.port if its.tcp else serialports.terms(its.port), f"unit {its.unit}", line, "framing" if its.tcp else "baud, parity, stop_bits, echo and rs485", "port", "Give each a number of its own: unit = 2."
    )  # fmt: skip


def _holds(its: Modbus) -> Holds:
    killed = BOARD if its.watchdog else AS_IT_WAS
    return Holds(
        BOARD, killed, DEAD if its.profile is not None else FLOATS, "its watchdog" if its.watchdog else ""
    )


KIND = Kind(
    "a board that speaks Modbus on a serial line or by TCP: our own firmware, or a relay board by its profile",
    lambda board, _: link_to(board), Modbus, _made, _reads, _lines, looks=_looks, shares=_shares, holds=_holds,
    needs=lambda its: () if its.tcp or its.port == SIMULATED else (serial(its.port),),
)  # fmt: skip
