"""HTTP for wiring: circuits with their drawings, the sheet of a whole site, and sums."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, cast

from flask import Response, request

from cairnwind.core.physics.sums import SUMS, reckon
from cairnwind.core.values import jsontext
from cairnwind.core.values.errors import CallerError
from cairnwind.service.asked import answer
from cairnwind.service.bounded import Bounded
from cairnwind.service.desk import Desk
from cairnwind.site.circuit import Circuit, Part
from cairnwind.site.circuits import circuit, sheet, to_buy
from cairnwind.site.held import held

DRAWINGS_KEPT = 200


class WiringViews:
    """The views; `cairnwind.service.app` has the rest, and the way in."""

    def __init__(self, desk: Desk) -> None:
        self.runtime = desk.runtime
        self._drawing = Bounded("a drawing", "Give the output and its label shorter words.")
        self._drawn: dict[str, tuple[Circuit, str]] = {}

    def routes(self, v1: str) -> dict[str, dict[str, Callable[..., Any]]]:
        """Their addresses."""
        return {
            f"{v1}/circuits": {"GET": self.get_sheet},
            f"{v1}/circuits/<name>": {"GET": self.get_circuit},
            f"{v1}/circuits/<name>/drawing": {"GET": self.get_drawing},
            f"{v1}/held": {"GET": self.get_held},
            f"{v1}/sums": {"GET": self.get_sums},
            f"{v1}/sums/<name>": {"POST": self.reckon},
        }

    def get_sheet(self) -> Response:
        """Every wire of the site, and what to buy."""
        circuits = sheet(self.runtime.site)
        wires = [wire._asdict() for each in circuits for wire in each.wires]
        parts = [
            {"what": what, "value": value, "count": count, "outputs_and_inputs": names}
            for what, value, count, names in to_buy(circuits)
        ]
        return answer({"wires": wires, "parts": parts})

    def get_circuit(self, name: str) -> Response:
        """How one output or input is wired."""
        found = circuit(name, self.runtime.site)
        form = {
            **found._asdict(),
            "parts": [_part(each) for each in found.parts],
            "wires": [each._asdict() for each in found.wires],
        }
        del form["words"]
        return answer(form)

    def get_drawing(self, name: str) -> Response:
        """The same drawn, as SVG."""
        found = circuit(name, self.runtime.site)
        known = self._drawn.get(name)
        if known is None or known[0] != found:
            if len(self._drawn) >= DRAWINGS_KEPT:
                self._drawn.clear()
            known = self._drawn[name] = found, str(jsontext.read(self._drawing.run(_draw, found)))
        return Response(known[1], mimetype="image/svg+xml")

    def get_held(self) -> Response:
        """What has each output when the service does not."""
        return answer([each.form for each in held(self.runtime.site)])

    def get_sums(self) -> Response:
        """The sums that may be asked for, and what each wants to know."""
        return answer(
            [
                {
                    "name": sum.name, "says": sum.says,
                    "asks": [
                        {"name": each.name, "kind": each.kind, "says": each.says, "default": each.default, "needed": each.needed, "among": list(each.among)}
                        for each in sum.asks
                    ],
                }
                for sum in SUMS.values()
            ]
        )  # fmt: skip

    def reckon(self, name: str) -> Response:
        """What one comes to."""
        given = request.get_json(silent=True)
        if not isinstance(given, dict) or not all(isinstance(each, str) for each in given.values()):
            raise CallerError("bad-value", "The request is no object of texts.", 'Send {"supply": "3.3 V"}.')
        title, steps = reckon(name, cast(Mapping[str, object], given))
        return answer(
            {
                "title": title,
                "good": all(step.good for step in steps),
                "steps": [step._asdict() for step in steps],
            }
        )


def _part(part: Part) -> dict[str, Any]:
    return {
        "role": part.role,
        "what": part.what,
        "value": part.value,
        "because": part.because,
        "count": part.many,
    }


def _draw(found: Circuit) -> str:
    """In a process of its own; what draws is loaded there alone."""
    from cairnwind.service.drawing import draw

    return draw(found)
