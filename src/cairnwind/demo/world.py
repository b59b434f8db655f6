"""The small world behind the demo's boards, as it goes on while the demo runs: `cairnwind.demo.nature` has its laws."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping
from datetime import datetime
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

from cairnwind.boards.link import Link
from cairnwind.boards.links.simulated import SimulatedLink
from cairnwind.boards.serialboard import SerialBoard
from cairnwind.boards.wire import from_pins
from cairnwind.core.explain.rehearsal import Put
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.site import Site
from cairnwind.core.values.quantities import NS
from cairnwind.core.values.settings import Level, Setting
from cairnwind.demo.nature import Nature

if TYPE_CHECKING:
    from cairnwind.demo.network import NetworkBoard

TURN = 0.5
"""Seconds between two steps of the world."""
CONTACTOR = 0.08
"""Seconds in which the kiln's contactor pulls in or drops out."""
GAUGES = ("kiln-temperature", "cupboard-temperature", "daylight")


class World:
    """Moves the inputs of simulated boards by what their outputs do and by the hour."""

    def __init__(self, site: Site, links: dict[str, Link], box: SerialBoard | None) -> None:
        shelf = links["shelf"]
        assert isinstance(shelf, SimulatedLink)
        self._site, self._shelf, self._box = site, shelf, box
        self._zone = ZoneInfo(site.timezone)
        self._on: dict[str, float] = {}
        """By output: how far it is on, 0 to 1."""
        self._nature = Nature()
        self._outputs = {
            (each.pin.board, each.pin.line): each for each in site.outputs.values() if each.takes == "level"
        }
        shelf.watchers.append(lambda line, level: self._moved("shelf", line, level))
        for name in ("kiln-door", "kiln-aux", "emergency-button", "bench-switch"):
            shelf.preset(site.inputs[name], False)
        for name in ("pug-mill-lid", "yard-gate"):
            input = site.inputs[name]
            links[input.pin.board].pretend(input)(False)  # type: ignore[attr-defined]
        for name, value in (("store-temperature", 16.5), ("store-humidity", 58.0)):
            links["glaze-sensor"].pretend(site.inputs[name])(value)  # type: ignore[attr-defined]
        for name in GAUGES:
            shelf.world.volts[site.inputs[name].pin.line] = self._volts(name)
        if box is not None:
            box.watchers.append(lambda pin, value: self._moved("hoist-box", pin, value * 1_000_000 // 65535))
            box.level(site.inputs["hoist-top"].pin.line, True)
            for axis in ("stick-across", "stick-along"):
                box.volts(site.inputs[axis].pin.line, 2.5)
            links["hoist-box"].pretend = self._pretend  # type: ignore[attr-defined]
        self._garden: NetworkBoard | None = None
        if site.broker is not None:
            from cairnwind.boards.mqtt import slug
            from cairnwind.demo.network import NetworkBoard

            service = f"cairnwind/{slug(site.name)}/service"
            self._garden = NetworkBoard(
                site.broker.host, site.broker.port, "saltmarsh-garden", 3, service=service
            )
            links["garden"].pretend = self._at_the_gate  # type: ignore[attr-defined]
        self._pond: SerialBoard | None = None
        if site.broker is not None and "pond-house" in site.boards:
            self._pond = pond = SerialBoard("pond-house", site.broker.host, site.broker.port)
            links["pond-house"].pretend = lambda input: lambda high: pond.level(input.pin.line, high)  # type: ignore[attr-defined]
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._run, name="world", daemon=True)
        self._thread.start()

    def end(self) -> None:
        """Nothing moves any more."""
        self._over.set()
        self._thread.join()
        if self._box is not None:
            self._box.end()
        for board in (self._garden, self._pond):
            if board is not None:
                board.end()

    def _moved(self, board: str, line: int, level: int) -> None:
        output = self._outputs.get((board, line))
        if output is not None:
            setting = from_pins(output, {line: level})
            self._on[output.name] = setting.parts / 1_000_000 if isinstance(setting, Level) else 0.0
            if output.name == "kiln":  # the contactor pulls in, and its auxiliary contact with it
                threading.Timer(CONTACTOR, self._shelf.set_input, ("kiln-aux", setting.on)).start()

    def _pretend(self, input: Input) -> Any:
        assert self._box is not None
        box, pin = self._box, input.pin.line
        if input.analogue:
            return lambda volts: box.volts(pin, volts)
        return lambda active: box.level(pin, active != input.active_low)

    def _at_the_gate(self, input: Input) -> Any:
        assert self._garden is not None
        garden, line = self._garden, input.pin.line
        return lambda active: garden.set_input(line, "100" if active else "0")

    def _run(self) -> None:
        flowing = top = False
        nature = self._nature
        while not self._over.wait(TURN):
            nature.step(TURN, self._on)
            if nature.flowing != flowing:
                flowing = nature.flowing
                self._shelf.set_input("vent-flow", flowing)
            for name in GAUGES:
                self._shelf.put_volts(self._site.inputs[name].pin.line, self._volts(name))
            if nature.top != top and self._box is not None:
                top = nature.top
                self._box.level(self._site.inputs["hoist-top"].pin.line, not top)

    def _volts(self, name: str) -> float:
        now = datetime.now(self._zone)
        return self._site.inputs[name].volts(self._nature.value(name, now.hour + now.minute / 60))


def rehearsed(site: Site) -> Callable[[int, Mapping[str, Setting]], list[Put]]:
    """The same world for a rehearsal, which asks it every so often what has become of the sensors."""
    nature, zone = Nature(), ZoneInfo(site.timezone)
    before: list[int] = []

    def world(wall: int, settings: Mapping[str, Setting]) -> list[Put]:
        seconds = (wall - before[-1]) / NS if before else 0.0
        before[:] = [wall]
        on = {
            name: setting.parts / 1_000_000
            for name, setting in settings.items()
            if isinstance(setting, Level)
        }
        flowing, top = nature.flowing, nature.top
        nature.step(seconds, on)
        then = datetime.fromtimestamp(wall // NS, zone)
        found = [
            _read(site.inputs[name], nature.value(name, then.hour + then.minute / 60)) for name in GAUGES
        ]
        if nature.flowing != flowing:
            found.append(_seen("vent-flow", nature.flowing))
        if nature.top != top:
            found.append(_seen("hoist-top", nature.top))
        return found

    return world


def _read(input: Input, value: float) -> Put:
    return lambda at: ev.Measured(at, input.name, 0, 1, input.volts(value))


def _seen(name: str, active: bool) -> Put:
    return lambda at: ev.InputSeen(at, name, active, settled=True)
