"""Rows of the console: a page of 500 outputs in headless Chromium, while 50 of them change every second."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from bench.client import Server
from bench.table import Row, amount, measures
from cairnwind.client import Site

OUTPUTS, CHANGES = 500, 50
FLAGS = ("--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync")  # fmt: skip


@contextmanager
def changing(server: Server) -> Iterator[None]:
    """So many outputs go on or off every second."""
    over = threading.Event()
    line = server.connect()

    def work() -> None:
        turn, due = 0, time.monotonic()
        while not over.is_set():
            line.turn(f"relay-{turn * 7 % OUTPUTS}", "on" if turn // OUTPUTS % 2 == 0 else "off")
            turn, due = turn + 1, due + 1 / CHANGES
            time.sleep(max(0.0, due - time.monotonic()))

    worker = threading.Thread(target=work)
    worker.start()
    try:
        yield
    finally:
        over.set()
        worker.join()
        line.close()


def seconds_of(browser: Any) -> tuple[float, float]:
    """Processor seconds of the pages so far, and of all of the browser."""
    told = browser.new_browser_cdp_session().send("SystemInfo.getProcessInfo")["processInfo"]
    return sum(each["cpuTime"] for each in told if each["type"] == "renderer"), sum(
        each["cpuTime"] for each in told
    )


@measures("console")
def console() -> list[Row]:
    """From the address to tiles that can be pressed; what the page takes while it follows; what it keeps after ten minutes."""
    from playwright.sync_api import sync_playwright

    span = amount(600.0, 2.0)
    with Server("product", str(OUTPUTS)) as product, sync_playwright() as playwright:
        site = Site(f"http://127.0.0.1:{product.port}", product.key)
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=list(FLAGS))
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(site.sign_in_link())
        page.wait_for_selector("section.place")
        page.reload()
        page.wait_for_selector("section.place")
        painted = page.evaluate(
            "performance.getEntriesByName('first-contentful-paint')[0]?.startTime ?? performance.now()"
        )
        usable = page.evaluate("performance.now()")
        page.get_by_role("button", name="rack room").click()
        page.wait_for_selector(f"[data-output=relay-{OUTPUTS - 1}]", state="attached")
        heap = page.context.new_cdp_session(page)

        def kept() -> float:
            heap.send("HeapProfiler.collectGarbage")
            return float(heap.send("Runtime.getHeapUsage")["usedSize"]) / 2**20

        with changing(product):
            time.sleep(amount(5.0, 0.5))
            before, (page_before, all_before), begin = kept(), seconds_of(browser), time.monotonic()
            page.wait_for_timeout(span * 1000)
            (page_after, all_after), took = seconds_of(browser), time.monotonic() - begin
            after = kept()
        browser.close()
    share, whole = (page_after - page_before) / took * 100, (all_after - all_before) / took * 100
    return [
        Row(f"console, {OUTPUTS} outputs: first paint", painted, "ms", bar="<= 1000", holds=painted <= 1000),
        Row(
            f"console, {OUTPUTS} outputs: the first tile can be seen",
            usable,
            "ms",
            bar="<= 1000",
            holds=usable <= 1000,
        ),
        Row(
            f"console, {CHANGES} changes a second: the page, of a core",
            share,
            "%",
            bar="< 15",
            holds=share < 15,
        ),
        Row(f"console, {CHANGES} changes a second: the browser, of a core", whole, "%"),
        Row(f"console, memory kept after {took / 60:.1f} min of that", after, "MB", before, after / before),
    ]
