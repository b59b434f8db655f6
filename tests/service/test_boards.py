"""Boards over HTTP: what is listed, trials with their ends, analogue inputs, the wire, links that are lost."""

from __future__ import annotations

import signal
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from cairnwind.core.values.errors import CallerError
from tests.boards import emulated
from tests.conftest import SITE, Running, eventually, spawn

MORE = """
[board.chain]
link = "expander"
chip = "ports-8"
bus = "simulated"

[output.fan]
kind = "fan"
pin = "near:J2-6"
frequency = "25 kHz"

[output.extractor]
kind = "relay"
pin = "chain:line-2"

[input.lid]
kind = "contact"
pin = "chain:line-6"

[input.heat]
kind = "analogue"
pin = "near:J3-10"
unit = "°C"
scale = [["0 V", 0], ["3.3 V", 330]]
"""


@pytest.fixture
def bench(tmp_path: Path) -> Iterator[Running]:
    found = Running(tmp_path, SITE + MORE)
    yield found
    if found.service.runtime.alive:
        found.end()


def test_both_numbers_functions_users_and_levels(bench: Running) -> None:
    bench.site.turn("vent", "on")
    pins = {pin["position"]: pin for pin in bench.site.pins("near")}
    assert len(pins) == 34
    vent = pins["J2-9"]
    assert (vent["line"], vent["user"], vent["high"], vent["power_on"]) == (41, "output vent", 0, "pull-up")
    assert pins["J2-14"]["can"] == ["pwm", "tone"]
    assert pins["J2-14"]["timer"] == "T0"
    assert (pins["J2-1"]["role"], pins["J2-1"]["line"]) == ("5 V", None)
    assert [pin["pin"] for pin in bench.site.pins("chain")] == [f"chain:line-{n}" for n in range(8)]
    board = bench.site.board("chain")
    assert board["facts"] == {"chip": "ports-8", "bus": "simulated", "address": 0x38, "switches": [False] * 3}
    assert board["confirms"] == "read back"
    with pytest.raises(CallerError, match="no board called 'chian'"):
        bench.site.pins("chian")


def test_a_trial_is_a_lease_that_reads_back_and_ends(bench: Running) -> None:
    link = bench.link()
    tried = bench.site.try_pin("near:line-14", "pwm", frequency="800 Hz", duty="25 %", lease="1 s")
    assert (tried["pin"], tried["line"]) == ("near:J2-10", 14)
    assert tried["trial"]["reading"]["high"] == 25
    assert link.pins[14] == 250_000
    assert (
        next(pin for pin in bench.site.pins("near") if pin["line"] == 14)["trial"]["text"]
        == "pwm, 25 % high at 800 Hz"
    )
    before = bench.site.journal(limit=1)[0]["sequence"]
    for _ in range(4):
        time.sleep(0.4)
        bench.site.try_pin("near:J2-10", "pwm", frequency="800 Hz", duty="25 %", lease="1 s")
    assert bench.site.journal(limit=1)[0]["sequence"] == before, "renewing is not worth a row"
    eventually(lambda: 14 not in link.pins)
    # the pin moves to safe first; its row is committed after that
    eventually(lambda: "whoever tried it did not renew it" in bench.site.journal("near:J2-10")[0]["text"])
    bench.site.try_pin("near:J3-2", "count", pull="up")
    for high in (True, False, True):
        link.put_level(9, high)
    assert bench.site.try_pin("near:J3-2", "count", pull="up")["trial"]["reading"]["count"] in (2, 3)
    bench.site.end_try("near:J3-2")
    assert link.reading(9) == {}


@pytest.mark.parametrize(
    ("pin", "mode", "how", "said"),
    [
        ("near:J2-9", "output", {}, "near:J2-9 (line 41) belongs to output vent"),
        ("near:J3-4", "input", {}, "belongs to input door"),
        ("near:J2-3", "pwm", {"frequency": "1 kHz", "duty": "5 %"}, "has no PWM"),
        ("near:J2-3", "analogue", {}, "has no analogue input"),
        (
            "near:J2-15",
            "pwm",
            {"frequency": "1 kHz", "duty": "5 %"},
            "shares timer T0 with gallery, and so one frequency: 800 Hz",
        ),
        ("near:J2-14", "pwm", {"frequency": "25 kHz", "duty": "300 %"}, "outside 0 to 100 %"),
        ("near:J2-19", "output", {}, "is 3.3 V, not a line"),
        ("near:9", "output", {}, "9 alone is not a pin"),
        ("near:J2-3", "dance", {}, "'dance' is not a way to try a pin"),
        ("near:J2-3", "input", {"pull": "sideways"}, "'sideways' is not a pull"),
        ("chain:line-3", "tone", {"frequency": "440 Hz"}, "has no PWM"),
        ("far:line-12", "output", {}, "Board far has no line 12"),
    ],
)
def test_what_may_not_be_tried(pin: str, mode: str, how: dict[str, str], said: str, bench: Running) -> None:
    with pytest.raises(CallerError) as caught:
        bench.site.try_pin(pin, mode, **how)
    assert said in caught.value.sentence


def test_no_trial_outlives_an_all_stop_a_lost_link_or_the_service(bench: Running) -> None:
    link = bench.link()
    bench.site.try_pin("near:J2-3", "output", level="high", lease="60 s")
    assert link.pins[30] == 1_000_000
    bench.site.stop()
    eventually(lambda: 30 not in link.pins)
    with pytest.raises(CallerError, match="all-stop"):
        bench.site.try_pin("near:J2-3", "output", level="high")
    bench.site.reset_stop()
    bench.site.try_pin("near:J2-3", "output", level="high", lease="60 s")
    link.unplug()
    with pytest.raises(Exception, match="does not answer"):
        bench.site.try_pin("near:J2-3", "output", level="high")
    link.plug()
    bench.site.try_pin("near:J2-3", "output", level="high", lease="60 s")
    bench.end()
    assert 30 not in link.pins


def test_frequency_and_duty_of_an_owned_output_are_tried_live(bench: Running) -> None:
    tried = bench.site.try_pin("near:J2-6", "pwm", frequency="10 kHz", duty="20 %", lease="1500 ms")
    assert tried["output"] == "fan"
    assert tried["trial"]["reading"]["high"] == 20
    assert bench.site.output("fan")["confirmed"]["words"] == "20 % duty at 10 kHz"
    bench.site.try_pin("near:J2-6", "pwm", frequency="12 kHz", duty="30 %", lease="1500 ms")
    assert bench.site.output("fan")["confirmed"]["words"] == "30 % duty at 12 kHz"
    eventually(lambda: bench.site.output("fan")["confirmed"]["level"] == 0)
    bench.site.lock("fan", "red")
    with pytest.raises(CallerError, match="locked out by tag 'red'"):
        bench.site.try_pin("near:J2-6", "pwm", frequency="10 kHz", duty="20 %")


def test_analogue_inputs_pretended_states_and_the_wire(bench: Running) -> None:
    bench.site.pretend("heat", "1.65 V")
    heat = eventually(
        lambda: next((each for each in bench.site.inputs() if each["name"] == "heat" and each["volts"]), None)
    )
    assert heat["state"] == "165 °C"
    assert (heat["raw"], heat["full"]) == (2048, 4095)
    bench.site.pretend("lid", "open")
    eventually(lambda: next(each for each in bench.site.inputs() if each["name"] == "lid")["state"] == "open")
    with pytest.raises(CallerError, match="'ajar' is not a state of lid"):
        bench.site.pretend("lid", "ajar")
    last = bench.site.traffic("chain")["frames"][-1]["number"]
    bench.site.turn("extractor", "on")
    frames = bench.site.traffic("chain", after=last)["frames"]
    assert any(frame["raw"] == "01 ff" and frame["way"] == "sent" for frame in frames), frames
    chain = bench.service.machine.links["chain"]
    chain.simulated.there = False  # type: ignore[attr-defined]
    eventually(lambda: bench.site.output("extractor")["state"] == "unreachable")
    assert next(each for each in bench.site.inputs() if each["name"] == "lid")["state"] == "unknown"
    assert bench.site.turn("vent", "on").ending == "confirmed", "another board goes on as before"
    chain.simulated.there = True  # type: ignore[attr-defined]
    eventually(
        lambda: (
            bench.site.output("extractor")["confirmed"] and bench.site.output("extractor")["confirmed"]["on"]
        )
    )


def test_a_link_that_fails_is_told_and_taken_up_again(bench: Running) -> None:
    chain = bench.service.machine.links["chain"]
    poll = chain.poll  # type: ignore[attr-defined]
    chain.poll = lambda seconds: 1 / 0  # type: ignore[attr-defined]
    eventually(lambda: "ZeroDivisionError" in bench.site.board("chain")["reason"])
    assert bench.site.board("chain")["errors"] > 0
    chain.poll = poll  # type: ignore[attr-defined]
    eventually(lambda: bench.site.board("chain")["up"])


BUSY = """
site = "A busy machine"
timezone = "Europe/London"

[board.box]
link = "modbus"
port = "{port}"
watchdog = "1 s"

[output.pump]
kind = "relay"
pin = "box:line-16"

[input.float]
kind = "contact"
pin = "box:line-20"
pull = "up"
"""


def test_a_board_is_fed_however_busy_the_machine_is(tmp_path: Path) -> None:
    """Both cores computing, and threads beside the link's own that want the interpreter as well: nothing is thrown off."""
    board = emulated.native()
    running = Running(tmp_path, BUSY.format(port=board.port))
    running.site.turn("pump", "on")
    over = threading.Event()

    def compute() -> None:
        while not over.is_set():
            sum(range(20_000))

    others = [spawn(sys.executable, "-c", "while True: pass") for _ in range(4)]
    for _ in range(3):
        threading.Thread(target=compute).start()
    try:
        time.sleep(6)
    finally:
        over.set()
        for each in others:
            each.kill()
            each.wait()
    link = running.service.machine.links["box"]
    before = eventually(lambda: link.traffic.rounds)
    board.process.send_signal(signal.SIGSTOP)  # the board's own program is not run for a while
    time.sleep(1)
    board.process.send_signal(signal.SIGCONT)
    eventually(lambda: link.traffic.rounds > before + 50)
    running.site.turn("pump", "off")
    eventually(lambda: board.of("pin")[-1] == ["pin", "16", "0"])
    assert [row["text"] for row in running.site.journal(kind="link")] == ["board box answers"]
    assert [each[2] for each in board.of("pin")] == ["0", "65535", "0"], "it never went to safe by itself"
    running.end()
    board.end()
