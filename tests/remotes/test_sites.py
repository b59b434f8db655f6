"""Sites that use what others have: two and three services at a real broker, each by its own rules."""

from __future__ import annotations

import json
import logging
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import paho.mqtt.client as mqtt
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from paho.mqtt.enums import CallbackAPIVersion

from cairnwind.boards import betweensites as between
from cairnwind.boards.betweensites import Age, NotTheirs, Sealed
from cairnwind.folder import put
from cairnwind.service import logs
from cairnwind.site import read_site
from cairnwind.site.beside import secrets
from tests.conftest import Running, eventually, faults
from tests.mosquitto import Mosquitto

BROKER = """
[remote.broker]
address = "mqtt://127.0.0.1:{port}"
user = "house"
secret = "broker-password"
"""
YARD = (
    """
site = "Yard House"
"""
    + BROKER
    + """
[remote.site.house]
site = "Kiln House"
key = "kiln house"
secret = "yard-words"

[board.b]
link = "simulated"
map = "header-34"

[board.slow]
link = "simulated"
lines = 4
answers_after = "200 ms"

[output.pump]
kind = "motor"
pin = "b:J2-9"
[output.lamp]
kind = "lamp"
pin = "b:J2-14"
frequency = "800 Hz"
[output.fan]
kind = "relay"
pin = "slow:line-1"
[output.cellar]
kind = "relay"
pin = "b:J2-11"
[output.heater]
kind = "heater"
pin = "b:J2-12"

[output.beacon]
kind = "lamp"
pin = "b:J2-7"

[input.tank]
kind = "contact"
pin = "b:J3-4"
words = ["empty", "full"]
[input.water]
kind = "analogue"
pin = "b:J3-10"

[[interlock]]
name = "dry pump"
needs = "tank is full"
outputs = ["pump"]
[[interlock]]
name = "a full tank is shown"
needs = "tank is full"
outputs = ["beacon"]
[[interlock]]
name = "heater's rest"
pace = { least_off = "5 s" }
outputs = ["heater"]
"""
)
HOUSE = (
    """
site = "Kiln House"
"""
    + BROKER
    + """
[board.yard]
link = "site"
site = "Yard House"
secret = "yard-words"
lease = "{lease}"
takes = ["pump", "lamp", "tank", "fan", "cellar", "water", "heater", "beacon"]

[output.yard-pump]
kind = "motor"
pin = "yard:pump"
[output.yard-lamp]
kind = "lamp"
pin = "yard:lamp"
[output.yard-fan]
kind = "relay"
pin = "yard:fan"
[output.yard-heater]
kind = "heater"
pin = "yard:heater"
[output.yard-beacon]
kind = "lamp"
pin = "yard:beacon"
[input.yard-tank]
kind = "contact"
pin = "yard:tank"
words = ["empty", "full"]
[input.yard-water]
kind = "analogue"
pin = "yard:water"
"""
)
CELLAR = """
[output.yard-cellar]
kind = "relay"
pin = "yard:cellar"
"""
WORDS = "a stone in the yard"


def site(folder: Path, text: str, words: str = WORDS) -> Running:
    """A service of this site, with its secrets."""
    state = folder / "state"
    state.mkdir(parents=True, mode=0o700)
    for name, word in (("broker-password", "secret word"), ("yard-words", words)):
        put(state / f"secret-{name}", word.encode())
    return Running(folder, text)


class Pair:
    """The yard, whose outputs these are, and the house, which uses them."""

    def __init__(self, folder: Path, lease: str = "3 s", yard: str = "", house: str = "") -> None:
        self.broker = Mosquitto(folder)
        port = str(self.broker.port)
        self.yard = site(folder / "yard", YARD.replace("{port}", port) + yard)
        self.key("kiln house", ["pump", "lamp", "fan", "heater", "beacon"])
        text = HOUSE.replace("{port}", port).replace("{lease}", lease)
        self.house = site(folder / "house", text + (house or CELLAR))
        self.up()

    def key(self, name: str, only: list[str]) -> None:
        made = self.yard.http("POST", "/api/v1/keys", json={"name": name, "role": "operate", "only": only})
        assert made.status_code == 201, made.text

    def up(self, up: bool = True) -> None:
        eventually(lambda: self.board()["up"] is up, within=12)

    def board(self) -> dict[str, Any]:
        (found,) = self.house.site.boards()
        return dict(found)

    def tank(self, full: bool) -> None:
        self.yard.link("b").set_input("tank", full)
        if self.board()["up"]:
            eventually(lambda: self.house.site.input("yard-tank")["active"] is full)

    def end(self) -> None:
        for each in (self.house, self.yard):
            if each.service.runtime.alive:
                each.end()
        self.broker.stop()


@pytest.fixture
def pair(tmp_path: Path) -> Iterator[Pair]:
    found = Pair(tmp_path)
    yield found
    found.end()


def shows(running: Running, name: str) -> str:
    """What an output is confirmed at."""
    confirmed = running.site.output(name)["confirmed"]
    return "unknown" if confirmed is None else str(confirmed["words"])


def runs(running: Running, name: str) -> bool | None:
    """Whether it is confirmed on; None: nobody knows."""
    confirmed = running.site.output(name)["confirmed"]
    return None if confirmed is None else bool(confirmed["on"])


def test_what_is_asked_here_is_decided_there(pair: Pair) -> None:
    house, yard = pair.house, pair.yard
    asked = house.cli("turn", "yard-lamp", "40 %")
    assert "confirmed: 40 %, read back by board yard" in asked.stdout
    assert shows(yard, "lamp") == "40 %"
    assert yard.site.output("lamp")["by"] == "the site (kiln house)"

    said = logging.getLogger("cairnwind.remotes")
    said.addHandler(logs.recent)
    yard.site.set_log("debug", said.name)
    house.site.turn("yard-lamp", "30 %")
    row = eventually(
        lambda: next((each for each in yard.site.journal("lamp") if "to 30 %" in each["text"]), None)
    )
    came = row["command"].partition(".")[0]
    # one id, from what came to its row
    eventually(lambda: any(line["line"].get("request") == came for line in yard.site.log()["lines"]))
    said.removeHandler(logs.recent)
    said.setLevel(logging.NOTSET)

    refused = house.cli("turn", "yard-pump", "on")
    assert "failed: refused at Yard House: 'dry pump' needs tank is full; tank is empty" in refused.stdout
    assert refused.returncode == 6
    pair.tank(True)
    time.sleep(0.5)
    assert shows(yard, "pump") == "off", "nothing begins by itself later because somebody once tried"
    assert shows(house, "yard-pump") == "off"
    assert "confirmed" in house.cli("turn", "yard-pump", "on").stdout
    pair.tank(False)
    eventually(lambda: (shows(yard, "pump"), shows(house, "yard-pump")) == ("off", "off"))
    pair.tank(True)
    time.sleep(0.5)
    assert shows(yard, "pump") == "off", "a motor needs a new command, there and here"

    assert "confirmed" in house.cli("turn", "yard-fan", "on").stdout, "a slow board is waited for there"
    forbidden = house.cli("turn", "yard-cellar", "on")
    assert "refused at Yard House: the key 'kiln house' may not command cellar" in forbidden.stdout
    assert shows(yard, "cellar") == "off"

    house.site.turn("yard-heater", "on")
    eventually(lambda: shows(yard, "heater") == "on")
    house.site.turn("yard-heater", "off")
    eventually(lambda: shows(yard, "heater") == "off")
    waits = house.site.turn("yard-heater", "on")
    assert waits.outcome == "driving"
    told = eventually(lambda: house.site.output("yard-heater")["reason"])
    assert "it waits at Yard House" in told, "only time stands in its way: it comes"
    assert shows(house, "yard-heater") == "off"


def test_people_there_lead_and_are_named_here(pair: Pair) -> None:
    house, yard = pair.house, pair.yard
    house.site.turn("yard-lamp", "40 %")
    eventually(lambda: shows(yard, "lamp") == "40 %")
    yard.site.turn("lamp", "off")
    found = eventually(lambda: (f := house.site.output("yard-lamp"))["state"] == "blocked" and f)
    assert "it waits at Yard House: a person at the" in found["reason"]
    assert found["confirmed"]["words"] == "off"
    yard.site.release("lamp")
    eventually(lambda: shows(house, "yard-lamp") == "40 %")
    house.site.turn("yard-lamp", "off")
    eventually(lambda: shows(yard, "lamp") == "off")
    yard.site.pretend("water", 1.25)
    eventually(
        lambda: house.site.input("yard-water")["value"] == yard.site.input("water")["value"] is not None
    )
    yard.link("slow").unplug()
    gone = eventually(lambda: (f := house.site.output("yard-fan"))["confirmed"] is None and f)
    assert "board slow" in gone["reason"], "what is not known there is not known here"
    yard.link("slow").plug()
    eventually(lambda: shows(house, "yard-fan") == "off", within=12)


def test_whoever_goes_nothing_stays_on_and_all_comes_back(pair: Pair) -> None:
    house, yard, broker = pair.house, pair.yard, pair.broker
    house.site.turn("yard-lamp", "40 %")
    eventually(lambda: shows(yard, "lamp") == "40 %")
    broker.stop()
    pair.up(False)
    eventually(lambda: shows(yard, "lamp") == "off")
    assert shows(house, "yard-lamp") == "unknown"
    assert house.site.input("yard-tank")["active"] is None
    broker.start()
    eventually(lambda: shows(house, "yard-lamp") == "40 %", within=12)
    assert shows(yard, "lamp") == "40 %"

    yard.end()
    assert "Yard House ended it" in eventually(lambda: pair.board()["reason"], within=12)
    yard.begin()
    eventually(lambda: shows(yard, "lamp") == "40 %", within=12)

    assert yard.cli("key", "revoke", "kiln house").returncode == 0
    eventually(lambda: shows(yard, "lamp") == "off")
    reason = eventually(
        lambda: (b := pair.board())["up"] is False and "no key" in b["reason"] and b["reason"], within=12
    )
    assert "refused at Yard House: there is no key 'kiln house'" in reason
    pair.key("kiln house", ["pump", "lamp", "fan"])
    eventually(lambda: shows(yard, "lamp") == "40 %", within=12)

    house.end()
    eventually(lambda: shows(yard, "lamp") == "off")
    (remote,) = (each for each in yard.http("GET", "/api/v1/remotes").json() if each["kind"] == "site")
    assert (remote["up"], "Kiln House" in remote["trouble"]) == (False, True)


def test_a_second_service_of_a_name_takes_nothing_away(pair: Pair, tmp_path: Path) -> None:
    pair.house.site.turn("yard-lamp", "40 %")
    eventually(lambda: shows(pair.yard, "lamp") == "40 %")
    other = site(tmp_path / "other", pair.house.site_file.read_text("utf-8"))
    told = eventually(
        lambda: (
            (b := other.site.boards()[0])["up"] is False and "uses it already" in b["reason"] and b["reason"]
        )
    )
    assert told.startswith("refused at Yard House: a service of that name uses it already")
    assert pair.board()["up"]
    assert shows(pair.yard, "lamp") == "40 %"
    pair.house.end()
    eventually(lambda: other.site.boards()[0]["up"], within=12)
    other.end()


def test_what_was_permitted_once_comes_back_when_it_is_again(pair: Pair) -> None:
    """What stands is not refused for good: neither by a rule over there that comes meanwhile, nor by a way that was cut in between."""
    house, yard = pair.house, pair.yard
    pair.tank(True)
    assert house.site.turn("yard-beacon", "on").outcome == "driving"
    eventually(lambda: shows(house, "yard-beacon") == "100 %")
    pair.tank(False)
    eventually(lambda: house.site.output("yard-beacon")["state"] == "blocked")
    assert "'a full tank is shown' needs tank is full" in house.site.output("yard-beacon")["reason"]
    assert (shows(house, "yard-beacon"), shows(yard, "beacon")) == ("off", "off")
    pair.tank(True)
    eventually(lambda: (shows(house, "yard-beacon"), shows(yard, "beacon")) == ("100 %", "on"))
    pair.broker.stop()
    pair.up(False)
    yard.link("b").set_input("tank", False)
    pair.broker.start()
    pair.up()
    eventually(lambda: house.site.output("yard-beacon")["state"] == "blocked", within=12)
    pair.tank(True)
    eventually(lambda: (shows(house, "yard-beacon"), shows(yard, "beacon")) == ("100 %", "on"))
    yard.site_file.write_text(
        yard.site_file.read_text("utf-8").replace("[output.fan]", "[output.blower]"), "utf-8"
    )
    assert yard.cli("reload").returncode == 0
    eventually(lambda: "no output" in house.site.output("yard-fan")["reason"])


@settings(max_examples=6)
@given(data=st.data())
def test_it_runs_only_where_both_sides_have_it_so(
    tmp_path_factory: pytest.TempPathFactory, data: st.DataObject
) -> None:
    pair = Pair(tmp_path_factory.mktemp("pair"), lease="1 s")
    house, yard = pair.house, pair.yard
    dry_and_on: list[str] = []

    def look(changed: list[tuple[str, str]], ended: list[Any]) -> None:
        state = yard.service.runtime.engine.state
        drive, tank = state.outputs["pump"].drive, state.inputs.contacts["tank"].active
        if drive.pending is None and drive.is_on and tank is not True:
            dry_and_on.append(f"{changed}")

    yard.service.desk.listen(look)
    broker_up, wanted = True, False
    try:
        for step in range(data.draw(st.integers(4, 9))):
            what = data.draw(
                st.sampled_from(["on", "off", "full", "empty", "broker", "house", "yard"]), f"step {step}"
            )
            if what in ("on", "off"):
                asked = {"output": "yard-pump", "setting": what, "wait": "1 s"}
                outcome = house.http("POST", "/api/v1/claims", json=asked).json().get("outcome")
                wanted = what == "on" and outcome == "driving"
            elif what in ("full", "empty"):
                yard.link("b").set_input("tank", what == "full")
            elif what == "broker":
                broker_up = not broker_up
                if broker_up:
                    pair.broker.start()
                else:
                    pair.broker.stop()
            elif what == "house":
                house.again()
            else:
                yard.again()
                yard.service.desk.listen(look)
            time.sleep(data.draw(st.sampled_from([0.0, 0.1, 1.2])))
            assert not dry_and_on
        if not broker_up:
            pair.broker.start()
        pair.up()
        eventually(lambda: runs(house, "yard-pump") is runs(yard, "pump") is not None, within=12)
        if shows(yard, "pump") != "off":
            assert wanted
            assert house.site.output("yard-pump")["wanted"]["on"]
        eventually(lambda: house.site.input("yard-tank")["active"] is yard.site.input("tank")["active"])
        house.end()
        eventually(lambda: shows(yard, "pump") == "off")
        assert not dry_and_on
    finally:
        pair.end()


REFLEXES = """
[[reflex]]
name = "{name}"
when = "{when}"
do = "{do}"
"""


def test_a_round_of_reflexes_over_two_sites_is_noticed(tmp_path: Path) -> None:
    """The yard's cellar follows its fan, and the house turns the fan round whenever the cellar has followed: for ever, if nobody sees it."""
    pair = Pair(
        tmp_path,
        yard=REFLEXES.format(name="follow", when="fan is on", do="turn cellar on for 10 min")
        + REFLEXES.format(name="unfollow", when="fan is off", do="turn cellar off for 10 min"),
        house='[input.cellar-lit]\nkind = "contact"\npin = "yard:cellar"\n'
        + REFLEXES.format(name="round", when="cellar-lit is open", do="turn yard-fan off for 10 min")
        + REFLEXES.format(name="and back", when="cellar-lit is closed", do="turn yard-fan on for 10 min"),
    )
    house, yard = pair.house, pair.yard
    yard.site.turn("cellar", "on")
    eventually(lambda: house.site.input("cellar-lit")["active"])
    yard.site.release("cellar")

    def suspended() -> dict[str, str]:
        found = {}
        for each in (house, yard):
            found |= {
                rule["reflex"]: rule["why"] for rule in each.http("GET", "/api/v1/site").json()["suspended"]
            }
        return found

    found = eventually(suspended, within=12)
    assert any(" at " in why for why in found.values()), found
    time.sleep(1.5)
    before = len(yard.site.journal(limit=500))
    time.sleep(1.5)
    assert len(yard.site.journal(limit=500)) == before, "it has come to rest"
    pair.end()


def test_who_does_not_know_the_secret_is_nobody(tmp_path: Path, pair: Pair) -> None:
    house, yard = pair.house, pair.yard
    asks, tells = between.topics("Yard House", "Kiln House")
    heard: list[tuple[str, bytes]] = []
    client = mqtt.Client(CallbackAPIVersion.VERSION2)
    client.username_pw_set("house", "secret word")
    client.on_message = lambda client, data, message: heard.append((message.topic, message.payload))
    client.connect("127.0.0.1", pair.broker.port)
    client.subscribe("cairnwind/yard-house/+/kiln-house", qos=1)
    client.loop_start()
    house.site.turn("yard-lamp", "on")
    eventually(lambda: shows(yard, "lamp") == "100 %")
    orders = eventually(lambda: [each for topic, each in list(heard) if topic == asks and b'"on"' in each])
    house.site.turn("yard-lamp", "off")
    eventually(lambda: shows(yard, "lamp") == "off")
    for payload in orders:
        client.publish(asks, payload, qos=1)  # said once more, by somebody who has listened
    body = orders[0].partition(b" ")[2]
    number = json.loads(body)
    for form in ({**number, "n": 10_000}, {**number, "n": 10_000, "bye": True}):
        stranger = Sealed("other words, just as long", asks, tells)
        client.publish(asks, stranger.write(form), qos=1)
    client.publish(
        tells,
        Sealed("other words, just as long", tells, asks).write(
            {"in": number["in"], "n": 9999, "after": 0, "gone": "x"}
        ),
    )
    for junk in (b"", b"x", b"x {}", orders[0] + b"x", b"\xff" * 50, b"y" * 300_000):
        client.publish(asks, junk, qos=1)
        client.publish(tells, junk, qos=1)
    time.sleep(1)
    client.loop_stop()
    assert shows(yard, "lamp") == "off"
    assert pair.board()["up"]
    assert house.cli("turn", "yard-lamp", "30 %").returncode == 0, "and it goes on as it did"
    frames = yard.http("GET", "/api/v1/remotes/house/traffic?after=0").json()["frames"]
    assert any("its seal is not made with the secret" in each["text"] for each in frames)
    assert all(WORDS not in json.dumps(each) for each in frames)


@given(st.lists(st.tuples(st.floats(0, 2), st.floats(0, 5)), min_size=1, max_size=40), st.floats(-1e6, 1e6))
def test_how_old_a_message_is_counts_from_the_quickest(ways: list[tuple[float, float]], apart: float) -> None:
    now = [1000.0]
    age = Age(lambda: now[0])
    least = None
    for pause, way in ways:
        sent = now[0] = now[0] + pause
        now[0] += way
        said = age.said((sent + apart) * 1000)
        least = way if least is None else min(least, way)
        assert said <= now[0] + 1e-6
        assert (
            sent + least - 1e-3 - 0.001 * (now[0] - 1000)
            <= said
            <= sent + least + 1e-3 + 0.001 * (now[0] - 1000)
        ), "never believed to be newer than it is, but for the way"


@given(st.binary(max_size=200))
def test_anything_that_is_not_sealed_is_not_theirs(noise: bytes) -> None:
    one, other = Sealed(WORDS, "a", "b"), Sealed(WORDS, "b", "a")
    assert other.read(one.write({"n": 1})) == {"n": 1}
    for wrong in (noise, one.write({"n": 1}) + noise[:1] + b"x", other.write({"n": 1})):
        with pytest.raises(NotTheirs):
            other.read(wrong)


def test_what_a_site_file_may_say(tmp_path: Path) -> None:
    good = HOUSE.replace("{port}", "1883").replace("{lease}", "3 s")
    assert not faults(tmp_path, good)
    assert secrets(read_site(tmp_path / "site.toml")) == ["broker-password", "yard-words"], (
        "a restore asks for both"
    )
    assert "Nothing of yard is called 'pond'" in faults(tmp_path, good.replace("yard:lamp", "yard:pond"))
    assert "out of range" in faults(tmp_path, good.replace('"3 s"', '"50 ms"'))
    assert "named twice" in faults(tmp_path, good.replace('"lamp", "tank"', '"lamp", "lamp"'))
    assert "[remote.broker]" in faults(tmp_path, good.replace(BROKER.replace("{port}", "1883"), ""))
    twice = good + '[board.again]\nlink = "site"\nsite = "Yard House"\nsecret = "yard-words"\ntakes = ["x"]\n'
    assert "Take all that is used of it by one board" in faults(tmp_path, twice)
    theirs = YARD.replace("{port}", "1883")
    assert not faults(tmp_path, theirs)
    assert "[remote.broker]" in faults(tmp_path, theirs.replace(BROKER.replace("{port}", "1883"), ""))
    again = '[remote.site.other]\nsite = "KILN house"\nkey = "k"\nsecret = "s"\n'
    assert "two remotes are for the site" in faults(tmp_path, theirs + again)
    many = good.replace("takes = [", f"takes = {json.dumps([f'x{number}' for number in range(2000)])[:-1]}, ")
    assert "Take at most 2000 of one site" in faults(tmp_path, many)
    assert "key" in faults(tmp_path, theirs.replace('key = "kiln house"\n', ""))
