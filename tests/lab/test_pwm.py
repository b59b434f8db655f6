"""Hardware PWM through sysfs, on a driver of the kernel."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cairnwind.boards.sysfs import PwmChannel
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.hardware import Pin
from cairnwind.core.facts.outputs import Output
from cairnwind.core.values.errors import BoardError
from cairnwind.core.values.settings import SILENCE, Colour, Level, Tone
from tests.conftest import eventually
from tests.lab.conftest import Make

ROOT = Path("/sys/class/pwm/pwmchip0")


def fact(channel: int, name: str) -> int:
    return int((ROOT / f"pwm{channel}" / name).read_text())


def test_period_and_duty_are_what_sysfs_shows(opened: Make) -> None:
    lamp = Output("lamp", "lamp", Pin("b", 2), frequency=Fraction(800))
    link = opened([lamp], chip="sim0", pwm="pwmchip0")
    assert link.of(ev.LinkUp)
    link.link.drive([ev.Drive("lamp", 1, Level(250_000))])
    eventually(lambda: link.of(ev.Confirmed))
    assert link.of(ev.Confirmed)[-1].setting == Level(250_000)
    assert (fact(2, "period"), fact(2, "duty_cycle"), fact(2, "enable")) == (1_250_000, 312_500, 1)
    link.link.drive([ev.Drive("lamp", 2, Level(500_000, 400_000))])
    eventually(lambda: len(link.of(ev.Confirmed)) == 2)
    assert (fact(2, "period"), fact(2, "duty_cycle")) == (2_500_000, 1_250_000), "400 Hz, tried live"


@settings(max_examples=40, deadline=None)
@given(st.lists(st.tuples(st.integers(0, 1_000_000), st.integers(40_000, 1_500_000)), min_size=1, max_size=4))
def test_no_order_of_writes_is_refused(steps: list[tuple[int, int]]) -> None:
    """The kernel refuses a duty longer than the period: any way from one setting to another must avoid it."""
    channel = PwmChannel("pwmchip0", 5)
    try:
        for parts, millihertz in steps:
            assert channel.set(parts, millihertz) == parts
            period = round(10**12 / millihertz)
            assert (fact(5, "period"), fact(5, "duty_cycle")) == (period, period * parts // 1_000_000)
    finally:
        channel.close()
    assert not (ROOT / "pwm5").exists()


def test_channels_of_one_timer_have_one_frequency() -> None:
    first = PwmChannel("pwmchip0", 5)
    first.set(500_000, 800_000)
    second = PwmChannel("pwmchip0", 6)
    with pytest.raises(BoardError, match="pwm6 of pwmchip0 shares its timer"):
        second.set(500_000, 400_000)
    assert second.set(250_000, 800_000) == 250_000
    first.close()
    second.close()


def test_a_sounder_changes_the_period_and_a_colour_lamp_three_duties(opened: Make) -> None:
    bell = Output("bell", "sounder", Pin("b", 3), safe=SILENCE, rest=SILENCE)
    link = opened([bell], chip="sim0", pwm="pwmchip0")
    for generation, hertz in enumerate((440, 1000, 523), 1):
        link.link.drive([ev.Drive("bell", generation, Tone(hertz * 1000))])
        eventually(lambda g=generation: len(link.of(ev.Confirmed)) == g)
        period = round(1e9 / hertz)
        assert (fact(3, "period"), fact(3, "duty_cycle")) == (period, period // 2)
    link.link.drive([ev.Drive("bell", 4, SILENCE)])
    eventually(lambda: len(link.of(ev.Confirmed)) == 4)
    assert fact(3, "duty_cycle") == 0
    assert [event.setting for event in link.of(ev.Confirmed)][-1] == SILENCE
    link.link.close()
    lamp = Output(
        "shelf",
        "colour-lamp",
        Pin("b", 0),
        others=(1, 2),
        frequency=Fraction(1000),
        active_low=True,
        safe=Colour(0, 0, 0),
    )
    link = opened([lamp], chip="sim0", pwm="pwmchip0")
    assert [fact(channel, "duty_cycle") for channel in range(3)] == [1_000_000] * 3, "dark: a common anode"
    link.link.drive([ev.Drive("shelf", 1, Colour(1_000_000, 0, 1_000_000))])
    eventually(lambda: link.of(ev.Confirmed))
    assert [fact(channel, "duty_cycle") for channel in range(3)] == [0, 1_000_000, 0]
    assert link.of(ev.Confirmed)[-1].setting == Colour(1_000_000, 0, 1_000_000)


KILLED = """
import time
from tests.lab.conftest import Opened
from tests.lab.test_pwm import LAMPS
from cairnwind.core.facts import events as ev
from cairnwind.core.values.settings import Level
link = Opened(LAMPS, chip="sim0", pwm="pwmchip0")
link.link.drive([ev.Drive("lamp", 1, Level(400_000)), ev.Drive("low", 1, Level(400_000))])
time.sleep(0.5)
print("ready", flush=True)
time.sleep(60)
"""
LAMPS = [
    Output("lamp", "lamp", Pin("b", 7), frequency=Fraction(800)),
    Output("low", "lamp", Pin("b", 8), frequency=Fraction(800), active_low=True),
]


def test_the_guard_rests_pwm_of_either_sense(elsewhere: object) -> None:
    service = elsewhere(KILLED)  # type: ignore[operator]
    assert (fact(7, "duty_cycle"), fact(8, "duty_cycle")) == (500_000, 750_000)
    service.kill()
    eventually(lambda: (fact(7, "duty_cycle"), fact(8, "duty_cycle")) == (0, 1_250_000))
