"""Notes: a remark that somebody leaves on an output, an input, a board or the site: 'lamp changed', 'contact cleaned'."""

from __future__ import annotations

from typing import Annotated

from cairnwind.commands.declaring import PACED, Ask, Command, declare, field
from cairnwind.core.facts import events as ev
from cairnwind.core.state.turn import Turn
from cairnwind.core.values.errors import unknown
from cairnwind.core.values.fact import fact


@fact
class Noted(ev.Act):
    """Somebody leaves a remark about a thing; an empty name is the site."""

    about: str
    text: str
    output: str
    """The same name where it is an output's."""

    def carry_out(self, turn: Turn) -> None:
        """It is kept in the journal, and nothing else."""
        text = f"note on {self.about or 'the site'}: {self.text}"
        turn.keep(self, "note", self.about, text, {"verb": "note", "note": self.text})


@declare(
    "note",
    makes=Noted,
    role="operate",
    lane=PACED,
    address="POST /notes",
    status=201,
    example={"text": "lamp changed", "about": "gallery"},
)
class Note(Command):
    """Leaves a remark on an output, an input, a board or, without a name, on the site."""

    text: Annotated[str, field("What is to be remembered.", min_length=1, max_length=500)]
    about: Annotated[str, field("The name of an output, an input or a board.", of="output, input, board")] = (
        ""
    )

    def event(self, ask: Ask) -> ev.Command:
        """A row of the journal under that name."""
        site = ask.site
        known = [*site.outputs, *site.inputs, *site.boards]
        if self.about and self.about not in known:
            raise unknown("output, input or board", self.about, known)
        output = self.about if self.about in site.outputs else ""
        return Noted(ask.at, ask.command, ask.source, self.about, self.text, output)
