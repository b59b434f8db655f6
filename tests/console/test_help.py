"""The docs as pages of the service: whole, found by their words, and nothing of them comes from elsewhere; and the page of other sites."""

from __future__ import annotations

import json
import re
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from html.parser import HTMLParser
from pathlib import Path
from urllib.parse import urldefrag, urljoin, urlsplit

import pytest
import requests
from playwright.sync_api import Browser, ConsoleMessage, Request, expect

from cairnwind.service.problems import MEANS, STATUS
from tests.conftest import ROOT, Running, eventually
from tests.console.around import to
from tests.console.test_console import browser, signed_in
from tests.remotes.test_sites import Pair

__all__ = ["browser"]


class Found(HTMLParser):
    """What a page leads to, and the places in it."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.leads: set[str] = set()
        self.places: set[str] = set()
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        for name, value in attrs:
            if name in ("href", "src") and value:
                self.leads.add(value)
            elif name == "id" and value:
                self.places.add(value)


def test_every_link_of_the_docs_leads_somewhere(shared: Running) -> None:
    """From the first page on, and from every page of the console and every error: no page, picture or place that is not there."""
    begin = f"{shared.url}/help/"
    seen: dict[str, Found | None] = {}
    asked = {(begin, "")}
    said = re.findall(r"\['([\w-]+)', '([\w-]*)', '", (ROOT / "console/src/state/docs.ts").read_text("utf-8"))
    assert len(said) > 20
    asked |= {(f"{begin}{file}.html", part) for file, part in said}
    asked |= {(f"{begin}when-things-fail.html", code) for code in STATUS}
    places: set[tuple[str, str]] = set()
    while asked:
        where, place = asked.pop()
        if place:
            places.add((where, place))
        if where in seen:
            continue
        answer = requests.get(where, timeout=30)
        assert answer.status_code == 200, where
        html = answer.headers["Content-Type"].startswith("text/html")
        found = seen[where] = Found(answer.text) if html else None
        for each in found.leads if found is not None else ():
            there, part = urldefrag(urljoin(where, each))
            if urlsplit(there).netloc == urlsplit(begin).netloc:
                assert "/help/" in there, f"{where} leads to {there}"
                asked.add((there, part))
            else:
                assert "www.w3.org" not in there, where
    missing = [
        (where, place)
        for where, place in places
        if (page := seen[where]) is not None and place not in page.places
    ]
    assert not missing
    assert len(seen) > 40
    assert set(MEANS) == set(STATUS)


def test_they_are_searched_and_nothing_comes_from_elsewhere(shared: Running, browser: Browser) -> None:
    context = browser.new_context(color_scheme="dark")
    page = context.new_page()
    wrong: list[str] = []
    elsewhere: list[str] = []

    def said(message: ConsoleMessage) -> None:
        if message.type in ("error", "warning"):
            wrong.append(message.text)

    def asked(request: Request) -> None:
        if not request.url.startswith((shared.url, "data:", "blob:")):
            elsewhere.append(request.url)

    page.on("console", said)
    page.on("request", asked)
    page.goto(f"{shared.url}/help")
    expect(page).to_have_url(f"{shared.url}/help/")
    expect(page.locator("body")).to_have_attribute("data-md-color-scheme", "slate")
    box = page.get_by_role("textbox", name="Search").first
    box.click()
    box.press_sequentially("flyback")
    page.locator("a.md-search-result__link", has_text="flyback").last.click()
    expect(page.get_by_role("heading", name=re.compile("^Coils: flyback"))).to_be_in_viewport()
    assert not wrong
    assert not elsewhere
    context.close()


def test_a_refusal_says_where_the_docs_have_more(shared: Running) -> None:
    problem = shared.http("POST", "/api/v1/claims", json={"output": "nothing", "setting": "on"}).json()
    assert problem["help"] == "/help/when-things-fail.html#unknown-name"
    nobody = shared.http("GET", "/help/nobody.html").json()
    assert (nobody["status"], nobody["detail"]) == (404, "The docs have no page 'nobody.html'.")
    for outside in ("/help/../app.py", "/help/%2e%2e/app.py", "/help//etc/passwd"):
        assert shared.http("GET", outside).status_code == 404


@pytest.fixture
def pair(tmp_path: Path) -> Iterator[Pair]:
    found = Pair(tmp_path)
    yield found
    found.end()


def test_other_sites_are_seen_from_both_sides(pair: Pair, browser: Browser) -> None:
    house, yard = pair.house, pair.yard
    house.site.turn("yard-lamp", "40 %")
    yard.site.turn("fan", "on")
    opened = contextmanager(signed_in)
    with opened(browser, house, "Kiln House") as page, opened(browser, yard, "Yard House") as other:
        to(page, "Site", "Sites")
        used = page.get_by_role("region", name="Used of Yard House")
        expect(used.get_by_role("row", name=re.compile("^lamp yard-lamp 40 %"))).to_be_visible()
        expect(
            used.get_by_role(
                "row", name=re.compile("^fan yard-fan on at Yard House: a person at the client .* leads")
            )
        ).to_be_visible()
        expect(used.get_by_role("row", name=re.compile("^cellar .* may not command cellar"))).to_be_visible()
        page.get_by_role("button", name="Who is at the broker?").click()
        expect(page.get_by_role("list", name="At the broker").get_by_role("listitem")).to_have_text(
            ["kiln-house", "yard-house"]
        )
        to(other, "Site", "Sites")
        using = other.get_by_role("region", name="Kiln House uses ours")
        expect(using.get_by_role("row", name="lamp 40 %")).to_be_visible()

        told = house.cli("sites", "--look").stdout
        assert re.search(r"uses of Yard House \(board yard, up, answers in [\d.]+ ms\)", told)
        assert "There now: kiln-house, yard-house" in told
        assert (
            "Kiln House uses ours (remote house, key kiln house, as reflex, up)" in yard.cli("sites").stdout
        )
        form = json.loads(house.cli("sites", "--json").stdout)
        assert [each["name"] for each in form["used"][0]["takes"] if each["trouble"]] == ["fan", "cellar"]
        house.end()
        expect(using).to_contain_text("away: Kiln House: it has ended it")
        pair.broker.stop()
        eventually(lambda: "away" in yard.cli("sites").stdout)


def test_a_site_without_a_broker_says_so(shared: Running) -> None:
    found: subprocess.CompletedProcess[str] = shared.cli("sites")
    assert found.returncode == 0
    assert "no message broker, at which sites meet" in found.stdout
