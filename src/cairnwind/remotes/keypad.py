"""A keypad as the passcode of a guard: digits and Enter on one of the kernel's input devices.

What is typed is a code and nothing else: it is no input of the site, stands in no journal and in no traffic, and is forgotten when it
was asked, cleared, or nobody has gone on for a while.
"""

from __future__ import annotations

import select
import threading
import time
from typing import Any

from cairnwind.boards import evdev
from cairnwind.core.values.errors import BoardError
from cairnwind.remotes.desk import Desk, wait_for
from cairnwind.remotes.remote import MapRow, Remote
from cairnwind.site import remotes as facts

AGAIN = 1.0
"""Seconds between attempts to open a device that is away."""
TURN = 0.2
FORGOTTEN_AFTER = 10.0
"""Seconds without a key after which what was typed is forgotten."""
LONGEST = 32
"""Digits of a code."""


class KeypadRemote(Remote):
    """One keypad, which opens one output."""

    kind = "keypad"
    surface = "keypad"

    def __init__(self, desk: Desk, told: facts.Keypad) -> None:
        super().__init__(told.name, desk, [told.key])
        self._told = told
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._work, name=f"keypad-{told.name}", daemon=True)
        self._typed, self._typed_at = "", 0.0
        self.trouble = "not opened yet"

    def start(self) -> None:
        """Open the device, and go on trying if it is away."""
        self._thread.start()

    def stop(self) -> None:
        """Let it go."""
        self._over.set()
        if self._thread.is_alive():
            self._thread.join(2)

    def facts(self) -> dict[str, Any]:
        """Where it is, and what it opens."""
        return {"device": self._told.device, "opens": self._told.opens}

    def map(self) -> list[MapRow]:
        """Its keys."""
        return [
            MapRow("digits, Enter", self._told.opens, "open it with a passcode"),
            MapRow("Escape, Backspace, *", "", "forget what was typed"),
        ]

    def _work(self) -> None:
        while not self._over.is_set():
            try:
                device = evdev.Device(evdev.find(self._told.device))
            except BoardError as error:
                self.trouble = error.sentence
                self._over.wait(AGAIN)
                continue
            try:
                device.grab()
                self.up, self.trouble = True, ""
                while not self._over.is_set():
                    if select.select([device.file], [], [], TURN)[0]:
                        for event in device.events():
                            self.guarded(self._came, event)
                    if self._typed and time.monotonic() - self._typed_at > FORGOTTEN_AFTER:
                        self._typed = ""
            except (BoardError, OSError) as error:
                self.trouble = getattr(error, "sentence", str(error))
            finally:
                device.close()
                self.up, self._typed = False, ""
            self._over.wait(AGAIN)

    def _came(self, event: evdev.Event) -> None:
        if event.kind != evdev.KEY or event.value != 1:
            return
        self._typed_at = time.monotonic()
        if event.code in evdev.DIGITS:
            self._typed = (self._typed + evdev.DIGITS[event.code])[-LONGEST:]
        elif event.code in evdev.CLEAR:
            self._typed = ""
        elif event.code in evdev.ENTER and self._typed:
            code, self._typed = self._typed, ""
            given = {"output": self._told.opens, "code": code}
            outcome = wait_for(lambda told: self.desk.give(self.source(), "open", given, told))
            said = outcome["reason"] or outcome["outcome"]
            self.traffic.add(
                "lost" if outcome["code"] else "got", b"", f"a code for {self._told.opens}: {said}"
            )
