"""What a rule over several outputs at once is: it has places, and says who has room for one and who may go on now."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, Generic, NamedTuple, TypeVar

from cairnwind.core.facts.interlocks import Interlock, Refusal
from cairnwind.core.rules.occupancy import Fact

R = TypeVar("R", bound=Interlock)


class Bid(NamedTuple):
    """Somebody wants an output on: with what rank, since which place in the journal, and whether it has its place."""

    rank: int
    place: int
    holding: bool
    text: str
    """Who that is, in words."""


class Asking:
    """One time that places are given: who bids, what is known, and who has got a place so far."""

    __slots__ = ("bids", "due", "facts", "full", "now", "on", "placed", "supposed")

    def __init__(
        self, bids: Mapping[str, Bid], facts: Mapping[str, Fact], now: int, *, supposed: bool
    ) -> None:
        self.bids, self.facts, self.now = bids, facts, now
        self.supposed = supposed
        """Nothing is to be remembered of it."""
        self.placed: dict[str, None] = {}
        """Who has a place, on already or not yet."""
        self.on: set[str] = set()
        """Of those, who is on or may go on now."""
        self.full: dict[str, str] = {}
        """By rule: for whom there is room as soon as its time has come; nobody overtakes it."""
        self.due: int | None = None
        """When the places have to be given anew although nothing has changed (monotonic nanoseconds)."""

    def wake(self, due: int) -> None:
        """Give them anew then."""
        if self.due is None or due < self.due:
            self.due = due


class Sharing(Generic[R]):
    """One such rule at work."""

    waiting: set[str]
    """Who had no room."""

    def __init__(self, rule: R) -> None:
        self.rule = rule
        self.waiting = set()

    @property
    def order(self) -> tuple[str, ...]:
        """Who keeps a place longest comes first; empty where nothing is said."""
        return ()

    def note(self, facts: Mapping[str, Fact], bids: Mapping[str, Bid], now: int) -> None:
        """Look at what has changed before places are given."""

    def room(self, name: str, asking: Asking) -> Refusal | None:
        """Why there is no room for an output beside those that have their place."""
        raise NotImplementedError

    def clear(self, name: str, asking: Asking) -> Refusal | None:
        """Why an output that has its place may not go on at this moment."""
        raise NotImplementedError

    def admitted(self, name: str) -> None:
        """An output has its place."""

    def succeed(self, old: Any) -> None:
        """Go on where the same rule was before the site file was read anew."""


def leaving(gate: str, rule: str, other: str, fact: Fact) -> Refusal:
    """Another has to be off first."""
    return Refusal(
        gate, f"'{rule}': {other} {fact.how}", f"{other} has to be confirmed off.", fact.leaving, fact.expected, rule
    )  # fmt: skip


def listed(names: Iterable[str]) -> str:
    """'one, two and three'."""
    each = list(names)
    return " and ".join(each) if len(each) < 3 else f"{', '.join(each[:-1])} and {each[-1]}"
