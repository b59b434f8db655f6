"""Services to test against: in this process for speed, or in one of their own where they are to be killed."""

from __future__ import annotations

import itertools
import json
import os
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from datetime import datetime
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import hypothesis
import pytest
import requests

from cairnwind.boards.links.simulated import SimulatedLink
from cairnwind.client import Site
from cairnwind.core.facts.events import Answers
from cairnwind.folder import Folder
from cairnwind.service.serve import Service
from cairnwind.site import SiteFileError, read_site
from cairnwind.site.checked import check_site
from tests import described

ROOT = Path(__file__).parent.parent
hypothesis.settings.register_profile("all", deadline=None)  # how long anything takes decides no test
hypothesis.settings.load_profile("all")
hypothesis.settings.register_profile(
    "unshrunk", deadline=None, phases=[hypothesis.Phase.explicit, hypothesis.Phase.generate]
)
"""For `make mutants`: that a fault is found is enough there."""
LAB = next(
    (
        lab
        for lab in (ROOT.parent / "shared" / "kernel-lab", ROOT / "build" / "kernel-lab")
        if (lab / "linux-gpiosim").exists()
    ),
    None,
)
"""Where the simulated kernel is (see tools/kernel-lab), if there is one."""
INSIDE = "CAIRNWIND_LAB" in os.environ
os.environ["PATH"] += ":/usr/sbin:/sbin"  # where the broker is, and not on the path of an ordinary user
collect_ignore = [] if INSIDE else ["lab"]
if LAB is None:
    collect_ignore.append("boards/test_kernel_lab.py")


def pytest_collection_finish() -> None:
    """A package that tests import gives this process the default of SIGPIPE, by which a reader that goes would end it."""
    signal.signal(signal.SIGPIPE, signal.SIG_IGN)


def pytest_terminal_summary(terminalreporter: Any) -> None:
    """Say what was not run because the machine has no simulated kernel: it is no failure, and must not be hidden."""
    if LAB is None and not INSIDE:
        count = sum(
            path.read_text("utf-8").count("\ndef test_")
            for path in (ROOT / "tests" / "lab").glob("test_*.py")
        )
        terminalreporter.write_line(
            f"not run: {count} tests that need the simulated kernel; build it with: make kernel-lab"
        )


CAIRNWIND = str(Path(sys.executable).with_name("cairnwind"))

SITE = """
site = "Test bench"
timezone = "Europe/London"

[board.near]
link = "simulated"
map = "header-34"

[board.far]
link = "simulated"
lines = 8
answers_after = "5 ms"

[output.vent]
label = "Vent"
place = "kiln room"
kind = "relay"
pin = "near:J2-9"
sense = "active-low"

[output.kiln]
place = "kiln room"
kind = "relay"
pin = "near:J2-11"
rearm = "command"

[output.gallery]
place = "gallery"
kind = "lamp"
pin = "near:J2-14"
frequency = "800 Hz"
curve = "straight"

[output.yard]
place = "yard"
kind = "lamp"
pin = "far:line-3"

[input.door]
place = "kiln room"
kind = "contact"
pin = "near:J3-4"
pull = "up"
debounce = "20 ms"
"""


_running: list[Running] = []
described.install()


@pytest.fixture(autouse=True)
def _nothing_is_undescribed() -> Iterator[None]:
    described.undescribed.clear()
    yield
    assert not described.undescribed, "see tests/described.py"


LONG = (
    "test_bench",
    "test_frame",
    "test_api",
    "test_kernel_lab",
    "test_plan",
    "test_siege",
    "test_lifecycle",
)
"""Files that take longest: they begin first, so that none of them runs alone at the end."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """The order of files; within each that of its tests."""
    items.sort(key=lambda item: LONG.index(item.path.stem) if item.path.stem in LONG else len(LONG))


def pytest_unconfigure() -> None:
    """A test that fails before it ends its service must not keep the whole run from ending."""
    for running in list(_running):
        running.end()


class Running:
    """A service in this process, with its client and its pins."""

    def __init__(self, folder: Path, text: str) -> None:
        self.folder = folder
        self.site_file = folder / "site.toml"
        self.site_file.write_text(text, "utf-8")
        self.port = free_port()
        self.begin()

    def begin(self) -> None:
        _running.append(self)
        self.service = Service(read_site(self.site_file), Folder(self.folder / "state"), self.port)
        self.service.start()
        self.site = Site(state=self.folder / "state")
        self.key = Folder(self.folder / "state").key()
        self.url = self.service.url

    def again(self) -> None:
        self.end()
        self.begin()

    def end(self) -> None:
        if self in _running:
            _running.remove(self)
        self.service.stop()

    def link(self, name: str = "near") -> SimulatedLink:
        found = self.service.machine.links[name]
        assert isinstance(found, SimulatedLink)
        return found

    def http(self, method: str, path: str, *, key: str | None = "", **more: Any) -> requests.Response:
        """A bare request; the key is the first one unless given, None for no key."""
        headers = {**more.pop("headers", {})}
        if key is not None:
            headers["Authorization"] = f"Bearer {key or self.key}"
        return requests.request(method, self.url + path, headers=headers, timeout=60, **more)

    def cli(self, *args: str, **more: Any) -> subprocess.CompletedProcess[str]:
        """The command line, in a process of its own."""
        return cairnwind("--state", str(self.folder / "state"), *args, **more)


_ports = itertools.count(
    20_000 + 5_000 * int(os.environ.get("PYTEST_XDIST_WORKER", "gw0")[2:]) + os.getpid() % 2_500
)
"""Below those that the kernel gives away by itself, and other ones for each worker: nobody takes it in between."""


def free_port() -> int:
    """A port that is free now, and may be listened on again after a restart (unlike one taken by number 0)."""
    for port in _ports:
        with socket.socket() as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                probe.bind(("127.0.0.1", port))
            except OSError:
                continue
            return port
    raise AssertionError("no port is free")


@pytest.fixture
def running(tmp_path: Path) -> Iterator[Running]:
    found = Running(tmp_path, SITE)
    yield found
    if found.service.runtime.alive:
        found.end()


@pytest.fixture(scope="module")
def shared(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    """One service for all tests of a module that leave nothing behind."""
    found = Running(tmp_path_factory.mktemp("shared"), SITE)
    yield found
    found.end()


def standing(monkeypatch: pytest.MonkeyPatch, module: Any) -> list[float]:
    """The monotonic seconds of a module, which go on only when a test adds to them: a machine that is slow sits no wait out and fills no measure anew."""
    now = [time.monotonic()]
    monkeypatch.setattr(module, "time", SimpleNamespace(monotonic=lambda: now[0], time_ns=time.time_ns))
    return now


def faults(folder: Path, text: str) -> str:
    """What a check of a site file with this text finds wrong, each with its remedy."""
    file = folder / "site.toml"
    file.write_text(text, "utf-8")
    try:
        check_site(file)
    except SiteFileError as error:
        return "\n".join(f"{found.what}. {found.remedy}" for found in error.findings)
    return ""


def cairnwind(*args: str, **more: Any) -> subprocess.CompletedProcess[str]:
    environment = {**os.environ, **more.pop("env", {})}
    return subprocess.run(
        [CAIRNWIND, *args], capture_output=True, text=True, timeout=90, env=environment, check=False, **more
    )


def spawn(*command: object, **more: Any) -> subprocess.Popen[str]:
    """A program beside the tests, as text. It ends with them, however they end: none is left to disturb the next run."""
    return subprocess.Popen(
        ["setpriv", "--pdeathsig", "KILL", *(str(part) for part in command)], text=True, **more
    )


class Process:
    """A service in a process of its own."""

    def __init__(self, site_file: Path, state: Path, *more: str) -> None:
        self.state = state
        (state / "address").unlink(missing_ok=True)
        self.process = spawn(
            CAIRNWIND, "serve", site_file, "--state", state, "--port", "0", *more, stdout=subprocess.PIPE, stderr=subprocess.PIPE
        )  # fmt: skip
        eventually(lambda: (state / "address").exists() or self.process.poll() is not None, within=15)
        assert self.process.poll() is None, self.process.communicate()
        self.url = json.loads((state / "address").read_text())["url"]

    def kill(self) -> None:
        self.process.send_signal(signal.SIGKILL)
        self.process.communicate()

    def stop(self, number: int = signal.SIGTERM) -> tuple[float, int, str]:
        """Seconds it took, exit code, what it printed."""
        begin = time.monotonic()
        self.process.send_signal(number)
        out, _ = self.process.communicate(timeout=60)
        return time.monotonic() - begin, self.process.returncode, out


class Demo:
    """The demo in a process of its own, without its plan: whatever the hour, only tests switch anything."""

    def __init__(self, folder: Path) -> None:
        self.state = str(folder / "demo")
        self.process = spawn(
            CAIRNWIND, "demo", "--state", self.state, "--port", "0", stdout=subprocess.DEVNULL
        )
        eventually(lambda: (folder / "demo" / "address").exists(), within=20)
        self.site = Site(state=self.state)
        eventually(lambda: all(board["up"] for board in self.site.boards()))
        for schedule in self.site.plan()["schedules"]:
            self.site.enable(schedule["name"], False)

    def cli(self, *args: str, **more: object) -> subprocess.CompletedProcess[str]:
        return cairnwind("--state", self.state, *args, **more)

    def now(self, name: str) -> dict[str, Any]:
        """What it is confirmed at; a board that a busy machine has lost is waited for."""
        confirmed: dict[str, Any] = eventually(lambda: self.site.output(name)["confirmed"])
        return confirmed

    def end(self) -> None:
        self.process.send_signal(signal.SIGINT)
        assert self.process.wait(15) == 0


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Demo]:
    found = Demo(tmp_path_factory.mktemp("saltmarsh"))
    yield found
    found.end()


def eventually(true: Callable[[], Any], within: float = 5.0) -> Any:
    """Wait until ``true()`` holds; fail after several times ``within`` seconds: how long it takes on a busy machine decides nothing."""
    end = time.monotonic() + within * 8
    while True:
        found = true()
        if found:
            return found
        assert time.monotonic() < end, f"did not come true within {within} s"
        time.sleep(0.01)


def half_a_day_away() -> str:
    """A time of day that is not near, whenever tests are run."""
    return f"{(datetime.now().hour + 12) % 24:02}:00"


def of_kind(said: list[Any], kind: type) -> list[Any]:
    """The events of a kind among what a link has said; answers to several drives at once count one by one."""
    single = [each for event in said for each in (event.all if isinstance(event, Answers) else (event,))]
    return [event for event in single if isinstance(event, kind)]
