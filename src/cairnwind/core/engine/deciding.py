"""The phases between an event and its orders: for each output that it may concern, from wish to pin.

    conditions    those that something has changed for are asked, and touch what they are about
    want          the leading claim's setting now, else rest; programs are followed
    own gates     in their order; the first that refuses sends it to safe
    shared gates  places are given among those left
    drive         what is allowed, shaped to what the load needs, goes to its drive

They are gone through for all that is touched, again and again until nothing is: `decide`.
"""

from __future__ import annotations

from cairnwind.core.engine.driving import Driving, count_stopped, journal_change
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Claim, Rank, held, leading, put, take
from cairnwind.core.facts.interlocks import Refusal
from cairnwind.core.physics.programs import Program
from cairnwind.core.physics.shaping import Way, next_step
from cairnwind.core.rules.gates import Armed, Gates, refusal
from cairnwind.core.rules.rounds import MOST_TURNS
from cairnwind.core.state.standing import Standing
from cairnwind.core.state.turn import Turn
from cairnwind.core.values.quantities import NS
from cairnwind.core.values.settings import Setting

NOTHING = "", ""
"""No gate and no rule."""
SHOWN_EVERY = NS // 5
"""How often what moves is shown anew."""


class Deciding:
    """``armed`` has the gates that hold now."""

    def __init__(self, armed: Armed, driving: Driving) -> None:
        self._armed, self._driving = armed, driving

    def decide(self, turn: Turn) -> int:
        """Walk the way from wish to pin for all that is touched, until nothing is; returns how many rounds that took."""
        gates = self._armed.gates
        if not turn.touched and not gates.watches.dirty and not turn.known:
            return 0
        settled: dict[str, int] = {}
        rounds = self._go_round(turn, gates, settled)
        while rounds > 1 and len(turn.drives) > 1 and gates.rounds.wavers(turn, settled):
            rounds += self._go_round(turn, gates, settled)
        turn.touched = dict.fromkeys(settled)
        return rounds

    def _go_round(self, turn: Turn, gates: Gates, settled: dict[str, int]) -> int:
        """Until nothing is touched; ``settled`` counts how often each output was decided about."""
        outputs = turn.state.outputs
        rounds = 0
        while gates.look(turn) or turn.touched or turn.known:
            batch, turn.touched = turn.touched, {}
            known, turn.known = turn.known, {}
            rounds += 1
            turn.started = False
            for name in batch:
                settled[name] = times = settled.get(name, 0) + 1
                if times % MOST_TURNS == 0:
                    gates.rounds.turned(turn, name, settled)
                self._want(turn, outputs[name], gates)
                turn.free = ""
            if gates.some:
                gates.shared.give_places(turn, batch, known)
            for name in batch:
                self._allow(turn, outputs[name], gates)
        return rounds

    # --- want, and own gates ------------------------------------------------------------------------------

    def _want(self, turn: Turn, s: Standing, gates: Gates) -> None:
        """What is wanted of one output, and whether its own gates let it have that."""
        claims, motion, gating = s.claims, s.motion, s.gating
        if claims.all and (len(claims.all) > 1 or type(claims.all[0].setting) is Program):
            self._end_unheard_tunes(turn, s)
        leader = leading(claims.all)
        if leader is not claims.leader:
            claims.leader = leader
            if gates.rounds.held:
                gates.rounds.led(turn, s.output.name)
            gates.watches.mark("claims", s.output.name)
        wish = leader.setting if leader else s.output.rest
        motion.moving = False
        if not isinstance(wish, Program):
            motion.wanted, motion.following = wish, None
        elif leader is not None:
            motion.follow(wish, leader, turn.now.mono, stepped=turn.state.stepped)
            if motion.moving:
                step_at(turn, s, motion.next_at)
        gating.aim = motion.wanted
        if gating.ruled:
            self._apply_interlocks(turn, s, wish, gates)
        elif motion.wanted == s.output.safe and not motion.moving:
            gating.refusal = None
        else:
            gating.refusal = refusal(turn.state.in_force, s.output)

    def _end_unheard_tunes(self, turn: Turn, s: Standing) -> None:
        """A tune that is hidden, gated or cannot reach its sounder is over: it never resumes in the middle."""
        tunes = [
            claim for claim in s.claims.all if isinstance(claim.setting, Program) and claim.setting.heard
        ]
        if not tunes:
            return
        lead, gate = leading(s.claims.all), refusal(turn.state.in_force, s.output)
        for claim in tunes:
            if claim is not lead:
                turn.end(s, claim, "another sound is in its place, and a tune does not resume in the middle")
            elif gate is not None:
                turn.end(s, claim, f"a tune does not resume in the middle: {gate.reason}")
            elif not turn.state.boards[s.output.pin.board].up:
                turn.end(s, claim, "a tune does not resume in the middle: its board is away")

    def _apply_interlocks(self, turn: Turn, s: Standing, wish: Setting | Program, gates: Gates) -> None:
        """What interlocks make of it: what is kept on a little longer, what has to go first, what is refused."""
        gating, needs = s.gating, gates.needs
        gating.keeping = None
        wants = wish.on and (s.motion.wanted.on or not gating.mine.paced)
        if gating.granted and not wants:
            gating.keeping = gates.keeps_on(turn, s)
            if gating.keeping is not None:
                gating.aim, wants = gating.allowed, True
        own = self._own(turn, s, wants, gates)
        if (own is None or own.coming) and gating.mine.needed:
            target = s.output.safe if own else gating.aim
            first = needs.waits_for(turn, s, target)
            if first is not None and self._would_not(turn, s, target, gates, wants=wants, claimed=wish.on):
                first = None  # nobody has to go for what does not happen all the same
            needs.bind(turn, s, target if first is not None else None)
            if first is not None:
                kept = self._own(turn, s, gating.allowed.on, gates)
                if kept is None or kept.coming:
                    gating.keeping, gating.aim, own, wants = first, gating.allowed, None, gating.allowed.on
                else:
                    own = kept
        if own is not None and not own.coming:
            needs.bind(turn, s, None)  # it waits for nothing
        if gating.granted and own is not None and own.gate in gates.disarming:
            turn.disarm([s], f"ended: {own.reason}")
        gating.refusal = own
        if wants and own is None and not s.drive.homing:
            gates.shared.bid(turn, s, claimed=wish.on)
        else:
            gating.bid = None

    def _would_not(
        self, turn: Turn, s: Standing, target: Setting, gates: Gates, *, wants: bool, claimed: bool
    ) -> bool:
        """Whether an output would not get to ``target`` though nobody who needs it as it is were on."""
        if s.drive.stuck == target and target != s.output.safe:
            return True  # its board does not take that
        return wants and not s.gating.granted and gates.shared.refuses(turn, s, claimed=claimed)

    def _own(self, turn: Turn, s: Standing, wants: bool, gates: Gates) -> Refusal | None:
        """The first of its own gates that refuses."""
        if not wants and s.gating.aim == s.output.safe and not s.motion.moving:
            return None
        found = gates.rounds.refuse(turn, s) if gates.rounds.held else None
        if found is None:
            found = refusal(turn.state.in_force, s.output)
        if found is not None or not wants or not s.gating.mine.refuse or turn.free == s.output.name:
            return found
        return gates.own(turn, s, starting=not s.gating.granted)

    # --- shared gates, and drive --------------------------------------------------------------------------

    def _allow(self, turn: Turn, s: Standing, gates: Gates) -> None:
        """What is allowed of what is wanted, and on its way to the pin with that."""
        gating, motion, drive = s.gating, s.motion, s.drive
        if gating.ruled:
            self._take_place(turn, s, gates)
        gating.allowed = s.output.safe if gating.refusal else gating.aim
        target = s.output.safe if drive.homing else gating.allowed
        if s.output.shape is not None:
            if gating.refusal is None:
                target = self._shape(turn, s, target)
            else:
                motion.way = Way(
                    sign=motion.way.sign
                )  # a gate stops it at once, and it begins anew after that
        if motion.moving and drive.pending is not None and gating.refusal is None:
            pass  # one step at a time: its confirmation brings us back here, as fast as the board is
        else:
            self._driving.bring(turn, s, target)
        if motion.unsaid and not motion.moving and drive.pending is None and drive.confirmed is not None:
            motion.unsaid = False
            journal_change(turn, s)
        if turn.state.stopping is not None:
            count_stopped(turn, s)

    def _take_place(self, turn: Turn, s: Standing, gates: Gates) -> None:
        """Whether it has a place among those that share a rule with it, and may start now."""
        gating = s.gating
        if gating.refusal is None and gating.bid is not None:
            gating.refusal = gating.shared
            if gating.refusal is None and turn.started and not gating.granted:
                gating.refusal = gates.own(turn, s, starting=True)  # another of this round has started
        on = gating.bid is not None and gating.refusal is None
        if on and not gating.granted:
            turn.started = True
            gates.started(turn, s)
        elif gating.refusal is None and gating.aim.on and not on:
            gating.aim = s.output.safe  # its board is away, or it is on its way to safe first
        if gating.granted != on:
            gating.granted = on
            if not on:
                gates.let_go(turn, s)
            if self._settled(turn, s, gates):
                if gating.circle is not None:
                    gating.circle.mark(turn, s.output.name)
            else:
                turn.touch(s.output.name)
        if gating.refusal is not None:
            self._end_impatient(turn, s, gating.refusal)
        if gating.refusal is not None or gating.journalled != NOTHING:
            journal_gate(turn, s)

    def _settled(self, turn: Turn, s: Standing, gates: Gates) -> bool:
        """Whether it would be decided the same once more, now that it is let go on or is to be off: what keeps it from starting is
        asked otherwise than what ends it."""
        gating = s.gating
        if (
            gating.refusal is not None
            or gating.mine.needed
            or not (gating.circle is None or gating.circle.smooth)
        ):
            return False
        if not gating.granted:
            return gating.bid is None
        return not gating.mine.refuse or gates.own(turn, s, starting=False) is None

    def _end_impatient(self, turn: Turn, s: Standing, found: Refusal) -> None:
        """A person's or hand's claim that only waited for its start ends where it is not permitted any more."""
        gating, leader = s.gating, s.claims.leader
        if leader is None or leader.rank < Rank.PERSON or leader.patient:
            return
        if found.only_time:
            gating.place = leader.place
        elif gating.place == leader.place:
            turn.end(s, leader, f"it waited, and is not permitted any more: {found.reason}")

    def _shape(self, turn: Turn, s: Standing, target: Setting) -> Setting:
        """What its load needs on the way there: a kick, a pause, a ramp."""
        assert s.output.shape is not None
        settled = s.drive.confirmed if s.drive.pending is None else None
        target, s.motion.way, due = next_step(s.output.shape, s.motion.way, target, settled, turn.now.mono)
        if due is not None:
            s.motion.moving = True
            step_at(turn, s, due)
        return target

    # --- steps --------------------------------------------------------------------------------------------

    def step_due(self, turn: Turn, name: str, slot: str) -> None:
        """An output that moves takes its next step."""
        s = turn.standing(name)
        if s.motion.step_at is not None and s.motion.step_at <= turn.now.mono:
            s.motion.step_at = None
            if not self._glide(turn, s):
                turn.touched[name] = None

    def _glide(self, turn: Turn, s: Standing) -> bool:
        """The next step of a slope where nothing stands in the way: what 64 lamps need 50 times a second.

        The same as `decide` would do, without asking again what only another event can have changed.
        """
        output, now, drive, gating, motion = s.output, turn.now.mono, s.drive, s.gating, s.motion
        leader = s.claims.leader
        if (
            leader is None or motion.coming is None or drive.pending is not None or gating.refusal is not None or drive.homing
            or drive.failed is not None or drive.stuck is not None or output.shape is not None
            or output.name in turn.touched or not turn.state.boards[output.pin.board].up
        ):  # fmt: skip
            return False
        if refusal(turn.state.in_force, output) is not None:
            return False
        if gating.ruled and (gating.keeping is not None or gating.mine.paced or gating.mine.needed):
            return False
        setting = motion.glide(leader, now)
        if setting is None:
            return False
        motion.wanted = gating.allowed = setting
        self._driving.order(turn, s, setting)
        turn.glided = True
        step_at(turn, s, motion.next_at)
        if now >= motion.shown_at + SHOWN_EVERY or motion.next_at >= now + SHOWN_EVERY:
            motion.shown_at = now
            turn.effects.append(ev.Changed("output", output.name))
        return True


def step_at(turn: Turn, s: Standing, due: int) -> None:
    """It moves then at the latest."""
    motion = s.motion
    if motion.step_at is None or due < motion.step_at or motion.step_at <= turn.now.mono:
        motion.step_at = due
        turn.mono.set(due, "step", s.output.name)


def journal_gate(turn: Turn, s: Standing) -> None:
    """Record that a gate begins to hold back what somebody wants, or no longer does."""
    found, gating = s.gating.refusal, s.gating
    now = (found.gate, found.rule) if found is not None and s.claims.leader is not None else NOTHING
    if now == gating.journalled or turn.state.in_force.starting:
        return
    gating.journalled = now
    name = s.output.name
    if found is not None and now[0]:
        text = f"{name} is kept {s.output.say(s.output.safe)}: {found.reason}"
        data = {"gate": now[0], "rule": now[1]}
    else:
        text, data = f"{name}: nothing stands in its way any more", {"gate": ""}
    turn.note("gate", name, text, {**data, "reason": found.reason if found else ""})


def withdraw(turn: Turn) -> bool:
    """Take back claims of this event that turned out not to be permitted, and put back what they replaced."""
    gone = []
    for asked in turn.asked:
        event, claim, sequence, before = asked
        s = turn.state.outputs[claim.output]
        found = s.gating.refusal
        if found is not None and s.gating.ruled and _must_go(s, claim, found):
            replace_claim(turn, s, claim, before)
            turn.refuse(event, sequence, found, claim.setting)
            gone.append(asked)
    if gone:
        turn.asked = [asked for asked in turn.asked if asked not in gone]
    return bool(gone)


def _must_go(s: Standing, claim: Claim, found: Refusal) -> bool:
    """A claim that was just made leaves nothing behind where it is not permitted now, unless it may wait."""
    if found.only_time or claim.patient or claim.rank < Rank.PERSON or not claim.setting.on:
        return False
    return held(s.claims.all, claim.slot) is claim


def replace_claim(turn: Turn, s: Standing, claim: Claim, before: Claim | None) -> None:
    """Put back into a claim's slot what stood there before it."""
    s.claims.all = take(s.claims.all, claim.slot) if before is None else put(s.claims.all, before)
    turn.effect(ev.DropClaim(claim.output, claim.slot) if before is None else ev.KeepClaim(before))
    turn.touch(claim.output)
