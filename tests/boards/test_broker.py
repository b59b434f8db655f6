"""Boards behind a real message broker on loopback, with password file; the board is our small simulated one."""

from __future__ import annotations

import json
import math
import shutil
import signal
import subprocess
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import paho.mqtt.client as mqtt
import pytest
from hypothesis import given
from hypothesis import strategies as st
from paho.mqtt.enums import CallbackAPIVersion

from cairnwind.boards import told
from cairnwind.boards.facts import Broker
from cairnwind.boards.links.broker import BrokerLink, Network
from cairnwind.boards.mqtt import Connection
from cairnwind.boards.serialboard import WITH_A_RADIO
from cairnwind.client import Site
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.values.settings import OFF, ON, Level
from cairnwind.demo.network import NetworkBoard
from cairnwind.folder import put
from cairnwind.service.startup import clock
from cairnwind.site import read_site
from cairnwind.site.checked import check_site
from tests.boards import emulated
from tests.conftest import CAIRNWIND, Running, cairnwind, eventually, faults, free_port, of_kind, spawn
from tests.mosquitto import Mosquitto, wait_for

FACTS = Network("yard/{line}/set", "100", "0", "{level}", "yard/{line}/is", "yard/alive")
OUTPUTS = [
    Output("lamp", "lamp", Pin("y", 1), active_low=True, levels=True),
    Output("pump", "relay", Pin("y", 2)),
]
GATE = Input("gate", "contact", Pin("y", 3))


@pytest.fixture
def broker(tmp_path: Path) -> Iterator[Mosquitto]:
    found = Mosquitto(tmp_path)
    yield found
    found.stop()


class Linked:
    def __init__(self, broker: Mosquitto, word: str = "secret word", facts: Network = FACTS) -> None:
        at = Broker("127.0.0.1", broker.port, user="house", secret="broker-password")
        self.link = BrokerLink(
            Board("y", "broker", None, 4, facts=facts), at, f"Test {id(self)}", lambda name: word
        )
        self.said: list[ev.Event] = []
        self.fresh = True
        self.link.open(OUTPUTS, [GATE], self.said.append, clock, lambda: self.fresh)
        self.link.ready(5)

    def of(self, kind: type) -> list[Any]:
        return of_kind(self.said, kind)


def board(broker: Mosquitto, **more: Any) -> NetworkBoard:
    return NetworkBoard("127.0.0.1", broker.port, "yard", user="house", password="secret word", **more)


def test_driven_confirmed_lost_and_regained(broker: Mosquitto) -> None:
    yard = board(broker)
    linked = Linked(broker)
    (up,) = linked.of(ev.LinkUp)
    assert dict(up.readings) == {"lamp": OFF, "pump": OFF}
    assert yard.levels[1] == "100", "active-low: off is high"
    linked.link.drive([ev.Drive("pump", 1, ON), ev.Drive("lamp", 1, ON)])
    eventually(lambda: len(linked.of(ev.Confirmed)) == 2)
    assert {event.setting for event in linked.of(ev.Confirmed)} == {ON}
    assert (yard.levels[1], yard.levels[2]) == ("0", "100")
    yard.set_input(3, "100")
    eventually(lambda: linked.of(ev.InputSeen) and linked.of(ev.InputSeen)[-1].active)
    yard.set_input(2, "0")  # somebody at the board switches it off
    eventually(lambda: linked.of(ev.Confirmed)[-1].setting == OFF)
    yard.lose()
    assert "said 'gone' on 'yard/alive'" in eventually(lambda: linked.of(ev.LinkLost), within=12)[0].reason
    yard.regain()
    eventually(lambda: len(linked.of(ev.LinkUp)) == 2, within=8)
    yard.deaf = True
    linked.link.drive([ev.Drive("pump", 2, ON)])
    assert "did not report line 2" in eventually(lambda: linked.of(ev.LinkLost)[1:], within=8)[0].reason
    assert not [event for event in linked.of(ev.Confirmed) if event.generation == 2]
    linked.link.close()
    yard.end()


def test_what_is_wired_otherwise_is_heard_and_nothing_else_moves(broker: Mosquitto) -> None:
    yard = board(broker)
    linked = Linked(broker)
    linked.link.drive([ev.Drive("pump", 1, ON)])
    eventually(lambda: yard.levels.get(2) == "100")
    yard.set_input(3, "100")
    told = len(yard.heard)
    pump = linked.link.outputs[2]
    lamp, gate = Output("lamp", "lamp", Pin("y", 0)), Input("gate", "contact", Pin("y", 1))
    linked.link.rewire([pump, lamp], [gate], ["lamp", "gate"])
    assert yard.levels[0] == "0"
    assert yard.heard[told:] == [(0, "0")]
    linked.link.tell()
    yard.set_input(1, "100")
    eventually(lambda: [event.active for event in linked.of(ev.InputSeen)][-1:] == [True])
    yard.set_input(3, "0")  # nobody's any more
    linked.link.rewire(OUTPUTS, [GATE], ["lamp", "gate"])
    linked.link.tell()
    eventually(lambda: linked.of(ev.InputSeen)[-1].active is False), "what was left at the broker is heard"
    assert not linked.of(ev.LinkLost)
    linked.link.close()
    yard.end()


def test_a_broker_that_is_away_costs_nothing_but_itself(broker: Mosquitto) -> None:
    wrong = Linked(broker, "wrong word")
    assert "not authorized" in wrong.of(ev.LinkLost)[0].reason
    assert "wrong word" not in str(wrong.said)
    wrong.link.close()
    linked = Linked(broker)
    assert "has not said on 'yard/alive'" in linked.of(ev.LinkLost)[0].reason, (
        "the broker is there, the board is not"
    )
    yard = board(broker)
    eventually(lambda: linked.of(ev.LinkUp), within=8)
    broker.stop()
    assert "broker at 127.0.0.1" in eventually(lambda: linked.of(ev.LinkLost)[1:], within=8)[0].reason
    broker.start()
    eventually(lambda: len(linked.of(ev.LinkUp)) == 2, within=15)
    linked.link.close()
    yard.end()


def test_a_board_without_reports_confirms_nothing_and_rests_when_the_service_goes(broker: Mosquitto) -> None:
    bare = Network("yard/{line}/set", "100", "0", "{level}", "", "")
    linked = Linked(broker, facts=bare)
    from cairnwind.boards.mqtt import slug

    yard = board(broker, service=f"cairnwind/{slug(f'Test {id(linked)}')}/service")
    assert yard.listens.wait(5)
    assert linked.of(ev.LinkUp)[0].readings == ()
    linked.link.drive([ev.Drive("pump", 1, ON), ev.Drive("lamp", 1, Level(700_000))])
    eventually(lambda: len(linked.of(ev.Confirmed)) == 2)
    assert {event.how for event in linked.of(ev.Confirmed)} == {"sent"}
    eventually(lambda: (yard.levels[2], yard.levels[1]) == ("100", "30"))
    linked.link.close()
    eventually(lambda: yard.levels[2] == "0")
    yard.end()


def test_the_demo_with_a_board_behind_a_broker(tmp_path: Path) -> None:
    """The whole service: from the command line through the broker to the board, and its gate back."""
    if not WITH_A_RADIO.exists():  # 'make wireless' has it there
        shutil.copy(emulated.build("wireless"), WITH_A_RADIO)
    port = free_port()
    file = tmp_path / "open.conf"
    file.write_text(f"listener {port} 127.0.0.1\nallow_anonymous true\nuser root\n")
    broker = spawn("mosquitto", "-c", file, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    wait_for(port)
    state = tmp_path / "state"
    demo = spawn(
        CAIRNWIND,
        "demo",
        "--state",
        state,
        "--port",
        "0",
        "--broker",
        f"mqtt://127.0.0.1:{port}",
        stdout=subprocess.DEVNULL,
    )
    eventually(lambda: (state / "address").exists(), within=20)

    def cli(*args: str) -> str:
        return cairnwind("--state", str(state), *args).stdout

    try:
        eventually(lambda: "off" in cli("look", "pond-pump"), within=15)
        assert cli("turn", "path-lights", "35%").startswith("path-lights: 35 % (confirmed")
        assert (
            cli("turn", "pond-pump", "on")
            == "pond-pump: 100 % (confirmed: 100 %, read back by board garden)\n"
        )
        cli("pretend", "garden-gate", "open")
        eventually(lambda: "open" in cli("look", "garden-gate"))
        eventually(lambda: "off" in cli("look", "pond-light"), within=15)
        assert "read back by board pond-house" in cli("turn", "pond-light", "20 %"), "one with a radio"
        cli("pretend", "pond-float", "low")
        eventually(lambda: "low" in cli("look", "pond-float"))
        assert "saltmarsh-garden/1/set 100" in str(Site(state=state).traffic("garden"))
        broker.kill()
        eventually(lambda: "unreachable" in cli("look", "pond-pump"), within=10)
        assert "confirmed" in cli("turn", "kiln-vent", "on"), "everything else goes on"
    finally:
        broker.kill()
        demo.send_signal(signal.SIGINT)
        demo.wait(10)


def test_what_is_no_level_is_not_believed_and_ends_nothing(broker: Mosquitto) -> None:
    """Whoever may publish there may publish anything."""
    there = board(broker)
    linked = Linked(broker)
    eventually(lambda: linked.of(ev.LinkUp))
    for said in ("nan", "inf", "-1", "1e999", "101", "9" * 400, "\x00", "{}"):
        there._client.publish("yard/3/is", said, qos=1)
        there._client.publish("yard/1/is", said, qos=1)
    there._client.publish("yard/3/is", "100", qos=1)
    eventually(lambda: any(seen.input == "gate" and seen.active for seen in linked.of(ev.InputSeen)))
    assert not linked.of(ev.LinkLost)
    linked.link.close()
    there.end()


@pytest.mark.parametrize(
    ("address", "more", "trust", "words"),
    [
        ("mqtt://[::1]:{port}", "listener {port} ::1\n", "", ""),
        ("ws://127.0.0.1:{port}/mqtt", "listener {port} 127.0.0.1\nprotocol websockets\n", "", ""),
        ("mqtts://127.0.0.1:{port}", "listener {port} 127.0.0.1\ncafile {authority}\ncertfile {authority}\nkeyfile {key}\nrequire_certificate true\n",
         'authority = "{authority}"\ncertificate = "{authority}"\ncertificate_key = "{key}"\n', ""),
        ("mqtts://127.0.0.1:{tls}", "", 'authority = "{authority}"\n', ""),
        ("mqtts://127.0.0.1:{tls}", "", "", "its certificate is not trusted (self-signed certificate"),
        ("mqtts://127.0.0.1:{plain}", "", "", "nobody listens there"),
        ("mqtt://no-such-broker.invalid", "", "", "its name is not known"),
    ],
)  # fmt: skip
def test_every_way_to_a_broker_and_what_is_said_where_there_is_none(
    tmp_path: Path, address: str, more: str, trust: str, words: str
) -> None:
    port, plain = free_port(), free_port()
    broker = Mosquitto(tmp_path, tls=True, extra=more.replace("{port}", str(port)))
    key = next(line.split()[1] for line in broker.file.read_text().split("\n") if line.startswith("keyfile"))
    trust = trust.format(authority=broker.authority, key=key)
    at = address.format(port=port, tls=broker.port, plain=plain)
    path = tmp_path / "site.toml"
    path.write_text(
        f'site = "Ways"\n[board.b]\nlink = "simulated"\nlines = 1\n[remote.broker]\naddress = "{at}"\nuser = "house"\nsecret = "x"\n{trust}'
    )
    facts = read_site(path).broker
    assert facts is not None
    connection = Connection.take(facts, "Ways", lambda name: "secret word")
    try:
        if words:
            eventually(lambda: words in connection.away().sentence)
        else:
            assert connection.up.wait(5), connection.away().sentence
    finally:
        connection.give()
        broker.stop()


def test_check_says_whose_word_an_interlock_hangs_on(tmp_path: Path) -> None:
    def site(alone: str) -> list[str]:
        path = tmp_path / "site.toml"
        path.write_text(f"""
site = "Yard"
[remote.broker]
address = "mqtt://127.0.0.1"
[board.far]
link = "broker"
lines = 4
command = {{ topic = "yard/{{line}}/set", on = "1", off = "0" }}
report = "yard/{{line}}/is"
{alone}
[board.near]
link = "simulated"
lines = 4
[input.gate]
kind = "contact"
pin = "far:line-1"
words = ["shut", "open"]
[output.saw]
kind = "relay"
pin = "near:line-0"
[[interlock]]
name = "no saw while it is open"
needs = "gate is shut"
outputs = ["saw"]
""")
        return [found.what for found in check_site(path)[1].findings]

    (warned,) = [what for what in site("") if "anybody speaks" in what]
    assert "hangs on gate" in warned
    assert "'yard/{line}/is'" in warned
    assert not [what for what in site("alone = true") if "anybody speaks" in what]


SENSORS = """
site = "Pond"
timezone = "UTC"
[remote.broker]
address = "mqtt://127.0.0.1:{port}"
user = "house"
secret = "broker-password"
readings_every = "100 ms"
again_every = "1 s"
[board.pond]
link = "broker"
readings = [
  {{ topic = "pond/water", path = "water.temperature", unit = "°C", age = "1 s" }},
  {{ topic = "pond/water", path = "cells.1", unit = "V" }},
  {{ topic = "pond/level" }},
  {{ topic = "pond/lid", active = "lifted" }},
]
[board.yard]
link = "broker"
lines = 4
command = {{ topic = "yard/{{line}}/set", on = "100", off = "0" }}
report = "yard/{{line}}/is"
[input.water]
kind = "analogue"
pin = "pond:line-0"
[input.cell]
kind = "analogue"
pin = "pond:line-1"
[input.level]
kind = "analogue"
pin = "pond:line-2"
unit = "mm"
scale = [[0, 0], [1000, 250]]
[input.lid]
kind = "contact"
pin = "pond:line-3"
[input.wind]
kind = "analogue"
pin = "yard:line-3"
unit = "m/s"
"""


def test_what_sensors_tell_on_topics_of_their_own(broker: Mosquitto, tmp_path: Path) -> None:
    peer = mqtt.Client(CallbackAPIVersion.VERSION2)
    peer.username_pw_set("house", "secret word")
    heard: list[tuple[str, dict[str, Any]]] = []
    peer.on_message = lambda client, data, message: heard.append((message.topic, json.loads(message.payload)))
    peer.connect("127.0.0.1", broker.port)
    peer.loop_start()
    peer.subscribe("cairnwind/pond/in/+/now", 1)
    peer.publish("pond/water", '{"water": {"temperature": 9}, "cells": [0, 3.1]}', 1, retain=True)
    peer.publish("pond/level", "1200.5 mm", 1, retain=True)
    (tmp_path / "state").mkdir(mode=0o700)
    put(tmp_path / "state" / "secret-broker-password", b"secret word")
    running = Running(tmp_path, SENSORS.format(port=broker.port))
    state = lambda name: running.site.input(name)["state"]  # noqa: E731
    eventually(lambda: (state("cell"), state("level")) == ("3.1 V", "300.1 mm"), within=10)
    assert state("water") == "unknown", "nobody knows how old it is"
    peer.publish("pond/water", '{"water": {"temperature": 11.25}, "cells": [0, 3.2]}')
    peer.publish("pond/lid", "lifted")
    peer.publish("yard/3/is", "-12.5")
    eventually(lambda: state("water") == "11.25 °C")
    eventually(lambda: (state("cell"), state("lid"), state("wind")) == ("3.2 V", "open", "-12.5 m/s"))
    eventually(lambda: state("water") == "unknown")
    assert (state("cell"), state("lid")) == ("3.2 V", "open"), "those of which no age is said stay"
    for bad in (
        "warm",
        "[]",
        '{"water": 3}',
        "{",
        "9" * 400,
        '{"water": {"temperature": NaN}}',
        "x" * 100_000,
    ):
        peer.publish("pond/water", bad)
        eventually(lambda: state("cell") == "unknown")
        peer.publish("pond/water", '{"water": {"temperature": "12"}, "cells": [0, 3]}')
        eventually(lambda: (state("water"), state("cell")) == ("12 °C", "3 V"))
    assert running.site.boards()[0]["up"], "what a sensor says is no lost board"
    cells = lambda: [form for topic, form in heard if topic.endswith("/in/cell/now")]  # noqa: E731
    before = len(cells())
    eventually(lambda: len(cells()) > before + 1), "an input that is steady is told again"
    assert cells()[-1]["value"] == cells()[-2]["value"] == 3
    assert cells()[-1]["at"] > cells()[-2]["at"]
    peer.loop_stop()
    running.end()


@given(
    st.one_of(
        st.none(),
        st.booleans(),
        st.integers(),
        st.floats(),
        st.text(max_size=30),
        st.lists(st.integers(), max_size=2),
    )
)
def test_what_a_sensor_says_is_a_number_or_none(said: object) -> None:
    try:
        found = told.number(told.within(json.dumps({"a": [said]}).encode(), ("a", "0")))
    except LookupError:
        assert not isinstance(said, int) or abs(said) > 1e15
    else:
        assert math.isfinite(found)
        if isinstance(said, int | float):
            assert found == said


@pytest.mark.parametrize(
    ("readings", "said"),
    [
        ("5", "this is no list of what is told"),
        ('[{ path = "a" }]', "a reading has no 'topic'"),
        ('[{ topic = "a/#" }]', "'a/#' has a wildcard"),
        ('[{ topic = "a", pth = "b" }]', "Did you mean 'path'?"),
        ('[{ topic = "a", age = "soon" }]', "'soon' is not a time"),
        ('[{ topic = "a" }]\n[output.x]\nkind = "relay"\npin = "pond:line-0"', "pond:line-0 is for analogue and contact alone"),
        ('[{ topic = "a" }]\n[input.x]\nkind = "analogue"\npin = "pond:line-1"', "Board pond has no line 1"),
    ],
)  # fmt: skip
def test_what_is_wrong_with_readings_is_said(tmp_path: Path, readings: str, said: str) -> None:
    text = f'site = "x"\n[remote.broker]\naddress = "mqtt://127.0.0.1:1"\n[board.pond]\nlink = "broker"\nreadings = {readings}\n'
    assert said in faults(tmp_path, text)
