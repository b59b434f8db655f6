"""The gates of the service itself and of the all-stop: they hold for every output, and for bare pins too."""

from __future__ import annotations

from cairnwind.core.facts.hardware import Pin
from cairnwind.core.facts.interlocks import Refusal
from cairnwind.core.facts.outputs import Output
from cairnwind.core.state.inforce import InForce

_NOBODY = Output("", "relay", Pin("", 0))


def starting(force: InForce, output: Output) -> Refusal | None:
    """The service is not ready."""
    if not force.starting:
        return None
    return Refusal(
        "starting", "the service is starting", "It reads what was left first; wait a moment.", True
    )


def closing(force: InForce, output: Output) -> Refusal | None:
    """The service is about to end."""
    if not force.closing or output.on_stop == "keep":
        return None
    return Refusal("closing", "the service is stopping", "Start it again.")


def rewiring(force: InForce, output: Output) -> Refusal | None:
    """Its wiring changes."""
    if output.name not in force.rewiring:
        return None
    return Refusal(
        "rewiring", "its wiring changes", "It is read anew from the site file: wait a moment.", True
    )


def all_stop(force: InForce, output: Output) -> Refusal | None:
    """Everything is safe."""
    stop = force.stop
    if stop is None:
        return None
    because = f": {stop.reason}" if stop.reason else ""
    return Refusal(
        "all-stop",
        f"all-stop by the {stop.source.text}{because}",
        "A keeper resets it: cairnwind stop --reset.",
    )


def of_the_site(force: InForce) -> Refusal | None:
    """The first of them that refuses, for what is no output."""
    return starting(force, _NOBODY) or closing(force, _NOBODY) or all_stop(force, _NOBODY)
