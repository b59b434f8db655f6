"""The question language: what is understood and refused, the table of its three values, and when it is asked again."""

from __future__ import annotations

import re
from fractions import Fraction
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from cairnwind.core.facts.claims import Instant
from cairnwind.core.facts.conditions import Memory, Value
from cairnwind.core.language import questions
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.quantities import NS
from cairnwind.core.values.settings import OFF, ON, Level
from tests.core.saltmarsh import SITE, at

WORDS = questions.names(SITE, ["emergency"])
MONDAY = at("2026-11-23 12:00")


class World:
    """A view that a test sets as it likes."""

    def __init__(self) -> None:
        self.site = SITE
        self.now = Instant(0, MONDAY)
        self.settings: dict[str, Any] = {}
        self.inputs: dict[str, Any] = {}
        self.down: set[str] = set()
        self.right = True
        self.wrong = 0
        self.on_its_way: set[str] = set()

    def setting(self, output: str) -> Any:
        return self.settings.get(output, OFF)

    def active(self, input: str) -> Any:
        return self.inputs.get(input)

    def value(self, input: str) -> Any:
        return self.inputs.get(input)

    def up(self, board: str) -> bool:
        return board not in self.down

    def leader(self, output: str) -> None:
        return None

    def load(self, supply: str) -> Fraction:
        return Fraction(self.inputs.get(supply, 0))

    def tripped(self, trip: str) -> bool:
        return self.inputs.get(trip, False)

    def wrong_codes(self, output: str, span: int) -> int:
        return self.wrong

    def unsure(self, output: str) -> bool:
        return output in self.on_its_way

    def clock_right(self) -> bool:
        return self.right

    def later(self, seconds: float) -> None:
        self.now = Instant(self.now.mono + round(seconds * NS), self.now.wall + round(seconds * NS))


def ask(text: str, world: World, memory: Memory | None = None) -> Value:
    return questions.read(text, WORDS).look(world, memory or Memory())


CONTACTS = {
    "kiln-door": ("closed", "open"),
    "vent-flow": ("still", "flowing"),
    "hoist-top": ("below", "reached"),
    "yard-gate": ("closed", "open"),
}
TESTS = st.one_of(
    st.sampled_from([f"{name} is {word}" for name, words in CONTACTS.items() for word in words]),
    st.sampled_from(["kiln-vent is on", "glaze-store is open", "glaze-store is locked", "gallery is at least 40 %", "shelf is down", "any of showroom is on", "all of showroom are off",
                     "kiln-temperature is between 38 °C and 42 °C", "coil-rail is above 1 A", "kiln is claimed by hand", "kiln is claimed by 'evening firing'", "'emergency' is tripped",
                     "glaze-store has 3 wrong codes within 10 min", "between 22:00 and 06:30", "between sunset - 20 min and 22:30", "on weekdays", "on Monday and Friday", "kiln-door is unknown", "kiln-door is not open"]),
)  # fmt: skip


def nested(inner: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
    both = st.tuples(inner, st.sampled_from(["and", "or"]), inner).map(
        lambda three: f"({three[0]}) {three[1]} ({three[2]})"
    )
    return st.one_of(
        both,
        inner.map(lambda one: f"not ({one})"),
        st.tuples(inner, st.integers(1, 90)).map(lambda two: f"({two[0]}) for {two[1]} s"),
    )


CONDITIONS = st.recursive(TESTS, nested, max_leaves=6)


@given(CONDITIONS)
def test_the_canonical_form_reads_to_itself_and_means_the_same(text: str) -> None:
    found = questions.read(text, WORDS)
    again = questions.read(found.text, WORDS)
    assert again.text == found.text
    world = World()
    world.inputs = {"kiln-door": True, "vent-flow": None, "hoist-top": False, "kiln-temperature": 40.0}
    assert again.look(world, Memory()) == found.look(world, Memory())
    if "'" not in found.text:  # what is in quotes is as it is written
        spoken = re.sub(r"(?<=\w)-(?=\w)", " ", found.text.upper())
        assert questions.read(spoken, WORDS).text == found.text


@given(
    st.text(max_size=40)
    | st.lists(
        st.sampled_from(
            [
                "kiln-door",
                "is",
                "not",
                "open",
                "closed",
                "for",
                "30",
                "s",
                "and",
                "or",
                "(",
                ")",
                "above",
                "40",
                "%",
                "between",
                "22:00",
                "on",
                "weekdays",
                "becomes",
                "any",
                "of",
                "showroom",
            ]
        ),
        max_size=9,
    ).map(" ".join)
)
def test_any_text_is_understood_or_refused_in_words_with_its_place(text: str) -> None:
    try:
        questions.read(text, WORDS)
    except CallerError as error:
        assert error.sentence
        assert error.remedy or "cannot stand" in error.sentence
        assert 0 <= error.more.get("at", 0) <= len(text)


@pytest.mark.parametrize(
    ("text", "match"),
    [
        ("kiln-dor is closed", "nothing called 'kiln-dor'.*Did you mean 'kiln-door'"),
        ("kiln-door is ajar", "never 'ajar'.*closed or open"),
        ("kiln-temperature is above 40 %", "in °C, not in %.*Write 40 °C"),
        ("kiln-temperature is hot", "It has a value"),
        ("kiln-vent is above 30 C", "percent"),
        ("coil-rail is above 3 W", "72 mA"),
        ("showroom is on", "any of showroom or all of showroom"),
        ("kiln is on and", "not finished.*Here could stand a name"),
        ("(kiln is on", "closing bracket"),
        ("bench-lamp becomes on for 3 s", "A moment does not last"),
        ("between 22:00 and 22:00", "ends when it begins"),
        ("kiln-temperature is between 42 C and 38 C", "lower one first"),
        ("", "There is no condition"),
    ],
)
def test_what_is_refused_says_why_and_what_to_write(text: str, match: str) -> None:
    with pytest.raises(CallerError) as raised:
        questions.read(text, WORDS)
    assert re.search(match, str(raised.value)), str(raised.value)


def test_the_table_of_three_values() -> None:
    page = (Path(__file__).parents[2] / "docs" / "conditions.md").read_text("utf-8")
    rows = re.findall(
        r"^\| (true|unknown|false) \| (true|unknown|false) \| (\w+) \| (\w+) \| (\w+) \|$", page, re.M
    )
    assert len(rows) == 9
    value = {"true": True, "false": False, "unknown": None}
    for one, other, both, either, opposite in rows:
        world = World()
        world.inputs = {"kiln-door": value[one], "vent-flow": value[other]}
        assert ask("kiln-door is open and vent-flow is flowing", world) is value[both]
        assert ask("kiln-door is open or vent-flow is flowing", world) is value[either]
        assert ask("not kiln-door is open", world) is value[opposite]


def test_the_examples_of_the_page_are_understood() -> None:
    page = (Path(__file__).parents[2] / "docs" / "conditions.md").read_text("utf-8")
    examples = re.findall(r"^\| `([^`]+)` \|", page, re.M)
    assert len(examples) > 15
    for example in examples:
        questions.read(example, WORDS)


def test_for_counts_from_when_it_is_seen_and_from_zero_after_unknown() -> None:
    world, memory = World(), Memory()
    condition = questions.read("kiln-door is open for 10 s", WORDS)
    world.inputs["kiln-door"] = False
    assert condition.look(world, memory) is False
    world.inputs["kiln-door"] = True
    assert condition.look(world, memory) is False
    assert memory.due_mono == world.now.mono + 10 * NS, "it says when it has to be asked again"
    world.later(9)
    (gap,) = condition.missing(world, memory)
    assert (gap.only_time, gap.expected) == (True, 10 * NS)
    world.inputs["kiln-door"] = None
    assert condition.look(world, memory) is False, (
        "it was shut 9 s ago: for 10 s it has certainly not been open"
    )
    assert memory.due_mono == world.now.mono + NS
    world.later(1)
    assert condition.look(world, memory) is None, "from here on nobody knows"
    world.inputs["kiln-door"] = True
    condition.look(world, memory)
    world.later(9)
    assert condition.look(world, memory) is False
    world.later(1)
    assert condition.look(world, memory) is True
    denied, memory = questions.read("not (kiln-door is open for 10 s)", WORDS), Memory()
    assert denied.look(world, memory) is None, "nobody knows for how long it has been so"
    world.settings["kiln"] = ON
    lasting, memory = questions.read("kiln is on for 5 s", WORDS), Memory()
    lasting.look(world, memory)
    world.later(4)
    world.on_its_way = {"kiln"}
    assert lasting.look(world, memory) is None
    since_off, memory_off = questions.read("not (kiln is on for 5 s)", WORDS), Memory()
    world.settings["kiln"], world.on_its_way = OFF, set()
    assert since_off.look(world, memory_off) is True
    world.on_its_way = {"kiln"}
    assert since_off.look(world, memory_off) is True, (
        "on its way or not: it is off, and so was not on for 5 s"
    )
    world.settings["kiln"] = ON
    world.on_its_way = set()
    lasting.look(world, memory)
    world.later(4)
    assert lasting.look(world, memory) is False, "it may have been off in between"


def test_becomes_is_a_moment_and_never_from_unknown() -> None:
    world, memory = World(), Memory()
    condition = questions.read("kiln-door becomes open", WORDS)
    seen = []
    for state in (None, True, False, True, True, None, True, False, True):
        world.inputs["kiln-door"] = state
        seen.append(condition.look(world, memory))
    assert seen == [None, False, False, True, False, None, False, False, True]
    twice, memory = questions.read("kiln-door becomes open twice within 1 s", WORDS), Memory()
    fired = []
    for gap, state in (
        (0, False),
        (1, True),
        (0.3, False),
        (0.3, True),
        (0.1, False),
        (0.3, True),
        (2, False),
        (0.1, True),
    ):
        world.later(gap)
        world.inputs["kiln-door"] = state
        fired.append(twice.look(world, memory))
    assert fired == [False, False, False, True, False, False, False, False]


def test_a_comparison_with_hysteresis_does_not_chatter() -> None:
    world, memory = World(), Memory()
    condition = questions.read("kiln-temperature is above 900 °C", WORDS)  # its hysteresis is 5
    found = []
    for value in (899, 901, 899, 896, 894, 899, 901):
        world.inputs["kiln-temperature"] = float(value)
        found.append(condition.look(world, memory))
    assert found == [False, True, True, True, False, False, True]


def test_hours_go_past_midnight_and_are_unknown_while_the_clock_is_wrong() -> None:
    world, memory = World(), Memory()
    condition = questions.read("between 22:00 and 06:30", WORDS)
    for moment, so in (
        ("2026-11-23 21:59:59", False),
        ("2026-11-23 22:00", True),
        ("2026-11-24 06:29:59", True),
        ("2026-11-24 06:30", False),
    ):
        world.now = Instant(0, at(moment))
        assert condition.look(world, memory) is so
        assert memory.due_wall is not None
        assert memory.due_wall > world.now.wall
    world.right = False
    assert condition.look(world, memory) is None
    assert [ask("on weekdays", world), ask("on weekends", world)] == [None, None]


def test_levels_supplies_links_codes_and_trips() -> None:
    world = World()
    world.settings["gallery"] = Level(400_000)
    world.inputs = {"coil-rail": Fraction(3, 2), "emergency": True}
    world.down, world.wrong = {"shelf"}, 3
    for text in (
        "gallery is at least 40 %",
        "coil-rail is above 1.4 A",
        "shelf is down",
        "glaze-store has 3 wrong codes within 10 min",
        "'emergency' is tripped",
        "kiln-door is unknown",
    ):
        assert ask(text, world) is True
