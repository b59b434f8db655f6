"""A serial line whose board answers late, in pieces, with noise before it, or to another question: nobody is ever one answer behind."""

from __future__ import annotations

import os
import pty
import random
import select
import socket
import threading
import time
import tty
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import pytest
from pymodbus.framer import FramerRTU

from cairnwind.boards import profiles, serialports
from cairnwind.boards.links.modbus import link_to
from cairnwind.boards.master import Master, Modbus
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.facts.outputs import Output
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.fact import replace
from cairnwind.core.values.settings import OFF, ON
from cairnwind.service.startup import clock
from tests.conftest import eventually, of_kind

LATE = 0.4
"""Seconds: an answer has 0.28 s at this speed."""


def framed(frame: bytes) -> bytes:
    return frame + FramerRTU.compute_CRC(frame).to_bytes(2, "big")


class Late:
    """Eight coils at the far end of a line."""

    def __init__(self) -> None:
        self._line, far = pty.openpty()
        tty.setraw(far)
        self.port = os.ttyname(far)
        self.coils = 0
        self.asked = 0
        self.simple = False
        """It knows no function for several coils."""
        self.manner = "at once"
        self.echoes = False
        """Its adapter gives back what is sent."""
        self.silences: list[float] = []
        """Seconds from an answer to the next question."""
        self.late = LATE
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._run)
        self._thread.start()

    def _run(self) -> None:
        spoken = 0.0
        while not self._over.is_set():
            frame = b""
            while select.select([self._line], [], [], 0.1 if not frame else 0.004)[0]:
                frame += os.read(self._line, 256)
            if len(frame) < 8 or framed(frame[:-2]) != frame:
                continue
            self.asked += 1
            if spoken:
                self.silences.append(time.monotonic() - spoken)
            if self.echoes:
                os.write(self._line, frame)
            self._send(self._answer(frame))
            spoken = time.monotonic()

    def _answer(self, frame: bytes) -> bytes:
        if frame[1] == 15 and not self.simple:
            first, count = int.from_bytes(frame[2:4], "big"), int.from_bytes(frame[4:6], "big")
            mask = (1 << count) - 1
            self.coils = self.coils & ~(mask << first) | (frame[7] & mask) << first
            return framed(frame[:6])
        if frame[1] == 5:
            line = int.from_bytes(frame[2:4], "big")
            self.coils = self.coils & ~(1 << line) | (frame[4] == 0xFF) << line
            return framed(frame[:6])
        if frame[1] == 2:
            return framed(bytes([frame[0], 2, 1, 0]))
        if frame[1] == 1:
            return framed(
                bytes([frame[0], 1, 1, self.coils & ((1 << int.from_bytes(frame[4:6], "big")) - 1)])
            )
        return framed(bytes([frame[0], frame[1] | 0x80, 1]))

    def _send(self, answer: bytes) -> None:
        manner, self.manner = self.manner, "at once"
        if manner == "noise, then late":
            os.write(self._line, b"\x55")
        if manner in ("late", "noise, then late"):
            time.sleep(self.late)
        if manner == "in pieces, late":
            os.write(self._line, answer[:3])
            time.sleep(self.late)
            answer = answer[3:]
        if manner == "of another unit":
            answer = framed(bytes([answer[0] + 1]) + answer[1:-2])
        if manner == "to another question":
            answer = framed(bytes([answer[0], 3, 2, 0xFF, 0xFF]))
        if manner == "too long":
            answer = framed(bytes([answer[0], 1, 2, 0xFF, 0xFF]))
        os.write(self._line, answer)

    def end(self) -> None:
        self._over.set()
        self._thread.join()
        os.close(self._line)


def opened(facts: Modbus, names: dict[str, int]) -> tuple[Master, list[ev.Event]]:
    """A link to it, with what that reports; outputs by their lines."""
    link = link_to(Board("b", "modbus", None, 8, facts=facts))
    said: list[ev.Event] = []
    outputs = [Output(name, "relay", Pin("b", line)) for name, line in names.items()]
    link.open(outputs, [], said.append, clock, lambda: True)
    assert link.ready(10)
    return link, said


@pytest.fixture
def board() -> Iterator[Late]:
    found = Late()
    yield found
    found.end()


@pytest.mark.parametrize(
    "manner",
    ["late", "noise, then late", "in pieces, late", "of another unit", "to another question", "too long"],
)
def test_what_is_confirmed_is_what_is_so(board: Late, manner: str) -> None:
    facts = Modbus(board.port, 1, profiles.relays("relays-8"), baud=115_200, watchdog=0)
    link, said = opened(facts, {"a": 0, "b": 5})
    chance = random.Random(manner)
    for generation in range(1, 4):
        want = ON if generation % 2 else OFF
        board.manner = manner if chance.random() < 0.7 else "at once"
        link.drive([ev.Drive("a", generation, want)])
        told = eventually(
            lambda g=generation: [each for each in of_kind(said, ev.Confirmed) if each.generation == g]
        )
        assert {each.setting for each in told} == {want}
        assert bool(board.coils & 1) == (want is ON)
        asked = board.asked
        board.manner = manner  # of a poll
        eventually(lambda a=asked: board.asked > a + 2)
    assert {each.setting for each in of_kind(said, ev.Confirmed) if each.output == "b"} <= {OFF}
    assert not of_kind(said, ev.LinkLost), "one answer that does not come is no lost board"
    link.close()


def test_a_board_that_knows_one_coil_at_a_time(board: Late) -> None:
    board.simple = True
    profile = replace(profiles.relays("relays-8"), one_by_one=True)
    facts = Modbus(board.port, 1, profile, baud=115_200, watchdog=0)
    link, said = opened(facts, {name: line for line, name in enumerate("abcd")})
    link.drive([ev.Drive(name, 1, ON) for name in "abcd"])
    eventually(lambda: board.coils == 0b1111)
    eventually(lambda: {each.output for each in of_kind(said, ev.Confirmed)} == {*"abcd"})
    link.close()


@pytest.mark.parametrize("manner", ["late", "to another question"])
def test_frames_of_a_serial_line_over_a_network_are_told_apart_as_well(board: Late, manner: str) -> None:
    listening = socket.create_server(("127.0.0.1", 0))
    board.late = 1.3  # an answer has a second there

    def adapter() -> None:
        """Passes on what comes, either way."""
        with listening, suppress(OSError):
            near, _ = listening.accept()
            far = os.open(board.port, os.O_RDWR | os.O_NOCTTY)
            while True:
                for ready in select.select([near.fileno(), far], [], [])[0]:
                    data = os.read(ready, 512)
                    if not data:
                        return
                    os.write(far if ready == near.fileno() else near.fileno(), data)

    threading.Thread(target=adapter, daemon=True).start()
    at = f"127.0.0.1:{listening.getsockname()[1]}"
    facts = Modbus(at, 1, profiles.relays("relays-8"), watchdog=0, framing="rtu")
    link, said = opened(facts, {"a": 0, "b": 5})
    for generation, want in enumerate((ON, OFF), 1):
        board.manner = manner
        link.drive([ev.Drive("a", generation, want)])
        eventually(
            lambda g=generation: [each for each in of_kind(said, ev.Confirmed) if each.generation == g]
        )
        assert bool(board.coils & 1) == (want is ON)
    assert {each.setting for each in of_kind(said, ev.Confirmed) if each.output == "b"} <= {OFF}
    link.close()


def test_an_adapter_that_gives_back_what_is_sent(board: Late) -> None:
    board.echoes = True
    facts = Modbus(board.port, 1, profiles.relays("relays-8"), baud=115_200, watchdog=0)
    link, said = opened(facts, {"a": 0})
    eventually(lambda: of_kind(said, ev.LinkLost), within=10)
    assert "gives back what is sent" in of_kind(said, ev.LinkLost)[0].reason
    assert "echo = true" in of_kind(said, ev.LinkLost)[0].reason
    link.close()
    link, said = opened(replace(facts, echo=True), {"a": 0})
    for generation, want in enumerate((ON, OFF, ON), 1):
        link.drive([ev.Drive("a", generation, want)])
        eventually(lambda g=generation: any(each.generation == g for each in of_kind(said, ev.Confirmed)))
        assert bool(board.coils & 1) == (want is ON)
    assert not of_kind(said, ev.LinkLost)
    link.close()


def test_a_line_is_silent_between_frames_by_whatever_name_it_is_spoken_to(
    board: Late, tmp_path: Path
) -> None:
    other = tmp_path / "by-another-name"
    other.symlink_to(board.port)
    assert serialports.terms(str(other)) == serialports.terms(board.port)
    facts = Modbus(board.port, 1, profiles.relays("relays-8"), baud=115_200, watchdog=0, silence=30_000_000)
    link, said = opened(facts, {"a": 0})
    second, heard = opened(replace(facts, port=str(other), unit=2), {"b": 1})
    for generation, want in enumerate((ON, OFF, ON), 1):
        link.drive([ev.Drive("a", generation, want)])
        second.drive([ev.Drive("b", generation, want)])
        for events in (said, heard):
            eventually(
                lambda g=generation, e=events: any(each.generation == g for each in of_kind(e, ev.Confirmed))
            )
    assert board.coils == 0b11
    assert min(board.silences) >= 0.03, "of whichever unit"
    link.close()
    second.close()


def test_a_port_whose_driver_cannot_turn_the_wires_round(board: Late) -> None:
    facts = Modbus(board.port, 1, profiles.relays("relays-8"), baud=115_200, watchdog=0, rs485=True)
    link, said = opened(facts, {"a": 0})
    assert "cannot turn its two wires round" in of_kind(said, ev.LinkLost)[0].reason
    link.close()


@pytest.mark.parametrize(
    ("baud", "fits"),
    [(9600, True), (115_200, True), (230_400, False), (250_000, True), (921_600, False), (1_000_000, True)],
)
def test_a_speed_that_the_chip_can_keep(baud: int, fits: bool) -> None:
    if fits:
        serialports.see_baud(baud)
        return
    with pytest.raises(CallerError, match=f"away from {baud} baud"):
        serialports.see_baud(baud)
