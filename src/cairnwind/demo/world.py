"""The small world behind the demo's board: what the loads do shows on the sensors."""

from __future__ import annotations

import threading

from cairnwind.boards.link import Link
from cairnwind.boards.simulated import SimulatedLink
from cairnwind.boards.wire import from_pin
from cairnwind.core.model import Site

DRAUGHT_AFTER = 2.0
"""Seconds from the vent's relay to a draught that the flow switch feels."""


class World:
    """The kiln door is closed at first; the draught follows the vent."""

    def __init__(self, site: Site, links: dict[str, Link]) -> None:
        shelf = links["shelf"]
        assert isinstance(shelf, SimulatedLink)
        self._shelf = shelf
        self._vent = site.outputs["kiln-vent"]
        self._draught: threading.Timer | None = None
        shelf.watchers.append(self._moved)
        for name in ("kiln-door", "emergency-button"):
            shelf.preset(site.inputs[name], False)

    def end(self) -> None:
        """Nothing moves any more."""
        self._shelf.watchers.remove(self._moved)
        if self._draught is not None:
            self._draught.cancel()

    def _moved(self, line: int, level: int) -> None:
        if line != self._vent.pin.line:
            return
        if self._draught is not None:
            self._draught.cancel()
        on = from_pin(self._vent, level).on
        self._draught = threading.Timer(DRAUGHT_AFTER, self._shelf.set_input, ("vent-flow", on))
        self._draught.daemon = True
        self._draught.start()
