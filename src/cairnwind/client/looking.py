"""What is what: outputs, inputs, boards and their pins, signals, reasons, the journal."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from cairnwind.client.wire import Wire

if TYPE_CHECKING:
    from cairnwind import forms
from cairnwind.core.values.errors import CallerError


class Looking(Wire):
    """What is so."""

    def facts(self) -> forms.Site:
        """The site as a whole: name, time zone, all-stop, lockouts."""
        return self._get("/site")

    def outputs(self) -> list[forms.Output]:
        """Every output, from wish to pin."""
        return self._rows("/outputs")

    def output(self, name: str) -> forms.Output:
        """One output."""
        return self._get(f"/outputs/{quote(name, safe='')}")

    def inputs(self) -> list[forms.Input]:
        """Every input."""
        return self._rows("/inputs")

    def input(self, name: str) -> forms.Input:
        """One input: what its line shows, and what counts."""
        return self._get(f"/inputs/{quote(name, safe='')}")

    def boards(self) -> list[forms.Board]:
        """Every board and the health of its link."""
        return self._rows("/boards")

    def board(self, name: str) -> forms.BoardWhole:
        """One board, with the rate and the errors of its link."""
        return self._get(f"/boards/{quote(name, safe='')}")

    def pins(self, board: str) -> list[forms.PinForm]:
        """Every position of a board, or every line: numbers of both kinds, what it can, who uses it, its level."""
        return self._rows(f"/boards/{quote(board, safe='')}/pins")

    def traffic(self, board: str, *, after: int = 0) -> forms.Traffic:
        """What went over a board's link after frame ``after``, as far as it is kept: ``frames``, rate, errors."""
        found: forms.Traffic = self.call(
            "GET", f"/boards/{quote(board, safe='')}/traffic", params={"after": after}
        )
        return found

    def try_pin(self, pin: str, mode: str, *, lease: str = "2 s", **how: str) -> forms.TriedPin:
        """Try a pin like 'shelf:J2-9' that nobody owns; call it again within ``lease`` to go on, and to read.

        ``mode``: output (``level``), pwm (``frequency``, ``duty``), tone (``frequency``), input and count
        (``pull``), analogue. On a pin of an output with PWM, pwm tries another frequency and duty live.
        """
        found: forms.TriedPin = self.call("PUT", self._trial(pin), {"mode": mode, "lease": lease, **how})
        return found

    def end_try(self, pin: str) -> None:
        """Let a tried pin go, before its lease does."""
        self.call("DELETE", self._trial(pin))

    def pretend(self, input: str, state: str) -> dict[str, Any]:
        """Work an input of a simulated board: its word for a state, volts, its value in its own unit, or steps (``-3``). ``seen`` is what it reads then."""
        analogue = next(
            (each["kind"] == "analogue" for each in self.inputs() if each["name"] == input), False
        )
        body = {"volts" if analogue else "state": state}
        found: dict[str, Any] = self.call("PUT", f"/inputs/{quote(input, safe='')}/simulated", body)
        return found

    def press(self, keypad: str, keys: str) -> dict[str, Any]:
        """Press keys of a simulated keypad, ``#`` for Enter and ``*`` for Escape. ``said`` is what it was told at Enter."""
        found: dict[str, Any] = self.call(
            "PUT", f"/remotes/{quote(keypad, safe='')}/simulated", {"keys": keys}
        )
        return found

    def _trial(self, pin: str) -> str:
        board, colon, place = pin.partition(":")
        if not colon:
            raise CallerError("bad-value", f"'{pin}' is not a pin.", "Write board:J2-9 or board:line-41.")
        return f"/boards/{quote(board, safe='')}/pins/{quote(place, safe='')}/trial"

    def signals(
        self, names: list[str] | None = None, *, seconds: float = 30, after: int | None = None
    ) -> forms.Signals:
        """What signals have done lately: times in microseconds UTC, values, hertz. Without names: what there is."""
        params: dict[str, Any] = {"names": ",".join(names or []), "seconds": f"{seconds:g}"}
        if after is not None:
            params["after"] = after
        found: forms.Signals = self.call("GET", "/signals", params=params)
        return found

    def export(self, names: list[str], form: str, *, seconds: float = 30) -> str:
        """The same as a file: ``form`` 'vcd' (IEEE 1364) or 'csv'."""
        params = {"names": ",".join(names), "seconds": f"{seconds:g}"}
        found: str = self.call("GET", f"/signals.{form}", params=params, text=True)
        return found

    def curve(self, output: str) -> forms.Curve:
        """How a lamp or a fan answers its level: level, duty and the timer's count."""
        return self._get(f"/outputs/{quote(output, safe='')}/curve")

    def supplies(self) -> list[forms.Supply]:
        """What is drawn from each supply now, and by which outputs."""
        return self._rows("/supplies")

    def doctor(self) -> list[forms.Examined]:
        """What of the service's machine the site's boards need: whether it is there, may be opened, and who holds it."""
        return self._rows("/doctor")

    def circuits(self) -> forms.Sheet:
        """Every wire of the site, where it begins and where it ends, and what parts to buy."""
        return self._get("/circuits")

    def circuit(self, name: str) -> forms.Circuit:
        """How an output or an input is wired: parts with their values, wires, and what was reckoned with."""
        return self._get(f"/circuits/{quote(name, safe='')}")

    def drawing(self, name: str) -> str:
        """The same drawn: the text of an SVG file."""
        found: str = self.call("GET", f"/circuits/{quote(name, safe='')}/drawing", text=True)
        return found

    def held(self) -> list[forms.HeldForm]:
        """What has each output when the service does not: after a stop, a kill, a power cut; and what is missing."""
        return self._rows("/held")

    def sums(self) -> list[forms.Sum]:
        """Sums of wiring that may be asked for, and what each wants to know."""
        return self._rows("/sums")

    def reckon(self, sum: str, **given: str) -> forms.Reckoned:
        """What a sum comes to, step by step, for texts with their units: ``reckon("divider", source="5 V")``."""
        found: forms.Reckoned = self.call("POST", f"/sums/{quote(sum, safe='')}", given)
        return found

    def written(self, name: str) -> forms.Written:
        """What the site file says of an output, an input or a board, key by key, and what else it could."""
        return self._get(f"/written/{quote(name, safe='')}")

    def why(self, output: str, at: str | None = None) -> forms.Why:
        """Why an output is as it is, or was at a time: sentence, steps, remedy."""
        then = f"?at={quote(at, safe='')}" if at else ""
        return self._get(f"/outputs/{quote(output, safe='')}/why{then}")

    def trace(self, output: str, after: int | None = None) -> list[forms.Trace]:
        """How it was decided about an output, one event after the other: now, and what came since somebody began to look.

        With ``after`` only what came after that number. It is looked at for a minute after each call.
        """
        then = "" if after is None else f"?after={after}"
        found: list[forms.Trace] = self._get(f"/outputs/{quote(output, safe='')}/trace{then}")["traces"]
        return found

    def journal(
        self,
        subject: str | None = None,
        *,
        limit: int = 100,
        before: int | None = None,
        after: int | None = None,
        kind: str | None = None,
        source: str | None = None,
        words: str | None = None,
        begin: str | None = None,
        end: str | None = None,
    ) -> list[forms.Row]:
        """Rows of the journal: the newest first, or those after ``after`` in their order.

        Only those of a ``subject``, a ``kind`` ('command', 'change', 'input', 'plan' …), a ``source`` (words of who
        commanded it), with ``words``, or from ``begin`` up to before ``end`` (RFC 3339, or a date in the site's zone).
        """
        asked = {
            "subject": subject, "limit": limit, "before": before, "after": after, "kind": kind, "source": source, "words": words, "from": begin, "to": end,
        }  # fmt: skip
        rows: list[forms.Row] = self.call(
            "GET", "/journal", params={name: value for name, value in asked.items() if value is not None}
        )["rows"]
        return rows

    def journal_of(self, **which: Any) -> Iterator[forms.Row]:
        """All rows in rising order, as many as there are; ``which`` is as for `journal`."""
        last = 0
        while True:
            rows = self.journal(limit=1000, after=last, **which)
            yield from rows
            if len(rows) < 1000:
                return
            last = rows[-1]["sequence"]
