"""How things are wired: whatever a site says, every line has its wire, no pin gives more than it may, and a drawing comes of it."""

from __future__ import annotations

import json
import xml.etree.ElementTree as ET
from fractions import Fraction
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from cairnwind.core.values.quantities import parse
from cairnwind.service.drawing import draw
from cairnwind.site import SiteFileError, read_site
from cairnwind.site.circuits import SHAPES, circuit
from tests.conftest import Demo

PINS = {"shelf:J2-14": "pwm", "shelf:J2-9": "", "box:line-3": "pwm", "relays:line-2": ""}
HEAD = (
    'site = "Bench"\n[supply.rail]\nvolts = 12\n[board.shelf]\nlink = "simulated"\nmap = "header-34"\n[board.box]\nlink = "simulated"\nlines = 8\n'
    '[board.relays]\nlink = "modbus"\nport = "/dev/null"\nprofile = "relays-8"\n[board.path]\nlink = "strip"\ndevice = "simulated"\nlamps = 90\n'
    '[board.front]\nlink = "leds"\nleds = ["board:green:user"]\n'
)
LABELS = st.sampled_from(["Lamp", "<b>&\"'$x$", "Töpferscheibe $", "a" * 60])


@st.composite
def outputs(draw_: st.DrawFn) -> str:
    """A table of an output on some pin, of any kind, with what may be said of it."""
    pin = draw_(st.sampled_from(list(PINS)))
    kind = draw_(st.sampled_from(["relay", "lamp", "fan", "motor", "heater", "lock", "sounder"]))
    lines = [f'kind = "{kind}"', f'pin = "{pin}"', f"label = {json.dumps(draw_(LABELS))}"]
    if PINS[pin] and kind in ("lamp", "fan", "motor") and draw_(st.booleans()):
        lines.append(f'frequency = "{draw_(st.sampled_from(["1 kHz", "25 kHz"]))}"')
    if kind == "motor" and pin.startswith("box") and draw_(st.booleans()):
        lines.append('reverse = "box:line-4"')
    lines += draw_(st.lists(st.sampled_from(['sense = "active-low"', 'contact = "normally-closed"', 'load = "3 kW"',
        'draws = { supply = "rail", current = "72 mA" }', 'bias = "10 kohm down"', 'led = { forward = "2 V", resistor = "330 ohm" }',
        'switch = { volts = "24 V", current = "2 A", rise = "60 ns", fall = "90 ns" }']), unique=True))  # fmt: skip
    return "[output.x]\n" + "\n".join(lines)


INPUTS = st.builds(
    lambda kind, more, label: f'[input.x]\n{kind}\nlabel = {json.dumps(label)}\n' + "\n".join(more),
    st.sampled_from(['kind = "contact"\npin = "shelf:J3-4"', 'kind = "counter"\npin = "box:line-3"', 'kind = "analogue"\npin = "shelf:J3-10"']),
    st.lists(st.sampled_from(['pull = "up"', 'sense = "active-low"', 'source = "3 V"', 'debounce = "20 ms"',
        'scale = { thermistor = "10 kohm", beta = 3950, series = "10 kohm", volts = "3.3 V", side = "below" }']), unique=True), LABELS,
)  # fmt: skip
RUNS = st.builds(
    '[output.x]\nkind = "colour-lamp"\npin = "path:line-{}"\nlamps = {}'.format,
    st.sampled_from([0, 30]),
    st.integers(1, 70),
)


@settings(max_examples=80, deadline=None, suppress_health_check=list(HealthCheck))
@given(outputs() | INPUTS | RUNS)
def test_whatever_is_wired_has_its_wires_its_values_and_its_drawing(
    tmp_path_factory: pytest.TempPathFactory, table: str
) -> None:
    file = tmp_path_factory.mktemp("site") / "site.toml"
    file.write_text(HEAD + table, "utf-8")
    try:
        site = read_site(file)
    except SiteFileError:
        return  # a key that this kind does not have
    found = circuit("x", site)
    thing = site.outputs.get("x") or site.inputs["x"]
    signals = [wire.line for wire in found.wires if wire.role == "signal"]
    assert signals == ([thing.pin.line] if found.shape == "strip" else list(thing.lines)), (
        "each line once, and no other"
    )
    assert found.shape in SHAPES
    for part in found.parts:
        assert part.value
        assert part.many == 1 or part.many == len(signals)
        if part.role in ("gate resistor", "series resistor") and found.shape in (
            "mosfet",
            "relay",
            "sounder",
        ):
            there = site.boards[thing.pin.board].position(thing.pin.line)
            high, most = (
                (there.volts, there.current) if there is not None else (Fraction(33, 10), Fraction(4, 1000))
            )
            assert high is not None
            assert most is not None
            assert high / parse(part.value, "a resistance") <= most, (
                "the pin gives no more than it may, with the load shorted"
            )
    if site.boards[thing.pin.board].position(thing.pin.line) is None and found.shape in (
        "mosfet",
        "opto",
        "sounder",
    ):
        assert "Nothing is said" in found.notes[0], "what was reckoned with is said"
    drawing = ET.fromstring(draw(found))
    texts = "".join("".join(each.itertext()) for each in drawing.iter("{http://www.w3.org/2000/svg}text"))
    assert all(pin in texts for pin in found.pins) or "data output of lamp" in texts
    if found.shape not in ("strip", "contact") and thing.label:
        assert thing.label in texts, "as it is written, whatever is in it"


EACH = {
    "strip": 'kind = "colour-lamp"\npin = "path:line-0"\nlamps = 60',
    "contact": 'kind = "relay"\npin = "relays:line-2"',
    "sounder": 'kind = "sounder"\npin = "shelf:J2-14"',
    "bridge": 'kind = "motor"\npin = "box:line-3"\nfrequency = "1 kHz"\nreverse = "box:line-4"',
    "led": 'kind = "lamp"\npin = "shelf:J2-9"\nled = { forward = "2 V", resistor = "330 ohm" }',
    "control": 'kind = "fan"\npin = "shelf:J2-14"\nfrequency = "25 kHz"',
    "mosfet": 'kind = "lamp"\npin = "shelf:J2-14"\nfrequency = "1 kHz"',
    "relay": 'kind = "relay"\npin = "shelf:J2-9"\ndraws = { supply = "rail", current = "72 mA" }',
    "opto": 'kind = "relay"\npin = "shelf:J2-9"\nsense = "active-low"',
    "converter": 'kind = "lamp"\npin = "shelf:J2-14"\nfrequency = "1 kHz"\nvolts = ["1 V", "10 V"]',
    "switch": 'kind = "contact"\npin = "shelf:J3-4"\npull = "up"',
    "encoder": 'kind = "encoder"\npin = "shelf:J3-4"\nsecond = "shelf:J3-5"',
    "there": 'kind = "lamp"\npin = "front:line-0"',
    "thermistor": 'kind = "analogue"\npin = "shelf:J3-10"\nscale = { thermistor = "10 kohm", beta = 3950, series = "10 kohm", volts = "3.3 V" }',
    "sensor": 'kind = "analogue"\npin = "shelf:J3-10"',
}


@pytest.mark.parametrize("shape", SHAPES)
def test_each_has_the_circuit_of_its_kind(shape: str, tmp_path: Path) -> None:
    file = tmp_path / "site.toml"
    word = "input" if shape in ("switch", "encoder", "thermistor", "sensor") else "output"
    file.write_text(f"{HEAD}[{word}.x]\n{EACH[shape]}", "utf-8")
    found = circuit("x", read_site(file))
    assert found.shape == shape
    assert len(ET.fromstring(draw(found))) > 5


def test_the_demo_at_the_terminal(demo: Demo, tmp_path: Path) -> None:
    said = demo.cli("wire", "gallery", "--drawing", str(tmp_path / "gallery.svg")).stdout
    assert "shelf:J2-14 (line 7)" in said
    assert "3.3 V / 12 mA = 275 ohm" in said
    assert (tmp_path / "gallery.svg").read_text().startswith("<svg ")
    kiln = demo.cli("wire", "kiln").stdout
    assert "shelf:J2-19 (3.3 V)" in kiln
    assert "7.5 kW is more than the contact of a small relay carries" in kiln
    assert "Did you mean 'gallery'?" in demo.cli("wire", "galery").stderr
    told = json.loads(demo.cli("wire", "sheet", "--json").stdout)
    site = demo.site
    assert {wire["name"] for wire in told["wires"]} == {
        each["name"] for each in (*site.outputs(), *site.inputs()) if each["board"] != "glaze-sensor"
    }, "nothing is wired to sensors of the kernel"
    signals = [(wire["board"], wire["line"]) for wire in told["wires"] if wire["role"] == "signal"]
    assert len(signals) == len(set(signals)), "no pin has two wires"
    for part in told["parts"]:
        assert part["count"] >= len(part["outputs_and_inputs"])
    assert site.reckon("divider", source="5 V")["steps"][1]["result"] == "3.21 V"
