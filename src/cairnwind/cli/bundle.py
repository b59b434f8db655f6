"""``cairnwind doctor --bundle``: all that somebody needs who looks into a service from afar, in one file, and nothing that opens anything.

All of it is what the API answers: keys without their texts, passcodes not at all, the site file with the names of secrets.
"""

from __future__ import annotations

import json
import platform
import re
import sys
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from cairnwind import __version__
from cairnwind.cli import problems
from cairnwind.core.values.errors import Trouble

if TYPE_CHECKING:
    from cairnwind.client import Site

ROWS = 1000
"""The newest of the journal."""
PASSWORD = re.compile(r"(://)[^/\s\"@]*@")
"""What somebody has written into an address all the same."""


def write(site: Site, to: Path, found: Any) -> dict[str, str]:
    """Make the file; what could not be asked for, and why. ``found`` is what the examination of this machine has found."""
    parts: dict[str, Callable[[], Any]] = {
        "site.json": site.facts, "outputs.json": site.outputs, "inputs.json": site.inputs, "boards.json": site.boards, "remotes.json": site.remotes,
        "rules.json": site.rules, "plan.json": site.plan, "keys.json": site.keys, "editions.json": site.editions, "backups.json": site.backups,
        "problems.json": lambda: list(problems.found(site)), "journal.json": lambda: site.journal(limit=ROWS), "log.json": site.log, "metrics.txt": site.metrics,
        "site.toml": lambda: site.edition(site.editions()[0]["number"])["text"],
    }  # fmt: skip
    left: dict[str, str] = {}
    part = to.with_name(f"{to.name}.part")
    try:
        with zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED) as archive:
            about = {
                "cairnwind": __version__,
                "python": sys.version,
                "machine": platform.platform(),
                "examined": found,
            }
            archive.writestr("about.json", json.dumps(about, indent=1, ensure_ascii=False))
            for name, ask in parts.items():
                try:
                    told = ask()
                except Trouble as error:
                    left[name] = str(error)
                    continue
                text = told if isinstance(told, str) else json.dumps(told, indent=1, ensure_ascii=False)
                archive.writestr(name, PASSWORD.sub(r"\1…@", text))
            archive.writestr("left-out.json", json.dumps(left, indent=1, ensure_ascii=False))
        part.chmod(0o600)
        part.replace(to)
    finally:
        part.unlink(missing_ok=True)
    return left
