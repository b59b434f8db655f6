"""Devices that an ordinary user may not open: what is said, typed as it is said by a real user of this machine, helps."""

from __future__ import annotations

import os
import re
import stat
import subprocess
import sys
from pathlib import Path

import pytest

from cairnwind.boards import gpio
from tests.conftest import CAIRNWIND, eventually

SITE = """
site = "Bench"
[board.host]
link = "{link}"
{said}
[output.lamp]
kind = "lamp"
pin = "host:line-3"
"""


@pytest.fixture
def udev() -> None:
    """The real one: rules are for it."""
    Path("/run/udev").mkdir(exist_ok=True)
    subprocess.run(["/lib/systemd/systemd-udevd", "--daemon"], check=True)


@pytest.fixture
def anna(tmp_path: Path) -> Path:
    """A user like any other, and a folder of hers; 'sudo' is there, and root is who asks."""
    subprocess.run(["useradd", "--home-dir", tmp_path, "anna"], check=True)
    (tmp_path / "bin").mkdir()
    (tmp_path / "bin").chmod(0o755)
    (tmp_path / "bin" / "sudo").write_text('#!/bin/sh\nexec "$@"\n')
    (tmp_path / "bin" / "sudo").chmod(0o755)
    python = Path(os.path.realpath(sys.executable))
    for folder in (
        tmp_path,
        *tmp_path.parents[:2],
        *python.parents[:-1],
    ):  # wherever this Python is, she may run it
        folder.chmod(folder.stat().st_mode | 0o055)
    return tmp_path


def as_anna(home: Path, *words: object) -> subprocess.CompletedProcess[str]:
    """Typed by her, signed in anew."""
    command = [
        "setpriv",
        "--reuid=anna",
        "--regid=anna",
        "--init-groups",
        "env",
        f"HOME={home}",
        CAIRNWIND,
        *map(str, words),
    ]
    return subprocess.run(command, capture_output=True, text=True)


def test_the_line_to_type_helps(anna: Path, udev: None) -> None:
    file, chip = anna / "site.toml", gpio.find("sim0")
    for link, said, device in (
        ("kernel", f'chip = "{chip}"\nlines = 8', chip),
        ("expander", 'chip = "ports-16"\nbus = "/dev/i2c-0"', "/dev/i2c-0"),
    ):
        file.write_text(SITE.format(link=link, said=said))
        file.chmod(0o644)  # a service in this process may have said that what is written is its own alone
        os.chown(device, 0, 0)
        os.chmod(device, 0o600)
        refused = " ".join(as_anna(anna, "doctor", file).stdout.split())
        assert f"User anna may not open {device}." in refused, refused
        told = refused.partition(f"User anna may not open {device}.")[2]
        typed = re.findall(r"[Tt]ype: (.*?)(?:;|,)", told)
        rule = re.search(r"put the line (.*?) into (/etc/udev/rules\.d/\S+?),", told)
        assert rule is not None, told
        with Path(rule[2]).open("a") as rules:
            rules.write(f"{rule[1]}\n")
        for line in typed:
            subprocess.run(
                ["/bin/sh", "-c", line],
                check=True,
                env={**os.environ, "PATH": f"{anna}/bin:{os.environ['PATH']}"},
            )
        eventually(lambda device=device: stat.S_IMODE(os.stat(device).st_mode) == 0o660, within=10)
        helped = " ".join(as_anna(anna, "doctor", file).stdout.split())
        assert "may not open" not in helped, helped
        assert device in helped
