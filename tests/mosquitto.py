"""A real message broker on loopback, with password file, and TLS and access rules where a test asks for them."""

from __future__ import annotations

import socket
import subprocess
from pathlib import Path

from tests.conftest import eventually, free_port, spawn

USERS = {"house": "secret word", "phone": "phone word", "guest": "guest word"}
RULES = """\
user house
topic readwrite #

user phone
topic write cairnwind/+/out/+/want
topic write cairnwind/+/phrase
topic write cairnwind/+/all-stop/want
topic write cairnwind/+/do/+
topic write cairnwind/+/out/+/off
topic read cairnwind/#
topic read back/#
topic readwrite bare/#

user guest
topic read cairnwind/+/out/#
"""


class Mosquitto:
    """The broker, to be stopped and started again."""

    def __init__(self, folder: Path, *, tls: bool = False, rules: bool = False, extra: str = "") -> None:
        """``extra``: lines of its configuration, with ``{authority}`` and ``{key}`` where it has a certificate."""
        self.port = free_port()
        passwords = folder / "passwords"
        for number, (user, word) in enumerate(USERS.items()):
            more = ["-c"] if not number else []
            subprocess.run(["mosquitto_passwd", "-b", *more, passwords, user, word], check=True)
        passwords.chmod(0o644)
        self.file = folder / "mosquitto.conf"
        text = f"listener {self.port} 127.0.0.1\npassword_file {passwords}\nallow_anonymous false\nuser root\nset_tcp_nodelay true\n"
        if rules:
            (folder / "rules").write_text(RULES)
            text += f"acl_file {folder / 'rules'}\n"
        if tls:
            from cairnwind.folder import Folder
            from cairnwind.service.tls import own

            self.authority, key = own(Folder(folder), "A broker", (), "127.0.0.1")
            text += f"certfile {self.authority}\nkeyfile {key}\n"
            extra = extra.format(authority=self.authority, key=key)
        text += extra
        self.file.write_text(text)
        self.start()

    def start(self) -> None:
        self.process = spawn(
            "mosquitto", "-c", self.file, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        wait_for(self.port)

    def stop(self) -> None:
        self.process.kill()
        self.process.wait()


def wait_for(port: int) -> None:
    """Until something listens there."""

    def listens() -> bool:
        with socket.socket() as probe:
            return probe.connect_ex(("127.0.0.1", port)) == 0

    eventually(listens)
