"""A newcomer's evening: from an empty folder to a site of three boards, without an editor and without a restart."""

from __future__ import annotations

import json
import os
import re
import subprocess
import tomllib
from pathlib import Path
from typing import Any

from cairnwind.site.checked import check_site
from tests.cli.test_safe import ended
from tests.conftest import CAIRNWIND, Process, Running, cairnwind, eventually

OUTPUTS = {
    "kiln-vent": "kind=relay pin=header:J2-9 sense=active-low label='Kiln vent'", "kiln": "kind=relay pin=header:J2-11 load='2 kW'",
    "gallery": "kind=lamp pin=header:J2-14 frequency='1 kHz'", "window": "kind=lamp pin=header:J2-15 frequency='1 kHz'",
    "bell": "kind=sounder pin=header:J2-8", "fan": "kind=fan pin=header:J2-6 frequency='25 kHz'",
    "yard": "kind=lamp pin=chain:line-0", "extractor": "kind=relay pin=chain:line-1", "compressor": "kind=relay pin=chain:line-2",
    "hoist-up": "kind=relay pin=hoist-box:line-4", "hoist-down": "kind=relay pin=hoist-box:line-5", "lock": "kind=lock pin=chain:line-3",
}  # fmt: skip
INPUTS = {
    "kiln-door": "kind=contact pin=header:J3-4 pull=up words='[\"closed\", \"open\"]'", "bench": "kind=contact pin=header:J3-6 pull=up",
    "gate": "kind=contact pin=chain:line-8", "light": "kind=analogue pin=header:J3-10", "warmth": "kind=analogue pin=header:J3-11",
    "top": "kind=contact pin=hoist-box:line-9 pull=up", "flow": "kind=contact pin=header:J3-8 pull=up", "stop": "kind=contact pin=header:J3-9 pull=up",
}  # fmt: skip


def test_from_an_empty_folder_to_a_site_that_works(tmp_path: Path) -> None:
    import shlex

    here = ("--state", str(tmp_path / "state"))

    def say(*args: str, code: int = 0, says: str = "", **more: Any) -> str:
        return ended(cairnwind(*here, *args, **more), code, says)

    made = json.loads(
        ended(
            cairnwind("new", "--json", "--name", "Shed", "--timezone", "Europe/London", cwd=tmp_path), 0, ""
        )
    )
    assert made["next"][0] == "cairnwind serve site.toml"
    ended(cairnwind("new", cwd=tmp_path), 5, "There is a file site.toml already.")
    file = tmp_path / "site.toml"
    running = Process(file, tmp_path / "state")
    try:
        header = made["boards"][0]
        if header != "header":  # a machine with chips of its own: they are left alone
            for name in made["boards"]:
                say("remove", "board", name)
            say("add", "board", "header", "link=simulated", "map=header-34")
        say("look", says="no outputs")
        assert "J2-9" in say("pins", "header")
        say(
            "try",
            "header:J2-9",
            "output",
            "low",
            "--for",
            "200 ms",
            "--keep",
            "vent",
            says="output vent is new",
        )
        say("rename", "output", "vent", "kiln-vent", says="output vent is called kiln-vent from now on")
        say("remove", "output", "kiln-vent", says="output kiln-vent goes")
        say(
            "add",
            "board",
            "chain",
            "link=expander",
            "chip=ports-16",
            "bus=simulated",
            says="board chain is taken",
        )
        say("add", "board", "hoist-box", "link=modbus", "port=simulated", says="board hoist-box is taken")
        for what, things in (("output", OUTPUTS), ("input", INPUTS)):
            for name, keys in things.items():
                assert f"{what} {name} is new" in say("add", what, name, *shlex.split(keys))
        say(
            "add",
            "interlock",
            "no fire without draught",
            "needs=kiln-vent is on and kiln-door is closed",
            'outputs=["kiln"]',
        )
        say("add", "interlock", "the hoist goes one way", 'excludes=["hoist-up", "hoist-down"]', "gap=400 ms")
        say("add", "reflex", "bench switch", "when=bench becomes closed", "do=toggle gallery", "as=person")
        say("add", "schedule", "evenings", "from=19:00", "to=22:30", "do=turn window to 60 %")
        say("turn", "kiln", "on", code=5, says="kiln-vent")
        say("turn", "kiln-vent", "on", says="confirmed")
        say("pretend", "kiln-door", "closed")
        say("turn", "kiln", "on", says="confirmed")
        say("turn", "hoist-up", "on", says="read back by board hoist-box")

        # what is wrong is said before anything changes, by the names that people use
        say(
            "add",
            "output",
            "porch",
            "kind=lamp",
            "pin=header:J2-14",
            code=8,
            says="used twice: by output gallery and by output porch",
        )
        say("change", "output", "galery", "label=x", code=4, says="Did you mean 'gallery'?")
        say("change", "output", "gallery", code=2, says="What is to be otherwise of gallery?")
        say("change", "output", "gallery", "label", code=2, says="is no KEY=VALUE")

        # pins are moved, in a draft, looked at, applied; a mistake is undone
        say("change", "output", "gallery", "pin=header:J2-17", "--draft", says="In the draft")
        say("rename", "input", "flow", "vent-flow", "--draft")
        shown = say("draft", "show")
        assert '-pin = "header:J2-14"\n+pin = "header:J2-17"' in shown
        assert "output gallery moves from header:J2-14" in shown
        say("draft", "check", says="new warning: line 35: header:J2-17 (line 4) floats before software runs")
        say("draft", "rehearse", says="Nothing would be different in that time.")
        say("draft", "apply", "--reason", "the lamp is on the other side", says="output gallery moves")
        assert json.loads(say("look", "--json"))["outputs"][1]["confirmed"]["on"], "the kiln burns on"
        before = file.read_text("utf-8")
        say("remove", "output", "kiln", code=8, says="kiln")
        say("remove", "schedule", "evenings", says="applied")
        number = next(
            each["number"] for each in json.loads(say("editions", "--json")) if "other side" in each["reason"]
        )
        say("back", str(number), "--dry", says='+name = "evenings"')
        say("back", str(number), says="applied")
        assert file.read_text("utf-8") == before

        # a walk along one board, with somebody who looks
        answers = "yes\nswap\nother lock\nother outlet\n\nskip\nquit\n"
        walked = say("walk", "chain", "--by", "Anna", "--yes", input=answers, says="The walk is over")
        assert "1 right, 1 swapped, 2 other, 1 skipped" in walked
        said = say("draft", says="rename output lock to outlet")
        assert 'change output extractor: sense = "active-low"' in said
        page = say("records", "walk", says="<td>Anna</td>")
        assert re.search(r"yard.*right.*extractor.*the other way round", page, re.S)
        say("draft", "drop", says="4 changes")

        running.kill()
        running = Process(file, tmp_path / "state")
        assert json.loads(say("look", "--json"))["outputs"][0]["confirmed"]["on"]
        site, _, answers = check_site(file)
        assert (len(site.boards), len(site.outputs), len(site.inputs)) == (3, 12, 8)
        assert all(each.verdict == "excluded" for each in answers)
        assert "# Or leave the file alone" in file.read_text("utf-8"), "what teaches stays"
        assert len(tomllib.loads(file.read_text("utf-8"))["interlock"]) == 2
        assert eventually(lambda: "evenings" in say("plan"))
    finally:
        running.stop()


def typed(answers: str, *args: str, **more: Any) -> tuple[int, str]:
    """A command on a terminal, with what somebody types; its exit code and all that it showed."""
    master, slave = os.openpty()
    running = subprocess.Popen([CAIRNWIND, *args], stdin=slave, stdout=slave, stderr=slave, **more)
    os.close(slave)
    os.write(master, answers.encode())
    shown = b""
    while True:
        try:
            part = os.read(master, 4096)
        except OSError:
            break
        if not part:
            break
        shown += part
    os.close(master)
    return running.wait(30), shown.decode(errors="replace").replace("\r\n", "\n")


def test_what_is_missing_is_asked_for_with_only_what_is_possible(running: Running, tmp_path: Path) -> None:
    state = str(running.folder / "state")
    code, shown = typed("porch\nlamb\nlamp\nnear:J2-9\nnear:J2-16\n", "--state", state, "add", "output")
    assert code == 0, shown
    assert "'lamb' is not one of" in shown
    assert "near:J2-9' is none of these" in shown or "'near:J2-9' is not one of" in shown
    assert "output porch is new, on near:J2-16 (line 5)" in shown
    assert running.site.output("porch")["kind"] == "lamp"
    code, shown = typed(
        "Shed\nEurope/Londn\nEurope/London\nsomewhere\n52.95 0.85\n", "new", "shed.toml", cwd=tmp_path
    )
    assert code == 0, shown
    made = tomllib.loads((tmp_path / "shed.toml").read_text("utf-8"))
    assert (made["site"], made["timezone"], made["latitude"], made["longitude"]) == (
        "Shed",
        "Europe/London",
        52.95,
        0.85,
    )
