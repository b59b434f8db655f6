"""Input devices of the kernel: a pipe with its events, and what its ioctls would say put in; no kernel here has such a device."""

from __future__ import annotations

import json
import os
import struct
import time
from pathlib import Path
from typing import Any

import pytest

from cairnwind.boards import evdev
from cairnwind.core.values.errors import BoardError, CallerError
from tests.conftest import Running, eventually, faults

PATH = "event3"


class Pad:
    """A keypad with a knob."""

    def __init__(self, folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
        self.down: set[int] = set()
        self.grabbed = 0
        self.refuses = False
        self.path = folder / PATH
        self._open: int | None = None
        monkeypatch.setattr(evdev, "DEV", folder)
        monkeypatch.setattr(evdev.fcntl, "ioctl", self._ioctl)
        self.plug()

    def plug(self) -> None:
        os.mkfifo(self.path)
        self._open = os.open(self.path, os.O_RDWR | os.O_NONBLOCK)

    def pull(self) -> None:
        self.path.unlink()
        assert self._open is not None
        os.close(self._open)

    def _ioctl(self, file: int, number: int, argument: Any = 0) -> Any:
        if number == evdev.GET_NAME:
            return b"Bench keypad".ljust(256, b"\0")
        if number == evdev.GET_KEYS:
            return sum(1 << code for code in self.down).to_bytes(96, "little")
        if number == evdev.GRAB:
            if self.refuses:
                raise OSError(16, "busy")
            self.grabbed += 1
        return 0

    def send(self, kind: int, code: int, value: int) -> None:
        assert self._open is not None
        now = time.monotonic_ns()
        os.write(self._open, struct.pack("=qqHHi", now // 10**9, now % 10**9 // 1000, kind, code, value))

    def key(self, name: str, down: bool) -> None:
        code = evdev.NAMES[name]
        (self.down.add if down else self.down.discard)(code)
        self.send(evdev.KEY, code, int(down))

    def tap(self, *names: str) -> None:
        for name in names:
            self.key(name, True)
            self.key(name, False)


@pytest.fixture
def pad(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Pad:
    (tmp_path / "input").mkdir()
    return Pad(tmp_path / "input", monkeypatch)


SITE = """
site = "Bench"
timezone = "UTC"
[board.near]
link = "simulated"
lines = 8
[board.pad]
link = "keys"
device = "Bench keypad"
keys = ["volumeup", "dial+", "dial-", "code-464", "wheel"]
[output.lamp]
kind = "lamp"
pin = "near:line-0"
frequency = "800 Hz"
[output.other]
kind = "relay"
pin = "near:line-1"
[output.third]
kind = "relay"
pin = "near:line-2"
[input.button]
kind = "contact"
pin = "pad:line-0"
words = ["up", "down"]
[input.brighter]
kind = "contact"
pin = "pad:line-1"
words = ["still", "turned"]
[input.darker]
kind = "contact"
pin = "pad:line-2"
words = ["still", "turned"]
[input.steps]
kind = "counter"
pin = "pad:line-3"
[input.wheel]
kind = "encoder"
pin = "pad:line-4"
[[reflex]]
name = "twice"
when = "button becomes down twice within 600 ms"
do = "toggle other"
as = "person"
[[reflex]]
name = "held"
when = "button is down for 700 ms"
do = "toggle third"
as = "person"
[[reflex]]
name = "brighter"
when = "brighter becomes turned"
do = "turn lamp up by 5 %"
as = "person"
pause = "1 ms"
[[reflex]]
name = "darker"
when = "darker becomes turned"
do = "turn lamp down by 5 %"
as = "person"
pause = "1 ms"
"""


def test_one_button_switches_several_and_a_knob_dims(pad: Pad, tmp_path: Path) -> None:
    running = Running(tmp_path, SITE)
    site = running.site
    on = lambda name: site.output(name)["confirmed"]["on"]  # noqa: E731
    level = lambda: site.output("lamp")["confirmed"]["level"]  # noqa: E731
    eventually(lambda: site.input("button")["state"] == "up")
    assert pad.grabbed == 1, "what is typed here is typed nowhere else"
    pad.tap("volumeup")
    time.sleep(0.1)
    pad.tap("volumeup")
    eventually(lambda: on("other"))
    assert not on("third")
    pad.key("volumeup", True)
    eventually(lambda: on("third"))
    pad.key("volumeup", False)
    for number in range(1, 4):
        pad.send(evdev.TURN, evdev.AXES["dial"], 1)
        eventually(lambda n=number: level() == 5 * n)
    for number in (2, 1, 0, 0):
        pad.send(evdev.TURN, evdev.AXES["dial"], -1)
        eventually(lambda n=number: level() == 5 * n)
    for _ in range(5):
        pad.send(evdev.KEY, 464, 1)
        pad.send(evdev.KEY, 464, 0)
    eventually(lambda: site.input("steps")["value"] == 5)
    for turned in (3, -5, 1):
        pad.send(evdev.TURN, evdev.AXES["wheel"], turned)
    eventually(lambda: site.input("wheel")["value"] == -1)
    pad.down.add(evdev.NAMES["volumeup"])  # an event that the kernel had no room for
    eventually(lambda: site.input("button")["state"] == "down")
    pad.pull()
    eventually(lambda: site.input("button")["state"] == "unknown", within=10)
    assert "has gone" in next(each["reason"] for each in site.boards() if each["name"] == "pad")
    pad.down.clear()
    assert site.input("wheel")["value"] is None
    pad.plug()
    eventually(lambda: site.input("button")["state"] == "up", within=10)
    assert site.input("wheel")["value"] == -1
    assert "volumeup" in running.cli("pins", "pad").stdout
    running.end()


def test_a_device_that_another_program_has_is_said_to_be_so(pad: Pad, tmp_path: Path) -> None:
    pad.refuses = True
    running = Running(tmp_path, SITE)
    reason = next(each["reason"] for each in running.site.boards() if each["name"] == "pad")
    assert "is another program's" in reason
    pad.refuses = False
    eventually(lambda: running.site.input("button")["state"] == "up", within=10)
    running.end()


DOOR = """
site = "Bench"
timezone = "UTC"
[board.near]
link = "simulated"
lines = 8
[output.store]
kind = "lock"
pin = "near:line-0"
words = ["locked", "open"]
[guard.store]
opens = "300 ms"
[remote.keypad.door]
device = "Bench keypad"
opens = "store"
key = "store door"
"""


def test_a_keypad_opens_what_is_guarded_and_its_code_stands_nowhere(pad: Pad, tmp_path: Path) -> None:
    running = Running(tmp_path, DOOR)
    site = running.site
    way = lambda: next(each for each in site.remotes() if each["name"] == "door")  # noqa: E731
    eventually(lambda: "nobody has made" in way()["trouble"] or way()["up"])
    site.new_key("store door", role="operate")
    site.give_code("store", "anna", code="730512")
    opened = lambda: site.output("store")["confirmed"]["on"]  # noqa: E731
    pad.tap(*"73051", "3", "enter")
    eventually(lambda: any("does not open it" in row["text"] for row in site.journal(limit=20)))
    assert not opened()
    pad.tap(*"99", "backspace", *"730512", "kpenter")
    eventually(
        lambda: any(
            row["text"].startswith("store is o") and "off" not in row["text"]
            for row in site.journal("store", kind="change")
        ),
        within=10,
    )
    eventually(lambda: not opened())
    pad.tap(*"7305")
    pad.pull()
    eventually(lambda: not way()["up"], within=10)
    pad.plug()
    eventually(lambda: way()["up"], within=10)
    pad.tap(*"12", "enter")  # what was typed before is forgotten
    eventually(lambda: sum("does not open it" in row["text"] for row in site.journal(limit=50)) == 2)
    told = (
        json.dumps([site.journal(limit=500), way()])
        + running.http("GET", "/api/v1/remotes/door/traffic").text
    )
    assert "730512" not in told
    assert "73051" not in told
    with pytest.raises(CallerError, match="The keypad door is real"):
        site.press("door", "1#")
    running.end()


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ('[board.pad]\nlink = "keys"\ndevice = "x"\nkeys = ["entr"]', "Did you mean 'enter'?"),
        ('[board.pad]\nlink = "keys"\ndevice = "x"\nkeys = ["enter", "code-28"]', "'enter' is there twice"),
        ('[board.pad]\nlink = "keys"\ndevice = "x"\nkeys = ["enter"]\n[output.y]\nkind = "relay"\npin = "pad:line-0"', "is for contact, counter and encoder alone"),
        ('[remote.keypad.door]\ndevice = "x"\nopens = "store"\nkey = "k"', "There is no guarded output called 'store'"),
    ],
)  # fmt: skip
def test_what_is_wrong_with_a_file_is_said(tmp_path: Path, text: str, said: str) -> None:
    text = f'site = "x"\n[board.near]\nlink = "simulated"\nlines = 4\n{text}\n'
    assert said in faults(tmp_path, text)


def test_devices_are_named_or_said_not_to_be_there(pad: Pad) -> None:
    assert evdev.find("Bench keypad") == str(pad.path)
    with pytest.raises(BoardError, match=r"No input device called 'Door' is here"):
        evdev.find("Door")
    with pytest.raises(CallerError):
        evdev.line("dail")
    assert set(evdev.DIGITS.values()) == set("0123456789")
