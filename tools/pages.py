"""Writes docs/calls.md (each call, the role that it needs, what it does), docs/commands.md (each command), docs/site-file.md (each key),
docs/kinds.md (what can be wired, with drawings) and docs/licences.md (whose work is in it)."""

import re
from pathlib import Path

from packaging.requirements import Requirement

from cairnwind.commands import table as declared
from cairnwind.commands.page import table
from cairnwind.optional import EXTRAS
from cairnwind.remotes import modbus
from cairnwind.remotes.broker import TOPICS
from cairnwind.service.calls import role_table
from cairnwind.service.drawing import draw
from cairnwind.service.problems import MEANS, STATUS
from cairnwind.site.circuits import circuit as circuit_of
from cairnwind.site.page import page
from cairnwind.site.reader import read_site

CALLS = """\
# Every call, and the role that it needs

Made from the code by `python tools/pages.py`; a test holds it against the running service. *watch* may look, *operate* may
command, *keep* may also do what only a keeper may. How to call is in [api.md](api.md), every form in `/api/v1/openapi.json`.

"""
COMMANDS = """\
# Every command

Made from the code by `python tools/pages.py`. Each is declared once, in `src/cairnwind/commands`, and is the same by every way in:
by HTTP as it stands here; as a method of the serial line with the same names; as `do/<command>` at the broker; as a method of
the client's `Site`; at the command line, where a word of its own is `cairnwind <command>`. A `?` marks what may be left out.

*First*: it is never counted, shed or overtaken. *Paced*: it is counted by key, and refused in plain words while too much waits.
*operate* is any key that may command its outputs, *keep* a keeper's.

"""

ADDRESSES = """\
# Topics, coils, lines

Made from the code by `python tools/pages.py`. What each is for, and how it is asked for in the site file, is in [remotes.md](remotes.md). `cairnwind look --broker`,
`--modbus`, `--surface` print the addresses of your own site, with `--csv` for the other side's tool.

"""


def codes() -> str:
    """Every code of an error: its status, what it means."""
    rows = [
        f'| <span id="{code}">`{code}`</span> | {status} | {MEANS[code]} |' for code, status in STATUS.items()
    ]
    return "\n".join(["| code | HTTP | |", "|---|---|---|", *rows]) + "\n"


def columns(text: str) -> list[list[str]]:
    """The rows of the table of three columns in a docstring; what is indented goes on with the row before."""
    body = re.split(r"^=+ +=+ +=+\n", text, flags=re.M)[2]
    rows: list[list[str]] = []
    for line in body.splitlines():
        if line.startswith(" "):
            rows[-1][2] += f" {line.strip()}"
        else:
            rows.append(re.split(r" {2,}", line.strip(), maxsplit=2))
    return [[each.replace("``", "`") for each in row] for row in rows]


def addresses() -> str:
    """What others may say and hear, by remote."""
    commands = "\n".join(
        f"| `{word}` | `do/{word}` | `{word}` | {kind.help()} |" for word, kind in declared.COMMANDS.items()
    )
    topics = "\n".join(f"| `{topic}` | {what} |" for topic, what in TOPICS.items())
    registers = "\n".join(f"| {kind} | {at} | {what} |" for kind, at, what in columns(str(modbus.__doc__)))
    return (
        "## At the broker\n\nBelow `cairnwind/SITE/`, where SITE is the site's name in small letters with hyphens.\n\n"
        f"| topic | |\n|---|---|\n{topics}\n\n## Modbus\n\nFunctions 1 to 6, 15, 16, 22, 23 and 43/14.\n\n| | address | |\n|---|---|---|\n{registers}\n\n"
        "## Commands\n\nAs a topic of the broker (JSON of what it carries, and an `id`), and as a method of the serial line (JSON-RPC 2.0); "
        "what each carries is in [commands.md](commands.md).\n\n| command | topic | method | |\n|---|---|---|---|\n"
        f"{commands}\n\nThe serial line also has `hold`, `renew`, `let_go`, `look`, `site`, `watch`, `unwatch` and `ping`.\n"
    )


SITE_FILE = """\
# The site file

TOML, UTF-8. `cairnwind check FILE` reads it and shows all errors at once. Quantities are written as people write them, with
their unit: `"800 Hz"`, `"20 ms"`, `"72 mA"`, `"40 %"`. Names are small letters, digits and single hyphens. A pin is `board:J2-9`
(connector and position) or `board:line-41` (the chip's line), never a bare number.

Made from the code by `python tools/pages.py`: each key is declared once, where what it fills is declared. *Words in italics* are
the kinds that have a key, where not all do. `cairnwind look NAME --written` shows what the file says of a thing, and what else it
could say.

"""

Path("docs/when-things-fail.md").write_text(
    re.sub(
        r"(?<=line here\.\n\n).*",
        lambda _: codes(),
        Path("docs/when-things-fail.md").read_text("utf-8"),
        flags=re.S,
    ),
    "utf-8",
)
Path("docs/addresses.md").write_text(f"{ADDRESSES}{addresses()}", "utf-8")
Path("docs/site-file.md").write_text(f"{SITE_FILE}{page()}\n", "utf-8")
Path("docs/calls.md").write_text(f"{CALLS}{role_table()}\n", "utf-8")
Path("docs/commands.md").write_text(f"{COMMANDS}{table()}\n", "utf-8")

KINDS = """\
# What can be wired, one of each

Made from [kinds.toml](kinds.toml) by `python tools/pages.py`: a site file that `cairnwind check` finds good. The drawings are those
of `cairnwind wire NAME --drawing FILE`, with the values that follow from what the file says; *Site, Wiring* in the console shows
them for what is really there, and which wire goes from where to where. What each link is and needs: [boards.md](boards.md).

"""


def kinds(file: Path, drawings: Path) -> str:
    """A section for each output and input: what it is, what the file says, how it is wired; writes their drawings."""
    text = file.read_text("utf-8")
    site = read_site(file)
    drawings.mkdir(exist_ok=True)
    sections = []
    for title, says, toml, name in re.findall(
        r"^# (.+)\n# (.+)\n(\[(?:output|input)\.([\w-]+)\]\n(?:.+\n)+)", text, re.M
    ):
        section = f"## {title}\n\n{says}\n\n```toml\n{toml.strip()}\n```\n"
        circuit = circuit_of(name, site)
        if circuit.shape != "there":
            (drawings / f"{name}.svg").write_text(f"{draw(circuit)}\n", "utf-8")
            parts = [
                f"{part.many} × {part.what}, {part.value}{f' ({part.because})' if part.because else ''}"
                for part in circuit.parts
            ]
            wires = [f"from {wire.place} ({wire.role}) to {wire.to}" for wire in circuit.wires]
            notes = [note for note in circuit.notes if not note.startswith("Nothing is said of what")]
            section += f"\n![How it is wired]({drawings.name}/{name}.svg)\n"
            section += "".join(
                f"\n{word}: {'; '.join(rows)}.\n"
                for word, rows in (("To buy", parts), ("Wires", wires))
                if rows
            )
            section += "".join(f"\n{note}\n" for note in notes)
        sections.append(section)
    return "\n".join(sections)


Path("docs/kinds.md").write_text(KINDS + kinds(Path("docs/kinds.toml"), Path("docs/wiring")), "utf-8")

LICENCES = """\
# Whose work is in it

Made by `python tools/pages.py` from what is installed. Cairnwind itself is under the MIT licence. A package of it has these inside:

* the console, made of packages whose licences stand in full in `cairnwind/service/console/licences.md`, which the build writes;
* the docs as pages, with the theme of Material for MkDocs (MIT; its licence is `cairnwind/service/help/licence-of-the-theme.txt`) and what its script has in it: lunr, clipboard.js,
  escape-html (MIT), RxJS (Apache 2.0), which say so there;
* in the wheel for one kind of machine, `boards/images/board`: our firmware as a program (`firmware/`, MIT), linked with the machine's C
  library (glibc: LGPL 2.1; `make -C firmware native` links it anew);
* firmware for chips (`boards/images/*.hex`), with parts of avr-libc (BSD, 3 clauses) and libgcc (GPL 3 with the runtime exception).

These are installed beside it, and none of their files is in it. *With* is the name by which it is asked for: `pip install
'cairnwind[broker]'`.

| package | licence | with |
|---|---|---|
"""


def licences() -> str:
    """A row for each package that one could have with it."""
    from importlib.metadata import metadata, requires

    def licence(name: str) -> str:
        told = metadata(name)
        classed = [
            each.rpartition(" :: ")[2]
            for each in told.get_all("Classifier", [])
            if each.startswith("License ::")
        ]
        return (
            told.get("License-Expression")
            or ", ".join(classed)
            or (told.get("License") or "").splitlines()[0]
        )

    def needed(name: str, extra: str = "") -> set[str]:
        """What a package asks for, whichever Python it is."""
        found = set()
        for each in map(Requirement, requires(name) or ()):
            if each.marker is None or (
                "python" not in str(each.marker) and each.marker.evaluate({"extra": extra})
            ):
                found |= {each.name.lower().replace("_", "-")} - {name}
        return found

    def all_needed(extra: str = "") -> set[str]:
        found: set[str] = set()
        left = needed("cairnwind", extra)
        while left:
            found |= left
            left = set().union(*(needed(each) for each in left)) - found
        return found

    always = all_needed()
    rows = dict.fromkeys(always, "")
    for extra in EXTRAS:
        rows |= dict.fromkeys(all_needed(extra) - always, extra)
    return "".join(f"| {name} | {licence(name)} | {extra} |\n" for name, extra in sorted(rows.items()))


Path("docs/licences.md").write_text(LICENCES + licences(), "utf-8")
