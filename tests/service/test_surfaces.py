"""The table of defaults by surface in docs/rules.md, row by row, on a running service."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

import pytest
import requests

from tests.conftest import Running, eventually

DOCS = Path(__file__).parents[2] / "docs"


def by_http(running: Running, setting: str) -> None:
    running.http("POST", "/api/v1/claims", json={"output": "gallery", "setting": setting})


def by_console(running: Running, setting: str) -> None:
    browser = requests.Session()
    browser.post(
        f"{running.url}/api/v1/session", json={"token": running.service.sign_in_link().partition("=")[2]}
    )
    browser.post(
        f"{running.url}/api/v1/claims",
        json={"output": "gallery", "setting": setting},
        headers={"Origin": running.url},
    )


SURFACES: dict[str, Callable[[Running, str], object]] = {
    "command line": lambda running, setting: running.cli("turn", "gallery", setting),
    "client": lambda running, setting: running.site.turn("gallery", setting),
    "console": by_console,
    "HTTP": by_http,
    "phrase": lambda running, setting: running.site.do(f"turn gallery {setting}"),
}


def table() -> dict[str, list[str]]:
    rows = re.findall(
        r"^\| ([\w ]+) \| (person|hand) \| ([\w ]+) \| ([^|]+) \| ([^|]+) \|$",
        (DOCS / "rules.md").read_text("utf-8"),
        re.M,
    )
    return {name: rest for name, *rest in rows}


@pytest.mark.parametrize("surface", SURFACES)
def test_a_surface_has_the_rank_and_lifetime_of_its_row(surface: str, running: Running) -> None:
    rank, lifetime, off, _ = table()[surface]
    SURFACES[surface](running, "on")
    (claim,) = running.http("GET", "/api/v1/claims").json()
    by = "client" if surface == "phrase" else surface
    assert (claim["rank"], claim["lifetime"], claim["source"]) == (rank, lifetime, f"{by} (first key)")
    SURFACES[surface](running, "off")
    (claim,) = running.http("GET", "/api/v1/claims").json()
    assert (claim["setting"]["words"], off) == ("off", "a claim of off")


def test_a_hold_has_those_of_its_row(running: Running) -> None:
    rank, lifetime, off, away = table()["hold"]
    with running.site.hold("gallery"):
        (claim,) = running.http("GET", "/api/v1/claims").json()
        assert (claim["rank"], claim["lifetime"]) == (rank, lifetime)
    assert off == "release"
    assert running.http("GET", "/api/v1/claims").json() == []
    running.http("POST", "/api/v1/claims", json={"output": "gallery", "setting": "on", "rank": "hand"})
    assert "1 s" in away
    eventually(lambda: running.http("GET", "/api/v1/claims").json() == [], within=2)


def test_the_examples_of_the_tour_run(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    text = (DOCS / "tour.md").read_text("utf-8")
    (example,) = re.findall(r"```python\n(.*?)```", text, re.S)
    monkeypatch.setenv("CAIRNWIND_STATE", str(running.folder / "state"))
    exec(example.replace("kiln-vent", "vent"), {})
    eventually(lambda: running.site.output("gallery")["confirmed"]["level"] == 40)
