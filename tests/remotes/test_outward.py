"""Ways out: web hooks and mail, stored until delivered; being found; and the voice assistant, from discovery to the pin."""

from __future__ import annotations

import email
import email.policy
import email.utils
import json
import re
import ssl
import threading
import time
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from typing import Any

import jsonschema
import pytest
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult

from cairnwind.client import Site
from cairnwind.demo.voice import Voice
from cairnwind.folder import Folder
from cairnwind.remotes.outward import sign
from cairnwind.service.serve import Service
from cairnwind.service.tls import own
from cairnwind.site import read_site
from tests.conftest import Running, eventually, free_port
from tests.remotes.peers import WIRED


class Ear(HTTPServer):
    """Somebody who is told by a web hook, and does not always listen."""

    def __init__(self, tls: tuple[Path, Path] | None = None) -> None:
        self.heard: list[tuple[dict[str, str], bytes]] = []
        self.status = 204
        self.dislikes: dict[str, int] = {}
        """By kind of event: what it is answered instead."""
        self.says: dict[str, str] = {}
        """Headers of its answers."""
        ear = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers["Content-Length"]))
                ear.heard.append(({name.lower(): value for name, value in self.headers.items()}, body))
                self.send_response(ear.dislikes.get(json.loads(body)["kind"], ear.status))
                for name, value in ear.says.items():
                    self.send_header(name, value)
                self.end_headers()

            def log_message(self, *args: Any) -> None:
                pass

        super().__init__(("127.0.0.1", free_port()), Handler)
        if tls is not None:
            context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
            context.load_cert_chain(*tls)
            self.socket = context.wrap_socket(self.socket, server_side=True)
        threading.Thread(target=self.serve_forever, daemon=True).start()

    def events(self) -> list[dict[str, Any]]:
        return [json.loads(body) for _, body in self.heard]


class Postbox:
    """A mail server that asks for a password."""

    def __init__(self) -> None:
        self.letters: list[Any] = []
        self.answer = "250 taken"
        self.port = free_port()

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
        if self.answer.startswith("2"):
            self.letters.append(envelope)
        return self.answer

    def open(self) -> None:
        def known(server: Any, session: Any, envelope: Any, mechanism: str, data: Any) -> AuthResult:
            return AuthResult(success=(data.login, data.password) == (b"house", b"mail word"), handled=False)

        self.controller = Controller(
            self, "127.0.0.1", self.port, authenticator=known, auth_require_tls=False
        )
        self.controller.start()


@pytest.fixture
def told(tmp_path: Path) -> Iterator[tuple[Running, Ear, Postbox]]:
    ear, box = Ear(), Postbox()
    (tmp_path / "state").mkdir()
    for name, word in (("hook-secret", "hook word"), ("mail-secret", "mail word")):
        (tmp_path / "state" / f"secret-{name}").write_text(word)
        (tmp_path / "state" / f"secret-{name}").chmod(0o600)
    remotes = f"""
[remote.hook.desk]
address = "http://127.0.0.1:{ear.server_port}/events"
secret = "hook-secret"
events = ["change", "alarm", "stop"]
outputs = ["vent"]

[remote.mail.anna]
server = "smtp://127.0.0.1:{box.port}"
user = "house"
secret = "mail-secret"
from = "kiln@house.example"
to = ["anna@house.example"]
events = ["alarm"]
severity = "warning"
"""
    running = Running(
        tmp_path,
        WIRED.replace('link = "modbus"\nport = "127.0.0.1:9"', 'link = "simulated"\nlines = 32') + remotes,
    )
    yield running, ear, box
    running.end()
    ear.shutdown()


def test_what_happens_is_told_at_least_once_in_its_order_whoever_was_away(
    told: tuple[Running, Ear, Postbox],
) -> None:
    running, ear, box = told
    running.site.turn("vent", "on")
    running.site.turn("gallery", "on")  # nobody asked to be told of that
    (first,) = eventually(ear.events)
    headers, body = ear.heard[0]
    assert (first["kind"], first["name"], headers["webhook-id"]) == ("change", "vent", str(first["id"]))
    assert headers["webhook-signature"] == sign(
        "hook word", headers["webhook-id"], headers["webhook-timestamp"], body
    )
    ear.status = 503  # it is in trouble now; the next two are kept for it
    running.site.turn("vent", "off")
    eventually(lambda: len(ear.heard) > 1)
    running.site.turn("vent", "on")
    running.site.pretend("warmth", "2.5 V")  # an alarm, while nobody takes mail either
    way = next(each for each in running.site.remotes() if each["name"] == "desk")
    assert eventually(
        lambda: next(each for each in running.site.remotes() if each["name"] == "desk")["trouble"]
    ), way
    eventually(
        lambda: (
            "the mail server cannot be reached: Connection refused"
            in next(each for each in running.site.remotes() if each["name"] == "anna")["trouble"]
        )
    )
    running.again()  # and the service is started anew meanwhile
    ear.status = 204
    box.open()
    eventually(lambda: [each["kind"] for each in ear.events() if each["kind"] == "alarm"], within=8)
    ids = [each["id"] for each in ear.events()]
    assert ids == sorted(ids), "in their order"
    texts = [
        each["text"]
        for each in {each["id"]: each for each in ear.events()}.values()
        if each["kind"] == "change"
    ]
    assert [re.sub(r" .*", "", text) for text in texts[:3]] == ["vent"] * 3
    (letter,) = eventually(lambda: box.letters, within=8)
    text = letter.content.decode()
    assert "Subject: Test bench: alarm 'too warm' (warning)" in text
    assert letter.rcpt_tos == ["anna@house.example"]
    running.site.stop("a test")
    assert eventually(lambda: [each for each in ear.events() if each["text"].startswith("all-stop")])
    everything = json.dumps(running.site.remotes()) + json.dumps(
        [running.site.remote_traffic(name) for name in ("desk", "anna")]
    )
    assert "hook word" not in everything
    assert "mail word" not in everything
    box.controller.stop()


def test_only_2xx_is_delivered_and_who_asks_for_a_pause_gets_it(
    told: tuple[Running, Ear, Postbox], monkeypatch: pytest.MonkeyPatch
) -> None:
    running, ear, _ = told
    for name in ("FIRST_PAUSE", "LONGEST_PAUSE"):
        monkeypatch.setattr(f"cairnwind.remotes.outward.{name}", 0.05)

    def way() -> dict[str, Any]:
        return next(each for each in running.site.remotes() if each["name"] == "desk")

    ear.status, ear.says = 302, {"Location": "https://elsewhere.example/"}
    running.site.turn("vent", "on")
    eventually(lambda: way()["facts"]["put_aside"])
    assert "it answered 302, which is another address" in way()["trouble"]
    ear.status, ear.says = 204, {}
    eventually(lambda: not way()["facts"]["put_aside"], within=8)
    ear.heard.clear()
    for as_date in (False, True):
        then = datetime.now(UTC) + timedelta(seconds=2)
        said = email.utils.format_datetime(then, usegmt=True) if as_date else "1"
        ear.status, ear.says = 503, {"Retry-After": said}
        running.site.turn("vent", "toggle")
        eventually(lambda: ear.heard)
        time.sleep(0.6)
        assert len(ear.heard) == 1, "at its own pauses it would have been told a dozen times"
        ear.status, ear.says = 204, {}
        eventually(lambda: len(ear.heard) == 2, within=8)
        eventually(lambda: not way()["trouble"])
        ear.heard.clear()


@pytest.mark.parametrize(
    "secret", ["whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw", "MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw"]
)
def test_a_signature_is_that_of_the_specifications_own_library(secret: str) -> None:
    """Made by it: with this secret of the specification, for this message."""
    made = sign(secret, "msg_p5jXN8AQM9LWM0D4loKWxJek", "1614265330", b'{"test": 2432232314}')
    assert made == "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE="


def test_inside_hosts_are_trusted_by_their_own_authority(tmp_path: Path) -> None:
    (tmp_path / "state").mkdir()
    inside = own(Folder(tmp_path), "A desk", (), "127.0.0.1")
    ear, box = Ear(inside), Postbox()
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(*inside)
    box.controller = Controller(box, "127.0.0.1", box.port, tls_context=context)
    box.controller.start()
    remotes = f"""
[remote.hook.desk]
address = "https://127.0.0.1:{ear.server_port}/"
events = ["stop"]
authority = "{inside[0].name}"
[remote.hook.stranger]
address = "https://127.0.0.1:{ear.server_port}/"
events = ["stop"]
[remote.mail.anna]
server = "smtp+starttls://127.0.0.1:{box.port}"
from = "Kiln hoüse, yard <kiln@house.example>"
to = ["Anna <anna@house.example>", "ben@house.example"]
events = ["stop"]
authority = "{inside[0]}"
"""
    running = Running(
        tmp_path,
        WIRED.replace('link = "modbus"\nport = "127.0.0.1:9"', 'link = "simulated"\nlines = 32') + remotes,
    )

    def trouble(name: str) -> str:
        return str(next(each for each in running.site.remotes() if each["name"] == name)["trouble"])

    try:
        running.site.stop("a drill")
        eventually(lambda: [each for each in ear.events() if each["kind"] == "stop"], within=8)
        (letter,) = eventually(lambda: box.letters, within=8)
        assert letter.rcpt_tos == ["anna@house.example", "ben@house.example"]
        assert letter.mail_from == "kiln@house.example"
        read = email.message_from_bytes(letter.content, policy=email.policy.default)
        assert str(read["From"].addresses[0].display_name) == "Kiln hoüse, yard"
        assert read["Message-ID"].endswith("@house.example>")
        eventually(lambda: "not one that this machine trusts" in trouble("stranger"), within=8)
    finally:
        running.end()
        ear.shutdown()
        box.controller.stop()


def test_what_is_refused_holds_up_no_alarm_and_is_told_later(
    told: tuple[Running, Ear, Postbox], monkeypatch: pytest.MonkeyPatch
) -> None:
    running, ear, box = told
    for name in ("FIRST_PAUSE", "LONGEST_PAUSE"):
        monkeypatch.setattr(f"cairnwind.remotes.outward.{name}", 0.1)

    def way(name: str = "desk") -> dict[str, Any]:
        return next(each for each in running.site.remotes() if each["name"] == name)

    box.answer = "554 mail word"
    box.open()
    running.site.pretend("warmth", "2.5 V")
    eventually(lambda: way("anna")["facts"]["put_aside"])
    assert "refused (the mail server answered 554)" in way("anna")["trouble"], "and no word of what it said"
    box.answer = "250 taken"
    eventually(lambda: box.letters)
    eventually(lambda: not way("anna")["facts"]["put_aside"])
    box.controller.stop()
    ear.dislikes = {"change": 422}
    running.site.turn("vent", "on")
    running.site.turn("vent", "off")
    running.site.stop("a fire drill")
    eventually(lambda: [each for each in ear.events() if each["kind"] == "stop"])
    refused = sorted({each["id"] for each in ear.events() if each["kind"] == "change"})
    assert sorted(way()["facts"]["put_aside"]) == refused
    assert len(refused) == 2
    assert (way()["up"], "events from" in way()["trouble"], "422" in way()["trouble"]) == (True, True, True)
    running.again()  # they are still known after a start, which may have added one
    assert set(way()["facts"]["put_aside"]) >= set(refused)
    ear.dislikes, already = {}, len(ear.heard)
    eventually(lambda: not way()["facts"]["put_aside"], within=8)
    assert sorted(each["id"] for each in ear.events()[already:] if each["id"] in refused) == refused
    assert way()["trouble"] == ""
    running.again()
    assert way()["facts"]["put_aside"] == [], "and they are told once"


# --- being found --------------------------------------------------------------------------------------------------


@pytest.fixture
def found(tmp_path: Path) -> Iterator[Running]:
    """A service that is announced on this host."""
    running = Running.__new__(Running)
    running.folder, running.site_file = tmp_path, tmp_path / "site.toml"
    running.site_file.write_text(
        WIRED.replace('link = "modbus"\nport = "127.0.0.1:9"', 'link = "simulated"\nlines = 32').replace(
            "Test bench", f"Studio {free_port()}"
        ),
        "utf-8",
    )
    running.service = Service(read_site(running.site_file), Folder(tmp_path / "state"), 0)
    running.service.discoverable = True
    running.service.start()
    running.site, running.key, running.url = (
        Site(state=tmp_path / "state"),
        Folder(tmp_path / "state").key(),
        running.service.url,
    )
    yield running
    running.end()


def test_a_voice_assistant_finds_the_house_reads_it_and_is_answered(found: Running) -> None:
    eventually(lambda: next(each for each in found.site.remotes() if each["name"] == "discovery")["up"])
    voice = Voice(found.site.new_key("assistant", "operate", only=["gallery", "yard", "vent", "kiln"]))
    assert voice.find(found.service.site.name, port=found.service.port), (
        "by DNS-SD on this host's own network"
    )
    assert voice.address == found.url
    assert "Turn gallery" in voice.read()
    for said, answer in (
        ("Hey, please switch the gallery on!", "All right: turn gallery on."),
        ("dim the gallery down to a half, please", "All right: turn gallery to 50 %."),
        ("could you turn the yard lamp on?", None), ("all lamps off", "All right: turn all lamps off."), ("lights out", "All right: turn all lamps off."),
        ("turn the kiln on", "No, not kiln: 'no fire without draught' needs vent is on"), ("is the vent on", "No: "), ("turn vent on", "All right: turn vent on."),
        ("Is the vent on?", "Yes."), ("turn it on", "I did not understand"), ("turn the shed on", "No: The key 'assistant' may not command shed"),
        ("turn vent on in 10 min", "I will: after 10 min turn vent on."), ("", "I heard nothing."), ("stop everything", "All right: all-stop."),
    ):  # fmt: skip
        heard = voice.hear(said)
        assert answer is None or heard.startswith(answer), (said, heard)
    found.site.reset_stop()
    source = found.site.journal(kind="command", subject="gallery")[0]["source"]
    assert source == "voice (assistant)"
    found.service.stop()
    assert voice.hear("lights out") == "The house does not answer."
    found.service = Service(read_site(found.site_file), Folder(found.folder / "state"), 0)
    found.service.start()


def test_what_may_be_meant_twice_is_asked_back(found: Running) -> None:
    voice = Voice(str(found.key), found.url)
    voice.read()
    asked = voice.hear("turn the hoist on")
    assert "did not understand" in asked or "Which" in asked
    text = found.site_file.read_text("utf-8")
    for name, line in (("hoist-up", 12), ("hoist-down", 13)):
        text += f'\n[output.{name}]\nkind = "relay"\npin = "near:line-{line}"\n'
    found.end()
    found.site_file.write_text(text, "utf-8")
    found.service = Service(read_site(found.site_file), Folder(found.folder / "state"), 0)
    found.service.start()
    found.site = Site(state=found.folder / "state")
    voice = Voice(str(found.key), found.service.url)
    voice.read()
    assert voice.hear("turn the hoist on").startswith("Which do you mean: ")
    assert not found.site.output("hoist-up")["wanted"]["on"]
    assert voice.hear("hoist up") == "All right: turn hoist-up on."


def test_the_thing_description_is_valid_and_tells_only_what_the_key_may(found: Running) -> None:
    # the standard's own schema, as the W3C publishes it (W3C Software and Document License)
    schema = json.loads((Path(__file__).parent / "td-1.1.json").read_text("utf-8"))
    validator = jsonschema.Draft7Validator(schema)
    limited = found.site.new_key("tablet", "operate", only=["lamps"])
    looker = found.site.new_key("looker", "watch")
    for key, outputs, acts in (
        (found.key, {"kiln", "gallery"}, True),
        (limited, {"gallery", "yard"}, True),
        (looker, {"kiln"}, False),
    ):
        thing = found.http("GET", "/.well-known/wot", key=str(key)).json()
        assert [error.message for error in validator.iter_errors(thing)] == []
        assert outputs <= thing["properties"].keys()
        assert ("turn-gallery" in thing["actions"]) == acts
    assert "kiln" not in found.http("GET", "/.well-known/wot", key=limited).json()["properties"]
    assert found.http("GET", "/.well-known/wot", key=None).status_code == 401
    for name, form in thing["properties"].items():
        answer = found.http("GET", form["forms"][0]["href"])
        assert answer.status_code == 200, name


def test_phrases_understand_what_people_say_aloud_and_questions_do_nothing(found: Running) -> None:
    say = lambda phrase, **more: found.http("POST", "/api/v1/phrases", json={"phrase": phrase, **more})  # noqa: E731
    assert say("Hey, switch the gallery on please!").json()["say"] == "All right: turn gallery on."
    assert {each["on"] for each in [found.site.output(name)["wanted"] for name in ("gallery",)]} == {True}
    done = say("all lights off")
    assert (done.status_code, done.json()["say"]) == (201, "All right: turn all lamps off.")
    assert not found.site.output("gallery")["wanted"]["on"]
    seen = say("lights out", dry=True).json()
    assert (seen["phrase"], seen["steps"][0]["text"]) == ("turn all lamps off", seen["steps"][0]["text"])
    found.site.turn("vent", "on")
    before = found.site.journal(limit=1, kind="command")[0]["sequence"]
    for asked, answer in (
        ("Is the vent on?", "Yes."), ("are the gallery on", "No: "), ("vent is on?", "Yes."), ("could you turn the vent off?", "I did not understand"),
        ("stop everything?", "I did not understand"),
    ):  # fmt: skip
        told = say(asked)
        assert told.json()["say"].startswith(answer), (asked, told.json())
        assert told.status_code == (400 if "understand" in answer else 200)
    assert found.site.journal(limit=1, kind="command")[0]["sequence"] == before, (
        "a question does nothing, whatever it speaks of"
    )
    assert found.site.output("vent")["wanted"]["on"]
    # what is nothing that anybody says stays what was said, in the error too
    assert "'purple' is no verb" in say("purple elephant vent").json()["detail"]
    assert found.cli("do", "please switch the vent off").returncode == 0
    assert not found.site.output("vent")["wanted"]["on"]
