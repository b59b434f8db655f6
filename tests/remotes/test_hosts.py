"""Host computers: Modbus TCP, a serial line with noise on it, control surfaces; each by a real peer."""

from __future__ import annotations

import contextlib
import json
import logging
import os
import random
import re
import socket
import struct
import subprocess
import sys
import time
from collections.abc import Iterable, Iterator
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pymodbus.client import ModbusTcpClient
from pythonosc.osc_message_builder import OscMessageBuilder

from cairnwind.remotes.line import HOLDS, LOOKS
from cairnwind.remotes.modbus import Places
from cairnwind.site.remotes import peer
from tests.conftest import eventually, spawn
from tests.remotes.peers import Surface, Ways

FAULTS: list[logging.LogRecord] = []
"""What remotes have logged as faults of their own."""


@pytest.fixture(scope="module")
def ways(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Ways]:
    handler = logging.Handler(logging.ERROR)
    handler.emit = FAULTS.append  # type: ignore[method-assign]
    logging.getLogger("cairnwind.remotes").addHandler(handler)
    found = Ways(tmp_path_factory.mktemp("hosts"))
    found.running.site.revoke("hands")
    found.running.site.new_key("hands", "operate")
    yield found
    logging.getLogger("cairnwind.remotes").removeHandler(handler)
    found.end()


# --- Modbus -----------------------------------------------------------------------------------------------------


def test_every_object_of_the_map_reads_what_it_says(ways: Ways) -> None:
    site, plc = ways.running.site, ways.plc
    assert not plc.write_registers(ways.coil["gallery"], [405]).isError()
    assert not plc.write_coil(ways.coil["vent"], True).isError()
    assert not plc.write_register(ways.coil["left"], 0x10000 - 600).isError()
    eventually(lambda: site.output("left")["confirmed"].get("drive") == -60)
    assert site.output("gallery")["confirmed"]["level"] == 40.5
    at = ways.coil["gallery"]
    assert plc.read_holding_registers(at, count=1).registers == [405]
    assert plc.read_input_registers(at, count=1).registers == [405]
    assert plc.read_input_registers(ways.coil["left"], count=1).registers == [0x10000 - 600]
    assert plc.read_coils(ways.coil["vent"], count=1).bits[0]
    assert plc.read_discrete_inputs(ways.coil["vent"], count=1).bits[0]
    site.pretend("door", "open")
    site.pretend("warmth", "0.25 V")
    inputs = {
        row["name"]: row["address"]
        for row in site.remote_map("modbus")
        if row["address"].startswith("input register 1")
    }
    door, warmth = (int(inputs[name].split()[-1]) for name in ("door", "warmth"))
    eventually(lambda: plc.read_input_registers(warmth, count=1).registers == [250])
    assert plc.read_input_registers(door, count=1).registers == [1]
    assert plc.read_discrete_inputs(door, count=1).bits[0]
    assert plc.read_input_registers(20_000 + ways.coil["shed"], count=1).registers == [6], "unreachable"
    assert plc.read_input_registers(ways.coil["shed"], count=1).registers == [0x8000], "not known"
    assert not plc.write_register(ways.coil["bell"], 440).isError()
    assert "440" in site.journal(subject="bell", kind="command")[0]["text"]
    # several at once: looked at whole, offs first; what is beyond the map is an exception and changes nothing
    assert plc.write_coils(ways.coil["vent"], [False] * 40).exception_code == 2
    assert site.output("vent")["wanted"]["on"]
    assert plc.write_register(ways.coil["gallery"], 1001).exception_code == 3
    assert plc.write_coil(ways.coil["kiln"], True).isError() is False
    assert plc.write_coils(ways.coil["vent"], [False, False]).isError() is False
    for name in ("gallery", "vent", "left", "kiln"):
        site.release(name)
    rows = ways.running.cli("look", "--modbus", "--csv").stdout.splitlines()
    assert rows[0] == "address,name,what"
    assert f"coil {ways.coil['vent']},vent,on or off" in rows


def test_a_master_masks_writes_and_reads_at_once_and_asks_who_this_is(ways: Ways) -> None:
    site, plc, at = ways.running.site, ways.plc, ways.coil
    assert not plc.write_register(at["gallery"], 0b1111_0000).isError()
    assert not plc.mask_write_register(
        address=at["gallery"], and_mask=0b1100_0000, or_mask=0b0000_0101
    ).isError()
    assert plc.read_holding_registers(at["gallery"], count=1).registers == [0b1100_0101], (
        "kept, and put in its place"
    )
    both = plc.readwrite_registers(
        read_address=at["gallery"], read_count=1, write_address=at["gallery"], values=[300]
    )
    assert both.registers == [300], "it is written first"
    refused = plc.readwrite_registers(
        read_address=at["gallery"], read_count=1, write_address=at["gallery"], values=[1001]
    )
    assert (refused.exception_code, site.output("gallery")["wanted"]["level"]) == (3, 30.0)
    told = plc.read_device_information(read_code=2).information
    assert (told[0], told[4], told[6]) == (b"Cairnwind", b"Cairnwind", site.facts()["name"].encode())
    assert plc.read_device_information(read_code=4, object_id=6).information == {6: told[6]}
    assert plc.read_device_information(read_code=4, object_id=77).exception_code == 2
    # gaps: blocks read over them; where there is nothing at all, that is said
    last = max(at.values())
    assert plc.read_coils(0, count=last + 30).bits[last + 1 : last + 30] == [False] * 29
    assert plc.read_holding_registers(last + 1, count=8).exception_code == 2
    # why: by output, and of the last write also for who has hung up since
    site.lock("vent", "work", "its belt is off")
    assert plc.write_coil(at["vent"], True).exception_code == 4
    assert plc.read_input_registers(50_000 + at["vent"], count=1).registers == [0], "nobody wants it on"
    site.turn("vent", "on", when_possible=True)
    assert plc.read_input_registers(50_000 + at["vent"], count=1).registers == [5], "the lockout"
    site.release("vent")
    assert plc.read_input_registers(50_000 + at["shed"], count=1).registers == [13], "its link"
    later = ModbusTcpClient("127.0.0.1", port=ways.modbus_port)
    later.connect()
    assert later.read_input_registers(40_000, count=1).registers == [1], "refused"
    later.close()
    site.unlock("vent", "work")
    assert not plc.write_coil(at["vent"], False).isError()
    assert plc.read_input_registers(40_000, count=1).registers == [0]
    for name in ("gallery", "vent"):
        site.release(name)


def test_numbers_are_given_once(ways: Ways) -> None:
    given_now: list[tuple[str, int]] = []
    first = Places(["a", "b", "c"], {}, lambda *row: given_now.append(row))
    later = Places(["c", "d", "a"], dict(given_now), lambda *row: given_now.append(row))
    assert (later.of["a"], later.of["c"], later.of["d"]) == (first.of["a"], first.of["c"], 3)
    before = dict(ways.coil)
    text = ways.running.site_file.read_text("utf-8").replace(
        "[output.vent]", '[output.attic]\nkind = "relay"\npin = "near:line-15"\n\n[output.vent]'
    )
    ways.plc.close()
    ways.running.end()
    ways.running.site_file.write_text(text, "utf-8")
    ways.running.begin()
    after = {
        row["name"]: int(row["address"].split()[1])
        for row in ways.running.site.remote_map("modbus")
        if row["address"].startswith("coil") and row["name"]
    }
    assert after == {**before, "attic": max(before.values()) + 1}
    assert ways.plc.connect()


@settings(max_examples=150)
@given(
    pdu=st.one_of(
        st.binary(min_size=1, max_size=40),
        st.builds(lambda code, rest: bytes([code]) + rest, st.integers(1, 43), st.binary(max_size=12)),
    )
)
def test_no_request_is_left_without_an_answer_of_the_standard(pdu: bytes, ways: Ways) -> None:
    with socket.create_connection(("127.0.0.1", ways.modbus_port), timeout=5) as line:
        line.sendall(struct.pack(">HHHB", 7, 0, len(pdu) + 1, 1) + pdu)
        head = line.recv(7)
        transaction, protocol, length, _ = struct.unpack(">HHHB", head)
        answer = line.recv(300)
        assert (transaction, protocol, length) == (7, 0, len(answer) + 1)
        assert answer[0] & 0x7F == pdu[0] & 0x7F
        assert len(answer) == 2 if answer[0] & 0x80 else len(answer) >= 2


def test_silent_connections_make_room_for_whoever_says_something(ways: Ways) -> None:
    silent = [socket.create_connection(("127.0.0.1", ways.modbus_port), timeout=5) for _ in range(40)]
    late = ModbusTcpClient("127.0.0.1", port=ways.modbus_port)
    assert late.connect()
    assert not late.read_coils(ways.coil["vent"], count=1).isError()
    for each in (*silent, late):
        each.close()
    ways.plc.close()
    assert ways.plc.connect()


def test_who_is_not_listed_is_turned_away() -> None:
    listed = (("10.0.0.0/8", "hall"), ("10.1.0.0/16", "crane"), ("10.1.2.3", "plc"), ("::1", "six"))
    assert [
        peer(listed, at) for at in ("10.1.2.3", "10.1.9.9", "10.9.9.9", "11.0.0.1", "::1", "::ffff:10.1.2.3")
    ] == ["plc", "crane", "hall", "", "six", "plc"]


def test_a_client_that_vanishes_without_closing_loses_what_it_held(ways: Ways) -> None:
    site = ways.running.site
    plc = ModbusTcpClient("127.0.0.1", port=ways.modbus_port)
    plc.connect()
    assert plc.write_register(60_000, 700).exception_code == 3
    plc.write_register(60_000, 4)
    plc.write_coil(ways.coil["yard"], True)
    assert site.output("yard")["confirmed"]["on"]
    begin = time.monotonic()  # it says nothing more, and its connection stays open
    eventually(lambda: not site.output("yard")["confirmed"]["on"])
    assert time.monotonic() - begin < 1.0
    plc.close()


# --- the serial line ----------------------------------------------------------------------------------------------


def test_a_host_on_a_line_with_noise(ways: Ways) -> None:
    """Whatever is garbled is lost and nothing else: every whole request is answered, in its order."""
    host, chance = ways.host, random.Random(3)
    for number in range(60):
        kind = chance.randrange(4)
        if kind == 0:
            host.write(
                bytes(each for each in chance.randbytes(chance.randrange(1, 300)) if each not in b"\n{[")
                + b"\n"
            )
        elif kind == 1:
            host.write(b'{"jsonrpc": "2.0", "method": "turn", "par\xff\xfe\n')
            assert next(form for form in host.lines() if "error" in form)["error"]["code"] == -32700
        elif kind == 2:
            host.write(b"\x00\xff" * 20 + b"\n\r\n\n")
        answer = host.call("turn", output="gallery", setting=number + 1)
        assert answer["result"]["setting"]["level"] == number + 1
    host.write(b"x" * 40_000 + b"\n")
    assert host.call("ping")["result"]["epoch"]
    wire = ways.running.site.remote_traffic("bench")
    assert wire["errors"] > 20
    assert ways.running.site.output("gallery")["confirmed"]["level"] == 60
    ways.running.site.release("gallery")


def test_a_slow_line_gets_a_long_answer_whole(ways: Ways) -> None:
    host = ways.host
    looks = [
        {"jsonrpc": "2.0", "id": id, "method": "look", "params": {"name": "gallery"}} for id in range(40)
    ]
    host.write(json.dumps(looks).encode() + b"\n")
    came, end = b"", time.monotonic() + 60
    while not any(line.startswith(b"[") for line in came.split(b"\n")[:-1]):  # as at some 50,000 baud
        assert time.monotonic() < end, (came[-300:], ways.running.site.remote_traffic("bench")["frames"][-8:])
        time.sleep(0.1)
        with contextlib.suppress(BlockingIOError):
            came += os.read(host.mine, 600)
    lines = [json.loads(line) for line in came.splitlines()]
    assert [each["id"] for each in next(line for line in lines if isinstance(line, list))] == list(range(40))


def test_a_host_that_sends_and_does_not_listen_is_heard_when_it_says_stop(ways: Ways) -> None:
    host, site = ways.host, ways.running.site
    asked = [("turn", {"output": "gallery", "setting": number % 100 + 1}) for number in range(3000)]
    for number, (word, about) in enumerate([*asked, ("stop", {"reason": "enough"})]):
        host.write(
            json.dumps({"jsonrpc": "2.0", "id": number, "method": word, "params": about}).encode() + b"\n"
        )
    eventually(lambda: site.facts()["all_stop"]["stopped"])
    frames = site.remote_traffic("bench")["frames"]
    assert any("nobody takes off what is sent before it" in each["text"] for each in frames), "it is said"
    site.reset_stop()
    site.release("gallery")
    while list(host.lines(0.5)):
        pass  # at last it listens
    assert host.call("ping")["result"]["epoch"]


def test_the_protocol_itself(ways: Ways) -> None:
    host = ways.host
    assert host.call("trun")["error"] == {
        "code": -32601,
        "message": "There is no method called 'trun'.",
        "data": {"remedy": "Did you mean 'turn'?"},
    }
    assert (
        host.call("turn", output="gallery", setting="on", forr="1 s")["error"]["data"]["code"] == "bad-value"
    )
    host.write(
        b'[{"jsonrpc": "2.0", "id": "a", "method": "ping"}, {"jsonrpc": "2.0", "method": "ping"}, 1, {"jsonrpc": "2.0", "id": "b", "method": "look"}]\n'
    )
    batch = next(form for form in host.lines() if isinstance(form, list))
    assert [each.get("id") for each in batch] == ["a", None, "b"]
    assert batch[1]["error"]["code"] == -32600
    host.write(b"[]\n")
    assert next(form for form in host.lines() if "error" in form)["error"]["code"] == -32600
    for id in (b"true", b"[1]", b'{"a": 1}'):
        host.write(b'{"jsonrpc": "2.0", "method": "ping", "id": ' + id + b"}\n")
        answer = next(form for form in host.lines() if "error" in form)
        assert (answer["error"]["code"], answer["id"]) == (-32600, None)
    assert host.call("turn", output="galery", setting="on")["error"]["code"] == -32602
    assert host.call("reset_stop")["error"]["code"] == -32000
    assert host.call("look", name="door")["result"]["state"] in ("closed", "open")
    assert host.call("watch", names=["vent"])["result"] == {"watching": ["vent"]}
    assert (
        next(form for form in host.lines() if form.get("method") == "changed" and form["params"]["name"])[
            "params"
        ]["name"]
        == "vent"
    )
    ways.running.site.turn("gallery", "on")
    ways.running.site.turn("vent", "on")
    seen = next(
        form["params"] for form in host.lines() if form.get("method") == "changed" and form["params"]["name"]
    )
    assert (seen["name"], seen["wanted"]["on"]) == ("vent", True), "and nothing of what was not asked for"
    for name in ("gallery", "vent"):
        assert host.call("release", output=name)["result"]["outcome"] == "driving"


OUTPUTS = ("vent", "gallery", "yard", "bell", "nothing")
ANYTHING = st.one_of(
    st.sampled_from([*OUTPUTS, "on", "40 %", "1 s", "toggle", "", None, True, -1, 10**30, 0.5, [], {}, ["vent"], {"hertz": 440}]),
    st.text(max_size=6),
    st.lists(st.sampled_from([*OUTPUTS, 1, None]), max_size=2),
)  # fmt: skip
CLAIM = ("output", "setting", "over", "for", "until", "lasting", "when_possible", "rank", "lease")
TAKEN = {
    "turn": CLAIM, "hold": ("output", "setting", "lease"), "look": ("name",), "watch": ("names",), "do": ("phrase",),
    **dict.fromkeys(("release", "renew", "let_go"), ("output",)),
}  # fmt: skip


def members(names: Iterable[str]) -> st.SearchStrategy[dict[str, Any]]:
    return st.fixed_dictionaries({}, optional=dict.fromkeys(names, ANYTHING))


@settings(max_examples=400)
@given(asked=st.sampled_from(sorted({*LOOKS, *HOLDS})).flatmap(lambda name: st.tuples(st.just(name), members(TAKEN.get(name, ("x",))))))  # fmt: skip
def test_whatever_a_host_asks_it_is_answered(asked: tuple[str, dict[str, Any]], ways: Ways) -> None:
    answer = ways.host.call(asked[0], **asked[1])
    assert ("result" in answer) != ("error" in answer)
    assert "error" not in answer or (
        answer["error"]["message"] and -32768 < answer["error"]["code"] <= -32000
    )


@settings(max_examples=150)
@given(topic=st.sampled_from([*(f"out/{name}/want" for name in OUTPUTS), "phrase"]),
       payload=st.one_of(members([*CLAIM, "phrase", "id"]).map(json.dumps), ANYTHING.map(json.dumps), ANYTHING.map(str)))  # fmt: skip
def test_whatever_a_phone_sends_it_hears_an_outcome(topic: str, payload: str, ways: Ways) -> None:
    mark = os.urandom(6)
    ways.broker.send(topic, payload, ResponseTopic=f"back/{mark.hex()}", CorrelationData=mark)
    form = ways.broker.wait(f"back/{mark.hex()}")
    assert form["outcome"] in ("driving", "waiting", "blocked", "refused", "unreachable"), form


@settings(max_examples=300)
@given(address=st.sampled_from([*(f"/out/{name}" for name in OUTPUTS), "/pad/trolley", "/pad/hoist", "/phrase", "/tell", "/"]),
       values=st.lists(st.one_of(st.integers(-5, 5), st.floats(width=32), st.sampled_from(["on", "vent on", "", True, None, b"\xff"])), max_size=3))  # fmt: skip
def test_whatever_a_fader_sends_the_next_is_heard(address: str, values: list[Any], ways: Ways) -> None:
    Surface(ways.surface.port).send(address, *values)  # one that goes on to hear nothing


def test_nothing_of_that_was_our_fault(ways: Ways) -> None:
    ways.surface.send("/out/attick", 1)
    eventually(
        lambda: any(
            "attick" in frame["text"] for frame in ways.running.site.remote_traffic("surface")["frames"]
        )
    )
    assert [record.getMessage() for record in FAULTS] == []
    for name in OUTPUTS[:-1]:
        ways.running.site.release(name)
        ways.host.call("let_go", output=name)
    ways.host.call("unwatch")


def test_a_host_that_goes_away_loses_its_leases_and_resumes_when_it_is_back(ways: Ways) -> None:
    host, site = ways.host, ways.running.site
    assert host.call("hold", output="yard", lease="1 s")["result"]["outcome"] == "driving"
    for _ in range(3):
        time.sleep(0.4)
        assert host.call("renew", output="yard")["result"]["outcome"] == "driving"
    assert site.output("yard")["confirmed"]["on"]
    eventually(lambda: not site.output("yard")["confirmed"]["on"], within=2)
    host.call("watch")
    # the adapter is pulled and comes back at the same place; another's pseudo-terminal may get its name meanwhile
    line = next(each for each in ways.running.service.remotes if each.name == "bench")
    line._told = type(line._told)(line._told.name, "/dev/pulled-out", line._told.key)
    os.close(host.theirs)
    os.close(host.mine)
    eventually(lambda: not next(each for each in site.remotes() if each["name"] == "bench")["up"], within=8)
    again = type(host)()
    line._told = type(line._told)(
        line._told.name, again.port, line._told.key
    )  # a pseudo-terminal gets another name each time
    here = next(form for form in again.lines(8) if form.get("method") == "here")
    assert here["params"]["site"] == "Test bench"
    names = {form["params"]["name"] for form in again.lines(1) if form.get("method") == "changed"}
    assert {"vent", "door"} <= names, "what was watched is told anew, unasked"
    ways.host = again
    assert again.call("unwatch")["result"] == {"watching": None}


# --- control surfaces ---------------------------------------------------------------------------------------------


def test_faders_hold_and_let_go(ways: Ways) -> None:
    site, surface = ways.running.site, Surface(ways.surface.port)
    for _ in range(8):
        surface.send("/out/gallery", 0.7)
        time.sleep(0.2)
        assert site.output("gallery")["confirmed"]["level"] == 70, "each message renews its lease of a second"
    (claim,) = site.output("gallery")["claims"]
    assert (claim["rank"], claim["lifetime"], claim["source"]) == ("hand", "lease", "control surface (hands)")
    surface.send("/out/gallery", 0.0)
    eventually(lambda: site.output("gallery")["claims"] == [])
    surface.send("/out/vent", 1)
    eventually(lambda: site.output("vent")["confirmed"]["on"])
    begin = time.monotonic()
    eventually(lambda: not site.output("vent")["confirmed"]["on"])
    assert 0.5 < time.monotonic() - begin < 1.6, "nothing more was heard of it"
    surface.send("/tell", 30)
    heard = dict(surface.hear(0.5))
    assert heard["/out/vent/is"] == [0.0, "off"]
    surface.said.clear()
    surface.send("/pad/trolley", 0.0, 1.0)
    eventually(
        lambda: any(address == "/out/left/is" and values[0] > 0.5 for address, values in surface.hear(0.1))
    )
    eventually(
        lambda: (
            site.output("left")["confirmed"]["words"] == "0 %" or not site.output("left")["confirmed"]["on"]
        )
    )
    for address, values in (
        ("/out/attick", [1]),
        ("/nothing", []),
        ("/out/vent", [7.5]),
        ("/pad/trolley", [1.0]),
        ("/pad/trolley", ["a", "b"]),
    ):
        surface.said.clear()
        surface.send(address, *values)
        assert any(each == "/refused" for each, _ in surface.hear(0.3)), address
    surface.socket.sendto(b"\xff\x00/not osc", ("127.0.0.1", surface.port))
    surface.socket.sendto(b"#bundle\0" + b"\0" * 5, ("127.0.0.1", surface.port))
    # The refused pad message above may be the last that is seen for a moment yet.
    eventually(
        lambda: any(
            frame["way"] == "lost" and "no OSC" in frame["text"]
            for frame in site.remote_traffic("surface")["frames"]
        )
    )


def test_a_master_of_another_make(ways: Ways) -> None:
    """A Modbus master's program: it reads what is wanted and what is confirmed, writes a coil, and is told what is refused."""
    site, host = ways.running.site, "127.0.0.1"
    asks = ["mbpoll", "-m", "tcp", "-p", str(ways.modbus_port), "-a", "1", "-0", "-1", "-q"]

    def said(*more: str) -> str:
        done = subprocess.run([*asks, *more], capture_output=True, text=True, timeout=60, check=False)
        return done.stdout + done.stderr

    at = str(ways.coil["vent"])
    assert "Written 1" in said("-t", "0", "-r", at, host, "1")
    eventually(lambda: site.output("vent")["confirmed"]["on"])  # type: ignore[index]
    for kind in ("0", "1"):
        assert re.search(rf"\[{at}\]:\s*1", said("-t", kind, "-r", at, host)), "coil, and discrete input"
    assert "Illegal data address" in said("-t", "0", "-r", "9000", host)
    assert "Written 1" in said("-t", "0", "-r", at, host, "0")
    site.release("vent")


def test_patterns_times_and_what_is_cut_off(ways: Ways) -> None:
    """By the program of another implementation of OSC, and by bundles as it may send them."""
    site, port = ways.running.site, str(ways.surface.port)

    def held() -> set[str]:
        claims = site.call("GET", "/claims")
        return {claim["output"] for claim in claims if claim["slot"].startswith("hand:surface")}

    def sent(address: str, *value: str) -> set[str]:
        subprocess.run(["oscsend", "127.0.0.1", port, address, *value], check=True)
        return held()

    eventually(lambda: held() == set())
    eventually(lambda: sent("/out/{vent,gall?ry}", "f", "1") == {"vent", "gallery"})
    eventually(lambda: "bell" in sent("/out/[a-c]*", "i", "1"))
    eventually(lambda: held() == set(), within=3)
    message = OscMessageBuilder("/out/gallery")
    message.add_arg(1.0)
    whole = message.build().dgram
    begin = time.monotonic()
    seconds = time.time() + 0.7 + 2_208_988_800
    stamp = struct.pack(">II", int(seconds), int(seconds % 1 * 2**32))
    ways.surface.socket.sendto(
        b"#bundle\0" + stamp + struct.pack(">i", len(whole)) + whole, ("127.0.0.1", ways.surface.port)
    )
    time.sleep(0.2)
    assert held() == set(), "its time has not come"
    eventually(lambda: held() == {"gallery"})
    assert time.monotonic() - begin >= 0.7
    eventually(lambda: held() == set(), within=3)
    ways.surface.socket.sendto(whole[:-2], ("127.0.0.1", ways.surface.port))
    frames = lambda: ways.running.site.remote_traffic("surface")["frames"][-10:]  # noqa: E731
    eventually(lambda: any("not whole" in each["text"] for each in frames()))
    assert held() == set(), "what is cut off is no value of 0"


def test_a_flood_of_messages_does_not_crowd_out_a_stop(ways: Ways) -> None:
    flood = (
        "import socket, sys\n"
        "line = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)\n"
        "while True: line.sendto(bytes.fromhex(sys.argv[2]), ('127.0.0.1', int(sys.argv[1])))"
    )
    fader = OscMessageBuilder("/out/gallery")
    fader.add_arg(0.4)
    others = [
        spawn(sys.executable, "-c", flood, ways.surface.port, fader.build().dgram.hex()) for _ in range(2)
    ]
    try:
        eventually(lambda: ways.running.site.output("gallery")["confirmed"]["on"])
        word, pattern = (OscMessageBuilder(each).build().dgram for each in ("/stop", "/st{op,art}"))
        head, before = b"#bundle\0" + struct.pack(">Q", 1), fader.build().dgram
        parts = [struct.pack(">I", len(each)) + each for each in (before, word, pattern)]
        bundles = (head + parts[1], head + parts[0] * 20 + parts[1], head + parts[2])
        for said in (word, pattern, *bundles):
            ways.surface.socket.sendto(said, ("127.0.0.1", ways.surface.port))  # once
            eventually(lambda: ways.running.site.facts()["all_stop"]["stopped"])
            ways.running.site.reset_stop()
    finally:
        for each in others:
            each.kill()
            each.wait()
    eventually(
        lambda: not [each for each in ways.running.site.call("GET", "/claims") if each["rank"] == "hand"]
    )


def test_a_sender_that_is_not_listed_is_not_heard(ways: Ways) -> None:
    remote = next(each for each in ways.running.service.remotes if each.name == "surface")
    told = remote._told
    remote._told = type(told)(told.listen, (("10.9.9.9", "hands"),))
    stranger = Surface(ways.surface.port)
    stranger.send("/out/yard", 1)
    assert (
        "is not listed"
        in eventually(
            lambda: [
                frame["text"]
                for frame in ways.running.site.remote_traffic("surface")["frames"]
                if "not listed" in frame["text"]
            ]
        )[0]
    )
    assert not ways.running.site.output("yard")["wanted"]["on"]
    remote._told = told


def test_who_hears_no_answer_gets_leases_only(ways: Ways) -> None:
    site, button = ways.running.site, Surface(ways.surface.port)

    def lost() -> list[str]:
        return [each["text"] for each in site.remote_traffic("surface")["frames"] if each["way"] == "lost"]

    button.send("/phrase", "turn yard on")
    eventually(lambda: any("only from who hears" in text for text in lost()))
    assert site.output("yard")["claims"] == []
    button.send("/tell", 30)
    button.hear(0.3)
    button.send("/phrase", "turn yard on")
    eventually(lambda: site.output("yard")["confirmed"]["on"])
    button.send("/phrase", "toggle yard")
    eventually(lambda: any(each == "/refused" for each, _ in button.hear(0.1)))
    assert site.output("yard")["confirmed"]["on"], "a message may come twice"
    button.send("/phrase", "release yard")
    eventually(lambda: site.output("yard")["claims"] == [])


def test_zones_of_a_pad_are_commands(ways: Ways) -> None:
    site = ways.running.site
    for x, y, zone, vent, yard in (
        (0.1, 0.9, "up", True, False),
        (0, -1, "down", False, True),
        (0, 0, "middle", False, False),
        (1, 0.2, "right", False, False),
    ):

        def held(x: float = x, y: float = y, zone: str = zone) -> tuple[bool, bool]:
            """What is wanted while somebody holds it there: on a busy machine a position may have ended before anybody looks."""
            assert site.steer("hoist", x, y)["zone"] == zone
            return site.output("vent")["wanted"]["on"], site.output("yard")["wanted"]["on"]

        eventually(lambda held=held, want=(vent, yard): held() == want, within=1)
    answer = site.steer("hoist", x, y)
    assert json.dumps(answer["outcomes"]) == "[]"
