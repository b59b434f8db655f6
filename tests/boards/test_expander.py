"""Expanders on the register-accurate simulated bus: order of writes, lines together, gone and back, and the chain."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cairnwind.boards import profiles, twowire
from cairnwind.boards.links.expander import Expander, ExpanderLink
from cairnwind.boards.twowire import SimulatedBus
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Source
from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.trials import Trial
from cairnwind.core.values.settings import OFF, ON, Level
from cairnwind.service.startup import clock
from tests.conftest import eventually, of_kind

LOW = Output("low", "relay", Pin("b", 3), active_low=True)
HIGH = Output("high", "relay", Pin("b", 5))
LID = Input("lid", "contact", Pin("b", 6), pull="up")


class Opened:
    """A link with its reports and its chip; what was written is kept in order."""

    def __init__(
        self, chip: str = "ports-16", outputs: list[Output] | None = None, inputs: list[Input] | None = None
    ) -> None:
        profile = profiles.chip(chip)
        self.link = ExpanderLink(
            Board("b", "expander", None, profile.lines, facts=Expander(profile, "simulated", profile.base))
        )
        assert self.link.simulated is not None
        self.chip: SimulatedBus = self.link.simulated
        self.levels: list[int] = []
        self.wrong: list[int] = []
        """Lines that were driven to what is not safe, as soon as they were."""
        self.fresh = True
        write = self.chip.write

        def noting(register: int, data: bytes) -> None:
            write(register, data)
            self.levels.append(self.chip.levels())
            if "direction" in profile.registers:
                driven = ~self.chip.word("direction")
                self.wrong += [
                    driven & 1 << 3 and not self.levels[-1] >> 3 & 1,
                    driven & 1 << 5 and self.levels[-1] >> 5 & 1,
                ]

        self.chip.write = noting  # type: ignore[method-assign]
        self.said: list[ev.Event] = []
        self.link.open(
            [LOW, HIGH] if outputs is None else outputs,
            [LID] if inputs is None else inputs,
            self.said.append,
            clock,
            lambda: self.fresh,
        )
        assert self.link.ready(5)

    def of(self, kind: type) -> list[Any]:
        return of_kind(self.said, kind)


@pytest.fixture
def opened() -> Iterator[Opened]:
    found = Opened()
    yield found
    found.link.close()


def test_no_line_drives_anything_but_safe_before_it_is_told_to(opened: Opened) -> None:
    """The output register comes before the directions: an active-low relay never sees a low pin."""
    assert opened.wrong
    assert not any(opened.wrong)
    assert opened.levels[-1] >> 3 & 1
    assert dict(opened.of(ev.LinkUp)[0].readings) == {"low": OFF, "high": OFF}


def test_changed_lines_go_out_together_but_offs_before_ons(opened: Opened) -> None:
    before = opened.chip.transactions
    opened.link.drive([ev.Drive("low", 1, ON), ev.Drive("high", 1, ON)])
    eventually(lambda: len(opened.of(ev.Confirmed)) == 2)
    assert opened.levels[-1] & 0b101000 == 0b100000
    opened.levels.clear()
    opened.link.drive([ev.Drive("high", 2, OFF), ev.Drive("low", 2, OFF)])
    eventually(lambda: len(opened.of(ev.Confirmed)) == 4)
    assert len(opened.levels) == 1, "one write for both"
    assert before < opened.chip.transactions


def test_gone_and_back_it_is_safe_before_its_claims_count(opened: Opened) -> None:
    opened.link.drive([ev.Drive("high", 1, ON)])
    eventually(lambda: opened.of(ev.Confirmed))
    opened.chip.there = False
    lost = eventually(lambda: opened.of(ev.LinkLost))
    assert "Nothing answers at address 0x20" in lost[0].reason
    opened.chip.reset()  # it has lost its supply
    opened.wrong.clear()
    opened.chip.there = True
    eventually(lambda: len(opened.of(ev.LinkUp)) == 2)
    assert opened.wrong
    assert not any(opened.wrong)
    assert any("found at 1111" in frame.text for frame in opened.link.traffic.after(0)), "read back first"


def test_inputs_pulls_and_what_somebody_else_writes(opened: Opened) -> None:
    assert eventually(lambda: opened.of(ev.InputSeen))[0].active is True, "pulled up"
    opened.chip.outside[6] = False
    eventually(lambda: opened.of(ev.InputSeen)[-1].active is False)
    opened.link.drive([ev.Drive("high", 1, ON)])
    eventually(lambda: opened.of(ev.Confirmed))
    opened.chip.registers[0x14] &= ~(1 << 5)
    eventually(lambda: opened.of(ev.Confirmed)[-1].setting == OFF)


def test_a_hung_engine_and_trials(opened: Opened) -> None:
    hand = Source("test", "a hand", "keep")
    opened.link.attempt(9, Trial(Pin("b", 9), "output", hand, 0, 1_000_000))
    eventually(lambda: opened.chip.levels() >> 9 & 1)
    opened.link.attempt(9, None)
    eventually(lambda: not opened.chip.levels() >> 9 & 1)
    opened.link.attempt(9, Trial(Pin("b", 9), "pwm", hand, 0, 1))
    assert "on or off" in eventually(lambda: opened.of(ev.TrialFailed))[0].reason
    opened.link.drive([ev.Drive("low", 1, ON)])
    eventually(lambda: not opened.chip.levels() >> 3 & 1)
    opened.fresh = False
    eventually(lambda: opened.chip.levels() >> 3 & 1)
    assert "engine does not answer" in eventually(lambda: opened.of(ev.LinkLost))[0].reason


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 1_000_000), st.integers(24_000, 1_526_000))
def test_duty_and_frequency_of_a_pwm_controller(parts: int, millihertz: int) -> None:
    chip = profiles.chip("pwm-16")
    link = ExpanderLink(Board("b", "expander", None, 16, facts=Expander(chip, "simulated", 0x40)))
    link.connect()
    from cairnwind.boards.wire import Put

    assert link.put({5: Put(parts, millihertz)}) == {5: parts}
    assert link.simulated is not None
    start, end = (
        int.from_bytes(link.simulated.registers[0x06 + 20 + at : 0x06 + 22 + at], "little") for at in (0, 2)
    )
    counts = round(parts * 4096 / 1_000_000)
    assert (start, end) == ((4096, 0) if counts == 4096 else (0, counts or 4096)), (
        "full and none are bits of their own"
    )
    real = 25e6 / 4096 / (link.simulated.registers[0xFE] + 1)
    assert abs(real * 1000 - millihertz) / millihertz < 0.14, "half a step of the prescaler, at worst"
    link.disconnect()


def test_the_truth_table_of_a_chain() -> None:
    rows = twowire.truth_table(profiles.chip("ports-16"))
    assert len(rows) == 8
    assert rows[5] == ([1, 0, 1], 0x25)
    assert [address for _, address in rows] == list(range(0x20, 0x28))


def test_a_dimmed_output_confirms_as_it_was_asked() -> None:
    from fractions import Fraction

    lamp = Output("lamp", "lamp", Pin("b", 2), frequency=Fraction(800), active_low=True)
    found = Opened("pwm-16", [lamp], [])
    found.link.drive([ev.Drive("lamp", 1, Level(333_333))])
    eventually(lambda: found.of(ev.Confirmed))
    assert found.of(ev.Confirmed)[0].setting == Level(333_333)
    found.link.close()
