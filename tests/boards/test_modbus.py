"""Boards that are sold, by profile, over Modbus TCP: a real server of the usual package is the other side."""

from __future__ import annotations

import asyncio
import math
import struct
import threading
import time
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pymodbus.server import ModbusTcpServer
from pymodbus.simulator import DataType, SimData, SimDevice

from cairnwind.boards import profiles
from cairnwind.boards.facts import FORMS, Register
from cairnwind.boards.links.modbus import link_to
from cairnwind.boards.master import Modbus, runs
from cairnwind.client import CallerError
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Source
from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.trials import Trial
from cairnwind.core.values.settings import OFF, ON, Level
from cairnwind.service.startup import clock
from tests.conftest import Running, eventually, free_port, of_kind

pytestmark = pytest.mark.filterwarnings("ignore:coroutine")  # the server's own, when it is stopped


class Relays:
    """A board of four relays, four inputs, two analogue inputs and a level, on the network."""

    def __init__(self) -> None:
        self.port = free_port()
        self.contents: dict[int, list[Any]] = {1: [True] * 4, 2: [False] * 4, 3: [777], 4: [0, 0]}
        """By the function that reads them: coils, discrete inputs, holding registers, input registers."""
        self.start()

    def start(self) -> None:
        self._loop = asyncio.new_event_loop()
        started = threading.Event()

        coils, inputs, holding, registers = (
            [SimData(0, values=self.contents[function], datatype=kind)]
            for function, kind in (
                (1, DataType.BITS),
                (2, DataType.BITS),
                (3, DataType.REGISTERS),
                (4, DataType.REGISTERS),
            )
        )

        async def serve() -> None:
            device = SimDevice(9, (coils, inputs, holding, registers))
            self._server = ModbusTcpServer(device, address=("127.0.0.1", self.port))
            await self._server.serve_forever(background=True)
            started.set()
            self._over = asyncio.Event()
            await self._over.wait()
            await self._server.shutdown()

        self._thread = threading.Thread(target=lambda: self._loop.run_until_complete(serve()), daemon=True)
        self._thread.start()
        assert started.wait(5)

    def stop(self) -> None:
        self._loop.call_soon_threadsafe(self._over.set)
        self._thread.join(5)

    def values(self, function: int, at: int, count: int) -> list[Any]:
        asked = self._server.async_getValues(9, function, at, count)
        return list(asyncio.run_coroutine_threadsafe(asked, self._loop).result(5))[:count]

    def set(self, function: int, at: int, *values: Any) -> None:
        asyncio.run_coroutine_threadsafe(
            self._server.async_setValues(9, function, at, list(values)), self._loop
        ).result(5)


@pytest.fixture
def relays() -> Iterator[Relays]:
    found = Relays()
    yield found
    found.stop()


OUTPUTS = [
    Output("pump", "relay", Pin("r", 0)),
    Output("lamp", "lamp", Pin("r", 2), active_low=True),
    Output("valve", "motor", Pin("r", 10), levels=True),
]
INPUTS = [Input("gate", "contact", Pin("r", 5)), Input("tank", "analogue", Pin("r", 9), unit="V")]


class Linked:
    def __init__(self, port: str, outputs: list[Output] = OUTPUTS, unit: int = 9) -> None:
        facts = Modbus(port, unit, profiles.relays("relays-4-analogue"), 9600)
        self.link = link_to(Board("r", "modbus", None, 11, facts=facts))
        self.said: list[ev.Event] = []
        self.fresh = True
        self.link.open(outputs, INPUTS, self.said.append, clock, lambda: self.fresh)
        assert self.link.ready(8)

    def of(self, kind: type) -> list[Any]:
        return of_kind(self.said, kind)


def test_coils_levels_and_inputs_by_profile(relays: Relays) -> None:
    linked = Linked(f"127.0.0.1:{relays.port}")
    (up,) = linked.of(ev.LinkUp)
    assert dict(up.readings) == {"pump": OFF, "lamp": OFF, "valve": OFF}
    assert relays.values(1, 0, 4) == [False, True, True, True], (
        "what is ours is safe, what is not is left alone"
    )
    assert relays.values(3, 0, 1) == [0]
    linked.link.drive([ev.Drive("pump", 1, ON), ev.Drive("valve", 1, Level(333_333))])
    eventually(lambda: len(linked.of(ev.Confirmed)) == 2)
    assert {event.setting for event in linked.of(ev.Confirmed)} == {ON, Level(333_333)}
    assert relays.values(3, 0, 1) == [333], "0 to 10 V in hundredths"
    relays.set(2, 1, True)
    relays.set(4, 1, 2500)
    eventually(lambda: linked.of(ev.InputSeen) and linked.of(ev.InputSeen)[-1].active)
    eventually(lambda: linked.of(ev.Measured) and linked.of(ev.Measured)[-1].volts == 2.5)
    relays.set(1, 0, False)  # somebody at the board presses its button
    eventually(lambda: linked.of(ev.Confirmed)[-1].setting == OFF)
    linked.link.attempt(1, Trial(Pin("r", 1), "output", Source("test", "a hand", "keep"), 0, 1))
    assert "give it a name to use it" in eventually(lambda: linked.of(ev.TrialFailed))[0].reason
    linked.link.close()


def test_lost_and_found_wrong_unit_and_an_engine_that_hangs(relays: Relays) -> None:
    linked = Linked(f"127.0.0.1:{relays.port}")
    linked.link.drive([ev.Drive("pump", 1, ON)])
    eventually(lambda: relays.values(1, 0, 1) == [True])
    linked.fresh = False  # such a board has no watchdog: the link itself takes it to safe
    eventually(lambda: relays.values(1, 0, 1) == [False])
    linked.fresh = True
    eventually(lambda: len(linked.of(ev.LinkUp)) == 2)
    relays.stop()
    eventually(lambda: len(linked.of(ev.LinkLost)) >= 2, within=10)
    relays.contents[1] = [True] * 4
    relays.start()
    eventually(lambda: len(linked.of(ev.LinkUp)) == 3, within=10)
    assert relays.values(1, 0, 1) == [False], "safe before anything else"
    linked.link.close()
    nobody = Linked(f"127.0.0.1:{free_port()}")
    assert "Nothing listens at 127.0.0.1" in nobody.of(ev.LinkLost)[0].reason
    nobody.link.close()


def test_our_firmware_is_not_mistaken_for_a_board_that_is_sold(relays: Relays) -> None:
    facts = Modbus(f"127.0.0.1:{relays.port}", 9, None)
    link = link_to(Board("r", "modbus", None, 32, facts=facts))
    said: list[Any] = []
    link.open([], [], said.append, clock, lambda: True)
    assert link.ready(8)
    assert any(
        "refuses" in event.reason or "no board of ours" in event.reason
        for event in said
        if isinstance(event, ev.LinkLost)
    ), said
    link.close()


def test_lines_side_by_side_are_one_request() -> None:
    assert runs({3: True, 4: False, 5: True, 9: True}) == [(3, [True, False, True]), (9, [True])]
    assert runs({}) == []


TWO = """
site = "two boards that are sold"

[board.left]
link = "modbus"
port = "127.0.0.1:{left}"
unit = 9
profile = "relays-4-analogue"
{more}

[board.right]
link = "modbus"
port = "127.0.0.1:{right}"
unit = 9
profile = "relays-4-analogue"

[output.up]
kind = "relay"
pin = "left:line-0"

[output.down]
kind = "relay"
pin = "right:line-0"

[[interlock]]
name = "one way"
excludes = ["up", "down"]
"""


@pytest.mark.parametrize("own", [False, True])
def test_a_board_that_is_sold_is_not_taken_to_rest_by_itself(tmp_path: Path, own: bool) -> None:
    """Its cable is pulled while it is on: what excludes it stays off until somebody has looked, or until its own watchdog is over."""
    boards = Relays(), Relays()
    more = 'watchdog = "2 s"' if own else ""
    running = Running(tmp_path, TWO.format(left=boards[0].port, right=boards[1].port, more=more))
    site = running.site
    try:
        site.turn("up", "on", lasting="until released")
        eventually(lambda: boards[0].values(1, 0, 1) == [True])
        boards[0].stop()
        eventually(lambda: not {each["name"]: each["up"] for each in site.boards()}["left"])
        site.release("up")
        if own:
            site.turn("down", "on", lasting="until released", when_possible=True)
            eventually(lambda: boards[1].values(1, 0, 1) == [True])
            return
        time.sleep(4.5)
        with pytest.raises(CallerError, match="is not known to be off: board left does not answer"):
            site.turn("down", "on")
        assert boards[1].values(1, 0, 1) == [False], "never both"
        site.attest("up", "Anna")
        site.turn("down", "on", lasting="until released")
        eventually(lambda: boards[1].values(1, 0, 1) == [True])
    finally:
        running.end()
        boards[1].stop()


@given(st.sampled_from(sorted(FORMS)), st.booleans(), st.integers(0, 2**32 - 1))
def test_registers_are_read_as_they_are_written(form: str, low_first: bool, number: int) -> None:
    register = Register(7, Fraction(1, 10), form, low_first)
    raw = (number >> (0 if register.words == 2 else 16)).to_bytes(2 * register.words, "big")
    words = [int.from_bytes(raw[at : at + 2], "big") for at in range(0, len(raw), 2)]
    (want,) = struct.unpack(FORMS[form], raw)
    found = register.read(words[::-1] if low_first else words)
    assert found == (want if math.isfinite(want) else None)


def test_a_board_of_readings_below_nothing_and_beyond_16_bits(tmp_path: Path) -> None:
    (tmp_path / "profiles").mkdir()
    (tmp_path / "profiles" / "meter.toml").write_text(
        'coils = 1\n[[analogue]]\nregister = 0\na_count = "10 mV"\nform = "s16"\n[[analogue]]\nregister = 1\na_count = "1 V"\nform = "float"\n'
    )
    profile = profiles.relays("meter", [tmp_path])
    link = link_to(Board("m", "modbus", None, 3, facts=Modbus("x:1", 1, profile)))
    link.inputs = {line: Input(f"i{line}", "analogue", Pin("m", line), unit="V") for line in (1, 2)}
    said: list[ev.Event] = []
    link._report, link.clock = said.append, clock
    answers = {0: [0xFF38], 1: [0x4148, 0x0000]}
    link._ask = lambda what, at, **_: answers[at] if what == "read_input_registers" else [False]  # type: ignore[method-assign]
    link.look()
    assert [(event.input, event.raw, event.volts) for event in of_kind(said, ev.Measured)] == [
        ("i1", -200, -2.0),
        ("i2", 12500, 12.5),
    ]
    answers[1] = [0x7FC0, 0]
    link.look()
    assert of_kind(said, ev.Measured)[-1].volts is None, "what is no number is not known"
    (tmp_path / "profiles" / "wrong.toml").write_text(
        'coils = 1\n[[analogue]]\nregister = 0\na_count = "1 V"\nform = "u24"\n'
    )
    with pytest.raises(CallerError, match="a register of the form 'u24'"):
        profiles.relays("wrong", [tmp_path])
