"""A host on a serial line: JSON-RPC 2.0, one object (or one batch) a line.

Every command of the table is a method, with its fields by name; besides there are ``hold`` (``output``, ``setting``, ``lease``), ``renew``
and ``let_go`` (``output``), ``look`` (``name``), ``site``, ``watch`` (``names``; without: everything), ``unwatch``, ``ping``. What is watched
comes as notifications ``changed``. When the line opens the service says ``here``; what was watched is then told anew. Lines that are
no JSON at all are noise: they are counted and not answered, for an answer might be noise to the other side.

Nobody waits here. What was asked goes to the engine as it comes, which has a way of its own for what stops or takes off; it is
answered when it is decided, which may be in another order, and what is answered waits in an `Outbox` until the host takes it off.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from functools import partial
from typing import Any

import serial

from cairnwind.boards.serialports import find
from cairnwind.commands.table import COMMANDS
from cairnwind.core.values import jsontext
from cairnwind.core.values.errors import CallerError, Trouble, unknown
from cairnwind.core.values.quantities import duration
from cairnwind.remotes.desk import Desk, Told
from cairnwind.remotes.outbox import Outbox
from cairnwind.remotes.remote import MapRow, Remote, log
from cairnwind.site import remotes as facts

LONGEST = 16 << 10
"""Bytes of one line."""
AGAIN = 1.0
"""Seconds between attempts to open a port that is away."""
TURN = 0.1
PARSE, INVALID, METHOD, PARAMS, OURS, REFUSED = -32700, -32600, -32601, -32602, -32603, -32000
"""Error codes of JSON-RPC; ours is the last, with the outcome in its data."""
NOT_UNDERSTOOD = ("by-name", "bad-value", "bad-phrase", "asks-back", "unknown-name")
"""What is wrong with parameters, by our codes: nothing was decided about it."""
BUFFERED = 16 << 10
"""Bytes that a driver may keep."""
STALLED = 5.0
"""Seconds in which nothing goes out before an answer is given up."""
LOOKING = ("site", "look", "watch")
Answer = Callable[[dict[str, Any] | None], None]


class LineRemote(Remote):
    """One host at one serial port."""

    kind = "line"
    surface = "serial line"

    def __init__(self, desk: Desk, told: facts.Line) -> None:
        super().__init__(told.name, desk, [told.key])
        self._told = told
        self._over = threading.Event()
        self._out = Outbox(f"line-{told.name}", self.traffic)
        self._watched: set[str] | None = None
        """Names; empty: everything; None: nothing."""
        self._dirty: dict[tuple[str, str], None] = {}
        self._lock = threading.Lock()
        self._threads = [
            threading.Thread(target=work, name=f"line-{told.name}", daemon=True)
            for work in (self._work, self._tell_changes)
        ]
        self._wake = threading.Event()
        self.trouble = "not opened yet"

    def start(self) -> None:
        """Open the port, and go on trying if it is away."""
        self.desk.listen(self._listen)
        self._out.start()
        for thread in self._threads:
            thread.start()

    def stop(self) -> None:
        """Close it."""
        self.desk.ignore(self._listen)
        self._over.set()
        self._wake.set()
        self._out.stop()
        for thread in self._threads:
            if thread.is_alive():
                thread.join(2)

    def facts(self) -> dict[str, Any]:
        """Its settings."""
        return {
            "port": self._told.port,
            "baud": self._told.baud,
            "parity": self._told.parity,
            "stop_bits": self._told.stop_bits,
        }

    def map(self) -> list[MapRow]:
        """Its methods."""
        own = [
            MapRow(name, "", (method.__doc__ or "").strip()) for name, method in {**LOOKS, **HOLDS}.items()
        ]
        return own + [MapRow(word, "", kind.help()) for word, kind in COMMANDS.items() if word not in HOLDS]

    # --- the port -------------------------------------------------------------------------------------------

    def _work(self) -> None:
        while not self._over.is_set():
            try:
                path = find(self._told.port) if self._told.port.startswith("usb:") else self._told.port
                port = serial.Serial(
                    path, self._told.baud, parity=self._told.parity, stopbits=self._told.stop_bits, timeout=TURN, exclusive=True,
                    write_timeout=STALLED + 20 * BUFFERED / self._told.baud,
                )  # fmt: skip
            except (OSError, ValueError, Trouble) as error:
                self.trouble = str(getattr(error, "strerror", None) or error)
                self._over.wait(AGAIN)
                continue
            self._out.open(port)
            self.up, self.trouble = True, ""
            self._notify("here", {"site": self.desk.site.name, "epoch": self.desk.epoch})
            self._afresh()
            try:
                self._read(port)
            except (OSError, TypeError) as error:  # pulled out; some drivers fail in odd ways
                self.trouble = f"the port went away: {error}"
            finally:
                self.up = False
                self._out.leave()
                try:
                    port.close()
                except OSError:
                    pass  # it is gone

    def _read(self, port: Any) -> None:
        waiting, skipping = b"", False
        while not self._over.is_set():
            waiting += port.read(max(1, min(port.in_waiting, LONGEST)))
            while b"\n" in waiting:
                line, _, waiting = waiting.partition(b"\n")
                if skipping:
                    skipping = False
                    continue
                self.guarded(self._line, line)
            if len(waiting) > LONGEST:
                self.traffic.add("lost", waiting[:200], f"a line of more than {LONGEST} bytes")
                waiting, skipping = b"", True

    def _line(self, line: bytes) -> None:
        line = line.strip(b"\r\n\t \0")
        if not line:
            return
        if line[:1] not in (b"{", b"["):
            self.traffic.add("lost", line, "noise")
            return
        try:
            asked = jsontext.read(line)
        except ValueError as error:
            self.traffic.add("lost", line, f"no JSON: {error}")
            self._out.put(
                _error(None, PARSE, "This line is not valid JSON.", {"remedy": "Send one object a line."})
            )
            return
        self.traffic.add("got", line, line.decode("utf-8", "replace")[:300])
        self.desk.uses(self.key, self._told.port)
        if not isinstance(asked, list):
            self._one(asked, lambda answer: self._out.put(answer) if answer is not None else None)
        elif asked:
            batch = _Batch(len(asked), self._out)
            for number, each in enumerate(asked):
                self._one(each, partial(batch.take, number))
        else:
            self._out.put(_error(None, INVALID, "The batch is empty.", {}))

    def _one(self, asked: Any, answer: Answer) -> None:
        """Have ``answer`` called once with the answer to one request, by any thread; None to a notification."""
        if (
            not isinstance(asked, dict)
            or asked.get("jsonrpc") != "2.0"
            or not isinstance(asked.get("method"), str)
        ):
            answer(_error(None, INVALID, "This is no request of JSON-RPC 2.0.", {}))
            return
        id, word, given = asked.get("id"), asked["method"], asked.get("params", {})
        if isinstance(id, bool | list | dict):
            answer(_error(None, INVALID, "An id is a text, a number or null.", {"remedy": 'Send "id": 1.'}))
            return

        def say(form: dict[str, Any]) -> None:
            answer(form if "id" in asked else None)

        def told(form: dict[str, Any]) -> None:
            if not form["code"]:
                say({"jsonrpc": "2.0", "id": id, "result": form})
            else:
                code = PARAMS if form["code"] in NOT_UNDERSTOOD else REFUSED
                say(_error(id, code, f"{form['reason']}.", form))

        try:
            if word in LOOKS:
                if word in LOOKING and (why := self.desk.barred(self.key)):
                    raise CallerError("key", f"{why[0].upper()}{why[1:]}.", "Have a key of that name made.")
                say({"jsonrpc": "2.0", "id": id, "result": LOOKS[word](self, _named(given))})
            elif word in HOLDS:
                HOLDS[word](self, _named(given), told)
            elif word in COMMANDS:
                self.desk.give(self.source(), word, _named(given), told)
            else:
                error = unknown("method", word, [*LOOKS, *HOLDS, *COMMANDS])
                say(_error(id, METHOD, error.sentence, {"remedy": error.remedy}))
        except Trouble as error:
            code = PARAMS if error.code in NOT_UNDERSTOOD else REFUSED
            data: dict[str, Any] = {"code": error.code, "remedy": error.remedy}
            if error.code != "by-name":
                data |= {"outcome": "refused", "reason": error.sentence.rstrip("."), **error.more}
            say(_error(id, code, error.sentence, data))
        except Exception as error:
            log.exception("remote %s failed on %s", self.name, word)
            self.traffic.add("lost", b"", f"Cairnwind failed on it: {error!r}; the log says more")
            say(_error(id, OURS, "Cairnwind failed on this; its log says more.", {}))

    def _notify(self, method: str, params: dict[str, Any]) -> None:
        self._out.put({"jsonrpc": "2.0", "method": method, "params": params})

    # --- what is watched --------------------------------------------------------------------------------------

    def _listen(self, changed: list[tuple[str, str]], ended: list[Any]) -> None:
        if self._watched is None or not self.up:
            return
        with self._lock:
            self._dirty.update(
                dict.fromkeys(each for each in changed if each[0] in ("output", "input", "site"))
            )
        self._wake.set()

    def _afresh(self) -> None:
        site = self.desk.site
        with self._lock:
            if self._watched is not None:
                self._dirty.update(
                    dict.fromkeys(
                        [
                            ("site", ""),
                            *(("output", name) for name in site.outputs),
                            *(("input", name) for name in site.inputs),
                        ]
                    )
                )
        self._wake.set()

    def _tell_changes(self) -> None:
        while not self._over.is_set():
            self._wake.wait()
            self._wake.clear()
            with self._lock:
                dirty, self._dirty = self._dirty, {}
            for kind, name in dirty:
                while not (self._out.room(TURN) or self._over.is_set()):
                    pass  # what changes meanwhile is told once, as it is then
                watched = self._watched
                if (
                    watched is None
                    or (watched and name and name not in watched)
                    or self.desk.barred(self.key)
                ):
                    continue
                form = (
                    self.desk.output(name)
                    if kind == "output"
                    else self.desk.input(name)
                    if kind == "input"
                    else self.desk.site_now()
                )
                if form is not None:
                    self._notify("changed", {"kind": kind, **_short(kind, form)})
            self._over.wait(0.02)  # so that a flood goes over the line in portions

    # --- methods ----------------------------------------------------------------------------------------------

    def ping(self, given: dict[str, Any]) -> Any:
        """Whether the service is there."""
        _known(given, set())
        return {"at": time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime()), "epoch": self.desk.epoch}

    def site(self, given: dict[str, Any]) -> Any:
        """The site as a whole."""
        _known(given, set())
        return self.desk.site_now()

    def look(self, given: dict[str, Any]) -> Any:
        """An output or an input by name; without one all names."""
        _known(given, {"name"})
        site = self.desk.site
        if given.get("name") is None:
            return {"outputs": list(site.outputs), "inputs": list(site.inputs)}
        name = self._name(given["name"])
        return self.desk.output(name) or self.desk.input(name)

    def hold(self, given: dict[str, Any], told: Told) -> None:
        """A lease on an output: goes on as long as 'renew' comes within it."""
        _known(given, {"output", "setting", "lease"})
        span = duration(given.get("lease", "1 s"))
        if not 100_000_000 <= span <= 60_000_000_000:
            raise CallerError(
                "bad-value",
                f"A lease of '{given.get('lease')}' is out of range.",
                "Send 100 ms to 60 s, and renew it.",
            )
        output = str(given.get("output", ""))
        self.desk.keep(self.source(), output, given.get("setting", "on"), self._slot, span, told)

    def renew(self, given: dict[str, Any], told: Told) -> None:
        """The line's own lease on an output goes on; with a claim, that one."""
        if "claim" in given:
            self.desk.give(self.source(), "renew", given, told)
            return
        _known(given, {"output"})
        self.desk.renew(self.source(), str(given.get("output", "")), self._slot, told)

    def let_go(self, given: dict[str, Any], told: Told) -> None:
        """A lease ends."""
        _known(given, {"output"})
        self.desk.release(self.source(), str(given.get("output", "")), told, self._slot)

    def watch(self, given: dict[str, Any]) -> Any:
        """Notifications 'changed' of these names, or of all; first as they are."""
        _known(given, {"names"})
        names = given.get("names", [])
        self._watched = {self._name(name) for name in (names if isinstance(names, list) else [names])}
        self._afresh()
        return {"watching": sorted(self._watched) or "everything"}

    def unwatch(self, given: dict[str, Any]) -> Any:
        """No more of them."""
        _known(given, set())
        self._watched = None
        return {"watching": None}

    def _name(self, name: Any) -> str:
        """The name of an output or an input, if it is one. Raises `CallerError`."""
        site = self.desk.site
        if not isinstance(name, str) or (name not in site.outputs and name not in site.inputs):
            raise unknown("output or input", str(name), [*site.outputs, *site.inputs])
        return name

    @property
    def _slot(self) -> str:
        return f"hand:line:{self.name}"


LOOKS: dict[str, Callable[[LineRemote, dict[str, Any]], Any]] = {
    "ping": LineRemote.ping, "site": LineRemote.site, "look": LineRemote.look, "watch": LineRemote.watch, "unwatch": LineRemote.unwatch,
}  # fmt: skip
HOLDS: dict[str, Callable[[LineRemote, dict[str, Any], Told], None]] = {
    "hold": LineRemote.hold, "renew": LineRemote.renew, "let_go": LineRemote.let_go,
}  # fmt: skip
"""Beside the commands of the table: what looks, and holds, which are the line's own."""


class _Batch:
    """Requests that came as one, and are answered as one when the last of them is."""

    def __init__(self, count: int, out: Outbox) -> None:
        self._answers: list[dict[str, Any] | None] = [None] * count
        self._left, self._out = count, out
        self._lock = threading.Lock()

    def take(self, number: int, answer: dict[str, Any] | None) -> None:
        """The answer to one of them."""
        with self._lock:
            self._answers[number] = answer
            self._left -= 1
            over = not self._left
        if over and (said := [each for each in self._answers if each is not None]):
            self._out.put(said)


def _named(given: Any) -> dict[str, Any]:
    """Parameters, if they go by name. Raises `CallerError`."""
    if not isinstance(given, dict):
        raise CallerError("by-name", "Parameters go by name here.", 'Send "params": {"output": "gallery"}.')
    return given


def _known(given: dict[str, Any], names: set[str]) -> None:
    for name in given:
        if name not in names:
            error = unknown("parameter", str(name), names)
            raise CallerError("bad-value", error.sentence, error.remedy)


def _short(kind: str, form: dict[str, Any]) -> dict[str, Any]:
    """What a slow line has to carry of something that changed."""
    if kind == "output":
        return {
            "name": form["name"],
            "state": form["state"],
            "wanted": form["wanted"],
            "confirmed": form["confirmed"],
            "by": form["by"],
            "reason": form["reason"],
        }
    if kind == "input":
        return {
            "name": form["name"],
            "state": form["state"],
            "active": form["active"],
            "value": form["value"],
        }
    return {"name": "", "all_stop": form["all_stop"], "trips": form["trips"], "alarms": form["alarms"]}


def _error(id: Any, code: int, message: str, data: dict[str, Any]) -> dict[str, Any]:
    return {"jsonrpc": "2.0", "id": id, "error": {"code": code, "message": message, "data": data}}
