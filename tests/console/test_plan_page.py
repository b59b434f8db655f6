"""The console's plan and records, and the line to say what to do, in headless Chromium."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.conftest import Running, eventually
from tests.console.around import sheet, to
from tests.console.test_console import browser, signed_in
from tests.service.test_time import PLANNED

__all__ = ["browser"]


@pytest.fixture
def planned(tmp_path: Path) -> Iterator[Running]:
    found = Running(tmp_path, PLANNED)
    yield found
    found.end()


@pytest.fixture
def page(browser: Browser, planned: Running) -> Iterator[Page]:
    yield from signed_in(browser, planned, "Test bench")


def test_a_phrase_is_understood_while_it_is_typed_and_asks_back(page: Page, planned: Running) -> None:
    page.keyboard.press("/")
    field = page.get_by_label("Find, or say what to do").last
    expect(field).to_be_focused()
    field.fill("dim the gallery to half for 10 min")
    expect(page.locator("#understood")).to_contain_text("turn gallery to 50 % for 10 min")
    assert not (planned.site.output("gallery")["confirmed"] or {})["on"], "only understood so far"
    field.press("Enter")
    eventually(lambda: planned.site.output("gallery")["confirmed"]["level"] == 50)
    expect(page.locator("#understood")).to_contain_text("confirmed")
    field.fill("turn vent on for 10")
    page.get_by_role("button", name="10 min").click()
    expect(field).to_have_value("turn vent on for 10 min")
    expect(page.locator("#understood")).to_contain_text("Vent on for 10 min (now off)")
    field.fill("turn galery on")
    expect(page.locator("#understood")).to_contain_text("Did you mean 'gallery'?")


def test_a_week_is_shown_and_a_schedules_difference_before_it_is_saved(page: Page, planned: Running) -> None:
    to(page, "Plan")
    bars = page.get_by_role("group", name="What is on when").get_by_role("button")
    expect(bars).to_have_count(7)
    bars.first.focus()
    expect(page.get_by_text("'always' (plan) wants it on").first).to_be_visible()
    page.get_by_role("button", name="Day", exact=True).click()
    expect(bars).to_have_count(1)
    before = page.get_by_role("heading", level=2).first.text_content()
    chart = page.get_by_role("group", name="What is on when").bounding_box()
    assert chart is not None
    page.mouse.move(chart["x"] + 800, chart["y"] + 40)
    page.mouse.down()
    page.mouse.move(chart["x"] - 300, chart["y"] + 40, steps=5)
    page.mouse.up()
    expect(page.get_by_role("heading", level=2).first).not_to_have_text(
        before or ""
    )  # dragged to another day
    page.get_by_role("button", name="Today").click()
    page.get_by_role("button", name="New schedule").click()
    form = page.get_by_role("form", name="New schedule")
    form.get_by_label("Name").fill("airing")
    form.get_by_label("Does").fill("turn vnt on")
    expect(form).to_contain_text("Did you mean 'vent'?")
    expect(form.get_by_role("button", name="Save")).to_be_disabled()
    form.get_by_label("Does").fill("turn vent on")
    form.get_by_label("From at", exact=True).fill("12:00")
    form.get_by_role("group", name="To").get_by_role("combobox").select_option("at")
    form.get_by_label("To at", exact=True).fill("13:00")
    expect(form).to_contain_text("1 times would be new")
    expect(page.locator(".other")).to_have_count(1)
    assert len(planned.site.plan()["schedules"]) == 2, "not saved yet"
    form.get_by_role("button", name="Save").click()
    expect(page.get_by_text("airing")).to_be_visible()
    eventually(
        lambda: (
            {each["name"] for each in planned.site.plan()["schedules"]} == {"always", "by the sun", "airing"}
        )
    )
    row = page.get_by_role("listitem").filter(has_text="airing")
    row.get_by_role("button", name="Disable").click()
    expect(row).to_contain_text("disabled")
    row.get_by_role("button", name="Drop").click()
    row.get_by_role("button", name="Really drop it?").click()
    expect(page.get_by_text("airing")).to_have_count(0)


def test_a_schedule_is_changed_where_it_is_shown(page: Page, planned: Running) -> None:
    planned.site.add_schedule(name="airing", do="turn vent on", from_="12:00", to="13:00")
    to(page, "Plan")
    page.get_by_role("button", name="Day", exact=True).click()
    bar = page.get_by_role("group", name="What is on when").get_by_role(
        "button", name=re.compile("^Vent on, 12:00")
    )
    expect(bar).to_have_count(1)
    bar.click()
    form = page.get_by_role("form", name="Schedule airing")
    expect(form.get_by_label("From at", exact=True)).to_have_value("12:00")
    ends = page.locator(".grip")
    expect(ends).to_have_count(2)
    grip = ends.last.bounding_box()
    lanes = page.get_by_role("group", name="What is on when").bounding_box()
    assert grip is not None
    assert lanes is not None
    middle = grip["x"] + grip["width"] / 2
    page.mouse.move(middle, grip["y"] + 5)
    page.mouse.down()
    page.mouse.move(middle + (lanes["width"] - 130) * 2 / 24, grip["y"] + 5, steps=6)  # two hours
    page.mouse.up()
    expect(form.get_by_label("To at", exact=True)).to_have_value(re.compile("^1(4:5|5:0)"))
    expect(page.locator(".other")).to_have_count(1)
    form.get_by_label("To at", exact=True).fill("15:00")
    form.get_by_role("group", name="From").get_by_role("combobox").select_option("sunrise")
    form.get_by_label(re.compile("minutes after")).fill("-20")

    def times() -> list[str]:
        return [
            f"{each['from']} to {each.get('to')}"
            for each in planned.site.plan()["schedules"]
            if each["name"] == "airing"
        ]

    assert times() == ["12:00 to 13:00"], "nothing is changed until it is saved"
    form.get_by_role("button", name="Save").click()
    eventually(lambda: times() == ["sunrise - 20 min to 15:00"])
    expect(form).to_have_count(0)
    always = page.get_by_role("group", name="What is on when").get_by_role(
        "button", name=re.compile("always")
    )

    def tells() -> bool:
        always.first.press("Enter")  # the lanes may just be drawn anew
        return page.get_by_text("It stands in the site file").is_visible()

    eventually(tells)


def test_timers_are_cancelled_and_a_calendar_is_taken(page: Page, planned: Running, tmp_path: Path) -> None:
    to(page, "Plan")
    planned.site.do("after 1 h turn vent on")
    timer = page.get_by_role("listitem").filter(has_text="turn vent on")
    expect(timer).to_be_visible()  # the stream tells that the plan has changed
    timer.get_by_role("button", name="Cancel").click()
    expect(timer).to_have_count(0)
    planned.site.add_schedule(name="mine", do="turn vent on", from_="01:00", for_="1 h")
    (tmp_path / "mine.ics").write_text(planned.site.calendar())
    planned.site.drop_schedule("mine")
    page.locator("input[type=file]").set_input_files(tmp_path / "mine.ics")
    expect(page.get_by_text("as 'mine', 01:00 for 1 h")).to_be_visible()
    page.get_by_role("button", name="New address for a phone's calendar").click()
    expect(page.locator("code").filter(has_text="/plan/calendar?key=")).to_be_visible()


def test_an_evening_lamp_is_planned_by_touch_alone(page: Page, planned: Running) -> None:
    its = sheet(page, "gallery")
    its.get_by_role("button", name="Plan it").click()
    form = its.get_by_role("form", name=re.compile("^Plan "))
    expect(form).to_contain_text(re.compile("times? would be new"), timeout=20_000)
    form.get_by_label("Level").select_option("40 %")
    form.get_by_role("checkbox", name="Sun").uncheck()
    form.get_by_role("button", name="Put it on the plan").click()
    expect(form).to_have_count(0)
    (made,) = (
        each
        for each in planned.site.plan()["schedules"]
        if each["origin"] == "database" and "gallery to 40 %" in each["do"]
    )
    assert made["when"].endswith("to 22:30, Mon, Tue, Wed, Thu, Fri, Sat")
    page.get_by_role("button", name="Undo").click()
    eventually(lambda: made["name"] not in {each["name"] for each in planned.site.plan()["schedules"]})


@pytest.mark.parametrize("size", [(1280, 800), (390, 844)])
def test_records_are_filtered_and_every_page_fits(
    page: Page, planned: Running, size: tuple[int, int]
) -> None:
    page.set_viewport_size({"width": size[0], "height": size[1]})
    planned.site.turn("gallery", 40)
    planned.again()
    page.goto(planned.service.sign_in_link())
    for name, leaf in (("Plan", ""), ("Journal", "What happened"), ("Journal", "Records")):
        to(page, name, leaf)
        expect(page.get_by_role("main")).to_be_visible()
        page.wait_for_timeout(300)
        assert page.evaluate("document.documentElement.scrollWidth") <= size[0], f"{name} fits"
        unnamed = page.locator("button, input, select").evaluate_all(
            "all => all.filter(each => !(each.textContent.trim() || each.getAttribute('aria-label') || each.labels?.length || each.title)).length"
        )
        assert unnamed == 0
    wall = page.get_by_role("region", name=re.compile("^Chart of"))
    before = wall.count()
    page.get_by_label("Also show").select_option("gallery")
    expect(wall).to_have_count(before + 1)
    expect(
        page.get_by_role("region", name=re.compile("^Chart of [Gg]allery")).get_by_role("img")
    ).to_be_visible()
    page.reload()
    expect(wall).to_have_count(before + 1)  # this browser keeps its wall
    wall.first.get_by_role("button", name="Take away").click()
    expect(wall).to_have_count(before)
    expect(page.get_by_role("region", name="Days")).to_contain_text(re.compile("gallery|Gallery"))
    to(page, "Journal", "What happened")
    summary = page.locator("details.which summary")
    if not page.get_by_label("About").is_visible():
        summary.click()
    page.get_by_label("About").select_option("gallery")
    page.get_by_label("Kind").select_option("command")
    rows = page.get_by_role("region", name="Journal").get_by_role("listitem")
    expect(rows.first).to_contain_text("gallery to 40 %")
    planned.site.turn("gallery", 55)
    row = rows.filter(has_text="gallery to 55 %").first
    expect(row).to_be_visible()  # it is followed
    page.wait_for_timeout(500)
    row.get_by_role("button", name=re.compile("^Why was")).click()
    expect(row.get_by_role("status")).to_contain_text("55 %")
    page.get_by_label("With these words").fill("40 client")
    expect(rows.filter(has_text="gallery to 55 %")).to_have_count(0)
    with page.expect_request(re.compile("words=40")):
        page.get_by_label("With these words").press("Enter")  # in all of it, not only in what is shown
    expect(rows.first).to_contain_text("gallery to 40 %")
    expect(rows.filter(has_text="gallery to 55 %")).to_have_count(0)
    page.get_by_label("With these words").fill("")
    page.get_by_role("button", name="Yesterday").click()
    expect(page.get_by_text("Nothing like that on those days.")).to_be_visible()
    page.get_by_role("button", name="Today").click()
    with page.expect_download() as saved:
        page.get_by_role("button", name="CSV").click()
    assert "gallery to 55 %" in Path(saved.value.path()).read_text()
