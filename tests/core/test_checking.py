"""What the check finds, excludes and leaves open; nothing that it finds may be unreal."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from cairnwind.core.explain import checking
from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.site import Site
from cairnwind.core.language import forms as rules
from cairnwind.core.language.forms import Rules
from cairnwind.core.rules import kinds
from cairnwind.demo import SITE_FILE
from cairnwind.site.checked import check_site
from tests.core.saltmarsh import SITE
from tests.invariants import brute, sites
from tests.invariants.plant import NS, Plant
from tests.invariants.test_invariants import Drawn

BAD = """
site = "Bad"
[board.b]
link = "simulated"
lines = 16
[output.a]
kind = "relay"
pin = "b:line-0"
load = "100 W"
[output.c]
kind = "relay"
pin = "b:line-1"
load = "3 kW"
[output.d]
kind = "relay"
pin = "b:line-2"
[output.e]
kind = "relay"
pin = "b:line-4"
[input.door]
kind = "contact"
pin = "b:line-3"
"""
CASES: list[tuple[str, str]] = [
    ('[[interlock]]\nname = "one"\nneeds = "c is on"\noutputs = ["a"]\n[[interlock]]\nname = "two"\nneeds = "a is on"\noutputs = ["c"]', "a can never come on: what it needs goes round in a circle: a → c → a"),
    ('[[interlock]]\nname = "one"\nneeds = "c is on and d is on"\noutputs = ["a"]\n[[interlock]]\nname = "two"\nexcludes = ["c", "d"]', "a can never come on: its rules contradict each other"),
    ('[[interlock]]\nname = "n"\nneeds = "door is open and door is closed"\noutputs = ["d"]', "'door is open and door is closed' is never so"),
    ('[[interlock]]\nname = "n"\nneeds = "door is open or door is closed"\noutputs = ["d"]', "is always so"),
    ('[[interlock]]\nname = "stuck"\ntrip = "d is off"\noutputs = ["d"]', "nothing can reset 'stuck'"),
    ('[[interlock]]\nname = "tiny"\nlimit = "2 kW"\noutputs = ["a", "c"]', "c alone needs 3 kW, and 'tiny' allows 2 kW"),
    ('[[interlock]]\nname = "apart"\nexcludes = ["d", "e"]\n[[interlock]]\nname = "again"\nexcludes = ["d", "e", "a"]', "'apart' is pointless: 'again' excludes the same already"),
    ('[[interlock]]\nname = "wide"\nlimit = "9 kW"\noutputs = ["a", "c"]', "'wide' is never reached"),
    ('[[interlock]]\nname = "apart"\nexcludes = ["d", "e"]\n[[schedule]]\nname = "s"\nfrom = "10:00"\nto = "12:00"\ndo = "turn d on"\n[[schedule]]\nname = "t"\nfrom = "11:00"\nto = "13:00"\ndo = "turn e on"', "'s' and 't' want d and e on at once"),
    ('[[reflex]]\nname = "r"\nwhen = "e becomes on"\ndo = "turn e off for 1 min"\n[[reflex]]\nname = "q"\nwhen = "e becomes off"\ndo = "turn e on for 1 min"', "'r' leads back to itself: 'r' → 'q' → 'r'"),
]  # fmt: skip


@pytest.mark.parametrize(("more", "what"), CASES)
def test_each_fault_is_found_with_an_example_and_its_place(more: str, what: str, tmp_path: Path) -> None:
    path = tmp_path / "site.toml"
    path.write_text(BAD + more)
    _, warnings, answers = check_site(path)
    found = [each for each in answers if each.verdict == "found"]
    assert any(what in each.what for each in found), [each.what for each in found]
    assert all(each.example for each in found)
    assert {finding.what for finding in warnings.findings} == {each.what for each in found}
    assert all(finding.line > 20 or "can never come on" in finding.what for finding in warnings.findings)


@pytest.mark.parametrize(
    ("more", "match"),
    [
        ('[[interlock]]\nname = "x"\nneeds = "dor is open"\noutputs = ["a"]', "nothing called 'dor'"),
        ('[[interlock]]\nname = "x"\nneeds = "door becomes open"\noutputs = ["a"]', "about a moment"),
        ('[[interlock]]\nname = "x"\noutputs = ["a"]', "has none of needs"),
        ('[[interlock]]\nname = "x"\nexcludes = ["a"]', "excludes nothing"),
        ('[[interlock]]\nname = "x"\nlimit = "2 kW"\noutputs = ["d"]', "What d needs is not said"),
        ('[[interlock]]\nname = "x"\noutputs = ["a"]\npace = { longest_on = "5 s" }', "only one of the two"),
        ('[[interlock]]\nname = "x"\nneeds = "door is open"\noutputs = ["a"]\ngap = "1 s"', "has no 'gap'"),
        ('[[reflex]]\nname = "x"\nwhen = "door becomes open"\ndo = "turn a on"', "does not say how long"),
        ('[[reflex]]\nname = "x"\nwhen = "door becomes open"\ndo = "toggle a"', "A toggle is a person's"),
        ('[[regulator]]\nname = "x"\nkeep = "door between 1 and 2"\nby = "a"', "no value"),
        ('[[alarm]]\nname = "x"\nwhen = "door is open"\nseverity = "red"', "no severity"),
        ('[guard.a]\nopens = "5 s"\nfails = "never"', "without power"),
        ('[output.f]\nkind = "relay"\npin = "b:line-5"\nsafe = "on"\n[[interlock]]\nname = "x"\nneeds = "door is open"\noutputs = ["f"]', "f is on when it is safe"),
        ('[output.f]\nkind = "relay"\npin = "b:line-5"\non_stop = "keep"\n[[interlock]]\nname = "x"\nneeds = "door is open"\noutputs = ["f"]', "kept as it is when the service stops"),
    ],
)  # fmt: skip
def test_what_cannot_be_read_is_pointed_at(more: str, match: str, tmp_path: Path) -> None:
    path = tmp_path / "site.toml"
    path.write_text(BAD + more)
    with pytest.raises(Exception, match="1 error") as raised:
        check_site(path)
    assert any(match in finding.what for finding in raised.value.findings), raised.value.findings  # type: ignore[attr-defined]


def test_the_demo_is_without_fault_and_checked_in_no_time() -> None:
    began = time.process_time()
    _, _, answers = check_site(SITE_FILE)
    assert len(answers) >= 25
    assert {each.verdict for each in answers} == {"excluded"}
    assert time.process_time() - began < 3, "a second on a machine that does nothing else"
    assert SITE.name


@settings(max_examples=25, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.data())
def test_what_can_never_come_on_does_not_and_what_can_is_not_said_to_be(data: Any) -> None:
    """Random sites: what the check says of an output is held against an engine in which everything is tried."""
    site, interlocks, _ = sites.site_and_rules(Drawn(data))
    answers = checking.check(site, Rules(interlocks))
    never = {
        each.rule for each in answers if (each.question, each.verdict) == ("can it ever come on?", "found")
    }
    run = Plant(site, interlocks, _Deaf(), lambda _: 0, sites.BEGIN)
    seen: set[str] = set()
    names, contacts = list(site.outputs), list(site.inputs)
    for _ in range(60):
        match data.draw(st.integers(0, 3)):
            case 0:
                name = data.draw(st.sampled_from(contacts))
                run.set_input(name, not run.contacts[name])
            case 1 | 2:
                run.wish(data.draw(st.sampled_from(names)), data.draw(st.booleans()), patient=True)
            case _:
                run.pass_time(30 * NS)
        run.pass_time(NS)
        seen |= {name for name, high in run.pins.items() if high}
    assert not seen & never


class _Deaf:
    def __getattr__(self, name: str) -> Any:
        return lambda *_: None


def test_too_many_states_are_not_decided() -> None:
    inputs = {f"in{n}": Input(f"in{n}", "contact", Pin("b", n + 1)) for n in range(18)}
    site = Site(
        "large",
        boards={"b": Board("b", "simulated", line_count=40)},
        outputs={"a": Output("a", "relay", Pin("b", 30))},
        inputs=inputs,
    )
    words = rules.language(site)
    either = [f"(in{number} is open or in{number + 1} is open)" for number in range(17)]
    form = {
        "name": "all",
        "needs": " and ".join([*either, *(f"not (in{n} is open and in{n + 2} is open)" for n in range(16))]),
        "outputs": ["a"],
    }
    answers = checking.check(site, Rules((kinds.make(form, words),)))
    assert {each.verdict for each in answers} == {"not decided"}


INPUTS = '[input.other]\nkind = "contact"\npin = "b:line-5"\n[output.fan]\nkind = "fan"\npin = "b:line-6"\nfrequency = "25 kHz"\n'


@pytest.mark.parametrize(
    ("more", "what"),
    [
        ('[[interlock]]\nname = "x"\ntrip = "d is on"\noutputs = ["d"]', "d can never come on: 'x' trips as soon as it does"),
        ('[[interlock]]\nname = "x"\ntrip = "d is off"\noutputs = ["a", "d"]', "a can never come on: 'x' has tripped as soon as everything is safe"),
        ('[[interlock]]\nname = "one"\ntrip = "\'two\' is tripped"\noutputs = ["a"]\n[[interlock]]\nname = "two"\ntrip = "\'one\' is tripped"\noutputs = ["c"]', "nothing can reset 'one': it and 'two' keep each other tripped"),
        ('[[interlock]]\nname = "x"\nneeds = "between 08:00 and 10:00 and between 12:00 and 14:00"\noutputs = ["d"]', "is never so"),
        ('[[interlock]]\nname = "x"\nneeds = "on weekdays and on Sunday"\noutputs = ["d"]', "is never so"),
        ('[[interlock]]\nname = "x"\nneeds = "link b is down"\noutputs = ["d"]', "d can never come on"),
        ('[[interlock]]\nname = "x"\nneeds = "d is on for 30 s"\noutputs = ["a"]\n[[interlock]]\nname = "y"\npace = { longest_on = "20 s", rest = "5 s" }\noutputs = ["d"]', "is never so"),
        ('[[interlock]]\nname = "x"\ntrip = "d is off for 30 s"\noutputs = ["a"]', "'x' trips when everything is safe"),
    ],
)  # fmt: skip
def test_what_was_missed_before_is_found(more: str, what: str, tmp_path: Path) -> None:
    path = tmp_path / "site.toml"
    path.write_text(BAD + INPUTS + more)
    _, _, answers = check_site(path)
    found = [each.what for each in answers if each.verdict == "found"]
    assert any(what in each for each in found), found


@pytest.mark.parametrize(
    "more",
    [
        '[[interlock]]\nname = "x"\nneeds = "fan is between 20 % and 80 %"\noutputs = ["d"]',
        '[[interlock]]\nname = "x"\nneeds = "door is open and not (door is open for 10 s)"\noutputs = ["d"]',
        '[[interlock]]\nname = "x"\ntrip = "door is open for 10 s"\noutputs = ["d"]',
        '[[interlock]]\nname = "x"\ntrip = "d is on for 30 s"\noutputs = ["d"]',
        '[[interlock]]\nname = "x"\nneeds = "door is open"\noutputs = ["d"]\ngrace = "10 s"\n[[interlock]]\nname = "y"\nneeds = "d is on and door is closed"\noutputs = ["e"]',
        '[[interlock]]\nname = "x"\nneeds = "between 08:00 and 10:00 or on Sunday"\noutputs = ["d"]',
        '[[interlock]]\nname = "x"\nneeds = "d is unknown"\noutputs = ["a"]',
    ],
)
def test_what_can_be_is_not_said_to_be_impossible(more: str, tmp_path: Path) -> None:
    path = tmp_path / "site.toml"
    path.write_text(BAD + INPUTS + more)
    _, _, answers = check_site(path)
    assert [each.what for each in answers if each.verdict == "found"] == []


def test_what_is_found_is_so_and_nothing_is_missed_by_the_real_engine() -> None:
    """Brute force over the engine itself, trips included; many more sites with ``python -m tests.invariants.brute``."""
    found = [brute.one(seed) for seed in range(40)]
    assert [wrong for _, _, wrong, _ in found if wrong] == []
    assert [missed for _, _, _, missed in found if missed] == []
    assert sum(count["found, rightly"] for _, count, _, _ in found) > 5


@pytest.mark.parametrize("also", ["", " and door is open", " for 5 s"])
def test_a_chain_of_five_hundred_needs_is_answered_whole(also: str) -> None:
    outputs = {f"o{number}": Output(f"o{number}", "relay", Pin("b", number)) for number in range(501)}
    boards = {"b": Board("b", "simulated", line_count=600)}
    site = Site(
        "chain",
        boards=boards,
        outputs=outputs,
        inputs={"door": Input("door", "contact", Pin("b", 599), words=("shut", "open"))},
    )
    words = rules.language(site)
    needs = tuple(
        kinds.make(
            {"name": f"n{number}", "needs": f"o{number + 1} is on{also}", "outputs": [f"o{number}"]}, words
        )
        for number in range(500)
    )
    assert {each.verdict for each in checking.check(site, Rules(needs))} == {"excluded"}
