"""Perceived brightness: curves that rise, exact at their ends, and back; colours in and out."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from cairnwind.core.facts.hardware import Pin
from cairnwind.core.facts.outputs import Output
from cairnwind.core.physics.light import LIGHTNESS, WHOLE, Light
from cairnwind.core.values import colours
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.settings import Colour, Level

SHARE = st.integers(0, WHOLE)
CURVES = st.one_of(
    st.just(LIGHTNESS),
    st.builds(lambda floor, ceiling, trim: Light("lightness", floor=floor, ceiling=ceiling, trim=(trim,)),
              st.integers(0, 100_000), st.integers(400_000, WHOLE), st.integers(500_000, WHOLE)),
    st.builds(lambda exponent: Light("power", exponent), st.floats(0.3, 4)),
    st.builds(Light, st.just("straight"), st.just(1.0), st.integers(0, 300_000)),
    st.builds(lambda half: Light("by-eye", table=((0, 0), (500_000, half), (WHOLE, WHOLE))), st.integers(10_000, 900_000)),
)  # fmt: skip


@given(CURVES, SHARE, SHARE)
def test_every_curve_rises_and_is_exact_at_both_ends(light: Light, a: int, b: int) -> None:
    low, high = sorted((a, b))
    assert light.duty(low) <= light.duty(high)
    assert light.duty(0) == 0, "the last step to zero is really off"
    assert light.duty(WHOLE) == light.ceiling * light.trim[0] // WHOLE
    if low:
        assert light.duty(low) >= max(1, light.floor - 1), "below the floor it would not light"


@given(CURVES, SHARE)
def test_the_inverse_finds_the_level_again(light: Light, level: int) -> None:
    duty = light.duty(level)
    back = light.level(duty)
    assert light.duty(back) == duty
    assert back <= level
    assert back == 0 or light.duty(back - 1) < duty, "the smallest that does it"


def test_lightness_is_that_of_the_standard() -> None:
    # CIE 15: L* = 50 is Y = 18.4 %, L* = 8 is Y = 0.886 %, and both branches meet there
    assert LIGHTNESS.duty(500_000) == pytest.approx(184_187, abs=1)
    assert LIGHTNESS.duty(80_000) == pytest.approx(8_856, abs=1)
    assert LIGHTNESS.duty(80_001) - LIGHTNESS.duty(80_000) <= 1
    assert LIGHTNESS.duty(10_000) == pytest.approx(1_107, abs=1)


@given(SHARE)
def test_the_transfer_function_of_srgb_and_back(part: int) -> None:
    light = colours.linear(part)
    assert abs(colours.encoded(light) - part) <= 8  # of a million: the rounding of the dark end
    assert light <= part, "it is never lighter than it is written"
    assert (colours.linear(0), colours.linear(WHOLE)) == (0, WHOLE)


@given(st.tuples(*[st.integers(0, 255)] * 3))
def test_a_colour_is_read_as_it_is_shown(rgb: tuple[int, int, int]) -> None:
    hexed = "#" + "".join(f"{part:02x}" for part in rgb)
    read = colours.read(hexed)
    assert colours.read(colours.show(*read)) == read
    assert colours.read(hexed.upper()) == read


LAMP = Output("shelf", "colour-lamp", Pin("b", 5), others=(6, 7), frequency=colours.WHOLE, steps=1000,
              light=Light(trim=(WHOLE, 800_000, 500_000)))  # fmt: skip


@given(st.builds(Colour, SHARE, SHARE, SHARE))
def test_a_colour_lamps_channels_are_linear_light_with_its_white_balance(colour: Colour) -> None:
    duties = LAMP.duties(colour)
    assert len(duties) == 3
    for part, duty, trim in zip(colour, duties, (1.0, 0.8, 0.5), strict=True):
        assert duty == pytest.approx(colours.linear(part) * trim, abs=2)
        assert (duty == 0) == (part == 0 or colours.linear(part) == 0)
    back = LAMP.shown(duties)
    assert LAMP.duties(back) == pytest.approx(duties, abs=4)


def test_names_hues_and_what_is_no_colour() -> None:
    assert LAMP.read("Coral") == LAMP.read("#FF7F50")
    assert LAMP.read("hue 120") == LAMP.read("lime")
    assert LAMP.read("12 %") == Colour(120_000, 120_000, 120_000), (
        "white, so that all lamps can be told one level"
    )
    assert LAMP.read("hue 30°") == Colour(WHOLE, WHOLE // 2, 0)
    assert LAMP.read("off") == LAMP.read("black") == Colour(0, 0, 0)
    assert LAMP.read({"colour": "#fff"}) == LAMP.read("on")
    for wrong in ("#ff", "corall", "hue 400", "120 %", 7, {"colour": [1, 2]}, {"level": 4}, {}, "#gggggg"):
        with pytest.raises(CallerError) as refused:
            LAMP.read(wrong)
        assert refused.value.sentence.startswith("shelf"), "by the user's name for it"
    with pytest.raises(CallerError, match="it takes a colour"):
        LAMP.admit(Level(500_000))
