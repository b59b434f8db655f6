"""A site file is changed as a careful person would by hand: what is meant, and nothing else."""

from __future__ import annotations

import re
import tomllib
from collections import Counter
from copy import deepcopy
from typing import Any

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from cairnwind.core.values.errors import CallerError
from cairnwind.demo import SITE_FILE
from cairnwind.site import read_text
from cairnwind.site.drafting import preview
from cairnwind.site.editing import edit
from cairnwind.site.edits import LISTED, NAMED, Edit, blocks, known
from cairnwind.site.offering import free_pins, offers
from cairnwind.site.plans import read_plan
from cairnwind.site.rules import read_rules

TEXT = SITE_FILE.read_text("utf-8")
TABLES = tomllib.loads(TEXT)
KINDS = [*NAMED, *LISTED, "remote", "quiet", "site"]
ODD = """# a file of one's own
site = 'Shed'   # the name
[board.near]
link = "simulated"
lines = 8

  [ output . "lamp" ]   # the lamp
pin = "near:line-1"   # wired on Sunday
kind = "lamp"

# what it draws
[output.lamp.draws]
supply = "rail"
current = "1 A"
[supply.rail]
volts = 5
# --- rules ---

[[reflex]]
do = '''turn lamp on'''
name = "x"   # not y
when = "lamp becomes off"
"""


def names(text: str, kind: str) -> list[str]:
    """What there is of a kind."""
    if kind in ("quiet", "site"):
        return [""]
    found = known(text, kind)
    return [name for name in found if name != "broker"] if kind == "remote" else found


values = st.recursive(
    st.one_of(st.text(st.characters(blacklist_categories=("Cs", "Cc")), max_size=8), st.integers(-(2**60), 2**60), st.booleans(), st.sampled_from(["40 %", "a # b", 'x"y', "C:\\"])),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text("abc-_. é", min_size=1, max_size=4), inner, max_size=3),
    max_leaves=6,
)  # fmt: skip
keys = st.dictionaries(st.sampled_from(["label", "load", "extra", "pin", "do", "a.b", "ü"]), st.none() | values, max_size=4)  # fmt: skip


@st.composite
def edits(draw: st.DrawFn, text: str) -> Edit:
    kind = draw(st.sampled_from(KINDS))
    do = draw(st.sampled_from(["add", "change", "remove"]))
    there = names(text, kind)
    if do == "add" and kind not in ("quiet", "site"):
        name = draw(st.sampled_from(["porch", "porch-2", *there[:1]])) if kind != "remote" else "hook.porch"
    else:
        assume(there)
        name = draw(st.sampled_from(there))
    return Edit(do, kind, name, {} if do == "remove" else draw(keys))  # type: ignore[arg-type]


def by_hand(tables: dict[str, Any], change: Edit) -> dict[str, Any]:
    """The tables of a file after a change, made without looking at its text."""
    tables = deepcopy(tables)
    keys = {key: value for key, value in change.keys.items() if value is not None}
    if change.what in LISTED:
        rows = tables.setdefault(change.what, [])
        at = next((n for n, row in enumerate(rows) if row["name"] == change.name), None)
        if change.do == "add":
            rows.append({"name": change.name, **keys})
        elif change.do == "remove":
            del rows[at]
            if not rows:
                del tables[change.what]
        else:
            rows[at] = {key: each for key, each in {**rows[at], **change.keys}.items() if each is not None}
        return tables
    path = [] if change.what == "site" else [change.what, *(change.name.split(".") if change.name else [])]
    if change.do == "remove":
        for length in range(len(path), 0, -1):
            holder = tables
            for name in path[: length - 1]:
                holder = holder[name]
            if length == len(path) or not holder[path[length - 1]]:
                del holder[path[length - 1]]
        return tables
    holder = tables
    for name in path:
        holder = holder.setdefault(name, {})
    holder.update(keys)
    for key, each in change.keys.items():
        if each is None:
            holder.pop(key, None)
    return tables


def comments(text: str) -> Counter[str]:
    return Counter(re.findall(r"#[^\n\"']*$", text, re.M))


@settings(max_examples=70, deadline=None)
@given(st.data())
def test_any_changes_give_what_the_same_changes_by_hand_give(data: st.DataObject) -> None:
    text = TEXT
    for _ in range(data.draw(st.integers(1, 5))):
        change = data.draw(edits(text))
        before = tomllib.loads(text)
        try:
            after = edit(text, change)
        except CallerError as error:
            assert error.code in ("taken", "bad-value", "by-hand", "unknown-name"), error
            continue
        assert tomllib.loads(after) == by_hand(before, change), change
        if change.do == "add" and None not in change.keys.values():  # which takes a line away
            lines = iter(after.split("\n"))
            assert all(line in lines for line in text.split("\n") if line.strip()), "nothing else has moved"
        elif change.do == "change":
            assert not comments(text) - comments(after), "no comment is lost"
        text = after
    assert "".join(block.text for block in blocks(text)) == text


@pytest.mark.parametrize("kind", ["output", "input", "board", "supply", "group", "scene", "tune", "pad", "interlock", "schedule"])  # fmt: skip
def test_what_is_renamed_is_renamed_wherever_the_file_speaks_of_it(kind: str) -> None:
    """There and back is the same file; in between every phrase, condition and list is understood, and means the same."""
    meant = said(TEXT)
    for name in known(TEXT, kind):
        there = edit(TEXT, Edit("rename", kind, name, {}, "quite-new"))  # type: ignore[arg-type]
        assert edit(there, Edit("rename", kind, "quite-new", {}, name)) == TEXT  # type: ignore[arg-type]
        assert comments(there) == comments(TEXT)
        site, plan, rules = said(there)
        called = {(kind, name): (kind, "quite-new")}
        assert [called.get(each, each) for each in meant[0]] == site
        for before, now in ((meant[1], plan), (meant[2], rules)):
            assert [
                {called.get(("output", each), ("", each))[1] for each in outputs} for outputs in before
            ] == now


def said(text: str) -> tuple[list[tuple[str, str]], list[set[str]], list[set[str]]]:
    """The names in a file; the outputs of each schedule, and of each rule."""
    site = read_text(text, "it")
    planned = read_plan(site)
    rules = read_rules(site, planned)
    kinds = {
        "supplies": "supply",
        **{f"{kind}s": kind for kind in ("board", "output", "input", "group", "tune", "pad")},
    }
    found = [(kind, name) for field, kind in kinds.items() for name in getattr(site, field)]
    found += [("scene", each) for each in planned.scenes] + [
        ("schedule", each.name) for each in planned.schedules
    ]
    found += [
        ("interlock", each.name)
        for each in rules.interlocks
        if not each.name.startswith(("supply ", "proof of "))
    ]
    of_rules = [set(each.outputs) for each in rules.interlocks] + [{guard.output} for guard in rules.guards]
    return found, [set(each.course.outputs) for each in planned.schedules], of_rules


def test_the_ways_of_a_hand_are_kept() -> None:
    moved = edit(ODD, Edit("change", "output", "lamp", {"pin": "near:line-2"}))
    assert moved == ODD.replace("line-1", "line-2")
    called = edit(ODD, Edit("rename", "output", "lamp", {}, "light"))
    changed = ODD.replace('"lamp" ]', "light ]").replace("output.lamp", "output.light")
    assert called == changed.replace("turn lamp", "turn light").replace('"lamp becomes', '"light becomes')
    flat = edit(ODD, Edit("change", "output", "lamp", {"draws": {"supply": "rail", "current": "2 A"}}))
    assert tomllib.loads(flat)["output"]["lamp"]["draws"] == {"supply": "rail", "current": "2 A"}
    assert "[output.lamp.draws]" not in flat
    gone = edit(ODD, Edit("remove", "supply", "rail"))
    assert "# --- rules ---" in gone
    assert "volts" not in gone
    named = edit(ODD, Edit("rename", "reflex", "x", {}, "y"))
    assert named == ODD.replace('name = "x"', 'name = "y"')


@pytest.mark.parametrize(("change", "code", "says"), [
    (Edit("add", "output", "gallery"), "taken", "There is an output 'gallery' already."),
    (Edit("change", "output", "galery", {"label": "x"}), "unknown-name", "There is no output called 'galery'."),
    (Edit("remove", "interlock", "no fire"), "unknown-name", "There is no interlock called 'no fire'."),
    (Edit("add", "output", "Porch Lamp"), "bad-value", "'Porch Lamp' cannot be a name"),
    (Edit("add", "output"), "bad-value", "Which output? No name is given."),
    (Edit("rename", "output", "gallery", {}, "kiln-door"), "taken", "'kiln-door' is the name of another input."),
    (Edit("rename", "output", "gallery"), "bad-value", "How is gallery to be called?"),
    (Edit("change", "output", "gallery"), "bad-value", "What is to be otherwise of gallery?"),
    (Edit("rename", "site", "", {}, "x"), "bad-value", "There is one site only."),
    (Edit("change", "quiet", "", {"to": None, "x": float("nan")}), "", ""),
], ids=str)  # fmt: skip
def test_what_cannot_be_is_said_by_the_names_people_use(change: Edit, code: str, says: str) -> None:
    if not code:
        assert "nan" in edit(TEXT, change)
        return
    with pytest.raises(CallerError) as error:
        edit(TEXT, change)
    assert (error.value.code, error.value.sentence.startswith(says)) == (code, True), error.value.sentence
    assert error.value.remedy


def test_what_is_found_because_of_a_draft_is_told_apart() -> None:
    same = preview("it", TEXT, TEXT)
    assert (same.lines, same.words, same.new) == ("", (), ())
    both = edit(
        TEXT, Edit("add", "schedule", "also", {"from": "19:00", "to": "20:00", "do": "turn gallery to 10 %"})
    )
    found = preview("it", TEXT, both)
    assert found.words == ("schedule 'also' is new",)
    assert ["'also'" in each.what for each in found.new] == [True]
    assert len(found.old) == len(same.old)
    wrong = preview("it", TEXT, edit(TEXT, Edit("change", "output", "gallery", {"pin": "shelf:J2-9"})))
    assert "used twice" in wrong.errors[0].what
    assert not wrong.words


def test_only_what_is_possible_is_offered() -> None:
    site = read_text(TEXT, "it")
    offered = {each.key.name: each.choices for each in offers(site, "output", kind="lamp")}
    for pin in offered["pin"]:
        made = edit(TEXT, Edit("add", "output", "new", {"kind": "lamp", "pin": pin}))
        assert read_text(made, "it").outputs["new"].pin.name == pin, "each could be taken"
    assert set(free_pins(site)) >= set(free_pins(site, "fan"))
    assert all("pwm" in (site.boards[pin.split(":")[0]].can(read_text(edit(TEXT, Edit("add", "output", "new", {"kind": "relay", "pin": pin})), "it").outputs["new"].pin.line) or {"pwm"}) for pin in free_pins(site, "fan"))  # fmt: skip
    own = {each.key.name: each for each in offers(site, "output", name="gallery")}
    assert (own["pin"].value, own["pin"].choices[0], own["sense"].choices) == ("shelf:J2-14", "shelf:J2-14", ("active-high", "active-low"))  # fmt: skip
    with pytest.raises(CallerError):
        offers(site, "thing")
