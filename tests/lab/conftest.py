"""What the tests inside the simulated kernel share: its chip as the outside world sees it."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Callable, Sequence
from pathlib import Path

import pytest

from cairnwind.boards.links.kernel import Kernel, KernelLink
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.hardware import Board, HeaderMap, Position
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.service.startup import clock
from tests.conftest import of_kind, spawn

CHIP = os.environ.get("GPIO_SIM_CHIP", "")


class World:
    """The pins of the simulated chip, from outside."""

    item = Path("/sys/kernel/config/gpio-sim/sim0")

    @property
    def root(self) -> Path:
        """Where it is now: a chip that was pulled out comes back under another number."""
        chip = (self.item / "bank0" / "chip_name").read_text().strip()
        return Path("/sys/devices/platform", (self.item / "dev_name").read_text().strip(), chip)

    def value(self, line: int) -> int:
        return int((self.root / f"sim_gpio{line}" / "value").read_text())

    def pull(self, line: int, high: bool) -> None:
        (self.root / f"sim_gpio{line}" / "pull").write_text("pull-up" if high else "pull-down")


class Opened:
    """A kernel link with its reports, and whether the engine is fresh."""

    def __init__(
        self,
        outputs: list[Output],
        inputs: Sequence[Input] = (),
        chip: str = CHIP,
        pwm: str = "",
        analogue: str = "",
    ) -> None:
        channels = {
            line: Position("P", line, line, "line", channel=line, functions=frozenset({"pwm"}))
            for line in range(32)
        }
        self.link = KernelLink(
            Board("b", "kernel", HeaderMap("m", "m", {}, channels), facts=Kernel(chip, pwm, analogue))
        )
        self.said: list[ev.Event] = []
        self.fresh = True
        self.link.open(outputs, inputs, self.said.append, clock, lambda: self.fresh)
        self.link.ready(5)

    def of(self, kind: type) -> list:
        return of_kind(self.said, kind)


@pytest.fixture
def world() -> World:
    return World()


@pytest.fixture
def opened() -> object:
    made: list[Opened] = []

    def make(*args: object, **more: object) -> Opened:
        made.append(Opened(*args, **more))  # type: ignore[arg-type]
        return made[-1]

    yield make
    for each in made:
        each.link.close()


Make = Callable[..., Opened]


@pytest.fixture
def elsewhere() -> object:
    """Python that runs in a process of its own until the test ends."""
    running: list[subprocess.Popen[str]] = []

    def start(text: str) -> subprocess.Popen[str]:
        process = spawn(sys.executable, "-c", text, stdout=subprocess.PIPE)
        running.append(process)
        assert process.stdout is not None
        assert process.stdout.readline() == "ready\n"
        return process

    yield start
    for process in running:
        process.kill()
        process.wait()
