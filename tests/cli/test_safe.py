"""What keeps the demo safe, from the command line: tried as somebody would who does not know it."""

from __future__ import annotations

import json
import re
import signal
import subprocess
from pathlib import Path

from cairnwind.demo import SITE_FILE
from tests.conftest import CAIRNWIND, Demo, Process, cairnwind, eventually, spawn


def ended(run: subprocess.CompletedProcess[str], code: int, text: str) -> str:
    both = run.stdout + run.stderr
    assert run.returncode == code, both
    assert text in both, both
    return both


def test_the_kiln_without_draught_with_an_open_door_and_by_the_emergency_button(demo: Demo) -> None:
    ended(demo.cli("turn", "kiln", "on"), 5, "kiln-vent is off and vent-flow is still")
    demo.site.turn("kiln-vent", "on")
    ended(demo.cli("ask", "kiln-vent is on for 30 s"), 1, "no: kiln-vent is on, but not yet for 30 s")
    eventually(lambda: demo.site.ask("vent-flow is flowing")["so"])
    ended(demo.cli("turn", "kiln", "on"), 5, "kiln: on (waiting: 'no fire without draught' needs")
    ended(demo.cli("why", "kiln"), 0, "expected at ")
    demo.cli("pretend", "kiln-door", "open")
    ended(demo.cli("ask", "kiln-door", "is", "closed"), 1, "kiln-door is open")
    demo.cli("pretend", "kiln-door", "closed")
    ended(demo.cli("do", "blink gallery"), 0, "blink gallery")
    demo.cli("pretend", "emergency-button", "pressed")
    eventually(lambda: not demo.now("gallery")["on"] and not demo.now("kiln-vent")["on"])
    ended(demo.cli("reset"), 0, "emergency button  since")
    ended(demo.cli("look"), 0, "has tripped since")
    ended(
        demo.cli("reset", "emergency button", "--by", "Anna"),
        5,
        "its cause is still there: emergency-button is pressed",
    )
    ended(demo.cli("reset", "emergency button"), 2, "Nobody is named")
    demo.cli("pretend", "emergency-button", "released")
    ended(demo.cli("reset", "emergency button", "--by", "Anna"), 0, "is reset by Anna (driving)")
    demo.site.release("gallery")


def test_both_ways_of_the_hoist_and_too_much_on_one_supply(demo: Demo) -> None:
    demo.site.turn("hoist-up", "on")
    ended(demo.cli("turn", "hoist-down", "on"), 5, "hoist-up has it, for a person at the client")
    demo.site.turn("hoist-up", "off")
    eventually(lambda: demo.cli("turn", "hoist-down", "on").returncode == 0)
    demo.site.turn("hoist-down", "off")
    both = ended(demo.cli("do", "run scene busy"), 5, "'supply coil-rail' allows 250 mA")
    assert "would need 72 mA more" in both
    for name in ("kiln-vent", "extractor", "clay-store", "wedging-room", "compressor", "cupboard-heater"):
        demo.site.release(name)


def test_ten_wrong_codes_and_a_right_one(demo: Demo) -> None:
    ended(demo.cli("turn", "glaze-store", "open"), 5, "guarded by a passcode")
    ended(demo.cli("code", "glaze-store"), 0, "Nobody has a code for glaze-store yet")
    ended(
        demo.cli("code", "glaze-store", "anna", "--give", "--days", "mo,tu,we,th,fr,sa,su", input="4711x\n"),
        0,
        "anna has a code",
    )
    said = [demo.cli("open", "glaze-store", input=f"{number}000\n") for number in range(10)]
    assert {run.returncode for run in said} == {5, 10}
    assert any("Wait" in run.stderr for run in said)
    eventually(lambda: demo.site.alarms())
    ended(demo.cli("alarms"), 0, "somebody tries codes  urgent since")
    ended(
        demo.cli("alarms", "somebody tries codes", "--acknowledge", "--by", "Ben"),
        0,
        "is acknowledged by Ben",
    )
    eventually(lambda: demo.cli("open", "glaze-store", input="4711x\n").returncode == 0, within=30)
    eventually(lambda: demo.now("clay-store")["on"])
    eventually(lambda: not demo.now("glaze-store")["on"] and not demo.now("clay-store")["on"], within=10)
    assert "4711x" not in demo.cli("journal", "--lines").stdout
    ended(demo.cli("code", "glaze-store", "anna", "--drop"), 0, "no code for glaze-store any more")


def test_rules_as_people_and_programs_read_them(demo: Demo) -> None:
    listed = ended(demo.cli("rules", "kiln"), 0, "no fire without draught")
    assert "the hoist goes one way" not in listed
    kinds = {rule["kind"] for rule in json.loads(demo.cli("rules", "--json").stdout)["rules"]}
    assert kinds == {
        "needs",
        "proof",
        "excludes",
        "limit",
        "trip",
        "budget",
        "pace",
        "reflex",
        "regulator",
        "alarm",
        "guard",
    }
    ended(demo.cli("reset", "no such trip", "--by", "Anna"), 4, "There is no trip called")
    ended(demo.cli("ask", "kiln-dor is open"), 2, "Did you mean 'kiln-door'?")
    ended(demo.cli("attest", "kiln", "--by", "Anna"), 5, "Nothing has to be attested")
    ended(demo.cli("resume", "bench switch"), 0, "works again")
    ended(demo.cli("reload", "--dry"), 0, "Nothing would change.")
    ended(demo.cli("reload"), 0, "the site file is read anew")


def test_a_site_that_is_muted_decides_and_drives_nothing(tmp_path: Path) -> None:
    good = cairnwind("check", str(SITE_FILE))
    assert re.search(r"(\d+) questions asked; 0 faults found, \1 excluded, 0 not decided", good.stdout)
    running = Process(SITE_FILE, tmp_path / "state", "--muted")
    try:
        here = ("--state", str(tmp_path / "state"))
        ended(cairnwind(*here, "turn", "hoist-up", "on"), 0, "confirmed")
        boards = json.loads(cairnwind(*here, "look", "--json").stdout)["boards"]
        assert {board["link"] for board in boards} == {"muted"}
    finally:
        running.stop()


def test_what_is_left_of_a_budget_is_said_everywhere(demo: Demo) -> None:
    listed = {rule["name"]: rule for rule in json.loads(demo.cli("rules", "--json").stdout)["rules"]}
    left = listed["firing"]["left"]
    assert (listed["firing"]["kind"], listed["firing"]["state"]) == ("budget", "in force")
    assert (left["of"], left["share"]) == ("16 h in any 24 h", 1.0)
    assert left["text"] == "16 h left of 16 h in any 24 h"
    assert left["text"] in ended(demo.cli("rules", "kiln"), 0, "kiln: on for at most 16 h in any 24 h")
    ended(demo.cli("why", "kiln"), 0, "'firing': 16 h left of 16 h in any 24 h")


def test_how_it_is_decided_can_be_looked_at_live(demo: Demo) -> None:
    now = ended(demo.cli("trace", "kiln", "--last"), 0, "a look at it")
    assert "nobody claims it: it rests at off" in now
    looking = spawn(CAIRNWIND, "--state", demo.state, "trace", "kiln", "--json", stdout=subprocess.PIPE)
    assert looking.stdout is not None
    assert json.loads(looking.stdout.readline())["event"]
    refused = demo.cli("turn", "kiln", "on")
    assert refused.returncode == 5
    trace = json.loads(looking.stdout.readline())
    while not trace["event"].startswith("wish kiln on"):
        trace = json.loads(looking.stdout.readline())
    gates = [step["what"] for step in trace["steps"] if step["phase"] == "own gates"]
    assert gates[:4] == ["starting", "closing", "rewiring", "all-stop"]
    assert (gates[-1], trace["steps"][-1]["phase"]) == ("needs", "answer")
    said = (refused.stderr or refused.stdout).replace(
        "\n       ", " "
    )  # it waits, if its vent has just come on
    assert trace["steps"][-1]["text"].partition(": ")[2] in said
    looking.send_signal(signal.SIGINT)
    looking.communicate(timeout=60)
    assert looking.returncode == 0
    ended(demo.cli("trace", "kilm", "--last"), 4, "Did you mean 'kiln'?")
