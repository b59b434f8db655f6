"""The small world behind the demo's boards: what the loads do shows on the sensors.

The draught follows the vent; the kiln warms while it fires and has a draught; the cupboard warms and is aired;
daylight follows the hour; the hoist reaches its top.
"""

from __future__ import annotations

import math
import threading
from datetime import datetime
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

from cairnwind.boards.link import Link
from cairnwind.boards.simulated import SimulatedLink
from cairnwind.boards.wire import from_pins
from cairnwind.core.model import Input, Site
from cairnwind.core.settings import Level
from cairnwind.demo.serialboard import SerialBoard

if TYPE_CHECKING:
    from cairnwind.demo.network import NetworkBoard

TURN = 0.5
"""Seconds between two steps of the world."""
DRAUGHT_AFTER = 2.0
"""Seconds from the vent's relay to a draught that the flow switch feels."""
HOIST_TRAVEL = 8.0
"""Seconds from the bottom to the top."""
OUTSIDE = 14.0


class World:
    """See the module's page."""

    def __init__(self, site: Site, links: dict[str, Link], box: SerialBoard | None) -> None:
        shelf = links["shelf"]
        assert isinstance(shelf, SimulatedLink)
        self._site, self._shelf, self._box = site, shelf, box
        self._zone = ZoneInfo(site.timezone)
        self._on: dict[str, float] = {}
        """By output: how far it is on, 0 to 1."""
        self._kiln = self._cupboard = OUTSIDE + 4
        self._draught = self._hoist = 0.0
        self._outputs = {
            (each.pin.board, each.pin.line): each for each in site.outputs.values() if each.takes == "level"
        }
        shelf.watchers.append(lambda line, level: self._moved("shelf", line, level))
        for name in ("kiln-door", "emergency-button"):
            shelf.preset(site.inputs[name], False)
        for name in ("pug-mill-lid", "yard-gate"):
            input = site.inputs[name]
            links[input.pin.board].pretend(input)(False)  # type: ignore[attr-defined]
        for name in ("kiln-temperature", "cupboard-temperature", "daylight"):
            shelf.volts[site.inputs[name].pin.line] = self._volts(name)
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
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._run, name="world", daemon=True)
        self._thread.start()

    def end(self) -> None:
        """Nothing moves any more."""
        self._over.set()
        self._thread.join()
        if self._box is not None:
            self._box.end()
        if self._garden is not None:
            self._garden.end()

    def _moved(self, board: str, line: int, level: int) -> None:
        output = self._outputs.get((board, line))
        if output is not None:
            setting = from_pins(output, {line: level})
            self._on[output.name] = setting.parts / 1_000_000 if isinstance(setting, Level) else 0.0

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
        while not self._over.wait(TURN):
            vent = self._on.get("kiln-vent", 0.0)
            self._draught = min(1.0, self._draught + TURN / DRAUGHT_AFTER) if vent else 0.0
            if (self._draught >= 1) != flowing:
                flowing = not flowing
                self._shelf.set_input("vent-flow", flowing)
            fire = self._on.get("kiln", 0.0) * (1.0 if flowing else 0.4)
            self._kiln += TURN * (fire * 9 - (self._kiln - OUTSIDE) * (0.004 + 0.002 * self._draught))
            heat, air = self._on.get("cupboard-heater", 0.0), self._on.get("cupboard-fan", 0.0)
            self._cupboard += TURN * (heat * 0.8 - (self._cupboard - OUTSIDE) * (0.004 + 0.02 * air))
            for name in ("kiln-temperature", "cupboard-temperature", "daylight"):
                self._shelf.put_volts(self._site.inputs[name].pin.line, self._volts(name))
            way = (self._on.get("hoist-up", 0.0) > 0) - (self._on.get("hoist-down", 0.0) > 0)
            self._hoist = max(0.0, min(1.0, self._hoist + way * TURN / HOIST_TRAVEL))
            if (self._hoist >= 1) != top and self._box is not None:
                top = not top
                self._box.level(self._site.inputs["hoist-top"].pin.line, not top)

    def _volts(self, name: str) -> float:
        """The volts that stand for a value: the input's own scale the other way round."""
        now = datetime.now(self._zone)
        value = {"kiln-temperature": self._kiln, "cupboard-temperature": self._cupboard}.get(name)
        if value is None:  # brightest at 13 h, dark from 19 h to 7 h
            value = 100 * max(0.0, math.sin((now.hour + now.minute / 60 - 7) / 12 * math.pi))
        scale = self._site.inputs[name].scale
        assert scale is not None
        (v0, x0), (v1, x1) = scale
        return v0 + (value - x0) * (v1 - v0) / (x1 - x0)
