"""What a phrase says, before any output is asked what it takes: commands, targets, values, and how they read back."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import NamedTuple

from cairnwind.core.facts.course import Lead
from cairnwind.core.language.words import (
    DROPPED,
    KEYWORDS,
    KINDS,
    folded,
)
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.moments import Moment
from cairnwind.core.values.quantities import show_duration


class PhraseError(CallerError):
    """A phrase that cannot be understood: ``at`` and ``end`` are where in its text, from 0."""

    def __init__(self, sentence: str, remedy: str, at: int = 0, end: int = 0) -> None:
        super().__init__("bad-phrase", sentence, remedy)
        self.at, self.end = at, max(end, at + 1)
        self.more = {"at": self.at, "end": self.end}


class Asks(PhraseError):
    """A phrase that may mean two things: ``choices`` are what may stand there instead."""

    def __init__(self, word: str, choices: Iterable[str], at: int, end: int) -> None:
        self.choices = tuple(dict.fromkeys(choices))
        both = (
            " or ".join(self.choices) if len(self.choices) < 6 else ", ".join(self.choices[:5]) + " or others"
        )
        super().__init__(f"'{word}' may be {both}.", "Say which one is meant.", at, end)
        self.code = "asks-back"
        self.more |= {"choices": list(self.choices)}


class Target(NamedTuple):
    """Outputs by what was said of them."""

    text: str
    outputs: tuple[str, ...]


class Value(NamedTuple):
    """What something is to be set to, in canonical words that outputs read."""

    text: str
    tune: str = ""


@dataclass(frozen=True)
class Command:
    """One thing to be done."""

    verb: str
    targets: tuple[Target, ...] = ()
    spared: tuple[Target, ...] = ()
    value: Value | None = None
    start: Value | None = None
    scene: str = ""
    lit: int = 0
    dark: int = 0
    over: int = 0
    span: int = 0
    until: Moment | None = None
    released: bool = False
    times: int = 0
    percent: int = 0
    """Of a step up or down."""

    @property
    def outputs(self) -> tuple[str, ...]:
        """The outputs that are meant, once each, in the order of the site file where it was a group."""
        spared = {name for target in self.spared for name in target.outputs}
        named = dict.fromkeys(name for target in self.targets for name in target.outputs)
        return tuple(name for name in named if name not in spared)

    @property
    def text(self) -> str:
        """In canonical words."""
        names = " and ".join(target.text for target in self.targets)
        if self.spared:
            names += f" except {' and '.join(target.text for target in self.spared)}"
        value = self.value.text if self.value else ""
        start = f" from {self.start.text}" if self.start else ""
        head = {
            "on": f"turn {names} on", "off": f"turn {names} off", "to": f"turn {names} to {value}",
            "up": f"turn {names} up by {self.percent} %", "down": f"turn {names} down by {self.percent} %",
            "open": f"open {names}", "close": f"close {names}", "toggle": f"toggle {names}", "fade": f"fade {names}{start} to {value}",
            "blink": f"blink {names}", "breathe": f"breathe {names}", "flicker": f"flicker {names}",
            "play": f"play {value} on {names}", "pulse": f"pulse {names}", "run": f"run scene {quoted(self.scene)}",
            "release": f"release {names}", "release_scene": f"release scene {quoted(self.scene)}", "stop": "all-stop",
        }[self.verb]  # fmt: skip
        parts = [head]
        if self.lit:
            parts.append(f"{show_duration(self.lit)} on {show_duration(self.dark)} off")
        if self.times:
            parts.append(f"{self.times} times")
        if self.over:
            parts.append(f"over {show_duration(self.over)}")
        parts += ends(self.span, self.until, self.released)
        return " ".join(parts)


@dataclass(frozen=True)
class Phrase:
    """What was understood. ``parts`` are commands, and waits in nanoseconds between them."""

    parts: tuple[Command | int, ...]
    lead: Lead | None = None

    @property
    def text(self) -> str:
        """The canonical form, which reads to this phrase."""
        said = "; ".join(
            f"wait {show_duration(part)}" if isinstance(part, int) else part.text for part in self.parts
        )
        return f"{lead_text(self.lead)} {said}" if self.lead else said


def ends(span: int, until: Moment | None, released: bool = False) -> list[str]:
    """How long something lasts, as it is said."""
    if span:
        return [f"for {show_duration(span)}"]
    if until:
        return [f"until {until.text}"]
    return ["until released"] if released else []


def lead_text(lead: Lead) -> str:
    """When something begins and how often, as it is said."""
    if lead.at:
        return f"at {lead.at.text}"
    if not lead.every:
        return f"after {show_duration(lead.after)}"
    times = f" {lead.times} times" if lead.times else ""
    until = "".join(f" {end}" for end in ends(lead.span, lead.until))
    return f"every {show_duration(lead.every)}{times}{until}"


def quoted(name: str) -> str:
    """A name as the canonical form writes it: in quotes where it would be taken for something else."""
    words = folded(name)
    if len(words) == 1 and (
        words[0] in KEYWORDS or words[0] in DROPPED or (words[0],) in KINDS or not words[0].isalpha()
    ):
        return f"'{name}'"
    return name


# --- reading --------------------------------------------------------------------------------------------------
