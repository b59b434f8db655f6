"""What somebody has seen of an output or an input on a walk: kept in the journal, and printed to be kept in the cabinet's door."""

from __future__ import annotations

from typing import Annotated, Literal

from cairnwind.commands.declaring import BY, PACED, SHORT, Ask, Command, declare, field
from cairnwind.core.facts import events as ev
from cairnwind.core.state.turn import Turn
from cairnwind.core.values.errors import unknown
from cairnwind.core.values.fact import fact

SAID = {
    "right": "it is as the site says",
    "wrong": "it is not as the site says",
    "swapped": "it is the other way round",
    "other": "it is something else",
    "skipped": "it was not looked at",
}


@fact
class Witnessed(ev.Act):
    """Somebody has looked at a thing."""

    about: str
    by: str
    saw: str
    text: str
    output: str
    """The same name where it is an output's."""

    def carry_out(self, turn: Turn) -> None:
        """It is kept in the journal, and nothing else."""
        text = (
            f"walk: {self.about}: {SAID[self.saw]}{f' ({self.text})' if self.text else ''}, seen by {self.by}"
        )
        data = {"verb": "witness", "by": self.by, "saw": self.saw, "text": self.text}
        turn.keep(self, "walk", self.about, text, data)


@declare(
    "witness",
    makes=Witnessed,
    role="operate",
    lane=PACED,
    address="POST /walks",
    status=201,
    typed="walk",
    example={"about": "gallery", "by": "Anna", "saw": "right"},
)
class Witness(Command):
    """Keeps what somebody has seen of an output or an input, on a walk through what is wired."""

    about: Annotated[str, field("The output or the input.", of="output, input", min_length=1)]
    by: BY
    saw: Annotated[Literal["right", "wrong", "swapped", "other", "skipped"], field("What was seen.")]
    text: SHORT = ""

    def event(self, ask: Ask) -> ev.Command:
        """A row of the journal under that name."""
        known = [*ask.site.outputs, *ask.site.inputs]
        if self.about not in known:
            raise unknown("output or input", self.about, known)
        output = self.about if self.about in ask.site.outputs else ""
        return Witnessed(ask.at, ask.command, ask.source, self.about, self.by, self.saw, self.text, output)
