"""The bench measures and writes what other tools read, and none of its rows rots. Its figures decide nothing here."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
ROWS = {
    file.stem: rows
    for file in sorted((ROOT / "bench").glob("*.py"))
    if (rows := re.findall(r'^@measures\("(.+)"\)$', file.read_text("utf-8"), re.M))
}
"""By the module that measures them."""


def bench(*rows: str, **more: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-m", "bench", *rows], cwd=ROOT, env={**os.environ, **more}, capture_output=True, text=True, timeout=200,
        check=False,
    )  # fmt: skip


def test_a_row_is_measured_shown_and_written() -> None:
    assert "engine scale, command with 10,000 outputs" in bench("engine scale").stdout
    rows = {row["row"]: row for row in json.loads((ROOT / "build" / "bench.json").read_text())}
    row = rows["engine scale, command with 10,000 outputs"]
    assert list(row) == ["row", "value", "unit", "reference", "ratio", "bar", "holds"]
    assert row["ratio"] == row["value"] / row["reference"]
    wrong = bench("nothing like it")
    assert wrong.returncode == 1
    assert "No row matches" in wrong.stderr
    assert all(name in wrong.stderr for rows in ROWS.values() for name in rows)


@pytest.mark.parametrize("module", ROWS)
def test_every_row_runs(module: str) -> None:
    """Once, and with little: that it measures something, and that a fresh clone has what it needs."""
    before = (
        (ROOT / "build" / "bench.json").stat().st_mtime if (ROOT / "build" / "bench.json").exists() else 0
    )
    ran = bench(*ROWS[module], BENCH_BRIEF="1")
    assert ran.returncode == 0, ran.stderr[-2000:]
    asked = [f"measuring {row} …" in ran.stderr for row in ROWS[module]]
    assert all(asked)
    skipped = ran.stderr.count("not measured: ")
    assert len(ran.stdout.splitlines()) > len(asked) - skipped, "each has a row at least"
    if before:
        assert (ROOT / "build" / "bench.json").stat().st_mtime == before, "what was measured stays as it is"
