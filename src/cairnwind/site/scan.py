"""Where every key and value of a TOML text stands.

The standard library's parser says what a file means but not where; this scanner says where but not what.
It walks the same grammar, trusting that the parser has accepted the text, and is held against the parser by
a property test: both must find the same paths.
"""

from __future__ import annotations

import re
import tomllib
from typing import NamedTuple

Path = tuple[str | int, ...]
_BARE = re.compile(r"[A-Za-z0-9_-]+")
_SPACE = re.compile(r"(?:[ \t\r\n]|#[^\n]*)*")
_BLANK = re.compile(r"[ \t]*")
_PLAIN = re.compile(r"[^,\]}\n#]*")
_STRING = re.compile(r'"""(?:\\.|[^\\])*?"{3,5}|\'\'\'.*?\'{3,5}|"(?:\\.|[^"\\\n])*"|\'[^\'\n]*\'', re.S)


class Mark(NamedTuple):
    """Where a key and its value stand (offsets into the text) and where the value ends."""

    key: int
    value: int
    end: int


class Scan:
    """The places of one text. ``marks`` maps each path (keys, and indices in arrays) to its mark."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.marks: dict[Path, Mark] = {}
        self.heads: list[tuple[Path, int]] = []
        """The heads of tables in their order: what each is the head of, and where it stands."""
        self._at = 0
        self._table: Path = ()
        self._counts: dict[Path, int] = {}
        self._run()

    def place(self, offset: int) -> tuple[int, int]:
        """Line and column, from 1, of an offset."""
        before = self.text[:offset]
        return before.count("\n") + 1, offset - (before.rfind("\n") + 1) + 1

    def _run(self) -> None:
        text = self.text
        while True:
            self._at = self._skip(_SPACE)
            if self._at >= len(text):
                return
            if text[self._at] == "[":
                self._header()
            else:
                self._pair(self._table)

    def _skip(self, pattern: re.Pattern[str]) -> int:
        match = pattern.match(self.text, self._at)
        self._at = match.end() if match else self._at
        return self._at

    def _header(self) -> None:
        start = self._at
        double = self.text.startswith("[[", start)
        self._at += 2 if double else 1
        path: Path = ()
        keys = self._keys()
        for key in keys[:-1]:
            path = self._resolve((*path, key))
        path = (*path, keys[-1])
        if double:
            number = self._counts.get(path, 0)
            self._counts[path] = number + 1
            self.marks.setdefault(path, Mark(start, start, self._at))
            path = (*path, number)
        self._skip(_BLANK)
        self._at += 2 if double else 1
        self.marks[path] = Mark(start, start, self._at)
        self.heads.append((path, start))
        self._table = path

    def _resolve(self, path: Path) -> Path:
        """A path through an array of tables means its last one."""
        return (*path, self._counts[path] - 1) if path in self._counts else path

    def _keys(self) -> list[str]:
        keys = []
        while True:
            self._skip(_BLANK)
            if self.text[self._at] in "\"'":
                match = _STRING.match(self.text, self._at)
                assert match is not None
                raw = match.group()
                keys.append(raw[1:-1] if raw[0] == "'" else str(next(iter(tomllib.loads(f"{raw} = 0")))))
            else:
                match = _BARE.match(self.text, self._at)
                assert match is not None
                keys.append(match.group())
            self._at = match.end()
            self._skip(_BLANK)
            if self.text[self._at] != ".":
                return keys
            self._at += 1

    def _pair(self, table: Path) -> None:
        start = self._at
        path = (*table, *self._keys())
        self._at += 1  # the equals sign
        self._skip(_BLANK)
        value = self._at
        self.marks[path] = Mark(start, value, value)
        self._value(path)
        self.marks[path] = Mark(start, value, self._at)

    def _value(self, path: Path) -> None:
        match self.text[self._at]:
            case "[":
                self._array(path)
            case "{":
                self._inline(path)
            case '"' | "'":
                self._skip(_STRING)
            case _:
                found = _PLAIN.match(self.text, self._at)
                assert found is not None
                self._at += len(found.group().rstrip())

    def _array(self, path: Path) -> None:
        self._at += 1
        number = 0
        while True:
            self._skip(_SPACE)
            if self.text[self._at] == "]":
                self._at += 1
                return
            start = self._at
            inner = (*path, number)
            self._value(inner)
            self.marks[inner] = Mark(start, start, self._at)
            number += 1
            self._skip(_SPACE)
            if self.text[self._at] == ",":
                self._at += 1

    def _inline(self, path: Path) -> None:
        self._at += 1
        while True:
            self._skip(_SPACE)
            if self.text[self._at] == "}":
                self._at += 1
                return
            self._pair(path)
            self._skip(_SPACE)
            if self.text[self._at] == ",":
                self._at += 1
