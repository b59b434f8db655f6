"""Standing claims, by number and by slot. Written by the engine's thread; read by any."""

from __future__ import annotations

from cairnwind.core.facts.claims import Claim


class Slots:
    """One claim in a slot of an output."""

    def __init__(self) -> None:
        self.claims: dict[int, Claim] = {}
        """By number."""
        self._of: dict[tuple[str, str], int] = {}

    def keep(self, claim: Claim) -> None:
        """It stands in its slot, and what stood there before does not."""
        self.empty(claim.output, claim.slot)
        self._of[claim.output, claim.slot] = claim.id
        self.claims[claim.id] = claim

    def empty(self, output: str, slot: str) -> None:
        """Nothing stands there any more."""
        self.claims.pop(self._of.pop((output, slot), 0), None)

    def find(self, output: str, slot: str) -> int | None:
        """The number of the claim in a slot, if one stands there."""
        return self._of.get((output, slot))
