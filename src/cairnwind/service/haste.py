"""Which requests go before all others at the HTTP door: by their head and body, before anybody has looked at who sends them.

A guess that is meant to be generous: what may stop, take off, let go or keep a hold alive has a worker at once. Whether it does
is found by the desk and the engine, as of every command; a request that only looked like it has been served a little sooner.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

from cairnwind.commands.paths import filled
from cairnwind.commands.table import COMMANDS
from cairnwind.core.facts.site import Site
from cairnwind.core.language.words import STOPS
from cairnwind.core.values import jsontext
from cairnwind.service.calls import V1

LETS_GO = frozenset(("off", "release", "close", "shut", "lock", "down"))
"""Words of phrases that take something off or let it go."""
_LINE = re.compile(rb"([A-Z]{3,7}) (?:https?://[^/ ]+)?(/[^ ?#]*)")
_WORDS = re.compile(rb"[a-z]+")
MOST = 64 << 10
"""Bytes of a body that is looked into."""


def hasty(site: Site) -> Callable[[bytes, bytes], bool]:
    """The question, for a site with its own words for off."""
    off = {"off", "0", "0 %", "0%", "false"} | {output.words[0].lower() for output in site.outputs.values()}
    words = frozenset(word.encode() for word in (*STOPS, *LETS_GO, *off))
    always: list[tuple[str, re.Pattern[bytes]]] = []
    by_setting: list[tuple[str, re.Pattern[bytes]]] = []
    for kind in COMMANDS.values():
        if kind.lane is not False:
            (always if kind.lane is True else by_setting).append((kind.method, _pattern(kind.path)))
    always.append(("PATCH", re.compile(f"{V1}/claims".encode())))
    spoken = re.compile(f"{V1}/(phrases|commands)".encode())

    def setting(body: bytes) -> bool:
        try:
            form = jsontext.read(body) if body else {}
        except ValueError:
            return False
        if not isinstance(form, dict) or "program" in form:
            return False
        wanted: Any = form.get("setting", "off")  # a hold that goes on names none
        if isinstance(wanted, dict):
            return not any(wanted.get(key) for key in ("level", "duty", "hertz", "drive", "colour"))
        return str(wanted).strip().lower() in off or wanted == 0

    def urgent(head: bytes, body: bytes) -> bool:
        line = _LINE.match(head)
        if line is None or len(body) > MOST:
            return False
        method, path = line[1].decode(), line[2]
        if any(method == how and where.fullmatch(path) for how, where in always):
            return True
        if any(method == how and where.fullmatch(path) for how, where in by_setting):
            return setting(body)
        return (
            method == "POST"
            and spoken.fullmatch(path) is not None
            and not words.isdisjoint(_WORDS.findall(body.lower()))
        )

    return urgent


def _pattern(path: str) -> re.Pattern[bytes]:
    """An address with anything in the place of names."""
    return re.compile(f"{V1}{filled(path, lambda kind, name: '.+')}".encode())
