"""Our firmware to test against: the real image on an emulated chip, or the native program; both on a pseudo-terminal."""

from __future__ import annotations

import fcntl
import subprocess
import threading
from pathlib import Path
from typing import Any

from tests.conftest import ROOT, eventually, spawn

OUT = ROOT / "build" / "firmware"


def build(target: str, **settings: object) -> Path:
    """Build 'image', 'native' or 'emulator', with settings like BAUD in a folder of their own."""
    out = OUT if not settings else OUT / "-".join(f"{name}{value}" for name, value in settings.items())
    OUT.mkdir(parents=True, exist_ok=True)
    with (OUT / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)  # tests run side by side, and build it once
        subprocess.run(
            ["make", "-s", "-C", ROOT / "firmware", target, f"OUT={out}", *(f"{name}={value}" for name, value in settings.items())],
            check=True, capture_output=True,
        )  # fmt: skip
    return out / {"image": "board.elf"}.get(target, {"native": "board"}.get(target, target))


class Board:
    """The program, and what it says."""

    def __init__(self, *command: object, word: str = "port") -> None:
        self.process = spawn(*command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, bufsize=1)
        self.said: list[list[str]] = []
        threading.Thread(target=self._listen, daemon=True).start()
        self.port = eventually(lambda: self.of(word))[0][1]

    def _listen(self) -> None:
        assert self.process.stdout is not None
        for line in self.process.stdout:
            self.said.append(line.split())

    def of(self, word: str) -> list[list[str]]:
        return [said for said in self.said if said and said[0] == word]

    def tell(self, text: str) -> None:
        assert self.process.stdin is not None
        self.process.stdin.write(text + "\n")

    def ask(self, text: str) -> list[str]:
        """An order that is answered."""
        word, before = text.split()[0], len(self.of(text.split()[0]))
        self.tell(text)
        found: list[Any] = eventually(lambda: self.of(word)[before:])
        return list(found[0])

    def pin(self, number: int) -> bool:
        """What an output pin of the emulated chip is at."""
        return self.ask("pins")[1][number] == "1"

    def measure(self, pin: int, ms: int = 100) -> tuple[float, float]:
        """Hertz and high share."""
        _, _, hertz, share = self.ask(f"measure {pin} {ms}")
        return float(hertz), float(share)

    def end(self) -> None:
        self.process.kill()
        self.process.communicate()


def emulated(baud: int = 115_200, chip: str = "") -> Board:
    """The real image, in real time."""
    settings = ({} if baud == 115_200 else {"BAUD": baud}) | ({"CHIP": chip} if chip else {})
    return Board(build("emulator"), build("image", **settings), *([chip] if chip else []))


def native(unit: int = 1) -> Board:
    """The same firmware as a program of this machine."""
    return Board(build("native"), unit)
