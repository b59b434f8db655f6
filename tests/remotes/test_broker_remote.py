"""The broker as a remote, with a real Mosquitto: password file, access rules, TLS; killed and back."""

from __future__ import annotations

import json
import shutil
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from cairnwind.boards.mqtt import Connection
from cairnwind.client import Site
from tests.conftest import Process, Running, eventually
from tests.mosquitto import Mosquitto
from tests.remotes.peers import WIRED, Broker


class House:
    def __init__(self, folder: Path, *, tls: bool = False, more: str = "") -> None:
        self.mosquitto = Mosquitto(folder, rules=True, tls=tls)
        (folder / "state").mkdir()
        (folder / "state" / "secret-broker").write_text("secret word")
        (folder / "state" / "secret-broker").chmod(0o600)
        trust = f'authority = "{self.mosquitto.authority}"\n' if tls else ""
        scheme = "mqtts" if tls else "mqtt"
        remote = f'\n[remote.broker]\naddress = "{scheme}://127.0.0.1:{self.mosquitto.port}"\nuser = "house"\nsecret = "broker"\nkey = "phones"\n{trust}{more}'
        self.running = Running(
            folder,
            WIRED.replace('link = "modbus"\nport = "127.0.0.1:9"', 'link = "simulated"\nlines = 32') + remote,
        )
        self.running.site.new_key("phones", "operate")

    def up(self) -> bool:
        return bool(self.running.site.remotes()[0]["up"])

    def phone(self) -> Broker:
        """Somebody at the broker who has heard that the service is there, and so is heard by it."""
        phone = Broker(self.mosquitto.port)
        eventually(lambda: phone.kept.get("service") == "here", within=20)
        return phone

    def end(self) -> None:
        self.running.end()
        self.mosquitto.stop()


@pytest.fixture
def house(tmp_path: Path) -> Iterator[House]:
    found = House(tmp_path, more='at_most_every = "200 ms"\nreadings_every = "400 ms"\nreadings_band = 50\n')
    yield found
    found.end()


def test_state_is_kept_there_commands_are_answered_and_nothing_is_done_twice(house: House) -> None:
    site, phone = house.running.site, house.phone()
    assert eventually(lambda: phone.kept.get("out/gallery/now"))["words"] == "off"
    eventually(lambda: {"service", "in/door/now", "all-stop/now"} <= phone.kept.keys())
    phone.send("out/gallery/want", "40 %", CorrelationData=b"mark-1", ResponseTopic="back/me")
    answer = phone.wait("back/me")
    assert (answer["outcome"], answer["setting"], answer["sequence"] > 0) == ("driving", "40 %", True)
    assert phone.wait("back/me", lambda form: "ending" in form)["ending"] == "confirmed"
    eventually(lambda: phone.kept["out/gallery/now"].get("level") == 40)
    assert site.output("gallery")["claims"][0]["source"] == "broker (phones)"
    phone.send("out/gallery/want", "")
    assert (
        phone.wait("out/gallery/outcome", lambda form: form.get("reason", "").startswith("released"))[
            "outcome"
        ]
        == "driving"
    )
    # a toggle may come twice, so it needs an id; the same id is carried out once
    phone.send("out/vent/want", "toggle")
    assert "needs an id" in phone.wait("out/vent/outcome")["reason"]
    same = []
    for _ in range(3):
        phone.send("out/vent/want", '{"setting": "toggle", "id": 7}')
        same.append(
            phone.wait("out/vent/outcome", lambda form: form["id"] == 7 and "outcome" in form)["command"]
        )
    assert len(set(same)) == 1
    phone.send("out/gallery/want", '{"setting": "on", "id": 7}')
    phone.wait("out/gallery/outcome", lambda form: form["id"] == 7 and "outcome" in form)
    phone.send(
        "out/gallery/want", '{"setting": "off", "id": 7}'
    )  # who counts anew is not taken for a repetition
    phone.wait("out/gallery/outcome", lambda form: form["id"] == 7 and form.get("setting") == "off")
    eventually(lambda: not site.output("gallery")["wanted"]["on"])
    assert site.output("vent")["confirmed"]["on"]
    assert (
        len([row for row in site.journal(kind="command", subject="vent") if "refused" not in row["text"]])
        == 1
    )
    phone.send("phrase", "toggle vent")
    assert "needs an id" in phone.wait("phrase/outcome")["reason"], "whichever way it is said"
    phone.send("phrase", '{"phrase": "toggle vent", "id": 8}')
    assert phone.wait("phrase/outcome", lambda form: form["id"] == 8)["outcome"] == "driving"
    # what was left there while nobody looked is not carried out
    phone.send("out/yard/want", "on", retain=True)
    assert "retained command is ignored" in phone.wait("out/yard/outcome")["reason"]
    phone.send("phrase", "turn the gallery to half for 10 min")
    assert phone.wait("phrase/outcome", lambda form: "outcome" in form)["outcome"] == "driving"
    phone.send("phrase", "turn nothing on")
    assert phone.wait("phrase/outcome", lambda form: form.get("outcome") == "refused")["remedy"]
    phone.send("out/gallery/want", '{"setting": "on", "forr": "1 s"}')
    assert (
        "'forr'" in phone.wait("out/gallery/outcome", lambda form: form.get("outcome") == "refused")["reason"]
    )
    phone.send("out/gallery/want", '{"setting": ')
    assert (
        "not valid JSON"
        in phone.wait("out/gallery/outcome", lambda form: form.get("outcome") == "refused")["reason"]
    )
    house.running.again()
    eventually(house.up)
    phone.wait("service", lambda form: form == "here")
    time.sleep(0.3)
    assert not site.output("yard")["wanted"]["on"]
    phone.end()


def test_a_flood_of_commands_is_answered_each_and_ends_nothing(
    house: House, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Each overtakes the one before; and what becomes of them is remembered of a few only."""
    phone = house.phone()
    monkeypatch.setattr("cairnwind.remotes.broker.REMEMBERED", 3)
    house.running.service.desk.pace = lambda *_, **__: None  # type: ignore[method-assign]
    for number in range(400):
        phone.send("out/gallery/want", json.dumps({"setting": number % 2 * 100, "id": number}))
    left, ends = set(range(400)), 0
    while left:
        form = phone.wait("out/gallery/outcome")
        left.discard(form["id"] if "outcome" in form else None)
        ends += "ending" in form
    phone.send("out/gallery/want", "30 %")
    eventually(lambda: phone.kept["out/gallery/now"].get("level") == 30)
    assert 0 < ends < 400
    phone.end()


def test_what_moves_is_told_at_most_so_often_and_alarms_stay_until_they_are_over(house: House) -> None:
    site, phone = house.running.site, house.phone()
    eventually(lambda: phone.kept.get("in/warmth/now"))
    before = time.monotonic()
    for volts in range(40):
        site.pretend("warmth", f"{1 + volts / 400:.4f} V")
        time.sleep(0.02)
    took = time.monotonic() - before
    said = []
    while not phone.came.empty():
        message, form = phone.came.get()
        if message.topic.endswith("in/warmth/now"):
            said.append(form["value"])
    assert 1 <= len(said) <= took / 0.4 + 2, "40 readings, told at their interval"
    site.pretend("warmth", "2.5 V")  # far beyond the dead band: at once
    assert phone.wait("in/warmth/now", lambda form: form["value"] > 200)
    alarm = phone.wait("alarm/too-warm", lambda form: form is not None)
    assert (alarm["severity"], alarm["still_so"]) == ("warning", True)
    site.acknowledge("too warm", "Anna")
    site.pretend("warmth", "0.2 V")
    phone.wait("alarm/too-warm", lambda form: form is None)
    phone.end()


def test_the_broker_is_killed_in_the_middle_and_everything_comes_back(house: House) -> None:
    site, phone = house.running.site, house.phone()
    phone.send("out/gallery/want", "on")
    phone.wait("out/gallery/outcome")
    house.mosquitto.stop()
    eventually(lambda: not house.up(), within=8)
    begin = time.monotonic()
    assert site.turn("yard", "on").ending == "confirmed", "a broker that is away costs nothing but itself"
    assert time.monotonic() - begin < 2
    assert "is away" in site.remotes()[0]["trouble"]
    site.pretend("warmth", "2.5 V")  # an alarm that nobody hears: over before the broker is back
    eventually(site.alarms)
    site.acknowledge("too warm", "Anna")
    site.pretend("warmth", "0.2 V")
    eventually(lambda: not site.alarms())
    house.running.service.stop()  # nor does a restart lose it
    phone.end()
    house.mosquitto.start()
    phone = Broker(house.mosquitto.port)
    house.running.begin()
    raised = phone.wait("event/alarm")
    rows = {row["sequence"]: row for row in site.journal(kind="alarm")}
    assert (raised["name"], rows[raised["id"]]["text"]) == ("too warm", raised["text"]), "late, but told"
    phone.wait("event/alarm", lambda form: form["data"].get("over"))
    eventually(house.up, within=20)
    assert eventually(lambda: phone.kept.get("out/yard/now"))["on"], (
        "told anew: it was off when the broker went"
    )
    phone.send("out/yard/want", "off")  # and its subscriptions are there again
    assert phone.wait("out/yard/outcome")["outcome"] == "driving"
    phone.end()
    guest = Broker(house.mosquitto.port, "guest", "guest word")
    guest.send("out/vent/want", "on")  # the broker's own rules forbid it that topic
    eventually(lambda: guest.kept.get("out/vent/now"))
    assert not site.output("vent")["wanted"]["on"]
    guest.end()
    house.running.service.stop()
    late = Broker(house.mosquitto.port, "guest", "guest word")
    late.end()
    house.running.begin()


def test_who_has_heard_that_it_is_here_is_heard(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    phone = house.phone()
    house.running.service.stop()
    eventually(lambda: phone.kept["service"] == "gone")
    follow = Connection.follow

    def slow(self: Connection, topics: str, take: Any, **more: Any) -> None:
        time.sleep(0.4)  # the broker answers while the service is not done with its subscriptions
        follow(self, topics, take, **more)

    monkeypatch.setattr(Connection, "follow", slow)
    begins = threading.Thread(target=house.running.begin)
    begins.start()
    eventually(lambda: phone.kept["service"] == "here")
    phone.send("phrase", "turn gallery on")
    assert phone.wait("phrase/outcome")["outcome"] == "driving"
    begins.join()
    phone.end()


def test_tls_with_an_authority_of_its_own_and_the_older_protocol(tmp_path: Path) -> None:
    house = House(tmp_path, tls=True, more='version = "3.1.1"\n')
    try:
        eventually(house.up)
        facts = house.running.site.remotes()[0]["facts"]
        assert (facts["tls"], facts["version"]) == (True, "3.1.1")
        import paho.mqtt.client as mqtt
        from paho.mqtt.enums import CallbackAPIVersion

        phone = mqtt.Client(CallbackAPIVersion.VERSION2)
        phone.username_pw_set("phone", "phone word")
        phone.tls_set(ca_certs=str(house.mosquitto.authority))
        said: list[dict[str, object]] = []
        phone.on_message = lambda client, data, message: said.append(json.loads(message.payload))
        phone.on_connect = lambda client, *_: client.subscribe("cairnwind/test-bench/out/vent/outcome", 1)
        phone.on_subscribe = lambda client, *_: client.publish(
            "cairnwind/test-bench/out/vent/want", '{"setting": "on", "id": "a"}', 1
        )
        phone.connect("127.0.0.1", house.mosquitto.port)
        phone.loop_start()
        assert eventually(lambda: said)[0]["outcome"] == "driving"
        phone.disconnect()
        phone.loop_stop()
        text = json.dumps(house.running.site.remote_traffic("broker")) + json.dumps(
            house.running.site.remotes()
        )
        assert "secret word" not in text
    finally:
        house.end()


def stopped(house: House) -> bool:
    return bool(house.running.site.facts()["all_stop"]["stopped"])


def test_an_all_stop_counts_however_it_comes_and_taking_it_away_is_none(house: House) -> None:
    site, phone = house.running.site, house.phone()
    ways: list[tuple[str, str, bool]] = [
        ("all-stop/want", "anything", False), ("all-stop/want", "{not JSON", False), ("all-stop/want", '{"want": "no"}', True),
        ("phrase", "stop everything now!", True), ("phrase", '{"phrase": "stop"}', True), ("do/stop", "", False), ("do/stop", "x", True),
        ("do/do", '{"phrase": "emergency stop"}', True),
    ]  # fmt: skip
    for topic, payload, retain in ways:
        phone.send(topic, payload, retain=retain)
        eventually(lambda: stopped(house))
        if retain:
            phone.send(topic, "", retain=True)  # taken away again
            time.sleep(0.1)
        site.reset_stop()
        time.sleep(0.1)
        assert not stopped(house), (topic, payload)
    for topic, payload in (
        ("all-stop/want", ""),
        ("all-stop/want", " "),
        ("phrase", "don't stop"),
        ("phrase", "is the gallery on?"),
    ):
        phone.send(topic, payload)
        phone.send(topic, payload, retain=True)
    phone.send(
        "all-stop/want", "reset", retain=True
    )  # a reset that is left there would come again at every start
    phone.send("phrase", "turn vent on")
    phone.wait("phrase/outcome", lambda form: form.get("outcome") == "driving")
    assert not stopped(house)
    phone.send("all-stop/want", "stop", retain=True)
    eventually(lambda: stopped(house))
    site.reset_stop()
    house.running.again()
    eventually(lambda: stopped(house), within=10)
    assert "retained there" in site.facts()["all_stop"]["reason"]
    phone.end()


def test_what_is_told_has_its_type_and_its_end_and_goes_to_nobody_elses_topic(house: House) -> None:
    phone = house.phone()
    state = eventually(lambda: phone.kept.get("out/gallery/now"))
    assert state
    for response in (
        "cairnwind/other-house/out/vent/want",
        "cairnwind",
        "yard/3/is",
        "yard/alive",
        "$SYS/x",
    ):
        phone.send("out/gallery/want", "40 %", ResponseTopic=response, CorrelationData=response.encode())
        phone.wait(
            "out/gallery/outcome",
            lambda form: form.get("ending") == "confirmed" or form.get("outcome") == "driving",
        )
    phone.send("out/gallery/want", "41 %", ResponseTopic="back/me", CorrelationData=b"me")
    phone.wait("back/me")
    told = []
    while not phone.came.empty():
        told.append(phone.came.get()[0])
    everything = [*told]
    assert not [
        message for message in everything if message.topic.startswith(("cairnwind/other-house", "yard/", "$"))
    ]
    phone.send("phrase", "turn gallery off")
    message = eventually(
        lambda: next(
            (found for found, form in iter_all(phone) if found.topic.endswith("phrase/outcome")), None
        )
    )
    assert message.properties.ContentType == "application/json"
    assert 0 < message.properties.MessageExpiryInterval <= 60
    phone.end()


def iter_all(phone: Broker) -> Iterator[tuple[Any, Any]]:
    while not phone.came.empty():
        yield phone.came.get()


def test_two_services_of_one_site_notice_each_other(
    house: House, tmp_path: Path, caplog: pytest.LogCaptureFixture
) -> None:
    eventually(house.up)
    assert house.running.site.remotes()[0]["trouble"] == ""
    folder = tmp_path / "twin"
    (folder / "state").mkdir(parents=True)
    shutil.copy(house.running.folder / "state" / "secret-broker", folder / "state" / "secret-broker")
    twin = Process(house.running.site_file, folder / "state")
    try:
        there = Site(state=folder / "state")
        there.new_key("phones", "operate")
        for each in (house.running.site, there):
            eventually(
                lambda each=each: "Another service of this site" in each.remotes()[0]["trouble"], within=10
            )
    finally:
        twin.kill()


def test_a_flood_holds_up_no_stop(house: House, monkeypatch: pytest.MonkeyPatch) -> None:
    """How long it takes is measured in the bench; here, that it is carried out while all the rest waits, and who was too much is told."""
    phone, site = house.phone(), house.running.site
    held = threading.Event()
    intake = house.running.service.remotes[0]._intake  # type: ignore[attr-defined]
    take, order = intake._take, []

    def slow(message: Any) -> None:
        order.append((message.topic.rpartition("test-bench/")[2], message.payload))
        held.wait(10)
        take(message)

    monkeypatch.setattr(intake, "_take", slow)
    for number in range(1200):
        phone.client.publish("cairnwind/test-bench/out/gallery/want", f"{number % 90 + 10} %", qos=1)
    refused = phone.wait("out/gallery/outcome", lambda form: form.get("outcome") == "refused")
    assert "too many messages" in refused["reason"]
    for topic, payload in (
        ("out/vent/want", "on"),
        ("out/gallery/want", "off"),
        ("out/yard/off", ""),
        ("all-stop/want", "stop"),
    ):
        phone.send(topic, payload)
    later = phone.wait("out/gallery/outcome", lambda form: "a later one" in form.get("reason", ""))
    assert later["outcome"] == "refused", (
        "what waited for the same output is overtaken, and does not come after the off"
    )
    eventually(lambda: intake._stopping and len(intake._urgent) == 2)
    held.set()
    eventually(lambda: stopped(house))
    assert order[1] == ("all-stop/want", b"stop")
    assert {topic for topic, _ in order[2:4]} == {"out/gallery/want", "out/yard/off"}
    eventually(lambda: not intake._others)
    assert not any(topic == "out/gallery/want" and payload != b"off" for topic, payload in order[1:])
    assert site.facts()
    phone.end()
