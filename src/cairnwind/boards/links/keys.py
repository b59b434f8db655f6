"""Keys of one of the kernel's input devices, as a board whose lines are contacts: buttons, keypads, remote controls; and knobs.

A key is active while it is down. A knob (``dial``) is an encoder; a way round of it (``dial+``) is a contact that closes for a moment at each step.
"""

from __future__ import annotations

import time
from collections.abc import Collection, Iterator, Mapping
from functools import partial

from cairnwind.boards import devices, evdev
from cairnwind.boards.access import INPUT
from cairnwind.boards.evdev import Line
from cairnwind.boards.kinds import Kind, Share
from cairnwind.boards.link import Seen
from cairnwind.boards.quadrature import MOST_STEPS
from cairnwind.boards.wire import Put
from cairnwind.boards.worker import Worker
from cairnwind.core.facts.hardware import Board
from cairnwind.core.facts.site import Site
from cairnwind.core.values import entries
from cairnwind.core.values.errors import BoardError, CallerError
from cairnwind.core.values.fact import fact
from cairnwind.core.values.keys import written

LOOK_EVERY = 0.5
"""Seconds between looks at which keys are down."""
DEVICE = partial(
    entries.like, form=r"\S(.*\S)?", example="/dev/input/by-id/usb-Keypad-event-kbd", what="no input device"
)


def _lines(value: object) -> tuple[Line, ...]:
    if not isinstance(value, list) or not value:
        raise CallerError(
            "", f"{value!r} is no list of keys", 'Write keys = ["volumeup", "volumedown", "dial+"].'
        )
    found = tuple(evdev.line(each) for each in value)
    for each in found:
        if [(other.kind, other.code, other.way) for other in found].count(
            (each.kind, each.code, each.way)
        ) > 1:
            raise CallerError("", f"'{each.text}' is there twice", "Take one away.")
    return found


@fact
class Keys:
    """Keys of an input device; each is a line, in their order."""

    device: str = written(
        'the device: its path (`"/dev/input/by-id/…"`), or what it calls itself; `cairnwind doctor` lists those of this machine',
        DEVICE,
        needed='Say which: device = "/dev/input/by-id/usb-Keypad-event-kbd".',
    )
    keys: tuple[Line, ...] = written(
        'its lines, in their order: `["enter", "kp1", "volumeup", "code-464"]`, called as in the kernel\'s `input-event-codes.h`; `"dial"` is a knob, for an encoder, `"dial+"` and `"dial-"` '
        "are its two ways round, for contacts (also `wheel`, `hwheel`; of `x`, `y` and `z` the ways round)",
        _lines,
        needed='Name them: keys = ["volumeup", "volumedown"].',
    )
    functions: frozenset[str] = frozenset()
    serves = frozenset({"contact", "counter", "encoder"})
    """Nothing else can be wired to it."""
    wired = False

    def knob(self, line: int) -> bool:
        """Whether this line is a whole knob."""
        return line < len(self.keys) and (self.keys[line].kind, self.keys[line].way) == (evdev.TURN, 0)


class KeysLink(Worker):
    """The link to one device, whose events nobody else gets meanwhile."""

    def __init__(self, board: Board) -> None:
        super().__init__(board)
        assert isinstance(board.facts, Keys)
        self.facts = board.facts
        self._device: evdev.Device | None = None
        self._looked = 0.0
        self._lines = {
            (each.kind, each.code, each.way): number for number, each in enumerate(self.facts.keys)
        }

    def connect(self) -> None:
        """Open it, for nobody else."""
        self._device = evdev.Device(evdev.find(self.facts.device))
        self._device.grab()

    def disconnect(self) -> None:
        """Let it go."""
        if self._device is not None:
            self._device.close()
        self._device = None

    def adopt(self, come: Collection[int], gone: Collection[int]) -> None:
        """Its keys need no setting up."""

    def first_look(self) -> None:
        """What is down now."""
        assert self._device is not None
        down = self._device.pressed()
        for (kind, code, way), line in self._lines.items():
            if kind == evdev.KEY or way:
                self.seen(line, kind == evdev.KEY and code in down, settled=True)
            elif line in self.inputs:
                self.heard.turning(self.inputs[line]).counted(0)
                self.stepped(self.inputs[line], 0)

    def put(self, levels: Mapping[int, Put]) -> Mapping[int, int]:
        """Nothing here can be told anything."""
        raise BoardError("pin", f"the lines of {self.board.name} are keys", "Wire outputs to another board.")

    def poll(self, seconds: float) -> None:
        """Wait for events; look now and then, for one may have been lost."""
        device = self._device
        assert device is not None
        for _ in self.rest(seconds, device.file):
            for event in device.events():
                self._came(event)
        if time.monotonic() - self._looked >= LOOK_EVERY:
            self._looked = time.monotonic()
            down = device.pressed()
            for (kind, code, _), line in self._lines.items():
                if kind == evdev.KEY:
                    self.seen(line, code in down, settled=True)
        self.traffic.rounds += 1

    def _came(self, event: evdev.Event) -> None:
        edge = evdev.wall(event.mono)
        if event.kind == evdev.SYNC and event.code == evdev.DROPPED:
            self.traffic.add("lost", b"", "events were lost: they came too fast")
            self._looked = 0.0
        elif event.kind == evdev.KEY and event.value in (0, 1):
            line = self._lines.get((event.kind, event.code, 0))
            self.traffic.add(
                "got",
                b"",
                f"{evdev.CALLED.get(event.code, f'code-{event.code}')} {'down' if event.value else 'up'}",
            )
            if line is not None:
                self.seen(line, bool(event.value), edge, settled=True)
        elif event.kind == evdev.TURN:
            knob = self._lines.get((event.kind, event.code, 0))
            if knob in self.inputs:
                self.stepped(self.inputs[knob], max(-MOST_STEPS, min(event.value, MOST_STEPS)), edge)
            line = self._lines.get((event.kind, event.code, 1 if event.value > 0 else -1))
            self.traffic.add("got", b"", f"axis {event.code}: {event.value:+d}")
            for _ in range(min(abs(event.value), MOST_STEPS) if line is not None else 0):
                assert line is not None
                self.seen(line, True, edge, settled=True)
                self.seen(line, False, edge, settled=True)

    def survey(self) -> Mapping[int, Seen]:
        """What its keys are called."""
        return self.titled((each.text for each in self.facts.keys), self.facts.functions)


def _looks(site: Site, board: Board) -> Iterator[devices.Found]:
    yield devices.openable(evdev.find(board.facts.device), "input device")


KIND = Kind(
    "keys of one of the kernel's input devices: buttons, keypads, remote controls, knobs", lambda board, _: KeysLink(board), Keys,
    lines=lambda its: len(its.keys) if its else 1, looks=_looks,
    shares=lambda its: Share(f"input device {its.device}", "its events", key="device", remedy="Join their keys to one board."),
    needs=lambda _: (INPUT,),
)  # fmt: skip
