"""The console in headless Chromium, against a running service."""

from __future__ import annotations

import gzip
import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

import cairnwind.service
from cairnwind.core.values.settings import FULL
from tests.conftest import Running, eventually
from tests.console.around import sheet, tile, to

FLAGS = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync",
]  # fmt: skip


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        found = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        yield found
        found.close()


def signed_in(browser: Browser, running: Running, heading: str) -> Iterator[Page]:
    """A page at 1280 x 800. Whatever the browser complains of fails the test."""
    context = browser.new_context(
        viewport={"width": 1280, "height": 800}, timezone_id="Asia/Tokyo", locale="en-GB"
    )
    found = context.new_page()
    errors: list[str] = []
    found.on("pageerror", lambda error: errors.append(str(error)))
    found.on(
        "console",
        lambda message: (
            errors.append(message.text)
            if message.type == "error"
            and "Failed to load resource" not in message.text
            and "ERR_" not in message.text
            else None
        ),
    )
    found.goto(running.service.sign_in_link())
    expect(found.locator(".rail .name")).to_contain_text(heading)
    yield found
    context.close()
    assert errors == []


@pytest.fixture
def page(browser: Browser, running: Running) -> Iterator[Page]:
    yield from signed_in(browser, running, "Test bench")


def test_what_is_turned_in_the_page_is_so_and_the_other_way_round(page: Page, running: Running) -> None:
    tile(page, "gallery").click()
    eventually(lambda: running.link().level("gallery") == FULL)
    expect(page.locator("[data-output=gallery] output")).to_have_text("100 %")
    expect(tile(page, "gallery")).to_have_attribute("aria-pressed", "true")
    before = page.locator("[data-output=gallery]").bounding_box()
    running.site.turn("gallery", "40 %")
    expect(page.locator("[data-output=gallery] output")).to_have_text("40 %", timeout=1000)
    expect(page.locator("[data-output=gallery]")).to_have_attribute("style", re.compile("--fill: 0.4;"))
    assert page.locator("[data-output=gallery]").bounding_box() == before, "nothing jumps"
    assert "#sign-in" not in page.url
    tile(page, "gallery").click()
    eventually(lambda: running.link().level("gallery") == 0)
    expect(
        page.get_by_text("gallery: off")
    ).to_be_visible()  # until then it is the command before that would be undone
    page.get_by_role("button", name="Undo").click()
    eventually(lambda: running.link().level("gallery") == 0.4 * FULL)


def test_a_level_is_set_by_keyboard_and_by_pointer(page: Page, running: Running) -> None:
    sheet(page, "gallery")
    slider = page.get_by_role("slider")
    slider.focus()
    for _ in range(5):
        page.keyboard.press("ArrowRight")
    eventually(lambda: running.link().level("gallery") == 50_000)
    box = slider.bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + box["width"] * 0.05, box["y"] + box["height"] / 2)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] * 0.3, box["y"] + box["height"] / 2, steps=4)
    page.mouse.move(box["x"] + box["width"] * 0.75, box["y"] + box["height"] / 2, steps=8)
    page.mouse.up()
    eventually(lambda: abs(running.link().level("gallery") - 750_000) <= 40_000)
    expect(slider).to_have_value(re.compile("7\\d"))


def test_the_reason_is_there_on_demand_and_follows(page: Page, running: Running) -> None:
    running.site.turn("vent", "on")
    its = sheet(page, "vent")
    reason = its.get_by_role("region", name="Why")
    expect(reason).to_contain_text("a person at the client (first key) wants it on")
    running.site.lock("vent", "red", "belt")
    expect(reason).to_contain_text("locked out by tag 'red': belt")
    expect(page.get_by_role("img", name="wanted on, allowed off, driven off, confirmed off")).to_be_visible()
    running.site.unlock("vent", "red")
    page.get_by_role("button", name=re.compile("Release vent", re.I)).click()
    eventually(lambda: running.link().level("vent") == FULL)


def test_all_stop_takes_one_press_and_its_reset_two(page: Page, running: Running) -> None:
    running.site.turn("vent", "on")
    expect(page.locator("[data-output=vent] output")).to_have_text("on")
    page.get_by_role("button", name="Stop all").click()
    eventually(lambda: running.link().level("vent") == FULL)
    told = page.get_by_role("region", name="All-stop")
    expect(told).to_contain_text("by the console (first key)")
    expect(told).to_contain_text("After the reset these are on again: Vent on.")
    tile(page, "kiln").click()
    expect(page.locator("[data-output=kiln]").get_by_role("alert")).to_contain_text(
        "kiln: all-stop by the console (first key)."
    )
    page.get_by_role("button", name="Reset all-stop …").click()
    page.get_by_role("button", name="Keep stopped").click()
    assert running.site.facts()["all_stop"]["stopped"]
    page.get_by_role("button", name="Reset all-stop …").click()
    page.get_by_role("button", name="Reset now").click()
    eventually(lambda: running.link().level("vent") == 0)


def test_a_lost_board_and_a_lost_link_are_said_and_come_back(page: Page, running: Running) -> None:
    running.link("far").unplug("cable")
    expect(page.locator("[data-board=far]")).to_contain_text("does not answer since")
    expect(page.locator("[data-output=yard]")).to_have_attribute("data-state", "unreachable")
    running.link("far").plug()
    expect(page.locator("[data-board=far]")).to_have_count(0)
    running.link().set_input("door", False)
    expect(page.locator("[data-input=door] .state")).to_have_text("closed")
    running.end()
    banner = page.get_by_role("alert")
    expect(banner).to_contain_text("What is shown is old since")
    running.begin()
    expect(banner).to_be_hidden(timeout=10_000)
    running.link().set_input("door", False)
    expect(page.locator("[data-input=door] .state")).to_have_text("closed")


def test_a_bare_pin_is_tried_for_as_long_as_one_looks(page: Page, running: Running) -> None:
    to(page, "Site")
    vent = page.locator("[data-pin='near:J2-9']")
    expect(vent).to_contain_text("line 41")
    expect(vent).to_contain_text("Vent")
    expect(vent).to_be_disabled()
    page.locator("[data-pin='near:J2-10']").click()
    page.get_by_label("As").select_option("pwm")
    page.get_by_label("Duty").fill("40 %")
    page.get_by_role("button", name="Try it").click()
    expect(page.locator(".reads")).to_have_text(re.compile("high 40.0 %"))
    eventually(lambda: running.link().pins.get(14) == 400_000)
    expect(page.locator("[data-pin='near:J2-10']")).to_contain_text("being tried")
    page.get_by_role("button", name="Let go").click()
    eventually(lambda: 14 not in running.link().pins)
    page.get_by_label("Duty").fill("140 %")
    page.get_by_role("button", name="Try it").click()
    expect(page.get_by_role("alert")).to_contain_text("outside 0 to 100 %")
    page.get_by_label("Duty").fill("10 %")
    page.get_by_role("button", name="Try it").click()
    eventually(lambda: running.link().pins.get(14) == 100_000)
    page.locator("[data-board-tab=far]").click()  # another board: the first pin is let go
    eventually(lambda: 14 not in running.link().pins)
    expect(page.get_by_label("Board far")).to_contain_text("confirms by: read back")


def test_an_input_is_pretended_the_wire_is_seen_and_a_board_is_lost(page: Page, running: Running) -> None:
    page.goto(f"{running.url}/#boards/near")
    page.get_by_role("button", name="Pretend closed").click()
    expect(page.locator("[data-input=door] .state")).to_have_text("closed")
    page.get_by_text("On the wire of near").click()
    tile(page, "vent").click()
    expect(page.locator("[data-way=sent]").first).to_contain_text("line 41: 0 % high")
    running.link("far").unplug("cable")
    expect(page.locator("[data-board-tab=far]")).to_contain_text("does not answer")
    page.locator("[data-board-tab=far]").click()
    expect(page.get_by_label("Board far")).to_contain_text("cable")
    expect(page.locator("[data-output=yard]")).to_have_attribute("data-state", "unreachable")


def test_times_are_those_of_the_site_not_of_the_browser(page: Page, running: Running) -> None:
    shown = page.locator("[data-input=door] .since")
    expect(shown).to_have_text(re.compile(r"^\d\d:\d\d"))
    since = shown.text_content() or ""
    local = page.evaluate(
        "new Intl.DateTimeFormat('en-GB', {timeZone: 'Europe/London', hour: '2-digit'}).format(new Date())"
    )
    assert (int(local) - int(since.split(":")[0])) % 24 in (0, 1), "an hour may have begun since"


def test_without_signing_in_the_door_stays_shut_and_says_how(browser: Browser, running: Running) -> None:
    page = browser.new_page()
    page.goto(running.url)
    expect(page.get_by_role("heading", name="Not signed in")).to_be_visible()
    expect(page.get_by_text("cairnwind key link")).to_be_visible()
    page.goto(f"{running.url}/#sign-in=used")
    page.reload()
    expect(page.get_by_text("This sign-in link has been used, or is too old.")).to_be_visible()
    page.close()


@pytest.mark.parametrize("size", [(1280, 800), (390, 844), (800, 480)])
@pytest.mark.parametrize("dark", [False, True])
def test_it_fits_the_screen_and_every_control_has_a_name(
    size: tuple[int, int], dark: bool, page: Page
) -> None:
    page.set_viewport_size({"width": size[0], "height": size[1]})
    if dark:
        page.get_by_role("button", name="Go dark").locator("visible=true").click()
        expect(page.locator("html")).to_have_attribute("data-mode", "dark")
    assert page.evaluate("document.documentElement.scrollWidth") <= size[0]
    for button in page.get_by_role("button").all():
        if not button.is_visible():
            continue
        box = button.bounding_box()
        assert box is not None
        assert box["width"] >= 24
        assert box["height"] >= 24
        assert (button.get_attribute("aria-label") or button.text_content() or "").strip()


def test_the_script_is_small() -> None:
    folder = Path(cairnwind.service.__file__).parent / "console" / "assets"
    size = sum(len(gzip.compress(path.read_bytes())) for path in folder.glob("*.js"))
    assert 10_000 < size < 140_000
