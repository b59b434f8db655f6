"""Claims: made, renewed and let go; by output, by number, and for as long as somebody holds on."""

from __future__ import annotations

from typing import Annotated, Any

from msgspec import UNSET, UnsetType
from msgspec import field as renamed

from cairnwind.commands import claim_requests
from cairnwind.commands.declaring import FIRST, NUMBER, OUTPUT, SPAN, Ask, Command, declare, field
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import PERSON, Claim
from cairnwind.core.values.errors import CallerError

SETTING = Annotated[
    Any,
    field(
        "'on', 'off', 'toggle', '40 %', 40, 'coral', 'A4'; or an object: {level}, {duty, hertz}, {colour}, {hertz, loudness}, {drive}.",
        schema={"type": ["string", "number", "boolean", "object"]},
    ),
]
PROGRAM = Annotated[
    Any, field("An object with a kind, or the name of a tune.", schema={"type": ["string", "object"]})
]
EXAMPLE = {"output": "gallery", "setting": "40 %", "over": "1 s", "for": "10 min"}


def _off(event: ev.Wish) -> bool:
    return event.setting is not None and not event.setting.on


def claim_of(ask: Ask, number: int) -> Claim:
    """A standing claim. Raises `CallerError` (``no-claim``)."""
    found = ask.claims.get(number)
    if found is None:
        raise CallerError("no-claim", f"There is no claim {number}; it may have ended.", "Make a new one.")
    return found


@declare(
    "turn",
    makes=ev.Wish,
    role="operate",
    lane=_off,
    address="POST /claims",
    status=201,
    waits=True,
    typed="turn",
    example=EXAMPLE,
)
class Turn(Command):
    """Makes a claim: an output, and a setting or a program."""

    output: OUTPUT
    setting: SETTING | UnsetType = UNSET
    over: SPAN | UnsetType = UNSET
    program: PROGRAM | UnsetType = UNSET
    rank: (
        Annotated[str, field("'person', or 'hand' for a hold.", schema={"enum": ["person", "hand"]})]
        | UnsetType
    ) = UNSET
    for_: SPAN | UnsetType = renamed(default=UNSET, name="for")
    until: Annotated[str, field("A time of day, or RFC 3339.")] | UnsetType = UNSET
    lease: SPAN | UnsetType = UNSET
    lasting: Annotated[str, field("'until released'.", schema={"enum": ["until released"]})] | UnsetType = (
        UNSET
    )
    when_possible: Annotated[bool, field("It waits where it is not permitted now.")] | UnsetType = UNSET

    def event(self, ask: Ask) -> ev.Command:
        """A wish; a toggle only where it cannot come twice."""
        output = claim_requests.output_of(ask.site, self.output)
        if self.setting == "toggle" and not ask.once:
            sentence = f"{output.name}: a toggle needs an id: the broker may deliver it twice."
            raise CallerError("bad-value", sentence, 'Send {"setting": "toggle", "id": 1}, or on or off.')
        return claim_requests.claim(ask.at, ask.command, ask.source, ask.site, output, self.given)


@declare(
    "renew", makes=ev.Renew, role="operate", lane=lambda event: event.setting is None or not event.setting.on,
    address="PATCH /claims/<int:claim>", waits=True,
)  # fmt: skip
class Renew(Command):
    """Renews a lease; with a setting changes it."""

    claim: NUMBER
    setting: SETTING | UnsetType = UNSET

    def event(self, ask: Ask) -> ev.Command:
        """A renewal of that slot."""
        claim = claim_of(ask, self.claim)
        output = claim_requests.output_of(ask.site, claim.output)
        setting = output.read(self.setting) if self.setting is not UNSET else None
        return ask.renewal(ev.Renew(ask.at, ask.command, ask.source, claim.output, claim.slot, setting))


@declare("end_claim", makes=ev.Release, role="operate", lane=FIRST, address="DELETE /claims/<int:claim>")
class EndClaim(Command):
    """Releases one claim, by its number."""

    claim: NUMBER

    def event(self, ask: Ask) -> ev.Command:
        """The release of its slot."""
        claim = claim_of(ask, self.claim)
        return ev.Release(ask.at, ask.command, ask.source, claim.output, claim.slot)


@declare(
    "release", makes=ev.Release, role="operate", lane=FIRST, address="DELETE /outputs/<output>/claim", typed="release",
    example={"output": "gallery"},
)  # fmt: skip
class Release(Command):
    """Releases what persons claim."""

    output: OUTPUT

    def event(self, ask: Ask) -> ev.Command:
        """'I no longer care.'"""
        output = claim_requests.output_of(ask.site, self.output)
        return ev.Release(ask.at, ask.command, ask.source, output.name, PERSON)
