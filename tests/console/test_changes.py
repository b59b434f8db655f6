"""The site changed by touch: a pin is tried and kept, a draft is looked at and applied beside somebody else's, a board is walked through."""

from __future__ import annotations

import re
import time

from playwright.sync_api import Page, expect

from cairnwind.client import Site
from tests.conftest import Running, eventually
from tests.console.test_console import browser
from tests.console.test_safe import ruled
from tests.console.test_tasks import Finger, phone

__all__ = ["browser", "phone", "ruled"]


def test_a_free_pin_is_tried_and_kept_by_touch_alone(phone: Page, ruled: Running) -> None:
    begin, finger = time.monotonic(), Finger()
    phone.evaluate("location.hash = 'site/boards/near'")
    finger.on(phone.locator("[data-pin='near:J2-16']"))
    trying = phone.get_by_role("region", name="Try J2-16")
    finger.on(trying.get_by_role("button", name="Try it"))
    eventually(lambda: ruled.link().pins.get(5))
    finger.on(trying.get_by_role("button", name="Keep it …"))
    form = trying.get_by_role("form", name="Add output")
    form.locator("[data-key=name]").fill("porch")
    finger.chooses(form.locator("[data-key=kind]"), "lamp")
    expect(form.get_by_label("What changes")).to_have_text("output porch is new, on near:J2-16 (line 5)")
    finger.on(form.get_by_role("button", name="Apply"))
    eventually(lambda: "porch" in {each["name"] for each in ruled.site.outputs()})
    print(f"an output from a free pin: {finger.touches} touches, {time.monotonic() - begin:.1f} s")
    assert '[output.porch]\nkind = "lamp"\npin = "near:J2-16"\n' in ruled.site_file.read_text("utf-8")
    phone.evaluate("location.hash = 'now'")
    expect(phone.locator("[data-output=porch]")).to_be_visible()


def test_a_draft_is_looked_at_and_applied_to_what_others_made_of_the_site(
    phone: Page, ruled: Running
) -> None:
    other = Site(ruled.url, ruled.site.new_key("Anna", "keep"))
    phone.evaluate("location.hash = 'site/changes/output/gallery'")
    form = phone.get_by_role("form", name="Change output gallery")
    form.locator("[data-key=pin]").select_option("near:J2-15")
    form.locator("[data-key=name]").fill("long-room")
    expect(form.get_by_label("What changes")).to_contain_text(
        "output gallery is called long-room from now on, at safe meanwhile"
    )
    form.locator("[data-key=pin]").select_option("near:J2-14")
    form.get_by_role("button", name=re.compile("more that may be said")).tap()
    form.locator("[data-key=load]").fill("many")
    expect(form.get_by_role("alert")).to_contain_text("'many' is not a power. Write it like 85 W.")
    expect(form.get_by_role("button", name="Apply")).to_be_disabled()
    form.locator("[data-key=load]").fill("120 W")
    form.get_by_role("button", name="Into the draft").tap()
    draft = phone.get_by_role("region", name="Draft")
    expect(draft.get_by_role("listitem").first).to_contain_text("rename output gallery to long-room")
    assert ruled.site.output("gallery")["pin"] == "near:J2-14", "nothing is applied yet"
    other.change("output", "vent", label="Flue")
    phone.reload()
    expect(draft).to_contain_text("Since it was begun the site has changed")
    expect(draft.get_by_label("What others have changed")).to_contain_text('+label = "Flue"')
    draft.get_by_role("button", name="Rehearse the week to come").tap()
    expect(draft).to_contain_text(re.compile("What would be different"))
    draft.get_by_role("button", name=re.compile("^Apply to edition")).tap()
    eventually(lambda: {"long-room", "vent"} <= {each["name"] for each in ruled.site.outputs()})
    assert (ruled.site.output("vent")["label"], ruled.site.output("long-room")["pin"]) == (
        "Flue",
        "near:J2-14",
    )
    first = phone.locator("[data-edition='1']")
    first.get_by_role("button", name="Back to it").tap()
    eventually(lambda: {"gallery", "vent"} <= {each["name"] for each in ruled.site.outputs()})
    assert ruled.site.output("vent")["label"] != "Flue"
    expect(phone.locator("[data-edition]").first).to_contain_text("back to edition 1")


def test_a_board_is_walked_through_on_a_phone(phone: Page, ruled: Running) -> None:
    phone.evaluate("location.hash = 'site/walk/near'")
    phone.get_by_label("Who looks").fill("Anna")
    step = phone.locator("[data-walk]")
    expect(step).to_have_attribute("data-walk", re.compile("."))
    first = step.get_attribute("data-walk")
    assert first is not None
    step.get_by_role("button", name="Switch it on").tap()
    eventually(
        lambda: ruled.site.output(first)["confirmed"]["on"] or ruled.site.output(first)["state"] == "blocked"
    )
    step.get_by_role("button", name="The other way round").tap()
    expect(step).not_to_have_attribute("data-walk", first)
    eventually(lambda: not ruled.site.output(first)["claims"], within=5)
    (change,) = ruled.site.draft()["changes"]
    assert (change["name"], [*change["keys"]]) == (first, ["sense"])
    (row,) = ruled.site.journal(kind="walk")
    assert (row["subject"], row["data"]["by"], row["data"]["saw"]) == (first, "Anna", "swapped")
    second = step.get_attribute("data-walk")
    assert second is not None
    step.get_by_role("button", name="Switch it on").tap()
    phone.evaluate("location.hash = 'now'")
    eventually(lambda: not ruled.site.output(second)["claims"], within=5)
