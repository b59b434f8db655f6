"""Bare pins in the engine: what may be tried, and that no trial outlives what it must not. By random walks, too."""

from __future__ import annotations

from fractions import Fraction

from hypothesis import given, settings
from hypothesis import strategies as st

from cairnwind.boards import maps
from cairnwind.core.engine.loop import Engine
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.claims import Instant, Source
from cairnwind.core.facts.hardware import Board
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.values.quantities import NS

BOARD = Board("b", "simulated", maps.load("header-34"))
SITE = Site(
    "Bench",
    boards={"b": BOARD},
    outputs={"lamp": Output("lamp", "lamp", BOARD.pin(7), frequency=Fraction(800))},
)
KEEPER = Source("test", "first key", "keep")
FREE = (14, 13, 18, 19)
TIMERS = {14: "T1", 13: "T1"}


def started() -> Engine:
    engine = Engine(SITE)
    engine.handle(ev.LinkUp(Instant(1, 1), "b", (("lamp", SITE.outputs["lamp"].safe),)))
    engine.handle(ev.Start(Instant(1, 1)))
    return engine


def outcome(effects: list[ev.Effect]) -> ev.Outcome:
    (found,) = (effect for effect in effects if isinstance(effect, ev.Outcome))
    return found


steps = st.lists(
    st.one_of(
        st.tuples(
            st.just("try"),
            st.sampled_from(FREE),
            st.sampled_from(["output", "pwm", "count"]),
            st.sampled_from([500_000, 800_000]),
        ),
        st.tuples(st.just("end"), st.sampled_from(FREE)),
        st.tuples(st.just("wait"), st.sampled_from([1, 3])),
        st.sampled_from([("stop",), ("reset",), ("lost",), ("up",), ("fail", 14)]),
    ),
    max_size=30,
)


@settings(max_examples=200, deadline=None)
@given(steps)
def test_what_the_link_works_is_what_the_engine_has_and_may_have(walk: list[tuple]) -> None:  # type: ignore[type-arg]
    engine, now, stopped, up = started(), 1, False, True
    worked: dict[int, str] = {}
    ends: dict[int, int] = {}
    for number, step in enumerate(walk):
        now += NS // 10
        at, name = Instant(now, now), f"c{number}"
        match step:
            case ("try", line, mode, hertz):
                pwm = mode == "pwm"
                parts = 0 if mode == "count" else 500_000
                effects = engine.handle(
                    ev.TryPin(at, name, KEEPER, BOARD.pin(line), mode, 2 * NS, parts, hertz if pwm else 0)
                )
                shares = [
                    other
                    for other in worked
                    if other != line and TIMERS.get(other) == TIMERS.get(line) is not None
                ]
                clash = pwm and any(
                    worked[other].startswith("pwm") and worked[other] != f"pwm {hertz}" for other in shares
                )
                may = up and not stopped and not clash and (not pwm or line in TIMERS)
                assert (outcome(effects).outcome == "driving") == may, (step, worked)
                if may:
                    ends[line] = now + 2 * NS
            case ("end", line):
                effects = engine.handle(ev.EndTry(at, name, KEEPER, BOARD.pin(line)))
            case ("wait", seconds):
                now += seconds * NS
                effects = engine.handle(ev.Tick(Instant(now, now)))
            case ("stop",):
                stopped = True
                effects = engine.handle(ev.AllStop(at, name, KEEPER))
            case ("reset",):
                stopped = False
                effects = engine.handle(ev.ResetStop(at, name, KEEPER))
            case ("lost",):
                up = False
                effects = engine.handle(ev.LinkLost(at, "b", "cable"))
            case ("up",):
                up = True
                effects = engine.handle(ev.LinkUp(at, "b", ()))
            case ("fail", line):
                effects = engine.handle(ev.TrialFailed(at, "b", line, "cannot"))
        for effect in effects:
            if isinstance(effect, ev.Work):
                if effect.trial is None:
                    worked.pop(effect.line)
                else:
                    worked[effect.line] = f"{effect.trial.mode} {effect.trial.millihertz}".replace(" 0", "")
        assert {trial.pin.line for trial in engine.trials_now("b")} == set(worked)
        assert not (worked and (stopped or not up)), "no gate and no lost link leaves one standing"
        assert all(ends[line] > now for line in worked), "and none outlives its lease"


def test_a_board_without_a_map_tells_its_timers_itself() -> None:
    board = Board("m", "modbus", None, 32)
    lamp = Output("lamp", "lamp", board.pin(28), frequency=Fraction(400))
    engine = Engine(Site("Bench", boards={"m": board}, outputs={"lamp": lamp}))
    engine.handle(ev.LinkUp(Instant(1, 1), "m", (("lamp", lamp.safe),), ((28, "T0"), (29, "T0"), (14, "T1"))))
    engine.handle(ev.Start(Instant(1, 1)))

    def asked(line: int, hertz: int) -> ev.Outcome:
        return outcome(
            engine.handle(ev.TryPin(Instant(2, 2), "c", KEEPER, board.pin(line), "pwm", NS, 1, hertz))
        )

    assert asked(29, 500_000).reason == "m:line-29 shares timer T0 with lamp, and so one frequency: 400 Hz"
    assert asked(29, 500_000).remedy == "Try it at 400 Hz, or try a pin of another timer: line-14."
    assert asked(29, 400_000).outcome == asked(14, 500_000).outcome == "driving"


def test_owned_pins_and_pins_without_the_function_are_refused_in_words() -> None:
    engine = started()

    def asked(line: int, mode: str, hertz: int = 0) -> ev.Outcome:
        return outcome(
            engine.handle(ev.TryPin(Instant(2, 2), "c", KEEPER, BOARD.pin(line), mode, NS, 1, hertz))
        )

    assert asked(7, "output").reason == "b:J2-14 (line 7) belongs to output lamp"
    assert asked(18, "pwm", 1).reason == "b:J3-3 (line 18) has no PWM"
    free = "J2-17, J2-16, J2-15, J3-2, J2-6, J2-8, J2-10, J2-18"
    assert asked(18, "pwm", 1).remedy == f"Free pins of b that have it: {free}."
    shared = asked(6, "pwm", 900_000)
    assert shared.reason == "b:J2-15 shares timer T0 with lamp, and so one frequency: 800 Hz"
    assert "another timer: J3-2, J2-6, J2-8, J2-10" in shared.remedy
    assert asked(6, "pwm", 800_000).outcome == "driving"
