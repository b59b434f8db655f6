"""What a rule over several outputs at once is: it has places, and says who has room for one and who may go on now."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, Generic, NamedTuple, TypeVar

from cairnwind.core.facts.claims import Rank, Source, whose
from cairnwind.core.facts.interlocks import Interlock, Refusal
from cairnwind.core.rules.occupancy import Fact

R = TypeVar("R", bound=Interlock)


class Bid(NamedTuple):
    """Somebody wants an output on: with what rank, since which place in the journal, and whether it has its place."""

    rank: int
    place: int
    holding: bool
    claim: tuple[Rank, str, Source] | None = None
    """Whose claim leads it; None: nobody's."""

    def held(self, *, holding: bool) -> Bid:
        """The same, with its place or without."""
        return Bid(self.rank, self.place, holding, self.claim)

    @property
    def text(self) -> str:
        """Who that is, in words."""
        return whose(*self.claim) if self.claim is not None else "nobody"


class Asking:
    """Who has which places: made anew when they are given anew, and kept up to date while nobody is in anybody's way."""

    __slots__ = (
        "bids",
        "due",
        "facts",
        "full",
        "held",
        "now",
        "occupied",
        "placed",
        "supposed",
        "taken",
    )

    def __init__(self, bids: dict[str, Bid], facts: Mapping[str, Fact], now: int, *, supposed: bool) -> None:
        self.bids, self.facts, self.now = bids, facts, now
        self.supposed = supposed
        """Nothing is to be remembered of it."""
        self.placed: dict[str, bool] = {}
        """Who has a place, and whether it is on or may go on now."""
        self.taken: dict[str, int] = {}
        """By limit: what those with a place need."""
        self.occupied: dict[str, int] = {}
        """By limit: what is needed by those that are or may be on, or may go on now."""
        self.held: dict[str, dict[str, None]] = {}
        """By excludes: who has its place."""
        self.full: dict[str, str] = {}
        """By rule: for whom there is room as soon as its time has come; nobody overtakes it."""
        self.due: int | None = None
        """When the places have to be given anew although nothing has changed (monotonic nanoseconds)."""

    def wake(self, due: int) -> None:
        """Give them anew then."""
        if self.due is None or due < self.due:
            self.due = due

    def place(self, name: str, rules: Iterable[Sharing[Any]], *, on: bool) -> None:
        """An output gets a place, and may go on at once or not yet."""
        was = self.placed.get(name)
        self.placed[name] = on or was is True
        if was is None:
            for each in rules:
                each.placed(name, self, 1)
        if on and not was and not self.facts[name].may_be_on:
            for each in rules:
                each.occupied(name, self, 1)

    def leave(self, name: str, rules: Iterable[Sharing[Any]]) -> None:
        """An output has no place any more."""
        was = self.placed.pop(name, None)
        if was is None:
            return
        for each in rules:
            each.placed(name, self, -1)
        if was and not self.facts[name].may_be_on:
            for each in rules:
                each.occupied(name, self, -1)

    def known(self, name: str, may_be_on: bool, rules: Iterable[Sharing[Any]]) -> None:
        """An output may be on from now on, or is known not to be; its fact still says what it was."""
        if not self.placed.get(name):
            for each in rules:
                each.occupied(name, self, 1 if may_be_on else -1)


class Sharing(Generic[R]):
    """One such rule at work."""

    __slots__ = ("name", "rule", "waiting")
    queues = False
    """It has people wait for room, and adds up what is used."""

    def __init__(self, rule: R) -> None:
        self.rule, self.name = rule, rule.name
        self.waiting: set[str] = set()
        """Who had no room."""

    @property
    def order(self) -> tuple[str, ...]:
        """Who keeps a place longest comes first; empty where nothing is said."""
        return ()

    def begin(self, asking: Asking) -> None:
        """Places are given anew: nobody has one yet."""

    def known(self, name: str, may_be_on: bool) -> None:
        """An output may be on from now on, or is known not to be."""

    def note(self, bids: Mapping[str, Bid], now: int) -> None:
        """Look at what has changed before places are given."""

    def room(self, name: str, asking: Asking) -> Refusal | None:
        """Why there is no room for an output beside those that have their place."""
        raise NotImplementedError

    def clear(self, name: str, asking: Asking) -> Refusal | None:
        """Why an output that has its place may not go on at this moment."""
        raise NotImplementedError

    def placed(self, name: str, asking: Asking, count: int) -> None:
        """An output got a place (1), or has none any more (-1)."""

    def occupied(self, name: str, asking: Asking, count: int) -> None:
        """An output counts as on (1), or no longer does (-1)."""

    def admitted(self, name: str) -> None:
        """An output has its place, and waits no longer."""

    def succeed(self, old: Any) -> None:
        """Go on where the same rule was before the site file was read anew."""


def leaving(gate: str, rule: str, other: str, fact: Fact) -> Refusal:
    """Another has to be off first."""
    return Refusal(
        gate, f"'{rule}': {other} {fact.how}", f"{other} has to be confirmed off.", fact.leaving, fact.expected, rule
    )  # fmt: skip
