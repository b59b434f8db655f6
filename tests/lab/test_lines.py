"""Lines of a real kernel, seen from the other side of the pin."""

from __future__ import annotations

import os
import subprocess
import sys
import textwrap
import time
from fractions import Fraction

import pytest

from cairnwind.boards import gpio
from cairnwind.boards.quadrature import path
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Source
from cairnwind.core.facts.hardware import Pin
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.trials import Trial
from cairnwind.core.values.errors import BoardError
from cairnwind.core.values.settings import OFF, ON, Drive, Level
from tests.conftest import eventually
from tests.lab.conftest import CHIP, Make, World

LOW = Output("low", "relay", Pin("b", 0), active_low=True)
HIGH = Output("high", "relay", Pin("b", 1))
BUTTON = Input("button", "contact", Pin("b", 4), pull="up", active_low=True, debounce=10_000_000)
HAND = Source("test", "a hand", "keep")

WATCH = """
import struct, sys, time
from cairnwind.boards import gpio
from cairnwind.boards.quadrature import path
chip = gpio.Chip({chip!r})
print("ready", flush=True)
seen, end = [], time.monotonic() + 60
while not seen or time.monotonic() < end:
    value = open({path!r}).read().strip()
    held = chip.info({line}).used
    if not seen or seen[-1] != (held, value):
        seen.append((held, value)); print(held, value, flush=True)
"""


def test_outputs_are_safe_at_once_and_follow_their_orders(opened: Make, world: World) -> None:
    link = opened([LOW, HIGH])
    assert (world.value(0), world.value(1)) == (1, 0), "safe: an active-low pin is high"
    (up,) = link.of(ev.LinkUp)
    assert dict(up.readings) == {"low": OFF, "high": OFF}
    link.link.drive([ev.Drive("low", 1, ON), ev.Drive("high", 1, ON)])
    eventually(lambda: len(link.of(ev.Confirmed)) == 2)
    assert [event.setting for event in link.of(ev.Confirmed)] == [ON, ON]
    assert (world.value(0), world.value(1)) == (0, 1)
    assert {line: seen.level for line, seen in link.link.survey().items() if line < 2} == {0: 0, 1: 1_000_000}
    assert link.link.survey()[22].title == "lamp0", "the kernel's own name"


def test_no_glitch_from_safe_start_to_safe_stop(opened: Make, world: World, elsewhere: object) -> None:
    """The pulls are on the load's side of safe; whoever looks while the line is held sees safe, on, safe only."""
    world.pull(0, False)  # as a relay board without software: active-low, so pulled to on
    path = str(world.root / "sim_gpio0" / "value")
    watcher = elsewhere(WATCH.format(chip=CHIP, path=path, line=0))  # type: ignore[operator]
    link = opened([LOW])
    for generation, setting in ((1, ON), (2, OFF)):
        time.sleep(0.1)
        link.link.drive([ev.Drive("low", generation, setting)])
        eventually(lambda g=generation: len(link.of(ev.Confirmed)) == g)
    time.sleep(0.1)
    link.link.close()
    time.sleep(0.1)
    watcher.kill()
    seen = [line.split() for line in watcher.communicate()[0].splitlines()]
    held = [value for used, value in seen if used == "True"]
    # the two looks are not one: at the ends the watcher may have read the value of the moment beside
    assert [value for number, value in enumerate(held) if number == 0 or held[number - 1] != value] in (
        ["1", "0", "1"], ["0", "1", "0", "1"], ["1", "0", "1", "0"], ["0", "1", "0", "1", "0"],
    )  # fmt: skip
    assert held.count("0") <= 3
    world.pull(0, True)


def test_input_edges_with_pull_debounce_and_the_kernels_times(opened: Make, world: World) -> None:
    world.pull(4, True)
    link = opened([], [BUTTON])
    (first,) = link.of(ev.InputSeen)
    assert first.active is False, "pulled up and active-low: not pressed"
    for high in (False, True, False):  # bounces, faster than the debounce
        world.pull(4, high)
        time.sleep(0.002)
    began = time.time_ns()
    eventually(lambda: len(link.of(ev.InputSeen)) == 2)
    pressed = link.of(ev.InputSeen)[1]
    assert pressed.active is True
    assert pressed.settled, "the kernel has debounced it: the engine need not wait again"
    assert abs(pressed.edge - began) < 3e8, "the time of the edge is a wall time"
    world.pull(4, True)
    eventually(lambda: len(link.of(ev.InputSeen)) == 3)
    assert link.of(ev.InputSeen)[2].edge - pressed.edge > 9e6


def test_a_line_of_another_program_is_named_with_its_holder(
    opened: Make, world: World, elsewhere: object
) -> None:
    hold = f"""
        import time
        from cairnwind.boards import gpio
        gpio.CONSUMER = "some other tool"
        lines = gpio.Chip({CHIP!r}).request([0], gpio.OUTPUT)
        print("ready", flush=True)
        time.sleep(60)
    """
    other = elsewhere(textwrap.dedent(hold))  # type: ignore[operator]
    link = opened([LOW, HIGH])
    (up,) = link.of(ev.LinkUp)
    assert dict(up.readings) == {"high": OFF}, "the other is nobody's fault"
    link.link.drive([ev.Drive("low", 1, ON), ev.Drive("high", 1, ON)])
    (failed,) = eventually(lambda: link.of(ev.Failed))
    assert "Line 0 (relay0)" in failed.reason
    assert "'some other tool'" in failed.reason
    eventually(lambda: world.value(1) == 1)
    other.kill()
    eventually(lambda: not link.link.broken, within=8)
    link.link.drive([ev.Drive("low", 2, ON)])
    eventually(lambda: world.value(0) == 0)
    assert not link.of(ev.LinkLost)


def test_a_converter_that_is_slow_or_fails_holds_nobody_up(
    opened: Make, world: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    wrong: list[bool] = []
    reads: list[int] = []

    class Slow:
        def __init__(self, device: str) -> None:
            assert device == "iio:device0"

        def read(self, channel: int) -> tuple[int, int, float]:
            time.sleep(0.6)
            reads.append(channel)
            if wrong:
                raise BoardError("device", "in_voltage3_raw: Input/output error.", "")
            return 512, 1023, 1.65

    monkeypatch.setattr("cairnwind.boards.links.kernel.Converter", Slow)
    knob = Input("knob", "analogue", Pin("b", 3), unit="V")
    link = opened([HIGH], [knob], analogue="iio:device0")
    eventually(lambda: [event.volts for event in link.of(ev.Measured)] == [1.65])
    before = len(reads)
    for number in range(10):
        link.link.drive([ev.Drive("high", number + 1, (ON, OFF)[number % 2])])
        eventually(lambda n=number: len(link.of(ev.Confirmed)) == n + 1)
    assert len(reads) - before < 10, "no command has waited for a reading"
    wrong.append(True)
    eventually(lambda: link.of(ev.Measured)[-1].volts is None)
    wrong.clear()
    eventually(lambda: link.of(ev.Measured)[-1].volts == 1.65)
    assert not link.of(ev.LinkLost)


def test_edges_that_do_not_fit_are_missed_and_said(
    opened: Make, world: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(gpio, "QUEUED", 16)  # as the kernel has it by itself
    world.pull(5, False)
    link = opened([HIGH], [Input("fast", "contact", Pin("b", 5))])
    held = link.link._held[1]
    real, slow = held.set, iter((2.0,))

    def later(bits: int, mask: int) -> None:
        time.sleep(next(slow, 0.0))
        real(bits, mask)

    held.set = later
    link.link.drive([ev.Drive("high", 1, ON)])
    time.sleep(0.1)
    for number in range(41):  # while the link's thread is busy, more than the kernel keeps
        world.pull(5, number % 2 == 0)
        time.sleep(0.005)  # this kernel tells of an edge at its next tick
    lost = lambda: [frame.text for frame in link.link.traffic.after(0) if "edges were lost" in frame.text]  # noqa: E731
    eventually(lambda: link.of(ev.InputSeen)[-1].active is True)
    world.pull(5, False)
    eventually(lambda: link.of(ev.InputSeen)[-1].active is False)
    eventually(lost)


def test_lines_without_interrupts_are_read_over_and_over(
    opened: Make, world: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    real = gpio.Chip.request

    def without(self: gpio.Chip, lines: list[int], flags: int, **more: int) -> gpio.Lines:
        if flags & gpio.RISING:
            raise BoardError("no-edges", "Lines of it tell of no edges.", "")
        return real(self, lines, flags, **more)

    monkeypatch.setattr(gpio.Chip, "request", without)
    world.pull(5, False)
    link = opened([], [Input("plain", "contact", Pin("b", 5), debounce=1_000_000)])
    eventually(lambda: [event.active for event in link.of(ev.InputSeen)] == [False])
    world.pull(5, True)
    eventually(lambda: link.of(ev.InputSeen)[-1].active is True)
    assert not link.of(ev.InputSeen)[-1].settled, "the kernel has not debounced it: the engine does"


def test_an_input_on_a_chip_of_outputs_is_unknown_and_its_outputs_work(opened: Make) -> None:
    link = opened([HIGH], [Input("never", "contact", Pin("b", 3))], chip="0-0040")
    assert link.of(ev.LinkUp)
    assert [event.active for event in link.of(ev.InputSeen)] == [None]
    link.link.drive([ev.Drive("high", 1, ON)])
    eventually(lambda: link.of(ev.Confirmed))
    assert not link.of(ev.LinkLost)


def test_two_chips_of_one_label_are_told_apart_by_their_devices(world: World) -> None:
    second = world.item.parent / "second"
    (second / "bank0").mkdir(parents=True)
    try:
        (second / "bank0" / "label").write_text("sim0")
        (second / "live").write_text("1")
        with pytest.raises(BoardError, match="2 GPIO chips are called 'sim0'") as caught:
            gpio.find("sim0")
        assert 'chip = "gpio-sim.' in caught.value.remedy
        device = (second / "dev_name").read_text().strip()
        assert gpio.device_of(gpio.find(device)) == device
    finally:
        (second / "live").write_text("0")
        (second / "bank0").rmdir()
        second.rmdir()


@pytest.mark.parametrize("driver", ["open-drain", "open-source"])
def test_an_open_drain_lets_go_and_what_else_has_the_wire_is_seen(
    driver: str, opened: Make, world: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The simulated chip keeps a line that is let go as it was, whoever pulls: what it shows then is put in here."""
    lets_go = driver == "open-drain"  # where it is high
    world.pull(2, lets_go)
    lamp = Output("lamp", "relay", Pin("b", 2), driver=driver, active_low=lets_go)
    host = opened([lamp], [])
    assert world.value(2) == lets_go, "its resistor has it"
    chip = gpio.Chip(CHIP)
    assert chip.info(2).flags & gpio.DRIVERS[driver]
    chip.close()
    host.link.drive([ev.Drive("lamp", 1, ON)])
    eventually(lambda: [event.setting for event in host.of(ev.Confirmed)] == [ON])
    assert world.value(2) != lets_go
    monkeypatch.setattr(gpio.Lines, "get", lambda self: int(lets_go))
    eventually(lambda: [event.setting for event in host.of(ev.Confirmed)] == [ON, OFF])


def test_an_edge_that_was_lost_and_a_chip_that_went_with_outputs_only(opened: Make, world: World) -> None:
    world.pull(4, True)
    link = opened([HIGH], [BUTTON])
    eventually(lambda: link.of(ev.InputSeen))
    link.link._watched[4].events = lambda: iter(())  # nobody hears of edges any more
    began = time.monotonic()
    world.pull(4, False)
    os.read(link.link._watched[4].file, 1024)
    eventually(lambda: link.of(ev.InputSeen)[-1].active is True)
    print(f"right after {time.monotonic() - began:.2f} s")


def test_a_line_that_drove_is_read_from_now_on_and_drives_again(opened: Make, world: World) -> None:
    """The same line, first of an output, then of an input, and back: it is let go in between."""
    host = opened([HIGH], [BUTTON])
    reads = Input("reads", "contact", Pin("b", 1))
    host.link.rewire([], [BUTTON, reads], ["high", "reads"])
    world.pull(1, True)
    eventually(
        lambda: [each.active for each in host.of(ev.InputSeen) if each.input == "reads"][-1:] == [True]
    )
    host.link.rewire([HIGH], [BUTTON], ["high", "reads"])
    host.link.drive([ev.Drive("high", 1, ON)])
    eventually(lambda: [each.setting for each in host.of(ev.Confirmed)][-1:] == [ON])
    assert world.value(1) == 1
    assert not host.of(ev.LinkLost)
    world.pull(1, False)


def test_an_encoder_is_followed_by_its_edges_in_order(opened: Make, world: World) -> None:
    """With bounces, both ways, as fast as this kernel tells of them."""
    knob = Input("knob", "encoder", Pin("b", 4), second=Pin("b", 5), pull="none")
    for line in (4, 5):
        world.pull(line, False)
    host = opened([], [knob])
    eventually(lambda: host.of(ev.InputSeen))
    assert [(event.active, event.way) for event in host.of(ev.InputSeen)] == [(False, 0)]

    def steps() -> int:
        return sum(event.way for event in host.of(ev.InputSeen) if event.active)

    lines, expected = (False, False), 0
    for changes in (24, -12, -40, 4):
        for levels in path(*lines, changes):
            for number in (0, 1):
                if levels[number] != lines[number]:
                    for level in (levels[number], lines[number], levels[number]):
                        world.pull(4 + number, level)
                        time.sleep(
                            0.012
                        )  # this kernel tells of edges at its next tick, and not in which order they came
            lines = levels
        expected += changes // 4
        eventually(lambda e=expected: steps() == e)
    assert not host.of(ev.LinkLost)


def test_a_chip_that_is_not_there_and_one_that_goes(opened: Make, world: World) -> None:
    away = opened([LOW], chip="/dev/gpiochip9")
    (lost,) = away.of(ev.LinkLost)
    assert "/dev/gpiochip9" in lost.reason
    assert CHIP in lost.reason, "the chips that there are"
    named = opened([Output("x", "relay", Pin("b", 9))], chip="sim0")
    assert named.of(ev.LinkUp), "a chip may be given by its label"


def test_permission_denied_names_group_or_rule(opened: Make) -> None:
    program = f"""
        import grp, os, pwd  # all that is needed: an ordinary user may not read the packages from where they are
        from cairnwind.boards import gpio
        from cairnwind.core.values.errors import BoardError
        os.setgroups([]); os.setgid(65534); os.setuid(65534)
        try:
            gpio.Chip({CHIP!r})
        except BoardError as error:
            print(error)
    """
    os.chmod(CHIP, 0o600)
    found = subprocess.run(
        [sys.executable, "-c", textwrap.dedent(program)], capture_output=True, text=True, check=True
    )
    assert "User nobody may not open" in found.stdout
    assert 'KERNEL=="gpiochip*", GROUP="gpio", MODE="0660"' in found.stdout
    os.chmod(CHIP, 0o660)
    os.chown(CHIP, 0, 46)
    found = subprocess.run(
        [sys.executable, "-c", textwrap.dedent(program)], capture_output=True, text=True, check=True
    )
    assert "usermod -aG plugdev nobody" in found.stdout


def test_a_bare_pin_is_tried_and_let_go(opened: Make, world: World) -> None:
    link = opened([LOW])
    link.link.attempt(7, Trial(Pin("b", 7), "output", HAND, 0, 1_000_000))
    eventually(lambda: world.value(7) == 1)
    assert link.link.reading(7)["level"] == 1_000_000
    link.link.attempt(7, None)
    eventually(lambda: world.value(7) == 0)
    link.link.attempt(8, Trial(Pin("b", 8), "count", HAND, 0, pull="up"))
    eventually(lambda: link.link.reading(8).get("level") == 1_000_000)
    for high in (False, True, False):
        world.pull(8, high)
        time.sleep(0.02)
    eventually(lambda: link.link.reading(8)["count"] == 3)
    link.link.attempt(0, Trial(Pin("b", 0), "output", HAND, 0))
    eventually(lambda: link.of(ev.TrialFailed))
    assert "held by 'cairnwind'" in link.of(ev.TrialFailed)[0].reason


def test_what_is_wired_otherwise_moves_and_nothing_else(
    opened: Make, world: World, elsewhere: object
) -> None:
    """A line that stays is held, and on, all the while; what is new is safe at once; what goes is free, though the guard had it too."""
    pair = Output(
        "pair",
        "motor",
        Pin("b", 2),
        others=(3,),
        reversal="direction",
        frequency=Fraction(800),
        safe=Drive(0),
    )
    link = opened([LOW, HIGH, pair], [BUTTON], pwm="pwmchip0")
    link.link.drive([ev.Drive("high", 1, ON)])
    eventually(lambda: world.value(1) == 1)
    watcher = elsewhere(WATCH.format(chip=CHIP, path=str(world.root / "sim_gpio1" / "value"), line=1))  # type: ignore[operator]
    link.link.attempt(8, Trial(Pin("b", 8), "output", HAND, 0, 1_000_000))
    eventually(lambda: world.value(8) == 1)
    lamp = Output("lamp", "lamp", Pin("b", 5), frequency=Fraction(800))
    low = Output("low", "relay", Pin("b", 0))
    kept = Output("kept", "relay", Pin("b", 8), active_low=True)
    back = Input("back", "contact", Pin("b", 2), pull="up")
    link.link.rewire([low, HIGH, lamp, kept], [BUTTON, back], ["low", "lamp", "kept", "back"])
    assert (world.value(0), world.value(1), world.value(8)) == (0, 1, 1), (
        "of the other sense; still on; kept, active-low, off"
    )
    chip = gpio.Chip(CHIP)
    assert [chip.info(line).used for line in range(6)] == [True, True, True, False, True, False]
    link.link.tell()
    eventually(lambda: "back" in [event.input for event in link.of(ev.InputSeen)])
    link.link.drive([ev.Drive("lamp", 2, Level(250_000)), ev.Drive("low", 3, ON)])
    eventually(lambda: world.value(0) == 1)
    hold = f"""
        import time
        from cairnwind.boards import gpio
        gpio.CONSUMER = "some other tool"
        lines = gpio.Chip({CHIP!r}).request([3], gpio.OUTPUT)
        print("ready", flush=True)
        time.sleep(60)
    """
    elsewhere(textwrap.dedent(hold))  # type: ignore[operator]
    with pytest.raises(BoardError, match=r"Line 3 .*held by 'some other tool'"):
        link.link.rewire([low, HIGH, Output("third", "relay", Pin("b", 3))], [], ["third"])
    link.link.drive([ev.Drive("low", 4, OFF)])
    eventually(lambda: world.value(0) == 0)
    watcher.kill()
    assert {tuple(line.split()) for line in watcher.communicate()[0].splitlines()} == {("True", "1")}
    assert not link.of(ev.LinkLost)


def test_a_hung_engine_has_its_pins_taken_to_safe(opened: Make, world: World) -> None:
    link = opened([LOW, HIGH])
    link.link.drive([ev.Drive("high", 1, ON)])
    eventually(lambda: world.value(1) == 1)
    link.fresh = False
    eventually(lambda: world.value(1) == 0)
    assert "engine does not answer" in eventually(lambda: link.of(ev.LinkLost))[0].reason
    link.fresh = True
    eventually(lambda: len(link.of(ev.LinkUp)) == 2)
    assert (world.value(0), world.value(1)) == (1, 0)


LATCH = Output("latch", "relay", Pin("b", 10), others=(11,), latching=60_000_000)
COILS = """
import sys, time
paths = sys.argv[1:]
last, before = None, time.monotonic()
print("ready", flush=True)
while True:
    at = time.monotonic()
    now = tuple(int(open(path).read()) for path in paths)
    if now != tuple(int(open(path).read()) for path in paths):
        continue  # one has moved between the two looks: on a machine that stands still, long before the other was seen
    if now != last:
        last = now
        print(before, time.monotonic(), *now, flush=True)
    before = at
"""
LATCHED = """
import time
from tests.lab.conftest import Opened
from tests.lab.test_lines import LATCH
from cairnwind.core.facts import events as ev
from cairnwind.core.values.settings import ON
link = Opened([LATCH])
link.link.drive([ev.Drive("latch", 1, ON)])
time.sleep(0.5)
print("ready", flush=True)
time.sleep(60)
"""


@pytest.mark.parametrize("how", ["closed", "killed", "stopped"])
def test_a_latching_relay_gets_pulses_and_the_guard_resets_it(
    how: str, opened: Make, world: World, elsewhere: object
) -> None:
    """Seen from outside: no coil has current for longer than its pulse, and never both."""
    paths = [str(world.root / f"sim_gpio{line}" / "value") for line in (10, 11)]
    eye = subprocess.Popen([sys.executable, "-c", COILS, *paths], stdout=subprocess.PIPE, text=True)
    assert eye.stdout is not None
    assert eye.stdout.readline() == "ready\n"
    if how == "closed":
        host = opened([LATCH])
        assert host.of(ev.LinkUp)[0].readings == (), "nobody knows where it is, only where it was put"
        for number, setting in enumerate((ON, OFF), 1):
            host.link.drive([ev.Drive("latch", number, setting)])
            eventually(lambda n=number: len(host.of(ev.Confirmed)) == n)
        assert [(event.setting, event.how) for event in host.of(ev.Confirmed)] == [
            (ON, "sent"),
            (OFF, "sent"),
        ]
        time.sleep(0.7)  # what its coils show is no read-back
        assert len(host.of(ev.Confirmed)) == 2
        host.link.close()
        wanted = ["reset", "set", "reset"]
    else:
        service = elsewhere(LATCHED)  # type: ignore[operator]
        os.kill(service.pid, 9 if how == "killed" else 19)
        time.sleep(1 if how == "killed" else 3)
        wanted = ["reset", "set", "reset"]
    eye.terminate()
    rows = [line.split() for line in eye.stdout.read().splitlines()]
    pulses, began = [], 0.0
    for unseen, seen, set_, reset in rows:
        assert (set_, reset) != ("1", "1")
        if (set_, reset) != ("0", "0"):
            pulses.append("set" if set_ == "1" else "reset")
            began = float(unseen)  # the eye may have stood still: it began after the look before
        elif began:
            print(f"{pulses[-1]}: {float(seen) - began:.3f} s at most")
            assert float(seen) - began >= 0.05
    assert pulses == wanted
    assert rows[-1][2:] == ["0", "0"], "no coil keeps its current"


KILLED = """
import sys, time
from tests.lab.conftest import Opened
from tests.lab.test_lines import HIGH, LOW
from cairnwind.core.facts import events as ev
from cairnwind.core.values.settings import ON
link = Opened([LOW, HIGH])
link.link.drive([ev.Drive("low", 1, ON), ev.Drive("high", 1, ON)])
time.sleep(0.5)
print("ready", flush=True)
time.sleep(60)
"""


@pytest.mark.parametrize("how", ["killed", "stopped"])
def test_the_guard_rests_the_lines_of_a_service_that_died_or_hangs(
    how: str, world: World, elsewhere: object
) -> None:
    world.pull(0, True)  # as the maker's resistor does, once the line is let go
    service = elsewhere(KILLED)  # type: ignore[operator]
    assert (world.value(0), world.value(1)) == (0, 1), "both on"
    began = time.monotonic()
    os.kill(service.pid, 9 if how == "killed" else 19)
    eventually(lambda: (world.value(0), world.value(1)) == (1, 0), within=6)
    print(f"{how}: at rest after {time.monotonic() - began:.2f} s")
    if how == "killed":
        chip = gpio.Chip(CHIP)
        eventually(lambda: not chip.info(0).used and not chip.info(1).used)
        chip.close()


def test_a_chip_pulled_out_is_lost_and_found_again(opened: Make, world: World) -> None:
    """Last: in this kernel a chip comes back under another number."""
    from pathlib import Path

    live = Path("/sys/kernel/config/gpio-sim/sim0/live")
    link = opened([HIGH], [BUTTON], chip="sim0")
    blind = opened([LOW], chip="sim0")  # outputs only, of which nothing is asked
    assert link.of(ev.LinkUp)
    live.write_text("0")
    eventually(lambda: link.of(ev.LinkLost))
    eventually(lambda: blind.of(ev.LinkLost))
    live.write_text("1")
    eventually(lambda: len(link.of(ev.LinkUp)) == 2, within=8)
