"""Lamps of the kernel's LED class, in a made-up tree of /sys: no kernel here has one."""

from __future__ import annotations

import os
import signal
import sys
import textwrap
from pathlib import Path

import pytest

from cairnwind.boards.links import leds
from cairnwind.site import read_site
from cairnwind.site.held import held
from tests.conftest import ROOT, Running, eventually, faults, spawn

SITE = """
site = "Bench"
timezone = "UTC"
[board.front]
link = "leds"
leds = ["board:green:user", "board:red:alarm"]
[output.ready]
kind = "lamp"
pin = "front:line-0"
[output.alarm]
kind = "lamp"
pin = "front:line-1"
safe = "on"
"""


@pytest.fixture
def tree(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    root = tmp_path / "leds"
    monkeypatch.setattr(leds, "LEDS", root)
    plug(root, "board:green:user", 255)
    plug(root, "board:red:alarm", 1)
    return root


def plug(root: Path, name: str, most: int) -> None:
    (root / name).mkdir(parents=True)
    for file, text in (
        ("brightness", "7"),
        ("max_brightness", str(most)),
        ("trigger", "none [heartbeat] timer"),
    ):
        (root / name / file).write_text(f"{text}\n")


def at(root: Path, name: str) -> int:
    return int((root / name / "brightness").read_text() or -1)


def test_lamps_are_taken_dimmed_and_looked_at(tree: Path, tmp_path: Path) -> None:
    running = Running(tmp_path, SITE)
    site = running.site
    green, red = "board:green:user", "board:red:alarm"
    eventually(lambda: (at(tree, green), at(tree, red)) == (0, 1))
    assert (tree / green / "trigger").read_text() == "none", "the kernel blinks it no more"
    assert site.turn("ready", "40 %", wait="5 s").ending == "confirmed"
    assert at(tree, green) == 102
    assert site.turn("ready", "0.1 %", wait="5 s").ending == "confirmed"
    assert at(tree, green) == 1, "the least that there is, and not nothing"
    (tree / green / "brightness").write_text("255")  # somebody else writes
    eventually(lambda: at(tree, green) == 1)
    (tree / green).rename(tmp_path / "gone")
    eventually(lambda: not site.boards()[0]["up"], within=10)
    assert "board:green:user" in site.boards()[0]["reason"]
    eventually(lambda: site.boards()[0]["up"], within=10)  # without it
    assert site.turn("alarm", "off", wait="5 s").ending == "confirmed"
    eventually(lambda: "The kernel has no lamp board:green:user" in site.why("ready")["sentence"], within=10)
    (tmp_path / "gone").rename(tree / green)
    eventually(lambda: site.output("ready")["state"] == "confirmed", within=20)
    assert at(tree, green) == 1
    running.end()
    assert (at(tree, green), at(tree, red)) == (0, 1)


KILLED = """
from pathlib import Path
import sys, time
from cairnwind.boards.links import leds
leds.LEDS = Path(sys.argv[1])
from cairnwind.folder import Folder
from cairnwind.service.serve import Service
from cairnwind.site import read_site
from cairnwind.client import Site
service = Service(read_site(sys.argv[2]), Folder(Path(sys.argv[3])), 0)
service.start()
site = Site(state=sys.argv[3])
site.turn("ready", "on", wait="5 s"), site.turn("alarm", "off", wait="5 s")
print("ready", flush=True)
time.sleep(60)
"""


@pytest.mark.parametrize("number", [signal.SIGKILL, signal.SIGSTOP])
def test_the_guard_takes_them_to_safe(tree: Path, tmp_path: Path, number: int) -> None:
    file = tmp_path / "site.toml"
    file.write_text(SITE)
    service = spawn(
        sys.executable, "-c", textwrap.dedent(KILLED), tree, file, tmp_path / "state", stdout=-1, cwd=ROOT
    )
    assert service.stdout is not None
    assert service.stdout.readline() == "ready\n"
    assert (at(tree, "board:green:user"), at(tree, "board:red:alarm")) == (255, 0)
    os.kill(service.pid, number)
    eventually(lambda: (at(tree, "board:green:user"), at(tree, "board:red:alarm")) == (0, 1), within=8)
    service.kill()
    service.wait()
    assert {each.killed.safe for each in held(read_site(file))} == {True}


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ('leds = ["a", "a"]', "'a' is there twice"),
        ('leds = ["../x"]', "is no list of lamps"),
        ('leds = ["a"]\n[input.x]\nkind = "contact"\npin = "front:line-0"', "is for output alone"),
    ],
)
def test_what_is_wrong_with_a_file_is_said(tmp_path: Path, text: str, said: str) -> None:
    text = f'site = "x"\n[board.front]\nlink = "leds"\n{text}\n'
    assert said in faults(tmp_path, text)
