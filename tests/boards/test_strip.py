"""The strip: pulses as its lamps take them, runs of lamps, and the kernel's SPI device."""

from __future__ import annotations

import errno
import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from cairnwind.boards.links import strip
from cairnwind.boards.links.strip import CODES, SimulatedStrip, Strip, StripLink, encode, in_order
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.facts.outputs import Output
from cairnwind.core.values.errors import BoardError
from cairnwind.core.values.settings import FULL, Colour
from cairnwind.service.startup import clock
from tests.conftest import eventually, of_kind


@given(
    st.sampled_from(sorted(CODES)),
    st.binary(min_size=3, max_size=90).map(lambda data: data[: len(data) // 3 * 3]),
)
def test_pulses_are_of_the_lengths_that_lamps_ask_for(bits: int, channels: bytes) -> None:
    code = CODES[bits]
    data = encode(channels, code)
    sent = "".join(f"{byte:08b}" for byte in data)
    body = sent[8 * code.reset : -8 * code.reset]
    assert len(body) == 8 * bits * len(channels)
    assert 1e6 * bits / code.speed == 1.25, "us for each bit of the strip's"
    for at, bit in enumerate("".join(f"{byte:08b}" for byte in channels)):
        pulse = body[bits * at : bits * (at + 1)]
        assert pulse == pulse.rstrip("0").ljust(bits, "0"), "high, then low"
        high = 1e6 * pulse.count("1") / code.speed
        assert 0.7 < high < 0.9 if bit == "1" else 0.25 < high < 0.45, "0.8 us high is a one, 0.35 us a zero"
    assert 8 * code.reset / code.speed >= 280e-6, "the low that makes them show"
    lamps = SimulatedStrip(len(channels), code)
    lamps.send(data)
    assert lamps.channels == channels
    if bits == 8:  # a controller that pauses between bytes makes lows longer, and no high
        assert all(not byte & 1 for byte in data)


@given(st.lists(st.integers(0, FULL), min_size=3, max_size=3))
def test_a_white_led_takes_what_the_three_have_in_common(levels: list[int]) -> None:
    green, red, blue, white = in_order(levels, "GRBW")
    assert min(red, green, blue) == 0
    for one, level in zip((red, green, blue), levels, strict=True):
        assert abs(one + white - level * 255 / FULL) <= 1
    assert in_order(levels, "RGB") == [(level * 255 + FULL // 2) // FULL for level in levels]


def opened(device: str = "simulated", order: str = "GRB") -> tuple[StripLink, list[Any]]:
    link = StripLink(Board("s", "strip", line_count=18, facts=Strip(device, 6, order)))
    said: list[Any] = []
    runs = [
        Output("first", "colour-lamp", Pin("s", 0), others=(1, 2), pixels=2, safe=Colour(0, 0, 0), steps=255),
        Output("rest", "colour-lamp", Pin("s", 6), others=(7, 8), pixels=4, safe=Colour(0, 0, 0), steps=255),
    ]
    link.open(runs, [], said.append, clock, lambda: True)
    link.ready(5)
    return link, said


@pytest.fixture
def lamps() -> Iterator[tuple[StripLink, list[Any]]]:
    found = opened()
    yield found
    found[0].close()


def test_a_run_is_one_lamp_as_far_as_anybody_is_concerned(lamps: tuple[StripLink, list[Any]]) -> None:
    link, said = lamps
    assert of_kind(said, ev.LinkUp)[0].readings == (), "nothing comes back on one wire"
    link.drive([ev.Drive("first", 1, Colour(FULL, 0, 0)), ev.Drive("rest", 1, Colour(0, 0, FULL))])
    eventually(lambda: len(of_kind(said, ev.Confirmed)) == 2)
    assert {event.how for event in of_kind(said, ev.Confirmed)} == {"sent"}
    assert link.simulated is not None
    assert link.simulated.channels == bytes([0, 255, 0] * 2 + [0, 0, 255] * 4), (
        "green, red, blue, as these lamps take them"
    )
    frames = link.simulated.frames
    eventually(lambda: link.simulated.frames > frames), "told again, for a strip that was plugged in late"  # type: ignore[union-attr]


def test_a_run_that_is_wired_otherwise_leaves_the_others_as_they_are(
    lamps: tuple[StripLink, list[Any]],
) -> None:
    link, said = lamps
    link.drive([ev.Drive("first", 1, Colour(FULL, 0, 0)), ev.Drive("rest", 1, Colour(0, 0, FULL))])
    eventually(lambda: len(of_kind(said, ev.Confirmed)) == 2)
    end = Output(
        "end", "colour-lamp", Pin("s", 15), others=(16, 17), pixels=1, safe=Colour(0, 0, 0), steps=255
    )
    link.rewire([link.outputs[0], end], [], ["end"])
    assert link.simulated is not None
    assert link.simulated.channels == bytes([0, 255, 0] * 2 + [0] * 12)
    link.drive([ev.Drive("end", 2, Colour(0, FULL, 0))])
    eventually(
        lambda: link.simulated and link.simulated.channels == bytes([0, 255, 0] * 2 + [0] * 9 + [255, 0, 0])
    )
    assert not of_kind(said, ev.LinkLost)


def test_the_kernels_device_is_set_up_and_given_the_same_bits(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "spidev0.0"
    path.touch()
    told: list[tuple[int, bytes]] = []
    monkeypatch.setattr(strip, "ioctl", lambda file, number, value: told.append((number, value)))
    link, said = opened(str(path), "RGB")
    assert [number for number, _ in told] == [0x40016B01, 0x40016B03, 0x40046B04], (
        "mode, bits, speed, as spidev.h numbers them"
    )
    assert told[2][1] == (2_400_000).to_bytes(4, "little")
    link.drive([ev.Drive("first", 1, Colour(FULL, 0, 0))])
    eventually(lambda: of_kind(said, ev.Confirmed))
    link.close()
    assert path.read_bytes().endswith(encode(bytes([255, 0, 0] * 2 + [0] * 12)))
    assert path.read_bytes().startswith(encode(bytes(18))), "dark first"


def test_more_lamps_than_the_driver_takes_at_once_are_said_and_one_error_is_none(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "bufsiz").write_text("4096\n")
    (tmp_path / "spidev0.0").touch()
    monkeypatch.setattr(strip, "BUFFER", tmp_path / "bufsiz")
    monkeypatch.setattr(strip, "ioctl", lambda *_: None)
    device = strip.SpiDevice(str(tmp_path / "spidev0.0"))
    device.send(encode(bytes(3 * 435)))
    with pytest.raises(BoardError, match="the SPI driver 4096: that is 435 lamps") as caught:
        device.send(encode(bytes(3 * 436)))
    assert "spidev.bufsiz=4096" in caught.value.remedy or "spidev.bufsiz=8192" in caught.value.remedy
    left = [errno.EIO, errno.EIO]

    def write(file: int, data: bytes) -> int:
        if left:
            raise OSError(left.pop(), "disturbed")
        return len(data)

    monkeypatch.setattr(strip.os, "write", write)
    device.send(b"x")
    left += [errno.EIO] * 3
    with pytest.raises(BoardError, match="took no data"):
        device.send(b"x")
    device.close()


def test_a_device_that_is_not_there_or_not_ours_is_named(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    link, said = opened(str(tmp_path / "spidev9.9"))
    (lost,) = of_kind(said, ev.LinkLost)
    assert "spidev9.9 cannot be opened: No such file" in lost.reason
    link.close()
    (tmp_path / "file").touch()
    with pytest.raises(BoardError, match="is no SPI device"):
        strip.SpiDevice(str(tmp_path / "file"))

    def denied(*_: Any) -> int:
        raise PermissionError(errno.EACCES, os.strerror(errno.EACCES))

    monkeypatch.setattr(strip.os, "open", denied)
    with pytest.raises(BoardError) as refused:
        strip.SpiDevice("/dev/spidev0.0")
    assert "group" in refused.value.remedy
