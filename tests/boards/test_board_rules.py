"""Interlocks that a board keeps by itself: whatever hosts say, hang or are cut off, at the pins of the emulated chip."""

from __future__ import annotations

import random
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from cairnwind.boards.links.modbus import link_to
from cairnwind.boards.onboard import NEEDS, NEEDS_ANALOGUE, TRIP, TRIP_ANALOGUE, BoardRule, Table, fit, tables
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.site import Site
from cairnwind.core.language.forms import Rules
from cairnwind.core.values.settings import OFF, ON
from cairnwind.site.plans import read_plan
from cairnwind.site.reader import read_site
from cairnwind.site.rules import read_rules
from tests.boards import emulated
from tests.boards.test_firmware import MODE, OUTPUT, VALUE, Host, garbage
from tests.conftest import Running, eventually, of_kind

UP, DOWN, HEATER, DOOR, KNOB, VENT = 16, 17, 22, 20, 3, 23
SITE = f"""
site = "Yard"
timezone = "UTC"
[board.yard]
link = "modbus"
port = "PORT"
watchdog = "WATCHDOG"
[board.shed]
link = "simulated"
lines = 8
[output]
winch-up = {{ kind = "relay", pin = "yard:line-{UP}" }}
winch-down = {{ kind = "relay", pin = "yard:line-{DOWN}", sense = "active-low" }}
kiln = {{ kind = "heater", pin = "yard:line-{HEATER}", rearm = "auto" }}
vent = {{ kind = "fan", pin = "yard:line-{VENT}" }}
bell = {{ kind = "relay", pin = "shed:line-1" }}
[input]
door = {{ kind = "contact", pin = "yard:line-{DOOR}", pull = "up", sense = "active-low", words = ["open", "shut"] }}
heat = {{ kind = "analogue", pin = "yard:line-{KNOB}", unit = "°C", scale = [["0 V", 0], ["5 V", 500]], hysteresis = 20 }}
hatch = {{ kind = "contact", pin = "shed:line-4" }}
[[interlock]]
name = "one way"
excludes = ["winch-up", "winch-down"]
gap = "300 ms"
[[interlock]]
name = "not long"
pace = {{ longest_on = "700 ms", rest = "400 ms" }}
outputs = ["winch-up", "winch-down", "bell"]
[[interlock]]
name = "door shut"
needs = "door is shut and vent is on for 200 ms"
outputs = ["kiln"]
[[interlock]]
name = "too hot"
trip = "heat is above 300 °C or hatch is open"
outputs = ["kiln"]
[[interlock]]
name = "far too hot"
trip = "heat is above 400 °C"
outputs = ["kiln", "bell"]
[[interlock]]
name = "both here and there"
excludes = ["kiln", "bell"]
"""


def read(folder: Path, port: str = "/dev/ttyUSB77", watchdog: str = "400 ms") -> tuple[Site, Rules]:
    path = folder / "yard.toml"
    path.write_text(SITE.replace("PORT", port).replace("WATCHDOG", watchdog))
    site = read_site(path)
    return site, read_rules(site, read_plan(site))


def test_what_fits_a_board_and_what_stays_with_the_service(tmp_path: Path) -> None:
    site, rules = read(tmp_path)
    own = {rule.name: list(fit(site, "yard", rule)) for rule in rules.interlocks}
    one_way, *_ = own["one way"]
    assert (one_way.lines, one_way.a) == ((UP, DOWN), 297), (
        "a little sooner than the host, whose clock is another"
    )
    assert [(rule.lines, rule.a, rule.b) for rule in own["not long"]] == [
        ((UP,), 708, 396),
        ((DOWN,), 708, 396),
    ]
    door, vent = own["door shut"]
    assert (door.kind, door.pin, door.high, door.b) == (NEEDS, DOOR, False, 0), "active-low"
    assert (vent.kind, vent.pin, vent.high, vent.b) == (NEEDS, VENT, True, 198)
    assert own["too hot"] == [], "the board sees half of its cause: that would be another rule"
    (hot,) = own["far too hot"]
    assert (hot.kind, hot.outputs, hot.high, hot.bound, hot.b) == (TRIP_ANALOGUE, ("kiln",), True, 818, 40)
    assert own["both here and there"] == []
    table = tables(site, rules.interlocks)["yard"]
    assert len(table.rules) == 6
    assert len(table.words) == 128


def test_random_hosts_break_no_rule() -> None:
    """The portable part against an oracle of its own; 10,000,000 cycles of it are run by hand (docs/firmware.md)."""
    hosts = emulated.build("hosts")
    for seed in (1, 2):
        said = subprocess.run(
            [hosts, hosts.parent / "portable.so", "60000", str(seed)],
            capture_output=True,
            text=True,
            check=False,
        )
        print(said.stdout.strip())
        assert said.returncode == 0, said.stdout + said.stderr
        assert all(
            int(word) > 10
            for word in said.stdout.replace(",", "").split("Starts under")[1].split()
            if word.isdigit()
        )


@pytest.fixture(params=["", "atmega324p"], ids=["atmega1284p", "atmega324p"])
def chip(request: pytest.FixtureRequest) -> Iterator[emulated.Board]:
    found = emulated.emulated(chip=request.param)
    yield found
    found.end()


def two(up: int, down: int) -> Table:
    """Two that exclude each other with a gap of 80 ms, neither on for longer than 250 ms."""
    limits = [BoardRule("l", 3, ("x",), (pin,), a=250, b=60) for pin in (up, down)]
    return Table((BoardRule("e", 2, ("x", "y"), (up, down), a=80), *limits))


def load(host: Host, table: Table, generation: int | None = None) -> None:
    words = table.words
    host.write(1, 1)
    host.write(9, 0)
    for at in range(0, len(words), 64):
        host.write(256 + at, *words[at : at + 64])
    host.write(8, table.sum)
    host.write(9, table.generation if generation is None else generation)


def test_hang_cut_garbage_and_a_wrong_host_never_both_never_longer(chip: emulated.Board) -> None:
    """Four seconds of each, at the pins: two that exclude each other with a gap of 80 ms, neither on for longer than 250 ms."""
    up, down = 20, 21
    host = Host(chip.port)
    host.write(0, 600)
    for pin in (up, down):
        host.write(MODE + pin, OUTPUT)
    table = two(up, down)
    load(host, table)
    assert host.refused(MODE + up, 0) == 6, "a pin that a rule names is not taken out of its hands"
    assert host.refused(96 + up, 1) == 6, "nor is what counts as off"
    assert host.refused(256, 0) == 6
    chance = random.Random(5)
    chip.ask(f"pair {up} {down}")

    def press(end: float) -> int:
        went_on = 0
        while time.monotonic() < end:
            pin, on = chance.choice((up, down)), chance.random() < 0.7
            answer = host.client.write_coil(pin, on, device_id=1)
            went_on += on and not answer.isError()
            if chance.random() < 0.2:
                host.client.write_coils(up, [True, True], device_id=1)
            if chance.random() < 0.1:
                host.client.write_register(
                    160 + 32 * chance.randrange(2) + up, chance.randrange(50), device_id=1
                )
            time.sleep(chance.random() * 0.05)
        return went_on

    assert press(time.monotonic() + 4) > 5
    host.client.write_coil(up, True, device_id=1)
    time.sleep(0.8)  # it hangs, or its cable is pulled
    assert chip.ask("pins")[1][up] == "0"
    garbage(chip.port, chance)
    time.sleep(0.1)
    chip.tell("reset")  # its rules are there before anybody speaks
    time.sleep(0.3)
    assert host.kept(9) == [table.generation]
    assert press(time.monotonic() + 4) > 5
    stack = int(chip.ask("stack")[1])
    print(f"{stack} bytes of stack")
    assert stack < 205, "of 211 that the smaller chip has left"
    both, gap, longest = (float(word) for word in chip.ask(f"pair {up} {down}")[1:])
    print(f"both for {both} ms, the shortest gap {gap:.2f} ms of 80, the longest on {longest:.2f} ms of 250")
    assert both == 0
    assert gap >= 79
    assert longest <= 252
    host.client.close()


def test_needs_and_trips_at_the_pin_within_milliseconds(chip: emulated.Board) -> None:
    heater, door, knob = 20, 19, 3
    host = Host(chip.port)
    host.write(0, 0)
    chip.tell(f"level {door} 1")
    chip.tell(f"analogue {knob} 1000")
    for pin, mode in ((heater, OUTPUT), (door, 0), (knob, 4)):
        host.write(MODE + pin, mode)
    time.sleep(0.3)
    load(
        host,
        Table((
            BoardRule("door", NEEDS, ("h",), (heater,), door, True),
            BoardRule("cool", NEEDS_ANALOGUE, ("h",), (heater,), knob, False, bound=512, b=50, a=20),
            BoardRule("trip", TRIP, ("h",), (heater,), 18, True, a=5),
        )),
    )  # fmt: skip
    trip = 18
    chip.tell(f"level {trip} 0")
    time.sleep(0.05)
    host.write(7, 2)
    host.write(VALUE + heater, 1)
    chip.tell(f"level {door} 0")
    eventually(lambda: not chip.pin(heater))
    assert host.read(96 + heater) == [1], "the rule that did it"
    chip.tell(f"level {door} 1")
    time.sleep(0.05)
    assert not chip.pin(heater), "it comes on again by a command alone"
    host.write(VALUE + heater, 1)
    chip.tell(f"analogue {knob} 3000")
    eventually(lambda: not chip.pin(heater))
    host.write(384 + heater, 40)
    assert host.refused(VALUE + heater, 1) == 6
    chip.tell(f"analogue {knob} 1000")
    time.sleep(0.1)
    host.write(VALUE + heater, 1)
    time.sleep(0.1)
    assert chip.pin(heater), "what was to last 40 ms is not this one"
    chip.tell(f"level {trip} 1")
    eventually(lambda: not chip.pin(heater))
    assert host.refused(7, 2) == 6, "its cause is still there"
    chip.tell(f"level {trip} 0")
    time.sleep(0.5)  # it is kept, byte by byte
    chip.tell("reset")
    time.sleep(0.3)
    assert host.read(27) == [4]
    assert host.refused(VALUE + heater, 1) == 6, "latched, over a reset too"
    host.write(7, 2)
    host.write(VALUE + heater, 1)
    assert chip.pin(heater)
    host.client.close()


def test_the_link_loads_compares_and_passes_on_what_the_board_says(tmp_path: Path) -> None:
    board = emulated.emulated()
    site, rules = read(tmp_path, board.port)
    table = tables(site, rules.interlocks)["yard"]
    said: list[ev.Event] = []
    link = link_to(site.boards["yard"])
    own = [output for output in site.outputs.values() if output.pin.board == "yard"]
    inputs = [input for input in site.inputs.values() if input.pin.board == "yard"]
    from cairnwind.service.startup import clock

    board.tell(f"level {DOOR} 1")
    board.tell(f"analogue {KNOB} 1000")
    link.open(own, inputs, said.append, clock, lambda: True)
    eventually(lambda: of_kind(said, ev.LinkUp), within=20)
    assert link.why_not_kept() == "it has not been heard of yet"
    link.keep(table)
    eventually(lambda: link.why_not_kept() == "")
    assert not of_kind(said, ev.LinkLost), "nothing was on: they are loaded as it stands"
    time.sleep(0.8)
    link.drive([ev.Drive("winch-up", 1, ON)])
    eventually(lambda: any(each.setting == ON for each in of_kind(said, ev.Confirmed)))
    link.drive([ev.Drive("winch-down", 1, ON)])
    failed = eventually(lambda: of_kind(said, ev.Failed))[0]
    assert failed.reason.startswith("it is held by the board's rule 'one way'")
    eventually(
        lambda: any(each.setting == OFF for each in of_kind(said, ev.Confirmed)), within=3
    )  # 'not long'
    link.drive([ev.Drive("kiln", 1, ON)])
    assert "the board's rule 'door shut'" in eventually(lambda: of_kind(said, ev.Failed)[1:])[0].reason
    board.tell(f"analogue {KNOB} 4500")
    assert eventually(lambda: of_kind(said, ev.BoardTripped))[0].trip == "far too hot"
    board.tell(f"analogue {KNOB} 1000")
    time.sleep(0.3)
    link.reset_trip("far too hot")
    time.sleep(1.0)
    assert len(of_kind(said, ev.BoardTripped)) == 1, "reset, and not told again"
    link.drive([ev.Drive("vent", 1, ON)])
    eventually(lambda: any(each.output == "vent" for each in of_kind(said, ev.Confirmed)))
    link.keep(Table(table.rules[:2]))
    assert "other rules are put in force" in eventually(lambda: of_kind(said, ev.LinkLost))[0].reason
    eventually(lambda: len(of_kind(said, ev.LinkUp)) == 2 and link.why_not_kept() == "", within=8)
    link.close()
    board.end()


def test_where_each_rule_is_kept_and_what_a_reload_does_to_it(tmp_path: Path) -> None:
    """The service with the firmware as a program: what is in force, other rules by a reload, a trip that the board alone saw."""
    running = Running(tmp_path, SITE.replace("PORT", "simulated").replace("WATCHDOG", "2 s"))
    site = running.site

    def kept() -> dict[str, list[str]]:
        return {
            rule["name"]: [
                f"{each['board']} {', '.join(each['outputs'])} {each['why_not']}" for each in rule["boards"]
            ]
            for rule in site.rules()
        }

    eventually(lambda: kept()["one way"] == ["yard winch-up, winch-down "], within=8)
    assert kept()["not long"] == ["yard winch-up, winch-down "]
    assert kept()["far too hot"] == ["yard kiln "]
    assert kept()["too hot"] == []
    said = running.cli("rules", "winch-up").stdout
    assert "kept here and by board yard itself\n" in said
    assert "kept here and by board yard itself for winch-up, winch-down" in said
    site.turn("vent", "on")
    eventually(lambda: site.output("vent")["confirmed"]["on"])
    text = running.site_file.read_text().replace('gap = "300 ms"', 'gap = "500 ms"')
    running.site_file.write_text(text)
    site.reload()
    eventually(lambda: any("other rules are put in force" in row["text"] for row in site.journal()))
    eventually(lambda: kept()["one way"] == ["yard winch-up, winch-down "], within=8)
    eventually(lambda: site.output("vent")["confirmed"]["on"])  # set up anew from safe, and back
    link = running.service.machine.links["yard"]
    link._report(ev.BoardTripped(link.clock(), "yard", "far too hot"))  # type: ignore[attr-defined]
    eventually(lambda: [trip["name"] for trip in site.facts()["trips"]] == ["far too hot"])
    running.end()
