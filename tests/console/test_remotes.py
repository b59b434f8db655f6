"""The console's keys, pairing, remotes and help; and what is held while it is pressed, with the network cut in the middle."""

from __future__ import annotations

import re
import socket
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.conftest import Running, eventually, free_port
from tests.console.around import sheet, tile, to
from tests.console.pads import hold
from tests.console.test_console import browser, signed_in
from tests.remotes.peers import WIRED

__all__ = ["browser"]


class Cable:
    """Between a browser and the service, to be pulled: connections stay open, and nothing goes through."""

    def __init__(self, port: int) -> None:
        self.port, self.last, self.pulled = free_port(), 0.0, False
        self._to = port
        self._socket = socket.create_server(("127.0.0.1", self.port))
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        while True:
            try:
                near, _ = self._socket.accept()
                far = socket.create_connection(("127.0.0.1", self._to))
            except OSError:
                return
            for way in ((near, far, True), (far, near, False)):
                threading.Thread(target=self._carry, args=way, daemon=True).start()

    def _carry(self, source: socket.socket, sink: socket.socket, up: bool) -> None:
        try:
            while data := source.recv(65536):
                while self.pulled:
                    time.sleep(0.01)
                if up and b"PUT /api/v1/pads" in data:
                    self.last = time.monotonic()
                sink.sendall(data)
            sink.shutdown(socket.SHUT_WR)
        except OSError:
            pass

    def end(self) -> None:
        self.pulled = False
        self._socket.close()


@pytest.fixture
def bench(tmp_path: Path) -> Iterator[Running]:
    text = WIRED.replace('link = "modbus"\nport = "127.0.0.1:9"', 'link = "simulated"\nlines = 32')
    text += '\n[output.winch]\nkind = "motor"\npin = "near:line-11"\n\n[remote.modbus]\nlisten = "127.0.0.1:0"\nclients = { "127.0.0.1" = "plc" }\n'
    text += '\n[output.store]\nkind = "lock"\npin = "near:line-12"\n\n[guard.store]\nopens = "9 s"\n'
    text += '\n[remote.keypad.door]\ndevice = "simulated"\nopens = "store"\nkey = "door"\n'
    found = Running(tmp_path, text)
    yield found
    found.end()


@pytest.fixture
def page(browser: Browser, bench: Running) -> Iterator[Page]:
    yield from signed_in(browser, bench, "Test bench")


def test_keys_are_made_shown_once_and_revoked_and_a_phone_is_paired(
    page: Page, bench: Running, browser: Browser
) -> None:
    to(page, "Site", "Keys")
    page.get_by_label("Whose").fill("hall tablet")
    page.get_by_label("These outputs, groups or kinds only").fill("lamps")
    page.get_by_role("button", name="Make a key").click()
    expect(page.locator(".made")).to_contain_text("shown this once")
    key = page.locator(".made code").inner_text()
    assert bench.http("GET", "/api/v1/session", key=key).json()["only"] == ["gallery", "yard"]
    expect(page.locator("[data-key='hall tablet']")).to_contain_text("lamps")
    page.get_by_label("Whose").fill("hall tablet")
    page.get_by_role("button", name="Make a key").click()
    expect(page.locator(".notes")).to_contain_text("There is a key for 'hall tablet' already")
    page.get_by_label("Whose").fill("Anna's phone")
    page.get_by_label("These outputs, groups or kinds only").fill("gallery")
    with page.expect_response(re.compile("/pairings")) as answered:
        page.get_by_role("button", name="Pair a phone").click()
    expect(page.get_by_role("img", name="QR code")).to_be_visible()
    phone = browser.new_page(viewport={"width": 390, "height": 800})
    phone.goto(answered.value.json()["link"])
    expect(phone.locator("[data-output=gallery]")).to_be_visible()
    expect(phone.locator("[data-output=kiln]")).to_have_count(0)
    assert phone.evaluate("[...document.querySelectorAll('a')].every((each) => !each.hash.endsWith('/keys'))")
    phone.get_by_role("button", name="The whole site").click()
    expect(tile(phone, "vent")).to_be_disabled()
    expect(sheet(phone, "vent")).to_contain_text("may not command this output")
    expect(page.get_by_role("img", name="QR code")).to_have_count(0), "it has been used"
    expect(page.locator("[data-session]")).to_have_count(2)
    revoke = page.get_by_role("button", name="Revoke Anna's phone")
    revoke.click()
    expect(revoke).to_have_text("Revoke now")
    revoke.press("Enter")
    expect(phone.get_by_role("heading", name="Not signed in")).to_be_visible()
    phone.close()


def test_remotes_and_their_wires_and_every_call_are_shown(page: Page, bench: Running) -> None:
    to(page, "Site", "Remotes")
    remote = page.locator("[data-remote=modbus]")
    expect(remote).to_contain_text("carries the key of plc")
    remote.get_by_text("What its addresses stand for").click()
    expect(remote.get_by_role("row", name=re.compile("coil 0 vent"))).to_be_visible()
    remote.get_by_text("On the wire of modbus").click()
    from pymodbus.client import ModbusTcpClient

    plc = ModbusTcpClient(
        "127.0.0.1", port=bench.service.remotes[0].form()["facts"]["listen"].rpartition(":")[2]
    )
    plc.connect()
    assert plc.write_coil(0, True).exception_code == 1
    expect(remote.locator("li", has_text="there is no key 'plc'")).to_be_visible()
    plc.close()
    bench.site.new_key("door", "operate")
    bench.site.give_code("store", "anna", "4711")
    door = page.locator("[data-remote=door]")
    door.get_by_text("Press its keys").click()
    for keys, said in (("12", "that code does not open it"), ("4711", "it opens")):
        for key in keys:
            door.get_by_role("button", name=key, exact=True).click()
        door.get_by_role("button", name="Enter").click()
        expect(door.get_by_role("status")).to_have_text(said)
    assert bench.site.output("store")["confirmed"]["on"]
    page.get_by_role("link", name="Help").click()
    page.get_by_label("Find a call").fill("lockouts/{tag}")
    expect(page.locator("section summary")).to_have_count(2)
    page.locator("summary", has_text="PUT/outputs").click()
    expect(page.get_by_text('"reason":"new bulbs"')).to_be_visible()


def test_a_button_runs_only_while_it_is_held_whatever_lets_go(page: Page, bench: Running) -> None:
    button = tile(page, "winch")
    button.scroll_into_view_if_needed()

    def runs() -> bool:
        return bool(bench.site.output("winch")["confirmed"]["on"])

    box = button.bounding_box()
    assert box
    page.mouse.move(box["x"] + 5, box["y"] + 5)
    page.mouse.down()
    eventually(runs)
    time.sleep(1.5)
    assert runs(), "longer than its lease"
    assert [claim["rank"] for claim in bench.site.output("winch")["claims"]] == ["hand"]
    page.mouse.up()
    eventually(lambda: not runs(), within=0.8)
    button.focus()
    for let_go in (lambda: page.keyboard.up("Space"), lambda: page.evaluate("window.dispatchEvent(new Event('blur'))"),
                   lambda: page.evaluate("document.dispatchEvent(new Event('visibilitychange'))")):  # fmt: skip

        def press() -> bool:
            """Again where the service answered too late to be trusted with it: a press does not wait in a slow network."""
            page.keyboard.up("Space")
            button.focus()
            page.keyboard.down("Space")
            end = time.monotonic() + 2
            while not runs() and time.monotonic() < end:
                time.sleep(0.02)
            return runs()

        eventually(press)
        let_go()
        eventually(lambda: not runs(), within=0.8)
        page.keyboard.up("Space")


def test_a_pad_stops_when_the_network_is_cut(browser: Browser, bench: Running) -> None:
    """At twenty updates a second; the motors stand within 300 ms of the last one. (The test allows a slow machine more.)"""
    cable = Cable(bench.port)
    context = browser.new_context(viewport={"width": 390, "height": 844}, has_touch=True)
    page = context.new_page()
    page.goto(f"http://127.0.0.1:{cable.port}/#sign-in={bench.service.sign_in_link().partition('=')[2]}")
    pad = page.get_by_role("button", name=re.compile("trolley: drag"))

    def drives() -> bool:
        found = bench.service.runtime.publisher.find("left")
        return bool(found and found.confirmed and found.confirmed.on)

    hold(page, pad, drives, 1.0)
    cable.pulled = True
    last = cable.last
    while drives():
        assert time.monotonic() < last + 2, "it still drives"
        time.sleep(0.001)
    took = time.monotonic() - last
    print(f"the motors stood {took * 1000:.0f} ms after the last update")
    assert took < 0.8
    time.sleep(0.3)
    moves = len(bench.site.journal(subject="left", kind="change", limit=1000))
    cable.pulled = False  # what was held up on the way comes now, and moves nothing any more
    eventually(lambda: "hold has ended" in str(bench.site.remote_traffic("http")["frames"]))
    time.sleep(0.3)
    assert not drives()
    assert len(bench.site.journal(subject="left", kind="change", limit=1000)) == moves
    page.mouse.up()
    context.close()
    cable.end()
