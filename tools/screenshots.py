"""Makes the pictures in docs/screenshots from the demo site: the console in Chromium, the terminal in xterm."""

from __future__ import annotations

import os
import shlex
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from playwright.sync_api import Browser, Page, sync_playwright

from cairnwind.client import Site

OUT = Path("docs/screenshots")
CAIRNWIND = str(Path(sys.executable).with_name("cairnwind").absolute())
DISPLAY = ":97"
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]
BROKEN = """\
site = “Saltmarsh Kiln House”
timezone = "Europe/Londn"

[board.shelf]
link = "simulated"
map = "header-34"

[output.kiln-vent]
kind = "relay"
pin = 9
sens = "active-low"

[output.gallery]
kind = "lamp"
pin = "shelf:J2-9"
frequency = "800 Hz"
"""


def main() -> None:
    """Start the demo, take all pictures, stop it."""
    OUT.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as folder:
        state = Path(folder) / "state"
        demo = subprocess.Popen(
            [CAIRNWIND, "demo", "--state", str(state), "--port", "0"], stdout=subprocess.DEVNULL
        )
        try:
            while not (state / "address").exists():
                time.sleep(0.05)
            site = Site(state=state)
            site.turn("kiln-vent", "on")
            site.turn("gallery", "40 %", lasting="2 h")
            time.sleep(2.5)  # the draught follows the vent
            terminal(Path(folder), state)
            console(site)
            safe(site)
            signals(site)
            plan(site, state)
            boards(site)
        finally:
            demo.send_signal(signal.SIGINT)
            demo.wait(10)


def go(page: Page, address: str) -> None:
    """Go to a page of the console."""
    page.evaluate(f"location.hash = {address!r}")
    page.wait_for_timeout(500)


def console(site: Site) -> None:
    """The page 'Now' at the desk, and an output's sheet on a panel."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(site.sign_in_link())
        page.wait_for_selector("[data-output=gallery]")
        page.wait_for_timeout(600)
        page.screenshot(path=OUT / "console-now.png")
        panel = browser.new_page(viewport={"width": 800, "height": 480}, color_scheme="dark")
        panel.goto(site.sign_in_link())
        panel.locator("[data-output=gallery] .more").click()
        panel.wait_for_selector(".sheet dl")
        panel.wait_for_timeout(300)
        panel.screenshot(path=OUT / "console-panel.png")
        browser.close()
        remotes(site, playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS))


def remotes(site: Site, browser: Browser) -> None:
    """The trolley's pad on a phone."""
    text = site.new_key("porch panel", "operate", only=["gallery", "window"], from_="00:30", to="00:00")
    Site(site.address, text).outputs()
    page = browser.new_page(viewport={"width": 1280, "height": 800})
    page.goto(site.sign_in_link())
    page.wait_for_selector("[data-output=gallery]")
    link = site.pair(
        "Anna's phone", "operate", only=["trolley-left", "trolley-right", "hoist-up", "hoist-down"]
    )["link"]
    phone = browser.new_page(viewport={"width": 390, "height": 844}, has_touch=True)
    phone.goto(link)
    phone.wait_for_selector("[data-pad=trolley]")
    phone.locator("[data-pad=trolley]").scroll_into_view_if_needed()
    box = phone.locator("[data-pad=trolley] .area").bounding_box()
    assert box
    phone.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
    phone.mouse.down()
    phone.mouse.move(box["x"] + box["width"] * 0.62, box["y"] + box["height"] * 0.2)
    phone.wait_for_timeout(900)
    phone.screenshot(path=OUT / "console-phone.png")
    phone.mouse.up()
    browser.close()


def safe(site: Site) -> None:
    """The page 'Rules' with a question, and a trip with the keypad."""
    site.reset_stop()
    site.give_code("glaze-store", "anna", "4711x")
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(site.sign_in_link())
        page.wait_for_selector("[data-output=gallery]")
        go(page, "site/rules")
        page.get_by_label("Ask what is so").fill("kiln-vent is on for 30 s and kiln-door is open")
        page.get_by_role("button", name="Ask").click()
        page.wait_for_timeout(500)
        page.screenshot(path=OUT / "console-rules.png")
        go(page, "now")
        page.locator("[data-output=glaze-store] .face").click()
        pad = page.get_by_role("form", name="Passcode of Glaze store")
        for _ in range(3):
            pad.locator("input").fill("0000")
            pad.locator("input").press("Enter")
            page.wait_for_timeout(700)
        site.call("PUT", "/inputs/emergency-button/simulated", {"state": "pressed"})
        page.keyboard.press("Escape")
        page.evaluate("scrollTo(0, 0)")
        page.locator("[data-trip='emergency button'] .btn").click()
        page.wait_for_timeout(400)
        page.screenshot(path=OUT / "console-trip.png")
        site.call("PUT", "/inputs/emergency-button/simulated", {"state": "released"})
        page.wait_for_timeout(300)
        site.reset("emergency button", "Anna")
        site.acknowledge("somebody tries codes", "Anna")
        browser.close()


def plan(site: Site, state: Path) -> None:
    """The pages 'Plan' and 'Journal'; and the week as a picture."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(site.sign_in_link())
        page.wait_for_selector("[data-output=gallery]")
        go(page, "plan")
        page.wait_for_selector("svg .bar")
        page.wait_for_timeout(500)
        page.screenshot(path=OUT / "console-plan.png")
        go(page, "journal/rows/gallery")
        page.locator("[data-row] .why").first.click()
        page.wait_for_timeout(600)
        page.screenshot(path=OUT / "console-journal.png")
        browser.close()
    week = ["--for", "7 d", "--picture", str((OUT / "rehearsal.png").absolute())]
    subprocess.run(
        [CAIRNWIND, "--state", str(state), "rehearse", *week], check=True, stdout=subprocess.DEVNULL
    )


def signals(site: Site) -> None:
    """The page 'Signals': ten seconds of an evening, and ten milliseconds of it."""
    site.reset_stop()
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(site.sign_in_link())
        page.wait_for_selector("[data-output=gallery]")
        site.run("window", {"kind": "breathe", "in": "2 s"})
        site.run("path-1", {"kind": "candle"})
        site.turn("gallery", "90 %", over="4 s")
        site.turn("bench-lamp", "on")
        page.wait_for_timeout(3000)
        site.turn("bench-lamp", "off")
        site.play("bell", "welcome")
        names = ["bench-lamp", "gallery", "window", "bell", "path-1.red"]
        page.evaluate(f"localStorage.setItem('cairnwind-signals', JSON.stringify({names}))")
        go(page, "bench/signals")
        page.wait_for_timeout(3500)
        page.screenshot(path=OUT / "console-signals.png")
        for name in ("window", "path-1"):
            site.release(name)
        browser.close()


def boards(site: Site) -> None:
    """The page 'Boards' with a bare pin tried, 'Changes' with an output that is changed, and 'Wiring'."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(site.sign_in_link())
        page.wait_for_selector("[data-output=gallery]")
        site.reset_stop()
        go(page, "site/boards/shelf")
        page.click("[data-pin='shelf:J2-10']")
        page.select_option(".fields select", "pwm")
        page.click("text=Try it")
        page.wait_for_timeout(1200)
        page.screenshot(path=OUT / "console-pins.png")
        site.change("output", "window", label="Shop window", load="45 W", reason="new bulbs")
        site.into_draft(
            {"do": "rename", "what": "output", "name": "gallery", "to": "long-room"},
            {"do": "add", "what": "schedule", "name": "late light", "keys": {"from": "21:00", "to": "23:00", "do": "turn window to 20 %"}},
        )  # fmt: skip
        go(page, "site/changes/output/bench-lamp")
        page.wait_for_selector("[data-key=label]")
        page.fill("[data-key=label]", "Lamp at the bench")
        page.wait_for_timeout(1500)
        page.screenshot(path=OUT / "console-changes.png")
        go(page, "site/wiring/gallery")
        page.wait_for_timeout(2500)
        page.screenshot(path=OUT / "console-wiring.png")
        browser.close()


def terminal(folder: Path, state: Path) -> None:
    """The main commands, each in an xterm of its own."""
    (folder / "broken.toml").write_text(BROKEN, "utf-8")
    shots = {
        "look": "cairnwind look",
        "why": "cairnwind turn kiln on; echo; cairnwind why kiln; echo; cairnwind turn hoist-down on; cairnwind turn hoist-up on; cairnwind turn hoist-down off",
        "draft": "cairnwind change output window load='42 W' --reason 'new bulbs'; echo; cairnwind change output cupboard-fan kick='300 ms' label= --draft; cairnwind add schedule 'late light' from=21:00 to=23:00 do='turn window to 20 %' --draft; echo; cairnwind draft show; echo; cairnwind draft drop; cairnwind editions",
        "check": "cairnwind check broken.toml",
        "pins": "cairnwind pins shelf",
        "phrase": "cairnwind do --dry run scene closing; echo; cairnwind do turn hoist on; echo; cairnwind do turn yard on for 1 h; echo; cairnwind timers; echo; cairnwind plan",
        "trace": "cairnwind rules; echo; cairnwind trace kiln --last",
    }
    server = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL)
    environment = {
        **os.environ,
        "DISPLAY": DISPLAY,
        "CAIRNWIND_STATE": str(state),
        "PATH": f"{Path(CAIRNWIND).parent}:{os.environ['PATH']}",
        "LC_ALL": "C.UTF-8",
    }
    try:
        time.sleep(1)
        for name, command in shots.items():
            geometry, size = ("178x57+0+0", "9") if name == "look" else ("158x50+0+0", "10")
            window = subprocess.Popen(
                ["xterm", "-geometry", geometry, "-fa", "DejaVu Sans Mono", "-fs", size, "-bg", "#1b2126",
                 "-fg", "#dfe5e8", "-e", "sh", "-c", f"echo {shlex.quote(f'$ {command}')}; {command}; sleep 60"],
                env=environment, cwd=folder,
            )  # fmt: skip
            time.sleep(3)
            subprocess.run(
                ["import", "-window", "root", str(OUT.absolute() / f"{name}.png")],
                env=environment,
                check=True,
            )
            window.terminate()
            window.wait()
    finally:
        server.terminate()
        server.wait()


if __name__ == "__main__":
    main()
