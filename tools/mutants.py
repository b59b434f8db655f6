"""Seeds the faults of tests/mutants one by one, and says which test catches each; the table goes to docs/mutants.md.

Each patch is put on a copy of the sources. A patch that no longer applies, or that no test catches, ends this with 1.
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

OF_THE_ENGINE = [
    "tests/core/test_budget.py",
    "tests/core/test_waits.py",
    "tests/core/test_interlocks.py",
    "tests/core/test_conditions.py",
    "tests/core/test_engine.py",
    "tests/core/test_agenda.py",
    "tests/core/test_reflexes.py",
    "tests/core/test_drive.py",
    "tests/core/test_why.py",
    "tests/invariants",
    "tests/service/test_safe.py",
]
OF_THE_SURFACES = [
    "tests/service/test_disk.py",
    "tests/service/test_faults.py",
    "tests/remotes",
    "--ignore=tests/remotes/test_strangers.py",  # which needs what is beside sources and tests
    "--ignore=tests/remotes/test_sites_apart.py",  # which runs what is installed
    "tests/service/test_api.py",
    "tests/power",
]
HEAD = """# Faults seeded on purpose

Each of these is a patch in `tests/mutants`. `make mutants` puts them on the sources one by one and runs the tests
of interlocks, conditions, the engine, the invariants and the service, or for a fault of a surface those of remotes and keys;
this is which test caught each first.

| fault | caught by |
|---|---|
"""


def one(patch: Path) -> tuple[str, str]:
    """The fault, and the test that catches it: empty if none does."""
    with tempfile.TemporaryDirectory() as folder:
        here = Path(folder)
        for name in ("src", "tests"):
            shutil.copytree(
                name, here / name, ignore=shutil.ignore_patterns("__pycache__", "console", "*.hex")
            )
        (here / "src/cairnwind/service/console").mkdir()
        shutil.copy("pyproject.toml", here)
        shutil.copytree("docs", here / "docs", ignore=shutil.ignore_patterns("screenshots"))
        applied = subprocess.run(
            ["git", "apply", str(patch.absolute())], cwd=here, capture_output=True, text=True, check=False
        )
        if applied.returncode:
            return patch.stem, f"does not apply: {applied.stderr.strip()}"
        environment = {**os.environ, "PYTHONPATH": f"{here / 'src'}:{here}", "PYTHONDONTWRITEBYTECODE": "1"}
        command = [
            sys.executable,
            "-m",
            "pytest",
            "-x",
            "-q",
            "--no-header",
            "--tb=no",
            "--hypothesis-profile=unshrunk",
            *(OF_THE_ENGINE if "src/cairnwind/core/" in patch.read_text() else OF_THE_SURFACES),
        ]
        try:
            said = subprocess.run(
                command, cwd=here, env=environment, capture_output=True, text=True, timeout=900, check=False
            ).stdout
        except subprocess.TimeoutExpired:
            return patch.stem, ""
    found = re.search(r"^(?:FAILED|ERROR) \S+?(\w+\.py)::(\S+)", said, re.M)
    return patch.stem, f"`{found[1]}`: {found[2].partition('[')[0].replace('_', ' ')}" if found else ""


def main() -> int:
    """Run all, or those whose names contain an argument."""
    patches = sorted(Path("tests/mutants").glob("*.patch"))
    some = [each for each in patches if not sys.argv[1:] or any(word in each.name for word in sys.argv[1:])]
    rows = []
    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        for name, caught in pool.map(one, some):
            print(f"{name}: {caught or 'NOT CAUGHT'}", flush=True)
            rows.append((name, caught))
    if len(some) == len(patches):
        lines = [
            f"| {name.partition('-')[2].replace('-', ' ')} | {caught or '**nothing**'} |"
            for name, caught in rows
        ]
        Path("docs/mutants.md").write_text(HEAD + "\n".join(lines) + "\n")
    left = [name for name, caught in rows if not caught or caught.startswith("does not apply")]
    print(f"{len(rows) - len(left)} of {len(rows)} caught")
    return bool(left)


if __name__ == "__main__":
    sys.exit(main())
