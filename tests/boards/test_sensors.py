"""Sensors of the kernel, in a made-up tree of /sys: no driver of the kernel that tests run in has any."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from cairnwind.boards import evdev, kernelsensors
from cairnwind.boards.doctor import examine
from cairnwind.boards.links import leds
from cairnwind.cli import beginning
from cairnwind.client import CallerError
from cairnwind.core.values.errors import BoardError
from cairnwind.site import read_text
from tests.conftest import Running, eventually, faults

Put = Callable[[str, str], None]
ONEWIRE = "bus/w1/devices/28-0000075b6c2f/w1_slave"


def celsius(count: int, crc: str = "YES") -> str:
    return f"72 01 4b 46 7f ff 0e 10 57 : crc=57 {crc}\n72 01 4b 46 7f ff 0e 10 57 t={count}\n"


@pytest.fixture
def put(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Put:
    """Puts a text into a file of the tree."""
    root = tmp_path / "sys"
    monkeypatch.setattr(kernelsensors, "ROOT", root)

    def write(path: str, text: str) -> None:
        (root / path).parent.mkdir(parents=True, exist_ok=True)
        (root / path).write_text(text + "\n")

    for path, text in {
        "class/hwmon/hwmon0/name": "k10temp",
        "class/hwmon/hwmon0/temp1_input": "48250",
        "class/hwmon/hwmon0/temp1_label": "Tctl",
        "class/hwmon/hwmon0/fan2_input": "1210",
        "class/hwmon/hwmon0/in0_input": "3312",
        "class/hwmon/hwmon0/power1_input": "12500000",
        "bus/iio/devices/iio:device0/name": "bme280",
        "bus/iio/devices/iio:device0/in_pressure_input": "101.325",
        "bus/iio/devices/iio:device0/in_humidityrelative_input": "43500",
        "bus/iio/devices/iio:device0/in_temp_raw": "400",
        "bus/iio/devices/iio:device0/in_temp_offset": "20",
        "bus/iio/devices/iio:device0/in_temp_scale": "50",
        "class/thermal/thermal_zone0/type": "cpu-thermal",
        "class/thermal/thermal_zone0/temp": "51000",
        ONEWIRE: celsius(23125),
    }.items():
        write(path, text)
    return write


READS = {
    "hwmon:k10temp/temp1": (48.25, "°C"),
    "hwmon:k10temp/Tctl": (48.25, ""),
    "hwmon:k10temp/fan2": (1210, "rpm"),
    "hwmon:k10temp/in0": (3.312, "V"),
    "hwmon:hwmon0/power1": (12.5, "W"),
    "iio:bme280/pressure": (101.325, "kPa"),
    "iio:bme280/humidityrelative": (43.5, "%"),
    "iio:iio:device0/temp": (21.0, "°C"),
    "thermal:cpu-thermal": (51.0, "°C"),
    "thermal:thermal_zone0": (51.0, "°C"),
    "onewire:28-0000075b6c2f": (23.125, "°C"),
}


@pytest.mark.parametrize("text", READS)
def test_a_channel_reads_in_the_unit_of_the_kernel(put: Put, text: str) -> None:
    channel = kernelsensors.channel(text)
    assert (kernelsensors.read(channel), channel.unit) == (pytest.approx(READS[text][0]), READS[text][1])


def test_what_is_here_is_found_by_names_that_stay(put: Put) -> None:
    found = {each.text for each in kernelsensors.known()}
    assert found == {
        "hwmon:k10temp/fan2", "hwmon:k10temp/in0", "hwmon:k10temp/power1", "hwmon:k10temp/temp1", "iio:bme280/humidityrelative",
        "iio:bme280/pressure", "iio:bme280/temp", "thermal:cpu-thermal", "onewire:28-0000075b6c2f",
    }  # fmt: skip
    assert any("iio:bme280/pressure, in kPa" in each.what for each in examine(None))


@pytest.mark.parametrize(
    ("text", "path", "said", "why"),
    [
        ("onewire:28-0000075b6c2f", ONEWIRE, celsius(23125, "NO"), "wrong checksum"),
        ("onewire:28-0000075b6c2f", ONEWIRE, celsius(85000), "has not measured since it got its supply"),
        ("onewire:28-0000075b6c2f", ONEWIRE, celsius(-127000), "does not answer"),
        ("onewire:28-0000075b6c2f", ONEWIRE, "", "wrong checksum"),
        ("onewire:28-000000000000", ONEWIRE, celsius(1), "Sensors here: 28-0000075b6c2f"),
        ("hwmon:k10temp/temp1", "class/hwmon/hwmon0/temp1_fault", "1", "says that it is at fault"),
        ("hwmon:k10temp/temp9", ONEWIRE, "", "Channels: fan2, in0, power1, temp1"),
        ("hwmon:nct6798/temp1", ONEWIRE, "", "Hardware monitors here: hwmon0 (k10temp)"),
        (
            "hwmon:k10temp/temp1",
            "class/hwmon/hwmon1/name",
            "k10temp",
            "2 hardware monitors are called k10temp",
        ),
        ("iio:bme280/light", ONEWIRE, "", "Channels: humidityrelative, pressure, temp"),
        ("thermal:gpu", ONEWIRE, "", "Thermal zones here: thermal_zone0 (cpu-thermal)"),
        ("thermal:cpu-thermal", "class/thermal/thermal_zone0/temp", "hot", "says 'hot', which is no number"),
    ],
)
def test_what_is_not_known_is_not_guessed(put: Put, text: str, path: str, said: str, why: str) -> None:
    put(path, said)
    with pytest.raises(BoardError) as found:
        kernelsensors.read(kernelsensors.channel(text))
    assert why in f"{found.value.sentence} {found.value.remedy}"


@given(st.integers(-55_000, 125_000), st.sampled_from(["YES", "NO"]))
def test_a_thermometer_tells_what_it_measured_or_nothing(count: int, crc: str) -> None:
    import tempfile

    with tempfile.TemporaryDirectory() as folder, pytest.MonkeyPatch.context() as patch:
        patch.setattr(kernelsensors, "ROOT", Path(folder))
        (Path(folder) / ONEWIRE).parent.mkdir(parents=True)
        (Path(folder) / ONEWIRE).write_text(celsius(count, crc))
        channel = kernelsensors.channel("onewire:28-0000075b6c2f")
        if crc == "NO" or count == 85_000:
            with pytest.raises(BoardError):
                kernelsensors.read(channel)
        else:
            assert kernelsensors.read(channel) == count / 1000


SITE = """
site = "Bench"
timezone = "UTC"
[board.near]
link = "simulated"
lines = 4
[board.inside]
link = "sensors"
channels = ["onewire:28-0000075b6c2f", "iio:bme280/pressure", "thermal:gpu"]
[output.fan]
kind = "relay"
pin = "near:line-0"
[input.kiln-room]
kind = "analogue"
pin = "inside:line-0"
[input.air]
kind = "analogue"
pin = "inside:line-1"
[input.gpu]
kind = "analogue"
pin = "inside:line-2"
[[interlock]]
name = "warm enough"
needs = "kiln-room is above 20 °C"
outputs = ["fan"]
"""


def test_from_a_file_of_the_kernel_to_an_interlock(put: Put, tmp_path: Path) -> None:
    running = Running(tmp_path, SITE)
    site = running.site
    state = lambda name: site.input(name)["state"]  # noqa: E731
    eventually(lambda: state("kiln-room") == "23.12 °C", within=10)
    assert state("air") == "101.3 kPa"
    assert state("gpu") == "unknown"
    listed = " ".join(running.cli("pins", "inside").stdout.split())
    assert "onewire:28-0000075b6c2f" in listed
    assert "No thermal zone is called gpu." in listed
    assert site.turn("fan", "on", wait="5 s").ending == "confirmed"
    put(ONEWIRE, celsius(23125, "NO"))
    eventually(lambda: state("kiln-room") == "unknown", within=10)
    eventually(lambda: not site.output("fan")["confirmed"]["on"])
    assert state("air") == "101.3 kPa", "one that cannot be read is nobody else's fault"
    put(ONEWIRE, celsius(24500))
    eventually(lambda: state("kiln-room") == "24.5 °C", within=10)
    put("class/thermal/thermal_zone1/type", "gpu")
    put("class/thermal/thermal_zone1/temp", "61000")
    eventually(lambda: state("gpu") == "61 °C", within=10)
    assert "No thermal zone" not in running.cli("pins", "inside").stdout
    assert "24.5 °C" in running.cli("look", "kiln-room").stdout
    with pytest.raises(CallerError, match="belongs to input kiln-room"):
        site.try_pin("inside:line-0", "output")
    running.end()


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ('channels = ["thermal:cpu-thermal", "thermal:cpu-thermal"]', "is there twice"),
        ('channels = ["cpu"]', "'cpu' is no channel of a sensor"),
        ('channels = ["hwmon:k10temp"]', "is no channel of a sensor"),
        ("", "has no 'channels'"),
        ('channels = ["thermal:a"]\n[output.x]\nkind = "relay"\npin = "inside:line-0"', "inside:line-0 is for analogue alone"),
        ('channels = ["thermal:a"]\n[input.x]\nkind = "contact"\npin = "inside:line-0"', "inside:line-0 is for analogue alone"),
        ('channels = ["thermal:a"]\n[input.x]\nkind = "analogue"\npin = "inside:line-1"', "Board inside has no line 1"),
    ],
)  # fmt: skip
def test_what_is_wrong_with_a_file_is_said(tmp_path: Path, text: str, said: str) -> None:
    text = f'site = "x"\n[board.inside]\nlink = "sensors"\n{text}\n'
    assert said in faults(tmp_path, text)


def test_a_first_file_takes_sensors_and_offers_keys_and_lamps(
    put: Put, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What reads and disturbs nothing is taken; what is somebody's already stands there to be taken, and is good when it is."""
    lamps, devices = tmp_path / "leds", tmp_path / "input"
    (lamps / "board:green:user").mkdir(parents=True)
    devices.mkdir()
    (devices / "event0").write_text("no device that answers")
    monkeypatch.setattr(leds, "LEDS", lamps)
    monkeypatch.setattr(evdev, "DEV", devices)
    boards = beginning.found()
    assert [each.name for each in boards][-1] == "inside"
    assert boards[0].keys["link"] != "sensors", "examples are for pins"
    text = beginning.written("Shed", "UTC", None, None, boards)
    site = read_text(text, "site.toml")
    assert "onewire:28-0000075b6c2f" in {each.text for each in site.boards["inside"].facts.channels}
    assert site.boards.keys().isdisjoint({"front", "keys"})
    taken = re.sub(r"^# (\[board\.|link = |leds = |keys = |device = )", r"\1", text, flags=re.M)
    site = read_text(taken, "site.toml")
    assert (site.boards["front"].link, site.boards["keys"].link) == ("leds", "keys")
