"""The drive of one output as what it is: a machine, whose states are all visited."""

from __future__ import annotations

from collections.abc import Iterator

from cairnwind.core.state.drive import CALM, HOME, NOTHING, ORDER, RETRY_LONGEST, Drive
from cairnwind.core.values.settings import OFF, ON, Level, Setting

HALF = Level(500_000)
SETTINGS = (OFF, ON, HALF)
State = tuple[object, ...]


def copy(drive: Drive) -> Drive:
    made = Drive()
    for name in Drive.__slots__:
        setattr(made, name, getattr(drive, name))
    return made


def seen(drive: Drive) -> State:
    """What tells two of its states apart, but for numbers that only grow."""
    return (
        drive.homing, drive.pending, drive.strayed, drive.confirmed, bool(drive.attempts), drive.failed, drive.retry_at is not None,
        drive.corrected, drive.stuck, bool(drive.fault), drive.theirs, drive.found,
    )  # fmt: skip


def moves(drive: Drive) -> Iterator[tuple[str, Drive, object]]:
    """Everything that can happen to it, and what it said."""
    now = (drive.retry_at or 0) + 1
    for target in SETTINGS:
        for time in (0, now):
            made = copy(drive)
            yield f"step {target} at {time}", made, made.step(OFF if made.homing else target, OFF, time, True)
        away = copy(drive)
        assert away.step(target, OFF, now, False) == NOTHING, "nothing is told to a board that is away"
        assert seen(away) == seen(drive)
        answered = copy(drive)
        expected = answered.answered(target, OFF)
        if expected is not None and answered.differs(expected, "it differs"):
            answered.back_off(expected, 0)
        yield f"answered {target}", answered, expected
        kept = copy(drive)
        expected = kept.answered(target, OFF)
        if expected is not None:
            kept.kept(expected, "there is a reason")
            kept.back_off(expected, 0)
            yield f"kept {target}", kept, expected
        up = copy(drive)
        up.linked(target, OFF)
        yield f"linked {target}", up, None
    unknown = copy(drive)
    unknown.linked(None, OFF)
    yield "linked", unknown, None
    lost = copy(drive)
    lost.unlinked()
    yield "unlinked", lost, None
    if drive.pending is not None:
        failed = copy(drive)
        tried = failed.unanswered()
        assert tried is not None
        assert failed.back_off(tried, 0) <= RETRY_LONGEST
        yield "failed", failed, None
    if drive.retry_at is not None:
        due = copy(drive)
        due.retry_at = None
        yield "retry", due, None


def test_every_state_that_it_can_be_in_holds_what_it_must() -> None:
    begin = Drive()
    begin.linked(None, OFF)
    known: dict[State, Drive] = {seen(begin): begin}
    queue = [begin]
    while queue:
        drive = queue.pop()
        for what, made, said in moves(drive):
            check(drive, what, made, said)
            if seen(made) not in known:
                known[seen(made)] = made
                queue.append(made)
    assert 50 < len(known) < 1000, "few enough to be looked at"
    assert {(each.homing, each.stuck is not None) for each in known.values()} == {
        (True, False), (False, False), (False, True), (True, True)
    }  # fmt: skip


def check(before: Drive, what: str, made: Drive, said: object) -> None:
    """What must hold of every move."""
    told: Setting | None = made.pending
    if what.startswith("step"):
        assert isinstance(said, int)
        if said == ORDER:
            assert made.generation == before.generation + 1, "a newer order replaces an older one"
            assert told is not None
            assert told != before.pending, "nothing is told twice"
            assert before.confirmed != told or before.pending is not None or before.theirs, (
                "nor what it is at already"
            )
            assert not (before.retry_at is not None and before.failed == told and " at 0" in what), (
                "not before its time"
            )
            assert not (before.stuck == told and told != OFF), (
                "what the board does not take is not told again, unless it is safe"
            )
        else:
            assert (made.pending, made.confirmed, made.generation) == (
                before.pending,
                before.confirmed,
                before.generation,
            )
        target = what.removeprefix("step ").rpartition(" at ")[0]
        if before.theirs and not before.homing and str(before.stuck) != target:
            assert said == ORDER, "what stands at the other side is taken back at once"
        assert not made.theirs or str(made.stuck) == target or made.homing, (
            "what stands at the other side is taken back before anything else"
        )
        if isinstance(said, int) and said & HOME:
            assert (before.homing, made.homing, made.confirmed) == (True, False, OFF), (
                "home is where it is confirmed safe"
            )
        if isinstance(said, int) and said & CALM:
            assert (bool(before.attempts), made.attempts) == (True, 0)
    if what in ("unlinked", "linked", "failed"):
        assert made.pending is None
        assert made.confirmed is None
    if "linked" in what:
        assert made.generation > before.generation, "an answer to what was before is ignored"
        assert made.homing == (what != f"linked {OFF}"), "safe comes first"
    assert not (made.theirs and made.stuck is None)
    assert not (made.found and made.pending is not None), "what was ordered is seen under its order"
    assert not (made.stuck is not None and not made.fault), "a fault has words"
