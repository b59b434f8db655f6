"""Settings and quantities as people write them."""

from __future__ import annotations

import json
from decimal import Decimal
from fractions import Fraction
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from cairnwind.core.facts.hardware import Pin
from cairnwind.core.facts.outputs import Output
from cairnwind.core.values import jsontext
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import NS, UNITS, duration, parse, show_duration
from cairnwind.core.values.settings import FULL, OFF, ON, Level, decode, encode, read, show

LEVELS = st.integers(0, FULL).map(Level)
LAMP = Output("lamp", "lamp", Pin("b", 0), frequency=Fraction(800))
RELAY = Output("relay", "relay", Pin("b", 1), words=("shut", "open"))


@given(LEVELS)
def test_what_is_shown_and_what_is_stored_reads_back_to_the_same(level: Level) -> None:
    assert read(show(level), "level") == level
    assert decode(encode(level)) == level


@given(
    st.decimals(0, 100, places=3),
    st.sampled_from(["{} %", "{}%", "{}", " {}  % ", "{}\u00a0%", "{} percent"]),
)
def test_a_level_is_taken_in_every_usual_spelling(percent: object, form: str) -> None:
    assert read(form.format(percent), "level") == Level(round(Fraction(str(percent)) * 10_000))
    with pytest.raises(CallerError, match=r"comma in its number|can be read as"):
        read(form.format(str(percent).replace(".", ",")), "level")


@given(
    st.one_of(
        st.decimals(101, 10**6, places=1).map(str),
        st.decimals(-(10**6), -1, places=1).map(str),
        st.text(max_size=8),
        st.none(),
        st.lists(st.integers()),
    )
)
def test_anything_else_is_refused_in_words_that_show_it(text: object) -> None:
    try:
        level = LAMP.read(text)
    except CallerError as error:
        assert error.code == "bad-value"
        assert error.sentence.startswith("lamp: ")
        assert error.remedy
    else:  # some random texts are levels
        assert 0 <= level.parts <= FULL


def test_an_on_off_output_has_no_levels_unless_it_has_a_threshold() -> None:
    assert RELAY.read("open") == RELAY.read("ON") == RELAY.read(True) == RELAY.read(100) == ON
    assert RELAY.read("shut") == RELAY.read(0) == OFF
    with pytest.raises(CallerError, match="on/off"):
        RELAY.read("40 %")
    graded = Output("relay", "relay", Pin("b", 1), threshold=Level(FULL // 2))
    assert [graded.read(percent) for percent in (49, 50, "60 %")] == [OFF, ON, ON]


@given(
    st.sampled_from([(dimension, unit) for dimension, units in UNITS.items() for unit in units]),
    st.decimals(0, 10**6, places=4),
)
def test_a_quantity_is_exact_in_every_unit(unit: tuple[str, str], number: Decimal) -> None:
    dimension, name = unit
    assert parse(f"{number:f} {name}", dimension) == Fraction(str(number)) * UNITS[dimension][name]
    if name in ("mV", "mA", "mW", "MHz"):
        with pytest.raises(CallerError):
            parse(f"{number:f} {name.swapcase()}", dimension)  # milli or mega: not guessed
        return
    assert parse(f"{number:f}{name.upper()}", dimension) == parse(f"{number:f} {name}", dimension)


@given(st.integers(1, 300 * 86400 * 1000).map(lambda ms: ms * NS // 1000))
def test_a_duration_reads_back_to_what_it_shows(ns: int) -> None:
    assert abs(duration(show_duration(ns)) - ns) <= ns / 1000 + 1


@pytest.mark.parametrize("text", ["10", 10, "-1 s", "0 s", "10 parsecs", "1e3 s", "", True, "367 d"])
def test_a_time_that_is_none_is_refused_with_examples(text: object) -> None:
    with pytest.raises(CallerError) as caught:
        duration(text)
    assert caught.value.remedy


PLAIN = st.recursive(
    st.none() | st.booleans() | st.integers(-(2**63), 2**64 - 1) | st.floats(allow_nan=False, allow_infinity=False) | st.text(),
    lambda inner: st.lists(inner) | st.dictionaries(st.text(), inner),
)  # fmt: skip
JSON_LIKE = st.text('[]{}",:0123456789eE+-.truefalsn\\ud \x00\ud800é\ufeff', max_size=60) | st.integers().map(
    str
)


@given(PLAIN, JSON_LIKE | st.binary(max_size=40))
def test_json_is_read_as_the_standard_has_it_or_refused_in_words(form: Any, anything: str | bytes) -> None:
    """The standard library's own reader is the oracle."""
    assert jsontext.read(jsontext.write(form)) == form
    assert json.loads(jsontext.write(form)) == form
    try:
        found = jsontext.read(anything)
    except ValueError as error:
        assert type(error) is ValueError
        assert str(error)
        return
    meant = json.loads(anything)
    assert type(found) is type(meant) or abs(meant) >= 2**63
    assert found == meant or found == float(meant)


@pytest.mark.parametrize(
    "text", ["9" * 5000, "-" + "9" * 400, "1e999", "[" * 100_000, '"\\ud800"', b"\xff", "", "NaN"]
)
def test_what_no_json_says_is_refused(text: str | bytes) -> None:
    with pytest.raises(ValueError, match=r"[a-z]") as caught:
        jsontext.read(text)
    assert type(caught.value) is ValueError
