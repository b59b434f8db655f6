"""A 32-bit board in QEMU: our firmware for it, what its pins do as the emulator traces it, and its buttons."""

from __future__ import annotations

import json
import re
import subprocess
import threading
import time
from collections.abc import Iterable

from tests.boards import emulated
from tests.conftest import eventually, spawn

PORTS = {12: 0, 13: 8, 11: 16, 9: 24}
"""By the number of a port's device in the emulator: the first of our pins on it."""
BUTTONS = {0: "up", 1: "down", 2: "left", 3: "right"}
"""By pin: the key that pulls it low."""
MOVED = re.compile(r"pl061_set_output /machine/unattached/device\[(\d+)\] setting output (\d) to ([01])")


class Board:
    """The emulator."""

    def __init__(self) -> None:
        image = emulated.build("image", CHIP="lm3s6965")
        self.process = spawn(
            "qemu-system-arm", "-M", "lm3s6965evb", "-display", "none", "-monitor", "none", "-qmp", "stdio", "-serial", "pty",
            "-trace", "pl061_set_output", "-kernel", image, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE, bufsize=1,
        )  # fmt: skip
        self.moves: list[tuple[int, int]] = []
        """What its pins did so far: (pin, level)."""
        self._said: list[str] = []
        self._ears = [
            threading.Thread(target=self._listen, args=(lines,), daemon=True)
            for lines in (self.process.stdout, self.process.stderr)
        ]
        for each in self._ears:
            each.start()
        self.port = eventually(self._port)
        self._order("qmp_capabilities")

    def _listen(self, lines: Iterable[str]) -> None:
        for line in lines:
            if (match := MOVED.search(line)) is None:
                self._said.append(line)
            elif (device := int(match[1])) in PORTS:
                self.moves.append((PORTS[device] + int(match[2]), int(match[3])))

    def _port(self) -> str:
        found = re.search(r"/dev/pts/\d+", "".join(self._said))
        return found[0] if found else ""

    def _order(self, word: str, **more: object) -> None:
        assert self.process.stdin is not None
        self.process.stdin.write(json.dumps({"execute": word, "arguments": more}) + "\n")
        self.process.stdin.flush()

    def reset(self) -> None:
        """Its reset pin."""
        self._order("system_reset")

    def level(self, pin: int, high: bool) -> None:
        """Press or let go the button on a pin, which pulls it low."""
        key = {"type": "qcode", "data": BUTTONS[pin]}
        self._order("input-send-event", events=[{"type": "key", "data": {"down": not high, "key": key}}])

    def let_go(self) -> None:
        """Press each button for a moment: a port forgets at a reset of the emulator that they are not."""
        for high in (False, True):
            for pin in BUTTONS:
                self.level(pin, high)
            time.sleep(0.1)

    def high(self, pin: int) -> bool:
        """What a pin is driven to."""
        return next((level for moved, level in reversed(self.moves) if moved == pin), 0) == 1

    def pair(self, one: int, other: int, clock: int) -> tuple[int, int, int]:
        """How often both were high; the fewest changes of a third pin, which blinks, between one and the other, and the most while one was high."""
        high, since, ticks, both, gap, longest = {one: 0, other: 0}, {one: 0, other: 0}, 0, 0, 10**9, 0
        low_since: dict[int, int] = {}
        for pin, level in self.moves:
            ticks += pin == clock
            if pin not in high or high[pin] == level:
                continue
            high[pin] = level
            if level:
                both += all(high.values())
                since[pin] = ticks
                gap = min([gap, *(ticks - at for each, at in low_since.items() if each != pin)])
            else:
                longest, low_since[pin] = max(longest, ticks - since[pin]), ticks
        return both, gap, longest

    def end(self) -> None:
        self.process.kill()
        for each in self._ears:
            each.join()  # what it said ends with it
        self.process.communicate()
