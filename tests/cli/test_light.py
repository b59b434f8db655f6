"""Light and sound at the command line, on the demo site: the gallery's fade, the shelf's colour, the bell's tune, the trolley."""

from __future__ import annotations

import json
import signal
import subprocess
import time
import wave
from pathlib import Path
from typing import Any

import mido
import pytest
from vcdvcd import VCDVCD

from tests.conftest import CAIRNWIND, Demo, cairnwind, eventually, spawn


def test_the_gallery_fades(demo: Demo) -> None:
    said = demo.cli("turn", "gallery", "60%", "--over", "500ms")
    assert (said.returncode, said.stdout.startswith("gallery: fading to 60 % over 500 ms (confirmed")) == (
        0,
        True,
    )
    eventually(lambda: demo.now("gallery")["level"] == 60)
    why = demo.cli("why", "gallery").stdout
    assert "wants it fading to 60 % over 500 ms" in why
    shown = demo.cli(
        "run", "breathe", "gallery", "--low", "10%", "--in", "2s", "--times", "2", "--preview"
    ).stdout
    assert "lasts 8 s, then it lets go" in shown
    assert "█" in shown
    assert demo.now("gallery")["level"] == 60, "a preview does nothing"
    form = json.loads(
        demo.cli("run", "ramp", "gallery", "--to", "20%", "--over", "3s", "--preview", "--json").stdout
    )[0]
    assert form["curve"][0][1]["level"] == 60, "from what it is at"
    assert 0 < form["writes"] <= form["writes_if_sampled"] + 1 == 151
    refused = demo.cli("turn", "gallery", "101%")
    assert (refused.returncode, "outside 0 to 100 %" in refused.stderr) == (2, True)
    assert demo.cli("run", "blink", "gallery", "--in", "2s").returncode == 2, "a blink has no --in"


def test_the_shelf_has_colours_and_the_path_a_chase(demo: Demo) -> None:
    assert "shelf-colour: coral (confirmed" in demo.cli("turn", "shelf-colour", "coral").stdout
    assert "no colour" in demo.cli("turn", "shelf-colour", "corall").stderr
    sequence = demo.cli(
        "run",
        "sequence",
        "shelf-colour",
        "--to",
        "teal",
        "--to",
        "gold",
        "--over",
        "100ms",
        "--end",
        "indigo",
    )
    assert sequence.returncode == 0, sequence.stderr
    eventually(lambda: demo.now("shelf-colour")["words"] == "indigo")
    parts = [f"path-{number}" for number in range(1, 5)]
    said = demo.cli(
        "run", "chase", *parts, "--step", "100ms", "--high", "teal", "--for", "1s"
    ).stdout.splitlines()
    assert [line.split(":")[0] for line in said] == parts
    eventually(lambda: not demo.site.output("path-4")["claims"], within=3)


def test_the_bell_plays(demo: Demo, tmp_path: Path) -> None:
    assert "bell: a tune of 5 notes" in demo.cli("play", "welcome").stdout
    eventually(lambda: not demo.site.output("bell")["claims"])
    assert (
        "a tune of 3 notes"
        in demo.cli("play", "tempo", "600", "E5", "rest", "440Hz:1/2", "C6", "--on", "bell").stdout
    )
    assert "bell: A4 (440 Hz) (confirmed" in demo.cli("turn", "bell", "A4").stdout
    file = mido.MidiFile()
    track = mido.MidiTrack()
    file.tracks.append(track)
    for note in (60, 64, 67):
        track.append(mido.Message("note_on", note=note, velocity=64, time=0))
        track.append(mido.Message("note_off", note=note, time=120))
    file.save(tmp_path / "chord.mid")
    assert "a tune of 3 notes" in demo.cli("play", "--midi", str(tmp_path / "chord.mid")).stdout
    assert (
        demo.cli("play", "--midi", str(tmp_path / "chord.mid"), "--text").stdout
        == "tempo 120 C4:1/4 E4:1/4 G4:1/4\n"
    )
    (tmp_path / "bad.mid").write_bytes(b"MThd nonsense")
    bad = demo.cli("play", "--midi", str(tmp_path / "bad.mid"))
    assert (bad.returncode, "bad.mid is no MIDI file" in bad.stderr) == (2, True)
    for wrong, says in ((("play", "H4"), "Word 1"), (("play", "A4", "--on", "gallery"), "takes a level"), (("play",), "Give a tune"),
                        (("play", "nosuchtune"), "Word 1"), (("play", "A4", "--test"), "Give a tune, or one")):  # fmt: skip
        refused = demo.cli(*wrong)
        assert (refused.returncode, says in refused.stderr) == (2, True), wrong
    out = tmp_path / "tune.wav"
    assert cairnwind("play", "A4:1/2", "C5:1/2", "--wav", str(out)).returncode == 0, "without a service"
    with wave.open(str(out)) as heard:
        assert (heard.getframerate(), heard.getnchannels(), heard.getnframes()) == (44_100, 1, 22_050)


def test_a_sweep_is_stopped_where_it_is_loudest(demo: Demo) -> None:
    sweeping = spawn(
        CAIRNWIND,
        "--state",
        demo.state,
        "play",
        "--sweep",
        "500Hz",
        "4kHz",
        "--over",
        "20s",
        stdout=subprocess.PIPE,
    )
    eventually(lambda: (demo.now("bell").get("hertz") or 0) > 520)
    sweeping.send_signal(signal.SIGINT)
    out, _ = sweeping.communicate(timeout=60)
    assert "bell: stopped at" in out
    eventually(lambda: not demo.now("bell")["on"])


def test_the_trolley_is_steered_and_its_stick_too(demo: Demo) -> None:
    moved = json.loads(demo.cli("steer", "trolley", "0", "60", "--for", "600ms", "--json").stdout)
    assert moved["left"] == moved["right"] > 30

    def let_go() -> Any:
        rows = demo.site.signals(["trolley-left"], seconds=5)["signals"][0]
        return rows if rows["values"][-1] == 0 else None

    rows = eventually(let_go)
    assert max(value for value in rows["values"] if value is not None) == pytest.approx(moved["left"])
    rising = [value for value in rows["values"] if value]
    assert len(rising) >= 2, "it was not thrown at full"
    for volts in ("2.5 V", "4.3 V"):
        demo.cli("pretend", "stick-along", volts)
        eventually(
            lambda v=volts: (
                abs(
                    next(each for each in demo.site.inputs() if each["name"] == "stick-along")["volts"]
                    - float(v.split()[0])
                )
                < 0.1
            )
        )
    eventually(lambda: (demo.now("trolley-right") or {}).get("drive", 0) > 50)
    assert demo.site.output("trolley-right")["by"] == "a hold at the stick (Kiln trolley)"
    demo.cli("pretend", "stick-along", "2.5 V")
    eventually(lambda: not (demo.now("trolley-right") or {"on": True})["on"])
    assert (
        "from -100 to 100" in demo.cli("steer", "trolley", "0", "600").stderr
        or demo.cli("steer", "trolley", "0", "600").returncode == 2
    )


def test_signals_are_drawn_and_saved(demo: Demo, tmp_path: Path) -> None:
    demo.cli("turn", "bench-lamp", "on")
    time.sleep(0.3)
    demo.cli("turn", "bench-lamp", "off")
    drawn = demo.cli("watch", "--wave", "bench-lamp", "gallery", "--seconds", "5").stdout
    row = next(line for line in drawn.splitlines() if line.strip().startswith("bench-lamp"))
    assert "▔" in row
    assert row.rstrip().endswith("off")
    path = tmp_path / "out.vcd"
    assert "lines" in demo.cli("watch", "bench-lamp", "bell", "--save", str(path), "--seconds", "20").stdout
    vcd = VCDVCD(str(path))
    assert {"bench-lamp.level", "bell.hertz"} <= set(vcd.references_to_ids)
    assert demo.cli("watch", "bench-lamp", "--save", str(tmp_path / "out.csv")).returncode == 0
    assert (tmp_path / "out.csv").read_text().startswith("time_utc,signal,value,unit,hertz\n")
    assert demo.cli("watch", "bench-lamp", "--save", str(tmp_path / "out.xyz")).returncode == 2
    assert demo.cli("watch", "--wave", "nobody").returncode == 4


@pytest.mark.parametrize(
    ("args", "code", "says"),
    [
        (["440Hz", "--timer", "small-board"], 0, "439.9956 Hz"),
        (["25kHz", "--timer", "made-fine-duty", "--duty", "30%", "--first", "resolution"], 0, "best"),
        (["1Hz", "--timer", "made-fixed-period"], 0, "the nearest is 61.0352 Hz"),
        (["--timer", "small-board", "--registers", "8", "4544", "2272"], 0, "440.044 Hz"),
        (["--timer", "small-board", "--registers", "9", "4544", "2272"], 2, "no prescaler 9"),
        (["0Hz", "--timer", "header"], 2, "no frequency"),
        (["440Hz", "--timer", "header", "--duty", "101%"], 2, "0 to 100 %"),
        (["440Hz", "--timer", "hedder"], 4, "no timer called 'hedder'"),
        ([], 0, "made-six-channels"),
    ],
)
def test_fit_needs_no_service(args: list[str], code: int, says: str) -> None:
    found = cairnwind("fit", *args)
    assert found.returncode == code, found.stderr
    assert says in found.stdout + found.stderr
    if not code and args:
        assert isinstance(json.loads(cairnwind("fit", *args, "--json").stdout), dict)


@pytest.mark.parametrize("more", [[], ["--json"]])
def test_half_brightness_is_found_by_eye(demo: Demo, more: list[str]) -> None:
    found = subprocess.run(
        [CAIRNWIND, "--state", demo.state, "compare", "gallery", "--beside", "window", *more],
        input="d\nb\nh\n",
        capture_output=True,
        text=True,
        timeout=30,
        check=False,
    )
    assert found.returncode == 0, found.stderr
    last = found.stdout.splitlines()[-1]
    if more:
        assert json.loads(found.stdout) == {"output": "gallery", "curve": [[0, 0], [50, 28.1], [100, 100]]}
    else:
        assert "curve = [[0, 0], [50, 28.1], [100, 100]]" in last
    assert not demo.site.output("window")["claims"]
