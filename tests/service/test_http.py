"""The API at its real interface: a service on loopback, asked over sockets."""

from __future__ import annotations

import json
import socket
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from typing import Any

import pytest
import requests

from cairnwind.core.values.settings import FULL
from cairnwind.service import desk
from cairnwind.service.snapshot import Shown
from tests.conftest import Running, eventually, standing

CLAIMS = "/api/v1/claims"


def problem(response: requests.Response, status: int, code: str) -> dict[str, Any]:
    """The problem details of a response, checked for the members that each has."""
    assert response.status_code == status, response.text
    assert response.headers["Content-Type"] == "application/problem+json"
    form: dict[str, Any] = response.json()
    assert (form["status"], form["code"], form["type"]) == (status, code, f"urn:cairnwind:problem:{code}")
    assert form["title"]
    assert form["detail"]
    return form


def test_a_command_goes_to_the_pin_and_into_the_journal(shared: Running) -> None:
    response = shared.http(
        "POST", CLAIMS, json={"output": "gallery", "setting": "40 %", "for": "10 min", "wait": "1 s"}
    )
    assert response.status_code == 201
    answer = response.json()
    assert (answer["outcome"], answer["ending"]["ending"], answer["setting"]["words"]) == (
        "driving",
        "confirmed",
        "40 %",
    )
    assert shared.link().level("gallery") == 400_000
    (row,) = [row for row in shared.site.journal("gallery") if row["sequence"] == answer["sequence"]]
    assert row["command"] == answer["command"]
    assert row["text"] == "gallery to 40 % (driving)"
    now = shared.http("GET", "/api/v1/outputs/gallery").json()
    assert [now[stage]["level"] for stage in ("wanted", "allowed", "driven", "confirmed")] == [40, 40, 40, 40]
    assert now["claims"][0]["lifetime"] == "for"
    shared.site.turn("vent", "on")
    assert shared.link().level("vent") == 0, "active-low: on is low"
    released = shared.http("DELETE", f"{CLAIMS}/{now['claims'][0]['id']}").json()
    assert released["outcome"] == "driving"
    eventually(lambda: shared.link().level("gallery") == 0)
    shared.site.release("vent")


BAD: dict[str, tuple[str, str, dict[str, Any], int, str, str]] = {
    "no key": ("GET", "/api/v1/site", {"key": None}, 401, "key", "without a key"),
    "a wrong key": ("GET", "/api/v1/site", {"key": "guess"}, 401, "key", "No valid key"),
    "a foreign page": ("GET", "/api/v1/site", {"headers": {"Origin": "http://evil.example"}}, 403, "origin", "evil.example"),
    "a rebound host": ("GET", "/", {"headers": {"Host": "evil.example:80"}}, 421, "host", "evil.example"),
    "no such page": ("GET", "/api/v1/lamps", {}, 404, "no-page", "nothing at this address"),
    "no such file": ("GET", "/assets/../serve.py", {}, 404, "no-page", ""),
    "a wrong method": ("POST", "/api/v1/outputs", {}, 405, "method", ""),
    "a misspelled output": ("GET", "/api/v1/outputs/galery", {}, 404, "unknown-name", "galery"),
    "an output that is none": ("GET", "/api/v1/outputs/galery/why", {}, 404, "unknown-name", "galery"),
    "an input that is none": ("GET", "/api/v1/inputs/dor", {}, 404, "unknown-name", "dor"),
    "a claim of nobody": ("DELETE", f"{CLAIMS}/999999", {}, 404, "no-claim", "999999"),
    "malformed JSON": ("POST", CLAIMS, {"data": "{", "headers": {"Content-Type": "application/json"}}, 400, "bad-body", "not valid JSON"),
    "a list": ("POST", CLAIMS, {"json": [1]}, 400, "bad-body", "not a JSON object"),
    "a form": ("POST", CLAIMS, {"data": {"output": "gallery"}}, 415, "media", "not marked as JSON"),
    "too much": ("POST", CLAIMS, {"json": {"output": "x" * 70_000}}, 413, "too-large", "64 kB"),
    "no setting": ("POST", CLAIMS, {"json": {"output": "gallery"}}, 400, "bad-value", "needs a 'setting'"),
    "an unknown member": ("POST", CLAIMS, {"json": {"output": "gallery", "setting": "on", "fro": "1 s"}}, 400, "bad-value", "'fro'"),
    "a number as a name": ("POST", CLAIMS, {"json": {"output": 7, "setting": "on"}}, 400, "bad-value", "'output'"),
    "too bright": ("POST", CLAIMS, {"json": {"output": "gallery", "setting": "101 %"}}, 400, "bad-value", "0 to 100 %"),
    "nonsense": ("POST", CLAIMS, {"json": {"output": "gallery", "setting": {"light": 4}}}, 400, "bad-value", "gallery"),
    "a level for a relay": ("POST", CLAIMS, {"json": {"output": "vent", "setting": 40}}, 400, "bad-value", "on/off"),
    "a rank for nobody": ("POST", CLAIMS, {"json": {"output": "vent", "setting": "on", "rank": "plan"}}, 400, "bad-value", "'plan'"),
    "two lifetimes": ("POST", CLAIMS, {"json": {"output": "vent", "setting": "on", "for": "1 s", "until": "22:00"}}, 400, "bad-value", "together"),
    "a time without a unit": ("POST", CLAIMS, {"json": {"output": "vent", "setting": "on", "for": 10}}, 400, "bad-value", "not a time"),
    "a time that is over": ("POST", CLAIMS, {"json": {"output": "vent", "setting": "on", "until": "2020-01-01T00:00"}}, 400, "bad-value", "over already"),
    "a lease too long": ("POST", CLAIMS, {"json": {"output": "vent", "setting": "on", "lease": "2 h"}}, 400, "bad-value", "lease"),
    "both ways at once": ("GET", "/api/v1/journal?before=5&after=1", {}, 400, "bad-value", "together"),
    "half a page": ("GET", "/api/v1/journal?limit=many", {}, 400, "bad-value", "'limit'"),
    "an Idempotency-Key too long": ("PUT", "/api/v1/all-stop", {"headers": {"Idempotency-Key": "x" * 201}}, 422, "token", "200"),
}  # fmt: skip


@pytest.mark.parametrize("name", BAD)
def test_every_error_is_a_problem_in_words_and_changes_nothing(name: str, shared: Running) -> None:
    method, path, more, status, code, word = BAD[name]
    before = shared.http("GET", "/api/v1/outputs").json(), shared.site.journal(limit=1)
    form = problem(shared.http(method, path, **more), status, code)
    assert word in form["detail"]
    assert (shared.http("GET", "/api/v1/outputs").json(), shared.site.journal(limit=1)) == before


def test_a_path_does_not_climb_out_of_the_console(shared: Running) -> None:
    with socket.create_connection(("127.0.0.1", shared.service.port)) as line:
        line.sendall(
            b"GET /assets/%2e%2e/%2e%2e/app.py HTTP/1.1\r\nHost: 127.0.0.1\r\nConnection: close\r\n\r\n"
        )
        answer = b"".join(iter(lambda: line.recv(65536), b""))
    assert b" 404 " in answer.split(b"\r\n")[0]
    assert b"def make_app" not in answer


def test_a_snapshot_has_a_tag_that_changes_with_it(shared: Running) -> None:
    for path in (
        "/api/v1/outputs",
        "/api/v1/outputs/vent",
        "/api/v1/inputs",
        "/api/v1/boards",
        "/api/v1/site",
    ):
        tag = shared.http("GET", path).headers["ETag"]
        assert tag.startswith('W/"')
        for known in (tag, f'"older", {tag}', f'W/"older",{tag.removeprefix("W/")}', "*"):
            again = shared.http("GET", path, headers={"If-None-Match": known})
            assert (again.status_code, again.content, again.headers["ETag"]) == (304, b"", tag), known
        assert shared.http("GET", path, headers={"If-None-Match": 'W/"older"'}).status_code == 200
    shared.site.turn("vent", "toggle")
    assert shared.http("GET", "/api/v1/outputs", headers={"If-None-Match": tag}).status_code == 200
    shared.site.turn("vent", "off")
    shared.site.release("vent")


def test_what_is_made_is_found_where_it_is_said_to_be(shared: Running) -> None:
    made = {
        CLAIMS: {"output": "gallery", "setting": "on", "for": "1 min"}, "/api/v1/phrases": {"phrase": "turn gallery off"},
        "/api/v1/notes": {"text": "a/b", "about": "gallery"},
        "/api/v1/plan/schedules": {"name": "late / later", "do": "turn gallery off", "from": "23:00", "for": "1 h"},
        "/api/v1/keys": {"name": "hall / tablet", "role": "watch"},
    }  # fmt: skip
    for path, body in made.items():
        answer = shared.http("POST", path, json=body)
        assert answer.status_code == 201, answer.text
        found = shared.http("GET", answer.headers["Location"])
        assert found.status_code == 200, (path, answer.headers["Location"], found.text)
    assert shared.http("DELETE", answer.headers["Location"]).status_code == 200
    shared.site.drop_schedule("late / later")
    assert shared.site.lock("gallery", "red / blue").outcome == "driving"
    assert "taken off" in shared.site.unlock("gallery", "red / blue").reason
    shared.site.release("gallery")


def test_the_methods_that_are_allowed_are_those_that_are_taken(shared: Running) -> None:
    for path in (
        "/api/v1/claims",
        "/api/v1/claims/5",
        "/api/v1/outputs/vent/claim",
        "/api/v1/all-stop",
        "/api/v1/plan/schedules/x",
        "/api/v1/scenes/x/run",
    ):
        allowed = set(shared.http("TRACE", path).headers["Allow"].split(", "))
        for method in ("GET", "HEAD", "POST", "PUT", "PATCH", "DELETE"):
            taken = shared.http(method, path, headers={"Content-Type": "text/plain"}).status_code != 405
            assert taken == (method in allowed), (method, path, allowed)
    shared.site.reset_stop()


def test_large_answers_are_compressed_for_whoever_takes_that(shared: Running) -> None:
    journal = "/api/v1/journal?limit=100"
    plain = shared.http("GET", journal, headers={"Accept-Encoding": "identity"})
    assert len(plain.content) > 4096
    assert ("Content-Encoding" in plain.headers, plain.headers["Vary"]) == (False, "Accept-Encoding")
    packed = shared.http("GET", journal, headers={"Accept-Encoding": "br, gzip;q=0.5"})
    assert (packed.headers["Content-Encoding"], packed.json()) == ("gzip", plain.json())
    assert int(packed.headers["Content-Length"]) < len(plain.content) / 3
    assert (
        "Content-Encoding" not in shared.http("GET", journal, headers={"Accept-Encoding": "gzip;q=0"}).headers
    )
    assert "Content-Encoding" not in shared.http("GET", "/api/v1/all-stop").headers, "it is small"


def test_whoever_has_to_wait_is_told_how_long(shared: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    standing(monkeypatch, desk)
    key = shared.site.new_key("quick", "operate")
    for _ in range(300):
        answer = shared.http("POST", CLAIMS, key=key, json={"output": "gallery", "setting": "on"})
        if answer.status_code == 429:
            break
    assert (answer.status_code, answer.headers["Retry-After"]) == (429, "1")
    shared.site.revoke("quick")
    shared.site.release("gallery")


def test_refused_and_unreachable_commands_leave_no_claim(running: Running) -> None:
    running.http("PUT", "/api/v1/all-stop", json={"reason": "smoke"})
    form = problem(running.http("POST", CLAIMS, json={"output": "vent", "setting": "on"}), 409, "refused")
    assert "all-stop by the HTTP (first key): smoke" in form["detail"]
    assert form["sequence"] == running.site.journal(limit=1)[0]["sequence"]
    assert (
        running.http("POST", CLAIMS, json={"output": "vent", "setting": "on", "when_possible": True}).json()[
            "outcome"
        ]
        == "blocked"
    )
    assert (
        running.http("POST", CLAIMS, json={"output": "kiln", "setting": "off"}).json()["outcome"] == "driving"
    )
    running.http("DELETE", "/api/v1/all-stop")
    eventually(lambda: running.link().level("vent") == 0)
    running.link("far").unplug("the cable fell out")
    form = problem(running.http("POST", CLAIMS, json={"output": "yard", "setting": "on"}), 503, "unreachable")
    assert "the cable fell out" in form["detail"]
    off = running.http("POST", CLAIMS, json={"output": "yard", "setting": "off"})
    assert (off.status_code, off.json()["outcome"]) == (201, "unreachable"), (
        "an off stands for when the link is back"
    )
    assert {claim["output"]: claim["setting"]["words"] for claim in running.http("GET", CLAIMS).json()} == {
        "vent": "on",
        "kiln": "off",
        "yard": "off",
    }
    assert running.http("GET", "/api/v1/boards").json()[1]["reason"] == "the cable fell out"


def test_a_lockout_tag_is_taken_off_by_name(running: Running) -> None:
    running.site.turn("kiln", "on")
    running.http("PUT", "/api/v1/outputs/kiln/lockouts/new%20elements", json={"reason": "wiring"})
    eventually(lambda: running.link().level("kiln") == 0)
    form = problem(running.http("POST", CLAIMS, json={"output": "kiln", "setting": "on"}), 409, "refused")
    assert "tag 'new elements': wiring" in form["detail"]
    running.again()
    problem(running.http("POST", CLAIMS, json={"output": "kiln", "setting": "on"}), 409, "refused")
    running.http("DELETE", "/api/v1/outputs/kiln/lockouts/new%20elements")
    assert running.link().level("kiln") == 0, "rearm = command: it needs a new command"
    assert running.site.turn("kiln", "on").ending == "confirmed"


def test_a_lease_ends_unless_it_is_renewed(running: Running) -> None:
    body = {"output": "vent", "setting": "on", "lease": "1 s", "wait": "1 s"}
    claim = running.http("POST", CLAIMS, json=body).json()["claim"]
    assert claim["rank"] == "hand"
    for _ in range(6):
        time.sleep(0.3)
        assert running.http("PATCH", f"{CLAIMS}/{claim['id']}").status_code == 200
    assert running.link().level("vent") == 0, "1.8 s later, thanks to the renewals"
    eventually(lambda: running.link().level("vent") == FULL)
    problem(running.http("PATCH", f"{CLAIMS}/{claim['id']}"), 404, "no-claim")
    assert "its holder did not renew it" in running.site.journal("vent", limit=2)[-1]["text"]


def test_idempotency_over_twins_other_bodies_and_a_restart(running: Running) -> None:
    body, headers = {"output": "vent", "setting": "toggle"}, {"Idempotency-Key": "one"}

    def send(**more: Any) -> requests.Response:
        return running.http("POST", CLAIMS, **{"json": body, "headers": headers, **more})

    running.service.runtime.writer.slow = 0.05
    with ThreadPoolExecutor(8) as pool:
        answers = [done.result().json() for done in [pool.submit(send) for _ in range(8)]]
    assert len({json.dumps(answer, sort_keys=True) for answer in answers}) == 1, "all twins hear the same"
    eventually(lambda: running.link().level("vent") == 0)
    problem(send(json={**body, "output": "kiln"}), 422, "token")
    running.again()
    eventually(lambda: running.link().level("vent") == 0)
    assert send().json() == answers[0], "across a restart too"
    assert running.link().level("vent") == 0, "toggled once, not nine times"
    assert send(headers={"Idempotency-Key": "two"}).json()["sequence"] > answers[0]["sequence"]


def test_what_must_not_happen_twice_waits_for_its_commit_and_a_move_to_safe_does_not(
    running: Running,
) -> None:
    """A toggle with an Idempotency-Key drives when it is stored, so that a repeat after a crash is no second one."""
    running.service.runtime.writer.slow = 0.5
    claim, once = {"output": "vent", "setting": "toggle"}, {"Idempotency-Key": "a"}
    with ThreadPoolExecutor(2) as pool:
        pool.submit(running.http, "POST", CLAIMS, json=claim, headers=once)
        eventually(lambda: running.link().level("vent") == 0)
        assert running.site.journal("vent", limit=1)[0]["text"] == "vent to on (driving)", (
            "it is stored by now"
        )
        off = pool.submit(running.http, "PUT", "/api/v1/all-stop")
        eventually(lambda: running.link().level("vent") == FULL)
        assert not off.done(), "safe at once, acknowledged when it was committed"
        assert off.result().status_code == 200


def test_without_a_disk_only_off_is_carried_out(running: Running) -> None:
    running.site.turn("vent", "on")
    running.service.runtime.writer.limit(1)
    while running.http("GET", "/readyz").status_code == 200:
        running.http("POST", CLAIMS, json={"output": "gallery", "setting": "toggle"})
    form = problem(
        running.http("POST", CLAIMS, json={"output": "kiln", "setting": "on"}), 507, "not-recorded"
    )
    form = (
        form
        if form["outcome"] == "refused"
        else problem(running.http("PUT", "/api/v1/all-stop"), 507, "not-recorded")
    )
    assert running.link().level("kiln") == 0
    eventually(
        lambda: running.link().level("vent") == FULL or running.http("PUT", "/api/v1/all-stop") is None
    )
    running.service.runtime.writer.limit(1 << 30)
    eventually(lambda: running.http("GET", "/readyz").status_code == 200)
    assert running.http("GET", "/healthz").json()["health"] == "good"


def test_a_reset_that_cannot_be_recorded_is_taken_back(running: Running) -> None:
    """The disk fills with the reset itself: nothing comes on, and the all-stop is in force again."""
    running.site.turn("vent", "on")
    running.site.stop("smoke")
    runtime = running.service.runtime
    original = runtime.writer._commit
    runtime.writer._commit = lambda group: "database or disk is full"  # type: ignore[method-assign]
    problem(running.http("DELETE", "/api/v1/all-stop"), 507, "not-recorded")
    eventually(lambda: running.site.facts()["all_stop"]["reason"] == "its reset could not be recorded")
    assert running.link().level("vent") == FULL
    runtime.writer._commit = original  # type: ignore[method-assign]
    eventually(lambda: running.site.facts()["recording"])
    running.site.reset_stop()
    eventually(lambda: running.link().level("vent") == 0)


def test_the_journal_is_paged_both_ways(shared: Running) -> None:
    for number in range(30):
        shared.site.turn("gallery", number + 1)
    pages, path = [], "/api/v1/journal?limit=7&subject=gallery"
    while path:
        form = shared.http("GET", path).json()
        pages += [row["sequence"] for row in form["rows"]]
        path = form["next"]
    assert pages == sorted(set(pages), reverse=True)
    forward, path = [], f"/api/v1/journal?limit=9&subject=gallery&after={pages[-1]}"
    while path:
        form = shared.http("GET", path).json()
        forward += [row["sequence"] for row in form["rows"]]
        path = form["next"]
    assert forward == pages[-2::-1]
    shared.site.release("gallery")


def read_events(
    running: Running, count: int, last: str | None = None, path: str = "/events", *, beats: bool = False
) -> list[tuple[str, str, dict[str, Any]]]:
    """(id, event, data) of so many events of a stream that is opened anew."""
    headers = {"Authorization": f"Bearer {running.key}", **({"Last-Event-ID": last} if last else {})}
    with requests.get(f"{running.url}/api/v1{path}", headers=headers, stream=True, timeout=5) as response:
        assert response.headers["Content-Type"] == "text/event-stream"
        found: list[tuple[str, str, dict[str, Any]]] = []
        fields: dict[str, str] = {}
        for line in response.iter_lines(chunk_size=1, decode_unicode=True):
            if line:
                name, _, value = line.partition(": ")
                fields[name] = value
            elif "data" in fields:
                if (fields.get("event") == "beat") == beats:
                    found.append((fields.get("id", ""), fields.get("event", ""), json.loads(fields["data"])))
                fields = {}
                if len(found) == count:
                    return found
    return found


def test_what_comes_after_its_time_is_not_done(running: Running) -> None:
    def asked(before: object) -> requests.Response:
        wish = {"output": "gallery", "setting": "on"}
        return running.http("POST", "/api/v1/claims", headers={"Cairnwind-Before": str(before)}, json=wish)

    now = time.time_ns() // 1_000_000
    late = asked(now - 1500)
    assert (late.status_code, late.json()["code"]) == (412, "late")
    assert "s after its sender had given it up" in late.json()["detail"]
    assert asked("soon").json()["code"] == "bad-value"
    assert not running.site.output("gallery")["wanted"]["on"]
    assert asked(now + 60_000).status_code == 201
    assert running.http("GET", "/api/v1/outputs", headers={"Cairnwind-Before": "1"}).status_code == 200
    one, two = (data["at"] for _, _, data in read_events(running, 2, beats=True))
    assert now <= one < two, "who follows the stream is told what time it is here"


def test_why_at_a_moment_knows_what_outlived_a_restart(running: Running) -> None:
    def why(before: float = 0.0) -> str:
        at = datetime.fromtimestamp(time.time() - before, UTC).isoformat()
        sentence: str = running.http("GET", "/api/v1/outputs/gallery/why", params={"at": at}).json()[
            "sentence"
        ]
        return sentence

    running.site.turn("gallery", 40)
    running.site.turn("vent", "on", lasting="100 ms")
    assert "a person at the client (first key) wanted it 40 %" in why(), "to the millisecond"
    running.end()
    down = time.time()
    time.sleep(0.2)
    running.begin()
    assert "a person at the client (first key) wanted it 40 %" in why()
    assert "the service was not running" in why(time.time() - down - 0.1)
    vent = running.http("GET", "/api/v1/outputs/vent/why", params={"at": datetime.now(UTC).isoformat()})
    assert "nobody claimed it" in vent.json()["sentence"]


def test_the_stream_begins_with_everything_and_resumes_where_it_broke(running: Running) -> None:
    ((first, kind, picture),) = read_events(running, 1)
    assert kind == "afresh"
    assert {output["name"] for output in picture["outputs"]} == {"vent", "kiln", "gallery", "yard"}
    for percent in (10, 20, 30):
        running.site.turn("gallery", percent)
    missed = read_events(running, 6, first)
    assert [data["confirmed"]["level"] for _, kind, data in missed if kind == "output"] == [10, 20, 30]
    numbers = [int(each.partition(".")[2]) for each, _, _ in missed]
    assert numbers == list(range(numbers[0], numbers[0] + 6))
    assert read_events(running, 1, missed[-2][0])[0][0] == missed[-1][0]
    for unknown in ("other.3", f"{first.partition('.')[0]}.999999", "nonsense"):
        assert read_events(running, 1, unknown)[0][1] == "afresh"
    running.again()
    assert read_events(running, 1, missed[-1][0])[0][1] == "afresh", "another start, other numbers"


def test_who_asks_for_one_thing_is_told_that_alone(running: Running) -> None:
    site, one = running.site, "/outputs/gallery/changes"
    eventually(lambda: site.input("door")["state"] == "open")
    ((first, kind, now),) = read_events(running, 1, path=one)
    assert (kind, now) == ("", site.output("gallery")), "as it reads"
    for percent in (10, 20, 30):
        site.turn("yard", "toggle")
        site.turn("gallery", percent)
    site.pretend("door", "closed")
    eventually(lambda: site.input("door")["state"] == "closed")
    missed = [data for _, _, data in read_events(running, 3, first, path=one)]
    assert [(data["name"], data["confirmed"]["level"]) for data in missed] == [
        ("gallery", level) for level in (10, 20, 30)
    ]
    assert read_events(running, 1, path="/inputs/door/changes")[0][2]["state"] == "closed"
    moved = [data for _, _, data in read_events(running, 2, first, path="/events/input")]
    assert [(data["name"], data["state"]) for data in moved] == [("door", "open"), ("door", "closed")], (
        "its edge, and then"
    )
    # once, and again: what came meanwhile comes next, as often as it was
    eventually(lambda: running.service.runtime.stream.count == 0)
    with ThreadPoolExecutor() as pool:
        waits = pool.submit(running.http, "GET", f"/api/v1{one}?next")
        eventually(lambda: running.service.runtime.stream.count == 1)
        assert not waits.done()
        site.turn("gallery", 40)
        told = [waits.result(10).json()]
    while told[-1]["confirmed"]["level"] != 40:
        told.append(running.http("GET", f"/api/v1{one}?next").json())
    site.turn("gallery", 50)
    site.turn("gallery", 60)
    while told[-1]["confirmed"]["level"] != 60:
        told.append(running.http("GET", f"/api/v1{one}?next").json())
    assert [each["wanted"]["level"] for each in told] == [40, 50, 60]
    assert running.http("HEAD", f"/api/v1{one}?next").status_code == 200, "and waits for nothing"
    for path in ("/outputs/nobody/changes", "/inputs/nobody/changes?next", "/events/everything"):
        assert running.http("GET", f"/api/v1{path}").status_code == 404


def test_a_reader_that_does_not_read_is_dropped_and_holds_nobody_up(running: Running) -> None:
    lazy = socket.create_connection(("127.0.0.1", running.service.port))
    lazy.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4096)
    lazy.sendall(
        f"GET /api/v1/events HTTP/1.1\r\nHost: 127.0.0.1\r\nAuthorization: Bearer {running.key}\r\n\r\n".encode()
    )
    stream = running.service.runtime.stream
    assert stream is not None
    eventually(lambda: stream.count == 1)
    shown = Shown("command", {"padding": "x" * 4000}, lambda form: form)
    for _ in range(1500):
        stream.tell([shown] * 4)
    assert running.site.turn("gallery", "50 %").ending == "confirmed"
    eventually(lambda: stream.count == 0, within=10)
    lazy.close()


def test_a_browser_signs_in_once_and_commands_only_from_its_own_page(running: Running) -> None:
    token = running.service.sign_in_link().partition("=")[2]
    session = requests.Session()
    signed = session.post(f"{running.url}/api/v1/session", json={"token": token})
    cookie = signed.headers["Set-Cookie"]
    assert "HttpOnly" in cookie
    assert "SameSite=Strict" in cookie
    problem(requests.post(f"{running.url}/api/v1/session", json={"token": token}), 401, "sign-in")
    assert session.get(f"{running.url}/api/v1/session").json() == {
        "key": "first key",
        "role": "keep",
        "surface": "console",
        "only": None,
    }
    claim = {"output": "vent", "setting": "on"}
    problem(session.post(running.url + CLAIMS, json=claim), 403, "origin")
    problem(
        session.post(running.url + CLAIMS, json=claim, headers={"Origin": "http://localhost:1"}),
        403,
        "origin",
    )
    assert (
        session.post(running.url + CLAIMS, json=claim, headers={"Origin": running.url}).json()["claim"][
            "source"
        ]
        == "console (first key)"
    )
    running.again()
    cookies = dict(session.cookies.items())
    assert requests.get(f"{running.url}/api/v1/session", cookies=cookies).status_code == 200, (
        "a session outlives a restart"
    )
    requests.delete(f"{running.url}/api/v1/session", cookies=cookies, headers={"Origin": running.url})
    problem(requests.get(f"{running.url}/api/v1/session", cookies=cookies), 401, "key")
    stored = (running.folder / "state" / "cairnwind.db").read_bytes() + (
        running.folder / "state" / "cairnwind.db-wal"
    ).read_bytes()
    assert next(iter(cookies.values())).encode() not in stored
    assert str(running.key).encode() not in stored


def test_an_off_overtakes_the_ons_that_wait_and_they_are_not_carried_out_behind_it(running: Running) -> None:
    """The engine is held up while an on and then an off arrive: the off goes first, and stays."""
    runtime = running.service.runtime
    gate, held = threading.Event(), threading.Event()
    original = runtime.publisher.publish

    def slow(changed: Any) -> Any:
        held.set()
        gate.wait(5)
        return original(changed)

    with ThreadPoolExecutor(4) as pool:
        runtime.publisher.publish = slow  # type: ignore[method-assign]
        pool.submit(running.site.turn, "gallery", "10 %")
        held.wait(5)
        on = pool.submit(running.site.turn, "vent", "on")
        eventually(lambda: len(runtime.lanes._second) == 1)
        off = pool.submit(running.http, "POST", CLAIMS, json={"output": "vent", "setting": "off"})
        eventually(lambda: len(runtime.lanes._first) == 1)
        runtime.publisher.publish = original  # type: ignore[method-assign]
        gate.set()
        assert off.result().json()["outcome"] == "driving"
        assert (on.result().ending, on.result().text, on.result().claim) == (
            "superseded",
            "a later 'off' overtook it",
            None,
        )
    assert running.link().level("vent") == FULL
    assert not any(level == 0 and line == 41 for _, line, level in running.link().seen), (
        "never on, not for a moment"
    )
