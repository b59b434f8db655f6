"""The pages of the desk, in headless Chromium: a board as it is, what blinks, how things are wired, sums, a lamp by eye, the docs."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.conftest import SITE, Running, eventually
from tests.console.around import sheet, tile, to
from tests.console.test_console import browser, signed_in

__all__ = ["browser"]
MORE = """
[supply.rail]
volts = 5
limit = "100 mA"

[output.left]
kind = "motor"
pin = "far:line-4"
draws = { supply = "rail", current = "72 mA" }

[output.bell]
kind = "relay"
pin = "near:J2-12"
sense = "active-low"
draws = { supply = "rail", current = "60 mA" }
"""


@pytest.fixture
def desk(tmp_path: Path) -> Iterator[Running]:
    found = Running(tmp_path, SITE + MORE)
    yield found
    found.end()


@pytest.fixture
def page(browser: Browser, desk: Running) -> Iterator[Page]:
    yield from signed_in(browser, desk, "Test bench")


def test_a_header_is_drawn_as_it_is_and_on_is_told_from_high(page: Page, desk: Running) -> None:
    to(page, "Site", "Boards")
    header = page.get_by_role("list", name="Connector J2")
    expect(header.get_by_role("listitem")).to_have_count(10)
    vent = page.locator("[data-pin='near:J2-9']")
    expect(vent).to_have_text(re.compile("Vent.*off.*line 41, high"))
    pairs = header.get_by_role("listitem").nth(4).locator("[data-pin]")
    assert [each.get_attribute("data-pin") for each in pairs.all()] == ["near:J2-9", "near:J2-10"], (
        "odd left, even right"
    )
    desk.site.turn("vent", "on")
    expect(vent).to_have_text(re.compile("Vent.*on.*line 41, low"))
    page.locator("[data-pin='near:J2-10']").click()
    expect(page.get_by_role("region", name="Try J2-10")).to_be_visible()
    supply = page.get_by_role("region", name="Supply rail")
    expect(supply).to_contain_text("0 mA of 100 mA at 5 V; 100 mA left")
    expect(supply).to_contain_text("All on at once would draw 132 mA")
    desk.site.turn("bell", "on")
    expect(supply).to_contain_text("60 mA of 100 mA at 5 V; 40 mA left")
    page.get_by_role("button", name="Look at its devices and rights").click()
    expect(page.get_by_role("region", name="The machine")).to_contain_text(re.compile("groups"))


def test_an_output_is_found_by_blinking_and_nobody_is_hurt(page: Page, desk: Running) -> None:
    moves: list[bool] = []
    desk.link("far").watchers.append(lambda line, level: moves.append(level > 0) if line == 3 else None)
    open_sheet = sheet(page, "yard")
    open_sheet.get_by_text("How it is wired").click()
    open_sheet.get_by_role("button", name="Blink it, to find it").click()
    expect(open_sheet.get_by_text("yard goes on and off")).to_be_visible()
    eventually(lambda: moves[:3] == [True, False, True])
    open_sheet.get_by_role("button", name="Found").click()
    eventually(lambda: not desk.site.output("yard")["claims"])
    page.keyboard.press("Escape")
    motor = sheet(page, "left")
    motor.get_by_text("How it is wired").click()
    motor.get_by_role("button", name="Blink it, to find it").click()
    expect(motor.get_by_text("This switches left.")).to_be_visible()
    assert not desk.site.output("left")["claims"], "asked first"
    motor.get_by_role("button", name="Nobody is near: do it").click()
    eventually(lambda: bool(desk.site.output("left")["claims"]))
    page.goto("about:blank")
    eventually(lambda: not desk.site.output("left")["claims"])


def test_circuits_sums_and_what_the_docs_say(page: Page, desk: Running) -> None:
    to(page, "Site", "Wiring")
    page.get_by_role("link", name="gallery").first.click()
    circuit = page.get_by_role("region", name="Circuit of gallery")
    drawing = circuit.get_by_role(
        "img", name=re.compile(r"^The circuit from near:J2-14 \(line 7\) to gallery, with")
    )
    eventually(lambda: drawing.evaluate("each => each.complete && each.naturalWidth > 100"))
    expect(circuit).to_contain_text("gate resistor, 330 ohm")
    page.get_by_label("With these words").fill("J3")
    expect(page.get_by_role("row")).to_have_count(2 + 1)
    with page.context.expect_page() as opened:
        page.get_by_role("navigation", name="The docs on this page").get_by_role(
            "link", name="Which wire goes where"
        ).click()
    told = opened.value
    expect(told.get_by_role("heading", name="Which wire goes where?")).to_be_in_viewport()
    told.close()
    to(page, "Bench", "Sums")
    page.get_by_role("button", name="divider").click()
    answer = page.get_by_role("region", name="What it comes to")
    expect(answer).to_contain_text("5.6 kohm")
    page.get_by_label("Source").fill("12 bananas")
    expect(answer).to_contain_text("is not a voltage")
    page.get_by_label("Source").fill("24 V")
    expect(answer).to_contain_text("68 kohm")


def test_a_lamp_is_compared_by_eye_and_left_as_it_was(page: Page, desk: Running) -> None:
    desk.site.turn("gallery", "30 %", lasting="until released")
    before = desk.site.output("gallery")["claims"][0]["id"]
    to(page, "Bench", "Light and timers")
    box = page.get_by_role("region", name="Light curve")
    duty = lambda: (desk.site.output("gallery")["confirmed"] or {}).get("duty")  # noqa: E731
    box.get_by_role("button", name="Compare by eye").click()
    eventually(lambda: duty() == 100)
    eventually(lambda: duty() == 18.4)
    box.get_by_role("button", name="darker than half").click()
    eventually(lambda: duty() == 100)
    eventually(lambda: 42 < (duty() or 0) < 44)
    box.get_by_role("button", name="half as bright").click()
    expect(box).to_contain_text("curve = [[0, 0], [50, 42.9], [100, 100]]")
    eventually(lambda: not desk.site.output("gallery")["claims"])
    assert before


def test_what_is_used_most_comes_first(page: Page, desk: Running) -> None:
    more = "".join(
        f'\n[output.l{number}]\nkind = "lamp"\npin = "far:line-{number}"\n' for number in (0, 1, 2, 5)
    )
    desk.end()
    desk.site_file.write_text(SITE + MORE + more, "utf-8")
    desk.begin()
    page.goto(desk.service.sign_in_link())
    for _ in range(3):
        tile(page, "l5").first.click()
        expect(tile(page, "l5").first).to_have_attribute("aria-pressed", "true")
        tile(page, "l5").first.click()
        expect(tile(page, "l5").first).to_have_attribute("aria-pressed", "false")
    page.reload()
    most = page.get_by_role("region", name="Used most")
    expect(most.locator("[data-output]")).to_have_count(1)
    expect(most.locator("[data-output=l5]")).to_be_visible()
