"""A board whose outputs work only while a line of the kernel says so: its output-enable, or what switches its supply.

Chips on two wires, strips and boards that are sold go on as they are when nobody speaks to them any more. A line that is held by a
guard (`cairnwind.boards.guard`) ends that: it is off before the board is spoken to, on only while the board is known to be set up
from safe and the engine and the board's link get on, and off again on every way out, a kill included.

What must hold: the engine hears that a board is up only once it is enabled; that it was cut, only once the line was read back off.
"""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable, Collection, Mapping, Sequence
from typing import Any

from cairnwind.boards import gpio
from cairnwind.boards.guarded import Guard
from cairnwind.boards.link import Clock, Fresh, Link, Report, Seen, Traffic
from cairnwind.core.facts import events as ev
from cairnwind.core.facts.hardware import Board, Enable
from cairnwind.core.facts.inputs import Input
from cairnwind.core.facts.outputs import Output
from cairnwind.core.facts.trials import Trial
from cairnwind.core.values.errors import BoardError
from cairnwind.core.values.fact import replace

log = logging.getLogger("cairnwind.links")
BEAT = 0.25
"""Seconds between messages to the guard."""
AGAIN = 1.0
"""Seconds until a line that could not be had is tried again, and for which a supply stays off so that all of the board loses it."""
STUCK = 2.5
"""Seconds without a turn after which the board's link counts as hung."""


class EnableLine:
    """The line, off unless set. A guard has it too."""

    def __init__(self, enable: Enable) -> None:
        """Take it, off. Raises `BoardError`."""
        self._on, self._off = (0, 1) if enable.active_low else (1, 0)
        self.name = enable.pin.both
        self._chip = gpio.Chip(gpio.find(enable.host.chip))
        try:
            self._lines = self._chip.request([enable.pin.line], gpio.OUTPUT, values=self._off)
            try:
                self._guard = Guard([{"file": 0, "bits": self._off, "mask": 1}], [self._lines.file])
            except BaseException:
                self._lines.close()
                raise
        except BaseException:
            self._chip.close()
            raise
        self._asked = self._off

    def set(self, on: bool) -> None:
        """Turn it on or off, and see that it is. Raises `BoardError`."""
        self._asked = self._on if on else self._off
        self._lines.set(self._asked, 1)
        self.look()

    def look(self) -> None:
        """Whether chip and line are as they should be. Raises `BoardError`."""
        if not self._chip.there():
            raise BoardError(
                "no-device", f"the chip of its enable line {self.name} is not there", "It is tried again."
            )
        if self._lines.get() != self._asked:
            raise BoardError(
                "enable",
                f"its enable line {self.name} is not at what it was set to",
                "See what else drives it.",
            )

    def beat(self) -> None:
        """Keep the guard quiet, and look. Raises `BoardError`."""
        self._guard.beat()
        self.look()

    def close(self) -> None:
        """Let it go."""
        self._guard.dismiss()
        self._lines.close()
        self._chip.close()


class EnabledLink:
    """The link to such a board, around the one that its kind has."""

    def __init__(self, board: Board, enable: Enable, opens: Callable[[], Link]) -> None:
        """``opens`` makes the link of the board's kind; it is made anew whenever the line was lost."""
        self.board, self._enable, self._opens = board, enable, opens
        self._link = opens()
        self.confirms = self._link.confirms
        self._line: EnableLine | None = None
        self._lock = threading.Lock()
        self._opened = False
        """Whether the link of now was opened."""
        self._table: Any = None
        """The rules that the board is to keep by itself."""
        self._fault: BoardError | None = None
        """Why all of it is to be taken anew, found by the board's link."""
        self._up, self._cut, self._said = False, False, ""
        self._wake, self._first = threading.Event(), threading.Event()
        self._closed = False

    @property
    def traffic(self) -> Traffic:
        """Of the link of now."""
        return self._link.traffic

    # --- what the service asks ----------------------------------------------------------------------------

    def open(
        self, outputs: Sequence[Output], inputs: Sequence[Input], report: Report, clock: Clock, fresh: Fresh
    ) -> None:
        """Begin, in a thread of its own."""
        self._wired, self._report, self._clock, self._fresh = (outputs, inputs), report, clock, fresh
        self._thread = threading.Thread(target=self._run, name=f"enable-{self.board.name}", daemon=True)
        self._thread.start()

    def ready(self, seconds: float) -> bool:
        """Wait for the end of the first attempt."""
        end = time.monotonic() + seconds
        return self._first.wait(max(0.0, seconds)) and (
            not self._opened or self._link.ready(end - time.monotonic())
        )

    def drive(self, orders: Sequence[ev.Drive]) -> None:
        """Hand them on."""
        self._link.drive(orders)

    def attempt(self, line: int, trial: Trial | None) -> None:
        """Hand it on."""
        self._link.attempt(line, trial)

    def reading(self, line: int) -> Mapping[str, Any]:
        """What the tried pin reads."""
        return self._link.reading(line)

    def survey(self) -> Mapping[int, Seen]:
        """What is known of the lines."""
        return self._link.survey()

    def rewire(self, outputs: Sequence[Output], inputs: Sequence[Input], come: Collection[str]) -> None:
        """Hand it on; where the line could not be had yet, it holds from then on."""
        before, self._wired = self._wired, (outputs, inputs)
        if not self._opened:
            return
        try:
            self._link.rewire(outputs, inputs, come)
        except BoardError:
            self._wired = before
            raise

    def tell(self) -> None:
        """Hand it on."""
        self._link.tell()

    def pretend(self, input: Input) -> Callable[[Any], None] | None:
        """How an input of a simulated chip is worked; None: it is real."""
        found: Callable[[Any], None] | None = getattr(self._link, "pretend", lambda _: None)(input)
        return found

    def keep(self, table: Any) -> None:
        """Hand it on, now and whenever its link is begun anew."""
        self._table = table
        getattr(self._link, "keep", lambda _: None)(table)

    def reset_trip(self, trip: str) -> None:
        """Hand it on."""
        getattr(self._link, "reset_trip", lambda _: None)(trip)

    def why_not_kept(self) -> str:
        """What its link says."""
        return str(getattr(self._link, "why_not_kept", lambda: "it keeps none")())

    def close(self) -> None:
        """Disable the board, then let it go."""
        self._closed = True
        self._wake.set()
        if hasattr(self, "_thread"):
            self._thread.join(6)

    # --- the thread ---------------------------------------------------------------------------------------

    def _run(self) -> None:
        while not self._closed:
            try:
                self._session()
            except BoardError as error:
                self._lose(f"{error.sentence.rstrip('.')}. {error.remedy}".strip().rstrip("."))
            except Exception as error:
                log.exception("the enable line of %s failed", self.board.name)
                self._lose(f"its enable line failed: {error!r}")
            self._first.set()
            end = time.monotonic() + AGAIN
            while not self._closed and time.monotonic() < end:
                self._wake.wait(end - time.monotonic())
                self._wake.clear()
        self._first.set()

    def _session(self) -> None:
        """From taking the line to the end of this link, or a loss, which is raised."""
        while not self._fresh():
            if self._closed:
                return
            self._wake.wait(0.2)
        try:
            self._line = EnableLine(self._enable)
        except BoardError as error:
            said = f"its enable line {self._enable.pin.both} cannot be had: {error.sentence}"
            raise BoardError(error.code, said, error.remedy) from None
        self._cut = True
        self._note("sent", f"enable line {self._line.name} taken, off")
        try:
            if self._enable.supply:
                self._set(True)
                self._wake.wait(self._enable.after / 1e9)
            self._fault = None
            self._link.open(*self._wired, self._heard, self._clock, self._fresh)
            self._opened = True
            self._first.set()
            self._watch(self._line)
        finally:
            with self._lock:  # its link may be about to set it
                line, self._line, self._up = self._line, None, False
                try:
                    line.set(False)
                    self._cut = True
                except BoardError:
                    self._cut = False
            opened, self._opened = self._opened, False
            if opened:
                self._link.close()
            line.close()
            if not self._closed:
                self._link = self._opens()
                if self._table is not None:
                    self.keep(self._table)

    def _watch(self, line: EnableLine) -> None:
        while not self._closed:
            self._wake.wait(BEAT)
            self._wake.clear()
            if self._fault is not None:
                raise self._fault
            if not self._fresh() and not self._closed:
                time.sleep(0.1)  # the machine itself may have stood still
                if not self._fresh():
                    raise BoardError("engine", "the engine does not answer; the board was disabled", "")
            turned = getattr(self._link, "turned", 0.0)
            if self._up and turned and time.monotonic() - turned > STUCK:
                raise BoardError("link", "its link hangs; the board was disabled", "")
            line.beat()

    def _heard(self, event: ev.Event) -> None:
        """What the board's own link reports, in its thread."""
        try:
            if isinstance(event, ev.LinkUp):
                self._set(True)
                self._up, self._cut, self._said = True, False, ""
            elif isinstance(event, ev.LinkLost):
                self._set(False)
                self._up, self._cut, self._said = False, True, event.reason
                if self._enable.supply:  # off for a while, then all of it anew
                    self._fault = BoardError("link", event.reason, "")
                    self._wake.set()
                event = replace(event, cut=True, reason=self._told(event.reason))
        except BoardError as error:
            self._fault = error
            self._wake.set()
            return
        self._report(event)

    def _set(self, on: bool) -> None:
        with self._lock:
            line = self._line
            if line is None:
                raise BoardError("enable", "its enable line is being let go", "")
            line.set(on)
        self._note("sent", f"enable line {line.name} {'on' if on else 'off'}")

    def _note(self, way: str, text: str) -> None:
        self._link.traffic.add(way, b"", text)

    def _lose(self, reason: str) -> None:
        self._note("lost", reason)
        if reason != self._said:
            self._said = reason
            told = self._told(reason) if self._cut else reason
            self._report(ev.LinkLost(self._clock(), self.board.name, told, self._cut))

    def _told(self, reason: str) -> str:
        return f"{reason}; it is disabled by {self._enable.pin.both}"
