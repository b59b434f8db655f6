"""From start to end: safe first, clean ends, restarts that find everything, and SIGKILL at any moment."""

from __future__ import annotations

import json
import random
import signal
import socket
import stat
import threading
import time
from pathlib import Path
from typing import Any

import requests

from cairnwind.client import Site
from cairnwind.core.facts.history import Told
from cairnwind.core.values.settings import FULL
from cairnwind.folder import Folder
from tests.conftest import SITE, Process, Running, cairnwind, eventually


def test_everything_is_found_as_it_was_left(running: Running) -> None:
    running.site.turn("vent", "on")
    running.site.turn("gallery", "40 %", lasting="2 s")
    running.site.turn("kiln", "on")
    running.site.turn("yard", "on", lasting="until released")
    with running.site.hold("vent", "off"):
        moved = running.link().seen
        running.end()
    safe = {"vent": FULL, "kiln": 0, "gallery": 0}
    assert {name: running.link().level(name) for name in safe} == safe, "every way out ends at safe"
    assert moved
    running.begin()
    eventually(lambda: running.link("far").level("yard") == FULL)
    levels = {name: running.link().level(name) for name in safe}
    assert levels == {"vent": 0, "kiln": 0, "gallery": 400_000}, (
        "the hold is over, and the kiln needs a new command"
    )
    eventually(lambda: running.link().level("gallery") == 0, within=3)
    texts = [row["text"] for row in running.site.journal(limit=60)]
    assert any(
        "kiln: the claim of a person at the client (first key) ended: needs a new command after a restart"
        in text
        for text in texts
    )


def test_an_all_stop_outlives_a_restart_and_a_board_comes_back_safe(running: Running) -> None:
    running.site.turn("vent", "on")
    running.site.stop("smoke")
    running.again()
    assert running.link().level("vent") == FULL
    assert running.site.facts()["all_stop"]["reason"] == "smoke"
    running.site.reset_stop()
    eventually(lambda: running.link().level("vent") == 0)
    link = running.link()
    link.unplug()
    link.seen.clear()
    link.pins[41] = 0
    link.plug()
    eventually(lambda: link.level("vent") == 0 and len(link.seen) >= 2)
    assert [level for _, line, level in link.seen if line == 41] == [FULL, 0], (
        "safe first, then what is claimed"
    )


def test_a_reader_of_the_wall_of_debounce(running: Running) -> None:
    """The door counts as open when it has been so for 20 ms, not before."""
    link = running.link()
    link.set_input("door", False)
    eventually(lambda: running.site.inputs()[0]["state"] == "closed")
    for active in (True, False, True, False):
        link.set_input("door", active)
    time.sleep(0.1)
    assert running.site.inputs()[0]["state"] == "closed"
    link.set_input("door", True)
    eventually(lambda: running.site.inputs()[0]["state"] == "open")
    link.unplug()
    eventually(lambda: running.site.inputs()[0]["state"] == "unknown")


def test_signals_that_come_all_at_once_end_it_all_the_same(tmp_path: Path) -> None:
    """Whoever ends a group of processes tells some of them twice: a second signal comes while the first is handled."""
    file = tmp_path / "site.toml"
    file.write_text(SITE)
    for _ in range(5):
        process = Process(file, Folder(tmp_path / "state").path)
        Site(state=tmp_path / "state").turn("vent", "on")
        for number in (signal.SIGHUP, signal.SIGINT, signal.SIGTERM) * 100:
            process.process.send_signal(number)
        out, _ = process.process.communicate(timeout=60)
        assert process.process.returncode == 0, out


def test_both_signals_end_cleanly_and_say_so(tmp_path: Path) -> None:
    (tmp_path / "site.toml").write_text(SITE)
    for number in (signal.SIGTERM, signal.SIGINT):
        process = Process(tmp_path / "site.toml", tmp_path / "state")
        site = Site(state=tmp_path / "state")
        site.turn("gallery", "40 %")
        key = Folder(tmp_path / "state").key()
        streams = [
            requests.get(
                f"{process.url}/api/v1/events",
                headers={"Authorization": f"Bearer {key}"},
                stream=True,
                timeout=5,
            )
            for _ in range(3)
        ]
        seconds, code, out = process.stop(number)
        assert seconds < 3
        assert code == 0
        assert "Stopped: 4 of 4 outputs confirmed safe" in out
        for stream in streams:
            stream.close()
    assert not (tmp_path / "state" / "address").exists()
    assert stat.S_IMODE((tmp_path / "state" / "key").stat().st_mode) == 0o600
    assert stat.S_IMODE((tmp_path / "state").stat().st_mode) == 0o700
    assert {stat.S_IMODE(path.stat().st_mode) & 0o077 for path in (tmp_path / "state").iterdir()} == {0}, (
        "whatever the shell's mask"
    )


def test_a_second_start_says_who_is_there_and_touches_nothing(tmp_path: Path) -> None:
    (tmp_path / "site.toml").write_text(SITE)
    process = Process(tmp_path / "site.toml", tmp_path / "state")
    port = process.url.rpartition(":")[2]
    second = cairnwind(
        "serve", str(tmp_path / "site.toml"), "--state", str(tmp_path / "state"), "--port", "0"
    )
    assert second.returncode == 9
    assert f"held by process {process.process.pid} since" in second.stderr
    other = cairnwind(
        "serve", str(tmp_path / "site.toml"), "--state", str(tmp_path / "other"), "--port", port
    )
    assert other.returncode == 9
    assert f"Cannot listen on 127.0.0.1:{port}" in other.stderr
    assert Site(state=tmp_path / "state").turn("vent", "on").ending == "confirmed"
    process.stop()
    (tmp_path / "state" / "cairnwind.db").write_bytes(b"SQLite format 3\0 and then nothing" * 50)
    refused = cairnwind(
        "serve", str(tmp_path / "site.toml"), "--state", str(tmp_path / "state"), "--port", "0"
    )
    assert refused.returncode == 9
    assert "left untouched" in refused.stderr
    broken = cairnwind("serve", str(tmp_path / "nowhere.toml"), "--state", str(tmp_path / "third"))
    assert broken.returncode == 8
    assert not (tmp_path / "third").exists()


# --- SIGKILL ----------------------------------------------------------------------------------------------

OUTPUTS = 12
KILLS = 20


class Load:
    """Eight clients that command at full speed and remember what was acknowledged."""

    def __init__(self, port: int, key: str) -> None:
        self.port, self.key = port, key
        self.acknowledged: list[dict[str, Any]] = []
        self.over = False
        self.threads = [threading.Thread(target=self._client, args=(number,)) for number in range(8)]

    def _client(self, number: int) -> None:
        chance = random.Random(number + time.time_ns())
        try:
            with socket.create_connection(("127.0.0.1", self.port), timeout=5) as line:
                while not self.over:
                    name = f"relay-{chance.randrange(OUTPUTS)}"
                    if chance.random() < 0.2:
                        request = f"DELETE /api/v1/outputs/{name}/claim HTTP/1.1\r\n", ""
                    else:
                        request = (
                            "POST /api/v1/claims HTTP/1.1\r\n",
                            json.dumps({"output": name, "setting": chance.choice(["on", "off", "toggle"])}),
                        )
                    head = f"{request[0]}Host: localhost\r\nAuthorization: Bearer {self.key}\r\nContent-Type: application/json\r\nContent-Length: {len(request[1])}\r\n\r\n"
                    line.sendall((head + request[1]).encode())
                    self.acknowledged.append(_answer(line))
        except OSError:
            return  # killed


def _answer(line: socket.socket) -> dict[str, Any]:
    data = b""
    while b"\r\n\r\n" not in data:
        data += _more(line)
    head, _, body = data.partition(b"\r\n\r\n")
    length = int(head.lower().partition(b"content-length:")[2].split(b"\r\n")[0])
    while len(body) < length:
        body += _more(line)
    found: dict[str, Any] = json.loads(body)
    return found


def _more(line: socket.socket) -> bytes:
    data = line.recv(65536)
    if not data:
        raise ConnectionResetError
    return data


def test_nothing_acknowledged_is_lost_by_being_killed(tmp_path: Path) -> None:
    """Twenty times: at full speed, SIGKILL at a random moment, start again, compare with the journal."""
    lines = ['site = "Killed"', '[board.rack]\nlink = "simulated"\nlines = 20']
    lines += [
        f'[output.relay-{number}]\nkind = "relay"\npin = "rack:line-{number}"' for number in range(OUTPUTS)
    ]
    (tmp_path / "site.toml").write_text("\n".join(lines))
    state, total, seen = tmp_path / "state", 0, 0
    load: Load | None = None
    for _ in range(KILLS + 1):
        process = Process(tmp_path / "site.toml", state)
        site = Site(state=state)
        rows = []
        while page := site.journal(after=rows[-1]["sequence"] if rows else 0, limit=1000):
            rows += page
        if load is not None:
            by_number = {row["sequence"]: row for row in rows}
            for answer in load.acknowledged:
                row = by_number[answer["sequence"]]
                assert (row["command"], row["subject"]) == (answer["command"], answer["output"])
                assert answer["outcome"] == "driving"
            total += len(load.acknowledged)
        told = Told((row["kind"], row["subject"] or "", row["data"]) for row in rows)
        wanted = {output: claim["setting"]["level"] for (output, _), claim in told.claims.items()}
        for output in eventually(
            lambda site=site: (
                (found := site.outputs()) and all(each["state"] == "confirmed" for each in found) and found
            )
        ):
            assert output["confirmed"]["level"] == wanted.get(output["name"], 0.0), (
                "an output is not where its claims say"
            )
        assert len(rows) >= seen
        seen = len(rows)
        load = Load(int(process.url.rpartition(":")[2]), Folder(state).key() or "")
        for thread in load.threads:
            thread.start()
        time.sleep(random.uniform(0.05, 0.35))
        process.kill()
        load.over = True
        for thread in load.threads:
            thread.join()
    assert total > KILLS * 8
