"""What a remote may ask of the service. It knows nothing else of it.

Every question that changes something is answered by one call of ``told``, by any thread, with the form that HTTP answers
with: ``outcome`` (driving, waiting, blocked, refused, unreachable, not recorded), ``reason``, ``remedy``, ``sequence``,
``command``, ``setting``, ``claim``; and ``code``, which is empty where nothing is wrong.
"""

from __future__ import annotations

import queue
from collections.abc import Callable, Mapping
from typing import Any, Protocol

from cairnwind.core.facts.claims import PERSON, Rank, Source
from cairnwind.core.facts.now import OutputNow
from cairnwind.core.facts.site import Site

Told = Callable[[dict[str, Any]], None]
ANSWER_WITHIN = 30.0


class Desk(Protocol):
    """Answered by `cairnwind.service.desk`."""

    @property
    def site(self) -> Site:
        """What is wired."""

    @property
    def epoch(self) -> str:
        """A word for this start of the service."""

    def source(self, surface: str, key: str) -> Source:
        """Who commands by a remote."""

    def uses(self, key: str, come_from: str) -> None:
        """A key was used by a remote, from there."""

    def give(
        self, source: Source, word: str, given: Mapping[str, Any], told: Told, *, once: bool = True
    ) -> None:
        """A command of the table (`cairnwind.commands`). ``once``: it is known to have come once only; else it may not toggle anything."""

    def keep(
        self,
        source: Source,
        output: str,
        value: Any,
        slot: str,
        span: int,
        told: Told,
        *,
        rank: Rank = Rank.HAND,
        causes: tuple[str, ...] = (),
        now: bool = False,
        someone: bool = False,
    ) -> None:
        """A lease of ``span`` nanoseconds in a slot: made, brought to another value, or only renewed. ``causes``: reflexes of another site that led to it;
        ``now``: where it is not permitted now it leaves no claim; ``someone``: it ends as a person's does."""

    def renew(self, source: Source, output: str, slot: str, told: Told) -> None:
        """A lease in a slot goes on as it is."""

    def claimed(self, output: str, slot: str = PERSON) -> int | None:
        """The number of the claim in a slot."""

    def release(self, source: Source, output: str, told: Told, slot: str = PERSON) -> None:
        """'I no longer care.'"""

    def steer(self, source: Source, pad: str, x: float, y: float, told: Told) -> None:
        """A pad's position, for a short lease."""

    def let_go(self, source: Source, name: str) -> None:
        """Everything of a pad is let go."""

    def causes(self, kind: str, name: str) -> tuple[str, ...]:
        """The reflexes that led to what an 'output' or 'input' does now."""

    def barred(self, key: str) -> str:
        """Why who carries this key may not even look now; empty if they may."""

    def output(self, name: str) -> dict[str, Any] | None:
        """An output as HTTP shows it."""

    def output_now(self, name: str) -> OutputNow:
        """An output's picture."""

    def input(self, name: str) -> dict[str, Any] | None:
        """An input as HTTP shows it."""

    def site_now(self) -> dict[str, Any]:
        """The site as a whole, as HTTP shows it."""

    def listen(self, take: Callable[[list[tuple[str, str]], list[Any]], None]) -> None:
        """Have ``take`` called with (kind, name) of what changed and what became of commands; it only notes them."""

    def ignore(self, take: Callable[[list[tuple[str, str]], list[Any]], None]) -> None:
        """It is called no more."""

    def journal(self, after: int, limit: int = 500) -> list[Any]:
        """Rows of the journal after a number."""


def wait_for(ask: Callable[[Told], None]) -> dict[str, Any]:
    """The answer to a question, waited for."""
    answer: queue.SimpleQueue[dict[str, Any]] = queue.SimpleQueue()
    ask(answer.put)
    try:
        return answer.get(timeout=ANSWER_WITHIN)
    except queue.Empty:
        return {"outcome": "unreachable", "reason": "the engine did not answer", "remedy": "", "code": "engine", "sequence": 0, "command": None,
                "output": None, "setting": None, "claim": None}  # fmt: skip
