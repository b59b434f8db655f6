"""Sense, contact and header maps as data; the simulated board with its delays, failures and unplugged cable."""

from __future__ import annotations

import threading
from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from cairnwind.boards import maps, wire
from cairnwind.boards.links.simulated import SimulatedLink
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.settings import FULL, OFF, ON, Level
from cairnwind.service.startup import clock
from tests.conftest import eventually

LOW = Output("low", "relay", Pin("b", 0), active_low=True)
CLOSED = Output("closed", "lamp", Pin("b", 1), normally_closed=True, frequency=Fraction(800))
BUTTON = Input("button", "contact", Pin("b", 2), pull="up", active_low=True)


@given(st.booleans(), st.booleans(), st.integers(0, FULL).map(Level))
def test_on_means_that_the_load_is_on(active_low: bool, normally_closed: bool, setting: Level) -> None:
    output = Output(
        "x",
        "lamp",
        Pin("b", 0),
        active_low=active_low,
        normally_closed=normally_closed,
        frequency=Fraction(1),
    )
    high = wire.to_pin(output, setting)
    assert wire.from_pins(output, {output.pin.line: high}) == setting
    coil = high if not active_low else FULL - high
    assert coil == (FULL - setting.parts if normally_closed else setting.parts), (
        "a normally-closed contact is on while its coil is dead"
    )


def opened(delay: int = 0) -> tuple[SimulatedLink, list[ev.Event]]:
    link = SimulatedLink(Board("b", "simulated", None, 8, answers_after=delay))
    said: list[ev.Event] = []
    link.open([LOW, CLOSED], [BUTTON], said.append, clock)
    return link, said


def test_safe_is_driven_before_the_link_says_that_it_is_up() -> None:
    link, said = opened()
    assert link.pins == {0: FULL, 1: FULL}, (
        "off: an active-low pin is high, a normally-closed contact has its coil on"
    )
    assert isinstance(said[0], ev.LinkUp)
    assert said[0].readings == (("low", OFF), ("closed", OFF))
    assert isinstance(said[1], ev.InputSeen)
    assert said[1].active is False, "pulled up, active-low: not pressed"
    link.set_input("button", True)
    assert isinstance(said[2], ev.InputSeen)
    assert said[2].active is True


def test_a_slow_board_takes_safe_first_and_drops_what_was_replaced() -> None:
    link, said = opened(delay=20_000_000)
    moves: list[tuple[int, int]] = []
    link.watchers.append(lambda line, level: moves.append((line, level)))
    link.drive([ev.Drive("closed", 1, ON), ev.Drive("low", 1, ON)])
    link.drive([ev.Drive("closed", 2, Level(250_000))])
    link.drive([ev.Drive("low", 2, OFF)])
    eventually(lambda: len(said) == 4)
    answers = [
        (event.output, event.generation, event.setting)
        for event in said[2:]
        if isinstance(event, ev.Confirmed)
    ]
    assert answers == [("closed", 2, Level(250_000)), ("low", 2, OFF)]
    assert moves == [(1, 750_000)], "the relay never moved: off replaced on before it was carried out"
    link.close()
    assert not any(thread.name == "link-b" for thread in threading.enumerate())


def test_failures_lies_and_silence() -> None:
    link, said = opened()
    link.trouble.failures = 1
    link.drive([ev.Drive("low", 1, ON)])
    assert isinstance(said[-1], ev.Failed)
    link.trouble.stuck[0] = FULL
    link.drive([ev.Drive("low", 2, ON)])
    assert isinstance(said[-1], ev.Confirmed)
    assert said[-1].setting == OFF, "a welded contact reads back as it is"
    link.trouble.silent = True
    before = len(said)
    link.drive([ev.Drive("low", 3, OFF)])
    assert len(said) == before
    link.unplug("cat")
    assert isinstance(said[-1], ev.LinkLost)
    link.drive([ev.Drive("closed", 1, ON)])
    link.plug()
    assert [type(event) for event in said[-2:]] == [ev.LinkUp, ev.InputSeen]
    assert link.level("closed") == FULL


def test_the_map_of_the_demo_board_holds_together() -> None:
    header = maps.load("header-34")
    assert len(header.positions) == 34
    assert {position.connector for position in header.positions.values()} == {"J2", "J3"}
    lines = [position for position in header.positions.values() if position.line is not None]
    assert len({position.line for position in lines}) == len(lines) == 25
    assert all(position.number != position.line for position in lines), (
        "no position may be mistaken for its line"
    )
    pwm = [position for position in lines if "pwm" in position.functions]
    assert {position.timer for position in pwm} == {"T0", "T1", "T2"}
    assert all(position.timer for position in pwm)
    assert sum("analogue" in position.functions for position in lines) == 4
    with pytest.raises(CallerError, match="no header map called 'header-35'"):
        maps.load("header-35")


@given(st.booleans(), st.booleans())
def test_a_latching_relay_is_where_its_last_pulse_put_it(active_low: bool, on: bool) -> None:
    output = Output("x", "relay", Pin("b", 0), others=(1,), latching=1, active_low=active_low)
    levels = {line: put.parts for line, put in wire.to_pins(output, ON if on else OFF).items()}
    assert sorted(levels.values()) == [0, FULL]
    assert wire.from_pins(output, levels) == (ON if on else OFF)
    idle = {put.parts for put in wire.released(output).values()}
    assert idle == {FULL if active_low else 0}
