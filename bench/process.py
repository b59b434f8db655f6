"""Rows of the process: start, idling, memory."""

from __future__ import annotations

import json
import os
import resource
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from bench.client import Server
from bench.sites import quiet_demo
from bench.table import Row, amount, in_turns, measures
from cairnwind.demo import SITE_FILE


def _serve(state: str, site_file: Path = SITE_FILE) -> subprocess.Popen[bytes]:
    command = Path(sys.executable).with_name("cairnwind")
    return subprocess.Popen(
        [command, "serve", str(site_file), "--state", state, "--port", "0"],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        env={name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"},
    )


def _address(state: str) -> dict[str, object]:
    path, end = Path(state) / "address", time.monotonic() + 30
    while not path.exists():
        assert time.monotonic() < end, "the service did not start; 'cairnwind check' says why"
        time.sleep(0.005)
    found: dict[str, object] = json.loads(path.read_text())
    return found


@measures("process start")
def start() -> list[Row]:
    """From process start to every output told its safe setting, beyond 'python -c pass'."""

    def ours() -> float:
        with tempfile.TemporaryDirectory() as state:
            begin = time.monotonic()
            process = _serve(state)
            safe = float(_address(state)["safe_at"])  # type: ignore[arg-type]
            process.send_signal(signal.SIGTERM)
            process.wait()
            return safe - begin

    def bare() -> float:
        begin = time.monotonic()
        subprocess.run([sys.executable, "-c", "pass"], check=True)
        return time.monotonic() - begin

    ours()
    safe, reference = in_turns(7, ours, bare)
    more = safe - reference
    return [
        Row(
            "process start to all safe",
            safe,
            "s",
            reference,
            safe / reference,
            "<= 0.25 s more",
            more <= 0.25,
        )
    ]


@measures("command line")
def command_line() -> list[Row]:
    """Processor time of commands at the command line, and of the completion of a name, beyond 'python -c pass'."""
    command = str(Path(sys.executable).with_name("cairnwind"))
    plain = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
    typed = {
        **plain,
        "_CAIRNWIND_COMPLETE": "bash_complete",
        "COMP_WORDS": "cairnwind turn gal",
        "COMP_CWORD": "2",
    }
    with tempfile.TemporaryDirectory() as state:
        process = _serve(state)
        _address(state)
        found = {
            "release": lambda: _spent([command, "--state", state, "release", "gallery"], plain),
            "look": lambda: _spent([command, "--state", state, "look"], plain),
            "completion": lambda: _spent([command], {**typed, "CAIRNWIND_STATE": state}),
        }
        rows = []
        for name, ours in found.items():
            mine, bare = in_turns(amount(7, 1), ours, lambda: _spent([sys.executable, "-c", "pass"], plain))
            holds = mine - bare <= 0.12
            rows.append(Row(f"command line, {name}", mine, "s", bare, mine / bare, "<= 0.12 s more", holds))
        process.send_signal(signal.SIGTERM)
        process.wait()
    return rows


def _spent(command: list[str], environment: dict[str, str]) -> float:
    """Seconds of processor time that a command takes."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env=environment, check=True)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


@measures("process idle")
def idle() -> list[Row]:
    """Share of one core while nothing happens, and memory, on the demo site without its world and without polling links."""
    with tempfile.TemporaryDirectory() as state:
        quiet = Path(state) / "quiet.toml"
        quiet.write_text(quiet_demo(), "utf-8")
        process = _serve(state, quiet)
        _address(state)
        time.sleep(amount(3.0, 0.5))
        before = _used(process.pid)
        span = amount(10.0, 1.0)
        time.sleep(span)
        share = (_used(process.pid) - before) / span * 100
        pages = int(Path(f"/proc/{process.pid}/statm").read_text().split()[1])
        process.send_signal(signal.SIGTERM)
        process.wait()
    memory = pages * os.sysconf("SC_PAGE_SIZE") / 1e6
    return [
        Row("process idle, demo site", share, "% of a core", bar="< 0.5", holds=share < 0.5),
        Row("process memory, demo site", memory, "MB", bar="< 60", holds=memory < 60),
    ]


def _used(pid: int) -> float:
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


@measures("process memory per output")
def memory() -> list[Row]:
    """What each further output costs, once every one of them has been claimed and driven."""
    sizes, more = [], amount(5000, 300)
    for count in (10, 10 + more):
        with Server("product", str(count)) as server:
            line = server.connect()
            for number in range(10 + more):  # as many in both, so that what is kept of events weighs the same
                line.turn(f"relay-{number % count}", "on" if number // count % 2 == 0 else "off")
            line.close()
            sizes.append(server.ask("stats")["rss"])
    each = (sizes[1] - sizes[0]) / more
    return [Row("process memory per output", each / 1000, "kB", bar="< 3", holds=each < 3000)]
