"""The firmware's real image on an emulated chip, its pins watched; first bare on the line, then under the link."""

from __future__ import annotations

import random
import threading
import time
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import Any

import pytest
import serial
from hypothesis import given
from hypothesis import strategies as st
from pymodbus.client import ModbusSerialClient

from cairnwind.boards import chips, serialports
from cairnwind.boards.feeder import Feeder
from cairnwind.boards.links.modbus import link_to
from cairnwind.boards.master import Modbus
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Source
from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.trials import Trial
from cairnwind.core.values.errors import BoardError
from cairnwind.core.values.settings import OFF, ON, Level
from cairnwind.service.startup import clock
from tests.boards import emulated
from tests.conftest import cairnwind, eventually, of_kind

WATCHDOG, MODE, VALUE, SAFE, PULSE, ON_MS, OFF_MS, FREQUENCY, TONE_MS = 0, 32, 64, 96, 128, 160, 192, 224, 240
OWNER, FEED, LASTS = 2, 3, 384
OUTPUT, PULL_UP, PWM, ANALOGUE, TONE = 1, 2, 3, 4, 5
RELAY, LAMP, KNOB, BUTTON, BELL = 16, 28, 3, 20, 31


@pytest.fixture(scope="module")
def chip() -> Iterator[emulated.Board]:
    found = emulated.emulated()
    yield found
    found.end()


def garbage(port: str, chance: random.Random) -> None:
    """A second and a half of anything on the line."""
    with serial.Serial(port, 115_200, timeout=0) as line:
        end = time.monotonic() + 1.5
        while time.monotonic() < end:
            line.write(chance.randbytes(chance.randint(1, 30)))
            time.sleep(0.002)
        line.reset_input_buffer()


class Host:
    """A bare Modbus client."""

    def __init__(self, port: str, baud: int = 115_200) -> None:
        self.client = ModbusSerialClient(port, baudrate=baud, timeout=0.4, retries=8)
        self.client.connect()

    def read(self, at: int, count: int = 1) -> list[int]:
        return self._good(self.client.read_input_registers(at, count=count, device_id=1)).registers

    def kept(self, at: int, count: int = 1) -> list[int]:
        return self._good(self.client.read_holding_registers(at, count=count, device_id=1)).registers

    def write(self, at: int, *values: int) -> None:
        self._good(self.client.write_registers(at, list(values), device_id=1))

    def refused(self, at: int, value: int) -> int:
        answer = self.client.write_register(at, value, device_id=1)
        assert answer.isError()
        return answer.exception_code

    def _good(self, answer: Any) -> Any:
        assert not answer.isError(), answer
        return answer


@pytest.fixture
def host(chip: emulated.Board) -> Iterator[Host]:
    found = Host(chip.port)
    found.write(WATCHDOG, 0)
    yield found
    for pin in (RELAY, LAMP, 29, KNOB, BUTTON, BELL):
        found.write(MODE + pin, 0)
        found.write(SAFE + pin, 0)
    found.client.close()


def test_what_two_chips_say_of_themselves_is_what_their_files_say(tmp_path: Path) -> None:
    """Nothing of a chip is known to the host but by its file, which a board writes itself."""
    for name in ("atmega1284p", "atmega324p"):
        chip = emulated.emulated(chip=name)
        out = tmp_path / f"{name}.toml"
        assert cairnwind("firmware", "describe", "--port", chip.port, "--out", str(out)).returncode == 0
        told, known = chips._read(out), chips.load(name)
        for what in ("lines", "reserved", "analogue", "tone", "timers"):
            assert getattr(told, what) == getattr(known, what), what
        chip.end()


def test_a_board_of_another_family_under_the_link() -> None:
    """The same rules, pins and ways on a chip with an eighth of the memory, whose numbers are others."""
    chip = emulated.emulated(chip="atmega324p")
    outputs = [
        Output("relay", "relay", Pin("b", 21)),
        Output("lamp", "fan", Pin("b", 12), frequency=Fraction(500)),
    ]
    inputs = [Input("knob", "analogue", Pin("b", 2), unit="V")]
    beyond = Output("beyond", "relay", Pin("b", 24))
    linked = Linked(chip.port, [*outputs, beyond], inputs)
    linked.link.drive(
        [ev.Drive("relay", 1, ON), ev.Drive("lamp", 1, Level(250_000)), ev.Drive("beyond", 1, ON)]
    )
    eventually(lambda: linked.settings() == {"relay": ON, "lamp": Level(250_000)})
    assert "line 24 of b, which beyond is wired to, cannot do that" in linked.of(ev.Failed)[0].reason
    assert chip.pin(21)
    # a write to another pin of its port disturbs the emulated timer for a period, and the line's driver is one
    eventually(lambda: chip.measure(12, 60) == (pytest.approx(500, rel=0.01), pytest.approx(0.25, abs=0.01)))
    chip.tell("analogue 2 2000")
    eventually(lambda: abs((linked.of(ev.Measured)[-1].volts or 0) - 2.0) < 0.02)
    linked.link.close()
    chip.end()


def test_only_its_own_host_keeps_it_alive(chip: emulated.Board, host: Host) -> None:
    host.write(MODE + RELAY, OUTPUT)
    host.write(OWNER, 4711)
    assert host.refused(FEED, 4712) == 3
    host.write(WATCHDOG, 300)
    host.client.write_coil(RELAY, True, device_id=1)
    assert host.refused(OWNER, 4712) == 6, "another may not take it over while something is on"
    end = time.monotonic() + 0.9
    while time.monotonic() < end:
        host.write(FEED, 4711)
        time.sleep(0.05)
    assert chip.pin(RELAY)
    end = time.monotonic() + 1.0
    while time.monotonic() < end:
        host.read(0)  # whoever else speaks to it
    assert not chip.pin(RELAY)
    host.write(OWNER, 0)


def test_pins_of_the_debug_port_the_supply_and_the_edges_of_every_pin(
    chip: emulated.Board, host: Host
) -> None:
    for pin in (18, 19, 21):
        host.write(MODE + pin, OUTPUT)
        host.client.write_coil(pin, True, device_id=1)
        assert chip.pin(pin), "which the debug port would have"
        host.write(MODE + pin, 0)
    assert eventually(lambda: host.read(9)[0]) == pytest.approx(5000, rel=0.01)
    before = host.read(64, 32)
    for _ in range(5):
        for pin in (22, 23, 30):
            chip.tell(f"level {pin} 1")
        time.sleep(0.01)
        for pin in (22, 23, 30):
            chip.tell(f"level {pin} 0")
        time.sleep(0.01)
    after = host.read(64, 32)
    assert [after[pin] - before[pin] for pin in (22, 23, 30)] == [10, 10, 10], (
        "inputs that nobody has set up count too"
    )


def test_what_lasts_ends_by_the_boards_own_clock(chip: emulated.Board, host: Host) -> None:
    """A tone of two seconds and a pulse, each to the millisecond, whatever the line does meanwhile."""
    host.write(MODE + BELL, TONE)
    host.write(TONE_MS, 60_000)
    host.write(MODE + RELAY, OUTPUT)
    for pin, on, ms in ((RELAY, 1, 250), (BELL, 2000, 2000)):
        host.write(LASTS + pin, ms)
        chip.ask(f"pair {pin} 30")
        host.write(VALUE + pin, on)
        begun = float(chip.ask(f"first {pin}")[2])
        time.sleep(ms / 2000)
        eventually(lambda pin=pin: host.read(0, 9) and host.kept(VALUE + pin) == [0])
        lasted = float(chip.ask(f"moves {pin}")[3]) - begun
        print(f"pin {pin}: {lasted:.2f} ms of {ms}")
        assert abs(lasted - ms) <= 1.01
    host.write(VALUE + RELAY, 1)
    time.sleep(0.3)
    assert chip.pin(RELAY), "the next one only"


def test_number_and_speed_are_settled_over_the_line_and_kept() -> None:
    chip = emulated.emulated()
    host = Host(chip.port)
    host.write(MODE + RELAY, OUTPUT)
    host.client.write_coil(RELAY, True, device_id=1)
    host.client.close()
    args = ("firmware", "settle", "--port", chip.port, "--to-unit", "9", "--to-baud", "9600")
    assert "Something of it is on" in cairnwind(*args).stderr
    host = Host(chip.port)
    host.client.write_coil(RELAY, False, device_id=1)
    assert host.refused(4, 248) == 3
    assert host.refused(5, 7777) == 3, "a speed that its line cannot have"
    host.client.close()
    said = cairnwind(*args)
    assert "firmware 1.3 on atmega1284p, 32 pins" in said.stdout, said
    assert "its own watchdog" in said.stdout, "it has started anew by itself"
    chip.tell("reset")
    time.sleep(0.3)
    client = ModbusSerialClient(chip.port, baudrate=9600, timeout=1, retries=2)
    client.connect()
    client.write_register(WATCHDOG, 0, device_id=9)
    began = time.monotonic()
    assert len(client.read_holding_registers(256, count=120, device_id=9).registers) == 120
    assert time.monotonic() - began > 0.2, "245 bytes at 9600 baud"
    client.close()
    chip.end()


def test_who_it_is_and_what_its_pins_can_do(host: Host) -> None:
    assert host.read(0, 4) == [0x4357, 0x0103, 1, 32]
    told = host.client.read_device_information(device_id=1).information
    assert told == {0: b"Cairnwind", 1: b"board", 2: b"1.3"}
    can = host.read(32, 32)
    assert can[0] == 0xFF0B, "output, pull-up, analogue; no timer"
    assert (can[28] >> 8, can[29] >> 8, can[14] >> 8, can[15] >> 8) == (0, 0, 1, 1), (
        "two timers, two pins each"
    )
    assert [pin for pin, word in enumerate(can) if word & 255 == 0] == [8, 24, 25, 27], (
        "its own: light, line, driver"
    )
    assert host.refused(MODE + 24, OUTPUT) == 2
    assert host.refused(MODE + RELAY, PWM) == 3, "no PWM there"
    assert host.refused(VALUE + RELAY, 1) == 3, "no output yet"
    assert host.refused(450, 1) == 2
    assert host.client.read_input_registers(0, count=126 - 1, device_id=1).isError(), (
        "registers that are not there"
    )


def test_outputs_coils_pulse_and_blink_keep_time_by_themselves(host: Host, chip: emulated.Board) -> None:
    host.write(MODE + RELAY, OUTPUT)
    assert not chip.pin(RELAY)
    host.client.write_coil(RELAY, True, device_id=1)
    assert chip.pin(RELAY)
    assert host.read(17)[0] & 1, "read back from the pin itself"
    host.client.write_coils(RELAY, [False, False], device_id=1)
    assert chip.pin(RELAY), "the second is no output: nothing of the frame was done"
    host.client.write_coil(RELAY, False, device_id=1)
    host.write(PULSE + RELAY, 80)
    before = float(chip.ask(f"moves {RELAY}")[3])
    eventually(lambda: not chip.pin(RELAY))
    assert 78 <= float(chip.ask(f"moves {RELAY}")[3]) - before <= 83, "milliseconds of the chip's own clock"
    host.write(ON_MS + RELAY, 20)
    host.write(OFF_MS + RELAY, 30)
    hertz, share = chip.measure(RELAY, 500)
    assert hertz == pytest.approx(20, rel=0.05)
    assert share == pytest.approx(0.4, abs=0.04)
    host.write(VALUE + RELAY, 0)
    assert not chip.pin(RELAY)


@pytest.mark.parametrize("hertz", [3, 800, 25_000])
def test_pwm_frequency_and_duty_on_the_pin(host: Host, chip: emulated.Board, hertz: int) -> None:
    host.write(MODE + LAMP, PWM)
    host.write(MODE + 29, PWM)
    host.write(FREQUENCY, hertz * 100 >> 16, hertz * 100 & 0xFFFF)
    host.write(VALUE + LAMP, 16_384)
    host.write(VALUE + 29, 49_152)
    real = (host.kept(FREQUENCY)[0] << 16 | host.kept(FREQUENCY + 1)[0]) / 100
    assert real == pytest.approx(hertz, rel=0.002)
    time.sleep(0.05 + 2 / hertz)
    for pin, duty in ((LAMP, 0.25), (29, 0.75)):
        seen, share = chip.measure(pin, max(60, 3500 // hertz))
        assert seen == pytest.approx(real, rel=0.01), "one timer, one frequency"
        assert share == pytest.approx(duty, abs=0.01)
    for value, level in ((0, 0), (0xFFFF, 1)):
        host.write(VALUE + LAMP, value)
        time.sleep(0.02)
        assert chip.measure(LAMP, 30) == (0, level), "never and always are without a spike"


def test_analogue_inputs_with_pull_and_counted_edges(host: Host, chip: emulated.Board) -> None:
    host.write(MODE + KNOB, ANALOGUE)
    chip.tell(f"analogue {KNOB} 2500")
    eventually(lambda: abs(host.read(18 + KNOB)[0] - 512) <= 2)
    assert host.read(18)[0] == 0xFFFF, "not in analogue mode"
    host.write(MODE + BUTTON, PULL_UP)
    eventually(lambda: host.read(17)[0] >> (BUTTON - 16) & 1)
    before = host.read(64 + BUTTON)[0]
    for level in (0, 1, 0):
        chip.tell(f"level {BUTTON} {level}")
        time.sleep(0.02)
    assert not host.read(17)[0] >> (BUTTON - 16) & 1
    assert host.read(64 + BUTTON)[0] - before == 3


def test_a_tone_has_an_end(host: Host, chip: emulated.Board) -> None:
    host.write(MODE + BELL, TONE)
    assert host.refused(TONE_MS, 0) == 3
    host.write(TONE_MS, 300)
    host.write(VALUE + BELL, 440)
    assert chip.measure(BELL, 100)[0] == pytest.approx(440, rel=0.01)
    eventually(lambda: chip.measure(BELL, 30)[0] == 0, within=3)
    assert not chip.pin(BELL)


def test_no_frames_and_a_reset_take_it_to_its_safe_values(host: Host, chip: emulated.Board) -> None:
    host.write(SAFE + LAMP, 0xFFFF)
    host.write(MODE + LAMP, PWM)
    host.write(MODE + RELAY, OUTPUT)
    host.client.write_coil(RELAY, True, device_id=1)
    host.write(VALUE + LAMP, 0)
    host.write(WATCHDOG, 250)
    began = time.monotonic()
    while time.monotonic() - began < 0.6:
        host.read(0)
    assert chip.pin(RELAY), "fed by any valid frame"
    began = time.monotonic()
    eventually(lambda: not chip.pin(RELAY), within=2)
    print(f"safe {time.monotonic() - began:.3f} s after the last frame, for a watchdog of 0.25 s")
    assert time.monotonic() - began > 0.15
    assert chip.pin(LAMP), "its safe value is on"
    rests = host.read(8)[0]
    assert rests >= 1
    host.client.write_coil(RELAY, True, device_id=1)
    time.sleep(0.5)  # modes and safe values are kept byte by byte, as the chip finds time
    lives = host.read(12)[0]
    chip.tell("reset")
    eventually(lambda: not chip.pin(RELAY))
    eventually(lambda: chip.pin(LAMP))
    assert host.read(12, 2) == [(lives + 1) & 255, 0]
    assert host.read(5)[0] & 15, "why it was reset"
    assert host.read(14, 2) == [0, host.read(4)[0]]
    assert host.kept(MODE + LAMP)[0] == PWM, "kept without power"


def test_ten_thousand_bad_frames_move_no_pin(host: Host, chip: emulated.Board) -> None:
    """Random, truncated, garbled and merged frames: no wrong pin, no hang, and the next good frame is answered."""
    host.write(MODE + RELAY, OUTPUT)
    host.client.write_coil(RELAY, True, device_id=1)
    pins = chip.ask("pins")[1]
    counted = host.read(7)[0]
    host.client.close()
    chance = random.Random(7)
    good = bytes.fromhex("010500100000CDCF")  # coil 16 off, with its right sum
    sent = 0
    with serial.Serial(chip.port, 115_200, timeout=0) as line:
        while sent < 10_000:
            burst = b""
            for _ in range(50):
                kind = chance.randrange(4)
                frame = bytearray(chance.randbytes(chance.randint(1, 24)) if kind == 0 else good)
                if kind == 1:
                    frame = frame[: chance.randint(1, 7)]
                elif kind == 2:
                    frame[chance.randrange(8)] ^= 1 << chance.randrange(8)
                elif kind == 3:
                    frame += good[: chance.randint(1, 7)]
                burst += frame
                sent += 1
            for at in range(0, len(burst), 97):  # pieces with and without a pause between them
                line.write(burst[at : at + 97])
                if chance.random() < 0.3:
                    time.sleep(0.004)
            line.flush()
            time.sleep(len(burst) * 11 / 115_200)
            line.reset_input_buffer()
            assert chip.ask("pins")[1][9:] == pins[9:], "its own light aside, no pin has moved"
    time.sleep(0.05)
    again = Host(chip.port)
    identity, bad = again.read(0)[0], again.read(7)[0]
    again.client.close()
    host.client.connect()
    assert identity == 0x4357
    assert bad > counted, "bad frames are counted, however many of them a busy machine ran together"


def test_its_size() -> None:
    import subprocess

    said = subprocess.run(
        ["make", "-s", "-C", emulated.ROOT / "firmware", "size"], capture_output=True, text=True, check=True
    ).stdout
    print(said)
    flash, ram = (int(word) for word in said.replace(",", "").split() if word.isdigit())
    assert flash < 16_384
    assert ram < 2048


# --- under the link ---------------------------------------------------------------------------------------

OUTPUTS = [
    Output("relay", "relay", Pin("b", RELAY), active_low=True),
    Output("lamp", "lamp", Pin("b", LAMP), frequency=Fraction(800)),
]
INPUTS = [
    Input("button", "contact", Pin("b", BUTTON), pull="up", active_low=True),
    Input("knob", "analogue", Pin("b", KNOB), unit="V"),
]


class Linked:
    """A link to a board, with what it reports."""

    def __init__(
        self,
        port: str,
        outputs: list[Output] = OUTPUTS,
        inputs: list[Input] = INPUTS,
        within: float = 20.0,
        **facts: Any,
    ) -> None:
        self.link = link_to(
            Board(
                "b",
                "modbus",
                None,
                32,
                facts=Modbus(
                    port, facts.pop("unit", 1), None, watchdog=facts.pop("watchdog", 400_000_000), **facts
                ),
            )
        )
        self.said: list[ev.Event] = []
        self.fresh = True
        self.link.open(outputs, inputs, self.said.append, clock, lambda: self.fresh)
        self.link.ready(within)

    def of(self, kind: type) -> list[Any]:
        return of_kind(self.said, kind)

    @property
    def up(self) -> bool:
        """By the last it said of it: a busy machine may lose a board more often than the test does."""
        told = [event for event in self.said if isinstance(event, ev.LinkUp | ev.LinkLost)]
        return isinstance(told[-1], ev.LinkUp)

    def settings(self) -> dict[str, Level]:
        return {event.output: event.setting for event in self.of(ev.Confirmed)}


@pytest.fixture
def linked(chip: emulated.Board) -> Iterator[Linked]:
    found = Linked(chip.port)
    yield found
    found.link.close()


def test_the_link_drives_reads_and_confirms(linked: Linked, chip: emulated.Board) -> None:
    (up,) = linked.of(ev.LinkUp)
    assert dict(up.readings) == {"relay": OFF, "lamp": OFF}
    assert chip.pin(RELAY), "active-low: off is high"
    linked.link.drive([ev.Drive("relay", 1, ON), ev.Drive("lamp", 1, Level(250_000))])
    eventually(lambda: linked.settings() == {"relay": ON, "lamp": Level(250_000)})
    assert not chip.pin(RELAY)
    chip.tell(f"analogue {KNOB} 1000")
    chip.tell(f"level {BUTTON} 0")
    eventually(lambda: linked.of(ev.InputSeen)[-1].active)
    eventually(lambda: abs((linked.of(ev.Measured)[-1].volts or 0) - 1.0) < 0.02)
    assert linked.link.survey()[28].functions == {"pwm"}
    hand = Source("test", "a hand", "keep")
    linked.link.attempt(18, Trial(Pin("b", 18), "output", hand, 0, 1_000_000))
    eventually(lambda: chip.pin(18))
    linked.link.attempt(18, None)
    linked.link.attempt(17, Trial(Pin("b", 17), "pwm", hand, 0, 500_000, 800_000))
    assert "line-28" in eventually(lambda: linked.of(ev.TrialFailed))[0].reason, "the pins that have PWM"


def test_the_host_killed_the_engine_hung_the_board_reset(chip: emulated.Board) -> None:
    """What becomes of the pins in each case: see docs/boards.md, 'Ways out'."""
    linked = Linked(chip.port)
    linked.link.drive([ev.Drive("relay", 1, ON)])
    eventually(lambda: not chip.pin(RELAY))
    linked.fresh = False
    eventually(lambda: chip.pin(RELAY))
    assert "engine does not answer" in eventually(lambda: linked.of(ev.LinkLost))[0].reason
    linked.fresh = True
    eventually(lambda: len(linked.of(ev.LinkUp)) == 2)
    linked.link.drive([ev.Drive("relay", 2, ON)])
    eventually(lambda: not chip.pin(RELAY))
    chip.tell("freeze 1")
    eventually(lambda: len(linked.of(ev.LinkLost)) == 2, within=8)
    chip.tell("freeze 0")
    eventually(lambda: len(linked.of(ev.LinkUp)) == 3, within=8)
    eventually(lambda: chip.pin(RELAY))
    linked.link.drive([ev.Drive("relay", 3, ON)])
    eventually(lambda: any(each.generation == 3 for each in linked.of(ev.Confirmed)))
    before = len(linked.said)
    chip.tell("reset")  # in the middle of traffic: modes are kept, what was on is not
    reason = eventually(lambda: linked.of(ev.LinkLost)[2:], within=8)[0].reason
    assert "has been reset" in reason or "answer" in reason, (
        "on a busy machine it is missed before it says so itself"
    )
    eventually(lambda: len(linked.of(ev.LinkUp)) == 4, within=8)
    assert not of_kind(linked.said[before:], ev.Confirmed), (
        "a fall to safe is no read-back that anybody would put right"
    )
    assert chip.pin(RELAY), "safe, until the claims say otherwise"
    linked.link.drive([ev.Drive("relay", 4, ON), ev.Drive("lamp", 4, Level(250_000))])
    eventually(lambda: not chip.pin(RELAY))
    eventually(lambda: chip.measure(LAMP, 60)[0] == pytest.approx(800, rel=0.01), within=8)
    hangs = threading.Event()
    linked.link.poll = lambda seconds: hangs.wait(30)  # type: ignore[assignment]  # so it must look dead
    eventually(lambda: chip.pin(RELAY))
    hangs.set()
    linked.link.close()


def test_a_board_that_rests_by_itself_is_set_up_anew_and_not_put_right() -> None:
    board = emulated.native()
    linked = Linked(board.port)
    linked.link.drive([ev.Drive("relay", 1, ON)])
    eventually(lambda: linked.of(ev.Confirmed))
    before = len(linked.said)
    linked.link._write(1, 1)
    assert "went to its safe values by itself" in eventually(lambda: linked.of(ev.LinkLost))[0].reason
    assert not of_kind(linked.said[before:], ev.Confirmed)
    eventually(lambda: len(linked.of(ev.LinkUp)) == 2)
    board.tell("reset")
    assert "has been reset (its supply dipped)" in eventually(lambda: linked.of(ev.LinkLost)[1:])[0].reason
    linked.link.close()
    board.end()


@given(st.integers(0, 65535), st.floats(0, 200_000), st.floats(0, 0.9))
def test_seconds_that_wrap_are_no_reset_and_a_reset_is_one(before: int, passed: float, ahead: float) -> None:
    """A board of version 1.0 tells 16 bits of seconds: every 18.2 hours they begin anew."""
    link = link_to(Board("b", "modbus", None, 32, facts=Modbus("x", 1, None)))
    link._ask = lambda *_, **__: [4]  # type: ignore[method-assign, assignment]
    link._life, link._seen = (before, 0), time.monotonic() - passed
    link._same_life((int(before + passed + ahead) & 65535, 0))
    link._life, link._seen = (100 + before % 65_000, 0), time.monotonic() - passed % 30
    with pytest.raises(BoardError, match=r"has been reset \(its supply dipped\)"):
        link._same_life((int(passed % 30 * ahead), 0))


def test_unplugged_and_plugged_in_again_under_the_same_name(tmp_path: Path) -> None:
    port = tmp_path / "adapter"
    board = emulated.native()
    port.symlink_to(board.port)
    linked = Linked(str(port))
    assert linked.of(ev.LinkUp)
    board.end()
    assert "has gone" in eventually(lambda: linked.of(ev.LinkLost), within=8)[0].reason
    board = emulated.native()
    port.unlink()
    port.symlink_to(board.port)
    eventually(lambda: len(linked.of(ev.LinkUp)) == 2, within=8)
    linked.link.drive([ev.Drive("relay", 1, ON)])
    eventually(lambda: linked.settings().get("relay") == ON)
    linked.link.close()
    board.end()


def test_only_what_is_wired_wrongly_is_at_fault(chip: emulated.Board) -> None:
    """Another frequency at one timer, PWM and a pull where there are none: the others are set up, and work."""
    other = Output("other", "lamp", Pin("b", 29), frequency=Fraction(400))
    plain = Output("plain", "lamp", Pin("b", 22), frequency=Fraction(400))
    low = Input("low", "contact", Pin("b", 21), pull="down")
    linked = Linked(chip.port, [*OUTPUTS, other, plain], [*INPUTS, low])
    (up,) = linked.of(ev.LinkUp)
    assert dict(up.readings) == {"relay": OFF, "lamp": OFF}
    names = ("relay", "lamp", "other", "plain")
    linked.link.drive([ev.Drive(name, 1, ON if name == "relay" else Level(500_000)) for name in names])
    eventually(lambda: len(linked.of(ev.Failed)) == 2 and len(linked.of(ev.Confirmed)) >= 2)
    why = {event.output: event.reason for event in linked.of(ev.Failed)}
    assert "other and lamp share a timer, and so one frequency" in why["other"]
    assert (
        "line 22 of b, which plain is wired to, cannot do that. Lines that can: 14, 15, 28, 29"
        in why["plain"]
    )
    assert linked.settings() == {"relay": ON, "lamp": Level(500_000)}
    assert [event.active for event in linked.of(ev.InputSeen) if event.input == "low"] == [None]
    eventually(
        lambda: any(event.active is not None for event in linked.of(ev.InputSeen) if event.input == "button")
    )
    assert not linked.of(ev.LinkLost)
    linked.link.close()


def test_a_board_that_starts_when_its_port_is_opened_is_waited_for_no_longer_than_it_takes() -> None:
    board = emulated.native()
    board.ask("mute 1")
    linked = Linked(board.port, within=1.5)
    assert linked.said == [], (
        "neither up nor lost: the port stays open, for opening it anew would start the board anew"
    )
    board.ask("mute 0")
    eventually(lambda: linked.of(ev.LinkUp))
    assert linked.of(ev.LinkLost) == []
    linked.link.close()
    board.end()


def test_a_port_by_its_usb_serial_number(monkeypatch: pytest.MonkeyPatch) -> None:
    from serial.tools import list_ports
    from serial.tools.list_ports_common import ListPortInfo

    adapter = ListPortInfo("/dev/ttyUSB3", skip_link_detection=True)
    adapter.serial_number, adapter.vid = "A50285BI", 0x0403
    monkeypatch.setattr(list_ports, "comports", lambda: [adapter])
    assert serialports.find("usb:A50285BI") == "/dev/ttyUSB3"
    with pytest.raises(BoardError, match="USB serial number B7") as caught:
        serialports.find("usb:B7")
    assert "/dev/ttyUSB3 (usb:A50285BI)" in caught.value.remedy


def test_several_boards_on_one_line_and_a_port_that_is_not_there() -> None:
    away = Linked("/dev/ttyUSB77")
    assert "no serial port /dev/ttyUSB77" in away.of(ev.LinkLost)[0].reason
    assert "Ports here:" in away.of(ev.LinkLost)[0].reason
    away.link.close()
    board = emulated.native(unit=5)
    five, six = (Linked(board.port, unit=unit, watchdog=2_000_000_000) for unit in (5, 6))
    assert five.of(ev.LinkUp)
    eventually(lambda: six.of(ev.LinkLost), within=8)
    assert "unit 6 on" in six.of(ev.LinkLost)[0].reason

    def told() -> bool:
        """As the engine does: again, if a lost link has dropped the order."""
        five.link.drive([ev.Drive("relay", 1, ON)])
        time.sleep(0.2)
        return five.settings().get("relay") == ON

    eventually(told)
    board.ask("mute 1")
    eventually(lambda: not five.up, within=8)
    board.ask("mute 0")
    eventually(lambda: five.up, within=8)
    five.link.close()
    six.link.close()
    board.end()


def test_a_slow_line() -> None:
    chip = emulated.emulated(9600)
    host = Host(chip.port, 9600)
    host.write(MODE + RELAY, OUTPUT)
    host.client.write_coil(RELAY, True, device_id=1)
    assert chip.pin(RELAY)
    host.client.close()
    chip.end()


def test_a_feeder_whose_frames_come_to_nothing_does_not_spin() -> None:
    """As where the adapter has been pulled out, and its link has not noticed yet."""
    fed: list[float] = []
    began = time.monotonic()
    feeder = Feeder(
        "b", 0.4, alive=lambda: True, heard=lambda: began - 1, feed=lambda: fed.append(time.monotonic())
    )
    eventually(lambda: len(fed) > 3)
    feeder.end()
    assert len(fed) <= (fed[-1] - fed[0]) / (0.4 / 16) + 2, "it rests between them"
