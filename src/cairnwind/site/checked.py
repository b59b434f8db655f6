"""A site file checked whole: what is wired, its scenes and schedules, its rules, and what the check asks of them."""

from __future__ import annotations

from pathlib import Path

from cairnwind.core.explain.checking import Found
from cairnwind.core.facts.site import Site
from cairnwind.site.plans import check_plan
from cairnwind.site.reader import Reader, text_of
from cairnwind.site.rules import check_rules
from cairnwind.site.trouble import Findings


def check_site(path: str | Path) -> tuple[Site, Findings, list[Found]]:
    """Like `read_site`, with scenes, schedules and rules; what the check warns of, and what it asked of the rules."""
    return check_text(text_of(path), str(path))


def check_text(text: str, path: str) -> tuple[Site, Findings, list[Found]]:
    """The same of a text; ``path`` is what it is called."""
    reader = Reader(path, text)
    site = reader.read()
    planned, doubts = check_plan(site, warn=True)
    answers, more = check_rules(site, planned)
    return site, Findings(path, [*reader.warnings, *doubts.findings, *more.findings], reader.text), answers
