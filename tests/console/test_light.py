"""Light, sound and signals in the console, in headless Chromium."""

from __future__ import annotations

import re
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, Route, expect
from vcdvcd import VCDVCD

from cairnwind.core.values import colours
from cairnwind.core.values.settings import FULL
from tests.conftest import Running, eventually
from tests.console.around import sheet, to
from tests.console.pads import hold
from tests.console.test_console import browser, signed_in  # noqa: F401
from tests.service.test_light import SITE


@pytest.fixture(scope="module")
def bench(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    found = Running(tmp_path_factory.mktemp("bench"), SITE)
    yield found
    found.end()


@pytest.fixture
def page(browser: Browser, bench: Running) -> Iterator[Page]:  # noqa: F811
    yield from signed_in(browser, bench, "Bench")


def test_a_colour_and_a_tune_are_chosen(page: Page, bench: Running) -> None:
    sheet(page, "colour")
    page.get_by_role("button", name="colour coral", exact=True).click()
    eventually(lambda: bench.link().pins[5] == 0)
    assert bench.link().pins[22] == FULL - colours.linear(round(FULL * 0x50 / 255))
    expect(page.locator("[data-output=colour] output")).to_have_text("coral")
    page.get_by_label("Any colour for colour").fill("#0000ff")
    expect(page.locator("[data-output=colour] output")).to_have_text("blue")
    bench.site.release("colour")
    page.keyboard.press("Escape")
    sheet(page, "bell")
    page.get_by_label("Tune for Bell").select_option("notes …")
    page.get_by_label("Notes for Bell").fill("tempo 60 A4:3")
    page.get_by_role("button", name="Play on Bell").click()
    expect(page.locator("[data-output=bell] output")).to_have_text("A4 (440 Hz)")
    page.locator("[data-sheet=bell]").get_by_role("button", name="off", exact=True).click()
    eventually(lambda: bench.link().pins[12] == 0)
    page.get_by_label("Notes for Bell").fill("A4 H9")
    page.keyboard.press("Enter")
    expect(page.get_by_text("Word 2 of the tune, 'H9'")).to_be_visible()
    bench.site.release("bell")


def test_a_program_is_seen_before_it_runs_and_a_fade_is_left_alone(page: Page, bench: Running) -> None:
    sheet(page, "lamp").get_by_role("button", name="Fade, blink or another program").click()
    panel = page.get_by_role("region", name="Program for lamp")
    panel.get_by_role("combobox").select_option("breathe")
    panel.get_by_label("High").fill("60 %")
    panel.get_by_label("In", exact=True).fill("500 ms")
    expect(panel.get_by_text(re.compile("breathing between off and 60 %, 500 ms in"))).to_be_visible()
    curve = panel.get_by_role("img", name="Curve of the program")
    assert len((curve.locator("path").last.get_attribute("d") or "").split("L")) == 241
    panel.get_by_label("High").fill("160 %")
    expect(panel.get_by_role("alert")).to_contain_text("outside 0 to 100 %")
    expect(panel.get_by_role("button", name="Run it")).to_be_disabled()
    panel.get_by_label("High").fill("60 %")
    before = bench.link().writes
    panel.get_by_role("button", name="Run it").click()
    expect(page.locator("[data-output=lamp]")).to_have_attribute("data-state", "running")
    eventually(lambda: bench.link().writes > before + 20)
    bench.site.release("lamp")
    bench.site.turn("lamp", "80 %", over="1500 ms")
    eventually(lambda: bench.site.output("lamp")["state"] == "confirmed")
    texts = eventually(
        lambda: (
            found
            if (found := [row["text"] for row in bench.site.journal("lamp", limit=3)])[0].startswith(
                "lamp is 80 %"
            )
            else None
        )
    )
    assert texts[1] == "lamp to fading to 80 % over 1.5 s (driving)", (
        "the slider that followed it has sent nothing"
    )
    bench.site.release("lamp")


def test_the_pad_drives_only_while_it_is_held(page: Page, bench: Running) -> None:
    pins = bench.link().pins
    pad = page.get_by_role("button", name=re.compile("drive: drag"))
    hold(page, pad, lambda: pins[13] > 900_000 and pins[6] > 900_000, 0.7)
    page.mouse.up()
    eventually(lambda: pins[13] == 0 and pins[6] == 0, within=1)
    pad.focus()
    page.keyboard.down("ArrowDown")
    eventually(lambda: pins[14] > 300_000)
    page.evaluate("window.dispatchEvent(new Event('blur'))")
    eventually(lambda: pins[14] == 0, within=1)
    page.keyboard.up("ArrowDown")
    hold(page, pad, lambda: pins[13] > 900_000, 0.1)
    cut = time.monotonic()
    page.context.set_offline(True)
    eventually(lambda: pins[13] == 0)
    assert time.monotonic() - cut < 1.5, "a lost network stops it"
    page.mouse.up()
    page.context.set_offline(False)


def test_what_is_chosen_stays_when_a_proposal_comes_late(page: Page) -> None:
    late: list[Route] = []
    page.evaluate("localStorage.removeItem('cairnwind-signals')")
    page.route(
        "**/api/v1/signals*",
        lambda route: late.append(route) if "seconds=60" in route.request.url else route.continue_(),
    )
    to(page, "Bench")
    page.get_by_text(re.compile("of 17 signals")).click()
    page.get_by_role("checkbox", name="Bell", exact=True).check()
    with page.expect_response(lambda its: "seconds=60" in its.url):
        late[0].continue_()
    expect(page.get_by_role("img", name="Trace of Bell")).to_be_visible()
    expect(page.get_by_role("checkbox", checked=True)).to_have_count(1)


def test_signals_far_and_near(page: Page, bench: Running, tmp_path: Path) -> None:
    bench.site.turn("relay", "on")
    bench.site.turn("lamp", "50 % duty")
    bench.site.turn("bell", "A4", lasting="30 s")
    to(page, "Bench")
    page.get_by_text(re.compile("of 17 signals")).click()
    for label in ("relay", "lamp", "Bell"):
        page.get_by_role("checkbox", name=label, exact=True).check()
    traces = page.get_by_role("region", name="Traces")
    expect(traces.get_by_role("img", name="Trace of lamp")).to_be_visible()
    expect(traces.locator(".head", has_text="lamp").first).to_contain_text("duty 50 % of 0.5 ms (2000 Hz)")
    expect(traces.locator(".head", has_text="Bell")).to_contain_text("pitch 440 Hz")
    page.get_by_label("Time shown").select_option("0.01")
    expect(traces.locator(".head", has_text="lamp").first).to_contain_text("pin 50 %")
    expect(traces.locator(".head", has_text="Bell")).to_contain_text("pin 440 Hz")
    page.get_by_role("button", name="Pause").click()
    box = traces.get_by_role("img", name="Trace of lamp").bounding_box()
    assert box is not None
    for share in (0.3, 0.55):
        page.mouse.click(box["x"] + box["width"] * share, box["y"] + 30)
    expect(page.get_by_label("Cursors")).to_contain_text(re.compile(r"from .*ms to .*ms: .* Hz"))
    page.mouse.move(box["x"] + box["width"] * 0.4, box["y"] + 30)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] * 0.6, box["y"] + 30)
    page.mouse.up()
    page.get_by_role("button", name="Zoom out").click()
    expect(page.get_by_role("button", name="Zoom out")).to_have_count(0)
    with page.expect_download() as saved:
        page.get_by_role("link", name="Save VCD").click()
    saved.value.save_as(tmp_path / "signals.vcd")
    assert "lamp.pin" in VCDVCD(str(tmp_path / "signals.vcd")).references_to_ids
    for name in ("relay", "lamp", "bell"):
        bench.site.release(name)


def test_the_bench_shows_how_a_timer_gets_there(page: Page) -> None:
    to(page, "Bench", "Light and timers")
    page.get_by_label("Timer").select_option("small-board")
    best = page.locator("tr.best")
    expect(best).to_contain_text("36363")
    expect(best).to_contain_text("439.9956 Hz")
    page.get_by_role("textbox", name="Frequency").fill("0.1 Hz")
    expect(page.get_by_text("0.1 Hz is below what the timer reaches")).to_be_visible()
    page.get_by_role("textbox", name="Duty").fill("101 %")
    expect(page.get_by_role("alert")).to_contain_text("outside 0 to 100 %")
    page.get_by_role("textbox", name="Duty").fill("25 %")
    expect(page.get_by_role("img", name="Two periods of the waveform")).to_be_visible()
    expect(page.get_by_text("Its channels share the frequency")).to_be_visible()
