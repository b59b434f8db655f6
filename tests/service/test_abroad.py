"""Leaving loopback: TLS with a certificate of our own or a given one, or plainly; and what the site file has to say for it."""

from __future__ import annotations

import socket
import subprocess
import time
from pathlib import Path

import pytest
import requests

from cairnwind.client import Site
from cairnwind.core.values.errors import CallerError
from cairnwind.folder import Folder
from cairnwind.remotes.address import outside
from cairnwind.service import tls
from cairnwind.service.serve import Service
from cairnwind.site import SiteFileError, read_site
from cairnwind.site.checked import check_site
from tests.conftest import CAIRNWIND, SITE, cairnwind, eventually, free_port, spawn


def served(folder: Path, service: str) -> Service:
    file = folder / "site.toml"
    file.write_text(f"{SITE}\n[service]\n{service}\n", "utf-8")
    found = Service(read_site(file), Folder(folder / "state"))
    found.start()
    return found


def test_a_certificate_of_its_own_is_known_by_its_fingerprint(tmp_path: Path) -> None:
    port = free_port()
    service = served(tmp_path, f'listen = "0.0.0.0:{port}"\ntls = "self-made"\nnames = ["kiln.lan"]')
    try:
        assert service.certificate is not None
        local = Site(state=tmp_path / "state")
        assert (local.address, local.turn("gallery", "on").ending) == (
            f"https://127.0.0.1:{port}",
            "confirmed",
        )
        key, print_of_it = str(Folder(tmp_path / "state").key()), tls.fingerprint(service.certificate)
        there = Site(f"https://localhost:{port}", key, fingerprint=print_of_it)
        assert there.outputs()
        changes = there.changes(again=False)
        assert next(changes).kind == "afresh"
        there.turn("gallery", "off")
        assert next(change for change in changes if change.name == "gallery").data["wanted"]["on"] is False
        wrong = print_of_it.replace(print_of_it[:2], "00" if print_of_it[:2] != "00" else "11", 1)
        with pytest.raises(CallerError, match="does not answer"):
            Site(f"https://localhost:{port}", key, fingerprint=wrong).outputs()
        with pytest.raises(requests.exceptions.SSLError):
            requests.get(f"https://127.0.0.1:{port}/healthz", timeout=5)
        pem = str(service.certificate)
        for host, status in (
            (f"127.0.0.1:{port}", 200),
            (f"kiln.lan:{port}", 200),
            (f"10.1.2.3:{port}", 200),
            (f"evil.example:{port}", 421),
        ):
            answer = requests.get(
                f"https://127.0.0.1:{port}/healthz", verify=pem, headers={"Host": host}, timeout=5
            )
            assert answer.status_code == status, host
        # a link by TLS has a cookie that goes by TLS only
        link = service.sign_in_link()
        assert link.startswith(f"https://kiln.lan:{port}/#"), "as others have to call it"
        assert local.pair("a phone", "watch")["link"].startswith(f"https://kiln.lan:{port}/#")
        assert outside(service.site, "https://localhost/") == "https://kiln.lan/", "a usual port stays unsaid"
        token = link.partition("=")[2]
        signed = requests.post(
            f"https://127.0.0.1:{port}/api/v1/session", json={"token": token}, verify=pem, timeout=5
        )
        cookie = signed.headers["Set-Cookie"]
        assert cookie.startswith(f"__Host-cairnwind-{port}=")
        assert {"Secure", "Path=/", "HttpOnly"} <= {part.strip() for part in cookie.split(";")}
        assert "Domain" not in cookie
        assert signed.headers["Strict-Transport-Security"].startswith("max-age=")
        assert signed.headers["Server"] == "cairnwind", "and no version of anything"
        # callers who say nothing, or no TLS, hold nobody up
        silent = [socket.create_connection(("127.0.0.1", port)) for _ in range(4)]
        begin = time.monotonic()
        assert requests.get(f"https://127.0.0.1:{port}/healthz", verify=pem, timeout=5).ok
        assert time.monotonic() - begin < 3
        for each in silent:
            each.close()
        plain = requests.get(f"http://127.0.0.1:{port}/healthz", timeout=5)
        assert (plain.status_code, plain.text) == (400, "This address is for https only.")
        done = cairnwind(
            "--address",
            f"https://127.0.0.1:{port}",
            "look",
            "gallery",
            env={"CAIRNWIND_KEY": key, "CAIRNWIND_FINGERPRINT": print_of_it},
        )
        assert "Gallery" in done.stdout or "gallery" in done.stdout
        discovery = next(each for each in local.remotes() if each["kind"] == "discovery")
        assert discovery["facts"]["type"] == "_wot._tcp.local."
    finally:
        service.stop()
    again = served(tmp_path, f'listen = "0.0.0.0:{port}"\ntls = "self-made"\nnames = ["kiln.lan"]')
    assert tls.fingerprint(again.certificate or Path()) == print_of_it, "it is kept"
    again.stop()


def test_a_given_certificate_and_a_plain_service(tmp_path: Path) -> None:
    made = Folder(tmp_path)
    certificate, key = tls.own(made, "given", (), "127.0.0.1")
    port = free_port()
    service = served(
        tmp_path,
        f'listen = "127.0.0.1:{port}"\ncertificate = "{certificate.name}"\ncertificate_key = "{key.name}"',
    )
    assert requests.get(f"https://127.0.0.1:{port}/healthz", verify=str(certificate), timeout=5).ok
    service.stop()
    file = tmp_path / "plain.toml"
    file.write_text(f'{SITE}\n[service]\nlisten = "0.0.0.0:{port}"\ntls = "plain"\n', "utf-8")
    process = spawn(CAIRNWIND, "serve", str(file), "--state", str(tmp_path / "s2"), stdout=subprocess.PIPE)
    eventually(lambda: (tmp_path / "s2" / "address").exists(), within=15)
    assert requests.get(f"http://127.0.0.1:{port}/api/v1/site", timeout=5).status_code == 401, (
        "a key all the same"
    )
    process.terminate()
    assert "cross the network unprotected" in process.communicate(timeout=10)[0]
    assert "cross the network unprotected" in check_site(file)[1].shown()
    (tmp_path / "bad.pem").write_text("nothing")
    with pytest.raises(CallerError, match=r"bad\.pem cannot be used"):
        served(tmp_path, f'listen = "127.0.0.1:{port}"\ncertificate = "bad.pem"\ncertificate_key = "bad.pem"')


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ('[service]\nlisten = "0.0.0.0:8470"', "0.0.0.0 is reachable from elsewhere, and nothing says how that is protected"),
        ('[service]\ncertificate = "a.pem"', 'Give both: certificate = "site.pem" and certificate_key'),
        ('[service]\nnames = "kiln.lan"', "is not a list of names of hosts"),
        ('[remote.modbus]\nlisten = "127.0.0.1:1502"', "has no 'clients'"),
        ('[remote.modbus]\nlisten = "127.0.0.1:1502"\nclients = { "10.1" = "plc" }', "'10.1' is no address"),
        ('[remote.surface]\nlisten = "nowhere"\nsenders = { "10.0.0.1" = "x" }', "is not an address to listen on"),
        ('[remote.line.bench]\nport = "COM3"\nkey = "host"', "'COM3' is not a serial port"),
        ('[remote.line.bench]\nport = "/dev/ttyUSB7"', "has no 'key'"),
        ('[remote.line]\nport = "/dev/ttyUSB7"', "'line' is a table of named tables"),
        ('[remote.hook.a]\naddress = "ftp://x"', "is not an address"),
        ('[remote.hook.a]\naddress = "https://me:secret@x/"', "secrets are not part of it"),
        ('[remote.hook.a]\naddress = "https://x/"\nevents = ["alarms"]', "are no events"),
        ('[remote.mail.a]\nserver = "mail.lan"\nfrom = "a@b"\nto = ["c@d"]', "is not a mail server"),
        ('[remote.mail.a]\nserver = "smtp://mail.lan"\nfrom = "a@b"\nto = ["nobody"]', "'nobody' is not a mail address"),
        ('[remote.broker]\naddress = "mqtt://broker.lan"\nversion = "4"', "'4'"),
        ('[remote.brokr]\naddress = "mqtt://broker.lan"', "Did you mean 'broker'?"),
        ('[remote.hook.modbus]\naddress = "https://x/"\n[remote.modbus]\nlisten = "127.0.0.1:1502"\nclients = { "10.0.0.1" = "x" }', "two remotes are called 'modbus'"),
        ('[pad.p]\nzones = { upp = "vent" }', "zones are a table of outputs"),
    ],
)  # fmt: skip
def test_mistakes_in_the_site_file_are_pointed_at(text: str, said: str, tmp_path: Path) -> None:
    file = tmp_path / "site.toml"
    file.write_text(f"{SITE}\n{text}\n", "utf-8")
    with pytest.raises(SiteFileError) as wrong:
        read_site(file)
    assert said in wrong.value.shown()


def test_a_port_that_is_taken_ends_the_start_in_words_and_leaves_nothing_open(tmp_path: Path) -> None:
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        file = tmp_path / "site.toml"
        file.write_text(
            f'{SITE}\n[remote.modbus]\nlisten = "127.0.0.1:{port}"\nclients = {{ "127.0.0.1" = "plc" }}\n',
            "utf-8",
        )
        done = cairnwind("serve", str(file), "--state", str(tmp_path / "state"), "--port", "0")
    assert done.returncode == 9
    assert f"remote modbus cannot listen on 127.0.0.1:{port}" in done.stderr
    assert not (tmp_path / "state" / "address").exists()
