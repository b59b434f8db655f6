"""Runs tests/lab inside a real kernel with simulated chips; without such a kernel it is not collected (see conftest)."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import LAB, ROOT


@pytest.mark.timeout(400)
def test_the_kernel_and_two_wire_links_against_a_real_kernel() -> None:
    assert LAB is not None
    path = f"{Path(sys.executable).parent}:/usr/sbin:/usr/bin:/sbin:/bin"
    run = subprocess.run(
        [LAB / "run-in-kernel.sh", "-p", "0x40", "-t", "240", "-C", ROOT, "-e", f"PATH={path}", "-e", "CAIRNWIND_LAB=1",
         "-e", "PYTHONDONTWRITEBYTECODE=1", "--", sys.executable, "-m", "pytest", "tests/lab", "--tb=short"],
        capture_output=True, text=True, timeout=300, check=False,
    )  # fmt: skip
    print(run.stdout[-6000:], run.stderr[-2000:])
    assert run.returncode == 0
    assert " passed" in run.stdout
    assert "skipped" not in run.stdout
