"""The engine with settings that move: programs, tones with their ends, kicks, pauses, ramps, sticks, quiet hours."""

from __future__ import annotations

import itertools
from datetime import UTC, datetime
from fractions import Fraction
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from cairnwind.core.engine.loop import Engine
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import (
    PERSON,
    RELEASED,
    TAKEOVER,
    Instant,
    Lifetime,
    Rank,
    Source,
    lasting,
    lease,
)
from cairnwind.core.facts.difference import difference
from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.facts.history import Told, claim_form, claim_read
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Quiet, Site
from cairnwind.core.physics import programs, sound
from cairnwind.core.physics.light import LIGHTNESS
from cairnwind.core.physics.programs import STEP, Program
from cairnwind.core.physics.shaping import Shape
from cairnwind.core.physics.stick import Pad, mix
from cairnwind.core.values.fact import replace
from cairnwind.core.values.quantities import NS
from cairnwind.core.values.settings import OFF, ON, SILENCE, Drive, Level, Setting, Tone

NOON = int(datetime(2026, 6, 3, 12, 0, tzinfo=UTC).timestamp()) * NS
WHO = Source("test", "somebody", "keep")
MOTORS = {
    name: Output(name, "motor", Pin("b", line), others=(line + 1,), reversal="direction", frequency=Fraction(400),
                 shape=Shape(pause=150 * NS // 1000, ramp=400 * NS // 1000), rearm="command")
    for name, line in (("left", 10), ("right", 12))
}  # fmt: skip
OUTPUTS = {
    "lamp": Output("lamp", "lamp", Pin("b", 0), frequency=Fraction(1500), steps=500, light=LIGHTNESS),
    "plain": Output("plain", "lamp", Pin("b", 1)),
    "bell": Output("bell", "sounder", Pin("b", 2), safe=SILENCE, rest=SILENCE),
    "chime": Output("chime", "sounder", Pin("b", 3), safe=SILENCE, rest=SILENCE),
    "fan": Output("fan", "fan", Pin("b", 4), frequency=Fraction(25_000), shape=Shape(kick=NS // 2)),
    **{name: replace(motor, safe=Drive(0), rest=Drive(0)) for name, motor in MOTORS.items()},
}
INPUTS = {
    name: Input(name, "analogue", Pin("b", line), unit="%", scale=((0.5, -100), (4.5, 100)))
    for name, line in (("x", 20), ("y", 21))
}
SITE = Site(
    "made", boards={"b": Board("b", "simulated", line_count=32)}, outputs=OUTPUTS, inputs=INPUTS,
    pads={"trolley": Pad("trolley", "left", "right", dead=80_000, stick=("x", "y"))},
)  # fmt: skip


class World:
    """An engine, its clock, and a board that answers at once, later, or not at all."""

    def __init__(self, site: Site = SITE, wall: int = NOON) -> None:
        self.engine = Engine(site)
        self.mono, self.wall = 1000 * NS, wall
        self.delay: int | None = 0
        self.drives: list[tuple[int, str, Setting]] = []
        self.rows: list[tuple[str, str, Any]] = []
        self.outcomes: list[ev.Outcome] = []
        self.changed: list[tuple[int, str]] = []
        self._due: list[tuple[int, ev.Drive]] = []
        self.handle(
            lambda at: ev.LinkUp(at, "b", tuple((name, output.safe) for name, output in site.outputs.items()))
        )

    def start(self, claims: tuple[Any, ...] = ()) -> World:
        self.handle(lambda at: ev.Start(at, claims=claims))
        return self

    @property
    def now(self) -> Instant:
        return Instant(self.mono, self.wall)

    def handle(self, make: Any) -> None:
        effects = self.engine.handle(make(self.now))
        answers = []
        for effect in effects:
            if isinstance(effect, ev.Drive):
                self.drives.append((self.mono, effect.output, effect.setting))
                if self.delay == 0:
                    answers.append(ev.Confirmed(self.now, effect.output, effect.generation, effect.setting))
                elif self.delay:
                    self._due.append((self.mono + self.delay, effect))
            elif isinstance(effect, ev.Record):
                self.rows.append((effect.kind, effect.subject, effect.data))
            elif isinstance(effect, ev.Outcome):
                self.outcomes.append(effect)
            elif isinstance(effect, ev.Changed):
                self.changed.append((self.mono, effect.name))
        if answers:
            self.handle(lambda at: ev.Answers(at, tuple(answers)))

    def wait(self, seconds: float) -> None:
        """Let time pass, deadline by deadline."""
        end = self.mono + round(seconds * NS)
        while True:
            due = self.engine.next_deadline(self.now)
            nexts = [each for each in (due, *(at for at, _ in self._due)) if each is not None and each <= end]
            then = max(self.mono, min(nexts, default=end))
            self.wall += then - self.mono
            self.mono = then
            if not nexts:
                return
            for at, drive in [each for each in self._due if each[0] <= then]:
                self._due.remove((at, drive))
                self.handle(lambda now, d=drive: ev.Confirmed(now, d.output, d.generation, d.setting))
            self.handle(ev.Tick)

    def wish(
        self,
        output: str,
        setting: Any,
        rank: Rank = Rank.PERSON,
        slot: str = PERSON,
        life: Lifetime = TAKEOVER,
    ) -> ev.Outcome:
        self.handle(lambda at: ev.Wish(at, "c", WHO, output, setting, rank, slot, life))
        return self.outcomes[-1]

    def release(self, output: str) -> None:
        self.handle(lambda at: ev.Release(at, "c", WHO, output, PERSON))

    def at(self, output: str) -> Setting | None:
        return self.engine.output_now(output).confirmed

    def of(self, output: str) -> list[tuple[float, Setting]]:
        return [((at - 1000 * NS) / NS, setting) for at, name, setting in self.drives if name == output]


def program(**form: Any) -> Program:
    return programs.make(form, "level", OUTPUTS["lamp"].read)


def test_a_fade_writes_only_what_its_timer_tells_apart_and_journals_its_ends() -> None:
    world = World().start()
    world.wish("lamp", program(kind="ramp", to="100 %", over="2 s"))
    world.wait(1.0)
    assert world.at("lamp") == pytest.approx((500_000, 0, False), abs=12_000)
    assert world.engine.output_now("lamp").state == "running"
    shown = [at for at, name in world.changed if name == "lamp"]
    world.wait(1.5)
    steps = world.of("lamp")
    counts = [OUTPUTS["lamp"].counts(setting) for _, setting in steps]
    assert all(a != b for a, b in itertools.pairwise(counts)), "no write that changes nothing"
    assert 50 < len(steps) <= 101
    assert all(round(at * NS) % STEP < 1000 for at, _ in steps[1:-1])
    assert world.at("lamp") == ON
    assert world.engine.output_now("lamp").state == "confirmed"
    assert len(shown) <= 8, "it is shown a few times a second, however often it moves"
    changes = [data for kind, subject, data in world.rows if (kind, subject) == ("change", "lamp")]
    assert changes[-1] == {"setting": {"level": 100.0}}
    assert len(changes) <= 3, "the journal holds no steps"
    assert Told((kind, subject, data) for kind, subject, data in world.rows).confirmed["lamp"] == {
        "level": 100.0
    }


def test_a_program_runs_on_while_it_is_hidden_and_ends_when_it_is_over() -> None:
    world = World().start()
    world.wish("plain", programs.blink(ON, OFF, NS, NS, 3))
    world.wait(0.5)
    world.wish("plain", OFF, Rank.HAND, "hand:1", lease(2 * NS))
    assert world.at("plain") == OFF
    world.wait(2.0)  # the lease ends 2.5 s after the beginning: the second blink is half over
    assert world.at("plain") == ON
    world.wait(0.6)
    assert world.at("plain") == OFF
    world.wait(5)
    assert world.engine.output_now("plain").claims == (), "it has blinked three times, and lets go"
    assert [at for at, _ in world.of("plain")] == [0, 0.5, 2.5, 3, 4, 5]
    ended = [data["why"] for kind, subject, data in world.rows if (kind, subject) == ("ended", "plain")]
    assert ended[-1] == "it has come to its end"
    world.wait(10)  # the deadline for the board's last answer
    assert world.engine.next_deadline(world.now) is None, "nothing wakes for nothing"


def test_a_gate_stops_a_program_at_once_and_off_is_off() -> None:
    world = World().start()
    world.wish("plain", programs.blink(ON, OFF, NS, NS, 0))
    world.wait(1.2)
    assert world.at("plain") == OFF, "it is in the dark half"
    world.handle(lambda at: ev.AllStop(at, "s", WHO))
    world.wait(3)
    assert [setting for _, setting in world.of("plain")] == [ON, OFF]
    assert world.engine.output_now("plain").refusal is not None, "it says so in the dark half too"
    world.handle(lambda at: ev.ResetStop(at, "r", WHO))
    world.wait(0.1)
    assert world.at("plain") == ON, "and goes on where it would be"


@given(st.integers(1, 200), st.integers(0, 6000))
@settings(max_examples=40, deadline=None)
def test_a_slow_board_is_given_one_step_at_a_time(delay: int, ms: int) -> None:
    world = World().start()
    world.delay = delay * NS // 1000
    world.wish("lamp", program(kind="breathe", **{"in": "1 s"}))
    world.wait(ms / 1000)
    world.release("lamp")
    world.wait(2)
    assert world.at("lamp") == OFF
    times = [at for at, _ in world.of("lamp")][:-1]
    assert all(b - a >= delay / 1000 - 1e-6 for a, b in itertools.pairwise(times))


@given(st.floats(0, 8), st.sampled_from(["blink", "breathe", "ramp", "tune"]))
@settings(max_examples=40, deadline=None)
def test_a_program_is_taken_up_after_a_restart_where_it_would_be(down: float, kind: str) -> None:
    world = World().start()
    forms = {"blink": {"lit": "700 ms"}, "breathe": {"in": "2 s"}, "ramp": {"to": "80 %", "over": "5 s"}}
    name = "bell" if kind == "tune" else "lamp"
    wanted = sound.tune("A4:20") if kind == "tune" else program(kind=kind, **forms[kind])
    world.wish(name, wanted)
    world.wait(1.3)
    stored = claim_read(claim_form(world.engine.output_now(name).claims[0]))
    again = World(wall=world.wall + round(down * NS))
    again.mono = 7 * NS  # another boot, another clock
    again.start((stored,))
    if kind == "tune":
        assert again.engine.output_now(name).claims == (), "a tune never resumes in the middle"
        return
    again.wait(0.05)
    assert isinstance(stored.setting, Program)
    expected = stored.setting.at(round((1.3 + down + 0.05) * NS))
    shown = again.at(name)
    assert isinstance(expected, Level)
    assert isinstance(shown, Level)
    assert shown.parts == pytest.approx(expected.parts, abs=25_000) or kind == "blink"
    if kind == "blink" and abs((1.3 + down) % 0.7 - 0.35) < 0.28:
        assert shown == expected


def test_every_tone_has_an_end_and_a_later_tune_replaces_the_one_before() -> None:
    world = World().start()
    world.wish("bell", Tone(440_000))
    world.wait(0.9)
    assert world.at("bell") == Tone(440_000)
    world.wait(0.2)
    assert world.at("bell") == SILENCE, "a second, unless it was said"
    world.wish("bell", Tone(440_000), life=lasting(3 * NS))
    world.wait(2.9)
    assert world.at("bell") == Tone(440_000)
    world.wait(0.2)
    for life in (RELEASED, lasting(3600 * NS)):
        refused = world.wish("bell", Tone(440_000), life=life)
        assert (refused.outcome, refused.reason) == ("refused", "a tone has an end, within 10 minutes")
    world.wish("bell", sound.tune("A4:8"))
    world.wait(1)
    world.wish("bell", sound.tune("C5 E5"))
    world.wait(0.1)
    assert world.at("bell") == Tone(523_251)
    world.wait(2)
    assert world.at("bell") == SILENCE, "the first tune is gone for good"
    # what is hidden, gated or out of reach is over: a tune never resumes in the middle
    world.wish("bell", sound.tune("A4:8"))
    world.wish("bell", Tone(880_000), Rank.HAND, "hand:1", lease(NS))
    world.wait(0.5)
    assert world.at("bell") == Tone(880_000)
    waiting = world.wish("bell", sound.tune("A4:8"))
    assert (waiting.outcome, "a tune does not wait" in waiting.reason) == ("refused", True)
    world.wait(1)
    assert world.at("bell") == SILENCE
    for stop, start in (
        (lambda at: ev.AllStop(at, "s", WHO), lambda at: ev.ResetStop(at, "r", WHO)),
        (lambda at: ev.LinkLost(at, "b", "unplugged"), lambda at: ev.LinkUp(at, "b", (("bell", SILENCE),))),
    ):
        world.wish("bell", sound.tune("A4:8"))
        world.wait(0.5)
        assert world.at("bell") == Tone(440_000)
        world.handle(stop)
        world.handle(start)
        world.wait(0.5)
        assert world.at("bell") == SILENCE


@pytest.mark.parametrize(
    ("zone", "when", "quiet"),
    [
        ("Europe/London", datetime(2026, 6, 3, 20, 59, 59, tzinfo=UTC), False),
        ("Europe/London", datetime(2026, 6, 3, 21, 0, 1, tzinfo=UTC), True),  # 22:00 there
        ("Europe/London", datetime(2026, 6, 4, 5, 59, tzinfo=UTC), True),
        ("Europe/London", datetime(2026, 6, 4, 6, 0, 1, tzinfo=UTC), False),
        ("Australia/Lord_Howe", datetime(2026, 1, 3, 11, 30, tzinfo=UTC), True),
        ("UTC", datetime(2026, 3, 29, 1, 30, tzinfo=UTC), True),
    ],
)
def test_quiet_hours_are_those_of_the_site(zone: str, when: datetime, quiet: bool) -> None:
    site = replace(SITE, timezone=zone, quiet=Quiet(22 * 60, 7 * 60, frozenset({"chime"})))
    world = World(site, round(when.timestamp()) * NS).start()
    said = world.wish("bell", Tone(440_000))
    assert (said.outcome == "refused") == quiet
    if quiet:
        assert said.reason == "quiet hours last until 07:00"
    assert world.wish("chime", Tone(440_000)).outcome == "driving", "it is excepted"
    assert world.wish("lamp", ON).outcome == "driving", "and lamps make no noise"


def test_a_tone_that_sounds_when_quiet_hours_begin_falls_silent() -> None:
    site = replace(SITE, quiet=Quiet(22 * 60, 7 * 60))
    world = World(site, int(datetime(2026, 6, 3, 21, 59, 55, tzinfo=UTC).timestamp()) * NS).start()
    world.wish("bell", Tone(440_000), life=lasting(60 * NS))
    world.wait(4)
    assert world.at("bell") == Tone(440_000)
    world.wait(2)
    assert world.at("bell") == SILENCE


def test_a_fan_is_kicked_when_it_starts_and_only_then() -> None:
    world = World().start()
    world.wish("fan", Level(200_000))
    world.wait(1)
    world.wish("fan", Level(400_000))
    world.wait(1)
    world.wish("fan", OFF)
    world.wait(1)
    world.wish("fan", Level(300_000))
    world.wait(0.2)
    world.handle(lambda at: ev.AllStop(at, "s", WHO))
    assert world.of("fan") == [
        (0, ON), (0.5, Level(200_000)), (1, Level(400_000)), (2, OFF), (3, ON), (3.2, OFF),
    ]  # fmt: skip


DRIVES = st.lists(
    st.tuples(st.integers(-100, 100).map(lambda p: Drive(p * 10_000)), st.integers(1, 900)),
    min_size=1,
    max_size=12,
)


@settings(max_examples=80, deadline=None)
@given(DRIVES, st.sampled_from([0, 5, 40]))
def test_a_motor_stands_before_it_turns_round_and_is_never_thrown_at_full(
    walk: list[tuple[Drive, int]], delay: int
) -> None:
    world = World().start()
    world.delay = delay * NS // 1000
    for drive, ms in walk:
        world.wish("left", drive, Rank.HAND, "hand:1", RELEASED)
        world.wait(ms / 1000)
    way = world.of("left")
    turning = [(at, setting.parts) for at, setting in way if isinstance(setting, Drive)]
    last_sign, stopped = 0, -10.0
    for number, (at, parts) in enumerate(turning):
        if parts == 0:
            stopped = at
            continue
        sign = 1 if parts > 0 else -1
        if last_sign and sign != last_sign:
            assert turning[number - 1][1] == 0, "it stands first"
            assert at - stopped >= 0.15 + delay / 1000 - 1e-6, (
                "for its pause, counted from the confirmed stop"
            )
        last_sign = sign
        before = abs(turning[number - 1][1]) if number and turning[number - 1][1] * parts > 0 else 0
        since = at - turning[number - 1][0] if number else 0.02
        assert abs(parts) - before <= 1e6 * (since + 0.02) / 0.4 + 2500, "no steeper than its ramp"
    world.wait(3)
    assert world.at("left") == walk[-1][0], "and it gets there"
    world.wish("left", Drive(0), Rank.HAND, "hand:1", RELEASED)
    assert not way or world.drives[-1][2] == Drive(0), "off is never shaped"


@given(st.floats(-1, 1), st.floats(-1, 1))
def test_a_pad_mixes_two_motors(x: float, y: float) -> None:
    pad = SITE.pads["trolley"]
    left, right = mix(pad, x, y)
    assert max(abs(left.parts), abs(right.parts)) <= 1_000_000
    mirrored = mix(pad, -x, y)
    assert (mirrored[0].parts, mirrored[1].parts) == (right.parts, left.parts)
    if abs(x) <= 0.08 and abs(y) <= 0.08:
        assert (left, right) == (Drive(0), Drive(0))
    if abs(x) <= 0.08:
        assert left == right
    assert mix(pad, 0, 1) == (Drive(1_000_000), Drive(1_000_000))
    assert mix(pad, 1, 0) == (Drive(1_000_000), Drive(-1_000_000))


def test_a_stick_drives_only_from_its_middle_on_and_lets_go_when_it_is_not_known() -> None:
    world = World().start()

    def hold(x: float | None, y: float | None) -> None:
        for name, value in (("x", x), ("y", y)):
            volts = None if value is None else 2.5 + value / 50
            raw = None if volts is None else round(volts * 1000)
            world.handle(lambda at, n=name, r=raw, v=volts: ev.Measured(at, n, r, 5000, v))
        world.wait(0.8)

    hold(0, 90)
    assert world.of("left") == [], "it was not in the middle when it was first seen"
    hold(0, 0)
    hold(0, 100)
    assert world.at("left") == world.at("right") == Drive(1_000_000)
    hold(60, 60)
    left, right = world.at("left"), world.at("right")
    assert isinstance(left, Drive)
    assert isinstance(right, Drive)
    assert left.parts > 900_000
    assert right == Drive(0)
    claims = world.engine.output_now("left").claims
    assert [(claim.rank, claim.text) for claim in claims] == [(Rank.HAND, "a hold at the stick (trolley)")]
    hold(3, -4)
    assert world.at("left") == Drive(0)
    hold(0, -80)
    hold(0, -125)  # less than the stick can give: a wire has come off
    assert world.at("left") == Drive(0)
    hold(0, -80)
    assert world.at("left") == Drive(0), "it has to be seen in the middle again"
    hold(0, 0)
    hold(0, -80)
    assert isinstance(world.at("left"), Drive)
    assert world.at("left") != Drive(0)
    world.handle(lambda at: ev.Lock(at, "l", WHO, "right", "red"))
    hold(0, 0)
    hold(0, 90)
    assert world.engine.output_now("left").claims == (), "both motors or none"
    assert world.at("left") == Drive(0)
    world.handle(lambda at: ev.Unlock(at, "u", WHO, "right", "red"))
    hold(0, 0)
    hold(0, 90)
    world.handle(lambda at: ev.LinkLost(at, "b", "unplugged"))
    assert world.engine.output_now("left").claims == ()


def test_a_stick_lets_go_when_its_pad_or_its_axis_changes_with_the_site() -> None:
    for change in ("pad", "no pad", "axis"):
        world = World().start()
        for y in (0, 100):
            for name, value in (("x", 0), ("y", y)):
                world.handle(
                    lambda at, n=name, v=2.5 + value / 50: ev.Measured(at, n, round(v * 1000), 5000, v)
                )
            world.wait(0.8)
        assert world.at("left") == Drive(1_000_000)
        site = world.engine.state.site
        pad, axis = site.pads["trolley"], site.inputs["y"]
        if change == "axis":
            site = replace(
                site,
                inputs={**site.inputs, "y": replace(axis, pin=replace(axis.pin, line=axis.pin.line + 50))},
            )
        else:
            site = replace(site, pads={"trolley": replace(pad, dead=pad.dead + 1)} if change == "pad" else {})
        wired = difference(world.engine.state.site, site)
        world.handle(lambda at, site=site, wired=wired: ev.Reload(at, "r", WHO, site, wired=wired))
        world.wait(0.8)
        assert (world.at("left"), world.at("right")) == (Drive(0), Drive(0)), change
        assert world.engine.output_now("left").claims == ()
