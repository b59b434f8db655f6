"""The shape of the code: imports run downwards, and core touches neither files, clocks nor threads."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).parents[1]
PROBE = """
import sys
before = set(sys.modules)
import cairnwind.core.engine.loop, cairnwind.core.explain.why, cairnwind.core.facts.history
print(*sorted(name for name in set(sys.modules) - before if name.split('.')[0] in
    ('socket', 'threading', 'sqlite3', 'logging', 'selectors', 'subprocess', 'asyncio', 'flask', 'queue')))
"""


def test_the_contracts_hold() -> None:
    lint = Path(sys.executable).with_name("lint-imports")
    found = subprocess.run(
        [lint, "--config", "pyproject.toml", "--no-cache"],
        cwd=ROOT,
        capture_output=True,
        text=True,
        check=False,
    )
    assert found.returncode == 0, found.stdout
    assert "core decides: no I/O, no clock, no threads KEPT" in found.stdout


def test_the_engine_brings_in_nothing_that_could_do_io() -> None:
    assert (
        subprocess.run(
            [sys.executable, "-c", PROBE], capture_output=True, text=True, check=True
        ).stdout.split()
        == []
    )


def test_no_page_or_module_carries_a_path_of_the_machine_it_was_written_on() -> None:
    named = subprocess.run(
        ["git", "ls-files", "-co", "--exclude-standard"], cwd=ROOT, capture_output=True, text=True, check=True
    ).stdout.split()
    home = str(ROOT) + "/"
    found = [
        name
        for name in named
        if (ROOT / name).suffix in (".py", ".md", ".toml", ".svelte", ".ts")
        and home in (ROOT / name).read_text("utf-8")
    ]
    assert found == []
