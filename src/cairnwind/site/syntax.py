"""From text to tables, past as many syntax errors as there are.

The parser stops at its first error. So a statement that it cannot read is noted, blanked out and the rest is
read again, until the parser is content: then everything else can be checked in the same go.
"""

from __future__ import annotations

import re
import tomllib
from dataclasses import dataclass, field, replace
from typing import Any

from cairnwind.site.trouble import Finding

TYPOGRAPHIC = {
    "“": ("a typographic quotation mark", '"'), "”": ("a typographic quotation mark", '"'),
    "„": ("a typographic quotation mark", '"'), "«": ("a typographic quotation mark", '"'),
    "»": ("a typographic quotation mark", '"'), "‘": ("a typographic quotation mark", "'"),
    "’": ("a typographic quotation mark", "'"), "‚": ("a typographic quotation mark", "'"),
    "–": ("an en dash", "-"), "—": ("an em dash", "-"), "−": ("a minus sign of typography", "-"),
    "‐": ("a typographic hyphen", "-"), "‑": ("a non-breaking hyphen", "-"),
    "\u00a0": ("a non-breaking space", "a plain space"), "\u202f": ("a narrow non-breaking space", "a plain space"),
    "\u200b": ("an invisible space", "nothing"), "\ufeff": ("an invisible mark", "nothing"),
}  # fmt: skip
UNREADABLE = "unreadable-table-"
"""Stands in for a table whose header could not be read, so that its keys do not fall into the one before."""
_STATEMENT = re.compile(r"\s*(?:\[|[^\s=#\]\[{},\"']+\s*=)")
_KEY = re.compile(r"\s*([A-Za-z0-9_-]+)\s*=")
_PLACE = re.compile(r"(.*?)\s*\(at (?:line (\d+), column (\d+)|end of document)\)")
_MOST = 40


@dataclass(slots=True)
class Parsed:
    """What could be read, and what could not."""

    tables: dict[str, Any]
    text: str
    """The text that was read in the end: unreadable statements are blank, every line is where it was."""
    findings: list[Finding] = field(default_factory=list)
    lost: set[tuple[str, str]] = field(default_factory=set)
    """(table header line, key) of statements that were blanked, so that nobody calls those keys missing."""


def parse(text: str) -> Parsed:
    """Read as much of ``text`` as can be read."""
    parsed = Parsed({}, text)
    for _ in range(_MOST):
        try:
            parsed.tables = tomllib.loads(parsed.text)
            return parsed
        except tomllib.TOMLDecodeError as error:
            _note(parsed, str(error))
    parsed.tables = {}
    return parsed


def typographic(text: str, start: int = 0) -> tuple[int, str, str] | None:
    """The first typographic character: where, what it is, and what to write instead."""
    for number, char in enumerate(text[start:], start):
        if char in TYPOGRAPHIC:
            what, instead = TYPOGRAPHIC[char]
            return number, f"{what} (U+{ord(char):04X})", instead
    return None


def _note(parsed: Parsed, message: str) -> None:
    lines = parsed.text.split("\n")
    match = _PLACE.fullmatch(message)
    what, row, place = match.groups() if match else (message, None, None)
    last = max((number for number, line in enumerate(lines) if line.strip()), default=0)
    number = min(int(row) - 1, last) if row else last
    start = _statement(lines, number)
    end = number
    if start < number and _STATEMENT.match(lines[number]):
        # it ran on into the next statement, which may well be good
        end = number - 1
        column = lines[start].find("=") + 3
        what = "it is not closed before the next line begins"
        number = start
    else:
        while end + 1 < len(lines) and start < number and not _STATEMENT.match(lines[end + 1]):
            end += 1
        column = int(place) if row and place and int(row) - 1 == number else 1
    found = _finding(lines, start, number, column, what)
    if any(word in what.lower() for word in ("twice", "overwrite")) and (twin := _first(lines, start)):
        said = lines[start].partition("=")[0].strip()
        found = replace(
            found,
            what=f"{said} is there twice: first in line {twin}",
            remedy="Remove one, or give it another name.",
        )
    parsed.findings.append(found)
    header = next((line.strip() for line in reversed(lines[:start]) if line.lstrip().startswith("[")), "")
    key = _KEY.match(lines[start])
    if key:
        parsed.lost.add((header, key.group(1)))
    broken_header = lines[start].lstrip().startswith("[")
    for blank in range(start, end + 1):
        lines[blank] = ""
    if broken_header:
        lines[start] = f"[{UNREADABLE}{start}]"
    parsed.text = "\n".join(lines)


def _first(lines: list[str], number: int) -> int:
    """The line, from 1, of the first head that is the same as one further down, or of the same key in its table; 0: there is none."""

    def said(line: str) -> str:
        return "".join(line.partition("#")[0].partition("=")[0].split())

    begin = 0
    if not lines[number].lstrip().startswith("["):
        begin = max((at for at in range(number) if lines[at].lstrip().startswith("[")), default=0)
    return next((at + 1 for at in range(begin, number) if said(lines[at]) == said(lines[number])), 0)


def _statement(lines: list[str], number: int) -> int:
    """The line on which the statement begins that fails in line ``number``, or swallows it."""
    for start in range(number - 1, -1, -1):
        if _STATEMENT.match(lines[start]):
            try:
                tomllib.loads("\n".join(lines[start:number]))
            except tomllib.TOMLDecodeError:
                return start
            return number
    return number


def _finding(lines: list[str], start: int, number: int, column: int, what: str) -> Finding:
    for row in range(start, number + 1):
        odd = typographic(lines[row])
        if odd is not None:
            at, name, instead = odd
            return Finding(
                row + 1,
                at + 1,
                lines[row][at],
                f"{name} stands where TOML has a plain character",
                f"Write {instead} instead.",
            )
    line = lines[number]
    column = min(column, len(line) + 1)
    said = what[0].lower() + what[1:]
    return Finding(
        number + 1,
        column,
        line[column - 1 :].strip() or line.strip(),
        f"this cannot be read: {said}",
        _remedy(line, said),
    )


def _remedy(line: str, said: str) -> str:
    if "overwrite" in said or "twice" in said or "mutate" in said:
        return "It is there twice: remove one, or give it another name."
    if "invalid value" in said:
        return 'A text stands in plain quotation marks: key = "text".'
    if line.lstrip().startswith("["):
        return "A table begins with its name in brackets: [output.kiln-vent]."
    if "=" not in line:
        return 'A line is a table in brackets or key = "value".'
    return 'Write key = "value", with every quotation mark and bracket closed.'
