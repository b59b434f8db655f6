"""How one output stands: what is wanted, what is allowed, how it moves, what was driven, what is known.

Data and nothing else. Each record is changed in one place: `Claims` where claims are made and end, `Gating` where it is
decided what is allowed, `Motion` where a wish is followed, `Drive` by its own machine, `Known` where boards answer.
"""

from __future__ import annotations

from typing import Any

from cairnwind.core.facts.claims import Claim
from cairnwind.core.facts.interlocks import Refusal
from cairnwind.core.facts.outputs import Output
from cairnwind.core.state.drive import Drive
from cairnwind.core.state.motion import Motion
from cairnwind.core.values.settings import Setting


class Claims:
    """Who wants what of it."""

    __slots__ = ("all", "asker", "leader")

    def __init__(self) -> None:
        self.all: tuple[Claim, ...] = ()
        self.leader: Claim | None = None
        """The leading one, as it was decided about last."""
        self.asker = ""
        """The command that waits to hear what became of it."""


class Gating:
    """What the gates let it have."""

    __slots__ = (
        "aim", "allowed", "bid", "bound_for", "circle", "granted", "journalled", "keeping", "mine", "place", "refusal", "ruled",
        "shared",
    )  # fmt: skip

    def __init__(self, output: Output) -> None:
        self.refusal: Refusal | None = None
        self.aim: Setting = output.rest
        """What is aimed at: what is wanted, unless an interlock bends that."""
        self.allowed: Setting = output.safe
        self.ruled = False
        """Some interlock concerns it; the rest of this record is of use to those alone."""
        self.mine: Any = None
        """Which gates those are (`cairnwind.core.rules.gates.Mine`)."""
        self.circle: Any = None
        """With whom it shares gates (`cairnwind.core.rules.shared.Circle`); None: with nobody."""
        self.granted = False
        """It was let go on, and is to be on."""
        self.bound_for: Setting | None = None
        """Where it is bound while something that needs it as it is has to go first."""
        self.keeping: Refusal | None = None
        """Why it is kept as it is, although something else is wanted."""
        self.journalled = ("", "")
        """The gate and rule that held it back when that was journalled last."""
        self.place = 0
        """The place of a person's or hand's claim that waits for its first start."""
        self.bid: Any = None
        """What it asks of the gates that it shares with others (`cairnwind.core.rules.shared.Bid`)."""
        self.shared: Refusal | None = None
        """What those said last."""


class Known:
    """How it is known what it is at."""

    __slots__ = ("attested", "how", "lost_at", "off_at", "since")

    def __init__(self) -> None:
        self.how = ""
        self.since = 0
        """Wall nanoseconds."""
        self.off_at = 0
        """Monotonic nanoseconds since which it is confirmed off."""
        self.lost_at = 0
        """When its board was lost; 0: never."""
        self.attested = False
        """Somebody has seen that it is off, while nobody can ask it."""


class Standing:
    """All of it."""

    __slots__ = ("claims", "drive", "gating", "known", "motion", "output")

    def __init__(self, output: Output) -> None:
        self.output = output
        self.claims = Claims()
        self.gating = Gating(output)
        self.motion = Motion(output)
        self.drive = Drive()
        self.known = Known()

    def say(self, output: Output) -> None:
        """It is called, or claimed, otherwise from now on, and wired as it was."""
        self.output = self.motion.output = output

    def rewire(self, output: Output) -> None:
        """It is wired otherwise from now on; its claims stand."""
        self.output, self.motion, self.known = output, Motion(output), Known()
        gating, self.gating = self.gating, Gating(output)
        self.gating.journalled = gating.journalled
        self.drive.rewired()
        self.claims.leader = None
