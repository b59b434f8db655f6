"""Three services and a pair of bridged brokers, each in a network of its own: parted, held up, killed, one broker replaced by the other.

The networks are namespaces of the kernel, joined by a bridge; whoever may not make them makes them as the root of a user namespace of its own. How
long a message takes is up to a relay in the way of one site: this kernel need not know how to delay packets.
"""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from cairnwind.folder import Folder, put
from tests.conftest import CAIRNWIND, ROOT, eventually, spawn

INSIDE = "CAIRNWIND_APART" in os.environ
"""This is the inner run, which may make networks."""
FLOAT = "10.77.0.100"
"""The address of whichever broker serves."""
WORDS = "a stone in the yard"

YARD = """
site = "Yard House"
[service]
listen = "127.0.0.1:8471"
[remote.broker]
address = "mqtt://{broker}:1883"
key = "phones"
{peers}
[board.b]
link = "simulated"
lines = 16
[output.pump]
kind = "motor"
pin = "b:line-0"
[output.lamp]
kind = "lamp"
pin = "b:line-1"
[input.tank]
kind = "contact"
pin = "b:line-2"
"""
PEER = """
[remote.site.{name}]
site = "{site}"
key = "{name}"
secret = "yard-words"
"""
TAKER = """
site = "{site}"
[service]
listen = "127.0.0.1:8471"
[remote.broker]
address = "mqtt://{broker}:1883"
[board.yard]
link = "site"
site = "Yard House"
secret = "yard-words"
lease = "2 s"
takes = ["{output}", "tank"]
[output.theirs]
kind = "{kind}"
pin = "yard:{output}"
rearm = "auto"
[input.tank]
kind = "contact"
pin = "yard:tank"
"""


def run(*command: object) -> None:
    subprocess.run([str(each) for each in command], check=True, capture_output=True, timeout=20)


class Net:
    """A network of its own, with one address on the common bridge."""

    def __init__(self, name: str, address: str) -> None:
        self.name, self.address = name, address
        self.holder = spawn("unshare", "-n", "sleep", "infinity")
        here = os.readlink("/proc/self/ns/net")
        eventually(lambda: os.readlink(f"/proc/{self.holder.pid}/ns/net") != here)
        run("ip", "link", "add", f"v{name}", "type", "veth", "peer", "name", "eth0", "netns", self.holder.pid)
        run("ip", "link", "set", f"v{name}", "master", "cwbridge", "up")
        self.inside("ip", "link", "set", "lo", "up")
        self.inside("ip", "link", "set", "eth0", "up")
        self.inside("ip", "address", "add", f"{address}/24", "dev", "eth0")

    def enter(self, *command: object) -> tuple[object, ...]:
        return ("nsenter", "-t", self.holder.pid, "-n", *command)

    def inside(self, *command: object) -> None:
        run(*self.enter(*command))

    def cable(self, plugged: bool) -> None:
        """Pull the cable, or put it back: nothing is said to anybody."""
        run("ip", "link", "set", f"v{self.name}", "up" if plugged else "down")

    def serve(self, address: str, mine: bool) -> None:
        """Take a floating address, or give it up."""
        self.inside("ip", "address", "add" if mine else "del", f"{address}/24", "dev", "eth0")
        if mine:  # everybody on the bridge is told whose it is now
            script = (
                "import socket,sys;s=socket.socket(socket.AF_PACKET,socket.SOCK_RAW);s.bind(('eth0',0x806));"
                "m=s.getsockname()[4];a=socket.inet_aton(sys.argv[1]);"
                "s.send(b'\\xff'*6+m+b'\\x08\\x06'+b'\\x00\\x01\\x08\\x00\\x06\\x04\\x00\\x01'+m+a+b'\\xff'*6+a)"
            )
            self.inside(sys.executable, "-c", script, address)

    def end(self) -> None:
        self.holder.kill()
        self.holder.wait()


class Broker:
    """A broker in a network of its own; ``other``: it is bridged to that address."""

    def __init__(self, net: Net, folder: Path, other: str = "") -> None:
        self.net, self.file = net, folder / f"{net.name}.conf"
        text = "listener 1883 0.0.0.0\nallow_anonymous true\nuser root\nset_tcp_nodelay true\n"
        if other:
            text += f"connection pair\naddress {other}:1883\ntopic cairnwind/# both 1\nrestart_timeout 1 2\nbridge_protocol_version mqttv50\n"
        self.file.write_text(text)
        self.start()

    def start(self) -> None:
        self.process = spawn(
            *self.net.enter("mosquitto", "-c", self.file),
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )

    def kill(self) -> None:
        self.process.kill()
        self.process.wait()


class Slow:
    """A relay in a network of its own through which one site reaches the broker: it holds everything up for a while."""

    def __init__(self, net: Net, to: str) -> None:
        self.delay = 0.0
        script = (
            "import socket,threading,time,sys,pathlib\n"
            "f=pathlib.Path(sys.argv[1])\n"
            "def way(a,b):\n"
            "  q=[]\n"
            "  def send():\n"
            "    while True:\n"
            "      if not q: time.sleep(.005); continue\n"
            "      t,d=q[0]; time.sleep(max(0,t-time.monotonic())); q.pop(0)\n"
            "      try:\n"
            "        b.sendall(d) if d else b.shutdown(1)\n"
            "      except OSError: pass\n"
            "      if not d: return\n"
            "  threading.Thread(target=send,daemon=True).start()\n"
            "  while True:\n"
            "    try: d=a.recv(65536)\n"
            "    except OSError: d=b''\n"
            "    q.append((time.monotonic()+float(f.read_text() or 0),d))\n"
            "    if not d: return\n"
            "s=socket.create_server(('0.0.0.0',1883))\n"
            "while True:\n"
            "  c,_=s.accept()\n"
            "  try: o=socket.create_connection((sys.argv[2],1883),3)\n"
            "  except OSError: c.close(); continue\n"
            "  for x,y in ((c,o),(o,c)): threading.Thread(target=way,args=(x,y),daemon=True).start()\n"
        )
        self.file = Path(f"/tmp/cairnwind-delay-{os.getpid()}-{net.name}")
        self.hold(0)
        self.process = spawn(*net.enter(sys.executable, "-c", script, self.file, to))

    def hold(self, seconds: float) -> None:
        aside = self.file.with_suffix(".new")
        aside.write_text(str(seconds))
        aside.replace(self.file)

    def end(self) -> None:
        self.process.kill()
        self.process.wait()
        self.file.unlink()


class House:
    """A service in a network of its own, asked by HTTP from within that."""

    def __init__(self, net: Net, folder: Path, text: str) -> None:
        self.net, self.state, self.file = net, folder / net.name / "state", folder / f"{net.name}.toml"
        self.state.mkdir(parents=True, mode=0o700)
        put(self.state / "secret-yard-words", WORDS.encode())
        self.file.write_text(text)
        self.start()

    def start(self) -> None:
        (self.state / "address").unlink(missing_ok=True)
        self.process = spawn(
            *self.net.enter(CAIRNWIND, "serve", self.file, "--state", self.state),
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        eventually(lambda: (self.state / "address").exists(), within=15)
        self.key = Folder(self.state).key()

    def kill(self) -> None:
        # what entered the namespace is replaced by the service: one process
        self.process.send_signal(signal.SIGKILL)
        self.process.wait()

    def ask(self, method: str, path: str, body: Any = None) -> Any:
        script = (
            "import json,sys,urllib.request as u\n"
            "r=u.Request('http://127.0.0.1:8471/api/v1'+sys.argv[2],method=sys.argv[1],data=(sys.argv[4].encode() if sys.argv[4]!='null' else None),"
            "headers={'Authorization':'Bearer '+sys.argv[3],'Content-Type':'application/json'})\n"
            "try: print(u.urlopen(r,timeout=30).read().decode())\n"
            "except u.HTTPError as e: print(e.read().decode())\n"
        )
        command = self.net.enter(sys.executable, "-c", script, method, path, self.key, json.dumps(body))
        found = subprocess.run(
            [str(each) for each in command], capture_output=True, text=True, check=True, timeout=60
        )
        return json.loads(found.stdout)

    def shows(self, output: str) -> str:
        confirmed = self.ask("GET", f"/outputs/{output}")["confirmed"]
        return "unknown" if confirmed is None else "on" if confirmed["on"] else "off"

    def turn(self, setting: str) -> str:
        return str(self.ask("POST", "/claims", {"output": "theirs", "setting": setting})["outcome"])


class Country:
    """All of it: the yard has a pump and a lamp, the kiln house uses the pump, the mill the lamp."""

    def __init__(self, folder: Path) -> None:
        run("ip", "link", "add", "cwbridge", "type", "bridge")
        run("ip", "link", "set", "cwbridge", "up")
        names = {"one": 11, "two": 12, "relay": 13, "yard": 21, "kiln": 22, "mill": 23}
        self.nets = {name: Net(name, f"10.77.0.{last}") for name, last in names.items()}
        self.one = Broker(self.nets["one"], folder)
        self.two = Broker(self.nets["two"], folder, "10.77.0.11")
        self.nets["one"].serve(FLOAT, True)
        self.slow = Slow(self.nets["relay"], FLOAT)
        peers = PEER.format(name="kiln", site="Kiln House") + PEER.format(name="mill", site="Mill")
        self.yard = House(self.nets["yard"], folder, YARD.format(broker=FLOAT, peers=peers))
        for name, only in (("kiln", ["pump"]), ("mill", ["lamp"])):
            self.yard.ask("POST", "/keys", {"name": name, "role": "operate", "only": only})
        self.kiln = House(
            self.nets["kiln"],
            folder,
            TAKER.format(site="Kiln House", broker="10.77.0.13", output="pump", kind="motor"),
        )
        self.mill = House(
            self.nets["mill"], folder, TAKER.format(site="Mill", broker=FLOAT, output="lamp", kind="lamp")
        )
        self.up(self.kiln)
        self.up(self.mill)

    def up(self, house: House, up: bool = True) -> None:
        eventually(lambda: house.ask("GET", "/boards")[0]["up"] is up, within=20)

    def end(self) -> None:
        for each in (self.yard, self.kiln, self.mill):
            each.process.kill()
            each.process.wait()
        for broker in (self.one, self.two):
            broker.kill()
        self.slow.end()
        for net in self.nets.values():
            net.end()
        run("ip", "link", "del", "cwbridge")


def _country(folder: Path) -> Iterator[Country]:
    found = Country(folder)
    try:
        yield found
    finally:
        found.end()


if INSIDE:

    @pytest.fixture(scope="module")
    def country(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Country]:
        yield from _country(tmp_path_factory.mktemp("country"))

    def both_on(country: Country) -> None:
        assert country.kiln.turn("on") == "driving"
        assert country.mill.turn("on") == "driving"
        eventually(
            lambda: (country.yard.shows("pump"), country.yard.shows("lamp")) == ("on", "on"), within=12
        )
        eventually(lambda: (country.kiln.shows("theirs"), country.mill.shows("theirs")) == ("on", "on"))

    def test_parted(country: Country) -> None:
        """One site's cable is pulled: what it wants ends, what the other wants goes on; put back, all is as it was wanted."""
        both_on(country)
        country.nets["mill"].cable(False)
        eventually(lambda: country.yard.shows("lamp") == "off", within=8)
        country.up(country.mill, False)
        assert country.mill.shows("theirs") == "unknown"
        assert country.yard.shows("pump") == "on", "nobody else is concerned"
        country.nets["mill"].cable(True)
        eventually(lambda: country.yard.shows("lamp") == "on", within=30)
        eventually(lambda: country.mill.shows("theirs") == "on")

    def test_the_owner_is_parted(country: Country) -> None:
        both_on(country)
        country.nets["yard"].cable(False)
        eventually(
            lambda: (country.yard.shows("lamp"), country.yard.shows("pump")) == ("off", "off"), within=8
        )
        country.up(country.kiln, False)
        refused = country.kiln.ask("POST", "/claims", {"output": "theirs", "setting": "on"})
        assert refused["outcome"] == "unreachable", "what cannot be done is not acknowledged"
        country.nets["yard"].cable(True)
        eventually(
            lambda: (country.yard.shows("lamp"), country.yard.shows("pump")) == ("on", "on"), within=30
        )

    def test_held_up(country: Country) -> None:
        """Everything to and from one site takes a third of a second, then three: slow is slow, and what is older than a lease is nothing."""
        both_on(country)
        country.slow.hold(0.3)
        time.sleep(3)
        assert country.kiln.ask("GET", "/boards")[0]["up"], "slow is not away"
        assert country.kiln.turn("off") == "driving"
        eventually(lambda: country.yard.shows("pump") == "off")
        assert country.kiln.turn("on") == "driving"
        eventually(lambda: country.yard.shows("pump") == "on")
        country.slow.hold(3)
        eventually(lambda: country.yard.shows("pump") == "off", within=10)
        for _ in range(8):
            assert country.yard.shows("pump") == "off", "what was said three seconds ago holds nothing on"
            time.sleep(0.5)
        country.slow.hold(0)
        eventually(lambda: country.yard.shows("pump") == "on", within=20)

    def test_killed(country: Country) -> None:
        """The holder is killed: it is off there within its lease; the owner is killed: both come back without help."""
        both_on(country)
        country.mill.kill()
        eventually(lambda: country.yard.shows("lamp") == "off", within=8)
        country.mill.start()
        eventually(lambda: country.mill.shows("theirs") == "on", within=20)
        country.yard.kill()
        country.up(country.mill, False)
        country.up(country.kiln, False)
        country.yard.start()
        eventually(
            lambda: (country.yard.shows("lamp"), country.yard.shows("pump")) == ("on", "on"), within=30
        )

    def test_the_broker_is_replaced(country: Country) -> None:
        """The broker that serves is killed, and the other of the pair takes its address; later it comes back as the other one."""
        both_on(country)
        country.one.kill()
        eventually(
            lambda: (country.yard.shows("lamp"), country.yard.shows("pump")) == ("off", "off"), within=8
        )
        country.nets["one"].serve(FLOAT, False)
        country.nets["two"].serve(FLOAT, True)
        eventually(
            lambda: (country.yard.shows("lamp"), country.yard.shows("pump")) == ("on", "on"), within=40
        )
        eventually(lambda: (country.kiln.shows("theirs"), country.mill.shows("theirs")) == ("on", "on"))
        country.one.start()
        time.sleep(3)
        assert (country.yard.shows("lamp"), country.yard.shows("pump")) == ("on", "on"), (
            "a bridge that comes back moves nothing"
        )
        assert country.kiln.turn("off") == "driving"
        eventually(lambda: country.yard.shows("pump") == "off")

else:

    def test_sites_apart() -> None:
        """All of this, where networks may be made: by root, or by the root of a user namespace."""
        may = (
            os.geteuid() == 0
            and subprocess.run(["unshare", "-n", "true"], capture_output=True).returncode == 0
        )
        own = ["unshare", "-n"] if may else ["unshare", "--user", "--map-root-user", "--net", "--mount"]
        quiet = ("-p", "no:cacheprovider", "-p", "no:xdist", "--timeout", "200", "--tb=short")
        command = [*own, sys.executable, "-m", "pytest", "-vv", *quiet, __file__]
        found = subprocess.run(
            command,
            env={**os.environ, "CAIRNWIND_APART": "1"},
            cwd=ROOT,
            capture_output=True,
            text=True,
            timeout=900,
        )
        assert found.returncode == 0, found.stdout[-6000:] + found.stderr[-2000:]
        assert "5 passed" in found.stdout
