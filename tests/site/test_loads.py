"""What a site file says of loads beyond their pin: read into the model, and each mistake pointed at."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from cairnwind.boards import wire
from cairnwind.core.facts.hardware import Pin
from cairnwind.core.facts.outputs import Output
from cairnwind.core.physics.light import LIGHTNESS, STRAIGHT
from cairnwind.core.physics.shaping import Shape
from cairnwind.core.values.settings import FULL, Drive
from cairnwind.site import SiteFileError, read_site
from cairnwind.site.checked import check_site

HEAD = """\
site = "x"
[supply.rail]
volts = 5
limit = "100 mA"
[board.b]
link = "simulated"
map = "header-34"
[board.s]
link = "strip"
device = "simulated"
lamps = 4
[board.free]
link = "simulated"
lines = 8
"""
COLOUR = """\
[output.colour]
kind = "colour-lamp"
pins = { red = "b:J2-14", green = "b:J2-15", blue = "b:J2-16" }
frequency = "1.5 kHz"
"""
MOTOR = """\
[output.m1]
kind = "motor"
pin = "free:line-1"
reverse = "free:line-2"
frequency = "400 Hz"
[output.m2]
kind = "motor"
pin = "free:line-3"
reverse = { direction = "free:line-4" }
frequency = "400 Hz"
[input.x]
kind = "analogue"
pin = "b:J3-10"
[input.y]
kind = "analogue"
pin = "b:J3-11"
"""


def lamp(more: str, pin: str = "b:J2-14", kind: str = "lamp") -> str:
    return f'[output.lamp]\nkind = "{kind}"\npin = "{pin}"\n{more}\n'


def test_everything_that_can_be_said(tmp_path: Path) -> None:
    path = tmp_path / "site.toml"
    path.write_text(
        HEAD + COLOUR + 'white = ["100 %", "80 %", "60 %"]\nsense = "active-low"\n' + MOTOR + 'scale = [["0.5 V", -100], ["4.5 V", 100]]\n'
        + '[output.bell]\nkind = "sounder"\npin = "b:J2-8"\n'
        + '[output.fan]\nkind = "fan"\npin = "b:J2-6"\nfrequency = "25 kHz"\nkick = "300 ms"\nlowest = "20 %"\n'
        + '[output.run]\nkind = "colour-lamp"\npin = "s:line-3"\nlamps = 3\n'
        + '[output.plain]\nkind = "lamp"\npin = "free:line-5"\nfrequency = "2 kHz"\n'
        + '[output.eye]\nkind = "lamp"\npin = "free:line-6"\nfrequency = "2 kHz"\ncurve = [[50, 20], [100, 100]]\ntrim = "90 %"\n'
        + '[output.dot]\nkind = "lamp"\npin = "b:J2-9"\nled = { forward = "2.1 V", resistor = "220 ohm" }\n'
        + '[pad.trolley]\nleft = "m1"\nright = "m2"\nstick = ["x", "y"]\ndead = "10 %"\nmost = "60 %"\ncurve = 2\n'
        + '[tune.hello]\nnotes = "C5 E5"\n[quiet]\nfrom = "22:30"\nto = "06:45"\nexcept = ["bell"]\n'
    )  # fmt: skip
    site = read_site(path)
    out = site.outputs
    assert (out["colour"].lines, out["colour"].takes, out["colour"].active_low) == ((7, 6, 5), "colour", True)
    assert out["colour"].light.trim == (1_000_000, 800_000, 600_000)
    assert out["colour"].steps == 36_000, "54 MHz by 1.5 kHz"
    assert (out["m1"].takes, out["m1"].reversal, out["m2"].reversal) == ("drive", "two lines", "direction")
    assert (out["bell"].takes, out["bell"].off.on) == ("tone", False)
    assert out["fan"].shape == Shape(kick=300_000_000)
    assert (out["fan"].duties(out["fan"].read("1 %"))[0], out["fan"].duties(out["fan"].read("on"))[0]) == (
        208_000,
        1_000_000,
    )
    assert (out["run"].lines, out["run"].pixels, out["run"].steps) == ((3, 4, 5), 3, 255)
    assert out["plain"].light is LIGHTNESS, "what is seen, unless it is said otherwise"
    assert out["m1"].light is STRAIGHT
    assert out["eye"].duties(out["eye"].read("50 %"))[0] == 180_000
    assert out["dot"].gives == (Fraction(33, 10) - Fraction(21, 10)) / 220
    pad = site.pads["trolley"]
    assert (pad.dead, pad.most, pad.curve, pad.stick) == (100_000, 600_000, 2.0, ("x", "y"))
    assert site.tunes["hello"].word == "tune"
    assert site.quiet is not None
    assert (site.quiet.start, site.quiet.end, site.quiet.excepted) == (22 * 60 + 30, 6 * 60 + 45, {"bell"})


BAD = {
    "one pin for three": (lamp("", kind="colour-lamp"), "three pins"),
    "two pins for three": (COLOUR.replace(', blue = "b:J2-16"', ""), "three pins"),
    "a channel without PWM": (COLOUR.replace("b:J2-16", "b:J2-9"), "J2-9 (line 41) has no PWM"),
    "channels apart": (COLOUR.replace('"b:J2-16"', '"free:line-1"'), "different boards"),
    "a channel twice": (COLOUR.replace("b:J2-16", "b:J2-15"), "the same pin twice"),
    "no frequency for a colour": (COLOUR.replace('frequency = "1.5 kHz"\n', ""), "has no 'frequency'"),
    "a frequency for a sounder": (lamp('frequency = "1 kHz"', kind="sounder"), "the frequency of its tone"),
    "a sounder without PWM": (lamp("", "b:J2-9", "sounder"), "makes no tones"),
    "a sounder that rests on a tone": (lamp('rest = "A4"', "b:J2-8", "sounder"), "rests in silence"),
    "a sounder on a lamp's timer": (lamp('frequency = "1 kHz"') + '[output.bell]\nkind = "sounder"\npin = "b:J2-15"\n', "share timer T0"),
    "two frequencies on a timer": (lamp('frequency = "1 kHz"') + '[output.l2]\nkind = "lamp"\npin = "b:J2-15"\nfrequency = "2 kHz"\n', "free of it: J3-2, J2-6"),
    "one channel on two pins": (lamp('frequency = "1 kHz"', "b:J2-8") + '[output.l2]\nkind = "lamp"\npin = "b:J3-2"\nfrequency = "1 kHz"\n', "the same channel 1 of timer T1 as J2-8"),
    "a relay with PWM": (lamp('frequency = "1 kHz"', kind="relay"), "contacts would chatter"),
    "a curve that is none": (lamp('frequency = "1 kHz"\ncurve = "round"'), "no curve"),
    "a curve too steep": (lamp('frequency = "1 kHz"\ncurve = "power 9"'), "exponent"),
    "a table that falls": (lamp('frequency = "1 kHz"\ncurve = [[0, 0], [50, 60], [100, 20]]'), "no table"),
    "a floor above its ceiling": (lamp('frequency = "1 kHz"\nfloor = "50 %"\nceiling = "40 %"'), "floor is not below"),
    "a kick for a lamp": (lamp('kick = "1 s"'), "'kick' is not known"),
    "white of two": (COLOUR + 'white = ["100 %", "50 %"]\n', "three shares"),
    "a reverse of nowhere": (lamp('reverse = "b:J2-99"', "b:J2-9", "motor"), "J2-99"),
    "a reverse elsewhere": (lamp('reverse = "free:line-1"', "b:J2-9", "motor"), "another line of the same board"),
    "a latch of one coil": (lamp('resets = "b:J2-9"', "b:J2-9", "relay"), "cannot be the other coil of b:J2-9"),
    "a latch that is closed at rest": (lamp('resets = "b:J2-11"\ncontact = "normally-closed"', "b:J2-9", "relay"), "no coil that is dead"),
    "a pulse for a relay": (lamp('pulse = "50 ms"', "b:J2-9", "relay"), "only a latching relay"),
    "a latch that nobody resets": ('[board.chain]\nlink = "expander"\nchip = "ports-8"\nbus = "simulated"\n' + lamp('resets = "chain:line-1"', "chain:line-0", "relay"), "nobody ends a pulse at board chain"),
    "a brake with one line": (MOTOR.replace('"free:line-4" }', '"free:line-4" }\nstands = "brake"'), "can be braked by both"),
    "a reverse that is used": (MOTOR.replace("free:line-3", "free:line-2"), "used twice"),
    "lamps off the strip": ('[output.run]\nkind = "colour-lamp"\npin = "s:line-6"\nlamps = 3\n', "do not fit"),
    "lamps between lamps": ('[output.run]\nkind = "colour-lamp"\npin = "s:line-4"\n', "lamps begin at lines 0, 3, 6"),
    "runs that overlap": ('[output.r1]\nkind = "colour-lamp"\npin = "s:line-0"\nlamps = 3\n[output.r2]\nkind = "colour-lamp"\npin = "s:line-6"\n', "used twice"),
    "lamps where no strip is": (COLOUR + "lamps = 3\n", "only a run on a strip"),
    "a pad for a lamp": (lamp("") + '[pad.p]\nleft = "lamp"\nright = "lamp"\n', "not driven both ways"),
    "a pad for motors without PWM": (MOTOR.replace('frequency = "400 Hz"\n', "", 1) + '[pad.p]\nleft = "m1"\nright = "m2"\n', "full or not at all"),
    "a pad with one motor": (MOTOR + '[pad.p]\nleft = "m1"\nright = "m1"\n', "the same motor"),
    "a stick of one": (MOTOR + '[pad.p]\nleft = "m1"\nright = "m2"\nstick = ["x"]\n', "two inputs"),
    "a dead zone without life": (MOTOR + '[pad.p]\nleft = "m1"\nright = "m2"\ndead = "90 %"\n', "leaves little"),
    "a tune that is none": ('[tune.t]\nnotes = "C5 H9"\n', "Word 2 of the tune"),
    "hours that are none": ('[quiet]\nfrom = "25:00"\nto = "07:00"\n', "no time of day"),
    "quiet without end": ('[quiet]\nfrom = "22:00"\n', "has no 'to'"),
    "quiet for nothing": ('[quiet]\nfrom = "22:00"\nto = "22:00"\n', "are none"),
    "an exception nobody has": ('[quiet]\nfrom = "22:00"\nto = "07:00"\nexcept = ["bel"]\n', "no sounder called 'bel'"),
    "an LED that does not light": (lamp('led = { forward = "3.4 V", resistor = "100 ohm" }', "b:J2-9"), "do not light"),
    "an LED for more than the pin": (lamp('led = { forward = "2 V", resistor = "47 ohm" }', "b:J2-9"), "gives at most 12 mA"),
    "a transistor in parts": (lamp('frequency = "2 kHz"\nswitch = { volts = "12 V" }'), "not what a transistor switches"),
    "a strip without lamps": ('[board.t]\nlink = "strip"\ndevice = "simulated"\n', "has no 'lamps'"),
    "a strip in no order": ('[board.t]\nlink = "strip"\ndevice = "simulated"\nlamps = 3\norder = "RGG"\n', "not one of GRB"),
}  # fmt: skip


@pytest.mark.parametrize(("text", "says"), BAD.values(), ids=BAD)
def test_each_mistake_is_pointed_at(text: str, says: str, tmp_path: Path) -> None:
    path = tmp_path / "site.toml"
    path.write_text(HEAD + text)
    with pytest.raises(SiteFileError) as wrong:
        read_site(path)
    findings = wrong.value.findings
    assert any(says in finding.what for finding in findings) or any(
        says in finding.remedy for finding in findings
    ), findings
    assert all(finding.line > 14 for finding in findings), "at its own line"
    assert all(finding.remedy for finding in findings)


def test_what_is_only_warned_of_has_its_arithmetic(tmp_path: Path) -> None:
    path = tmp_path / "site.toml"
    path.write_text(
        HEAD
        + lamp('frequency = "400 Hz"\ndraws = { supply = "rail", current = "80 mA" }\nswitch = { volts = "24 V", current = "10 A", rise = "9 us", fall = "9 us" }', "free:line-1")
        + '[output.fan]\nkind = "fan"\npin = "free:line-2"\nfrequency = "100 Hz"\ndraws = { supply = "rail", current = "50 mA" }\n'
    )  # fmt: skip
    site, warnings, _ = check_site(path)
    assert set(site.outputs) == {"lamp", "fan"}
    texts = [f"{finding.what} / {finding.remedy}" for finding in warnings.findings]
    assert any("0.08 * 400 Hz = 32 % of modulation" in text and "1250 Hz" in text for text in texts)
    assert any("24 V * 10 A * (9000 ns + 9000 ns) / 2 * 400 Hz = 864 mW" in text for text in texts)
    assert any("frequency for a fan" in text for text in texts)
    assert any("80 mA + 50 mA = 130 mA" in text for text in texts)


@given(st.integers(-FULL, FULL), st.booleans(), st.booleans())
def test_a_motor_that_stands_is_held_by_both_lines_or_runs_out(
    parts: int, active_low: bool, brakes: bool
) -> None:
    output = Output(
        "m",
        "motor",
        Pin("b", 1),
        others=(2,),
        reversal="two lines",
        active_low=active_low,
        brakes=brakes,
        frequency=Fraction(400),
    )
    levels = {line: put.parts for line, put in wire.to_pins(output, Drive(parts)).items()}
    on = [FULL - level if active_low else level for level in levels.values()]
    if parts:
        assert sorted(on) == [0, abs(parts)]
    else:
        assert on == [FULL if brakes else 0] * 2
    assert wire.from_pins(output, levels) == Drive(parts)
