"""What is wired, changed while the rest works: at the pins, by HTTP, for readers and for those who follow."""

from __future__ import annotations

import re
import socket
import threading
import time
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from pymodbus.client import ModbusTcpClient

from cairnwind.boards.master import Modbus
from cairnwind.boards.serialboard import SerialBoard
from cairnwind.client import CallerError, Site
from cairnwind.core.values.settings import FULL
from tests.conftest import SITE, Running, eventually, free_port
from tests.service.test_safe import on

LAMP = '\n[output.bench]\nkind = "lamp"\npin = "near:J2-16"\n'
BOARD = (
    '\n[board.third]\nlink = "simulated"\nlines = 4\n\n[output.sign]\nkind = "lamp"\npin = "third:line-2"\n'
)


@pytest.fixture
def running(tmp_path: Path) -> Iterator[Running]:
    found = Running(tmp_path, SITE)
    yield found
    found.end()


def reread(running: Running, text: str) -> str:
    """The site file says this now; what is said of that."""
    running.site_file.write_text(text, "utf-8")
    return running.site.reload().reason


def test_an_output_moves_and_nothing_else_does(running: Running) -> None:
    site, near = running.site, running.link()
    site.turn("gallery", "40 %", lasting="until released")
    site.turn("vent", "on", lasting="until released")
    eventually(lambda: near.level("gallery") == 0.4 * FULL)
    old, line = near.pins, near._outputs["gallery"].pin.line
    near.seen.clear()
    changes = site.changes()
    assert next(changes).kind == "afresh"
    text = SITE.replace('pin = "near:J2-14"', 'pin = "near:J2-15"').replace(
        'label = "Vent"', 'label = "The vent"'
    )
    said = running.http("GET", "/api/v1/site-file/changes").json()
    assert said == {"changes": []}, "nothing is otherwise yet"
    running.site_file.write_text(text, "utf-8")
    (moves, called) = running.http("GET", "/api/v1/site-file/changes").json()["changes"]
    assert moves == "output gallery moves from near:J2-14 (line 7) to near:J2-15 (line 6), at safe meanwhile"
    assert called == "output vent is said otherwise: its label"
    assert site.output("gallery")["confirmed"]["level"] == 40, "asking changes nothing"
    assert moves in site.reload().reason
    now = near._outputs["gallery"].pin.line
    eventually(lambda: old.get(now) == 0.4 * FULL, within=2)
    assert [(at, level) for _, at, level in near.seen] == [(line, 0), (now, 0), (now, 400_000)], (
        "and no other pin has moved"
    )
    assert site.output("vent")["label"] == "The vent"
    assert (on(running, "vent"), site.output("gallery")["pin"]) == (True, "near:J2-15")
    assert any(
        each.kind == "afresh" and "The vent" in str(each) for each in (next(changes) for _ in range(40))
    )
    assert any(moves in row["text"] for row in site.journal(limit=20))
    changes.close()


def test_outputs_inputs_and_boards_come_and_go(running: Running) -> None:
    site = running.site
    site.turn("kiln", "on")
    site.turn("yard", "on", lasting="until released")
    reason = reread(running, SITE + LAMP + BOARD + '\n[group.all]\noutputs = ["bench", "sign"]\n')
    for part in (
        "output bench is new, on near:J2-16",
        "board third is taken",
        "output sign is new",
        "groups",
    ):
        assert part in reason
    assert [each["name"] for each in site.outputs()] == ["vent", "kiln", "gallery", "yard", "bench", "sign"]
    assert site.do("turn all on")["outcome"] == "driving"
    eventually(lambda: running.link("third").level("sign") == FULL and running.link().level("bench") == FULL)
    assert on(running, "kiln"), "it has been on all the time"
    # one board goes with what is on it, an input moves, an output goes
    text = (SITE + BOARD).replace('pin = "near:J3-4"', 'pin = "near:J3-6"')
    text = text[: text.index("[board.far]")] + text[text.index("[output.vent]") :]
    text = text[: text.index("[output.yard]")] + text[text.index("[input.door]") :]
    far, bench = running.link("far"), running.link()
    reason = reread(running, text)
    for part in (
        "output yard goes",
        "output bench goes",
        "board far is let go",
        "input door moves from near:J3-4",
    ):
        assert part in reason
    assert [each["name"] for each in site.outputs()] == ["vent", "kiln", "gallery", "sign"]
    assert [each["name"] for each in site.boards()] == ["near", "third"]
    assert far.pins[3] == 0, "it went off first"
    assert 16 not in {each.pin.position for each in bench._outputs.values()}
    with pytest.raises(CallerError, match="yard"):
        site.turn("yard", "on")
    bench.set_input("door", True)
    eventually(lambda: site.ask("door is open")["so"])
    assert on(running, "kiln")
    assert on(running, "sign")
    running.again()
    assert [each["name"] for each in running.site.outputs()] == ["vent", "kiln", "gallery", "sign"]


def test_name_zone_and_the_names_of_the_service_change_while_it_works(running: Running) -> None:
    site, now = running.site, datetime.now(UTC)
    begin, end = (f"{now + timedelta(minutes=by):%H:%M}" for by in (-30, 90))
    evening = (
        f'\n[[schedule]]\nname = "evening"\nfrom = "{begin}"\nto = "{end}"\ndo = "turn gallery to 60 %"\n'
    )
    zoned = SITE.replace('timezone = "Europe/London"', 'timezone = "UTC"') + evening
    reread(running, zoned)
    site.turn("yard", "on", lasting="until released")
    eventually(lambda: running.link().level("gallery") == 0.6 * FULL)
    key = site.new_key("by day", "watch", **{"from": begin, "to": end})
    assert Site(running.url, key).facts()["timezone"] == "UTC"
    said = reread(running, zoned.replace('"UTC"', '"Pacific/Kiritimati"'))
    assert "the timezone is otherwise" in said
    eventually(lambda: running.link().level("gallery") == 0)
    with pytest.raises(CallerError, match="by day"):
        Site(running.url, key).facts()
    assert on(running, "yard")

    def asked(host: str) -> int:
        return int(running.http("GET", "/api/v1/site", headers={"Host": host}).status_code)

    assert asked("kiln.lan") == 421
    service = '\n[service]\nnames = ["kiln.lan"]\ndurability = "process"\n'
    assert "the service's names are otherwise" in reread(
        running, zoned.replace('"UTC"', '"Asia/Tokyo"') + service
    )
    assert asked("kiln.lan") == 200
    site.turn("vent", "on")
    writer = running.service.runtime.writer._connection
    assert writer.execute("PRAGMA synchronous").fetchone() == (1,), "from the next commit on"
    name = re.search('^site = "(.*)"', SITE, re.MULTILINE)
    assert name is not None
    assert "the site's name is otherwise" in reread(running, SITE.replace(name[1], "Another house"))
    assert site.facts()["name"] == "Another house"
    assert asked("kiln.lan") == 421


def test_remotes_know_what_has_come(tmp_path: Path) -> None:
    port = free_port()
    remote = f'\n[remote.modbus]\nlisten = "127.0.0.1:{port}"\nclients = {{ "127.0.0.1" = "plc" }}\n'
    running = Running(tmp_path, SITE + remote)
    running.site.new_key("plc", "operate")
    plc = ModbusTcpClient("127.0.0.1", port=port)
    assert plc.connect()
    assert plc.read_coils(4, count=1).isError()
    reread(running, SITE.replace("[output.yard]", "[output.garden]") + LAMP + remote)
    assert plc.read_coils(3, count=1).isError(), "the number of what has gone is nobody else's"
    for number, name in ((4, "garden"), (5, "bench")):
        assert not plc.write_coil(number, True).isError()
        eventually(lambda name=name: on(running, name))
    plc.close()
    running.end()


def test_remotes_start_end_and_move_with_the_file(running: Running) -> None:
    running.site.new_key("plc", "operate")

    def at(port: int) -> str:
        return SITE + f'\n[remote.modbus]\nlisten = "127.0.0.1:{port}"\nclients = {{ "127.0.0.1" = "plc" }}\n'

    def answers(port: int) -> bool:
        plc = ModbusTcpClient("127.0.0.1", port=port, retries=0, timeout=2)
        good = plc.connect() and not plc.read_coils(0, count=1).isError()
        plc.close()
        return bool(good)

    first, second = free_port(), free_port()
    listeners = len(running.service.runtime.telling.listeners)
    assert "remote modbus is started" in reread(running, at(first))
    assert answers(first)
    with socket.create_server(("127.0.0.1", second)):
        with pytest.raises(CallerError, match=f"cannot listen on 127.0.0.1:{second}"):
            reread(running, at(second).replace('place = "yard"', 'place = "garden"'))
        assert answers(first), "the old one is back"
        assert running.site.output("yard")["place"] == "yard"
    assert "remote modbus is ended and started anew" in reread(running, at(second))
    assert (answers(first), answers(second)) == (False, True)
    assert [each["name"] for each in running.site.remotes()] == ["http", "modbus"]
    surface = f'\n[remote.surface]\nlisten = "127.0.0.1:{free_port()}"\nsenders = {{ "127.0.0.1" = "plc" }}\n'
    assert "remote surface is started" in reread(running, at(second) + surface)
    assert "remote surface is ended" in reread(running, SITE)
    assert not answers(second)
    assert [each["name"] for each in running.site.remotes()] == ["http"]
    assert len(running.service.runtime.telling.listeners) == listeners, "nobody is told who has gone"


def test_what_fails_leaves_the_old_site_whole(running: Running) -> None:
    site, near = running.site, running.link()
    site.turn("gallery", "on", lasting="until released")
    site.turn("yard", "on", lasting="until released")
    eventually(lambda: near.level("gallery") == FULL)
    near.seen.clear()
    with pytest.raises(CallerError):
        reread(running, SITE + '\n[board.gone]\nlink = "kernel"\nchip = "no-such-chip"\nlines = 4\n' + '[output.x]\nkind = "lamp"\npin = "gone:line-1"\n')  # fmt: skip
    assert [each["name"] for each in site.boards()] == ["near", "far"]
    assert list(near.seen) == [], "nothing has moved"
    running.link("far").unplug("the cable fell out")
    eventually(lambda: not site.boards()[1]["up"])
    without = SITE[: SITE.index("[output.yard]")] + SITE[SITE.index("[input.door]") :]
    with pytest.raises(
        CallerError, match="Output yard is not known to be at safe: board far does not answer"
    ):
        reread(running, without)
    assert site.output("yard")["name"] == "yard"
    assert on(running, "gallery")
    site.attest("yard", by="Anna")
    assert "output yard goes" in reread(running, without)
    assert [each["name"] for each in site.outputs()] == ["vent", "kiln", "gallery"]


def test_eight_clients_command_while_the_site_changes_twenty_times_a_second(running: Running) -> None:
    """Nothing acknowledged is lost, no output that is not concerned moves, and an output that moves is never on in two places."""
    near, over, wrong = running.link(), threading.Event(), list[str]()
    running.site.turn("vent", "on", lasting="until released")
    eventually(lambda: near.level("vent") == 0)
    places = ("near:J2-14", "near:J2-15")
    vent = near._outputs["vent"].pin.line
    watched = {7, 6}

    def moved(line: int, level: int) -> None:
        if line == vent:
            wrong.append(f"vent moved to {level}")
        if level and line in watched and any(near.pins.get(other) for other in watched - {line}):
            wrong.append("on in two places")

    near.watchers.append(moved)

    def command(number: int) -> int:
        mine, done = Site(running.url, running.key), 0
        while not over.is_set():
            try:
                outcome = mine.turn(("gallery", "kiln", "yard")[number % 3], "on" if done % 2 else "off")
            except CallerError as error:
                if error.code not in ("rate", "refused", "unreachable", "busy"):
                    wrong.append(str(error))
                continue
            if outcome.outcome not in ("driving", "waiting", "refused"):
                wrong.append(outcome.outcome)
            done += 1
        return done

    threads = [threading.Thread(target=command, args=(number,)) for number in range(8)]
    for each in threads:
        each.start()
    for turn in range(40):
        text = SITE.replace('pin = "near:J2-14"', f'pin = "{places[turn % 2]}"').replace(
            'label = "Vent"', f'label = "Vent {turn}"'
        )
        reread(running, text + (LAMP if turn % 3 else ""))
        time.sleep(0.02)
    over.set()
    for each in threads:
        each.join()
    assert wrong == []
    assert running.site.output("vent")["label"] == "Vent 39"
    sequences = [row["sequence"] for row in running.site.journal(limit=1000)]
    assert sequences == sorted(sequences, reverse=True)


EDITS = st.lists(
    st.sampled_from(
        ["move", "back", "lamp", "no lamp", "board", "no board", "label", "invert", "straight", "zone"]
    ),
    min_size=1,
    max_size=6,
)


@settings(max_examples=12, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(EDITS)
def test_any_sequence_of_edits_leads_to_what_a_fresh_start_finds(
    tmp_path: Path, running: Running, edits: list[str]
) -> None:
    text = SITE
    for edit in edits:
        match edit:
            case "move" | "back":
                one, other = ("near:J2-14", "near:J2-15") if edit == "move" else ("near:J2-15", "near:J2-14")
                text = text.replace(one, other)
            case "lamp":
                text = text.replace(LAMP, "") + LAMP
            case "no lamp":
                text = text.replace(LAMP, "")
            case "board":
                text = text.replace(BOARD, "") + BOARD
            case "no board":
                text = text.replace(BOARD, "")
            case "label":
                text = text.replace('place = "yard"', 'place = "the yard"')
            case "invert":
                text = text.replace('sense = "active-low"', 'sense = "active-high"')
            case "zone":
                text = text.replace("Europe/London", "Asia/Tokyo")
            case "straight":
                text = text.replace('curve = "straight"\n', "")
        reread(running, text)

    def picture() -> list[object]:
        site = running.site
        found: list[object] = []
        for each in [
            *site.call("GET", "/outputs"),
            *site.call("GET", "/inputs"),
            *site.call("GET", "/boards"),
        ]:
            found.append({key: value for key, value in each.items() if key not in ("since", "claims", "rounds_a_second", "traffic", "edge", "changed", "confirmed_since")})  # fmt: skip
        return found

    eventually(lambda: all(each["state"] != "driving" for each in running.site.outputs()))
    changed = picture()
    levels = {name: dict(running.link(name).pins) for name in running.service.machine.links}
    running.again()
    assert picture() == changed
    wired = {name: dict(running.link(name).pins) for name in levels}
    assert {name: {line: levels[name].get(line, 0) for line in pins} for name, pins in wired.items()} == wired
    reread(running, SITE)


CHIP = """
site = "chip"
[board.rack]
link = "expander"
chip = "ports-16"
bus = "simulated"
""" + "".join(
    f'[output.{name}]\nkind = "relay"\npin = "rack:line-{line}"\n' for line, name in enumerate("abc")
)
MORE = '[input.door]\nkind = "contact"\npin = "rack:line-9"\npull = "up"\n'


def test_a_chip_on_two_wires_is_rewired_and_its_other_relays_do_not_click(tmp_path: Path) -> None:
    running = Running(tmp_path, CHIP)
    site = running.site
    for name in ("a", "b", "c"):
        site.turn(name, "on", lasting="until released")
    eventually(lambda: all(on(running, name) for name in "abc"))
    before = site.traffic("rack")["frames"][-1]["number"]
    said = reread(running, CHIP.replace("rack:line-2", "rack:line-5") + MORE)
    assert "output c moves from rack:line-2 to rack:line-5" in said
    assert "input door is new, on rack:line-9" in said
    eventually(lambda: on(running, "c"))
    eventually(lambda: site.call("GET", "/inputs")[0]["active"] is not None)
    words = [
        each["text"].split()[-1]
        for each in site.traffic("rack")["frames"]
        if each["number"] > before and each["text"].startswith("output ") and each["way"] == "sent"
    ]
    assert words
    assert all(word[-2:] == "11" for word in words), "a and b stay on"
    assert words[-1][-6:] == "100011", "and c is on where it is now, off where it was"
    directions = [
        each["text"] for each in site.traffic("rack")["frames"] if each["text"].startswith("direction")
    ]
    assert directions[-1].split()[-1][-6:] == "011100", "where c was is an input again"
    running.end()


def test_a_serial_board_is_rewired_in_parts(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Our firmware, run as a program."""
    monkeypatch.setattr(
        Modbus, "abilities", lambda *_: None
    )  # a board that says otherwise than the reference
    board, moves = SerialBoard(), list[tuple[int, int]]()
    board.watchers.append(lambda pin, level: moves.append((pin, level)))
    text = f'site = "box"\n[board.box]\nlink = "modbus"\nport = "{board.port}"\nwatchdog = "1 s"\n' + "".join(
        f'[output.{name}]\nkind = "relay"\npin = "box:line-{line}"\n' for name, line in (("a", 16), ("b", 17))
    )
    running = Running(tmp_path, text)
    site = running.site
    site.turn("a", "on", lasting="until released")
    eventually(lambda: on(running, "a"))
    moves.clear()
    running.site_file.write_text(text.replace("line-17", "line-18"), "utf-8")
    assert "output b moves from box:line-17 to box:line-18" in site.reload().reason
    eventually(lambda: on(running, "a"))
    site.turn("b", "on")
    eventually(lambda: (18, 65535) in moves)
    assert 16 not in {pin for pin, _ in moves}, "a has not moved"
    dimmed = 'kind = "lamp"\nfrequency = "1 kHz"\npin = "box:line-17"'
    with pytest.raises(CallerError, match="line 17 of box, which b is wired to, cannot do that"):
        reread(running, text.replace('kind = "relay"\npin = "box:line-17"', dimmed))
    with pytest.raises(CallerError, match="no-such-port"):
        reread(running, text.replace(f'port = "{board.port}"', 'port = "/dev/no-such-port"'))
    assert site.boards()[0]["name"] == "box"
    eventually(lambda: site.boards()[0]["up"] and on(running, "a"), within=10)
    assert site.output("b")["pin"] == "box:line-18", "as it was"
    running.end()
    board.end()


METER = """
[input.meter]
kind = "counter"
pin = "near:J3-8"
unit = "kWh"
pulse = 0.001
"""


def test_a_meter_counts_on_over_restarts_reloads_and_names(tmp_path: Path) -> None:
    running = Running(tmp_path, SITE + METER)

    def count(pulses: int, name: str = "meter") -> float:
        running.link().set_input(name, False)
        for _ in range(pulses):
            running.link().set_input(name, True)
            running.link().set_input(name, False)
        before = total["now"]
        total["now"] = before + pulses
        eventually(lambda: round(running.site.input(name)["total"] * 1000) == total["now"])
        return total["now"] / 1000

    total = {"now": 0}
    count(250)
    assert running.site.input("meter")["state"] == "0.25 kWh"
    running.again()
    count(250)
    assert running.site.input("meter")["state"] == "0.5 kWh"
    running.site.change("input", "meter", pull="up", window="1 h", label="Meter")
    count(10)
    running.site.rename("input", "meter", "main-meter")
    count(10, "main-meter")
    running.again()
    assert round(count(1, "main-meter") * 1000) == 521
    assert running.site.input("main-meter")["value"] == pytest.approx(0.001), (
        "in the last hour, of this start"
    )
    running.end()
