"""The engine against an oracle of its own: any sequence of claims, ends, failures, lost links and restarts.

The oracle keeps claims in plain dictionaries and knows the rules from the page, not from the code. The boards
are lists of orders in flight that are delivered, failed, lost or answered late in any order.
"""

from __future__ import annotations

import subprocess
import sys
from dataclasses import dataclass, field
from typing import Any

from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

from cairnwind.core.engine.loop import Engine
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import (
    PERSON,
    RELEASED,
    TAKEOVER,
    Claim,
    Instant,
    Lifetime,
    Rank,
    Source,
    lasting,
    lease,
    until,
)
from cairnwind.core.facts.course import Course
from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.facts.history import Told, claim_form, claim_read
from cairnwind.core.facts.interlocks import Stop, Tag
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.plan import Schedule
from cairnwind.core.facts.site import Site
from cairnwind.core.values.moments import Moment
from cairnwind.core.values.quantities import NS
from cairnwind.core.values.settings import OFF, ON, Level, Setting

ANSWER_WITHIN = 5 * NS
START = 1_700_000_000 * NS
KEEPER, OTHER = Source("test", "keeper", "keep"), Source("test", "other", "operate")
SITE = Site(
    "Oracle",
    boards={"one": Board("one", "simulated", None, 4), "two": Board("two", "simulated", None, 4)},
    outputs={
        output.name: output
        for output in (
            Output("vent", "relay", Pin("one", 0)),
            Output("lamp", "lamp", Pin("one", 1), frequency=800, rest=Level(300_000)),  # type: ignore[arg-type]
            Output("kiln", "relay", Pin("two", 0), rearm="command"),
            Output("pilot", "relay", Pin("two", 1), safe=ON, rest=ON),
        )
    },
)
NAMES = st.sampled_from(sorted(SITE.outputs))
BOARDS = st.sampled_from(sorted(SITE.boards))
LEVELS = st.sampled_from([OFF, ON, Level(400_000)])
SPANS = st.sampled_from([NS // 5, NS, 3 * NS, 20 * NS])


@dataclass
class Kept:
    """A claim as the oracle keeps it."""

    rank: int
    place: int
    setting: Setting
    takeover: bool = False
    lease: int = 0
    ends: int | None = None
    """Of the monotonic clock; wall and monotonic run alike here."""


@dataclass
class Wire:
    """The oracle's view of one output: what is on its way, what is there, what was answered."""

    flight: tuple[int, Setting] | None = None
    sent: int = 0
    confirmed: Setting | None = None
    generations: set[int] = field(default_factory=set)


def fit(name: str, level: Level) -> Level:
    """Surfaces admit no level between off and on for what is not dimmed."""
    return level if SITE.outputs[name].dimmable or not level.on else ON


EVENING = Schedule("evening", Course("", ()), Moment(), SITE.where, length=NS, enabled=False)
"""Whose claims the machine makes; it does not begin by itself."""


class Oracle(RuleBasedStateMachine):
    """See the module's page."""

    @initialize()
    def begin(self) -> None:
        self.now = START
        self.engine = Engine(SITE)
        self.claims: dict[str, dict[str, Kept]] = {name: {} for name in SITE.outputs}
        self.stored: dict[tuple[str, str], Claim] = {}
        self.rows: list[ev.Record] = []
        self.up = dict.fromkeys(SITE.boards, False)
        self.wires = {name: Wire() for name in SITE.outputs}
        self.stopped = False
        self.tags: dict[str, set[str]] = {name: set() for name in SITE.outputs}
        self.count = 0
        self.feed(ev.Start(self.at()))
        for board in SITE.boards:
            self.link_up(board)

    # --- feeding the engine -------------------------------------------------------------------------------

    def at(self) -> Instant:
        return Instant(self.now, self.now)

    def feed(self, event: Any) -> list[Any]:
        effects = self.engine.handle(event)
        seen_on = False
        for effect in effects:
            match effect:
                case ev.Drive(name, generation, setting):
                    wire = self.wires[name]
                    if wire.flight and self.now - wire.sent >= ANSWER_WITHIN:
                        wire.flight = wire.confirmed = None  # nobody knows what became of it
                    there = wire.flight[1] if wire.flight else wire.confirmed
                    assert there != setting, f"{name} driven to {setting}, where it is or is going already"
                    assert generation not in wire.generations, "a generation was used twice"
                    assert self.up[SITE.outputs[name].pin.board], "driven over a lost link"
                    assert setting.on or not seen_on, "an off behind an on"
                    seen_on = seen_on or setting.on
                    wire.flight, wire.sent = (generation, setting), self.now
                    wire.generations.add(generation)
                case ev.Record():
                    assert not self.rows or effect.sequence not in {row.sequence for row in self.rows[-50:]}
                    self.rows.append(effect)
                case ev.KeepClaim(claim):
                    self.stored[claim.output, claim.slot] = claim
                case ev.DropClaim(output, slot):
                    self.stored.pop((output, slot), None)
        return effects

    def command(self, make: Any, *args: Any, **more: Any) -> ev.Outcome:
        self.count += 1
        effects = self.feed(make(self.at(), f"c{self.count}", *args, **more))
        (outcome,) = [effect for effect in effects if isinstance(effect, ev.Outcome)]
        return outcome

    # --- the oracle's rules -------------------------------------------------------------------------------

    def blocked(self, name: str) -> bool:
        return self.stopped or bool(self.tags[name])

    def leader(self, name: str) -> tuple[str, Kept] | None:
        kept = self.claims[name]
        return max(kept.items(), key=lambda item: (item[1].rank, item[1].place)) if kept else None

    def allowed(self, name: str) -> Setting:
        leader = self.leader(name)
        output = SITE.outputs[name]
        wanted = leader[1].setting if leader else output.rest
        return output.safe if self.blocked(name) else wanted

    def disarm(self, name: str) -> None:
        if SITE.outputs[name].rearm == "command":
            self.claims[name] = {
                slot: kept for slot, kept in self.claims[name].items() if kept.rank < 3 or not kept.setting.on
            }

    def edge(self, name: str) -> None:
        self.claims[name] = {slot: kept for slot, kept in self.claims[name].items() if not kept.takeover}

    def expire(self) -> None:
        """Ends whatever has ended by now; the end of a plan's claim is an edge, which ends takeovers."""
        for name, kept in self.claims.items():
            over = [slot for slot, each in kept.items() if each.ends is not None and each.ends <= self.now]
            planned = any(kept[slot].rank == 1 for slot in over)
            for slot in over:
                del kept[slot]
            if planned:
                self.edge(name)

    # --- rules --------------------------------------------------------------------------------------------

    @rule(
        name=NAMES,
        level=LEVELS,
        life=st.sampled_from(["takeover", "released", "for", "until"]),
        span=SPANS,
        possible=st.booleans(),
    )
    def person(self, name: str, level: Level, life: str, span: int, possible: bool) -> None:
        lifetimes = {
            "takeover": TAKEOVER,
            "released": RELEASED,
            "for": lasting(span),
            "until": until(self.now + span),
        }
        ends = self.now + span if life in ("for", "until") else None
        self.wish(
            name,
            level,
            Rank.PERSON,
            PERSON,
            lifetimes[life],
            Kept(3, 0, level, life == "takeover", 0, ends),
            possible,
        )

    @rule(name=NAMES, level=LEVELS, span=SPANS, who=st.sampled_from(["pad", "button"]))
    def hand(self, name: str, level: Level, span: int, who: str) -> None:
        self.wish(
            name,
            level,
            Rank.HAND,
            f"hand:{who}",
            lease(span),
            Kept(4, 0, level, False, span, self.now + span),
            False,
        )

    @rule(name=NAMES, level=LEVELS, rank=st.sampled_from([Rank.PLAN, Rank.REFLEX]), span=SPANS)
    def machine(self, name: str, level: Level, rank: Rank, span: int) -> None:
        self.wish(
            name,
            level,
            rank,
            f"{rank.word}:evening",
            lasting(span),
            Kept(int(rank), 0, level, False, 0, self.now + span),
            False,
        )

    def wish(
        self, name: str, level: Level, rank: Rank, slot: str, life: Lifetime, kept: Kept, possible: bool
    ) -> None:
        output = SITE.outputs[name]
        level = kept.setting = fit(name, level)
        outcome = self.command(ev.Wish, OTHER, name, level, rank, slot, life, possible)
        up = self.up[output.pin.board]
        careless = level not in (output.safe, OFF) or (level != output.safe and self.blocked(name))
        if careless and rank >= Rank.PERSON and not possible and (self.blocked(name) or not up):
            assert outcome.outcome == ("refused" if self.blocked(name) else "unreachable")
            assert outcome.claim is None
            return
        if rank is Rank.PLAN:
            self.edge(name)
        kept.place = outcome.sequence
        self.claims[name][slot] = kept
        leads = self.leader(name) == (slot, kept)
        expected = (
            "waiting" if not leads
            else "unreachable" if not up
            else "blocked" if self.blocked(name) and level != output.safe
            else "driving"
        )  # fmt: skip
        faulty = outcome.outcome == "blocked" and "instead of" in outcome.reason
        assert outcome.outcome == expected or faulty
        assert self.rows[-1].sequence or outcome.sequence

    @rule(make=st.sampled_from(["wish", "release", "lock", "unlock"]))
    def stranger(self, make: str) -> None:
        """A command for an output that is not there (any more) is refused, and nothing else."""
        commands = {
            "wish": (ev.Wish, "nobody", ON, Rank.PERSON, PERSON, TAKEOVER),
            "release": (ev.Release, "nobody", PERSON),
            "lock": (ev.Lock, "nobody", "red"),
            "unlock": (ev.Unlock, "nobody", "red"),
        }
        kind, *args = commands[make]
        assert self.command(kind, OTHER, *args).outcome == "refused"

    @rule(name=NAMES)
    def toggle(self, name: str) -> None:
        leader = self.leader(name)
        before = leader[1].setting if leader else SITE.outputs[name].rest
        outcome = self.command(ev.Wish, OTHER, name, None, Rank.PERSON, PERSON, TAKEOVER)
        assert outcome.setting == (OFF if before.on else ON), "resolved once, against the leading wish"
        if outcome.claim is not None:
            assert outcome.setting is not None
            self.claims[name][PERSON] = Kept(3, outcome.sequence, outcome.setting, True)

    @rule(name=NAMES, slot=st.sampled_from([PERSON, "hand:pad", "plan:evening", "reflex:evening"]))
    def release(self, name: str, slot: str) -> None:
        self.command(ev.Release, OTHER, name, slot)
        gone = self.claims[name].pop(slot, None)
        if gone is not None and gone.rank == 1:
            self.edge(name)

    @rule(name=NAMES, who=st.sampled_from(["pad", "button"]), level=st.none() | LEVELS)
    def renew(self, name: str, who: str, level: Level | None) -> None:
        kept = self.claims[name].get(f"hand:{who}")
        level = None if level is None else fit(name, level)
        outcome = self.command(ev.Renew, OTHER, name, f"hand:{who}", level)
        if kept is None:
            assert outcome.outcome == "refused"
        elif outcome.claim is not None:
            kept.ends = self.now + kept.lease
            if level is not None and level != kept.setting:
                kept.setting, kept.place = level, outcome.sequence

    @rule(reset=st.booleans(), source=st.sampled_from([KEEPER, OTHER]))
    def all_stop(self, reset: bool, source: Source) -> None:
        if reset:
            outcome = self.command(ev.ResetStop, source)
            assert (outcome.outcome == "refused") == (source is OTHER)
            self.stopped = self.stopped and source is OTHER
            return
        self.command(ev.AllStop, source)
        if not self.stopped:
            self.stopped = True
            for name in SITE.outputs:
                self.disarm(name)

    @rule(name=NAMES, tag=st.sampled_from(["red", "blue"]), off=st.booleans())
    def lockout(self, name: str, tag: str, off: bool) -> None:
        if off:
            self.command(ev.Unlock, KEEPER, name, tag)
            self.tags[name].discard(tag)
        else:
            self.command(ev.Lock, OTHER, name, tag)
            self.tags[name].add(tag)
            self.disarm(name)

    @rule(span=st.integers(1, 4 * NS))
    def time_passes(self, span: int) -> None:
        """Time goes on, and the engine is told exactly when it asked to be: never late, never for nothing."""
        end = self.now + span
        while True:
            due = self.engine.next_deadline(self.at())
            if due is None or due > end:
                break
            self.now = max(self.now, due)
            self.expire()
            self.feed(ev.Tick(self.at()))
        self.now = end

    @precondition(lambda self: any(wire.flight for wire in self.wires.values()))
    @rule(data=st.data(), result=st.sampled_from(["done", "done", "failed", "wrong"]))
    def answer(self, data: st.DataObject, result: str) -> None:
        name = data.draw(st.sampled_from([name for name, wire in self.wires.items() if wire.flight]))
        wire = self.wires[name]
        assert wire.flight is not None
        (generation, setting), wire.flight = wire.flight, None
        if result == "failed":
            wire.confirmed = None
            self.feed(ev.Failed(self.at(), name, generation, "broken wire"))
            return
        wire.confirmed = setting if result == "done" else (OFF if setting.on else ON)
        self.feed(ev.Confirmed(self.at(), name, generation, wire.confirmed))

    @rule(name=NAMES, level=LEVELS, data=st.data(), failed=st.booleans())
    def late(self, name: str, level: Level, data: st.DataObject, failed: bool) -> None:
        """An answer to an older generation changes nothing."""
        wire = self.wires[name]
        old = sorted(wire.generations - {max(wire.generations, default=0)})
        if not old:
            return
        generation = data.draw(st.sampled_from(old))
        before = repr(self.engine.output_now(name))
        event = (
            ev.Failed(self.at(), name, generation, "late")
            if failed
            else ev.Confirmed(self.at(), name, generation, level)
        )
        assert self.feed(event) == []
        assert repr(self.engine.output_now(name)) == before

    @rule(board=BOARDS)
    def link_lost(self, board: str) -> None:
        self.up[board] = False
        for name, output in SITE.outputs.items():
            if output.pin.board == board:
                self.wires[name].flight = self.wires[name].confirmed = None
                self.disarm(name)
        self.feed(ev.LinkLost(self.at(), board, "unplugged"))

    @rule(board=BOARDS)
    def link_up(self, board: str, *, known: bool = True) -> None:
        self.up[board] = True
        readings = []
        for name, output in SITE.outputs.items():
            if output.pin.board == board:
                self.wires[name].flight = None
                self.wires[name].confirmed = output.safe
                readings.append((name, output.safe))
        self.feed(ev.LinkUp(self.at(), board, tuple(readings)))

    @rule()
    def restart(self) -> None:
        """A new engine on what was stored: leases are gone, and what needs a new command is off."""
        self.engine, sequence, stored = Engine(SITE), self.rows[-1].sequence, list(self.stored.values())
        stop, tags = self.engine.site_now().stop, ()
        if self.stopped:
            stop = Stop(self.now, KEEPER)
        tags = tuple(
            Tag(name, tag, OTHER, self.now) for name, each in self.tags.items() for tag in sorted(each)
        )
        for wire in self.wires.values():
            wire.generations.clear()
        for name in SITE.outputs:
            self.claims[name] = {slot: kept for slot, kept in self.claims[name].items() if not kept.lease}
            self.disarm(name)
        for board in SITE.boards:
            self.up[board] = False
        sequence = max(row.sequence for row in self.rows)
        read = tuple(claim_read(claim_form(claim)) for claim in stored)
        for board in SITE.boards:
            self.link_up(board)
        self.feed(ev.Start(self.at(), sequence, read, stop, tags, schedules=((EVENING, None),)))

    # --- what must always hold ----------------------------------------------------------------------------

    @invariant()
    def the_leader_leads(self) -> None:
        for name, output in SITE.outputs.items():
            now = self.engine.output_now(name)
            leader = self.leader(name)
            assert (now.leader.slot if now.leader else None) == (leader[0] if leader else None)
            assert now.wanted == (leader[1].setting if leader else output.rest)
            assert now.allowed == self.allowed(name)
            assert {claim.slot for claim in now.claims} == set(self.claims[name]), (
                "a claim ended late or early"
            )
            if self.stopped and now.pending is not None and now.pending != output.safe:
                raise AssertionError(f"{name} is driven from safe during an all-stop")

    @invariant()
    def the_journal_tells_the_same(self) -> None:
        told = Told((row.kind, row.subject, row.data) for row in self.rows)
        mine = {(name, slot): kept for name, each in self.claims.items() for slot, kept in each.items()}
        assert set(told.claims) == set(mine) == set(self.stored)
        for at, kept in mine.items():
            assert told.claims[at]["place"] == kept.place == self.stored[at].place
        assert told.stopped == self.stopped
        assert told.tags == {(name, tag) for name, tags in self.tags.items() for tag in tags}
        for name in SITE.outputs:
            now = self.engine.output_now(name)
            if now.confirmed is not None:
                assert told.confirmed[name] == {"level": now.confirmed.percent}

    def teardown(self) -> None:
        """Once boards answer again, every output comes to what is allowed; a failed off most of all."""
        if not hasattr(self, "engine"):
            return
        for board, up in self.up.items():
            if not up:
                self.link_up(board)
        for _ in range(200):
            for name, wire in self.wires.items():
                while wire.flight is not None:
                    (generation, setting), wire.flight = wire.flight, None
                    wire.confirmed = setting
                    self.feed(ev.Confirmed(self.at(), name, generation, setting))
            due = self.engine.next_deadline(self.at())
            if due is None:
                break
            self.now = max(self.now, due)
            self.expire()
            self.feed(ev.Tick(self.at()))
        for name, output in SITE.outputs.items():
            now = self.engine.output_now(name)
            assert now.confirmed == self.allowed(name) or (now.fault and self.allowed(name) != output.safe), (
                f"{name} never got there"
            )


TestOracle = Oracle.TestCase
TestOracle.settings = settings(
    max_examples=150, stateful_step_count=40, deadline=None, suppress_health_check=list(HealthCheck)
)


def test_a_failed_off_is_tried_again_with_growing_pauses_until_it_is_confirmed() -> None:
    engine = Engine(SITE)
    engine.handle(ev.LinkUp(Instant(1, 1), "one", (("vent", OFF), ("lamp", OFF))))
    engine.handle(ev.Start(Instant(1, 1)))
    drive = engine.handle(ev.Wish(Instant(2, 2), "a", KEEPER, "vent", ON, Rank.PERSON, PERSON, TAKEOVER))[0]
    engine.handle(ev.Confirmed(Instant(3, 3), "vent", drive.generation, ON))
    lamp = engine.output_now("lamp").pending
    assert lamp is not None, "rest is driven too"
    (drive,) = [
        each
        for each in engine.handle(ev.AllStop(Instant(4, 4), "b", KEEPER))
        if isinstance(each, ev.Drive) and each.output == "vent"
    ]
    tried = []
    now = 4
    for _ in range(12):
        engine.handle(ev.Failed(Instant(now, now), "vent", drive.generation, "no contact"))
        failed, drives = now, []
        while not drives:
            due = engine.next_deadline(Instant(now, now))
            assert due is not None
            now = due
            effects = engine.handle(ev.Tick(Instant(now, now)))
            drives = [
                effect for effect in effects if isinstance(effect, ev.Drive) and effect.output == "vent"
            ]
        tried.append((now - failed) / NS)
        assert [drive.setting for drive in drives] == [OFF]
        drive = drives[0]
    assert tried == sorted(tried)
    assert tried[0] == 0.1
    assert tried[-1] == 5.0
    engine.handle(ev.Confirmed(Instant(now, now), "vent", drive.generation, OFF))
    assert engine.output_now("vent").state == "blocked", "the claim still stands, behind the all-stop"
    assert engine.output_now("vent").confirmed == OFF
    assert engine.output_now("vent").failures == 0


def test_without_a_journal_only_moves_toward_off_are_carried_out() -> None:
    engine = Engine(SITE)
    engine.handle(ev.LinkUp(Instant(1, 1), "one", (("vent", OFF), ("lamp", OFF))))
    engine.handle(ev.Start(Instant(1, 1)))
    engine.handle(ev.Wish(Instant(2, 2), "a", KEEPER, "vent", ON, Rank.PERSON, PERSON, TAKEOVER))
    engine.handle(ev.Recording(Instant(3, 3), False, "disk full"))

    def outcome(setting: Setting) -> tuple[str, list[Setting]]:
        effects = engine.handle(
            ev.Wish(Instant(4, 4), "b", KEEPER, "vent", setting, Rank.PERSON, PERSON, TAKEOVER)
        )
        drives = [effect.setting for effect in effects if isinstance(effect, ev.Drive)]
        return next(effect.outcome for effect in effects if isinstance(effect, ev.Outcome)), drives

    assert outcome(ON) == ("refused", [])
    engine.handle(ev.Recording(Instant(5, 5), True))
    engine.handle(ev.Wish(Instant(5, 5), "p", KEEPER, "vent", ON, Rank.PLAN, "plan:evening", RELEASED))
    engine.handle(ev.Wish(Instant(5, 5), "q", KEEPER, "vent", OFF, Rank.PERSON, PERSON, RELEASED))
    engine.handle(ev.Recording(Instant(6, 6), False, "disk full"))
    released = engine.handle(ev.Release(Instant(6, 6), "r", KEEPER, "vent", PERSON))
    assert [effect.outcome for effect in released if isinstance(effect, ev.Outcome)] == ["refused"], (
        "it would uncover an on"
    )
    engine.handle(ev.Recording(Instant(7, 7), True))
    engine.handle(ev.Release(Instant(7, 7), "s", KEEPER, "vent", "plan:evening"))
    engine.handle(ev.Wish(Instant(7, 7), "t", KEEPER, "vent", ON, Rank.PERSON, PERSON, TAKEOVER))
    engine.handle(ev.Recording(Instant(8, 8), False, "disk full"))
    assert outcome(OFF) == ("not recorded", [OFF])


SCRIPT = """
import hashlib, random
from tests.core.test_engine import *
chance = random.Random(7)
engine, now, seen = Engine(SITE), START, hashlib.sha256()
events = [ev.LinkUp(Instant(now, now), board, tuple((n, o.safe) for n, o in SITE.outputs.items() if o.pin.board == board)) for board in SITE.boards]
events.append(ev.Start(Instant(now, now)))
for event in events:
    seen.update(repr(engine.handle(event)).encode())
for number in range(3000):
    now += chance.randrange(NS // 4)
    at, name, source = Instant(now, now), chance.choice(sorted(SITE.outputs)), chance.choice([KEEPER, OTHER])
    event = chance.choice([
        lambda: ev.Wish(at, f"c{number}", source, name, chance.choice([ON, OFF, None, Level(1234)]), chance.choice(list(Rank)), chance.choice([PERSON, "plan:x", "hand:y"]), chance.choice([TAKEOVER, lasting(NS), lease(NS)]), chance.random() < 0.3),
        lambda: ev.Release(at, f"c{number}", source, name, PERSON),
        lambda: ev.Tick(at),
        lambda: ev.Lock(at, f"c{number}", source, name, chance.choice("ab")),
        lambda: ev.Unlock(at, f"c{number}", source, name, chance.choice("ab")),
        lambda: ev.AllStop(at, f"c{number}", source),
        lambda: ev.ResetStop(at, f"c{number}", source),
        lambda: ev.LinkLost(at, "two", "gone"),
        lambda: ev.LinkUp(at, "two", ()),
    ])()
    effects = engine.handle(event)
    seen.update(repr(effects).encode())
    for effect in effects:
        if isinstance(effect, ev.Drive) and chance.random() < 0.8:
            seen.update(repr(engine.handle(ev.Confirmed(at, effect.output, effect.generation, effect.setting))).encode())
print(seen.hexdigest(), engine.state.journal.sequence)
"""


def test_the_same_script_gives_the_same_effects_byte_for_byte() -> None:
    """In two processes whose hashes are seeded differently, so that no order comes from a set or an address."""
    runs = {
        subprocess.run(
            [sys.executable, "-c", SCRIPT],
            capture_output=True,
            text=True,
            check=True,
            env={"PYTHONHASHSEED": seed},
        ).stdout
        for seed in ("1", "4242")
    }
    assert len(runs) == 1
    assert int(runs.pop().split()[1]) > 1000
