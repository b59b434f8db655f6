"""A site as seen from a program: small and typed, around the site rather than around its parts."""

from __future__ import annotations

import json
import ssl
import threading
import uuid
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from types import TracebackType
from typing import Any
from urllib.parse import quote

import requests
from requests.adapters import HTTPAdapter

from cairnwind import __version__
from cairnwind.core.errors import BoardError, CallerError, Trouble
from cairnwind.folder import Folder, running

API = "/api/v1"
BOARD_CODES = ("unreachable", "engine", "not-recorded")
RENEWALS = 3
"""How often a hold is renewed within its lease."""


@dataclass(frozen=True, slots=True)
class Outcome:
    """The answer to a command."""

    outcome: str
    """'driving', 'waiting', 'blocked' or 'unreachable' (a claim that stands all the same)."""
    output: str | None
    sequence: int
    """The command's number in the journal."""
    reason: str
    command: str
    words: str
    """The setting, in the output's words."""
    ending: str
    """'confirmed', 'failed' or 'superseded', if that was known within the time to wait; else empty."""
    text: str
    """What became of it, in words."""
    claim: int | None
    form: dict[str, Any] = field(repr=False)
    """The whole answer, as the API gave it."""


@dataclass(frozen=True, slots=True)
class Change:
    """One event of the stream."""

    kind: str
    """'output', 'input', 'board', 'site', 'command', or 'afresh' (the whole picture)."""
    name: str
    data: dict[str, Any]
    id: str


class Site:
    """One service, found by state folder, or by address and key.

    Without arguments: the service of ``CAIRNWIND_STATE`` or of the default state folder, or a running demo.
    Raises `CallerError` (``no-service``, ``key``) when there is none, and the service's own errors from every
    call: `CallerError` when the caller is wrong (also when a gate refuses), `BoardError` when a board is.
    """

    def __init__(
        self,
        address: str | None = None,
        key: str | None = None,
        *,
        state: str | Path | None = None,
        timeout: float = 10.0,
        surface: str = "cairnwind-client",
        fingerprint: str | None = None,
    ) -> None:
        """``fingerprint`` is that of a certificate of the service's own making, as its start printed it."""
        certificate = None
        if address is None:
            folder = running(state)
            found = folder.address()
            if found is None:
                raise CallerError(
                    "no-service",
                    f"No service runs on the state folder {folder.path}.",
                    "Start one: cairnwind serve SITE_FILE, or cairnwind demo.",
                )
            address, key, certificate = found["url"], key or folder.key(), found.get("certificate")
            if key is None:
                raise CallerError(
                    "key",
                    f"The key in {folder.path} cannot be read by this user.",
                    "Run as the service's user, or give a key.",
                )
        elif key is None and state is not None:
            key = Folder(state).key()
        self.address = address.rstrip("/")
        self._timeout = timeout
        self._session = requests.Session()
        self._session.trust_env = False  # no proxy stands between a host and itself
        if fingerprint:
            self._session.mount("https://", _Pinned(fingerprint))
        elif certificate:
            self._session.verify = certificate
        self._session.headers["User-Agent"] = f"{surface}/{__version__}"
        if key:
            self._session.headers["Authorization"] = f"Bearer {key}"

    # --- commands -----------------------------------------------------------------------------------------

    def turn(
        self,
        output: str,
        setting: str | float | bool | dict[str, Any],
        *,
        over: str | None = None,
        lasting: str | None = None,
        until: str | None = None,
        when_possible: bool = False,
        wait: str = "1 s",
    ) -> Outcome:
        """Claim ``setting`` for a person: 'on', 'off', 'toggle', '40 %', 40, 'coral', 'A4', '-40 %', '20 % duty' …

        With ``over`` ('3 s') it fades there from what it is at. Objects say the same apart: ``{"duty": 20,
        "hertz": 1000}``, ``{"colour": "#e07b1c"}``, ``{"hertz": 440, "loudness": 50}``, ``{"drive": -40}``.

        ``lasting`` is a time ('10 min') or 'until released', ``until`` a time of day or RFC 3339; without them
        the claim lasts until the plan next changes the output. ``wait`` is how long to wait for the board.
        """
        body: dict[str, Any] = {"output": output, "setting": setting, "wait": wait}
        if over is not None:
            body["over"] = over
        body |= _lifetime(lasting, until, when_possible)
        token = str(uuid.uuid4()) if setting == "toggle" else None  # a toggle done twice would be undone
        return _outcome(self.call("POST", "/claims", body, token=token))

    def run(
        self,
        outputs: str | list[str],
        program: str | dict[str, Any],
        *,
        lasting: str | None = None,
        until: str | None = None,
        when_possible: bool = False,
    ) -> list[Outcome]:
        """Run a program on outputs, begun at the same moment: ``{"kind": "blink", "lit": "1 s", "times": 3}``.

        Kinds: blink, breathe, ramp, chase, sequence, candle; for sounders tune and sweep, or a tune's name.
        """
        names = [outputs] if isinstance(outputs, str) else outputs
        body = {"outputs": names, "program": program, **_lifetime(lasting, until, when_possible)}
        return [_outcome(form) for form in self.call("POST", "/programs", body)["outcomes"]]

    def preview(
        self, output: str, program: str | dict[str, Any], *, place: int = 0, of: int = 1
    ) -> dict[str, Any]:
        """What a program would do to an output: text, length, number of writes, and its curve."""
        return self._post(
            "/programs/preview", {"output": output, "program": program, "place": place, "of": of}
        )

    def do(self, phrase: str, *, wait: str = "1 s") -> dict[str, Any]:
        """Carry out a phrase: 'turn gallery to 40 % over 3 s for 10 min'. The answer has the outcome and its parts.

        Raises `CallerError` (``bad-phrase``, ``asks-back``), whose ``more`` says where in the phrase ('at', 'end'),
        and which 'choices' there are.
        """
        return self._post("/phrases", {"phrase": phrase, "wait": wait})

    def rehearse_phrase(self, phrase: str) -> dict[str, Any]:
        """What a phrase would do: how it is understood, and each output that it concerns."""
        return self._post("/phrases", {"phrase": phrase, "dry": True})

    def scenes(self) -> list[dict[str, Any]]:
        """The scenes there are."""
        return self._list("/scenes")

    def plan(self) -> dict[str, Any]:
        """Schedules, with where they come from and when they are next, and timers."""
        return self._dict("/plan")

    def spans(self, begin: str | None = None, end: str | None = None) -> dict[str, Any]:
        """When each schedule is on, from one time to another (RFC 3339, or a date in the site's zone)."""
        return self._dict(f"/plan/spans?{_query({'from': begin, 'to': end})}")

    def add_schedule(self, **facts: Any) -> dict[str, Any]:
        """Add a schedule: ``name``, ``do``, ``from_``, ``to`` or ``for_``, ``repeat``, ``starts``, ``without``, ``also``."""
        return self._post("/plan/schedules", _facts(facts))

    def change_schedule(self, name: str, **facts: Any) -> dict[str, Any]:
        """Put another in the place of a schedule that was added."""
        return self._form("PUT", f"/plan/schedules/{quote(name, safe='')}", _facts(facts))

    def drop_schedule(self, name: str) -> dict[str, Any]:
        """Take a schedule off the plan."""
        return self._form("DELETE", f"/plan/schedules/{quote(name, safe='')}")

    def enable(self, schedule: str, enabled: bool = True) -> dict[str, Any]:
        """Enable or disable a schedule."""
        return self._form("PATCH", f"/plan/schedules/{quote(schedule, safe='')}", {"enabled": enabled})

    def skip(self, schedule: str) -> dict[str, Any]:
        """Leave out the next time of a schedule."""
        return self._form("PATCH", f"/plan/schedules/{quote(schedule, safe='')}", {"skip_next": True})

    def run_now(self, schedule: str) -> dict[str, Any]:
        """Run a schedule now, for as long as it usually lasts."""
        return self._form("PATCH", f"/plan/schedules/{quote(schedule, safe='')}", {"run_now": True})

    def rehearse(
        self, begin: str, end: str, *, put: dict[str, Any] | None = None, drop: str | None = None
    ) -> dict[str, Any]:
        """What the plan comes to between two times, at most 62 days; with a change, also what would differ."""
        more = {key: value for key, value in (("put", put), ("drop", drop)) if value is not None}
        return self._post("/plan/rehearsals", {"from": begin, "to": end, **more})

    def run_scene(self, scene: str, *, wait: str = "1 s") -> dict[str, Any]:
        """Run a scene; the answer has an outcome for each output in ``parts``."""
        return self._post(f"/scenes/{quote(scene, safe='')}/run", {"wait": wait})

    def release_scene(self, scene: str) -> dict[str, Any]:
        """End those of a scene's claims that still stand."""
        return self._form("DELETE", f"/scenes/{quote(scene, safe='')}/claims")

    def groups(self) -> dict[str, list[str]]:
        """Outputs that are named together."""
        return {each["name"]: each["outputs"] for each in self._list("/groups")}

    def turn_all(
        self, settings: Mapping[str, str | float | bool | dict[str, Any]], **how: Any
    ) -> list[Outcome]:
        """Several outputs or groups at once, each to its own setting: ``turn_all({"gallery": 40, "yard": "off"})``.

        Checked whole before any of it happens. ``how`` is as for `turn`: ``over``, ``lasting``, ``until``, ``when_possible``.
        """
        more = _lifetime(how.get("lasting"), how.get("until"), how.get("when_possible", False))
        if "over" in how:
            more["over"] = how["over"]
        claims = [{"output": name, "setting": setting, **more} for name, setting in settings.items()]
        return [_outcome(form) for form in self._post("/commands", {"claims": claims})["outcomes"]]

    def calendar(self) -> str:
        """The plan as a calendar (RFC 5545)."""
        text: str = self.call("GET", "/plan/calendar", text=True)
        return text

    def calendar_link(self) -> str:
        """An address that a phone's calendar can subscribe to, with a read-only key in it; the one before ends."""
        link: str = self._post("/plan/calendar-links", {})["link"]
        return link

    def take_calendar(self, content: bytes, *, dry: bool = False) -> dict[str, Any]:
        """Schedules from a calendar's events; a line for each says whether it was taken, and why not."""
        found: dict[str, Any] = self.call("POST", f"/plan/calendar{'?dry=1' if dry else ''}", content=content)
        return found

    def usage(
        self, begin: str | None = None, end: str | None = None, output: str | None = None
    ) -> list[dict[str, Any]]:
        """What each output did on each day: hours on, switchings, energy of its load. The last 30 days if not said."""
        days: list[dict[str, Any]] = self._dict(
            f"/records/usage?{_query({'from': begin, 'to': end, 'output': output})}"
        )["days"]
        return days

    def readings(self, name: str, begin: str | None = None, end: str | None = None) -> dict[str, Any]:
        """How an input or output was, an hour to a year: rows of milliseconds, least, mean and greatest value."""
        return self._dict(f"/records/readings/{quote(name, safe='')}?{_query({'from': begin, 'to': end})}")

    def kit(self) -> dict[str, Any]:
        """What a rehearsal in another process needs: the site file, and the rest of the plan."""
        return self._dict("/plan/kit")

    def timers(self) -> list[dict[str, Any]]:
        """Timers, and claims that end by time."""
        return self._list("/plan/timers")

    def extend(self, timer: int, longer: str) -> dict[str, Any]:
        """Put a timer off, or let a claim last longer."""
        return self._form("PATCH", f"/plan/timers/{timer}", {"longer": longer})

    def cancel(self, timer: int) -> dict[str, Any]:
        """Cancel a timer, or release the claim."""
        return self._form("DELETE", f"/plan/timers/{timer}")

    def play(self, output: str, tune: str | list[Any], *, wait: str = "1 s") -> Outcome:
        """Play a tune on a sounder: notes as text, pairs of hertz and seconds, or the name of a tune of the site.

        For one tone say `turn`, like ``turn("bell", "A4", lasting="2 s")``.
        """
        named = isinstance(tune, str) and tune in {each["name"] for each in self.tunes()}
        body = {"output": output, "program": tune if named else {"kind": "tune", "notes": tune}, "wait": wait}
        return _outcome(self.call("POST", "/claims", body))

    def tunes(self) -> list[dict[str, Any]]:
        """The tunes of the site file."""
        return self._list("/tunes")

    def pads(self) -> list[dict[str, Any]]:
        """The pads: two motors each, driven from one position."""
        return self._list("/pads")

    def steer(self, pad: str, x: float, y: float, *, again: bool = False) -> dict[str, Any]:
        """Move a pad to a position from -1 to 1 in two axes, for 250 ms. To go on call it ``again``: that is refused
        (``no-claim``) once the hold has ended, so that what was held up in the network moves nothing.
        """
        body = {"x": x, "y": y, "again": again}
        found: dict[str, Any] = self.call("PUT", f"/pads/{quote(pad, safe='')}", body)
        return found

    def let_go(self, pad: str) -> None:
        """Let a pad go, before its lease does."""
        self.call("DELETE", f"/pads/{quote(pad, safe='')}")

    def release(self, output: str) -> Outcome:
        """End what persons claim on an output: 'I no longer care'."""
        return _outcome(self.call("DELETE", f"/outputs/{quote(output, safe='')}/claim"))

    def hold(self, output: str | list[str], setting: str | float = "on", *, lease: str = "1 s") -> Hold:
        """A hold for a ``with`` block, of one output or several: kept up by a thread over one connection, ended with the
        block or with this program.
        """
        return Hold(self, [output] if isinstance(output, str) else output, setting, lease)

    def stop(self, reason: str = "") -> Outcome:
        """All-stop: everything safe, now."""
        return _outcome(self.call("PUT", "/all-stop", {"reason": reason, "wait": "2 s"}))

    def reset_stop(self) -> Outcome:
        """End the all-stop."""
        return _outcome(self.call("DELETE", "/all-stop"))

    def lock(self, output: str, tag: str, reason: str = "", until: str = "") -> Outcome:
        """Hang a lockout tag: the output stays safe while it is there. ``until`` is when it is meant to come off."""
        return _outcome(
            self.call(
                "PUT",
                f"/outputs/{quote(output, safe='')}/lockouts/{quote(tag, safe='')}",
                {"reason": reason, "until": until},
            )
        )

    def unlock(self, output: str, tag: str) -> Outcome:
        """Take a lockout tag off."""
        return _outcome(
            self.call("DELETE", f"/outputs/{quote(output, safe='')}/lockouts/{quote(tag, safe='')}")
        )

    # --- what keeps it safe -------------------------------------------------------------------------------

    def rules(self) -> list[dict[str, Any]]:
        """Interlocks, reflexes, regulators, alarms and guards, in words, with how they stand."""
        found: list[dict[str, Any]] = self._dict("/rules")["rules"]
        return found

    def ask(self, question: str) -> dict[str, Any]:
        """Whether something is so now: 'kiln-vent is on for 30 s'. ``so`` is None where that is not known."""
        return self._post("/questions", {"question": question})

    def reload(self) -> Outcome:
        """Have the service read its site file anew: rules, scenes, schedules, groups. Needs a key with the role keep."""
        return _outcome(self.call("POST", "/site-file/reload", {}))

    def trips(self) -> list[dict[str, Any]]:
        """Trips that are latched."""
        found: list[dict[str, Any]] = self._dict("/trips")["trips"]
        return found

    def reset(self, trip: str, by: str) -> Outcome:
        """Reset a trip whose cause is gone. ``by`` is who does it."""
        return _outcome(self.call("POST", f"/trips/{quote(trip, safe='')}/reset", {"by": by}))

    def alarms(self) -> list[dict[str, Any]]:
        """Alarms that were raised and are not over."""
        found: list[dict[str, Any]] = self._dict("/alarms")["alarms"]
        return found

    def acknowledge(self, alarm: str, by: str) -> Outcome:
        """Say that somebody has heard an alarm."""
        return _outcome(self.call("POST", f"/alarms/{quote(alarm, safe='')}/acknowledgement", {"by": by}))

    def resume(self, reflex: str) -> Outcome:
        """Let a suspended reflex work again."""
        return _outcome(self.call("POST", f"/reflexes/{quote(reflex, safe='')}/resume", {}))

    def attest(self, output: str, by: str) -> Outcome:
        """Say that an output which nobody can ask was seen to be off."""
        return _outcome(self.call("POST", f"/outputs/{quote(output, safe='')}/attestation", {"by": by}))

    def open(self, output: str, code: str) -> Outcome:
        """Open a guarded output with a passcode; it closes by itself."""
        return _outcome(self.call("POST", f"/outputs/{quote(output, safe='')}/open", {"code": code}))

    def codes(self, output: str) -> list[dict[str, Any]]:
        """Who has a passcode for an output, and when it is good. Never the codes."""
        found: list[dict[str, Any]] = self._dict(f"/outputs/{quote(output, safe='')}/codes")["codes"]
        return found

    def give_code(self, output: str, owner: str, code: str, **when: Any) -> None:
        """Give somebody a passcode; ``days``, ``from_``, ``to``, ``until`` and ``once`` say when it is good."""
        body = {key.rstrip("_"): value for key, value in when.items() if value}
        self.call(
            "PUT", f"/outputs/{quote(output, safe='')}/codes/{quote(owner, safe='')}", {"code": code, **body}
        )

    def drop_code(self, output: str, owner: str) -> None:
        """Take somebody's passcode away."""
        self.call("DELETE", f"/outputs/{quote(output, safe='')}/codes/{quote(owner, safe='')}")

    # --- who may, and the ways in and out -------------------------------------------------------------------

    def keys(self) -> list[dict[str, Any]]:
        """Every key: role, limits, last use; never its text. Needs a key with the role keep, as do the calls below."""
        found: list[dict[str, Any]] = self._dict("/keys")["keys"]
        return found

    def new_key(self, name: str, role: str, **limits: Any) -> str:
        """A new key; its text is given here and nowhere else. ``limits``: ``only`` (outputs and groups), ``days``, ``from_``, ``to``, ``until``."""
        text: str = self._post("/keys", {"name": name, "role": role, **_facts(limits)})["key"]
        return text

    def revoke(self, name: str) -> None:
        """End a key, with its sessions and streams, at once."""
        self.call("DELETE", f"/keys/{quote(name, safe='')}")

    def pair(self, name: str, role: str, **limits: Any) -> dict[str, Any]:
        """A link that makes a key and signs a device in with it, once, within 5 minutes: ``link``, ``ends``, ``rows`` of its QR code."""
        return self._post("/pairings", {"name": name, "role": role, **_facts(limits)})

    def sessions(self) -> list[dict[str, Any]]:
        """Browsers that are signed in."""
        found: list[dict[str, Any]] = self._dict("/sessions")["sessions"]
        return found

    def end_session(self, id: str) -> None:
        """Sign a browser out."""
        self.call("DELETE", f"/sessions/{quote(id, safe='')}")

    def who(self) -> dict[str, Any]:
        """Who one is here: ``key``, ``role``, and the outputs that one may command (``only``; None: all)."""
        return self._dict("/session")

    def remotes(self) -> list[dict[str, Any]]:
        """The ways in and out, and how they fare."""
        return self._list("/remotes")

    def remote_map(self, name: str) -> list[dict[str, str]]:
        """What the addresses of a remote stand for."""
        rows: list[dict[str, str]] = self._dict(f"/remotes/{quote(name, safe='')}/map")["rows"]
        return rows

    def remote_traffic(self, name: str, *, after: int = 0) -> dict[str, Any]:
        """What went over a remote after frame ``after``, raw and decoded."""
        return self._dict(f"/remotes/{quote(name, safe='')}/traffic?after={after}")

    def sign_in_link(self) -> str:
        """A link that signs a browser in to the console, once, within 15 minutes. Needs a key with the role keep."""
        link: str = self.call("POST", "/sign-in-links", {})["link"]
        return link

    # --- reading ------------------------------------------------------------------------------------------

    def facts(self) -> dict[str, Any]:
        """The site as a whole: name, time zone, all-stop, lockouts."""
        return self._dict("/site")

    def outputs(self) -> list[dict[str, Any]]:
        """Every output, from wish to pin."""
        return self._list("/outputs")

    def output(self, name: str) -> dict[str, Any]:
        """One output."""
        return self._dict(f"/outputs/{quote(name, safe='')}")

    def input(self, name: str) -> dict[str, Any]:
        """One input: what its line shows, and what counts."""
        return self._dict(f"/inputs/{quote(name, safe='')}")

    def inputs(self) -> list[dict[str, Any]]:
        """Every input."""
        return self._list("/inputs")

    def boards(self) -> list[dict[str, Any]]:
        """Every board and the health of its link."""
        return self._list("/boards")

    def board(self, name: str) -> dict[str, Any]:
        """One board, with the rate and the errors of its link."""
        return self._dict(f"/boards/{quote(name, safe='')}")

    def pins(self, board: str) -> list[dict[str, Any]]:
        """Every position of a board, or every line: numbers of both kinds, what it can, who uses it, its level."""
        return self._list(f"/boards/{quote(board, safe='')}/pins")

    def traffic(self, board: str, *, after: int = 0) -> dict[str, Any]:
        """What went over a board's link after frame ``after``, as far as it is kept: ``frames``, rate, errors."""
        found: dict[str, Any] = self.call(
            "GET", f"/boards/{quote(board, safe='')}/traffic", params={"after": after}
        )
        return found

    def try_pin(self, pin: str, mode: str, *, lease: str = "2 s", **how: str) -> dict[str, Any]:
        """Try a pin like 'shelf:J2-9' that nobody owns; call it again within ``lease`` to go on, and to read.

        ``mode``: output (``level``), pwm (``frequency``, ``duty``), tone (``frequency``), input and count
        (``pull``), analogue. On a pin of an output with PWM, pwm tries another frequency and duty live.
        """
        found: dict[str, Any] = self.call("PUT", self._trial(pin), {"mode": mode, "lease": lease, **how})
        return found

    def end_try(self, pin: str) -> None:
        """Let a tried pin go, before its lease does."""
        self.call("DELETE", self._trial(pin))

    def pretend(self, input: str, state: str) -> None:
        """Work an input of a simulated board: its word for a state, or volts."""
        analogue = next(
            (each["kind"] == "analogue" for each in self.inputs() if each["name"] == input), False
        )
        self.call(
            "PUT", f"/inputs/{quote(input, safe='')}/simulated", {"volts" if analogue else "state": state}
        )

    def _trial(self, pin: str) -> str:
        board, colon, place = pin.partition(":")
        if not colon:
            raise CallerError("bad-value", f"'{pin}' is not a pin.", "Write board:J2-9 or board:line-41.")
        return f"/boards/{quote(board, safe='')}/pins/{quote(place, safe='')}/trial"

    def signals(
        self, names: list[str] | None = None, *, seconds: float = 30, after: int | None = None
    ) -> dict[str, Any]:
        """What signals have done lately: times in microseconds UTC, values, hertz. Without names: what there is."""
        params: dict[str, Any] = {"names": ",".join(names or []), "seconds": f"{seconds:g}"}
        if after is not None:
            params["after"] = after
        found: dict[str, Any] = self.call("GET", "/signals", params=params)
        return found

    def export(self, names: list[str], form: str, *, seconds: float = 30) -> str:
        """The same as a file: ``form`` 'vcd' (IEEE 1364) or 'csv'."""
        params = {"names": ",".join(names), "seconds": f"{seconds:g}"}
        found: str = self.call("GET", f"/signals.{form}", params=params, text=True)
        return found

    def curve(self, output: str) -> dict[str, Any]:
        """How a lamp or a fan answers its level: level, duty and the timer's count."""
        return self._dict(f"/outputs/{quote(output, safe='')}/curve")

    def why(self, output: str, at: str | None = None) -> dict[str, Any]:
        """Why an output is as it is, or was at a time: sentence, steps, remedy."""
        then = f"?at={quote(at, safe='')}" if at else ""
        return self._dict(f"/outputs/{quote(output, safe='')}/why{then}")

    def journal(
        self,
        subject: str | None = None,
        *,
        limit: int = 100,
        before: int | None = None,
        after: int | None = None,
        kind: str | None = None,
        source: str | None = None,
        begin: str | None = None,
        end: str | None = None,
    ) -> list[dict[str, Any]]:
        """Rows of the journal: the newest first, or those after ``after`` in their order.

        Only those of a ``subject``, a ``kind`` ('command', 'change', 'input', 'plan' …), a ``source`` (part of who
        commanded it), or from ``begin`` up to before ``end`` (RFC 3339, or a date in the site's zone).
        """
        asked = {
            "subject": subject, "limit": limit, "before": before, "after": after, "kind": kind, "source": source, "from": begin, "to": end,
        }  # fmt: skip
        rows: list[dict[str, Any]] = self.call(
            "GET", "/journal", params={name: value for name, value in asked.items() if value is not None}
        )["rows"]
        return rows

    def journal_of(self, **which: Any) -> Iterator[dict[str, Any]]:
        """All rows in rising order, as many as there are; ``which`` is as for `journal`."""
        last = 0
        while True:
            rows = self.journal(limit=1000, after=last, **which)
            yield from rows
            if len(rows) < 1000:
                return
            last = rows[-1]["sequence"]

    def changes(self, *, after: str | None = None, again: bool = True) -> Iterator[Change]:
        """Events as they happen; first, and whenever some were missed, an 'afresh' with the whole picture.

        Comes back by itself when the service restarts or the link breaks, unless ``again`` is False.
        """
        pause = threading.Event()
        while True:
            try:
                for change in self._stream(after):
                    after = change.id
                    yield change
            except requests.RequestException as error:
                if not again:
                    raise self._gone(error) from None
            if not again:
                return
            pause.wait(0.5)

    # --- underneath ---------------------------------------------------------------------------------------

    def call(
        self,
        method: str,
        path: str,
        body: dict[str, Any] | None = None,
        *,
        params: dict[str, Any] | None = None,
        token: str | None = None,
        text: bool = False,
        content: bytes | None = None,
    ) -> Any:
        """One call of the API; returns its JSON, raises its problem. ``content`` is a calendar, sent as it is."""
        headers = {"Idempotency-Key": token} if token else {}
        if content is not None:
            headers["Content-Type"] = "text/calendar"
        try:
            response = self._session.request(
                method,
                self.address + API + path,
                json=body,
                data=content,
                params=params,
                headers=headers,
                timeout=self._timeout,
            )
        except requests.RequestException as error:
            raise self._gone(error) from None
        if response.ok:
            return response.text if text else response.json()
        raise _problem(response)

    def _stream(self, after: str | None) -> Iterator[Change]:
        headers = {"Accept": "text/event-stream", **({"Last-Event-ID": after} if after else {})}
        with self._session.get(
            f"{self.address}{API}/events", headers=headers, stream=True, timeout=(self._timeout, 60)
        ) as response:
            if not response.ok:
                raise _problem(response)
            fields: dict[str, str] = {}
            for raw in response.iter_lines(chunk_size=1):
                line = raw.decode("utf-8")
                if line:
                    name, _, value = line.partition(": ")
                    fields[name] = value
                elif "data" in fields:
                    data = json.loads(fields["data"])
                    yield Change(
                        fields["event"],
                        data.get("name") or data.get("output") or "",
                        data,
                        fields.get("id", ""),
                    )
                    fields = {}

    def _gone(self, error: Exception) -> CallerError:
        return CallerError(
            "no-service",
            f"The service at {self.address} does not answer ({type(error).__name__}).",
            "See whether it runs: cairnwind look.",
        )

    def _dict(self, path: str) -> dict[str, Any]:
        found: dict[str, Any] = self.call("GET", path)
        return found

    def _form(self, method: str, path: str, body: dict[str, Any] | None = None) -> dict[str, Any]:
        form: dict[str, Any] = self.call(method, path, body)
        return form

    def _post(self, path: str, body: dict[str, Any]) -> dict[str, Any]:
        found: dict[str, Any] = self.call("POST", path, body)
        return found

    def _list(self, path: str) -> list[dict[str, Any]]:
        found: list[dict[str, Any]] = self.call("GET", path)
        return found


class Hold:
    """Claims of rank *hand* that last as long as they are renewed. Use it as a context manager.

    ``lost`` is set, with a reason, when the service has ended it (all-stop, a lost board, a lost link).
    """

    def __init__(self, site: Site, outputs: list[str], setting: str | float, lease: str) -> None:
        self._site, self._outputs, self._lease = site, outputs, lease
        self._how = {"setting": setting, "rank": "hand", "lease": lease}
        self._over = threading.Event()
        self._claims: list[int] = []
        self.lost: str | None = None
        self.outcome: Outcome | None = None
        """Of the first output."""

    def __enter__(self) -> Hold:
        if len(self._outputs) == 1:
            found = [
                self._site.call("POST", "/claims", {"output": self._outputs[0], **self._how, "wait": "1 s"})
            ]
        else:
            asked = [{"output": name, **self._how} for name in self._outputs]
            found = self._site.call("POST", "/commands", {"claims": asked})["outcomes"]
        self.outcome = _outcome(found[0])
        for form in found:
            if form["claim"] is None:  # a later off has overtaken it
                raise CallerError("no-claim", f"{form['output']}: {form['reason']}.", "Hold it again.")
        self._claims = [form["claim"]["id"] for form in found]
        from cairnwind.core.quantities import NS, duration

        pause = duration(self._lease) / NS / RENEWALS
        self._thread = threading.Thread(
            target=self._keep_up, args=(pause,), name="cairnwind-hold", daemon=True
        )
        self._thread.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._over.set()
        self._thread.join()
        for claim in self._claims:
            try:
                self._site.call("DELETE", f"/claims/{claim}")
            except Trouble:
                pass  # it has ended by itself, or will with its lease

    def change(self, setting: str | float) -> Outcome:
        """Bring what is held to another setting; the outcome of the first."""
        found = [
            self._site.call("PATCH", f"/claims/{claim}", {"setting": setting, "wait": "1 s"})
            for claim in self._claims
        ]
        return _outcome(found[0])

    def _keep_up(self, pause: float) -> None:
        while not self._over.wait(pause):
            try:
                self._site.call("PATCH", "/claims", {"claims": self._claims})
            except Trouble as error:
                self.lost = error.sentence
                return


class _Pinned(HTTPAdapter):
    """Takes one certificate only, whoever signed it."""

    def __init__(self, fingerprint: str) -> None:
        self._fingerprint = fingerprint
        super().__init__()

    def init_poolmanager(self, *args: Any, **more: Any) -> None:
        """With the fingerprint in place of a chain of signatures."""
        context = ssl.create_default_context()
        context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
        super().init_poolmanager(*args, ssl_context=context, assert_fingerprint=self._fingerprint, **more)

    def cert_verify(self, conn: Any, url: Any, verify: Any, cert: Any) -> None:
        """The fingerprint says all."""
        conn.assert_fingerprint = self._fingerprint
        conn.cert_reqs = "CERT_NONE"


def _lifetime(lasting: str | None, until: str | None, when_possible: bool) -> dict[str, Any]:
    """How long a claim is to last, as members of a request."""
    body: dict[str, Any] = {}
    if lasting == "until released":
        body["lasting"] = lasting
    elif lasting is not None:
        body["for"] = lasting
    if until is not None:
        body["until"] = until
    if when_possible:
        body["when_possible"] = True
    return body


def _outcome(form: dict[str, Any]) -> Outcome:
    setting, ending, claim = form.get("setting") or {}, form.get("ending") or {}, form.get("claim") or {}
    return Outcome(
        form["outcome"], form["output"], form["sequence"], form["reason"], form["command"], setting.get("words", ""),
        ending.get("ending", ""), ending.get("text", ""), claim.get("id"), form,
    )  # fmt: skip


def _problem(response: requests.Response) -> Trouble:
    try:
        form = response.json()
        code, sentence, remedy = form["code"], form["detail"], form.get("remedy", "")
    except (ValueError, KeyError, TypeError):
        return CallerError(
            "no-service", f"What answers at {response.url} is no Cairnwind service.", "Check the address."
        )
    made = (BoardError if code in BOARD_CODES else CallerError)(code, sentence, remedy)
    made.more = {key: value for key, value in form.items() if key in ("at", "end", "choices", "key")}
    return made


def _facts(facts: dict[str, Any]) -> dict[str, Any]:
    """Keywords as keys: ``from_`` is 'from', which Python keeps for itself."""
    return {key.rstrip("_"): value for key, value in facts.items() if value is not None}


def _query(values: dict[str, Any]) -> str:
    return "&".join(
        f"{key}={quote(str(value), safe='')}" for key, value in values.items() if value is not None
    )
