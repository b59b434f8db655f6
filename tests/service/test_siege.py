"""Doors under attack: nothing that others send, or leave unsent, holds up a stop, and nothing of it runs without bound."""

from __future__ import annotations

import contextlib
import json
import operator
import os
import random
import re
import resource
import socket
import sqlite3
import ssl
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from types import SimpleNamespace
from typing import Any
from urllib.parse import quote
from zoneinfo import ZoneInfo

import pytest
import requests
from flask import Flask, request
from hypothesis import given, settings
from hypothesis import strategies as st

from cairnwind.client import Site
from cairnwind.core.values import dates
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.visible import UNSAFE
from cairnwind.service import doorman, stream
from cairnwind.service.asked import CALLER
from cairnwind.service.bounded import Bounded
from cairnwind.service.doorman import LARGEST_BODY, LARGEST_HEAD, Connection, Refused, whole
from cairnwind.service.keys import Who
from cairnwind.service.server import GONE
from cairnwind.store import reader
from tests.conftest import SITE, Running, eventually

LASTS = 60.0
"""Seconds that a siege would last, were it to hold anything up."""
SILENT = b""
HEAD = b"GET /api/v1/outputs HTTP/1.1\r\nHost: 127.0.0.1\r\nX-Slow: "
BODY = b"POST /api/v1/phrases HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/json\r\nContent-Length: 60000\r\n\r\n{"
CHUNKS = b"POST /api/v1/phrases HTTP/1.1\r\nHost: 127.0.0.1\r\nTransfer-Encoding: chunked\r\n\r\nffff\r\n{"


def visitor(running: Running) -> socket.socket:
    return socket.create_connection(("127.0.0.1", running.service.port), timeout=10)


@contextlib.contextmanager
def siege(running: Running, said: bytes, many: int) -> Iterator[list[socket.socket]]:
    """So many connections that have said that much and no more."""
    besiegers = [visitor(running) for _ in range(many)]
    try:
        for each in besiegers:
            each.sendall(said)
        time.sleep(0.2)
        yield besiegers
    finally:
        for each in besiegers:
            each.close()


def stops(running: Running) -> float:
    """Seconds from a stop to the pin; everything is as before then."""
    running.site.turn("kiln", "on")
    begin = time.monotonic()
    assert running.http("PUT", "/api/v1/all-stop", json={}).status_code == 200
    taken = time.monotonic() - begin
    line = running.service.site.outputs["kiln"].pin.line
    assert running.link().pins[line] == 0
    running.site.reset_stop()
    return taken


@pytest.mark.parametrize(
    "said", [SILENT, HEAD, BODY, CHUNKS], ids=["silent", "half a head", "no body", "half a chunk"]
)
def test_requests_that_do_not_come_hold_up_nobody(
    running: Running, said: bytes, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(doorman, "HEAD_WITHIN", LASTS)
    monkeypatch.setattr(doorman, "BODY_WITHIN", LASTS)
    with siege(running, said, 300):
        assert max(stops(running) for _ in range(3)) < LASTS / 6
        # nor anything else: no worker has any of them
        assert (
            running.http("POST", "/api/v1/claims", json={"output": "gallery", "setting": "40 %"}).status_code
            == 201
        )


def test_half_a_handshake_holds_up_nobody_either(tmp_path: Any) -> None:
    from cairnwind.folder import Folder
    from cairnwind.service.serve import Service
    from cairnwind.site import read_text

    service = Service(
        read_text(f'{SITE}\n[service]\ntls = "self-made"\n', str(tmp_path / "site.toml")),
        Folder(tmp_path / "s"),
        0,
    )
    service.start()
    silent: list[socket.socket] = []
    try:
        silent = [socket.create_connection(("127.0.0.1", service.port)) for _ in range(200)]
        hello = ssl.MemoryBIO()
        begun = ssl.create_default_context().wrap_bio(ssl.MemoryBIO(), hello, server_hostname="localhost")
        with contextlib.suppress(ssl.SSLWantReadError):
            begun.do_handshake()
        first = hello.read()
        for number, each in enumerate(silent):
            each.sendall(first[: number % len(first)])
        site = Site(state=tmp_path / "s")
        assert site.stop().outcome == "driving"
    finally:
        for each in silent:
            each.close()
        service.stop()


def test_who_says_nothing_for_too_long_is_sent_away_and_told_why(
    running: Running, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(doorman, "HEAD_WITHIN", 0.6)
    monkeypatch.setattr(doorman, "BODY_WITHIN", 0.9)
    for said, told in ((SILENT, b""), (HEAD, b"408"), (BODY, b"408"), (CHUNKS, b"408")):
        with siege(running, said, 1) as (one,):
            assert one.recv(100)[9:12] == told
    with siege(running, b"GET / HTTP/1.1\r\nX: " + b"x" * (LARGEST_HEAD + 1), 1) as (one,):
        assert one.recv(100)[9:12] == b"431"
    for head in (
        b"Content-Length: %d" % (LARGEST_BODY + 1),
        b"Content-Length: 1\r\nContent-Length: 2",
        b"Content-Length: 0000000000005",
    ):
        with siege(running, b"POST /api/v1/phrases HTTP/1.1\r\n" + head + b"\r\n\r\n", 1) as (one,):
            assert one.recv(100)[9:12] in (b"413", b"400"), head


def test_there_is_always_room_for_one_more(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    """Of the address that has most of them those go that wait longest; whoever is answered keeps its connection."""
    keeper = running.service._server._server._connections
    monkeypatch.setattr(keeper, "_most", 40)
    kept = visitor(running)
    ask = f"GET /healthz HTTP/1.1\r\nHost: 127.0.0.1:{running.service.port}\r\n\r\n".encode()
    with siege(running, SILENT, 100):
        eventually(lambda: len(keeper._here) <= 40)
        for _ in range(3):
            with siege(running, ask, 1) as (one,):
                assert one.recv(1000).startswith(b"HTTP/1.1 200"), "the newest is heard"
    kept.close()
    eventually(lambda: len(keeper._here) <= 2)
    assert keeper._held == 0, "nothing is kept of those that went"


def test_there_is_always_room_for_one_more_stream(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(stream, "MOST", 6)
    phone, many = (running.site.new_key(name, "watch") for name in ("phone", "many"))

    def listen(key: str) -> requests.Response:
        headers = {"Authorization": f"Bearer {key}"}
        return requests.get(f"{running.url}/api/v1/events", headers=headers, stream=True, timeout=20)

    with listen(phone) as kept:
        lines = kept.iter_lines(chunk_size=1)
        next(lines)
        greedy = [listen(many) for _ in range(10)]
        eventually(lambda: running.service.runtime.stream.count == 6)
        assert next(greedy[-1].iter_lines(chunk_size=1)), "the newest is told"
        running.site.turn("gallery", "33 %")
        assert any(b'"level":33' in line.replace(b" ", b"") for line in lines), (
            "and whoever has but one keeps it"
        )
        for each in greedy:
            each.close()


def test_requests_in_pieces_and_several_at_once_are_each_answered(running: Running) -> None:
    """Whole requests, cut anywhere, one after the other on one connection: an answer for each, in their order."""
    chance = random.Random(5)
    port, key = running.service.port, running.key
    top = f"Host: 127.0.0.1:{port}\r\nAuthorization: Bearer {key}\r\nContent-Type: application/json\r\n"
    body = b'{"output": "gallery", "setting": "%d %%"}'
    with siege(running, SILENT, 1) as (line,):
        said = b""
        for percent in range(10, 30):
            text = body % percent
            if percent % 3:
                said += (
                    f"POST /api/v1/claims HTTP/1.1\r\n{top}Content-Length: {len(text)}\r\n\r\n".encode()
                    + text
                )
            else:
                half = len(text) // 2
                said += f"POST /api/v1/claims HTTP/1.1\r\n{top}Transfer-Encoding: chunked\r\n\r\n".encode()
                said += b"%x;x=y\r\n%s\r\n%x\r\n%s\r\n0\r\n\r\n" % (
                    half,
                    text[:half],
                    len(text) - half,
                    text[half:],
                )
        while said:
            size = chance.choice((1, 3, 40, 700, 3000))
            line.sendall(said[:size])
            said = said[size:]
            time.sleep(0.002)
        come = b""
        while come.count(b"HTTP/1.1 ") < 20:
            come += line.recv(65536)
        assert come.count(b"HTTP/1.1 201") == 20, come[:2000]
    texts = [row["text"] for row in running.site.journal(subject="gallery", kind="command")]
    levels = [int(found[1]) for text in reversed(texts) if (found := re.search(r"(\d+) %", text))]
    assert levels == list(range(10, 30)), texts[:3]
    large = running.http(
        "POST", "/api/v1/phrases", json={"phrase": "x" * 60_000}, headers={"Expect": "100-continue"}
    )
    assert large.status_code == 400


def test_requests_that_overtake_their_answers_are_answered_one_after_the_other(running: Running) -> None:
    """More comes while a worker has a request, and some of those who sent it go away: nobody is answered twice, and the server stays."""
    ask = f"GET /api/v1/outputs HTTP/1.1\r\nHost: 127.0.0.1:{running.service.port}\r\nAuthorization: Bearer {running.key}\r\n\r\n".encode()

    def eager(number: int) -> int:
        with contextlib.closing(visitor(running)) as line:
            come, many = b"", 60
            for turn in range(many):
                line.sendall(ask)
                if turn % 3 == number % 3:
                    come += line.recv(100)
            if number % 4 == 0:
                return many  # and is gone
            while come.count(b"HTTP/1.1 200") < many:
                part = line.recv(65536)
                assert part, f"{come.count(b'HTTP/1.1 200')} answers, and it hung up"
                come += part
            return come.count(b"HTTP/1.1 200")

    with ThreadPoolExecutor(16) as pool:
        assert set(pool.map(eager, range(48))) == {60}
    keeper = running.service._server._server._connections
    eventually(lambda: len(keeper._here) == 0)
    assert keeper._held == 0
    assert stops(running) < LASTS


@settings(max_examples=300)
@given(
    head=st.lists(st.sampled_from([b"Content-Length: 3", b"content-length:3", b"X: y", b"Transfer-Encoding: chunked", b"Content-Length: x"]), max_size=4),
    rest=st.binary(max_size=40), cut=st.integers(0, 200),
)  # fmt: skip
def test_where_a_request_ends_does_not_depend_on_how_it_comes(
    head: list[bytes], rest: bytes, cut: int
) -> None:
    text = b"POST /x HTTP/1.1\r\n" + b"".join(each + b"\r\n" for each in head) + b"\r\n" + rest

    def asked(*parts: bytes) -> Any:
        conn = Connection.__new__(Connection)
        conn.come, conn.body_from, conn.since = bytearray(), 0, 0.0
        for part in parts:
            conn.come += part
            try:
                size = whole(conn)
            except Refused as error:
                return str(error)
            if size:
                return size
        return 0

    assert (
        asked(text) == asked(text[:cut], text[cut:]) == asked(*(text[at : at + 1] for at in range(len(text))))
    )


def test_a_stop_passes_workers_that_are_all_busy(running: Running) -> None:
    """Twelve and more that wait for what becomes of their commands, on a board that is slow."""
    running.service.machine.links["far"].answers_after = 20_000_000_000
    slow = {"output": "yard", "setting": "on", "wait": "10 s"}
    with ThreadPoolExecutor(40) as pool:
        waiting = [pool.submit(running.http, "POST", "/api/v1/claims", json=slow) for _ in range(40)]
        time.sleep(0.3)
        assert max(stops(running) for _ in range(3)) < 5, "half of what they wait for"
        running.service.machine.links["far"].answers_after = 0
        assert all(each.result(60).status_code in (201, 409, 429) for each in waiting)
    assert threading.active_count() < 60


def test_searches_are_few_at_once_and_each_ends(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    """A key that may only watch searches a long journal, as often as it likes: others go on, and it is told to narrow that."""
    rows = ((-n, n, "change", "yard", "yard is on", "", f"somebody {n}", "{}") for n in range(1, 200_000))
    with contextlib.closing(sqlite3.connect(running.folder / "state" / "cairnwind.db")) as journal, journal:
        journal.executemany("INSERT INTO journal VALUES (?, ?, ?, ?, ?, ?, ?, ?)", rows)
    watcher = running.site.new_key("watcher", "watch")
    search = "/api/v1/journal?source=nobody&limit=1000"
    assert running.http("GET", search, key=watcher).json()["rows"] == []
    monkeypatch.setattr(reader, "SEARCH_WITHIN", 0.0)
    given_up = running.http("GET", search, key=watcher)
    assert (given_up.status_code, given_up.headers["Retry-After"]) == (503, "5")
    assert "Narrow it" in given_up.json()["remedy"]
    assert running.http("GET", "/api/v1/journal?subject=gallery", key=watcher).status_code == 200, (
        "what is found at once is"
    )
    monkeypatch.setattr(reader, "SEARCH_WITHIN", LASTS)
    over = threading.Event()

    def go_on() -> set[int]:
        found = set()
        while not over.is_set():
            found.add(running.http("GET", search, key=watcher).status_code)
        return found

    with ThreadPoolExecutor(24) as pool:
        searches = [pool.submit(go_on) for _ in range(24)]
        try:
            time.sleep(0.3)
            assert max(stops(running) for _ in range(3)) < LASTS / 6
            claim = {"output": "gallery", "setting": "40 %"}
            assert running.http("POST", "/api/v1/claims", json=claim).status_code == 201
        finally:
            over.set()
        assert set.union(*(each.result(60) for each in searches)) <= {200, 429, 503}
    # threads that came and went have left no connection to the database open
    for _ in range(3):
        threading.Thread(target=running.service.runtime.reader.last).start()
    eventually(
        lambda: (
            running.service.runtime.reader.last()
            and sum(not each.is_alive() for each in running.service.runtime.reader._open) <= 3
        )
    )


def test_a_rehearsal_has_a_bound_one_at_a_time_for_a_key_and_ends_with_its_caller(running: Running) -> None:
    watcher = running.site.new_key("watcher", "watch")
    busy = {"name": "m", "do": "turn gallery on for 1 s", "from": "00:00", "repeat": "FREQ=MINUTELY"}
    long = {"from": "2026-11-23", "to": "2027-01-24", "put": busy}
    with ThreadPoolExecutor() as pool:
        both = [
            pool.submit(running.http, "POST", "/api/v1/plan/rehearsals", key=watcher, json=long)
            for _ in range(2)
        ]
        assert stops(running) < LASTS / 6
        told = sorted((each.result(60) for each in both), key=lambda answer: answer.status_code)
    assert [each.status_code for each in told] == [413, 429]
    assert "cairnwind rehearse" in told[0].json()["remedy"]
    text = json.dumps(long).encode()
    head = f"POST /api/v1/plan/rehearsals HTTP/1.1\r\nHost: 127.0.0.1:{running.service.port}\r\nAuthorization: Bearer {watcher}\r\n"
    with siege(
        running,
        f"{head}Content-Type: application/json\r\nContent-Length: {len(text)}\r\n\r\n".encode() + text,
        1,
    ):
        pass  # and hangs up
    short = {"from": "2026-11-23", "to": "2026-11-24"}
    eventually(
        lambda: running.http("POST", "/api/v1/plan/rehearsals", key=watcher, json=short).status_code == 200
    )


def test_what_is_done_aside_is_ended_by_the_system_by_its_caller_and_by_nothing_else() -> None:
    app, few = Flask("tests"), Bounded("a sum", "Work it out elsewhere.")
    gone = threading.Event()

    def asked(task: Callable[..., Any], *given: Any) -> bytes:
        with app.test_request_context():
            request.environ |= {GONE: gone.is_set, CALLER: (SimpleNamespace(id=1), None)}
            return few.run(task, *given)

    assert asked(max, 2, 3) == b"3"
    assert asked(resource.getrlimit, resource.RLIMIT_CPU) == b"[10,10]"
    assert asked(os.nice, 0) != b"0", "what is urgent goes first"
    for much in (bytes, 1 << 33), (operator.mul, "a", 17 << 20):
        with pytest.raises(CallerError, match=r"more than a sum here may take. Work it out elsewhere"):
            asked(*much)
    with pytest.raises(CallerError, match="'soon' is not a time"):
        asked(dates.wall, "soon", ZoneInfo("UTC"))
    with ThreadPoolExecutor() as pool:
        waits = pool.submit(asked, time.sleep, LASTS)
        eventually(lambda: few._keys)
        with pytest.raises(CallerError, match="This key has a sum running already"):
            asked(max, 2, 3)
        gone.set()
        with pytest.raises(CallerError, match="Nobody waits"):
            waits.result(LASTS / 6)


# --- rights -------------------------------------------------------------------------------------------------------


def test_a_hold_is_kept_alive_and_changed_by_whoever_made_it_and_by_nobody_else(running: Running) -> None:
    anna, bob = (running.site.new_key(name, "operate") for name in ("anna", "bob"))
    hold = {"output": "gallery", "setting": "40 %", "rank": "hand", "lease": "2 s"}
    number = running.http("POST", "/api/v1/claims", key=anna, json=hold).json()["claim"]["id"]
    for method, path, body in (
        ("PATCH", f"/api/v1/claims/{number}", {}), ("PATCH", f"/api/v1/claims/{number}", {"setting": "90 %"}),
        ("PATCH", "/api/v1/claims", {"claims": [number]}),
    ):  # fmt: skip
        refused = running.http(method, path, key=bob, json=body)
        assert refused.status_code == 409, path
        assert "that of the HTTP (anna)" in refused.text
        assert (
            running.http(
                method, path, key=anna, json={**body, **({"setting": "50 %"} if "setting" in body else {})}
            ).status_code
            == 200
        )
    assert running.site.output("gallery")["wanted"]["level"] == 50
    assert running.http("DELETE", f"/api/v1/claims/{number}", key=bob).status_code == 200, (
        "anybody may let go"
    )
    # what is only kept alive by somebody else ends
    number = running.http("POST", "/api/v1/claims", key=anna, json=hold).json()["claim"]["id"]
    end = time.monotonic() + LASTS
    while running.http("PATCH", f"/api/v1/claims/{number}", key=bob, json={}).status_code == 409:
        assert time.monotonic() < end
        if not running.site.output("gallery")["wanted"]["on"]:
            return


def test_a_key_that_is_revoked_takes_with_it_what_acts_in_its_name(running: Running) -> None:
    site = running.site
    lent = Site(address=running.url, key=site.new_key("lent", "operate"))
    site.turn("vent", "on")
    lent.turn("yard", "on", lasting="until released")
    lent.turn("gallery", "40 %")
    running.http(
        "POST",
        "/api/v1/claims",
        key=site.new_key("other", "operate"),
        json={"output": "gallery", "setting": "70 %"},
    )
    held = {"output": "kiln", "setting": "on", "rank": "hand", "lease": "30 s"}
    assert lent.call("POST", "/claims", held)["outcome"] == "driving"
    lent.do("turn vent off in 10 minutes")
    lent.do("in 5 minutes turn gallery on")
    lent.add_schedule(name="evenings", do="turn yard on", **{"from": "00:00"}, for_="23 h")
    assert len([each for each in site.timers() if "lent" in str(each)]) >= 2
    eventually(lambda: site.output("kiln")["confirmed"]["on"])
    site.revoke("lent")
    eventually(lambda: not site.output("kiln")["confirmed"]["on"])
    assert [each["wanted"]["words"] for each in site.outputs()] == ["on", "off", "70 %", "off"], (
        "what others have wanted since stays"
    )
    assert [each for each in site.timers() if "lent" in str(each)] == []
    (schedule,) = site.plan()["schedules"]
    assert (schedule["name"], schedule["enabled"]) == ("evenings", False), "it is listed still"
    said = "the key 'lent' was revoked"
    eventually(lambda: sum(said in row["text"] for row in site.journal(limit=60)) >= 5)  # committed, soon
    running.again()
    assert not running.site.plan()["schedules"][0]["enabled"]
    assert not running.site.output("yard")["wanted"]["on"]


def test_a_tag_belongs_to_a_key_and_not_to_its_name(running: Running) -> None:
    site = running.site
    first = Site(address=running.url, key=site.new_key("ben", "operate"))
    first.lock("gallery", "new lamp")
    other = Site(address=running.url, key=site.new_key("eve", "operate"))
    with pytest.raises(CallerError, match="was hung by"):
        other.unlock("gallery", "new lamp")
    site.revoke("ben")
    for start in range(2):
        if start:
            running.again()
        namesake = Site(address=running.url, key=site.new_key("ben", "operate"))
        with pytest.raises(CallerError, match=r"ben \(revoked\)"):
            namesake.unlock("gallery", "new lamp")
        site.revoke("ben")
    assert site.unlock("gallery", "new lamp").outcome == "driving", "a keeper takes it off"


def test_whoever_works_an_input_is_in_the_journal_by_name(running: Running) -> None:
    lent = Site(address=running.url, key=running.site.new_key("lent", "operate"))
    lent.pretend("door", "open")
    (row,) = eventually(lambda: running.site.journal(kind="command", subject="door"))
    assert row["text"] == "door is pretended to be open"
    assert "lent" in row["source"]


# --- what is shown ------------------------------------------------------------------------------------------------

NASTY = "\x1b[2J\x1b]0;gone\x07 \x9b31m \u202eneve\u2069 \x7f\r"


def test_nothing_that_anybody_writes_reaches_a_terminal_as_it_is(running: Running, tmp_path: Path) -> None:
    """Names, reasons, notes, tags and paths that turn round, clear or colour: shown as what they are, by every command; JSON says the same."""
    site = running.site
    site.command("note", text=f"lamp {NASTY} changed", about="gallery")
    site.lock("vent", "work", f"because {NASTY}")
    site.stop(f"a reason {NASTY}")
    running.http("GET", f"/api/v1/outputs/{quote(NASTY)}/why")
    commands: list[tuple[str, ...]] = [
        ("look",), ("look", "gallery"), ("look", "vent"), ("why", "vent"), ("why", "gallery"), ("journal",), ("why", NASTY), ("turn", NASTY, "on"),
        ("turn", "gallery", NASTY), ("do", f"turn {NASTY} on"), ("look", NASTY), ("rules",), ("plan",), ("note", f"x {NASTY}"), ("remotes",), ("ask", NASTY),
    ]  # fmt: skip
    bad = tmp_path / f"site{NASTY}.toml"
    bad.write_text(f'site = "x"\n[output.y]\nkind = "{NASTY[1:4]}"\n', "utf-8")
    commands.append(("check", str(bad)))
    for command in commands:
        told = running.cli(*command)
        text = told.stdout + told.stderr
        assert text, command
        assert not UNSAFE.search(text), (command, UNSAFE.search(text), text[:400])
    told = running.cli("journal", "--json")
    assert not UNSAFE.search(told.stdout)
    assert any(NASTY in row["text"] for row in json.loads(told.stdout)), "and says the same to a program"


def test_who_may_command_some_outputs_works_no_inputs_that_others_depend_on(running: Running) -> None:
    some = running.site.new_key("some", "operate", only=["gallery"])
    refused = running.http("PUT", "/api/v1/inputs/door/simulated", key=some, json={"state": "closed"})
    assert (refused.status_code, refused.json()["code"]) == (403, "role")
    assert running.site.input("door")["state"] == "open"
    assert running.site.journal(limit=1)[0]["source"] == "HTTP (some)", "and it is in the journal"
    for phrase in ("in 5 minutes stop everything", "every hour stop everything"):
        assert running.http("POST", "/api/v1/phrases", key=some, json={"phrase": phrase}).status_code == 403
    assert running.http("PUT", "/api/v1/all-stop", key=some, json={}).status_code == 200, (
        "but everybody may stop"
    )


def test_a_browser_that_nobody_uses_is_signed_out_and_a_panel_that_shows_is_used(
    running: Running, monkeypatch: pytest.MonkeyPatch
) -> None:
    service, browser = running.service, requests.Session()
    keys, address = service.keys, f"{running.url}/api/v1/session"
    signed = browser.post(address, json={"token": service.sign_in_link().partition("=")[2]})
    assert "Strict-Transport-Security" not in signed.headers, "there is no TLS"
    assert browser.get(address).ok
    (session,) = keys.sessions()
    week = 8 * 86400 * 10**9

    def last_used(wall: int) -> None:
        service.runtime.writer.put_and_wait([("session used", (wall, session.hash))])
        with sqlite3.connect(service.folder.database) as connection:
            connection.execute("UPDATE session SET made = ?", (wall,))
        keys._known.clear()

    last_used(time.time_ns() - week)
    assert keys.still(Who("first key", session.hash)), "a stream of it is open: it is used"
    eventually(lambda: keys.sessions())
    assert browser.get(address).ok
    last_used(time.time_ns() - week)
    assert browser.get(address).status_code == 401
    assert keys.sessions() == []


def test_whoever_may_only_watch_sees_nothing_of_other_wires_and_no_address_that_opens_something(
    tmp_path: Path,
) -> None:
    hook = '[remote.hook.desk]\naddress = "https://desk.example/in/very-secret-path?token=abc"\nevents = ["stop"]\n'
    running = Running(tmp_path, SITE + hook)
    try:
        keys = {role: running.site.new_key(f"a {role}", role) for role in ("watch", "operate", "keep")}
        for path, needs in (("boards/near/traffic", "operate"), ("remotes/http/traffic", "keep")):
            allowed = [
                role for role, key in keys.items() if running.http("GET", f"/api/v1/{path}", key=key).ok
            ]
            assert allowed == list(keys)[list(keys).index(needs) :], path
        told = running.http("GET", "/api/v1/remotes", key=keys["watch"]).text
        assert "https://desk.example/…" in told
        assert "very-secret" not in told
        assert "abc" not in told
    finally:
        running.end()
