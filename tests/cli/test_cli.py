"""The command line, as a person or a script meets it."""

from __future__ import annotations

import json
import os
import pty
import re
import signal
import subprocess
from pathlib import Path

import pytest

from cairnwind.cli import exits
from cairnwind.core.values.settings import FULL
from cairnwind.demo import SITE_FILE
from tests.conftest import CAIRNWIND, SITE, Running, cairnwind, eventually, spawn


def test_a_session_at_the_terminal(running: Running) -> None:
    said = running.cli("turn", "vent", "on")
    assert (said.returncode, said.stdout) == (0, "vent: on (confirmed: on, read back by board near)\n")
    assert running.cli("turn", "gallery", "40%").stdout.startswith("gallery: 40 % (confirmed")
    assert running.cli("turn", "gallery", "40", "%", "--for", "10 min").returncode == 0
    look = running.cli("look").stdout
    assert "Test bench" in look
    assert re.search(
        r"kiln room *\n +vent +on +a person at the command line \(first key\) wants it on +\d\d:\d\d:\d\d +near:J2-9 \(line 41\)",
        look,
    )
    assert "\x1b" not in look, "plain when it is not a terminal"
    why = running.cli("why", "gallery").stdout
    assert why.startswith("gallery is 40 %: a person at the command line (first key) wants it 40 %")
    stop = running.cli("stop", "--reason", "smoke")
    assert stop.stdout.startswith("all-stop (confirmed: every output that answers is safe)\n")
    assert "After a kill, kiln and gallery are not held at safe." in stop.stdout
    assert "Fit 12 kohm from near:" in running.cli("wire", "held", "kiln").stdout
    assert running.link().level("vent") == FULL
    assert "ALL-STOP since" in running.cli("look").stdout
    refused = running.cli("turn", "vent", "on")
    assert refused.returncode == 5
    assert refused.stdout == ""
    assert (
        refused.stderr
        == "error: vent: all-stop by the command line (first key): smoke.\n       A keeper resets it: cairnwind stop --reset.\n"
    )
    assert "Claimed, and so on again: vent (on), gallery (40 %)." in running.cli("stop", "--reset").stdout
    assert running.cli("release", "gallery").returncode == 0
    assert running.cli("lockout", "kiln", "red", "--reason", "belt").returncode == 0
    assert "tag 'red': belt" in running.cli("turn", "kiln", "on").stderr
    assert running.cli("lockout", "kiln", "red", "--remove").returncode == 0
    rows = running.cli("journal", "-n", "5").stdout.splitlines()
    assert rows[-2].endswith("kiln: tag 'red' taken off  command line (first key)")
    assert rows[-1].startswith("Earlier: cairnwind journal --before ")
    assert running.cli("journal", "nobody").stdout == "Nothing yet about 'nobody'.\n"
    assert running.cli("key", "link").stdout.startswith(f"{running.url}/#sign-in=")


def test_json_for_scripts(running: Running) -> None:
    turned = json.loads(running.cli("turn", "gallery", "33 %", "--json").stdout)
    assert (turned["outcome"], turned["ending"]["ending"]) == ("driving", "confirmed")
    look = json.loads(running.cli("look", "--json").stdout)
    assert set(look) == {"site", "outputs", "inputs", "boards", "notes"}
    assert (
        json.loads(running.cli("look", "gallery", "--json").stdout)["outputs"][0]["confirmed"]["level"] == 33
    )
    assert json.loads(running.cli("why", "gallery", "--json").stdout)["steps"][0]["stage"] == "wanted"
    assert json.loads(running.cli("journal", "--json", "-n", "1").stdout)[0]["sequence"] > 1
    assert json.loads(running.cli("stop", "--json").stdout)["outcome"] == "driving"
    good = json.loads(cairnwind("check", str(SITE_FILE), "--json").stdout)
    overloaded, overlap = good.pop("warnings")
    assert {each["verdict"] for each in good.pop("answers")} == {"excluded"}
    assert {each["output"] for each in good.pop("held") if each["killed"]["safe"] is False} >= {"clay-store"}
    assert good == {"file": str(SITE_FILE), "good": True, "findings": []}
    assert overloaded["what"].startswith("supply coil-rail gives 250 mA")
    assert overlap["what"].startswith("'late window' and 'shop window' both want window, first from")


def test_each_kind_of_failure_has_its_exit_code(running: Running, tmp_path: Path) -> None:
    running.link("far").unplug()
    bad = tmp_path / "bad.toml"
    bad.write_text(
        'site = "x"\n[board.b]\nlink = "simulated"\nlines = 4\n[output.a]\nkind = "relay"\npin = 3\n'
    )
    empty = {"CAIRNWIND_STATE": str(tmp_path / "empty")}
    cases = [
        (cairnwind("look", env=empty), 3, "No service runs on the state folder"),
        (running.cli("turn", "galery", "on"), 4, "Did you mean 'gallery'?"),
        (running.cli("look", "galery"), 4, "Did you mean 'gallery'?"),
        (running.cli("turn", "gallery", "bright"), 2, "Write on, off or a level like 40 %."),
        (running.cli("turn", "gallery"), 2, "Missing argument"),
        (running.cli("turn", "gallery", "on", "--for", "1 s", "--until", "22:00"), 2, "Give one of"),
        (running.cli("turn", "yard", "on"), 6, "board far does not answer: unplugged"),
        (cairnwind("--address", running.url, "look", env={"CAIRNWIND_KEY": "guess"}), 7, "No valid key"),
        (cairnwind("check", str(bad)), 8, f"{bad}:7:7: 3 alone is not a pin"),
        (running.cli("journl"), 2, "No such command 'journl'"),
    ]
    for said, code, words in cases:
        assert said.returncode == code, said
        assert words in said.stderr
        assert said.stdout == ""
    assert json.loads(cairnwind("check", str(bad), "--json").stdout)["findings"][0]["line"] == 7
    table = (Path(__file__).parents[2] / "docs" / "command-line.md").read_text("utf-8")
    for number, meaning in set(exits.CODES.values()):
        assert f"| {number} | {meaning} |" in table


def test_watch_shows_changes_until_interrupted(running: Running) -> None:
    command = [CAIRNWIND, "--state", str(running.folder / "state"), "watch"]
    environment = {**os.environ, "PYTHONUNBUFFERED": "1"}
    watch = spawn(*command, "gallery", stdout=subprocess.PIPE, stderr=subprocess.PIPE, env=environment)
    as_json = spawn(*command, "--json", stdout=subprocess.PIPE, env=environment)
    stream = running.service.runtime.stream
    assert stream is not None
    eventually(lambda: stream.count == 2, within=10)
    running.site.turn("vent", "on")
    running.site.turn("gallery", "40 %")
    assert as_json.stdout is not None
    kinds = [json.loads(as_json.stdout.readline())["kind"] for _ in range(3)]
    assert kinds == ["afresh", "output", "command"]
    assert watch.stdout is not None
    line = watch.stdout.readline().rstrip()
    for process in (watch, as_json):
        process.send_signal(signal.SIGINT)
    out, err = watch.communicate(timeout=60)
    as_json.communicate(timeout=60)
    assert watch.returncode == 130
    assert "Traceback" not in err
    assert out == "", "nothing of the vent"
    assert re.fullmatch(r"\d\d:\d\d:\d\d\.\d\d\d  gallery  40 %  a person at the client \(first key\)", line)


@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGKILL])
def test_hold_ends_with_its_command_however_that_ends(how: int, running: Running) -> None:
    command = [CAIRNWIND, "--state", str(running.folder / "state"), "hold", "vent"]
    hold = spawn(*command, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    assert hold.stdout is not None
    assert hold.stdout.readline() == "Holding vent at on (confirmed); Ctrl-C lets go.\n"
    assert running.link().level("vent") == 0
    hold.send_signal(how)
    eventually(lambda: running.link().level("vent") == FULL, within=3)
    out, err = hold.communicate(timeout=60)
    assert err == ""
    if how == signal.SIGINT:
        assert (hold.returncode, out) == (0, "\nLet go of vent.\n")


def test_a_script_starts_holds_and_stops_a_service(tmp_path: Path) -> None:
    (tmp_path / "site.toml").write_text(SITE)
    state = str(tmp_path / "state")
    serve = spawn(
        CAIRNWIND,
        "serve",
        str(tmp_path / "site.toml"),
        "--state",
        state,
        "--port",
        "0",
        "--json",
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
    )
    assert serve.stdout is not None
    assert json.loads(serve.stdout.readline())["state"] == state
    hold = spawn(
        CAIRNWIND,
        "--state",
        state,
        "hold",
        "gallery",
        "25",
        "%",
        "--json",
        stdout=subprocess.PIPE,
    )
    assert hold.stdout is not None
    assert json.loads(hold.stdout.readline())["claim"]["setting"]["words"] == "25 %"
    hold.send_signal(signal.SIGINT)
    assert hold.communicate(timeout=60)[0] == ""
    serve.send_signal(signal.SIGTERM)
    out, err = serve.communicate(timeout=60)
    assert json.loads(out) == {"outputs": 4, "not_confirmed_safe": []}
    assert [json.loads(line)["level"] for line in err.splitlines()] == ["info", "info"], (
        "structured logs on stderr"
    )


def in_bash(running: Running, keys: str) -> str:
    """What a command line of bash comes to, typed key by key: the words, each between brackets."""
    mine, its = pty.openpty()
    env = {
        **os.environ,
        "PATH": f"{Path(CAIRNWIND).parent}:{os.environ['PATH']}",
        "PS1": "",
        "CAIRNWIND_STATE": str(running.folder / "state"),
    }
    bash = spawn("bash", "--norc", "-i", stdin=its, stdout=subprocess.PIPE, stderr=its, env=env)
    assert bash.stdout is not None
    said = """eval "$(cairnwind completion bash)"; cairnwind() { printf '<%s>' "$@"; echo; }; echo ready\n"""
    os.write(mine, said.encode())
    assert bash.stdout.readline() == "ready\n"
    os.write(mine, keys.encode() + b"\n")
    found = bash.stdout.readline().strip()
    os.write(mine, b"exit\n")
    bash.communicate(timeout=60)
    for each in (mine, its):
        os.close(each)
    return found


def test_names_complete_from_the_running_service(running: Running) -> None:
    def complete(words: str, number: int) -> list[str]:
        env = {
            "_CAIRNWIND_COMPLETE": "bash_complete",
            "COMP_WORDS": words,
            "COMP_CWORD": str(number),
            "CAIRNWIND_STATE": str(running.folder / "state"),
        }
        return [line.partition(",")[2] for line in cairnwind(env=env).stdout.splitlines() if line]

    assert complete("cairnwind turn ga", 2) == ["gallery"]
    assert complete("cairnwind look ", 2) == ["vent", "kiln", "gallery", "yard", "door", "near", "far"]
    assert "journal" in complete("cairnwind jo", 1)
    added = in_bash(running, "cairnwind add output porch kind=col\t pin=ne\t")
    assert added == "<add><output><porch><kind=colour-lamp><pin=near:J>", "as far as there is but one way on"
    assert in_bash(running, "cairnwind change output gallery sense=active-l\t").endswith("<sense=active-low>")
    assert in_bash(running, "cairnwind try near:J2-1\t") == "<try><near:J2-1>"
    assert in_bash(running, "cairnwind turn gal\t of\t").endswith("<turn><gallery><off>")
    running.end()
    assert complete("cairnwind turn ga", 2) == [], "and nothing, quietly, when there is none"
    assert "complete" in cairnwind("completion", "bash").stdout


def test_the_demo_prints_what_one_needs_and_its_world_moves(tmp_path: Path) -> None:
    command = [CAIRNWIND, "demo", "--state", str(tmp_path / "demo"), "--port", "0"]
    demo = spawn(*command, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    assert demo.stdout is not None
    printed = "".join(iter(demo.stdout.readline, "  stop      Ctrl-C: every output goes to safe first\n"))
    assert re.search(r"console   http://127\.0\.0\.1:\d+/#sign-in=[\w-]{43}\n", printed)
    assert f"state     {tmp_path / 'demo'}" in printed

    def cli(*args: str) -> subprocess.CompletedProcess[str]:
        return cairnwind("--state", str(tmp_path / "demo"), *args)

    assert cli("turn", "kiln-vent", "on").returncode == 0
    eventually(
        lambda: json.loads(cli("look", "vent-flow", "--json").stdout)["inputs"][0]["state"] == "flowing",
        within=8,
    )
    demo.send_signal(signal.SIGINT)
    out, err = demo.communicate(timeout=60)
    assert "Stopped: 24 of 24 outputs confirmed safe. A new start finds everything as it was left." in out
    assert err == ""
    log = (tmp_path / "demo" / "service.log").read_text()
    assert [json.loads(line)["level"] for line in log.splitlines()] == ["info", "info"]
    key = (tmp_path / "demo" / "key").read_text().strip()
    assert key not in log
    assert "sign-in" not in log
