"""A site served for good: what the machine is told, held against systemd's own judgement, and what the service tells the machine."""

from __future__ import annotations

import json
import os
import re
import socket
import subprocess
import sys
from pathlib import Path

import pytest

from cairnwind.boards import kinds
from cairnwind.service.unit import unit
from cairnwind.site import read_text
from tests.conftest import CAIRNWIND, ROOT, cairnwind, spawn

WIRED = {
    "expander": ('chip = "ports-8"\nbus = "/dev/i2c-1"', {"i2c"}, {"i2c"}),
    "kernel": ('chip = "/dev/gpiochip0"\nlines = 8', {"gpiochip"}, {"gpio"}),
    "keys": ('device = "Pad"\nkeys = ["enter"]', {"input"}, {"input"}),
    "leds": ('leds = ["green"]', set(), {"gpio"}),
    "modbus": ('port = "/dev/ttyUSB3"', {"ttyUSB"}, {"dialout"}),
    "sensors": ('channels = ["onewire:28-0000075b6c2f"]', set(), set()),
    "simulated": ("lines = 2", set(), set()),
    "strip": ('device = "/dev/spidev0.0"\nlamps = 4', {"spi"}, {"spi"}),
}
"""A board by each kind of link that is on this machine: classes of devices, groups."""


def install(root: Path, *words: object) -> subprocess.CompletedProcess[str]:
    return cairnwind("service", "install", *map(str, words), "--root", str(root), "--yes")


def test_systemd_finds_the_unit_whole_and_narrow_whatever_is_wired(tmp_path: Path) -> None:
    file = tmp_path / "site.toml"
    for number in range(2):
        text = "".join(
            f'[board.{link}]\nlink = "{link}"\n{said}\n'
            for link, (said, *_) in WIRED.items()
            if number or link == "simulated"
        )
        away = '[remote.hook.far]\naddress = "https://x.lan/"\n[service]\nlisten = "0.0.0.0:80"\ntls = "self-made"\n'
        file.write_text(f'site = "50 % of a \\"shed\\""\n{text}{away if number else ""}')
        root = tmp_path / f"root-{number}"
        done = install(root, file)
        assert done.returncode == 0, done.stderr
        its = root / "etc/systemd/system/cairnwind.service"
        assert (root / "etc/systemd/system/multi-user.target.wants/cairnwind.service").is_symlink()
        assert "cairnwind:" in (root / "etc/passwd").read_text()
        subprocess.run(["systemd-analyze", "verify", its], check=True)
        judged = subprocess.run(
            ["systemd-analyze", "security", "--no-pager", "--offline=true", "--threshold=20", its],
            capture_output=True,
            text=True,
        )
        assert judged.returncode == 0, judged.stdout
        assert ("IPAddressDeny=any" in its.read_text()) == (not number)
        assert ("CAP_NET_BIND_SERVICE" in its.read_text()) == bool(number)
        rules = root / "etc/udev/rules.d/60-cairnwind.rules"
        assert rules.exists() == bool(number)
        if number:
            # each line as udev has it: matches, then what is set
            assert all(
                re.fullmatch(
                    r'#.*|((SUBSYSTEM|KERNEL)=="[^"]+", )+((GROUP|MODE)="\w+"|RUN\+="[^"]+")(, ((GROUP|MODE)="\w+"|RUN\+="[^"]+"))*',
                    line,
                )
                for line in rules.read_text().splitlines()
            )


def test_a_site_is_let_near_what_it_has_wired_and_nothing_else() -> None:
    assert set(WIRED) | {"broker", "wireless", "site"} == set(kinds.names())
    for link, (said, classes, groups) in WIRED.items():
        its = unit(
            "shed",
            read_text(f'site = "x"\n[board.it]\nlink = "{link}"\n{said}\n', "x.toml"),
            Path("/opt/x/bin/cairnwind"),
            elsewhere=True,
        )
        text = its.files()["/etc/systemd/system/shed.service"]
        assert set(re.findall(r"^DeviceAllow=char-(\w+) rw$", text, re.M)) == classes, link
        assert set(" ".join(re.findall(r"^SupplementaryGroups=(.*)$", text, re.M)).split()) == groups, link
        assert ("PrivateDevices=yes" in text) == (not classes)
        assert ("/sys/devices" in text) == (link == "leds")


def test_what_is_there_stays_and_what_cannot_be_is_said(tmp_path: Path) -> None:
    file, root = tmp_path / "here" / "shed.toml", tmp_path / "root"
    file.parent.mkdir()
    file.write_text('site = "Shed"\n[board.near]\nlink = "simulated"\nmap = "own"\n')
    (file.parent / "maps").mkdir()
    (file.parent / "maps" / "own.toml").write_text(
        (ROOT / "src/cairnwind/boards/maps/header-34.toml").read_text().replace("header-34", "own")
    )
    shown = cairnwind("service", "install", str(file), "--root", str(root), "--dry").stdout
    assert "ExecStart=" in shown
    assert not json.loads(cairnwind("service", "install", str(file), "--root", str(root), "--json").stdout)[
        "done"
    ], "nobody was asked"
    assert not root.exists()
    assert install(root, file).returncode == 0
    there = root / "etc/cairnwind/site.toml"
    assert (there.read_text(), cairnwind("check", str(there)).returncode) == (file.read_text(), 0)
    other = file.with_name("other.toml")
    other.write_text(file.read_text().replace("Shed", "Barn"))
    refused = install(root, other)
    assert (refused.returncode, "is there already, and is another site file" in refused.stderr) == (5, True)
    assert there.read_text() == file.read_text()
    assert install(root, other, "--replace").returncode == 0
    assert "Barn" in there.read_text()
    assert "Shed" in there.with_name("site.toml.before").read_text()
    assert install(root, there).returncode == 0, "what is served already is only told anew"
    assert "small letters" in install(root, file, "--name", "My Shed").stderr
    other.write_text("site = 3")
    assert install(root, other, "--replace").returncode == 8
    removed = cairnwind("service", "remove", "--root", str(root), "--yes")
    assert removed.returncode == 0, removed.stderr
    assert not list(root.rglob("*.service"))
    assert "Barn" in there.read_text()
    assert cairnwind("service", "remove", "--root", str(root), "--yes").returncode == 4


def test_a_program_that_its_user_could_not_see_is_not_called(tmp_path: Path) -> None:
    file = tmp_path / "site.toml"
    file.write_text('site = "x"\n')
    refused = cairnwind("service", "install", str(file), "--program", "/root/.local/bin/cairnwind", "--dry")
    assert (refused.returncode, "python3 -m venv /opt/cairnwind" in refused.stderr) == (7, True)


HUNG = """
import sys, threading, time
from cairnwind.core.facts import events as ev
from cairnwind.folder import Folder
from cairnwind.service.serve import Service, run
from cairnwind.service.startup import clock
from cairnwind.site import read_site
service = Service(read_site(sys.argv[1]), Folder(sys.argv[2]), 0)
def started(service):
    def hang():
        time.sleep(3)
        service.machine.engine.handle = lambda event: time.sleep(600)
        service.machine.report(ev.Tick(clock()))
    threading.Thread(target=hang, daemon=True).start()
run(service, started, lambda left: None, sys.argv[2] + "/log")
"""


@pytest.mark.parametrize("abstract", [False, True])
def test_the_machine_is_told_when_all_is_safe_and_while_the_engine_turns(
    tmp_path: Path, abstract: bool
) -> None:
    file = tmp_path / "site.toml"
    file.write_text(
        'site = "Shed"\n[board.near]\nlink = "simulated"\nlines = 2\n[output.lamp]\nkind = "lamp"\npin = "near:line-0"\n'
    )
    name = f"@cairnwind-{os.getpid()}" if abstract else str(tmp_path / "told")
    with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as told:
        told.bind("\0" + name[1:] if abstract else name)
        told.settimeout(60)
        words = (
            ["-c", HUNG, file, tmp_path / "state"]
            if abstract
            else [CAIRNWIND, "serve", file, "--state", tmp_path / "state", "--port", "0"]
        )
        command = [sys.executable, *words] if abstract else words
        process = spawn(*command, env={**os.environ, "NOTIFY_SOCKET": name}, stdout=subprocess.DEVNULL)
        first = told.recv(4096).decode().splitlines()
        assert first[0] == "READY=1"
        assert "Shed" in first[1]
        assert {told.recv(4096) for _ in range(2)} == {b"WATCHDOG=1"}
        if abstract:  # its engine hangs: the machine is to hear no more of it
            told.settimeout(5)
            with pytest.raises(TimeoutError):
                while True:
                    assert told.recv(4096) == b"WATCHDOG=1"
            process.kill()
        else:
            process.terminate()
            last = b"WATCHDOG=1"
            while last == b"WATCHDOG=1":
                last = told.recv(4096)
            assert last == b"STOPPING=1"
        process.wait(30)
