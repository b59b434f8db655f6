"""Rows of light and sound: lamps that fade, writes that are saved, notes in time, the store of waveforms."""

from __future__ import annotations

import statistics
import tempfile
import time
from collections import deque
from fractions import Fraction
from pathlib import Path

from bench.process import _used
from bench.table import Row, amount, in_turns, measures
from cairnwind.boards.links.simulated import SimulatedLink
from cairnwind.client import Site as Client
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import PERSON, TAKEOVER, Instant, Rank, Source
from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.physics import programs, sound
from cairnwind.core.physics.light import LIGHTNESS
from cairnwind.core.physics.programs import STEP
from cairnwind.core.values.quantities import NS
from cairnwind.core.values.settings import FULL, Level, Tone
from cairnwind.folder import Folder
from cairnwind.service.serve import Service
from cairnwind.service.signals import Signals
from cairnwind.site import read_site

LAMPS = 64
SECONDS = amount(5.0, 1.5)


def site_of(lamps: int) -> str:
    """A site file with so many dimmed lamps."""
    head = f'site = "lamps"\n[board.b]\nlink = "simulated"\nlines = {lamps}\n'
    return head + "".join(
        f'[output.l{number}]\nkind = "lamp"\npin = "b:line-{number}"\nfrequency = "1.5 kHz"\n'
        for number in range(lamps)
    )


@measures("64 lamps fading")
def fading() -> list[Row]:
    """The processor time of the whole service, simulated board and journal included, while all lamps breathe."""
    import subprocess
    import sys

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "site.toml"
        path.write_text(site_of(LAMPS))
        command = [
            sys.executable,
            "-m",
            "cairnwind",
            "serve",
            str(path),
            "--state",
            f"{folder}/state",
            "--port",
            "0",
        ]
        process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        try:
            while not (Path(folder) / "state" / "address").exists():
                time.sleep(0.05)
            client = Client(state=f"{folder}/state")
            names = [each["name"] for each in client.outputs()]
            time.sleep(1)
            idle = share(process.pid, amount(2.0, 0.2))
            client.run(names, {"kind": "breathe", "in": "4 s"})
            time.sleep(0.5)
            busy = share(process.pid, SECONDS)
            rows = client.signals(names, seconds=SECONDS - 1)["signals"]
            writes = sum(len(each["times"]) for each in rows) / (SECONDS - 1)
        finally:
            process.terminate()
            process.wait()
    bare = share_of_bare(SECONDS)
    return [
        Row(
            "64 lamps fading, share of one core",
            busy - idle,
            "%",
            bare,
            (busy - idle) / bare,
            "< 6 %",
            busy - idle < 6,
        ),
        Row(
            "64 lamps fading, writes that change a count",
            writes,
            "writes/s",
            LAMPS * 50.0,
            writes / LAMPS / 50,
            "<= 50 a lamp",
            writes <= LAMPS * 51,
        ),
    ]


def share(pid: int, seconds: float) -> float:
    """Percent of one core that a process uses."""
    begin, used = time.monotonic(), _used(pid)
    time.sleep(seconds)
    return (_used(pid) - used) / (time.monotonic() - begin) * 100


def share_of_bare(seconds: float) -> float:
    """Percent of one core of the least that could be done: 50 times a second, 64 curves and a dictionary."""
    end, used = time.monotonic() + seconds, time.process_time()
    pins: dict[int, int] = {}
    step = 0
    while time.monotonic() < end:
        step += 1
        for lamp in range(LAMPS):
            pins[lamp] = LIGHTNESS.duty(step * 100 % FULL)
        time.sleep(0.02)
    return (time.process_time() - used) / seconds * 100


@measures("writes saved")
def saved() -> list[Row]:
    """A slow fade writes when the timer's count changes, not 50 times a second."""
    lamp = Output("l", "lamp", Pin("b", 0), frequency=Fraction(1500), light=LIGHTNESS, steps=255)
    fade = programs.ramp(Level(0), Level(FULL), 300 * NS)
    writes = sum(1 for _ in programs.changes(fade, lamp.counts, 300 * NS))
    sampled = 300 * NS // STEP
    return [
        Row(
            "writes saved, fade over 5 min on 8 bits",
            float(writes),
            "writes",
            float(sampled),
            writes / sampled,
        )
    ]


@measures("waveform store")
def store() -> list[Row]:
    """Rows a second into the waveform store, as the engine's thread notes them, against appending to a deque."""
    outputs = {
        f"l{n}": Output(f"l{n}", "lamp", Pin("b", n), frequency=Fraction(1500), light=LIGHTNESS, steps=36_000)
        for n in range(LAMPS)
    }
    site = Site("s", boards={"b": Board("b", "simulated", line_count=LAMPS)}, outputs=outputs)
    events = [
        ev.Confirmed(Instant(n * 20_000_000, n * 20_000_000), f"l{n % LAMPS}", 1, Level(n * 7919 % FULL))
        for n in range(amount(50_000, 500))
    ]

    def ours() -> float:
        signals = Signals(site)
        begin = time.perf_counter()
        for event in events:
            signals.note(event)
        return len(events) / (time.perf_counter() - begin)

    def bare() -> float:
        kept: dict[str, deque[tuple[int, int]]] = {name: deque(maxlen=8192) for name in outputs}
        begin = time.perf_counter()
        for event in events:
            kept[event.output].append((event.at.mono, event.setting.parts))  # type: ignore[union-attr]
        return len(events) / (time.perf_counter() - begin)

    rate, reference = in_turns(3, ours, bare)
    return [Row("waveform store", rate, "rows/s", reference, rate / reference)]


@measures("note timing")
def notes() -> list[Row]:
    """How late the notes of a tune reach the pin of a simulated board, measured at the pin."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "site.toml"
        path.write_text(
            'site = "s"\n[board.b]\nlink = "simulated"\nmap = "header-34"\n[output.bell]\nkind = "sounder"\npin = "b:J2-8"\n'
        )
        service = Service(read_site(path), Folder(Path(folder) / "state"), 0)
        service.start()
        try:
            link = service.machine.links["b"]
            assert isinstance(link, SimulatedLink)
            tune = sound.tune([[440 + 10 * (n % 30), 0.05] for n in range(amount(100, 10))])
            seen: list[tuple[int, int]] = []
            link.watchers.append(
                lambda line, level: seen.append((time.monotonic_ns(), link.hertz[line] if level else 0))
            )
            at = service.machine.report
            now = Instant(time.monotonic_ns(), time.time_ns())
            at(ev.Wish(now, "c", Source("bench"), "bell", tune, Rank.PERSON, PERSON, TAKEOVER))
            time.sleep((tune.length or 0) / NS + 0.3)
        finally:
            service.stop()
    late, t, moves = [], now.mono, iter(seen)
    for segment in tune.segments:
        assert isinstance(segment.end, Tone)
        there = next((at for at, hertz in moves if hertz == segment.end.millihertz), t)
        late.append((there - t) / 1e6)
        t += segment.length
    late.sort()
    return [
        Row("note timing, late at the pin, median", statistics.median(late), "ms"),
        Row("note timing, late at the pin, p99", late[int(len(late) * 0.99) - 1], "ms"),
    ]
