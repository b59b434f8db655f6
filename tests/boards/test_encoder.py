"""Rotary encoders: two lines that change one after the other, by chips that are asked over and over, and by our firmware, which follows them."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from cairnwind.boards.quadrature import PLACES, WHOLE, Turning, path
from cairnwind.core.values.errors import CallerError
from tests.boards import emulated
from tests.conftest import Running, eventually, faults

SITE = """
site = "Bench"
timezone = "UTC"
[board.near]
link = "simulated"
lines = 16
[board.chip]
link = "expander"
bus = "simulated"
chip = "ports-16"
[board.box]
link = "modbus"
port = "simulated"
[output]
lamp = { kind = "lamp", pin = "near:line-4", frequency = "1500 Hz" }
[input]
near-knob = { kind = "encoder", pin = "near:line-0", second = "near:line-1" }
knob = { kind = "encoder", pin = "chip:line-5", second = "chip:line-4", pull = "up" }
carriage = { kind = "encoder", pin = "box:line-2", second = "box:line-3", pull = "up", unit = "mm", pulse = 0.5, per_step = 2 }
[[reflex]]
name = "brighter"
when = "knob becomes turned up"
do = "turn lamp up by 10 %"
as = "person"
[[reflex]]
name = "darker"
when = "knob becomes turned down"
do = "turn lamp down by 10 %"
as = "person"
"""


@given(st.lists(st.integers(-9, 9)), st.sampled_from([1, 2, 4]), st.booleans())
def test_what_is_turned_is_counted_however_it_bounces(
    turns: list[int], per_step: int, by_board: bool
) -> None:
    """Against where it is: a step is made for each whole one, and none for what goes to and fro within one."""
    turning, lines, at, rest = Turning(per_step), (False, False), 0, 0
    for line, high in enumerate(lines):
        turning.line(line == 1, high)
    turning.counted(WHOLE - 3)
    for changes in turns:
        for levels in path(*lines, changes):
            ((line, high),) = [
                (number, new)
                for number, (old, new) in enumerate(zip(lines, levels, strict=True))
                if old != new
            ]
            lines, at = levels, at + (1 if changes > 0 else -1)
            expected = int((at - rest) / per_step)
            rest += expected * per_step
            if by_board:
                assert turning.counted((WHOLE - 3 + at) % WHOLE) == expected
                continue
            found = turning.line(line == 1, high)
            for bounce in (not high, high, high):
                found += turning.line(line == 1, bounce)
            assert found == expected
    assert turning.missed == 0


def test_what_came_while_nobody_looked_is_told_in_parts_and_none_is_lost() -> None:
    turning = Turning(4)
    assert turning.counted(7) == 0
    told = [turning.counted(1007) for _ in range(4)]
    assert told == [100, 100, 50, 0]


def test_both_at_once_is_no_way() -> None:
    turning = Turning(1)
    for lines in PLACES:
        turning.forget()
        assert [turning.line(second, high) for second, high in enumerate(lines)] == [0, 0]
        turning._place = (PLACES[lines] + 2) % 4
        assert turning.line(False, lines[0]) == 0
    assert turning.missed == 4


@pytest.fixture
def bench(tmp_path: Path) -> Iterator[Running]:
    running = Running(tmp_path, SITE)
    eventually(lambda: all(each["up"] for each in running.site.boards()), within=10)
    yield running
    running.end()


def test_a_knob_dims_by_steps_and_stops_at_the_ends(bench: Running) -> None:
    site = bench.site

    def level() -> float:
        return float(site.output("lamp")["confirmed"]["level"])

    def turned(by: int, value: float, lamp: float) -> None:
        assert site.pretend("knob", str(by))["seen"] == f"turned {'up' if by > 0 else 'down'} by {abs(by)}"
        eventually(lambda: (site.input("knob")["value"], level()) == (value, lamp))

    assert site.input("knob")["state"] == "0"
    turned(3, 3, 30)
    turned(-2, 1, 10)
    turned(-5, -4, 0)
    turned(12, 8, 100)
    site.stop("enough")
    site.pretend("knob", "-3")
    eventually(lambda: site.input("knob")["value"] == 5)
    assert level() == 0, "a stop is a stop, whoever turns"
    site.reset_stop()
    assert (
        bench.cli("pretend", "carriage", "-3").stdout
        == "carriage is pretended to be -3; it reads turned down by 3.\n"
    )
    eventually(lambda: site.input("carriage")["state"] == "-1.5 mm")
    site.pretend("near-knob", "turned up")
    assert site.input("near-knob")["total"] == 1
    assert bench.cli("ask", "carriage is below -1 mm").returncode == 0
    bench.end()
    bench.begin()
    eventually(
        lambda: (
            [bench.site.input(name)["value"] for name in ("knob", "carriage", "near-knob")] == [5, -1.5, 1]
        )
    )
    assert "turned for a moment" in bench.cli("ask", "knob is turned up").stderr.replace(
        "turned up for", "turned for"
    )
    for wrong in ("sideways", "0", "1000", "1.5"):
        with pytest.raises(CallerError) as told:
            bench.site.pretend("knob", wrong)
        assert "turned up, turned down, or a number of steps" in told.value.remedy


def test_a_chip_that_is_away_makes_it_unknown_and_moves_nothing(bench: Running) -> None:
    site = bench.site
    site.pretend("knob", "2")
    eventually(lambda: site.output("lamp")["confirmed"]["level"] == 20)
    chip = bench.service.runtime.machine.links["chip"].simulated  # type: ignore[attr-defined]
    chip.there = False
    eventually(lambda: site.input("knob")["value"] is None)
    chip.outside[5] = False  # it was turned meanwhile, by half a step
    chip.there = True
    eventually(lambda: site.input("knob")["value"] == 2, within=10)
    assert site.output("lamp")["confirmed"]["level"] == 20


def test_what_is_wired_wrongly_is_said(tmp_path: Path) -> None:
    def said(old: str, new: str) -> str:
        return faults(tmp_path, SITE.replace(old, new))

    assert said("", "") == ""
    assert "input near-knob has no 'second'" in said(', second = "near:line-1"', "")
    assert 'second = "near:line-1"' in said(', second = "near:line-1"', "")
    assert "it is on another board than near:line-0" in said(
        'second = "near:line-1"', 'second = "chip:line-1"'
    )
    assert "Wire it to box:line-3" in said('second = "box:line-3"', 'second = "box:line-1"')
    assert "it is the same line as 'pin'" in said('second = "near:line-1"', 'second = "near:line-0"')
    more = '[input.more]\nkind = "contact"\npin = "chip:line-4"\n[[reflex]]'
    assert "used twice: by input knob and by input more" in said("[[reflex]]", more)
    assert "'knob' is turned up for a moment only" in said("knob becomes turned up", "knob is turned up")
    assert "knob becomes turned up; or compare" in said("knob becomes turned up", "knob becomes closed")
    keys = '[board.pad]\nlink = "keys"\ndevice = "Bench keypad"\nkeys = ["dial", "enter"]\n[output]'
    for kind, line, wrong in (("contact", 0, "is a whole knob"), ("encoder", 1, "is no knob")):
        wired = f'\n[input.{kind}]\nkind = "{kind}"\npin = "pad:line-{line}"\n[output]'
        assert wrong in said("[output]", keys.replace("\n[output]", wired))


@pytest.mark.parametrize("chip", ["", "atmega324p"])
def test_our_firmware_follows_it_each_millisecond(tmp_path: Path, chip: str) -> None:
    """250 changes a second, both ways, while the host looks 50 times a second at most: none is lost."""
    board = emulated.emulated(chip=chip)
    site = f"""
site = "Bench"
timezone = "UTC"
[board.box]
link = "modbus"
port = "{board.port}"
[input]
knob = {{ kind = "encoder", pin = "box:line-2", second = "box:line-3", pull = "up" }}
other = {{ kind = "encoder", pin = "box:line-5", second = "box:line-4" }}
"""
    for pin in (2, 3, 4, 5):
        board.tell(f"level {pin} 0")
    running = Running(tmp_path, site)

    def value(name: str) -> float | None:
        found: float | None = running.site.input(name)["value"]
        return found

    eventually(lambda: (value("knob"), value("other")) == (0, 0), within=10)
    board.tell("turn 2 3 4 4000")
    eventually(lambda: board.of("turn"))
    eventually(lambda: (value("knob"), value("other")) == (1, 0), within=10)
    for number, (changes, steps) in enumerate(((400, 100), (-160, 60), (-403, -40)), 2):
        board.tell(f"turn 2 3 {changes} 4000")
        eventually(lambda n=number: len(board.of("turn")) == n, within=20)  # type: ignore[misc]
        eventually(lambda s=steps: value("knob") == 1 + s)  # type: ignore[misc]
    board.tell("turn 4 5 -40 4000")
    eventually(lambda: value("other") == 10)
    running.end()
    board.end()
