"""Reached from outside: a real nginx before the service, with TLS, below a path, with the event stream through it."""

from __future__ import annotations

import json
import queue
import shutil
import socket
import ssl
import subprocess
import threading
from collections.abc import Iterator
from http.client import HTTPSConnection
from pathlib import Path

import pytest
from playwright.sync_api import Browser, expect

from cairnwind.client import CallerError, Site
from cairnwind.folder import Folder
from cairnwind.service import tls
from tests.conftest import ROOT, Running, eventually, free_port, spawn
from tests.console.around import tile
from tests.console.test_console import browser

__all__ = ["browser"]
NGINX = shutil.which("nginx") or "/usr/sbin/nginx"


class Proxy:
    """An nginx in the foreground, as docs/running.md has it; it comes to the service from an address of its own."""

    def __init__(self, folder: Path, service: int) -> None:
        self.folder, self.port = folder, free_port()
        self.certificate, key = tls.own(Folder(folder), "house", ("localhost",), "127.0.0.1")
        said = (ROOT / "docs" / "running.md").read_text()
        location = (
            said.partition("```nginx\n")[2]
            .partition("```")[0]
            .replace("127.0.0.1:8470", f"127.0.0.1:{service}")
        )
        assert "proxy_pass" in location
        (folder / "nginx.conf").write_text(
            f"daemon off; master_process off; pid {folder}/pid; error_log {folder}/error.log;\nevents {{}}\nhttp {{\n  access_log off;\n"
            + "".join(
                f"  {each}_temp_path {folder}/{each};\n"
                for each in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
            )
            + f"  server {{\n  listen 127.0.0.1:{self.port} ssl;\n  ssl_certificate {self.certificate}; ssl_certificate_key {key};\n"
            f"  proxy_bind 127.0.0.2;\n{location}  }}\n}}\n"
        )
        self.start()

    def start(self) -> None:
        self.process = spawn(
            NGINX, "-p", self.folder, "-c", self.folder / "nginx.conf", stderr=subprocess.DEVNULL
        )
        eventually(self._listens, within=10)

    def _listens(self) -> bool:
        with socket.socket() as tried:
            return tried.connect_ex(("127.0.0.1", self.port)) == 0

    def stop(self) -> None:
        self.process.terminate()
        self.process.wait(20)


@pytest.fixture
def both(tmp_path: Path) -> Iterator[tuple[Running, Proxy]]:
    (tmp_path / "nginx").mkdir()
    port = free_port()
    text = 'site = "Shed"\n[board.near]\nlink = "simulated"\nlines = 4\n[output.lamp]\nkind = "lamp"\npin = "near:line-0"\n'
    running = Running(tmp_path, text)
    port = running.port
    proxy = Proxy(tmp_path / "nginx", port)
    running.end()
    running.site_file.write_text(
        f'{text}[service]\nbehind = "https://localhost:{proxy.port}/shed"\nproxies = ["127.0.0.2"]\n'
    )
    running.begin()
    yield running, proxy
    proxy.stop()
    running.end()


def ask(
    proxy: Proxy, path: str, key: str, come_from: str, **headers: str
) -> tuple[int, dict[str, str], bytes]:
    """A request to nginx by somebody at an address."""
    context = ssl.create_default_context(cafile=str(proxy.certificate))
    connection = HTTPSConnection("localhost", proxy.port, context=context, source_address=(come_from, 0))
    connection.request("GET", path, headers={"Authorization": f"Bearer {key}", **headers})
    answer = connection.getresponse()
    return answer.status, dict(answer.getheaders()), answer.read()


def test_a_client_commands_and_follows_through_it_and_is_known_by_its_own_address(
    both: tuple[Running, Proxy],
) -> None:
    running, proxy = both
    outside = f"https://localhost:{proxy.port}/shed"
    site = Site(outside, running.key, fingerprint=tls.fingerprint(proxy.certificate))
    seen: queue.SimpleQueue[str] = queue.SimpleQueue()

    def follow() -> None:
        for change in site.changes():
            if change.kind == "afresh":
                seen.put("afresh")
            elif change.kind == "output" and change.name == "lamp" and change.data["confirmed"]:
                seen.put(change.data["confirmed"]["words"])

    threading.Thread(target=follow, daemon=True).start()
    assert seen.get(timeout=30) == "afresh"
    for words in ("on", "off", "on"):
        site.turn("lamp", words)
        eventually(lambda words=words: seen.get(timeout=20) == words)
    proxy.stop()
    with pytest.raises(CallerError):
        site.turn("lamp", "off")
    running.site.turn("lamp", "off")
    proxy.start()
    eventually(
        lambda: seen.get(timeout=30) == "off", within=10
    )  # the stream comes back by itself, with what it missed
    # what is said by who asks, and by who is no proxy, is not believed
    for come_from, direct, headers in (
        ("127.0.0.3", False, {}),
        ("127.0.0.4", False, {"X-Forwarded-For": "203.0.113.9"}),
        ("127.0.0.1", True, {"X-Forwarded-For": "203.0.113.9"}),
    ):
        name = f"tablet at {come_from}"
        key = running.site.new_key(name, "operate")
        if direct:
            assert running.http("GET", "/api/v1/site", key=key, headers=headers).status_code == 200
        else:
            assert ask(proxy, "/shed/api/v1/site", key, come_from, **headers)[0] == 200
        keys = running.site.keys
        eventually(
            lambda name=name, keys=keys: next(each["used_from"] for each in keys() if each["name"] == name)
        )
        assert next(each["used_from"] for each in keys() if each["name"] == name) == come_from
    assert ask(proxy, "/api/v1/site", key, "127.0.0.3")[0] == 404, "beside its path there is nothing of it"
    _, _, described = ask(proxy, "/shed/api/v1/openapi.json", key, "127.0.0.3")
    assert json.loads(described)["servers"][0]["url"].startswith(outside)


def test_the_console_works_below_a_path(both: tuple[Running, Proxy], browser: Browser) -> None:
    running, proxy = both
    link = running.service.sign_in_link()
    assert link.startswith(f"https://localhost:{proxy.port}/shed/#sign-in=")
    context = browser.new_context(ignore_https_errors=True)
    page = context.new_page()
    wrong: list[str] = []
    page.on(
        "response",
        lambda answer: wrong.append(f"{answer.status} {answer.url}") if answer.status >= 400 else None,
    )
    page.goto(link)
    tile(page, "lamp").click()
    eventually(lambda: running.site.output("lamp")["confirmed"]["on"])
    running.site.turn("lamp", "off")
    expect(tile(page, "lamp")).to_contain_text("off")
    page.reload()
    expect(tile(page, "lamp")).to_be_visible()
    page.evaluate("location.hash = 'journal'")
    expect(page.get_by_role("region", name="Journal").get_by_role("listitem").first).to_be_visible()
    (cookie,) = context.cookies()
    assert (cookie["secure"], cookie["httpOnly"], cookie["sameSite"]) == (True, True, "Strict")
    assert not wrong
    context.close()
