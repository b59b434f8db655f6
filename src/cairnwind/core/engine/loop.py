"""The engine: events in, effects out.

The theory, in full in the design's rules of the engine:

* Claims say what is *wanted*, gates what is *allowed*; links are told what to *drive* and boards *confirm*.
* An event touches a few outputs. For each of those, and for no other, `_settle` walks the way from wish to
  pin once. So an event costs what it affects, however many outputs there are.
* Drive compares with what is in flight or confirmed, never with what was last sent. One setting at a time is
  on its way to an output, under a generation number; a newer one replaces it, and an answer to an older one
  is ignored.
* A failed write makes the driven state unknown. What should be safe is tried for ever, with backoff; what
  should be on is tried while it is still wanted.

Everything that affects the state is in this file. It never reads a clock: each event brings the time, and
`next_deadline` says when the engine wants to be told that time has passed.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

from cairnwind.core.engine.agenda import WORST, Agenda
from cairnwind.core.engine.bare import BarePins
from cairnwind.core.engine.reflexes import Reflexes
from cairnwind.core.engine.sticks import Sticks
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import (
    PERSON,
    Claim,
    Instant,
    Lifetime,
    Rank,
    held,
    lasting,
    leading,
    put,
    restore,
    sounding,
    take,
)
from cairnwind.core.facts.history import claim_form, stop_form, tag_form
from cairnwind.core.facts.interlocks import Gatekeeper, Refusal, Stop, Tag
from cairnwind.core.facts.model import Output, Site
from cairnwind.core.facts.now import BoardNow, InputNow, OutputNow, SiteNow
from cairnwind.core.facts.trials import Trial
from cairnwind.core.physics.programs import Program
from cairnwind.core.physics.shaping import Way, next_step
from cairnwind.core.rules.safety import Safety
from cairnwind.core.state.inputs import Contact, Gauge, silent
from cairnwind.core.state.standing import Standing
from cairnwind.core.state.timers import Timers
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.fact import replace
from cairnwind.core.values.quantities import NS, show_duration
from cairnwind.core.values.settings import Level, Setting, Tone, encode, stepped

RETRY_FIRST = NS // 10
RETRY_LONGEST = 5 * NS
ANSWER_WITHIN = 5 * NS
"""A board that has not answered a drive by then has failed it."""
JUMP = 2 * NS
"""A wall clock that moves this much more or less than the monotonic one has been set."""
MOST_TURNS = 12
"""That one output takes within one event: more, and its interlocks go round in a circle."""
ROUND_REST = 300 * NS
"""Nanoseconds after which such a circle is tried again, though nobody has claimed anything else since."""
SHOWN_EVERY = NS // 5
"""How often what moves is shown anew."""


class Engine:
    """The state machine of one site. See the module's page for the theory."""

    def __init__(self, site: Site, *, stepped: bool = True) -> None:
        """``stepped``: slopes are followed step by step; else, in a rehearsal, from one end to the other."""
        self.site = site
        self._stepped = stepped
        self.sequence = 0
        self.keeper = Gatekeeper()
        self._standings = {name: Standing(output) for name, output in site.outputs.items()}
        self.contacts = {name: Contact(input) for name, input in site.inputs.items() if not input.analogue}
        self.gauges = {name: Gauge(input) for name, input in site.inputs.items() if input.analogue}
        self._boards = {name: BoardNow(name, False, "not opened yet", 0) for name in site.boards}
        self._on_board: dict[str, list[str]] = {name: [] for name in site.boards}
        for name, output in site.outputs.items():
            self._on_board[output.pin.board].append(name)
        self.recording = True
        self._trouble = ""
        self._early: list[ev.Record] = []
        """What happened before the journal was read; it is numbered and recorded at the start."""
        self.mono, self.wall = Timers(), Timers()
        """What waits, by the monotonic clock and by the wall clock."""
        self.now = Instant(0, 0)
        self.agenda = Agenda(self)
        self.bare = BarePins(self)
        self._sticks = Sticks(self)
        self.safety = Safety(self)
        self.reflexes = Reflexes(self)
        self._inner = 0
        self._gathering: tuple[ev.Do, int, str] | None = None
        self._lead: int | None = None
        self._drives: list[ev.Drive] = []
        self._effects: list[Any] = []
        self._touched: dict[str, None] = {}
        self._asked: list[tuple[ev.Wish | ev.Renew, Claim, int, Claim | None]] = []
        """Claims made by this event, with what was in their slots before."""
        self._glided = False
        self._round: dict[str, tuple[int, dict[str, Claim | None]]] = {}
        """Outputs that an event did not come to an end with: until when each is held safe (monotonic), and whose claims led then."""
        self._stopping: tuple[str, set[str]] | None = None

    # --- the way in ---------------------------------------------------------------------------------------

    def handle(self, event: ev.Event) -> list[ev.Effect]:
        """Take one event; return its effects, drives first and among those moves to off first."""
        self.now = event.at
        self._drives, self._effects, self._touched, self._asked = [], [], {}, []
        self._glided = False
        self._notice_jump()
        self._meet_deadlines()
        _HANDLERS[type(event)](self, event)
        rounds = self._decide()
        if self._asked and self.safety.of and self._withdraw():
            rounds += 1 + self._decide()
        if (self._glided and self._touched) or rounds > 1:
            # what something else has touched after it was sent on its way: only its last drive counts
            self._drives = [
                drive
                for drive in self._drives
                if drive.output not in self._touched
                or drive.generation == self._standings[drive.output].generation
            ]
        for wish, claim, sequence, before in self._asked:
            self._answer(wish, claim, sequence, before)
        if self._gathering is not None:
            self._gather(*self._gathering)
        for name in self._touched:
            s = self._standings[name]
            if s.moving and s.step_at is not None and max(s.step_at, self.now.mono) < s.told + SHOWN_EVERY:
                continue  # it moves on before anybody could have read it
            s.told = self.now.mono
            self._effects.append(ev.Changed("output", name))
        if len(self._drives) > 1:
            self._drives.sort(key=lambda drive: drive.setting.on)
        return [*self._drives, *self._effects]

    def next_deadline(self, now: Instant) -> int | None:
        """Monotonic nanoseconds at which a `Tick` is due, seen from ``now``; None if nothing is pending."""
        due, wall = self.mono.next, self.wall.next
        if wall is None:
            return due
        wall = now.mono + wall - now.wall
        return wall if due is None or wall < due else due

    # --- pictures for readers -----------------------------------------------------------------------------

    def output_now(self, name: str) -> OutputNow:
        """The output as it stands."""
        s = self._standings[name]
        board = self._boards[s.output.pin.board]
        return OutputNow(
            s.output, s.wanted, s.leader, s.claims, s.refusal, s.allowed, s.pending, s.confirmed, s.how,
            s.since, board.up, board.reason, s.fault, s.attempts, s.moving, s.keeping, self.safety.grace(s),
        )  # fmt: skip

    def input_now(self, name: str) -> InputNow:
        """The input as it stands."""
        gauge = self.gauges.get(name)
        if gauge is not None:
            return InputNow(
                name, None, gauge.since, gauge.raw, full=gauge.full, volts=gauge.volts, value=gauge.value
            )
        contact = self.contacts[name]
        return InputNow(
            name,
            contact.active,
            contact.since,
            contact.seen,
            contact.edges,
            contact.edge,
            value=contact.value,
        )

    def trials_now(self, board: str) -> list[Trial]:
        """What is being tried on a board."""
        return [trial for (name, _), trial in list(self.bare.trials.standing.items()) if name == board]

    def trial_failure(self, board: str, line: int) -> str:
        """Why the last trial of a pin came to nothing; empty while it stands."""
        return self.bare.trials.failures.get((board, line), "")

    def board_now(self, name: str) -> BoardNow:
        """The board as it stands."""
        return self._boards[name]

    def site_now(self) -> SiteNow:
        """All-stop, lockout tags, and whether the journal can be written."""
        tags = tuple(tag for tags in self.keeper.tags.values() for tag in tags.values())
        return SiteNow(
            self.keeper.stop, tags, self.recording, self._trouble, tuple(self.keeper.trips.values()),
            tuple(self.reflexes.raised.values()),
            tuple((name, each.suspended) for name, each in self.reflexes.reflexes.items() if each.suspended),
            self.agenda.behind,
        )  # fmt: skip

    def in_flight(self, drive: ev.Drive) -> bool:
        """Whether this drive is still the one that counts for its output."""
        s = self._standings[drive.output]
        return s.pending is not None and s.generation == drive.generation

    def unsafe(self, *, reachable: bool = False) -> list[str]:
        """Outputs not confirmed at what is allowed now (at shutdown: at safe); ``reachable``: of boards that answer."""
        return [
            name
            for name, s in self._standings.items()
            if (s.pending is not None or s.confirmed is None or s.confirmed != s.allowed)
            and (self._boards[s.output.pin.board].up or not reachable)
        ]

    # --- commands -----------------------------------------------------------------------------------------

    def _find(
        self, event: ev.Wish | ev.Release | ev.Lock | ev.Unlock | ev.Attest, sequence: int
    ) -> Standing | None:
        """The output that a command names; if there is none (any more), the command is refused here."""
        s = self._standings.get(event.output)
        if s is None:
            self.refuse(
                event, sequence, Refusal("name", "the site has no such output", "See: cairnwind look.")
            )
        return s

    def wish(self, event: ev.Wish) -> None:
        """Somebody wishes something."""
        sequence = self.number()
        s = self._find(event, sequence)
        if s is None:
            return
        setting = event.setting
        if setting is None and event.by:
            setting = stepped(s.value(self.now.mono), event.by)
        elif setting is None:
            before = leading(s.claims)
            setting = s.output.off if (before.setting if before else s.output.rest).on else s.output.full
        elif type(setting) is Program:
            setting = setting.starting(s.value(self.now.mono))
        if self._permitted(s, event, setting, sequence):
            self._make(s, event, setting, sequence)

    def _overtaken(self, event: ev.Overtaken) -> None:
        """As if the command had been carried out and superseded at once, but for the flash in between."""
        sequence = self.number()
        reason = "a later 'off' overtook it"
        data = {"verb": "overtaken", "outcome": "driving", "reason": reason}
        self.record(sequence, "command", event.output, f"{event.output} (superseded: {reason})", event, data)
        self._effects.append(ev.Outcome(event.command, sequence, "driving", event.output, reason))
        self._effects.append(ev.Ended(event.command, event.output, "superseded", reason))

    def _take_back_unrecorded(self, event: ev.Withdraw) -> None:
        """What could not be recorded was not decided: claims that still stand end, and what they replaced stands again."""
        why = "it could not be recorded, and is taken back"
        for claim, before in event.made:
            s = self._standings.get(claim.output)
            standing = held(s.claims, claim.slot) if s is not None else None
            if s is None or standing is None or standing.place != claim.place:
                continue
            if before is None or (before.ends_mono is not None and before.ends_mono <= self.now.mono):
                self.end(s, standing, why)
                continue
            s.claims = put(s.claims, before)
            self._watch_end(before)
            self._effects.append(ev.KeepClaim(before))
            self._touched[claim.output] = None
            self._journal_end(standing, why)
            text = f"{s.output.name} to {s.output.say(before.setting)} again: what came after {why}"
            data = {"verb": "claim", "claim": claim_form(before), "outcome": self.word, "reason": why}
            self.record(self.number(), "command", s.output.name, text, None, data)
        for timer in event.timers:
            self.agenda.drop_unrecorded(timer)
        self._effects.append(ev.Outcome(event.command, self.number(), self.word, "", why))

    def _permitted(self, s: Standing, event: ev.Wish, setting: Setting | Program, sequence: int) -> bool:
        """Whether a claim may be made at all; if not, the command is answered here.

        A person's or hand's wish that is not permitted now leaves no claim, unless only time stands in the
        way or 'when possible' was asked. Moves to safe are always permitted.
        """
        output = s.output
        if setting == output.safe or (not setting.on and self.keeper.refusal(output) is None):
            return True
        if not self.recording:
            self.refuse(event, sequence, self.no_journal(), setting)
            return False
        if event.rank < Rank.PERSON or event.when_possible:
            return True
        refusal = self.keeper.refusal(output)
        if refusal is None and s.ruled is not None and setting.on:
            refusal = self.safety.refusal(s, starting=not s.granted) or self.safety.room(s, event.rank)
        if refusal is None and type(setting) is Tone and sounding(event.lifetime) is None:
            refusal = Refusal(
                "tone",
                "a tone has an end, within 10 minutes",
                "Say for how long: for 2 s. A tune may be longer.",
            )
        if refusal is None and isinstance(setting, Program) and setting.heard:
            leader = leading(s.claims)
            if leader is not None and leader.rank > event.rank:
                reason = f"{leader.text} leads with {output.say(leader.setting)}, and a tune does not wait"
                refusal = Refusal("rank", reason, "Play it when that has ended.")
        if refusal is None and type(setting) is Level and setting.millihertz:
            refusal = self.bare.trials.shared_timer(output.pin, setting.millihertz, output.name)
        if refusal is not None and not refusal.only_time:
            self.refuse(event, sequence, refusal, setting)
            return False
        board = self._boards[output.pin.board]
        if not board.up:
            away = f"board {board.name} does not answer: {board.reason}"
            refusal = Refusal("link", away, "See to the board; say it again when the link is back.")
            self.refuse(event, sequence, refusal, setting, "unreachable")
            return False
        return True

    def _make(self, s: Standing, event: ev.Wish, setting: Setting | Program, sequence: int) -> None:
        life = event.lifetime
        if type(setting) is Tone and setting.on:
            life = sounding(life) or life
        if (
            s.output.auto_off
            and setting.on
            and event.rank is Rank.PERSON
            and life.kind in ("takeover", "released")
        ):
            life = lasting(s.output.auto_off)
        ends_mono = ends_wall = None
        if life.kind in ("for", "lease"):
            ends_mono, ends_wall = event.at.mono + life.span, event.at.wall + life.span
        elif life.kind == "until":
            ends_wall = life.wall
        claim = Claim(
            sequence, s.output.name, event.slot, event.rank, setting, sequence, event.source, life, event.at,
            ends_mono, ends_wall, event.scene, event.when_possible,
        )  # fmt: skip
        before = held(s.claims, event.slot)
        if event.scene:
            self.agenda.claimed(event.scene, s.output.name, event.slot, sequence)
        if claim.rank is Rank.PLAN:
            self._edge(s)
        s.claims = put(s.claims, claim)
        s.told = 0
        self._watch_end(claim)
        self._effects.append(ev.KeepClaim(claim))
        self._touched[s.output.name] = None
        self._tell(s, "superseded", f"by {claim.text}")
        self._asked.append((event, claim, sequence, before))

    def _renew(self, event: ev.Renew) -> None:
        s = self._standings.get(event.output)
        claim = held(s.claims, event.slot) if s is not None else None
        if s is None or claim is None or claim.lifetime.kind != "lease":
            self.refuse(event, self.number(), Refusal("lease", "this hold has ended", "Make a new one."))
            return
        span = claim.lifetime.span
        ends = (event.at.mono + span, event.at.wall + span)
        if event.setting is None or event.setting == claim.setting:
            s.claims = put(s.claims, replace(claim, ends_mono=ends[0], ends_wall=ends[1]))
            self._touched[event.output] = None
            self._effects.append(self._outcome(event.command, s, s.claims[-1], claim.id))
            return
        sequence = self.number()
        wish = ev.Wish(
            event.at, event.command, event.source, event.output, event.setting, claim.rank, claim.slot, claim.lifetime
        )  # fmt: skip
        if not self._permitted(s, wish, event.setting, sequence):
            return
        setting = (
            event.setting.starting(s.value(self.now.mono))
            if type(event.setting) is Program
            else event.setting
        )
        before = claim
        claim = replace(
            claim, setting=setting, place=sequence, made=event.at, ends_mono=ends[0], ends_wall=ends[1]
        )
        s.claims = put(s.claims, claim)
        self._watch_program(claim)
        self._effects.append(ev.KeepClaim(claim))
        self._touched[event.output] = None
        self._tell(s, "superseded", f"by {claim.text}")
        self._asked.append((event, claim, sequence, before))

    def release(self, event: ev.Release) -> None:
        """'I no longer care.'"""
        sequence = self.number()
        s = self._find(event, sequence)
        if s is None:
            return
        claim = held(s.claims, event.slot)
        below = leading(take(s.claims, event.slot))
        uncovered = below.setting if below else s.output.rest
        if claim is not None and not self.recording and uncovered.on and uncovered != s.output.safe:
            self.refuse(event, sequence, self.no_journal())
            return
        reason = f"released {claim.text}" if claim else "nothing to release: nobody claims it there"
        if claim is not None:
            self.end(s, claim, "released", journal=False)
        data = {"verb": "release", "slot": event.slot, "claim": claim.id if claim else None}
        self.record(sequence, "command", event.output, f"{event.output}: {reason}", event, data)
        word = "driving" if self.recording else "not recorded"
        self._effects.append(ev.Outcome(event.command, sequence, word, event.output, reason, claim=claim))

    def all_stop(self, event: ev.AllStop) -> None:
        """Everything safe, now."""
        sequence = self.number()
        first = self.keeper.stop is None
        if first:
            self.keeper.stop = Stop(event.at.wall, event.source, event.reason)
            self._effects.append(ev.KeepStop(self.keeper.stop))
            self.disarm(self._standings.values(), "ended by the all-stop")
            for s in self._standings.values():
                if (
                    s.moving
                    or s.wanted != s.output.safe
                    or s.confirmed != s.output.safe
                    or s.pending is not None
                ):
                    self._touched[s.output.name] = None
            self._stopping = (event.command, set(self._touched))
            self.bare.end_all("ended by the all-stop")
        self._effects.append(ev.Changed("site", ""))
        reason = "everything to safe" if first else "the all-stop was in force already"
        data = {"verb": "stop", "stop": stop_form(self.keeper.stop)}
        self.record(sequence, "command", "", f"all-stop: {event.reason or 'no reason given'}", event, data)
        word = "driving" if self.recording else "not recorded"
        self._effects.append(ev.Outcome(event.command, sequence, word, "", reason))
        self._count_stopped()
        if not first:
            self._effects.append(ev.Ended(event.command, "", "confirmed", reason))

    def _reset_stop(self, event: ev.ResetStop) -> None:
        sequence = self.number()
        if not event.source.keeps:
            refusal = Refusal("role", "only a keeper resets an all-stop", "Use a key with the role keep.")
            self.refuse(event, sequence, refusal)
            return
        if not self.recording and self.keeper.stop is not None:
            self.refuse(event, sequence, self.no_journal())
            return
        was = self.keeper.stop
        self.keeper.stop = None
        self._effects += [ev.KeepStop(None), ev.Changed("site", "")]
        if was is not None:
            for s in self._standings.values():
                if s.refusal is not None:
                    self._touched[s.output.name] = None
        reason = "the all-stop is reset" if was else "there was no all-stop to reset"
        self.record(sequence, "command", "", reason, event, {"verb": "reset"})
        self._effects.append(ev.Outcome(event.command, sequence, "driving", "", reason))

    def _reset_trip(self, event: ev.ResetTrip) -> None:
        self.safety.reset(event)

    def _reload(self, event: ev.Reload) -> None:
        """Other rules hold from now on; what the old ones remember by name is kept."""
        sequence = self.number()
        self.site = event.site
        old, before = self.safety, self.reflexes
        for s in self._standings.values():
            s.ruled = None
        self.safety, self.reflexes = Safety(self), Reflexes(self)
        self.safety.arm(event.interlocks, event.guards)
        self.reflexes.arm(event.reflexes)
        self.safety.succeed(old)
        for s in self._standings.values():
            if s.ruled is None:
                s.going = s.keeping = None
        if not self.safety.same(old):
            self._round.clear()
        self.reflexes.succeed(before)
        self.agenda.reload(event.schedules)
        for name in event.changed:
            s = self._standings[name]
            s.homing, s.granted = True, False
        for name in self._standings:
            self._touched[name] = None
        self._effects += [ev.Changed("site", ""), ev.Changed("plan", "")]
        text = f"the site file is read anew: {len(event.interlocks)} interlocks, {len(event.reflexes)} reflexes, {len(event.schedules)} schedules"
        self.record(sequence, "command", "", text, event, {"verb": "reload"})
        self._effects.append(ev.Outcome(event.command, sequence, self.word, "", text))

    def _probe(self, event: ev.Probe) -> None:
        s = self._standings[event.output]
        refusal = self.keeper.refusal(s.output)
        if refusal is None and s.ruled is not None:
            refusal = self.safety.refusal(s, starting=not s.granted) or self.safety.room(s, Rank.PERSON)
        board = self._boards[s.output.pin.board]
        if refusal is None and not board.up:
            refusal = Refusal(
                "link", f"board {board.name} does not answer: {board.reason}", "See to the board."
            )
        word = "driving" if refusal is None else "waiting" if refusal.only_time else "refused"
        reason, remedy = (refusal.reason, refusal.remedy) if refusal else ("", "")
        self._effects.append(ev.Outcome(event.command, self.sequence, word, event.output, reason, remedy))

    def _resume(self, event: ev.Resume) -> None:
        self.reflexes.resume(event)

    def _acknowledge(self, event: ev.Acknowledge) -> None:
        self.reflexes.acknowledge(event)

    def _open(self, event: ev.Open) -> None:
        self.safety.open(event)

    def _wrong_code(self, event: ev.WrongCode) -> None:
        self.safety.wrong_code(event)

    def _attest(self, event: ev.Attest) -> None:
        """Somebody has seen that an output which nobody can ask is off."""
        sequence = self.number()
        s = self._find(event, sequence)
        if s is None:
            return
        refusal = None
        if not event.source.keeps:
            refusal = Refusal("role", "only a keeper attests", "Use a key with the role keep.")
        elif not event.by.strip():
            refusal = Refusal("name", "somebody with a name attests", "Say who: --by NAME.")
        elif self._boards[s.output.pin.board].up and s.confirmed is not None:
            refusal = Refusal(
                "known", f"it is known to be {s.output.say(s.confirmed)}", "Nothing has to be attested."
            )
        elif not self.recording:
            refusal = self.no_journal()
        if refusal is not None:
            self.refuse(event, sequence, refusal)
            return
        s.attested = True
        self._noticed(s)
        text = f"{event.output}: {event.by} attests that it is off"
        self.record(sequence, "command", event.output, text, event, {"verb": "attest", "by": event.by})
        self._effects.append(ev.Outcome(event.command, sequence, "driving", event.output, text))

    def _lock(self, event: ev.Lock) -> None:
        sequence = self.number()
        s = self._find(event, sequence)
        if s is None:
            return
        tag = Tag(event.output, event.tag, event.source, event.at.wall, event.reason, event.until)
        tags = self.keeper.tags.setdefault(event.output, {})
        tag = tags.setdefault(event.tag, tag)
        self.disarm([s], f"ended by the lockout '{event.tag}'")
        self._touched[event.output] = None
        self._effects += [ev.KeepTag(tag), ev.Changed("site", "")]
        reason = f"locked out by tag '{event.tag}'"
        data = {"verb": "lock", "tag": tag_form(tag)}
        self.record(sequence, "command", event.output, f"{event.output}: {reason}", event, data)
        word = "driving" if self.recording else "not recorded"
        self._effects.append(ev.Outcome(event.command, sequence, word, event.output, reason))

    def _unlock(self, event: ev.Unlock) -> None:
        sequence = self.number()
        if self._find(event, sequence) is None:
            return
        tags = self.keeper.tags.get(event.output, {})
        tag = tags.get(event.tag)
        if tag is not None and not (event.source.keeps or event.source.who == tag.source.who):
            hung = f"tag '{tag.name}' was hung by the {tag.source.text}"
            self.refuse(event, sequence, Refusal("lockout", hung, "They take it off, or a keeper does."))
            return
        if not self.recording:
            self.refuse(event, sequence, self.no_journal())
            return
        if tag is not None:
            del tags[event.tag]
            if not tags:
                del self.keeper.tags[event.output]
            self._effects += [ev.DropTag(event.output, event.tag), ev.Changed("site", "")]
            self._touched[event.output] = None
        reason = f"tag '{event.tag}' taken off" if tag else f"no tag '{event.tag}' was on it"
        data = {"verb": "unlock", "tag": event.tag}
        self.record(sequence, "command", event.output, f"{event.output}: {reason}", event, data)
        self._effects.append(ev.Outcome(event.command, sequence, "driving", event.output, reason))

    # --- what boards and inputs say -----------------------------------------------------------------------

    def _answers(self, event: ev.Answers) -> None:
        for each in event.all:
            self._confirmed(each)

    def _confirmed(self, event: ev.Confirmed) -> None:
        s = self._standings[event.output]
        if event.generation != s.generation or not self._boards[s.output.pin.board].up:
            return
        was_unsure = s.unsure
        awaited, s.pending = s.pending, None
        expected = awaited if awaited is not None else s.confirmed
        was, s.confirmed, s.how = s.confirmed, event.setting, event.how
        if not s.confirmed.on and (was is None or was.on or awaited is not None):
            s.off_at = self.now.mono
            if s.ruled is not None:
                self.safety.went_off(s, was_on=was is not None and was.on)
        if s.ruled is not None:
            s.attested = False
            self._noticed(s)
        if was_unsure and was == s.confirmed:
            self._noticed(s)  # it did not get to the other side: that is known now
        if was != s.confirmed:
            self._noticed(s)
            s.since = event.at.wall
            s.unsaid = s.moving  # the journal holds no steps
            if not s.moving:
                self._journal_change(s)
        # in the midst of a slope the next step is near, and nothing is left to do until then
        if not (s.moving and event.setting == s.allowed and s.next_at < self.now.mono + SHOWN_EVERY):
            self._touched[event.output] = None
        if expected is None or event.setting == expected:
            if awaited is not None or expected is None:  # a late answer to what had been given up counts too
                s.well()
                if s.homing and s.confirmed == s.output.safe:
                    s.homing = False
                if s.asker and (event.setting == s.allowed or s.following is not None):
                    # a motor on its ramp has not done yet what was asked; a program has begun
                    said = f"{s.output.say(event.setting)}, {event.how} by board {s.output.pin.board}"
                    self._tell(s, "confirmed", said)
            return
        self._differs(s, expected)

    def _differs(self, s: Standing, expected: Setting | None) -> None:
        """A read-back that is not what was driven: corrected once, then a fault."""
        if not s.corrected:
            s.corrected = True
            return
        assert expected is not None
        assert s.confirmed is not None
        s.stuck = expected
        text = f"board {s.output.pin.board} shows {s.output.say(s.confirmed)} instead of {s.output.say(expected)}, also after a correction"
        if s.fault != text:
            s.fault = text
            self.record(
                self.number(), "fault", s.output.name, f"{s.output.name}: {text}", None, {"fault": text}
            )
        self._tell(s, "failed", text)
        self._back_off(s, expected)

    def _failed(self, event: ev.Failed) -> None:
        s = self._standings[event.output]
        if event.generation == s.generation and s.pending is not None:
            self._fail(s, event.reason)

    def _fail(self, s: Standing, reason: str) -> None:
        assert s.pending is not None
        tried, s.pending, s.confirmed, s.how = s.pending, None, None, ""
        self._noticed(s)
        if s.attempts == 0:
            text = f"{s.output.name}: could not be set to {s.output.say(tried)}: {reason}"
            self.record(self.number(), "failed", s.output.name, text, None, {"reason": reason})
        self._tell(s, "failed", reason)
        self._back_off(s, tried)

    def _back_off(self, s: Standing, tried: Setting) -> None:
        s.failed = tried
        s.retry_at = self.now.mono + min(RETRY_FIRST << min(s.attempts, 10), RETRY_LONGEST)
        s.attempts += 1
        self.mono.set(s.retry_at, "retry", s.output.name)

    def _link_up(self, event: ev.LinkUp) -> None:
        self._set_board(event.board, True, "")
        readings = dict(event.readings)
        self.bare.trials.timers.update({(event.board, line): timer for line, timer in event.timers})
        for name in self._on_board[event.board]:
            s = self._standings[name]
            self._forget(s)
            s.confirmed = readings.get(name)
            s.how = "read back" if s.confirmed is not None else ""
            s.homing = s.confirmed != s.output.safe
            s.off_at, s.attested = self.now.mono, False
            if s.ruled is not None:
                self.safety.back(s)
            self._noticed(s)
            if s.confirmed is not None:
                s.since = event.at.wall
                self._journal_change(s)

    def _link_lost(self, event: ev.LinkLost) -> None:
        self._set_board(event.board, False, event.reason)
        standings = [self._standings[name] for name in self._on_board[event.board]]
        for s in standings:
            if s.ruled is not None:
                self.safety.lost(s)
            self._forget(s)
            s.confirmed, s.how, s.homing = None, "", True
            s.granted, s.going, s.attested, s.lost_at = False, None, False, self.now.mono
            self._noticed(s)
            self._tell(s, "failed", f"the link to board {event.board} was lost: {event.reason}")
        self.disarm(standings, f"ended when board {event.board} was lost")
        for contact in self.contacts.values():
            if contact.input.pin.board == event.board:
                self._see(contact, None)
        for gauge in self.gauges.values():
            if gauge.input.pin.board == event.board:
                self._measure(gauge, None, 0, None)
        self.bare.end_all(f"ended when board {event.board} was lost", event.board)

    def _input_seen(self, event: ev.InputSeen) -> None:
        self._see(self.contacts[event.input], event.active, event.edge, event.settled)

    def _see(self, contact: Contact, active: bool | None, edge: int = 0, settled: bool = False) -> None:
        before = contact.seen
        if contact.see(active, self.now.mono, self.now.wall, edge, settled=settled):
            self._journal_input(contact)
        if contact.deadline is not None:
            self.mono.set(contact.deadline, "input", contact.input.name)
        if contact.input.stale and active is not None and self._stepped:
            self.mono.by(self.now.mono + contact.input.stale, "stale", contact.input.name)
        if before != active:
            self._effects.append(ev.Changed("input", contact.input.name))

    def _measured(self, event: ev.Measured) -> None:
        self._measure(self.gauges[event.input], event.raw, event.full, event.volts)

    def _measure(self, gauge: Gauge, raw: int | None, full: int, volts: float | None) -> None:
        name = gauge.input.name
        if gauge.measure(raw, full, volts, self.now.mono, self.now.wall):
            self._effects.append(ev.Changed("input", name))
            self.safety.watches.mark("input", name)
            self.reflexes.input_changed(name)
        if gauge.input.stale and volts is not None and self._stepped:  # in a rehearsal nobody falls silent
            self.mono.by(self.now.mono + gauge.input.stale, "stale", name)
        self._sticks.moved(name)

    def _stale_due(self, name: str, slot: str) -> None:
        """An input may have been silent for too long."""
        thing = self.gauges.get(name) or self.contacts[name]
        if not thing.input.stale:
            return
        if not silent(thing, self.now.mono):
            if thing.heard + thing.input.stale > self.now.mono:
                self.mono.set(thing.heard + thing.input.stale, "stale", name)
            return
        text = f"{name} was not heard from for {show_duration(thing.input.stale)}: it is not known"
        self.record(self.number(), "input", name, text, None, {"active": None, "silent": True})
        if isinstance(thing, Gauge):
            self._measure(thing, None, 0, None)
        else:
            self._see(thing, None)

    def _try_pin(self, event: ev.TryPin) -> None:
        self.bare.attempt(event)

    def _end_try(self, event: ev.EndTry) -> None:
        self.bare.end(event)

    def _trial_failed(self, event: ev.TrialFailed) -> None:
        self.bare.failed(event)

    def _trial_due(self, board: str, line: str) -> None:
        self.bare.due(board, line)

    # --- the service's own events -------------------------------------------------------------------------

    def _start(self, event: ev.Start) -> None:
        self.sequence = event.sequence
        self.keeper.starting = False
        self.keeper.stop = event.stop
        if event.interlocks or event.reflexes or event.guards:
            self.safety.arm(event.interlocks, event.guards)
            self.reflexes.arm(event.reflexes)
            self.safety.take_up_graces(event.graces)
        self.safety.recall(event.paces)
        if self.site.quiet is not None:
            self._quiet_due("", "")
        for tag in event.tags:
            if tag.output in self._standings:
                self.keeper.tags.setdefault(tag.output, {})[tag.name] = tag
        self.record(self.number(), "start", "", "the service started", None, {})
        self._effects += [replace(record, sequence=self.number()) for record in self._early]
        self._early = []
        self.safety.take_up(event.trips)
        for claim in event.claims:
            self._take_back(claim)
        self.agenda.start(event)
        self.reflexes.start(event.alarms)
        for name in self._standings:
            self._touched[name] = None
        self._effects.append(ev.Changed("site", ""))

    def _take_back(self, stored: Claim) -> None:
        """Restore a stored claim, or say why it is not there any more."""
        s = self._standings.get(stored.output)
        claim = restore(stored, self.now)
        why = "ended while the service was down"
        if s is None:
            claim, why = None, "its output is no longer in the site file"
        elif claim is not None and s.output.rearm == "command" and _armed(claim):
            claim, why = None, "needs a new command after a restart"
        elif claim is None and type(stored.setting) is Program:
            why = "a program that is over, or a tune, is not taken up again"
        elif claim is not None and not _suits(s.output, claim.setting):
            claim, why = None, "its output no longer takes that"
        if s is None or claim is None:
            self._journal_end(stored, why)
            self._effects.append(ev.DropClaim(stored.output, stored.slot))
            return
        s.claims = put(s.claims, claim)
        if claim.scene:
            self.agenda.claimed(claim.scene, claim.output, claim.slot, claim.id)
        self._watch_end(claim)

    def _shutdown(self, event: ev.Shutdown) -> None:
        self.keeper.closing = True
        self.record(self.number(), "shutdown", "", "the service is stopping: every output to safe", None, {})
        for name in self._standings:
            self._touched[name] = None
        self.bare.end_all("the service is stopping")

    def _set_recording(self, event: ev.Recording) -> None:
        if self.recording != event.ok:
            self.recording, self._trouble = event.ok, event.reason
            self._effects.append(ev.Changed("site", ""))
            text = (
                "the journal can be written again"
                if event.ok
                else f"the journal cannot be written: {event.reason}"
            )
            self.record(self.number(), "journal", "", text, None, {"ok": event.ok})

    def _tick(self, event: ev.Tick) -> None:
        """Time has passed; `_meet_deadlines` has done what was due."""

    # --- from wish to pin ---------------------------------------------------------------------------------

    def _decide(self) -> int:
        """Walk the way from wish to pin for all that was touched, until nothing is; returns how many rounds that took."""
        settled: dict[str, int] = {}
        rounds = 0
        while self.safety.look() or self._touched:
            batch, self._touched = self._touched, {}
            rounds += 1
            for name in batch:
                settled[name] = settled.get(name, 0) + 1
                if settled[name] % MOST_TURNS == 0:
                    self._hold_round(name, settled)
                self._want(self._standings[name])
            if self.safety.of:
                for name in batch:
                    self.safety.give_places(self._standings[name], batch)
            for name in batch:
                self._allow(self._standings[name])
        self._touched = dict.fromkeys(settled)
        return rounds

    def _hold_round(self, name: str, settled: dict[str, int]) -> None:
        """Interlocks go round: who wants on and is not yet is held safe, until another claim leads one of them, or for long.

        Where that does not end it, whoever goes round is held itself.
        """
        members = {each: self._standings[each].leader for each, turns in settled.items() if turns > 2}
        coming = [each for each in members if self._wants_on(self._standings[each])]
        for each in coming if coming and settled[name] == MOST_TURNS else [name]:
            self._round[each] = self.now.mono + ROUND_REST, members
            self.mono.set(self.now.mono + ROUND_REST, "ruled", each, "round")
            self._touched[each] = None

    def _wants_on(self, s: Standing) -> bool:
        """Somebody wants it on, and it is not."""
        return s.wanted.on and not (s.confirmed is not None and s.confirmed.on)

    def _goes_round(self, name: str) -> bool:
        held = self._round.get(name)
        if held is None:
            return False
        until, members = held
        if self.now.mono < until and all(
            self._standings[each].leader is was for each, was in members.items()
        ):
            return True
        del self._round[name]
        return False

    def _want(self, s: Standing) -> None:
        """What is wanted of one output, and whether its own gates let it have that."""
        claims = s.claims
        if claims and (len(claims) > 1 or type(claims[0].setting) is Program):
            self._hush(s)
        leader = leading(s.claims)
        if leader is not s.leader:
            s.leader = leader
            for name, (_, members) in self._round.items():
                if s.output.name in members:
                    self._touched[name] = None
            self.safety.watches.mark("claims", s.output.name)
        wish = leader.setting if leader else s.output.rest
        s.moving = False
        if not isinstance(wish, Program):
            s.wanted, s.following = wish, None
        elif leader is not None:
            s.follow(wish, leader, self.now.mono, stepped=self._stepped)
            if s.moving:
                self._step_at(s, s.next_at)
        s.aim = s.wanted
        if s.ruled is not None:
            self._bend(s, wish)
        else:
            s.refusal = None if s.wanted == s.output.safe and not s.moving else self.keeper.refusal(s.output)

    def _bend(self, s: Standing, wish: Setting | Program) -> None:
        """What interlocks make of it: what is kept on a little longer, what has to go first, what is refused."""
        safety, output = self.safety, s.output
        assert s.ruled is not None
        s.keeping = None
        wants = wish.on and (s.wanted.on or not s.ruled.pace)
        if s.granted and not wants:
            s.keeping = safety.keeps_on(s)
            if s.keeping is not None:
                s.aim, wants = s.allowed, True
        own = self._own(s, wants)
        if own is None or own.coming:
            first = safety.first_off(s, output.safe if own else s.aim)
            if first is not None:
                kept = self._own(s, s.allowed.on)
                if kept is None or kept.coming:
                    s.keeping, s.aim, own, wants = first, s.allowed, None, s.allowed.on
                else:
                    own = kept
        if own is not None and not own.coming:
            safety.first_off(
                s, s.confirmed if s.confirmed is not None else output.safe
            )  # it waits for nothing
        if s.granted and own is not None and own.gate in ("trip", "needs", "pace"):
            self.disarm([s], f"ended: {own.reason}")
        s.refusal = own
        safety.bid(s, wants and own is None and not s.homing, wish)

    def _own(self, s: Standing, wants: bool) -> Refusal | None:
        """The first of its own gates that refuses."""
        if not wants and s.aim == s.output.safe and not s.moving:
            return None
        if self._goes_round(s.output.name):
            return Refusal(
                "needs",
                "its interlocks go round in a circle: what it needs goes off when it comes on",
                "Change the interlocks: cairnwind check.",
            )
        found = self.keeper.refusal(s.output)
        return found if found is not None or not wants else self.safety.refusal(s, starting=not s.granted)

    def _allow(self, s: Standing) -> None:
        """What is allowed of what is wanted, and on its way to the pin with that."""
        if s.ruled is not None:
            self._take_place(s)
        s.allowed = s.output.safe if s.refusal else s.aim
        target = s.output.safe if s.homing else s.allowed
        if s.output.shape is not None:
            if s.refusal is None:
                target = self._shape(s, target)
            else:
                s.way = Way(sign=s.way.sign)  # a gate stops it at once, and it begins anew after that
        if s.moving and s.pending is not None and s.refusal is None:
            pass  # one step at a time: its confirmation brings us back here, as fast as the board is
        else:
            self._drive(s, target)
        if s.unsaid and not s.moving and s.pending is None and s.confirmed is not None:
            s.unsaid = False
            self._journal_change(s)
        self._count_stopped(s)

    def _take_place(self, s: Standing) -> None:
        """Whether it has a place among those that share a rule with it, and may start now."""
        ruled = s.ruled
        assert ruled is not None
        if s.refusal is None and ruled.bid is not None:
            s.refusal = ruled.shared
            if s.refusal is None and not s.granted:
                s.refusal = self.safety.refusal(s, starting=True)  # another of this round may have started
        on = ruled.bid is not None and s.refusal is None
        if on and not s.granted:
            self.safety.started(s)
        elif s.refusal is None and s.aim.on and not on:
            s.aim = s.output.safe  # its board is away, or it is on its way to safe first
        if s.granted != on:
            s.granted = on
            self._touched[s.output.name] = (
                None  # what keeps it from starting is asked otherwise than what ends it
            )
        leader = s.leader
        if s.refusal is not None and leader is not None and leader.rank >= Rank.PERSON and not leader.patient:
            if s.refusal.only_time:
                ruled.place = leader.place
            elif ruled.place == leader.place:
                self.end(s, leader, f"it waited, and is not permitted any more: {s.refusal.reason}")
        self._journal_gate(s)

    def _withdraw(self) -> bool:
        """Take back claims of this event that turned out not to be permitted, and put back what they replaced."""
        left = []
        for asked in self._asked:
            event, claim, sequence, before = asked
            s = self._standings[claim.output]
            refusal = s.refusal
            if (
                refusal is None or refusal.only_time or s.ruled is None or claim.patient
                or claim.rank < Rank.PERSON or not claim.setting.on or held(s.claims, claim.slot) is not claim
            ):  # fmt: skip
                left.append(asked)
                continue
            s.claims = take(s.claims, claim.slot) if before is None else put(s.claims, before)
            self._effects.append(
                ev.DropClaim(claim.output, claim.slot) if before is None else ev.KeepClaim(before)
            )
            self._touched[claim.output] = None
            self.refuse(event, sequence, refusal, claim.setting)
        withdrawn = len(left) < len(self._asked)
        self._asked = left
        return withdrawn

    def _journal_gate(self, s: Standing) -> None:
        """A gate begins to hold back what somebody wants, or no longer does."""
        refusal = s.refusal
        now = (refusal.gate, refusal.rule) if refusal is not None and s.leader is not None else ("", "")
        if now == s.gated or self.keeper.starting:
            return
        s.gated = now
        if refusal is not None and now[0]:
            text, data = (
                f"{s.output.name} is kept {s.output.say(s.output.safe)}: {refusal.reason}",
                {"gate": now[0], "rule": now[1]},
            )
        else:
            text, data = f"{s.output.name}: nothing stands in its way any more", {"gate": ""}
        self.record(
            self.number(),
            "gate",
            s.output.name,
            text,
            None,
            {**data, "reason": refusal.reason if refusal else ""},
        )

    def _noticed(self, s: Standing) -> None:
        """What is known of an output has changed, however that came: whoever looks at it, needs it or waits for it is asked."""
        self._touched[s.output.name] = None
        if s.ruled is not None:
            self.safety.known(s)
            self.safety.moved(s)
        watches = self.safety.watches
        if watches.about:
            watches.mark("output", s.output.name)
            if s.output.supply:
                watches.mark("supply", s.output.supply)

    def _hush(self, s: Standing) -> None:
        """A tune that is hidden, gated or cannot reach its sounder is over: it never resumes in the middle."""
        tunes = s.tunes
        if not tunes:
            return
        lead, gate = leading(s.claims), self.keeper.refusal(s.output)
        for claim in tunes:
            if claim is not lead:
                self.end(s, claim, "another sound is in its place, and a tune does not resume in the middle")
            elif gate is not None:
                self.end(s, claim, f"a tune does not resume in the middle: {gate.reason}")
            elif not self._boards[s.output.pin.board].up:
                self.end(s, claim, "a tune does not resume in the middle: its board is away")

    def _shape(self, s: Standing, target: Setting) -> Setting:
        """What its load needs on the way there: a kick, a pause, a ramp."""
        assert s.output.shape is not None
        target, s.way, due = next_step(
            s.output.shape, s.way, target, s.confirmed if s.pending is None else None, self.now.mono
        )
        if due is not None:
            s.moving = True
            self._step_at(s, due)
        return target

    def _step_at(self, s: Standing, due: int) -> None:
        if s.step_at is None or due < s.step_at or s.step_at <= self.now.mono:
            s.step_at = due
            self.mono.set(due, "step", s.output.name)

    def _step_due(self, name: str, slot: str) -> None:
        s = self._standings[name]
        if s.step_at is not None and s.step_at <= self.now.mono:
            s.step_at = None
            if not self._glide(s):
                self._touched[name] = None

    def _glide(self, s: Standing) -> bool:
        """The next step of a slope where nothing stands in the way: what 64 lamps need 50 times a second.

        The same as `_settle` would do, without asking again what only another event can have changed.
        """
        output, now = s.output, self.now.mono
        if not self._boards[output.pin.board].up or output.name in self._touched:
            return False
        if not self.keeper.open and self.keeper.refusal(output) is not None:
            return False
        if s.ruled is not None and (s.ruled.needed or s.ruled.pace or s.keeping is not None):
            return False
        setting = s.glide(now)
        if setting is None:
            return False
        s.wanted = s.allowed = setting
        self._send(s, setting)
        self._glided = True
        self._step_at(s, s.next_at)
        if now >= s.told + SHOWN_EVERY or s.next_at >= now + SHOWN_EVERY:
            s.told = now
            self._effects.append(ev.Changed("output", output.name))
        return True

    def _over_due(self, name: str, slot: str) -> None:
        """A program that ends by itself has come to its end, unless another took its place since."""
        s = self._standings[name]
        claim = held(s.claims, slot)
        program = claim.setting if claim is not None else None
        if claim is not None and isinstance(program, Program) and program.then == "release":
            if program.over(self.now.mono - claim.made.mono):
                self.end(s, claim, "it has come to its end")

    def _watch_program(self, claim: Claim) -> None:
        program = claim.setting
        if type(program) is Program and program.then == "release" and program.length is not None:
            self.mono.set(claim.made.mono + program.length, "over", claim.output, claim.slot)

    def _drive(self, s: Standing, target: Setting) -> None:
        if not self._boards[s.output.pin.board].up:
            return
        if (s.pending if s.pending is not None else s.confirmed) == target:
            if s.pending is None:
                if s.ruled is not None and s.retry_at is not None:
                    self.safety.moved(s)  # it is not tried again
                s.well()
                if s.homing:
                    s.homing = False
                    if s.ruled is not None:
                        self._touched[s.output.name] = None
                    elif s.allowed != target:
                        self._drive(s, s.allowed)
            return
        if s.failed == target and s.retry_at is not None and self.now.mono < s.retry_at:
            return
        if s.stuck == target and target != s.output.safe:
            return
        if s.failed is not None and s.failed != target:
            s.attempts, s.failed, s.retry_at = 0, None, None
        if s.stuck is not None and s.stuck != target:
            s.stuck, s.corrected, s.fault = None, False, ""
        self._send(s, target)

    def _send(self, s: Standing, target: Setting) -> None:
        s.generation += 1
        was_unsure = s.unsure
        s.pending, s.sent = target, self.now.mono
        s.strayed = s.confirmed is not None and (was_unsure or s.confirmed.on != target.on)
        if not s.watched:
            s.watched = True
            self.mono.set(s.sent + ANSWER_WITHIN, "answer", s.output.name)
        self._drives.append(ev.Drive(s.output.name, s.generation, target))
        if s.unsure != was_unsure:
            self.safety.watches.mark(
                "output", s.output.name
            )  # a 'for' about it counts anew once it is confirmed
        if s.ruled is not None:
            self.safety.sent(s)
            self.safety.moved(s)  # back to what it was, too: what was about to change no longer is

    def _answer(self, event: ev.Wish | ev.Renew, claim: Claim, sequence: int, before: Claim | None) -> None:
        s = self._standings[claim.output]
        outcome = self._outcome(event.command, s, claim, sequence, before)
        data = {
            "verb": "claim",
            "claim": claim_form(claim),
            "outcome": outcome.outcome,
            "reason": outcome.reason,
        }
        said = s.output.say(claim.setting)
        tail = f" ({outcome.outcome}: {outcome.reason})" if outcome.reason else f" ({outcome.outcome})"
        self.record(sequence, "command", claim.output, f"{claim.output} to {said}{tail}", event, data)
        self._effects.append(outcome)
        if outcome.outcome == "driving" and s.pending is None and s.confirmed == s.allowed:
            self._effects.append(
                ev.Ended(
                    event.command,
                    claim.output,
                    "confirmed",
                    f"{said}{' already' if s.confirmed == claim.setting else ''}, {s.how}",
                )
            )
        elif outcome.outcome == "driving":
            s.asker = event.command

    def _outcome(
        self, command: str, s: Standing, claim: Claim, sequence: int, before: Claim | None = None
    ) -> ev.Outcome:
        """The word for how a standing claim fares, and why."""
        leader = leading(s.claims)
        reason = remedy = ""
        board = self._boards[s.output.pin.board]
        if leader is not None and leader.slot != claim.slot:
            word, reason = "waiting", f"{leader.text} leads with {s.output.say(leader.setting)}"
            remedy = "It takes effect when that ends."
        elif not board.up:
            word, reason = "unreachable", f"board {board.name} does not answer: {board.reason}"
            remedy = "It stands, and counts when the link is back."
        elif s.refusal is not None:
            word, reason, remedy = (
                ("waiting" if s.refusal.only_time else "blocked"),
                s.refusal.reason,
                s.refusal.remedy,
            )
        elif s.keeping is not None:
            word, reason, remedy = "waiting", s.keeping.reason, s.keeping.remedy
        elif s.fault and s.stuck == claim.setting:
            word, reason, remedy = "blocked", s.fault, "See to the board."
        else:
            word = "driving"
            reason = "it is so already" if s.pending is None and s.confirmed == claim.setting else ""
        if not self.recording:
            word, reason = "not recorded", f"the journal cannot be written: {self._trouble}"
        return ev.Outcome(
            command, sequence, word, claim.output, reason, remedy, claim.setting, claim, replaced=before
        )

    # --- claims that end ----------------------------------------------------------------------------------

    def end(self, s: Standing, claim: Claim, why: str, *, journal: bool = True) -> None:
        """End a claim."""
        if claim.scene:
            self.agenda.forget(claim.scene, claim.output, claim.slot)
        s.claims = take(s.claims, claim.slot)
        self.mono.drop("claim", claim.output, claim.slot)
        self.wall.drop("claim", claim.output, claim.slot)
        self.mono.drop("over", claim.output, claim.slot)
        self._effects.append(ev.DropClaim(claim.output, claim.slot))
        self._touched[s.output.name] = None
        if journal:
            self._journal_end(claim, why)
        if claim.rank is Rank.PLAN:
            self._edge(s)

    def _edge(self, s: Standing) -> None:
        """The plan changes this output: takeovers end."""
        for claim in s.claims:
            if claim.lifetime.kind == "takeover" and claim.slot == PERSON:
                self.end(s, claim, "the plan takes over again")

    def disarm(self, standings: Iterable[Standing], why: str) -> None:
        """Where the site file asks for a new command after a stop, end what persons and hands had on."""
        for s in standings:
            if s.output.rearm == "command":
                for claim in s.claims:
                    if _armed(claim):
                        self.end(s, claim, why)

    def disarm_all(self, s: Standing, why: str) -> None:
        """End what persons and hands have on."""
        for claim in s.claims:
            if _armed(claim):
                self.end(s, claim, why)

    def _tell(self, s: Standing, ending: str, text: str) -> None:
        if s.asker:
            self._effects.append(ev.Ended(s.asker, s.output.name, ending, text))
            s.asker = ""

    def _count_stopped(self, s: Standing | None = None) -> None:
        """An all-stop is confirmed when each output that had to move is."""
        if self._stopping is None:
            return
        command, left = self._stopping
        if (
            s is not None
            and s.pending is None
            and (s.confirmed == s.output.safe or not self._boards[s.output.pin.board].up)
        ):
            left.discard(s.output.name)
        if not left:
            self._stopping = None
            self._effects.append(ev.Ended(command, "", "confirmed", "every output that answers is safe"))

    # --- time ---------------------------------------------------------------------------------------------

    def _watch_end(self, claim: Claim) -> None:
        self._watch_program(claim)
        self.mono.drop("claim", claim.output, claim.slot)
        self.wall.drop("claim", claim.output, claim.slot)
        if claim.lifetime.kind == "until" and claim.ends_wall is not None:
            self.wall.set(claim.ends_wall, "claim", claim.output, claim.slot)
        elif claim.ends_mono is not None:
            self.mono.set(claim.ends_mono, "claim", claim.output, claim.slot)

    def _meet_deadlines(self) -> None:
        for timers, time in ((self.mono, self.now.mono), (self.wall, self.now.wall)):
            while (key := timers.take(time)) is not None:
                kind, name, slot = key
                _DEADLINES[kind](self, name, slot)

    def _claim_due(self, name: str, slot: str) -> None:
        """A claim's end has come, unless it was renewed or replaced since this entry was made."""
        s = self._standings[name]
        claim = held(s.claims, slot)
        if claim is None or claim.lifetime.kind in ("takeover", "released"):
            return
        calendar = claim.lifetime.kind == "until"
        ends, time = (claim.ends_wall, self.now.wall) if calendar else (claim.ends_mono, self.now.mono)
        assert ends is not None
        if ends <= time:
            words = {
                "lease": "its holder did not renew it",
                "for": "its time was up",
                "until": "its time was up",
            }
            self.end(s, claim, words[claim.lifetime.kind])
        else:
            self._watch_end(claim)

    def _retry_due(self, name: str, slot: str) -> None:
        s = self._standings[name]
        if s.retry_at is not None and s.retry_at <= self.now.mono:
            s.retry_at = None
            self._noticed(s)

    def _reflex_due(self, name: str, slot: str) -> None:
        self.reflexes.due(name)

    def _regulator_due(self, name: str, slot: str) -> None:
        self.reflexes.regulator_due(name)

    def _alarm_due(self, name: str, slot: str) -> None:
        self.reflexes.alarm_due(name)

    def _grace_due(self, name: str, slot: str) -> None:
        self.safety.grace_due(name)

    def _guard_due(self, name: str, slot: str) -> None:
        self.safety.guard_due(name)

    def _ruled_due(self, name: str, slot: str) -> None:
        """An interlock has something to say of an output now, and those that wait for it may no longer have to."""
        self._noticed(self._standings[name])

    def _watch_due(self, name: str, slot: str) -> None:
        self.safety.watch_due(name)

    def _answer_due(self, name: str, slot: str) -> None:
        s = self._standings[name]
        s.watched = False
        if s.pending is None:
            return
        if s.sent + ANSWER_WITHIN <= self.now.mono:
            self._fail(s, f"board {s.output.pin.board} did not answer within {ANSWER_WITHIN // NS} s")
        else:
            s.watched = True
            self.mono.set(s.sent + ANSWER_WITHIN, "answer", name)

    def _input_due(self, name: str, slot: str) -> None:
        contact = self.contacts[name]
        if contact.due(self.now.mono, self.now.wall):
            self._journal_input(contact)
            if contact.input.window and contact.deadline is not None:
                self.mono.set(contact.deadline, "input", name)

    def _notice_jump(self) -> None:
        """A wall clock that was set is journalled; calendar ends follow it, durations do not."""
        lead = self.now.wall - self.now.mono
        if self._lead is not None and abs(lead - self._lead) > JUMP and not self.keeper.starting:
            if self.site.quiet is not None:
                self._quiet_due("", "")
            moved = (lead - self._lead) / NS
            text = f"the clock was set {'forward' if moved > 0 else 'back'} by {abs(moved):.0f} s"
            self.record(self.number(), "clock", "", text, None, {"moved": moved})
            self.agenda.jumped()
            self.safety.jumped()
        self._lead = lead

    def _quiet_due(self, name: str, slot: str) -> None:
        """Quiet hours begin or end, or the clock was set."""
        from cairnwind.core.rules.quiet import told, words  # time zones are not needed on the way to safe

        quiet = self.site.quiet
        assert quiet is not None
        inside, due = told(quiet, self.site.timezone, self.now.wall)
        self.keeper.quiet = words(quiet.end) if inside else ""
        self.keeper.loud = quiet.excepted
        self.wall.set(due, "quiet", "")
        for s in self._standings.values():
            if s.output.takes == "tone" and s.wanted.on:
                self._touched[s.output.name] = None

    # --- for the agenda -----------------------------------------------------------------------------------

    def standing(self, name: str) -> Standing:
        """How an output stands."""
        return self._standings[name]

    def effect(self, effect: ev.Effect) -> None:
        """Add an effect."""
        self._effects.append(effect)

    def touch(self, name: str) -> None:
        """See to an output before this event is over."""
        self._touched[name] = None

    def inner(self, command: str) -> str:
        """A name for a command within a command."""
        self._inner += 1
        return f"{command}.{self._inner}"

    def gather(self, event: ev.Do, sequence: int, reason: str) -> None:
        """Answer a phrase with one outcome that holds those of its parts, once they are known."""
        self._gathering = event, sequence, reason

    def _gather(self, event: ev.Do, sequence: int, reason: str) -> None:
        self._gathering = None
        within = f"{event.command}."
        parts = [
            each for each in self._effects if type(each) is ev.Outcome and each.command.startswith(within)
        ]
        self._effects = [
            each
            for each in self._effects
            if not (type(each) is ev.Outcome and each.command.startswith(within))
        ]
        parts.sort(key=lambda each: int(each.command[len(within) :]))
        worst = min(parts, key=lambda each: WORST.index(each.outcome), default=None)
        word = worst.outcome if worst else "waiting" if reason else self.word
        told = worst is not None and worst.reason and (worst.outcome != "driving" or len(parts) == 1)
        why = f"{worst.output}: {worst.reason}" if worst and told else reason
        remedy = worst.remedy if worst else ""
        self._effects.append(ev.Outcome(event.command, sequence, word, "", why, remedy, parts=tuple(parts)))

    @property
    def word(self) -> str:
        """The outcome of what is simply done."""
        return "driving" if self.recording else "not recorded"

    def _extend(self, event: ev.Extend) -> None:
        sequence = self.number()
        s = self._standings.get(event.output)
        claim = held(s.claims, event.slot) if s is not None else None
        if (
            s is None
            or claim is None
            or claim.ends_wall is None
            or claim.lifetime.kind not in ("for", "until")
        ):
            self.refuse(
                event,
                sequence,
                Refusal(
                    "claim", "no claim that ends by time stands there", "Say it anew, with 'for' or 'until'."
                ),
            )
            return
        ends = claim.ends_wall + event.span
        life = (
            Lifetime("until", wall=ends)
            if claim.lifetime.kind == "until"
            else lasting(claim.lifetime.span + event.span)
        )
        mono = None if claim.ends_mono is None else claim.ends_mono + event.span
        longer = replace(claim, lifetime=life, ends_wall=ends, ends_mono=mono)
        s.claims = put(s.claims, longer)
        self._watch_end(longer)
        self._touched[event.output] = None
        self._effects.append(ev.KeepClaim(longer))
        text = f"{event.output}: the claim of {claim.text} lasts {show_duration(event.span)} longer"
        data = {"verb": "claim", "claim": claim_form(longer), "outcome": self.word, "reason": ""}
        self.record(sequence, "command", event.output, text, event, data)
        self._effects.append(
            ev.Outcome(
                event.command, sequence, self.word, event.output, text, setting=claim.setting, claim=longer
            )
        )

    def _do(self, event: ev.Do) -> None:
        self.agenda.do(event)

    def _accept_clock(self, event: ev.AcceptClock) -> None:
        self.agenda.accept_clock(event)

    def _change_timer(self, event: ev.ChangeTimer) -> None:
        self.agenda.change_timer(event)

    def _plan(self, event: ev.Plan) -> None:
        self.agenda.change(event)

    def _timer_due(self, name: str, slot: str) -> None:
        self.agenda.timer_due(int(name))

    def _plan_due(self, name: str, slot: str) -> None:
        self.agenda.due(name)

    # --- small helpers ------------------------------------------------------------------------------------

    def _forget(self, s: Standing) -> None:
        """What was on its way no longer counts; an answer to it would be a late one."""
        s.generation += 1
        s.pending = None
        s.well()

    def _set_board(self, name: str, up: bool, reason: str) -> None:
        self._boards[name] = BoardNow(name, up, reason, self.now.wall)
        self._effects.append(ev.Changed("board", name))
        self.safety.watches.mark("board", name)
        text = f"board {name} answers" if up else f"board {name} does not answer: {reason}"
        self.record(self.number(), "link", name, text, None, {"up": up, "reason": reason})

    def number(self) -> int:
        """The next number of the journal."""
        self.sequence += 1
        return self.sequence

    def record(
        self,
        sequence: int,
        kind: str,
        subject: str,
        text: str,
        event: ev.Command | None,
        data: dict[str, Any],
    ) -> None:
        """Write a row of the journal."""
        command = event.command if event is not None else ""
        source = event.source.text if event is not None else ""
        record = ev.Record(sequence, self.now, kind, subject, text, command, source, data)
        (self._early if self.keeper.starting else self._effects).append(record)

    def refuse(
        self,
        event: ev.Command,
        sequence: int,
        refusal: Refusal,
        setting: Setting | Program | None = None,
        word: str = "refused",
    ) -> None:
        """Answer a command with a refusal."""
        name = event.pin.name if isinstance(event, ev.TryPin) else getattr(event, "output", "")
        wanted = f" to {self._standings[name].output.say(setting)}" if setting is not None else ""
        text = f"{name or 'site'}{wanted} ({word}: {refusal.reason})"
        data = {"verb": type(event).__name__.lower(), "outcome": word, "reason": refusal.reason}
        self.record(sequence, "command", name, text, event, data)
        outcome = ev.Outcome(
            event.command,
            sequence,
            word,
            getattr(event, "output", ""),
            refusal.reason,
            refusal.remedy,
            setting,
        )
        self._effects.append(outcome)

    def _denied(self, event: ev.Denied) -> None:
        self.refuse(event, self.number(), Refusal("role", event.reason, event.remedy))

    def no_journal(self) -> Refusal:
        """Why nothing but offs is done while the journal cannot be written."""
        reason = f"the journal cannot be written: {self._trouble}"
        return Refusal(
            "journal", reason, "Only moves toward off are carried out until it can; see to the disk."
        )

    def _journal_change(self, s: Standing) -> None:
        assert s.confirmed is not None
        text = f"{s.output.name} is {s.output.say(s.confirmed)} ({s.how})"
        self.record(self.number(), "change", s.output.name, text, None, {"setting": encode(s.confirmed)})

    def _journal_input(self, contact: Contact) -> None:
        name = contact.input.name
        self._effects.append(ev.Changed("input", name))
        self.safety.watches.mark("input", name)
        self.reflexes.input_changed(name)
        if contact.input.kind == "counter":
            return  # its pulses are counted, not told one by one
        text = f"{name} is {contact.input.say(contact.active)}"
        self.record(self.number(), "input", name, text, None, {"active": contact.active})

    def _journal_end(self, claim: Claim, why: str) -> None:
        text = f"{claim.output}: the claim of {claim.text} ended: {why}"
        self.record(
            self.number(),
            "ended",
            claim.output,
            text,
            None,
            {"slot": claim.slot, "claim": claim.id, "why": why},
        )


def _suits(output: Output, wanted: Setting | Program) -> bool:
    """Whether an output still takes what a stored claim asks for."""
    try:
        output.fits(wanted) if isinstance(wanted, Program) else output.admit(wanted)
    except CallerError:
        return False
    return True


def _armed(claim: Claim) -> bool:
    return claim.rank >= Rank.PERSON and claim.setting.on


_HANDLERS: dict[type, Callable[[Engine, Any], None]] = {
    ev.Do: Engine._do, ev.Extend: Engine._extend, ev.ChangeTimer: Engine._change_timer, ev.Plan: Engine._plan,
    ev.Overtaken: Engine._overtaken, ev.Withdraw: Engine._take_back_unrecorded, ev.AcceptClock: Engine._accept_clock, ev.Wish: Engine.wish, ev.Renew: Engine._renew, ev.Release: Engine.release,
    ev.AllStop: Engine.all_stop, ev.ResetStop: Engine._reset_stop, ev.ResetTrip: Engine._reset_trip, ev.Attest: Engine._attest,
    ev.Probe: Engine._probe, ev.Reload: Engine._reload, ev.Resume: Engine._resume, ev.Acknowledge: Engine._acknowledge, ev.Open: Engine._open, ev.WrongCode: Engine._wrong_code, ev.Denied: Engine._denied, ev.Lock: Engine._lock, ev.Unlock: Engine._unlock,
    ev.Confirmed: Engine._confirmed, ev.Answers: Engine._answers, ev.Failed: Engine._failed, ev.LinkUp: Engine._link_up,
    ev.LinkLost: Engine._link_lost, ev.InputSeen: Engine._input_seen, ev.Recording: Engine._set_recording,
    ev.TryPin: Engine._try_pin, ev.EndTry: Engine._end_try, ev.TrialFailed: Engine._trial_failed,
    ev.Measured: Engine._measured, ev.Tick: Engine._tick, ev.Start: Engine._start, ev.Shutdown: Engine._shutdown,
}  # fmt: skip
_DEADLINES: dict[str, Callable[[Engine, str, str], None]] = {
    "claim": Engine._claim_due, "retry": Engine._retry_due, "answer": Engine._answer_due, "input": Engine._input_due,
    "trial": Engine._trial_due, "step": Engine._step_due, "over": Engine._over_due, "quiet": Engine._quiet_due,
    "timer": Engine._timer_due, "plan": Engine._plan_due, "ruled": Engine._ruled_due, "watch": Engine._watch_due,
    "stale": Engine._stale_due, "reflex": Engine._reflex_due, "regulator": Engine._regulator_due, "alarm": Engine._alarm_due,
    "guard": Engine._guard_due, "grace": Engine._grace_due,
}  # fmt: skip
