"""Pads, held by a mouse on a machine that may be slow."""

from __future__ import annotations

import time
from collections.abc import Callable

from playwright.sync_api import Locator, Page

from tests.conftest import eventually


def hold(page: Page, pad: Locator, drives: Callable[[], bool], seconds: float) -> None:
    """Press a pad from its middle to its upper edge, until it has driven for so long.

    Where the machine is too slow for one of twenty updates a second the hold ends, as it should: then it is pressed again.
    """
    pad.scroll_into_view_if_needed()
    box = pad.bounding_box()
    assert box
    across = box["x"] + box["width"] / 2
    for _ in range(6):
        page.mouse.move(across, box["y"] + box["height"] / 2)
        page.mouse.down()
        page.mouse.move(across, box["y"] + 2)
        end = time.monotonic() + 5
        while not drives() and time.monotonic() < end:
            time.sleep(0.001)
        end = time.monotonic() + seconds
        while drives() and time.monotonic() < end:
            time.sleep(0.001)
        if drives():
            return
        page.mouse.up()
        eventually(lambda: not drives())
    raise AssertionError(f"not once was it held for {seconds} s, far beyond its lease")
