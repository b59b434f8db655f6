"""Who wants what, until when, and who leads.

A claim is one party's wish that an output have a setting. The leading claim has the highest rank, and among
equals the latest place; a place is the journal's sequence number of the command that gave the claim its
present setting, so it survives a restart. Renewing a lease keeps the place.

All persons share one slot per output: a new wish replaces the old, whoever made it, so that releasing never
uncovers a forgotten one. Each schedule, reflex and regulator has a slot of its own. Hand claims stack.
"""

from __future__ import annotations

from enum import IntEnum
from typing import NamedTuple

from cairnwind.core.physics.programs import Program
from cairnwind.core.values.fact import fact, replace
from cairnwind.core.values.settings import Setting

PERSON = "person"
"""The slot that all persons share on an output."""


@fact
class Instant:
    """One moment on both clocks, in nanoseconds: monotonic for durations, UTC wall for the calendar."""

    mono: int
    wall: int


class Rank(IntEnum):
    """Which claim leads, from low to high."""

    PLAN = 1
    REFLEX = 2
    PERSON = 3
    HAND = 4

    @property
    def word(self) -> str:
        """As people read it."""
        return _WORDS[self]


_WORDS = {rank: rank.name.lower() for rank in Rank}


class Source(NamedTuple):
    """Where a command came from: the surface, who, by which key, with which role."""

    surface: str
    who: str = ""
    role: str = "operate"

    @property
    def text(self) -> str:
        """As in 'command line (bench laptop)'."""
        return f"{self.surface} ({self.who})" if self.who else self.surface

    @property
    def keeps(self) -> bool:
        """May do what only a keeper may."""
        return self.role == "keep"

    def same(self, other: Source) -> bool:
        """Whether another command came from the same: by the same key, over the same surface."""
        return (self.surface, self.who) == (other.surface, other.who)


class Lifetime(NamedTuple):
    """Until when a claim lasts. ``span`` is in nanoseconds (for, lease), ``wall`` an instant (until)."""

    kind: str
    span: int = 0
    wall: int = 0


TAKEOVER = Lifetime("takeover")
"""Until the plan next changes the output; where no schedule touches it, until released."""
RELEASED = Lifetime("released")
"""Until someone releases it."""


def lasting(span: int) -> Lifetime:
    """For ``span`` nanoseconds."""
    return Lifetime("for", span=span)


def until(wall: int) -> Lifetime:
    """Until a moment of the wall clock, in nanoseconds UTC."""
    return Lifetime("until", wall=wall)


def lease(span: int) -> Lifetime:
    """Until ``span`` nanoseconds after its last renewal."""
    return Lifetime("lease", span=span)


TONE_UNSAID = 1_000_000_000
"""Nanoseconds that a tone lasts if nobody says."""
TONE_LONGEST = 600_000_000_000


def sounding(lifetime: Lifetime) -> Lifetime | None:
    """The lifetime of a plain tone: every tone has an end, within ten minutes. None where that was not asked for."""
    if lifetime == TAKEOVER:
        return lasting(TONE_UNSAID)
    if lifetime == RELEASED or (lifetime.kind == "for" and lifetime.span > TONE_LONGEST):
        return None
    return lifetime


@fact
class Claim:
    """One party's wish that an output have a setting."""

    id: int
    """The journal's sequence number of the command that made it."""
    output: str
    slot: str
    rank: Rank
    setting: Setting | Program
    place: int
    source: Source
    lifetime: Lifetime
    made: Instant
    ends_mono: int | None = None
    ends_wall: int | None = None
    scene: str = ""
    """The scene that asked for it."""
    patient: bool = False
    """It was asked for 'when possible': it stays although something stands in its way."""
    someone: bool = False
    """Another site wants it because somebody there does."""

    @property
    def armed(self) -> bool:
        """A person or a hand has the output on, here or at another site: what a stop ends where the site file asks for a new command."""
        return (self.rank >= Rank.PERSON or self.someone) and self.setting.on

    @property
    def text(self) -> str:
        """Who this is, in words: "'evening' (plan)", 'a person at the command line'."""
        return whose(self.rank, self.slot, self.source)


def whose(rank: Rank, slot: str, source: Source) -> str:
    """Who claims something, in words."""
    if slot.startswith("site:"):
        return f"the {source.text}"
    if rank in (Rank.PLAN, Rank.REFLEX):
        return f"'{slot.partition(':')[2] or slot}' ({rank.word})"
    return f"{'a hold' if rank is Rank.HAND else 'a person'} at the {source.text}"


def leading(claims: tuple[Claim, ...]) -> Claim | None:
    """The claim that leads: highest rank, then latest place."""
    if len(claims) < 2:  # nearly always, and this is asked at every step
        return claims[0] if claims else None
    return max(claims, key=lambda claim: (claim.rank, claim.place))


def put(claims: tuple[Claim, ...], claim: Claim) -> tuple[Claim, ...]:
    """``claims`` with ``claim`` in its slot, in place of what was there."""
    return (*(other for other in claims if other.slot != claim.slot), claim)


def take(claims: tuple[Claim, ...], slot: str) -> tuple[Claim, ...]:
    """``claims`` without the one in ``slot``."""
    return tuple(claim for claim in claims if claim.slot != slot)


def held(claims: tuple[Claim, ...], slot: str) -> Claim | None:
    """The claim in ``slot``, if any."""
    return next((claim for claim in claims if claim.slot == slot), None)


def restore(claim: Claim, now: Instant) -> Claim | None:
    """A stored claim as it stands after a restart at ``now``, or None if it has ended meanwhile.

    Leases end with the service that kept them. 'For' ends at the earlier of its stored wall end and its
    stored time, so that a clock set back while the service was down lengthens nothing.
    """
    kind = claim.lifetime.kind
    if kind == "lease":
        return None
    program = claim.setting
    if isinstance(program, Program):
        # it goes on where it would be by now; a tune never resumes in the middle, and what is over stays over
        claim = replace(claim, made=Instant(now.mono - max(0, now.wall - claim.made.wall), claim.made.wall))
        if program.heard or (program.then == "release" and program.over(now.mono - claim.made.mono)):
            return None
    if kind == "until":
        return claim if claim.lifetime.wall > now.wall else None
    if kind == "for":
        left = min((claim.ends_wall or 0) - now.wall, claim.lifetime.span)
        if left <= 0:
            return None
        return Claim(
            claim.id, claim.output, claim.slot, claim.rank, claim.setting, claim.place, claim.source,
            claim.lifetime, claim.made, now.mono + left, now.wall + left, claim.scene, claim.patient,
        )  # fmt: skip
    return claim
