"""What a gate is: one kind of interlock, in one file, with all that is to be known of it.

A file of a gate holds the rule as a fact, how a site file writes it and how it is said in words (`Kind`), and the gate: the
rule at work over the outputs that it names. A gate is told what happens to those outputs and asked, by `refuse`,
why one of them may not be on. It remembers what it needs for that; what must outlive the service it has stored
(`kept` names it, `recall` takes it up), and its successor takes the rest over when the site file is read anew
(`succeed`). It wakes by a timer of kind 'ruled' for an output, under a slot of its own, which has that output decided about.

Nothing here knows of claims, commands or boards: what is wanted is decided elsewhere, before any gate is asked.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import Any, Generic, NamedTuple, TypeVar

from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Instant
from cairnwind.core.facts.interlocks import Interlock, Refusal
from cairnwind.core.facts.site import Site
from cairnwind.core.rules.form import Form
from cairnwind.core.state.sight import Sight
from cairnwind.core.state.standing import Standing
from cairnwind.core.state.state import State
from cairnwind.core.state.turn import Turn
from cairnwind.core.state.watches import Watches

R = TypeVar("R", bound=Interlock)


class Kind(NamedTuple):
    """A kind of interlock, as the site file has it."""

    verb: str
    """The key that says what kind it is, and the word of its refusals."""
    rule: type[Interlock]
    keys: Mapping[str, str]
    """The keys that it may have, and what they mean, in Markdown; that of the verb among them."""
    read: Callable[[str, Form], Any]
    """By its name and its form: the rule. Raises `CallerError`."""
    said: Callable[[Any], str]
    """The rule in a line of words."""
    holds_off: bool = True
    """It keeps its outputs off, so that they have to be off when they are safe."""
    pointless: Callable[[Any, Site], str] | None = None
    """Why a rule never refuses anything by what it says alone, in words; empty if it may."""


class Gate(Generic[R]):
    """One kind of interlock at work. ``of`` is its rules by output; those that none names have no entry."""

    rule: type[R]
    disarms = False
    """When it takes an output off, persons and hands have to ask anew where the output's 'rearm' says so."""

    counts = False
    """It counts how long or how often an output is on: the dark part of a program that blinks is not on."""

    def __init__(self, state: State, watches: Watches) -> None:
        self.state, self.watches = state, watches
        self.sight = Sight(state)
        self.rules: dict[str, R] = {}
        self.of: dict[str, list[R]] = {}

    def arm(self, rule: R) -> None:
        """A rule of this kind holds from now on."""
        self.rules[rule.name] = rule
        for name in rule.outputs:
            self.of.setdefault(name, []).append(rule)
        self.add(rule)

    def add(self, rule: R) -> None:
        """Make ready for one rule."""

    def concerned(self) -> Iterable[str]:
        """The outputs that it has to be told of."""
        return self.of

    # --- asked --------------------------------------------------------------------------------------------

    def refuse(self, turn: Turn, s: Standing, starting: bool) -> Refusal | None:
        """Why an output of its own may not be on; ``starting``: it is not on yet."""
        return None

    def keeps_on(self, turn: Turn, s: Standing) -> Refusal | None:
        """Why an output that nobody wants on any more stays on a little longer."""
        return None

    def left(self, name: str, now: Instant) -> Iterable[Any]:
        """What an output has left of what it allows, where that can be counted; may be asked from anywhere."""
        return ()

    # --- told ---------------------------------------------------------------------------------------------

    def known(self, turn: Turn, s: Standing) -> None:
        """What is known of an output has changed."""

    def moved(self, turn: Turn, s: Standing) -> None:
        """What is known of an output, or what is on its way to it, has changed."""

    def started(self, turn: Turn, s: Standing) -> None:
        """An output is let go on."""

    def let_go(self, turn: Turn, s: Standing) -> None:
        """An output that was let go on is no longer to be on, whether it ever came on or not."""

    def sent(self, turn: Turn, s: Standing) -> None:
        """An output is told another setting."""

    def went_off(self, turn: Turn, s: Standing, was_on: bool) -> None:
        """An output is confirmed off."""

    def lost(self, turn: Turn, s: Standing) -> None:
        """An output's board is about to count as away."""

    def back(self, turn: Turn, s: Standing) -> None:
        """An output's board answers again."""

    def jumped(self, turn: Turn) -> None:
        """The wall clock was set, or is to be believed again."""

    # --- remembered ---------------------------------------------------------------------------------------

    def recall(self, turn: Turn, kept: Iterable[ev.Keep]) -> None:
        """Take up what was stored by it before the service was started anew."""

    def succeed(self, turn: Turn, old: Any) -> None:
        """Take over from the gate of the same kind that held before the site file was read anew."""

    def kept(self, key: str, data: Mapping[str, Any] | None) -> ev.Keep:
        """What must outlive the service, under a name; None: nothing any more."""
        return ev.Keep(self.rule.__name__.lower(), key, data)
