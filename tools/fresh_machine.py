"""A fresh machine, tried whole: Debian's base in a folder, its own systemd, Python and the wheel; nothing of this tree.

Installed, a site made, served under its unit, hung and killed, upgraded, backed up, ended, restored on another. Usage, as root: fresh_machine.py
[EARLIER_WHEEL]: that is installed first, and upgraded. Needs debootstrap and
systemd-container; what it writes is what was seen, and it fails where that is not what should be.
"""

from __future__ import annotations

import atexit
import json
import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

ROOT = Path(__file__).parent.parent
BASE = "systemd,systemd-sysv,dbus,udev,python3,python3-venv"
SITE = """\
site = "Fresh shed"
timezone = "Europe/London"
[board.near]
link = "simulated"
lines = 4
[output.lamp]
kind = "lamp"
pin = "near:line-0"
[output.kiln]
kind = "relay"
pin = "near:line-1"
rearm = "command"
"""


def said(text: str) -> None:
    """A line of the record."""
    print(f"{time.strftime('%H:%M:%S')}  {text}", flush=True)


def until(true: Callable[[], Any], what: str, within: float = 60) -> Any:
    """Wait for it."""
    end = time.monotonic() + within
    while not (found := true()):
        if time.monotonic() > end:
            sys.exit(f"did not come true: {what}")
        time.sleep(0.2)
    said(what)
    return found


class Machine:
    """A folder with a system in it, and the system while it runs."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.running: subprocess.Popen[bytes] | None = None

    def make(self) -> None:
        """Debian's base, once; a copy of it each time."""
        base = self.folder.with_name(f"{self.folder.name}-base")
        if not (base / "usr/bin/systemctl").exists():
            said("debootstrap, a minute or two")
            subprocess.run(
                ["debootstrap", "--variant=minbase", f"--include={BASE}", "bookworm", base],
                check=True,
                stdout=subprocess.DEVNULL,
            )
        shutil.rmtree(self.folder, ignore_errors=True)
        subprocess.run(["cp", "-a", base, self.folder], check=True)

    def boot(self) -> None:
        """Start it, and wait for its systemd."""
        self.log = (self.folder.parent / f"{self.folder.name}.log").open("wb")
        self.running = subprocess.Popen(
            ["systemd-nspawn", "--quiet", "--register=no", "--keep-unit", "--private-network", "-D", self.folder, "--boot"],
            stdin=subprocess.DEVNULL, stdout=self.log, stderr=self.log,
        )  # fmt: skip
        until(
            lambda: self.try_("systemctl", "is-system-running").stdout.strip() in ("running", "degraded"),
            "its own systemd runs",
        )

    def halt(self) -> None:
        """Have it go down in good order."""
        if self.running is not None:
            self.running.send_signal(signal.SIGTERM)
            self.running.wait(60)
        self.running = None

    def try_(self, *command: str) -> subprocess.CompletedProcess[str]:
        """Something typed there."""
        into = ["chroot", str(self.folder)]
        if self.running is not None:
            children = Path(f"/proc/{self.running.pid}/task/{self.running.pid}/children").read_text().split()
            if not children:
                return subprocess.CompletedProcess(command, 1, "", "")
            into = ["nsenter", "-t", children[0], "-a"]
        return subprocess.run(
            [
                *into,
                "env",
                "-i",
                "PATH=/usr/sbin:/usr/bin:/sbin:/bin",
                "HOME=/root",
                "LANG=C.UTF-8",
                *command,
            ],
            capture_output=True,
            text=True,
        )

    def do(self, *command: str) -> str:
        """The same, which has to succeed."""
        done = self.try_(*command)
        if done.returncode:
            sys.exit(f"{' '.join(command)}: {done.returncode}\n{done.stdout}{done.stderr}")
        return done.stdout

    def outside(self, pid: str) -> int:
        """The number that one of its processes has out here, as proc(5) tells: ``NSpid`` ends with that of its own namespace."""
        for each in Path("/proc").glob("[0-9]*/status"):
            try:
                numbers = next(
                    line.split()[1:] for line in each.read_text().splitlines() if line.startswith("NSpid")
                )
                root = os.readlink(each.with_name("root"))
            except (OSError, StopIteration):
                continue
            if (
                numbers[-1] == pid
                and len(numbers) > 1
                and (root == str(self.folder) or (Path(each.with_name("root")) / "wheels").exists())
            ):
                return int(numbers[0])
        sys.exit(f"no process {pid} is there")

    def unit(self, what: str) -> str:
        """A property of the unit."""
        return self.try_("systemctl", "show", "-P", what, "cairnwind.service").stdout.strip()


def main(folder: Path, before: Path | None) -> None:
    """All of it; begun with an earlier wheel, where one is given, which is upgraded on the way."""
    machine = Machine(folder)
    atexit.register(machine.halt)
    machine.make()
    wheels = folder / "wheels"
    wheels.mkdir()
    subprocess.run([sys.executable, ROOT / "tools" / "package.py", wheels], check=True)
    subprocess.run(
        [
            sys.executable,
            "-m",
            "pip",
            "-q",
            "download",
            "--require-hashes",
            "-r",
            ROOT / "requirements/run.txt",
            "-d",
            wheels,
        ],
        check=True,
        stderr=subprocess.DEVNULL,
    )
    (folder / "root/site.toml").write_text(SITE)
    command = "/opt/cairnwind/bin/cairnwind"
    machine.do("python3", "-m", "venv", "/opt/cairnwind")
    earlier = (
        [str(Path("/wheels") / Path(shutil.copy(before, wheels)).name)]
        if before is not None
        else ["cairnwind"]
    )
    machine.do("/opt/cairnwind/bin/pip", "install", "-q", "--no-index", "--find-links", "/wheels", *earlier)
    said(
        f"installed: {machine.do(command, '--version').strip()}, with Python {machine.do('python3', '--version').split()[1]}"
    )
    machine.boot()
    if before is not None:
        machine.do(
            "systemd-run",
            "--unit=earlier",
            command,
            "serve",
            "/root/site.toml",
            "--state",
            "/var/lib/cairnwind",
        )
        until(
            lambda: (
                machine.try_(command, "--state", "/var/lib/cairnwind", "turn", "lamp", "on").returncode == 0
            ),
            "the earlier version serves",
        )
        machine.do("systemctl", "stop", "earlier")
        (folder / wheels.name / before.name).unlink()
        machine.do(
            "/opt/cairnwind/bin/pip",
            "install",
            "-q",
            "--no-index",
            "--find-links",
            "/wheels",
            "--upgrade",
            "--force-reinstall",
            "--no-deps",
            "cairnwind",
        )
        machine.do(
            "/opt/cairnwind/bin/pip", "install", "-q", "--no-index", "--find-links", "/wheels", "cairnwind"
        )
        said("upgraded")
    machine.do(command, "service", "install", "/root/site.toml", "--yes")
    until(lambda: machine.unit("ActiveState") == "active", "its unit is active")
    if before is not None:
        kept = sorted(each.name for each in (folder / "var/lib/cairnwind").glob("cairnwind.db.schema-*"))
        assert kept, "what was there before is kept"
        said(f"brought up to date; what was there before is {kept[0]}")
    said(f"it says of itself: {machine.unit('StatusText')}")
    main_pid = machine.unit("MainPID")
    said(
        f"it runs as {machine.do('ps', '-o', 'user=', '-p', main_pid).strip() if machine.try_('which', 'ps').stdout else machine.do('stat', '-c', '%U', f'/proc/{main_pid}').strip()}"
    )
    as_it = [
        "setpriv",
        "--reuid=cairnwind",
        "--regid=cairnwind",
        "--clear-groups",
        command,
        "--state",
        "/var/lib/cairnwind",
    ]
    machine.do(*as_it, "turn", "lamp", "on")
    said(machine.do(*as_it, "turn", "kiln", "on").strip())
    exposure = (
        machine.do("systemd-analyze", "security", "--no-pager", "cairnwind.service").strip().splitlines()[-1]
    )
    said(exposure.strip())
    machine.do("systemd-analyze", "verify", "/etc/systemd/system/cairnwind.service")

    os.kill(machine.outside(main_pid), signal.SIGSTOP)
    said("it is made to hang")
    until(
        lambda: machine.unit("NRestarts") == "1" and machine.unit("ActiveState") == "active",
        "it was killed for that, and is back",
    )
    now = {
        each["name"]: each["confirmed"]["on"]
        for each in json.loads(machine.do(*as_it, "look", "--json"))["outputs"]
    }
    assert now == {"lamp": True, "kiln": False}, now
    said("the lamp is on as it was wanted; the kiln waits for a command")
    os.kill(machine.outside(machine.unit("MainPID")), signal.SIGKILL)
    until(
        lambda: machine.unit("NRestarts") == "2" and machine.unit("ActiveState") == "active",
        "killed, it is back",
    )

    (folder / "etc/cairnwind/site.toml").write_text(
        SITE + '[output.fan]\nkind = "fan"\npin = "near:line-2"\n'
    )
    machine.do("systemctl", "reload", "cairnwind")
    until(lambda: "fan" in machine.try_(*as_it, "look").stdout, "a change of its file is taken at a reload")
    (folder / "etc/cairnwind/site.toml").write_text("site = ")
    machine.do("systemctl", "restart", "--no-block", "cairnwind")
    until(lambda: machine.unit("ActiveState") == "failed", "a file with errors is not tried again and again")
    said(f"exit code {machine.unit('ExecMainStatus')}, {machine.unit('NRestarts')} restarts")
    (folder / "etc/cairnwind/site.toml").write_text(SITE)
    machine.do("systemctl", "restart", "cairnwind")
    before = len(machine.do(*as_it, "journal", "-n", "500").splitlines())
    machine.halt()
    machine.boot()
    until(lambda: machine.unit("ActiveState") == "active", "after a start of the machine it is served again")
    after = len(machine.do(*as_it, "journal", "-n", "500").splitlines())
    assert after >= before, (before, after)

    kept = machine.do(*as_it, "backup", "--json")
    backup = json.loads(kept)["file"]
    said(f"backed up: {Path(backup).name}, {json.loads(kept)['bytes']:,} bytes")
    saved = folder.with_name(f"{folder.name}-saved")
    shutil.rmtree(saved, ignore_errors=True)
    shutil.copytree(wheels, saved)
    shutil.copy(f"{folder}{backup}", saved / "it.zip")
    machine.do(command, "service", "remove", "--yes")
    assert machine.unit("ActiveState") == "inactive"
    assert (folder / "etc/cairnwind/site.toml").exists()
    assert (folder / "var/lib/cairnwind/cairnwind.db").exists()
    said("ended; its site file and its state are there")
    machine.halt()

    machine.make()
    machine.do("mkdir", "/wheels")
    subprocess.run(["cp", "-a", f"{saved}/.", wheels], check=True)
    machine.do("python3", "-m", "venv", "/opt/cairnwind")
    machine.do(
        "/opt/cairnwind/bin/pip", "install", "-q", "--no-index", "--find-links", "/wheels", "cairnwind"
    )
    shutil.copy(saved / "it.zip", folder / "root/it.zip")
    machine.boot()
    told = machine.do(
        command, "restore", "/root/it.zip", "--state", "/var/lib/cairnwind", "--site", "/etc/cairnwind"
    )
    said("on another machine: " + told.splitlines()[0])
    machine.do(command, "service", "install", "/etc/cairnwind/site.toml", "--yes")
    until(lambda: machine.unit("ActiveState") == "active", "it is served there")
    rows = machine.do(*as_it, "journal", "-n", "1000")
    assert "restored from it.zip" in rows, rows
    assert rows.count("lamp to on") >= 1
    now = {
        each["name"]: each["confirmed"]["on"]
        for each in json.loads(machine.do(*as_it, "look", "--json"))["outputs"]
    }
    assert now == {"lamp": False, "kiln": False}, now
    said("with its journal, and nothing on")
    machine.halt()


if __name__ == "__main__":
    if os.geteuid():
        sys.exit("As root: it boots a system of its own.")
    main((ROOT / "build" / "fresh").absolute(), Path(sys.argv[1]) if len(sys.argv) > 1 else None)
