"""What the site file says of an output, an input or a board, key by key, and what else it could say."""

from __future__ import annotations

import tomllib

from cairnwind.boards import kinds
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import OUTPUT_KEYS
from cairnwind.core.facts.site import Site
from cairnwind.core.values.errors import unknown
from cairnwind.core.values.keys import Key, keys
from cairnwind.site import rows
from cairnwind.site.scan import Scan


def written(site: Site, name: str) -> tuple[str, list[tuple[Key, str | None]]]:
    """The table of a thing, and each key that its kind may have with its value as it stands there (None: it does not).

    Raises `CallerError` (``unknown-name``).
    """
    if (output := site.outputs.get(name)) is not None:
        group, kind, declared = "output", output.kind, OUTPUT_KEYS
    elif (input := site.inputs.get(name)) is not None:
        group, kind, declared = "input", input.kind, keys(Input)
    elif (board := site.boards.get(name)) is not None:
        group, kind = "board", board.link
        declared = kinds.board_keys(kind)
    else:
        raise unknown("output, input or board", name, [*site.outputs, *site.inputs, *site.boards])
    scanned = Scan(site.source[1])
    row = rows.row_of(tomllib.loads(site.source[1]), name) if group == "output" else ""
    if row:
        group, name = rows.KIND, row
        declared = tuple(rows.PINS if key.name == "pin" else key for key in declared if key.name != "pins")
    found = []
    for key in declared:
        if key.of(kind):
            mark = scanned.marks.get((group, name, key.name))
            found.append((key, None if mark is None else scanned.text[mark.value : mark.end].strip()))
    return f"{group}.{name}", found
