"""Figures as OpenMetrics: read by a reader of our own after the text of the standard (1.0), and held against what the API says."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

import pytest

from cairnwind.client import Trouble
from tests.conftest import ROOT, Running, eventually

SITE = """
site = "A \\"shed\\" \\\\ and\\ta barn"
timezone = "Europe/London"
[board.near]
link = "simulated"
lines = 8
[board.far]
link = "modbus"
port = "/dev/ttyUSB88"
[output.lamp]
kind = "lamp"
pin = "near:line-0"
frequency = "800 Hz"
[output.kiln]
kind = "relay"
pin = "near:line-1"
[output.away]
kind = "relay"
pin = "far:line-16"
[input.door]
kind = "contact"
pin = "near:line-4"
words = ["closed", "open"]
[[interlock]]
name = "shut"
needs = "door is closed"
outputs = ["kiln"]
"""
NAME, LABEL = r"[a-zA-Z_:][a-zA-Z0-9_:]*", r'[a-zA-Z_][a-zA-Z0-9_]*="(?:[^"\\\n]|\\["\\n])*"'
NUMBER = r"[+-]?(?:\d+(?:\.\d*)?|\.\d+)(?:[eE][+-]?\d+)?|[+-]?[iI]nf|NaN"
SAMPLE = re.compile(rf"({NAME})(?:\{{({LABEL}(?:,{LABEL})*)?\}})? ({NUMBER})(?: ({NUMBER}))?")
SUFFIXES = {
    "counter": ("_total", "_created"),
    "gauge": ("",),
    "info": ("_info",),
    "histogram": ("_bucket", "_count", "_sum", "_created"),
    "unknown": ("",),
}


class Family(NamedTuple):
    kind: str
    unit: str
    samples: dict[tuple[str, frozenset[tuple[str, str]]], float]


def read(text: str) -> dict[str, Family]:
    """The standard's own rules: metadata first and once, families whole, names by their type, one end."""
    assert text.endswith("\n# EOF\n")
    families: dict[str, Family] = {}
    open_, seen = "", set()
    for line in text.removesuffix("# EOF\n").splitlines():
        if match := re.fullmatch(rf"# (TYPE|HELP|UNIT) ({NAME}) (.*)", line):
            what, name, said = match.groups()
            assert (what, name) not in seen
            seen.add((what, name))
            if name != open_:
                assert name not in families, f"{name} is not whole"
                families[name], open_ = Family("unknown", "", {}), name
            assert not families[name].samples, "metadata come first"
            if what == "TYPE":
                assert said in SUFFIXES
                families[name] = families[name]._replace(kind=said)
            elif what == "UNIT":
                assert name.endswith(f"_{said}")
                families[name] = families[name]._replace(unit=said)
            continue
        found = SAMPLE.fullmatch(line)
        assert found is not None, line
        family = families[open_]
        assert found[1] in {open_ + suffix for suffix in SUFFIXES[family.kind]}, line
        labels = frozenset(tuple(each.split("=", 1)) for each in re.findall(LABEL, found[2] or ""))
        key = found[1], labels
        assert key not in family.samples, line
        family.samples[key] = float(found[3])
        if family.kind in ("counter", "histogram"):
            assert float(found[3]) >= 0
    for name, family in families.items():
        if family.kind == "histogram":
            buckets = [
                (float(dict(labels)["le"].strip('"')), value)
                for (each, labels), value in family.samples.items()
                if each.endswith("_bucket")
            ]
            assert buckets == sorted(buckets)
            assert [value for _, value in buckets] == sorted(value for _, value in buckets)
            assert buckets[-1] == (float("inf"), family.samples[f"{name}_count", frozenset()])
    return families


@pytest.fixture
def running(tmp_path: Path) -> Iterator[Running]:
    found = Running(tmp_path, SITE)
    yield found
    found.end()


def figures(running: Running) -> dict[str, dict[str, float]]:
    """Samples by name, each by its labels as text."""
    answer = running.http("GET", "/metrics")
    assert answer.headers["Content-Type"].startswith("application/openmetrics-text; version=1.0.0")
    found: dict[str, dict[str, float]] = {}
    for family in read(answer.text).values():
        for (name, labels), value in family.samples.items():
            found.setdefault(name.removeprefix("cairnwind_"), {})[
                ",".join(f"{key}={text}" for key, text in sorted(labels))
            ] = value
    return found


def test_figures_are_of_the_standard_and_say_what_the_api_says(running: Running) -> None:
    site = running.site
    before = figures(running)
    assert r'site="A \"shed\" \\ and' in next(iter(before["service_info"]))
    for _ in range(3):
        site.turn("lamp", "25 %")
        site.turn("lamp", "off")
    site.turn("lamp", "50 %")
    running.link().set_input("door", True)
    eventually(lambda: site.input("door")["active"])
    with pytest.raises(Trouble, match="shut"):
        site.turn("kiln", "on")
    now = figures(running)
    assert now["commands_total"]['outcome="driving",surface="client"'] == 7
    assert sum(count for labels, count in now["commands_total"].items() if "driving" not in labels) == 1
    assert now["decision_seconds_count"][""] == sum(now["commands_total"].values())
    assert now["pin_seconds_count"][""] == 7
    assert now["asking_seconds_count"][""] - before["asking_seconds_count"][""] == 8
    assert now["reading_seconds_count"][""] > before["reading_seconds_count"][""]
    assert 0 < now["asking_seconds_sum"][""] < 60
    assert now["output_on"] == {'kind="lamp",output="lamp"': 1, 'kind="relay",output="kiln"': 0}, (
        "of the one that is away nothing is said"
    )
    assert now["output_level"]['output="lamp"'] == 0.5
    assert now["input_active"] == {'input="door"': 1}
    assert now["board_up"] == {'board="near",link="simulated"': 1, 'board="far",link="modbus"': 0}
    assert now["rows_total"][""] > before["rows_total"][""]
    assert (now["journal_writable"][""], now["all_stop"][""], now["things_without_series"][""]) == (1, 0, 0)
    assert (
        now["process_resident_memory_bytes"][""] > 10**7 if "process_resident_memory_bytes" in now else True
    )
    running.link().unplug()
    eventually(lambda: not site.boards()[0]["up"])
    site.stop()
    site.back_up()
    then = figures(running)
    assert "output_on" not in then, "of none it is known"
    assert then["board_up"]['board="near",link="simulated"'] == 0
    assert then["all_stop"][""] == 1
    assert 0 <= then["backup_age_seconds"][""] < 600
    for name in ("commands_total", "commits_total", "rows_total"):
        assert all(then[name][labels] >= value for labels, value in now[name].items()), (
            "what is counted never falls"
        )
    assert running.http("GET", "/metrics", key=None).status_code == 401
    assert running.http("GET", "/metrics", key=site.new_key("figures", "watch")).status_code == 200


def test_series_are_bounded(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("cairnwind.service.metrics.MOST_THINGS", 1)
    now = figures(running)
    assert len(now["output_held"]) == 1
    assert now["things_without_series"][""] == 2
    meters = running.service.runtime.meters
    monkeypatch.setattr("cairnwind.service.meters.MOST_SURFACES", len(meters._surfaces))
    running.cli("turn", "lamp", "on")
    assert figures(running)["commands_total"]['outcome="driving",surface="other"'] == 1


def test_the_example_of_a_dashboard_asks_for_what_there_is(running: Running) -> None:
    running.site.turn("lamp", "on")
    running.site.back_up()
    families = read(running.http("GET", "/metrics").text)
    known = set(families) | {name for family in families.values() for name, _ in family.samples}
    asked = {
        name
        for panel in json.loads((ROOT / "packaging/dashboard.json").read_text())["panels"]
        for name in re.findall(r"(?:cairnwind|process)_[a-z_]+", panel["targets"][0]["expr"])
    }
    assert len(asked) > 12
    assert asked <= known
