"""Hardware PWM through sysfs, on a driver of the kernel."""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cairnwind.boards.sysfs import PwmChannel
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.hardware import Pin
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.trials import Trial
from cairnwind.core.values.errors import BoardError
from cairnwind.core.values.settings import OFF, SILENCE, Colour, Level, Tone
from tests.conftest import eventually
from tests.lab.conftest import Make, World
from tests.lab.test_lines import HAND

ROOT = Path("/sys/class/pwm/pwmchip0")


@pytest.fixture(autouse=True)
def left() -> Iterator[None]:
    """What a test leaves running would hold the chip's one timer."""
    yield
    for path in ROOT.glob("pwm[0-9]*"):
        (ROOT / "unexport").write_text(path.name[3:])


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
from tests.lab.test_lines import HAND
from tests.lab.test_pwm import LAMPS
from cairnwind.core.facts.hardware import Pin
from cairnwind.core.facts.trials import Trial
from cairnwind.core.facts import events as ev
from cairnwind.core.values.settings import Level
link = Opened(LAMPS, chip="sim0", pwm="pwmchip0")
link.link.drive([ev.Drive(lamp.name, 1, Level(400_000)) for lamp in LAMPS])
link.link.attempt(10, Trial(Pin("b", 10), "pwm", HAND, 0, 700_000, 800_000))
link.link.attempt(9, Trial(Pin("b", 9), "output", HAND, 0, 1_000_000))
time.sleep(0.5)
print("ready", flush=True)
time.sleep(60)
"""
LAMPS = [
    Output("lamp", "lamp", Pin("b", 7), frequency=Fraction(800)),
    Output("low", "lamp", Pin("b", 8), frequency=Fraction(800), active_low=True),
    Output("night", "lamp", Pin("b", 6), frequency=Fraction(800), safe=Level(400_000)),
]


def test_the_guard_rests_pwm_of_either_sense_and_what_is_tried(elsewhere: object, world: World) -> None:
    service = elsewhere(KILLED)  # type: ignore[operator]
    duties = lambda: tuple(fact(channel, "duty_cycle") for channel in (7, 8, 6, 10))  # noqa: E731
    assert (duties(), world.value(9)) == ((500_000, 750_000, 500_000, 875_000), 1)
    service.kill()
    eventually(lambda: duties() == (0, 1_250_000, 500_000, 0))
    eventually(lambda: world.value(9) == 0)


def test_a_stop_leaves_an_active_low_lamp_dark(opened: Make) -> None:
    link = opened(LAMPS, chip="sim0", pwm="pwmchip0")
    link.link.drive([ev.Drive("low", 1, Level(400_000))])
    eventually(lambda: fact(8, "duty_cycle") == 750_000)
    link.link.drive([ev.Drive("low", 2, OFF)])
    eventually(lambda: fact(8, "duty_cycle") == 1_250_000)
    link.link.attempt(10, Trial(Pin("b", 10), "pwm", HAND, 0, 700_000, 800_000))
    eventually(lambda: (ROOT / "pwm10").exists())
    link.link.close()
    assert (fact(8, "duty_cycle"), fact(8, "enable")) == (1_250_000, 1), (
        "a chip that is let go falls low: it is kept"
    )
    assert not (ROOT / "pwm7").exists()
    assert not (ROOT / "pwm10").exists(), "what was tried ends, and is let go"
