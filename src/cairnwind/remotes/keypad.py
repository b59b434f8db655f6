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
from cairnwind.core.values.errors import BoardError, CallerError
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
ENTER, ESCAPE = "#", "*"
KEYS = frozenset("0123456789" + ENTER + ESCAPE)


class KeypadRemote(Remote):
    """One keypad, which opens one output. A simulated one has no device: its keys are pressed by `press`."""

    kind = "keypad"
    surface = "keypad"

    def __init__(self, desk: Desk, told: facts.Keypad) -> None:
        super().__init__(told.name, desk, [told.key])
        self._told = told
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._work, name=f"keypad-{told.name}", daemon=True)
        self._one = threading.Lock()
        self._typed, self._typed_at = "", 0.0
        self.trouble = "" if told.simulated else "not opened yet"

    def start(self) -> None:
        """Open the device, and go on trying if it is away."""
        self.up = self._told.simulated
        if not self._told.simulated:
            self._thread.start()

    def stop(self) -> None:
        """Let it go."""
        self._over.set()
        self.up = False
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

    def press(self, keys: str) -> str:
        """Press keys of a simulated one, ``#`` for Enter and ``*`` for Escape: what it was told at the last Enter, empty where there was
        none. Raises `CallerError`.
        """
        if not self._told.simulated:
            raise CallerError(
                "refused", f"The keypad {self.name} is real.", "Press its keys with your hand: only simulated ones can be pretended."
            )  # fmt: skip
        if not keys or set(keys) - KEYS:
            raise CallerError(
                "bad-value", f"The keys of {self.name} are digits, # and *.", 'Write them in a row: "4711#", # for Enter and * for Escape.'
            )  # fmt: skip
        said = ""
        for key in keys:
            said = self._pressed(key) or said
        return said

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
            except (BoardError, OSError) as error:
                self.trouble = getattr(error, "sentence", str(error))
            finally:
                device.close()
                self.up, self._typed = False, ""
            self._over.wait(AGAIN)

    def _came(self, event: evdev.Event) -> None:
        if event.kind != evdev.KEY or event.value != 1:
            return
        if event.code in evdev.CLEAR:
            self._pressed(ESCAPE)
        elif event.code in evdev.ENTER:
            self._pressed(ENTER)
        elif event.code in evdev.DIGITS:
            self._pressed(evdev.DIGITS[event.code])

    def _pressed(self, key: str) -> str:
        """What was answered, at Enter."""
        now = time.monotonic()
        with self._one:
            before = "" if now - self._typed_at > FORGOTTEN_AFTER else self._typed
            self._typed_at = now
            self._typed = "" if key in (ENTER, ESCAPE) else (before + key)[-LONGEST:]
        if key != ENTER or not before:
            return ""
        given = {"output": self._told.opens, "code": before}
        outcome = wait_for(lambda told: self.desk.give(self.source(), "open", given, told))
        said = outcome["reason"] or ("it opens" if outcome["outcome"] == "driving" else outcome["outcome"])
        self.traffic.add("lost" if outcome["code"] else "got", b"", f"a code for {self._told.opens}: {said}")
        return str(said)
