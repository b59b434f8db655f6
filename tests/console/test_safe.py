"""The console's rules, trips, alarms and keypad, in headless Chromium."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.conftest import Running, eventually
from tests.console.around import sheet, to
from tests.console.test_console import browser, signed_in
from tests.service.test_safe import RULED

__all__ = ["browser"]


@pytest.fixture
def ruled(tmp_path: Path) -> Iterator[Running]:
    found = Running(tmp_path, RULED)
    found.link().set_input("door", False)
    yield found
    found.end()


@pytest.fixture
def page(browser: Browser, ruled: Running) -> Iterator[Page]:
    yield from signed_in(browser, ruled, "Test bench")


def test_a_trip_is_shown_everywhere_and_reset_by_somebody_with_a_name(page: Page, ruled: Running) -> None:
    ruled.site.turn("yard", "on", lasting="until released")
    ruled.link().set_input("button", True)
    shown = page.locator("[data-trip='red button']")
    expect(shown).to_contain_text("button is pressed.")
    to(page, "Site", "Rules")
    expect(page.locator("[data-rule='red button']")).to_contain_text("tripped")
    expect(shown).to_contain_text(
        f"After the reset these are on again: {ruled.site.output('yard')['label']} on."
    )
    shown.get_by_role("button", name="Reset red button …").click()
    reset = shown.get_by_role("button", name="Reset red button", exact=True)
    expect(reset).to_be_disabled()
    page.get_by_label("Your name").fill("Anna")
    reset.click()
    expect(shown.get_by_role("alert")).to_contain_text("its cause is still there: button is pressed")
    ruled.link().set_input("button", False)
    expect(page.get_by_label("Your name")).to_have_value("Anna")
    eventually(lambda: ruled.site.ask("button is out")["so"])
    reset.press("Enter")
    expect(shown).to_have_count(0)
    eventually(lambda: ruled.site.output("yard")["confirmed"]["on"])


def test_an_alarm_is_acknowledged_and_a_question_answered(page: Page, ruled: Running) -> None:
    ruled.link().put_volts(44, 2.5)
    alarm = page.locator("[data-alarm=hot]")
    expect(alarm).to_contain_text("heat is above 60 °C")
    alarm.get_by_role("button", name="Acknowledge …").click()
    page.get_by_label("Your name").fill("Ben")
    alarm.get_by_role("button", name="Acknowledge", exact=True).click()
    expect(alarm).to_have_count(0)
    to(page, "Site", "Rules")
    field = page.get_by_label("Ask what is so")
    field.fill("vent is on and door is closed")
    field.press("Enter")
    expect(page.get_by_role("status")).to_have_text("No: vent is off")
    field.fill("vemt is on")
    field.press("Enter")
    expect(page.get_by_role("status")).to_contain_text("Did you mean 'vent'?")
    expect(page.locator("[data-rule='one way']")).to_contain_text(
        "at most one of left, right is on, 30 ms apart"
    )
    for rule in ruled.site.rules():
        expect(page.locator(f"[data-rule='{rule['name']}']"), "of whatever kind").to_contain_text(
            rule["text"]
        )
    expect(page.locator("[data-rule='vent hours'] .left")).to_have_text("10 h left of 10 h in any 24 h")
    draught = page.locator("[data-rule=draught] .parts li")
    expect(draught).to_have_text(
        [re.compile("not so.*vent is on for 300 ms.*vent is off"), re.compile("so.*door is closed")]
    )
    ruled.site.turn("vent", "on")
    expect(draught.first).to_have_text(re.compile("^so"))


def test_the_keypad_opens_by_touch_and_by_keys_and_shows_no_code(page: Page, ruled: Running) -> None:
    ruled.site.give_code("store", "anna", "4711")
    page.locator("[data-output=store] .face").click()
    pad = page.get_by_role("form", name="Passcode of store")
    for key in "4712":
        pad.get_by_role("button", name=key, exact=True).click()
    expect(pad.locator("input")).to_have_attribute("type", "password")
    pad.get_by_role("button", name="Open").click()
    expect(pad.get_by_role("status")).to_contain_text("that code does not open it")
    expect(pad.locator("input")).to_have_value("")
    expect(pad.locator("input")).to_be_enabled()
    pad.locator("input").fill("4711")
    pad.locator("input").press("Enter")
    expect(page.locator("[data-output=store] .is")).to_have_text(re.compile("open"))
    expect(pad).to_have_count(0)
    expect(page.locator("[data-output=store] .is")).to_have_text("locked", timeout=8000)


def test_an_output_is_looked_after_from_its_sheet(page: Page, ruled: Running) -> None:
    care = sheet(page, "store").locator("details", has_text="Look after it")
    care.locator("summary").click()
    care.get_by_label("Who").fill("ben")
    care.get_by_label("Code").fill("8642")
    care.get_by_role("button", name="Give it").click()
    expect(care.get_by_role("list")).to_contain_text("ben")
    care.get_by_role("button", name="Take it from ben").click()
    expect(care.get_by_role("button", name="Take it from ben")).to_have_count(0)
    care.get_by_label("Note").fill("hinge oiled")
    care.get_by_role("button", name="Keep it").click()
    eventually(lambda: ruled.site.journal(kind="note", subject="store"))
    care.get_by_label("Tag").fill("red")
    care.get_by_label("Why").fill("painted")
    care.get_by_role("button", name="Lock it out").click()
    expect(page.locator("[data-lockout=store]")).to_contain_text("is locked out by tag 'red'")
    care.get_by_role("button", name="Take it off").click()
    expect(page.locator("[data-lockout=store]")).to_have_count(0)
    assert ruled.site.facts()["lockouts"] == []


def test_the_field_says_what_the_gates_would_make_of_it(page: Page, ruled: Running) -> None:
    page.keyboard.press("/")
    page.get_by_label("Find, or say what to do").last.fill("turn store on")
    expect(page.locator("#understood")).to_contain_text(
        "store would not be so now: store is guarded by a passcode"
    )
    ruled.site.lock("gallery", "red", "painted")
    page.get_by_label("Find, or say what to do").last.fill("turn gallery on for 10 min")
    expect(page.locator("#understood")).to_contain_text(
        "gallery would not be so now: locked out by tag 'red': painted"
    )
    ruled.site.unlock("gallery", "red")


def test_the_site_file_is_read_anew_from_its_page(page: Page, ruled: Running) -> None:
    to(page, "Site", "File")
    expect(page.get_by_role("region", name="The site file")).to_contain_text('site = "Test bench"')
    text = ruled.site_file.read_text()
    ruled.site_file.write_text(text.replace("output.vent", "output.vnt", 1))
    page.get_by_role("button", name="Read it anew").click()
    expect(page.get_by_role("alert")).to_contain_text("Did you mean 'vnt'?")
    more = '\n[group.all-lamps]\noutputs = ["gallery"]\n'
    ruled.site_file.write_text(text.replace('"near:J2-14"', '"near:J2-15"') + more)
    page.get_by_role("button", name="What would change?").click()
    told = page.get_by_role("region", name="What would change")
    expect(told).to_contain_text("output gallery moves from near:J2-14 (line 7) to near:J2-15 (line 6)")
    page.get_by_role("button", name="Read it anew").click()
    expect(told).to_have_count(0)
    eventually(lambda: ruled.site.output("gallery")["pin"] == "near:J2-15")
    page.get_by_label("With these words").fill("all-lamps")
    expect(page.get_by_role("region", name="The site file")).to_contain_text("[group.all-lamps]")
    expect(page.get_by_role("alert")).to_have_count(0)
