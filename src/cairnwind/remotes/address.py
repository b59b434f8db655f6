"""How others have to call this host."""

from __future__ import annotations

import socket
from urllib.parse import urlsplit, urlunsplit

from cairnwind.core.facts.site import LOOPBACK, Site

EVERYWHERE = ("0.0.0.0", "::")
"""Addresses to listen on that stand for all of a host's."""


def near(host: str) -> str:
    """The address by which this host reaches what listens on ``host``."""
    return {"0.0.0.0": "127.0.0.1", "::": "::1"}.get(host, host)


def outside(site: Site, url: str) -> str:
    """A ``url`` of ours as others have to call it: the same, unless it names a host that only we know by that name."""
    if site.behind:
        return f"{site.behind}/" if url.endswith("/") else site.behind
    parts = urlsplit(url)
    host = site.listen[0]
    if parts.hostname not in LOOPBACK or host in LOOPBACK:
        return url
    if site.names or host in EVERYWHERE:
        host = (site.names or own_addresses())[0]
    port = f":{parts.port}" if parts.port else ""
    return urlunsplit(parts._replace(netloc=f"{f'[{host}]' if ':' in host else host}{port}"))


def own_addresses() -> list[str]:
    """Addresses of this host in its networks, first the one by which it would go abroad."""
    import ifaddr

    first = ""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as asked:
        try:
            asked.connect(("192.0.2.1", 9))  # sends nothing: only the way there is looked up
            first = asked.getsockname()[0]
        except OSError:
            pass  # it has no way out
    found = [ip.ip for adapter in ifaddr.get_adapters() for ip in adapter.ips if isinstance(ip.ip, str)]
    found = [address for address in found if not address.startswith("127.")] or ["127.0.0.1"]
    return sorted(found, key=lambda address: address != first)
