"""Boards behind a real message broker on loopback, with password file; the board is our small simulated one."""

from __future__ import annotations

import signal
import subprocess
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from cairnwind.boards.facts import Broker
from cairnwind.boards.links.broker import BrokerLink, Network
from cairnwind.client import Site
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.hardware import Board, Pin
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.values.settings import OFF, ON, Level
from cairnwind.demo.network import NetworkBoard
from cairnwind.service.first import clock
from tests.conftest import CAIRNWIND, cairnwind, eventually, free_port, of_kind, spawn
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
        assert "saltmarsh-garden/1/set 100" in str(Site(state=state).traffic("garden"))
        broker.kill()
        eventually(lambda: "unreachable" in cli("look", "pond-pump"), within=10)
        assert "confirmed" in cli("turn", "kiln-vent", "on"), "everything else goes on"
    finally:
        broker.kill()
        demo.send_signal(signal.SIGINT)
        demo.wait(10)
