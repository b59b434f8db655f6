"""What a draft comes to before it is applied: the file's lines, the same in words, and what the check finds because of it."""

from __future__ import annotations

import difflib
import tomllib
from collections import Counter
from collections.abc import Callable, Mapping
from typing import Any, NamedTuple

from cairnwind.core.facts.difference import difference, in_words
from cairnwind.core.values.listing import listed
from cairnwind.site.checked import check_text
from cairnwind.site.edits import LISTED
from cairnwind.site.trouble import Finding, SiteFileError

OF_RULES = ("scene", "guard", *LISTED)
"""Kinds of tables of which nothing is wired."""


class Preview(NamedTuple):
    """What applying a text would come to."""

    text: str
    lines: str
    """The difference of the two files, as a unified diff."""
    words: tuple[str, ...]
    """The same, a sentence each; empty where the file has errors."""
    errors: tuple[Finding, ...]
    """Why it cannot be applied."""
    new: tuple[Finding, ...]
    """What the check finds because of it."""
    old: tuple[Finding, ...]
    """What it found before, too."""


def preview(path: str, before: str, after: str, wired: Callable[[], list[str]] | None = None) -> Preview:
    """What it comes to when the file at ``path`` reads ``after`` and no longer ``before``. ``wired``: what whoever serves the site says
    of the wiring, where that is known better than from the two files."""
    lines = difference_of(before, after)
    try:
        site, found, _ = check_text(after, path)
    except SiteFileError as error:
        return Preview(after, lines, (), error.findings, (), ())
    try:
        old_site, known, _ = check_text(before, path)
        seen = Counter((each.what, each.text) for each in known.findings)
    except SiteFileError:
        old_site, seen = None, Counter()
    new: list[Finding] = []
    old: list[Finding] = []
    for each in found.findings:
        key = each.what, each.text
        (old if seen[key] > 0 else new).append(each)
        seen[key] -= 1
    words = wired() if wired else []
    if not wired and old_site is not None:
        words = in_words(old_site, site, difference(old_site, site))
    words += rules_in_words(before, after)
    return Preview(after, lines, tuple(words), (), tuple(new), tuple(old))


def difference_of(before: str, after: str, names: tuple[str, str] = ("as it is", "then")) -> str:
    """Two files, as a unified diff."""
    found = difflib.unified_diff(before.splitlines(), after.splitlines(), *names, lineterm="", n=2)
    return "\n".join(found)


def rules_in_words(before: str, after: str) -> list[str]:
    """What two files say differently of rules, scenes and schedules, a sentence each."""
    old, new = tomllib.loads(before), tomllib.loads(after)
    found = []
    for kind in OF_RULES:
        was, now = _by_name(old.get(kind, {})), _by_name(new.get(kind, {}))
        said = f"{kind} '{{}}'" if kind in LISTED else f"{kind} {{}}"
        for name in [*now, *(name for name in was if name not in now)]:
            thing = said.format(name)
            if name not in was:
                found.append(f"{thing} is new")
            elif name not in now:
                found.append(f"{thing} goes")
            elif was[name] != now[name]:
                keys = [key for key in {**was[name], **now[name]} if was[name].get(key) != now[name].get(key)]
                found.append(f"{thing} is otherwise: its {listed(keys)}")
    return found


def _by_name(tables: Any) -> dict[str, Mapping[str, Any]]:
    if isinstance(tables, list):
        return {str(row.get("name")): row for row in tables}
    return dict(tables)
