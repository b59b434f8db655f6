"""A service that is killed again and again while everybody commands it: ``python -m tests.power.kills 500``.

What was acknowledged, by whichever way in, is in the journal of the life after, and every start succeeds.
"""

from __future__ import annotations

import queue
import random
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from pymodbus.client import ModbusTcpClient
from pymodbus.exceptions import ConnectionException

from cairnwind.client import Site
from cairnwind.core.values.errors import Trouble
from tests.conftest import Process, free_port
from tests.mosquitto import Mosquitto
from tests.remotes.peers import WIRED, Broker, Host, Surface, every_way

WAYS = ("http", "broker", "line", "modbus", "surface")
LAST = 0.6
"""Seconds that a life lasts at most."""
WAIT = 0.5
"""Seconds that an answer is waited for."""


class House:
    """A site, its broker, and those who command it."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.state = folder, folder / "state"
        self.mosquitto, self.host = Mosquitto(folder), Host()
        self.modbus_port, surface_port = free_port(), free_port()
        (folder / "site.toml").write_text(
            WIRED + every_way(self.mosquitto.port, self.modbus_port, self.host.port, surface_port)
        )
        self.state.mkdir()
        (self.state / "secret-broker").write_text("secret word")
        (self.state / "secret-broker").chmod(0o600)
        self.service = Process(folder / "site.toml", self.state)
        Site(state=self.state).new_key("hands", "operate")
        self.phone, self.surface = Broker(self.mosquitto.port), Surface(surface_port)
        self.rows: dict[int, str] = {}
        """Numbers of the journal that somebody was told, and by which way."""
        self.coils = self.last = 0
        """Writes that a Modbus master was told are done, in this life; the last row of the one before."""
        self.told = dict.fromkeys(WAYS, 0)

    def end(self) -> None:
        self.service.stop()
        self.phone.end()
        self.mosquitto.stop()

    def once(self, chance: random.Random) -> None:
        """One life, from its start to its end by a signal that nobody can handle; raises `AssertionError` for what was lost."""
        self.coils = 0
        over = threading.Event()
        there = Site(state=self.state)
        plc: Any = ModbusTcpClient("127.0.0.1", port=self.modbus_port, timeout=1, retries=0)
        coil = {
            row["name"]: int(row["address"].split()[1])
            for row in there.remote_map("modbus")
            if row["address"].startswith("coil")
        }
        ways: dict[str, Callable[[str], None]] = {
            "http": lambda word: self._row("http", there.turn("vent", word).sequence),
            "broker": self._broker,
            "line": self._line,
            "modbus": lambda word: self._modbus(plc, coil["yard"], word),
            "surface": lambda word: self.surface.send("/out/left", float(word == "on")),
        }

        def work(way: str) -> None:
            turn = 0
            while not over.is_set():
                turn += 1
                try:
                    ways[way]("on" if turn % 2 else "off")
                    self.told[way] += 1
                except (Trouble, OSError, KeyError, StopIteration, queue.Empty, ConnectionException):
                    return
                time.sleep(0.002)

        threads = [threading.Thread(target=work, args=(way,), daemon=True) for way in WAYS]
        for each in threads:
            each.start()
        time.sleep(chance.uniform(0.0, LAST))
        self.service.kill()
        over.set()
        for each in threads:
            each.join(20)
        plc.close()
        self.service = Process(self.folder / "site.toml", self.state)
        found = list(Site(state=self.state).journal(limit=1000))
        least = min(row["sequence"] for row in found)
        gone = {
            number: way
            for number, way in self.rows.items()
            if number >= least and number not in {row["sequence"] for row in found}
        }
        assert not gone, f"rows that somebody was told of are gone: {gone}"
        life = [row for row in found if row["sequence"] > self.last]
        assert least <= self.last + 1, "more than is looked at"
        self.last = found[0]["sequence"]
        written = sum(row["kind"] == "command" and "Modbus" in (row["source"] or "") for row in life)
        assert written >= self.coils, (
            f"{self.coils} writes were acknowledged, and {written} are in the journal"
        )

    def _row(self, way: str, number: int) -> None:
        self.rows[number] = way

    def _line(self, word: str) -> None:
        answer = self.host.call("turn", WAIT, output="gallery", setting=word)
        self._row("line", answer["result"]["sequence"])

    def _broker(self, word: str) -> None:
        mark = str(time.monotonic_ns())
        self.phone.send("out/kiln/want", f'{{"setting": "{word}", "id": "{mark}"}}')
        end = time.monotonic() + WAIT
        while time.monotonic() < end:
            message, form = self.phone.came.get(timeout=WAIT)
            if message.topic.endswith("out/kiln/outcome") and form["id"] == mark and form.get("sequence"):
                return self._row("broker", form["sequence"])
        raise OSError

    def _modbus(self, plc: Any, at: int, word: str) -> None:
        if not plc.connected and not plc.connect():
            raise OSError
        if plc.write_coil(at, word == "on").isError():
            raise OSError
        self.coils += 1


def main() -> None:
    """So many lives."""
    with tempfile.TemporaryDirectory() as folder:
        house, chance = House(Path(folder)), random.Random()
        try:
            for number in range(int(sys.argv[1])):
                house.once(chance)
                print(f"\rkilled {number + 1} times, told {house.told}", end="", flush=True)
        finally:
            house.end()
        print(f"\n{len(house.rows)} rows and {house.told['modbus']} writes that were acknowledged: all there")


if __name__ == "__main__":
    main()
