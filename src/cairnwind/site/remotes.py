"""The tables ``[remote.…]``: ways in for commands and ways out for what happens."""

from __future__ import annotations

import ipaddress
import re
from functools import partial
from typing import TYPE_CHECKING, Any

from cairnwind.boards.facts import Broker
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.fact import fact
from cairnwind.core.values.quantities import duration
from cairnwind.site import convert
from cairnwind.site.links import BAUDS

if TYPE_CHECKING:
    from cairnwind.site.tables import Table

EVENTS = ("alarm", "trip", "change", "input", "command", "link", "stop")
"""What the ways out may be asked to tell."""
SEVERITIES = ("notice", "warning", "urgent")
WHICH = ("events", "outputs", "severity")
"""Keys that say which events a way out tells."""


@fact
class Modbus:
    """A Modbus TCP server."""

    listen: tuple[str, int]
    clients: tuple[tuple[str, str], ...]
    """(address or network, name of the key that it carries); others are turned away."""
    name: str = "modbus"


@fact
class Line:
    """A host on a serial line."""

    name: str
    port: str
    key: str
    baud: int = 115_200
    parity: str = "N"
    stop_bits: int = 1


@fact
class Surface:
    """Control surfaces that send OSC."""

    listen: tuple[str, int]
    senders: tuple[tuple[str, str], ...]
    """(address or network, name of the key that it carries); others are not heard."""
    name: str = "surface"


@fact
class Hook:
    """An address that is told what happens."""

    name: str
    address: str
    secret: str = ""
    events: tuple[str, ...] = ("alarm", "trip")
    outputs: tuple[str, ...] = ()
    severity: str = "notice"
    """The least that an alarm has to have."""


@fact
class Mail:
    """People who are told by mail."""

    name: str
    server: str
    port: int
    secure: str
    """'tls', 'starttls' or ''."""
    sender: str
    to: tuple[str, ...]
    user: str = ""
    secret: str = ""
    events: tuple[str, ...] = ("alarm", "trip")
    outputs: tuple[str, ...] = ()
    severity: str = "notice"


def read(remotes: Table) -> tuple[Any, ...]:
    """Every way in and out."""
    from cairnwind.site.tables import Table

    found: list[Any] = []
    for kind, one in (("modbus", _modbus), ("surface", _surface)):
        if kind in remotes.values:
            found.append(one(Table(remotes.reader, ("remote", kind), remotes.values[kind])))
    for kind, each in (("line", _line), ("hook", _hook), ("mail", _mail)):
        named = remotes.values.get(kind, {})
        if not isinstance(named, dict) or not all(isinstance(values, dict) for values in named.values()):
            remotes.point(kind, f"'{kind}' is a table of named tables", f"Write [remote.{kind}.some-name].")
            continue
        found += [
            each(name, Table(remotes.reader, ("remote", kind, name), values))
            for name, values in named.items()
        ]
    remotes.nothing_else(("broker", "modbus", "surface", "line", "hook", "mail"))
    names = [each.name for each in found if each is not None]
    for name in {name for name in names if names.count(name) > 1 or (name == "broker")}:
        remotes.reader.point(
            ("remote",), "remote", CallerError("", f"two remotes are called '{name}'", "Give one another name."), key=True
        )  # fmt: skip
    return tuple(each for each in found if each is not None)


def broker(table: Table) -> Broker | None:
    """The table ``[remote.broker]``."""
    address = table.need("address", _address, 'Say where it is: address = "mqtt://127.0.0.1:1883".')
    user, secret = table.get("user", convert.text, ""), table.get("secret", convert.text, "")
    more = {
        "key": table.get("key", convert.text, ""), "version": table.get("version", partial(convert.choice, among=("5", "3.1.1")), "5"),
        "authority": table.get("authority", convert.text, ""), "every": table.get("at_most_every", partial(duration, longest=3600), 100_000_000),
        "readings": table.get("readings_every", partial(duration, longest=3600), 5_000_000_000), "band": table.get("readings_band", _band, 0.0),
        "tells": table.get("tells", convert.flag, True),
    }  # fmt: skip
    events, outputs, severity = _which(table)
    table.nothing_else(
        (
            "address",
            "user",
            "secret",
            "key",
            "version",
            "authority",
            "at_most_every",
            "readings_every",
            "readings_band",
            "tells",
            *WHICH,
        )
    )
    if address is None:
        return None
    secure, host, port = address
    return Broker(host, port, secure, user, secret, events=events, outputs=outputs, severity=severity, **more)


def _band(value: object) -> float:
    if isinstance(value, bool) or not isinstance(value, int | float) or value < 0:
        raise CallerError("", f"{value!r} is not a width.", "Write how far a value has to move, in its unit.")
    return float(value)


def _address(value: object) -> tuple[bool, str, int]:
    match = re.fullmatch(r"(mqtts?)://([\w.-]+)(?::(\d{1,5}))?", str(value))
    if match is None:
        raise CallerError(
            "",
            f"{value!r} is not the address of a broker.",
            'Write "mqtt://host:1883" or "mqtts://host:8883".',
        )
    secure = match.group(1) == "mqtts"
    return secure, match.group(2), int(match.group(3) or (8883 if secure else 1883))


def _modbus(table: Table) -> Modbus | None:
    listen = table.need("listen", convert.listen, 'Say where: listen = "127.0.0.1:1502".')
    clients = table.need("clients", _peers, 'Say who may, with which key: clients = { "127.0.0.1" = "plc" }.')
    table.nothing_else(("listen", "clients"))
    return Modbus(listen, clients) if listen and clients else None


def _surface(table: Table) -> Surface | None:
    listen = table.need("listen", convert.listen, 'Say where: listen = "127.0.0.1:9770".')
    senders = table.need(
        "senders", _peers, 'Say who is heard, with which key: senders = { "192.168.1.20" = "hall tablet" }.'
    )
    table.nothing_else(("listen", "senders"))
    return Surface(listen, senders) if listen and senders else None


def _line(name: str, table: Table) -> Line | None:
    port = table.need("port", _tty, 'Say where it is: port = "/dev/ttyUSB1".')
    key = table.need("key", convert.text, 'Say whose key it carries: key = "bench host".')
    found = Line(
        name, port or "", key or "", table.get("baud", partial(convert.one_of, among=BAUDS), 115_200),
        table.get("parity", partial(convert.choice, among=("none", "even", "odd")), "none")[0].upper(),
        table.get("stop_bits", partial(convert.one_of, among=(1, 2)), 1),
    )  # fmt: skip
    table.nothing_else(("port", "key", "baud", "parity", "stop_bits"))
    return found if port and key else None


def _hook(name: str, table: Table) -> Hook | None:
    address = table.need("address", _url, 'Say whom: address = "https://host/path".')
    found = Hook(name, address or "", table.get("secret", convert.text, ""), *_which(table))
    table.nothing_else(("address", "secret", *WHICH))
    return found if address else None


def _mail(name: str, table: Table) -> Mail | None:
    server = table.need("server", _server, 'Say by which server: server = "smtp://mail.lan:25".')
    sender = table.need("from", _mailbox, 'Say who sends: from = "kiln@house.lan".')
    to = table.need("to", _mailboxes, 'Say to whom: to = ["anna@house.lan"].')
    user, secret = table.get("user", convert.text, ""), table.get("secret", convert.text, "")
    events, outputs, severity = _which(table)
    table.nothing_else(("server", "from", "to", "user", "secret", *WHICH))
    if not (server and sender and to):
        return None
    secure, host, port = server
    return Mail(name, host, port, secure, sender, to, user, secret, events, outputs, severity)


def _which(table: Table) -> tuple[tuple[str, ...], tuple[str, ...], str]:
    """Which events a way out tells."""
    return (
        table.get("events", _events, ("alarm", "trip")), table.get("outputs", _names, ()),
        table.get("severity", partial(convert.choice, among=SEVERITIES), "notice"),
    )  # fmt: skip


def _events(value: object) -> tuple[str, ...]:
    if not isinstance(value, list) or not value or not all(each in EVENTS for each in value):
        raise CallerError("", f"{value!r} are no events.", f"Write some of {', '.join(EVENTS)}.")
    return tuple(value)


def _names(value: object) -> tuple[str, ...]:
    if not isinstance(value, list) or not all(isinstance(each, str) for each in value):
        raise CallerError("", f"{value!r} is not a list of names.", 'Write ["kiln", "kiln-vent"].')
    return tuple(value)


def _peers(value: object) -> tuple[tuple[str, str], ...]:
    if not isinstance(value, dict) or not value:
        raise CallerError(
            "", "this is not a table of addresses and keys.", 'Write { "192.168.1.20" = "hall tablet" }.'
        )
    for address, key in value.items():
        try:
            ipaddress.ip_network(address)
        except ValueError:
            raise CallerError(
                "", f"'{address}' is no address.", "Write an IP address, or a network like 192.168.1.0/24."
            ) from None
        convert.text(key)
    return tuple(value.items())


def peer(listed: tuple[tuple[str, str], ...], address: str) -> str:
    """The key that somebody at this address carries; empty if it is not listed. The narrowest network counts."""
    here = ipaddress.ip_address(address)
    if isinstance(here, ipaddress.IPv6Address) and here.ipv4_mapped:
        here = here.ipv4_mapped
    found = [(ipaddress.ip_network(network), key) for network, key in listed]
    near = [
        (network.prefixlen, key)
        for network, key in found
        if here.version == network.version and here in network
    ]
    return max(near)[1] if near else ""


def _tty(value: object) -> str:
    if not re.fullmatch(r"/\S+|usb:\S+", str(value)):
        raise CallerError("", f"{value!r} is not a serial port.", 'Write "/dev/ttyUSB1", or "usb:SERIAL".')
    return str(value)


def _url(value: object) -> str:
    if not re.fullmatch(r"https?://[^\s@]+", str(value)):
        raise CallerError(
            "", f"{value!r} is not an address.", 'Write "https://host/path"; secrets are not part of it.'
        )
    return str(value)


def _server(value: object) -> tuple[str, str, int]:
    match = re.fullmatch(r"(smtps?|smtp\+starttls)://([\w.-]+)(?::(\d{1,5}))?", str(value))
    if match is None:
        raise CallerError(
            "",
            f"{value!r} is not a mail server.",
            'Write "smtp://host:25", "smtp+starttls://host:587" or "smtps://host:465".',
        )
    secure, usual = {"smtp": ("", 25), "smtps": ("tls", 465), "smtp+starttls": ("starttls", 587)}[
        match.group(1)
    ]
    return secure, match.group(2), int(match.group(3) or usual)


def _mailbox(value: object) -> str:
    if not re.fullmatch(r"[^\s@<>,]+@[^\s@<>,]+", str(value)):
        raise CallerError("", f"{value!r} is not a mail address.", 'Write it like "anna@house.lan".')
    return str(value)


def _mailboxes(value: object) -> tuple[str, ...]:
    return tuple(_mailbox(each) for each in (value if isinstance(value, list) and value else [value]))
