"""Changes of a site file as people ask for them: a thing that is new, otherwise, renamed or gone.

An edit takes the text of a file and gives another text. What is not concerned stays as it was written, comments and order
included: the text is cut into its tables, and only the table that is meant is read and written anew.
"""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from typing import TYPE_CHECKING, Annotated, Any, Literal, NamedTuple

from msgspec import Meta, Struct

from cairnwind.core.values.errors import CallerError, unknown
from cairnwind.site import rows
from cairnwind.site.scan import Scan
from cairnwind.site.tables import NAME

if TYPE_CHECKING:
    from tomlkit.items import Item

NAMED = ("supply", "board", "output", "outputs", "input", "pad", "tune", "group", "scene", "guard")
"""Kinds of tables ``[kind.name]``."""
LISTED = ("schedule", "interlock", "reflex", "regulator", "alarm")
"""Kinds of tables ``[[kind]]``, which say their ``name``."""
ALONE = ("service", "quiet")
"""Tables that there is one of."""
WHAT = ("site", *NAMED, *LISTED, "remote", *ALONE)
FIRST = ("name", "label", "place", "kind", "link", "pin")
"""Keys of a new table that stand first, in this order."""
WIDE = 110
"""Characters of a line."""


class Edit(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One change of a site file."""

    do: Annotated[Literal["add", "change", "rename", "remove"], Meta(description="What is to be done.")]
    what: Annotated[
        Literal["site", "supply", "board", "output", "outputs", "input", "pad", "tune", "group", "scene", "guard", "schedule", "interlock", "reflex",
                "regulator", "alarm", "remote", "service", "quiet"],
        Meta(description="The kind of table that it is done to; `site` is the top of the file."),
    ]  # fmt: skip
    name: Annotated[
        str, Meta(description="Which; of a remote its kind too: `hook.garden`.", max_length=120)
    ] = ""
    keys: Annotated[
        dict[str, Any], Meta(description="Its keys and their values; null takes a key away.", max_length=100)
    ] = {}
    to: Annotated[str, Meta(description="The new name.", max_length=120)] = ""

    @property
    def words(self) -> str:
        """What it does, in a few words."""
        thing = f"{self.what} {_quoted(self)}".strip() if self.what != "site" else "the top of the file"
        if self.do == "rename":
            return f"rename {thing} to {self.to}"
        if self.do == "remove":
            return f"remove {thing}"
        said = ", ".join(
            f"{key} taken away" if value is None else f"{key} = {shown(value)}"
            for key, value in self.keys.items()
        )
        return f"{self.do} {thing}{': ' if said else ''}{said}"


def _quoted(edit: Edit) -> str:
    return f"'{edit.name}'" if edit.what in LISTED else edit.name


def shown(value: Any) -> str:
    """A value as it stands in a site file."""
    return str(item(value).as_string())


def item(value: Any) -> Item:
    """A value of JSON as TOML writes it; tables within a line. Raises `CallerError` (``bad-value``)."""
    import tomlkit  # whoever only wants to know what may be edited does without
    from tomlkit.exceptions import TOMLKitError

    if isinstance(value, Mapping):
        within = [f"{tomlkit.key(str(key)).as_string()} = {shown(each)}" for key, each in value.items()]
        found: Item = tomlkit.value(f"{{ {', '.join(within)} }}" if within else "{}")
        return found
    if isinstance(value, list):
        array = tomlkit.array()
        for each in value:
            array.append(item(each))
        array.multiline(len(array.as_string()) > WIDE - 10)
        return array
    try:
        plain: Item = tomlkit.item(value)
        return plain
    except (TOMLKitError, ValueError) as error:
        raise CallerError(
            "bad-value", f"'{value}' cannot stand in a site file: {error}.", "Give a text or a number."
        ) from None


class Block(NamedTuple):
    """A part of a file: the table of one head, with the comments right above it and what follows up to the next one."""

    head: tuple[str | int, ...]
    """Its path; empty for the top of the file."""
    text: str


def blocks(text: str) -> list[Block]:
    """A file in its tables, in their order; joined they are the file."""
    scanned = Scan(text)
    starts: list[tuple[int, tuple[str | int, ...]]] = [(0, ())]
    for path, at in scanned.heads:
        starts.append((_above(text, at), path))
    ends = [*(at for at, _ in starts[1:]), len(text)]
    return [Block(path, text[at:end]) for (at, path), end in zip(starts, ends, strict=True)]


def _above(text: str, at: int) -> int:
    """Where the comments begin that stand right above a head and have an empty line before them."""
    begin = at
    while begin:
        before = text.rfind("\n", 0, begin - 1) + 1
        if not text[before:begin].startswith("#"):
            break
        begin = before
    if begin and text[:begin].rstrip(" \t")[-2:] not in ("\n\n", "\n"):
        return at  # they belong to what is above
    return begin


def rewritten(text: str, change: Edit) -> str:
    """The file with one change that is no new name. Raises `CallerError` where that cannot be."""
    parts = blocks(text)
    mine = find(parts, text, change)
    if change.do == "add":
        return _add(parts, mine, change)
    if not mine:
        raise no_such(text, change)
    if change.do == "remove":
        return "".join(_kept(part.text) if number in mine else part.text for number, part in enumerate(parts))
    return "".join(_changed(parts, mine, change))


def see(change: Edit) -> None:
    """Raise `CallerError` for what can be seen to be wrong without a file."""
    if change.what not in WHAT:
        raise unknown("kind of table", change.what, WHAT)
    if change.what in ("site", *ALONE):
        if change.do == "rename" or (change.do == "remove" and change.what == "site"):
            raise CallerError(
                "bad-value", f"There is one {change.what} only.", "Change its keys: cairnwind change."
            )
    elif not change.name:
        raise CallerError("bad-value", f"Which {change.what}? No name is given.", "Give its name.")
    for name in (change.name if change.do == "add" else "", change.to):
        last = name.rpartition(".")[2] if change.what == "remote" else name
        if not name or change.what in ("site", *ALONE):
            continue
        if change.what in LISTED:
            if not name.strip() or not name.isprintable():
                raise CallerError("bad-value", f"'{name}' is no name.", "Use printable characters.")
        elif not NAME.fullmatch(last):
            raise CallerError(
                "bad-value",
                f"'{last}' cannot be a name: small letters, digits and single hyphens, a letter first.",
                "For show, give it a label.",
            )
    if change.do == "rename" and not change.to:
        raise CallerError("bad-value", f"How is {change.name} to be called?", "Give the new name.")
    if change.do == "change" and not change.keys:
        raise CallerError(
            "bad-value", f"What is to be otherwise of {change.name or change.what}?", "Give keys with values."
        )


def path_of(change: Edit) -> tuple[str, ...]:
    """Where a table of a name of its own stands."""
    if change.what == "site":
        return ()
    if change.what in ALONE:
        return (change.what,)
    if change.what == "remote":
        return ("remote", *change.name.split("."))
    return (change.what, change.name)


def find(parts: list[Block], text: str, change: Edit) -> list[int]:
    """The numbers of the parts that are the table of what is meant, first its own and then the tables within it."""
    wanted: tuple[str | int, ...]
    if change.what in LISTED:
        rows = tomllib.loads(text).get(change.what, [])
        at = next((n for n, row in enumerate(rows) if row.get("name") == change.name), None)
        if at is None:
            return []
        wanted = (change.what, at)
    else:
        wanted = path_of(change)
    if not wanted:
        return [0]
    return [number for number, part in enumerate(parts) if part.head[: len(wanted)] == wanted]


def known(text: str, what: str) -> list[str]:
    """The names of what a file has of a kind."""
    tables = tomllib.loads(text).get(what, {})
    if what in LISTED:
        return [str(row.get("name")) for row in tables if isinstance(row, dict)]
    return list(tables) if isinstance(tables, dict) else []


def no_such(text: str, change: Edit) -> CallerError:
    """The error for what a file does not have, or not in a table of its own."""
    names = known(text, change.what)
    if change.what not in ALONE and change.name in names:
        return CallerError(
            "by-hand",
            f"{change.what} {change.name} does not stand in a table of its own.",
            "Change the file by hand, then: cairnwind reload.",
        )
    if change.what in ALONE:
        return CallerError(
            "unknown-name", f"The file has no [{change.what}].", f"Add it: cairnwind add {change.what}."
        )
    row = rows.row_of(tomllib.loads(text), change.name) if change.what == "output" else ""
    if row:
        return CallerError(
            "by-hand", f"{change.name} is one of the row {row}, and is said there.", f"Change the row: cairnwind change outputs {row}."
        )  # fmt: skip
    return unknown(change.what, change.name, names)


def _add(parts: list[Block], mine: list[int], change: Edit) -> str:
    import tomlkit

    if mine and change.what != "site":
        raise CallerError(
            "taken",
            f"There is {_article(change.what)} {change.what} '{change.name}' already." if change.name else f"There is a [{change.what}] already.",
            "Give another name, or change that one.",
        )  # fmt: skip
    if change.what == "site":
        return "".join(_changed(parts, [0], change))
    table = tomlkit.document()
    keys = {key: value for key, value in change.keys.items() if value is not None}
    if change.what in LISTED:
        keys = {"name": change.name, **keys}
    for key in sorted(keys, key=lambda key: FIRST.index(key) if key in FIRST else len(FIRST)):
        table.append(key, item(keys[key]))
    head = f"[[{change.what}]]" if change.what in LISTED else f"[{'.'.join(path_of(change))}]"
    own = f"{head}\n{tomlkit.dumps(table)}"
    last = max((n for n, part in enumerate(parts) if part.head[:1] == (change.what,)), default=len(parts) - 1)
    texts = [part.text for part in parts]
    body, tail = divided(texts[last])
    texts[last] = (
        f"{body}\n{own}{tail or (chr(10) if last + 1 < len(texts) else '')}" if body else f"{tail}{own}"
    )
    return "".join(texts)


def divided(text: str) -> tuple[str, str]:
    """A block up to the end of its last key, and what stands below that: empty lines and comments."""
    scanned = Scan(text)
    last = max((mark.end for mark in scanned.marks.values()), default=0)
    end = text.find("\n", last) + 1 or len(text)
    body = text[: end if scanned.marks else 0]
    return body if not body or body.endswith("\n") else f"{body}\n", text[len(body) :]


def _kept(text: str) -> str:
    """What stays of a block that goes: comments below it that belong to what follows."""
    tail = divided(text)[1]
    return tail.lstrip("\n") if "#" in tail else ""


def _changed(parts: list[Block], mine: list[int], change: Edit) -> list[str]:
    import tomlkit

    texts = [part.text for part in parts]
    first, head = mine[0], parts[mine[0]].head
    if len(head) != (0 if change.what == "site" else len(path_of(change))):
        raise CallerError(
            "by-hand",
            f"{change.what} {change.name} is written in several tables.",
            "Change the file by hand, then: cairnwind reload.",
        )
    body, tail = divided(texts[first])
    document = tomlkit.parse(body)
    table: Any = document
    for name in head:
        table = table[0] if isinstance(name, int) else table[name]
    for key, value in change.keys.items():
        for number in mine[1:]:
            if parts[number].head[len(head) : len(head) + 1] == (key,):
                texts[number] = _kept(texts[number])  # it stood as a table within
        if value is None:
            if key in table:
                table.remove(key)
        elif key in table:
            table[key] = item(value)
        else:
            table.append(key, item(value))
    texts[first] = tomlkit.dumps(document) + tail
    return texts


def _article(word: str) -> str:
    return "an" if word[0] in "aeiou" else "a"
