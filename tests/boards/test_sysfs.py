"""Analogue channels as the kernel's sysfs shows them: a made-up tree, since no simulated driver has one."""

from __future__ import annotations

import json
import socket
import subprocess
import sys
from pathlib import Path

import pytest

from cairnwind.boards import guard
from cairnwind.boards.sysfs import Converter, PwmChannel, found
from cairnwind.core.values.errors import BoardError


@pytest.fixture
def tree(tmp_path: Path) -> Path:
    device = tmp_path / "iio:device0"
    (device / "scan_elements").mkdir(parents=True)
    (device / "in_voltage2_raw").write_text("1024\n")
    (device / "in_voltage_scale").write_text("0.805664062\n")
    (device / "in_voltage3_raw").write_text("100\n")
    (device / "in_voltage3_scale").write_text("2\n")
    (device / "in_voltage3_offset").write_text("-50\n")
    (device / "scan_elements" / "in_voltage3_type").write_text("le:u10/16>>0\n")
    return tmp_path


def test_raw_scale_and_offset_give_volts(tree: Path) -> None:
    converter = Converter("iio:device0", tree)
    raw, full, volts = converter.read(2)
    assert (raw, full) == (1024, 4095)
    assert volts == pytest.approx(0.825)
    assert converter.read(3) == (100, 1023, pytest.approx(0.1)), "(raw + offset) x scale is millivolts"


def test_what_a_machine_has_is_found_by_names_that_stay(tree: Path) -> None:
    (tree / "iio:device0" / "name").write_text("four-channels\n")
    (tree / "iio:device1").mkdir()  # it weighs, or hears: no voltages
    (tree / "pwmchip4").mkdir()
    (tree / "pwmchip4" / "npwm").write_text("8\n")
    (tree / "10240000.pwm").mkdir()
    (tree / "pwmchip4" / "device").symlink_to(tree / "10240000.pwm")
    assert [(key, name) for key, name, _ in found(tree, tree)] == [
        ("pwm", "10240000.pwm"),
        ("analogue", "four-channels"),
    ]
    assert [what for *_, what in found(tree, tree)][1] == "converter, 2 voltage channels, now iio:device0"
    assert PwmChannel.there("10240000.pwm", tree) == PwmChannel.there("pwmchip4", tree) == tree / "pwmchip4"
    assert Converter("four-channels", tree).read(3)[0] == 100
    (tree / "iio:device1" / "name").write_text("four-channels\n")
    with pytest.raises(BoardError, match="2 converters are called four-channels"):
        Converter("four-channels", tree)


def test_a_signed_converter_goes_below_nothing(tree: Path) -> None:
    (tree / "iio:device0" / "scan_elements" / "in_voltage3_type").write_text("le:s12/16>>4\n")
    (tree / "iio:device0" / "in_voltage3_raw").write_text("-2000\n")
    assert Converter("iio:device0", tree).read(3) == (-2000, 2047, pytest.approx(-4.1))


def test_what_is_not_there_is_said_with_what_is(tree: Path) -> None:
    with pytest.raises(BoardError, match="no converter iio:device7 here") as caught:
        Converter("iio:device7", tree)
    assert caught.value.remedy == "Converters here: iio:device0."
    with pytest.raises(BoardError, match="in_voltage9_raw is not there"):
        Converter("iio:device0", tree).read(9)
    with pytest.raises(BoardError, match="no PWM chip pwmchip0 here"):
        PwmChannel("pwmchip0", 0, tree)


def test_a_guard_whose_service_dies_while_it_answers_rests_all_the_same(tmp_path: Path) -> None:
    """The service said what is safe, and was gone before the answer."""
    (tmp_path / "period").write_text("1000000")
    (tmp_path / "duty").write_text("900000")
    mine, its = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    told = [{"path": str(tmp_path / "duty"), "period": str(tmp_path / "period"), "parts": 400_000}]
    mine.send(json.dumps(told).encode())
    mine.close()
    subprocess.run(
        [sys.executable, "-I", "-S", guard.__file__, str(its.fileno())],
        pass_fds=[its.fileno()],
        timeout=60,
        check=True,
    )
    assert (tmp_path / "duty").read_text() == "400000"
