"""Control surfaces: faders, buttons and pads of phones that send OSC 1.0 over UDP. They cannot be answered, so they hold.

``/out/NAME v``: a number from 0 to 1 (a whole number or a flag: off or on), or a text that the output reads; each message renews
a lease of a second, and off lets go. ``/pad/NAME x y``: a position, for a quarter of a second. ``/stop``, ``/phrase TEXT``.
``/tell SECONDS``: state is sent back to the sender for so long (60 at most; 0 ends it) as ``/out/NAME/is v TEXT``, ``/in/NAME/is v TEXT``,
``/refused ADDRESS REASON``. Only listed senders are heard; ``/stop`` by ears of its own, whatever else is sent. An address may be a pattern, a bundle's time may lie a little ahead.
"""

from __future__ import annotations

import socket
import threading
import time
from typing import Any

from pythonosc.osc_message import OscMessage
from pythonosc.osc_message_builder import OscMessageBuilder
from pythonosc.osc_packet import OscPacket

from cairnwind.core.facts.claims import Source
from cairnwind.core.values.errors import CallerError
from cairnwind.remotes import osc
from cairnwind.remotes.address import near
from cairnwind.remotes.desk import Desk
from cairnwind.remotes.ears import listening
from cairnwind.remotes.remote import MapRow, Remote
from cairnwind.site import remotes as facts

STOP = b"/stop"
LEASE = 1_000_000_000
LONGEST_TELL = 60.0
MOST_MESSAGES = 64
"""Of one packet."""
SOON, LONGEST_WAIT = 0.002, 10.0
"""Seconds that the time of a bundle may lie ahead: what comes sooner is done at once, what comes later not at all."""
MOST_WAITING = 128
"""Threads of the service; with more of them nothing waits for its time."""


class SurfaceRemote(Remote):
    """All control surfaces of a site, at one UDP port."""

    kind = "surface"
    surface = "control surface"

    def __init__(self, desk: Desk, told: facts.Surface) -> None:
        super().__init__(told.name, desk, (key for _, key in told.senders))
        self._told = told
        self._sockets: list[socket.socket] = []
        """What all send to; and, where the system can tell them apart, one for stops alone."""
        self._hears: dict[tuple[str, int], float] = {}
        """Who asked to be told, and until when (monotonic seconds)."""
        self._heard: dict[str, float] = {}
        self._dirty: dict[tuple[str, str], None] = {}
        self._lock = threading.Lock()
        self._wake = threading.Event()
        self._over = False
        self.port = told.listen[1]

    def start(self) -> None:
        """Listen. Raises `CallerError` (``port``)."""
        host, port = self._told.listen
        try:
            self._sockets = listening(host, port, STOP)
        except OSError as error:
            raise CallerError(
                "port", f"remote surface cannot listen on {host}:{port}: {error.strerror}.", "Stop what listens there, or give it another port."
            ) from None  # fmt: skip
        self.port = self._sockets[0].getsockname()[1]
        self.up = True
        self.desk.listen(self._listen)
        self._threads = [
            threading.Thread(target=self._work, args=(each,), name="surface", daemon=True)
            for each in self._sockets
        ]
        for thread in self._threads:
            thread.start()
        threading.Thread(target=self._tell_changes, name="surface-out", daemon=True).start()

    def stop(self) -> None:
        """Listen no more."""
        self.desk.ignore(self._listen)
        self._over, self.up = True, False
        self._wake.set()
        for each, said in zip(self._sockets, (b"", STOP.ljust(8, b"\0")), strict=False):
            # a socket that somebody waits on keeps its address: wake them first
            each.sendto(said, (near(self._told.listen[0]), self.port))
        for thread in self._threads:
            thread.join(2)
        for each in self._sockets:
            each.close()

    def peers(self) -> list[str]:
        """Who was heard in the last minute."""
        now = time.monotonic()
        return sorted(address for address, at in list(self._heard.items()) if now - at < 60)

    def facts(self) -> dict[str, Any]:
        """Where it listens."""
        return {"listen": f"{self._told.listen[0]}:{self.port}", "senders": dict(self._told.senders)}

    def map(self) -> list[MapRow]:
        """Its addresses."""
        site = self.desk.site
        what = {
            "level": "0 to 1",
            "colour": "0 to 1 (white), or a colour's name",
            "tone": "0 to 1, or a pitch like A4",
            "drive": "-1 to 1",
        }
        rows = [
            MapRow(
                f"/out/{name}",
                name,
                what[output.takes] if output.dimmable or output.takes != "level" else "0 or 1",
            )
            for name, output in site.outputs.items()
        ]
        rows += [MapRow(f"/pad/{name}", name, "x y, each from -1 to 1") for name in site.pads]
        return [
            *rows,
            MapRow("/stop", "", "all-stop"),
            MapRow("/phrase", "", "a phrase, as text, from who is told"),
            MapRow("/tell", "", "seconds for which state is sent back"),
        ]

    # --- in ---------------------------------------------------------------------------------------------------

    def _work(self, ear: socket.socket) -> None:
        while not self._over:
            try:
                packet, sender = ear.recvfrom(4096)
            except TimeoutError:
                continue
            except OSError:
                return
            if packet and not self._over:
                self.guarded(self._packet, packet, (sender[0], sender[1]))

    def _packet(self, packet: bytes, sender: tuple[str, int]) -> None:
        key = facts.peer(self._told.senders, sender[0])
        if not key:
            self.traffic.add("lost", packet, f"{sender[0]} is not listed: not heard")
            return
        try:
            # of these the package would write into the log, one line each
            if packet[:1] not in (b"/", b"#"):
                raise ValueError("neither a message nor a bundle")
            timed = [(each.time, each.message) for each in OscPacket(packet).messages]
        except Exception as error:  # the package has a dozen ways to say that this is none
            self.traffic.add("lost", packet, f"{sender[0]}: no OSC: {error}")
            return
        self._heard[sender[0]] = time.monotonic()
        if len(self._heard) > 1000:
            self._heard.clear()
        self.desk.uses(key, sender[0])
        for at, message in timed[:MOST_MESSAGES]:
            if not osc.whole(message.dgram):
                self.traffic.add(
                    "lost", message.dgram, f"{sender[0]} {message.address}: its arguments are not whole"
                )
                continue
            self.traffic.add(
                "got", packet, f"{sender[0]} {message.address} {' '.join(map(str, message.params))}"[:300]
            )
            self._at(at - time.time(), message, key, sender)

    def _at(self, wait: float, message: OscMessage, key: str, sender: tuple[str, int]) -> None:
        """Take a message when its bundle says: now, or in a moment."""
        if wait > LONGEST_WAIT or (wait > 0 and threading.active_count() > MOST_WAITING):
            self._refused(message.address, f"its time is more than {LONGEST_WAIT:g} s away", sender)
        elif wait > SOON:
            later = threading.Timer(wait, self._take, (message, key, sender))
            later.daemon = True
            later.start()
        else:
            self._take(message, key, sender)

    def _take(self, message: OscMessage, key: str, sender: tuple[str, int]) -> None:
        if self._over:
            return
        found = osc.matching(message.address, [row.address for row in self.map()])
        if not found:
            self._refused(message.address, "nothing is called so", sender)
        for address in found:
            try:
                self._one(address, list(message.params), self.source(key), sender)
            except CallerError as error:
                self._refused(address, error.sentence.rstrip("."), sender)

    def _one(self, address: str, given: list[Any], source: Source, sender: tuple[str, int]) -> None:
        parts = address.strip("/").split("/")

        def told(form: dict[str, Any]) -> None:
            if form["code"]:
                self._refused(address, form["reason"], sender)

        match parts:
            case ["out", name]:
                if len(given) != 1:
                    raise CallerError("bad-value", f"{address} takes one value.", "")
                slot = f"hand:surface:{sender[0]}"
                value = _value(self.desk, name, given[0])
                if value == "off":
                    if self.desk.claimed(name, slot) is not None or name not in self.desk.site.outputs:
                        self.desk.release(source, name, told, slot)
                else:
                    self.desk.keep(source, name, value, slot, LEASE, told)
            case ["pad", name]:
                if len(given) != 2:
                    raise CallerError("bad-value", f"{address} takes two values.", "")
                self.desk.steer(source, name, given[0], given[1], told)
            case ["stop"]:
                if not given or given[0]:  # a button also says when it is let go
                    self.desk.give(source, "stop", {"reason": "a control surface"}, told)
            case ["phrase"]:
                if self._hears.get(sender, 0.0) < time.monotonic():  # who hears nothing back gets leases only
                    raise CallerError(
                        "refused",
                        "A phrase is taken only from who hears what became of it.",
                        "Send /tell first.",
                    )
                self.desk.give(source, "do", {"phrase": str(given[0]) if given else ""}, told, once=False)
            case ["tell"]:
                if why := self.desk.barred(source.who):
                    raise CallerError("key", f"{why[0].upper()}{why[1:]}.", "Have a key of that name made.")
                seconds = given[0] if given and isinstance(given[0], int | float) else 10
                self._hears[sender] = time.monotonic() + max(0.0, min(float(seconds), LONGEST_TELL))
                self._afresh()
            case _:
                raise CallerError("unknown-name", f"There is no address {address}.", "See its map.")

    # --- out --------------------------------------------------------------------------------------------------

    def _listen(self, changed: list[tuple[str, str]], ended: list[Any]) -> None:
        if self._hears:
            with self._lock:
                self._dirty.update(dict.fromkeys(each for each in changed if each[0] in ("output", "input")))
            self._wake.set()

    def _afresh(self) -> None:
        site = self.desk.site
        with self._lock:
            self._dirty.update(
                dict.fromkeys(
                    [*(("output", name) for name in site.outputs), *(("input", name) for name in site.inputs)]
                )
            )
        self._wake.set()

    def _tell_changes(self) -> None:
        while not self._over:
            self._wake.wait()
            self._wake.clear()
            with self._lock:
                dirty, self._dirty = self._dirty, {}
            now = time.monotonic()
            self._hears = {
                sender: until
                for sender, until in list(self._hears.items())
                if until > now and not self.desk.barred(facts.peer(self._told.senders, sender[0]))
            }
            for kind, name in dirty:
                self._tell(kind, name)
            time.sleep(0.03)  # so that what moves is told some thirty times a second

    def _tell(self, kind: str, name: str) -> None:
        form = self.desk.output(name) if kind == "output" else self.desk.input(name)
        if form is None:
            return
        if kind == "output":
            shown = form["confirmed"] or {"on": False, "words": "unknown"}
            share = shown.get("level", shown.get("drive", 100.0 if shown["on"] else 0.0)) / 100
            address, values = f"/out/{name}/is", (float(share), shown["words"])
        else:
            value = form["value"] if form["value"] is not None else float(bool(form["active"]))
            address, values = f"/in/{name}/is", (float(value), form["state"])
        for sender in list(self._hears):
            self._send(sender, address, *values)

    def _refused(self, address: str, reason: str, sender: tuple[str, int]) -> None:
        self.traffic.add("lost", b"", f"{sender[0]} {address}: {reason}")
        if sender in self._hears:
            self._send(sender, "/refused", address, reason)

    def _send(self, sender: tuple[str, int], address: str, *values: Any) -> None:
        builder = OscMessageBuilder(address)
        for value in values:
            builder.add_arg(value)
        packet = builder.build().dgram
        try:
            self._sockets[0].sendto(packet, sender)
            self.traffic.add("sent", packet, f"{sender[0]} {address} {' '.join(map(str, values))}")
        except OSError as error:
            self.traffic.add("lost", packet, f"{sender[0]}: {error}")


def _value(desk: Desk, name: str, given: Any) -> Any:
    """What a fader or a button asks of an output; 'off' lets go."""
    output = desk.site.outputs.get(name)
    if isinstance(given, str):
        return given
    if isinstance(given, bool):
        return "on" if given else "off"
    if not isinstance(given, int | float) or not -1 <= given <= 1:
        raise CallerError("bad-value", f"{name}: {given!r} is not from 0 to 1.", "Set the fader's range.")
    if not given or output is None:
        return "off"
    if output.takes == "drive":
        return {"drive": round(given * 100, 3)}
    if given < 0:
        raise CallerError("bad-value", f"{name}: {given!r} is not from 0 to 1.", "Set the fader's range.")
    if output.takes == "tone":
        return "on"
    return round(given * 100, 3)
