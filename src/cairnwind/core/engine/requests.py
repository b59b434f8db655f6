"""Claims that are asked for: who may have one, what it is made of, when it ends.

The port through which all other parts of the engine make wishes, as people do: `Requests.wish`, `release`, `all_stop`.
"""

from __future__ import annotations

from cairnwind.core.engine.answering import outcome
from cairnwind.core.engine.driving import count_stopped
from cairnwind.core.engine.trying import end_trials
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import (
    Claim,
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
from cairnwind.core.facts.history import claim_form, stop_form
from cairnwind.core.facts.interlocks import Refusal, Stop
from cairnwind.core.facts.outputs import Output
from cairnwind.core.physics.programs import Program
from cairnwind.core.rules.gates import Armed, refusal
from cairnwind.core.state.standing import Standing
from cairnwind.core.state.turn import Turn
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.fact import replace
from cairnwind.core.values.quantities import show_duration
from cairnwind.core.values.settings import Level, Setting, Tone, stepped

OVER = {"lease": "its holder did not renew it", "for": "its time was up", "until": "its time was up"}
"""By the kind of its lifetime: why a claim ended by itself."""


class Requests:
    """``armed`` has the gates that hold now."""

    def __init__(self, armed: Armed) -> None:
        self._armed = armed

    # --- wishes -------------------------------------------------------------------------------------------

    def wish(self, turn: Turn, event: ev.Wish) -> None:
        """Somebody wishes something."""
        sequence = turn.number()
        s = find(turn, event, sequence)
        if s is None:
            return
        setting = event.setting
        if setting is None and event.by:
            setting = stepped(wanted_now(turn, s), event.by)
        elif setting is None:
            before = leading(s.claims.all)
            setting = s.output.off if (before.setting if before else s.output.rest).on else s.output.full
        elif type(setting) is Program:
            setting = setting.starting(wanted_now(turn, s))
        if self._permitted(turn, s, event, setting, sequence):
            self._make(turn, s, event, setting, sequence)

    def _permitted(
        self, turn: Turn, s: Standing, event: ev.Wish, setting: Setting | Program, sequence: int
    ) -> bool:
        """Whether a claim may be made at all; if not, the command is answered here.

        A person's or hand's wish that is not permitted now leaves no claim, unless only time stands in the
        way or 'when possible' was asked. Moves to safe are always permitted.
        """
        output = s.output
        if setting == output.safe:
            return True
        found = refusal(turn.state.in_force, output)
        if not setting.on and found is None:
            return True
        if not turn.recording:
            turn.refuse(event, sequence, turn.no_journal(), setting)
            return False
        if (event.rank < Rank.PERSON and not event.now) or event.when_possible:
            return True
        if found is None and s.gating.ruled and setting.on:
            found = self._armed.gates.would(turn, s, event.rank)
        if found is None:
            found = _of_its_kind(turn, s, event, setting)
        if found is not None and not found.only_time:
            turn.refuse(event, sequence, found, setting)
            return False
        board = turn.state.boards[output.pin.board]
        if not board.up:
            away = f"board {board.name} does not answer: {board.reason}"
            found = Refusal("link", away, "See to the board; say it again when the link is back.")
            turn.refuse(event, sequence, found, setting, "unreachable")
            return False
        return True

    def _make(
        self, turn: Turn, s: Standing, event: ev.Wish, setting: Setting | Program, sequence: int
    ) -> None:
        """Make the claim."""
        life = _lifetime(s.output, event, setting)
        ends_mono = ends_wall = None
        if life.kind in ("for", "lease"):
            ends_mono, ends_wall = event.at.mono + life.span, event.at.wall + life.span
        elif life.kind == "until":
            ends_wall = life.wall
        claim = Claim(
            sequence, s.output.name, event.slot, event.rank, setting, sequence, event.source, life, event.at,
            ends_mono, ends_wall, event.scene, event.when_possible, event.someone,
        )  # fmt: skip
        before = held(s.claims.all, event.slot)
        if event.causes or event.source.surface == "site":
            turn.state.causes.put("output", s.output.name, event.causes)
        if event.scene:
            turn.state.scenes.setdefault(event.scene, {})[s.output.name, event.slot] = sequence
        if claim.rank is Rank.PLAN:
            turn.edge(s)
        self._stand(turn, s, claim)
        s.motion.shown_at = 0
        watch_end(turn, claim)
        turn.asked.append((event, claim, sequence, before))

    def _stand(self, turn: Turn, s: Standing, claim: Claim) -> None:
        """It stands in its slot, and whoever asked for something before is told that it was superseded."""
        s.claims.all = put(s.claims.all, claim)
        turn.effects.append(ev.KeepClaim(claim))
        turn.touched[s.output.name] = None
        if s.claims.asker:
            turn.tell(s, "superseded", f"by {claim.text}")

    def renew(self, turn: Turn, event: ev.Renew) -> None:
        """A hold is renewed, and perhaps set to something else."""
        s = turn.state.outputs.get(event.output)
        claim = held(s.claims.all, event.slot) if s is not None else None
        if s is None or claim is None or claim.lifetime.kind != "lease":
            turn.refuse(event, turn.number(), Refusal("lease", "this hold has ended", "Make a new one."))
            return
        if not claim.source.same(event.source):
            what = f"this hold is that of the {claim.source.text}"
            fix = "End it, which anybody may who may command the output, and hold it yourself."
            turn.refuse(event, turn.number(), Refusal("owner", what, fix))
            return
        span = claim.lifetime.span
        ends_mono, ends_wall = event.at.mono + span, event.at.wall + span
        if event.setting is None or event.setting == claim.setting:
            longer = replace(claim, ends_mono=ends_mono, ends_wall=ends_wall)
            s.claims.all = put(s.claims.all, longer)
            if s.claims.leader is claim:
                s.claims.leader = longer
            # nothing is decided by when a lease ends before it does: it is only shown anew
            turn.effects += (
                outcome(turn, event.command, s, longer, claim.id),
                ev.Changed("output", event.output),
            )
            return
        sequence = turn.number()
        wish = ev.Wish(
            event.at, event.command, event.source, event.output, event.setting, claim.rank, claim.slot, claim.lifetime,
            now=event.now, someone=event.someone,
        )  # fmt: skip
        if not self._permitted(turn, s, wish, event.setting, sequence):
            return
        setting = event.setting
        if type(setting) is Program:
            setting = setting.starting(wanted_now(turn, s))
        if event.causes or event.source.surface == "site":
            turn.state.causes.put("output", s.output.name, event.causes)
        changed = replace(
            claim,
            setting=setting,
            place=sequence,
            made=event.at,
            ends_mono=ends_mono,
            ends_wall=ends_wall,
            someone=event.someone,
        )
        _watch_program(turn, changed)
        self._stand(turn, s, changed)
        turn.asked.append((event, changed, sequence, claim))

    def release(self, turn: Turn, event: ev.Release) -> None:
        """'I no longer care.'"""
        sequence = turn.number()
        s = find(turn, event, sequence)
        if s is None:
            return
        claim = held(s.claims.all, event.slot)
        below = leading(take(s.claims.all, event.slot))
        uncovered = below.setting if below else s.output.rest
        if claim is not None and not turn.recording and uncovered.on and uncovered != s.output.safe:
            turn.refuse(event, sequence, turn.no_journal())
            return
        reason = f"released {claim.text}" if claim else "nothing to release: nobody claims it there"
        if claim is not None:
            turn.end(s, claim, "released", journal=False)
        data = {"verb": "release", "slot": event.slot, "claim": claim.id if claim else None}
        turn.record(sequence, "command", event.output, f"{event.output}: {reason}", event, data)
        turn.done(event, sequence, reason, event.output, claim=claim)

    def extend(self, turn: Turn, event: ev.Extend) -> None:
        """A claim that ends by time lasts longer."""
        sequence = turn.number()
        s = turn.state.outputs.get(event.output)
        claim = held(s.claims.all, event.slot) if s is not None else None
        if s is None or claim is None or claim.ends_wall is None or claim.lifetime.kind == "lease":
            what = "no claim that ends by time stands there"
            turn.refuse(event, sequence, Refusal("claim", what, "Say it anew, with 'for' or 'until'."))
            return
        ends = claim.ends_wall + event.span
        life = (
            Lifetime("until", wall=ends)
            if claim.lifetime.kind == "until"
            else lasting(claim.lifetime.span + event.span)
        )
        mono = None if claim.ends_mono is None else claim.ends_mono + event.span
        longer = replace(claim, lifetime=life, ends_wall=ends, ends_mono=mono)
        s.claims.all = put(s.claims.all, longer)
        watch_end(turn, longer)
        turn.touch(event.output)
        turn.effect(ev.KeepClaim(longer))
        text = f"{event.output}: the claim of {claim.text} lasts {show_duration(event.span)} longer"
        data = {"verb": "claim", "claim": claim_form(longer), "outcome": turn.word, "reason": ""}
        turn.record(sequence, "command", event.output, text, event, data)
        turn.effect(
            ev.Outcome(
                event.command, sequence, turn.word, event.output, text, setting=claim.setting, claim=longer
            )
        )

    def overtaken(self, turn: Turn, event: ev.Overtaken) -> None:
        """As if the command had been carried out and superseded at once, but for the flash in between."""
        sequence = turn.number()
        reason = "a later 'off' overtook it"
        data = {"verb": "overtaken", "outcome": "driving", "reason": reason}
        turn.record(sequence, "command", event.output, f"{event.output} (superseded: {reason})", event, data)
        turn.effect(ev.Outcome(event.command, sequence, "driving", event.output, reason))
        turn.effect(ev.Ended(event.command, event.output, "superseded", reason))

    # --- stops --------------------------------------------------------------------------------------------

    def all_stop(self, turn: Turn, event: ev.AllStop) -> None:
        """Everything safe, now."""
        sequence = turn.number()
        state, force = turn.state, turn.state.in_force
        first = force.stop is None
        if force.stop is None:
            force.stop = Stop(event.at.wall, event.source, event.reason)
            turn.effect(ev.KeepStop(force.stop))
            turn.disarm(state.outputs.values(), "ended by the all-stop")
            turn.touch_all(s.output.name for s in state.outputs.values() if _is_not_safe(s))
            state.stopping = (event.command, set(turn.touched))
            end_trials(turn, "ended by the all-stop")
        turn.effect(ev.Changed("site", ""))
        reason = "everything to safe" if first else "the all-stop was in force already"
        data = {"verb": "stop", "stop": stop_form(force.stop)}
        turn.record(sequence, "command", "", f"all-stop: {event.reason or 'no reason given'}", event, data)
        turn.done(event, sequence, reason)
        count_stopped(turn)
        if not first:
            turn.effect(ev.Ended(event.command, "", "confirmed", reason))

    # --- time ---------------------------------------------------------------------------------------------

    def claim_due(self, turn: Turn, name: str, slot: str) -> None:
        """A claim's end has come, unless it was renewed or replaced since this entry was made."""
        s = turn.standing(name)
        claim = held(s.claims.all, slot)
        if claim is None or claim.lifetime.kind in ("takeover", "released"):
            return
        calendar = claim.lifetime.kind == "until"
        ends, time = (claim.ends_wall, turn.now.wall) if calendar else (claim.ends_mono, turn.now.mono)
        assert ends is not None
        if ends <= time:
            turn.end(s, claim, OVER[claim.lifetime.kind])
        else:
            watch_end(turn, claim)

    def over_due(self, turn: Turn, name: str, slot: str) -> None:
        """A program that ends by itself has come to its end, unless another took its place since."""
        s = turn.standing(name)
        claim = held(s.claims.all, slot)
        program = claim.setting if claim is not None else None
        if claim is not None and isinstance(program, Program) and program.then == "release":
            if program.over(turn.now.mono - claim.made.mono):
                turn.end(s, claim, "it has come to its end")

    def take_back(self, turn: Turn, stored: Claim) -> None:
        """Restore a stored claim after a restart, or say why it is not there any more."""
        s = turn.state.outputs.get(stored.output)
        claim = restore(stored, turn.now)
        why = "ended while the service was down"
        if s is None:
            claim, why = None, "its output is no longer in the site file"
        elif claim is not None and s.output.rearm == "command" and claim.armed:
            claim, why = None, "needs a new command after a restart"
        elif claim is None and type(stored.setting) is Program:
            why = "a program that is over, or a tune, is not taken up again"
        elif claim is not None and not suits(s.output, claim.setting):
            claim, why = None, "its output no longer takes that"
        if s is None or claim is None:
            turn.journal_end(stored, why)
            turn.effect(ev.DropClaim(stored.output, stored.slot))
            return
        s.claims.all = put(s.claims.all, claim)
        if claim.scene:
            turn.state.scenes.setdefault(claim.scene, {})[claim.output, claim.slot] = claim.id
        watch_end(turn, claim)


def find(
    turn: Turn, event: ev.Wish | ev.Release | ev.Lock | ev.Unlock | ev.Attest, sequence: int
) -> Standing | None:
    """The output that a command names; if there is none (any more), the command is refused here."""
    s = turn.state.outputs.get(event.output)
    if s is None:
        turn.refuse(event, sequence, Refusal("name", "the site has no such output", "See: cairnwind look."))
    return s


def wanted_now(turn: Turn, s: Standing) -> Setting:
    """What an output is wanted at, where a program or a step that begins takes it up."""
    claim = leading(s.claims.all)
    if claim is None:
        return s.output.rest
    wish = claim.setting
    return wish.at(turn.now.mono - claim.made.mono) if isinstance(wish, Program) else wish


def watch_end(turn: Turn, claim: Claim) -> None:
    """See that a claim ends when its time is up."""
    _watch_program(turn, claim)
    output, slot = claim.output, claim.slot
    turn.mono.drop("claim", output, slot)
    turn.wall.drop("claim", output, slot)
    if claim.lifetime.kind == "until" and claim.ends_wall is not None:
        turn.wall.set(claim.ends_wall, "claim", output, slot)
    elif claim.ends_mono is not None:
        turn.mono.set(claim.ends_mono, "claim", output, slot)


def _watch_program(turn: Turn, claim: Claim) -> None:
    program = claim.setting
    if type(program) is Program and program.then == "release" and program.length is not None:
        turn.mono.set(claim.made.mono + program.length, "over", claim.output, claim.slot)


def _lifetime(output: Output, event: ev.Wish, setting: Setting | Program) -> Lifetime:
    """How long a claim lasts, by what is asked and by what the output has to say to that."""
    life = event.lifetime
    if type(setting) is Tone and setting.on:
        life = sounding(life) or life
    unbounded = life.kind in ("takeover", "released")
    if output.auto_off and setting.on and event.rank is Rank.PERSON and unbounded:
        life = lasting(output.auto_off)
    return life


def _of_its_kind(turn: Turn, s: Standing, event: ev.Wish, setting: Setting | Program) -> Refusal | None:
    """What the kind of a setting asks for: tones end, tunes do not wait, pins of one timer have one frequency."""
    if type(setting) is Tone and sounding(event.lifetime) is None:
        remedy = "Say for how long: for 2 s. A tune may be longer."
        return Refusal("tone", "a tone has an end, within 10 minutes", remedy)
    if isinstance(setting, Program) and setting.heard:
        leader = leading(s.claims.all)
        if leader is not None and leader.rank > event.rank:
            said = s.output.say(leader.setting)
            reason = f"{leader.text} leads with {said}, and a tune does not wait"
            return Refusal("rank", reason, "Play it when that has ended.")
    if type(setting) is Level and setting.millihertz:
        return turn.state.trials.shared_timer(s.output.pin, setting.millihertz, s.output.name)
    return None


def _is_not_safe(s: Standing) -> bool:
    safe = s.output.safe
    return (
        s.motion.moving or s.motion.wanted != safe or s.drive.confirmed != safe or s.drive.pending is not None
    )


def suits(output: Output, wanted: Setting | Program) -> bool:
    """Whether an output still takes what a stored claim asks for."""
    try:
        output.fits(wanted) if isinstance(wanted, Program) else output.admit(wanted)
    except CallerError:
        return False
    return True
