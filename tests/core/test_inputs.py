"""From what a line shows to what counts: filters, scales, plausible ranges, counters, silence."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from cairnwind.core.facts.hardware import Pin
from cairnwind.core.facts.inputs import Input
from cairnwind.core.physics.scaling import Thermistor, by_beta, read
from cairnwind.core.state.inputs import Contact, Gauge, silent
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import NS

PIN = Pin("b", 1)


def gauge(**facts: object) -> Gauge:
    return Gauge(Input("it", "analogue", PIN, **facts))  # type: ignore[arg-type]


@given(st.floats(-40, 120), st.floats(2000, 5000), st.booleans())
def test_a_thermistor_reads_back_what_it_was_put_at(degrees: float, beta: float, below: bool) -> None:
    scale = by_beta(beta, 10_000, 10_000, 3.3, below)
    input = Input("it", "analogue", PIN, scale=scale)
    volts = input.volts(degrees)
    value = input.value(volts)
    assert value is None or value == pytest.approx(degrees, abs=0.01)
    assert scale.value(1.65) == pytest.approx(25, abs=0.01), "as much as the fixed one at 25 °C"


def test_a_thermistor_by_its_table_and_one_whose_wire_is_broken() -> None:
    ntc = Thermistor(1.129241e-3, 2.341077e-4, 8.775468e-8, 10_000, 5)
    # R = 10 kohm at 25 °C and 3.603 kohm at 50 °C, as tables have it for these coefficients
    assert ntc.value(2.5) == pytest.approx(25, abs=0.05)
    assert ntc.value(5 * 3603 / 13603) == pytest.approx(50, abs=0.1)
    assert [ntc.value(0.0), ntc.value(5.0)] == [None, None]


@given(
    st.lists(
        st.tuples(st.floats(0, 5), st.floats(-100, 100)),
        min_size=2,
        max_size=6,
        unique_by=(lambda p: round(p[0], 2), lambda p: round(p[1])),
    )
)
def test_a_table_goes_through_its_points_and_back(points: list[tuple[float, float]]) -> None:
    volts, values = sorted(point[0] for point in points), sorted(point[1] for point in points)
    input = Input("it", "analogue", PIN, scale=tuple(zip(volts, values, strict=True)))
    for volt, value in zip(volts, values, strict=True):
        assert input.value(volt) == pytest.approx(value, abs=1e-6)
        assert input.volts(value) == pytest.approx(volt, abs=1e-6)


@given(st.floats(100, 500), st.floats(-100, 100), st.floats(1, 1000), st.floats(0, 0.025))
def test_a_loop_of_4_to_20_ma_tells_its_value_or_that_it_is_broken(
    ohms: float, low: float, span: float, amperes: float
) -> None:
    scale = read({"loop": f"{ohms:.3f} ohm", "points": [["4 mA", low], ["20 mA", low + span]]})
    input = Input("it", "analogue", PIN, scale=scale)
    found = input.value(amperes * float(f"{ohms:.3f}"))
    if not 0.0036 <= amperes <= 0.021:
        assert found is None or amperes == pytest.approx(0.0036) or amperes == pytest.approx(0.021)
    elif found is not None:
        assert found == pytest.approx(low + span * (amperes - 0.004) / 0.016, abs=1e-6 * span + 1e-9)
        assert input.value(input.volts(low)) == pytest.approx(low, abs=1e-6)


@pytest.mark.parametrize("bad", [{"loop": "250 ohm"}, {"loop": "0 ohm", "points": [["4 mA", 0], ["20 mA", 1]]}, {"loop": "250 ohm", "points": [["4 mA", 0]]},
                                 {"loop": "250 ohm", "points": [["4 V", 0], ["20 V", 1]]}, {"loop": "250 ohm", "points": 5}, {"loop": 5, "points": [["4 mA", 0], ["20 mA", 1]], "x": 1}])  # fmt: skip
def test_what_is_no_loop(bad: dict[str, object]) -> None:
    with pytest.raises(CallerError):
        read(bad)


def test_filters_ranges_and_sampling() -> None:
    middle = gauge(median=3)
    values = []
    for number, volts in enumerate((1.0, 1.0, 3.0, 1.1, 1.2)):
        middle.measure(number, 4095, volts, number * NS, 0)
        values.append(middle.value)
    assert values == [1.0, 1.0, 1.0, 1.1, 1.2], "one wild reading does not count"
    slow = gauge(settles=10 * NS)
    slow.measure(0, 4095, 0.0, 0, 0)
    for second in range(1, 11):
        slow.measure(1, 4095, 1.0, second * NS, 0)
    assert slow.value == pytest.approx(0.632, abs=0.001)
    sane = gauge(plausible=(0.2, 3.0))
    assert [
        sane.measure(n, 4095, volts, n * NS, 0) and sane.value for n, volts in enumerate((1.0, 3.2, 2.0))
    ] == [1.0, None, 2.0]
    sampled = gauge(every=NS)
    taken = [sampled.measure(n, 4095, n / 10, n * NS // 4, 0) for n in range(9)]
    assert taken == [True, False, False, False, True, False, False, False, True]


def test_silence_and_counters() -> None:
    quiet = gauge(stale=2 * NS)
    quiet.measure(1, 4095, 1.0, NS, 0)
    assert not silent(quiet, 3 * NS - 1)
    assert silent(quiet, 3 * NS)
    flow = Contact(Input("flow", "counter", PIN, pulse=0.5, window=10 * NS))
    flow.see(False, 0, 0)
    for second in range(1, 7):
        flow.see(True, second * NS, 0)
        flow.see(False, second * NS + NS // 2, 0)
    assert flow.value == 3.0, "six pulses of half a litre"
    assert flow.deadline == 11 * NS
    assert flow.due(13 * NS, 0)
    assert flow.value == 1.5, "those of the last ten seconds"
