"""What two parts of a site cannot both have: an address on a bus, a unit or a speed on a serial line, a port to listen on."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Any, NamedTuple

from cairnwind.boards import kinds
from cairnwind.boards.serialports import terms
from cairnwind.core.facts.hardware import Board
from cairnwind.core.values.errors import CallerError
from cairnwind.site import remotes as ways

EVERY = ("0.0.0.0", "::")
"""Addresses that stand for all of a host."""


class Clash(NamedTuple):
    """Where it is seen, what stands there, and what is wrong."""

    path: tuple[str, ...]
    value: str
    error: CallerError


def clashes(boards: Mapping[str, Board], remotes: Iterable[Any], listen: tuple[str, int]) -> Iterator[Clash]:
    """Everything that two of them want."""
    yield from _boards(boards)
    yield from _lines(boards, remotes)
    yield from _listeners(remotes, listen)


def _boards(boards: Mapping[str, Board]) -> Iterator[Clash]:
    first: dict[str, tuple[str, kinds.Share]] = {}
    own: dict[tuple[str, str], str] = {}
    for board in boards.values():
        share = kinds.share(board)
        if share is None:
            continue
        path = ("board", board.name, share.key)
        other, theirs = first.setdefault(share.place, (board.name, share))
        if theirs.terms != share.terms:
            yield Clash(path, board.name, CallerError(
                "", f"{share.place} has {share.terms} here, and {theirs.terms} at board {other}: all there have the same",
                f"Give both the same {share.agree}.",
            ))  # fmt: skip
        there = own.setdefault((share.place, share.own), board.name)
        if share.own and there != board.name:
            yield Clash(path, board.name, CallerError(
                "", f"boards {there} and {board.name} are both {share.own} on {share.place}", share.remedy
            ))  # fmt: skip


def _lines(boards: Mapping[str, Board], remotes: Iterable[Any]) -> Iterator[Clash]:
    """Serial lines of hosts are nobody else's."""
    taken = {
        share.place: f"board {board.name}"
        for board in boards.values()
        if (share := kinds.share(board)) is not None
    }
    for each in remotes:
        if not isinstance(each, ways.Line):
            continue
        place = terms(each.port)
        other = taken.setdefault(place, f"remote {each.name}")
        if other != f"remote {each.name}":
            yield Clash(("remote", "line", each.name, "port"), each.port, CallerError(
                "", f"{place} is taken: by {other} and by remote {each.name}", "Give one of them another port.",
            ))  # fmt: skip


def _listeners(remotes: Iterable[Any], listen: tuple[str, int]) -> Iterator[Clash]:
    """What listens on TCP: the service itself, and Modbus. Control surfaces are heard on UDP."""
    for each in remotes:
        if isinstance(each, ways.Modbus) and each.listen[1] and each.listen[1] == listen[1]:
            hosts = {each.listen[0], listen[0]}
            if len(hosts) == 1 or hosts & {*EVERY}:
                yield Clash(("remote", "modbus", "listen"), str(each.listen[1]), CallerError(
                    "", f"port {listen[1]} is where the service itself listens", "Give this another: 502 and 1502 are usual for Modbus."
                ))  # fmt: skip
