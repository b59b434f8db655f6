"""One event on its way through the engine: what it has touched, what follows from it, and the few verbs that all parts share.

Made for the event and gone with it. Parts of the engine get it with each call and keep nothing of it.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import PERSON, Claim, Instant, Rank, take
from cairnwind.core.facts.interlocks import Refusal
from cairnwind.core.facts.site import Site
from cairnwind.core.physics.programs import Program
from cairnwind.core.state.standing import Standing
from cairnwind.core.state.state import State
from cairnwind.core.values.settings import Setting

Asked = tuple[ev.Wish | ev.Renew, Claim, int, Claim | None]
"""A claim that was made: by which command, under which number, and what was in its slot before."""


class Turn:
    """What one event has touched and brought about, until its effects are returned."""

    __slots__ = (
        "asked", "drives", "effects", "free", "glided", "known", "mono", "now", "phrase", "started", "state", "touched", "wall",
    )  # fmt: skip

    def __init__(self, state: State, at: Instant) -> None:
        self.state = state
        self.now = state.clocks.now = at
        self.mono, self.wall = state.clocks.mono, state.clocks.wall
        self.touched: dict[str, None] = {}
        """Outputs that have to be decided about before this event is over."""
        self.known: dict[str, None] = {}
        """Outputs of which something else is known, which matters to those alone that share a rule with them."""
        self.drives: list[ev.Drive] = []
        self.effects: list[Any] = []
        self.asked: list[Asked] = []
        """Claims made by this event, which are answered when all is decided."""
        self.phrase: tuple[ev.Do, int, str] | None = None
        """The phrase whose parts are answered as one: its command, its number, and a reason."""
        self.free = ""
        """An output that none of its own interlocks would keep from starting, as they said before anything has changed since."""
        self.started = False
        """Something was let go on in this round."""
        self.glided = False
        """A slope took a step by the short way."""

    # --- looking ------------------------------------------------------------------------------------------

    @property
    def site(self) -> Site:
        """What is wired."""
        return self.state.site

    @property
    def recording(self) -> bool:
        """Whether the journal can be written."""
        return self.state.journal.ok

    @property
    def sequence(self) -> int:
        """The last number of the journal."""
        return self.state.journal.sequence

    @property
    def word(self) -> str:
        """The outcome of what is simply done."""
        return "driving" if self.state.journal.ok else "not recorded"

    def standing(self, name: str) -> Standing:
        """How an output stands."""
        return self.state.outputs[name]

    def wall_of(self, mono: int) -> int:
        """A monotonic time, by the wall clock."""
        return self.now.wall + mono - self.now.mono

    # --- what follows -------------------------------------------------------------------------------------

    def touch(self, name: str) -> None:
        """Decide about an output before this event is over."""
        self.touched[name] = None

    def touch_all(self, names: Iterable[str]) -> None:
        """Decide about outputs before this event is over."""
        for name in names:
            self.touched[name] = None

    def effect(self, *effects: Any) -> None:
        """Add effects."""
        self.effects += effects

    def number(self) -> int:
        """The next number of the journal."""
        journal = self.state.journal
        journal.sequence += 1
        return journal.sequence

    def inner(self, command: str) -> str:
        """A name for a command within a command."""
        journal = self.state.journal
        journal.inner += 1
        return f"{command}.{journal.inner}"

    def record(
        self, sequence: int, kind: str, subject: str, text: str, event: ev.Command | None, data: dict[str, Any]
    ) -> None:  # fmt: skip
        """Write a row of the journal."""
        command = event.command if event is not None else ""
        source = event.source.text if event is not None else ""
        record = ev.Record(sequence, self.now, kind, subject, text, command, source, data)
        (self.state.journal.early if self.state.in_force.starting else self.effects).append(record)

    def note(self, kind: str, subject: str, text: str, data: dict[str, Any]) -> None:
        """Write a row of the journal that no command asked for, under the next number."""
        self.record(self.number(), kind, subject, text, None, data)

    def done(
        self, event: ev.Command, sequence: int, text: str, output: str = "", *, sure: bool = False, claim: Claim | None = None
    ) -> None:  # fmt: skip
        """Answer a command that is simply done; ``sure``: that it could be recorded was asked before."""
        self.effects.append(
            ev.Outcome(event.command, sequence, "driving" if sure else self.word, output, text, claim=claim)
        )

    def keep(self, event: ev.Command, kind: str, subject: str, text: str, data: dict[str, Any]) -> None:
        """Carry out a command that is only kept in the journal: without one it is refused."""
        sequence = self.number()
        if not self.recording:
            self.refuse(event, sequence, self.no_journal())
            return
        self.record(sequence, kind, subject, text, event, data)
        self.done(event, sequence, text, sure=True)

    def refuse(
        self, event: ev.Command, sequence: int, refusal: Refusal, setting: Setting | Program | None = None, word: str = "refused",
    ) -> None:  # fmt: skip
        """Answer a command with a refusal."""
        output = getattr(event, "output", "")
        name = event.pin.name if isinstance(event, ev.TryPin) else output
        wanted = f" to {self.state.outputs[name].output.say(setting)}" if setting is not None else ""
        text = f"{name or 'site'}{wanted} ({word}: {refusal.reason})"
        data = {"verb": type(event).__name__.lower(), "outcome": word, "reason": refusal.reason}
        self.record(sequence, "command", name, text, event, data)
        self.effects.append(
            ev.Outcome(event.command, sequence, word, output, refusal.reason, refusal.remedy, setting)
        )

    def no_journal(self) -> Refusal:
        """Why nothing but offs is done while the journal cannot be written."""
        reason = f"the journal cannot be written: {self.state.journal.trouble}"
        return Refusal(
            "journal", reason, "Only moves toward off are carried out until it can; see to the disk."
        )

    def tell(self, s: Standing, ending: str, text: str) -> None:
        """Say what became of the command that waits to hear of this output."""
        if s.claims.asker:
            self.effects.append(ev.Ended(s.claims.asker, s.output.name, ending, text))
            s.claims.asker = ""

    # --- claims that end ----------------------------------------------------------------------------------

    def end(self, s: Standing, claim: Claim, why: str, *, journal: bool = True) -> None:
        """End a claim."""
        output, slot = claim.output, claim.slot
        if claim.scene:
            self.forget_scene(claim.scene, output, slot)
        s.claims.all = take(s.claims.all, slot)
        self.mono.drop("claim", output, slot)
        self.wall.drop("claim", output, slot)
        self.mono.drop("over", output, slot)
        self.effects.append(ev.DropClaim(output, slot))
        self.touched[s.output.name] = None
        if journal:
            self.journal_end(claim, why)
        if claim.rank is Rank.PLAN:
            self.edge(s)

    def edge(self, s: Standing) -> None:
        """The plan changes this output: takeovers end."""
        for claim in s.claims.all:
            if claim.lifetime.kind == "takeover" and claim.slot == PERSON:
                self.end(s, claim, "the plan takes over again")

    def journal_end(self, claim: Claim, why: str) -> None:
        """Record that a claim has ended."""
        text = f"{claim.output}: the claim of {claim.text} ended: {why}"
        self.note("ended", claim.output, text, {"slot": claim.slot, "claim": claim.id, "why": why})

    def disarm(self, standings: Iterable[Standing], why: str) -> None:
        """Where the site file asks for a new command after a stop, end what persons and hands had on."""
        for s in standings:
            if s.output.rearm == "command":
                self.disarm_all(s, why)

    def disarm_all(self, s: Standing, why: str) -> None:
        """End what persons and hands have on."""
        for claim in s.claims.all:
            if claim.armed:
                self.end(s, claim, why)

    def forget_scene(self, scene: str, output: str, slot: str) -> None:
        """A scene's claim has ended."""
        found = self.state.scenes.get(scene, {})
        found.pop((output, slot), None)
        if not found:
            self.state.scenes.pop(scene, None)
