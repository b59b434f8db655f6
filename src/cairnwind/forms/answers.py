"""Forms of what commands are answered with."""

from __future__ import annotations

from typing import Annotated, Literal, NotRequired, TypedDict

from msgspec import Meta

from cairnwind.forms.basic import Word
from cairnwind.forms.plan import Schedule
from cairnwind.forms.things import Claim, Setting


class Part(TypedDict):
    """What became of one output of a phrase."""

    output: str
    outcome: Word
    reason: str
    claim: int | None


class Ending(TypedDict):
    """What became of a command in the time that was waited for."""

    ending: Literal["confirmed", "failed", "superseded"]
    text: str


class Ended(Ending):
    """The same, as it is told later."""

    command: str
    output: str | None


class Outcome(TypedDict):
    """The answer to a command: what was decided, and committed."""

    command: str
    sequence: Annotated[int, Meta(description="Its row in the journal.")]
    outcome: Word
    output: str | None
    reason: str
    remedy: str
    setting: Setting | None
    claim: Claim | None
    parts: NotRequired[list[Part]]
    ending: NotRequired[Ending]
    phrase: NotRequired[Annotated[str, Meta(description="How it was understood.")]]
    say: NotRequired[Annotated[str, Meta(description="A sentence to say back.")]]
    schedule: NotRequired[Schedule]


class Outcomes(TypedDict):
    """The answer to several commands; the worst of them as their own."""

    outcome: Word
    outcomes: list[Outcome]
