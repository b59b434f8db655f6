"""The circuits of a site: which parts are between each pin and what is wired to it, which wire goes where, and what to buy.

They follow from what the site file says of the load, the pin and the supplies, with the arithmetic of `core.physics.wiring`. What the
file does not say is reckoned with what is usual, and each circuit says so in its notes. How one is drawn, its shape says.
"""

from __future__ import annotations

from collections import Counter

from cairnwind.core.facts.site import Site
from cairnwind.core.values.errors import unknown
from cairnwind.site import input_circuits, output_circuits
from cairnwind.site.circuit import Circuit, there

SHAPES = (*output_circuits.SHAPES, *input_circuits.SHAPES, "there")
"""Every shape that there is."""


def circuit(name: str, site: Site) -> Circuit:
    """How an output or an input of a site is wired. Raises `CallerError` (``unknown-name``)."""
    thing = site.outputs.get(name) or site.inputs.get(name)
    if thing is not None and not site.boards[thing.pin.board].wired:
        return there(thing, site)
    if name in site.outputs:
        return output_circuits.circuit(site.outputs[name], site)
    if name in site.inputs:
        return input_circuits.circuit(site.inputs[name], site)
    raise unknown("output or input", name, (*site.outputs, *site.inputs))


def sheet(site: Site) -> list[Circuit]:
    """Every output, then every input."""
    return [circuit(name, site) for name in (*site.outputs, *site.inputs)]


def to_buy(circuits: list[Circuit]) -> list[tuple[str, str, int, list[str]]]:
    """What to buy for them, alike things together: what, value, how many, and for which outputs and inputs."""
    count: Counter[tuple[str, str]] = Counter()
    whose: dict[tuple[str, str], dict[str, None]] = {}
    for each in circuits:
        for part in each.parts:
            count[part.what, part.value] += part.many
            whose.setdefault((part.what, part.value), {})[each.name] = None
    return [(what, value, count[what, value], list(whose[what, value])) for what, value in sorted(count)]
