"""Rows of alike outputs: read, checked, renamed, walked through."""

from __future__ import annotations

import itertools
import json
from datetime import UTC, datetime
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from cairnwind.client import CallerError
from cairnwind.core.values.settings import FULL
from cairnwind.site import read_text, rows
from cairnwind.site.editing import edit
from cairnwind.site.edits import Edit
from cairnwind.site.trouble import SiteFileError
from tests.conftest import Running, eventually, half_a_day_away

ROW = """
[outputs.bay]
kind = "relay"
label = "Bay"
pins = "racks:line-0 to racks:line-63"
sense = "active-low"
draws = { supply = "coils", current = "72 mA" }
"""
SITE = (
    """
site = "Racks"
timezone = "UTC"

[supply.coils]
volts = 5
limit = "100 mA"

[board.racks]
link = "simulated"
lines = 70
answers_after = "5 ms"

[output.lamp]
kind = "lamp"
pin = "racks:line-69"
"""
    + ROW
    + """
[[interlock]]
name = "pair"
excludes = ["bay-1", "bay-10"]

[[schedule]]
name = "evening"
from = "19:00"
to = "20:00"
do = "turn bay-1 and lamp on"

[scene.night]
do = ["turn bay off", "turn bay-10 off"]

[guard.bay-2]
opens = "5 s"
"""
)


@given(st.integers(0, 300), st.integers(0, 300))
def test_a_run_of_pins_goes_up_or_down_and_has_both_its_ends(begin: int, end: int) -> None:
    text = f"b0:line-{begin} to b0:line-{end}"
    if abs(begin - end) >= rows.MOST:
        with pytest.raises(CallerError, match="is no run of pins"):
            rows.pins(text)
        return
    found = [int(pin.removeprefix("b0:line-")) for pin in rows.pins(text)]
    assert (found[0], found[-1], len(found)) == (begin, end, abs(begin - end) + 1)
    assert {abs(one - other) for one, other in itertools.pairwise(found)} <= {1}
    if len(found) < rows.MOST:
        assert rows.pins([text, "b1:J2-7"])[-1] == "b1:J2-7"


def test_a_row_is_outputs_and_a_group_of_them() -> None:
    site = read_text(SITE, "racks.toml")
    last = site.outputs["bay-64"]
    assert (last.label, last.pin.line, last.active_low, last.supply) == ("Bay 64", 63, True, "coils")
    assert site.groups["bay"] == tuple(f"bay-{number}" for number in range(1, 65))


WRONG = {
    "no pins": ('kind = "relay"\n', 7, "outputs bay has no 'pins'"),
    "no kind": ('pins = "racks:line-0 to racks:line-7"\n', 7, "outputs bay has no 'kind'"),
    "a key of nothing": ('kind = "relay"\npins = "racks:line-0 to racks:line-7"\nsens = "x"\n', 10, "'sens' is not known for outputs bay"),
    "a wrong value": ('kind = "relay"\npins = "racks:line-0 to racks:line-7"\nsense = "low"\n', 10, "'low' is not one of"),
    "two boards in a run": ('kind = "relay"\npins = "racks:line-0 to other:line-7"\n', 9, "is no run of pins"),
    "past the end": ('kind = "relay"\npins = "racks:line-0 to racks:line-70"\n', 9, "no line 70"),
    "a number": ('kind = "relay"\npins = 7\n', 9, "7 is no pin"),
    "a table": ('kind = "relay"\npins = [{}]\n', 9, "is no pin"),
    "none": ('kind = "relay"\npins = []\n', 9, "1 to 256 outputs"),
    "a pin twice": ('kind = "relay"\npins = ["racks:line-1", "racks:line-1"]\n', 9, "racks:line-1"),
    "a name twice": ('kind = "relay"\npins = "racks:line-0 to racks:line-7"\n[output.bay-3]\nkind = "lamp"\npin = "racks:line-9"\n', 7, "'bay-3' is an output or a group already"),
    "two rows that meet": ('kind = "relay"\npins = "racks:line-0 to racks:line-7"\n[outputs.bay-3]\nkind = "lamp"\npins = "racks:line-9"\n', 10, "'bay-3' is an output or a group already"),
    "two labels": ('kind = "relay"\npins = "racks:line-0 to racks:line-7"\nlabel = 7\n', 10, "7"),
}  # fmt: skip


@pytest.mark.parametrize("case", WRONG)
def test_what_is_wrong_with_a_row_is_said_once_and_where_it_stands(case: str) -> None:
    row, line, says = WRONG[case]
    head = 'site = "x"\n[board.racks]\nlink = "simulated"\nlines = 70\n\n\n'
    with pytest.raises(SiteFileError) as caught:
        read_text(f"{head}[outputs.bay]\n{row}", "racks.toml")
    (found,) = caught.value.findings
    assert found.line == line, found
    assert says in found.what


def test_a_row_is_renamed_wherever_it_and_its_outputs_are_spoken_of_and_back() -> None:
    there = edit(SITE, Edit("rename", "outputs", "bay", {}, "stall"))
    for line in ('[outputs.stall]', 'excludes = ["stall-1", "stall-10"]', 'do = "turn stall-1 and lamp on"',
                 'do = ["turn stall off", "turn stall-10 off"]', "[guard.stall-2]"):  # fmt: skip
        assert line in there
    assert edit(there, Edit("rename", "outputs", "stall", {}, "bay")) == SITE
    moved = edit(SITE, Edit("rename", "board", "racks", {}, "frame"))
    assert 'pins = "frame:line-0 to frame:line-63"' in moved
    for do, more in (("rename", {"to": "one"}), ("remove", {}), ("change", {"keys": {"label": "One"}})):
        with pytest.raises(CallerError, match=r"bay-1 is one of the row bay"):
            edit(SITE, Edit(do, "output", "bay-1", **more))  # type: ignore[arg-type]
    with pytest.raises(CallerError, match="'lamp' is the name of another output"):
        edit(SITE, Edit("rename", "outputs", "bay", {}, "lamp"))


def test_a_row_comes_is_walked_through_is_renamed_and_goes(tmp_path: Path) -> None:
    """64 relays on a supply that bears one at a time."""
    running = Running(tmp_path, SITE.replace(ROW, "").partition("\n[[interlock]]")[0])
    site = running.site
    told = running.cli("add", "outputs", "bay", "kind=relay", "pins=racks:line-0 to racks:line-63", "label=Bay", "sense=active-low",
                       "draws={ supply = \"coils\", current = \"72 mA\" }")  # fmt: skip
    assert told.returncode == 0, told.stderr
    assert len(site.outputs()) == 65
    link = running.link("racks")
    link.seen.clear()
    walked = running.cli("walk", "racks", "--by", "Anna", "--json", input="yes\n" * 65)
    assert json.loads(walked.stdout) == {"right": 65}, walked.stderr
    eventually(lambda: not any(each["confirmed"]["on"] for each in site.outputs()))
    most, on = 0, set()
    for _, line, level in link.seen:
        on = on | {line} if level == 0 and line < 64 else on - {line}
        most = max(most, len(on))
    assert most == 1
    site.turn("bay-7", "on", lasting="until released", wait="5 s")
    site.add_schedule(name="late", do="turn bay-3 on for 1 h", from_=half_a_day_away())
    then = datetime.now(UTC).isoformat()
    site.rename("outputs", "bay", "stall")
    eventually(lambda: link.level("stall-7") == 0)
    assert {each["name"]: each["do"] for each in site.plan()["schedules"]} == {
        "late": "turn stall-3 on for 1 h"
    }
    assert site.why("bay-7", at=then) == site.why("stall-7", at=then)
    assert site.do("turn stall off")["outcome"] in ("driving", "waiting")
    eventually(lambda: link.level("stall-7") == FULL)
    assert site.output("stall-7")["label"] == "Bay 7"
    assert [row["value"] for row in site.written("stall-7")["keys"] if row["name"] == "pins"] == [
        '"racks:line-0 to racks:line-63"'
    ]
    site.change("outputs", "stall", pins="racks:line-0 to racks:line-7")
    assert len(site.outputs()) == 9
    site.drop_schedule("late")
    site.edit({"do": "remove", "what": "outputs", "name": "stall"})
    assert [each["name"] for each in site.outputs()] == ["lamp"]
    running.end()
