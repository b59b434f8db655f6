"""What belongs to a site file: the user's own data in folders beside it, and certificates."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from cairnwind.core.facts.site import Site
from cairnwind.site.remotes import CERTIFICATES

FOLDERS = ("maps", "chips", "timers")
"""Of the user's own data."""
PRIVATE = "certificate_key"


def data(folder: Path) -> dict[str, Path]:
    """The files of the user's own data, by their names from the site file's folder."""
    found = (each for name in FOLDERS for each in sorted((folder / name).rglob("*.toml")))
    return {str(each.relative_to(folder)): each for each in found}


def certificates(site: Site, *, private: bool) -> Iterator[Path]:
    """The certificates that the site file names; with ``private`` their keys too."""
    named = [site.certificate[0], *((site.certificate[1],) if private else ())]
    for way in (site.broker, *site.remotes):
        named += [getattr(way, name, "") for name in CERTIFICATES if private or name != PRIVATE]
    yield from (Path(each) for each in named if each)


def secrets(site: Site) -> list[str]:
    """The names of the secrets that the site file asks for."""
    ways = (site.broker, *site.remotes, *(board.facts for board in site.boards.values()))
    return sorted({secret for way in ways if (secret := getattr(way, "secret", ""))})


def files(site: Site, path: Path) -> dict[str, Path]:
    """All that goes into a backup, by its name in the site file's folder: nothing that opens anything."""
    folder = path.resolve().parent
    beside = {
        str(each.relative_to(folder)): each
        for each in certificates(site, private=False)
        if each.is_relative_to(folder) and each.exists()
    }
    return {path.name: path, **data(folder), **beside}
