"""What is done every day, by one finger on a phone, from the page at rest: how many touches it takes."""

from __future__ import annotations

import re
from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, Locator, Page, expect

from tests.conftest import Running, eventually
from tests.console.around import tile
from tests.console.test_console import browser
from tests.console.test_safe import ruled

__all__ = ["browser", "ruled"]


class Finger:
    """Touches, and counts how often."""

    def __init__(self) -> None:
        self.touches = 0

    def on(self, what: Locator) -> None:
        """Touch something that is large enough for that."""
        box = what.bounding_box()
        assert box is None or min(box["width"], box["height"]) >= 44, (what, box)
        what.tap()
        self.touches += 1

    def chooses(self, what: Locator, value: str) -> None:
        """Open a list of the phone's own, and take one of it."""
        what.select_option(value)
        self.touches += 2


@pytest.fixture
def phone(browser: Browser, ruled: Running) -> Iterator[Page]:
    context = browser.new_context(viewport={"width": 390, "height": 844}, has_touch=True, is_mobile=True)
    page = context.new_page()
    page.goto(ruled.service.sign_in_link())
    expect(tile(page, "gallery")).to_be_visible()
    yield page
    context.close()


def test_what_is_done_every_day_takes_few_touches(phone: Page, ruled: Running) -> None:
    more = phone.locator("[data-output=gallery]").get_by_role("button", name=re.compile("^More about"))
    its = phone.locator("[data-sheet=gallery]")

    lamp = Finger()
    lamp.on(tile(phone, "gallery"))
    eventually(lambda: ruled.site.output("gallery")["confirmed"]["on"])
    assert lamp.touches == 1

    why = Finger()
    why.on(more)
    expect(its.get_by_role("region", name="Why")).to_contain_text("wants it 100 %")
    expect(its.get_by_role("region", name="Why")).to_be_in_viewport()
    assert why.touches <= 2
    phone.go_back()
    expect(its).to_have_count(0)

    fade = Finger()
    fade.on(more)
    fade.on(its.get_by_role("button", name="Fade, blink or another program"))
    fade.on(its.get_by_role("button", name="Run it"))
    eventually(lambda: "fading" in ruled.site.journal("gallery", limit=1)[0]["text"])
    assert fade.touches <= 3
    phone.go_back()
    expect(its).to_have_count(0)

    plan = Finger()
    plan.on(more)
    plan.on(its.get_by_role("button", name="Plan it"))
    plan.chooses(its.get_by_role("form").get_by_label("Level"), "40 %")
    plan.on(its.get_by_role("button", name="Put it on the plan"))
    eventually(lambda: any("gallery to 40 %" in each["do"] for each in ruled.site.plan()["schedules"]))
    assert plan.touches <= 5
    phone.go_back()

    ruled.link().set_input("button", True)
    shown = phone.locator("[data-trip='red button']")
    expect(shown).to_be_visible()
    ruled.link().set_input("button", False)
    eventually(lambda: ruled.site.ask("button is out")["so"])
    reset = Finger()
    reset.on(shown.get_by_role("button", name="Reset red button …"))
    phone.get_by_label("Your name").fill("Anna")
    reset.on(shown.get_by_role("button", name="Reset red button", exact=True))
    eventually(lambda: not ruled.site.facts()["trips"])
    assert reset.touches <= 2
