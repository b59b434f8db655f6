"""Light and sound through HTTP, the client and the pins: programs, colours, tones, drives, signals, and what is refused."""

from __future__ import annotations

import csv
import io
import itertools
import json
import time
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from vcdvcd import VCDVCD

from cairnwind.core.physics.light import LIGHTNESS
from cairnwind.core.values import colours
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.settings import FULL
from cairnwind.service.signals import Row, edges, square
from tests.conftest import Running, eventually

SITE = """\
site = "Bench"
timezone = "Europe/London"
[board.near]
link = "simulated"
map = "header-34"
[board.strip]
link = "strip"
device = "simulated"
lamps = 8
[output.lamp]
kind = "lamp"
pin = "near:J2-14"
frequency = "2 kHz"
[output.relay]
kind = "relay"
pin = "near:J2-9"
[output.colour]
kind = "colour-lamp"
pins = { red = "near:J2-16", green = "near:J2-17", blue = "near:J2-18" }
frequency = "2 kHz"
sense = "active-low"
[output.bell]
label = "Bell"
kind = "sounder"
pin = "near:J2-6"
[output.left]
kind = "motor"
pin = "near:J2-8"
frequency = "20 kHz"
reverse = "near:J2-10"
[output.right]
kind = "motor"
pin = "near:J2-15"
frequency = "2 kHz"
reverse = { direction = "near:J2-3" }
[output.winch]
kind = "motor"
pin = "near:J2-4"
reverse = "near:J2-7"
[output.run-a]
kind = "colour-lamp"
pin = "strip:line-0"
lamps = 4
[output.run-b]
kind = "colour-lamp"
pin = "strip:line-12"
lamps = 4
[input.dial]
kind = "analogue"
pin = "near:J3-10"
[input.door]
kind = "contact"
pin = "near:J3-4"
[pad.drive]
left = "left"
right = "right"
[tune.hello]
notes = "tempo 240 C5 E5 G5"
"""


@pytest.fixture(scope="module")
def bench(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    found = Running(tmp_path_factory.mktemp("bench"), SITE)
    yield found
    found.end()


def now(bench: Running, name: str) -> dict[str, Any]:
    confirmed: dict[str, Any] = bench.site.output(name)["confirmed"]
    return confirmed


def test_a_lamp_is_set_by_what_is_seen_and_by_its_duty(bench: Running) -> None:
    assert bench.site.turn("lamp", "50 %").ending == "confirmed"
    assert bench.link().level("lamp") == LIGHTNESS.duty(500_000) == 184_187
    bench.site.turn("lamp", "50 % duty")
    assert bench.link().level("lamp") == 500_000
    assert now(bench, "lamp")["words"] == "50 % duty"
    with bench.site.hold("lamp", {"duty": 12.5, "hertz": 2000}) as held:  # type: ignore[arg-type]
        assert held.outcome is not None
        assert (bench.link().level("lamp"), bench.link().hertz[7]) == (125_000, 2_000_000)
        held.change({"duty": 20})  # type: ignore[arg-type]
        assert bench.link().level("lamp") == 200_000
    eventually(lambda: bench.link().level("lamp") == 500_000)
    with pytest.raises(CallerError, match="shares timer T0 with colour"):
        bench.site.turn("lamp", {"duty": 50, "hertz": 3000})
    rows = bench.site.curve("lamp")["rows"]
    assert [row["duty"] for row in rows] == pytest.approx(
        [LIGHTNESS.duty(p * 10_000) / 1e4 for p in range(0, 101, 5)]
    )
    assert rows[-1]["count"] == bench.site.curve("lamp")["steps"] == 27_000
    bench.site.release("lamp")


def test_a_fade_arrives_and_is_seen_on_its_way(bench: Running) -> None:
    before = bench.link().writes
    outcome = bench.site.turn("lamp", "80 %", over="600 ms")
    assert (outcome.outcome, outcome.words) == ("driving", "fading to 80 % over 600 ms")
    assert bench.site.output("lamp")["state"] == "running"
    eventually(lambda: bench.site.output("lamp")["state"] == "confirmed")
    assert now(bench, "lamp") == {"level": 80.0, "on": True, "words": "80 %"}
    assert 10 < bench.link().writes - before <= 31
    texts = [row["text"] for row in bench.site.journal("lamp", limit=5)]
    assert texts[:2] == ["lamp is 80 % (read back)", "lamp to fading to 80 % over 600 ms (driving)"]
    bench.site.release("lamp")


def test_a_program_is_looked_at_before_it_runs(bench: Running) -> None:
    form = {"kind": "breathe", "high": "60 %", "in": "500 ms", "times": 2}
    shown = bench.site.preview("lamp", form)
    assert (shown["seconds"], shown["then"], len(shown["curve"])) == (2.0, "release", 241)
    assert max(point[1]["level"] for point in shown["curve"]) == pytest.approx(60, abs=0.1)
    assert max(point[2] for point in shown["curve"]) == pytest.approx(LIGHTNESS.duty(600_000) / 1e4, abs=0.1)
    assert bench.site.output("lamp")["state"] == "confirmed", "a preview does nothing"
    before = bench.link().writes
    bench.site.run("lamp", form)
    eventually(lambda: not bench.site.output("lamp")["claims"])
    eventually(lambda: not now(bench, "lamp")["on"])
    done = bench.link().writes - before
    assert 0.5 * shown["writes"] <= done <= shown["writes"] + 3, "what it said it would write"


def test_several_begin_at_one_moment_and_all_or_none(bench: Running) -> None:
    chase = {"kind": "chase", "on": "teal", "step": "100 ms", "overlap": "20 ms"}
    outcomes = bench.site.run(["run-a", "run-b"], chase, lasting="5 s")
    assert [outcome.outcome for outcome in outcomes] == ["driving", "driving"]
    assert "number 2 of 2" in outcomes[1].words
    strip = bench.service.machine.links["strip"].simulated  # type: ignore[attr-defined]
    seen: Counter[tuple[bool, bool]] = Counter()
    end = time.monotonic() + 1.0
    while time.monotonic() < end:
        seen[any(strip.channels[:12]), any(strip.channels[12:])] += 1
        time.sleep(0.005)
    assert {(True, False), (False, True)} <= seen.keys()
    assert seen[False, False] <= 3, "but for between two writes, on a busy machine, one of them is always on"
    assert strip.frames > 10
    with pytest.raises(CallerError, match="relay: a breathe needs levels"):
        bench.site.run(["lamp", "relay"], {"kind": "breathe"})
    assert not bench.site.output("lamp")["claims"], "nothing of it was done"
    for name in ("run-a", "run-b"):
        bench.site.release(name)
    eventually(lambda: not any(strip.channels))
    assert now(bench, "run-a")["on"] is False
    assert bench.site.output("run-a")["known"] == "sent", "nothing comes back from a strip"


def test_a_common_anode_colour_lamp(bench: Running) -> None:
    bench.site.turn("colour", "#ff8000")
    pins = bench.link().pins
    assert (pins[5], pins[4], pins[22]) == (0, FULL - colours.linear(round(FULL * 128 / 255)), FULL)
    assert now(bench, "colour") == {"colour": "#ff8000", "on": True, "words": "#ff8000"}
    bench.site.turn("colour", "teal", over="200 ms")
    eventually(lambda: now(bench, "colour")["words"] == "teal")
    bench.link().trouble.stuck[4] = FULL  # green does not come on any more
    bench.site.turn("colour", "white")
    eventually(lambda: bench.site.output("colour")["state"] == "fault")
    assert "shows magenta instead of white" in bench.site.output("colour")["reason"]
    bench.link().trouble.stuck.clear()
    assert bench.site.turn("colour", "off").ending == "confirmed"
    assert [pins[line] for line in (5, 4, 22)] == [FULL] * 3
    bench.site.release("colour")


def test_tones_and_tunes_end_by_themselves(bench: Running) -> None:
    bell = bench.link()
    bench.site.turn("bell", "A4", lasting="300 ms")
    assert (bell.pins[12], bell.hertz[12]) == (FULL // 2, 440_000)
    eventually(lambda: bell.pins[12] == 0)
    bench.site.turn("bell", {"hertz": 1000, "loudness": 20}, lasting="300 ms")
    assert (bell.pins[12], bell.hertz[12]) == (100_000, 1_000_000)
    heard: list[int] = []
    bell.watchers.append(
        lambda line, level: heard.append(bell.hertz[12] if level else 0) if line == 12 else None
    )
    outcome = bench.site.play("bell", "hello")
    assert "a tune of 3 notes" in outcome.words
    eventually(lambda: not bench.site.output("bell")["claims"], within=3)
    assert heard == [523_251, 0, 659_255, 0, 783_991, 0]
    heard.clear()
    bench.site.run("bell", {"kind": "sweep", "from": "500 Hz", "to": "2 kHz", "over": "400 ms"})
    eventually(lambda: not bench.site.output("bell")["claims"], within=3)
    rising = [hertz for hertz in heard if hertz]
    assert len(rising) > 8
    assert rising == sorted(rising)
    bell.watchers.clear()
    assert [tune["name"] for tune in bench.site.tunes()] == ["hello"]


def test_the_pad_drives_while_it_is_renewed_and_no_longer(bench: Running) -> None:
    pins = bench.link().pins
    moved = bench.site.steer("drive", 0, 0.5)
    assert moved["left"] == moved["right"] == pytest.approx(45.65, abs=0.1)
    assert (pins[13], pins[14], pins[6], pins[30]) == (456_522, 0, 456_522, 0)
    for _ in range(8):
        bench.site.steer("drive", 0, -1)
        time.sleep(0.05)
    assert (pins[13], pins[14]) == (0, FULL), "the second line turns it the other way"
    assert (pins[6], pins[30]) == (FULL, FULL), "or PWM does, and a line for the direction"
    last = time.monotonic()
    eventually(lambda: pins[14] == 0)
    assert time.monotonic() - last < 1, "its lease is 300 ms"
    bench.site.steer("drive", 0, 1)
    bench.site.let_go("drive")
    bench.site.lock("right", "red")
    with pytest.raises(CallerError, match="right: locked out"):
        bench.site.steer("drive", 0, 1)
    assert bench.site.output("left")["claims"] == [], "one motor alone would turn what both should move"
    bench.site.unlock("right", "red")
    assert pins[13] == pins[6] == 0


BAD: dict[str, tuple[str, dict[str, Any], str]] = {
    "nothing asked": ("/claims", {"output": "lamp"}, "needs a 'setting' or a 'program'"),
    "both asked": ("/claims", {"output": "lamp", "setting": "on", "program": {"kind": "blink"}}, "one of them"),
    "duty 101 %": ("/claims", {"output": "lamp", "setting": {"duty": 101}}, "outside 0 to 100 %"),
    "frequency zero": ("/claims", {"output": "lamp", "setting": {"duty": 10, "hertz": 0}}, "no frequency"),
    "frequency negative": ("/claims", {"output": "lamp", "setting": {"duty": 10, "hertz": -5}}, "no frequency"),
    "frequency absurd": ("/claims", {"output": "lamp", "setting": {"duty": 10, "hertz": 1e12}}, "no frequency"),
    "a level for a sounder": ("/claims", {"output": "bell", "setting": "40 %"}, "neither a pitch nor a frequency"),
    "a tone for a lamp": ("/claims", {"output": "lamp", "setting": "A4"}, "lamp"),
    "a tone nobody hears": ("/claims", {"output": "bell", "setting": "5 Hz"}, "heard"),
    "a tone without an end": ("/claims", {"output": "bell", "setting": "A4", "lasting": "until released"}, "a tone has an end"),
    "a colour that is none": ("/claims", {"output": "colour", "setting": "corall"}, "no colour"),
    "a colour for a motor": ("/claims", {"output": "left", "setting": "coral"}, "left"),
    "a drive too far": ("/claims", {"output": "left", "setting": "-101 %"}, "-100 to 100"),
    "half for a motor without PWM": ("/claims", {"output": "winch", "setting": "50 %"}, "without PWM"),
    "a fade of a relay": ("/claims", {"output": "relay", "setting": "on", "over": "2 s"}, "needs levels"),
    "a tune for a lamp": ("/claims", {"output": "lamp", "program": "hello"}, "not for what takes a level"),
    "a tune nobody wrote": ("/claims", {"output": "bell", "program": "helo"}, "no tune called 'helo'"),
    "a tune of a million notes": ("/claims", {"output": "bell", "program": {"kind": "tune", "notes": "A4 " * 20_000}}, "more than 2000 notes"),
    "a word that is no note": ("/claims", {"output": "bell", "program": {"kind": "tune", "notes": "A4 X9"}}, "Word 2"),
    "a program that is none": ("/claims", {"output": "lamp", "program": 7}, "no program"),
    "the same output twice": ("/programs", {"outputs": ["lamp", "lamp"], "setting": "on"}, "different"),
    "no outputs": ("/programs", {"outputs": [], "setting": "on"}, "different"),
    "an output nobody has": ("/programs", {"outputs": ["lamp", "lmap"], "setting": "on"}, "no output called 'lmap'"),
    "a preview of a setting": ("/programs/preview", {"output": "lamp", "setting": "on"}, "no curve"),
}  # fmt: skip


@pytest.mark.parametrize(("path", "body", "says"), BAD.values(), ids=BAD)
def test_what_cannot_be_is_refused_in_words_and_nothing_is_half_set(
    bench: Running, path: str, body: dict[str, Any], says: str
) -> None:
    before = bench.link().writes
    response = bench.http("POST", "/api/v1" + path, json=body)
    assert response.status_code in (400, 404, 409), response.text
    problem = response.json()
    assert says in problem["detail"]
    assert problem["remedy"]
    assert bench.link().writes == before
    assert bench.site.call("GET", "/claims") == []


def test_pads_timers_and_signals_refuse_too(bench: Running) -> None:
    for method, path, more in (
        ("PUT", "/pads/drive", {"json": {"x": 2, "y": 0}}),
        ("PUT", "/pads/drive", {"json": {"x": 0}}),
        ("PUT", "/pads/nobody", {"json": {"x": 0, "y": 0}}),
        ("GET", "/timers/header/fit?hertz=0", {}),
        ("GET", "/timers/header/fit?hertz=440&duty=101", {}),
        ("GET", "/timers/nothing/fit?hertz=440", {}),
        ("GET", "/timers/header/fit?hertz=440&first=luck", {}),
        ("GET", "/signals?names=nobody", {}),
        ("GET", "/signals?names=lamp&seconds=-1", {}),
        ("GET", "/signals?names=lamp&seconds=9999", {}),
        ("GET", "/outputs/relay/curve", {}),
    ):
        response = bench.http(method, "/api/v1" + path, **more)
        assert response.status_code in (400, 404), path
        assert response.json()["remedy"], path


def test_signals_hold_what_pins_and_inputs_did(bench: Running) -> None:
    bench.site.turn("relay", "on")
    bench.site.turn("lamp", "100 %", over="300 ms")
    bench.link().put_volts(44, 1.65)
    bench.link().set_input("door", True)
    bench.site.turn("bell", "A4", lasting="200 ms")
    time.sleep(0.5)
    bench.site.turn("relay", "off")
    found = {
        each["name"]: each
        for each in bench.site.signals(["relay", "lamp", "bell", "dial", "door"], seconds=2)["signals"]
    }
    assert found["relay"]["values"][-2:] == [100.0, 0.0]
    assert found["lamp"]["kind"] == "pwm"
    assert found["lamp"]["values"][-1] == 100.0
    assert set(found["lamp"]["hertz"][1:]) == {2000.0}
    assert found["lamp"]["values"][1:] == sorted(found["lamp"]["values"][1:])
    gaps = [b - a for a, b in zip(found["lamp"]["times"][1:], found["lamp"]["times"][2:], strict=False)]
    assert sorted(gaps)[len(gaps) // 2] == pytest.approx(20_000, abs=8000), "microseconds"
    assert found["bell"]["hertz"][-2:] == [440.0, 0.0]
    assert found["dial"]["values"][-1] == pytest.approx(1.65, abs=0.01)
    assert found["door"]["values"][-1] == 1.0

    text = bench.site.export(["relay", "lamp", "bell", "dial", "door", "colour"], "vcd", seconds=2)
    vcd = VCDVCD(vcd_string=text, store_tvs=True)
    names = set(vcd.references_to_ids)
    assert {
        "relay.level",
        "lamp.duty",
        "lamp.hertz",
        "lamp.pin",
        "bell.hertz",
        "dial.value",
        "door.level",
        "colour.red_duty",
    } <= names
    assert [value for _, value in vcd["relay.level"].tv][-2:] == ["1", "0"]
    pin = [(when, int(value)) for when, value in vcd["lamp.pin"].tv if value in "01"]
    rises = [when for (when, value), (_, before) in zip(pin[1:], pin, strict=False) if value and not before]
    spans = sorted(b - a for a, b in itertools.pairwise(rises))
    assert len(rises) > 100
    assert spans[len(spans) // 2] == 500, "2 kHz, in microseconds"
    assert float(vcd["dial.value"].tv[-1][1]) == pytest.approx(1.65, abs=0.01)

    table = list(csv.DictReader(io.StringIO(bench.site.export(["relay", "door"], "csv", seconds=2))))
    assert [row["value"] for row in table if row["signal"] == "relay"][-2:] == ["100", "0"]
    assert table == sorted(table, key=lambda row: row["time_utc"])
    for name in ("relay", "lamp"):
        bench.site.release(name)


ROWS = st.lists(
    st.tuples(st.integers(1, 50_000), st.integers(0, 100), st.sampled_from([0, 50_000, 2_000_000])),
    min_size=1,
    max_size=6,
)


@given(ROWS)
def test_the_square_wave_has_the_duty_it_stands_for(spans: list[tuple[int, int, int]]) -> None:
    rows, at = [], 0
    for length, value, millihertz in spans:
        rows.append(Row(at, float(value), millihertz))
        at += length
    wave = list(square(rows, at))
    assert wave == sorted(wave, key=lambda edge: edge[0])
    assert len(wave) <= edges(rows, at) + 2 * len(rows)
    high = sum((b - a) for (a, level), (b, _) in zip(wave, [*wave[1:], (at * 1000, 0)], strict=True) if level)
    exact = sum(
        length * 1000 * value / 100 for length, value, millihertz in spans if millihertz and 0 < value < 100
    )
    exact += sum(
        length * 1000
        for length, value, millihertz in spans
        if (not millihertz or value == 100) and value > 50
    )
    slack = sum(10**12 / millihertz for _, value, millihertz in spans if millihertz and 0 < value < 100)
    assert abs(high - exact) <= slack + 1, "to a period of each row"


JUNK = st.recursive(
    st.one_of(st.none(), st.booleans(), st.integers(-10**6, 10**9), st.floats(allow_nan=False, allow_infinity=False), st.text(max_size=12)),
    lambda inner: st.one_of(st.lists(inner, max_size=3), st.dictionaries(st.sampled_from(
        ["kind", "on", "off", "lit", "dark", "times", "to", "from", "over", "steps", "notes", "level", "duty", "hertz", "colour", "loudness", "drive", "step"]), inner, max_size=4)),
    max_leaves=8,
)  # fmt: skip


@settings(max_examples=120, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.sampled_from(["lamp", "colour", "bell", "left", "relay"]), st.sampled_from(["setting", "program"]), JUNK,
       st.sampled_from(["blink", "breathe", "ramp", "chase", "sequence", "candle", "tune", "sweep", None]))  # fmt: skip
def test_no_request_makes_the_service_stumble(
    bench: Running, output: str, member: str, junk: Any, kind: str | None
) -> None:
    value = {**junk, "kind": kind} if isinstance(junk, dict) and kind and member == "program" else junk
    response = bench.http(
        "POST",
        "/api/v1/claims",
        data=json.dumps({"output": output, member: value}),
        headers={"Content-Type": "application/json"},
    )
    assert response.status_code < 500, response.text
    bench.site.release(output)
    assert bench.site.output(output)["state"] != "unreachable"


def test_light_is_found_again_after_a_restart(tmp_path: Path) -> None:
    running = Running(tmp_path, SITE)
    try:
        running.site.run("lamp", {"kind": "blink", "lit": "30 s", "dark": "30 s"}, lasting="until released")
        running.site.turn("colour", "coral")
        running.site.run("bell", {"kind": "tune", "notes": "A4:60"})
        running.site.steer("drive", 0, 1)
        running.again()
        assert running.link().level("lamp") == FULL
        assert running.site.output("lamp")["claims"][0]["setting"]["program"] == "blink"
        assert running.site.output("colour")["confirmed"]["words"] == "coral"
        assert running.site.output("bell")["claims"] == []
        assert (running.link().pins[13], running.link().pins[12]) == (0, 0), (
            "no motor and no sounder by itself"
        )
        running.link().unplug()
        running.link().plug()
        eventually(lambda: running.link().level("lamp") == FULL)
        running.site.stop("enough")
        eventually(lambda: running.link().level("lamp") == 0)
    finally:
        running.end()
