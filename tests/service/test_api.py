"""The description of the API is true: every call, role and example in it, tried on a running service."""

from __future__ import annotations

import itertools
import json
import os
import shutil
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import jsonschema
import pytest
import requests
import schemathesis
from hypothesis import HealthCheck, settings
from schemathesis.checks import not_a_server_error
from schemathesis.specs.openapi import checks

from cairnwind.client import Site
from cairnwind.commands.paths import braces, filled
from cairnwind.core.values.errors import CallerError
from cairnwind.service import calls, desk
from cairnwind.service import keys as keys_module
from cairnwind.service.app import make_app
from cairnwind.service.door import Door
from cairnwind.service.keys import digest
from cairnwind.service.stream import BEAT
from cairnwind.service.wire import Wire
from tests.conftest import CAIRNWIND, ROOT, Process, Running, cairnwind, eventually, spawn, standing

STUDIO = """
site = "Test bench"
timezone = "Europe/London"

[board.shelf]
link = "simulated"
map = "header-34"

[output.gallery]
kind = "lamp"
pin = "shelf:J2-14"
frequency = "800 Hz"

[output.window]
kind = "lamp"
pin = "shelf:J2-15"
frequency = "800 Hz"

[output.bench-lamp]
kind = "relay"
pin = "shelf:J2-7"

[output.store]
kind = "lock"
pin = "shelf:J2-9"

[output.left]
kind = "motor"
pin = "shelf:J2-6"
frequency = "400 Hz"
reverse = { direction = "shelf:J2-11" }

[output.right]
kind = "motor"
pin = "shelf:J2-8"
frequency = "400 Hz"
reverse = { direction = "shelf:J2-16" }

[input.kiln-door]
kind = "contact"
pin = "shelf:J3-4"

[pad.trolley]
left = "left"
right = "right"

[scene.opening]
do = ["turn gallery to 70 %"]

[group.showroom]
outputs = ["gallery", "window"]

[guard.store]
opens = "1 s"
fails = "secure"
"""


@pytest.fixture(scope="module")
def studio(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    found = Running(tmp_path_factory.mktemp("studio"), STUDIO)
    yield found
    found.end()


def test_the_table_of_calls_is_that_of_the_application(studio: Running) -> None:
    desk = studio.service.desk
    app = make_app(desk, Door(desk), Wire(desk))
    there = {
        (method, rule.rule)
        for rule in app.url_map.iter_rules()
        for method in rule.methods or ()
        if method not in ("HEAD", "OPTIONS")
    }
    assert there == set(calls.ROLES)


def test_the_pages_that_are_made_from_the_code_are_as_it_is(tmp_path: Path) -> None:
    docs = tmp_path / "docs"
    docs.mkdir()
    for name in ("kinds.toml", "when-things-fail.md"):  # what they are made of, or into
        shutil.copy(ROOT / "docs" / name, docs)
    subprocess.run([sys.executable, ROOT / "tools" / "pages.py"], cwd=tmp_path, check=True)
    made = [each for each in docs.rglob("*") if each.is_file()]
    assert len(made) > 20, "pages, and a drawing for each kind"
    for each in made:
        there = ROOT / each.relative_to(tmp_path)
        assert each.read_text("utf-8") == there.read_text("utf-8"), "make it anew: python tools/pages.py"
    said = cairnwind("check", str(docs / "kinds.toml"))
    assert said.returncode == 0
    assert "things to look at" not in said.stderr, "what makers copy is good as it stands"


STREAMS = {braces(call.path) for call in calls.CALLS if call.streams}


def _path(call: calls.Call) -> str:
    """An address of a call, with names from its examples, or with ones that nobody has."""
    return filled(
        calls.full(call.path),
        lambda kind, name: "999999" if kind == "int" else call.examples.get(name, "nothing-of-the-kind"),
    )


def test_every_call_with_every_key(studio: Running) -> None:
    """From a foreign page, or by a name that is not ours: turned away. No key, or one that is revoked: 401. Less than the role: 403,
    and nothing happens. The role: whatever it is, it is neither.
    """
    site = studio.site
    keys = {role: site.new_key(f"a {role}", role) for role in ("watch", "operate", "keep")}
    gone = site.new_key("gone", "keep")
    site.revoke("gone")
    order = list(keys)
    tried = 0
    for call in calls.CALLS:
        if call.streams or call.path in ("/sign-in-links", "/session"):
            continue  # these have tests of their own
        path, body = _path(call), {"json": {}} if call.method != "GET" else {}
        abroad = studio.http(call.method, path, headers={"Host": "evil.example"}, **body)
        assert abroad.status_code == 421, path
        foreign = studio.http(call.method, path, headers={"Origin": "http://evil.example"}, **body)
        if path.startswith("/api/"):
            assert (foreign.status_code, foreign.json()["code"]) == (403, "origin"), path
        assert "Access-Control-Allow-Origin" not in foreign.headers
        if call.role == calls.ANYONE:
            assert studio.http(call.method, path, key=None).status_code in (200, 400, 404), path
            continue
        assert studio.http(call.method, path, key=None, **body).status_code == 401, path
        assert studio.http(call.method, path, key=gone, **body).status_code in (401, 429), path
        for role in order:
            answer = studio.http(call.method, path, key=keys[role], **body)
            if call.method == "GET" and answer.status_code in (
                200,
                403,
            ):  # what a header tells is for the same ones
                assert studio.http("HEAD", path, key=keys[role]).status_code == answer.status_code, path
            if order.index(role) < order.index(call.role):
                assert (answer.status_code, answer.json()["code"]) == (403, "role"), (call.method, path, role)
            else:
                assert answer.status_code not in (401, 403, 500), (call.method, path, role, answer.text)
            tried += 1
    assert tried > 250
    assert site.output("gallery")["confirmed"]["words"] == "off"
    for role in order:
        site.revoke(f"a {role}")
    site.reset_stop()


def test_every_example_is_true(studio: Running) -> None:
    """What is made by one is there for the next: first what makes, then what looks, then what ends."""
    described = studio.http("GET", "/api/v1/openapi.json").json()
    validator = {
        name: jsonschema.Draft202012Validator({**schema, "components": described["components"]})
        for name, schema in described["components"]["schemas"].items()
    }
    tried = 0
    every = [(path, *each) for path, methods in described["paths"].items() for each in methods.items()]
    for turn in (("post",), ("put",), ("patch", "get"), ("delete",)):
        for path, method, operation in every:
            if method not in turn:
                continue
            given = {
                each["name"]: each.get("example") for each in operation["parameters"] if each["in"] == "path"
            }
            schema = (
                operation.get("requestBody", {})
                .get("content", {})
                .get("application/json", {})
                .get("schema", {})
            )
            schemas = schema.get("oneOf", [schema])
            examples = [each for one in schemas for each in one.get("examples", [])] or [None]
            if (
                None in given.values()
                or (examples == [None] and given == {} and method != "get")
                or path in (*STREAMS, "/openapi.json")
            ):
                continue
            if (method, path) == ("delete", "/all-stop"):
                continue
            for example in examples:
                address = "/api/v1" + path
                for name, value in given.items():
                    address = address.replace("{" + name + "}", str(value))
                more = {"params": {"hertz": "1 kHz"}} if path.endswith("/fit") else {}
                answer = studio.http(
                    method.upper(), address, **({"json": example} if example is not None else {}), **more
                )
                want = next(code for code in operation["responses"] if code != "default")
                assert str(answer.status_code) == want, (method, address, example, answer.text)
                content = operation["responses"][want]["content"].get("application/json")
                if content:
                    found = content["schema"]
                    jsonschema.Draft202012Validator(
                        {**found, "components": described["components"]}
                    ).validate(answer.json())
                tried += 1
    assert tried > 55
    assert validator["Output"].is_valid(studio.site.output("gallery"))
    studio.site.reset_stop()


NASTY = (
    "1" + "0" * 5000, "-1e400", '"' + "9" * 5000 + '"', '"0001-01-01"', '"9999-12-31T23:59:59"', "{}", "[[[]]]", "null", '"\\u0000"', '"\\ud800"',
    '"' + "(" * 3000 + '"', '"' + "not " * 800 + 'x"', '"99999999999999999 h"', '{"level": 1e400}', '{"kind": "tune", "notes": [[1e308, 1]]}',
)  # fmt: skip
"""What somebody may send in place of anything, as it stands in JSON."""


def test_whatever_is_in_place_of_anything_is_no_fault_of_the_service(studio: Running) -> None:
    asks = requests.Session()
    asks.headers.update({"Authorization": f"Bearer {studio.key}", "Content-Type": "application/json"})
    tried = 0

    def ask(call: calls.Call, **more: Any) -> None:
        nonlocal tried
        tried += 1
        answer = asks.request(call.method, studio.url + _path(call), timeout=30, **more)
        assert answer.status_code < 500 or answer.status_code in (503, 507), (
            call.path,
            more,
            answer.text[:300],
        )

    for call in calls.CALLS:
        if call.streams or call.path in ("/sign-in-links", "/session", "/site-file/reload"):
            continue
        body: dict[str, Any] = call.body if isinstance(call.body, dict) else {}
        for name, bad in itertools.product(body.get("properties", {}), NASTY):
            others = {**dict.fromkeys(body.get("required", ()), "x"), **(body.get("examples") or [{}])[0]}
            others.pop(name, None)
            head = json.dumps(others)[:-1] + (", " if others else "")
            ask(call, data=f"{head}{json.dumps(name)}: {bad}}}".encode())
        for name, bad in itertools.product(call.query, NASTY):
            ask(call, params={name: bad.strip('"')})
    for whole in (
        "[" * 50_000,
        '{"a": ' * 50_000,
        "[]",
        "1",
        "nul",
        "\xff",
        '{"output": "gallery", "setting": ' + "[" * 50_000,
    ):
        ask(
            next(call for call in calls.CALLS if call.path == "/claims" and call.method == "POST"),
            data=whole.encode("latin-1"),
        )
    assert tried > 1500
    studio.site.reset_stop()


def test_whatever_is_sent_the_answer_is_as_described(
    studio: Running, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Schemathesis against the live service: no failure of the server, no status, type or form that is not described.

    Of its checks one is left out: that whatever has the described form is accepted. A phrase, a setting and a rule have to mean something.
    """
    monkeypatch.setattr(keys_module, "FREE", 10**9)  # it asks with wrong keys all the time
    studio.site.give_code("store", "anna", "246810")
    schema = schemathesis.openapi.from_url(
        f"{studio.url}/api/v1/openapi.json", headers={"Authorization": f"Bearer {studio.key}"}
    )
    schema.config.generation.update(with_security_parameters=False)
    left_out = {
        *STREAMS,
        "/sign-in-links",
        "/session",
        "/keys/{name}",
        "/plan/rehearsals",
    }  # these would sign us out, last for ever or too long
    tried: set[str] = set()
    failures: list[str] = []
    for result in schema.get_all_operations():
        operation = result.ok()
        if operation.path in left_out:
            continue

        @settings(
            max_examples=3,
            deadline=None,
            database=None,
            derandomize=True,
            suppress_health_check=list(HealthCheck),
        )
        def one(case: Any) -> None:
            case.call_and_validate(
                headers={"Authorization": f"Bearer {studio.key}"}, timeout=20,
                checks=[
                    not_a_server_error, checks.status_code_conformance, checks.content_type_conformance, checks.response_schema_conformance,
                    checks.response_headers_conformance, checks.negative_data_rejection, checks.allow_header_conformance, checks.unsupported_method, checks.missing_required_header, checks.ignored_auth, checks.use_after_free, checks.ensure_resource_availability,
                ],
            )  # fmt: skip

        for mode in (schemathesis.GenerationMode.POSITIVE, schemathesis.GenerationMode.NEGATIVE):
            try:
                strategy = operation.as_strategy(generation_mode=mode)
            except Exception as error:
                assert "negat" in str(error).lower(), error
                continue
            from hypothesis import given
            from hypothesis.errors import Unsatisfiable

            try:
                given(case=strategy)(one)()
            except Unsatisfiable:
                assert mode is schemathesis.GenerationMode.NEGATIVE, operation.label
            except (Exception, BaseExceptionGroup) as error:
                failures.append(
                    f"{operation.label} {mode}: {''.join(map(str, getattr(error, 'exceptions', [error])))}"
                )
        tried.add(operation.label)
    assert not failures, "\n\n".join(failures)
    assert len(tried) > 75
    assert studio.http("GET", "/healthz", key=None).status_code == 200


# --- keys -------------------------------------------------------------------------------------------------------


def test_a_key_is_limited_to_its_outputs_its_hours_and_its_end(running: Running) -> None:
    site = running.site
    tablet = Site(running.url, site.new_key("hall tablet", "operate", only=["gallery"]))
    assert tablet.turn("gallery", "on").outcome == "driving"
    for refused in (
        lambda: tablet.turn("kiln", "on"), lambda: tablet.do("turn gallery and vent on"), lambda: tablet.try_pin("near:J2-10", "output"),
        lambda: tablet.add_schedule(name="x", do="turn vent on", from_="08:00", for_="1 h"), lambda: tablet.lock("vent", "mine"), lambda: tablet.release("kiln"),
        lambda: tablet.turn_all({"gallery": "off", "vent": "off"}), lambda: tablet.run(["gallery", "vent"], {"kind": "blink"}),
    ):  # fmt: skip
        with pytest.raises(CallerError) as refusal:
            refused()
        assert (refusal.value.code, "'hall tablet' may not command" in refusal.value.sentence) == (
            "role",
            True,
        )
    assert site.output("gallery")["confirmed"]["on"], "permitted whole, or not at all"
    assert tablet.stop("smoke").outcome == "driving", "anybody who may operate anything may stop everything"
    assert tablet.who() == {"key": "hall tablet", "role": "operate", "surface": "client", "only": ["gallery"]}
    rows = site.journal(kind="command", subject="kiln")
    assert "refused: the key 'hall tablet' may not command kiln" in rows[0]["text"]
    assert site.keys()[1]["used_from"] == "127.0.0.1"
    lamps = Site(running.url, site.new_key("switches", "operate", only=["lamps"]))
    assert lamps.who()["only"] == [each["name"] for each in site.outputs() if each["kind"] == "lamp"]
    assert lamps.turn("gallery", "off").outcome == "driving"
    with pytest.raises(CallerError, match="'switches' may not command vent"):
        lamps.turn("vent", "on")
    site.new_key("brief", "operate", until="2020-01-01")
    shut = Site(
        running.url,
        site.new_key(
            "later",
            "watch",
            from_="00:00",
            to="00:01",
            days=["mo"] if time.localtime().tm_wday else ["tu"],
        ),
    )
    with pytest.raises(CallerError, match="is good from 00:00 to 00:01 on"):
        shut.outputs()
    for body, match in (({"name": "hall tablet", "role": "watch"}, "already"), ({"name": "x", "role": "god"}, "not a role"), ({"name": " ", "role": "watch"}, "not a name"),
                        ({"name": "x", "role": "watch", "only": ["galery"]}, "galery"), ({"name": "x", "role": "watch", "days": ["someday"]}, "no days")):  # fmt: skip
        answer = running.http("POST", "/api/v1/keys", json=body)
        assert (answer.status_code in (400, 404, 409), match in answer.json()["detail"]) == (True, True), (
            answer.text
        )


def test_a_key_ends_at_once_with_its_streams_and_the_last_keeper_stays(
    running: Running, monkeypatch: pytest.MonkeyPatch
) -> None:
    site = running.site
    other = Site(running.url, site.new_key("visitor", "watch"))
    changes = other.changes(again=False)
    assert next(changes).kind == "afresh"
    link = site.pair("Anna's phone", "operate")
    phone = requests.Session()
    assert (
        phone.post(
            f"{running.url}/api/v1/session", json={"token": link["link"].partition("=")[2]}
        ).status_code
        == 201
    )
    used = {"token": link["link"].partition("=")[2]}
    assert requests.post(f"{running.url}/api/v1/session", json=used).status_code == 401, "it works once"
    monkeypatch.setattr("cairnwind.service.keys.PAIR_MINUTES", 0)
    late = {"token": site.pair("Ben's phone", "operate")["link"].partition("=")[2]}
    assert requests.post(f"{running.url}/api/v1/session", json=late).status_code == 401, "its time is over"
    keys = running.http("GET", "/api/v1/keys").json()["keys"]
    assert "Ben's phone" not in {each["name"] for each in keys}
    stream = phone.get(f"{running.url}/api/v1/events", stream=True)
    assert len({len(row) for row in link["rows"]}) == 1
    (session,) = site.sessions()
    assert session["key"] == "Anna's phone"
    begin = time.monotonic()
    site.revoke("visitor")
    site.revoke("Anna's phone")
    with pytest.raises(CallerError, match=r"does not answer|No valid key"):
        list(changes)
        other.outputs()
    assert time.monotonic() - begin < BEAT / 2, "at once, and not at the next beat"
    assert b"".join(stream.iter_content(65536)).count(b"event: afresh") == 1, "and it has ended"
    assert phone.get(f"{running.url}/api/v1/session").status_code == 401
    assert site.sessions() == []
    with pytest.raises(CallerError, match="last key with the role keep"):
        site.revoke("first key")
    # one that is looked up in the same moment is not remembered beyond its end
    keys, reader = running.service.keys, running.service.runtime.reader
    for look in ("key", "key_named"):
        text, real = site.new_key(look, "watch"), getattr(reader, look)

        def slow(asked: str, look: str = look, real: Callable[[str], Any] = real) -> Any:
            found = real(asked)
            monkeypatch.setattr(reader, look, real)
            keys.revoke(look)
            return found

        monkeypatch.setattr(reader, look, slow)
        keys.by_key(text) if look == "key" else keys.named(look)
        assert (keys.by_key(text), keys.named(look)) == (None, None)


def test_a_way_back_in_for_who_has_the_folder(running: Running) -> None:
    site = running.site
    site.new_key("other keeper", "keep")
    site.revoke("first key")
    with pytest.raises(CallerError):
        site.outputs()
    running.again()
    assert running.site.who()["role"] == "keep", "the start makes the first key anew"


def test_guessing_is_slowed_and_keeps_nobody_out(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    standing(monkeypatch, keys_module)
    assert running.site.who()["key"] == "first key"
    answers = [running.http("GET", "/api/v1/site", key=f"guess {number}").status_code for number in range(8)]
    assert answers[:5] == [401] * 5
    assert answers[-1] == 429
    slow = running.http("GET", "/api/v1/site", key="guess again")
    assert (slow.status_code, int(slow.headers["Retry-After"]) >= 1) == (429, True)
    assert running.site.who()["key"] == "first key", "who was let in before is let in all the same"
    fresh, link = running.site.new_key("fresh", "watch"), running.site.pair("a phone", "watch")["link"]
    assert running.http("GET", "/api/v1/site", key=fresh).status_code == 200, (
        "and so is who has not been here yet"
    )
    tokens = [
        requests.post(f"{running.url}/api/v1/session", json={"token": f"t{number}"}).status_code
        for number in range(7)
    ]
    assert (tokens[0], tokens[-1]) == (401, 429)
    good = requests.post(f"{running.url}/api/v1/session", json={"token": link.partition("=")[2]})
    assert good.status_code in (200, 201), "bad links from the same address lock no good one out"


def test_too_many_commands_are_refused_and_moves_to_off_never(
    running: Running, monkeypatch: pytest.MonkeyPatch
) -> None:
    standing(monkeypatch, desk)
    hasty = Site(running.url, running.site.new_key("hasty", "operate"))

    def command(number: int) -> str:
        try:
            hasty.turn("gallery", number % 100 + 1)
        except CallerError as error:
            return error.code
        return ""

    with ThreadPoolExecutor(8) as pool:
        assert set(pool.map(command, range(400))) == {"", "rate"}
    assert hasty.turn("gallery", "off").outcome == "driving"
    assert hasty.stop().outcome == "driving"


def test_secrets_are_nowhere_but_where_they_belong(tmp_path: Path) -> None:
    """Not in the database, the log, the journal, an answer, on the wire that is shown, or in the list of processes."""
    (tmp_path / "site.toml").write_text(STUDIO, "utf-8")
    served = Process(tmp_path / "site.toml", tmp_path / "state")
    site = Site(state=served.state)
    text, link = site.new_key("secret bearer", "operate"), site.pair("a phone", "watch")["link"]
    phone = requests.Session()
    phone.post(f"{served.url}/api/v1/session", json={"token": link.partition("=")[2]}).raise_for_status()
    site.give_code("store", "anna", "864213579")
    assert site.open("store", "864213579").outcome == "driving"
    with pytest.raises(CallerError):
        Site(served.url, f"{text}x").outputs()
    holder = spawn(CAIRNWIND, "--address", served.url, "hold", "gallery", env={**os.environ, "CAIRNWIND_KEY": text}, stdout=subprocess.DEVNULL)  # fmt: skip
    eventually(lambda: site.output("gallery")["confirmed"]["on"], within=15)
    seen = [path.read_bytes() for path in Path("/proc").glob("[0-9]*/cmdline") if path.exists()]
    assert any(b"hold\0gallery" in each for each in seen)
    holder.terminate()
    holder.wait()

    def commands() -> set[str]:
        frames = site.remote_traffic("http")["frames"]
        return {" ".join(each["text"].split(": ")[1].split()[:2]) for each in frames if each["way"] == "got"}

    # a call is noted with its answer, which may still be on its way
    eventually(
        lambda: (
            {"POST /api/v1/claims", "POST /api/v1/keys", "PUT /api/v1/outputs/store/codes/anna"} <= commands()
        )
    )
    wire = site.remote_traffic("http")["frames"]
    told = [site.keys(), site.sessions(), site.journal(limit=1000), site.remotes(), wire]
    seen += [str(told).encode(), *(bytes.fromhex(frame["raw"]) for frame in wire)]
    served.process.terminate()
    seen += [out.encode() for out in served.process.communicate(timeout=15)]
    seen += [path.read_bytes() for path in served.state.iterdir() if path.is_file() and path.name != "key"]
    everything = b"\n".join(seen)
    secrets = [(served.state / "key").read_text().strip(), text, link.partition("=")[2], "864213579"]
    secrets += [cookie.value or "" for cookie in phone.cookies]
    assert len(secrets) == 5
    assert [secret for secret in secrets if secret.encode() in everything] == []
    assert digest(text).encode() in everything, "only its hash"


def test_a_page_may_load_nothing_from_elsewhere_and_be_framed_by_nobody(running: Running) -> None:
    page = running.http("GET", "/", key=None)
    assert "unsafe" not in page.headers["Content-Security-Policy"]
    assert {
        page.headers[name] for name in ("X-Frame-Options", "Referrer-Policy", "X-Content-Type-Options")
    } == {"DENY", "no-referrer", "nosniff"}


def test_pages_bulk_scenes_and_leases_kept_together(running: Running) -> None:
    first = running.http("GET", "/api/v1/outputs?limit=3")
    assert [each["name"] for each in first.json()] == ["vent", "kiln", "gallery"]
    rest = running.http("GET", first.headers["Link"].partition(">")[0][1:])
    assert ([each["name"] for each in rest.json()], "Link" in rest.headers) == (["yard"], False)
    done = running.site.turn_all({"gallery": 40, "vent": "on"}, lasting="10 min")
    assert [outcome.outcome for outcome in done] == ["driving", "driving"]
    with running.site.hold(["yard", "kiln"], lease="2 s") as held:
        time.sleep(2.5)
        assert held.lost is None
        assert all(running.site.output(name)["confirmed"]["on"] for name in ("yard", "kiln"))
    lone = running.http(
        "POST", "/api/v1/claims", json={"output": "yard", "setting": "on", "lease": "2 s"}
    ).json()["claim"]["id"]
    for _ in range(5):  # one that has ended does not end the others
        time.sleep(0.5)
        renewed = running.http("PATCH", "/api/v1/claims", json={"claims": [lone, 999_999]})
    assert (renewed.status_code, renewed.json()["ended"]) == (404, [999_999])
    assert running.site.output("yard")["confirmed"]["on"]
    with pytest.raises(CallerError, match="'only' is empty"):
        running.site.new_key("nobody", "operate", only=[])
    eventually(lambda: not any(running.site.output(name)["confirmed"]["on"] for name in ("yard", "kiln")))
