"""The shape of the code: imports run downwards, and core touches neither files, clocks nor threads."""

from __future__ import annotations

import ast
import subprocess
import sys
from collections.abc import Iterator
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


FOLDERS = ("values", "physics", "facts", "state", "rules", ("language", "engine"), "explain")
"""Of core, from below: each imports itself and those before it; those side by side do not know each other."""


def imports(*, types: bool) -> dict[str, set[str]]:
    """What each module of ours imports of ours, wherever the import stands; ``types``: those for types alone too."""
    top = ROOT / "src"
    modules = {
        ".".join(path.relative_to(top).with_suffix("").parts).removesuffix(".__init__"): path
        for path in top.rglob("*.py")
    }

    def found(node: ast.AST) -> Iterator[str]:
        for child in ast.iter_child_nodes(node):
            if isinstance(child, ast.If) and "TYPE_CHECKING" in ast.unparse(child.test) and not types:
                continue
            if isinstance(child, ast.ImportFrom) and child.module:
                for each in child.names:
                    inner = f"{child.module}.{each.name}"
                    yield inner if inner in modules else child.module
            yield from found(child)

    return {
        name: {each for each in found(ast.parse(path.read_text())) if each in modules and each != name}
        for name, path in modules.items()
    }


def test_no_imports_go_round_in_a_circle() -> None:
    left = imports(types=True)
    while left:
        free = [name for name, needs in left.items() if not needs & left.keys()]
        assert free, f"these import each other: {sorted(left)}"
        for name in free:
            del left[name]


def test_the_folders_of_core_have_one_direction() -> None:
    level = {
        name: at
        for at, names in enumerate(FOLDERS)
        for name in ([names] if isinstance(names, str) else names)
    }
    assert len(FOLDERS) <= 8
    for name, needs in imports(types=True).items():
        here = name.split(".")[2:3]
        for other in needs if name.startswith("cairnwind.core.") else ():
            there = other.split(".")[2]
            allowed = there == here[0] or level[there] < level[here[0]]
            assert allowed, f"{name} imports {other}, which is not below it"


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
