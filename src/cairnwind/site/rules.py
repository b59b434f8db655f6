"""The interlocks of a site file, read once every output is safe: until then all outputs are held there.

As with the plan, the question language takes longer to load than all that is needed to make outputs safe.
"""

from __future__ import annotations

from typing import Any

from cairnwind.core import rules
from cairnwind.core.errors import CallerError
from cairnwind.core.interlocks import Excludes, Interlock, Limit
from cairnwind.core.model import Site
from cairnwind.core.phrases import PhraseError
from cairnwind.site.reader import Reader
from cairnwind.site.trouble import Finding, SiteFileError

CANNOT_TELL = ("strip",)
"""Links that are told nothing back: what they drive is never confirmed by the board."""


def read_rules(site: Site) -> tuple[Interlock, ...]:
    """The interlocks, those of supplies included. Raises `SiteFileError` with every error."""
    path, text = site.source
    found: list[Interlock] = []
    if "interlock" in text:
        reader = Reader(path, text)
        tables = _tables(reader, reader.parsed.tables.get("interlock", []))
        names: set[str] = set()
        words = rules.language(site, [str(each.get("name")) for each in tables if "trip" in each])
        for number, form in enumerate(tables):
            try:
                rule = rules.make(form, words)
                if rule.name in names:
                    raise CallerError(
                        "", f"two interlocks are called '{rule.name}'", "Give one of them another name."
                    )
                _settles(rule, site)
            except CallerError as error:
                point(reader, ("interlock", number), form, error)
                continue
            names.add(rule.name)
            found.append(rule)
        if reader.findings:
            raise SiteFileError(path, reader.findings, text)
    return (*found, *rules.of_supplies(site, found))


def _settles(rule: Interlock, site: Site) -> None:
    """Outputs that nobody confirms need a stated time in which they are off."""
    if not isinstance(rule, Excludes | Limit):
        return
    blind = [
        name
        for name in rule.outputs
        if (board := site.boards[site.outputs[name].pin.board]).link in CANNOT_TELL
        or (board.link == "broker" and not board.facts.report)
    ]
    if blind and not rule.settle:
        error = CallerError(
            "",
            f"{blind[0]} is never confirmed off by its board",
            'Say how long it takes at most: settle = "500 ms".',
        )
        error.more["key"] = "settle"
        raise error


def _tables(reader: Reader, value: Any) -> list[dict[str, Any]]:
    if isinstance(value, list) and all(isinstance(each, dict) for each in value):
        return value
    reader.point(
        ("interlock",),
        "interlock",
        CallerError("", "interlocks are a list of tables", "Write [[interlock]] and its keys below."),
    )
    return []


def point(reader: Reader, table: tuple[Any, ...], form: dict[str, Any], error: CallerError) -> None:
    """Point at the key that is at fault, and within a condition at the word."""
    key = error.more.get("key")
    path = (*table, key) if key in form else table
    value = form.get(str(key), table[0])
    reader.point(path, value, error, key=len(path) == len(table))
    if isinstance(error, PhraseError) and isinstance(value, str):
        last: Finding = reader.findings[-1]
        if value in last.text:
            column = last.column + last.text.index(value) + error.at
            reader.findings[-1] = Finding(
                last.line, column, value[error.at : error.end], last.what, last.remedy
            )
