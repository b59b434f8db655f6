"""The console as a panel on the wall, 800 x 480, touched with fingers."""

from __future__ import annotations

import re
from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.conftest import Running, eventually
from tests.console.around import tile
from tests.console.test_console import browser

__all__ = ["browser"]
LATER = "later => { const now = performance.now.bind(performance); performance.now = () => now() + later }"


@pytest.fixture
def panel(browser: Browser, running: Running) -> Iterator[Page]:
    context = browser.new_context(viewport={"width": 800, "height": 480}, has_touch=True)
    page = context.new_page()
    page.goto(running.service.sign_in_link())
    expect(page.locator(".frame")).to_be_visible()
    page.evaluate("location.hash = 'help'")
    page.get_by_text("This device as a panel on the wall").click()
    begin = page.get_by_role("button", name="Make it a panel")
    page.get_by_label(re.compile("^Code to leave it")).fill("24")
    expect(begin).to_be_disabled()
    page.get_by_label(re.compile("^Code to leave it")).fill("2468")
    begin.click()
    expect(page.get_by_role("button", name="Leave the panel").locator("visible=true")).to_be_visible()
    yield page
    context.close()


def enter(page: Page, code: str) -> None:
    page.get_by_role("button", name="Leave the panel").locator("visible=true").tap()
    form = page.get_by_role("form", name="Passcode of the panel")
    for digit in code:
        form.get_by_role("button", name=digit, exact=True).tap()
    form.get_by_role("button", name="Leave").tap()


def test_it_is_left_with_its_code_alone(panel: Page) -> None:
    assert panel.get_by_role("navigation", name="Places", exact=True).get_by_role(
        "link"
    ).all_inner_texts() == ["Now"]
    for way_out in (
        "location.hash = 'site/keys'",
        "location.hash = 'plan'",
        "document.dispatchEvent(new KeyboardEvent('keydown', { key: '/' }))",
    ):
        panel.evaluate(way_out)
        expect(panel.get_by_role("main")).to_have_count(1)
        expect(panel.get_by_role("heading", level=1)).to_have_text("Now")
    panel.reload()
    expect(panel.get_by_role("heading", level=1)).to_have_text("Now")
    panel.evaluate("location.hash = 'now;about=gallery'")
    expect(panel.locator("[data-sheet=gallery]")).to_be_visible()
    assert panel.locator("[data-sheet=gallery] a").count() == 0, "it leads nowhere"
    panel.get_by_role("button", name="Close").tap()
    expect(panel.locator("[data-sheet=gallery]")).to_have_count(0)
    assert "2468" not in panel.evaluate("JSON.stringify(localStorage)")
    enter(panel, "1111")
    expect(panel.get_by_text("This is not the code of the panel.")).to_be_visible()
    panel.keyboard.press("Escape")
    enter(panel, "2468")
    panel.get_by_role("link", name="Site").locator("visible=true").tap()
    expect(panel.get_by_role("link", name="Keys")).to_be_visible()
    panel.evaluate(LATER, 4 * 60_000)
    expect(panel.get_by_role("link", name="Keys")).to_have_count(0, timeout=20_000)


def test_it_dims_and_the_first_touch_only_wakes_it_but_for_all_stop(panel: Page, running: Running) -> None:
    frame = panel.locator(".frame")
    expect(frame).not_to_have_class(re.compile("dim"))
    panel.evaluate(LATER, 3 * 60_000)
    expect(frame).to_have_class(re.compile("dim"))
    box = tile(panel, "vent").bounding_box()
    assert box is not None
    panel.touchscreen.tap(box["x"] + 20, box["y"] + 20)
    expect(frame).not_to_have_class(re.compile("dim"))
    assert not running.site.output("vent")["claims"], "the first touch wakes it, and does no more"
    panel.wait_for_timeout(
        2500
    )  # to a page whose clock leaps the link is old, until it hears of the service again
    expect(panel.get_by_text("live", exact=True)).to_be_visible()
    panel.touchscreen.tap(box["x"] + 20, box["y"] + 20)
    eventually(lambda: (running.site.output("vent")["confirmed"] or {})["on"])
    panel.evaluate(LATER, 3 * 60_000)
    expect(frame).to_have_class(re.compile("dim"))
    panel.get_by_role("button", name="Stop all").locator("visible=true").tap()
    eventually(lambda: running.site.facts()["all_stop"]["stopped"])
