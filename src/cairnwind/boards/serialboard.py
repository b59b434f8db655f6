"""A small board without hardware: our firmware, run as a program, on a pseudo-terminal as a serial line or behind a message broker."""

from __future__ import annotations

import subprocess
import threading
from collections.abc import Callable
from pathlib import Path

PROGRAM = Path(__file__).parent / "images" / "board"
WITH_A_RADIO = PROGRAM.with_name("wireless")
COUNTS, VOLTS = 1023, 5.0


class SerialBoard:
    """The program, its port, and what the world does to its pins."""

    def __init__(self, *behind: object) -> None:
        """Start it; with a name, a host and a port ``behind`` the broker there. Raises `OSError` where it has not been built."""
        self._process = subprocess.Popen(
            [str(WITH_A_RADIO if behind else PROGRAM), *map(str, behind)],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
            start_new_session=True,
        )
        assert self._process.stdout is not None
        self.port = self._process.stdout.readline().split()[1]
        self.watchers: list[Callable[[int, int], None]] = []
        """Called with (pin, 0 to 65535) when an output moves."""
        threading.Thread(target=self._listen, name="serial-board", daemon=True).start()

    def level(self, pin: int, high: bool) -> None:
        """Put a level on a pin."""
        self._tell(f"level {pin} {int(high)}")

    def volts(self, pin: int, volts: float) -> None:
        """Put volts on an analogue pin."""
        self._tell(f"analogue {pin} {max(0, min(COUNTS, round(volts / VOLTS * COUNTS)))}")

    def mute(self, silent: bool) -> None:
        """Pull its cable, or plug it in again."""
        self._tell(f"mute {int(silent)}")

    def end(self) -> None:
        """Switch it off."""
        self._process.kill()
        self._process.wait()

    def _tell(self, text: str) -> None:
        assert self._process.stdin is not None
        try:
            self._process.stdin.write(text + "\n")
            self._process.stdin.flush()
        except OSError:
            pass  # it has been switched off

    def _listen(self) -> None:
        assert self._process.stdout is not None
        for line in self._process.stdout:
            word, pin, value = line.split()
            if word == "pin":
                for watcher in self.watchers:
                    watcher(int(pin), int(value))
