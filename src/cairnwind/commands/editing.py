"""The site file changed by whoever keeps the site: at once, or by a draft; and back to an earlier edition."""

from __future__ import annotations

from typing import Annotated

from cairnwind.commands.declaring import PACED, SHORT, Ask, Command, declare, field
from cairnwind.core.facts import events as ev
from cairnwind.site.edits import Edit

CHANGES = Annotated[list[Edit], field("What is to be changed, in this order.", min_length=1, max_length=100)]
EDITION = Annotated[int, field("The number of an edition.", ge=1, le=2**62)]
PORCH = {
    "changes": [
        {
            "do": "change",
            "what": "output",
            "name": "gallery",
            "keys": {"label": "The gallery", "load": "130 W"},
        }
    ]
}


@declare(
    "change_site", makes=ev.Reload, role="keep", lane=PACED, address="POST /site-file/edits", typed="add, change, rename, remove",
    example=PORCH,
)  # fmt: skip
class ChangeSite(Command):
    """Changes the site file, and what is wired and ruled with it: all of it or nothing."""

    changes: CHANGES
    reason: SHORT = ""

    def at_once(self, ask: Ask) -> ev.Outcome:
        """Written, read anew and applied as one."""
        return ask.editing.change(ask.source, self.changes, self.reason)


@declare(
    "add_to_draft", makes=(), role="keep", lane=PACED, address="POST /draft/changes", status=201, typed="add … --draft", example=PORCH
)  # fmt: skip
class AddToDraft(Command):
    """Puts changes of the site file into one's draft."""

    changes: CHANGES

    def at_once(self, ask: Ask) -> ev.Outcome:
        """They are kept."""
        return ask.editing.add(ask.source, self.changes)


@declare(
    "take_from_draft",
    makes=(),
    role="keep",
    lane=PACED,
    address="DELETE /draft/changes/<int:number>",
    typed="draft take",
    example={"number": 1},
)
class TakeFromDraft(Command):
    """Takes one change out of one's draft."""

    number: Annotated[int, field("Which, from 1.", ge=1, le=10_000)]

    def at_once(self, ask: Ask) -> ev.Outcome:
        """It is forgotten."""
        return ask.editing.take_out(ask.source, self.number)


@declare("drop_draft", makes=(), role="keep", lane=PACED, address="DELETE /draft", typed="draft drop")
class DropDraft(Command):
    """Forgets one's draft."""

    def at_once(self, ask: Ask) -> ev.Outcome:
        """All of it."""
        return ask.editing.drop(ask.source)


@declare(
    "apply_draft",
    makes=ev.Reload,
    role="keep",
    lane=PACED,
    address="POST /draft/application",
    typed="draft apply",
)
class ApplyDraft(Command):
    """Applies one's draft: all of it or nothing."""

    reason: SHORT = ""
    edition: Annotated[
        int, field("The edition that it was looked at with; the one that it was begun on unless said.", ge=0, le=2**62)
    ] = 0  # fmt: skip

    def at_once(self, ask: Ask) -> ev.Outcome:
        """Written, read anew and applied as one."""
        return ask.editing.apply(ask.source, self.reason, self.edition or None)


@declare(
    "go_back",
    makes=ev.Reload,
    role="keep",
    lane=PACED,
    address="POST /editions/<int:edition>/application",
    typed="back",
    example={"edition": 1},
)
class GoBack(Command):
    """Has the site file again as it was at an edition."""

    edition: EDITION
    reason: SHORT = ""

    def at_once(self, ask: Ask) -> ev.Outcome:
        """A change like any other."""
        return ask.editing.back(ask.source, self.edition, self.reason)
