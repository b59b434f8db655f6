"""Sites to measure on."""

from __future__ import annotations

from cairnwind.core.model import Board, Output, Pin, Site


def wide(count: int) -> Site:
    """So many relays on one simulated board."""
    outputs = {
        f"relay-{number}": Output(
            f"relay-{number}", "relay", Pin("rack", number), label=f"Relay {number}", place="rack room"
        )
        for number in range(count)
    }
    return Site("Wide", boards={"rack": Board("rack", "simulated", None, max(count, 1))}, outputs=outputs)
