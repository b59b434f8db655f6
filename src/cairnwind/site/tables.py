"""A site file as tables with places: what is taken out of them, and errors that point at where it stands.

`Page` is one file: its text, its tables and what was found wrong with it so far. Converters raise `CallerError`; `Table`
gives that its place and keeps it, so that one reading finds all errors. Every reader of a part of the file builds on these.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from typing import Any, TypeVar

from cairnwind.core.values.errors import CallerError, nearest
from cairnwind.core.values.keys import REQUIRED, Key, names
from cairnwind.site import scan, syntax
from cairnwind.site.trouble import Finding

T = TypeVar("T")
NAME = re.compile(r"[a-z][a-z0-9]*(?:-[a-z0-9]+)*")


class Page:
    """One file that is read, and what was found wrong with it."""

    def __init__(self, path: str, text: str) -> None:
        self.path = path
        self.text = text
        self.parsed = syntax.parse(text)
        self.findings = self.parsed.findings
        self.scan = scan.Scan(self.parsed.text if self.parsed.tables else "")
        self.warnings: list[Finding] = []
        self.rows: dict[str, str] = {}
        """By output that a row makes: that row, which is what is written."""

    def written(self, path: scan.Path) -> scan.Path:
        """Where that stands which a table would have at a path: of an output of a row, in the row."""
        if len(path) < 2 or path[0] != "output" or path[1] not in self.rows:
            return path
        return ("outputs", self.rows[str(path[1])], *("pins" if each == "pin" else each for each in path[2:]))

    def named(self, tables: dict[str, Any], kind: str) -> Iterable[tuple[str, Table]]:
        """The tables ``[kind.name]``, each with a proper name."""
        group = tables.get(kind, {})
        if not isinstance(group, dict):
            self.point(
                (kind,),
                group,
                CallerError("", f"'{kind}' is a table of named tables", f"Write [{kind}.some-name]."),
            )
            return
        for name, value in group.items():
            path = (kind, name)
            if not isinstance(value, dict):
                self.point(
                    path,
                    value,
                    CallerError(
                        "",
                        f"'{kind}' is a table of named tables",
                        f"Write [{kind}.{name}] and its keys below.",
                    ),
                )
            elif not NAME.fullmatch(name):
                better = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-") or "some-name"
                self.point(
                    path,
                    name,
                    CallerError(
                        "",
                        f"'{name}' cannot be a name: small letters, digits and single hyphens, a letter first",
                        f"Write [{kind}.{better}] and, for show, label = {name!r}.",
                    ),
                    key=True,
                )
            else:
                yield name, Table(self, path, value)

    def point_within(self, path: scan.Path, value: object, error: CallerError) -> None:
        """Point at a value, and within a phrase or a condition at the word."""
        self.point(path, value, error, key=len(path) == 2)
        at, end = error.more.get("at"), error.more.get("end")
        if isinstance(at, int) and isinstance(end, int) and isinstance(value, str):
            last = self.findings[-1]
            if value in last.text:
                column = last.column + last.text.index(value) + at
                self.findings[-1] = Finding(last.line, column, value[at:end], last.what, last.remedy)

    def point(
        self, path: scan.Path, value: object, error: CallerError, *, key: bool = False, grave: bool = True
    ) -> None:
        """Keep ``error`` with the place of ``path``: of its value, or of its key."""
        meant, path = path, self.written(path)
        if meant != path and value == meant[1]:
            value = path[1]
        mark = self.scan.marks.get(path)
        if mark is None and len(path) == 1:  # a kind of table of which only named ones are there
            below = [found for each, found in self.scan.marks.items() if each[:1] == path]
            mark = min(below, key=lambda found: found.key, default=None)
        while mark is None and len(path) > 1:  # what follows from other keys is pointed at its table
            path, value, key = path[:-1], path[-2], True
            mark = self.scan.marks.get(path)
        text = str(value)
        offset = 0
        if mark is not None:
            offset = mark.key if key else mark.value
            end = (
                mark.end
                if not key
                else mark.key + (self.scan.text[mark.key :].find(text) + len(text) if text else 1)
            )
            text = self.scan.text[offset:end].split("\n")[0]
            at = self.scan.text.find(path[-1], mark.key, end) if key and isinstance(path[-1], str) else -1
            if at >= 0:
                offset, text = at, str(path[-1])
        line, column = self.scan.place(offset)
        remedy = error.remedy
        odd = syntax.typographic(text)
        if odd is not None:
            remedy = f"Column {column + odd[0]} has {odd[1]}: write {odd[2]} instead. {remedy}"
        sentence = error.sentence.rstrip(".")
        found = self.findings if grave else self.warnings
        if meant != path:  # what is wrong with a row is so of each of its outputs
            sentence = re.sub(rf"\b{re.escape(str(meant[1]))}\b(?!-)", str(path[1]), sentence)
            if any((each.line, each.column, each.what) == (line, column, sentence) for each in found):
                return
        found.append(Finding(line, column, text, sentence, remedy))


class Table:
    """One table of the file: takes its keys out one by one, and complains about what is left."""

    def __init__(self, reader: Page, path: scan.Path, values: Any) -> None:
        self.reader = reader
        self.path = path
        if not isinstance(values, dict):
            reader.point(
                path,
                values,
                CallerError("", f"'{path[-1]}' is a table", f"Write [{path[-1]}] and its keys below."),
            )
            values = {}
        self.values: dict[str, Any] = values

    def has(self, key: str) -> bool:
        """Whether the table has a key at all."""
        return key in self.values

    def get(self, key: str, convert: Callable[[Any], T], default: T | Any) -> Any:
        """The converted value of ``key``, or ``default`` if it is absent or wrong (then it is noted)."""
        if key not in self.values:
            return default
        try:
            return convert(self.values[key])
        except CallerError as error:
            self.reader.point((*self.path, key), self.values[key], error)
            return default

    def need(self, key: str, convert: Callable[[Any], T], remedy: str) -> T | None:
        """Like `get`, for a key that has to be there."""
        if key not in self.values:
            self.missing(key, remedy)
            return None
        found: T | None = self.get(key, convert, None)
        return found

    def within(self, *path: str) -> Table:
        """A table that stands in this one."""
        values: Any = self.values
        for name in path:
            values = values.get(name, {})
        return Table(self.reader, (*self.path, *path), values)

    def take(self, key: Key, read: Callable[[Any], Any] | None = None) -> Any:
        """The value of a declared key, read as it says or, what depends on what is around it, by ``read``; `REQUIRED` if it is not there."""
        read = read or key.read
        assert read is not None, f"nobody reads {key.name}"
        if key.name not in self.values and key.needed:
            self.missing(key.name, key.needed)
        return self.get(key.name, read, REQUIRED)

    def fill(
        self, declared: Iterable[Key], kind: str | None = None, reads: Mapping[str, Callable[[Any], Any]] | None = None,
        besides: Iterable[str] = (),
    ) -> dict[str, Any]:  # fmt: skip
        """The fields of a fact, from those of its keys that are written and could be read; what is not known of a kind is pointed at.

        ``reads``: by key, how those are read that depend on what is around the table; where nobody knows, the caller reads it.
        ``besides``: more that may be written.
        """
        declared, reads = list(declared), reads or {}
        found = {
            key.name: (key, self.take(key, reads.get(key.name)))
            for key in declared
            if key.of(kind) and (key.read is not None or key.name in reads)
        }
        self.nothing_else([*names(declared, kind), *besides])
        return {key.field: value for key, value in found.values() if value is not REQUIRED and key.field}

    def point(self, key: str, what: str, remedy: str, *, grave: bool = True) -> None:
        """Note what is wrong with ``key``, which could be read by itself."""
        value = self.values.get(key, self.path[-1])
        self.reader.point(
            (*self.path, key) if key in self.values else self.path,
            value,
            CallerError("", what, remedy),
            grave=grave,
        )

    def missing(self, key: str, remedy: str) -> None:
        """Note that ``key`` is absent, unless its line was there but could not be read."""
        path = self.reader.written(self.path)
        header = f"[{'.'.join(map(str, path))}]" if path else ""
        if (header, key) in self.reader.parsed.lost:
            return
        what = f"{' '.join(map(str, path))} has no '{key}'" if path else f"the file has no '{key}'"
        self.reader.point(
            self.path, self.path[-1] if self.path else "", CallerError("", what, remedy), key=True
        )

    def nothing_else(self, known: Iterable[str]) -> None:
        """Point at every key that is not known, with the nearest that is."""
        known = list(known)
        for key in self.values:
            if key in known:
                continue
            hint = nearest(key, known)
            keys = ", ".join(sorted(known))
            remedy = hint or f"Known here: {keys}."
            what = (
                f"'{key}' is not known here"
                if not self.path
                else f"'{key}' is not known for {' '.join(map(str, self.reader.written(self.path)))}"
            )
            self.reader.point((*self.path, key), key, CallerError("", what, remedy), key=True)
