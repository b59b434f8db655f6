"""The tables ``[remote.…]``: ways in for commands and ways out for what happens."""

from __future__ import annotations

import ipaddress
import re
from email.utils import formataddr
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from cairnwind.boards.facts import Broker
from cairnwind.boards.mqtt import slug
from cairnwind.boards.serialports import BAUDS, PARITY, STOP_BITS
from cairnwind.core.facts.claims import Rank
from cairnwind.core.facts.telling import LEAST_SEVERITY, WHICH_EVENTS, WHICH_OUTPUTS
from cairnwind.core.values import entries
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.fact import fact
from cairnwind.core.values.keys import keys, written

if TYPE_CHECKING:
    from cairnwind.site.tables import Table


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
        entries.text(key)
    return tuple(value.items())


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
    """A mail address, with the name of its owner before it or without (RFC 5322, 3.4)."""
    said = re.fullmatch(r"(?:(.*?)\s*<)?([^\s@<>,\"]+@[^\s@<>,\"]+)(>)?", str(value).strip())
    if said is None or bool(said[3]) != (said[1] is not None) or not str(value).isprintable():
        raise CallerError(
            "",
            f"{value!r} is not a mail address.",
            'Write it like "anna@house.lan", or "Anna Kiln <anna@house.lan>".',
        )
    return formataddr(((said[1] or "").strip().strip('"'), said[2]))


def _mailboxes(value: object) -> tuple[str, ...]:
    return tuple(_mailbox(each) for each in (value if isinstance(value, list) and value else [value]))


RANKS = {rank.word: rank for rank in Rank}
CERTIFICATES = ("authority", "certificate", "certificate_key")
AUTHORITY = written(
    "the path of the certificate that signed its own; those that the machine trusts unless said",
    entries.text,
    default="",
)
SECRET = written(
    "the name of a secret: a file of the state folder, or an environment variable", entries.text, default=""
)


@fact
class Modbus:
    """A Modbus TCP server."""

    listen: tuple[str, int] = written(
        "where it listens", entries.listen, needed='Say where: listen = "127.0.0.1:1502".'
    )
    clients: tuple[tuple[str, str], ...] = written(
        "who may, by address or network, each with the name of its key; others are turned away",
        _peers,
        needed='Say who may, with which key: clients = { "127.0.0.1" = "plc" }.',
    )
    name: str = "modbus"


@fact
class Line:
    """A host on a serial line."""

    name: str
    port: str = written(
        'its device (`"/dev/ttyUSB1"`), or an adapter by its serial number (`"usb:SERIAL"`)',
        _tty,
        needed='Say where it is: port = "/dev/ttyUSB1".',
    )
    key: str = written(
        "whose key it carries", entries.text, needed='Say whose key it carries: key = "bench host".'
    )
    baud: int = written(
        "speed of the line", partial(entries.one_of, among=BAUDS), default=115_200, unsaid="115200"
    )
    parity: str = PARITY
    stop_bits: int = STOP_BITS


@fact
class Keypad:
    """A keypad as the passcode of a guard."""

    name: str
    device: str = written(
        'one of the kernel\'s input devices: its path (`"/dev/input/by-id/…"`), or what it calls itself; `"simulated"`: none, its keys are pressed by `pretend`',
        entries.text,
        needed='Say where it is: device = "/dev/input/by-id/usb-Keypad-event-kbd".',
    )
    opens: str = written(
        "the guarded output that it opens", entries.text, needed='Say what it opens: opens = "glaze-store".'
    )
    key: str = written(
        "whose key it carries", entries.text, needed='Say whose key it carries: key = "store door".'
    )

    @property
    def simulated(self) -> bool:
        """It has no device: whoever tries the site out presses its keys."""
        return self.device == "simulated"


@fact
class Surface:
    """Control surfaces that send OSC."""

    listen: tuple[str, int] = written(
        "where it listens", entries.listen, needed='Say where: listen = "127.0.0.1:9770".'
    )
    senders: tuple[tuple[str, str], ...] = written(
        "who is heard, by address or network, each with the name of its key",
        _peers,
        needed='Say who is heard, with which key: senders = { "192.168.1.20" = "hall tablet" }.',
    )
    name: str = "surface"


@fact
class OtherSite:
    """Another site that uses outputs and inputs of this one, by the broker."""

    name: str
    site: str = written(
        'the other site\'s name, as its file says it: `"Saltmarsh Kiln House"`',
        entries.text,
        needed='Say which: site = "Saltmarsh Kiln House".',
    )
    key: str = written(
        "the key that says what it may command here",
        entries.text,
        needed='Say by which key: key = "kiln house".',
    )
    secret: str = written(
        "the name of the words that both sites keep secret: a file of the state folder, or an environment variable",
        entries.text,
        needed='Name the secret that both sites have: secret = "yard-words".',
    )
    rank: Rank = written(
        'the rank of what it wants here: `"plan"`, `"reflex"`, `"person"` or `"hand"`',
        lambda value: RANKS[entries.choice(value, tuple(RANKS))],
        name="as",
        default=Rank.REFLEX,
        unsaid='"reflex"',
    )


@fact
class Hook:
    """An address that is told what happens."""

    name: str
    address: str = written(
        'whom: `"https://host/path"`', _url, needed='Say whom: address = "https://host/path".'
    )
    secret: str = SECRET
    authority: str = AUTHORITY
    events: tuple[str, ...] = WHICH_EVENTS
    outputs: tuple[str, ...] = WHICH_OUTPUTS
    severity: str = LEAST_SEVERITY


@fact
class Mail:
    """People who are told by mail."""

    name: str
    server: tuple[str, str, int] = written(
        'by which server: `"smtp://host:25"`, `"smtp+starttls://host:587"` or `"smtps://host:465"`',
        _server,
        needed='Say by which server: server = "smtp://mail.lan:25".',
    )
    """'tls', 'starttls' or ''; host; port."""
    sender: str = written(
        "who sends", _mailbox, name="from", needed='Say who sends: from = "kiln@house.lan".'
    )
    to: tuple[str, ...] = written(
        "to whom: an address, or a list of them", _mailboxes, needed='Say to whom: to = ["anna@house.lan"].'
    )
    user: str = written("who signs in to the server", entries.text, default="")
    secret: str = SECRET
    authority: str = AUTHORITY
    events: tuple[str, ...] = WHICH_EVENTS
    outputs: tuple[str, ...] = WHICH_OUTPUTS
    severity: str = LEAST_SEVERITY


ONES: dict[str, type[Any]] = {"modbus": Modbus, "surface": Surface}
NAMED: dict[str, type[Any]] = {"line": Line, "keypad": Keypad, "site": OtherSite, "hook": Hook, "mail": Mail}
"""Ways in and out by the table that describes them, of which there is one, or one for each name."""


def read(remotes: Table) -> tuple[Any, ...]:
    """Every way in and out."""
    found: list[Any] = []
    for kind, each in ONES.items():
        if kind in remotes.values:
            found.append(_one(each, remotes.within(kind)))
    for kind, each in NAMED.items():
        named = remotes.values.get(kind, {})
        if not isinstance(named, dict) or not all(isinstance(values, dict) for values in named.values()):
            remotes.point(kind, f"'{kind}' is a table of named tables", f"Write [remote.{kind}.some-name].")
            continue
        found += [_one(each, remotes.within(kind, name), name=name) for name in named]
    remotes.nothing_else(("broker", *ONES, *NAMED))
    others = [other for other in found if isinstance(other, OtherSite)]
    for other in others:
        if sum(slug(one.site) == slug(other.site) for one in others) > 1:
            remotes.reader.point(
                ("remote", "site", other.name, "site"), other.site,
                CallerError("", f"two remotes are for the site '{other.site}'", "One says all that it may."),
            )  # fmt: skip
    if not isinstance(remotes.values.get("broker"), dict):
        for each in found:
            if isinstance(each, OtherSite):
                remotes.reader.point(
                    ("remote", "site", each.name), each.name,
                    CallerError("", f"remote {each.name}: other sites are met at a broker", 'Say where it is: [remote.broker] address = "mqtt://127.0.0.1:1883".'),
                    key=True,
                )  # fmt: skip
    names = [each.name for each in found if each is not None]
    for name in {name for name in names if names.count(name) > 1 or (name == "broker")}:
        remotes.reader.point(
            ("remote",), "remote", CallerError("", f"two remotes are called '{name}'", "Give one another name."), key=True
        )  # fmt: skip
    return tuple(each for each in found if each is not None)


def _one(way: type[Any], table: Table, **more: Any) -> Any:
    """A way in or out by its table; None where something that it needs is missing or wrong."""
    values = _placed(table, table.fill(keys(way)))
    if any(key.needed and key.field not in values for key in keys(way)):
        return None
    return way(**values, **more)


def _placed(table: Table, values: dict[str, Any]) -> dict[str, Any]:
    """Files of certificates are beside the site file."""
    folder = Path(table.reader.path).resolve().parent
    return values | {name: str(folder / values[name]) for name in CERTIFICATES if values.get(name)}


def broker(table: Table) -> Broker | None:
    """The table ``[remote.broker]``."""
    values = _placed(table, table.fill(keys(Broker)))
    if "host" not in values:
        return None
    values["secure"], values["host"], values["port"], values["path"] = values["host"]
    return Broker(**values)


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
