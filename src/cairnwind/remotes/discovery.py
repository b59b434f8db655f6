"""Being found: DNS-SD (RFC 6763) over multicast DNS, as ``_wot._tcp`` with the address of our Thing Description, and as HTTP."""

from __future__ import annotations

import socket
import threading
from typing import Any

from zeroconf import IPVersion, ServiceInfo, Zeroconf

from cairnwind.core.facts.site import LOOPBACK
from cairnwind.remotes.address import EVERYWHERE, own_addresses
from cairnwind.remotes.desk import Desk
from cairnwind.remotes.remote import Remote

THING = "/.well-known/wot"
TYPE = "_wot._tcp.local."
"""The service type that W3C's Web of Things Discovery has for Things."""


class Discovery(Remote):
    """Announces the service in the local network while it runs. What it says tells nobody what is in the site: for that one needs a key."""

    kind = "discovery"

    def __init__(self, desk: Desk, host: str, port: int, *, secure: bool) -> None:
        super().__init__("discovery", desk)
        self._host, self._port, self._secure = host, port, secure
        self._zeroconf: Zeroconf | None = None
        self._info: ServiceInfo | None = None

    def start(self) -> None:
        """Announce it. A network that does not take part costs nothing but that."""
        threading.Thread(target=self._announce, name="discovery", daemon=True).start()

    def _announce(self) -> None:
        loopback = self._host in LOOPBACK
        addresses = (
            ["127.0.0.1"] if loopback else own_addresses() if self._host in EVERYWHERE else [self._host]
        )
        try:
            self._zeroconf = Zeroconf(interfaces=addresses, ip_version=IPVersion.V4Only)
            self._info = ServiceInfo(
                TYPE, f"{label(self.desk.site.name)}.{TYPE}", port=self._port, parsed_addresses=addresses,
                server=f"cairnwind-{socket.gethostname().partition('.')[0]}-{self._port}.local.",
                properties={"td": THING, "type": "Thing", "scheme": "https" if self._secure else "http"},
            )  # fmt: skip
            self._zeroconf.register_service(self._info, allow_name_change=True)
        except Exception as error:
            self.trouble = f"it cannot be announced: {error}"
            return
        self.up = True
        self.traffic.add("sent", b"", f"{self._info.name} at port {self._port}")

    def stop(self) -> None:
        """Say that it goes."""
        if self._zeroconf is not None:
            if self._info is not None and self.up:
                self._zeroconf.unregister_service(self._info)
            self._zeroconf.close()
        self.up = False

    def facts(self) -> dict[str, Any]:
        """How it is called there."""
        return {"type": TYPE, "name": self._info.name if self._info else ""}


def label(site: str) -> str:
    """A site's name as it is announced: one label of at most 63 bytes, in which a dot would be taken for its end."""
    return site.replace(".", " ").encode()[:60].decode("utf-8", "ignore")
