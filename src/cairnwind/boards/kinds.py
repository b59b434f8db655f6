"""Kinds of links: what each says of itself, and where it is found.

A kind stands in a file of its own in `cairnwind.boards.links`, whose name is what a board's ``link`` says, as ``KIND``: its keys
in the board's table, what they are made into, how its board is opened and looked at. What its lines can do is said by its facts
(`Board` asks them). Nothing else knows which kinds there are; a kind is loaded only where a board asks for it.
"""

from __future__ import annotations

import pkgutil
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import lru_cache
from importlib import import_module
from pathlib import Path
from typing import Any, NamedTuple

from cairnwind.boards import links
from cairnwind.boards.access import Access
from cairnwind.boards.devices import Found
from cairnwind.boards.link import Link
from cairnwind.core.facts.hardware import Board
from cairnwind.core.facts.site import Site
from cairnwind.core.values.keys import Key, keys

Reads = Mapping[str, Callable[[Any], Any]]


class Around(NamedTuple):
    """What a link may need of what is around its board."""

    site: Any = None
    """The site (`Site`)."""
    secret: Callable[[str], str] | None = None
    """The text of a secret by its name."""


def _nothing(beside: Sequence[Path]) -> Reads:
    return {}


def _no_lines(facts: Any) -> int:
    return 0


def _nothing_here(site: Site, board: Board) -> Iterator[Found]:
    yield Found(None, "nothing of this machine is needed to reach it.")


class Share(NamedTuple):
    """What a board has together with others: a bus, a line."""

    place: str
    """What it is, in words: two that say the same are on the same one."""
    own: str = ""
    """By what it is told from the others there; only one may be that. Empty: it may be there twice."""
    terms: str = ""
    """What all there have to agree on."""
    agree: str = ""
    """The keys that say that."""
    key: str = "link"
    """The key of the site file that is at fault where they do not."""
    remedy: str = ""
    lines: bool = False
    """The lines of all boards there are the same ones."""


class Holds(NamedTuple):
    """What has the lines of a board when nobody speaks to it any more.

    ``LINE``: they are let go, and what is fitted to them has them. ``BOARD``: the board keeps them at safe. ``AS_IT_WAS``: it goes on. ``DEAD``: its
    coils and lamps have nothing. ``FLOATS``: its pins are inputs. ``LOW``: its pins are low. ``UNKNOWN``: nobody here knows.
    """

    stop: str
    """After a stop in good order, when all is at safe."""
    killed: str
    """After the service was killed."""
    power: str
    """When the power is back after a cut, before anybody speaks to it."""
    by: str = ""
    """What takes it to safe after a kill: 'the guard'."""


LINE, BOARD, AS_IT_WAS, DEAD, FLOATS, LOW, UNKNOWN = (
    "line",
    "board",
    "as it was",
    "dead",
    "floats",
    "low",
    "unknown",
)


def _not_known(facts: Any) -> Holds:
    return Holds(UNKNOWN, UNKNOWN, UNKNOWN)


def _alone(facts: Any) -> Share | None:
    return None


def _no_access(facts: Any) -> Sequence[Access]:
    return ()


class Kind(NamedTuple):
    """What a kind of link says of itself."""

    says: str
    """How a board is reached by it, in Markdown."""
    opens: Callable[[Board, Around], Link]
    facts: type[Any] | None = None
    """What it has to know, whose keys are its own in the table of its board (`cairnwind.core.values.keys`)."""
    made: Callable[..., Any] | None = None
    """The facts, by its keys, where that is not their class itself by its fields; raises `CallerError` (`at_fault`)."""
    reads: Callable[[Sequence[Path]], Reads] = _nothing
    """For keys whose values are names of data (chips, relay boards): how they are read, with folders of the user's own data."""
    lines: Callable[[Any], int] = _no_lines
    """How many lines its facts imply (None: they could not be read); 0 where a map or ``lines`` says."""
    by_broker: bool = False
    """It goes by the message broker, which the site has to have."""
    looks: Callable[[Site, Board], Iterator[Found]] = _nothing_here
    """What of this machine it needs, and whether that is there; may raise `BoardError`."""
    shares: Callable[[Any], Share | None] = _alone
    """What a board with these facts has together with others; None: nothing."""
    holds: Callable[[Any], Holds] = _not_known
    """What has its lines when nobody speaks to it any more."""

    needs: Callable[[Any], Sequence[Access]] = _no_access
    """What of the machine the service has to be let near for a board with these facts."""

    @property
    def keys(self) -> tuple[Key, ...]:
        """Its own keys."""
        return keys(self.facts) if self.facts is not None else ()


@lru_cache
def names() -> tuple[str, ...]:
    """Every kind that there is."""
    return tuple(sorted(each.name for each in pkgutil.iter_modules(links.__path__)))


def find(name: str) -> Kind:
    """The kind of this name, which is one of `names`."""
    found: Kind = import_module(f"{links.__name__}.{name}").KIND
    return found


def share(board: Board) -> Share | None:
    """What this board has together with others; None: nothing, or its facts could not be read."""
    return find(board.link).shares(board.facts) if board.facts is not None else None


def board_keys(link: str | None = None) -> tuple[Key, ...]:
    """The keys of a board's table: those that all have, and those of its kind of link."""
    each = ", ".join(f'`"{name}"`' for name in names())
    own = find(link).keys if link in names() else ()
    return (*(key._replace(says=key.says.replace("{links}", each)) for key in keys(Board)), *own)
