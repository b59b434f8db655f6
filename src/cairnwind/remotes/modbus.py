"""A Modbus TCP server (Modbus Application Protocol 1.1b3): outputs as coils and holding registers, inputs to be read.

The map is stable: each output and input has a number that it is given once (`Places`), whatever happens to the site file.

=================  ============  ====================================================================
object             address       what
=================  ============  ====================================================================
coil               n             output n: written on or off; read: what is wanted
coil               60000         all-stop: written on stops everything, off resets; read: whether it is stopped
discrete input     n             output n is confirmed on
discrete input     10000 + m     input m is active
input register     n             output n's confirmed value
input register     10000 + m     input m's value, tenths; 0 or 1 for a contact
input register     20000 + n     output n's state (`STATES`)
input register     30000 + m     1 while input m is known
input register     40000         why the last write of this client was not carried out (`REASONS`); a client that has written
                                 nothing on its connection reads that of the last one from its address
input register     50000 + n     what keeps output n from being as it is wanted (`GATES`); 0: nothing
holding register   n             output n's value: level in tenths of a percent; drive the same, signed; tone in hertz
holding register   60000         watchdog, tenths of a second: while it is not 0, a client has to write it (or anything)
                                 again within that time, and what it commands are leases that end with it
=================  ============  ====================================================================

Values are 16 bits, two's complement; what is not known reads as 0x8000. Where a number of an output or input is free, or there is
no value of that kind, a block that has others reads 0.

The server of the package that the links use is not used here: it hands what is read and written to a store of registers,
which learns neither whose connection that came by (so there were no keys, leases and reasons of their own) nor what of one
request belongs together (so half of it would have been carried out); and it needs a loop of its own and a tenth of a second more
until the service is there.
"""

from __future__ import annotations

import socketserver
import struct
import threading
import time
from collections.abc import Callable, Iterable, Sequence
from typing import Any

from cairnwind import __version__, oneid
from cairnwind.core.facts.claims import PERSON, Rank, Source
from cairnwind.core.facts.now import OutputNow
from cairnwind.core.facts.outputs import Output
from cairnwind.core.values.errors import CallerError
from cairnwind.core.values.settings import Colour, Drive, Level, Setting, Tone
from cairnwind.remotes import modbuspdu as pdus
from cairnwind.remotes.desk import Desk, wait_for
from cairnwind.remotes.modbuspdu import ADDRESS, BUSY, FAILURE, FUNCTION, TARGET, VALUE, Illegal
from cairnwind.remotes.remote import MapRow, Remote
from cairnwind.site import remotes as facts

OF_INPUTS, OF_STATES, OF_KNOWN, LAST_REASON, OF_GATES, WATCHDOG, STOP = (
    10_000,
    20_000,
    30_000,
    40_000,
    50_000,
    60_000,
    60_000,
)
MOST = 10_000
"""Outputs, and inputs, that the map has room for."""
UNKNOWN = 0x8000
STATES = ("confirmed", "driving", "running", "retrying", "blocked", "waiting", "unreachable", "fault")
REASONS = ("", "refused", "unreachable", "not recorded", "role", "bad-value", "unknown-name", "busy", "rate")
"""What input register 40000 counts: 0 is that all was well."""
GATES = (
    "", "starting", "closing", "all-stop", "trip", "lockout", "quiet", "guard", "needs", "pace", "budget", "excludes", "limit", "link",
    "fault",
)  # fmt: skip
"""What input registers from 50000 on count; a gate that is not among them is `OTHER`."""
OTHER = 99
EXCEPTIONS = {
    "role": FUNCTION, "unknown-name": ADDRESS, "bad-value": VALUE, "refused": FAILURE, "not-recorded": FAILURE, "unreachable": TARGET,
    "busy": BUSY, "rate": BUSY,
}  # fmt: skip
MOST_CLIENTS, MOST_REASONS = 32, 256
IDLE = 120.0
"""Seconds after which a silent connection is closed."""
LEAST_WATCHDOG, MOST_WATCHDOG = 1, 600


class Places:
    """The numbers by which outputs and inputs are known: given once, kept for good."""

    def __init__(self, names: Iterable[str], known: dict[str, int], give: Callable[[str, int], None]) -> None:
        """``known`` are the numbers given so far; ``give`` keeps a new one."""
        self.of = dict(known)
        self._give = give
        self._lock = threading.Lock()
        self.at: dict[int, str] = {}
        self.know(names)

    def know(self, names: Iterable[str]) -> None:
        """Those that are new get their numbers."""
        with self._lock:
            fresh = [name for name in names if name not in self.of]
            for name in fresh:
                self.of = {**self.of, name: max(self.of.values(), default=-1) + 1}
                self._give(name, self.of[name])
            if fresh or not self.at:
                self.at = {number: name for name, number in self.of.items()}

    def name(self, number: int, names: Iterable[str]) -> str | None:
        """Which of these has a number: the site may have got others since it was asked last."""
        if number not in self.at:
            self.know(names)
        return self.at.get(number)


class ModbusRemote(Remote):
    """The server at one port, with the map of the site's outputs and inputs."""

    kind = "modbus"
    surface = "Modbus"

    def __init__(self, desk: Desk, told: facts.Modbus, outputs: Places, inputs: Places) -> None:
        super().__init__(told.name, desk, (key for _, key in told.clients))
        self._told, self.outputs, self.inputs = told, outputs, inputs
        self._open: set[Client] = set()
        self.reasons: dict[str, int] = {}
        """By address: why the last write from there was not carried out."""
        self._server: socketserver.ThreadingTCPServer | None = None
        self.port = told.listen[1]

    def start(self) -> None:
        """Listen. Raises `CallerError` (``port``)."""
        remote = self

        class Handler(socketserver.BaseRequestHandler):
            def handle(self) -> None:
                remote.serve(self.request, self.client_address[0])

        class Server(socketserver.ThreadingTCPServer):
            allow_reuse_address = True
            request_queue_size = 64
            daemon_threads = True

            def handle_error(self, request: Any, client_address: Any) -> None:
                remote.traffic.add("lost", b"", f"{client_address[0]}: the connection broke")

        try:
            self._server = Server(self._told.listen, Handler)
        except OSError as error:
            raise CallerError(
                "port", f"remote modbus cannot listen on {self._told.listen[0]}:{self._told.listen[1]}: {error.strerror}.",
                "Stop what listens there, or give it another port. Ports below 1024 need a right of their own.",
            ) from None  # fmt: skip
        self.port = self._server.server_address[1]
        self.up = True
        threading.Thread(target=self._server.serve_forever, args=(0.2,), name="modbus", daemon=True).start()

    def stop(self) -> None:
        """Listen no more, and hang up."""
        if self._server is not None:
            self._server.shutdown()
            self._server.server_close()
            self._server = None
        for client in list(self._open):
            client.hang_up()
        self.up = False

    def peers(self) -> list[str]:
        """Clients that are connected."""
        return sorted(client.address for client in list(self._open))

    def facts(self) -> dict[str, Any]:
        """Where it listens."""
        return {"listen": f"{self._told.listen[0]}:{self.port}", "clients": dict(self._told.clients)}

    def map(self) -> list[MapRow]:
        """Every address that stands for something now."""
        rows: list[MapRow] = []
        site = self.desk.site
        self.outputs.know(site.outputs)
        self.inputs.know(site.inputs)
        for name, n in self.outputs.of.items():
            if name in site.outputs and n < MOST:
                output = site.outputs[name]
                rows.append(MapRow(f"coil {n}", name, "on or off"))
                if output.takes != "colour" and (output.takes != "level" or output.dimmable):
                    unit = {"tone": "hertz", "drive": "-1000 to 1000, tenths of a percent"}.get(
                        output.takes, "0 to 1000, tenths of a percent"
                    )
                    rows.append(MapRow(f"holding register {n}", name, unit))
                rows.append(MapRow(f"discrete input {n}", name, "confirmed on"))
                rows.append(MapRow(f"input register {n}", name, "confirmed value"))
                rows.append(
                    MapRow(
                        f"input register {OF_STATES + n}",
                        name,
                        "state: " + ", ".join(f"{at} {word}" for at, word in enumerate(STATES)),
                    )
                )
                why = ", ".join(f"{at} {word or 'nothing'}" for at, word in enumerate(GATES))
                rows.append(MapRow(f"input register {OF_GATES + n}", name, f"what is in its way: {why}"))
        for name, m in self.inputs.of.items():
            if name in site.inputs and m < MOST:
                input = site.inputs[name]
                if not input.valued:
                    rows.append(MapRow(f"discrete input {OF_INPUTS + m}", name, input.words[1]))
                rows.append(
                    MapRow(
                        f"input register {OF_INPUTS + m}",
                        name,
                        f"tenths{f' of {input.measure}' if input.measure else ''}"
                        if input.valued
                        else "0 or 1",
                    )
                )
                rows.append(MapRow(f"input register {OF_KNOWN + m}", name, "1 while it is known"))
        rows.append(
            MapRow(
                f"input register {LAST_REASON}",
                "",
                "the last write: " + ", ".join(f"{at} {word or 'done'}" for at, word in enumerate(REASONS)),
            )
        )
        rows.append(MapRow(f"coil {STOP}", "", "all-stop"))
        return [*rows, MapRow(f"holding register {WATCHDOG}", "", "watchdog, tenths of a second (0 is none)")]

    def keep_reason(self, address: str, reason: int) -> None:
        """Why the last write from an address was not carried out: for whoever connects anew to ask."""
        self.reasons.pop(address, None)
        self.reasons[address] = reason
        while len(self.reasons) > MOST_REASONS:
            del self.reasons[next(iter(self.reasons))]

    def serve(self, connection: Any, address: str) -> None:
        """One client, until it goes."""
        key = facts.peer(self._told.clients, address)
        if not key:
            self.traffic.add("lost", b"", f"{address} is not listed: turned away")
            return
        open_now = list(self._open)
        if (
            len(open_now) >= MOST_CLIENTS
        ):  # there is always room for one more: whoever was silent longest goes
            quiet = min(open_now, key=lambda client: client.heard)
            self.traffic.add(
                "lost", b"", f"{quiet.address}: silent longest of {MOST_CLIENTS} connections: hung up"
            )
            quiet.hang_up()
        client = Client(self, connection, address, key)
        self._open.add(client)
        try:
            client.serve()
        finally:
            self._open.discard(client)


class Client:
    """One connection: its requests, its watchdog, and what it holds."""

    def __init__(self, remote: ModbusRemote, connection: Any, address: str, key: str) -> None:
        self._remote, self._connection, self.address, self._key = remote, connection, address, key
        self._desk = remote.desk
        self._watchdog = 0
        """Nanoseconds; 0: it is not armed."""
        self._held: dict[str, int] = {}
        """Outputs that it has leases on, and the number of each claim."""
        self.heard = time.monotonic()
        """When it asked for something last."""
        self._reason: int | None = None
        """Why its last write was not carried out; None: it has written nothing."""

    @property
    def source(self) -> Source:
        """Who its commands come from."""
        return self._remote.source(self._key)

    def hang_up(self) -> None:
        """End the connection."""
        try:
            self._connection.shutdown(2)
        except OSError:
            pass  # it was quicker

    def serve(self) -> None:
        """Answer until it goes. What is no Modbus ends the connection: there is no way to find the next frame."""
        self._connection.settimeout(IDLE)
        traffic = self._remote.traffic
        while True:
            try:
                head = self._read(7)
                transaction, protocol, length, unit = struct.unpack(">HHHB", head)
                if protocol or not 2 <= length <= 254:
                    traffic.add("lost", head, f"{self.address}: no Modbus")
                    return
                pdu = self._read(length - 1)
            except (OSError, EOFError):
                return
            self.heard = time.monotonic()
            try:
                with oneid.of_its_own():
                    answer, text = self._answer(pdu)
            except Illegal as error:
                answer, text = pdus.refused(pdu, error), f"exception {error.code}: {error}"
            traffic.add("got", head + pdu, f"{self.address} function {pdu[0]}: {pdus.words(pdu)}")
            frame = struct.pack(">HHHB", transaction, 0, len(answer) + 1, unit) + answer
            traffic.add("sent", frame, text)
            try:
                self._connection.sendall(frame)
            except OSError:
                return

    def _read(self, count: int) -> bytes:
        found = b""
        while len(found) < count:
            part = self._connection.recv(count - len(found))
            if not part:
                raise EOFError
            found += part
        return found

    def _answer(self, pdu: bytes) -> tuple[bytes, str]:
        request = pdus.decode(pdu)
        if request.only_reads:
            if why := self._desk.barred(self._key):
                raise Illegal(FUNCTION, why)
            return self._read_only(request)
        self._desk.uses(self._key, self.address)
        writes = request.writes
        if request.function == pdus.MASK:
            ((at, _),) = writes
            writes = ((at, pdus.masked(request, self._holding(at) & 0xFFFF)),)
        text = self._write(writes, coils=request.coils)
        if request.function == pdus.BOTH and request.reads is not None:
            return pdus.read(request, pdus.look(request.reads, self._holding)), text
        return pdus.written(pdu), text

    def _read_only(self, request: pdus.Request) -> tuple[bytes, str]:
        if request.reads is None:
            return pdus.identified(request, self._identity()), "identification"
        readers: dict[int, pdus.Reader] = {
            1: self._coil,
            2: self._discrete,
            3: self._holding,
            4: self._register,
        }
        values = pdus.look(request.reads, readers[request.function])
        return pdus.read(request, values), f"{len(values)}: {' '.join(map(str, values))}"

    def _identity(self) -> dict[int, str]:
        """Objects of the identification: vendor, product, revision; then address of the maker, product, model, application."""
        return dict(
            enumerate(("Cairnwind", "cairnwind", __version__, "", "Cairnwind", "", self._desk.site.name))
        )

    # --- reading --------------------------------------------------------------------------------------------

    def _output(self, number: int) -> Output:
        name = self._remote.outputs.name(number, self._desk.site.outputs)
        if name is None or name not in self._desk.site.outputs:
            raise Illegal(ADDRESS, f"no output has the number {number}")
        return self._desk.site.outputs[name]

    def _input(self, number: int) -> str:
        name = self._remote.inputs.name(number, self._desk.site.inputs)
        if name is None or name not in self._desk.site.inputs:
            raise Illegal(ADDRESS, f"no input has the number {number}")
        return name

    def _coil(self, at: int) -> bool:
        if at == STOP:
            return bool(self._desk.site_now()["all_stop"]["stopped"])
        return bool(self._desk.output_now(self._output(at).name).wanted.on)

    def _discrete(self, at: int) -> bool:
        if at >= OF_INPUTS:
            found = self._desk.input(self._input(at - OF_INPUTS))
            return bool(found and found["active"])
        confirmed = self._desk.output_now(self._output(at).name).confirmed
        return confirmed is not None and confirmed.on

    def _holding(self, at: int) -> int:
        if at == WATCHDOG:
            return self._watchdog // 10**8
        output = self._output(at)
        wanted = self._desk.output_now(output.name).wanted
        return _number(wanted if isinstance(wanted, Level | Colour | Drive | Tone) else None, output)

    def _register(self, at: int) -> int:
        if at == LAST_REASON:
            return self._remote.reasons.get(self.address, 0) if self._reason is None else self._reason
        if at >= OF_GATES:
            return _gate(self._desk.output_now(self._output(at - OF_GATES).name))
        if at >= OF_KNOWN:
            found = self._desk.input(self._input(at - OF_KNOWN))
            return int(found is not None and (found["active"] is not None or found["value"] is not None))
        if at >= OF_STATES:
            return STATES.index(self._desk.output_now(self._output(at - OF_STATES).name).state)
        if at >= OF_INPUTS:
            name = self._input(at - OF_INPUTS)
            found = self._desk.input(name)
            assert found is not None
            value = found["value"] if self._desk.site.inputs[name].valued else found["active"]
            if value is None:
                return UNKNOWN
            return int(value) if isinstance(value, bool) else max(-32767, min(32767, round(value * 10)))
        output = self._output(at)
        return _number(self._desk.output_now(output.name).confirmed, output)

    # --- writing --------------------------------------------------------------------------------------------

    def _write(self, asked: Sequence[tuple[int, int]], *, coils: bool) -> str:
        """Addresses and values are looked at whole before any is carried out."""
        orders: list[tuple[Output, Any]] = []
        watchdog: int | None = None
        stop: bool | None = None
        for at, value in asked:
            if coils and at == STOP:
                stop = bool(value)
                continue
            if not coils and at == WATCHDOG:
                watchdog = value
                continue
            output = self._output(at)
            orders.append((output, ("on" if value else "off") if coils else _setting(output, value)))
        if watchdog is not None:
            if watchdog and not LEAST_WATCHDOG <= watchdog <= MOST_WATCHDOG:
                raise Illegal(VALUE, f"a watchdog has {LEAST_WATCHDOG} to {MOST_WATCHDOG} tenths of a second")
            self._watchdog = watchdog * 10**8
        self._renew({output.name for output, _ in orders})
        worst: dict[str, Any] | None = None
        if stop is not None:
            form = self._stop(stop)
            if form["code"]:
                worst = {**form, "output": "all-stop"}
        for output, setting in sorted(orders, key=lambda each: each[1] not in (0, "off")):
            form = self._command(output, setting)
            if form["code"] and worst is None:
                worst = {**form, "output": output.name}
        code = worst["code"].replace("not-recorded", "not recorded") if worst is not None else ""
        self._reason = REASONS.index(code) if code in REASONS else 1
        self._remote.keep_reason(self.address, self._reason)
        if worst is not None:
            raise Illegal(EXCEPTIONS.get(worst["code"], FAILURE), f"{worst['output']}: {worst['reason']}")
        done = [f"{output.name} {setting}" for output, setting in orders]
        if stop is not None:
            done.append("all-stop" if stop else "all-stop reset")
        return ", ".join(done) or f"watchdog {self._watchdog / 1e9:g} s"

    def _stop(self, stop: bool) -> dict[str, Any]:
        if stop:
            return wait_for(
                lambda told: self._desk.give(self.source, "stop", {"reason": "a Modbus client"}, told)
            )
        return wait_for(lambda told: self._desk.give(self.source, "reset_stop", {}, told))

    def _command(self, output: Output, setting: Any) -> dict[str, Any]:
        source = self.source
        if not self._watchdog:
            return wait_for(
                lambda told: self._desk.give(
                    source, "turn", {"output": output.name, "setting": setting}, told
                )
            )
        form = wait_for(
            lambda told: self._desk.keep(
                source, output.name, setting, PERSON, self._watchdog, told, rank=Rank.PERSON
            )
        )
        number = self._desk.claimed(output.name)
        if not form["code"] and number is not None:
            self._held[output.name] = number
        return form

    def _renew(self, but: set[str]) -> None:
        """Every write renews what this client holds, as long as it is still its own."""
        for name, number in list(self._held.items()):
            if self._desk.claimed(name) != number or not self._watchdog:
                del self._held[name]
            elif name not in but:
                self._desk.renew(self.source, name, PERSON, lambda form: None)


def _gate(now: OutputNow) -> int:
    """What keeps an output from being as it is wanted."""
    if now.fault:
        return GATES.index("fault")
    if not now.reachable:
        return GATES.index("link")
    found = now.refusal or now.keeping
    if found is None:
        return 0
    return GATES.index(found.gate) if found.gate in GATES else OTHER


def _number(setting: Setting | None, output: Output) -> int:
    """A setting as a register has it."""
    match setting:
        case None:
            return UNKNOWN
        case Tone(millihertz, _):
            return min(65_535, millihertz // 1000) if setting.on else 0
        case Drive(parts):
            return round(parts / 1000)
        case Level():
            return round(setting.parts / 1000)
    return 1000 if setting.on else 0


def _setting(output: Output, value: int) -> Any:
    """What a register's value asks of an output; `output.read` takes it."""
    if output.takes == "tone":
        return f"{value} Hz" if value else "off"
    signed = value - 0x10000 if value >= 0x8000 else value
    if output.takes == "colour" or not -1000 <= signed <= 1000 or (signed < 0 and output.takes != "drive"):
        raise Illegal(VALUE, f"{signed} is no value of {output.name}")
    return {"drive": signed / 10} if output.takes == "drive" else signed / 10
