"""The bench measures and writes what other tools read. Its figures decide nothing here."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).parents[1]


def test_a_row_is_measured_shown_and_written() -> None:
    found = subprocess.run(
        [sys.executable, "-m", "bench", "engine scale"],
        cwd=ROOT,
        capture_output=True,
        text=True,
        timeout=120,
        check=True,
    )
    assert "engine scale, command with 10,000 outputs" in found.stdout
    rows = {row["row"]: row for row in json.loads((ROOT / "build" / "bench.json").read_text())}
    row = rows["engine scale, command with 10,000 outputs"]
    assert list(row) == ["row", "value", "unit", "reference", "ratio", "bar", "holds"]
    assert row["ratio"] == row["value"] / row["reference"]
    wrong = subprocess.run(
        [sys.executable, "-m", "bench", "nothing like it"],
        cwd=ROOT,
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
    )
    assert wrong.returncode == 1
    assert "No row matches" in wrong.stderr
