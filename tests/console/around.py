"""Finding one's way in the console, as a person does."""

from __future__ import annotations

import re

from playwright.sync_api import Locator, Page, expect

expect.set_options(timeout=20_000)  # how long a busy machine takes decides nothing


def to(page: Page, place: str, leaf: str = "") -> None:
    """Go to a place, and to a page in it."""
    page.get_by_role("navigation", name=re.compile("^Places")).get_by_role("link", name=place).locator(
        "visible=true"
    ).click()
    if leaf:
        page.get_by_role("navigation", name=f"Pages of {place}").get_by_role("link", name=leaf).click()
    if leaf or place not in ("Site", "Bench", "Journal"):
        expect(page.get_by_role("heading", level=1)).to_have_text(leaf or place)


def tile(page: Page, output: str) -> Locator:
    """What is pressed to switch it."""
    return page.locator(f"[data-output={output}] .face")


def sheet(page: Page, output: str) -> Locator:
    """All about it, opened."""
    page.locator(f"[data-output={output}]").get_by_role("button", name=re.compile("^More about")).click()
    found = page.locator(f"[data-sheet={output}]")
    expect(found).to_be_visible()
    return found
