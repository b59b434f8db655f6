"""Rows of the links: a serial line, the kernel's lines, a chain on two wires. What they need is built or said to be missing."""

from __future__ import annotations

import json
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import serial
from tests.boards import emulated
from tests.conftest import LAB, ROOT, eventually, of_kind

from bench.table import Row, amount, in_turns, measures
from cairnwind.boards import profiles
from cairnwind.boards.links.expander import Expander, ExpanderLink
from cairnwind.boards.links.modbus import link_to
from cairnwind.boards.master import Modbus
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.values.settings import OFF, ON
from cairnwind.service.startup import clock

ALL = bytes.fromhex("01040010000A71C8")
"""Read input registers 16 to 25 of unit 1: everything back."""
ANSWER = 25
BITS = 10


@measures("serial round trip")
def round_trip() -> list[Row]:
    """Our link's read of everything, against the same bytes written and read bare on the same pseudo-terminal."""
    chip = emulated.emulated()
    link = opened(chip.port, 115_200, [])

    def ours() -> float:
        return timed(lambda: link._ask("read_input_registers", 16, count=10, quiet=True))

    def bare() -> float:
        with serial.Serial(chip.port, 115_200, timeout=1) as line:

            def once() -> None:
                line.write(ALL)
                assert len(line.read(ANSWER)) == ANSWER
                time.sleep(0.002)  # the silence between frames, which the link keeps in its own way

            return timed(once) - 0.002

    with link._line.turn:  # the link's own polling rests while we measure
        pass
    link.poll = lambda seconds: time.sleep(0.05)  # type: ignore[method-assign]
    found, reference = in_turns(5, ours, bare)
    link.close()
    chip.end()
    return [
        Row(
            "serial round trip, all read back at 115200",
            found * 1e3,
            "ms",
            reference * 1e3,
            found / reference,
            "reported",
        )
    ]


def timed(action: Any, count: int = amount(60, 5)) -> float:
    """Seconds of one."""
    begin = time.perf_counter()
    for _ in range(count):
        action()
    return (time.perf_counter() - begin) / count


def opened(port: str, baud: int, inputs: list[Input]) -> Any:
    """A link to the emulated chip, up."""
    link: Any = link_to(Board("b", "modbus", None, 32, facts=Modbus(port, 1, None, baud)))
    link.open([], inputs, lambda event: None, clock, lambda: True)
    assert link.ready(10)
    return link


@measures("serial polling")
def polling() -> list[Row]:
    """Full read-backs a second with inputs to watch, against what the line could carry at most."""
    rows = []
    for baud, bar in ((9600, 0.0), (115_200, 50.0)):
        chip = emulated.emulated(baud)
        link = opened(chip.port, baud, [Input("button", "contact", Pin("b", 20))])
        time.sleep(0.5)
        before = link.traffic.rounds
        span = amount(4.0, 0.5)
        time.sleep(span)
        rate = (link.traffic.rounds - before) / span
        link.close()
        chip.end()
        silence = max(0.00175, 38.5 / baud)
        most = 1 / ((len(ALL) + ANSWER) * BITS / baud + 2 * silence)
        rows.append(
            Row(
                f"serial polling at {baud}, all read back", rate, "a second", most, rate / most,
                "at least 50 a second" if bar else "reported", rate >= bar if bar else None,
            )
        )  # fmt: skip
    return rows


@measures("two wires")
def chain() -> list[Row]:
    """A full chain of eight 16-line boards: 'all on' from the orders to the last confirmation."""
    chip = profiles.chip("ports-16")
    links, confirmed = [], []
    for number in range(8):
        link = ExpanderLink(
            Board(f"b{number}", "expander", None, 16, facts=Expander(chip, "simulated", chip.address(number)))
        )
        outputs = [Output(f"x{line}", "relay", Pin(f"b{number}", line)) for line in range(16)]
        link.open(
            outputs,
            [],
            lambda event: confirmed.extend(of_kind([event], ev.Confirmed)),
            clock,
            lambda: True,
        )
        assert link.ready(5)
        links.append((link, outputs))

    def all_to(setting: Any) -> tuple[float, int]:
        confirmed.clear()
        before = sum(link.simulated.transactions for link, _ in links if link.simulated)
        begin = time.perf_counter()
        for link, outputs in links:
            link.drive([ev.Drive(output.name, 1, setting) for output in outputs])
        eventually(lambda: len(confirmed) == 128)
        spent = time.perf_counter() - begin
        return spent, sum(link.simulated.transactions for link, _ in links if link.simulated) - before

    counts, times = [], []
    for _ in range(5):
        for setting in (ON, OFF):
            spent, count = all_to(setting)
            times.append(spent)
            counts.append(count)
    for link, _ in links:
        link.close()
    return [
        Row("two wires, transactions for 'all on' of 8 boards (128 lines)", min(counts), "transactions", 8, min(counts) / 8, "reported; reference: one a board, not read back"),
        Row("two wires, 'all on' of 8 boards to the last confirmation", sorted(times)[5] * 1e3, "ms"),
    ]  # fmt: skip


INSIDE = """
import fcntl, json, os, statistics, time
from cairnwind.boards import gpio
from cairnwind.boards.links.kernel import KernelLink, SoftwarePwm
from cairnwind.boards.links.kernel import Kernel
from cairnwind.boards.wire import Put
from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.facts.outputs import Output
link = KernelLink(Board("b", "kernel", None, 32, facts=Kernel(os.environ["GPIO_SIM_CHIP"])))
link.outputs = {0: Output("x", "relay", Pin("b", 0))}
link.connect()
lines = link._held[0]
def ours(count=2000):
    begin = time.perf_counter()
    for number in range(count):
        link.put({0: Put(1_000_000 if number & 1 else 0)})
    return count / (time.perf_counter() - begin)
def bare(count=2000):
    begin = time.perf_counter()
    for number in range(count):
        fcntl.ioctl(lines.file, gpio.SET_VALUES, gpio._VALUES.pack(number & 1, 1))
        fcntl.ioctl(lines.file, gpio.GET_VALUES, gpio._VALUES.pack(0, 1))
    return count / (time.perf_counter() - begin)
rates = [(ours(), bare()) for _ in range(3)]
edges = []
real = lines.set
def noting(bits, mask):
    edges.append(time.monotonic()); real(bits, mask)
lines.set = noting
soft = SoftwarePwm(lines, 0)
soft.set(250_000, 100_000)
time.sleep(3)
soft.close()
rises = edges[0::2]
late = sorted(abs(b - a - 0.01) * 1e3 for a, b in zip(rises, rises[1:]))
link.disconnect()
print(json.dumps({"ours": statistics.median(r[0] for r in rates), "bare": statistics.median(r[1] for r in rates),
                  "p50": late[len(late) // 2], "p99": late[int(len(late) * 0.99)]}))
"""


@measures("kernel lines")
def kernel() -> list[Row]:
    """In the simulated kernel: set and read back through the link, against the two ioctls alone; software PWM's jitter."""
    if LAB is None:
        print("not measured: kernel lines need the simulated kernel (make kernel-lab)", file=sys.stderr)
        return []
    path = f"{Path(sys.executable).parent}:/usr/sbin:/usr/bin:/sbin:/bin"
    ran = subprocess.run(
        [LAB / "run-in-kernel.sh", "-C", ROOT, "-e", f"PATH={path}", "--", sys.executable, "-c", INSIDE],
        capture_output=True, text=True, check=True,
    )  # fmt: skip
    found = json.loads(ran.stdout.splitlines()[-1])
    return [
        Row(
            "kernel lines, toggles a second, read back",
            found["ours"],
            "a second",
            found["bare"],
            found["ours"] / found["bare"],
            "reported",
        ),
        Row("software PWM at 100 Hz, period off by, median", found["p50"], "ms"),
        Row("software PWM at 100 Hz, period off by, p99", found["p99"], "ms"),
    ]
