"""The command line's keys, remotes and maps on the demo; and the demo's voice assistant, typed to."""

from __future__ import annotations

import json
import signal
import subprocess
from datetime import datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

from tests.conftest import CAIRNWIND, Demo, Running, cairnwind, eventually, spawn


def test_keys_from_the_command_line(demo: Demo) -> None:
    now = datetime.now(ZoneInfo("Europe/London"))
    begin, end = (
        f"{now + timedelta(hours=hours):%H:%M}" for hours in (-2, 2)
    )  # whatever the hour: it is within them
    made = demo.cli(
        "key",
        "new",
        "--for",
        "hall panel",
        "--only",
        "showroom",
        "--from",
        begin,
        "--to",
        end,
        "--until",
        "2030-01-01",
    )
    key = made.stdout.strip()
    assert ("\n" in key, "shown this once" in made.stderr) == (False, True), (
        "stdout has the key and nothing else"
    )
    listed = demo.cli("key", "list").stdout
    assert "hall panel" in listed
    assert f"{begin} to {end} until 2030-01-02 00:00" in listed
    assert key not in listed
    url = demo.site.address
    refused = cairnwind("--address", url, "turn", "kiln-vent", "on", env={"CAIRNWIND_KEY": key})
    assert (refused.returncode, "The key 'hall panel' may not command kiln-vent." in refused.stderr) == (
        7,
        True,
    )
    assert cairnwind("--address", url, "turn", "gallery", "on", env={"CAIRNWIND_KEY": key}).returncode == 0
    paired = demo.cli("key", "pair", "--for", "Ben", "--role", "watch")
    assert paired.stdout.count("█") > 200
    assert "listens on this host only" in paired.stdout
    assert json.loads(demo.cli("key", "sessions", "--json").stdout) == []
    assert "No browser is signed in" in demo.cli("key", "sessions").stdout
    assert (
        demo.cli("key", "revoke", "hall panel").stdout
        == "The key of 'hall panel' has ended, with its sessions and streams.\n"
    )
    assert demo.cli("key", "revoke", "hall panl").returncode == 4
    assert cairnwind("--address", url, "look", env={"CAIRNWIND_KEY": key}).returncode == 7
    for wrong, code in (
        (("--for", "x", "--only", "galery"), 4),
        (("--for", "x", "--role", "god"), 2),
        (("--for", "x", "--days", "someday"), 2),
        (("--role", "watch"), 2),
    ):
        assert demo.cli("key", "new", *wrong).returncode == code, wrong


def test_whoever_has_lost_the_last_key_gets_back_in_on_the_host(running: Running) -> None:
    old = running.key
    process = spawn(
        CAIRNWIND,
        "serve",
        str(running.site_file),
        "--state",
        str(running.folder / "other"),
        "--port",
        "0",
        stdout=subprocess.DEVNULL,
    )
    state = running.folder / "other"
    eventually(lambda: (state / "address").exists(), within=15)
    old = (state / "key").read_text()
    (state / "key").write_text("lost\n")
    assert cairnwind("--state", str(state), "look").returncode == 7
    assert "has a new text" in cairnwind("--state", str(state), "key", "recover").stdout
    assert cairnwind("--state", str(state), "look").returncode == 0
    assert (state / "key").read_text() != old
    process.send_signal(signal.SIGTERM)
    assert process.wait(10) == 0


def test_remotes_maps_and_wires(demo: Demo) -> None:
    assert "crane controller" in demo.cli("remotes").stdout
    rows = json.loads(demo.cli("look", "--modbus", "--json", "gallery").stdout)
    assert {row["name"] for row in rows} == {"gallery"}
    assert demo.cli("look", "--surface", "--csv").stdout.startswith(
        "address,name,what\n/out/kiln-vent,kiln-vent,0 or 1\n"
    )
    none = demo.cli("look", "--broker")
    assert (none.returncode, "no [remote.broker]" in none.stderr) == (4, True), (
        "the demo has none unless it is given one"
    )
    listen = next(each for each in demo.site.remotes() if each["name"] == "modbus")["facts"]["listen"]
    from pymodbus.client import ModbusTcpClient

    plc = ModbusTcpClient("127.0.0.1", port=int(listen.rpartition(":")[2]))
    plc.connect()
    plc.write_coil(int(rows[0]["address"].split()[1]), True)
    plc.close()
    watching = spawn(CAIRNWIND, "--state", demo.state, "watch", "--link", "modbus", stdout=subprocess.PIPE)
    assert watching.stdout is not None
    assert "write coil" in watching.stdout.readline()
    watching.send_signal(signal.SIGINT)
    watching.wait(5)


def test_the_demo_is_talked_to(tmp_path: Path) -> None:
    process = spawn(
        CAIRNWIND,
        "demo",
        "--voice",
        "--state",
        str(tmp_path / "demo"),
        "--port",
        "0",
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
    )
    assert process.stdout is not None
    assert process.stdin is not None
    said: list[str] = []
    while "things to ask for" not in (line := process.stdout.readline()):
        said.append(line)
        assert process.poll() is None, said
    assert "Saltmarsh Kiln House" in line
    for sentence, answer in (
        ("is the kiln door closed?", "Yes."),
        ("Could you dim the gallery to a third", "gallery"),
        ("turn hoist on", "Which do you mean: "),
        ("hoist down", "hoist-down on"),
    ):
        process.stdin.write(sentence + "\n")
        process.stdin.flush()
        while not (line := process.stdout.readline()).strip().startswith("voice: "):
            assert process.poll() is None
        assert answer in line, (sentence, line)
    process.send_signal(signal.SIGINT)
    assert process.wait(15) == 0
