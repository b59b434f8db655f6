"""What a service needs of its machine beside the devices of its boards: ports, state folder, disk, clock, broker, keys."""

from __future__ import annotations

import os
import shutil
import socket
import time
from collections.abc import Iterator
from pathlib import Path

from cairnwind.boards import serialports
from cairnwind.boards.devices import Found, openable
from cairnwind.core.facts.site import Site
from cairnwind.core.values.errors import BoardError, CallerError
from cairnwind.folder import Folder
from cairnwind.remotes.address import near
from cairnwind.service.kernelclock import synchronised
from cairnwind.site import remotes as ways
from cairnwind.store.reader import Reader

ROOM = 500 * 10**6
"""Bytes below which a disk is nearly full."""
FIRST_YEAR = 2025
"""No clock shows less that has been set."""
WAITS = 2.0


def look(site: Site | None, folder: Path, *, running: bool) -> Iterator[Found]:
    """Everything; of a service that is ``running`` its own ports are taken by itself."""
    yield from _state(folder)
    yield from _clock()
    if site is None:
        return
    yield from _ports(site, running)
    yield from _broker(site)
    for way, name in unknown_keys(site, folder):
        yield Found(
            False, f"Remote {way} carries the key '{name}', which nobody has made.",
            f"cairnwind key new '{name}' --role operate, while the service runs.",
        )  # fmt: skip


def _state(folder: Path) -> Iterator[Found]:
    there = folder
    while not there.exists():
        there = there.parent
    if not os.access(there, os.W_OK | os.X_OK):
        yield Found(
            False,
            f"The state folder {folder} cannot be written by this user.",
            f"See its rights: ls -ld {there}",
        )
        return
    free = shutil.disk_usage(there).free
    shown = f"{free / 2**30:.1f} GB" if free > 2**30 else f"{free / 2**20:.0f} MB"
    if free < ROOM:
        yield Found(
            False, f"The disk of the state folder {folder} has {shown} left.", f"Make room: df -h {there}"
        )
    else:
        yield Found(True, f"State folder {folder}, {shown} free.")


def _clock() -> Iterator[Found]:
    if time.gmtime().tm_year < FIRST_YEAR:
        yield Found(
            False, f"The clock says {time.strftime('%Y-%m-%d')}: it has not been set.", "See: timedatectl"
        )
    elif synchronised():
        yield Found(True, "The clock is synchronised.")
    else:
        yield Found(None, "The kernel does not say that the clock is synchronised.")


def _ports(site: Site, running: bool) -> Iterator[Found]:
    listeners = [("the service", site.listen, socket.SOCK_STREAM)]
    listeners += [
        (f"remote {each.name}", each.listen, socket.SOCK_STREAM if isinstance(each, ways.Modbus) else socket.SOCK_DGRAM)
        for each in site.remotes
        if isinstance(each, ways.Modbus | ways.Surface)
    ]  # fmt: skip
    for who, (host, port), kind in listeners:
        if running or not port:
            continue
        family = socket.AF_INET6 if ":" in host else socket.AF_INET
        with socket.socket(family, kind) as probe:
            if kind == socket.SOCK_STREAM:
                probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                probe.bind((host, port))
            except OSError as error:
                letter = "t" if kind == socket.SOCK_STREAM else "u"
                yield Found(
                    False, f"Port {port} of {host}, where {who} listens, cannot be had: {error.strerror}.",
                    f"See who has it: ss -ln{letter}p 'sport = :{port}'",
                )  # fmt: skip
            else:
                yield Found(True, f"Port {port} of {host} is free for {who}.")
    for each in site.remotes:
        if isinstance(each, ways.Line):
            try:
                yield openable(serialports.find(each.port), f"Serial port of remote {each.name},")
            except BoardError as error:
                yield Found(False, f"Remote {each.name}: {error.sentence}", error.remedy)


def _broker(site: Site) -> Iterator[Found]:
    if site.broker is None:
        return
    at = f"{site.broker.host}:{site.broker.port}"
    try:
        socket.create_connection((near(site.broker.host), site.broker.port), WAITS).close()
    except OSError as error:
        yield Found(
            False,
            f"The broker at {at} does not answer: {error.strerror or error}.",
            "See whether it runs, and to the network between.",
        )
    else:
        yield Found(True, f"Broker at {at}.")


def unknown_keys(site: Site, folder: Path) -> Iterator[tuple[str, str]]:
    """Remotes and the keys that they carry, as far as nobody has made these. Nothing where there is no database yet."""
    database = Folder(folder).database
    if not database.exists():
        return
    reader = Reader(database)
    try:
        made = {key.name for key in reader.keys()}  # noqa: SIM118 - it is no dictionary
    except Exception:  # a database of another version, or a damaged one: others say so
        return
    finally:
        reader.close()
    carried = [("broker", site.broker.key)] if site.broker is not None and site.broker.key else []
    for each in site.remotes:
        peers = getattr(each, "clients", None) or getattr(each, "senders", None) or ()
        carried += [(each.name, name) for _, name in peers]
        carried += [(each.name, each.key)] if getattr(each, "key", "") else []
    for way, name in dict.fromkeys(carried):
        if name not in made:
            yield way, name


def state_of(state: str | None) -> Path:
    """The state folder that is meant. Raises `CallerError` (``folder``)."""
    from cairnwind import folder

    try:
        return Path(state or os.environ.get("CAIRNWIND_STATE") or folder.default()).expanduser()
    except RuntimeError as error:
        raise CallerError("folder", f"There is no state folder: {error}.", "Give one with --state.") from None
