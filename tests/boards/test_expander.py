"""Expanders on the register-accurate simulated bus: order of writes, lines together, gone and back, and the chain."""

from __future__ import annotations

import errno
from collections.abc import Iterator
from fractions import Fraction
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cairnwind.boards import profiles, twowire
from cairnwind.boards.facts import Chip
from cairnwind.boards.links.expander import Expander, ExpanderLink
from cairnwind.boards.twowire import SimulatedBus
from cairnwind.boards.wire import Put
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Source
from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.trials import Trial
from cairnwind.core.values.errors import BoardError
from cairnwind.core.values.settings import OFF, ON, Level
from cairnwind.service.startup import clock
from tests.conftest import eventually, of_kind

LOW = Output("low", "relay", Pin("b", 3), active_low=True)
HIGH = Output("high", "relay", Pin("b", 5))
LID = Input("lid", "contact", Pin("b", 6), pull="up")


QUASI = Chip(
    "quasi",
    "8 lines that are driven low, or let go",
    8,
    0x20,
    3,
    registers={"output": 0},
    after_reset={"output": 0xFF},
)
"""A chip without a register for directions: one that was reset has all its lines high, which here is off for active-low loads."""


class Opened:
    """A link with its reports and its chip; what was written is kept in order."""

    def __init__(
        self, chip: str = "ports-16", outputs: list[Output] | None = None, inputs: list[Input] | None = None
    ) -> None:
        profile = QUASI if chip == "quasi" else profiles.chip(chip)
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

    def lit(self, line: int) -> bool:
        """Whether a line is driven high, or a channel has a duty."""
        if self.chip.chip.kind == "pwm":
            return self.chip.duty(line) > 0
        driven = (
            not self.chip.word("direction") >> line & 1 if "direction" in self.chip.chip.registers else True
        )
        return driven and bool(self.chip.levels() >> line & 1) != (line == LOW.pin.line)

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
    assert any("found at 0000" in frame.text for frame in opened.link.traffic.after(0)), "read back first"


@pytest.mark.parametrize("kind", ["ports-16", "ports-8", "pwm-16", "quasi"])
def test_a_dip_of_the_supply_is_a_lost_link_and_nothing_is_said_to_be_on(kind: str) -> None:
    """The bus is told nothing of it: the chip answers, with the registers of its data sheet, and drives nothing."""
    lamp = {"pwm-16": Output("lamp", "lamp", Pin("b", 5), frequency=Fraction(800)), "quasi": LOW}.get(
        kind, HIGH
    )
    line = lamp.pin.line
    found = Opened(kind, [lamp], [])
    found.link.drive([ev.Drive(lamp.name, 1, ON)])
    eventually(lambda: found.of(ev.Confirmed))
    assert found.lit(line)
    found.chip.reset()
    (lost,) = eventually(lambda: found.of(ev.LinkLost))
    assert "it was reset: its supply has dipped" in lost.reason
    eventually(lambda: len(found.of(ev.LinkUp)) == 2)
    assert dict(found.of(ev.LinkUp)[1].readings) == {lamp.name: OFF}, (
        "set up anew from safe; what is claimed is the engine's to say"
    )
    found.link.drive([ev.Drive(lamp.name, 2, ON)])
    eventually(lambda: found.lit(line))
    found.link.close()


def test_an_input_that_asks_for_what_the_chip_has_not_is_unknown_and_nobody_else_is() -> None:
    found = Opened("ports-8", [HIGH], [LID, Input("bare", "contact", Pin("b", 7))])
    assert found.of(ev.LinkUp)
    found.link.drive([ev.Drive("high", 1, ON)])
    eventually(lambda: found.lit(5))
    eventually(
        lambda: (
            {event.input: event.active for event in found.of(ev.InputSeen)} == {"lid": None, "bare": False}
        )
    )
    with pytest.raises(BoardError, match="no pull-ups, which lid asks for"):
        found.link.rewire([HIGH], [LID], ["lid"])
    assert not found.of(ev.LinkLost)
    found.link.close()


def test_another_setting_is_a_lost_link_too(opened: Opened) -> None:
    opened.link.drive([ev.Drive("high", 1, ON)])
    eventually(lambda: opened.of(ev.Confirmed))
    opened.chip.registers[0x0C] ^= 1 << 6  # the pull-up of the lid
    assert "pull-up is 0x0, not 0x40" in eventually(lambda: opened.of(ev.LinkLost))[0].reason
    eventually(lambda: len(opened.of(ev.LinkUp)) == 2)


def test_one_disturbance_is_no_lost_board_and_three_are_told_apart(opened: Opened) -> None:
    for fault in (errno.ENXIO, errno.EAGAIN, errno.EIO):
        opened.chip.faults += [fault, fault]
        opened.link.drive([ev.Drive("high", fault, ON)])
        eventually(lambda: not opened.chip.faults)
    eventually(lambda: opened.of(ev.Confirmed))
    assert not opened.of(ev.LinkLost)
    for number, (fault, says) in enumerate(
        (
            (errno.EAGAIN, "arbitration lost"),
            (errno.ETIMEDOUT, "holds a wire low"),
            (errno.ENXIO, "Nothing answers"),
        ),
        1,
    ):
        opened.chip.faults += [fault] * 3
        assert says in eventually(lambda n=number: opened.of(ev.LinkLost)[n - 1 :])[0].reason
        eventually(lambda n=number: len(opened.of(ev.LinkUp)) == n + 1)
    opened.chip.faults += [errno.EOPNOTSUPP]
    assert "cannot make such a transfer" in eventually(lambda: opened.of(ev.LinkLost)[3:])[0].reason, (
        "once is enough"
    )


def test_channels_that_run_go_on_when_the_frequency_of_a_controller_changes() -> None:
    chip = profiles.chip("pwm-16")
    link = ExpanderLink(Board("b", "expander", None, 16, facts=Expander(chip, "simulated", 0x40)))
    link.connect()
    assert link.simulated is not None
    link.put({5: Put(250_000, 800_000)})
    assert link.simulated.duty(5) == 1024
    link.put({6: Put(500_000, 400_000)})
    assert (link.simulated.duty(5), link.simulated.duty(6)) == (1024, 2048), (
        "restarted, once its oscillator ran again"
    )
    assert link.simulated.word("prescale") == round(25e6 / 4096 / 400) - 1
    link.outputs = {5: Output("lamp", "lamp", Pin("b", 5), frequency=Fraction(400))}
    with pytest.raises(BoardError, match="have one frequency, and its outputs have another"):
        link.attempt_now(7, Trial(Pin("b", 7), "pwm", Source("test", "a hand", "keep"), 0, 500_000, 800_000))
    assert (link.simulated.duty(5), link.simulated.duty(7)) == (1024, 0), (
        "a pin that is tried changes no lamp"
    )
    link.disconnect()


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
    lamp = Output("lamp", "lamp", Pin("b", 2), frequency=Fraction(800), active_low=True)
    found = Opened("pwm-16", [lamp], [])
    found.link.drive([ev.Drive("lamp", 1, Level(333_333))])
    eventually(lambda: found.of(ev.Confirmed))
    assert found.of(ev.Confirmed)[0].setting == Level(333_333)
    found.link.close()
