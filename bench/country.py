"""Two hundred sites at one broker, twenty thousand outputs: what they cost it, and how long what one wants of another takes.

Half of them have 200 outputs each, the other half use those as a board. What they say to each other is said by the product's own code; what stands
behind it is a stand-in (an output that is at once what it is told), for two hundred services would measure this machine.
"""

from __future__ import annotations

import json
import os
import random
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import paho.mqtt.client as mqtt
from paho.mqtt.enums import CallbackAPIVersion

from bench.table import BRIEF, Row, amount, measures
from cairnwind.boards.facts import Broker
from cairnwind.boards.links.site import OtherSite, SiteLink
from cairnwind.core.engine.loop import Engine
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Rank, Source
from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.facts.outputs import Output
from cairnwind.core.values import jsontext
from cairnwind.core.values.settings import OFF, ON, Level
from cairnwind.remotes.othersite import SiteRemote
from cairnwind.service.shapes import output_form
from cairnwind.service.startup import clock
from cairnwind.site import read_text
from cairnwind.site.remotes import OtherSite as Peer

PAIRS, EACH = amount(100, 4), amount(200, 5)
"""Pairs of sites, and outputs of each that has some."""
WORKERS = amount(4, 1)
REST, BUSY = amount(20.0, 2.0), amount(20.0, 2.0)
"""Seconds."""
WORDS = "a stone in every yard"


class _StandIn:
    """What stands behind a site that has outputs: each is at once what it is told."""

    def __init__(self, name: str, each: int) -> None:
        self.at: dict[str, Level] = {f"lamp-{number}": OFF for number in range(each)}
        self.site = SimpleNamespace(name=name, outputs=dict.fromkeys(self.at), inputs={})
        self._takes: list[Callable[[Any, Any], None]] = []

    def barred(self, key: str) -> str:
        return ""

    def uses(self, key: str, come_from: str) -> None:
        return

    def source(self, surface: str, key: str) -> Source:
        return Source(surface, key)

    def causes(self, kind: str, name: str) -> tuple[str, ...]:
        return ()

    def claimed(self, output: str, slot: str = "") -> int:
        return 1

    def renew(self, source: Source, output: str, slot: str, told: Any) -> None:
        told({"outcome": "driving", "code": ""})

    def keep(
        self, source: Source, output: str, value: Any, slot: str, span: int, told: Any, **more: Any
    ) -> None:
        self.at[output] = ON if value == "on" else OFF
        told({"outcome": "driving", "code": "", "reason": ""})

    def release(self, source: Source, output: str, told: Any, slot: str = "") -> None:
        self.at[output] = OFF
        told({"outcome": "driving", "code": "", "reason": ""})

    def output_now(self, name: str) -> Any:
        return SimpleNamespace(
            confirmed=self.at[name],
            state="confirmed",
            leader=None,
            refusal=None,
            keeping=None,
            link="",
            fault="",
            failure="",
        )

    def listen(self, take: Any) -> None:
        self._takes.append(take)

    def ignore(self, take: Any) -> None:
        self._takes.clear()


class _Taker:
    """A site that uses another's outputs, and notes how long each order takes until it is confirmed there."""

    def __init__(self, broker: Broker, number: int) -> None:
        takes = tuple(f"lamp-{each}" for each in range(EACH))
        facts = OtherSite(site=f"Yard {number}", takes=takes, secret="words")
        self.link = SiteLink(
            Board("yard", "site", None, EACH, facts=facts), broker, f"House {number}", lambda name: WORDS
        )
        self.outputs = [
            Output(name, "lamp", Pin("yard", line), levels=True) for line, name in enumerate(takes)
        ]
        self.sent: dict[tuple[str, int], float] = {}
        self.took: list[float] = []
        self.up = threading.Event()
        self._generation = 0
        self.link.open(self.outputs, [], self._hear, clock, lambda: True)

    def _hear(self, event: ev.Event) -> None:
        for each in event.all if isinstance(event, ev.Answers) else (event,):
            if isinstance(each, ev.Confirmed):
                then = self.sent.pop((each.output, each.generation), None)
                if then is not None:
                    self.took.append(time.monotonic() - then)
            elif isinstance(each, ev.LinkUp):
                self.up.set()
            elif isinstance(each, ev.LinkLost):
                self.up.clear()

    def turn(self, chance: random.Random) -> None:
        self._generation += 1
        name = f"lamp-{chance.randrange(EACH)}"
        self.sent[name, self._generation] = time.monotonic()
        self.link.drive([ev.Drive(name, self._generation, chance.choice((ON, OFF)))])


def work(port: int, first: int, pairs: int) -> None:
    """One process of them: does what it reads, a line each, and answers in one."""
    broker = Broker("127.0.0.1", port)
    owners: list[SiteRemote] = []
    takers: list[_Taker] = []
    for number in range(first, first + pairs):
        desk: Any = _StandIn(f"Yard {number}", EACH)
        owners.append(
            SiteRemote(
                desk,
                Peer("house", f"House {number}", "key", "words", Rank.REFLEX),
                broker,
                lambda name: WORDS,
            )
        )
        owners[-1].start()
        takers.append(_Taker(broker, number))
    chance = random.Random(first)
    for line in sys.stdin:
        word, _, seconds = line.strip().partition(" ")
        answer: Any = None
        if word == "up":
            end = time.monotonic() + 120
            answer = sum(each.up.wait(max(0.0, end - time.monotonic())) for each in takers)
        elif word == "busy":
            end = time.monotonic() + float(seconds)
            while time.monotonic() < end:  # each of them turns something once a second
                for taker in takers:
                    taker.turn(chance)
                    time.sleep(1 / pairs)
            time.sleep(2)
            answer = [round(took * 1000, 2) for taker in takers for took in taker.took]
        elif word == "end":
            break
        print(json.dumps(answer), flush=True)
    os._exit(0)  # a hundred threads need not be waited for


def _state() -> bytes:
    """What a site leaves at the broker of one output."""
    site = read_text(
        'site = "A"\n[board.b]\nlink = "simulated"\nlines = 2\n[output.lamp]\nkind = "lamp"\npin = "b:line-0"\n',
        "site.toml",
    )
    return jsontext.write(output_form(Engine(site).output_now("lamp")))


class _Watched:
    """A broker, what it counts, and what it takes of the machine."""

    def __init__(self, folder: Path, port: int) -> None:
        self.port = port
        self.file = folder / "broker.conf"
        self.file.write_text(
            f"listener {port} 127.0.0.1\nallow_anonymous true\nsys_interval 1\nset_tcp_nodelay true\nmax_queued_messages 100000\n"
        )
        self.start()

    def start(self) -> None:
        self.process = subprocess.Popen(
            ["mosquitto", "-c", self.file], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        self.counts: dict[str, float] = {}
        self.client = mqtt.Client(CallbackAPIVersion.VERSION2)
        self.client.on_message = self._count
        while True:
            try:
                self.client.connect("127.0.0.1", self.port)
                break
            except OSError:
                time.sleep(0.05)
        self.client.subscribe("$SYS/broker/#")
        self.client.loop_start()

    def _count(self, client: Any, data: Any, message: Any) -> None:
        try:
            self.counts[message.topic.removeprefix("$SYS/broker/")] = float(message.payload.split()[0])
        except (ValueError, IndexError):
            pass

    def of_the_machine(self) -> tuple[float, float]:
        """Seconds of the processor so far, and megabytes."""
        fields = Path(f"/proc/{self.process.pid}/stat").read_text().rpartition(")")[2].split()
        ticks = os.sysconf("SC_CLK_TCK")
        pages = int(Path(f"/proc/{self.process.pid}/statm").read_text().split()[1])
        return (int(fields[11]) + int(fields[12])) / ticks, pages * os.sysconf("SC_PAGE_SIZE") / 1e6

    def during(self, what: Callable[[], Any]) -> tuple[Any, float, float, float]:
        """What something answers; messages and kilobytes a second through the broker meanwhile, and how much of a core it took."""
        time.sleep(1.1)
        before, spent, then = dict(self.counts), self.of_the_machine()[0], time.monotonic()
        answer = what()
        time.sleep(1.1)
        after, took = dict(self.counts), time.monotonic() - then
        share = (self.of_the_machine()[0] - spent) / took

        def rate(*names: str) -> float:
            return sum(after.get(name, 0) - before.get(name, 0) for name in names) / took

        return (
            answer,
            rate("messages/received", "messages/sent"),
            rate("bytes/received", "bytes/sent") / 1000,
            share,
        )

    def end(self) -> None:
        self.client.loop_stop()
        self.process.kill()
        self.process.wait()


class _Crowd:
    """All sites, in a few processes."""

    def __init__(self, port: int) -> None:
        share = PAIRS // WORKERS
        self.all = [
            subprocess.Popen(
                [sys.executable, "-m", "bench.country", str(port), str(number * share), str(share)],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                text=True,
            )
            for number in range(WORKERS)
        ]

    def ask(self, line: str) -> list[Any]:
        for each in self.all:
            assert each.stdin is not None
            print(line, file=each.stdin, flush=True)
        return [json.loads(each.stdout.readline()) for each in self.all if each.stdout is not None]

    def end(self) -> None:
        for each in self.all:
            each.kill()
            each.wait()


@measures("country")
def country() -> list[Row]:
    """All of it at one broker."""
    from tests.conftest import free_port

    name = f"country, {2 * PAIRS} sites, {PAIRS * EACH:,} outputs"
    with tempfile.TemporaryDirectory() as folder:
        broker = _Watched(Path(folder), free_port())
        empty = broker.of_the_machine()[1]
        state = _state()
        for number in range(PAIRS):
            for each in range(EACH):
                broker.client.publish(
                    f"cairnwind/yard-{number}/out/lamp-{each}/now", state, qos=1, retain=True
                )
        while broker.client.want_write() or broker.counts.get("retained messages/count", 0) < PAIRS * EACH:
            time.sleep(0.1)
        full = broker.of_the_machine()[1]
        crowd = _Crowd(broker.port)
        try:
            assert sum(crowd.ask("up")) == PAIRS
            rest = broker.during(lambda: time.sleep(REST))
            busy = broker.during(lambda: crowd.ask(f"busy {BUSY}"))
            took = sorted(each for part in busy[0] for each in part)
            memory = broker.of_the_machine()[1]
            broker.end()
            time.sleep(amount(8.0, 0.0))
            broker.start()
            began = time.monotonic()
            time.sleep(amount(3.0, 0.5))
            back = sum(crowd.ask("up"))
            again = time.monotonic() - began
            assert back == PAIRS
        finally:
            crowd.end()
            broker.end()
    at = lambda share: took[min(len(took) - 1, round(share * len(took)))]  # noqa: E731
    return [
        Row(
            f"{name}: state left at the broker",
            full - empty,
            "MB",
            PAIRS * EACH * len(state) / 1e6,
            (full - empty) / (PAIRS * EACH * len(state) / 1e6),
        ),
        Row(f"{name}: the broker's memory with all of them", memory, "MB", empty, memory / empty),
        Row(f"{name}, at rest: messages through the broker", rest[1], "/s"),
        Row(f"{name}, at rest: bytes through the broker", rest[2], "kB/s"),
        Row(f"{name}, at rest: the broker", rest[3] * 100, "% of a core"),
        Row(f"{name}, {PAIRS} orders a second: messages through the broker", busy[1], "/s"),
        Row(f"{name}, {PAIRS} orders a second: the broker", busy[3] * 100, "% of a core"),
        Row(f"{name}, an order until it is confirmed, median", statistics.median(took), "ms"),
        Row(f"{name}, an order until it is confirmed, 95 of 100", at(0.95), "ms"),
        Row(
            f"{name}, an order until it is confirmed, 99 of 100",
            at(0.99),
            "ms",
            bar="< 250",
            holds=at(0.99) < 250 or BRIEF,
        ),
        Row(
            f"{name}, the broker killed and back: all are up again after",
            again,
            "s",
            bar="< 60",
            holds=again < 60,
        ),
    ]


if __name__ == "__main__":
    work(*(int(each) for each in sys.argv[1:4]))
