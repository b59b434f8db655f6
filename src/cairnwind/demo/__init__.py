"""The demo site, and the small world that makes its sensors move."""

from __future__ import annotations

from pathlib import Path

from cairnwind.boards.serialboard import WITH_A_RADIO, SerialBoard
from cairnwind.core.facts.site import Site
from cairnwind.core.values.fact import replace
from cairnwind.site import read_text
from cairnwind.site.reader import text_of

SITE_FILE = Path(__file__).with_name("saltmarsh.toml")


def site(broker: str = "", folder: Path | None = None) -> tuple[Site, SerialBoard | None]:
    """The demo's site, and its serial board: None where that program has not been built, and the board is simulated.

    With the address of a message broker the site has a board behind that too. In a ``folder`` there is a copy of its file, which
    whoever plays with the demo may change.
    """
    try:
        board = SerialBoard()
    except OSError:
        board = None
    said = text(broker)
    path = SITE_FILE if folder is None else _copied(said, folder)
    found = read_text(said if folder is None else text_of(path), str(path))
    return fitted(found, board), board


def text(broker: str = "") -> str:
    """The demo's site file as it ships."""
    names = ("broker.toml", *(("wireless.toml",) if WITH_A_RADIO.exists() else ())) if broker else ()
    more = "".join(SITE_FILE.with_name(name).read_text("utf-8") for name in names)
    return SITE_FILE.read_text("utf-8") + more.replace("ADDRESS", broker)


def fitted(site: Site, board: SerialBoard | None) -> Site:
    """The site with its serial board, where it has that."""
    box = site.boards.get("hoist-box")
    if box is None or box.link != "modbus":
        return site
    if board is None:
        box = replace(box, link="simulated", facts=None)
    else:
        box = replace(box, facts=replace(box.facts, port=board.port))
    return replace(site, boards={**site.boards, box.name: box})


def _copied(said: str, folder: Path) -> Path:
    """The copy in a folder; one that nobody has changed is what ships now."""
    folder = folder.expanduser()
    copy, shipped = folder / SITE_FILE.name, folder / f"{SITE_FILE.name}.shipped"
    try:
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        changed = copy.exists() and not (shipped.exists() and shipped.read_bytes() == copy.read_bytes())
        if not changed:
            for each in (copy, shipped):
                each.write_text(said, "utf-8")
    except OSError:
        return SITE_FILE  # a disk that cannot be written: the demo runs all the same, and its file stays as it is
    return copy
