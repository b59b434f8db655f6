"""What conditions see of the state: see `cairnwind.core.facts.conditions.View`, which this is."""

from __future__ import annotations

from fractions import Fraction

from cairnwind.core.facts.claims import Claim, Instant
from cairnwind.core.facts.conditions import drawn
from cairnwind.core.facts.site import Site
from cairnwind.core.state.state import State
from cairnwind.core.values.settings import Setting


class Sight:
    """Looks, and changes nothing."""

    __slots__ = ("_state",)

    def __init__(self, state: State) -> None:
        self._state = state

    @property
    def now(self) -> Instant:
        """Now."""
        return self._state.clocks.now

    @property
    def site(self) -> Site:
        """What is wired."""
        return self._state.site

    def setting(self, output: str) -> Setting | None:
        """What it is confirmed to be at."""
        return self._state.outputs[output].drive.confirmed

    def active(self, input: str) -> bool | None:
        """A contact's state."""
        return self._state.inputs.contacts[input].active

    def way(self, input: str) -> int | None:
        """Which way an encoder is turned at this moment."""
        contact = self._state.inputs.contacts[input]
        return None if contact.active is None else contact.way

    def value(self, input: str) -> float | None:
        """An analogue input's value, or a counter's."""
        inputs = self._state.inputs
        gauge = inputs.gauges.get(input)
        return gauge.value if gauge is not None else inputs.contacts[input].value

    def up(self, board: str) -> bool:
        """Whether a board answers."""
        return self._state.boards[board].up

    def leader(self, output: str) -> Claim | None:
        """The claim that leads."""
        return self._state.outputs[output].claims.leader

    def load(self, supply: str) -> Fraction | None:
        """Amperes that are drawn from a supply."""
        return drawn(self, supply)

    def tripped(self, trip: str) -> bool:
        """Whether a trip is latched."""
        return trip in self._state.in_force.trips

    def wrong_codes(self, output: str, span: int) -> int:
        """How many wrong codes it was given in the last ``span`` nanoseconds."""
        since = self.now.mono - span
        return sum(at > since for at in self._state.in_force.wrong.get(output, ()))

    def unsure(self, output: str) -> bool:
        """Whether an output is on its way from off to on or back."""
        return self._state.outputs[output].drive.unsure

    def clock_right(self) -> bool:
        """Whether the wall clock is to be believed."""
        return not self._state.clocks.behind
