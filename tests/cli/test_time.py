"""Phrases, plan, timers, rehearsals, calendars and records at the command line, on the demo site."""

from __future__ import annotations

import csv
import io
import json
import shlex
from datetime import UTC, datetime, timedelta
from pathlib import Path

from tests.conftest import Demo, cairnwind, eventually

SITE_FILE = Path(__file__).parents[2] / "src/cairnwind/demo/saltmarsh.toml"


def test_a_phrase_is_done_shown_dry_and_pointed_at(demo: Demo) -> None:
    dry = demo.cli("do", "--dry", "turn all lamps in the gallery to half over 3 s for 10 min")
    assert dry.stdout.startswith("understood as  turn all lamps in gallery to 50 % over 3 s for 10 min\n")
    assert [line.split()[0] for line in dry.stdout.splitlines()[2:5]] == ["Gallery", "Shop", "Shelf"]
    assert "Nothing was done." in dry.stdout
    done = demo.cli("do", "turn", "yard", "on", "for", "1", "h")
    assert done.stdout == "turn yard on for 1 h (confirmed: on, read back by board yard-side)\n"
    asked = demo.cli("do", "turn hoist on")
    assert (asked.returncode, asked.stdout) == (2, "")
    assert asked.stderr.splitlines()[:3] == [
        "  turn hoist on",
        "       ^^^^^",
        "error: 'hoist' may be hoist-down or hoist-up.",
    ]
    told = json.loads(demo.cli("do", "--json", "after 1 h turn yard off").stdout)
    assert (told["phrase"], told["outcome"]) == ("after 1 h turn yard off", "waiting")
    timers = demo.cli("timers").stdout
    assert "turn yard off" in timers
    assert "yard on" in timers
    assert (
        "lasts 10 min longer"
        in demo.cli(
            "timers",
            "extend",
            str(next(each["id"] for each in demo.site.timers() if each["output"] == "yard")),
            "10",
            "min",
        ).stdout
    )
    assert "is cancelled" in demo.cli("timers", "cancel", str(told["sequence"])).stdout
    demo.cli("release", "yard")
    assert demo.cli("timers").stdout.startswith("No timers.")


def test_the_plan_is_listed_added_to_and_taken_back(demo: Demo, tmp_path: Path) -> None:
    listed = demo.cli("plan").stdout
    assert "gallery evenings" in listed
    assert "sunset - 20 min to 22:30, Thu, Fri, Sat" in listed
    added = demo.cli(
        "plan",
        "add",
        "early",
        "--from",
        "06:00",
        "--for",
        "1 h",
        "--repeat",
        "FREQ=WEEKLY;BYDAY=SA",
        "--without",
        "2026-12-26",
        "--without",
        "2027-01-02 06:00",
        "turn bench-lamp on",
    )
    assert added.stdout == "'early' is on the plan: turn bench-lamp on.\n"
    assert "leaves out its next time" in demo.cli("plan", "skip", "early").stdout
    assert "is run now, for 1 h" in demo.cli("plan", "now", "early").stdout
    eventually(lambda: demo.now("bench-lamp")["on"])
    assert "green" not in demo.cli("plan").stdout
    file = tmp_path / "plan.ics"
    assert demo.cli("plan", "calendar", str(file)).stdout.startswith(f"{file}: ")
    dropped = demo.cli("plan", "drop", "early").stdout
    again = shlex.split(dropped.partition("Again: cairnwind ")[2])
    assert again[-1] == "turn bench-lamp on"
    assert demo.cli(*again).returncode == 0
    assert demo.cli("plan", "drop", "early").stdout == dropped, "what it says to type makes the same again"
    taken = demo.cli("plan", "take", str(file)).stdout
    assert "taken  turn bench-lamp on: as 'early'" in taken
    assert taken.endswith(" taken.\n")
    assert "ignored" in demo.cli("plan", "take", str(file), "--dry").stdout
    demo.cli("plan", "drop", "early")
    file.write_bytes(b" " * (3 << 20))
    assert demo.cli("plan", "take", str(file)).returncode != 0
    for words, match in ((("add", "x", "--from", "6:00", "turn yard on"), "has no end"), (("drop", "shop window"), "is in the site file"),
                         (("skip", "shop windo"), "Did you mean 'shop window'?")):  # fmt: skip
        assert match in demo.cli("plan", *words).stderr


def test_a_week_is_rehearsed_as_table_json_csv_and_picture(demo: Demo, tmp_path: Path) -> None:
    week = ("rehearse", str(SITE_FILE), "--from", "2026-11-23", "--for", "7 d")
    table = cairnwind(*week).stdout
    assert "Saltmarsh Kiln House, rehearsed from Mon 2026-11-23 00:00 to Mon 2026-11-30 00:00" in table
    assert "'gallery evenings' (plan) wants it fading to 60 % over 30 s" in table
    assert "Collisions" in table
    form = json.loads(cairnwind(*week, "--json").stdout)
    vent = next(row for row in form["totals"] if row["output"] == "kiln-vent")
    assert (vent["hours_on"], vent["switchings"], vent["kilowatt_hours"], vent["of_rated_switchings"]) == (
        6.0,
        1,
        0.51,
        1e-05,
    )
    rows = list(csv.DictReader(io.StringIO(cairnwind(*week, "--csv").stdout)))
    assert [row["output"] for row in rows] == [change["output"] for change in form["changes"]]
    for name, magic in (("week.png", b"\x89PNG"), ("week.svg", b"<?xml")):
        assert cairnwind(*week, "--picture", str(tmp_path / name)).returncode == 0
        content = (tmp_path / name).read_bytes()
        assert content.startswith(magic)
        assert len(content) > 10_000
    assert "neither FILE.png nor FILE.svg" in cairnwind(*week, "--picture", str(tmp_path / "week.gif")).stderr
    other = tmp_path / "other.toml"
    other.write_text(SITE_FILE.read_text("utf-8").replace('to = "22:30"', 'to = "23:00"'), "utf-8")
    differs = cairnwind(*week, "--against", str(other)).stdout.splitlines()
    assert len(differs) == 7, "a head, and three evenings that end later: gone and new"
    assert all("gallery" in line for line in differs[1:])
    assert cairnwind(*week, "--against", str(SITE_FILE)).stdout == "Nothing would differ.\n"
    inputs = tmp_path / "inputs.csv"
    inputs.write_text("time,input,state\n2026-11-23T08:00,kiln-door,ajar\n", "utf-8")
    assert "Line 2 of the table of inputs" in cairnwind(*week, "--inputs", str(inputs)).stderr
    for words in (("--to", "2026-11-22"), ("--for", "1 d", "--to", "2026-11-25"), ("--from", "soon")):
        assert cairnwind("rehearse", str(SITE_FILE), "--from", "2026-11-23", *words).returncode == 2
    demo.cli("plan", "add", "mine", "--from", "03:00", "--for", "1 h", "turn extractor on")
    live = json.loads(demo.cli("rehearse", "--for", "1 d", "--inputs", "journal", "--json").stdout)
    assert "extractor" in {bar["output"] for bar in live["bars"] if "mine" in bar["by"]}, (
        "with what was added to the site file's plan"
    )
    demo.cli("plan", "drop", "mine")


def test_the_journal_is_filtered_and_exported_and_days_are_told(demo: Demo) -> None:
    demo.cli("turn", "window", "40%")
    demo.cli("turn", "window", "off")
    commands = demo.cli("journal", "window", "--kind", "command", "--by", "command line", "-n", "2").stdout
    assert "window to off" in commands
    assert "--kind 'command' --by 'command line' --before" in commands
    assert demo.cli("journal", "--kind", "change", "--to", "2020-01-01").stdout == "Nothing like that yet.\n"
    rows = list(csv.DictReader(io.StringIO(demo.cli("journal", "window", "--csv").stdout)))
    lines = [json.loads(line) for line in demo.cli("journal", "window", "--lines").stdout.splitlines()]
    assert [int(row["sequence"]) for row in rows] == [line["sequence"] for line in lines]
    assert [row["text"] for row in rows][-1] == "window is off (read back)"
    lately = ("--from", (datetime.now(UTC) - timedelta(minutes=30)).isoformat())
    eventually(
        lambda: len(json.loads(demo.cli("records", "window", *lately, "--json").stdout)["rows"]) >= 2,
        within=10,
    )
    assert demo.cli("records", "window", *lately).stdout.startswith("window, single readings: ")
    assert demo.cli("records", "window", *lately, "--csv").stdout.startswith("at,least,mean,greatest\n")
    assert "no input or output called 'windo'" in demo.cli("records", "windo").stderr
    assert demo.cli("records", "--from", "2020-01-01", "--to", "2020-01-02").stdout.startswith(
        "Nothing was on in that time"
    )
