"""The frame of the console: what is shown is true or said to be old, all-stop stands still, nothing is offered that may not be."""

from __future__ import annotations

import itertools
import re
import signal
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import urljoin

import pytest
from playwright.sync_api import Browser, Page, expect

from cairnwind.client import Site
from tests.conftest import SITE, Process, Running, eventually
from tests.console.around import sheet, tile
from tests.console.test_console import browser, signed_in  # noqa: F401

AXE = Path(__file__).parents[2] / "console" / "node_modules" / "axe-core" / "axe.min.js"
WCAG = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]
THEMED = ["color-contrast", "link-in-text-block"]
"""What another theme can change."""
SIZES = {"phone": (390, 844), "panel": (800, 480), "desk": (1280, 800)}
PAGES = (
    "now",
    "plan",
    "journal/rows",
    "journal/records",
    "site/boards",
    "site/rules",
    "site/wiring/gallery",
    "site/remotes",
    "site/keys",
    "site/file",
    "site/changes",
    "site/changes/output/vent",
    "site/walk",
    "bench/signals",
    "bench/light",
    "bench/sums",
    "help",
)
HARD = (
    SITE
    + """
[output.long]
label = "Rückwärtsfahrscheinwerferbeleuchtung über der Töpferwerkstatt"
kind = "lamp"
pin = "far:line-4"

[output.winch]
kind = "motor"
pin = "far:line-5"
"""
)


@pytest.fixture
def page(browser: Browser, running: Running) -> Iterator[Page]:  # noqa: F811
    yield from signed_in(browser, running, "Test bench")


def test_a_frozen_service_is_seen_and_nothing_fires_late(browser: Browser, tmp_path: Path) -> None:  # noqa: F811
    site_file = tmp_path / "site.toml"
    site_file.write_text(SITE)
    process = Process(site_file, tmp_path / "state")
    site = Site(state=tmp_path / "state")
    page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
    try:
        page.goto(site.sign_in_link())
        expect(page.locator(".link")).to_contain_text("live")
        page.wait_for_timeout(2500)  # a beat has told what time it is there
        process.process.send_signal(signal.SIGSTOP)
        tile(page, "gallery").click()
        refused = page.locator("[data-output=gallery]").get_by_role("alert")
        expect(refused).to_contain_text("it is not known whether this arrived", timeout=30_000)
        expect(page.locator(".link")).to_contain_text("Old since", timeout=30_000)
        expect(page.locator(".link .good")).to_have_count(0)
        expect(tile(page, "vent")).to_be_disabled()
        expect(page.get_by_role("button", name="Stop all")).to_be_enabled()
        process.process.send_signal(signal.SIGCONT)
        expect(page.locator(".link")).to_contain_text("live", timeout=30_000)
        expect(page.locator(".notes")).to_contain_text("it had not arrived, and is not done", timeout=30_000)
        expect(tile(page, "vent")).to_be_enabled()
        assert not site.output("gallery")["wanted"]["on"]
    finally:
        process.process.send_signal(signal.SIGCONT)
        process.stop()
        page.context.close()


def test_what_nobody_answered_is_told_of_afterwards(page: Page, running: Running) -> None:
    page.wait_for_timeout(2500)
    page.route(
        "**/api/v1/claims", lambda route: (route.fetch(), route.abort())
    )  # it arrives, and its answer is lost
    tile(page, "gallery").click()
    expect(page.locator(".notes")).to_contain_text("it had arrived, and was done")
    assert running.site.output("gallery")["wanted"]["on"]
    page.unroute("**/api/v1/claims")


@pytest.mark.parametrize("size", SIZES)
def test_all_stop_stands_in_one_place_and_stays_within_reach(page: Page, running: Running, size: str) -> None:
    page.set_viewport_size(dict(zip(("width", "height"), SIZES[size], strict=True)))  # type: ignore[arg-type]
    stop = page.get_by_role("button", name="Stop all").locator("visible=true")
    first = stop.bounding_box()
    assert first
    assert min(first["width"], first["height"]) >= (64 if size == "panel" else 48)
    page.evaluate("scrollTo(0, 9999)")
    for at in PAGES:
        page.evaluate(f"location.hash = '{at}'")
        page.wait_for_timeout(100)
        there = stop.bounding_box() or {}
        assert there.keys() == first.keys(), at
        assert all(abs(there[side] - first[side]) < 1 for side in first), at  # type: ignore[literal-required]
    page.evaluate("location.hash = 'now'")
    sheet(page, "gallery")
    running.site.turn("vent", "on")
    stop.click()
    eventually(lambda: running.site.facts()["all_stop"]["stopped"])


def test_a_key_that_may_only_watch_is_offered_nothing_else(browser: Browser, running: Running) -> None:  # noqa: F811
    keys = running.service.keys
    found = keys.by_key(running.site.new_key("hall screen", "watch"))
    assert found
    page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
    page.goto(f"{running.url}/#sign-in={keys.new_link(found)}")
    expect(page.locator(".rail .key")).to_contain_text("hall screen")
    expect(page.locator(".rail .key")).to_contain_text("may only watch")
    for name in running.site.call("GET", "/outputs"):
        expect(tile(page, name["name"])).to_be_disabled()
    its = sheet(page, "gallery")
    expect(its).to_contain_text("The key 'hall screen' may only watch.")
    expect(its.get_by_role("slider")).to_have_count(0)
    expect(its.get_by_role("button", name="Release")).to_have_count(0)
    page.keyboard.press("Escape")
    expect(page.locator("[data-output=gallery] .more")).to_be_focused()
    running.site.turn("gallery", "on")
    expect(page.locator("[data-output=gallery] output")).to_have_text("100 %")
    assert page.evaluate("[...document.links].every((each) => !each.hash.endsWith('/keys'))")
    page.context.close()


def test_it_can_be_installed_and_shows_nothing_old_without_a_network(
    browser: Browser,  # noqa: F811
    running: Running,
) -> None:
    manifest = running.http("GET", "/manifest.webmanifest", key=None)
    assert (manifest.json()["display"], manifest.headers["Content-Type"]) == (
        "standalone",
        "application/manifest+json",
    )
    assert running.http("GET", urljoin("/", manifest.json()["icons"][0]["src"]), key=None).status_code == 200
    context = browser.new_context()
    page = context.new_page()
    page.goto(running.service.sign_in_link())
    expect(page.locator(".frame")).to_be_visible()
    page.evaluate("navigator.serviceWorker.ready.then(() => undefined)")
    page.reload()
    expect(page.locator(".frame")).to_be_visible()
    kept = page.evaluate(
        "caches.open('cairnwind-shell').then(shell => shell.keys()).then(all => all.map(each => new URL(each.url).pathname))"
    )
    assert "/" in kept
    assert not [each for each in kept if each.startswith("/api")]
    running.end()
    page.reload()
    expect(page.get_by_role("heading", level=1)).to_have_text("The service does not answer", timeout=20_000)
    assert page.locator(".tile").count() == 0
    running.begin()
    expect(page.locator(".frame")).to_be_visible(timeout=30_000)
    context.close()


def test_one_field_finds_things_and_pages_by_keyboard(page: Page) -> None:
    field = page.get_by_label("Find, or say what to do").last
    page.keyboard.press("/")
    expect(field).to_be_focused()
    page.keyboard.type("gall")
    expect(page.get_by_role("list", name="Found")).to_contain_text("gallery")
    page.keyboard.press("Enter")
    expect(page.locator("[data-sheet=gallery]")).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.locator("[data-sheet=gallery]")).to_have_count(0)
    page.keyboard.press("Control+k")
    expect(field).to_be_focused()
    page.keyboard.type("rules")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_have_text("Rules")
    expect(page).to_have_title("Rules – Test bench – Cairnwind")
    page.go_back()
    expect(page.get_by_role("heading", level=1)).to_have_text("Now")
    page.keyboard.press("/")
    page.keyboard.press("Escape")
    expect(page.get_by_role("search")).to_have_count(0)


def test_two_fingers_hold_two_motors_and_the_second_that_lifts_stops_its_own(
    browser: Browser,  # noqa: F811
    tmp_path: Path,
) -> None:
    running = Running(tmp_path, HARD)
    try:
        for page in signed_in(browser, running, "Test bench"):
            face = tile(page, "winch")
            for event, finger in (("pointerdown", 1), ("pointerdown", 2), ("pointerup", 2)):
                face.evaluate(
                    "(each, [kind, pointerId]) => { each.setPointerCapture = () => {}; each.dispatchEvent(new PointerEvent(kind, { pointerId, bubbles: true, button: 0 })) }",
                    [event, finger],
                )
            eventually(lambda: running.site.output("winch")["confirmed"]["on"])
            time.sleep(0.6)
            assert running.site.output("winch")["confirmed"]["on"], "the finger that holds it is still down"
            page.locator("[data-output=winch] .face").dispatch_event("pointerup", {"pointerId": 1})
            eventually(lambda: not running.site.output("winch")["confirmed"]["on"])
    finally:
        running.end()


def test_two_pads_at_once_in_one_page_and_two_browsers_on_one_output(
    browser: Browser,  # noqa: F811
    tmp_path: Path,
) -> None:
    zones = "".join(
        f'\n[pad.{name}]\nzones = {{ up = "{up}", down = "{down}" }}\n'
        for name, up, down in (("one", "m0", "m1"), ("two", "m2", "m4"))
    )
    motors = "".join(
        f'\n[output.m{line}]\nkind = "motor"\npin = "far:line-{line}"\n' for line in (0, 1, 2, 4)
    )
    running = Running(tmp_path, SITE + motors + zones)

    def on(name: str) -> bool:
        return bool((running.site.output(name)["confirmed"] or {}).get("on"))

    try:
        for page in signed_in(browser, running, "Test bench"):
            touch = """(area, [kind, pointerId]) => { area.setPointerCapture = () => {}; const box = area.getBoundingClientRect()
                area.dispatchEvent(new PointerEvent(kind, { pointerId, bubbles: true, button: 0, clientX: box.x + box.width / 2, clientY: box.y + 3 })) }"""
            one, two = (page.get_by_role("button", name=re.compile(f"^{name}, ")) for name in ("one", "two"))
            for _ in range(
                6
            ):  # where the machine is too slow for one of twenty updates a second a hold ends, as it should
                one.evaluate(touch, ["pointerdown", 1])
                two.evaluate(touch, ["pointerdown", 2])
                stopped = page.get_by_text("It has stopped.")
                eventually(lambda stopped=stopped: (on("m0") and on("m2")) or stopped.count())
                time.sleep(0.8)
                if on("m0") and on("m2"):
                    break
                one.evaluate(touch, ["pointerup", 1])
                two.evaluate(touch, ["pointerup", 2])
                eventually(lambda: not on("m0") and not on("m2"))
            assert on("m0"), "each is held by its own finger"
            assert on("m2")
            two.evaluate(touch, ["pointerup", 2])
            eventually(lambda: not on("m2"))
            one.evaluate(touch, ["pointerup", 1])
            eventually(lambda: not on("m0"))
            for other in signed_in(browser, running, "Test bench"):
                tile(page, "vent").click()
                expect(other.locator("[data-output=vent]")).to_have_attribute("data-state", "confirmed")
                expect(tile(other, "vent")).to_have_attribute("aria-pressed", "true")
                tile(other, "vent").click()
                expect(tile(page, "vent")).to_have_attribute("aria-pressed", "false")
    finally:
        running.end()


@pytest.mark.parametrize(
    ("locale", "first", "number", "clock"),
    [("en-US", "Sun", "3.250 V", r"\d:\d\d:\d\d [AP]M"), ("de-DE", "Mo", "3,250 V", r"\d\d:\d\d:\d\d")],
)
def test_dates_days_and_numbers_are_the_browsers(
    browser: Browser,  # noqa: F811
    tmp_path: Path,
    locale: str,
    first: str,
    number: str,
    clock: str,
) -> None:
    running = Running(tmp_path, SITE + '\n[input.level]\nkind = "analogue"\npin = "near:J3-10"\n')
    context = browser.new_context(locale=locale, timezone_id="Asia/Tokyo")
    page = context.new_page()
    try:
        running.link().put_volts(44, 3.25)
        page.goto(running.service.sign_in_link())
        expect(page.locator("[data-input=level]")).to_contain_text(number)
        page.evaluate("location.hash = 'site/keys'")
        expect(page.locator("fieldset.which label").first).to_have_text(first)
        page.evaluate("location.hash = 'site/boards/near'")
        expect(page.get_by_text(re.compile(f"answers since .*{clock}"))).to_be_visible()
    finally:
        context.close()
        running.end()


def test_only_while_this_page_is_open(page: Page, running: Running) -> None:
    sheet(page, "vent").get_by_role("button", name="Only while this page is open").click()
    eventually(lambda: running.site.output("vent")["confirmed"]["on"])
    page.keyboard.press("Escape")
    time.sleep(1.5)
    assert running.site.output("vent")["confirmed"]["on"], "the page is still there"
    page.goto("about:blank")
    eventually(lambda: not running.site.output("vent")["confirmed"]["on"])


@pytest.mark.parametrize(
    ("size", "dark"), [*itertools.product(SIZES, (False,)), ("phone", True), ("desk", True)]
)  # a panel has the colours of a desk
def test_axe_finds_nothing_on_any_page(
    browser: Browser,  # noqa: F811
    tmp_path: Path,
    size: str,
    dark: bool,
) -> None:
    running = Running(tmp_path, HARD)
    width, height = SIZES[size]
    context = browser.new_context(viewport={"width": width, "height": height}, color_scheme="dark" if dark else "light", reduced_motion="reduce", bypass_csp=True)  # fmt: skip
    page = context.new_page()
    found: list[Any] = []

    def look(at: str) -> None:
        found.extend(
            (at, each["id"], each["nodes"][0]["html"][:120], each["nodes"][0]["failureSummary"])
            for each in page.evaluate(
                "rules => axe.run(document, { runOnly: rules })", THEMED if dark else WCAG
            )["violations"]
        )

    try:
        running.link("far").unplug("cable")
        page.goto(running.service.sign_in_link())
        expect(page.locator(".frame")).to_be_visible()
        page.evaluate(AXE.read_text("utf-8"))
        for at in PAGES:
            page.evaluate(f"location.hash = '{at}'")
            expect(page.get_by_role("main")).to_be_visible()
            page.wait_for_timeout(250)
            look(at)
            assert page.evaluate("document.documentElement.scrollWidth") <= width, f"{at} fits"
        page.evaluate("location.hash = 'now'")
        sheet(page, "gallery")
        look("sheet")
        page.keyboard.press("Escape")
        running.site.stop("smoke")
        page.keyboard.press("/")
        look("field, stopped")
        page.keyboard.press("Escape")
        page.evaluate("document.documentElement.style.fontSize = '200%'")
        page.wait_for_timeout(250)
        assert page.evaluate("document.documentElement.scrollWidth") <= width, "at twice the size too"
    finally:
        context.close()
        running.end()
    assert found == []


def test_five_hundred_outputs_that_change_leave_the_page_quick(browser: Browser, tmp_path: Path) -> None:  # noqa: F811
    lines = "".join(
        f'[output.l{n}]\nplace = "hall {n // 25}"\nkind = "relay"\npin = "b:line-{n}"\n' for n in range(500)
    )
    running = Running(tmp_path, f'site = "Test bench"\n[board.b]\nlink = "simulated"\nlines = 500\n{lines}')
    try:
        for page in signed_in(browser, running, "Test bench"):
            assert page.locator(".tile").count() < 100, "what is folded is not there"
            page.get_by_role("button", name="hall 3", exact=False).first.click()
            expect(page.locator("[data-output=l80]")).to_be_visible()
            for n in range(75, 100):
                running.site.turn(f"l{n}", "on")
            expect(page.locator("[data-output=l99] output")).to_have_text("on")
            expect(page.get_by_role("button", name="hall 3").first).to_contain_text("25 of 25 on")
            page.get_by_role("searchbox", name="Show only").fill("l499")
            expect(page.locator(".tile")).to_have_count(1)
    finally:
        running.end()
