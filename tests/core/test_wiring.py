"""The wiring check: each answer against the law it stands for."""

from __future__ import annotations

import json
from fractions import Fraction

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from cairnwind.core.physics import wiring
from cairnwind.core.physics.wiring import E12, E24, Said
from tests.conftest import cairnwind

OHMS = st.fractions(1, 10**6, max_denominator=1000)
VOLTS = st.fractions(1, 24, max_denominator=100)
AMPERES = st.fractions(Fraction(1, 1000), Fraction(1, 2), max_denominator=10**4)


@given(OHMS, st.sampled_from([E12, E24]))
def test_standard_values_are_the_nearest_on_either_side(ohms: Fraction, series: tuple[int, ...]) -> None:
    below, above = (wiring.standard(ohms, up=up, series=series) for up in (False, True))
    assert below <= ohms <= above
    between = [
        n * Fraction(10) ** d for d in range(-1, 7) for n in series if below < n * Fraction(10) ** d < above
    ]
    assert not between
    assert above / below <= Fraction(13, 10)


def said(steps: list[Said], what: str) -> Said:
    return next(step for step in steps if step.what == what)


@given(VOLTS, VOLTS, AMPERES, st.integers(1, 8))
def test_an_leds_resistor_gives_the_current_it_says(
    supply: Fraction, forward: Fraction, current: Fraction, count: int
) -> None:
    steps = list(wiring.led(supply, forward, current, count))
    left = supply - count * forward
    if left <= 0:
        assert len(steps) == 1
        assert not steps[0].good
        assert "do not light" in steps[0].result
        return
    assume(1 <= left / current <= 10**6)
    ideal = left / current
    assert said(steps, "resistor").formula.endswith(wiring.show_ohms(ideal))
    values = [wiring.standard(ideal, up=up) for up in (False, True)]
    shown = [step for step in steps if step.what in ("nearest below", "nearest above", "standard value")]
    assert len(shown) == len(set(values))
    for step, value in zip(shown, sorted(set(values)), strict=True):
        real = left / value
        assert step.result.startswith(f"{wiring.show_ohms(value)}: {wiring.amperes(real)}")
        assert wiring.watts(real**2 * value) in step.formula, "the power is in the formula"


def test_a_pin_gives_no_more_than_it_may() -> None:
    steps = list(wiring.led(Fraction(33, 10), Fraction(2), Fraction(20, 1000), 1, Fraction(12, 1000)))
    pin = said(steps, "may the pin give it")
    assert (pin.good, pin.formula) == (False, "20 mA of 12 mA")
    assert "1.3 V / 12 mA = 108 ohm, so 120 ohm or more" in pin.result
    assert all(
        step.good
        for step in wiring.led(Fraction(33, 10), Fraction(2), Fraction(8, 1000), 1, Fraction(12, 1000))
    )


@given(st.fractions(20, 30_000, max_denominator=10), st.integers(1, 100))
def test_flicker_is_judged_as_the_standard_says(hertz: Fraction, modulation: int) -> None:
    """IEEE 1789-2015: low risk below 0.025 f up to 90 Hz, 0.08 f above; none known below 0.0333 f."""
    step = wiring.flicker(hertz, Fraction(modulation))
    bound = 0.025 * float(hertz) if hertz < 90 else 0.08 * float(hertz)
    assume(abs(bound - modulation) > 1e-6)
    assert step.good == (modulation <= bound)
    assert ("no effect" in step.result) == (step.good and modulation <= float(hertz) * 0.0333)


def test_what_is_said_of_transistors_supplies_and_strips() -> None:
    heat = wiring.switching_loss(
        Fraction(12), Fraction(5), Fraction(1, 10**7), Fraction(1, 10**7), Fraction(25_000)
    )
    assert (heat.result.startswith("a transistor"), "150 mW" in heat.formula) == (True, True)
    assert not wiring.switching_loss(
        Fraction(24), Fraction(5), Fraction(1, 10**6), Fraction(1, 10**6), Fraction(25_000)
    ).good
    gate = list(
        wiring.mosfet(
            Fraction(33, 10), Fraction(12, 1000), Fraction(15, 10), Fraction(10, 10**9), Fraction(1500)
        )
    )
    assert said(gate, "gate resistor, at least").result.startswith("330 ohm")
    assert said(gate, "gate resistor, at most").result.startswith("1 kohm")
    assert not said(
        list(wiring.mosfet(Fraction(33, 10), Fraction(12, 1000), Fraction(3), Fraction(10, 10**9), None)),
        "does it open",
    ).good
    assert not wiring.coil(Fraction(72, 1000), diode=False).good
    assert wiring.relays(13, Fraction(90, 1000), Fraction(12, 10)).good
    assert "at most 13" in wiring.relays(14, Fraction(90, 1000), Fraction(12, 10)).result
    weak = list(wiring.transistor(Fraction(33, 10), Fraction(2, 1000), Fraction(2), Fraction(100)))
    assert [step.good for step in weak] == [True, False]
    assert {step.what: step.good for step in wiring.strip(60, Fraction(5), Fraction(2), Fraction(33, 10))} == {
        "current": False, "feed": True, "data level": False,
    }  # fmt: skip
    assert wiring.suits("fan", Fraction(25_000)).good  # type: ignore[union-attr]
    assert not wiring.suits("fan", Fraction(400)).good  # type: ignore[union-attr]
    assert wiring.suits("relay", Fraction(1)) is None
    assert not next(iter(wiring.isolation(joined=True, coil_volts=Fraction(5), logic=Fraction(33, 10)))).good
    assert wiring.dead_rail("usb", Fraction(5)) == ""
    assert "dead or too low" in wiring.dead_rail("3.3 V", Fraction(5))


@pytest.mark.parametrize(
    ("args", "code", "says"),
    [
        (["led", "--supply", "5V", "--forward", "2.1V", "--current", "10mA"], 0, "270 ohm: 10.7 mA"),
        (
            [
                "led",
                "--supply",
                "12V",
                "--forward",
                "3V",
                "--count",
                "3",
                "--driver",
                "1.5V",
                "--current",
                "20mA",
            ],
            0,
            "60 mW",
        ),
        (["led", "--supply", "5V", "--current", "0mA"], 2, "not above zero"),
        (["led", "--supply", "5 bananas"], 2, "is not a voltage"),
        (["led"], 2, "Missing option '--supply'"),
        (["mosfet", "--charge", "-1"], 2, "is no charge"),
        (["relay", "--no-click", "--source", "3.3 V"], 0, "dead or too low"),
        (["relay", "--supplies", "joined"], 0, "isolate nothing"),
        (["strip", "--lamps", "30", "--limit", "2A", "--data", "5V"], 0, "30 * 60 mA = 1.8 A of 2 A"),
        (["pwm", "--frequency", "100Hz"], 0, "use 1250 Hz or more"),
        (["divider", "--source", "5V"], 0, "3.21 V"),
        (["strip", "--limit", "2A", "--lamps", "1e99999999999999999"], 2, "is no lamps"),
        (["transistor", "--load", "72mA", "--coil", "--diode"], 0, "through the diode: good"),
    ],
)
def test_the_command_shows_its_arithmetic(args: list[str], code: int, says: str) -> None:
    found = cairnwind("wire", *args)
    assert found.returncode == code
    assert says in " ".join((found.stdout + found.stderr).split())
    if not code:
        told = json.loads(cairnwind("wire", *args, "--json").stdout)
        assert told["good"] == all(step["good"] for step in told["steps"])
        assert all(set(step) == {"what", "formula", "result", "good"} for step in told["steps"])
